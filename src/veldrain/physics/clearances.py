"""How far apart things are."""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel
from veldrain.physics.collision import pair_clearance
from veldrain.physics.grounds import box_distance, cells_in, set_ground_face
from veldrain.physics.outlines import bounding_box
from veldrain.physics.plant import MESH, PLANE
from veldrain.physics.triangles import box_in, set_probe


@kernel
def shape_clearance(a, b, probe, poly, corners, faces, triangles, heights):
    """Least gap between two shapes; b may be a plane, or a mesh, whose triangles are looked at one by one."""
    if b.kind != MESH:
        return pair_clearance(a, b, poly, corners, faces)
    least = math.inf
    if b.rows > 0:  # what lies below it first, then all that could be nearer
        bounding_box(a, 0.0, corners)
        low, high = box_in(a, b)
        least = ground_clearance(a, b, probe, poly, corners, faces, heights, low, high, 0.0, math.inf)
        return ground_clearance(a, b, probe, poly, corners, faces, heights, low, high, least, least)
    for f in range(b.first_face, b.end_face):
        set_probe(probe, b, triangles[f], corners, faces[0])
        least = min(least, pair_clearance(a, probe, poly, corners, faces))
    return least


@kernel
def ground_clearance(a, ground, probe, poly, corners, faces, heights, low, high, around, least):
    """Least gap to the triangles of a height field in the cells around a box, of those that may have less."""
    reach = min(around, 1e9)
    wide = (low[0] - reach, low[1] - reach, low[2]), (high[0] + reach, high[1] + reach, high[2])
    first, last, left, right = cells_in(ground, wide[0], wide[1])
    for i in range(first, last):
        for j in range(left, right):
            for half in range(2):
                if set_ground_face(ground, heights, i, j, half, faces[1]) and box_distance(faces[1], low, high) < least:
                    set_probe(probe, ground, faces[1], corners, faces[0])
                    least = min(least, pair_clearance(a, probe, poly, corners, faces))
    return least


@entry
def clearance(geoms, probe, poly, corners, faces, triangles, heights, side_a, side_b):
    """Least gap between the touchable shapes of two sides, by their numbers; negative: overlap."""
    least = math.inf
    for i in range(len(side_a)):
        for j in range(len(side_b)):
            a, b = geoms[side_a[i]], geoms[side_b[j]]
            if a.kind == PLANE or a.kind == MESH:
                a, b = b, a
            if a.kind != PLANE and a.kind != MESH:
                least = min(least, shape_clearance(a, b, probe[0], poly, corners, faces, triangles, heights))
    return least
