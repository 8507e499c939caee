"""Which points of a grid lie inside shapes: for volumes that no formula gives, such as what two shapes share."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from veldrain.model.grids import Bools, Grid
from veldrain.model.shapes import Part, Shape
from veldrain.pose import Array, Pose


def bounds(shape: Shape, pose: Pose) -> tuple[Array, Array]:
    """Least and largest coordinates (3,) of a shape at a pose."""
    return shape.bounds(pose)


def bounds_of(parts: Sequence[tuple[Shape, Pose]]) -> tuple[Array, Array]:
    """Least and largest coordinates of several shapes."""
    found = [bounds(shape, pose) for shape, pose in parts]
    return np.min([low for low, _ in found], axis=0), np.max([high for _, high in found], axis=0)


def seen(part: Part) -> list[tuple[Shape, Pose]]:
    """What is seen of a part."""
    return [(part.shape, part.pose)] if part.role != "collision" else []


def touched(part: Part) -> list[tuple[Shape, Pose]]:
    """What is touched of a part: a mesh's hull, convex parts or fitted shape."""
    if part.role == "visual":
        return []
    return [(shape, part.pose @ pose) for shape, pose in part.shape.touched]


def filled(parts: Sequence[tuple[Shape, Pose]], grid: Grid, solid_hulls: bool = False) -> Bools:
    """True (nx, ny, nz) at points inside any of the shapes.

    A mesh counts as its triangles enclose it; with ``solid_hulls`` one that collides as its hull counts as that.
    """
    inside = np.zeros(grid.counts, bool)
    for shape, pose in parts:
        inside |= shape.fills(pose, grid, solid_hulls)
    return inside
