"""What collision needs to know of each shape: its core, its support point and its near feature.

Contact normals come from *cores*: the shapes shrunk by a small depth. Two shapes that touch have cores that
are apart, so that the direction between them is well defined where the distance of the shapes themselves is
zero. The gap is then measured between the true faces, edges and corners along that normal.

A new convex shape needs a branch in each of the functions here and one in ``rays``, and nothing else in physics/.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import (
    BOX,
    CAPSULE,
    CONE,
    CYLINDER,
    ELLIPSOID,
    HULL,
    MESH,
    MOST_CORNERS,
    NEAR,
    PLANE,
    SPHERE,
)
from veldrain.physics.spatial import add, dot, minus, put, scaled, triple, turned, turned_back

CAP_CORNERS = 8  # corners of the polygon that stands for the flat end of a cylinder


@kernel
def cell_of(d, divided):
    """Where a direction pierces the cube of directions: a side, a row and a column of it, as one number."""
    a = 0
    if abs(d[1]) > abs(d[a]):
        a = 1
    if abs(d[2]) > abs(d[a]):
        a = 2
    if divided == 0 or d[a] == 0.0:
        return 0
    u, v = d[(a + 1) % 3] / d[a], d[(a + 2) % 3] / d[a]
    row = min(int(0.5 * (u + 1.0) * divided), divided - 1)
    column = min(int(0.5 * (v + 1.0) * divided), divided - 1)
    return ((2 * a + (1 if d[a] > 0.0 else 0)) * divided + row) * divided + column


@kernel
def farthest(g, d, corners):
    """Row of a hull's corner that lies farthest along a direction of its own frame.

    It is climbed to along the edges, which finds it since the hull is convex, from a corner that lies near: so many
    corners cost little more than few.
    """
    first = g.first_corner
    best = first + corners[first + cell_of(d, int(g.size[2]))].start
    most = dot(triple(corners[best].at), d)
    climbs = True
    while climbs:
        climbs = False
        row = best
        while row >= 0:
            c = corners[row]
            for k in range(NEAR):
                if c.near[k] < 0:
                    break
                along = dot(triple(corners[first + c.near[k]].at), d)
                if along > most:
                    best, most, climbs = first + c.near[k], along, True
            row = first + c.more if c.more >= 0 else -1
    return best


@kernel
def support(g, inset, direction, corners):
    """The world point of a shape, shrunk by ``inset``, that lies farthest along a world direction.

    Spheres and capsules are shrunk to their centre and middle line, whatever the inset; cones and hulls shrink
    towards the middle of a ball inside them, so that all their sides move in by the inset at least.
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
    elif kind == CONE:
        across, keep = math.sqrt(d[0] * d[0] + d[1] * d[1]), 1.0 - inset / size[2]
        middle = size[2] - size[1]  # of the ball inside
        x, y, z = 0.0, 0.0, middle + keep * (size[1] - middle)
        if 2.0 * size[1] * d[2] < size[0] * across:
            scale = keep * size[0] / across if across > 0.0 else 0.0
            x, y, z = scale * d[0], scale * d[1], middle - keep * size[2]
    elif kind == ELLIPSOID:
        x, y, z = size[0] - inset, size[1] - inset, size[2] - inset
        scale = 1.0 / math.sqrt(x * x * d[0] * d[0] + y * y * d[1] * d[1] + z * z * d[2] * d[2] + 1e-300)
        x, y, z = x * x * d[0] * scale, y * y * d[1] * scale, z * z * d[2] * scale
    elif kind == HULL:
        keep = 1.0 - inset / size[0]
        x, y, z = scaled(triple(corners[farthest(g, d, corners)].at), keep)
    else:
        x, y, z = 0.0, 0.0, 0.0
    return add(triple(g.pos), turned(g.rot, (x, y, z)))


@kernel
def rounding(g):
    """Radius of the ball that is swept over the feature of a shape: 0 where the feature is the surface."""
    return g.size[0] if g.kind in (SPHERE, CAPSULE) else 0.0


@kernel
def thickness(g):
    """Half the least thickness of a shape: how far its core can be shrunk."""
    size = g.size
    if g.kind == BOX or g.kind == ELLIPSOID:
        return min(size[0], size[1], size[2])
    if g.kind == CONE:
        return size[2]
    return size[0] if g.kind == HULL else min(size[0], size[1])


@kernel
def skin(g, inset):
    """How far the surface of a shape lies from its core at most: at its corners."""
    if g.kind == SPHERE or g.kind == CAPSULE:
        return g.size[0]
    if g.kind == HULL:
        return inset * g.size[1] / g.size[0]
    if g.kind == CONE:
        return inset * 2.0 * max(g.size[0], g.size[1]) / g.size[2]
    return inset * math.sqrt(3.0)


@kernel
def cone_feature(size, d, out):
    """The same in the cone's own frame: its base, a line of its side, or a single point."""
    across, slant = math.sqrt(d[0] * d[0] + d[1] * d[1]), math.sqrt(size[0] * size[0] + 4.0 * size[1] * size[1])
    x = d[0] / across if across > 1e-9 else 1.0
    y = d[1] / across if across > 1e-9 else 0.0
    side = (2.0 * size[1] * across + size[0] * d[2]) / slant
    if -d[2] > max(side, 0.7):
        return round_face(size[0], -size[1], x, y, out)
    apex, rim = (0.0, 0.0, size[1]), (size[0] * x, size[0] * y, -size[1])
    if side > 0.9:
        put(out[0], apex)
        put(out[1], rim)
        return 2
    put(out[0], apex if 2.0 * size[1] * d[2] >= size[0] * across else rim)
    return 1


@kernel
def round_face(radius, height, x, y, out):
    """The polygon for a round face across z; one of its corners lies along (x, y)."""
    for k in range(CAP_CORNERS):
        angle = 2.0 * math.pi * k / CAP_CORNERS
        c, s = radius * math.cos(angle), radius * math.sin(angle)
        put(out[k], (c * x - s * y, c * y + s * x, height))
    return CAP_CORNERS


@kernel
def hull_feature(g, d, out, corners, faces):
    """The same in the hull's own frame: a face at the farthest corner that looks along d, else the edge or corner."""
    first = farthest(g, d, corners)
    high = dot(triple(corners[first].at), d)
    best, most, second, next_high = g.first_face, -2.0, first, -math.inf
    row = first
    while row >= 0:  # the second farthest corner lies across an edge
        c = corners[row]
        for k in range(NEAR):
            if c.faces[k] >= 0:
                along = dot(triple(faces[g.first_face + c.faces[k]].normal), d)
                if along > most:
                    best, most = g.first_face + c.faces[k], along
            if c.near[k] >= 0:
                along = dot(triple(corners[g.first_corner + c.near[k]].at), d)
                if along > next_high:
                    second, next_high = g.first_corner + c.near[k], along
        row = g.first_corner + c.more if c.more >= 0 else -1
    if most > 0.9 or g.end_face - g.first_face == 1:
        face = faces[best]
        near, least = 0, math.inf
        for k in range(face.corners):
            put(out[k], triple(face.at[k]))
            apart = minus(triple(face.at[k]), triple(corners[first].at))
            if dot(apart, apart) < least:
                near, least = k, dot(apart, apart)
        if face.corners == MOST_CORNERS:  # the face may have more corners than its row
            put(out[near], triple(corners[first].at))
        return face.corners
    put(out[0], triple(corners[first].at))
    if high - next_high > 0.05 * g.size[0]:
        return 1
    put(out[1], triple(corners[second].at))
    return 2


@kernel
def feature(g, n, out, corners, faces):
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
            count = round_face(size[0], math.copysign(size[1], d[2]), x, y, out)
    elif kind == CAPSULE:
        if abs(d[2]) < 0.5:
            put(out[0], (0.0, 0.0, size[1]))
            put(out[1], (0.0, 0.0, -size[1]))
            count = 2
        else:
            put(out[0], (0.0, 0.0, math.copysign(size[1], d[2])))
    elif kind == CONE:
        count = cone_feature(size, d, out)
    elif kind == HULL:
        count = hull_feature(g, d, out, corners, faces)
    elif kind == ELLIPSOID:
        put(out[0], support(g, 0.0, n, corners))
        return 1
    else:
        put(out[0], (0.0, 0.0, 0.0))
    for k in range(count):
        put(out[k], add(triple(g.pos), turned(g.rot, triple(out[k]))))
    return count


@kernel
def bounding_box(g, margin, corners):
    """Set the box along the world axes around a shape, widened by a margin."""
    kind, size, rot = g.kind, g.size, g.rot
    for r in range(3):
        low = high = 0.0
        if kind == PLANE:
            high = math.inf
        elif kind in (BOX, MESH):
            high = abs(rot[r, 0]) * size[0] + abs(rot[r, 1]) * size[1] + abs(rot[r, 2]) * size[2]
        elif kind == CYLINDER:
            high = size[0] * math.sqrt(max(0.0, 1.0 - rot[r, 2] * rot[r, 2])) + size[1] * abs(rot[r, 2])
        elif kind == CAPSULE:
            high = size[0] + size[1] * abs(rot[r, 2])
        elif kind == SPHERE:
            high = size[0]
        else:
            axis = (1.0 if r == 0 else 0.0, 1.0 if r == 1 else 0.0, 1.0 if r == 2 else 0.0)
            high = support(g, 0.0, axis, corners)[r] - g.pos[r]
            low = support(g, 0.0, (-axis[0], -axis[1], -axis[2]), corners)[r] - g.pos[r] + high
        g.box[r] = g.pos[r] - high + low - margin
        g.box[3 + r] = g.pos[r] + high + margin
