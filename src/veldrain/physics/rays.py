"""Where rays meet the exact shapes: closed forms of a line with each of them, and triangle by triangle for meshes.

A ray that starts inside a shape meets its far side, as light inside a housing would.
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import entry, kernel
from veldrain.physics.plant import BOX, CAPSULE, CONE, CYLINDER, ELLIPSOID, HULL, MESH, PLANE
from veldrain.physics.spatial import add, cross, dot, minus, put, scaled, triple, turned, turned_back

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


@kernel
def meet_hull(g, o, d, best, faces):
    """The same at a convex hull: the common part of what its faces leave."""
    enter, leave, face_in, face_out = -math.inf, math.inf, g.first_face, g.first_face
    for k in range(g.first_face, g.end_face):
        n = triple(faces[k].normal)
        height, speed = dot(n, minus(triple(faces[k].at[0]), o)), dot(n, d)
        if speed == 0.0:
            if height < 0.0:
                return NOTHING
        elif speed < 0.0 and height / speed > enter:
            enter, face_in = height / speed, k
        elif speed > 0.0 and height / speed < leave:
            leave, face_out = height / speed, k
    if enter > leave or leave < 0.0:
        return NOTHING
    t, face = (enter, face_in) if enter >= 0.0 else (leave, face_out)
    n = faces[face].normal
    return (t, n[0], n[1], n[2]) if t < best else NOTHING


@kernel
def misses_box(box, o, d, best):
    """True for a ray that does not meet a box before ``best``."""
    enter, leave = 0.0, best
    for r in range(3):
        if d[r] == 0.0:
            if o[r] < box[r] or o[r] > box[3 + r]:
                return True
            continue
        one, other = (box[r] - o[r]) / d[r], (box[3 + r] - o[r]) / d[r]
        enter, leave = max(enter, min(one, other)), min(leave, max(one, other))
    return enter > leave


@kernel
def meet_triangle(face, o, d, best):
    """The same at a triangle, from both sides (T. Möller, B. Trumbore, J. Graphics Tools 2(1), 1997)."""
    a = triple(face.at[0])
    u, w = minus(triple(face.at[1]), a), minus(triple(face.at[2]), a)
    p = cross(d, w)
    det = dot(u, p)
    if det == 0.0:
        return NOTHING
    s = minus(o, a)
    q = cross(s, u)
    x, y, t = dot(s, p) / det, dot(d, q) / det, dot(w, q) / det
    if x < 0.0 or y < 0.0 or x + y > 1.0 or not 0.0 <= t < best:
        return NOTHING
    return t, face.normal[0], face.normal[1], face.normal[2]


@kernel
def meet_mesh(g, o, d, best, faces, branches):
    """The same at a mesh of triangles."""
    hit = NOTHING
    k, end = g.branch, branches[g.branch].skip
    while k < end:
        branch = branches[k]
        if misses_box(branch.box, o, d, min(best, hit[0])):
            k = branch.skip
            continue
        for f in range(branch.first, branch.end):
            hit = nearer(hit, meet_triangle(faces[f], o, d, min(best, hit[0])))
        k += 1
    return hit


@kernel
def meet(g, o, d, best, faces, branches):
    """Distance and local normal where a local ray first meets a shape nearer than ``best``; inf: nowhere."""
    kind, size = g.kind, g.size
    if kind == PLANE:
        t = -o[2] / d[2] if d[2] != 0.0 else -1.0
        return (t, 0.0, 0.0, 1.0) if 0.0 <= t < best else NOTHING
    if kind == BOX:
        return meet_box(o, d, size, best)
    if kind == CYLINDER:
        hit = nearer(meet_cap(o, d, size[0], size[1], best), meet_cap(o, d, size[0], -size[1], best))
        return nearer(hit, meet_tube(o, d, size[0], size[1], best))
    if kind == CONE:
        return meet_cone(o, d, size[0], size[1], best)
    if kind == ELLIPSOID:
        return meet_ellipsoid(o, d, size, best)
    if kind == HULL:
        return meet_hull(g, o, d, best, faces)
    if kind == MESH:
        return meet_mesh(g, o, d, best, faces, branches)
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
def cast_rays(geoms, faces, branches, origins, directions, reach, distances, hits, normals):
    """Fill distances (n,), shapes (n,) and world normals (n, 3) of rays with unit directions."""
    for k in range(len(origins)):
        best, found, normal = reach, -1, (0.0, 0.0, 0.0)
        o, d = triple(origins[k]), triple(directions[k])
        for i in range(len(geoms)):
            g = geoms[i]
            if g.seen == 0 or passes_by(g, o, d, best):
                continue
            local = turned_back(g.rot, minus(o, triple(g.pos)))
            t, x, y, z = meet(g, local, turned_back(g.rot, d), best, faces, branches)
            if t < best:
                best, found, normal = t, i, turned(g.rot, (x, y, z))
        distances[k] = best if found >= 0 else math.inf
        hits[k] = found
        put(normals[k], normal)
