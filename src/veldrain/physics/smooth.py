"""rk4: the classical fourth-order Runge–Kutta step, for mechanisms that nothing stops, rubs or holds together.

The state is (q, v) with q̇ given by v; a quaternion's rate is ½·ω∘q, and it is made a unit one after the step. Where
anything has to be solved for (contacts in reach, stops, joint friction, loops, ropes, springs, a root that is
led) the step is taken semi-implicitly instead, and the reason is noted.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.motors import bound_at, line
from veldrain.physics.placing import move_trees
from veldrain.physics.plant import (
    APART,
    BALL,
    FREE,
    NEW,
    NO_MOTOR,
    NOW,
    ROUGH_AIR,
    ROUGH_CONTACT,
    ROUGH_FRICTION,
    ROUGH_LINKS,
    ROUGH_NOT,
    ROUGH_PATH,
    ROUGH_SPEED,
    ROUGH_STOP,
    UNFORCED,
)
from veldrain.physics.spatial import add, cross, put, triple, turned, unit_quaternion
from veldrain.physics.trees import load_trees, solve_trees, spin_momentum


@kernel
def roughness(a, count, h):
    """Why the coming step is not smooth; ROUGH_NOT: it is."""
    if count.contacts > 0:
        return ROUGH_CONTACT
    for k in range(len(a.loops)):
        if a.loops[k].kind != APART:
            return ROUGH_LINKS
    if len(a.script) > 0:
        return ROUGH_PATH
    if len(a.blown) > 0:
        return ROUGH_AIR
    v = a.speeds[NOW]
    for k in range(len(a.dofs)):
        dof = a.dofs[k]
        if dof.mode != NO_MOTOR and dof.top_speed < math.inf:
            return ROUGH_SPEED
        if dof.friction > 0.0:
            return ROUGH_FRICTION
        if dof.coord >= 0 and not dof.low < a.q[dof.coord] + 2.0 * h * v[k] < dof.high:
            return ROUGH_STOP
    return ROUGH_NOT


@kernel
def set_efforts(dofs, q, v):
    """Efforts of motors, springs and damping at a state."""
    for k in range(len(dofs)):
        dof = dofs[k]
        dof.effort = 0.0
        if dof.mode != NO_MOTOR:
            a, b = line(dof, bound_at(dof, q, v[k], 0.0), q, 0.0)
            dof.effort = a - b * v[k]
        dof.offset = dof.effort - dof.damping * v[k]
        if dof.spring > 0.0:
            dof.offset += dof.spring * (dof.rest - q[dof.coord])
        dof.slope = 0.0


@kernel
def rates(a, count, q, v, dq, dv):
    """q̇ and v̇ at a state."""
    set_efforts(a.dofs, q, v)
    move_trees(a.trees, a.nodes, q, v)
    load_trees(a.trees, a.nodes, a.pushes, count.step, a.gravity)
    now = a.speeds[NOW]
    for k in range(len(now)):
        now[k] = v[k]
    solve_trees(a.trees, a.nodes, a.dofs, a.speeds, a.script, count.step, 1.0, False)
    for k in range(len(now)):
        dv[k] = a.speeds[UNFORCED, k] - now[k]
    for i in range(len(a.nodes)):
        n = a.nodes[i]
        at, d = n.coord, n.dof
        if n.kind == FREE:
            w = triple(v[d : d + 3])
            tree = a.trees[n.tree]
            if tree.lone == 1:  # how it tumbles
                put(dv[d : d + 3], add(triple(dv[d : d + 3]), turned(tree.root, cross(spin_momentum(n, w), w))))
            put(dq[at : at + 3], triple(v[d + 3 : d + 6]))
            quaternion_rate(q[at + 3 : at + 7], w, 1.0, dq[at + 3 : at + 7])
        elif n.kind == BALL:
            if n.axis == 2:
                quaternion_rate(q[at : at + 4], triple(v[d - 2 : d + 1]), -1.0, dq[at : at + 4])
        else:
            dq[at] = v[d]


@kernel
def quaternion_rate(q, w, side, out):
    """½·ω∘q for a spin in outer axes (side 1), ½·q∘ω for one in the body's (side −1)."""
    c = cross(w, triple(q))
    out[0] = 0.5 * (w[0] * q[3] + side * c[0])
    out[1] = 0.5 * (w[1] * q[3] + side * c[1])
    out[2] = 0.5 * (w[2] * q[3] + side * c[2])
    out[3] = -0.5 * (w[0] * q[0] + w[1] * q[1] + w[2] * q[2])


@kernel
def smooth_step(a, count, h):
    """New coordinates in stages[0], new velocities in speeds[NEW]; the state itself stays as it is."""
    D, Q = len(a.dofs), len(a.q)
    q0, v0, q, v = a.stages[0, :Q], a.stages[1, :D], a.stages[2, :Q], a.stages[3, :D]
    dq, dv, sum_q, sum_v = a.stages[4, :Q], a.stages[5, :D], a.stages[6, :Q], a.stages[7, :D]
    now, new = a.speeds[NOW], a.speeds[NEW]
    for k in range(Q):
        q0[k], sum_q[k], dq[k] = a.q[k], 0.0, 0.0
    for k in range(D):
        v0[k], sum_v[k], dv[k] = now[k], 0.0, 0.0
    for stage in range(4):
        ahead = (0.0, 0.5, 0.5, 1.0)[stage] * h
        weight = (1.0, 2.0, 2.0, 1.0)[stage] * h / 6.0
        for k in range(Q):
            q[k] = q0[k] + ahead * dq[k]
        for k in range(D):
            v[k] = v0[k] + ahead * dv[k]
        rates(a, count, q, v, dq, dv)
        for k in range(Q):
            sum_q[k] += weight * dq[k]
        for k in range(D):
            sum_v[k] += weight * dv[k]
    for k in range(Q):
        q0[k] += sum_q[k]
    for k in range(D):
        new[k] = v0[k] + sum_v[k]
        now[k] = v0[k]
    for i in range(len(a.nodes)):
        n = a.nodes[i]
        if n.kind == FREE:
            unit_quaternion(q0[n.coord + 3 : n.coord + 7])
        elif n.kind == BALL and n.axis == 2:
            unit_quaternion(q0[n.coord : n.coord + 4])
