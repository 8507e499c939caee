"""Trees of links: positions, velocities, accelerations, and how a tree answers an impulse.

The articulated-body algorithm (R. Featherstone, Rigid Body Dynamics Algorithms, Springer 2008, section 7.3),
with all spatial quantities in world axes about one reference point a tree: going from a child to its parent
then needs no transformation. The reference point of a free tree is the mass centre of its root, so that a
lone body's inertia is block diagonal; that of a fixed tree is its first joint.

Joint damping and motor gains are taken at the end of the step: an effort a − b·v⁺ (``offset`` and ``slope``
of a dof) adds b·h to the joint's own inertia, which keeps stiff gains stable.
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import FREE, NOW, SLIDING, UNFORCED
from veldrain.physics.spatial import (
    add,
    cross,
    dot,
    matrix_of_quaternion,
    minus,
    multiply,
    put,
    scaled,
    triple,
    turned,
)


@kernel
def place_free(n, q):
    """Position and axes of a free node from its coordinates."""
    matrix_of_quaternion(q, n.coord + 3, n.rot)
    put(n.pos, minus(triple(q[n.coord : n.coord + 3]), turned(n.rot, triple(n.centre))))


@kernel
def place_on(n, coordinate, pos, rot):
    """Position and axes of a node from its joint's coordinate and its parent's position and axes."""
    turn, out = n.turn, n.rot
    angle = 0.0 if n.kind == SLIDING else coordinate
    slide = coordinate if n.kind == SLIDING else 0.0
    c, s = math.cos(angle), math.sin(angle)
    for r in range(3):
        x = rot[r, 0] * turn[0, 0] + rot[r, 1] * turn[1, 0] + rot[r, 2] * turn[2, 0]
        y = rot[r, 0] * turn[0, 1] + rot[r, 1] * turn[1, 1] + rot[r, 2] * turn[2, 1]
        z = rot[r, 0] * turn[0, 2] + rot[r, 1] * turn[1, 2] + rot[r, 2] * turn[2, 2]
        out[r, 0], out[r, 1], out[r, 2] = c * x + s * y, c * y - s * x, z
        n.pos[r] = pos[r] + slide * z
        n.pos[r] += rot[r, 0] * n.place[0] + rot[r, 1] * n.place[1] + rot[r, 2] * n.place[2]


@kernel
def place_on_world(n, coordinate):
    """The same for a joint on the world."""
    angle = 0.0 if n.kind == SLIDING else coordinate
    slide = coordinate if n.kind == SLIDING else 0.0
    c, s = math.cos(angle), math.sin(angle)
    for r in range(3):
        x, y, z = n.turn[r, 0], n.turn[r, 1], n.turn[r, 2]
        n.rot[r, 0], n.rot[r, 1], n.rot[r, 2] = c * x + s * y, c * y - s * x, z
        n.pos[r] = n.place[r] + slide * z


@kernel
def move_trees(trees, nodes, q, v):
    """Positions, motion subspaces, velocities and velocity products of all nodes."""
    for t in range(len(trees)):
        tree = trees[t]
        for i in range(tree.first, tree.end):
            n = nodes[i]
            if n.kind == FREE:
                place_free(n, q)
            elif n.parent < 0:
                place_on_world(n, q[n.coord])
            else:
                place_on(n, q[n.coord], nodes[n.parent].pos, nodes[n.parent].rot)
            put(n.com, add(triple(n.pos), turned(n.rot, triple(n.centre))))
            if i == tree.first:
                put(tree.ref, triple(n.com) if n.kind == FREE else triple(n.pos))
            if n.kind == FREE:
                for k in range(6):
                    n.twist[k] = v[n.dof + k]
                    n.bias[k] = 0.0
            else:
                subspace(n, tree.ref)
                for k in range(6):
                    n.twist[k] = n.S[k] * v[n.dof]
                    n.bias[k] = 0.0
                if n.parent >= 0:
                    ride(n, nodes[n.parent].twist)


@kernel
def subspace(n, ref):
    """Motion subspace of a joint about z of its node."""
    z = (n.rot[0, 2], n.rot[1, 2], n.rot[2, 2])
    if n.kind == SLIDING:
        put(n.S[0:3], (0.0, 0.0, 0.0))
        put(n.S[3:6], z)
    else:
        put(n.S[0:3], z)
        put(n.S[3:6], cross(minus(triple(n.pos), triple(ref)), z))


@kernel
def ride(n, V):
    """Add the parent's velocity V to a node's own (twist), and take the velocity product V × S·q̇."""
    w, o = (V[0], V[1], V[2]), (V[3], V[4], V[5])
    sw, so = (n.twist[0], n.twist[1], n.twist[2]), (n.twist[3], n.twist[4], n.twist[5])
    put(n.bias[0:3], cross(w, sw))
    put(n.bias[3:6], add(cross(w, so), cross(o, sw)))
    for k in range(6):
        n.twist[k] += V[k]


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
def load_node(n, ref, gravity):
    """A node's own inertia and bias force (velocity products and weight) about the tree's reference."""
    m, IA, pA, V = n.mass, n.IA, n.pA, n.twist
    c = minus(triple(n.com), triple(ref))
    xx, xy, xz, yy, yz, zz = world_inertia(n, IA)
    w, o = (V[0], V[1], V[2]), (V[3], V[4], V[5])
    weight = scaled(triple(gravity), m)
    linear = scaled(add(cross(w, c), o), m)
    spin = (
        xx * w[0] + xy * w[1] + xz * w[2],
        xy * w[0] + yy * w[1] + yz * w[2],
        xz * w[0] + yz * w[1] + zz * w[2],
    )
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
def load_trees(trees, nodes, pushes, step, gravity):
    """Inertias and bias forces of all nodes, pushes from outside included."""
    for i in range(len(nodes)):
        load_node(nodes[i], trees[nodes[i].tree].ref, gravity)
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
def fold_joint(n, dof, v, h):
    """Factors of one joint: U = IA·S, D = Sᵀ·U and the joint's own effort u."""
    IA, S, U = n.IA, n.S, n.U
    D = h * dof.slope
    u = dof.offset - dof.slope * v
    for r in range(6):
        s = 0.0
        for k in range(6):
            s += IA[r, k] * S[k]
        U[r] = s
    for r in range(6):
        D += S[r] * U[r]
        u -= S[r] * n.pA[r]
    n.Dinv, n.u = 1.0 / D, u


@kernel
def fold_into(p, n):
    """Add a node, as seen through its joint, to its parent."""
    IA, IP, U, c, Dinv = n.IA, p.IA, n.U, n.bias, n.Dinv
    rest = n.u
    for r in range(6):
        rest -= U[r] * c[r]
    rest *= Dinv
    for r in range(6):
        s = n.pA[r] + U[r] * rest
        scale = U[r] * Dinv
        for k in range(6):
            s += IA[r, k] * c[k]
            IP[r, k] += IA[r, k] - scale * U[k]
        p.pA[r] += s


@kernel
def accelerate_free(n, L, v, out, h):
    """Acceleration of a free root, and its velocities after the step."""
    acc, dof = n.acc, n.dof
    for k in range(6):
        acc[k] = -n.pA[k]
    solve_root(L, acc)
    w, o = (v[dof], v[dof + 1], v[dof + 2]), (v[dof + 3], v[dof + 4], v[dof + 5])
    turn = cross(w, o)
    for k in range(3):
        out[dof + k] = w[k] + h * acc[k]
        out[dof + 3 + k] = o[k] + h * (acc[3 + k] + turn[k])


@kernel
def solve_trees(trees, nodes, dofs, speeds, h):
    """The velocities of all trees after the step without constraints (needs ``load_trees``)."""
    v, out = speeds[NOW], speeds[UNFORCED]
    for t in range(len(trees)):
        tree = trees[t]
        for i in range(tree.end - 1, tree.first - 1, -1):
            n = nodes[i]
            if n.kind == FREE:
                factor_root(tree.root, n.IA)
            else:
                fold_joint(n, dofs[n.dof], v[n.dof], h)
                if n.parent >= 0:
                    fold_into(nodes[n.parent], n)
        for i in range(tree.first, tree.end):
            n = nodes[i]
            if n.kind == FREE:
                accelerate_free(n, tree.root, v, out, h)
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


@kernel
def respond(tree, nodes, node, impulse, along, out):
    """out += change of the tree's velocities from an impulse.

    impulse: six numbers on the node (moment about the reference, force); along: an impulse on the node's
    own joint. out: (dofs of the tree,).
    """
    f0, f1, f2, f3, f4, f5 = impulse
    for i in range(tree.first, tree.end):
        nodes[i].u = 0.0
    i = node
    while i >= 0 and nodes[i].kind != FREE:
        n = nodes[i]
        S, U = n.S, n.U
        s = S[0] * f0 + S[1] * f1 + S[2] * f2 + S[3] * f3 + S[4] * f4 + S[5] * f5
        if i == node:
            s += along
        n.u = s
        s *= n.Dinv
        f0 -= U[0] * s
        f1 -= U[1] * s
        f2 -= U[2] * s
        f3 -= U[3] * s
        f4 -= U[4] * s
        f5 -= U[5] * s
        i = n.parent
    for i in range(tree.first, tree.end):
        n = nodes[i]
        dof, a = n.dof - tree.dof, n.acc
        if n.kind == FREE:
            a[0], a[1], a[2], a[3], a[4], a[5] = f0, f1, f2, f3, f4, f5
            solve_root(tree.root, a)
            for k in range(6):
                out[dof + k] += a[k]
            continue
        U, S = n.U, n.S
        s = n.u
        if n.parent >= 0:
            ahead = nodes[n.parent].acc
            for k in range(6):
                a[k] = ahead[k]
                s -= U[k] * a[k]
        else:
            for k in range(6):
                a[k] = 0.0
        s *= n.Dinv
        for k in range(6):
            a[k] += S[k] * s
        out[dof] += s


@kernel
def project(tree, nodes, node, wrench, sign, out):
    """out += sign · Jᵀ of a wrench on a node: its part along each degree of freedom of the tree."""
    f0, f1, f2, f3, f4, f5 = wrench
    i = node
    while i >= 0:
        n = nodes[i]
        dof = n.dof - tree.dof
        if n.kind == FREE:
            out[dof] += sign * f0
            out[dof + 1] += sign * f1
            out[dof + 2] += sign * f2
            out[dof + 3] += sign * f3
            out[dof + 4] += sign * f4
            out[dof + 5] += sign * f5
        else:
            S = n.S
            out[dof] += sign * (S[0] * f0 + S[1] * f1 + S[2] * f2 + S[3] * f3 + S[4] * f4 + S[5] * f5)
        i = n.parent


@kernel
def point_velocity(trees, nodes, node, point):
    """Velocity of the node's material point at ``point`` (world)."""
    if node < 0:
        return (0.0, 0.0, 0.0)
    n = nodes[node]
    V = n.twist
    arm = minus(point, triple(trees[n.tree].ref))
    return add((V[3], V[4], V[5]), cross((V[0], V[1], V[2]), arm))


@kernel
def node_accelerations(nodes, dofs, v):
    """Spatial accelerations of all nodes over the last step, in acc."""
    for i in range(len(nodes)):
        n = nodes[i]
        acc, d = n.acc, n.dof
        if n.kind == FREE:
            turn = cross((v[d], v[d + 1], v[d + 2]), (v[d + 3], v[d + 4], v[d + 5]))
            for k in range(3):
                acc[k] = dofs[d + k].acceleration
                acc[3 + k] = dofs[d + 3 + k].acceleration - turn[k]
            continue
        for k in range(6):
            acc[k] = n.bias[k] + n.S[k] * dofs[d].acceleration
            if n.parent >= 0:
                acc[k] += nodes[n.parent].acc[k]
