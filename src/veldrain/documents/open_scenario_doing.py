"""What happens in ASAM OpenSCENARIO XML: its actions as those of a scenario."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from veldrain.documents.open_scenario_file import ScenarioFile
from veldrain.documents.open_scenario_places import Places
from veldrain.errors import unknown
from veldrain.model import Gap
from veldrain.motion import Route
from veldrain.motion.roads.road import OnLane
from veldrain.pose import Pose
from veldrain.scenario.acting import Go, Keep, Shift, Stop, Take
from veldrain.scenario.actions import Action, Weather

STANDS = 1e-3  # m/s: what is told to go slower is told to stop
USUAL = 3.0  # s: of a change of lane that says nothing of its time
PEAK = 10 / math.sqrt(3)  # of a quintic's second change, times its offset over its time squared
CALM = 1e5  # m: farther than any fog lets one see


@dataclass
class Entity:
    """One entity: how it begins, and what it has been told so far in the file.

    ``speed`` is what it was told last; ``offset`` is from the line of its route, ``lane`` where that leads.
    """

    name: str
    element: Any
    size: tuple[float, ...]
    centre: tuple[float, ...]
    pose: Pose = field(default_factory=Pose)
    begins_at: float = 0.0  # m/s
    speed: float = 0.0
    route: Route | None = None
    gap: Gap | None = None
    offset: float = 0.0
    line: OnLane | None = None  # the lane that its route follows
    lane: OnLane | None = None


class Doings:
    """Reads actions.

    Args:
        file: that is read.
        places: reads its positions.
        entities: by name.
    """

    def __init__(self, file: ScenarioFile, places: Places, entities: Mapping[str, Entity]) -> None:
        self._file, self._places, self._entities = file, places, entities
        self._kinds: dict[str, Callable[[Any, Entity], Iterator[Action]]] = {
            "LongitudinalAction/SpeedAction": self._speed,
            "LongitudinalAction/LongitudinalDistanceAction": self._gap,
            "LateralAction/LaneChangeAction": self._change_lane,
            "LateralAction/LaneOffsetAction": self._offset,
            "RoutingAction/AssignRouteAction": self._assign,
            "RoutingAction/AcquirePositionAction": self._acquire,
            "RoutingAction/FollowTrajectoryAction": self._follow,
        }

    def of(self, entity: Entity, action: Any) -> list[Action]:
        """What a private action lets an entity do; nothing where it is not read."""
        for path, read in self._kinds.items():
            found = action.find(path)
            if found is not None:
                return list(read(found, entity))
        return []

    def entity(self, element: Any) -> Entity:
        """The entity that an element names."""
        return self._entities[self._file.entity(element, self._entities)]

    def target_speed(self, action: Any) -> float | None:
        """The speed that a SpeedAction asks for: of a relative one, by what the other was told before."""
        absolute = action.find("SpeedActionTarget/AbsoluteTargetSpeed")
        if absolute is not None:
            return max(self._file.number(absolute, "value"), 0.0)
        relative = action.find("SpeedActionTarget/RelativeTargetSpeed")
        if relative is None or self._file.flag(relative, "continuous"):
            return None
        other, value = self.entity(relative), self._file.number(relative, "value")
        is_factor = relative.get("speedTargetValueType", "delta") == "factor"
        return max(other.speed * value if is_factor else other.speed + value, 0.0)

    def _speed(self, action: Any, entity: Entity) -> Iterator[Action]:
        v, dynamics = self.target_speed(action), action.find("SpeedActionDynamics")
        if v is None:
            return
        relative = action.find("SpeedActionTarget/RelativeTargetSpeed")
        if relative is not None:
            self._file.unused(relative, f"counts from the {self.entity(relative).speed:g} m/s that was told before")
        rate = None if dynamics is None else self._rate(dynamics, entity.speed, v)
        entity.speed = v
        yield Stop(entity.name, deceleration=rate, at=None) if v < STANDS else Go(entity.name, v, acceleration=rate)

    def _rate(self, dynamics: Any, before: float, after: float) -> float | None:
        """The acceleration of a change of speed, from the speed that was told before; None: the route's own."""
        value, dimension = self._file.number(dynamics, "value", 0.0), dynamics.get("dynamicsDimension")
        if value <= 0.0:
            self._file.unused(dynamics, "says at once: it is as fast as the route's own acceleration")
            return None
        if dimension == "rate":
            return value
        change = abs(after - before) / value if dimension == "time" else abs(after**2 - before**2) / (2.0 * value)
        if change <= 0.0:
            return None
        self._file.unused(dynamics, f"in {dimension} counts from the {before:g} m/s that was told before")
        return float(f"{change:.6g}")

    def _gap(self, action: Any, entity: Entity) -> Iterator[Action]:
        found = self.gap(action)
        if found is not None:
            yield Keep(entity.name, found)

    def gap(self, action: Any) -> Gap | None:
        """The gap that is kept to who is ahead; None: it is to be ahead of the other, or says no gap."""
        if action.get("displacement") == "leadingReferencedEntity":
            return None
        if action.get("timeGap") is not None:
            return Gap(self._file.number(action, "timeGap"), to=self.entity(action).name)
        if action.get("distance") is not None:
            return Gap(0.0, to=self.entity(action).name, standstill=self._file.number(action, "distance"))
        return None

    def _change_lane(self, action: Any, entity: Entity) -> Iterator[Action]:
        number, line = self._target_lane(action), entity.line
        if number is None or line is None:
            return
        middles = {n: at for n, at, _, _ in line.road.lanes_at(line.section, line.road.sections[line.section].s)}
        if number not in middles:
            raise unknown("lane", str(number), [str(n) for n in middles], self._file.at(action))
        side = 1.0 if line.forward else -1.0
        offset = side * (middles[number] - middles[line.lane.number]) + self._file.number(
            action, "targetLaneOffset", 0.0
        )
        dynamics, way = action.find("LaneChangeActionDynamics"), abs(offset - entity.offset)
        within, value = USUAL, 0.0 if dynamics is None else self._file.number(dynamics, "value", 0.0)
        if value > 0.0:
            dimension = dynamics.get("dynamicsDimension")
            if dimension == "time":
                within = value
            elif dimension == "rate":
                within = way / value
            elif entity.speed > 0.0:
                self._file.unused(dynamics, f"in distance counts with the {entity.speed:g} m/s that was told before")
                within = value / entity.speed
        entity.lane = line.roads.lane(line.road.id, section=line.section, lane=number)
        yield self._shift(entity, offset, within)

    def _target_lane(self, action: Any) -> int | None:
        absolute = action.find("LaneChangeTarget/AbsoluteTargetLane")
        if absolute is not None:
            return int(self._file.number(absolute, "value"))
        relative = action.find("LaneChangeTarget/RelativeTargetLane")
        other = None if relative is None else self.entity(relative)
        if other is None or other.lane is None:
            return None
        return Places.beside(other.lane, int(self._file.number(relative, "value")))

    def _offset(self, action: Any, entity: Entity) -> Iterator[Action]:
        target = action.find("LaneOffsetTarget/AbsoluteTargetLaneOffset")
        if target is None:
            return
        d, dynamics = self._file.number(target, "value"), action.find("LaneOffsetActionDynamics")
        most = 0.0 if dynamics is None else self._file.number(dynamics, "maxLateralAcc", 0.0)
        way = abs(d - entity.offset)
        within = math.sqrt(PEAK * way / most) if most > 0 and way else USUAL
        yield self._shift(entity, d, within)

    @staticmethod
    def _shift(entity: Entity, offset: float, within: float) -> Action:
        entity.offset = float(f"{offset:.9g}")
        return Shift(entity.name, entity.offset, within=max(float(f"{within:.9g}"), 0.1))

    def _assign(self, action: Any, entity: Entity) -> Iterator[Action]:
        route = self.route(action)
        if route is not None:
            yield from self._take(entity, route)

    def _acquire(self, action: Any, entity: Entity) -> Iterator[Action]:
        target = action.find("Position")
        if target is not None:
            yield from self._take(entity, self._places.to(entity.pose, target, self._file.at(action)))

    def _follow(self, action: Any, entity: Entity) -> Iterator[Action]:
        route = self.route(action)
        if route is None:
            return
        if not isinstance(route.speed, float):
            entity.speed = route.top_speed
        yield from self._take(entity, route)
        yield Go(entity.name, None, acceleration=None)

    def _take(self, entity: Entity, route: Route) -> Iterator[Action]:
        if isinstance(route.speed, float):
            route = route.changed(speed=entity.speed or 1.0)
        entity.offset = 0.0
        yield Take(entity.name, route)

    def route(self, action: Any) -> Route | None:
        """The route or trajectory of a routing action; None: a kind that is not read."""
        if action.tag == "AcquirePositionAction":
            return None
        route = action.find("Route")
        if route is not None:
            parents = [self._file.child(w, "Position") for w in route.iterfind("Waypoint")]
            return self._places.through(parents, self._file.flag(route, "closed"), self._file.at(route), True)
        way = next(
            (e for path in ("Trajectory", "TrajectoryRef/Trajectory") if (e := action.find(path)) is not None), None
        )
        line = None if way is None else way.find("Shape/Polyline")
        if way is None or line is None:
            return None
        vertices = list(line.iterfind("Vertex"))
        parents = [self._file.child(v, "Position") for v in vertices]
        found = self._places.through(parents, self._file.flag(way, "closed"), self._file.at(way), False)
        timing = action.find("TimeReference/Timing")
        if timing is None or len(found.points) != len(vertices):
            return found
        times = [self._file.number(v, "time", 0.0) for v in vertices]
        return self._timed(found, times, timing)

    def _timed(self, route: Route, times: list[float], timing: Any) -> Route:
        """A route with the speeds at which it takes the times of a trajectory from point to point, evenly changed."""
        scale = self._file.number(timing, "scale", 1.0)
        if any(b <= a for a, b in itertools.pairwise(times)) or scale <= 0.0:
            self._file.unused(timing, "has times that do not rise, and is left out")
            return route
        points = route.points
        legs = [
            math.dist(a[:2], b[:2]) / ((t - s) * scale)
            for a, b, s, t in zip(points, points[1:], times, times[1:], strict=False)
        ]
        speeds = [legs[0], *((a + b) / 2 for a, b in itertools.pairwise(legs)), legs[-1]]
        self._file.unused(timing, "is read as speeds at the points of the trajectory")
        return route.changed(speed=[float(f"{v:.6g}") for v in speeds], acceleration=10.0, deceleration=10.0)

    def air(self, weather: Any) -> dict[str, Any]:
        """What a file says of the air, by the words of ``Weather``."""
        told: dict[str, Any] = {}
        fog, rain, wind = weather.find("Fog"), weather.find("Precipitation"), weather.find("Wind")
        if fog is not None and self._file.number(fog, "visualRange") < CALM:
            told["visibility"] = self._file.number(fog, "visualRange")
        if rain is not None:
            if rain.get("precipitationType") == "snow":
                self._file.unused(rain, "is of snow, which is not used")
            else:
                told["rain"] = self._file.number(rain, "precipitationIntensity", 0.0)
        if wind is not None:
            turn, v = self._file.number(wind, "direction"), self._file.number(wind, "speed")
            told |= {"wind_x": round(v * math.cos(turn), 9), "wind_y": round(v * math.sin(turn), 9)}
        for word in ("temperature", "atmosphericPressure"):
            if weather.get(word) is not None:
                told["pressure" if word.startswith("atm") else word] = self._file.number(weather, word)
        for element in weather.iterchildren("*"):
            if element.tag not in ("Fog", "Precipitation", "Wind", "Sun"):
                self._file.unused(element)
        return told

    def turned(self, weather: Any) -> Weather | None:
        """The weather from now on; None: nothing of it is read."""
        told = self.air(weather)
        sun = weather.find("Sun")
        if sun is not None:
            self._file.unused(sun)
        return Weather(**told) if told else None

    def lasts(self, action: Action, before: float) -> float:
        """How long an action takes, s, of an entity that was told a speed before."""
        if isinstance(action, Go | Stop):
            v = (action.speed or 0.0) if isinstance(action, Go) else 0.0
            rate = action.acceleration if isinstance(action, Go) else action.deceleration
            return abs(v - before) / (rate or Route.fields()["acceleration"].default)
        if isinstance(action, Take) and isinstance(action.route, Route) and action.route.top_speed > 0:
            return float(action.route.length / action.route.top_speed)
        return action.takes() or 0.0
