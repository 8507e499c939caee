"""A network of roads: found by place and by name, and what is wrong with it."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Self

import numpy as np
from scipy.spatial import cKDTree

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Part, Surface
from veldrain.motion.roads.building import crossing, road_through
from veldrain.motion.roads.road import Lane, Link, Network, OnLane, Road
from veldrain.motion.roads.surfaces import surfaces
from veldrain.motion.routes import Route
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, quantity

APART = 10.0  # m between the places by which roads are found
GAP, KINK = 0.02, 0.02  # m and rad: what is more is told


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

    def route_on(self, road: str, lane: int = -1, section: int = 0, **words: Any) -> Route:
        """The route along a lane; see ``OnLane.route`` for the other words."""
        return self.lane(road, section=section, lane=lane).route(**words)

    def at(self, x: Quantity, y: Quantity) -> Spot | None:
        """Where a point is: on which road and lane; None: on none."""
        at = quantity(x, "length", "at"), quantity(y, "length", "at")
        best: tuple[float, Spot] | None = None
        for road in self._near(at):
            s, t, beyond, heading = road.curve.foot(*at)
            if abs(beyond) > 1e-3:  # it lies before or after the road
                continue
            section = road.section_at(s)
            for lane, middle, width, slope in road.lanes_at(section, s):
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
        for road in self.roads.values():
            where = f"road {road.id}"
            yield from ((where, *told) for told in _line_problems(road))
            yield from ((where, *told) for told in self._link_problems(road))
            yield from ((where, *told) for told in self._lane_problems(road))
        for junction in self.junctions.values():
            for connection in junction.connections:
                for id in (connection.incoming, connection.connecting):
                    if id not in self.roads:
                        yield (
                            f"junction {junction.id}",
                            f"connects road '{id}', which is not there",
                            "add it, or take it out",
                        )

    def _link_problems(self, road: Road) -> Iterator[tuple[str, str]]:
        for word, link, s in (("start", road.before, 0.0), ("end", road.after, road.curve.length)):
            if link is None:
                continue
            known: Any = self.roads if link.kind == "road" else self.junctions
            if link.to not in known:
                yield (
                    f"its {word} goes on to {link.kind} '{link.to}', which is not there",
                    "add it, or take the link out",
                )
            elif link.kind == "road":
                other = self.roads[link.to]
                end = 0.0 if link.contact == "start" else other.curve.length
                (x, y, turn), (ox, oy, o_turn) = _end(road, s), _end(other, end)
                flips = (word == "end") == (link.contact == "end")
                kink = math.remainder(turn - o_turn + (math.pi if flips else 0.0), 2 * math.pi)
                if math.hypot(x - ox, y - oy) > GAP and not self._lanes_meet(road, s, other, end):
                    yield (
                        f"its {word} is {math.hypot(x - ox, y - oy):.3g} m from the {link.contact} of road {link.to}",
                        "join them",
                    )
                elif abs(kink) > KINK:
                    yield (
                        f"turns by {math.degrees(kink):.2g}° at its {word}, onto road {link.to}",
                        "make their headings agree",
                    )

    @staticmethod
    def _lanes_meet(road: Road, s: float, other: Road, end: float) -> bool:
        """True where a border of one road's lanes meets one of the other's: reference lines may lie apart."""
        ends = []
        for one, at in ((road, s), (other, end)):
            here = np.array([at])
            sides = one.borders(one.section_at(min(at, one.curve.length - 1e-6)), here)
            ends.append(np.concatenate([one.points(here, t) for pair in sides.values() for t in pair])[:, :2])
        return bool(np.hypot(*(ends[0][:, None] - ends[1][None]).transpose(2, 0, 1)).min() < GAP)

    def _lane_problems(self, road: Road) -> Iterator[tuple[str, str]]:
        for k, section in enumerate(road.sections):
            for lane in section.lanes.values():
                if lane.number == 0 or lane.type != "driving":
                    continue
                on = OnLane(self, road, k, lane)
                last = k == (len(road.sections) - 1 if on.forward else 0)
                link = road.after if on.forward else road.before
                if (
                    (not last or link is not None)
                    and not on.onward()
                    and not (link and link.kind == "junction" and last)
                ):
                    yield f"lane {lane.number} of section {k} ends where the road goes on", "link it to a lane"
                s = np.linspace(section.s, max(road.end_of(k) - 1e-6, section.s), 9)
                inner, outer = road.borders(k, s)[lane.number]
                if ((outer - inner) * np.sign(lane.number) < -1e-6).any():
                    yield f"lane {lane.number} of section {k} has a width below zero", "give it one above"


def _end(road: Road, s: float) -> tuple[float, float, float]:
    x, y, heading, _ = (float(v[0]) for v in road.curve.at(np.array([s])))
    return x, y, heading


def _line_problems(road: Road) -> Iterator[tuple[str, str]]:
    for one, other in zip(road.geometry, road.geometry[1:], strict=False):
        x, y, turn, _ = (float(v[0]) for v in one.curve.at(np.array([one.length])))
        gap, kink = math.hypot(x - other.x, y - other.y), math.remainder(turn - other.heading, 2 * math.pi)
        if abs(one.s + one.length - other.s) > GAP:
            yield (
                f"its line has a piece from {other.s:.5g} m on, and the one before ends at {one.s + one.length:.5g} m",
                "mend s",
            )
        if gap > GAP:
            yield f"its line has a gap of {gap:.3g} m at {other.s:.5g} m", "let each piece begin where the last ends"
        elif abs(kink) > KINK:
            yield f"its line turns by {math.degrees(kink):.2g}° at once, at {other.s:.5g} m", "make the headings agree"
    if abs(road.length - road.curve.length) > GAP:
        yield f"is said to be {road.length:.5g} m long, and its line is {road.curve.length:.5g} m", "mend its length"
    for one_s, other_s in zip(road.sections, road.sections[1:], strict=False):
        if other_s.s <= one_s.s:
            yield f"has a section at {other_s.s:.5g} m after one at {one_s.s:.5g} m", "put them in order"


__all__ = ["Lane", "Roads", "Spot"]
