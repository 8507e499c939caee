"""The nearest points of two convex cores.

E. G. Gilbert, D. W. Johnson, S. S. Keerthi, "A fast procedure for computing the distance between complex
objects in three-dimensional space", IEEE J. Robotics and Automation 4(2), 1988. The point of the simplex
nearest to the origin is found by its Voronoi regions.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.outlines import support
from veldrain.physics.spatial import add, cross, dot, minus, put, scaled, triple

ROUNDS = 48
FLAT = 1e-16  # square of the sine below which a corner lies in the plane of the others


@kernel
def nearest_on_edge(a, b):
    """Weights of a and b of the point of the edge nearest to the origin."""
    ab = minus(b, a)
    length = dot(ab, ab)
    t = -dot(a, ab) / length if length > 0.0 else 0.0
    t = min(max(t, 0.0), 1.0)
    return 1.0 - t, t


@kernel
def nearest_on_triangle(a, b, c):
    """Weights of a, b and c of the point of the triangle nearest to the origin."""
    ab, ac = minus(b, a), minus(c, a)
    d1, d2 = -dot(ab, a), -dot(ac, a)
    if d1 <= 0.0 and d2 <= 0.0:
        return 1.0, 0.0, 0.0
    d3, d4 = -dot(ab, b), -dot(ac, b)
    if d3 >= 0.0 and d4 <= d3:
        return 0.0, 1.0, 0.0
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        t = d1 / (d1 - d3)
        return 1.0 - t, t, 0.0
    d5, d6 = -dot(ab, c), -dot(ac, c)
    if d6 >= 0.0 and d5 <= d6:
        return 0.0, 0.0, 1.0
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        t = d2 / (d2 - d6)
        return 1.0 - t, 0.0, t
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        t = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return 0.0, 1.0 - t, t
    total = 1.0 / (va + vb + vc)
    v, w = vb * total, vc * total
    return 1.0 - v - w, v, w


@kernel
def reduce_simplex(W, count, weights):
    """Weights of the simplex' corners for its point nearest to the origin; True when the origin is inside."""
    for k in range(4):
        weights[k] = 0.0
    if count == 1:
        weights[0] = 1.0
    elif count == 2:
        weights[0], weights[1] = nearest_on_edge(triple(W[0]), triple(W[1]))
    elif count == 3:
        weights[0], weights[1], weights[2] = nearest_on_triangle(triple(W[0]), triple(W[1]), triple(W[2]))
    else:
        best = math.inf
        inside = True
        for skip in range(4):
            i, j, k = (skip + 1) % 4, (skip + 2) % 4, (skip + 3) % 4
            a, b, c, d = triple(W[i]), triple(W[j]), triple(W[k]), triple(W[skip])
            n = cross(minus(b, a), minus(c, a))
            # The origin is inside of this face when it and the fourth corner lie on the same side of it. A
            # tetrahedron that is as good as flat has no inside: all of its faces are looked at.
            edge = minus(d, a)
            to_corner = dot(n, edge)
            is_flat = to_corner * to_corner < FLAT * dot(n, n) * dot(edge, edge)
            if -dot(n, a) * to_corner > 0.0 and not is_flat:
                continue
            inside = False
            wa, wb, wc = nearest_on_triangle(a, b, c)
            p = add(add(scaled(a, wa), scaled(b, wb)), scaled(c, wc))
            if dot(p, p) < best:
                best = dot(p, p)
                weights[i], weights[j], weights[k], weights[skip] = wa, wb, wc, 0.0
        return inside
    return False


@kernel
def nearest_cores(a, inset_a, b, inset_b, room, corners):
    """Distance of two shapes shrunk by insets, the unit vector from b to a, and their nearest points.

    The distance is −1 where the cores overlap. room: (≥ 4, ≥ 12, 3) to work in.
    """
    W, A, B, weights = room[0], room[1], room[2], room[3, 0:4, 0]
    v = minus(triple(a.pos), triple(b.pos))
    if dot(v, v) < 1e-20:
        v = (1e-6, 0.0, 0.0)
    count = 0
    reach = math.inf
    point_a, point_b = triple(a.pos), triple(b.pos)
    for _ in range(ROUNDS):
        p = support(a, inset_a, scaled(v, -1.0), corners)
        q = support(b, inset_b, v, corners)
        w = minus(p, q)
        vv = dot(v, v)
        if count > 0 and vv - dot(v, w) <= 1e-13 * vv:
            break
        repeated = False
        for k in range(count):
            if dot(minus(w, triple(W[k])), minus(w, triple(W[k]))) < 1e-24:
                repeated = True
        if repeated:
            break
        put(W[count], w)
        put(A[count], p)
        put(B[count], q)
        count += 1
        if reduce_simplex(W, count, weights):
            return -1.0, (0.0, 0.0, 1.0), point_a, point_b
        kept = 0
        new, new_a, new_b = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
        for k in range(count):
            if weights[k] > 0.0:
                put(W[kept], triple(W[k]))
                put(A[kept], triple(A[k]))
                put(B[kept], triple(B[k]))
                new = add(new, scaled(triple(W[k]), weights[k]))
                new_a = add(new_a, scaled(triple(A[k]), weights[k]))
                new_b = add(new_b, scaled(triple(B[k]), weights[k]))
                kept += 1
        count = kept
        distance = dot(new, new)
        if distance < 1e-20:
            return -1.0, (0.0, 0.0, 1.0), new_a, new_b
        if distance >= reach:  # no progress left in the digits there are: what was found before is better
            break
        reach = distance
        v, point_a, point_b = new, new_a, new_b
    length = math.sqrt(dot(v, v))
    return length, scaled(v, 1.0 / length), point_a, point_b
