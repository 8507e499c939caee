"""A network of roads: found by place and by name, and what is wrong with it."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, Self

import numpy as np

from veldrain.errors import VeldrainError, told_at, unknown
from veldrain.model import Part, Surface
from veldrain.model.draft import checked_name
from veldrain.motion.roads.building import crossing, road_through
from veldrain.motion.roads.crossfall import base
from veldrain.motion.roads.faults import problems
from veldrain.motion.roads.finding import shortest_way
from veldrain.motion.roads.lights import GiveWay, Line, TrafficLight
from veldrain.motion.roads.road import Lane, Link, Network, OnLane, Road
from veldrain.motion.roads.surfaces import surfaces
from veldrain.motion.routes import Route
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    from scipy.spatial import cKDTree

APART = 10.0  # m between the places by which roads are found


@dataclass(frozen=True)
class Spot:
    """Where a point is on a network.

    Attributes:
        road, section, lane: what it is on.
        s, t: along and left of the road's reference line, m.
        heading: of the lane as one drives, rad.
        width: of the lane, m.
        offset: how far left of the lane's middle as one drives, m.
    """

    road: str
    section: int
    lane: int
    s: float
    t: float
    heading: float
    width: float
    offset: float


class Roads(Network):
    """Roads and junctions. ``load_roads`` reads them, and ``road`` and ``crossing`` build them.

    Attributes:
        roads, junctions: by id.
        lights, give_ways: traffic lights, and lines at which one gives way, by name.
        name: of all of it.
        notes: what was not used or guessed when it was read, a line each.
        where: the file that it is from.

    >>> roads = Roads().road("dike", [(0, 0), (80, 0)], lanes=(1, 1))
    >>> roads.at(20, -1.5).lane
    -1
    """

    def __init__(self, name: str = "roads") -> None:
        super().__init__(name)
        self.notes: list[str] = []
        self.lights: dict[str, TrafficLight] = {}
        self.give_ways: dict[str, GiveWay] = {}

    def add(self, road: Road) -> Self:
        vars(self).pop("_places", None)
        return super().add(road)

    def road(
        self,
        name: str,
        points: Sequence[Sequence[Quantity]],
        *,
        radius: Quantity | None = None,
        lanes: Sequence[int] = (1, 1),
        width: Quantity = 3.25,
        shoulder: Quantity = 0.0,
        sidewalk: Quantity = 0.0,
        speed: Quantity = "50 km/h",
        bank: Quantity = 0.0,
        rule: str = "RHT",
    ) -> Roads:
        """Add a road through points.

        Args:
            name: its id.
            points: rows [x, y] or [x, y, z], m.
            radius: of corners between straight lines, m, with clothoids; None: a smooth line through the points.
            lanes: how many on the left and on the right.
            width: of a lane, m.
            shoulder: width of a shoulder on either side, m.
            sidewalk: width of a raised sidewalk on either side, m.
            speed: the most that is allowed, m/s.
            bank: crossfall all along, rad; the left side up is positive.
            rule: ``RHT`` where one drives on the right, or ``LHT``.
        """
        return self.add(road_through(name, points, radius, lanes, width, shoulder, sidewalk, speed, bank, rule))

    def crossing(self, name: str, arms: Sequence[str]) -> Roads:
        """Join the ends of roads to a crossing: every lane that arrives goes on to every other arm.

        Args:
            name: its id.
            arms: ends of roads, ``road:start`` or ``road:end``, which face each other with room in between.
        """
        crossing(self, name, arms)
        vars(self).pop("_places", None)
        return self

    def light(
        self,
        name: str,
        road: str,
        *,
        at: Quantity,
        cycle: Sequence[tuple[str, Quantity]],
        lane: int = -1,
        begin: Quantity = 0.0,
    ) -> Roads:
        """Add a traffic light, whose stop line actors on routes obey: they stop for red, and for amber where they can.

        Args:
            name: its name; in a scenario ``network/name``.
            road: its road's id.
            at: where its stop line is, m along the road.
            cycle: rows of a colour (``green``, ``amber``, ``red``) and how long it lasts (s), in turn.
            lane: any lane of the direction that it is for.
            begin: how far into its cycle it is at the start, s.

        Raises:
            VeldrainError: a name taken, no such road or lane, a line beyond the road, or no cycle.

        >>> Roads().road("a", [(0, 0), (80, 0)]).light("n", "a", at=70, cycle=[("red", 9)]).lights["n"].shows(3)
        'red'
        """
        return self._line(self.lights, name, TrafficLight(road, at=at, cycle=cycle, lane=lane, begin=begin))

    def give_way(
        self, name: str, road: str, *, at: Quantity, lane: int = -1, margin: Quantity = 1.5, reach: Quantity = 30.0
    ) -> Roads:
        """Add a line at which actors on routes give way to all, also on foot, who cross their way beyond it.

        Args:
            name: its name.
            road: its road's id.
            at: where the line is, m along the road.
            lane: any lane of the direction that it is for.
            margin: so much before and after oneself another may come, s.
            reach: so far beyond the line others are looked for, m.

        Raises:
            VeldrainError: a name taken, no such road or lane, or a line beyond the road.

        >>> Roads().road("a", [(0, 0), (80, 0)]).give_way("yield", "a", at=70).give_ways["yield"].reach
        30.0
        """
        return self._line(self.give_ways, name, GiveWay(road, at=at, lane=lane, margin=margin, reach=reach))

    def _line(self, lines: dict[str, Any], name: str, line: Line) -> Roads:
        if checked_name(name, self.where or "roads") in (*self.lights, *self.give_ways):
            raise VeldrainError(f"a second line '{name}'", where=self.where or "roads", cure="give it another name")
        with told_at(name):
            list(line.places(self))
        lines[name] = line
        return self

    @staticmethod
    def joint(road: str, contact: str) -> Link:
        """What a road's ``before`` or ``after`` may be: the ``start`` or ``end`` of another road."""
        return Link("road", road, contact)

    def lane(self, road: str, *, section: int = 0, lane: int = -1) -> OnLane:
        """A lane by its road's id, the number of its section, and its own.

        Raises:
            VeldrainError: there is none.
        """
        if str(road) not in self.roads:
            raise unknown("road", str(road), self.roads, self.where or "roads")
        found = self.roads[str(road)]
        if not 0 <= section < len(found.sections):
            raise VeldrainError(f"has {len(found.sections)} sections, no {section}", where=f"road {road}")
        lanes = found.sections[section].lanes
        if lane not in lanes or lane == 0:
            raise unknown("lane", str(lane), [str(n) for n in lanes if n], f"road {road}, section {section}")
        return OnLane(self, found, section, lanes[lane])

    def route_on(
        self,
        road: str | None = None,
        lane: int = -1,
        section: int = 0,
        *,
        start: Sequence[Quantity] | None = None,
        goal: Sequence[Quantity] | None = None,
        **words: Any,
    ) -> Route:
        """The route along a lane, see ``OnLane.route`` for the other words; with start and goal see ``route``."""
        if start is not None and goal is not None and road is None:
            return self.route(start, goal, **words)
        if road is None or start is not None or goal is not None:
            raise VeldrainError("needs a road, or start and goal", where="route", cure="give either")
        return self.lane(road, section=section, lane=lane).route(**words)

    def route(
        self, start: Sequence[Quantity], goal: Sequence[Quantity], speed: Quantity | None = None, **more: Any
    ) -> Route:
        """The shortest route from one point to another along lanes that follow each other; it changes none.

        Args:
            start, goal: (x, y), each on a lane; of the goal's road any lane of its direction will do.
            speed: None: the most that is allowed where it begins.
            more: what else a ``Route`` takes.

        Raises:
            VeldrainError: a point that is on no lane, or no lanes that lead from the one to the other.

        >>> Roads().road("dike", [(0, 0), (80, 0)]).route((10, -1.6), (50, -1.6)).length
        40.0
        """
        points = [[quantity(x, "length", "route") for x in point] for point in (start, goal)]
        first, last = (self._lane_at(point, word) for point, word in zip(points, ("start", "goal"), strict=True))
        way = shortest_way(first, points[0], last, points[1])
        way.said = dict(zip(("start", "goal"), points, strict=True))
        return Route(way, speed=first.most_speed if speed is None else speed, **more)

    def _lane_at(self, point: Sequence[float], word: str) -> OnLane:
        spot = self.at(point[0], point[1])
        if spot is None:
            raise VeldrainError(
                f"({point[0]:g}, {point[1]:g}) is on no lane", where=f"route: {word}", cure="name a point on a road"
            )
        return self.lane(spot.road, section=spot.section, lane=spot.lane)

    def at(self, x: Quantity, y: Quantity) -> Spot | None:
        """Where a point is: on which road and lane; None: on none."""
        at = quantity(x, "length", "at"), quantity(y, "length", "at")
        best: tuple[float, Spot] | None = None
        for road in self._near(at):
            s, t, beyond, heading = road.curve.foot(*at)
            if abs(beyond) > 1e-3:  # it lies before or after the road
                continue
            section, aside, bank = road.section_at(s), t, road.banking.value(s)
            for lane, middle, width, slope in road.lanes_at(section, s):
                if bank:  # seen from above, offsets are shorter
                    level = base(road, section, lane, np.array([s]))
                    t = aside / math.cos(bank)
                    t = t if level is None else float(level[0]) * (1 - math.cos(bank)) + aside
                if abs(t - middle) > width / 2 + 1e-9 or (best and abs(t - middle) >= best[0]):
                    continue
                on = OnLane(self, road, section, road.sections[section].lanes[lane])
                turn = heading + math.atan(slope) + (0.0 if on.forward else math.pi)
                off = t - middle if on.forward else middle - t
                turn = math.remainder(turn, 2 * math.pi)
                best = abs(off), Spot(road.id, section, lane, s, t, turn, width, off)
        return best[1] if best else None

    @cached_property
    def _places(self) -> tuple[cKDTree, list[str], float]:
        from scipy.spatial import cKDTree

        at: list[Array] = []
        names: list[str] = []
        reach = 0.0
        for road in self.roads.values():
            s = np.linspace(0.0, road.curve.length, max(2, math.ceil(road.curve.length / APART) + 1))
            x, y, _, _ = road.curve.at(s)
            at.append(np.column_stack([x, y]))
            names += [road.id] * len(s)
            for k in range(len(road.sections)):
                here = np.array([road.sections[k].s, road.end_of(k)])
                reach = max(
                    reach, *(float(np.abs(side).max()) for side in zip(*road.borders(k, here).values(), strict=True))
                )
        return cKDTree(np.concatenate(at) if at else np.zeros((0, 2))), names, reach + APART

    def _near(self, point: tuple[float, float]) -> Iterator[Road]:
        tree, names, reach = self._places
        for name in dict.fromkeys(names[k] for k in sorted(tree.query_ball_point(point, reach))):
            yield self.roads[name]

    def onward(self, lane: OnLane) -> list[OnLane]:
        """The lanes that a lane goes on to as one drives: in the next section, road, or junction."""
        road, ahead = lane.road, 1 if lane.forward else -1
        number = lane.lane.after if lane.forward else lane.lane.before
        section = lane.section + ahead
        if 0 <= section < len(road.sections):
            found = [number] if number is not None else []
            return [
                OnLane(self, road, section, road.sections[section].lanes[n])
                for n in found
                if n in road.sections[section].lanes
            ]
        link = road.after if lane.forward else road.before
        if link is None:
            return []
        if link.kind == "junction":
            return list(self._through(link.to, lane))
        return [] if number is None else self._entered(link, number)

    def _entered(self, link: Link, number: int) -> list[OnLane]:
        other = self.roads.get(link.to)
        if other is None:
            return []
        section = 0 if link.contact == "start" else len(other.sections) - 1
        lanes = other.sections[section].lanes
        return [OnLane(self, other, section, lanes[number])] if number in lanes else []

    def _through(self, junction: str, lane: OnLane) -> Iterator[OnLane]:
        for connection in self.junctions[junction].connections if junction in self.junctions else ():
            if connection.incoming == lane.road.id:
                for first, then in connection.lanes:
                    if first == lane.lane.number:
                        yield from self._entered(Link("road", connection.connecting, connection.contact), then)

    def laid(self) -> Iterator[tuple[str, Part, Pose, Surface]]:
        """What it puts into a world: names, parts, poses and surfaces."""
        return surfaces(self)

    def problems(self) -> Iterator[tuple[str, str, str]]:
        """What is wrong with it: the place, what it is, and the cure."""
        return problems(self)


__all__ = ["Lane", "Roads", "Spot"]
