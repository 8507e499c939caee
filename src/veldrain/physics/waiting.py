"""Lines at which what is led waits: at a traffic light, or to give way.

At a light it stops for red and amber if it can still stop before the line as its route says, and else goes on. At a
line where it gives way it stops while one that has the right of way is in the conflict area or would be there, at the
speed that it has, at the time at which it would itself, with a margin.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from veldrain.errors import unknown
from veldrain.kernel import kernel
from veldrain.motion.roads import Roads
from veldrain.motion.roads.lights import COLOURS, GiveWay, TrafficLight
from veldrain.motion.routes import Route
from veldrain.physics import plant as p
from veldrain.pose import Array

GREEN = COLOURS.index("green")
OVER = 0.3  # m: who stands no farther beyond a line than that waits at it
STANDS = 0.1  # m/s: who is slower does not come
GRID = 0.5  # m between the points of routes that are held against each other
BESIDE = 0.5  # m between two that pass each other


@kernel
def colour_of(light, time):
    """The number of the colour that a light shows."""
    if light.forced >= 0:
        return light.forced
    if light.kept >= 0:
        return light.kept
    into = (time + light.begin) % light.total
    for k in range(light.phases):
        if into < light.until[k] - 1e-9:
            return int(light.colours[k])
    return int(light.colours[0])


@kernel
def time_for(way, v, goal, up):
    """How long a way takes that is begun with a speed, if it speeds up to another."""
    if way <= 0.0:
        return 0.0
    if v >= goal:
        return way / v if v > 1e-6 else math.inf
    speeding = (goal * goal - v * v) / (2.0 * up)
    if speeding >= way:
        return (math.sqrt(v * v + 2.0 * up * way) - v) / up
    return (goal - v) / up + (way - speeding) / goal


@kernel
def has_to_give_way(led, left, other, line):
    """True while one that has the right of way comes; left: how far the own front is from the line."""
    if other.free == 1 or other.first != line.route:
        return False
    into, out = line.other_in - other.s - other.ahead, line.other_out - other.s
    if other.closed == 1:
        laps = math.floor(out / other.length)
        into -= laps * other.length
        out -= laps * other.length
    if out <= 0.0:
        return False
    if into <= 0.0:
        return True
    if other.speed < STANDS:
        return False
    first = time_for(left + line.own_in - line.s, led.speed, led.goal, led.up)
    last = time_for(left + line.own_out - line.s + led.ahead, led.speed, led.goal, led.up)
    return last + line.margin > into / other.speed and first - line.margin < out / other.speed


@kernel
def way_to_stop(leds, lights, lines, led, time):
    """How far it is to the nearest line at which it waits; inf: to none."""
    nearest = math.inf
    for k in range(led.first_line, led.end_line):
        line = lines[k]
        left = line.s - led.s - led.ahead
        if led.closed == 1:
            left -= led.length * math.floor((left + OVER) / led.length)
        if left < -OVER or left >= nearest or led.speed * led.speed > 2.0 * led.down * (left + OVER):
            continue
        if line.light >= 0:
            waits = colour_of(lights[line.light], time) != GREEN
        else:
            waits = has_to_give_way(led, left, leds[line.other], line)
        if waits:
            nearest = left
    return nearest


@dataclass(frozen=True)
class Going:
    """How something that is led goes: its row, route, how far left of it, and its front, rear and half width.

    Attributes:
        meets: where its route meets lines at which one gives way, m along it, by network and line.
    """

    row: int
    route: Route
    offset: float
    ahead: float
    rear: float
    wide: float
    first: int  # of its pieces
    meets: Mapping[tuple[str, str], float]

    def points(self, s: Array) -> Array:
        return np.column_stack(self.route.curve.to_xy(s, np.full(len(s), self.offset)))

    @cached_property
    def places(self) -> tuple[Array, Any]:
        """Lengths along all of its way, and its points there as a tree."""
        from scipy.spatial import cKDTree

        s = np.arange(0.0, self.route.length, GRID)
        return s, cKDTree(self.points(s))


class Lines:
    """All lights of a world's roads, and the lines that routes meet.

    Attributes:
        lights: by ``network/light``, in the order of their rows.
        any: True where there are any lights or lines.
    """

    def __init__(self, networks: Mapping[str, Any]) -> None:
        self._roads = [(name, roads) for name, roads in networks.items() if isinstance(roads, Roads)]
        self.lights: dict[str, TrafficLight] = {
            f"{name}/{light}": sheet for name, roads in self._roads for light, sheet in roads.lights.items()
        }
        self.any = bool(self.lights) or any(roads.give_ways for _, roads in self._roads)

    def rows(self) -> p.Records:
        """Rows of the lights."""
        rows = np.zeros(len(self.lights), p.LIGHT)
        for row, light in zip(rows, self.lights.values(), strict=True):
            ends = np.cumsum([lasting for _, lasting in light.cycle])
            row["forced"] = row["kept"] = -1
            row["phases"], row["begin"], row["total"] = len(ends), light.begin, ends[-1]
            row["until"][: len(ends)] = ends
            row["colours"][: len(ends)] = [COLOURS.index(colour) for colour, _ in light.cycle]
        return rows

    def of(self, way: Going, others: Sequence[Going]) -> p.Records:
        """Rows of the lines that one meets on its way."""
        found = [*self._at_lights(way), *(row for other in others for row in self._giving(way, other))]
        return np.array(found, p.LINE) if found else np.zeros(0, p.LINE)

    def _at_lights(self, way: Going) -> Iterator[tuple[Any, ...]]:
        number = -1
        for _, roads in self._roads:
            for light in roads.lights.values():
                number += 1
                s = light.met(roads, way.route, way.offset)
                if s is not None:
                    yield number, -1, -1, s, 0.0, 0.0, 0.0, 0.0, 0.0

    def met(self, route: Route, offset: float) -> dict[tuple[str, str], float]:
        """Where a route, gone so far left of it, meets lines at which one gives way: m along it, by their names."""
        return {
            (name, line): s
            for name, roads in self._roads
            for line, sheet in roads.give_ways.items()
            if (s := sheet.met(roads, route, offset)) is not None
        }

    def _giving(self, way: Going, other: Going) -> Iterator[tuple[Any, ...]]:
        sheets = dict(self._roads)
        for (name, line), s in way.meets.items():
            if (name, line) in other.meets:
                continue
            sheet = sheets[name].give_ways[line]
            area = _conflict(way, s, sheet, other)
            if area is not None and not self._gives_way_too(other, area[2]):
                yield -1, other.row, other.first, s, *area, sheet.margin

    def _gives_way_too(self, other: Going, into: float) -> bool:
        """True where another meets a line like that itself, shortly before the area."""
        sheets = dict(self._roads)
        return any(0.0 <= into - s <= sheets[name].give_ways[line].reach for (name, line), s in other.meets.items())

    def number(self, name: str) -> int:
        """The row of a light.

        Raises:
            VeldrainError: there is none of this name.
        """
        if name not in self.lights:
            raise unknown("traffic light", name, self.lights, "scenario")
        return list(self.lights).index(name)


def _conflict(way: Going, s: float, line: GiveWay, other: Going) -> tuple[float, float, float, float] | None:
    """Where two would meet beyond a line: in and out (m) along the one's route, with its rear out, and the other's."""
    length, (theirs, tree) = way.route.length, other.places
    own = np.arange(s, s + line.reach if way.route.closed else min(s + line.reach, length), GRID)
    near: Any = tree.query_ball_point(
        way.points(own % length if way.route.closed else own), way.wide + other.wide + BESIDE
    )
    meets = [k for k, found in enumerate(near) if found]
    if not meets:
        return None
    last = next((k for k in range(meets[0], len(near)) if not near[k]), len(near)) - 1
    places = theirs[sorted({m for k in range(meets[0], last + 1) for m in near[k]})]
    return float(own[meets[0]]), float(own[last]) + way.rear, float(places[0]), float(places[-1]) + other.rear
