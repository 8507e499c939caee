"""Plane curves whose curvature changes evenly along each piece: lines, arcs, clothoids, and what is made of them.

A piece is κ(s) = k + c·s, θ(s) = θ₀ + k·s + c·s²/2, and (x, y)(s) = (x₀, y₀) + ∫ (cos θ, sin θ) ds: a clothoid, whose
integral has no closed form in elementary functions (of Fresnel's kind: M. Abramowitz, I. A. Stegun, Handbook of
Mathematical Functions, 1964, section 7.3). Pieces turn so little that Gauss–Legendre quadrature is exact to the last
digits.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Iterable, Sequence
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.pose import Array

if TYPE_CHECKING:
    from scipy.interpolate import CubicSpline
    from scipy.spatial import cKDTree

TURN = 0.25  # rad: no piece turns more
LONGEST = 50.0  # m: no piece is longer
MOST_PIECES = 1_000_000  # 250 km of samples: a point that lies far off must not ask for more memory than there is
FINE = 0.25  # m between samples of curves that are no clothoids, where they are gentle
_AT, _WEIGHTS = np.polynomial.legendre.leggauss(8)
_AT, _WEIGHTS = (_AT + 1.0) / 2.0, _WEIGHTS / 2.0
_NODES = list(zip(_AT.tolist(), _WEIGHTS.tolist(), strict=True))


class Curve:
    """A curve in the plane.

    Args:
        s, x, y, heading, k, c: (n,) where each piece begins, and its curvature there and its change; SI.
        length: of all.
        closed: True where its end is its start.

    >>> Curve.of([(10.0, 0.0, 0.0), (math.pi, 1.0, 1.0)]).at(np.array([10.0 + math.pi]))[1].round(9).tolist()
    [2.0]
    """

    def __init__(
        self, s: Array, x: Array, y: Array, heading: Array, k: Array, c: Array, length: float, closed: bool = False
    ) -> None:
        self.s, self.x, self.y, self.heading, self.k, self.c = s, x, y, heading, k, c
        self.length, self.closed = float(length), closed

    @classmethod
    def of(cls, parts: Iterable[tuple[float, float, float]], start: Sequence[float] = (0.0, 0.0, 0.0)) -> Curve:
        """A curve of parts one after another.

        Args:
            parts: length (m), and curvature (1/m) at the start and at the end, of each.
            start: x, y and heading.
        """
        rows, s = [], 0.0
        x, y, heading = start
        parts = [part for part in parts if part[0] > 0.0]
        _enough(sum(length * max(abs(first), abs(last)) / TURN + length / LONGEST for length, first, last in parts))
        for length, first, last in parts:
            count = max(1, math.ceil(length * max(abs(first), abs(last)) / TURN), math.ceil(length / LONGEST))
            change, each = (last - first) / length, length / count
            for n in range(count):
                k = first + change * n * each
                rows.append((s, x, y, heading, k, change))
                dx, dy, heading = _step(each, heading, k, change)
                x, y, s = x + dx, y + dy, s + each
        if not rows:
            raise VeldrainError("a curve without length", where="curve", cure="give a part of a length above zero")
        table = np.array(rows).T
        return cls(table[0], table[1], table[2], table[3], table[4], table[5], s)

    @classmethod
    def sampled(cls, s: Array, x: Array, y: Array, heading: Array, k: Array, closed: bool = False) -> Curve:
        """A curve through samples (n,) so dense that its curvature changes evenly between two: headings agree."""
        steps = np.diff(s)
        c = 2.0 * (np.diff(heading) / steps - k[:-1]) / steps
        return cls(s[:-1], x[:-1], y[:-1], heading[:-1], k[:-1], c, s[-1], closed)

    @classmethod
    def through(cls, points: Array, closed: bool = False) -> Curve:
        """A smooth curve through points (n, 2): a cubic spline over the chords, of continuous curvature.

        A chord of more than twice its neighbours is straight but near its ends: a spline would swing wide there.
        """
        from scipy.interpolate import CubicSpline

        at = _evened(np.vstack([points, points[:1]]) if closed else points, closed)
        chords = np.linalg.norm(np.diff(at, axis=0), axis=1)
        if len(points) == 2 and not closed:
            turn = math.atan2(*(points[1] - points[0])[::-1])
            return cls.of([(float(chords[0]), 0.0, 0.0)], (*points[0], turn))
        u = np.concatenate([[0.0], np.cumsum(chords)])
        spline = CubicSpline(u, at, bc_type="periodic" if closed else "not-a-knot")
        rough = np.unique(np.concatenate([np.linspace(a, b, 33) for a, b in pairwise(u)]))
        wanted = np.maximum(1.0 / FINE, np.abs(_bend(spline, rough)) / 0.02)  # samples a metre
        so_far = np.concatenate([[0.0], np.cumsum((wanted[1:] + wanted[:-1]) / 2 * np.diff(rough))])
        _enough(float(so_far[-1]))
        knots = np.interp(np.linspace(0.0, so_far[-1], math.ceil(so_far[-1]) + 1), so_far, rough)
        knots = np.unique(np.concatenate([knots, u]))
        knots = knots[np.concatenate([[True], np.diff(knots) > 1e-9])]
        steps = np.diff(knots)
        inner = knots[:-1, None] + steps[:, None] * _AT
        speeds = np.hypot(*np.moveaxis(spline(inner, 1), -1, 0))
        s = np.concatenate([[0.0], np.cumsum(steps * (speeds @ _WEIGHTS))])
        place, way = spline(knots), spline(knots, 1)
        heading = np.unwrap(np.arctan2(way[:, 1], way[:, 0]))
        return cls.sampled(s, place[:, 0], place[:, 1], heading, _bend(spline, knots), closed)

    @classmethod
    def rounded(cls, points: Array, radius: float, closed: bool = False) -> Curve:
        """Straight lines between points (n, 2), their corners rounded: a clothoid, an arc and a clothoid each.

        Half of each turn is the arc's. Neighbouring corners must leave each other room.

        Raises:
            VeldrainError: a corner has no room for its radius.
        """
        count = len(points)
        legs = np.roll(points, -1, axis=0) - points
        legs = legs if closed else legs[:-1]
        lengths, ways = np.linalg.norm(legs, axis=1), np.arctan2(legs[:, 1], legs[:, 0])
        corners = range(count) if closed else range(1, count - 1)
        cut, turns = np.zeros(count), np.zeros(count)
        for n in corners:
            turns[n] = math.remainder(ways[n % len(ways)] - ways[n - 1], 2 * math.pi)
            if abs(turns[n]) > 1e-12:
                bend = cls.of(_corner(abs(turns[n]), radius))
                x, y, _, _ = (float(v[0]) for v in bend.at(np.array([bend.length])))
                cut[n] = x - y / math.tan(abs(turns[n])) if abs(abs(turns[n]) - math.pi) > 1e-6 else math.inf
        parts: list[tuple[float, float, float]] = []
        for n, length in enumerate(lengths):
            after = (n + 1) % count
            left = length - cut[n] - cut[after]
            if left < -1e-9:
                raise VeldrainError(
                    f"corners {n + 1} and {after + 1} need {cut[n] + cut[after]:.3g} m, and are {length:.3g} m apart",
                    where="route",
                    cure="give a smaller radius, or fewer points",
                )
            if left > 1e-9:
                parts.append((left, 0.0, 0.0))
            if abs(turns[after]) > 1e-12 and (closed or after != 0):
                sign = math.copysign(1.0, turns[after])
                parts += [(piece, sign * a, sign * b) for piece, a, b in _corner(abs(turns[after]), radius)]
        begin = points[0] + cut[0] * np.array([math.cos(ways[0]), math.sin(ways[0])])
        made = cls.of(parts, (*begin, ways[0]))
        made.closed = closed
        return made

    def at(self, s: Array) -> tuple[Array, Array, Array, Array]:
        """x, y, heading and curvature (n,) at lengths (n,); before its start and after its end it goes on straight."""
        s = np.asarray(s, float)
        if self.closed:
            s = np.mod(s, self.length)
        inside = np.clip(s, 0.0, self.length)
        n = np.clip(np.searchsorted(self.s, inside, side="right") - 1, 0, len(self.s) - 1)
        u, k, c = inside - self.s[n], self.k[n], self.c[n]
        inner = u[..., None] * _AT
        turns = self.heading[n][..., None] + inner * (k[..., None] + 0.5 * c[..., None] * inner)
        x, y = self.x[n] + u * (np.cos(turns) @ _WEIGHTS), self.y[n] + u * (np.sin(turns) @ _WEIGHTS)
        heading = self.heading[n] + u * (k + 0.5 * c * u)
        beyond = s - inside
        return x + beyond * np.cos(heading), y + beyond * np.sin(heading), heading, np.where(beyond, 0.0, k + c * u)

    def to_xy(self, s: Array, t: Array) -> tuple[Array, Array]:
        """x and y of points at lengths s and t to the left."""
        x, y, heading, _ = self.at(s)
        return x - t * np.sin(heading), y + t * np.cos(heading)

    def to_st(self, x: Array, y: Array) -> tuple[Array, Array]:
        """Length s of the nearest points of the curve, and how far left of it points are; s within its length."""
        x, y = np.broadcast_arrays(np.asarray(x, float), np.asarray(y, float))
        grid, tree = self._tree
        _, near = tree.query(np.stack([x, y], axis=-1))
        s = grid[near]
        spacing = float(np.diff(grid).max())
        for _ in range(40):
            px, py, heading, k = self.at(s)
            dx, dy = x - px, y - py
            along, across = dx * np.cos(heading) + dy * np.sin(heading), dy * np.cos(heading) - dx * np.sin(heading)
            step = np.clip(along / np.maximum(1.0 - k * across, 0.2), -spacing, spacing)
            after = s + step
            after = np.mod(after, self.length) if self.closed else np.clip(after, 0.0, self.length)
            done = np.abs(after - s).max(initial=0.0) < 1e-12 * max(self.length, 1.0)
            s = after
            if done:
                break
        px, py, heading, _ = self.at(s)
        dx, dy = x - px, y - py
        side = dy * np.cos(heading) - dx * np.sin(heading)
        return s, np.copysign(np.hypot(dx, dy), side) if not self.closed else side

    def foot(self, x: float, y: float) -> tuple[float, float, float, float]:
        """Of one point: the length of the nearest point of the curve, how far left of it and how far ahead of it the
        point is (0 but for what is beyond an end), and the heading there. A tenth of the time of ``to_st``."""
        grid, tree = self._tree
        s, reach = float(grid[tree.query((x, y))[1]]), float(grid[1] - grid[0])
        for _ in range(40):
            px, py, heading, k = self._point(s)
            c, sine = math.cos(heading), math.sin(heading)
            ahead, left = (x - px) * c + (y - py) * sine, (y - py) * c - (x - px) * sine
            after = s + min(max(ahead / max(1.0 - k * left, 0.2), -reach), reach)
            after = after % self.length if self.closed else min(max(after, 0.0), self.length)
            if abs(after - s) < 1e-9:
                break
            s = after
        return s, left, ahead, heading

    def _point(self, s: float) -> tuple[float, float, float, float]:
        """x, y, heading and curvature at one length."""
        starts, rows = self._rows
        x, y, heading, k, c = rows[max(0, bisect_right(starts, s) - 1)]
        u = s - starts[max(0, bisect_right(starts, s) - 1)]
        for at, weight in _NODES:
            turn = heading + u * at * (k + 0.5 * c * u * at)
            x += u * weight * math.cos(turn)
            y += u * weight * math.sin(turn)
        return x, y, heading + u * (k + 0.5 * c * u), k + c * u

    @cached_property
    def _rows(self) -> tuple[list[float], list[tuple[float, ...]]]:
        columns = (self.x, self.y, self.heading, self.k, self.c)
        return self.s.tolist(), list(zip(*(column.tolist() for column in columns), strict=True))

    @cached_property
    def _tree(self) -> tuple[Array, cKDTree]:
        from scipy.spatial import cKDTree

        grid = np.linspace(0.0, self.length, max(2, math.ceil(self.length / 2.0), 4 * min(len(self.s), 2000)) + 1)
        x, y, _, _ = self.at(grid)
        return grid, cKDTree(np.column_stack([x, y]))

    def split(self, longest: float) -> Curve:
        """The same curve in pieces no longer than that."""
        ends = np.append(self.s[1:], self.length)
        counts = np.maximum(1, np.ceil((ends - self.s) / longest)).astype(int)
        n = np.repeat(np.arange(len(self.s)), counts)
        within = np.arange(len(n)) - np.repeat(np.cumsum(counts) - counts, counts)
        s = self.s[n] + within * ((ends - self.s) / counts)[n]
        x, y, heading, k = self.at(s)
        first = within == 0  # to the digit as it was
        for mine, theirs in ((x, self.x), (y, self.y), (heading, self.heading), (k, self.k)):
            mine[first] = theirs
        return Curve(s, x, y, heading, k, self.c[n], self.length, self.closed)

    def jumps(self) -> float:
        """The largest jump of its heading between two pieces, rad."""
        ends = np.append(self.s[1:], self.length) - self.s
        last = self.heading + ends * (self.k + 0.5 * self.c * ends)
        return float(np.abs(np.remainder(last[:-1] - self.heading[1:] + np.pi, 2 * np.pi) - np.pi).max(initial=0.0))


def _enough(pieces: float) -> None:
    """Refuse what is too long or too curved to be cut into pieces."""
    if not pieces <= MOST_PIECES:
        raise VeldrainError(
            f"a curve of more than {MOST_PIECES:,} pieces",
            where="curve",
            cure="look at its points and numbers: one lies far off; or give corners a radius",
        )


def _evened(points: Array, closed: bool) -> Array:
    """Points (n, 2), with more of them on chords of more than twice their neighbours.

    The first beside a chord of its own is as far as that is long; from there on they are twice as far each, so that
    few lead to a point that lies far off.
    """
    added = np.zeros(len(points) - 1, bool)  # chords
    while len(points) > 2:
        chords = np.linalg.norm(np.diff(points, axis=0), axis=1)
        before = np.concatenate([[chords[-1] if closed else math.inf], chords[:-1]])
        after = np.concatenate([chords[1:], [chords[0] if closed else math.inf]])
        long = np.flatnonzero((chords > 2.0 * np.minimum(before, after)) & (chords > 0.5))
        if not len(long):
            break
        k = int(long[chords[long].argmin()])  # the shortest of them first, so that the others follow in steps
        is_first = before[k] <= after[k]
        beside = (k - 1 if is_first else k + 1) % len(chords)
        share = min((2.0 if added[beside] else 1.0) * chords[beside] / chords[k], 0.5)
        at = points[k] + (share if is_first else 1.0 - share) * (points[k + 1] - points[k])
        points, added = np.insert(points, k + 1, at, axis=0), np.insert(added, k if is_first else k + 1, True)
    return points


def _corner(turn: float, radius: float) -> list[tuple[float, float, float]]:
    """Clothoid, arc and clothoid that turn to the left."""
    k, half = 1.0 / radius, radius * turn / 2.0
    return [(half, 0.0, k), (half, k, k), (half, k, 0.0)]


def _step(length: float, heading: float, k: float, c: float) -> tuple[float, float, float]:
    at = length * _AT
    turns = heading + at * (k + 0.5 * c * at)
    end = heading + length * (k + 0.5 * c * length)
    return length * float(np.cos(turns) @ _WEIGHTS), length * float(np.sin(turns) @ _WEIGHTS), end


def _bend(spline: CubicSpline, u: Array) -> Array:
    """Curvature of a plane spline."""
    (x1, y1), (x2, y2) = spline(u, 1).T, spline(u, 2).T
    return (x1 * y2 - y1 * x2) / np.hypot(x1, y1) ** 3
