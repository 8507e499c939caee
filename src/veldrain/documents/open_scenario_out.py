"""ASAM OpenSCENARIO XML out (1.2): what it has words for of a scenario; the rest is listed, none is dropped unsaid."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.documents.open_scenario_doing import CALM
from veldrain.documents.open_scenario_lights import with_signs, write_controllers
from veldrain.errors import VeldrainError
from veldrain.files import write_bytes
from veldrain.formats import save_roads
from veldrain.model import Air, Gap, Placed, Sky, Sun
from veldrain.model.volumes import bounds
from veldrain.motion import Roads, Route
from veldrain.motion.routes import Way
from veldrain.pose import Array, Pose
from veldrain.scenario import Condition, Scenario
from veldrain.scenario.acting import Go, Keep, Shift, Stop, Take
from veldrain.scenario.actions import Action, Finish, Weather
from veldrain.scenario.conditions import Clearance, Compared, Distance, Held, Joined, Touching
from veldrain.scenario.entries import After, Entry
from veldrain.scenario.lights import Shows, Switch
from veldrain.scenario.measures import Speed, SpeedDifference, TimeGap, TimeToCollision
from veldrain.units import quantity
from veldrain.xml import add, written

WAYPOINTS = 5.0  # m between those of a route that is no list of points
AIR = {"rain": "rainfall", "visibility": "length", "temperature": "temperature", "pressure": "pressure"}
ROUTE_WORDS = ("radius", "sideways", "at_the_end", "heading", "closed", "limited")  # that it has no words for
LEAST, MOST = "lessThan", "greaterThan"


def save_open_scenario(scenario: Scenario, path: str | Path) -> list[str]:
    """Write a scenario as ASAM OpenSCENARIO XML 1.2, and its roads beside it as OpenDRIVE.

    Returns:
        What of it has no words there, a line each: controllers, sensors, faults, shapes but for their boxes, ….

    Raises:
        VeldrainError: it cannot be written.

    >>> save_open_scenario(scenario, "out/cut_in.xosc")  # doctest: +SKIP
    ['controllers of car']
    """
    target = Path(path)
    return _Writer(scenario, target).write()


class _Writer:
    """Writes one scenario."""

    def __init__(self, scenario: Scenario, target: Path) -> None:
        self.scenario, self.target = scenario, target
        self.world = scenario.world
        self.left: list[str] = []
        self.offsets: dict[str, float] = {}  # where the shifts so far lead

    def write(self) -> list[str]:
        from lxml import etree

        root = etree.Element("OpenSCENARIO")
        about = {"revMajor": "1", "revMinor": "2", "date": "2000-01-01T00:00:00", "author": "veldrain"}
        add(root, "FileHeader", **about, description=self.target.stem)
        add(root, "CatalogLocations")
        network = add(root, "RoadNetwork")
        for name, roads in self.world.networks.items():
            if len(network) == 0 and isinstance(roads, Roads):
                save_roads(with_signs(roads), self.target.with_name(f"{name}.xodr"))
                add(network, "LogicFile", filepath=f"{name}.xodr")
                self.left += write_controllers(network, roads)
            else:
                self.left.append(f"roads {name}: one network is all that a file has")
        self.entities(add(root, "Entities"))
        board = add(root, "Storyboard")
        self.init(add(add(board, "Init"), "Actions"))
        self.story(board)
        stop = add(board, "StopTrigger")
        self.time(
            add(add(stop, "ConditionGroup"), "Condition", name="over", delay=0.0, conditionEdge="none"),
            self.scenario.duration,
        )
        for entry in self.scenario.timeline:
            if isinstance(entry.action, Finish):
                self.trigger(stop, entry, "finish")
        self.rest()
        write_bytes(self.target, written(root))
        return self.left

    @staticmethod
    def plainly(group: Any, name: str, delay: float = 0.0) -> Any:
        """A condition that holds as long as it holds."""
        return add(group, "Condition", name=name, delay=delay, conditionEdge="none")

    def entities(self, parent: Any) -> None:
        for name, robot in self.world.placed.items():
            box = robot.box()
            if box is None:
                raise VeldrainError("has no shape", where=name, cure="give it one")
            low, high = box
            thing = add(parent, "ScenarioObject", name=name)
            size = high - low
            is_person = max(size[0], size[1]) < 1.2
            if is_person:
                words = {"mass": 70.0, "pedestrianCategory": "pedestrian", "model3d": ""}
                kind = add(thing, "Pedestrian", name=name, **words)
            else:
                kind = add(thing, "Vehicle", name=name, vehicleCategory=_category(size), mass=_mass(robot))
            _box(kind, low, high)
            if not is_person:
                add(kind, "Performance", maxSpeed=70.0, maxAcceleration=10.0, maxDeceleration=10.0)
                axles = add(kind, "Axles")
                for word, x in (("FrontAxle", 0.3 * size[0]), ("RearAxle", -0.3 * size[0])):
                    add(
                        axles,
                        word,
                        maxSteering=0.6,
                        wheelDiameter=0.6,
                        trackWidth=0.8 * size[1],
                        positionX=x,
                        positionZ=0.3,
                    )
            add(kind, "Properties")
        for name, (low, high) in self.things.items():
            words = {"miscObjectCategory": "obstacle", "mass": 1000.0, "name": name}
            kind = add(add(parent, "ScenarioObject", name=name), "MiscObject", **words)
            _box(kind, low, high)
            add(kind, "Properties")

    @cached_property
    def things(self) -> dict[str, tuple[Array, Array]]:
        """The boxes of all that stands in the world by itself; ground goes on for ever."""
        own = {n: it.part for n, it in self.world.obstacles.items() if not self.world.is_of_roads(n)}
        boxes = {name: bounds(part.shape, part.pose) for name, part in own.items()}
        return {name: box for name, box in boxes.items() if np.isfinite(box).all()}

    def init(self, parent: Any) -> None:
        air = self.world.air
        told = {word: getattr(air, word) for word in AIR if getattr(air, word) != Air.fields()[word].default}
        told |= dict(zip(("wind_x", "wind_y"), air.wind, strict=False)) if any(air.wind[:2]) else {}
        if told:
            self.weather(add(parent, "GlobalAction"), {"rain": air.rain, "visibility": air.visibility} | told)
        self.left += [f"{word} of the air" for word, it in (("gusts", air.gusts), ("rising wind", air.wind[2])) if it]
        for name, robot in self.world.placed.items():
            own = add(parent, "Private", entityRef=name)
            pose = robot.pose
            route = robot.course.leader if robot.course is not None else None
            if isinstance(route, Route) and robot.course is not None:
                pose = route.pose(min(robot.course.start, route.length), robot.course.offset)
            teleport = add(add(add(own, "PrivateAction"), "TeleportAction"), "Position")
            self.world_position(teleport, pose)
            if robot.course is None:
                v = float(np.linalg.norm(robot.velocity))
                if v:
                    self.speed(add(own, "PrivateAction"), v, None, "step")
                continue
            if not isinstance(route, Route):
                self.left.append(f"the way of {name}: {type(route).__name__}")
                continue
            if not isinstance(route.speed, float):
                self.left.append(f"speeds along the route of {name}")
            self.speed(add(own, "PrivateAction"), 0.0 if robot.course.begin else route.top_speed, None, "step")
            self.route(add(add(own, "PrivateAction"), "RoutingAction"), route, name)
            if robot.course.keeps is not None:
                self.gap(add(own, "PrivateAction"), robot.course.keeps, name)
            for word in ("passes", "upright", "moves", "start_speed"):
                if getattr(robot.course, word):
                    self.left.append(f"{word} of {name}")
            if robot.course.begin:
                self.left.append(f"begin of {name}: it stands until it is told to go")

        for name in self.things:
            teleport = add(add(parent, "Private", entityRef=name), "PrivateAction")
            self.world_position(add(add(teleport, "TeleportAction"), "Position"), self.world.obstacles[name].pose)

    def story(self, board: Any) -> None:
        events = [e for e in self.scenario.timeline if not isinstance(e.action, Finish)]
        if not events:
            return
        act = add(add(board, "Story", name="story"), "Act", name="act")
        for k, entry in enumerate(events):
            found = self.action(entry.action)
            if found is None:
                self.left.append(str(entry.action))
                continue
            actor, write = found
            group = add(act, "ManeuverGroup", name=f"group{k + 1}", maximumExecutionCount="1")
            actors = add(group, "Actors", selectTriggeringEntities=False)
            if actor:
                add(actors, "EntityRef", entityRef=actor)
            event = add(
                add(group, "Maneuver", name=f"maneuver{k + 1}"), "Event", name=entry.names[0], priority="parallel"
            )
            write(add(add(event, "Action", name=f"action{k + 1}"), "PrivateAction" if actor else "GlobalAction"))
            self.trigger(add(event, "StartTrigger"), entry, str(entry.action))
        start = add(
            add(add(act, "StartTrigger"), "ConditionGroup"), "Condition", name="begin", delay=0.0, conditionEdge="none"
        )
        self.time(start, 0.0)

    def action(self, action: Action) -> tuple[str, Callable[[Any], None]] | None:
        """Whom an action is for ("": nobody), and what writes it; None where there are no words for it."""
        if isinstance(action, Go):
            own = self.way_of(action.actor)
            speed = own.top_speed if action.speed is None else action.speed
            return action.actor, lambda e: self.speed(e, speed, action.acceleration or own.acceleration, "linear")
        if isinstance(action, Stop) and action.at is None:
            rate = action.deceleration or self.way_of(action.actor).deceleration
            return action.actor, lambda e: self.speed(e, 0.0, rate, "linear")
        if isinstance(action, Shift):
            return action.actor, lambda e: self.shift(e, action)
        if isinstance(action, Keep):
            return action.actor, lambda e: self.gap(e, action.gap, action.actor)
        if isinstance(action, Take):
            given = action.route
            route: Any = self.world.route_on(**given) if isinstance(given, dict) else given
            return action.actor, lambda e: self.route(add(e, "RoutingAction"), route, action.actor)
        if isinstance(action, Switch) and action.to is not None and action.lasting is None:
            return "", lambda e: self.switch(e, action)
        if isinstance(action, Weather) and set(action.given) <= {*AIR, "wind_x", "wind_y", "over"}:
            told = {
                word: quantity(value, AIR.get(word, "speed")) for word, value in action.given.items() if word != "over"
            }
            if ("wind_x" in told) != ("wind_y" in told):  # there it has a direction and a speed
                return None
            if action.given.get("over"):
                self.left.append(f"over of {action}")
            return "", lambda e: self.weather(e, told)
        return None

    @staticmethod
    def switch(parent: Any, action: Switch) -> None:
        made = add(add(parent, "InfrastructureAction"), "TrafficSignalAction")
        add(made, "TrafficSignalStateAction", name=action.light.rpartition("/")[2], state=action.to)

    def way_of(self, actor: str) -> Route:
        """The route of an actor."""
        course = self.world.placed[actor].course
        if course is None or not isinstance(course.leader, Route):
            raise VeldrainError("is on no route", where=actor, cure="tell actors on routes alone")
        return course.leader

    def speed(self, parent: Any, speed: float, rate: float | None, shape: str) -> None:
        action = add(add(parent, "LongitudinalAction"), "SpeedAction")
        dimension, value = ("time", 0.0) if rate is None else ("rate", float(rate))
        add(action, "SpeedActionDynamics", dynamicsShape=shape, value=value, dynamicsDimension=dimension)
        add(add(action, "SpeedActionTarget"), "AbsoluteTargetSpeed", value=float(speed))

    def shift(self, parent: Any, action: Shift) -> None:
        offset = add(add(parent, "LateralAction"), "LaneOffsetAction", continuous=False)
        # The peak of a quintic's second change is 10/√3·d/T²; d is from where the shift before it led.
        course = self.world.placed[action.actor].course
        before = self.offsets.setdefault(action.actor, course.offset if course else 0.0)
        most = 10 / 3**0.5 * abs(action.offset - before) / action.within**2
        self.offsets[action.actor] = action.offset
        add(offset, "LaneOffsetActionDynamics", dynamicsShape="sinusoidal", maxLateralAcc=float(most))
        add(add(offset, "LaneOffsetTarget"), "AbsoluteTargetLaneOffset", value=float(action.offset))

    def gap(self, parent: Any, gap: Any, name: str) -> None:
        words = {
            "freespace": True,
            "continuous": True,
            "coordinateSystem": "entity",
            "displacement": "trailingReferencedEntity",
        }
        action = add(parent, "LongitudinalAction")
        said = {"timeGap": gap.time} if gap.time else {"distance": gap.standstill}
        add(action, "LongitudinalDistanceAction", entityRef=gap.to[0], **said, **words)
        if len(gap.to) > 1 or (gap.time and gap.standstill != Gap.fields()["standstill"].default):
            self.left.append(f"the gap of {name} but for its time and {gap.to[0]}")

    def route(self, parent: Any, route: Route, name: str) -> None:
        way = isinstance(route.points, Way)
        for word in ROUTE_WORDS:
            value = getattr(route, word)
            if value != Route.fields()[word].default and word != "closed":
                self.left.append(f"{word} of the route of {name}")
        made = add(add(parent, "AssignRouteAction"), "Route", name=f"route of {name}", closed=route.closed)
        if way:
            count = max(2, int(np.ceil(route.length / WAYPOINTS)) + 1)
            s = np.linspace(0.0, route.length, count)
            x, y, turn, _ = route.curve.at(s)
            z, _ = route.heights(s)
            rows = [(*row[:3], row[3]) for row in zip(x.tolist(), y.tolist(), z.tolist(), turn.tolist(), strict=True)]
        else:
            rows = [(*p, *([None] if len(p) == 2 else []), None) for p in route.points]
        for x_, y_, z_, h in rows:
            point = add(add(made, "Waypoint", routeStrategy="shortest"), "Position")
            add(point, "WorldPosition", x=x_, y=y_, z=z_, h=h)

    def world_position(self, parent: Any, pose: Pose) -> None:
        (x, y, z), (roll, pitch, yaw) = pose.position.tolist(), pose.rpy
        add(parent, "WorldPosition", x=x, y=y, z=z, h=float(yaw), p=float(pitch), r=float(roll))

    def weather(self, parent: Any, told: dict[str, float]) -> None:
        """What is in the air: what is not told stays out."""
        environment = add(add(parent, "EnvironmentAction"), "Environment", name="weather")
        rain, seen = told.get("rain"), told.get("visibility")
        words: dict[str, Any] = {"temperature": told.get("temperature"), "atmosphericPressure": told.get("pressure")}
        if rain is not None:
            words["fractionalCloudCover"] = "eightOktas" if rain else "zeroOktas"
        weather = add(environment, "Weather", **words)
        if seen is not None:
            add(weather, "Fog", visualRange=float(min(seen, CALM)))
        if rain is not None:
            kind = "rain" if rain else "dry"
            add(weather, "Precipitation", precipitationIntensity=float(rain), precipitationType=kind)
        if "wind_x" in told:
            x, y = told["wind_x"], told["wind_y"]
            add(weather, "Wind", direction=float(np.arctan2(y, x)), speed=float(np.hypot(x, y)))

    def time(self, condition: Any, seconds: float) -> None:
        add(add(condition, "ByValueCondition"), "SimulationTimeCondition", value=float(seconds), rule="greaterThan")

    def trigger(self, parent: Any, entry: Entry, title: str) -> None:
        """The start trigger of an entry."""
        trigger = entry.trigger
        if isinstance(trigger, Condition):
            held = trigger.time if isinstance(trigger, Held) else 0.0
            inner = trigger.one if isinstance(trigger, Held) else trigger
            groups = list(_groups(inner))
            if all(self.words_for(c) for group in groups for c in group):
                for group in groups:
                    here = add(parent, "ConditionGroup")
                    for k, c in enumerate(group):
                        self.condition(self.plainly(here, f"{title} {k + 1}"), c)
                if held:
                    self.left.append(f"{title}: that its condition has held for {held:g} s")
                return
            self.left.append(f"the condition of {title}")
            trigger = self.scenario.duration
        group = add(parent, "ConditionGroup")
        if isinstance(trigger, After):
            made = self.plainly(group, title, float(trigger.delay))
            event = next((e.names[0] for e in self.scenario.timeline if trigger.event in e.names), trigger.event)
            state = {"storyboardElementType": "event", "storyboardElementRef": event, "state": "startTransition"}
            add(add(made, "ByValueCondition"), "StoryboardElementStateCondition", **state)
            return
        if not isinstance(trigger, float | int):
            self.left.append(f"{title}: again and again")
            trigger = trigger.period
        self.time(self.plainly(group, title), float(trigger))

    def words_for(self, condition: Condition) -> bool:
        """True where there are words for a condition: of entities, not of their links."""
        names = {*self.world.placed, *self.things}
        if isinstance(condition, Shows):
            return True
        if isinstance(condition, Touching):
            return condition.a in names and condition.b in names
        if not isinstance(condition, Compared):
            return False
        m = condition.measure
        if isinstance(m, Speed):
            return m.a in names
        kinds = Distance | Clearance | TimeToCollision | TimeGap | SpeedDifference
        return isinstance(m, kinds) and m.a in names and m.b in names

    def condition(self, parent: Any, c: Any) -> None:
        if isinstance(c, Shows):
            told = {"name": c.light.rpartition("/")[2], "state": c.colour}
            add(add(parent, "ByValueCondition"), "TrafficSignalCondition", **told)
            return
        entity = add(parent, "ByEntityCondition")
        one = c.a if isinstance(c, Touching) else c.measure.a
        who = add(entity, "TriggeringEntities", triggeringEntitiesRule="any")
        add(who, "EntityRef", entityRef=one)
        made = add(entity, "EntityCondition")
        if isinstance(c, Touching):
            add(add(made, "CollisionCondition"), "EntityRef", entityRef=c.b)
            return
        m, words = c.measure, {"value": c.bound, "rule": LEAST if c.below else MOST}
        if isinstance(m, Speed):
            add(made, "SpeedCondition", **words)
        elif isinstance(m, SpeedDifference):
            add(made, "RelativeSpeedCondition", entityRef=m.b, **words)
        elif isinstance(m, TimeGap):
            add(made, "TimeHeadwayCondition", entityRef=m.b, **_counted(m), alongRoute=False, **words)
        elif isinstance(m, TimeToCollision):
            ttc = add(made, "TimeToCollisionCondition", **_counted(m), **words)
            add(add(ttc, "TimeToCollisionConditionTarget"), "EntityRef", entityRef=m.b)
        else:
            kind = {"relativeDistanceType": "euclidianDistance", "freespace": isinstance(m, Clearance)}
            add(made, "RelativeDistanceCondition", entityRef=m.b, **kind, **words)

    def rest(self) -> None:
        """List what else the scenario has."""
        self.left += [f"controllers of {robot}" for robot in self.scenario.controllers]
        self.left += [f"sensors of {name}" for name, robot in self.world.placed.items() if robot.model.sensors]
        self.left += [f"expectation '{name}'" for name in self.scenario.expectations]
        self.left += [f"thing {name}" for name in self.world.bodies]
        w = self.world
        self.left += ["light"] if w.lamps or w.sun != Sun() or w.sky != Sky() else []
        self.left = list(dict.fromkeys(self.left))


def _groups(condition: Condition) -> Iterator[list[Condition]]:
    """Conditions of which all of a group have to hold, of one group or another."""
    if isinstance(condition, Joined) and not condition.both:
        yield from _groups(condition.one)
        yield from _groups(condition.other)
    elif isinstance(condition, Joined):
        for one in _groups(condition.one):
            for other in _groups(condition.other):
                yield [*one, *other]
    else:
        yield [condition]


def _box(parent: Any, low: Array, high: Array) -> None:
    around, size, middle = add(parent, "BoundingBox"), high - low, (low + high) / 2
    add(around, "Center", x=float(middle[0]), y=float(middle[1]), z=float(middle[2]))
    add(around, "Dimensions", width=float(size[1]), length=float(size[0]), height=float(size[2]))


def _mass(robot: Placed) -> float:
    return float(sum(link.mass_properties.mass for link in robot.model.links.values()))


def _category(size: Array) -> str:
    if size[1] < 1.0:
        return "bicycle"
    return "truck" if size[0] > 7.0 else "van" if size[2] > 1.9 else "car"


def _counted(m: TimeGap | TimeToCollision) -> dict[str, Any]:
    """Between boxes or origins; in the own lane alone, or whatever the lane."""
    return {"freespace": not m.origins, "coordinateSystem": "road" if m.beside else "lane"}
