"""Routes: a line in the world with a speed along it, for what is led rather than driven."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.leading import Course, Leader
from veldrain.motion.curves import Curve
from veldrain.pose import Array, Pose
from veldrain.sheet import Choice, Flag, Made, Maybe, Number, Sheet
from veldrain.units import Quantity, quantity

ENDS = ("stop", "go on")
FASTEST = 1e6  # m/s: where nothing limits the speed


def is_on_roads(words: Any) -> bool:
    """True for words that tell a route on the roads of a world: along a road's lane, or from a start to a goal."""
    return isinstance(words, Mapping) and ("road" in words or "goal" in words)


class Way:
    """A curve with its height and its crossfall: what a lane of a road gives a route.

    Args:
        curve: seen from above.
        s: (n,) where height and crossfall are known.
        heights: (n,) m.
        rolls: (n,) rad, positive where its left side is the higher one.
        limits: (n,) m/s: the most that is allowed from there on; None: anything.
    """

    def __init__(self, curve: Curve, s: Array, heights: Array, rolls: Array, limits: Array | None = None) -> None:
        self.curve, self.s, self.heights, self.rolls = curve, s, heights, rolls
        self.limits = np.full(len(s), np.inf) if limits is None else limits
        self.said: dict[str, Any] = {}  # how a file says it, where it is a lane of roads

    @classmethod
    def of(cls, words: Mapping[str, Any]) -> Way:
        """The way that ``words`` tell."""
        pieces, profile = (np.array(words[word], float).T for word in ("pieces", "profile"))
        s, x, y, heading, k, c = pieces
        curve = Curve(s, x, y, heading, k, c, float(words["length"]), bool(words.get("closed", False)))
        return cls(curve, profile[0], profile[1], profile[2], profile[3] if len(profile) > 3 else None)

    def words(self) -> dict[str, Any]:
        """All of it as plain numbers: rows of where each piece begins, and of lengths, heights and crossfalls."""
        c = self.curve
        pieces = np.column_stack([c.s, c.x, c.y, c.heading, c.k, c.c]).tolist()
        limits = [self.limits] if np.isfinite(self.limits).any() else []
        profile = np.column_stack([self.s, self.heights, self.rolls, *limits]).tolist()
        return {"pieces": pieces, "length": c.length, "closed": c.closed, "profile": profile}

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Way) and self.words() == other.words()

    __hash__ = None  # type: ignore[assignment]


def _points(value: Any, where: str) -> Any:
    if isinstance(value, Way):
        return value
    if isinstance(value, Mapping):
        try:
            return Way.of(value)
        except (KeyError, ValueError, TypeError, IndexError) as error:
            raise VeldrainError(
                "is no line", where=where, cure="give points; or pieces, length and profile, as saved"
            ) from error
    rows = list(value) if isinstance(value, Sequence | np.ndarray) and not isinstance(value, str) else []
    sizes = {len(row) for row in rows if isinstance(row, Sequence | np.ndarray) and not isinstance(row, str)}
    if len(rows) < 2 or len(sizes) != 1 or not sizes <= {2, 3}:
        raise VeldrainError(
            f"{value!r} is no line",
            where=where,
            cure="give two or more points [x, y], or [x, y, z] where it does not follow the ground",
        )
    points = tuple(tuple(quantity(v, "length", where) for v in row) for row in rows)
    if any(math.dist(a[:2], b[:2]) < 1e-6 for a, b in pairwise(points)):
        raise VeldrainError("two points of it are one above the other", where=where, cure="leave one out")
    return points


def _speeds(value: Any, where: str) -> float | tuple[float, ...]:
    if isinstance(value, Sequence | np.ndarray) and not isinstance(value, str):
        found = tuple(quantity(v, "speed", where) for v in value)
    else:
        found = (quantity(value, "speed", where),)
    if not all(0.0 <= v < math.inf for v in found):
        raise VeldrainError(f"{value!r} is no speed along a route", where=where, cure="give 0 or more")
    return found if len(found) > 1 else found[0]


class Route(Sheet, Leader):
    """A line over the ground, with a speed along it.

    The line is smooth, of continuous heading and curvature: a cubic spline through the points, or with a ``radius``
    straight lines with corners of clothoids and arcs. Constant speed is constant. Points of two numbers follow the
    ground; those of three are where the root link's origin goes.

    >>> Route([(0, 0), (100, 0)], speed="36 km/h").length
    100.0
    """

    points: Made[Any, Any] = Made(_points, kw_only=False, doc="rows [x, y] or [x, y, z], m")
    speed: Made[Any, Any] = Made(_speeds, doc="m/s; a list: one for each point, changed evenly in between")
    acceleration: Number = Number("acceleration", default=1.5, above=0.0, doc="how it speeds up")
    deceleration: Number = Number("acceleration", default=2.5, above=0.0, doc="how it slows down")
    sideways: Number = Number(
        "acceleration", default=math.inf, above=0.0, doc="most in a curve, for which it slows down; inf: any"
    )
    radius: Maybe[Quantity, float] = Maybe(
        Number("length", above=0.0),
        default=None,
        doc="of corners between straight lines; None: a smooth line through the points",
    )
    limited: Flag = Flag(
        default=False, doc="True: on a lane of roads no faster than is allowed there, for which it slows down in time"
    )
    closed: Flag = Flag(default=False, doc="True leads from the last point back to the first, round after round")
    at_the_end: Choice = Choice(
        *ENDS, default="stop", doc="``stop``: it brakes so as to stand there; or goes on straight"
    )
    heading: Maybe[Quantity, float] = Maybe(Number("angle"), default=None, doc="that it keeps; None: along the way")

    def check(self) -> None:
        if not isinstance(self.speed, float) and (isinstance(self.points, Way) or len(self.speed) != len(self.points)):
            raise VeldrainError(
                f"{len(self.speed)} speeds", where="Route speed", cure="give one, or one for each point"
            )
        _ = self.curve

    @cached_property
    def curve(self) -> Curve:
        """Its line, seen from above."""
        if isinstance(self.points, Way):
            return self.points.curve
        at = np.array(self.points)[:, :2]
        if self.radius is not None:
            return Curve.rounded(at, self.radius, self.closed)
        return Curve.through(at, self.closed)

    @property
    def length(self) -> float:
        """Its length seen from above, m."""
        return self.curve.length

    @property
    def top_speed(self) -> float:
        """The most speed that it is told, m/s."""
        return self.speed if isinstance(self.speed, float) else max(self.speed)

    @property
    def follows_ground(self) -> bool:
        """True where its height is the ground's."""
        return not isinstance(self.points, Way) and len(self.points[0]) == 2

    @property
    def stands(self) -> bool:
        """True where its height is that of what it stands on, False where it is that of the root link's origin."""
        return isinstance(self.points, Way) or self.follows_ground

    def heights(self, s: Array) -> tuple[Array, Array]:
        """Heights (n,) m and crossfall (n,) rad at lengths (n,); zeros where it follows the ground."""
        if isinstance(self.points, Way):
            way = self.points
            return np.interp(s, way.s, way.heights), np.interp(s, way.s, way.rolls)
        if self.follows_ground:
            return np.zeros(len(s)), np.zeros(len(s))
        from scipy.interpolate import PchipInterpolator

        at, z = self._places, np.array([row[2] for row in self.points])
        if self.closed:
            at, z = np.append(at, self.length), np.append(z, z[0])
        return PchipInterpolator(at, z)(np.clip(s, at[0], at[-1])), np.zeros(len(s))

    @cached_property
    def _places(self) -> Array:
        """Where along it its points are, m."""
        points = np.array(self.points)[:, :2]
        s = self.curve.to_st(points[:, 0], points[:, 1])[0]
        s[0] = 0.0
        if not self.closed:
            s[-1] = self.length
        if (np.diff(s) <= 0).any():  # it crosses itself: the nearest place is not the point's own
            chords = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
            s = chords / chords[-1] * self.length
        return s

    def speeds(self, s: Array) -> Array:
        """The most speed (n,) at rising lengths (n,): a list of speeds, what curves allow, and slowing down in time."""
        told = np.full(len(s), FASTEST) if isinstance(self.speed, float) else np.interp(s, self._places, self.speed)
        if self.limited and isinstance(self.points, Way):
            told = np.minimum(told, self.points.limits[np.searchsorted(self.points.s, s + 1e-9, side="right") - 1])
        if self.sideways < math.inf:
            bend = np.abs(self.curve.at(s)[3])
            with np.errstate(divide="ignore"):
                told = np.minimum(told, np.sqrt(self.sideways / bend))
        squares = told**2
        if self.at_the_end == "stop" and not self.closed:
            squares[-1] = 0.0
        for _ in range(2 if self.closed else 1):  # once more around, so that the start is slowed down for too
            for k in range(len(s) - 2, -1, -1):
                squares[k] = min(squares[k], squares[k + 1] + 2.0 * self.deceleration * (s[k + 1] - s[k]))
            if self.closed:
                squares[-1] = squares[0] = min(squares[-1], squares[0])
        return np.sqrt(squares)

    def pose(self, s: Quantity, offset: Quantity = 0.0) -> Pose:
        """The pose at a length (m), so far left of the line (m): as the road slopes, or level where there is none."""
        at = np.array([quantity(s, "length", "Route")])
        x, y, heading, _ = self.curve.at(at)
        left = quantity(offset, "length", "Route")
        turn = float(heading[0]) if self.heading is None else self.heading
        (before, z, after), (_, roll, _) = self.heights(np.clip(at + np.array([-0.5, 0.0, 0.5]), 0.0, self.length))
        pitch = -math.atan(after - before) if isinstance(self.points, Way) else 0.0
        place = x[0] - left * math.sin(heading[0]), y[0] + left * math.cos(heading[0]), z + left * math.tan(roll)
        return Pose(place, rpy=(float(roll), pitch, turn))

    def start(self, course: Course) -> Pose:
        return self.pose(min(course.start, self.length), course.offset)
