"""Where the links of a tree are, and how fast: poses, motion subspaces, velocities and velocity products of all nodes.

All spatial quantities are in world axes about one reference point a tree: the mass centre of a free root, or the first
joint of a fixed one."""

from __future__ import annotations

import math

from veldrain.kernel import inlined, kernel
from veldrain.physics.plant import BALL, FREE, SLIDING
from veldrain.physics.spatial import add, cross, matrix_of_quaternion, minus, multiply, put, triple, turned


@inlined
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
def place_ball(n, q, parent):
    """The same for the first node of a ball joint, from its quaternion; parent: its parent node."""
    room = n.IA[0:3, 0:3]
    if n.parent < 0:
        put(n.pos, triple(n.place))
        matrix_of_quaternion(q, n.coord, room)
        multiply(n.turn, room, n.rot)
        return
    put(n.pos, add(triple(parent.pos), turned(parent.rot, triple(n.place))))
    multiply(parent.rot, n.turn, room)
    matrix_of_quaternion(q, n.coord, n.IA[3:6, 0:3])
    multiply(room, n.IA[3:6, 0:3], n.rot)


@inlined
def place_node(n, nodes, q):
    """Position and axes of any node, its parent's being known."""
    if n.kind == FREE:
        place_free(n, q)
    elif n.kind == BALL and n.axis == 0:
        place_ball(n, q, nodes[max(n.parent, 0)])
    elif n.kind == BALL:
        before = nodes[n.parent]
        put(n.pos, triple(before.pos))
        for r in range(3):
            for k in range(3):
                n.rot[r, k] = before.rot[r, k]
    elif n.parent < 0:
        place_on_world(n, q[n.coord])
    else:
        place_on(n, q[n.coord], nodes[n.parent].pos, nodes[n.parent].rot)


@kernel
def move_trees(trees, nodes, q, v):
    """Positions, motion subspaces, velocities and velocity products of all nodes."""
    for t in range(len(trees)):
        tree = trees[t]
        for i in range(tree.first, tree.end):
            n = nodes[i]
            place_node(n, nodes, q)
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
                if n.kind == BALL:
                    ride_ball(n, nodes)


@kernel
def subspace(n, ref):
    """Motion subspace of a joint about z of its node (of a ball joint's node: about its own axis)."""
    k = n.axis if n.kind == BALL else 2
    z = (n.rot[0, k], n.rot[1, k], n.rot[2, k])
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
def ride_ball(n, nodes):
    """Velocity product of a ball joint, whose axes turn with the child: all of it in its last node."""
    for k in range(6):
        n.bias[k] = 0.0
    if n.axis < 2:
        return
    first = nodes[nodes[n.parent].parent]
    if first.parent >= 0:
        V, T = nodes[first.parent].twist, n.twist
        w, o, sw, so = triple(V[0:3]), triple(V[3:6]), triple(T[0:3]), triple(T[3:6])
        put(n.bias[0:3], cross(w, sw))
        put(n.bias[3:6], add(cross(w, so), cross(o, sw)))
