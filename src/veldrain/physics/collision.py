"""From poses to contacts: boxes along one axis find near pairs, then each pair gives its contact points.

Every pair goes one way: normal from the cores, gap and points from the features (see ``outlines`` and
``patches``); a plane is its own core and its own feature. A contact is made before the shapes touch, as soon
as they could within one step, so that nothing fast passes through something thin.
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.nearest import nearest_cores
from veldrain.physics.outlines import bounding_box, feature, rounding
from veldrain.physics.patches import face_height, overlap, spread
from veldrain.physics.plant import BOX, PLANE, STATUS_FINE, STATUS_FULL
from veldrain.physics.spatial import (
    across,
    add,
    dot,
    minus,
    multiply,
    put,
    scaled,
    triple,
    turned,
    turned_back,
)
from veldrain.physics.trees import point_velocity

NEAR = 5e-4  # contacts are kept up to this gap (m), so that a body at rest keeps all of its contacts


@kernel
def place_geoms(nodes, geoms):
    """World poses of all shapes that move."""
    for k in range(len(geoms)):
        g = geoms[k]
        if g.node >= 0:
            n = nodes[g.node]
            multiply(n.rot, g.turn, g.rot)
            put(g.pos, add(triple(n.pos), turned(n.rot, triple(g.place))))


@kernel
def bound_geoms(trees, nodes, geoms, h):
    """Boxes around all shapes, wide enough for the coming step."""
    for k in range(len(geoms)):
        g = geoms[k]
        margin = NEAR
        if g.node >= 0:
            v = point_velocity(trees, nodes, g.node, triple(g.pos))
            w = triple(nodes[g.node].twist)
            margin += h * (math.sqrt(dot(v, v)) + math.sqrt(dot(w, w)) * (g.size[0] + g.size[1] + g.size[2]))
        bounding_box(g, margin)


@kernel
def is_skipped(skipped, key):
    """True for a pair that never touches."""
    low, high = 0, len(skipped)
    while low < high:
        middle = (low + high) // 2
        if skipped[middle] < key:
            low = middle + 1
        else:
            high = middle
    return low < len(skipped) and skipped[low] == key


@kernel
def are_near(a, b):
    """True where two shapes may touch: they are made to, on different nodes, and their boxes overlap."""
    return (
        a.touch == 1
        and b.touch == 1
        and a.node != b.node
        and a.box[1] <= b.box[4]
        and b.box[1] <= a.box[4]
        and a.box[2] <= b.box[5]
        and b.box[2] <= a.box[5]
    )


@kernel
def near_pairs(geoms, skipped, order, pairs):
    """Sorted keys of the pairs whose boxes overlap: a sweep along x over boxes kept in order.

    The order hardly changes from step to step, so that sorting by insertion costs next to nothing.
    Gives the number of pairs, −1 when there is no room for them.
    """
    G = len(geoms)
    for k in range(1, G):
        g, j = order[k], k - 1
        low = geoms[g].box[0]
        while j >= 0 and geoms[order[j]].box[0] > low:
            order[j + 1] = order[j]
            j -= 1
        order[j + 1] = g
    count = 0
    for k in range(G):
        a = order[k]
        high = geoms[a].box[3]
        for j in range(k + 1, G):
            b = order[j]
            if geoms[b].box[0] > high:
                break
            key = min(a, b) * G + max(a, b)
            if are_near(geoms[a], geoms[b]) and not is_skipped(skipped, key):
                if count == len(pairs):
                    return -1
                pairs[count] = key
                count += 1
    sort_keys(pairs, count)
    return count


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


@kernel
def pair_normal(a, b, poly):
    """Normal from b to a, and a point between them for where the features do not overlap."""
    # Deeper cores are tried where the first ones overlap already: shapes that start inside each other.
    for depth in (0.0, 0.5, 0.95):
        inset_a = max(a.core, depth * least_half(a))
        inset_b = max(b.core, depth * least_half(b))
        distance, n, p, q = nearest_cores(a, inset_a, b, inset_b, poly)
        if distance > 0.0:
            return n, scaled(add(p, q), 0.5)
    d = minus(triple(a.pos), triple(b.pos))
    length = math.sqrt(dot(d, d))
    if length < 1e-9:
        return (0.0, 0.0, 1.0), triple(a.pos)
    return scaled(d, 1.0 / length), scaled(add(triple(a.pos), triple(b.pos)), 0.5)


@kernel
def least_half(g):
    """Half the least thickness of a box or cylinder."""
    return min(g.size[0], g.size[1], g.size[2]) if g.kind == BOX else min(g.size[0], g.size[1])


@kernel
def pair_points(a, b, poly):
    """Contact points of two shapes: number and normal; the points are left in poly[4], the gaps in poly[5]."""
    A, B, points, gaps = poly[0], poly[1], poly[4], poly[5, :, 0]
    round_a = rounding(a)
    if b.kind == PLANE:
        n = (b.rot[0, 2], b.rot[1, 2], b.rot[2, 2])
        count = feature(a, scaled(n, -1.0), A)
        for k in range(count):
            gaps[k] = dot(n, minus(triple(A[k]), triple(b.pos))) - round_a
            put(points[k], minus(triple(A[k]), scaled(n, round_a + 0.5 * gaps[k])))
        return count, n
    n, between = pair_normal(a, b, poly)
    count_a = feature(a, scaled(n, -1.0), A)
    count_b = feature(b, n, B)
    round_b = rounding(b)
    count = overlap(A, count_a, B, count_b, n, a.core + b.core, points, poly[3])
    if count == 0:
        # A point or a corner is in it: the gap is between the outermost points along the normal.
        low, high = math.inf, -math.inf
        for k in range(count_a):
            low = min(low, dot(n, triple(A[k])))
        for k in range(count_b):
            high = max(high, dot(n, triple(B[k])))
        low, high = low - round_a, high + round_b
        gaps[0] = low - high
        put(points[0], add(between, scaled(n, 0.5 * (low + high) - dot(n, between))))
        return 1, n
    for k in range(count):
        p = triple(points[k])
        low = face_height(A, count_a, n, p) - round_a
        high = face_height(B, count_b, n, p) + round_b
        gaps[k] = low - high
        put(points[k], add(p, scaled(n, 0.5 * (low + high) - dot(n, p))))
    return count, n


@kernel
def pair_surface(a, b, patches, point, out):
    """out = friction, restitution and rolling of two surfaces that meet at a point."""
    one, other = surface_at(a, patches, point), surface_at(b, patches, point)
    out[0] = math.sqrt(one[0] * other[0])
    out[1], out[2] = max(one[1], other[1]), max(one[2], other[2])


@kernel
def surface_at(g, patches, point):
    """What a shape feels like at a point: the last patch around it where the shape is fixed in the world."""
    if g.node < 0:
        for k in range(len(patches) - 1, -1, -1):
            patch = patches[k]
            d = turned_back(patch.turn, minus(point, triple(patch.place)))
            if abs(d[0]) <= patch.size[0] and abs(d[1]) <= patch.size[1] and abs(d[2]) <= patch.size[2]:
                return triple(patch.surface)
    return triple(g.surface)


@kernel
def find_contacts(counts, trees, nodes, geoms, patches, skipped, order, pairs, poly, chosen, contacts, h):
    """All contacts of the coming step, in the order of their keys."""
    bound_geoms(trees, nodes, geoms, h)
    found = near_pairs(geoms, skipped, order, pairs)
    G = len(geoms)
    counts[0].contacts = 0
    if found < 0:
        return STATUS_FULL
    for k in range(found):
        a, b = pairs[k] // G, pairs[k] % G
        if geoms[a].kind == PLANE:
            a, b = b, a
        if not add_contacts(counts[0], trees, nodes, geoms[a], geoms[b], pairs[k], patches, poly, chosen, contacts, h):
            return STATUS_FULL
    return STATUS_FINE


@kernel
def add_contacts(count, trees, nodes, a, b, key, patches, poly, chosen, contacts, h):
    """Take over the contacts of one pair; False when there is no room."""
    found, n = pair_points(a, b, poly)
    points, gaps = poly[4], poly[5, :, 0]
    found = spread(points, gaps, found, chosen)
    for j in range(found):
        p, gap = triple(points[chosen[j]]), gaps[chosen[j]]
        v = dot(n, minus(point_velocity(trees, nodes, a.node, p), point_velocity(trees, nodes, b.node, p)))
        if gap > NEAR + h * max(0.0, -2.0 * v):
            continue
        if count.contacts == len(contacts):
            return False
        c = contacts[count.contacts]
        c.key, c.gap, c.node_a, c.node_b = key, gap, a.node, b.node
        t1, t2 = across(n)
        put(c.point, p)
        put(c.frame[0], n)
        put(c.frame[1], t1)
        put(c.frame[2], t2)
        pair_surface(a, b, patches, p, c.surface)
        count.contacts += 1
    return True


@kernel
def pair_clearance(a, b, poly):
    """Least gap between two shapes, the second of which may be a plane; negative: overlap."""
    if b.kind != PLANE:
        distance, _, _, _ = nearest_cores(a, 0.0, b, 0.0, poly)
        distance -= rounding(a) + rounding(b)
        if distance > 0.0:
            return distance
    found, _ = pair_points(a, b, poly)
    least = math.inf
    for k in range(found):
        least = min(least, poly[5, k, 0])
    return least
