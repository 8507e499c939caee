"""A world: ground, obstacles, patches, free bodies, named frames and placed models. Pure data."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np

from veldrain.errors import VeldrainError, checked_title, unknown
from veldrain.model.courses import joints_to_lead, model_to_lead
from veldrain.model.draft import checked_name
from veldrain.model.drawing import shown_in_notebook
from veldrain.model.inertia import checked_mass, of_parts
from veldrain.model.leading import Course, Gap, Laid, Leader, Moves, checked_leader, course_number
from veldrain.model.lights import Air, Lamp, Sky, Sun, Surroundings
from veldrain.model.looks import Look
from veldrain.model.model import Model
from veldrain.model.pieces import Fault, Suppressed
from veldrain.model.scenery import parts_of
from veldrain.model.shapes import Box, Part, Shape, Surface
from veldrain.model.structures import Built
from veldrain.model.things import Body, Ground, Obstacle, Patch, Placed, with_surface
from veldrain.pose import Pose
from veldrain.sheet import sealed
from veldrain.units import Quantity, Triple, quantity, triple

GROUND = "ground"


ROUNDED = 1e-4  # rad or m beyond a joint's limit that is taken for the limit


class World:
    """Everything there is at the start of a simulation.

    Args:
        gravity: m/s², world axes.
        draft: True keeps mistakes that can be read past in ``faults`` instead of raising them: for ``check``.

    >>> w = World()
    >>> w.ground().body("ball", Sphere("5 cm"), mass="200 g", pose=Pose((0, 0, 1)))
    World(ground, ball)
    """

    def __init__(self, gravity: Sequence[Quantity] = (0.0, 0.0, -9.81), draft: bool = False) -> None:
        self.gravity: Triple = triple(gravity, "acceleration", "gravity")
        self.sun, self.sky, self.air = Sun(), Sky(), Air()
        self.lamps: list[Lamp] = []
        self.floor: Ground | None = None
        self.surfaces: dict[str, Surface] = {}  # that have a name, and can be put in place of each other
        self.obstacles: dict[str, Obstacle] = {}
        self.patches: dict[str, Patch] = {}
        self.bodies: dict[str, Body] = {}
        self.frames: dict[str, Pose] = {}
        self.placed: dict[str, Placed] = {}
        self.networks: dict[str, Laid] = {}  # of roads, by name
        self.apart: list[tuple[str, str]] = []
        self.draft = draft
        self.faults: list[Fault] = []
        self.suppressed: list[Suppressed] = []
        self.where: dict[str, str] = {}  # file and line by name; the file's name by ""
        self._is_made = True

    def __setattr__(self, name: str, value: Any) -> None:
        if "_is_made" in vars(self):
            sealed(self, World, name)
        object.__setattr__(self, name, value)

    def ground(self, surface: Surface | None = None, height: Quantity = 0.0, *, look: Look | None = None) -> World:
        """Lay a level, endless ground, named ``ground``, at a height in m."""
        self.floor = Ground(quantity(height, "length", GROUND), surface or Surface(), look)
        return self

    def light(self, *lights: Sun | Sky | Lamp) -> World:
        """Light the world: one sun, one sky, any number of lamps. What is not said is a bright day.

        >>> World().light(Sun(elevation="10 deg"), Lamp((0, 0, "3 m"))).sun.elevation < 0.2
        True
        """
        for light in lights:
            if isinstance(light, Sun):
                self.sun = light
            elif isinstance(light, Sky):
                self.sky = light
            elif isinstance(light, Lamp):
                self.lamps.append(light)
            else:
                raise VeldrainError(f"{light!r} is no light", where="light", cure="give a Sun, a Sky or a Lamp")
        return self

    @property
    def surroundings(self) -> Surroundings:
        """Its light and air."""
        return Surroundings(self.sun, self.sky, tuple(self.lamps), self.air)

    def weather(self, air: Air) -> World:
        """Say what is in the air: fog, rain, its pressure.

        >>> World().weather(Air(visibility="80 m")).air.rain
        0.0
        """
        self.air = air
        return self

    def obstacle(
        self, name: str, shape: Shape | Part, *, pose: Pose | None = None, surface: Surface | None = None
    ) -> World:
        """Fix a shape in the world. A name such as ``culvert/left_wall`` makes it part of ``culvert``.

        >>> World().obstacle("culvert/left_wall", Box((12, "10 cm", 1)), pose=Pose((6, "65 cm", "50 cm")))
        World(culvert/left_wall)
        """
        part, feel = with_surface(shape, surface)
        self._claim(name)
        self.obstacles[name] = Obstacle(name, part, pose or Pose(), feel)
        return self

    def build(
        self,
        name: str,
        built: Built,
        *,
        pose: Pose | None = None,
        surface: Surface | None = None,
        colour: str | None = None,
        mass: Quantity | None = None,
        look: Look | None = None,
    ) -> World:
        """Build a wall, stairs, a ramp, a pipe, a channel, a row, or things strewn about.

        Its pieces are called ``name/1``, ``name/2``, …; ``name`` stands for all of them.

        Args:
            name: of all of it.
            built: what is built.
            pose: of its frame.
            surface: of all pieces.
            colour: of all pieces.
            mass: of each piece, kg, which then moves freely. None: they are fixed in the world.
            look: of all pieces.

        >>> World().ground().build("steps", Stairs(steps=3))
        World(ground, steps/1, steps/2, steps/3)
        """
        for k, (shape, place) in enumerate(built.pieces(), start=1):
            at, part = (pose or Pose()) @ place, Part(shape, colour=colour, look=look)
            if mass is None:
                self.obstacle(f"{name}/{k}", part, pose=at, surface=surface)
            else:
                self.body(f"{name}/{k}", part, mass=mass, pose=at, surface=surface)
        return self

    def patch(
        self, name: str, size: Sequence[Quantity], *, pose: Pose | None = None, surface: Surface | None = None
    ) -> World:
        """Give the ground and obstacles another surface inside a box, such as a bank of silt.

        Args:
            name: its name.
            size: edges of the box (m). What is touched inside it feels like ``surface``.
            pose: of the box's centre.
            surface: what it feels like. Where patches overlap the one added last counts.

        >>> World().ground().patch("silt", ("2 m", "1 m", "2 cm"), surface=Surface(friction=0.2))
        World(ground, silt)
        """
        self._claim(name)
        self.patches[name] = Patch(name, Box(triple(size, "length", name)).size, pose or Pose(), surface or Surface())
        return self

    def body(
        self,
        name: str,
        shape: Shape | Part,
        *,
        mass: Quantity,
        pose: Pose | None = None,
        surface: Surface | None = None,
        velocity: Sequence[Quantity] = (0.0, 0.0, 0.0),
        spin: Sequence[Quantity] = (0.0, 0.0, 0.0),
    ) -> World:
        """Add one free rigid body.

        Args:
            name: its name.
            shape: a shape, or a part.
            mass: kg.
            pose: at the start.
            surface: what it feels like to touch.
            velocity: of the body's frame at the start, m/s, world axes.
            spin: angular velocity at the start, rad/s, world axes.
        """
        kg = checked_mass(mass, name)
        part, feel = with_surface(shape, surface)
        self._claim(name)
        self.bodies[name] = Body(
            name,
            part,
            of_parts([part], kg),
            pose or Pose(),
            feel,
            triple(velocity, "speed", name),
            triple(spin, "angular speed", name),
        )
        return self

    def no_contact(self, a: str, b: str) -> World:
        """Let two things pass through each other; a name stands for all whose names start with it.

        >>> World().ground().body("ball", Sphere(0.1), mass=1).no_contact("ball", "ground").apart
        [('ball', 'ground')]
        """
        known = {n: None for name in self.names() for n in prefixes(name)}
        for name in (a, b):
            if name not in known:
                raise unknown("thing", name, known, "no_contact")
        self.apart.append((a, b))
        return self

    def scene(
        self,
        name: str,
        file: str | Path,
        *,
        pose: Pose | None = None,
        collide: Literal["triangles", "hull", "nothing"] = "triangles",
        without: Sequence[str] = (),
        scale: float = 1.0,
        surface: Surface | None = None,
    ) -> World:
        """Lay a scene that was drawn elsewhere: each of its nodes is a thing ``name/node`` with its look.

        Args:
            name: of all of it.
            file: GLB or glTF (y up, m), or OBJ (z up).
            pose: of the scene.
            collide: how its nodes are touched: by their exact triangles, by convex hulls, or not at all.
            without: nodes that are left out.
            scale: of its lengths.
            surface: what all of it feels like to touch.

        Raises:
            VeldrainError: the file cannot be read, or it has no node of a name.
        """
        for node, part in parts_of(Path(file), collide, without, scale, name):
            thing = f"{name}/{node}"
            while thing in self.obstacles:
                thing += "_"
            self.obstacle(thing, part, pose=pose, surface=surface)
        return self

    def surface(self, name: str, surface: Surface) -> World:
        """Give a surface a name: things of the world can be given it by a study, ``vary={"ramp.surface": one_of(…)}``.

        Args:
            name: its name.
            surface: what it feels like to touch.

        Raises:
            VeldrainError: a name that is taken, that is none, or with a bar in it.

        >>> list(World().surface("wet steel", Surface(friction=0.2)).surfaces)
        ['wet steel']
        """
        if checked_title(name, "surface") in self.surfaces or "|" in name:
            raise VeldrainError(f"'{name}' is no name for a surface", where="world", cure="give it one of its own")
        self.surfaces[name] = surface.changed(name=name)
        return self

    def roads(self, roads: Laid, name: str | None = None) -> World:
        """Lay roads: their surfaces are touched and driven on, their marks are seen; things and signs stand beside.

        All of it is named ``name/…``; ``name`` stands for all.

        Args:
            roads: see ``Roads`` and ``load_roads``.
            name: None: their own.
        """
        name = name or roads.name
        for part_name, part, pose, surface in roads.laid():
            self.obstacle(f"{name}/{part_name}", part, pose=pose, surface=surface)
        self.networks[name] = roads
        return self

    def is_of_roads(self, name: str) -> bool:
        """True for a thing that its roads have laid."""
        return name.startswith(tuple(f"{network}/" for network in self.networks))

    def route_on(self, **words: Any) -> Leader:
        """A route along a lane of its roads, by the words of a file: road, lane, section, speed, via, ….

        Raises:
            VeldrainError: it has no roads, or none of that name.
        """
        network = words.pop("network", None)
        if not self.networks:
            raise VeldrainError("there are no roads", where="route", cure="lay them with roads:, or give points")
        if network is None and len(self.networks) > 1:
            names = ", ".join(self.networks)
            raise VeldrainError(f"there are several networks of roads: {names}", where="route", cure="give network=")
        found = self.networks.get(network or next(iter(self.networks)))
        if found is None:
            raise unknown("network of roads", network, self.networks, "route")
        return found.route_on(**words)

    def frame(self, name: str, pose: Pose) -> World:
        """Name a place in the world, such as ``outlet``."""
        self._claim(name)
        self.frames[name] = pose
        return self

    def place(
        self,
        model: Model,
        name: str | None = None,
        *,
        pose: Pose | None = None,
        fixed: bool = False,
        joints: Mapping[str, Quantity] | None = None,
        path: Sequence[tuple[Quantity, Pose]] = (),
        posture: str | None = None,
        velocity: Sequence[Quantity] = (0.0, 0.0, 0.0),
    ) -> World:
        """Place a model into the world.

        Args:
            model: the model; it can be placed many times.
            name: of the robot; None: the model's own.
            pose: of its root link.
            fixed: True holds the root still; False lets it move freely.
            joints: positions at the start (rad or m); those left out are 0, or what closes a loop.
            path: times and poses through which the root is led, whatever holds it back; it waits at the first
                before its time and stays at the last. In between it goes smoothly: never beyond the places given,
                and turning gently from pose to pose. Leave ``pose`` out.
            posture: name of one of the model's postures to start in; ``joints`` go before it.
            velocity: of the root at the start, m/s, world axes, where it moves freely.

        Raises:
            VeldrainError: a name taken, an unknown joint or posture, a start outside a joint's limits by more than 1e-4
                (rad, m): less is a limit that was written with fewer digits, and the joint starts at it.
        """
        name = name or model.name
        if not self.draft:
            model.settle()
            model.root()
        if posture is not None and posture not in model.postures:
            raise unknown("posture", posture, model.postures, name)
        start = (model.postures[posture] if posture else {}) | model.positions(joints or {}, name)
        closing = bool(model.loops) or any(j.mimic for j in model.joints.values())
        for held in model.joints.values():
            low, high = held.limits or (-np.inf, np.inf)
            at = start.get(held.name, 0.0)
            if not low <= at <= high and low - ROUNDED <= at <= high + ROUNDED and held.name in start:
                start[held.name] = min(max(at, low), high)  # a limit that was written with fewer digits
            elif not low <= at <= high and (held.name in start or not closing):
                error = VeldrainError(
                    f"starts at {held.told(at)}, outside its limits {held.told(low)} to {held.told(high)} by"
                    f" {held.told(max(low - at, at - high))}",
                    where=f"{name}/{held.name}",
                    cure=f"give joints={{'{held.name}': …}}",
                )
                if not self.draft:
                    raise error
                self.faults.append(Fault("start-outside-limits", error))
        steps = tuple((quantity(time, "time", f"{name}: path"), at) for time, at in path)
        times = [time for time, _ in steps]
        if steps and (fixed or pose is not None or len(steps) < 2 or times[0] < 0 or sorted(set(times)) != times):
            raise VeldrainError(
                "a path that cannot be followed",
                where=name,
                cure="give two or more poses at rising times from 0 s on, and neither pose= nor fixed=",
            )
        moving = triple(velocity, "speed", name)
        if any(moving) and (fixed or steps):
            raise VeldrainError("has a velocity, and does not move freely", where=name, cure="leave velocity out")
        self._claim(name)
        self.placed[name] = Placed(name, model, steps[0][1] if steps else pose or Pose(), fixed, start, steps, moving)
        return self

    def actor(
        self,
        name: str,
        shape: Shape | Part | Model,
        *,
        route: Leader,
        keeps: Gap | None = None,
        joints: Mapping[str, Quantity | Moves] | None = None,
        start: Quantity = 0.0,
        begin: Quantity = 0.0,
        offset: Quantity = 0.0,
        passes: bool = False,
        upright: bool = False,
        start_speed: Quantity | None = None,
    ) -> World:
        """Add something that is led: a person, a lorry, a door. It goes on whatever holds it back.

        It pushes what moves freely, is touched by all, and sensors see it. On a route of points [x, y] it stands on the
        ground with its lowest point, its height, pitch and roll those of four wheels below it.

        Args:
            name: its name.
            shape: a shape or part, whose frame goes along the route; or a model, whose root link does.
            route: what leads it.
            keeps: the gap that it keeps to others; None: it minds nobody.
            joints: of a model: what each does (``Rolls``, ``Swings``, ``Steers``), or where it stays, rad or m.
            start: where on the route it begins, m.
            begin: when it sets off, s; before it stands.
            offset: how far left of the route it goes, m.
            passes: True: it passes through everything, touched by nothing.
            upright: True: it stays upright on slopes, as people do.
            start_speed: that it begins with, m/s, and from which it goes on to its route's; None: that at once.

        Raises:
            VeldrainError: a name taken, an unknown joint, or a model with joints that cannot be led.

        >>> from veldrain.motion.routes import Route
        >>> World().actor("cart", Box((1, 1, 1)), route=Route([(0, 0), (9, 0)], speed=1)).placed["cart"].is_led
        True
        """
        checked_leader(route, name)
        model = model_to_lead(name, shape, self.draft)
        moves, held = joints_to_lead(name, model, joints or {})
        course = Course(
            route,
            keeps,
            moves,
            passes,
            upright,
            course_number("start", start, name),
            course_number("begin", begin, name),
            course_number("offset", offset, name),
            None if start_speed is None else course_number("start_speed", start_speed, name),
        )
        if course.begin > 0.0 and course.start_speed:
            raise VeldrainError("begins later, and with a speed", where=name, cure="leave begin or start_speed out")
        self._claim(name)
        self.placed[name] = Placed(name, model, route.start(course), False, held, course=course)
        return self

    def suppress(self, rule: str, at: str, *, because: str) -> World:
        """Silence a rule of the check for a name path, with the reason why.

        >>> World().suppress("nothing-below", at="probe", because="it is dropped on purpose").suppressed[0].at
        'probe'
        """
        if not because.strip():
            raise VeldrainError("a finding suppressed without a reason", where=at, cure="give because=")
        self.suppressed.append(Suppressed(rule, at, because))
        return self

    def names(self) -> Iterator[str]:
        """Names of everything that was added, links and frames of placed models included."""
        if self.floor:
            yield GROUND
        yield from (*self.obstacles, *self.patches, *self.bodies, *self.frames)
        for robot in self.placed.values():
            yield robot.name
            yield from (f"{robot.name}/{part}" for part in (*robot.model.links, *robot.model.frames))

    def _claim(self, name: str) -> None:
        checked_name(name, "world")
        tables = (self.obstacles, self.patches, self.bodies, self.frames, self.placed)
        robot, _, part = name.partition("/")
        model = self.placed[robot].model if robot in self.placed else None
        inner = model is not None and (part in model.links or part in model.frames)
        if name == GROUND or inner or any(name in table for table in tables):
            raise VeldrainError(f"a second thing called '{name}'", where="world", cure="give it another name")

    def _repr_png_(self) -> bytes:
        """How it looks, for notebooks."""
        return shown_in_notebook(self)

    def __repr__(self) -> str:
        top = [n for n in self.names() if not any(n.startswith(f"{r}/") for r in self.placed)]
        return f"World({', '.join(top)})"


def prefixes(path: str) -> list[str]:
    """A name path and all that it is part of: ``a/b`` gives ``a`` and ``a/b``."""
    parts = path.split("/")
    return ["/".join(parts[: k + 1]) for k in range(len(parts))]
