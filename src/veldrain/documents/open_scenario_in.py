"""ASAM OpenSCENARIO XML in (1.0 to 1.3): entities as actors, and what happens to them; what is not used is listed."""

from __future__ import annotations

import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from veldrain.documents.open_scenario_doing import Doings, Entity
from veldrain.documents.open_scenario_file import ScenarioFile
from veldrain.documents.open_scenario_lights import LightsIn
from veldrain.documents.open_scenario_notes import note_changes
from veldrain.documents.open_scenario_places import Places
from veldrain.documents.open_scenario_when import Times, Trigger
from veldrain.documents.world_file import BELOW_ROADS
from veldrain.errors import VeldrainError, told_at
from veldrain.formats import load_roads
from veldrain.model import Air, Box, Model, Part, Sun, World
from veldrain.motion import Roads
from veldrain.pose import Pose
from veldrain.scenario import Scenario
from veldrain.scenario.acting import Take
from veldrain.scenario.actions import Action, Finish
from veldrain.scenario.entries import Entry

USED = {"FileHeader", "CatalogLocations", "RoadNetwork", "Entities", "Storyboard", "ParameterDeclarations"}
NEVER = 1e6  # s: who stands until it is told to go
NEAR = 1.0  # m: a way that begins so near to who stands is its own from the start
USUAL = 100.0  # kg/m³ of the box around a car
ENDLESS = 60.0  # s of a storyboard that says no end


def load_open_scenario(path: str | Path) -> Scenario:
    """A scenario from ASAM OpenSCENARIO XML: each entity is an actor, a box on its route or in its lane.

    Parameters, their expressions and entries of catalogues are put in. What of the file is not used, or is taken as
    something near, is in ``notes``, a line each.

    Raises:
        VeldrainError: what is wrong in it, with file and line.

    >>> load_open_scenario("cut_in.xosc").notes  # doctest: +SKIP
    []
    """
    return _Reader(ScenarioFile(Path(path))).scenario()


class _Reader:
    """Reads one file."""

    def __init__(self, file: ScenarioFile) -> None:
        self.file, root = file, file.root
        for e in root:
            if e.tag not in USED:
                file.unused(e)
        self.board = file.child(root, "Storyboard")
        self.roads = self.network()
        self.lights = LightsIn(file, self.roads)
        self.members: dict[str, list[str]] = {}
        self.entities = {entity.name: entity for entity in self.declared(file.child(root, "Entities"))}
        self.private: dict[str, list[Any]] = {}
        self.poses: dict[str, Pose | None] = {}  # None: under way
        self.places = Places(file, self.roads, self.pose_of)
        self.doings = Doings(file, self.places, self.entities)
        self.lasts: dict[str, float] = {}
        self.named: set[str] = set()  # events that have their name
        self.moved: set[str] = set()  # entities that were told something
        self.times = Times(file, self.places, self.entities, self.members, self.lasts, self.lights)

    def scenario(self) -> Scenario:
        world = World().ground(height=BELOW_ROADS if self.roads else 0.0)
        if self.roads:
            world.roads(self.roads)
        friction = self.begin(world, self.file.child(self.file.child(self.board, "Init"), "Actions"))
        told = [(event, *self.told(event)) for event in self.board.iter("Event")]
        self.place(world, {name for _, _, names in told for name in names})
        stop = self.board.find("StopTrigger")
        ends = list(self.times.triggers(stop))
        times = [end for end in ends if isinstance(end, float) and end > 0]
        if not times:
            self.file.notes.append(f"{self.file.path.name}: says no end: {ENDLESS:g} s")
        made = Scenario(world, min(times) if times else ENDLESS)
        entries = [
            Entry(end, Finish("the storyboard stops"), self.file.at(stop)) for end in ends if not isinstance(end, float)
        ]
        if friction != 1.0:
            self.rougher(made, friction)
        for act in self.board.iter("Act"):
            entries += self.act(act, {id(event): actions for event, actions, _ in told})
        for entry in (*self.times.marks, *entries):
            made.add(entry)
        note_changes(self.file)
        made.notes = self.file.notes
        return made

    def network(self) -> Roads | None:
        found = None
        for e in self.file.root.iterfind("RoadNetwork/*"):
            if e.tag == "LogicFile" and found is None:
                found = load_roads(self.file.path.parent / self.file.text(e, "filepath"))
            elif e.tag == "TrafficSignals":
                continue
            elif len(e) or e.attrib:
                self.file.unused(e)
        return found

    def declared(self, parent: Any) -> Iterator[Entity]:
        """All entities; those without a box are left out."""
        for thing in parent:
            name = thing.get("name", "")
            if thing.tag == "EntitySelection":
                self.members[name] = [self.file.text(e, "entityRef") for e in thing.iterfind("Members/EntityRef")]
                continue
            if thing.tag != "ScenarioObject":
                self.file.unused(thing)
                continue
            for controller in thing.iterfind("ObjectController"):
                if len(controller):
                    self.file.unused(controller, f"of '{thing.get('name')}' is not used: it does what it is told alone")
            box = thing.find("*/BoundingBox")
            if box is None:
                self.file.unused(thing, "has no BoundingBox, and is left out")
                continue
            centre, size = self.file.child(box, "Center"), self.file.child(box, "Dimensions")
            at = tuple(self.file.number(centre, axis, 0.0) for axis in "xyz")
            sizes = tuple(max(self.file.number(size, word), 0.01) for word in ("length", "width", "height"))
            yield Entity(self.file.text(thing, "name"), thing, sizes, at)

    def pose_of(self, name: str, element: Any) -> Pose:
        """Where an entity begins; what names it is told where that leads in a circle."""
        if name in self.poses:
            pose = self.poses[name]
            if pose is None:
                raise VeldrainError("places lead in a circle", where=self.file.at(element), cure="say one by the world")
            return pose
        self.poses[name] = None
        found = Pose()
        for own in self.private.get(name, ()):
            teleport = own.find("TeleportAction/Position")
            if teleport is not None:
                found = self.places.pose(teleport)
        self.poses[name] = found
        return found

    def begin(self, world: World, init: Any) -> float:
        """How all begins; gives by how much roads are less rough."""
        friction = 1.0
        for own in init:
            if own.tag == "Private":
                name = self.file.text(own, "entityRef")
                self.private.setdefault(name, []).extend(own.iterchildren("*"))
                if name not in self.entities:
                    self.file.unused(own, f"is of '{name}', which is left out")
            elif own.tag == "GlobalAction" and (environment := own.find("EnvironmentAction/Environment")) is not None:
                friction *= self.surroundings(world, environment)
            else:
                self.file.unused(own)
        for name, entity in self.entities.items():
            entity.pose = self.pose_of(name, entity.element)
            entity.line = entity.lane = self.places.lane_at(entity.pose)
            entity.offset = self.places.offset_at(entity.pose) if entity.line else 0.0
        is_relative = "LongitudinalAction/SpeedAction/SpeedActionTarget/RelativeTargetSpeed"
        for later in (False, True):  # those that count from others come after them
            for name, entity in self.entities.items():
                for action in self.private.get(name, ()):
                    if (action.find(is_relative) is not None) is later:
                        self.first(entity, action)
        return friction

    def surroundings(self, world: World, environment: Any) -> float:
        """Take over an environment; gives its factor of friction."""
        weather, road = environment.find("Weather"), environment.find("RoadCondition")
        if weather is not None:
            told = self.doings.air(weather)
            wind = told.pop("wind_x", 0.0), told.pop("wind_y", 0.0), 0.0
            world.weather(Air(**told, wind=wind))
            if (sun := weather.find("Sun")) is not None:
                lux = self.file.number(sun, "illuminance", Sun.fields()["lux"].default)
                turn = math.pi / 2 - self.file.number(sun, "azimuth", 0.0)  # there clockwise from north, which is +y
                world.light(Sun(elevation=self.file.number(sun, "elevation"), azimuth=turn, lux=lux))
        for e in environment.iterchildren("*"):
            if e.tag not in ("Weather", "RoadCondition", "ParameterDeclarations"):
                self.file.unused(e)
        return 1.0 if road is None else self.file.number(road, "frictionScaleFactor", 1.0)

    def first(self, entity: Entity, action: Any) -> None:
        """What an entity is told before the start."""
        routing = next(iter(action.iterfind("RoutingAction/*")), None)
        if action.find("TeleportAction/Position") is not None:
            return
        if (speed := action.find("LongitudinalAction/SpeedAction")) is not None and (
            v := self.doings.target_speed(speed)
        ) is not None:
            entity.speed = entity.begins_at = v
        elif routing is not None and (route := self.doings.route(routing)) is not None:
            entity.route, entity.line = route, None
        elif routing is not None and routing.tag == "AcquirePositionAction":
            target = self.file.child(routing, "Position")
            entity.route, entity.line = self.places.to(entity.pose, target, self.file.at(routing)), None
        elif (kept := action.find("LongitudinalAction/LongitudinalDistanceAction")) is not None and (
            gap := self.doings.gap(kept)
        ):
            entity.gap = gap
        else:
            self.file.unused(action)

    def told(self, event: Any) -> tuple[list[Action], set[str]]:
        """The actions of an event, and whom they are for."""
        group, made, names = event.getparent().getparent(), [], set()
        name, lasts = event.get("name", ""), 0.0
        for counted in (event, group):
            if self.file.number(counted, "maximumExecutionCount", 1.0) > 1:
                self.file.unused(counted, "is to happen several times: it happens once")
        actors = group.find("Actors")
        if actors is not None and self.file.flag(actors, "selectTriggeringEntities"):
            self.file.unused(actors, "are who triggers it as well: those named are told alone")
        refs = [] if actors is None else [self.file.text(e, "entityRef") for e in actors.iterfind("EntityRef")]
        for action in event.iterfind("Action"):
            found: list[Action] = []
            own = action.find("PrivateAction")
            for who in [one for ref in refs for one in self.members.get(ref, [ref])] if own is not None else ():
                if who in self.entities:
                    before = self.entities[who].speed
                    some = self.started(self.entities[who], self.doings.of(self.entities[who], own))
                    lasts = max([lasts, *(self.doings.lasts(one, before) for one in some)])
                    names.add(who)
                    found += some
            weather = action.find("GlobalAction/EnvironmentAction/Environment/Weather")
            turned = None if weather is None else self.doings.turned(weather)
            found += [] if turned is None else [turned]
            for signal in action.iterfind("GlobalAction/InfrastructureAction/TrafficSignalAction/*"):
                switched = self.lights.action(signal) if signal.tag == "TrafficSignalStateAction" else None
                found += [] if switched is None else [switched]
            if not found:
                self.file.unused(action, f"'{action.get('name', '')}' is not used")
            made += found
        self.lasts[name] = lasts
        return made, names

    def started(self, entity: Entity, actions: list[Action]) -> list[Action]:
        """Actions of an entity; a way that begins where it stands is its own from the start."""
        stands = entity.begins_at == 0.0 and entity.route is None and entity.name not in self.moved
        self.moved.add(entity.name)
        if stands and actions and isinstance(actions[0], Take):
            route = actions[0].route
            if math.dist(route.pose(0.0).position[:2], entity.pose.position[:2]) < NEAR:
                entity.route, entity.line = route, None
                return actions[1:]
        return actions

    def place(self, world: World, told: set[str]) -> None:
        """Each entity as an actor on its way; what is nothing but a thing, as that."""
        minded = {name for e in self.file.root.iter("LongitudinalDistanceAction") for name in [e.get("entityRef")]}
        for name, entity in self.entities.items():
            part = Part(Box(entity.size), pose=Pose(entity.centre))
            moves = entity.begins_at > 0.0 or entity.route is not None or name in told
            if not moves and name not in minded and entity.element.find("MiscObject") is not None:
                world.obstacle(name, part, pose=entity.pose)
                continue
            model = Model(name).link("body", part, mass=self.mass(entity))
            is_person = entity.element.find("Pedestrian") is not None
            v = entity.begins_at
            line = entity.route or self.places.from_here(entity.pose)
            if entity.route is None and self.roads and entity.line is None and moves:
                self.file.unused(entity.element, f"'{name}' is on no lane in its direction: it goes straight on")
            going = line.changed(speed=v or entity.speed or 1.0) if isinstance(line.speed, float) else line
            s, t = (float(x) for x in going.curve.to_st(entity.pose.position[0], entity.pose.position[1]))
            with told_at(self.file.at(entity.element)):
                begin = 0.0 if v > 0 else NEVER
                world.actor(
                    name, model, route=going, keeps=entity.gap, start=s, offset=t, begin=begin, upright=is_person
                )

    def mass(self, entity: Entity) -> float:
        """What a file says, else what is usual for the size."""
        said = self.file.number(entity.element[0], "mass", 0.0)
        return said if said > 0.0 else math.prod(entity.size) * USUAL

    def rougher(self, scenario: Scenario, factor: float) -> None:
        """The roads' friction times a factor."""
        for knob in scenario.knobs():
            if self.roads and knob.path.startswith(f"{self.roads.name}/") and knob.path.endswith(".friction"):
                knob.set((knob.get() or 0.0) * factor)

    def act(self, act: Any, told: dict[int, list[Action]]) -> Iterator[Entry]:
        """All events of an act, none of which happens before it has begun."""
        begins: list[Trigger] = list(self.times.triggers(act.find("StartTrigger"))) or [0.0]
        if act.find("StopTrigger") is not None and len(act.find("StopTrigger")):
            self.file.unused(act.find("StopTrigger"), "of an act is not used: its events go on")
        at_once = any(isinstance(begin, float) and begin <= 0.0 for begin in begins)
        title = f"{act.get('name') or 'an act'} begins"
        for event in act.iter("Event"):
            name, actions = event.get("name", ""), told[id(event)]
            trigger = event.find("StartTrigger")
            found = list(self.times.triggers(trigger)) if trigger is not None else [0.0]
            if actions and not found:
                self.file.unused(event, f"'{name}' is not used")
            for one in found:
                for begin in [0.0] if at_once else begins:
                    when = one if at_once else self.after(one, title, begin, act)
                    for action in actions:
                        yield Entry(when, action, self.file.at(event), "" if name in self.named else name)
                        self.named.add(name)

    def after(self, trigger: Trigger, title: str, begin: Trigger, act: Any) -> Trigger:
        """A trigger that counts only from when its act has begun."""
        if isinstance(trigger, float) and isinstance(begin, float):
            return max(trigger, begin)
        return self.times.joined([self.times.begun(title, begin, act), trigger])
