"""Trees of links: positions, velocities, accelerations, and how a tree answers an impulse.

The articulated-body algorithm (R. Featherstone, Rigid Body Dynamics Algorithms, Springer 2008, section 7.3),
with all spatial quantities in world axes about one reference point a tree: going from a child to its parent
then needs no transformation. The reference point of a free tree is the mass centre of its root, so that a
lone body's inertia is block diagonal; that of a fixed tree is its first joint. A ball joint is three nodes in a
row, each with one axis of the child: eliminating them one after the other is what its 3 × 3 block would do.

Joint damping and motor gains are taken at the end of the step: an effort a − b·v⁺ (``offset`` and ``slope``
of a dof) adds b·h to the joint's own inertia, which keeps stiff gains stable.
"""

from __future__ import annotations

import math

from veldrain.kernel import inlined, kernel
from veldrain.physics.plant import BALL, FREE, NOW, SLIDING, UNFORCED
from veldrain.physics.spatial import (
    add,
    cross,
    dot,
    minus,
    multiply,
    put,
    rotation_vector_between,
    scaled,
    triple,
    turned,
)


@kernel
def world_inertia(n, room):
    """R·I·Rᵀ, a node's inertia about its mass centre in world axes: xx, xy, xz, yy, yz, zz."""
    R = n.rot
    multiply(R, n.inertia, room)
    xx = room[0, 0] * R[0, 0] + room[0, 1] * R[0, 1] + room[0, 2] * R[0, 2]
    xy = room[0, 0] * R[1, 0] + room[0, 1] * R[1, 1] + room[0, 2] * R[1, 2]
    xz = room[0, 0] * R[2, 0] + room[0, 1] * R[2, 1] + room[0, 2] * R[2, 2]
    yy = room[1, 0] * R[1, 0] + room[1, 1] * R[1, 1] + room[1, 2] * R[1, 2]
    yz = room[1, 0] * R[2, 0] + room[1, 1] * R[2, 1] + room[1, 2] * R[2, 2]
    zz = room[2, 0] * R[2, 0] + room[2, 1] * R[2, 1] + room[2, 2] * R[2, 2]
    return xx, xy, xz, yy, yz, zz


@kernel
def spin_momentum(n, w):
    """I·w of a node about its mass centre, world axes."""
    xx, xy, xz, yy, yz, zz = world_inertia(n, n.IA)
    return (xx * w[0] + xy * w[1] + xz * w[2], xy * w[0] + yy * w[1] + yz * w[2], xz * w[0] + yz * w[1] + zz * w[2])


@kernel
def load_node(n, ref, gravity):
    """A node's own inertia and bias force (velocity products and weight) about the tree's reference."""
    m, IA, pA, V = n.mass, n.IA, n.pA, n.twist
    c = minus(triple(n.com), triple(ref))
    xx, xy, xz, yy, yz, zz = world_inertia(n, IA)
    w, o = (V[0], V[1], V[2]), (V[3], V[4], V[5])
    weight = scaled(triple(gravity), m)
    linear = scaled(add(cross(w, c), o), m)
    spin = (xx * w[0] + xy * w[1] + xz * w[2], xy * w[0] + yy * w[1] + yz * w[2], xz * w[0] + yz * w[1] + zz * w[2])
    angular = add(spin, cross(c, linear))
    put(pA[0:3], minus(add(cross(w, angular), cross(o, linear)), cross(c, weight)))
    put(pA[3:6], minus(cross(w, linear), weight))
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
def load_lone(n, root, gravity):
    """The same for a lone body: its inverse inertia, and its weight. How it tumbles: see ``stepping.tumble``."""
    xx, xy, xz, yy, yz, zz = world_inertia(n, n.IA)
    a, b, c = yy * zz - yz * yz, xz * yz - xy * zz, xy * yz - xz * yy
    scale = 1.0 / (xx * a + xy * b + xz * c)
    root[0, 0], root[0, 1], root[0, 2] = scale * a, scale * b, scale * c
    root[1, 0], root[1, 1], root[1, 2] = root[0, 1], scale * (xx * zz - xz * xz), scale * (xy * xz - xx * yz)
    root[2, 0], root[2, 1], root[2, 2] = root[0, 2], root[1, 2], scale * (xx * yy - xy * xy)
    put(n.pA[0:3], (0.0, 0.0, 0.0))
    put(n.pA[3:6], scaled(triple(gravity), -n.mass))


@kernel
def load_trees(trees, nodes, pushes, step, gravity):
    """Inertias and bias forces of all nodes, pushes from outside included."""
    for i in range(len(nodes)):
        n = nodes[i]
        tree = trees[n.tree]
        if tree.whole == 1:
            continue
        if tree.lone == 1:
            load_lone(n, tree.root, gravity)
            continue
        load_node(n, tree.ref, gravity)
        for k in range(6):
            n.pull[k] = 0.0
        pull_on(n, triple(n.com), scaled(triple(n.pA[3:6]), -1.0))
    for k in range(len(pushes)):
        push = pushes[k]
        if step < push.until:
            n = nodes[push.node]
            point = add(triple(n.pos), turned(n.rot, triple(push.point)))
            arm = minus(point, triple(trees[n.tree].ref))
            moment = add(triple(push.torque), cross(arm, triple(push.force)))
            put(n.pA[0:3], minus(triple(n.pA[0:3]), moment))
            put(n.pA[3:6], minus(triple(n.pA[3:6]), triple(push.force)))


@kernel
def factor_root(L, IA):
    """L = Cholesky factor of a free root's articulated inertia, with the inverse of its diagonal in place."""
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
def solve_root(L, x):
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
def give_root(tree, n, x):
    """What a free root makes of a wrench (moment about its mass centre, force), in place."""
    if tree.script >= 0:
        for k in range(6):
            x[k] = 0.0
    elif tree.lone == 1:
        put(x[0:3], turned(tree.root, triple(x[0:3])))
        put(x[3:6], scaled(triple(x[3:6]), 1.0 / n.mass))
    else:
        solve_root(tree.root, x)


@kernel
def pull_on(n, at, force):
    """Add what a force at a point does to a node's pull: the tensor whose part along an axis is r·F across it.

    Turned by a small angle about the axis, the node is brought back by that much moment a radian.
    """
    r, P = minus(at, triple(n.pos)), n.pull
    along = dot(r, force)
    P[0] += along - r[0] * force[0]
    P[1] += along - r[1] * force[1]
    P[2] += along - r[2] * force[2]
    P[3] -= 0.5 * (r[0] * force[1] + r[1] * force[0])
    P[4] -= 0.5 * (r[0] * force[2] + r[2] * force[0])
    P[5] -= 0.5 * (r[1] * force[2] + r[2] * force[1])


@kernel
def damp_unresolved(n, D, h):
    """Damping for a light link pulled by a heavy load whose swing the step cannot resolve, 0 for all others.

    With the stiffness K of the pull and the inertia D the swing has the frequency √(K/D); where h²·K/D exceeds a
    quarter, K is taken at the end of the step, as backward Euler would.
    """
    if n.kind == SLIDING:
        return 0.0
    P, S = n.pull, n.S
    K = P[0] * S[0] * S[0] + P[1] * S[1] * S[1] + P[2] * S[2] * S[2]
    K += 2.0 * (P[3] * S[0] * S[1] + P[4] * S[0] * S[2] + P[5] * S[1] * S[2])
    ratio = h * h * K / D
    return h * K * min(1.0, 4.0 * (ratio - 0.25)) * (1.0 + ratio / 16.0) if ratio > 0.25 else 0.0


@kernel
def fold_joint(n, dof, v, h, damped):
    """Factors of one joint: U = IA·S, D = Sᵀ·U and the joint's own effort u."""
    IA, S, U = n.IA, n.S, n.U
    D = h * dof.slope + dof.inertia
    u = dof.offset - dof.slope * v
    for r in range(6):
        s = 0.0
        for k in range(6):
            s += IA[r, k] * S[k]
        U[r] = s
    for r in range(6):
        D += S[r] * U[r]
        u -= S[r] * n.pA[r]
    if damped:
        damping = damp_unresolved(n, D, h)
        D += h * damping
        u -= damping * v
    n.Dinv, n.u = 1.0 / D, u


@kernel
def fold_into(p, n):
    """Add a node, as seen through its joint, to its parent."""
    IA, IP, U, c, Dinv = n.IA, p.IA, n.U, n.bias, n.Dinv
    rest = n.u
    for r in range(6):
        rest -= U[r] * c[r]
    rest *= Dinv
    before = triple(p.pA[3:6])
    for r in range(6):
        s = n.pA[r] + U[r] * rest
        scale = U[r] * Dinv
        for k in range(6):
            s += IA[r, k] * c[k]
            IP[r, k] += IA[r, k] - scale * U[k]
        p.pA[r] += s
    pull_on(p, triple(n.pos), minus(before, triple(p.pA[3:6])))
    if n.kind == BALL and p.kind == BALL:
        for k in range(6):
            p.pull[k] += n.pull[k]


@inlined
def accelerate_free(tree, n, v, out, script, step, h):
    """Acceleration of a free root, and its velocities after the step."""
    acc, dof = n.acc, n.dof
    w, o = triple(v[dof : dof + 3]), triple(v[dof + 3 : dof + 6])
    if tree.script >= 0:
        rate = 1.0 / h
        scripted_speeds(tree, script, step, out[dof : dof + 6], h)
        for k in range(6):
            acc[k] = (out[dof + k] - v[dof + k]) * rate
        put(acc[3:6], minus(triple(acc[3:6]), cross(w, o)))
        return
    for k in range(6):
        acc[k] = -n.pA[k]
    give_root(tree, n, acc)
    turn = (0.0, 0.0, 0.0) if tree.lone == 1 else cross(w, o)
    for k in range(3):
        out[dof + k] = w[k] + h * acc[k]
        out[dof + 3 + k] = o[k] + h * (acc[3 + k] + turn[k])


@kernel
def script_at(tree, step):
    """Where a led tree's row of a step begins: mass centre and quaternion of its root, and its joints."""
    return tree.script + min(step - tree.base, tree.rows - 1) * tree.width


@inlined
def scripted_speeds(tree, script, step, out, h):
    """The spin and velocity (6,) that take a led root to its next place."""
    here, there = script[script_at(tree, step) :], script[script_at(tree, step + 1) :]
    put(out[0:3], scaled(rotation_vector_between(here[3:7], there[3:7]), 1.0 / h))
    put(out[3:6], scaled(minus(triple(there), triple(here)), 1.0 / h))


@inlined
def lead_tree(tree, nodes, v, out, script, step, h):
    """Accelerations and new velocities of a tree that is led with its joints: no force changes them."""
    here, there = script[script_at(tree, step) :], script[script_at(tree, step + 1) :]
    for i in range(tree.first, tree.end):
        n = nodes[i]
        if n.kind == FREE:
            accelerate_free(tree, n, v, out, script, step, h)
            continue
        at = 7 + n.dof - tree.dof - 6
        out[n.dof] = (there[at] - here[at]) / h
        n.Dinv, n.u = 0.0, 0.0
        for k in range(6):
            n.U[k] = 0.0
            n.acc[k] = nodes[n.parent].acc[k] + n.bias[k] + n.S[k] * (out[n.dof] - v[n.dof]) / h


@kernel
def solve_trees(trees, nodes, dofs, speeds, script, step, h, damped):
    """The velocities of all trees after the step without constraints (needs ``load_trees``).

    damped: whether swings that the step cannot resolve are damped.
    """
    v, out = speeds[NOW], speeds[UNFORCED]
    for t in range(len(trees)):
        tree = trees[t]
        if tree.whole == 1:
            lead_tree(tree, nodes, v, out, script, step, h)
            continue
        for i in range(tree.end - 1, tree.first - 1, -1):
            n = nodes[i]
            if n.kind == FREE:
                if tree.lone == 0 and tree.script < 0:
                    factor_root(tree.root, n.IA)
            else:
                fold_joint(n, dofs[n.dof], v[n.dof], h, damped)
                if n.parent >= 0:
                    fold_into(nodes[n.parent], n)
        for i in range(tree.first, tree.end):
            n = nodes[i]
            if n.kind == FREE:
                accelerate_free(tree, n, v, out, script, step, h)
                continue
            acc, U, S = n.acc, n.U, n.S
            s = n.u
            for k in range(6):
                acc[k] = n.bias[k]
                if n.parent >= 0:
                    acc[k] += nodes[n.parent].acc[k]
                s -= U[k] * acc[k]
            s *= n.Dinv
            for k in range(6):
                acc[k] += S[k] * s
            out[n.dof] = v[n.dof] + h * s
