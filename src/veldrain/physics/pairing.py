"""Pairs of shapes near enough to touch in the coming step: boxes that are swept, and a tree over what is fixed."""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel
from veldrain.physics.outlines import bounding_box
from veldrain.physics.responses import point_velocity
from veldrain.physics.spatial import add, dot, multiply, put, triple, turned

NEAR = 5e-4  # contacts are kept up to this gap (m), so that a body at rest keeps all of its contacts


@kernel
def place_geoms(nodes, geoms, movers):
    """World poses of all shapes that move."""
    for k in range(len(movers)):
        g = geoms[movers[k]]
        n = nodes[g.node]
        multiply(n.rot, g.turn, g.rot)
        put(g.pos, add(triple(n.pos), turned(n.rot, triple(g.place))))


@kernel
def reach(trees, nodes, g, h):
    """How far any part of a shape that moves may come in a step, and what counts as near beyond that."""
    v = point_velocity(trees, nodes, g.node, triple(g.pos))
    w = triple(nodes[g.node].twist)
    spin = math.sqrt(dot(w, w)) * (g.size[0] + g.size[1] + g.size[2])
    return NEAR + h * (math.sqrt(dot(v, v)) + spin)


@kernel
def bound_geoms(trees, nodes, geoms, movers, corners, h):
    """Boxes around all shapes that move, wide enough for the coming step."""
    for k in range(len(movers)):
        g = geoms[movers[k]]
        bounding_box(g, reach(trees, nodes, g, h), corners)


@entry
def bound_still(geoms, corners):
    """Boxes around what is fixed in the world: it has them for good."""
    for k in range(len(geoms)):
        if geoms[k].node < 0:
            bounding_box(geoms[k], NEAR, corners)


@kernel
def is_among(keys, key):
    """True for a key among sorted ones."""
    low, high = 0, len(keys)
    while low < high:
        middle = (low + high) // 2
        if keys[middle] < key:
            low = middle + 1
        else:
            high = middle
    return low < len(keys) and keys[low] == key


@kernel
def boxes_meet(a, b):
    """True where two boxes (6,) overlap."""
    return a[0] <= b[3] and b[0] <= a[3] and a[1] <= b[4] and b[1] <= a[4] and a[2] <= b[5] and b[2] <= a[5]


@kernel
def note_pair(geoms, skipped, watched, a, b, pairs, count):
    """Note a pair if it may touch; gives the number of pairs, −1 when there is no room for it."""
    key = min(a, b) * len(geoms) + max(a, b)
    near = geoms[a].node != geoms[b].node and boxes_meet(geoms[a].box, geoms[b].box)
    stiff = geoms[a].stiff == 1 and geoms[b].stiff == 1
    if not near or (stiff and not is_among(watched, key)) or is_among(skipped, key):
        return count
    if count == len(pairs):
        return -1
    pairs[count] = key
    return count + 1


@kernel
def widest_axis(geoms, order, now):
    """The axis along which things are spread most; another than now only where they are spread twice as far."""
    best, most, usual = now, 0.0, 0.0
    for r in range(3):
        total = squares = 0.0
        for k in order:
            middle = geoms[k].box[r] + geoms[k].box[3 + r]
            total += middle
            squares += middle * middle
        spread = squares - total * total / max(len(order), 1)
        if r == now:
            usual = spread
        if spread > most:
            best, most = r, spread
    return best if most > 4.0 * usual else now


@kernel
def near_pairs(count, geoms, skipped, watched, order, still, boxes, pairs):
    """Sorted keys of the pairs whose boxes overlap: a sweep along an axis over the boxes of what moves, kept in order.

    The order hardly changes from step to step, so that sorting by insertion costs next to nothing. ``still``: the
    shapes fixed in the world, as the leaves of the tree ``boxes`` name them. Gives the number of pairs, −1 when there
    is no room for them.
    """
    axis = count.axis = widest_axis(geoms, order, count.axis)
    for k in range(1, len(order)):
        g, j = order[k], k - 1
        low = geoms[g].box[axis]
        while j >= 0 and geoms[order[j]].box[axis] > low:
            order[j + 1] = order[j]
            j -= 1
        order[j + 1] = g
    found = 0
    for k in range(len(order)):
        a = order[k]
        high = geoms[a].box[3 + axis]
        for j in range(k + 1, len(order)):
            if geoms[order[j]].box[axis] > high:
                break
            found = note_pair(geoms, skipped, watched, a, order[j], pairs, found)
            if found < 0:
                return -1
        at = 0
        while at < len(boxes):
            branch = boxes[at]
            if not boxes_meet(geoms[a].box, branch.box):
                at = branch.skip
                continue
            at += 1
            for j in range(branch.first, branch.end):
                found = note_pair(geoms, skipped, watched, a, still[j], pairs, found)
                if found < 0:
                    return -1
    sort_keys(pairs, found)
    return found


@kernel
def sort_keys(keys, count):
    """Sort the first keys in place (heapsort: no worst case, nothing allocated)."""
    end = count
    start = count // 2
    while end > 1:
        if start > 0:
            start -= 1
        else:
            end -= 1
            keys[end], keys[0] = keys[0], keys[end]
        parent = start
        child = 2 * parent + 1
        while child < end:
            if child + 1 < end and keys[child] < keys[child + 1]:
                child += 1
            if keys[parent] >= keys[child]:
                break
            keys[parent], keys[child] = keys[child], keys[parent]
            parent, child = child, 2 * child + 1
