"""Traffic lights, and lines at which one gives way: what actors on routes obey."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError, unknown
from veldrain.motion.roads.road import DRIVEN, Network, OnLane
from veldrain.motion.routes import Route
from veldrain.pose import Array
from veldrain.sheet import Made, Number, Sheet, Text, Whole
from veldrain.units import quantity

COLOURS = ("green", "amber", "red")
MOST_PHASES = 16
WHEELED = (*DRIVEN, "biking")  # lanes on which one obeys: people on pavements do not
BEFORE_LINE = 0.5  # m that a route may end before a line, and still lead to it
Cycle = tuple[tuple[str, float], ...]


def _cycle(value: Any, where: str) -> Cycle:
    rows = list(value) if isinstance(value, Sequence) and not isinstance(value, str) else []
    if not 1 <= len(rows) <= MOST_PHASES or any(isinstance(row, str) or len(row) != 2 for row in rows):
        raise VeldrainError(
            f"{value!r} is no cycle", where=where, cure=f"give 1 to {MOST_PHASES} rows such as [green, 20 s]"
        )
    for colour, _ in rows:
        if colour not in COLOURS:
            raise unknown("colour", str(colour), COLOURS, where)
    found = tuple((str(colour), quantity(lasting, "time", where)) for colour, lasting in rows)
    if not all(0.0 < lasting < math.inf for _, lasting in found):
        raise VeldrainError(f"{value!r} has a phase without length", where=where, cure="give each more than 0 s")
    return found


class Line(Sheet):
    """A stop line across all lanes of one direction of a road."""

    road: Text = Text(kw_only=False, doc="its id")
    at: Number = Number("length", doc="where its stop line is, along the road")
    lane: Whole = Whole(default=-1, least=-1000, doc="any lane of the direction that it is for")

    def places(self, roads: Network) -> Iterator[tuple[float, float, float, float]]:
        """x, y, heading and half the width of each lane where the line crosses it.

        Raises:
            VeldrainError: no such road or lane, or a line beyond the road's ends.
        """
        if self.road not in roads.roads:
            raise unknown("road", self.road, roads.roads, type(self).__name__)
        road = roads.roads[self.road]
        section = road.section_at(self.at)
        lanes = road.sections[section].lanes
        if self.lane not in lanes or self.lane == 0:
            raise unknown("lane", str(self.lane), [str(n) for n in lanes if n], f"road {self.road}")
        for number, lane in lanes.items():
            if number * self.lane > 0 and lane.type in WHEELED:
                on = OnLane(roads, road, section, lane)
                pose = on.at(self.at)
                heading = math.atan2(*pose.rotation.apply((1.0, 0.0, 0.0))[1::-1])
                yield float(pose.position[0]), float(pose.position[1]), heading, on.width(self.at) / 2

    def met(self, roads: Network, route: Route, offset: float) -> float | None:
        """Where a route meets the line, m along it, as it is gone so far left of it (m); None: nowhere."""
        for x, y, heading, half in self.places(roads):
            s, left, beyond, along = route.curve.foot(x, y)
            if abs(left - offset) <= half and abs(beyond) <= BEFORE_LINE and math.cos(heading - along) > 0.5:
                return s
        return None


class TrafficLight(Line):
    """A traffic light with a fixed cycle, and its stop line.

    >>> TrafficLight("main", at=80, cycle=[("green", "20 s"), ("amber", "3 s"), ("red", "17 s")]).shows(61)
    'amber'
    """

    cycle: Made[Any, Cycle] = Made(_cycle, doc="rows of a colour (green, amber, red) and how long it lasts, in turn")
    begin: Number = Number("time", default=0.0, doc="how far into its cycle it is at the start")

    def shows(self, time: float) -> str:
        """Its colour at a time, s."""
        return COLOURS[int(self.numbers(np.array([time]))[0])]

    def numbers(self, times: Array) -> NDArray[np.int64]:
        """The numbers in ``COLOURS`` (n,) of what it shows at times (n,), s."""
        ends = np.cumsum([lasting for _, lasting in self.cycle])
        phases = np.searchsorted(ends - 1e-9, (times + self.begin) % ends[-1], side="right") % len(ends)
        return np.array([COLOURS.index(colour) for colour, _ in self.cycle])[phases]

    def changes(self, after: float) -> float:
        """When it changes next after a time, s; inf where it never does."""
        ends = np.cumsum([lasting for _, lasting in self.cycle])
        into = (after + self.begin) % ends[-1]
        end = next((end for end in ends if end > into + 1e-9), ends[-1])
        return math.inf if len(ends) == 1 else float(after + end - into)


class GiveWay(Line):
    """A line at which one gives way to all who cross the way beyond it, and do not themselves give way.

    >>> GiveWay("lane", at=40).margin
    1.5
    """

    margin: Number = Number("time", default=1.5, least=0.0, doc="so much before and after oneself another may come")
    reach: Number = Number("length", default=30.0, above=0.0, doc="so far beyond the line others are looked for")
