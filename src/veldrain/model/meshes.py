"""Shapes made of triangles: meshes, and grounds of given heights."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from veldrain.errors import VeldrainError, unknown
from veldrain.model.shapes import Shape
from veldrain.pose import Array
from veldrain.units import Quantity, quantity

COLLIDE = ("hull", "triangles")


class Mesh(Shape):
    """A shape from a mesh of triangles, whose corners turn left seen from outside.

    Args:
        path: a file that ``trimesh`` reads (STL, OBJ, PLY, …).
        scale: what its numbers are multiplied with to be metres; one for all axes, or three.
        collide: ``"hull"``: what touches is the convex hull; ``"triangles"``: the exact triangles, touched from
            outside, for what is fixed in the world.

    Raises:
        VeldrainError: no such file, not a mesh, no volume to fill with mass.

    >>> Mesh.of([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], [(0, 2, 1), (0, 1, 3), (0, 3, 2), (1, 2, 3)]).volume
    0.16666666666666666
    """

    def __init__(
        self,
        path: str | Path,
        scale: float | Sequence[float] = 1.0,
        collide: Literal["hull", "triangles"] = "hull",
    ) -> None:
        import trimesh  # takes a while

        self.source = str(path)
        if not Path(path).is_file():
            raise VeldrainError("no such mesh file", where=self.source, cure="give the path of a file")
        try:
            mesh: Any = trimesh.load(path, force="mesh")
            corners, triangles = np.asarray(mesh.vertices, float), np.asarray(mesh.faces, np.int64)
        except Exception as error:  # whatever the reader of a broken file stumbles over
            raise VeldrainError(f"not a mesh that can be read ({error})", where=self.source) from error
        self._take(corners * np.asarray(scale, float), triangles, collide)

    @classmethod
    def of(
        cls,
        corners: ArrayLike,
        triangles: ArrayLike,
        collide: Literal["hull", "triangles"] = "hull",
        name: str = "mesh",
    ) -> Mesh:
        """A mesh from corners (n, 3) in m and triangles (m, 3) of their numbers."""
        made = cls.__new__(cls)
        made.source = name
        made._take(np.asarray(corners, float), np.asarray(triangles, np.int64), collide)
        return made

    def _take(self, corners: Array, triangles: NDArray[np.int64], collide: str) -> None:
        if collide not in COLLIDE:
            raise unknown("way to collide", collide, COLLIDE, self.source)
        fits = corners.ndim == triangles.ndim == 2 and corners.shape[1] == triangles.shape[1] == 3 and len(triangles)
        if not fits or triangles.min() < 0 or triangles.max() >= len(corners) or not np.isfinite(corners).all():
            cure = "give corners (n, 3) and triangles (m, 3) of them"
            raise VeldrainError("not a mesh", where=self.source, cure=cure)
        self.corners, self.triangles, self.collide = corners, triangles, collide

    def _solid(self) -> Any:
        import trimesh

        mesh = trimesh.Trimesh(self.corners, self.triangles)  # joins corners that coincide
        if not mesh.is_watertight or mesh.volume <= 0:
            broken = "is not closed" if not mesh.is_watertight else "has its inside out"
            raise VeldrainError(
                f"the mesh {broken}, so that it has no volume", where=self.source,
                cure="close it, or give mass=, com= and inertia= of the link",
            )  # fmt: skip
        return mesh

    @property
    def volume(self) -> float:  # type: ignore[override]
        """Volume in m³."""
        return float(self._solid().volume)

    @property
    def centre(self) -> Array:
        return np.asarray(self._solid().center_mass)

    def unit_inertia(self) -> Array:
        return np.asarray(self._solid().moment_inertia) / self.volume

    def __repr__(self) -> str:
        return f"Mesh({self.source!r}, {len(self.triangles)} triangles, collide={self.collide!r})"


class HeightField(Mesh):
    """A ground of given heights over a level grid, fixed in the world; touched from above.

    Args:
        heights: (rows, columns) in m: rows go along x, columns along y. The grid's middle is the shape's origin.
        spacing: between neighbours, m.

    Raises:
        VeldrainError: less than 2 × 2 heights, a height that is no number.

    >>> HeightField(np.zeros((3, 5)), spacing="50 cm").corners[-1].tolist()
    [0.5, 1.0, 0.0]
    """

    def __init__(self, heights: ArrayLike, spacing: Quantity) -> None:
        z = np.asarray(heights, float)
        gap = quantity(spacing, "length", "spacing")
        self.source = "height field"
        if z.ndim != 2 or min(z.shape) < 2 or not np.isfinite(z).all() or not 0 < gap < np.inf:
            raise VeldrainError(
                f"heights of shape {z.shape} {gap:g} m apart", where=self.source,
                cure="give at least 2 × 2 finite heights and a spacing above zero",
            )  # fmt: skip
        rows, columns = z.shape
        x, y = np.meshgrid(np.arange(rows) - (rows - 1) / 2, np.arange(columns) - (columns - 1) / 2, indexing="ij")
        corners = np.stack([x * gap, y * gap, z], axis=-1).reshape(-1, 3)
        k = np.arange(rows * columns).reshape(z.shape)
        a, b, c, d = k[:-1, :-1], k[1:, :-1], k[1:, 1:], k[:-1, 1:]
        triangles = np.concatenate([np.stack(t, axis=-1).reshape(-1, 3) for t in ((a, b, c), (a, c, d))])
        self._take(corners, triangles, "triangles")
