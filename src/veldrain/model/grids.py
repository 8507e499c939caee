"""Grids of points, and how often a ray crosses triangles below each: for volumes that no formula gives."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.pose import Array

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


def crossings(corners: Array, triangles: NDArray[Any], grid: Grid) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """How often a ray along z crosses triangles below each point (nx, ny, nz), and in each column (nx, ny).

    Every triangle is laid over the columns whose middles lie in it, seen along z; the heights at which columns cross
    triangles are counted.

    Args:
        corners: (n, 3) in the grid's frame, m.
        triangles: (m, 3) numbers of corners.
        grid: where.
    """
    nx, ny, nz = grid.counts
    corners = (corners - grid.low) / grid.cell - 0.5
    # Off the grid by a little that no drawing has, so that no column meets an edge.
    t = corners[triangles] + np.array((1.7e-5, 2.9e-5, 0.0))
    low = np.maximum(np.ceil(t[:, :, :2].min(axis=1)), 0).astype(int)
    high = np.minimum(np.floor(t[:, :, :2].max(axis=1)), (nx - 1, ny - 1)).astype(int)
    wide = np.maximum(high - low + 1, 0)
    counts = wide.prod(axis=1)
    which = np.repeat(np.arange(len(t)), counts)
    number = np.arange(len(which)) - np.repeat(np.cumsum(counts) - counts, counts)
    if len(which) == 0:
        return np.zeros(grid.counts, np.int64), np.zeros((nx, ny), np.int64)
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
    found = np.zeros((nx, ny, nz + 1), np.int64)
    np.add.at(found, (x[hit], y[hit], np.clip(np.ceil(z[hit]), 0, nz).astype(int)), 1)
    return np.cumsum(found, axis=2)[:, :, :nz], found.sum(axis=2)
