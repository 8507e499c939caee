"""Lenses: from directions to pixels and back.

Pixel (0, 0) is the middle of the upper left one. The picture's middle is ((columns − 1)/2, (rows − 1)/2).
"""

from __future__ import annotations

import math
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.pose import Array


class Lens:
    """A pinhole or fisheye lens over a grid of pixels.

    Args:
        size: (columns, rows).
        field: horizontal, rad; or None.
        focal: in pixels; or None.
        distortion: coefficients; none: none.
        fisheye: True for an equidistant lens.
    """

    def __init__(
        self,
        size: tuple[int, ...],
        field: float | None,
        focal: float | None,
        distortion: tuple[float, ...],
        fisheye: bool,
    ) -> None:
        if len(size) != 2 or not all(isinstance(n, int | np.integer) and 1 <= n <= 16384 for n in size):
            raise VeldrainError(
                f"a size of {size!r} pixels", where="Camera size", cure="give (columns, rows), 1 or more"
            )
        if (field is not None) == (focal is not None):
            if focal is not None:
                raise VeldrainError("field_of_view and focal_length", where="Camera", cure="give one of them")
            field = math.pi / 2
        self.size, self.fisheye, self.distortion = (int(size[0]), int(size[1])), fisheye, distortion
        limit = 2 * math.pi if fisheye else math.pi
        if field is not None and not 0 < field < limit + (1e-9 if fisheye else -1e-6):
            raise VeldrainError(
                f"field_of_view is {math.degrees(field):g}° of a {'fisheye' if fisheye else 'pinhole'}",
                where="Camera",
                cure="give up to 360°" if fisheye else "give less than 180°, or fisheye=True",
            )
        if focal is not None and not 0 < focal < math.inf:
            raise VeldrainError(f"focal_length is {focal:g} pixels", where="Camera", cure="give more than 0")
        known = 4 if fisheye else 5
        if len(distortion) > known or not np.isfinite(distortion).all():
            raise VeldrainError(
                f"a distortion of {distortion!r}", where="Camera distortion", cure=f"give up to {known} numbers"
            )
        half = self.size[0] / 2
        self.focal = focal if focal is not None else half / (field / 2 if fisheye else math.tan(field / 2))  # type: ignore[operator]
        self._k = np.array([*distortion, *[0.0] * (known - len(distortion))])

    @property
    def matrix(self) -> Array:
        """K (3, 3)."""
        columns, rows = self.size
        return np.array([[self.focal, 0, (columns - 1) / 2], [0, self.focal, (rows - 1) / 2], [0, 0, 1.0]])

    def project(self, points: Array) -> Array:
        """Pixels (n, 2) of points (n, 3) in the mount's axes."""
        x, y, z = -points[:, 1], -points[:, 2], points[:, 0]
        with np.errstate(invalid="ignore", divide="ignore"):
            if self.fisheye:
                across = np.hypot(x, y)
                angle = np.arctan2(across, z)
                scale = np.where(across > 0, self._bent(angle) / np.where(across > 0, across, 1.0), 0.0)
                flat = np.stack([x * scale, y * scale], axis=1)
            else:
                flat = self._shifted(np.stack([x, y], axis=1) / np.where(z > 0, z, math.nan)[:, None])
        return np.asarray(flat * self.focal + self.matrix[:2, 2])

    def _bent(self, angle: Array) -> Array:
        """Distance from the middle, in focal lengths, of an angle off the axis."""
        square = angle**2
        k1, k2, k3, k4 = self._k
        return np.asarray(angle * (1 + square * (k1 + square * (k2 + square * (k3 + square * k4)))))

    def _shifted(self, flat: Array) -> Array:
        """Points (n, 2) of the plane at distance 1 as the lens moves them."""
        if not self._k.any():
            return flat
        x, y = flat.T
        k1, k2, p1, p2, k3 = self._k
        square = x * x + y * y
        radial = 1 + square * (k1 + square * (k2 + square * k3))
        return np.stack(
            [
                x * radial + 2 * p1 * x * y + p2 * (square + 2 * x * x),
                y * radial + p1 * (square + 2 * y * y) + 2 * p2 * x * y,
            ],
            axis=1,
        )

    def rays_of(self, pixels: Array) -> Array:
        """Unit vectors (n, 3) in the mount of pixels (n, 2), by Newton's method.

        Raises:
            VeldrainError: no direction is seen at a pixel, as the distortion folds the picture over.
        """
        seen = (pixels - self.matrix[:2, 2]) / self.focal
        if self.fisheye:
            wanted = np.hypot(*seen.T)
            angle = wanted.copy()
            if self._k.any():
                for _ in range(30):
                    slope = (self._bent(angle + 1e-6) - self._bent(angle - 1e-6)) / 2e-6
                    angle = angle - (self._bent(angle) - wanted) / np.where(np.abs(slope) > 1e-3, slope, 1e-3)
                self._prove(np.abs(self._bent(angle) - wanted))
            share = np.where(wanted > 0, np.sin(angle) / np.where(wanted > 0, wanted, 1.0), 0.0)
            return np.stack([np.cos(angle), -seen[:, 0] * share, -seen[:, 1] * share], axis=1)
        flat = seen.copy()
        if self._k.any():
            step = 1e-6
            along_x, along_y = np.array((step, 0.0)), np.array((0.0, step))
            for _ in range(30):
                wrong = self._shifted(flat) - seen
                by_x = (self._shifted(flat + along_x) - self._shifted(flat - along_x)) / (2 * step)
                by_y = (self._shifted(flat + along_y) - self._shifted(flat - along_y)) / (2 * step)
                det = by_x[:, 0] * by_y[:, 1] - by_x[:, 1] * by_y[:, 0]
                det = np.where(np.abs(det) > 1e-3, det, 1e-3)
                x = wrong[:, 0] * by_y[:, 1] - wrong[:, 1] * by_y[:, 0]
                y = wrong[:, 1] * by_x[:, 0] - wrong[:, 0] * by_x[:, 1]
                flat = flat - np.stack([x, y], axis=1) / det[:, None]
            self._prove(np.abs(self._shifted(flat) - seen).max(axis=1))
        ways = np.stack([np.ones(len(flat)), -flat[:, 0], -flat[:, 1]], axis=1)
        return np.asarray(ways / np.linalg.norm(ways, axis=1, keepdims=True))

    def _prove(self, wrong: Array) -> None:
        if not (wrong * self.focal < 1e-3).all():
            raise VeldrainError(
                "the distortion folds the picture over at its edge",
                where="Camera distortion",
                cure="look at the signs and sizes of its numbers, or take a smaller field",
            )

    @cached_property
    def rays(self) -> Array:
        """Unit vectors (rows·columns, 3) through the middles of all pixels, row by row."""
        return self.rays_of(self._grid(np.arange(self.size[0]), np.arange(self.size[1])))

    @cached_property
    def corners(self) -> Array:
        """Unit vectors (rows + 1, columns + 1, 3) through the corners of all pixels."""
        columns, rows = self.size
        found = self.rays_of(self._grid(np.arange(columns + 1) - 0.5, np.arange(rows + 1) - 0.5))
        return found.reshape(rows + 1, columns + 1, 3)

    @staticmethod
    def _grid(columns: NDArray[Any], rows: NDArray[Any]) -> Array:
        u, v = np.meshgrid(columns, rows)
        return np.stack([u.ravel(), v.ravel()], axis=1).astype(float)

    def some_rays(self, across: int = 25, down: int = 19) -> Array:
        """Unit vectors (n, 3) of a coarse grid over the picture, up to its edges."""
        columns, rows = self.size
        return self.rays_of(self._grid(np.linspace(0, columns - 1, across), np.linspace(0, rows - 1, down)))
