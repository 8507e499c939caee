"""Cubic polynomials along a road, one after another: heights, crossfall, widths and offsets."""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from veldrain.pose import Array

Cubic = tuple[float, float, float, float, float]  # where it begins, and a, b, c, d: a + b·ds + c·ds² + d·ds³


@dataclass(frozen=True)
class Profile:
    """Cubics along a road; 0 where there is none.

    >>> Profile.of([(0, 1, 0.5, 0, 0)]).at([2.0]).tolist()
    [2.0]
    """

    rows: tuple[Cubic, ...] = ()

    @classmethod
    def of(cls, rows: Iterable[Sequence[float]]) -> Profile:
        """The profile of rows in any order."""
        return cls(tuple(sorted((float(s), float(a), float(b), float(c), float(d)) for s, a, b, c, d in rows)))

    @classmethod
    def even(cls, value: float) -> Profile:
        """The same all along; no rows for 0."""
        return cls(((0.0, float(value), 0.0, 0.0, 0.0),)) if value else cls()

    @classmethod
    def through(cls, s: Sequence[float], values: Sequence[float]) -> Profile:
        """A smooth one through values, which never goes beyond them (monotone cubics)."""
        from scipy.interpolate import PchipInterpolator

        if len(s) == 1 or len(set(values)) == 1:
            return cls.even(values[0])
        c = PchipInterpolator(s, values).c
        return cls.of((s[k], *c[::-1, k]) for k in range(len(s) - 1))

    def value(self, s: float, order: int = 0) -> float:
        """The value at one length, or its first derivative: a tenth of the time of ``at``."""
        if not self.rows:
            return 0.0
        start, a, b, c, d = self.rows[max(0, bisect_right(self.rows, (s, math.inf)) - 1)]
        u = s - start
        return a + u * (b + u * (c + u * d)) if order == 0 else b + u * (2 * c + 3 * u * d)

    @cached_property
    def _table(self) -> Array:
        return np.array(self.rows, float).reshape(-1, 5)

    def at(self, s: Any, order: int = 0) -> Array:
        """Values (n,) at lengths (n,), or their first or second derivative."""
        s = np.asarray(s, float)
        if not self.rows:
            return np.zeros(s.shape)
        table = self._table
        k = np.clip(np.searchsorted(table[:, 0], s, side="right") - 1, 0, len(table) - 1)
        a, b, c, d = (table[k, n] for n in range(1, 5))
        u = s - table[k, 0]
        if order == 0:
            return np.asarray(a + u * (b + u * (c + u * d)))
        return np.asarray(b + u * (2 * c + 3 * u * d)) if order == 1 else np.asarray(2 * c + 6 * d * u)
