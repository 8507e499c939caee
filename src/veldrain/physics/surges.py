"""Energy that nothing gave: how much a step made, and between whom.

The kinetic energy of a step may grow by the work of gravity, springs, motors, pushes, belts and led things. What is
beyond that is the engine's own doing: an overlap, a step too coarse. It is measured where velocities grow at all.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import NEW, NOW
from veldrain.physics.responses import point_velocity
from veldrain.physics.spatial import add, cross, dot, minus, norm, triple, turned
from veldrain.physics.trees import spin_momentum

GROWN = 1.002  # of the sum of squares of all velocities: what grows by less is not looked at
LEAST = 1.0  # J
SHARE = 0.01  # of the kinetic energy


@kernel
def grows(dofs, speeds):
    """True where a step's velocities are larger than those before it."""
    now, new = speeds[NOW], speeds[NEW]
    before, after = 0.0, 0.0
    for k in range(len(dofs)):
        before += now[k] * now[k]
        after += new[k] * new[k]
    return after > GROWN * before + 1e-6


@kernel
def kinetic(trees, nodes, dofs, v, gravity):
    """Kinetic energy of all that is not led (J), and the power of gravity on it (W), from the nodes' twists."""
    total, power = 0.0, 0.0
    for i in range(len(nodes)):
        n = nodes[i]
        tree = trees[n.tree]
        if tree.script >= 0 or n.mass == 0.0:
            continue
        w = triple(n.twist)
        o = add(triple(n.twist[3:6]), cross(w, minus(triple(n.com), triple(tree.ref))))
        total += 0.5 * (n.mass * dot(o, o) + dot(w, spin_momentum(n, w)))
        power += n.mass * dot(triple(gravity), o)
    for k in range(len(dofs)):
        total += 0.5 * dofs[k].inertia * v[k] * v[k]
    return total, power


@kernel
def given(a, count, h):
    """The most that motors, springs, pushes, belts, soft contacts and led things can have given in a step (J).

    It is taken with the nodes' twists as they are: before the step and after it, and both are added.
    """
    now, new = a.speeds[NOW], a.speeds[NEW]
    work = 0.0
    for k in range(len(a.dofs)):
        dof = a.dofs[k]
        load = abs(dof.effort)
        if dof.spring > 0.0:
            load += dof.spring * abs(a.q[dof.coord] - dof.rest)
        work += h * load * max(abs(now[k]), abs(new[k]))
    for k in range(len(a.pushes)):
        push = a.pushes[k]
        if count.step < push.until:
            n = a.nodes[push.node]
            v = point_velocity(a.trees, a.nodes, push.node, add(triple(n.pos), turned(n.rot, triple(push.point))))
            work += h * (norm(triple(push.force)) * norm(v) + norm(triple(push.torque)) * norm(triple(n.twist)))
    for k in range(len(a.loops)):
        loop = a.loops[k]
        if loop.stiffness > 0.0:
            v = minus(
                point_velocity(a.trees, a.nodes, loop.node_a, triple(loop.point)),
                point_velocity(a.trees, a.nodes, loop.node_b, triple(loop.point)),
            )
            work += abs(loop.impulse[0]) * norm(v)
    for k in range(count.contacts):
        c = a.contacts[k]
        x = c.impulse
        size = abs(x[0]) + abs(x[1]) + abs(x[2])
        speed = abs(c.belt[0]) + abs(c.belt[1])
        v = minus(
            point_velocity(a.trees, a.nodes, c.node_a, triple(c.point)),
            point_velocity(a.trees, a.nodes, c.node_b, triple(c.point)),
        )
        if c.soft > 0.0 or is_led(a, c.node_a) or is_led(a, c.node_b):
            speed += norm(v)
        work += size * speed
    return work


@kernel
def is_led(a, node):
    """True for a node of a tree whose root follows a path."""
    return node >= 0 and a.trees[a.nodes[node].tree].script >= 0


@kernel
def note(a, count, gained, energy):
    """Keep the first surge: its step, its energy, and the pair that is deepest in each other."""
    if count.surges == 0:
        deepest, key = math.inf, -1
        for k in range(count.contacts):
            if a.contacts[k].impulse[0] > 0.0 and a.contacts[k].gap < deepest:
                deepest, key = a.contacts[k].gap, a.contacts[k].key
        count.surge_step, count.surge_pair, count.surge = count.step + 1, key, gained
        count.surge_energy = energy
        most = -1.0
        for k in range(len(a.dofs)):
            if abs(a.speeds[NOW, k]) > most:
                most, count.surge_dof = abs(a.speeds[NOW, k]), k
    count.surges += 1


@kernel
def spins_too_fast(nodes, node, h):
    """|ω|·h of a node, above which one step turns it too far for its contacts."""
    return h * norm(triple(nodes[node].twist)) if node >= 0 else 0.0


@kernel
def look_at_steps(a, count, h, unsolved):
    """Note the longest step that would do (s) where this one is too coarse for what touches.

    A body that turns by a radian in a step; a light body pressed so hard that it swings on its contact faster than the
    step resolves, ω² = F/(m·r), ω·h > ½, and that could not be solved.
    """
    for k in range(count.contacts):
        c = a.contacts[k]
        if c.impulse[0] <= 0.0:
            continue
        turn = max(spins_too_fast(a.nodes, c.node_a, h), spins_too_fast(a.nodes, c.node_b, h))
        wanted = 0.1 * h / turn if turn >= 1.0 else math.inf
        if unsolved and c.bounce == 0:
            for node in (c.node_a, c.node_b):
                if node >= 0:
                    arm = max(norm(minus(triple(c.point), triple(a.nodes[node].com))), 1e-9)
                    ratio = h * c.impulse[0] / (a.nodes[node].mass * arm) if a.nodes[node].mass > 0.0 else 0.0
                    if ratio > 0.25:
                        wanted = min(wanted, h * math.sqrt(0.25 / ratio))
        if wanted < h and (count.wanted == 0.0 or wanted < count.wanted):
            count.wanted = wanted
