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
from veldrain.physics.spatial import across, add, dot, minus, multiply, scaled, triple, turned, turned_back
from veldrain.physics.trees import point_velocity

NEAR = 5e-4  # contacts are kept up to this gap (m), so that a body at rest keeps all of its contacts


@kernel
def place_geoms(plant, work):  # type: ignore[no-untyped-def]
    """World poses of all shapes that move."""
    for g in range(len(plant.geom_kind)):
        i = plant.geom_node[g]
        if i >= 0:
            multiply(work.rot[i], plant.geom_turn[g], work.grot[g])
            p = add(triple(work.pos[i]), turned(work.rot[i], triple(plant.geom_place[g])))
            work.gpos[g, 0], work.gpos[g, 1], work.gpos[g, 2] = p


@kernel
def bound_geoms(plant, work, h):  # type: ignore[no-untyped-def]
    """Boxes around all shapes, wide enough for the coming step."""
    for g in range(len(plant.geom_kind)):
        margin = NEAR
        i = plant.geom_node[g]
        if i >= 0:
            v = point_velocity(plant, work, i, triple(work.gpos[g]))
            w = work.twist[i]
            spin = math.sqrt(w[0] * w[0] + w[1] * w[1] + w[2] * w[2])
            size = plant.geom_size[g]
            margin += h * (math.sqrt(dot(v, v)) + spin * (size[0] + size[1] + size[2]))
        bounding_box(plant.geom_kind[g], plant.geom_size[g], work.gpos[g], work.grot[g], margin, work.gbox[g])


@kernel
def is_skipped(plant, key):  # type: ignore[no-untyped-def]
    """True for a pair that never touches."""
    low, high = 0, len(plant.skipped)
    while low < high:
        middle = (low + high) // 2
        if plant.skipped[middle] < key:
            low = middle + 1
        else:
            high = middle
    return low < len(plant.skipped) and plant.skipped[low] == key


@kernel
def near_pairs(plant, work):  # type: ignore[no-untyped-def]
    """Sorted keys of the pairs whose boxes overlap: a sweep along x over boxes kept in order.

    The order hardly changes from step to step, so that sorting by insertion costs next to nothing.
    Gives the number of pairs, −1 when there is no room for them.
    """
    order, box, G = work.order, work.gbox, len(plant.geom_kind)
    for k in range(1, G):
        g, j = order[k], k - 1
        while j >= 0 and box[order[j], 0] > box[g, 0]:
            order[j + 1] = order[j]
            j -= 1
        order[j + 1] = g
    count = 0
    for k in range(G):
        a = order[k]
        if plant.geom_touch[a] == 0:
            continue
        for j in range(k + 1, G):
            b = order[j]
            if box[b, 0] > box[a, 3]:
                break
            if (
                plant.geom_touch[b] == 0
                or plant.geom_node[a] == plant.geom_node[b]
                or box[a, 1] > box[b, 4]
                or box[b, 1] > box[a, 4]
                or box[a, 2] > box[b, 5]
                or box[b, 2] > box[a, 5]
            ):
                continue
            key = min(a, b) * G + max(a, b)
            if is_skipped(plant, key):
                continue
            if count == len(work.pairs):
                return -1
            work.pairs[count] = key
            count += 1
    work.pairs[:count].sort()
    return count


@kernel
def pair_normal(plant, work, a, b):  # type: ignore[no-untyped-def]
    """Normal from b to a, and a point between them where the features do not overlap."""
    kind_a, size_a, pos_a, rot_a = plant.geom_kind[a], plant.geom_size[a], work.gpos[a], work.grot[a]
    kind_b, size_b, pos_b, rot_b = plant.geom_kind[b], plant.geom_size[b], work.gpos[b], work.grot[b]
    # Deeper cores are tried where the first ones overlap already: shapes that start inside each other.
    for depth in (1.0, 0.5, 0.95):
        inset_a, inset_b = plant.geom_core[a], plant.geom_core[b]
        if depth < 1.0:
            inset_a, inset_b = depth * least_half(size_a, kind_a), depth * least_half(size_b, kind_b)
        distance, n, p, q = nearest_cores(
            kind_a, size_a, inset_a, pos_a, rot_a, kind_b, size_b, inset_b, pos_b, rot_b, work.poly
        )
        if distance > 0.0:
            return n, scaled(add(p, q), 0.5)
    d = minus(triple(pos_a), triple(pos_b))
    length = math.sqrt(dot(d, d))
    if length < 1e-9:
        return (0.0, 0.0, 1.0), triple(pos_a)
    return scaled(d, 1.0 / length), scaled(add(triple(pos_a), triple(pos_b)), 0.5)


@kernel
def least_half(size, kind):  # type: ignore[no-untyped-def]
    """Half the least thickness of a box or cylinder."""
    return min(size[0], size[1], size[2]) if kind == BOX else min(size[0], size[1])


@kernel
def pair_points(plant, work, a, b):  # type: ignore[no-untyped-def]
    """Contact points of two shapes: number and normal; points and gaps are left in work.poly[4] and [5]."""
    room = work.poly
    A, B, points, gaps = room[0], room[1], room[4], room[5, :, 0]
    kind_a, size_a, kind_b, size_b = plant.geom_kind[a], plant.geom_size[a], plant.geom_kind[b], plant.geom_size[b]
    round_a = rounding(kind_a, size_a)
    if kind_b == PLANE:
        n = (work.grot[b, 0, 2], work.grot[b, 1, 2], work.grot[b, 2, 2])
        count = feature(kind_a, size_a, work.gpos[a], work.grot[a], scaled(n, -1.0), A)
        for k in range(count):
            gaps[k] = dot(n, minus(triple(A[k]), triple(work.gpos[b]))) - round_a
            p = minus(triple(A[k]), scaled(n, round_a + 0.5 * gaps[k]))
            points[k, 0], points[k, 1], points[k, 2] = p
        return count, n
    n, between = pair_normal(plant, work, a, b)
    count_a = feature(kind_a, size_a, work.gpos[a], work.grot[a], scaled(n, -1.0), A)
    count_b = feature(kind_b, size_b, work.gpos[b], work.grot[b], n, B)
    round_b = rounding(kind_b, size_b)
    slack = plant.geom_core[a] + plant.geom_core[b]
    count = overlap(A, count_a, B, count_b, n, slack, points, room[3])
    if count == 0:
        # A point or a corner is in it: the gap is between the outermost points along the normal.
        low, high = math.inf, -math.inf
        for k in range(count_a):
            low = min(low, dot(n, triple(A[k])))
        for k in range(count_b):
            high = max(high, dot(n, triple(B[k])))
        count, low, high = 1, low - round_a, high + round_b
        gaps[0] = low - high
        p = add(between, scaled(n, 0.5 * (low + high) - dot(n, between)))
        points[0, 0], points[0, 1], points[0, 2] = p
        return count, n
    for k in range(count):
        p = triple(points[k])
        low = face_height(A, count_a, n, p) - round_a
        high = face_height(B, count_b, n, p) + round_b
        gaps[k] = low - high
        p = add(p, scaled(n, 0.5 * (low + high) - dot(n, p)))
        points[k, 0], points[k, 1], points[k, 2] = p
    return count, n


@kernel
def pair_surface(plant, work, a, b, point, out):  # type: ignore[no-untyped-def]
    """out = friction, restitution and rolling of two surfaces that meet at a point."""
    friction, out[1], out[2] = 1.0, 0.0, 0.0
    for g in (a, b):
        surface = plant.geom_surface[g]
        if plant.geom_node[g] < 0:
            for k in range(len(plant.patch_size)):
                d = turned_back(plant.patch_turn[k], minus(point, triple(plant.patch_place[k])))
                size = plant.patch_size[k]
                if abs(d[0]) <= size[0] and abs(d[1]) <= size[1] and abs(d[2]) <= size[2]:
                    surface = plant.patch_surface[k]
        friction *= surface[0]
        out[1], out[2] = max(out[1], surface[1]), max(out[2], surface[2])
    out[0] = math.sqrt(friction)


@kernel
def find_contacts(plant, state, work, h):  # type: ignore[no-untyped-def]
    """All contacts of the coming step, in work.c_*, in the order of their keys."""
    bound_geoms(plant, work, h)
    pairs = near_pairs(plant, work)
    G = len(plant.geom_kind)
    work.counts[0] = 0
    if pairs < 0:
        return STATUS_FULL
    for k in range(pairs):
        key = work.pairs[k]
        if not add_contacts(plant, work, key // G, key % G, key, h):
            return STATUS_FULL
    return STATUS_FINE


@kernel
def add_contacts(plant, work, a, b, key, h):  # type: ignore[no-untyped-def]
    """Take over the contacts of one pair; False when there is no room."""
    if plant.geom_kind[a] == PLANE:
        a, b = b, a
    if plant.geom_kind[a] == PLANE:
        return True
    found, n = pair_points(plant, work, a, b)
    points, gaps, chosen = work.poly[4], work.poly[5, :, 0], work.chosen
    found = spread(points, gaps, found, chosen)
    node_a, node_b = plant.geom_node[a], plant.geom_node[b]
    for j in range(found):
        p, gap = triple(points[chosen[j]]), gaps[chosen[j]]
        v = dot(n, minus(point_velocity(plant, work, node_a, p), point_velocity(plant, work, node_b, p)))
        if gap > NEAR + h * max(0.0, -2.0 * v):
            continue
        c = work.counts[0]
        if c == len(work.c_key):
            return False
        work.c_key[c], work.c_gap[c] = key, gap
        work.c_node[c, 0], work.c_node[c, 1] = node_a, node_b
        t1, t2 = across(n)
        for r in range(3):
            work.c_point[c, r] = p[r]
            work.c_frame[c, 0, r], work.c_frame[c, 1, r], work.c_frame[c, 2, r] = n[r], t1[r], t2[r]
        pair_surface(plant, work, a, b, p, work.c_surface[c])
        work.counts[0] = c + 1
    return True


@kernel
def clearance(plant, work, side_a, side_b):  # type: ignore[no-untyped-def]
    """Least gap between the touchable shapes of two sides (arrays (G,), 1: belongs); negative: overlap."""
    least = math.inf
    for a in range(len(side_a)):
        for b in range(len(side_b)):
            if side_a[a] == 1 and side_b[b] == 1 and plant.geom_touch[a] == 1 and plant.geom_touch[b] == 1:
                x, y = (b, a) if plant.geom_kind[a] == PLANE else (a, b)
                if plant.geom_kind[x] == PLANE:
                    continue
                least = min(least, pair_clearance(plant, work, x, y))
    return least


@kernel
def pair_clearance(plant, work, a, b):  # type: ignore[no-untyped-def]
    """Least gap between two shapes, the second of which may be a plane; negative: overlap."""
    kind_a, size_a, kind_b, size_b = plant.geom_kind[a], plant.geom_size[a], plant.geom_kind[b], plant.geom_size[b]
    if kind_b != PLANE:
        distance, _, _, _ = nearest_cores(
            kind_a, size_a, 0.0, work.gpos[a], work.grot[a], kind_b, size_b, 0.0, work.gpos[b], work.grot[b], work.poly
        )
        distance -= rounding(kind_a, size_a) + rounding(kind_b, size_b)
        if distance > 0.0:
            return distance
    found, _ = pair_points(plant, work, a, b)
    least = math.inf
    for k in range(found):
        least = min(least, work.poly[5, k, 0])
    return least
