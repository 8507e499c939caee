"""Trees of links: positions, velocities, accelerations, and how a tree answers an impulse.

The articulated-body algorithm (R. Featherstone, Rigid Body Dynamics Algorithms, Springer 2008, section 7.3),
with all spatial quantities in world axes about one reference point a tree: going from a child to its parent
then needs no transformation. The reference point of a free tree is the mass centre of its root, so that a
lone body's inertia is block diagonal; that of a fixed tree is its first joint.

Joint damping and motor gains are taken at the end of the step: an effort a − b·v⁺ (``offset`` and ``slope``
in ``Work``) adds b·h to the joint's own inertia, which keeps stiff gains stable.
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import FREE, SLIDING
from veldrain.physics.spatial import (
    add,
    cross,
    dot,
    matrix_of_quaternion,
    minus,
    multiply,
    triple,
    turned,
    turned_back,
)


@kernel
def place_node(plant, state, work, i):  # type: ignore[no-untyped-def]
    """Position and axes of one node from its coordinate and its parent."""
    at = plant.node_coord[i]
    pos, rot = work.pos[i], work.rot[i]
    if plant.node_kind[i] == FREE:
        matrix_of_quaternion(state.q, at + 3, rot)
        offset = turned(rot, triple(plant.node_com[i]))
        for k in range(3):
            pos[k] = state.q[at + k] - offset[k]
        return
    p = plant.node_parent[i]
    turn = plant.node_turn[i]
    angle = 0.0 if plant.node_kind[i] == SLIDING else state.q[at]
    c, s = math.cos(angle), math.sin(angle)
    for r in range(3):
        if p < 0:
            x, y, z = turn[r, 0], turn[r, 1], turn[r, 2]
            place = plant.node_place[i, r]
        else:
            P = work.rot[p]
            x = P[r, 0] * turn[0, 0] + P[r, 1] * turn[1, 0] + P[r, 2] * turn[2, 0]
            y = P[r, 0] * turn[0, 1] + P[r, 1] * turn[1, 1] + P[r, 2] * turn[2, 1]
            z = P[r, 0] * turn[0, 2] + P[r, 1] * turn[1, 2] + P[r, 2] * turn[2, 2]
            place = work.pos[p, r] + (
                P[r, 0] * plant.node_place[i, 0] + P[r, 1] * plant.node_place[i, 1] + P[r, 2] * plant.node_place[i, 2]
            )
        rot[r, 0] = c * x + s * y
        rot[r, 1] = c * y - s * x
        rot[r, 2] = z
        pos[r] = place + (state.q[at] * z if plant.node_kind[i] == SLIDING else 0.0)


@kernel
def move_trees(plant, state, work):  # type: ignore[no-untyped-def]
    """Positions, motion subspaces, velocities and velocity products of all nodes."""
    for t in range(len(plant.tree_node) - 1):
        first = plant.tree_node[t]
        for i in range(first, plant.tree_node[t + 1]):
            place_node(plant, state, work, i)
            com = add(triple(work.pos[i]), turned(work.rot[i], triple(plant.node_com[i])))
            for k in range(3):
                work.com[i, k] = com[k]
        source = work.com[first] if plant.node_kind[first] == FREE else work.pos[first]
        for k in range(3):
            work.ref[t, k] = source[k]
        for i in range(first, plant.tree_node[t + 1]):
            move_node(plant, state, work, t, i)


@kernel
def move_node(plant, state, work, t, i):  # type: ignore[no-untyped-def]
    """Motion subspace, velocity and velocity product of one node."""
    dof = plant.node_dof[i]
    twist, bias, S = work.twist[i], work.bias[i], work.S[i]
    if plant.node_kind[i] == FREE:
        for k in range(6):
            twist[k] = state.v[dof + k]
            bias[k] = 0.0
        return
    z = (work.rot[i, 0, 2], work.rot[i, 1, 2], work.rot[i, 2, 2])
    if plant.node_kind[i] == SLIDING:
        S[0], S[1], S[2] = 0.0, 0.0, 0.0
        S[3], S[4], S[5] = z
    else:
        S[0], S[1], S[2] = z
        S[3], S[4], S[5] = cross(minus(triple(work.pos[i]), triple(work.ref[t])), z)
    p = plant.node_parent[i]
    v = state.v[dof]
    if p < 0:
        for k in range(6):
            twist[k] = S[k] * v
            bias[k] = 0.0
        return
    V = work.twist[p]
    w, o = (V[0], V[1], V[2]), (V[3], V[4], V[5])
    sw, so = (S[0] * v, S[1] * v, S[2] * v), (S[3] * v, S[4] * v, S[5] * v)
    bias[0], bias[1], bias[2] = cross(w, sw)
    bias[3], bias[4], bias[5] = add(cross(w, so), cross(o, sw))
    for k in range(6):
        twist[k] = V[k] + S[k] * v


@kernel
def world_inertia(plant, work, i, out):  # type: ignore[no-untyped-def]
    """out = R·I·Rᵀ: a node's inertia about its mass centre, world axes; gives its six numbers."""
    R, inertia = work.rot[i], plant.node_inertia[i]
    multiply(R, inertia, out)
    xx = out[0, 0] * R[0, 0] + out[0, 1] * R[0, 1] + out[0, 2] * R[0, 2]
    xy = out[0, 0] * R[1, 0] + out[0, 1] * R[1, 1] + out[0, 2] * R[1, 2]
    xz = out[0, 0] * R[2, 0] + out[0, 1] * R[2, 1] + out[0, 2] * R[2, 2]
    yy = out[1, 0] * R[1, 0] + out[1, 1] * R[1, 1] + out[1, 2] * R[1, 2]
    yz = out[1, 0] * R[2, 0] + out[1, 1] * R[2, 1] + out[1, 2] * R[2, 2]
    zz = out[2, 0] * R[2, 0] + out[2, 1] * R[2, 1] + out[2, 2] * R[2, 2]
    return xx, xy, xz, yy, yz, zz


@kernel
def load_node(plant, work, t, i):  # type: ignore[no-untyped-def]
    """A node's own inertia and bias force (velocity products and weight) about the tree's reference."""
    m = plant.node_mass[i]
    IA, pA = work.IA[i], work.pA[i]
    c = minus(triple(work.com[i]), triple(work.ref[t]))
    xx, xy, xz, yy, yz, zz = world_inertia(plant, work, i, IA)
    V = work.twist[i]
    w, o = (V[0], V[1], V[2]), (V[3], V[4], V[5])
    weight = (m * plant.gravity[0], m * plant.gravity[1], m * plant.gravity[2])
    linear = cross(w, c)
    linear = (m * (linear[0] + o[0]), m * (linear[1] + o[1]), m * (linear[2] + o[2]))
    spin = (
        xx * w[0] + xy * w[1] + xz * w[2],
        xy * w[0] + yy * w[1] + yz * w[2],
        xz * w[0] + yz * w[1] + zz * w[2],
    )
    angular = add(spin, cross(c, linear))
    pA[0], pA[1], pA[2] = minus(add(cross(w, angular), cross(o, linear)), cross(c, weight))
    pA[3], pA[4], pA[5] = minus(cross(w, linear), weight)
    cc = m * dot(c, c)
    mx, my, mz = m * c[0], m * c[1], m * c[2]
    IA[0, 0], IA[0, 1], IA[0, 2] = xx + cc - mx * c[0], xy - mx * c[1], xz - mx * c[2]
    IA[1, 0], IA[1, 1], IA[1, 2] = xy - mx * c[1], yy + cc - my * c[1], yz - my * c[2]
    IA[2, 0], IA[2, 1], IA[2, 2] = xz - mx * c[2], yz - my * c[2], zz + cc - mz * c[2]
    IA[0, 3], IA[0, 4], IA[0, 5] = 0.0, -mz, my
    IA[1, 3], IA[1, 4], IA[1, 5] = mz, 0.0, -mx
    IA[2, 3], IA[2, 4], IA[2, 5] = -my, mx, 0.0
    for r in range(3):
        for k in range(3):
            IA[3 + k, r] = IA[r, 3 + k]
            IA[3 + r, 3 + k] = m if r == k else 0.0


@kernel
def push_nodes(plant, state, work):  # type: ignore[no-untyped-def]
    """Take the pushes from outside into the bias forces."""
    for k in range(len(state.push_node)):
        if state.step[0] < state.push_until[k]:
            i = state.push_node[k]
            load = state.push_load[k]
            point = add(triple(work.pos[i]), turned(work.rot[i], (load[6], load[7], load[8])))
            arm = minus(point, triple(work.ref[plant.node_tree[i]]))
            force = (load[0], load[1], load[2])
            moment = add((load[3], load[4], load[5]), cross(arm, force))
            for r in range(3):
                work.pA[i, r] -= moment[r]
                work.pA[i, 3 + r] -= force[r]


@kernel
def factor(plant, state, work, t, h):  # type: ignore[no-untyped-def]
    """From the leaves to the root: articulated inertias and bias forces of one tree."""
    first = plant.tree_node[t]
    for i in range(plant.tree_node[t + 1] - 1, first - 1, -1):
        if plant.node_kind[i] == FREE:
            factor_root(work, t, i)
            continue
        dof = plant.node_dof[i]
        IA, pA, S, U = work.IA[i], work.pA[i], work.S[i], work.U[i]
        D = h * work.slope[dof]
        u = work.offset[dof] - work.slope[dof] * state.v[dof]
        for r in range(6):
            s = 0.0
            for k in range(6):
                s += IA[r, k] * S[k]
            U[r] = s
        for r in range(6):
            D += S[r] * U[r]
            u -= S[r] * pA[r]
        work.Dinv[i], work.u[i] = 1.0 / D, u
        p = plant.node_parent[i]
        if p < 0:
            continue
        IP, pP, c = work.IA[p], work.pA[p], work.bias[i]
        Dinv = work.Dinv[i]
        Uc = 0.0
        for r in range(6):
            Uc += U[r] * c[r]
        for r in range(6):
            s = pA[r] + U[r] * (u - Uc) * Dinv
            for k in range(6):
                IP[r, k] += IA[r, k] - U[r] * U[k] * Dinv
                s += IA[r, k] * c[k]
            pP[r] += s


@kernel
def factor_root(work, t, i):  # type: ignore[no-untyped-def]
    """Cholesky factor of a free root's articulated inertia, with the inverse of its diagonal in place."""
    L, IA = work.root[t], work.IA[i]
    for r in range(6):
        for k in range(r + 1):
            s = IA[r, k]
            for j in range(k):
                s -= L[r, j] * L[k, j]
            if r == k:
                L[r, r] = 1.0 / math.sqrt(s)
            else:
                L[r, k] = s * L[k, k]


@kernel
def solve_root(L, x):  # type: ignore[no-untyped-def]
    """Solve in place with the factor of ``factor_root``."""
    for r in range(6):
        s = x[r]
        for k in range(r):
            s -= L[r, k] * x[k]
        x[r] = s * L[r, r]
    for r in range(5, -1, -1):
        s = x[r]
        for k in range(r + 1, 6):
            s -= L[k, r] * x[k]
        x[r] = s * L[r, r]


@kernel
def accelerate(plant, state, work, t, h):  # type: ignore[no-untyped-def]
    """From the root to the leaves: the velocities of one tree after the step, without constraints."""
    first = plant.tree_node[t]
    for i in range(first, plant.tree_node[t + 1]):
        dof, acc = plant.node_dof[i], work.acc[i]
        if plant.node_kind[i] == FREE:
            for k in range(6):
                acc[k] = -work.pA[i, k]
            solve_root(work.root[t], acc)
            w = (state.v[dof], state.v[dof + 1], state.v[dof + 2])
            turn = cross(w, (state.v[dof + 3], state.v[dof + 4], state.v[dof + 5]))
            for k in range(3):
                work.v_free[dof + k] = state.v[dof + k] + h * acc[k]
                work.v_free[dof + 3 + k] = state.v[dof + 3 + k] + h * (acc[3 + k] + turn[k])
            continue
        p = plant.node_parent[i]
        S, U, c = work.S[i], work.U[i], work.bias[i]
        s = work.u[i]
        for k in range(6):
            acc[k] = c[k] if p < 0 else work.acc[p, k] + c[k]
            s -= U[k] * acc[k]
        s *= work.Dinv[i]
        for k in range(6):
            acc[k] += S[k] * s
        work.v_free[dof] = state.v[dof] + h * s


@kernel
def load_trees(plant, state, work):  # type: ignore[no-untyped-def]
    """Inertias and bias forces of all nodes, pushes from outside included."""
    for t in range(len(plant.tree_node) - 1):
        for i in range(plant.tree_node[t], plant.tree_node[t + 1]):
            load_node(plant, work, t, i)
    push_nodes(plant, state, work)


@kernel
def solve_trees(plant, state, work, h):  # type: ignore[no-untyped-def]
    """The velocities of all trees after the step without constraints (needs ``load_trees``)."""
    for t in range(len(plant.tree_node) - 1):
        factor(plant, state, work, t, h)
        accelerate(plant, state, work, t, h)


@kernel
def respond(plant, work, t, node, impulse, along, out):  # type: ignore[no-untyped-def]
    """out += change of the tree's velocities from an impulse.

    impulse: six numbers on the node (moment about the reference, force); along: an impulse on the node's
    own joint. out: (dofs of the tree,).
    """
    first = plant.tree_node[t]
    start = plant.tree_dof[t]
    u, acc = work.u, work.acc
    f0, f1, f2, f3, f4, f5 = impulse
    for i in range(first, plant.tree_node[t + 1]):
        u[i] = 0.0
    i = node
    while i >= 0 and plant.node_kind[i] != FREE:
        S, U = work.S[i], work.U[i]
        s = S[0] * f0 + S[1] * f1 + S[2] * f2 + S[3] * f3 + S[4] * f4 + S[5] * f5
        if i == node:
            s += along
        u[i] = s
        s *= work.Dinv[i]
        f0 -= U[0] * s
        f1 -= U[1] * s
        f2 -= U[2] * s
        f3 -= U[3] * s
        f4 -= U[4] * s
        f5 -= U[5] * s
        i = plant.node_parent[i]
    for i in range(first, plant.tree_node[t + 1]):
        dof, a = plant.node_dof[i] - start, acc[i]
        if plant.node_kind[i] == FREE:
            a[0], a[1], a[2], a[3], a[4], a[5] = f0, f1, f2, f3, f4, f5
            solve_root(work.root[t], a)
            for k in range(6):
                out[dof + k] += a[k]
            continue
        p = plant.node_parent[i]
        U, S = work.U[i], work.S[i]
        s = u[i]
        if p >= 0:
            for k in range(6):
                a[k] = acc[p, k]
                s -= U[k] * a[k]
        else:
            for k in range(6):
                a[k] = 0.0
        s *= work.Dinv[i]
        for k in range(6):
            a[k] += S[k] * s
        out[dof] += s


@kernel
def project(plant, work, t, node, wrench, sign, out):  # type: ignore[no-untyped-def]
    """out += sign · Jᵀ of a wrench on a node: its part along each degree of freedom of the tree."""
    start = plant.tree_dof[t]
    f0, f1, f2, f3, f4, f5 = wrench
    i = node
    while i >= 0:
        dof = plant.node_dof[i] - start
        if plant.node_kind[i] == FREE:
            out[dof] += sign * f0
            out[dof + 1] += sign * f1
            out[dof + 2] += sign * f2
            out[dof + 3] += sign * f3
            out[dof + 4] += sign * f4
            out[dof + 5] += sign * f5
        else:
            S = work.S[i]
            out[dof] += sign * (S[0] * f0 + S[1] * f1 + S[2] * f2 + S[3] * f3 + S[4] * f4 + S[5] * f5)
        i = plant.node_parent[i]


@kernel
def point_velocity(plant, work, node, point):  # type: ignore[no-untyped-def]
    """Velocity of the node's material point at ``point`` (world)."""
    if node < 0:
        return (0.0, 0.0, 0.0)
    V = work.twist[node]
    arm = minus(point, triple(work.ref[plant.node_tree[node]]))
    return add((V[3], V[4], V[5]), cross((V[0], V[1], V[2]), arm))


@kernel
def local_point(work, node, point):  # type: ignore[no-untyped-def]
    """A world point in the node's frame."""
    return turned_back(work.rot[node], minus(point, triple(work.pos[node])))
