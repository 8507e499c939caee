"""Rays and the shapes of a scene: how places follow the motion, and how a ray finds what it meets first."""

from __future__ import annotations

import math

import numpy as np

from veldrain.kernel import entry, inlined, kernel, vector_entry
from veldrain.physics.fields import corner, meet_field
from veldrain.physics.hierarchy import WIDE, refit
from veldrain.physics.plant import FIELD, MESH
from veldrain.physics.rays import meet, meet_three
from veldrain.physics.spatial import add, cross, dot, minus, multiply, put, scaled, triple, turned, turned_back


@entry
def place_sights(sights, nodes, low, high, whole, planes):
    """Bring the shapes' places, and the corners of the boxes around them, up to date."""
    place_all(sights, nodes, low, high, whole, planes)


@entry
def follow(sights, nodes, low, high, whole, planes, boxes, sides, order):
    """The same, and the hierarchy over them."""
    place_all(sights, nodes, low, high, whole, planes)
    refit(boxes, sides, order, low, high)


@kernel
def place_all(sights, nodes, low, high, whole, planes):
    """Bring the shapes' places, and the corners of the boxes around them, up to date."""
    for k in range(len(sights)):
        s = sights[k]
        if s.node >= 0:
            n = nodes[s.node]
            multiply(n.rot, s.turn, s.rot)
            put(s.pos, add(triple(n.pos), turned(n.rot, triple(s.place))))
        else:
            for i in range(3):
                s.pos[i] = s.place[i]
                for j in range(3):
                    s.rot[i, j] = s.turn[i, j]
        middle = add(triple(s.pos), turned(s.rot, triple(s.middle)))
        for i in range(3):
            half = abs(s.rot[i, 0]) * s.half[0] + abs(s.rot[i, 1]) * s.half[1] + abs(s.rot[i, 2]) * s.half[2]
            low[k, i], high[k, i] = middle[i] - half, middle[i] + half
    for i in range(3):
        least, most = math.inf, -math.inf
        for k in range(planes, len(sights)):
            least, most = min(least, low[k, i]), max(most, high[k, i])
        whole[0, i], whole[1, i] = (0.5 * (least + most), 0.5 * (most - least)) if least <= most else (0.0, -1.0)


@inlined
def inverse(x):
    """1/x, and something huge for what is as good as nothing."""
    return 1.0 / x if abs(x) > 1e-30 else math.copysign(1e30, x)


@inlined
def next_node(boxes, sides, node, room, stack, near, top, ox, oy, oz, ix, iy, iz, best):
    """Stack the sides of an inner node that a ray enters before ``best``, the nearest last; gives the new top."""
    limit, nought = np.float32(best), np.float32(0.0)
    for k in range(boxes.shape[2]):  # a count that LLVM does not know is not unrolled, but done eight at a time
        a, b = (boxes[node, 0, k] - ox) * ix, (boxes[node, 3, k] - ox) * ix
        c, d = (boxes[node, 1, k] - oy) * iy, (boxes[node, 4, k] - oy) * iy
        e, f = (boxes[node, 2, k] - oz) * iz, (boxes[node, 5, k] - oz) * iz
        enter, leave = (a if a < b else b), (b if a < b else a)
        enter, leave = (enter if enter > nought else nought), (leave if leave < limit else limit)
        x, y = (c if c < d else d), (d if c < d else c)
        enter, leave = (x if x > enter else enter), (y if y < leave else leave)
        x, y = (e if e < f else f), (f if e < f else e)
        enter, leave = (x if x > enter else enter), (y if y < leave else leave)
        room[k] = enter
        room[WIDE + k] = leave
    bottom = top
    for k in range(WIDE):
        enter = room[k]
        if enter <= room[WIDE + k]:
            j = top
            while j > bottom and near[j - 1] < enter:
                stack[j], near[j] = stack[j - 1], near[j - 1]
                j -= 1
            stack[j], near[j] = sides[node, k], enter
            top += 1
    return top


@inlined
def popped(stack, near, bottom, top, best):
    """The next stacked node that is nearer than what was met (0: none), and the stack's new top."""
    while top > bottom:
        top -= 1
        if near[top] < best:
            return stack[top], top
    return 0, top


@inlined
def corner_and_ways(rows, k):
    """A triangle's corner and the ways to the two others; without slices, which cost as much as the triangle."""
    return (
        (rows[k, 0], rows[k, 1], rows[k, 2]),
        (rows[k, 3], rows[k, 4], rows[k, 5]),
        (rows[k, 6], rows[k, 7], rows[k, 8]),
    )


@inlined
def approach(o, d, middle, half, best):
    """How far a ray can go before it comes to a box; inf where it does not before ``best``."""
    enter, leave = 0.0, best
    for k in range(3):
        inv = inverse(d[k])
        a, b = (middle[k] - half[k] - o[k]) * inv, (middle[k] + half[k] - o[k]) * inv
        enter, leave = max(enter, min(a, b)), min(leave, max(a, b))
    return enter if enter <= leave else math.inf


@inlined
def trace_mesh(v, root, room, stack, near, bottom, o, d, best, any_hit, start):
    """Distance, triangle (its place in the view) and shares of its two ways; inf: missed.

    The hierarchy is walked in single precision from ``start`` on, where the ray is near what it holds.
    """
    ix, iy, iz = np.float32(inverse(d[0])), np.float32(inverse(d[1])), np.float32(inverse(d[2]))
    ox, oy, oz = np.float32(o[0] + start * d[0]), np.float32(o[1] + start * d[1]), np.float32(o[2] + start * d[2])
    hit = (math.inf, 0, 0.0, 0.0)
    top = next_node(v.mesh_boxes, v.mesh_sides, root, room, stack, near, bottom, ox, oy, oz, ix, iy, iz, best - start)
    while True:
        node, top = popped(stack, near, bottom, top, best - start)
        if node == 0:
            return hit
        if node > 0:
            top = next_node(
                v.mesh_boxes, v.mesh_sides, node, room, stack, near, top, ox, oy, oz, ix, iy, iz, best - start
            )
            continue
        first = (-1 - node) // 16
        for k in range(first, first + (-1 - node) % 16):
            a, u, w = corner_and_ways(v.triangles, k)
            t, x, y = meet_three(a, u, w, o, d, best)
            if t < best:
                best, hit = t, (t, k, x, y)
        if any_hit and hit[0] < math.inf:
            return hit


@inlined
def meet_sight(v, k, room, stack, near, top, o, d, best, any_hit):
    """Where a ray in world axes meets a sight: distance, local normal, triangle and its shares."""
    s = v.sights[k]
    local, way = turned_back(s.rot, minus(o, triple(s.pos))), turned_back(s.rot, d)
    if s.kind == MESH:
        t, triangle, x, y = math.inf, 0, 0.0, 0.0
        start = approach(local, way, s.middle, s.half, best)
        if start < math.inf:
            t, triangle, x, y = trace_mesh(v, s.first, room, stack, near, top, local, way, best, any_hit, start)
        n = (0.0, 0.0, 0.0)
        if t < best:
            _, u, w = corner_and_ways(v.triangles, triangle)
            n = cross(u, w)
    elif s.kind == FIELD:
        t, triangle, x, y = meet_field(s, v.heights, local, way, best)
        n = (0.0, 0.0, 0.0)
        if t < best:
            cell, odd = triangle // 2, triangle % 2
            i, j = cell // (s.columns - 1), cell % (s.columns - 1)
            a, c = corner(s, v.heights, i, j), corner(s, v.heights, i + 1, j + 1)
            b = corner(s, v.heights, i, j + 1) if odd else corner(s, v.heights, i + 1, j)
            n = cross(minus(c, a), minus(b, a))
            n = scaled(n, math.copysign(1.0, n[2]))  # upward
    else:
        t, nx, ny, nz = meet(s.kind, s.size, local, way, best)
        return t, nx, ny, nz, -1, 0.0, 0.0
    length = math.sqrt(dot(n, n))
    if length > 0.0:
        n = scaled(n, 1.0 / length)
    return t, n[0], n[1], n[2], triangle, x, y


@inlined
def trace(v, room, stack, near, o, d, best, any_hit):
    """Where a ray first meets anything nearer than ``best``, or anywhere at all before it.

    Gives distance (inf: nowhere), sight, local normal, triangle (−1: none) and the shares of its two ways.
    """
    found, hit = -1, (math.inf, 0.0, 0.0, 0.0, -1, 0.0, 0.0)
    for k in range(v.planes):
        s = v.sights[k]
        height, sinking = turned_back(s.rot, minus(o, triple(s.pos)))[2], -turned_back(s.rot, d)[2]
        t = height / sinking if sinking != 0.0 else -1.0
        if 0.0 <= t < best:
            best, found, hit = t, k, (t, 0.0, 0.0, 1.0, -1, 0.0, 0.0)
    ix, iy, iz = np.float32(inverse(d[0])), np.float32(inverse(d[1])), np.float32(inverse(d[2]))
    start = approach(o, d, v.whole[0], v.whole[1], best)
    ox, oy, oz = np.float32(o[0] + start * d[0]), np.float32(o[1] + start * d[1]), np.float32(o[2] + start * d[2])
    top = 0
    if start < math.inf:
        if len(v.order) == 1:  # there is nothing to choose from
            stack[0], near[0], top = v.sides[0, 0], 0.0, 1
        else:
            top = next_node(v.boxes, v.sides, 0, room, stack, near, 0, ox, oy, oz, ix, iy, iz, best - start)
    while not (any_hit and found >= 0):
        node, top = popped(stack, near, 0, top, best - start)
        if node == 0:
            break
        if node > 0:
            top = next_node(v.boxes, v.sides, node, room, stack, near, top, ox, oy, oz, ix, iy, iz, best - start)
            continue
        first = (-1 - node) // 16
        for item in range(first, first + (-1 - node) % 16):
            k = v.order[item]
            one = meet_sight(v, k, room, stack, near, top, o, d, best, any_hit)
            if one[0] < best:
                best, found, hit = one[0], k, one
    return hit[0], found, hit[1], hit[2], hit[3], hit[4], hit[5], hit[6]


@vector_entry
def cast_rays(v, room, stack, near, origins, directions, reach, distances, hits, normals):
    """Fill distances (n,), sights (n,) and world normals (n, 3) of rays with unit directions."""
    for k in range(len(origins)):
        t, sight, x, y, z, _, _, _ = trace(
            v, room, stack, near, triple(origins[k]), triple(directions[k]), reach, False
        )
        distances[k], hits[k] = t, sight
        put(normals[k], turned(v.sights[sight].rot, (x, y, z)) if sight >= 0 else (0.0, 0.0, 0.0))


@vector_entry
def sweep_beams(v, room, stack, near, place, ways, lead, reach, shine, distances, echoes):
    """Fill distances (n,) and reflectance times cosine (n,) of beams from an eye that keeps its motion.

    ``place`` (6, 3): its position, the rows of its axes, its velocity and its spin; ``lead`` (n,): s before now.
    """
    position, velocity, spin = triple(place[0]), triple(place[4]), triple(place[5])
    speed = math.sqrt(dot(spin, spin))
    axis = scaled(spin, 1.0 / speed) if speed > 0.0 else (0.0, 0.0, 0.0)
    for k in range(len(ways)):
        d = turned(place[1:4], triple(ways[k]))
        if speed > 0.0:  # O. Rodrigues' formula
            s, c = math.sin(speed * lead[k]), math.cos(speed * lead[k])
            along = dot(axis, d) * (1.0 - c)
            d = add(add(scaled(d, c), scaled(cross(axis, d), s)), scaled(axis, along))
        o = add(position, scaled(velocity, lead[k]))
        t, sight, x, y, z, _, _, _ = trace(v, room, stack, near, o, d, reach, False)
        distances[k], echoes[k] = t, 0.0
        if sight >= 0:
            echoes[k] = shine[sight] * abs(dot(turned(v.sights[sight].rot, (x, y, z)), d))
