"""Where rays meet the exact shapes: closed forms of a line with each of them, and with one triangle.

A ray that starts inside a shape meets its far side, as light inside a housing would.
"""

from __future__ import annotations

import math

from veldrain.kernel import inlined, kernel
from veldrain.physics.plant import BOX, CONE, CYLINDER, ELLIPSOID
from veldrain.physics.spatial import add, cross, dot, minus, scaled

BESIDE = 1e-12  # of a triangle's size
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
def meet_cone(o, d, radius, half, best):
    """The same at a cone with its tip at +half: x² + y² = (k·(half − z))², and its base."""
    hit = meet_cap(o, d, radius, -half, best)
    k = radius / (2.0 * half)
    z, kk = o[2] - half, k * k
    a = d[0] * d[0] + d[1] * d[1] - kk * d[2] * d[2]
    b = o[0] * d[0] + o[1] * d[1] - kk * z * d[2]
    c = o[0] * o[0] + o[1] * o[1] - kk * z * z
    root = b * b - a * c
    if root < 0.0:
        return hit
    # The form without cancellation; where a is 0 one of the two is the only meeting.
    root = -(b + math.copysign(math.sqrt(root), b))
    for t in (root / a if a != 0.0 else -1.0, c / root if root != 0.0 else -1.0):
        height = o[2] + t * d[2]
        if 0.0 <= t < hit[0] and t < best and abs(height) <= half:
            x, y = o[0] + t * d[0], o[1] + t * d[1]
            slant = math.sqrt(1.0 + kk)
            across = math.sqrt(x * x + y * y) * slant
            if across > 0.0:
                hit = (t, x / across, y / across, k / slant)
    return hit


@kernel
def meet_ellipsoid(o, d, size, best):
    """The same at an ellipsoid: a unit sphere in axes stretched by its half axes."""
    p = (o[0] / size[0], o[1] / size[1], o[2] / size[2])
    w = (d[0] / size[0], d[1] / size[1], d[2] / size[2])
    a, b = dot(w, w), dot(p, w)
    root = b * b - a * (dot(p, p) - 1.0)
    if root < 0.0:
        return NOTHING
    root = math.sqrt(root)
    t = (-b - root) / a if -b - root >= 0.0 else (-b + root) / a
    if not 0.0 <= t < best:
        return NOTHING
    at = add(p, scaled(w, t))
    n = (at[0] / size[0], at[1] / size[1], at[2] / size[2])
    n = scaled(n, 1.0 / math.sqrt(dot(n, n)))
    return t, n[0], n[1], n[2]


@inlined
def meet_three(a, u, w, o, d, best):
    """Distance to a triangle a, a + u, a + w and the shares of u and w there, from both sides; inf where it is missed.

    T. Möller, B. Trumbore, J. Graphics Tools 2(1), 1997.
    """
    p = cross(d, w)
    det = dot(u, p)
    if det == 0.0:
        return math.inf, 0.0, 0.0
    s = minus(o, a)
    q = cross(s, u)
    side = math.copysign(1.0, det)
    x, y, size = side * dot(s, p), side * dot(d, q), side * det
    # What is just beside an edge counts, so that no ray slips between two triangles.
    if x < -BESIDE * size or y < -BESIDE * size or x + y > (1.0 + BESIDE) * size:
        return math.inf, 0.0, 0.0
    t = dot(w, q) / det
    return (t, x / size, y / size) if 0.0 <= t < best else (math.inf, 0.0, 0.0)


@kernel
def meet(kind, size, o, d, best):
    """Distance and local normal where a local ray first meets a shape nearer than ``best``; inf: nowhere."""
    if kind == BOX:
        return meet_box(o, d, size, best)
    if kind == CYLINDER:
        hit = nearer(meet_cap(o, d, size[0], size[1], best), meet_cap(o, d, size[0], -size[1], best))
        return nearer(hit, meet_tube(o, d, size[0], size[1], best))
    if kind == CONE:
        return meet_cone(o, d, size[0], size[1], best)
    if kind == ELLIPSOID:
        return meet_ellipsoid(o, d, size, best)
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
