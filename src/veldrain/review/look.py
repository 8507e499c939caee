"""What rules look at: a world at its start, its robots as they stand in it, and measures that several rules take."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Joint, MassProperties, Part, Placed, World
from veldrain.model.inertia import combined, is_solid, of_parts
from veldrain.model.volumes import bounds_of, seen, touched
from veldrain.physics.engine import Engine
from veldrain.physics.mechanics import Mechanics
from veldrain.physics.states import Forces, Snapshot
from veldrain.pose import Array, Pose
from veldrain.review.solids import Solids, extent, is_disc, round_axis
from veldrain.review.standing import Stand, set_down
from veldrain.review.statics import Held

WHILE = 0.3  # s in which things come to stand
FAR_OFF = 0.5  # of the diagonal around a link's shapes
ODD = 100.0  # times an even spread's inertia: it is in other units
LYING = 0.7  # cosine of a round part's axis with up, from which on it lies flat


class Look:
    """A world at its start.

    Args:
        world: the world.
        step: of the simulation, s.
        integrator: of the simulation.
        is_bare: True where a model is looked at by itself: there is no world to speak of.
    """

    def __init__(self, world: World, step: float, integrator: str = "semi-implicit", is_bare: bool = False) -> None:
        self.world, self.step, self.integrator, self.is_bare = world, step, integrator, is_bare
        self.on_roads: list[Any] | None = None  # see roads
        self.robots = [RobotLook(self, placed) for placed in world.placed.values()]

    @cached_property
    def _built(self) -> Engine | VeldrainError:
        try:
            return Engine(self.world, self.step)
        except VeldrainError as error:
            return error

    @property
    def engine(self) -> Engine | None:
        """The engine at its start; None where the world cannot be built."""
        return self._built if isinstance(self._built, Engine) else None

    @property
    def cannot_be_built(self) -> VeldrainError | None:
        """Why there is no engine."""
        return self._built if isinstance(self._built, VeldrainError) else None

    @cached_property
    def _spare(self) -> tuple[Engine, Snapshot]:
        engine = Engine(self.world, self.step)
        return engine, engine.snapshot()

    def trial(self) -> Engine:
        """Another engine at the start, to move and to step; the next call takes it back."""
        engine, start = self._spare
        engine.restore(start)
        return engine

    @cached_property
    def settled(self) -> Forces | None:
        """The contacts after a while, the motors told nothing; None where it cannot be simulated."""
        engine = self.after_a_while
        return engine.forces() if engine else None

    @property
    def wanted_step(self) -> float:
        """The step (s) that would do for what touches after a while; 0 where this one does."""
        engine = self.after_a_while
        return float(engine.plant.counts["wanted"][0]) if engine else 0.0

    @cached_property
    def after_a_while(self) -> Engine | None:
        """The world after a while, in which things come to stand; None where it cannot be simulated."""
        if self.engine is None or not (self.world.bodies or any(not r.placed.is_led for r in self.robots)):
            return None  # nothing comes to stand
        engine = Engine(self.world, self.step)
        try:
            engine.advance(max(2, round(WHILE / self.step)))
        except VeldrainError:
            return None  # another rule says so
        return engine

    def line_of(self, path: str) -> str:
        """File and line of what a name path stands for, where a file was read."""
        robot = path.partition("/")[0]
        inner = self.world.placed[robot].model.line_of(path) if robot in self.world.placed else ""
        return inner or self.world.where.get(path, self.world.where.get(robot, ""))

    @property
    def has_gravity(self) -> bool:
        """True where things have weight."""
        return any(self.world.gravity)

    @property
    def up(self) -> Array:
        """Direction against gravity (3,); z where there is none."""
        g = np.array(self.world.gravity)
        return np.array((0.0, 0.0, 1.0)) if not g.any() else -g / np.linalg.norm(g)


class RobotLook:
    """A placed model at its start."""

    def __init__(self, look: Look, placed: Placed) -> None:
        self.look, self.placed, self.model, self.name = look, placed, placed.model, placed.name
        self.links = self.model.links
        self.moving = {j.child: j for j in self.model.joints.values()}

    @property
    def is_free(self) -> bool:
        """True where the root can fall."""
        return not self.placed.fixed and not self.placed.is_led

    def path(self, name: str) -> str:
        """Name path of a part of the robot."""
        return f"{self.name}/{name}"

    @cached_property
    def at_start(self) -> dict[str, float]:
        """Positions of all coordinates at the start."""
        return self.model.bent(self.placed.joints)

    @cached_property
    def poses(self) -> dict[str, Pose]:
        """Poses of the links in the world at the start."""
        engine = self.look.engine
        if engine:
            return {link: engine.pose(self.path(link)) for link in self.links}
        return {link: self.placed.pose @ pose for link, pose in self.model.poses(self.placed.joints).items()}

    def body(self, links: list[str]) -> MassProperties:
        """Mass properties of links together, in the world at the start."""
        return combined([self.links[link].mass_properties.moved(self.poses[link]) for link in links])

    def below(self, link: str) -> list[str]:
        """A link and all that hangs on it."""
        found = [link]
        for one in found:
            found += [j.child for j in self.model.joints.values() if j.parent == one]
        return found

    def group(self, link: str) -> list[str]:
        """The links that are one rigid body with this one."""
        found = [link]
        for one in found:
            for j in self.model.joints.values():
                if j.kind == "fixed" and one in (j.parent, j.child):
                    found += [other for other in (j.parent, j.child) if other not in found]
        return found

    def seen(self, link: str) -> Solids:
        """Shapes that are seen of a link, in its frame."""
        return [s for part in self.links[link].parts for s in seen(part)]

    def touched(self, link: str) -> Solids:
        """Shapes that are touched of a link, in its frame."""
        return [s for part in self.links[link].parts for s in touched(part)]

    @cached_property
    def out_of_size(self) -> dict[str, dict[int, tuple[float, float]]]:
        """Parts, by link and number, that are far too large or small, with their size and that of what is beside them.

        A part is compared with the others of its link, or where it is alone with all parts of the robot.
        """
        sizes = {(name, k): extent(part) for name, link in self.links.items() for k, part in enumerate(link.parts)}
        found: dict[str, dict[int, tuple[float, float]]] = {}
        for (name, k), own in sizes.items():
            others = [s for key, s in sizes.items() if key != (name, k)]
            usual = float(np.median(others)) if others else own
            beside = [s for (n, i), s in sizes.items() if n == name and i != k]
            compared = float(np.median(beside)) if beside else usual
            if (own > 30 * usual or own < usual / 200) and not 1 / 30 < own / compared < 30:
                found.setdefault(name, {})[k] = own, compared
        return found

    @cached_property
    def rollers(self) -> set[str]:
        """Links that turn freely on what turns itself: rollers on a wheel, which wait for their turn to touch."""
        free = {c: j for c, j in self.moving.items() if j.kind == "continuous" and j.name not in self.model.motors}
        return {c for c, j in free.items() if (wheel := self.moving.get(j.parent)) and wheel.kind == "continuous"}

    @cached_property
    def stand(self) -> Stand | None:
        """The robot set down on what is below it."""
        look = self.look
        if look.engine is None or look.is_bare or not self.is_free or not look.has_gravity:
            return None
        limbs = {link for link in self.links if self.touched(link) and len(self.below(link)) == 1}
        ends = limbs | set(self.rolling)
        return set_down(look.trial(), look.world.placed, self.name, ends, look.up)

    @cached_property
    def wheels(self) -> dict[str, Joint]:
        """Links that roll on the ground, with their joints.

        Of those that could, see ``rolling``, the ones that stand, and those on the axis of one, driven like one or as
        large. A winch's drum, a roll of brushes or a reaction wheel is none.
        """
        rolling, stand = self.rolling, self.stand
        if not self.is_free or self.look.is_bare:
            return rolling
        if stand is None:
            return rolling if self.look.has_gravity else {}
        on_ground = [link for link in rolling if link in stand.links]
        if not on_ground:  # it stands on something else: those that nearly reach, and have a like
            near = {link: joint for link, joint in rolling.items() if stand.gaps.get(link, 0.0) < self.radius(link)}
            return near if len(near) > 1 else {}
        return {
            link: joint
            for link, joint in rolling.items()
            if any(link == other or self._is_like(link, other) for other in on_ground)
        }

    def _is_like(self, link: str, other: str) -> bool:
        a, b = self.rolling[link], self.rolling[other]
        motors = [self.model.motors.get(joint.name) for joint in (a, b)]
        if all(motors) and len({replace(m, joint="") for m in motors if m}) == 1:
            return True
        here, there = self.poses[link], self.poses[other]
        axis, apart = here.rotation.apply(a.axis), there.position - here.position
        radius = self.radius(other)
        is_coaxial = abs(axis @ there.rotation.apply(b.axis)) > 0.99 and (
            float(np.linalg.norm(apart - (apart @ axis) * axis)) < 0.1 * radius
        )
        return is_coaxial or abs(self.radius(link) / radius - 1.0) < 0.1

    def radius(self, link: str) -> float:
        """Half the largest size (m) of a link's shapes: a wheel's radius."""
        low, high = bounds_of(self.touched(link) or self.seen(link))
        return float((high - low).max() / 2)

    @cached_property
    def rolling(self) -> dict[str, Joint]:
        """Links that could roll: round, and turning without end or by a motor that is told a velocity."""
        found, hubs = {}, {self.moving[roller].parent for roller in self.rollers}
        for link, joint in self.moving.items():
            if link in self.rollers or link in hubs:
                continue
            motor = self.model.motors.get(joint.name)
            rolls = joint.kind == "continuous" or (joint.kind == "revolute" and motor and motor.mode == "velocity")
            # A disc that lies flat is a propeller, a brush or a turntable; unless it is to turn about a level axis.
            turns = self.poses[link].rotation
            is_level = abs(turns.apply(joint.axis) @ self.look.up) < LYING
            for part in self.links[link].parts:
                axis = round_axis(part)
                if (
                    rolls
                    and axis is not None
                    and (abs(turns.apply(axis) @ self.look.up) < LYING or (is_level and is_disc(part)))
                ):
                    found[link] = joint
        return found

    @cached_property
    def _mechanics(self) -> Mechanics | None:
        engine = self.look.engine
        return Mechanics(engine, engine.compiled.robots[self.name]) if engine else None

    def inertia_at(self, coordinate: str) -> float:
        """Inertia (kg·m² or kg) that a coordinate feels at the start, the others being held."""
        return self._at(coordinate, np.diag(self._mechanics.inertia())) if self._mechanics else np.nan

    @cached_property
    def held(self) -> Held | None:
        """The robot alone, its motors holding it as the engine solves it; None where it cannot be built."""
        try:
            return Held(self.placed, self.look.world.gravity, self.look.step) if self.look.engine else None
        except VeldrainError:
            return None

    @cached_property
    def of_odd_inertia(self) -> set[str]:
        """Links whose inertia is so far from that of their shapes that a rule of its own says so, as an error."""
        return {name for name in self.links if not 1 / ODD < self.inertia_factor(name) < ODD}

    @cached_property
    def com_outside(self) -> dict[str, float]:
        """Links whose centre of mass is far from their shapes, with how far outside of the box around them (m)."""
        found = {}
        for name, link in self.links.items():
            shapes = self.touched(name) or self.seen(name)
            if link.mass_properties.mass > 0 and shapes and name not in self.out_of_size:
                low, high = bounds_of(shapes)
                com = np.array(link.mass_properties.com)
                off = float(np.linalg.norm(com - np.clip(com, low, high)))
                if off > FAR_OFF * float(np.linalg.norm(high - low)):
                    found[name] = off
        return found

    def inertia_factor(self, name: str) -> float:
        """A link's inertia over that of its mass spread evenly over its shapes; 1 where there is nothing to compare."""
        body = self.links[name].mass_properties
        parts = [Part(shape, pose) for shape, pose in self.touched(name) or self.seen(name)]
        if body.mass <= 0 or not parts or name in self.out_of_size:
            return 1.0
        if all(is_solid(part.shape) for part in parts):
            even = float(np.trace(of_parts(parts, body.mass).inertia))
        else:  # as if it filled its box
            low, high = bounds_of([(part.shape, part.pose) for part in parts])
            even = body.mass * float((high - low) @ (high - low)) / 6
        return float(np.trace(body.inertia)) / even

    def mass_at(self, link: str) -> float:
        """Mass (kg) with which a link's centre of mass resists a push upward."""
        mechanics, com = self._mechanics, self.links[link].mass_properties.com
        if not mechanics or not self.look.engine:
            return self.body(self.group(link)).mass
        J = mechanics.jacobian(self.look.engine.place_of(self.path(link)), com)[:3]
        if not J.size:
            return math.inf  # nothing moves
        moved = float(self.look.up @ J @ np.linalg.solve(mechanics.inertia(), J.T @ self.look.up))
        return 1.0 / moved if moved > 0 else math.inf

    def _at(self, coordinate: str, values: Array) -> float:
        assert self.look.engine
        names = list(self.look.engine.compiled.robots[self.name].joints)
        return float(values[len(values) - len(names) + names.index(coordinate)])

    def lines(self, *kinds_and_name: str) -> str:
        """File and line of a link, joint, motor, sensor or frame, or of where the robot is placed."""
        return self.model.where.get(" ".join(kinds_and_name), self.look.world.where.get(self.name, ""))


def figure(value: float) -> str:
    """A number with three digits and no exponent where that can be read."""
    return f"{float(f'{value:.3g}'):,.10g}".replace(",", " ") if abs(value) < 1e7 else f"{value:.2g}"


def mm(length: float) -> str:
    """A length as a person writes it: three digits, in m, cm or mm."""
    size = abs(length)
    if size < 1e-7:
        return "0 mm"
    if size >= 1:
        return f"{length:.3g} m"
    return f"{100 * length:.3g} cm" if size >= 0.1 else f"{1000 * length:.3g} mm"


def model_change(robot: RobotLook, words: Mapping[str, Any]) -> dict[str, Any]:
    """A fix that changes a robot's model."""
    return {"models": {robot.model.name: {"change": dict(words)}}}
