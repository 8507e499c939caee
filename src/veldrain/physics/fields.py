"""Rays on a ground of given heights: walked cell by cell, two triangles a cell."""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.rays import meet_three
from veldrain.physics.spatial import minus


@kernel
def corner(s, heights, i, j):
    """A grid point in the shape's frame."""
    x, y = (i - 0.5 * (s.rows - 1)) * s.size[0], (j - 0.5 * (s.columns - 1)) * s.size[0]
    return x, y, heights[s.first + i * s.columns + j]


@kernel
def meet_cell(s, heights, i, j, o, d, best):
    """Distance, triangle and its coordinates where a ray meets a cell; a triangle with a hole is none."""
    a, b = corner(s, heights, i, j), corner(s, heights, i + 1, j)
    c, e = corner(s, heights, i + 1, j + 1), corner(s, heights, i, j + 1)
    hit = (math.inf, 0, 0.0, 0.0)
    triangle = 2 * (i * (s.columns - 1) + j)
    for k in range(2):
        p, q = (b, c) if k == 0 else (c, e)
        t, x, y = meet_three(a, minus(p, a), minus(q, a), o, d, min(best, hit[0]))
        if t < hit[0]:  # never for a height that is not a number
            hit = (t, triangle + k, x, y)
    return hit


@kernel
def meet_field(s, heights, o, d, best):
    """The same at a height field; ``size`` of s: spacing, least and greatest height."""
    gap = s.size[0]
    enter, leave = 0.0, best
    half = (0.5 * (s.rows - 1) * gap, 0.5 * (s.columns - 1) * gap)
    for k in range(3):
        low, high = (s.size[1], s.size[2]) if k == 2 else (-half[k], half[k])
        if abs(d[k]) < 1e-300:
            if o[k] < low or o[k] > high:
                return math.inf, 0, 0.0, 0.0
            continue
        one, other = (low - o[k]) / d[k], (high - o[k]) / d[k]
        enter, leave = max(enter, min(one, other)), min(leave, max(one, other))
    slack = 1e-9 * (1.0 + abs(leave))
    if enter > leave + slack:
        return math.inf, 0, 0.0, 0.0
    x, y = (o[0] + enter * d[0] + half[0]) / gap, (o[1] + enter * d[1] + half[1]) / gap
    i, j = min(max(int(x), 0), s.rows - 2), min(max(int(y), 0), s.columns - 2)
    along_x, along_y = (1 if d[0] > 0 else -1), (1 if d[1] > 0 else -1)
    each_x = gap / abs(d[0]) if abs(d[0]) > 1e-300 else math.inf
    each_y = gap / abs(d[1]) if abs(d[1]) > 1e-300 else math.inf
    next_x = ((i + (along_x > 0)) * gap - half[0] - o[0]) / d[0] if each_x < math.inf else math.inf
    next_y = ((j + (along_y > 0)) * gap - half[1] - o[1]) / d[1] if each_y < math.inf else math.inf
    at = enter
    while 0 <= i < s.rows - 1 and 0 <= j < s.columns - 1 and at <= leave + slack:
        out = min(next_x, next_y)
        # The ray's own heights in this cell against those of the corners; holes are not numbers and compare as false.
        z, w = o[2] + at * d[2], o[2] + min(out, leave) * d[2]
        at_corner = s.first + i * s.columns + j
        low, high = math.inf, -math.inf
        for k in (at_corner, at_corner + 1, at_corner + s.columns, at_corner + s.columns + 1):
            if heights[k] < low:
                low = heights[k]
            if heights[k] > high:
                high = heights[k]
        if min(z, w) <= high + slack and max(z, w) >= low - slack:
            hit = meet_cell(s, heights, i, j, o, d, best)
            if hit[0] < math.inf:
                return hit
        at = out
        if next_x < next_y:
            i += along_x
            next_x += each_x
        else:
            j += along_y
            next_y += each_y
    return math.inf, 0, 0.0, 0.0
