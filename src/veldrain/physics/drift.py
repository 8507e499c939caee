"""What is held along an arc: two points with one velocity move apart where their paths bend unlike each other.

A step moves coordinates by h·v. A point of a link then goes along its arc, that of a free body along the line of its
mass centre and a turn about it: they part by h²·(a₁ − a₂)/2, a being the accelerations of both points without forces
(velocity products). Where a contact sticks, positions are moved by as much the other way, so that nothing slips through
a grip while it is carried.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import FREE
from veldrain.physics.spatial import add, cross, dot, minus, put, scaled, triple
from veldrain.physics.surges import is_led

SLIGHT = 1e-8  # m/s: slower drifts are left alone
STICKS = 1.0 - 1e-6  # share of the cone's edge, squared, up to which a contact sticks


@kernel
def bend(nodes):
    """Spatial accelerations of all nodes by velocity products alone, in acc."""
    for i in range(len(nodes)):
        n = nodes[i]
        if n.kind == FREE:
            put(n.acc[0:3], (0.0, 0.0, 0.0))
            put(n.acc[3:6], scaled(cross(triple(n.twist), triple(n.twist[3:6])), -1.0))
            continue
        for k in range(6):
            n.acc[k] = n.bias[k] + (nodes[n.parent].acc[k] if n.parent >= 0 else 0.0)


@kernel
def point_bend(trees, nodes, node, point):
    """Acceleration of a point of a node by velocity products alone."""
    if node < 0:
        return (0.0, 0.0, 0.0)
    n = nodes[node]
    w, arm = triple(n.twist), minus(point, triple(trees[n.tree].ref))
    v = add(triple(n.twist[3:6]), cross(w, arm))
    return add(add(triple(n.acc[3:6]), cross(triple(n.acc), arm)), cross(w, v))


@kernel
def spin_bend(nodes, node):
    """Angular acceleration of a node by velocity products alone."""
    return (0.0, 0.0, 0.0) if node < 0 else triple(nodes[node].acc)


@kernel
def aim_drift(a, count, h):
    """Fill the drift (m/s) that positions are to undo at each contact that sticks; True where there is any."""
    found, sticks = False, False
    for k in range(count.contacts):
        c = a.contacts[k]
        c.drift[0], c.drift[1], c.sticks = 0.0, 0.0, 0
        x, edge = c.impulse, c.surface[0] * c.impulse[0]
        if x[0] <= 0.0 or c.bounce == 1 or c.belt[0] != 0.0 or c.belt[1] != 0.0 or not math.isfinite(c.target):
            continue
        if x[1] * x[1] + x[2] * x[2] < STICKS * edge * edge and not is_led(a, c.node_a) and not is_led(a, c.node_b):
            c.sticks, sticks = 1, True
    if not sticks:
        return False
    bend(a.nodes)
    for k in range(count.contacts):
        c = a.contacts[k]
        if c.sticks == 1:
            p = triple(c.point)
            e = minus(point_bend(a.trees, a.nodes, c.node_a, p), point_bend(a.trees, a.nodes, c.node_b, p))
            for j in range(2):
                c.drift[j] = -0.5 * h * dot(triple(c.frame[j + 1]), e)
                found = found or abs(c.drift[j]) > SLIGHT
    return found
