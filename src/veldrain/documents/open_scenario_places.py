"""Places, lanes and routes of ASAM OpenSCENARIO XML."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable
from itertools import pairwise
from typing import Any

import numpy as np

from veldrain.documents.open_scenario_file import ScenarioFile
from veldrain.errors import VeldrainError, told_at, unknown
from veldrain.motion import Roads, Route
from veldrain.motion.roads.road import OnLane
from veldrain.pose import Pose

AHEAD = 1000.0  # m of a straight for who is told no route, where there are no roads
MOST_ROADS = 50  # that a lane is followed over
SAME = 0.01  # m: points nearer than that are one


class Places:
    """Reads positions.

    Args:
        file: that is read.
        roads: its roads.
        pose_of: where an entity begins, by its name.
    """

    def __init__(self, file: ScenarioFile, roads: Roads | None, pose_of: Callable[[str, Any], Pose]) -> None:
        self._file, self._roads, self._pose_of = file, roads, pose_of
        self._kinds: dict[str, Callable[[Any], Pose]] = {
            "WorldPosition": self._world,
            "LanePosition": self._lane,
            "RoadPosition": self._road,
            "RelativeWorldPosition": self._beside_in_world,
            "RelativeObjectPosition": self._beside,
            "RelativeLanePosition": self._lanes_away,
            "RelativeRoadPosition": self._along_road,
        }

    def pose(self, parent: Any) -> Pose:
        """The pose that a position says.

        Raises:
            VeldrainError: it is of a kind that is not read, or leads to no place.
        """
        for element in parent.iterchildren("*"):
            if element.tag in self._kinds:
                with told_at(self._file.at(element)):
                    return self._turned(self._kinds[element.tag](element), element)
        kind = parent[0].tag if len(parent) else "nothing"
        raise VeldrainError(
            f"<{kind}> is a position that is not read",
            where=self._file.at(parent),
            cure=f"use one of {', '.join(self._kinds)}",
        )

    def _turned(self, pose: Pose, element: Any) -> Pose:
        """The pose with the orientation that a position says: relative to its own, or absolute."""
        from scipy.spatial.transform import Rotation

        turn = element.find("Orientation")
        if turn is None:
            return pose
        h, p, r = (self._file.number(turn, word, 0.0) for word in "hpr")
        own = Rotation.from_euler("xyz", (r, p, h))
        relative = turn.get("type", "absolute") == "relative"
        return Pose(pose.position, rotation=pose.rotation * own if relative else own)

    def _numbers(self, element: Any, *words: str) -> list[float]:
        return [self._file.number(element, word, 0.0) for word in words]

    def _world(self, element: Any) -> Pose:
        x, y, z, h, p, r = self._numbers(element, *"xyzhpr")
        return Pose((x, y, z), rpy=(r, p, h))

    def _named_road(self, element: Any) -> Any:
        roads = self._roads.roads if self._roads else {}
        name = self._file.text(element, "roadId")
        if name not in roads:
            raise unknown("road", name, roads, self._file.at(element))
        return roads[name]

    def _lane(self, element: Any) -> Pose:
        road, s = self._named_road(element), self._file.number(element, "s")
        return self._on_lane(road.id, int(self._file.number(element, "laneId")), s, *self._numbers(element, "offset"))

    def _on_lane(self, road: str, lane: int, s: float, offset: float) -> Pose:
        """A pose on a lane, so far towards the left of the road."""
        assert self._roads is not None
        found = self._roads.lane(road, section=self._roads.roads[road].section_at(s), lane=lane)
        return found.at(s, offset if found.forward else -offset)

    def _road(self, element: Any) -> Pose:
        road, s, t = self._named_road(element), self._file.number(element, "s"), self._file.number(element, "t")
        return self._on_road(road, s, t)

    @staticmethod
    def _on_road(road: Any, s: float, t: float) -> Pose:
        at = np.array([s])
        return Pose(road.points(at, np.array([t]))[0], yaw=float(road.curve.at(at)[2][0]))

    def _entity(self, element: Any) -> Pose:
        return self._pose_of(self._file.text(element, "entityRef"), element)

    def _beside_in_world(self, element: Any) -> Pose:
        base = self._entity(element)
        return Pose(base.position + self._numbers(element, "dx", "dy", "dz"), rotation=base.rotation)

    def _beside(self, element: Any) -> Pose:
        base = self._entity(element)
        return Pose(base.apply(self._numbers(element, "dx", "dy", "dz")), rotation=base.rotation)

    def _spot(self, element: Any) -> Any:
        x, y, _ = self._entity(element).position
        spot = self._roads.at(x, y) if self._roads else None
        if spot is None:
            raise VeldrainError(
                f"'{element.get('entityRef')}' is on no road", where=self._file.at(element), cure="use WorldPosition"
            )
        return spot

    def _lanes_away(self, element: Any) -> Pose:
        """On another lane, so far ahead: beyond the end of its road along the lane that goes on."""
        assert self._roads is not None
        spot = self._spot(element)
        lane = self._roads.lane(spot.road, section=spot.section, lane=spot.lane)
        number = self.beside(lane, int(self._file.number(element, "dLane", 0.0)))
        way, own = self._file.number(element, "dsLane", 0.0), self._file.number(element, "ds", 0.0)
        way += own if lane.forward else -own  # along the road's line, and along the lane
        offset = self._numbers(element, "offset")[0]
        s = spot.s + (way if lane.forward else -way)
        if 0.0 <= s <= lane.road.curve.length:
            return self._on_lane(spot.road, number, s, offset)
        target = self._roads.lane(spot.road, section=spot.section, lane=number)
        line = self.onward(target)
        here = self._on_lane(spot.road, number, spot.s, 0.0).position
        along = float(line.curve.to_st(here[:1], here[1:2])[0][0]) + way
        if not 0.0 <= along <= line.length:
            raise VeldrainError("leads beyond the roads", where=self._file.at(element), cure="give a smaller ds")
        return line.pose(along, offset)

    def _along_road(self, element: Any) -> Pose:
        assert self._roads is not None
        spot, (ds, dt) = self._spot(element), self._numbers(element, "ds", "dt")
        return self._on_road(self._roads.roads[spot.road], spot.s + ds, spot.t + dt)

    @staticmethod
    def beside(lane: OnLane, left: int) -> int:
        """The number of the lane so many to the left as one drives; there is none of number 0."""
        number, step = lane.lane.number, 1 if lane.forward else -1
        for _ in range(abs(left)):
            number += step if left > 0 else -step
            number = number or (step if left > 0 else -step)
        return number

    def lane_at(self, pose: Pose) -> OnLane | None:
        """The lane that a pose is on; None: it is on none, or drives against it."""
        if self._roads is None:
            return None
        spot = self._roads.at(*pose.position[:2])
        if spot is None or math.cos(spot.heading - pose.yaw) <= 0.0:
            return None
        return self._roads.lane(spot.road, section=spot.section, lane=spot.lane)

    def offset_at(self, pose: Pose) -> float:
        """How far left of its lane's middle a pose is, as one drives; 0 where there is no lane."""
        spot = self._roads.at(*pose.position[:2]) if self._roads else None
        return 0.0 if spot is None else float(spot.offset)

    def onward(self, lane: OnLane) -> Route:
        """The way along a lane as far as it leads, straight on at crossings."""
        chain, via = lane, []
        for _ in range(MOST_ROADS):
            after = chain.onward()
            if not after:
                break
            chain = after[0]
            if chain.road.id != lane.road.id and chain.road.id not in via:
                via.append(chain.road.id)
        return lane.route(speed=1.0, via=via)

    def from_here(self, pose: Pose) -> Route:
        """The way of who is told none: its lane, or straight on."""
        lane = self.lane_at(pose)
        if lane is not None:
            return self.onward(lane)
        ahead = pose.apply((AHEAD, 0, 0))
        return Route([pose.position[:2], ahead[:2]], speed=1.0)

    def through(self, parents: list[Any], closed: bool, where: str, by_lanes: bool) -> Route:
        """The way through positions: a smooth line, or along the lanes where all are said by roads."""
        poses = [self.pose(parent) for parent in parents]
        by_road = all(parent[0].tag in ("LanePosition", "RoadPosition") for parent in parents if len(parent))
        if by_lanes and by_road and not closed and len(poses) > 1 and (found := self._by_lanes(poses)) is not None:
            return found
        is_flat = self._roads is not None or any("z" not in parent[0].attrib for parent in parents)
        points = [tuple(pose.position[: 2 if is_flat else 3].tolist()) for pose in poses]
        points = [points[0], *(b for a, b in pairwise(points) if math.dist(a[:2], b[:2]) > SAME)] if points else []
        if len(points) < 2:
            raise VeldrainError("a route of less than two points", where=where, cure="add a Waypoint")
        with told_at(where):
            return Route(points, speed=1.0, closed=closed)

    def to(self, start: Pose, parent: Any, where: str) -> Route:
        """The shortest way to a position: by lanes, or straight."""
        goal = self.pose(parent)
        found = self._by_lanes([start, goal])
        with told_at(where):
            return Route([start.position[:2], goal.position[:2]], speed=1.0) if found is None else found

    def _by_lanes(self, poses: list[Pose]) -> Route | None:
        """The route along the lanes that lead from each pose to the next, over the fewest roads; None: none does."""
        lane = first = self.lane_at(poses[0])
        via: list[str] = []
        for pose in poses[1:]:
            spot = self._roads.at(*pose.position[:2]) if self._roads else None
            if lane is None or spot is None:
                return None
            reached = _reached(lane, spot.road)
            if reached is None:
                return None
            via += [one.road.id for one in reversed(reached[:-1])]
            lane = reached[0]
        if first is None:
            return None
        via = [road for k, road in enumerate(via) if road != ([first.road.id, *via])[k]]
        return first.route(speed=1.0, via=via)


def _reached(start: OnLane, road: str) -> list[OnLane] | None:
    """The lanes from one of a road back to the start, by the fewest; None: none leads there."""
    before: dict[tuple[str, int, int], OnLane | None] = {_key(start): None}
    waiting = deque([start])
    while waiting:
        lane = waiting.popleft()
        if lane.road.id == road:
            chain: list[OnLane] = []
            step: OnLane | None = lane
            while step is not None:
                chain.append(step)
                step = before[_key(step)]
            return chain
        for after in lane.onward():
            if _key(after) not in before:
                before[_key(after)] = lane
                waiting.append(after)
    return None


def _key(lane: OnLane) -> tuple[str, int, int]:
    return lane.road.id, lane.section, lane.lane.number
