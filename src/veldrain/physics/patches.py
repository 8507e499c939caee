"""Contact points of two shapes along a known normal: the overlap of their near features.

The overlap of two faces seen along the normal is a convex polygon (I. E. Sutherland, G. W. Hodgman,
"Reentrant polygon clipping", Comm. ACM 17(1), 1974). The gap is linear over it, so its corners, at most four
of them kept, carry the contact; none is lost when a box tilts or a wheel turns.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.spatial import add, cross, dot, minus, put, scaled, triple

# m: so far outside of a face counts as on it. Where the sides of two faces coincide, the points where they cross
# would wander along them.
BESIDE = 1e-6
EDGE_ON = 1e-3  # sine of the angle between a face and the line of sight


@kernel
def face_height(F, count, n, point):
    """Height along n, above the origin, of the face or edge F over the foot of ``point``."""
    a = triple(F[0])
    if count == 1:
        return dot(n, a)
    if count == 2:
        ab = minus(triple(F[1]), a)
        flat = minus(ab, scaled(n, dot(ab, n)))
        length = dot(flat, flat)
        t = dot(minus(point, a), flat) / length if length > 1e-18 else 0.0
        return dot(n, a) + min(max(t, 0.0), 1.0) * dot(n, ab)
    m = cross(minus(triple(F[1]), a), minus(triple(F[2]), a))
    slope = dot(m, n)
    return dot(n, point) + dot(m, minus(a, point)) / slope


@kernel
def clip(F, count, G, sides, n, slack, out, spare):
    """Cut the polygon or edge F with the sides of the polygon G, both seen along n; gives the corners left.

    slack: how far outside G a corner of F may lie. out and spare: room for the corners, the result is in out.
    """
    middle = (0.0, 0.0, 0.0)
    for k in range(sides):
        middle = add(middle, scaled(triple(G[k]), 1.0 / sides))
    for k in range(count):
        put(out[k], triple(F[k]))
    for s in range(sides):
        a, b = triple(G[s]), triple(G[(s + 1) % sides])
        inward = cross(n, minus(b, a))
        length = math.sqrt(dot(inward, inward))
        if length < 1e-15:
            continue
        inward = scaled(inward, 1.0 / length)
        if dot(inward, minus(middle, a)) < 0.0:
            inward = scaled(inward, -1.0)
        for k in range(count):
            put(spare[k], triple(out[k]))
        kept = 0
        for k in range(count):
            if count == 2 and k == 1:  # an edge has no way back
                p = triple(spare[1])
                if dot(inward, minus(p, a)) + slack >= 0.0:
                    put(out[kept], p)
                    kept += 1
                break
            p, q = triple(spare[k]), triple(spare[(k + 1) % count])
            dp, dq = dot(inward, minus(p, a)), dot(inward, minus(q, a))
            if dp >= -slack:
                put(out[kept], p)
                kept += 1
            if (dp > 0.0 and dq < -slack) or (dp < -slack and dq > 0.0):
                t = dp / (dp - dq)
                put(out[kept], add(p, scaled(minus(q, p), t)))
                kept += 1
        count = kept
        if count == 0:
            break
    return count


@kernel
def cross_edges(A, B, n, out):
    """Where two edges meet seen along n: one point, or the two ends of their common stretch."""
    a, b = triple(A[0]), triple(B[0])
    u, w = minus(triple(A[1]), a), minus(triple(B[1]), b)
    u, w = minus(u, scaled(n, dot(u, n))), minus(w, scaled(n, dot(w, n)))
    uu, ww, uw = dot(u, u), dot(w, w), dot(u, w)
    if uu < 1e-18 or ww < 1e-18:
        return 0
    d = minus(b, a)
    sine = 1.0 - uw * uw / (uu * ww)
    if sine < 1e-4:  # as good as parallel: the stretch of A that lies beside B
        t0, t1 = dot(d, u) / uu, (dot(d, u) + uw) / uu
        low, high = max(0.0, min(t0, t1)), min(1.0, max(t0, t1))
        if low > high:
            return 0
        edge = minus(triple(A[1]), a)
        put(out[0], add(a, scaled(edge, low)))
        put(out[1], add(a, scaled(edge, high)))
        return 2
    t = (dot(d, u) * ww - dot(d, w) * uw) / (uu * ww - uw * uw)
    t = min(max(t, 0.0), 1.0)
    put(out[0], add(a, scaled(minus(triple(A[1]), a), t)))
    return 1


@kernel
def is_edge_on(F, count, n):
    """True for a face that is seen from its side: it has no height over a point."""
    if count < 3:
        return False
    m = cross(minus(triple(F[1]), triple(F[0])), minus(triple(F[2]), triple(F[0])))
    along = dot(m, n)
    return along * along < EDGE_ON * EDGE_ON * dot(m, m)


@kernel
def overlap(A, count_a, B, count_b, n, slack, out, spare):
    """Points where two features face each other along n; gives their number, 0 where they do not."""
    if count_a == 1 or count_b == 1:
        return 0
    if is_edge_on(A, count_a, n) or is_edge_on(B, count_b, n):
        return 0
    if count_a == 2 and count_b == 2:
        return cross_edges(A, B, n, out)
    for width in (BESIDE, slack):
        if count_b > 2:
            count = clip(A, count_a, B, count_b, n, width, out, spare)
        else:
            count = clip(B, count_b, A, count_a, n, width, out, spare)
        if count > 0:
            return count
    return 0


@kernel
def spread(points, gaps, count, chosen):
    """Choose up to four of the points: the deepest, and those that hold the widest area with it."""
    if count <= 4:
        for k in range(count):
            chosen[k] = k
        return count
    first = 0
    for k in range(1, count):
        if gaps[k] < gaps[first] - 1e-12:
            first = k
    a = triple(points[first])
    second, best = first, -1.0
    for k in range(count):
        d = minus(triple(points[k]), a)
        if dot(d, d) > best + 1e-15:
            second, best = k, dot(d, d)
    ab = minus(triple(points[second]), a)
    third, best = first, 1e-12 * dot(ab, ab) * dot(ab, ab)
    side = (0.0, 0.0, 0.0)
    for k in range(count):
        m = cross(ab, minus(triple(points[k]), a))
        if dot(m, m) > best:
            third, best, side = k, dot(m, m), m
    chosen[0], chosen[1], chosen[2] = first, second, third
    if third == first:  # all in a line
        return 2 if second != first else 1
    fourth, best = first, 0.0
    for k in range(count):
        m = dot(cross(ab, minus(triple(points[k]), a)), side)
        if m < best - 1e-18:
            fourth, best = k, m
    chosen[3] = fourth
    return 4 if fourth != first else 3
