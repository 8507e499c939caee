"""What a motion needs: joint-space inertia, forces for given accelerations, Jacobians.

The composite-rigid-body and recursive Newton–Euler algorithms (R. Featherstone, Rigid Body Dynamics Algorithms,
Springer 2008, chapters 5 and 6), in the axes and about the reference points of ``trees``.
"""

from __future__ import annotations

from veldrain.kernel import entry, kernel
from veldrain.physics.plant import FREE, NOW
from veldrain.physics.responses import project
from veldrain.physics.spatial import cross, minus, put, triple
from veldrain.physics.trees import load_node


@kernel
def times(matrix, x, out):
    """out = matrix·x, 6 × 6."""
    for r in range(6):
        s = 0.0
        for k in range(6):
            s += matrix[r, k] * x[k]
        out[r] = s


@entry
def inertia_matrix(trees, nodes, dofs, gravity, tree, out):
    """Fill out (D, D) with the joint-space inertia of a tree's dofs, D its dofs; reflected inertias included."""
    t = trees[tree]
    for i in range(t.first, t.end):
        load_node(nodes[i], t.ref, gravity)
    for i in range(t.end - 1, t.first - 1, -1):
        n = nodes[i]
        if n.parent >= 0:
            above = nodes[n.parent].IA
            for r in range(6):
                for k in range(6):
                    above[r, k] += n.IA[r, k]
        at = n.dof - t.dof
        if n.kind == FREE:
            for r in range(6):
                for k in range(6):
                    out[at + r, at + k] = n.IA[r, k]
            continue
        times(n.IA, n.S, n.U)
        wrench = (n.U[0], n.U[1], n.U[2], n.U[3], n.U[4], n.U[5])
        project(t, nodes, i, wrench, 1.0, out[at])
        out[at, at] += dofs[n.dof].inertia
        for k in range(t.dofs):
            out[k, at] = out[at, k]


@entry
def motion_efforts(trees, nodes, dofs, q, speeds, gravity, tree, rates, out):
    """Fill out (D,) with the efforts that give a tree's dofs the rates (D,) at its state, nothing touching it.

    Joint damping, joint springs and reflected inertias are overcome; a free root's six are moment about its mass
    centre and force.
    """
    t, v = trees[tree], speeds[NOW]
    for i in range(t.first, t.end):
        n = nodes[i]
        load_node(n, t.ref, gravity)
        acc, at = n.acc, n.dof - t.dof
        if n.kind == FREE:
            for k in range(6):
                acc[k] = rates[at + k]
            turn = cross(triple(v[n.dof : n.dof + 3]), triple(v[n.dof + 3 : n.dof + 6]))
            put(acc[3:6], minus(triple(acc[3:6]), turn))
        else:
            for k in range(6):
                acc[k] = n.bias[k] + n.S[k] * rates[at]
                if n.parent >= 0:
                    acc[k] += nodes[n.parent].acc[k]
        times(n.IA, acc, n.U)
        for k in range(6):
            n.U[k] += n.pA[k]
    for i in range(t.end - 1, t.first - 1, -1):
        n = nodes[i]
        at = n.dof - t.dof
        if n.kind == FREE:
            for k in range(6):
                out[at + k] = n.U[k]
            continue
        dof = dofs[n.dof]
        s = dof.inertia * rates[at] + dof.damping * v[n.dof]
        if dof.spring > 0.0:
            s += dof.spring * (q[dof.coord] - dof.rest)
        for k in range(6):
            s += n.S[k] * n.U[k]
            if n.parent >= 0:
                nodes[n.parent].U[k] += n.U[k]
        out[at] = s


@entry
def point_jacobian(trees, nodes, node, point, out):
    """Fill out (6, D): velocity of a node's point (m/s, world axes; first three rows) and spin, per dof of its tree."""
    t = trees[nodes[node].tree]
    arm = minus(triple(point), triple(t.ref))
    for k in range(3):
        e = (1.0 if k == 0 else 0.0, 1.0 if k == 1 else 0.0, 1.0 if k == 2 else 0.0)
        m = cross(arm, e)
        project(t, nodes, node, (m[0], m[1], m[2], e[0], e[1], e[2]), 1.0, out[k])
        project(t, nodes, node, (e[0], e[1], e[2], 0.0, 0.0, 0.0), 1.0, out[3 + k])
