"""ASAM OpenSCENARIO XML in (1.0 to 1.2): entities as actors, and what happens to them; what is not used is listed."""

from __future__ import annotations

import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError, told_at
from veldrain.files import read_bytes
from veldrain.formats import load_roads
from veldrain.model import Air, Box, Gap, Model, Part, World
from veldrain.motion import Roads, Route
from veldrain.pose import Pose
from veldrain.scenario import Condition, Scenario, clearance, closing, distance, speed, time_to_collision, touching
from veldrain.scenario.acting import Go, Keep, Shift, Stop, Take
from veldrain.scenario.actions import Action, Finish, Weather
from veldrain.scenario.scenario import After, Entry
from veldrain.xml import XmlReader, parse_xml

MOST_FILE = 20 << 20
SPEED = "LongitudinalAction/SpeedAction"
AHEAD = 1000.0  # m of a straight for who is told no route, where there are no roads
STRAIGHT = "euclidianDistance"  # of distances, the kind that is read
STANDS = 1e-3  # m/s: what is told to go slower is told to stop
USED = {"FileHeader", "CatalogLocations", "RoadNetwork", "Entities", "Storyboard", "ParameterDeclarations"}


def load_open_scenario(path: str | Path) -> Scenario:
    """A scenario from ASAM OpenSCENARIO XML: each entity is an actor, a box on its route or in its lane.

    What of the file is not used is in ``notes``, a line each.

    Raises:
        VeldrainError: what is wrong in it, with file and line.

    >>> load_open_scenario("cut_in.xosc").notes  # doctest: +SKIP
    []
    """
    where = Path(path)
    return _Reader(parse_xml(read_bytes(where, "name an OpenSCENARIO file", MOST_FILE), where), where).scenario()


class _Reader(XmlReader):
    """Reads one file."""

    def __init__(self, root: Any, path: Path) -> None:
        super().__init__(root, path)
        self.notes: list[str] = []
        self.parameters = {
            f"${e.get('name')}": str(e.get("value")) for e in root.iter("ParameterDeclaration") if e.get("name")
        }

    def scenario(self) -> Scenario:
        root = self.root
        if root.tag != "OpenSCENARIO":
            raise VeldrainError(f"is a file of <{root.tag}>", where=self.at(root), cure="name one of <OpenSCENARIO>")
        for e in root:
            if e.tag not in USED:
                self.unused(e)
        board = self.child(root, "Storyboard")
        self.roads = self.network()
        self.offsets: dict[str, float] = {}  # where the shifts so far lead
        self.world = World().ground(height=-0.15 if self.roads else 0.0)
        if self.roads:
            self.world.roads(self.roads)
        self.place(self.child(root, "Entities"), self.child(self.child(board, "Init"), "Actions"))
        stop = board.find("StopTrigger")
        ends = [t for t in self.triggers(stop) if isinstance(t, float)] if stop is not None else []
        made = Scenario(self.world, max(ends) if ends and max(ends) > 0 else 60.0)
        if not ends:
            self.notes.append(f"{self.path.name}: says no end: 60 s")
        for trigger in self.triggers(stop) if stop is not None else ():
            if not isinstance(trigger, float):
                made.add(Entry(trigger, Finish("the storyboard stops"), self.at(stop)))
        for event in board.iter("Event"):
            self.event(made, event)
        made.notes = self.notes
        return made

    def unused(self, element: Any, why: str = "is not used") -> None:
        self.notes.append(f"{self.path.name}:{element.sourceline}: <{element.tag}> {why}")

    def child(self, element: Any, name: str) -> Any:
        found = element.find(name)
        if found is None:
            raise VeldrainError(f"<{element.tag}> has no <{name}>", where=self.at(element), cure=f"add <{name}>")
        return found

    def text(self, element: Any, word: str, default: str | None = None) -> str:
        """An attribute; the name of a parameter stands for its value."""
        value = super().text(element, word, default)
        return self.parameters.get(value, value)

    def network(self) -> Roads | None:
        logic = self.root.find("RoadNetwork/LogicFile")
        if logic is None:
            return None
        return load_roads(self.path.parent / self.text(logic, "filepath"))

    def place(self, entities: Any, init: Any) -> None:
        """Each entity as an actor: its box, where it begins, its route and speed."""
        told: dict[str, Any] = {}
        for own in init:
            if own.tag == "GlobalAction":
                environment = own.find("EnvironmentAction/Environment/Weather")
                if environment is None:
                    self.unused(own)
                else:
                    self.world.weather(Air(**self.air(environment)))
            elif own.tag == "Private":
                told[self.text(own, "entityRef")] = own
            else:
                self.unused(own)
        for thing in entities:
            if thing.tag != "ScenarioObject":
                self.unused(thing)
                continue
            name = self.text(thing, "name")
            box = thing.find("*/BoundingBox")
            if box is None:
                self.unused(thing, "has no BoundingBox, and is left out")
                continue
            self.actor(name, box, told.get(name))

    def actor(self, name: str, box: Any, own: Any) -> None:
        centre, size = self.child(box, "Center"), self.child(box, "Dimensions")
        at = [self.number(centre, axis, 0.0) for axis in "xyz"]
        sizes = [max(self.number(size, word), 0.01) for word in ("length", "width", "height")]
        model = Model(name).link("body", Part(Box(sizes), pose=Pose(at)), mass=1.0)
        pose, v, route, gap = Pose(), 0.0, None, None
        for action in own if own is not None else ():
            teleport = action.find("TeleportAction/Position")
            if teleport is not None:
                pose = self.position(teleport)
            elif (
                target := action.find("LongitudinalAction/SpeedAction/SpeedActionTarget/AbsoluteTargetSpeed")
            ) is not None:
                v = self.number(target, "value")
            elif (assigned := action.find("RoutingAction/AssignRouteAction/Route")) is not None:
                route = self.route(assigned)
            elif (kept := action.find("LongitudinalAction/LongitudinalDistanceAction")) is not None and (
                told := self.gap(kept)
            ):
                gap = told
            else:
                self.unused(action)
        line = route if route is not None else self.default_route(pose)
        going = line.changed(speed=v if v > 0 else 1.0)
        s, t = (float(x) for x in going.curve.to_st(pose.position[0], pose.position[1]))
        begin = 0.0 if v > 0 else 1e6  # until it is told to go
        self.world.actor(name, model, route=going, keeps=gap, start=s, offset=t, begin=begin)

    def default_route(self, pose: Pose) -> Route:
        """Its lane, as far as it leads; straight on where there is none."""
        x, y, _ = pose.position
        spot = self.roads.at(x, y) if self.roads else None
        if spot is None or self.roads is None:
            ahead = pose.apply((AHEAD, 0, 0))
            return Route([(x, y), (ahead[0], ahead[1])], speed=1.0)
        lane = self.roads.lane(spot.road, section=spot.section, lane=spot.lane)
        chain, via = lane, []
        for _ in range(50):
            after = chain.onward()
            if not after:
                break
            chain = after[0]
            if chain.road.id != lane.road.id and chain.road.id not in via:
                via.append(chain.road.id)
        return lane.route(speed=1.0, via=via)

    def position(self, parent: Any) -> Pose:
        """A pose from a position of the world or of a lane."""
        world, lane = parent.find("WorldPosition"), parent.find("LanePosition")
        if world is not None:
            x, y, z, h, p, r = (self.number(world, word, 0.0) for word in ("x", "y", "z", "h", "p", "r"))
            return Pose((x, y, z), rpy=(r, p, h))
        if lane is not None and self.roads:
            s = self.number(lane, "s")
            road = self.text(lane, "roadId")
            if road not in self.roads.roads:
                raise VeldrainError(f"no road '{road}'", where=self.at(lane), cure="see the road file")
            section = self.roads.roads[road].section_at(s)
            found = self.roads.lane(road, section=section, lane=int(self.number(lane, "laneId")))
            return found.at(s, self.number(lane, "offset", 0.0))
        raise VeldrainError(
            "a position that is not read", where=self.at(parent), cure="use WorldPosition or LanePosition"
        )

    def route(self, element: Any) -> Route:
        points = []
        for waypoint in element.iter("Waypoint"):
            position = self.child(waypoint, "Position")
            world = position.find("WorldPosition")
            pose = self.position(position)
            flat = world is not None and world.get("z") is None
            points.append(tuple(pose.position[:2].tolist()) if flat else tuple(pose.position.tolist()))
        if len({len(p) for p in points}) > 1:
            points = [p[:2] for p in points]
        if len(points) < 2:
            raise VeldrainError("a route of less than two points", where=self.at(element), cure="add a Waypoint")
        is_closed = element.get("closed") in ("true", "1")
        with told_at(self.at(element)):
            return Route(self.on_lane(points), speed=1.0, closed=is_closed)

    def on_lane(self, points: list[Any]) -> Any:
        """Points along roads follow the ground: their heights are those of the roads."""
        return [p[:2] for p in points] if self.roads else points

    def gap(self, element: Any) -> Gap | None:
        """The gap that is kept; None: it is a distance, which is not read."""
        if element.get("timeGap") is None:
            return None
        return Gap(self.number(element, "timeGap"), to=self.text(element, "entityRef"))

    def air(self, weather: Any) -> dict[str, Any]:
        told: dict[str, Any] = {}
        fog, rain = weather.find("Fog"), weather.find("Precipitation")
        if fog is not None and self.number(fog, "visualRange") < 1e5:
            told["visibility"] = self.number(fog, "visualRange")
        if rain is not None:
            told["rain"] = self.number(rain, "precipitationIntensity", 0.0)
        return told

    def event(self, scenario: Scenario, event: Any) -> None:
        group = event.getparent().getparent()
        actors = [self.text(e, "entityRef") for e in group.iterfind("Actors/EntityRef")]
        trigger = event.find("StartTrigger")
        found = list(self.triggers(trigger)) if trigger is not None else [0.0]
        name = event.get("name", "")
        for action in event.iterfind("Action"):
            for actor in actors or [""]:
                made = self.action(action, actor)
                if made is None or not found:
                    self.unused(action, f"'{self.text(action, 'name')}' is not used")
                for one in found if made is not None else ():
                    taken = any(entry.name == name for entry in scenario.timeline)
                    scenario.add(Entry(one, made, self.at(event), "" if taken else name))  # type: ignore[arg-type]

    def action(self, element: Any, actor: str) -> Action | None:
        speed_action = element.find(f"PrivateAction/{SPEED}")
        offset = element.find("PrivateAction/LateralAction/LaneOffsetAction")
        kept = element.find("PrivateAction/LongitudinalAction/LongitudinalDistanceAction")
        route = element.find("PrivateAction/RoutingAction/AssignRouteAction/Route")
        weather = element.find("GlobalAction/EnvironmentAction/Environment/Weather")
        if weather is not None and (told := self.air(weather)):
            return Weather(**told)
        if not actor or actor not in self.world.placed:
            return None
        if speed_action is not None:
            target = speed_action.find("SpeedActionTarget/AbsoluteTargetSpeed")
            if target is None:
                return None
            dynamics = self.child(speed_action, "SpeedActionDynamics")
            value, dimension = self.number(dynamics, "value"), dynamics.get("dynamicsDimension")
            rate = value if dimension == "rate" and value > 0 else None
            if rate is None and value > 0:
                self.unused(dynamics, f"in {dimension} is not used: the route's own acceleration holds")
            v = self.number(target, "value")
            if v < STANDS:
                return Stop(actor, deceleration=rate, at=None)
            return Go(actor, v, acceleration=rate)
        if offset is not None:
            target = offset.find("LaneOffsetTarget/AbsoluteTargetLaneOffset")
            if target is None:
                return None
            d, most = (
                self.number(target, "value"),
                self.number(self.child(offset, "LaneOffsetActionDynamics"), "maxLateralAcc", 0.0),
            )
            course = self.world.placed[actor].course
            way = abs(d - self.offsets.setdefault(actor, course.offset if course else 0.0))
            self.offsets[actor] = d
            within = math.sqrt(10 / math.sqrt(3) * way / most) if most > 0 and way else 3.0
            return Shift(actor, d, within=round(within, 9))
        if kept is not None:
            gap = self.gap(kept)
            return None if gap is None else Keep(actor, gap)
        return Take(actor, self.route(route)) if route is not None else None

    def triggers(self, element: Any) -> Iterator[float | Condition | After]:
        """Each group of conditions as a time, a condition, or an event that it follows."""
        for group in element.iterfind("ConditionGroup"):
            found = [self.condition(c) for c in group.iterfind("Condition")]
            if any(c is None for c in found) or not found:
                self.unused(group, "has a condition that is not read, and is left out")
                continue
            times = [c for c in found if isinstance(c, float)]
            conditions = [c for c in found if isinstance(c, Condition)]
            after = [c for c in found if isinstance(c, After)]
            if conditions:
                whole = conditions[0]
                for c in conditions[1:]:
                    whole = whole & c
                if times and max(times) > 0:
                    self.unused(group, "has a time beside other conditions, which is left out")
                yield whole
            elif after:
                yield after[0]
            else:
                yield max(times)

    def condition(self, element: Any) -> float | Condition | After | None:
        delay = self.number(element, "delay", 0.0)
        time = element.find("ByValueCondition/SimulationTimeCondition")
        if time is not None:
            return self.number(time, "value") + delay
        state = element.find("ByValueCondition/StoryboardElementStateCondition")
        if state is not None:
            told = state.get("storyboardElementType"), state.get("state")
            if told != ("event", "startTransition"):
                return None
            return After(self.text(state, "storyboardElementRef"), delay)
        who, what = (
            element.find("ByEntityCondition/TriggeringEntities/EntityRef"),
            element.find("ByEntityCondition/EntityCondition"),
        )
        if who is None or what is None or len(what) != 1:
            return None
        found = self.compared(self.text(who, "entityRef"), what[0])
        return found.held(delay) if found is not None and delay > 0 else found

    def compared(self, one: str, c: Any) -> Condition | None:
        if c.tag == "CollisionCondition":
            other = c.find("EntityRef")
            return None if other is None else touching(one, self.text(other, "entityRef"))
        measure: Any = None
        if c.tag == "SpeedCondition":
            measure = speed(one)
        elif c.tag == "RelativeSpeedCondition":
            measure = closing(one, self.text(c, "entityRef"))
        elif c.tag == "TimeToCollisionCondition":
            target = c.find("TimeToCollisionConditionTarget/EntityRef")
            measure = None if target is None else time_to_collision(one, self.text(target, "entityRef"))
        elif c.tag == "RelativeDistanceCondition" and c.get("relativeDistanceType", STRAIGHT) == STRAIGHT:
            free = c.get("freespace") in ("true", "1")
            measure = (clearance if free else distance)(one, self.text(c, "entityRef"))
        if measure is None:
            return None
        rule, value = self.text(c, "rule"), self.number(c, "value")
        if not rule.startswith(("less", "greater")):
            return None
        return measure < value if rule.startswith("less") else measure > value  # type: ignore[no-any-return]
