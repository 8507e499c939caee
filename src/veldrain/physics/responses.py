"""How a tree of links answers an impulse, and how its points move.

The articulated inertias are those that ``trees`` has left in the nodes, in world axes about a tree's reference point.
"""

from __future__ import annotations

from veldrain.kernel import kernel
from veldrain.physics.plant import FREE, NOW, RATE
from veldrain.physics.spatial import add, cross, minus, triple
from veldrain.physics.trees import give_root


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
            give_root(tree, n, a)
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
def node_accelerations(nodes, speeds):
    """Spatial accelerations of all nodes over the last step, in acc."""
    v, rates = speeds[NOW], speeds[RATE]
    for i in range(len(nodes)):
        n = nodes[i]
        acc, d = n.acc, n.dof
        if n.kind == FREE:
            turn = cross((v[d], v[d + 1], v[d + 2]), (v[d + 3], v[d + 4], v[d + 5]))
            for k in range(3):
                acc[k] = rates[d + k]
                acc[3 + k] = rates[d + 3 + k] - turn[k]
            continue
        for k in range(6):
            acc[k] = n.bias[k] + n.S[k] * rates[d]
            if n.parent >= 0:
                acc[k] += nodes[n.parent].acc[k]
