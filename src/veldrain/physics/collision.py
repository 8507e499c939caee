"""From poses to contacts: boxes find near pairs, then each pair gives its contact points.

What moves is swept along one axis, and looked up in a tree of boxes over what is fixed in the world.

Every pair goes one way: normal from the cores, gap and points from the features (see ``outlines`` and
``patches``); a plane is its own core and its own feature, and a mesh is met triangle by triangle (see
``triangles``). A contact is made before the shapes touch, as soon
as they could within one step, so that nothing fast passes through something thin.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel, shared
from veldrain.physics.grounds import cells_in, set_ground_face, set_ground_leans
from veldrain.physics.nearest import nearest_cores
from veldrain.physics.outlines import feature, rounding, skin, thickness
from veldrain.physics.pairing import NEAR, bound_geoms, near_pairs, reach
from veldrain.physics.patches import face_height, overlap, spread
from veldrain.physics.plant import BOX, HULL, MESH, PLANE, STATUS_FINE, STATUS_FULL
from veldrain.physics.responses import point_velocity
from veldrain.physics.spatial import across, add, cross, dot, minus, put, scaled, six, triple, turned, turned_back
from veldrain.physics.triangles import box_in, is_beside, is_in_reach, may_lean, next_branch, set_probe, within

SAME_WAY = 1.0 - 1e-10  # cosine of a normal and a face's, from which on they are the same
MISTAKEN = 1e-6  # m: gaps and depths below this are not looked at twice


@kernel
def pair_normal(a, b, poly, corners):
    """Normal from b to a, and a point of b and one between them for where the features do not overlap."""
    # Deeper cores are tried where the first ones overlap already: shapes that start inside each other. Of a round one
    # and one with edges the round one is moved in by itself first: an edge moved in would point another way.
    a_edged, b_edged = a.kind == BOX or a.kind == HULL, b.kind == BOX or b.kind == HULL
    for turn in range(5):
        depth = 0.0 if turn == 0 else 0.5 if turn % 2 == 1 else 0.95
        alone = turn == 1 or turn == 2
        if alone and a_edged == b_edged:
            continue
        inset_a = a.core if alone and a_edged else max(a.core, depth * thickness(a))
        inset_b = b.core if alone and b_edged else max(b.core, depth * thickness(b))
        distance, n, p, q = nearest_cores(a, inset_a, b, 0.0 if b.core == 0.0 else inset_b, poly, corners)
        if distance > 0.0:
            return n, q, scaled(add(p, q), 0.5)
    d = minus(triple(a.pos), triple(b.pos))
    length = math.sqrt(dot(d, d))
    if length < 1e-9:
        return (0.0, 0.0, 1.0), triple(a.pos), triple(a.pos)
    return scaled(d, 1.0 / length), triple(b.pos), scaled(add(triple(a.pos), triple(b.pos)), 0.5)


@kernel
def plane_points(a, b, poly, corners, faces):
    """Contact points of a shape on a plane; see ``pair_points``."""
    A, points, gaps = poly[0], poly[4], poly[5, :, 0]
    n, round_a = (b.rot[0, 2], b.rot[1, 2], b.rot[2, 2]), rounding(a)
    count = feature(a, scaled(n, -1.0), A, corners, faces)
    for k in range(count):
        gaps[k] = dot(n, minus(triple(A[k]), triple(b.pos))) - round_a
        put(points[k], minus(triple(A[k]), scaled(n, round_a + 0.5 * gaps[k])))
    return count, n


@kernel
def pair_points(a, b, poly, corners, faces):
    """Contact points of two shapes: number and normal; the points are left in poly[4], the gaps in poly[5]."""
    if b.kind == PLANE:
        return plane_points(a, b, poly, corners, faces)
    n, _, between = pair_normal(a, b, poly, corners)
    return facing_points(a, b, n, between, poly, corners, faces, False)


@kernel
def triangle_points(a, triangle, poly, corners, faces):
    """The same for a triangle of a mesh, which is touched from its outer side only."""
    face, centre = faces[0], triple(triangle.pos)
    normal = triple(face.normal)
    inset = a.core
    distance, n, one, other = nearest_cores(a, inset, triangle, 0.0, poly, corners)
    upright = dot(n, normal)
    if distance > 0.0 and 0.0 < upright < 0.9999 and may_lean(face, minus(other, centre), upright):
        between = scaled(add(one, other), 0.5)
        return facing_points(a, triangle, n, between, poly, corners, faces, False)
    # A side that two triangles share in a plane or a hollow is not there: nothing can catch on it.
    count = feature(a, scaled(normal, -1.0), poly[0], corners, faces)
    foot = triple(poly[0, 0]) if count == 1 else triple(a.pos)
    height = dot(normal, minus(triple(a.pos), centre))
    between = minus(foot, scaled(normal, dot(normal, minus(foot, centre))))
    if height < -thickness(a) or (count == 1 and not within(face, minus(between, centre))):
        return 0, normal
    found, normal = facing_points(a, triangle, normal, between, poly, corners, faces, count > 1)
    gaps, deepest = poly[5, :, 0], 0.0
    for k in range(found):
        deepest = min(deepest, gaps[k])
    if deepest > -MISTAKEN:
        return found, normal
    # A depth along the triangle's own normal is believed as far as the shape can be that deep in any direction: a rod
    # in a hole lies deep below the plane of the plate around it, and does not touch it.
    for k in range(1, 3):
        if distance > 0.0:
            break
        inset = 0.5 * k * 0.95 * thickness(a)
        distance, _, _, _ = nearest_cores(a, max(inset, a.core), triangle, 0.0, poly, corners)
    if distance > 0.0 and -deepest > 2.0 * (skin(a, inset) - distance):
        return 0, normal
    return found, normal


@kernel
def free_gaps(a, b, found, poly, corners):
    """Let no gap (in poly[5]) be less than the distance of two shapes that are apart: rims stand for round ones.

    Most pairs rest on each other, or are far apart: those are not looked at.
    """
    gaps, least = poly[5, :, 0], math.inf
    for k in range(found):
        least = min(least, gaps[k])
    if b.kind == PLANE or least > NEAR or abs(least) < MISTAKEN:
        return
    distance, _, _, _ = nearest_cores(a, 0.0, b, 0.0, poly, corners)
    distance -= rounding(a) + rounding(b)
    for k in range(found):
        gaps[k] = max(gaps[k], distance) if distance > 0.0 else gaps[k]


@kernel
def facing_points(a, b, n, between, poly, corners, faces, must_face):
    """Contact points of two shapes along a normal; gives their number, and the normal made exact.

    must_face: True where there is no contact unless the near features overlap, seen along the normal.
    """
    A, B, points, gaps = poly[0], poly[1], poly[4], poly[5, :, 0]
    count_a = feature(a, scaled(n, -1.0), A, corners, faces)
    count_b = feature(b, n, B, corners, faces)
    n = along_face(B, count_b, n) if count_b > 2 else scaled(along_face(A, count_a, scaled(n, -1.0)), -1.0)
    round_a, round_b = rounding(a), rounding(b)
    count = overlap(A, count_a, B, count_b, n, a.core + b.core, points, poly[3])
    if count == 0 and must_face:
        return 0, n
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
def along_face(F, count, n):
    """The normal of a face where n is as good as that: what the cores give is off by some 1e-7 rad, and shakes."""
    if count < 3:
        return n
    m = cross(minus(triple(F[1]), triple(F[0])), minus(triple(F[2]), triple(F[0])))
    m = scaled(m, math.copysign(1.0, dot(m, n)) / math.sqrt(dot(m, m)))
    return m if dot(m, n) > SAME_WAY else n


@kernel
def pair_surface(a, b, patches, c):
    """Friction, restitution, rolling, spinning and softness of a contact, and its belts' speeds."""
    one, other, out = surface_at(a, patches, triple(c.point)), surface_at(b, patches, triple(c.point)), c.surface
    out[0] = math.sqrt(one[0] * other[0])
    for k in range(1, 4):
        out[k] = max(one[k], other[k])
    out[4] = one[4] + other[4]  # springs in series; the softer one damps
    out[5] = one[5] if one[4] >= other[4] else other[5]
    belt = minus(turned(a.rot, triple(a.belt)), turned(b.rot, triple(b.belt)))
    c.belt[0], c.belt[1] = dot(belt, triple(c.frame[1])), dot(belt, triple(c.frame[2]))


@kernel
def surface_at(g, patches, point):
    """What a shape feels like at a point: the last patch around it where the shape is fixed in the world."""
    if g.node < 0:
        for k in range(len(patches) - 1, -1, -1):
            patch = patches[k]
            d = turned_back(patch.turn, minus(point, triple(patch.place)))
            if abs(d[0]) <= patch.size[0] and abs(d[1]) <= patch.size[1] and abs(d[2]) <= patch.size[2]:
                return six(patch.surface)
    return six(g.surface)


@shared
def find_contacts(a, h):
    """All contacts of the coming step, in the order of their keys; a: the plant."""
    bound_geoms(a.trees, a.nodes, a.geoms, a.order, a.corners, h)
    count, geoms = a.counts[0], a.geoms
    found = near_pairs(count, geoms, a.skipped, a.watched, a.order, a.still, a.boxes, a.pairs)
    G = len(geoms)
    count.contacts = 0
    if found < 0:
        return STATUS_FULL
    for k in range(found):
        first, second = a.pairs[k] // G, a.pairs[k] % G
        if geoms[first].kind == PLANE or geoms[first].kind == MESH:
            first, second = second, first
        before = count.contacts
        if geoms[second].rows > 0:
            if not meet_ground(a, count, geoms[first], geoms[second], a.pairs[k], h):
                return STATUS_FULL
        elif geoms[second].kind == MESH:
            if not meet_mesh(a, count, geoms[first], geoms[second], a.pairs[k], h):
                return STATUS_FULL
        else:
            points, n = pair_points(geoms[first], geoms[second], a.poly, a.corners, a.faces)
            free_gaps(geoms[first], geoms[second], points, a.poly, a.corners)
            if not add_contacts(a, count, geoms[first], geoms[second], a.pairs[k], points, n, h):
                return STATUS_FULL
        for j in range(before, count.contacts):  # a pair's softness is shared by its points
            a.contacts[j].surface[4] *= count.contacts - before
            a.contacts[j].surface[5] /= count.contacts - before
    return STATUS_FINE


@kernel
def meet_mesh(a, count, g, mesh, key, h):
    """Take over the contacts of a shape with the triangles near it; False when there is no room."""
    probe, before, margin = a.probe[0], count.contacts, NEAR + reach(a.trees, a.nodes, g, h)
    k, end = mesh.branch, a.branches[mesh.branch].skip
    low, high = box_in(g, mesh)
    while k < end:
        near, k, first, last = next_branch(a.branches, k, low, high)
        if not near:
            continue
        for f in range(first, last):
            if not is_in_reach(a.triangles[f], low, high) or is_beside(g, mesh, a.triangles[f], margin):
                continue
            set_probe(probe, mesh, a.triangles[f], a.corners, a.faces[0])
            if not meet_probe(a, count, g, key, before, h):
                return False
    return True


@kernel
def meet_ground(a, count, g, ground, key, h):
    """The same with a height field, whose triangles are made as they are needed."""
    probe, face, before = a.probe[0], a.faces[1], count.contacts
    margin = NEAR + reach(a.trees, a.nodes, g, h)
    low, high = box_in(g, ground)
    first, last, left, right = cells_in(ground, low, high)
    for i in range(first, last):
        for j in range(left, right):
            for half in range(2):
                if not set_ground_face(ground, a.heights, i, j, half, face) or not is_in_reach(face, low, high):
                    continue
                if is_beside(g, ground, face, margin):
                    continue
                set_ground_leans(ground, a.heights, i, j, half, face)
                set_probe(probe, ground, face, a.corners, a.faces[0])
                if not meet_probe(a, count, g, key, before, h):
                    return False
    return True


@kernel
def meet_probe(a, count, g, key, before, h):
    """Take over the contacts of a shape with the probe; False when there is no room."""
    probe, newest = a.probe[0], count.contacts
    points, n = triangle_points(g, probe, a.poly, a.corners, a.faces)
    free_gaps(g, probe, points, a.poly, a.corners)
    if not add_contacts(a, count, g, probe, key, points, n, h):
        return False
    merge_contacts(count, a.contacts, before, newest)
    if before + 4 < count.contacts <= before + len(a.poly[4]):
        thin_contacts(a, count, before)
    return True


@kernel
def thin_contacts(a, count, first):
    """Keep four contacts of a pair where all of them lie on one plane: a body on a floor of many triangles."""
    points, gaps = a.poly[4], a.poly[5, :, 0]
    n = triple(a.contacts[first].frame[0])
    plane = dot(n, triple(a.contacts[first].point))
    found = count.contacts - first
    for k in range(found):
        c = a.contacts[first + k]
        if dot(triple(c.frame[0]), n) < 1.0 - 1e-9 or abs(dot(n, triple(c.point)) - 0.5 * c.gap - plane) > 1e-3:
            return
        put(points[k], triple(c.point))
        gaps[k] = c.gap
    kept = spread(points, gaps, found, a.chosen)
    for j in range(kept):  # in rising order, so that none is overwritten before it is moved
        least = j
        for k in range(j + 1, kept):
            if a.chosen[k] < a.chosen[least]:
                least = k
        a.chosen[j], a.chosen[least] = a.chosen[least], a.chosen[j]
        a.contacts[first + j] = a.contacts[first + a.chosen[j]]
    count.contacts = first + kept


@kernel
def merge_contacts(count, contacts, first, newest):
    """Drop the newest contacts that repeat one of the same pair: corners on a side that two triangles share."""
    k = max(first + 1, newest)
    while k < count.contacts:
        c = contacts[k]
        repeats = False
        for j in range(first, k):
            d = minus(triple(contacts[j].point), triple(c.point))
            if dot(d, d) < 1e-10 and dot(triple(contacts[j].frame[0]), triple(c.frame[0])) > 0.999:
                repeats = True
        if repeats:
            count.contacts -= 1
            contacts[k] = contacts[count.contacts]
        else:
            k += 1


@kernel
def add_contacts(a, count, one, other, key, found, n, h):
    """Take over the contact points of one pair; False when there is no room."""
    points, gaps, chosen = a.poly[4], a.poly[5, :, 0], a.chosen
    found = spread(points, gaps, found, chosen)
    for j in range(found):
        p, gap = triple(points[chosen[j]]), gaps[chosen[j]]
        v = point_velocity(a.trees, a.nodes, one.node, p)
        v = dot(n, minus(v, point_velocity(a.trees, a.nodes, other.node, p)))
        if gap > NEAR + h * max(0.0, -2.0 * v):
            continue
        if count.contacts == len(a.contacts):
            return False
        c = a.contacts[count.contacts]
        c.key, c.gap, c.node_a, c.node_b = key, gap, one.node, other.node
        t1, t2 = across(n)
        put(c.point, p)
        put(c.frame[0], n)
        put(c.frame[1], t1)
        put(c.frame[2], t2)
        pair_surface(one, other, a.patches, c)
        count.contacts += 1
    return True


@kernel
def pair_clearance(a, b, poly, corners, faces):
    """Least gap between two shapes, the second of which may be a plane; negative: overlap."""
    if b.kind != PLANE:
        distance, _, _, _ = nearest_cores(a, 0.0, b, 0.0, poly, corners)
        distance -= rounding(a) + rounding(b)
        if distance > 0.0:
            return distance
    found, _ = pair_points(a, b, poly, corners, faces)
    least = math.inf
    for k in range(found):
        least = min(least, poly[5, k, 0])
    return least
