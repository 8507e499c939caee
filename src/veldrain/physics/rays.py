"""Where rays meet the exact shapes: closed forms of a line with a plane, box, sphere, cylinder and capsule.

A ray that starts inside a shape meets its far side, as light inside a housing would.
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import entry, kernel
from veldrain.physics.plant import BOX, CAPSULE, CYLINDER, PLANE
from veldrain.physics.spatial import dot, minus, put, triple, turned, turned_back

NOTHING = (math.inf, 0.0, 0.0, 0.0)


@kernel
def meet_sphere(o, d, radius, centre_z, best):
    """Distance and normal at the sphere of a radius about (0, 0, centre_z), if nearer than ``best``."""
    x, y, z = o[0], o[1], o[2] - centre_z
    b = x * d[0] + y * d[1] + z * d[2]
    root = b * b - (x * x + y * y + z * z - radius * radius)
    if root < 0.0:
        return NOTHING
    root = math.sqrt(root)
    t = -b - root if -b - root >= 0.0 else -b + root
    if not 0.0 <= t < best:
        return NOTHING
    return t, (x + t * d[0]) / radius, (y + t * d[1]) / radius, (z + t * d[2]) / radius


@kernel
def meet_tube(o, d, radius, half, best):
    """The same at the round side of a cylinder about z."""
    a = d[0] * d[0] + d[1] * d[1]
    if a < 1e-18:
        return NOTHING
    b = o[0] * d[0] + o[1] * d[1]
    root = b * b - a * (o[0] * o[0] + o[1] * o[1] - radius * radius)
    if root < 0.0:
        return NOTHING
    root = math.sqrt(root)
    for t in ((-b - root) / a, (-b + root) / a):
        if 0.0 <= t < best and abs(o[2] + t * d[2]) <= half:
            return t, (o[0] + t * d[0]) / radius, (o[1] + t * d[1]) / radius, 0.0
    return NOTHING


@kernel
def meet_cap(o, d, radius, height, best):
    """The same at a disc across z at a height."""
    if abs(d[2]) < 1e-15:
        return NOTHING
    t = (height - o[2]) / d[2]
    x, y = o[0] + t * d[0], o[1] + t * d[1]
    if not (0.0 <= t < best and x * x + y * y <= radius * radius):
        return NOTHING
    return t, 0.0, 0.0, math.copysign(1.0, height)


@kernel
def meet_box(o, d, size, best):
    """The same at a box, by the three slabs that it is the common part of."""
    enter, leave, axis_in, axis_out = -math.inf, math.inf, 0, 0
    for k in range(3):
        if abs(d[k]) < 1e-15:
            if abs(o[k]) > size[k]:
                return NOTHING
            continue
        near = (-math.copysign(size[k], d[k]) - o[k]) / d[k]
        far = (math.copysign(size[k], d[k]) - o[k]) / d[k]
        if near > enter:
            enter, axis_in = near, k
        if far < leave:
            leave, axis_out = far, k
    if enter > leave or leave < 0.0:
        return NOTHING
    t, axis, side = (enter, axis_in, -1.0) if enter >= 0.0 else (leave, axis_out, 1.0)
    if t >= best:
        return NOTHING
    s = math.copysign(1.0, d[axis]) * side
    return t, s if axis == 0 else 0.0, s if axis == 1 else 0.0, s if axis == 2 else 0.0


@kernel
def nearer(one, other):
    """The nearer of two hits."""
    return one if one[0] <= other[0] else other


@kernel
def meet(kind, size, o, d, best):
    """Distance and local normal where a local ray first meets a shape nearer than ``best``; inf: nowhere."""
    if kind == PLANE:
        t = -o[2] / d[2] if d[2] != 0.0 else -1.0
        return (t, 0.0, 0.0, 1.0) if 0.0 <= t < best else NOTHING
    if kind == BOX:
        return meet_box(o, d, size, best)
    if kind == CYLINDER:
        hit = nearer(meet_cap(o, d, size[0], size[1], best), meet_cap(o, d, size[0], -size[1], best))
        return nearer(hit, meet_tube(o, d, size[0], size[1], best))
    if size[1] == 0.0:
        return meet_sphere(o, d, size[0], 0.0, best)
    return meet_capsule(o, d, size, best)


@kernel
def meet_capsule(o, d, size, best):
    """The same at a capsule: its tube, and of each ball the half that looks outward."""
    hit = meet_tube(o, d, size[0], size[1], best)
    for end in (-1.0, 1.0):
        ball = meet_sphere(o, d, size[0], end * size[1], best)
        if ball[0] < hit[0] and end * (o[2] + ball[0] * d[2]) >= size[1]:
            hit = ball
    return hit


@kernel
def passes_by(g, o, d, reach):
    """True for a ray that misses the ball around a shape: most do, and this tells at once."""
    if g.kind == PLANE:
        return False
    size = g.size
    radius = size[0] + size[1]
    ball = radius * radius if g.kind == CAPSULE else dot(triple(size), triple(size))
    to = minus(triple(g.pos), o)
    along = dot(to, d)
    square = dot(to, to)
    return square > ball and (along < 0.0 or square - along * along > ball or along - math.sqrt(ball) > reach)


@entry
def cast_rays(geoms, origins, directions, reach, distances, hits, normals):
    """Fill distances (n,), shapes (n,) and world normals (n, 3) of rays with unit directions."""
    for k in range(len(origins)):
        best, found, normal = reach, -1, (0.0, 0.0, 0.0)
        o, d = triple(origins[k]), triple(directions[k])
        for i in range(len(geoms)):
            g = geoms[i]
            if g.seen == 0 or passes_by(g, o, d, best):
                continue
            local = turned_back(g.rot, minus(o, triple(g.pos)))
            t, x, y, z = meet(g.kind, g.size, local, turned_back(g.rot, d), best)
            if t < best:
                best, found, normal = t, i, turned(g.rot, (x, y, z))
        distances[k] = best if found >= 0 else math.inf
        hits[k] = found
        put(normals[k], normal)
