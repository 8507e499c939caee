"""Which points of a grid lie inside shapes: for volumes that no formula gives, such as what two shapes share."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from veldrain.model.meshes import HeightField, Mesh
from veldrain.model.shapes import Part, Shape
from veldrain.pose import Array, Pose

Bools = NDArray[np.bool_]


@dataclass(frozen=True)
class Grid:
    """Points at the middles of cells of edge lengths ``cell`` (3,), ``counts`` (3,) of them, from corner ``low`` on."""

    low: Array
    cell: Array
    counts: tuple[int, int, int]

    @classmethod
    def over(cls, low: Array, high: Array, most: int = 32768) -> Grid:
        """A grid of about so many cubes, and never one less than 4 deep, over a box."""
        size = np.maximum(high - low, 1e-9)
        edge = (np.prod(size) / most) ** (1 / 3)
        counts = np.clip(np.round(size / edge), 4, 400).astype(int)
        return cls(low, size / counts, (int(counts[0]), int(counts[1]), int(counts[2])))

    @property
    def axes(self) -> list[Array]:
        """Coordinates along x, y and z."""
        return [low + (np.arange(n) + 0.5) * c for low, n, c in zip(self.low, self.counts, self.cell, strict=True)]

    @property
    def points(self) -> Array:
        """All points (nx, ny, nz, 3)."""
        return np.stack(np.meshgrid(*self.axes, indexing="ij"), axis=-1)

    @property
    def volume(self) -> float:
        """Of one cell, m³."""
        return float(np.prod(self.cell))


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
        if isinstance(shape, Mesh) and not (solid_hulls and shape.collide == "hull"):
            inside |= _enclosed(shape, pose, grid)
        else:
            back = pose.inverse()
            points = grid.points.reshape(-1, 3) @ back.matrix.T + back.position
            inside |= shape.holds(points).reshape(grid.counts)
    return inside


def _enclosed(mesh: Mesh, pose: Pose, grid: Grid) -> Bools:
    """Points that a ray along z leaves the mesh from an odd number of times, column by column.

    Every triangle is laid over the columns whose middles lie in it, seen along z; the heights at which columns
    cross triangles are sorted, and the points between the first and second, the third and fourth, … are inside. A
    height field has one crossing a column, and is taken to be solid below it.
    """
    nx, ny, nz = grid.counts
    corners = (mesh.corners @ pose.matrix.T + pose.position - grid.low) / grid.cell - 0.5
    # Off the grid by a little that no drawing has, so that no column meets an edge.
    t = corners[mesh.triangles] + np.array((1.7e-5, 2.9e-5, 0.0))
    low = np.maximum(np.ceil(t[:, :, :2].min(axis=1)), 0).astype(int)
    high = np.minimum(np.floor(t[:, :, :2].max(axis=1)), (nx - 1, ny - 1)).astype(int)
    wide = np.maximum(high - low + 1, 0)
    counts = wide.prod(axis=1)
    which = np.repeat(np.arange(len(t)), counts)
    number = np.arange(len(which)) - np.repeat(np.cumsum(counts) - counts, counts)
    if len(which) == 0:
        return np.zeros(grid.counts, bool)
    x = low[which, 0] + number // wide[which, 1]
    y = low[which, 1] + number % wide[which, 1]
    a, b, c = t[which].transpose(1, 0, 2)
    e, f = b - a, c - a
    area = e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]
    with np.errstate(divide="ignore", invalid="ignore"):
        u = ((x - a[:, 0]) * f[:, 1] - (y - a[:, 1]) * f[:, 0]) / area
        v = ((y - a[:, 1]) * e[:, 0] - (x - a[:, 0]) * e[:, 1]) / area
        z = a[:, 2] + u * e[:, 2] + v * f[:, 2]
        hit = (u >= 0) & (v >= 0) & (u + v <= 1) & (area != 0)
    crossings = np.zeros((nx, ny, nz + 1), np.int64)
    np.add.at(crossings, (x[hit], y[hit], np.clip(np.ceil(z[hit]), 0, nz).astype(int)), 1)
    below = np.cumsum(crossings, axis=2)[:, :, :nz]
    if isinstance(mesh, HeightField):
        return np.asarray((below == 0) & (crossings.sum(axis=2) > 0)[:, :, None])
    return np.asarray(below % 2 == 1)
