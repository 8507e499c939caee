"""What collision needs to know of each shape: its core, its support point and its near feature.

Contact normals come from *cores*: the shapes shrunk by a small depth. Two shapes that touch have cores that
are apart, so that the direction between them is well defined where the distance of the shapes themselves is
zero. The gap is then measured between the true faces, edges and corners along that normal.

A new convex shape needs a branch in each of the three functions here, and nothing else in physics/.
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import BOX, CAPSULE, CYLINDER, PLANE, SPHERE
from veldrain.physics.spatial import add, put, triple, turned, turned_back

CAP_CORNERS = 8  # corners of the polygon that stands for the flat end of a cylinder


@kernel
def support(g, inset, direction):
    """The world point of a shape, shrunk by ``inset``, that lies farthest along a world direction.

    Spheres and capsules are shrunk to their centre and middle line, whatever the inset.
    """
    kind, size = g.kind, g.size
    d = turned_back(g.rot, direction)
    if kind == BOX:
        x = math.copysign(size[0] - inset, d[0])
        y = math.copysign(size[1] - inset, d[1])
        z = math.copysign(size[2] - inset, d[2])
    elif kind == CYLINDER:
        radius = size[0] - inset
        length = math.sqrt(d[0] * d[0] + d[1] * d[1])
        x = radius * d[0] / length if length > 1e-12 else radius
        y = radius * d[1] / length if length > 1e-12 else 0.0
        z = math.copysign(size[1] - inset, d[2])
    elif kind == CAPSULE:
        x, y, z = 0.0, 0.0, math.copysign(size[1], d[2])
    else:
        x, y, z = 0.0, 0.0, 0.0
    return add(triple(g.pos), turned(g.rot, (x, y, z)))


@kernel
def rounding(g):
    """Radius of the ball that is swept over the feature of a shape: 0 where the feature is the surface."""
    return g.size[0] if g.kind in (SPHERE, CAPSULE) else 0.0


@kernel
def feature(g, n, out):
    """Corners of the face, edge or point of a shape that looks along the unit vector n; gives their number.

    Three or more corners are a flat face in turning order, two are an edge. Each holds the support point
    along n, so that the least gap along n is at one of the corners.
    """
    kind, size = g.kind, g.size
    d = turned_back(g.rot, n)
    count = 1
    if kind == BOX:
        a = 0
        if abs(d[1]) > abs(d[a]):
            a = 1
        if abs(d[2]) > abs(d[a]):
            a = 2
        b, c = (a + 1) % 3, (a + 2) % 3
        for k in range(4):
            out[k, a] = math.copysign(size[a], d[a])
            out[k, b] = size[b] if k in (0, 3) else -size[b]
            out[k, c] = size[c] if k < 2 else -size[c]
        count = 4
    elif kind == CYLINDER:
        across = math.sqrt(d[0] * d[0] + d[1] * d[1])
        x = d[0] / across if across > 1e-9 else 1.0
        y = d[1] / across if across > 1e-9 else 0.0
        if abs(d[2]) < 0.5:
            for k in range(2):
                out[k, 0], out[k, 1] = size[0] * x, size[0] * y
                out[k, 2] = size[1] if k == 0 else -size[1]
            count = 2
        else:
            for k in range(CAP_CORNERS):
                angle = 2.0 * math.pi * k / CAP_CORNERS
                c1, s1 = size[0] * math.cos(angle), size[0] * math.sin(angle)
                out[k, 0], out[k, 1] = c1 * x - s1 * y, c1 * y + s1 * x
                out[k, 2] = math.copysign(size[1], d[2])
            count = CAP_CORNERS
    elif kind == CAPSULE:
        if abs(d[2]) < 0.5:
            put(out[0], (0.0, 0.0, size[1]))
            put(out[1], (0.0, 0.0, -size[1]))
            count = 2
        else:
            put(out[0], (0.0, 0.0, math.copysign(size[1], d[2])))
    else:
        put(out[0], (0.0, 0.0, 0.0))
    for k in range(count):
        put(out[k], add(triple(g.pos), turned(g.rot, triple(out[k]))))
    return count


@kernel
def bounding_box(g, margin):
    """Set the box along the world axes around a shape, widened by a margin."""
    kind, size, rot = g.kind, g.size, g.rot
    for r in range(3):
        if kind == PLANE:
            half = math.inf
        elif kind == BOX:
            half = abs(rot[r, 0]) * size[0] + abs(rot[r, 1]) * size[1] + abs(rot[r, 2]) * size[2]
        elif kind == CYLINDER:
            half = size[0] * math.sqrt(max(0.0, 1.0 - rot[r, 2] * rot[r, 2])) + size[1] * abs(rot[r, 2])
        elif kind == CAPSULE:
            half = size[0] + size[1] * abs(rot[r, 2])
        else:
            half = size[0]
        g.box[r] = g.pos[r] - half - margin
        g.box[3 + r] = g.pos[r] + half + margin
