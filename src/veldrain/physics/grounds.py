"""Height fields that things stand on: the triangles near a shape, straight from the grid.

Each cell has two triangles, as ``model.HeightField`` has them: of its corners a (i, j), b (i + 1, j), c (i + 1, j + 1)
and d (i, j + 1), the first is a, b, c and the second a, c, d. One with a height that is not a number is a hole.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.spatial import cross, dot, minus, norm, put, scaled, triple

OUTER = 1e-3  # rad: a side bent outward by more than this is an outer one
NO_NORMAL = (math.nan, math.nan, math.nan)


@kernel
def grid_point(g, heights, i, j):
    """A point of the grid in the shape's frame."""
    x, y = (i - 0.5 * (g.rows - 1)) * g.spacing, (j - 0.5 * (g.columns - 1)) * g.spacing
    return x, y, heights[g.first_face + i * g.columns + j]


@kernel
def grid_triangle(g, heights, i, j, half):
    """The corners of a triangle."""
    a, c = grid_point(g, heights, i, j), grid_point(g, heights, i + 1, j + 1)
    if half == 0:
        return a, grid_point(g, heights, i + 1, j), c
    return a, c, grid_point(g, heights, i, j + 1)


@kernel
def grid_normal(g, heights, i, j, half):
    """The normal of a triangle; nan for a hole and beyond the border."""
    if not (0 <= i < g.rows - 1 and 0 <= j < g.columns - 1):
        return NO_NORMAL
    a, b, c = grid_triangle(g, heights, i, j, half)
    across = cross(minus(b, a), minus(c, a))
    return scaled(across, 1.0 / norm(across))


@kernel
def beyond_side(g, heights, i, j, half, side):
    """The normal of the triangle beyond a side of another."""
    if half == 0:
        if side == 0:
            return grid_normal(g, heights, i, j - 1, 1)
        return grid_normal(g, heights, i + 1, j, 1) if side == 1 else grid_normal(g, heights, i, j, 1)
    if side == 0:
        return grid_normal(g, heights, i, j, 0)
    return grid_normal(g, heights, i, j + 1, 0) if side == 1 else grid_normal(g, heights, i - 1, j, 0)


@kernel
def set_ground_face(g, heights, i, j, half, face):
    """Make a face one of the triangles; False for a hole."""
    at = grid_triangle(g, heights, i, j, half)
    normal = grid_normal(g, heights, i, j, half)
    face.corners = 3
    for k in range(3):
        put(face.at[k], at[k])
    put(face.normal, normal)
    return math.isfinite(normal[0])


@kernel
def set_ground_leans(g, heights, i, j, half, face):
    """How far a contact's normal may lean over the sides of such a face, see ``solids``."""
    normal = triple(face.normal)
    for k in range(3):
        other = beyond_side(g, heights, i, j, half, k)
        edge = minus(triple(face.at[(k + 1) % 3]), triple(face.at[k]))
        face.lean[k] = -1.0
        if math.isfinite(other[0]):
            is_outer = dot(cross(normal, other), edge) > OUTER * norm(edge)
            face.lean[k] = dot(normal, other) - 1e-3 if is_outer else 1.0


@kernel
def cells_in(g, low, high):
    """The cells below or above a box: first and end along x, and along y; the nearest ones of a box beside the grid."""
    rows, columns = g.rows - 1, g.columns - 1
    first = min(max(math.floor(low[0] / g.spacing + 0.5 * rows), 0.0), rows - 1.0)
    last = min(max(math.floor(high[0] / g.spacing + 0.5 * rows), 0.0), rows - 1.0)
    left = min(max(math.floor(low[1] / g.spacing + 0.5 * columns), 0.0), columns - 1.0)
    right = min(max(math.floor(high[1] / g.spacing + 0.5 * columns), 0.0), columns - 1.0)
    return int(first), int(last) + 1, int(left), int(right) + 1


@kernel
def box_distance(face, low, high):
    """How far the box around a triangle is from another."""
    at, squares = face.at, 0.0
    for r in range(3):
        below = low[r] - max(at[0, r], at[1, r], at[2, r])
        above = min(at[0, r], at[1, r], at[2, r]) - high[r]
        gap = max(below, above, 0.0)
        squares += gap * gap
    return math.sqrt(squares)
