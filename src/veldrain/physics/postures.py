"""Postures one after another: which of them bring shapes too near to each other.

For planners and for lists of pairs that touch: nothing moves, only coordinates are set, shapes placed, and pairs
looked at.
"""

from __future__ import annotations

from veldrain.kernel import entry, kernel
from veldrain.physics.collision import pair_clearance
from veldrain.physics.grounds import cells_in, set_ground_face
from veldrain.physics.outlines import bounding_box
from veldrain.physics.pairing import boxes_meet, place_geoms
from veldrain.physics.placing import move_trees
from veldrain.physics.plant import MESH, NOW
from veldrain.physics.triangles import box_in, is_in_reach, next_branch, set_probe


@kernel
def set_posture(a, coords, row, margin):
    """Set coordinates, and place the shapes of what moves with boxes as wide as the margin."""
    for k in range(len(coords)):
        a.q[coords[k]] = row[k]
    move_trees(a.trees, a.nodes, a.q, a.speeds[NOW])
    place_geoms(a.nodes, a.geoms, a.order)
    for k in a.order:
        bounding_box(a.geoms[k], margin, a.corners)


@kernel
def is_near_ground(a, one, ground, low, high, margin):
    """The same for a height field."""
    first, last, left, right = cells_in(ground, low, high)
    for i in range(first, last):
        for j in range(left, right):
            for half in range(2):
                if set_ground_face(ground, a.heights, i, j, half, a.faces[1]) and is_in_reach(a.faces[1], low, high):
                    set_probe(a.probe[0], ground, a.faces[1], a.corners, a.faces[0])
                    if pair_clearance(one, a.probe[0], a.poly, a.corners, a.faces) < margin:
                        return True
    return False


@kernel
def are_closer(a, one, other, margin):
    """True where two shapes have less than a margin between them."""
    if not boxes_meet(one.box, other.box):
        return False
    if other.kind != MESH:
        return pair_clearance(one, other, a.poly, a.corners, a.faces) < margin
    low, high = box_in(one, other)
    if other.rows > 0:
        return is_near_ground(a, one, other, low, high, margin)
    k, end = other.branch, a.branches[other.branch].skip
    while k < end:
        near, k, first, last = next_branch(a.branches, k, low, high)
        if near:
            for f in range(first, last):
                if not is_in_reach(a.triangles[f], low, high):
                    continue
                set_probe(a.probe[0], other, a.triangles[f], a.corners, a.faces[0])
                if pair_clearance(one, a.probe[0], a.poly, a.corners, a.faces) < margin:
                    return True
    return False


@entry
def meetings(a, coords, rows, pairs, margin, found, first_only):
    """Which of the pairs (k, 2) each of some postures (m, n) brings closer than a margin: the first, −1 for none.

    The second of a pair may be a plane or a mesh. ``first_only`` ends with the first posture that brings one.
    """
    for m in range(len(rows)):
        set_posture(a, coords, rows[m], margin)
        found[m] = -1
        for k in range(len(pairs)):
            if are_closer(a, a.geoms[pairs[k, 0]], a.geoms[pairs[k, 1]], margin):
                found[m] = k
                break
        if first_only and found[m] >= 0:
            return
