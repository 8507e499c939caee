"""What a network of roads is made of, in the words of ASAM OpenDRIVE 1.7 (sections 8 to 14): data and its geometry."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Self

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.motion.curves import Curve
from veldrain.motion.roads.crossfall import on_lane, placed
from veldrain.motion.roads.geometry import AT, WEIGHTS, Geometry, chained, joined
from veldrain.motion.roads.profiles import Profile
from veldrain.motion.routes import Route, Way
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, quantity

GRID = 0.5  # m between the samples of a lane's middle
DRIVEN = ("driving", "entry", "exit", "onRamp", "offRamp", "connectingRamp", "bidirectional", "bus", "taxi")


@dataclass(frozen=True)
class Mark:
    """A mark on the outer border of a lane, from so far into its section (m) on."""

    s: float
    type: str = "solid"
    width: float = 0.12
    colour: str = "standard"


@dataclass(frozen=True)
class Lane:
    """A lane of a section.

    Attributes:
        number: 0 the middle, left of it 1, 2, …, right of it −1, −2, ….
        type: such as ``driving``, ``sidewalk``, ``shoulder``.
        width: over the length from the section's start.
        border: offset of its outer border instead of a width; None: it has a width.
        level: True: it stays level where the road banks.
        marks: on its outer border (of the middle: on it).
        before, after: the lane that it goes on to, by number; None: none.
        speeds: from where on, and the most speed, m/s.
        heights: from where on, and how high its inner and outer side lie above the road, m.
    """

    number: int
    type: str = "driving"
    width: Profile = field(default_factory=Profile)
    border: Profile | None = None
    level: bool = False
    marks: tuple[Mark, ...] = ()
    before: int | None = None
    after: int | None = None
    speeds: tuple[tuple[float, float], ...] = ()
    heights: tuple[tuple[float, float, float], ...] = ()


@dataclass(frozen=True)
class Section:
    """A stretch of road with the same lanes, from s on."""

    s: float
    lanes: Mapping[int, Lane]

    def borders(self, s: Array, middle: Array, order: int = 0) -> dict[int, tuple[Array, Array]]:
        """Offsets of the inner and outer border of each lane at lengths of the road, or their derivatives."""
        found = {0: (middle, middle)}
        for side in (1, -1):
            inner = middle
            for number in sorted((n for n in self.lanes if n * side > 0), key=abs):
                lane = self.lanes[number]
                if lane.border is not None:
                    outer = middle + lane.border.at(s - self.s, order)
                else:
                    outer = inner + side * lane.width.at(s - self.s, order)
                found[number] = inner, outer
                inner = outer
        return found


@dataclass(frozen=True)
class Link:
    """What a road's end goes on to: a road's start or end, or a junction."""

    kind: str  # road or junction
    to: str
    contact: str = ""  # start or end


@dataclass(frozen=True)
class Repeat:
    """How an object is repeated along a road: so far apart (0: without a gap), its offset changing evenly."""

    s: float
    length: float
    distance: float
    t: tuple[float, float]
    z: tuple[float, float]
    height: tuple[float, float]
    width: tuple[float, float]


@dataclass(frozen=True)
class Thing:
    """An object beside or on a road: a tree, a building, a pole."""

    id: str
    type: str
    s: float
    t: float
    z: float = 0.0
    heading: float = 0.0
    length: float = 0.0
    width: float = 0.0
    height: float = 0.0
    radius: float = 0.0
    name: str = ""
    repeats: tuple[Repeat, ...] = ()
    outline: tuple[tuple[float, float, float, float], ...] = ()  # u, v, z and height of corners, in its own axes
    along_road: tuple[tuple[float, float, float, float], ...] = ()  # or their s, t, z and height


@dataclass(frozen=True)
class Sign:
    """A signal: a sign or a light."""

    id: str
    s: float
    t: float
    z: float = 0.0
    type: str = ""
    subtype: str = ""
    country: str = ""
    value: float | None = None
    unit: str = ""
    name: str = ""
    orientation: str = "+"
    dynamic: bool = False
    heading: float = 0.0
    height: float = 0.0
    width: float = 0.0
    text: str = ""


@dataclass
class Road:
    """A road: a line seen from above, heights along it, and lanes."""

    id: str
    geometry: list[Geometry]
    sections: list[Section]
    name: str = ""
    junction: str = "-1"
    rule: str = "RHT"
    length: float = 0.0
    elevation: Profile = field(default_factory=Profile)
    banking: Profile = field(default_factory=Profile)  # superelevation
    lane_offset: Profile = field(default_factory=Profile)
    before: Link | None = None
    after: Link | None = None
    types: tuple[tuple[float, str, float | None], ...] = ()  # from where on, what it is, and its most speed, m/s
    things: list[Thing] = field(default_factory=list)
    signs: list[Sign] = field(default_factory=list)
    line: int = field(default=0, compare=False)  # of its file

    @cached_property
    def curve(self) -> Curve:
        """Its reference line, seen from above."""
        return joined(self.geometry)

    def section_at(self, s: float) -> int:
        """The number of the section at a length."""
        starts = [section.s for section in self.sections]
        return max(0, int(np.searchsorted(starts, s + 1e-9, side="right")) - 1)

    def end_of(self, section: int) -> float:
        """Where a section ends, m."""
        return self.sections[section + 1].s if section + 1 < len(self.sections) else self.curve.length

    def points(self, s: Array, t: Array, above: Any = 0.0) -> Array:
        """Points (n, 3) at lengths, offsets and heights above the road."""
        x, y, heading, _ = self.curve.at(s)
        bank = self.banking.at(s)
        c, sine = np.cos(bank), np.sin(bank)
        left, up = t * c - above * sine, t * sine + above * c
        return np.stack([x - left * np.sin(heading), y + left * np.cos(heading), self.elevation.at(s) + up], axis=-1)

    def lanes_at(self, section: int, s: float) -> Iterator[tuple[int, float, float, float]]:
        """Number, offset of the middle, width, and change of the offset of each lane at one length."""
        part = self.sections[section]
        middle, slope, ds = self.lane_offset.value(s), self.lane_offset.value(s, 1), s - part.s
        for side in (1, -1):
            inner, turn = middle, slope
            for number in sorted((n for n in part.lanes if n * side > 0), key=abs):
                lane = part.lanes[number]
                if lane.border is not None:
                    outer, more = middle + lane.border.value(ds), slope + lane.border.value(ds, 1)
                else:
                    outer, more = inner + side * lane.width.value(ds), turn + side * lane.width.value(ds, 1)
                yield number, (inner + outer) / 2, abs(outer - inner), (turn + more) / 2
                inner, turn = outer, more

    def borders(self, section: int, s: Array, order: int = 0) -> dict[int, tuple[Array, Array]]:
        """Offsets of the borders of a section's lanes, or their derivatives."""
        return self.sections[section].borders(s, self.lane_offset.at(s, order), order)


@dataclass(frozen=True)
class Connection:
    """How lanes of an incoming road go on in a connecting one."""

    id: str
    incoming: str
    connecting: str
    contact: str
    lanes: tuple[tuple[int, int], ...]  # from, to


@dataclass
class Junction:
    """Where roads meet."""

    id: str
    connections: list[Connection]
    name: str = ""
    line: int = field(default=0, compare=False)


class Network:
    """Roads and junctions by id."""

    def __init__(self, name: str) -> None:
        self.roads: dict[str, Road] = {}
        self.junctions: dict[str, Junction] = {}
        self.name, self.where = name, ""

    def add(self, road: Road) -> Self:
        """Add a road.

        Raises:
            VeldrainError: one of this id is there.
        """
        if road.id in self.roads:
            raise VeldrainError(f"a second road '{road.id}'", where=self.where or "roads", cure="give it another id")
        self.roads[road.id] = road
        return self


@dataclass(frozen=True)
class OnLane:
    """A lane of a network: it gives poses along it, and a route.

    >>> roads = Roads().road("dike", [(0, 0), (100, 0)])  # doctest: +SKIP
    >>> roads.lane("dike", lane=-1).route(speed="50 km/h").length  # doctest: +SKIP
    100.0
    """

    roads: Any
    road: Road
    section: int
    lane: Lane

    @property
    def forward(self) -> bool:
        """True where one drives along rising s."""
        return (self.lane.number < 0) == (self.road.rule == "RHT")

    @property
    def span(self) -> tuple[float, float]:
        """Where it begins and ends along the road, m."""
        return self.road.sections[self.section].s, self.road.end_of(self.section)

    def middle(self, s: Array, order: int = 0) -> Array:
        """Offset of its middle at lengths of the road."""
        inner, outer = self.road.borders(self.section, s, order)[self.lane.number]
        return np.asarray((inner + outer) / 2)

    def width(self, s: Quantity) -> float:
        """Its width at a length of the road, m."""
        inner, outer = self.road.borders(self.section, np.array([quantity(s, "length", "width")]))[self.lane.number]
        return float(abs(outer - inner)[0])

    def at(self, s: Quantity, t: Quantity = 0.0) -> Pose:
        """The pose at a length of the road, so far left of the lane's middle as one drives (m), along the lane."""
        at, left = np.array([quantity(s, "length", "at")]), quantity(t, "length", "at")
        low, high = self.span
        if not low - 1e-6 <= at[0] <= high + 1e-6:
            raise VeldrainError(
                f"{at[0]:g} m along a lane from {low:g} to {high:.6g} m",
                where=f"road {self.road.id}, lane {self.lane.number}",
                cure="give a length of its road within its section",
            )
        side = 1.0 if self.forward else -1.0
        offset = self.middle(at) + side * left
        line = on_lane(self.road, self.section, self.lane.number, at, (offset, self.middle(at, 1)))
        (place,) = placed(self.road, at, line)
        _, _, heading, k = self.road.curve.at(at)
        turn, rise, roll = (float(v[0]) for v in line.frame(k))
        turn += float(heading[0]) + (0.0 if self.forward else math.pi)
        return Pose(place, rpy=(side * roll, -side * rise, turn))

    def way(self) -> Way:
        """Its middle as one drives, with heights and crossfall."""
        first, last = self.span
        count = max(2, math.ceil((last - first) / GRID) + 1)
        curve = self.road.curve
        turns = np.concatenate([curve.s, [start for start, _ in self._limits()]])
        inner = turns[(turns > first + 1e-6) & (turns < last - 1e-6)]
        s = np.unique(np.concatenate([np.linspace(first, last, count), inner]))
        s = s[np.concatenate([[True], np.diff(s) > 1e-6])]
        offsets = tuple(self.middle(s, order) for order in range(3))
        line = on_lane(self.road, self.section, self.lane.number, s, offsets)
        t, t1, t2 = line.plan
        _, _, heading, k = curve.at(s)
        c = curve.c[np.clip(np.searchsorted(curve.s, s, side="right") - 1, 0, None)]
        lean = 1.0 - k * t
        # Curvature of an offset curve (A. Gray, Modern Differential Geometry of Curves and Surfaces, section 1.5).
        bend = (k * lean**2 + 2.0 * k * t1**2 + c * t * t1 + lean * t2) / np.hypot(lean, t1) ** 3
        steps = np.diff(s)
        nodes = s[:-1, None] + steps[:, None] * AT
        flat = nodes.ravel()
        between = on_lane(self.road, self.section, self.lane.number, flat, (self.middle(flat), self.middle(flat, 1)))
        aside, drift = (part.reshape(nodes.shape) for part in between.plan[:2])
        speeds = np.hypot(1.0 - curve.at(nodes)[3] * aside, drift) @ WEIGHTS
        along = np.concatenate([[0.0], np.cumsum(steps * speeds)])
        turn, _, roll = line.frame(k)
        place = placed(self.road, s, line)
        # What holds from a place on as one drives: a limit that begins there, or where one drives back, behind it.
        limits = self.limits(s + (1e-6 if self.forward else -1e-6))
        rows = [along, place[:, 0], place[:, 1], np.unwrap(heading + turn), bend, place[:, 2], roll, limits]
        if not self.forward:
            rows = [row[::-1] for row in rows]
            rows[0] = along[-1] - rows[0]
            rows[3], rows[4], rows[6] = rows[3] + np.pi, -rows[4], -rows[6]
        return Way(Curve.sampled(*rows[:5]), rows[0], rows[5], rows[6], rows[7])

    def onward(self) -> list[OnLane]:
        """The lanes that it goes on to as one drives."""
        return list(self.roads.onward(self))

    def route(self, speed: Quantity | None = None, via: tuple[str, ...] | list[str] = (), **more: Any) -> Route:
        """The route along its middle, in the direction in which one drives, and on through the roads in ``via``.

        Args:
            speed: None: the most that is allowed here.
            via: ids of roads that it goes on to, in turn; sections of one road follow by themselves.
            more: what else a ``Route`` takes.

        Raises:
            VeldrainError: a road that it does not lead to.
        """
        chain, wanted = [self], list(via)
        while True:
            ahead = chain[-1].onward()
            same = [lane for lane in ahead if lane.road is chain[-1].road and lane.section != chain[-1].section]
            if same:
                chain.append(same[0])
            elif wanted:
                fit = [lane for lane in ahead if lane.road.id == wanted[0]]
                through = [
                    (lane, after) for lane in ahead for after in lane.onward() if after.road.id == wanted[0]
                ]  # a connecting road need not be named
                if fit:
                    chain.append(fit[0])
                elif through:
                    chain += through[0]
                else:
                    known = [lane.road.id for lane in ahead]
                    raise unknown("road ahead of " + chain[-1].road.id, wanted[0], known, "route")
                wanted.pop(0)
            else:
                break
            if len(chain) > 10_000:
                raise VeldrainError("a route without end", where=self.road.id, cure="name its roads in via=")
        if speed is None:
            speed = self.most_speed
        way = joined_ways([lane.way() for lane in chain])
        way.said = {"road": self.road.id, "lane": self.lane.number, "section": self.section, "via": list(via)}
        return Route(way, speed=speed, **more)

    def limits(self, s: Array) -> Array:
        """The most speed (n,) that is allowed at lengths of the road, m/s: 50 km/h where nothing is said."""
        at, found = np.clip(s, *self.span), np.full(len(s), 50 / 3.6)
        for start, most in self._limits():
            found[at >= start - 1e-9] = most
        return found

    def _limits(self) -> list[tuple[float, float]]:
        """From where on which speed is allowed: the road's, then the lane's own, which count."""
        of_road = sorted((start, most) for start, _, most in self.road.types if most is not None)
        return of_road + sorted((self.span[0] + start, most) for start, most in self.lane.speeds)

    @property
    def most_speed(self) -> float:
        """The most speed that is allowed at its start, m/s: 50 km/h where nothing is said."""
        return float(self.limits(np.array([self.span[0]]))[0])


def joined_ways(ways: list[Way]) -> Way:
    """Ways one after another."""
    starts = np.concatenate([[0.0], np.cumsum([way.curve.length for way in ways])])
    curve = chained([way.curve for way in ways], starts[:-1].tolist())
    curve.heading = np.unwrap(curve.heading)
    keeps = [slice(None, -1)] * (len(ways) - 1) + [slice(None)]  # the end of one is the start of the next
    s = np.concatenate([(way.s + start)[keep] for way, start, keep in zip(ways, starts, keeps, strict=False)])
    heights, rolls, limits = (
        np.concatenate([getattr(way, word)[keep] for way, keep in zip(ways, keeps, strict=True)])
        for word in ("heights", "rolls", "limits")
    )
    return Way(curve, s, heights, rolls, limits)
