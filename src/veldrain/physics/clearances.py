"""How far apart things are."""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel
from veldrain.physics.collision import pair_clearance
from veldrain.physics.plant import MESH, PLANE
from veldrain.physics.triangles import set_probe


@kernel
def shape_clearance(a, b, probe, poly, corners, faces):
    """Least gap between two shapes; b may be a plane, or a mesh, whose triangles are looked at one by one."""
    if b.kind != MESH:
        return pair_clearance(a, b, poly, corners, faces)
    least = math.inf
    for f in range(b.first_face, b.end_face):
        set_probe(probe, b, faces[f], corners, faces[0])
        least = min(least, pair_clearance(a, probe, poly, corners, faces))
    return least


@entry
def clearance(geoms, probe, poly, corners, faces, side_a, side_b):
    """Least gap between the touchable shapes of two sides, by their numbers; negative: overlap."""
    least = math.inf
    for i in range(len(side_a)):
        for j in range(len(side_b)):
            a, b = geoms[side_a[i]], geoms[side_b[j]]
            if a.kind == PLANE or a.kind == MESH:
                a, b = b, a
            if a.kind != PLANE and a.kind != MESH:
                least = min(least, shape_clearance(a, b, probe[0], poly, corners, faces))
    return least
