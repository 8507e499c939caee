"""A grid over the ground, the shortest way over it, and a curve that a vehicle can drive."""

from __future__ import annotations

import math
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.physics.roaming import Roaming
from veldrain.pose import Array

if TYPE_CHECKING:
    from scipy.sparse import csr_array

CORNER_STEPS = 8  # points of a rounded corner


class NoPath(VeldrainError):  # noqa: N818  # it is what was found, and says what is in the way
    """There is no path, or none was found; says what is in the way."""


class Grid:
    """Which cells of the ground are free for a probe, and the shortest way over them.

    Args:
        roaming: the probe, which is set onto each cell.
        ends: where the way begins and ends, (2,) m each.
        cell: side of a cell, m.
        room: how far it reaches beyond the two ends, m.
        height: of the probe's middle, m.
        bend: radius of rounded corners, m: cells keep so far away that the inside of a right angle has room.
    """

    def __init__(
        self, roaming: Roaming, ends: list[Array], cell: float, room: float, height: float, bend: float
    ) -> None:
        low, high = np.minimum(*ends) - room, np.maximum(*ends) + room
        self._roaming, self._height = roaming, height
        self._shape = tuple(int(n) for n in np.ceil((high - low) / cell) + 1)
        self._low, self._cell = low, cell
        x, y = np.meshgrid(*(np.arange(n) * cell + o for n, o in zip(self._shape, low, strict=True)), indexing="ij")
        self._points = np.column_stack([x.ravel(), y.ravel()])
        self._bend = bend
        with self._wider():
            self._is_free = self._met(self._points) < 0

    @contextmanager
    def _wider(self) -> Iterator[None]:
        """Keep away by what a rounded right angle cuts off."""
        self._roaming.margin = self._bend * (math.sqrt(2.0) - 1.0)
        yield
        self._roaming.margin = 0.0

    def _met(self, points: Array) -> NDArray[np.int64]:
        """What the probe meets at points (n, 2): a number of a pair, −1 for nothing."""
        rows = np.zeros((len(points), 7))
        rows[:, :2], rows[:, 2], rows[:, 6] = points, self._height, 1.0
        return self._roaming.met(rows)

    def _sees(self, a: Array, b: Array) -> bool:
        """True where the straight way between two points is free."""
        count = max(2, math.ceil(float(np.linalg.norm(b - a)) / (0.5 * self._cell)))
        return bool((self._met(a + np.linspace(0.0, 1.0, count)[:, None] * (b - a)) < 0).all())

    def way(self, start: Array, goal: Array) -> Array:
        """The shortest way (k, 2) with rounded corners.

        Raises:
            NoPath: an end is in something, or nothing leads there.
        """
        from scipy.sparse.csgraph import dijkstra

        for word, end in (("start", start), ("goal", goal)):
            met = int(self._met(end[None])[0])
            if met >= 0:
                raise NoPath(
                    f"the {word} ({end[0]:.3g}, {end[1]:.3g}) is in {self._roaming.other_side(met)}",
                    where="plan_route",
                    cure="move it, or give a smaller radius",
                )
        if not self._is_free.any():
            raise NoPath("no cell is free", where="plan_route", cure="give a smaller radius, or a smaller cell")
        first, last = (self._nearest(end) for end in (start, goal))
        graph: Any = self._graph()  # its stubs know older kinds of matrix
        lengths, before = (rows[0] for rows in dijkstra(graph, indices=[first], return_predecessors=True))
        if math.isinf(lengths[last]):
            around = self._is_free.reshape(self._shape)
            reached = np.isfinite(lengths).reshape(self._shape)
            edge = self._points[(self._beside(reached) & ~around).ravel()]
            beyond = self._met(edge) if len(edge) else np.zeros(0, np.int64)
            names = sorted({self._roaming.other_side(int(k)) for k in beyond if k >= 0})
            raise NoPath(
                f"nothing leads from start to goal: {', '.join(names[:4]) or 'the edge of the room'} in between",
                where="plan_route",
                cure="give a smaller radius, or more room",
            )
        cells = [last]
        while cells[-1] != first:
            cells.append(int(before[cells[-1]]))
        points = [start, *self._points[cells[::-1]], goal]
        with self._wider():
            tight = self._tight(points)
        return self._rounded(tight)

    def _nearest(self, end: Array) -> int:
        away = np.linalg.norm(self._points - end, axis=1)
        away[~self._is_free] = np.inf
        return int(np.argmin(away))

    @staticmethod
    def _beside(cells: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Cells that are, or have beside them, one that is marked."""
        found = cells.copy()
        found[1:] |= cells[:-1]
        found[:-1] |= cells[1:]
        found[:, 1:] |= cells[:, :-1]
        found[:, :-1] |= cells[:, 1:]
        return found

    def _graph(self) -> csr_array[np.float64]:
        """Free cells joined to their eight neighbours, with the distance."""
        from scipy.sparse import csr_array

        number = np.arange(len(self._points)).reshape(self._shape)
        free = self._is_free.reshape(self._shape)
        rows, columns, lengths = [], [], []
        for dx, dy in ((1, 0), (0, 1), (1, 1), (1, -1)):
            a = np.s_[: self._shape[0] - dx, max(0, -dy) : self._shape[1] - max(0, dy)]
            b = np.s_[dx:, max(0, dy) : self._shape[1] + min(0, dy)]
            both = free[a] & free[b]
            rows.append(number[a][both])
            columns.append(number[b][both])
            lengths.append(np.full(int(both.sum()), math.hypot(dx, dy) * self._cell))
        i, j, d = (np.concatenate(part) for part in (rows, columns, lengths))
        size = len(self._points)
        return csr_array((np.tile(d, 2), (np.concatenate([i, j]), np.concatenate([j, i]))), shape=(size, size))

    def _tight(self, points: list[Array]) -> list[Array]:
        """Leave out points that the one before can see past."""
        found, k = [points[0]], 0
        while k < len(points) - 1:
            far = next((j for j in range(len(points) - 1, k + 1, -1) if self._sees(points[k], points[j])), k + 1)
            found.append(points[far])
            k = far
        return found

    def _rounded(self, points: list[Array]) -> Array:
        """The same with an arc for each corner.

        Raises:
            NoPath: a corner has no room for it.
        """
        bend = self._bend
        if bend <= 0.0 or len(points) < 3:
            return np.array(points)
        found = [points[0]]
        for a, b, c in zip(points[:-2], points[1:-1], points[2:], strict=True):
            u, v = b - a, c - b
            lu, lv = float(np.linalg.norm(u)), float(np.linalg.norm(v))
            u, v = u / lu, v / lv
            turn = math.atan2(u[0] * v[1] - u[1] * v[0], float(u @ v))
            cut = bend * abs(math.tan(turn / 2))
            if cut > 0.5 * min(lu, lv) + 1e-9:
                raise NoPath(
                    f"no room for a curve of {bend:.3g} m at ({b[0]:.3g}, {b[1]:.3g})",
                    where="plan_route",
                    cure="give a smaller turning_radius, or a larger cell",
                )
            side = math.copysign(1.0, turn)
            centre = b - cut * u + side * bend * np.array((-u[1], u[0]))
            begin = b - cut * u - centre
            arc = []
            for k in range(CORNER_STEPS + 1):
                s, co = math.sin(turn * k / CORNER_STEPS), math.cos(turn * k / CORNER_STEPS)
                arc.append(centre + np.array((co * begin[0] - s * begin[1], s * begin[0] + co * begin[1])))
            if not all(self._sees(p, q) for p, q in pairwise(arc)):
                raise NoPath(
                    f"a curve of {bend:.3g} m at ({b[0]:.3g}, {b[1]:.3g}) meets something",
                    where="plan_route",
                    cure="give a larger radius of the robot, so that corners have room, or a smaller turning_radius",
                )
            found += arc
        return np.array([*found, points[-1]])
