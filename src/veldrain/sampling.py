"""A sensor in motion: the engine as it sees it, when it is due, what it has measured, what has arrived."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain import randomness
from veldrain.errors import VeldrainError, unknown
from veldrain.model import GROUND, Look, Mounted, Sensor, Struck, Touches, World
from veldrain.physics.compiling import LinkPlace, Robot
from veldrain.physics.engine import Engine
from veldrain.physics.mechanics import Mechanics
from veldrain.physics.plant import NOW, Ints
from veldrain.physics.scene import Scene
from veldrain.pose import Array, Pose
from veldrain.units import Quantity


class Clocked(Protocol):
    """What sampling needs of a simulation."""

    engine: Engine
    world: World
    seed: int
    exact: bool
    step: float

    @property
    def time(self) -> float:
        """Simulated time, s."""

    def steps_of(self, seconds: Quantity, where: str, least: int = 1) -> int:
        """A time as a whole number of steps."""


@dataclass(frozen=True)
class Reading:
    """What a sensor measured, and when: ``stamp`` in nanoseconds of simulated time."""

    stamp: int
    data: Any

    @property
    def time(self) -> float:
        """The stamp in s."""
        return self.stamp / 1e9

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)
        return getattr(self.data, name)


class EngineMount:
    """The engine as one sensor sees it (``model.Mount``): views of the arrays, so that a sample is cheap."""

    def __init__(self, simulation: Clocked, robot: Robot, mounted: Mounted, slices: int) -> None:
        self._sim, self._engine, self._robot = simulation, simulation.engine, robot
        self.slices, self.world = slices, simulation.world
        engine, self.taps = self._engine, self._engine.taps
        self.robot, self.name = robot.name, f"{robot.name}/{mounted.name}"
        self._link = f"{robot.name}/{mounted.link}"
        self._mechanics = Mechanics(engine, robot)
        link = engine.place_of(self._link)
        self._place = LinkPlace(link.node, link.pose @ mounted.pose)
        self._axes = self._place.pose.matrix
        if link.node >= 0:
            self._rot = engine.plant.nodes["rot"][link.node]
        self._sides: dict[str, tuple[Ints, Ints]] = {}

    def position(self) -> Array:
        return self._engine.position(self._place)

    def axes(self) -> Array:
        return self._axes if self._place.node < 0 else self._rot @ self._axes

    def motion(self) -> tuple[Array, Array, Array]:
        return self._engine.motion(self._place)

    def gravity(self) -> Array:
        return self._engine.plant.gravity

    def now(self) -> float:
        return self._sim.time

    def strike(self, origins: Array, directions: Array, reach: float, sees: str = "visual") -> Struck:
        return Struck(*self._engine.scene_of(sees).cast(origins, directions, reach))

    def sweep(self, ways: Array, lead: Array, reach: float, shine: Array, sees: str = "visual") -> tuple[Array, Array]:
        place = np.stack([self.position(), *self.axes(), *self.motion()[:2]])
        return self._engine.scene_of(sees).sweep(place, ways, lead, reach, shine)

    def looks(self, sees: str = "visual") -> list[Look]:
        return self._engine.scene_of(sees).looks

    def velocities(self, sights: Ints, points: Array, sees: str = "visual") -> Array:
        return self._engine.velocities(self._engine.scene_of(sees).nodes_of(sights), points)

    def scene(self) -> Scene:
        return self._engine.scene

    def pose_of(self, path: str) -> Callable[[], tuple[Array, Array]]:
        engine = self._engine
        own = f"{self.robot}/{path}"
        place = engine.place_of(own if own in engine.compiled.links else path)
        return lambda: (engine.position(place), engine.axes(place))

    def frames(self) -> tuple[tuple[str, ...], tuple[str, ...], Callable[[], tuple[Array, Array]]]:
        return frames_of(self.world, self._engine)

    def clearance(self, thing: str) -> float:
        if thing not in self._sides:
            self._sides[thing] = self._engine.geoms_of(self.robot), self._engine.geoms_of(thing)
        return self._engine.clearance(*self._sides[thing])

    def felt_motion(
        self, turn: Array, bandwidth: float = math.inf, most_force: float = math.inf, most_rate: float = math.inf
    ) -> Callable[[], tuple[Array, Array]]:
        engine = self._engine

        def now() -> tuple[Array, Array]:
            back = (self.axes() @ turn).T
            _, angular, acceleration = engine.motion(self._place)
            return back @ (acceleration - engine.plant.gravity), back @ angular

        if self._place.node < 0:
            return now
        follows = 1.0 - math.exp(-2.0 * math.pi * bandwidth * engine.step)
        place = LinkPlace(self._place.node, self._place.pose @ Pose(rotation=Rotation.from_matrix(turn)))
        tap = engine.taps.inertial(place, follows, most_force, most_rate)
        return lambda: tap.take() or now()

    def touches(self) -> Callable[[], Touches]:
        names = self._engine.compiled.geom_names
        tally = self._engine.taps.tally(np.array([name == self._link for name in names], np.int64))

        def read() -> Touches:
            found = tally.take()
            if found.lost:
                self._engine.notice(f"tally {self.name}", f"{self.name}: touched by so much at once that "
                                    f"{found.lost} contacts are not in its reading")  # fmt: skip
            is_first = found.sides[:, 0] == self._link
            sign = np.where(is_first, 1.0, -1.0)[:, None]
            return Touches(
                [str(n) for n in np.where(is_first, found.sides[:, 1], found.sides[:, 0])], found.point,
                sign * found.normal, sign * found.force, (sign * found.moment).sum(axis=0),
            )  # fmt: skip

        return read

    def load(self) -> Callable[[], tuple[Array, Array]]:
        assert self._robot.model is not None
        model, engine = self._robot.model, self._engine
        link = self._link.removeprefix(f"{self.robot}/")
        joint = next((j.name for j in model.joints.values() if j.child == link), None)
        if joint is None:
            raise VeldrainError(f"no joint holds link '{link}'", where=self.name, cure="mount it on a link below")
        hanging = [f"{self.robot}/{name}" for name in self._mechanics.hanging(joint)]
        place = engine.place_of(self._link)

        def now() -> tuple[Array, Array]:
            force, torque = self._mechanics.reaction(joint)
            torque = torque + np.cross(engine.position(place) - self.position(), force)
            return self.axes().T @ force, self.axes().T @ torque

        if place.node < 0:
            return now
        bodies = [
            (engine.compiled.links[n], model.links[n.removeprefix(f"{self.robot}/")].mass_properties) for n in hanging
        ]
        tap = engine.taps.load(self._place, hanging, bodies)
        return lambda: tap.take() or now()

    def efforts(self, names: Sequence[str]) -> Callable[[], Array]:
        taps = [self._engine.taps.drive(self._robot.joints[name]) for name in names]
        return lambda: np.array([tap.take() or 0.0 for tap in taps])

    def joints(self, names: Sequence[str]) -> tuple[tuple[str, ...], Callable[[], tuple[Array, Array, Array]]]:
        for name in names:
            if name not in self._robot.joints:
                raise unknown("movable joint", name, self._robot.joints, self.name)
        names = tuple(names or self._robot.joints)
        plant = self._engine.plant
        dofs = np.array([self._robot.joints[n] for n in names], np.int64)
        efforts, v, positions = plant.dofs["effort"], plant.speeds[NOW], positions_of(self._engine, self._robot, names)
        return names, lambda: (positions(), v[dofs], efforts[dofs])


def positions_of(engine: Engine, robot: Robot, names: Sequence[str]) -> Callable[[], Array]:
    """The function that reads the positions of some coordinates; a ball joint's are its rotation vector."""
    dofs = np.array([robot.joints[n] for n in names], np.int64)
    coords, q = engine.plant.dofs["coord"][dofs], engine.plant.q
    if (coords >= 0).all():
        return lambda: np.asarray(q[coords])

    def read() -> Array:
        found = q[np.maximum(coords, 0)]
        for joint, at in robot.balls.items():
            turn = Rotation.from_quat(q[at : at + 4]).as_rotvec()
            for axis, angle in zip("xyz", turn, strict=True):
                if f"{joint}/{axis}" in names:
                    found[names.index(f"{joint}/{axis}")] = angle
        return np.asarray(found)

    return read


def frames_of(
    world: World, engine: Engine
) -> tuple[tuple[str, ...], tuple[str, ...], Callable[[], tuple[Array, Array]]]:
    """The tree of frames that ``model.Mount.frames`` describes."""
    places = {name: place for name, place in engine.compiled.links.items() if name != GROUND}
    parents = dict.fromkeys(places, "")
    for robot, placed in world.placed.items():
        parents |= {f"{robot}/{j.child}": f"{robot}/{j.parent}" for j in placed.model.joints.values()}
        parents |= {f"{robot}/{f.name}": f"{robot}/{f.link}" for f in placed.model.frames.values()}
        for mounted in placed.model.sensors.values():
            name, on = f"{robot}/{mounted.name}", f"{robot}/{mounted.link}"
            turns = {"": (name, on)} | (
                {"optical": (f"{name}/optical", name)} if hasattr(mounted.sensor, "optical") else {}
            )
            for kind, (frame, parent) in turns.items():
                if frame not in places:  # a link of that name has the better claim
                    pose = mounted.pose @ mounted.sensor.optical if kind else mounted.pose  # type: ignore[attr-defined]
                    places[frame] = LinkPlace(places[on].node, places[on].pose @ pose)
                    parents[frame] = parent
    nodes = np.array([place.node for place in places.values()])
    at = np.array([place.pose.position for place in places.values()])
    axes = np.array([place.pose.matrix for place in places.values()])
    moves = nodes >= 0

    def read() -> tuple[Array, Array]:
        found, turned = at.copy(), axes.copy()
        held = engine.plant.nodes[nodes[moves]]
        found[moves] = held["pos"] + np.einsum("nij,nj->ni", held["rot"], at[moves])
        turned[moves] = held["rot"] @ axes[moves]
        return found, turned

    return tuple(places), tuple(parents[name] for name in places), read


class Samples:
    """One sensor in one trial: when it is due, what it has measured, what has arrived."""

    def __init__(self, simulation: Clocked, robot: Robot, mounted: Mounted) -> None:
        self.mounted, self.stream = mounted, f"{robot.name}/{mounted.name}"
        sensor: Any = mounted.sensor
        is_exact = hasattr(sensor, "exactly") and (simulation.exact or sensor.exact)
        if simulation.exact and not (is_exact and sensor.knows_errors()):
            simulation.engine.notice(
                f"exact {self.stream}", f"{self.stream}: {type(sensor).__name__} does not say what its errors are "
                "(perfect = {…}), so that exact leaves it as it is",
            )  # fmt: skip
        self.sensor: Sensor = sensor.exactly() if is_exact else sensor
        self.period = simulation.steps_of(self.sensor.period, f"{self.stream}: period")
        self.latency = simulation.steps_of(self.sensor.latency, f"{self.stream}: latency", least=0)
        self.first = simulation.steps_of(self.sensor.first, f"{self.stream}: first", least=0)
        most = getattr(self.sensor, "slices", 1)
        self.slices = max(n for n in range(1, most + 1) if self.period % n == 0)
        self._mount = EngineMount(simulation, robot, mounted, self.slices)
        self._failing = Failing(simulation, self.stream, getattr(sensor, "failures", ()))
        try:
            self._measure = self._started(simulation.seed)
        except VeldrainError as error:
            raise error.at(self.stream) from error
        self._under_way: list[tuple[int, Reading]] = []
        self._part = 0  # slices of the reading that are measured
        self.forget(self.first)

    def _started(self, seed: int) -> Callable[[], Any]:
        return self.sensor.start(self._mount, randomness.stream(seed, self.stream))

    def measured(self) -> Any:
        """What the sensor would measure now, beside its own course: as if it had just been switched on."""
        data = None
        with self._mount.taps.aside():
            measure = self._started(0)
            for _ in range(self.slices):
                data = measure()
        return data

    def forget(self, reading: int) -> None:
        """Drop all readings, and let the next be taken at a step."""
        self.latest: Reading | None = None
        self._arrived: Reading | None = None
        self._under_way.clear()
        for _ in range(-self._part % self.slices):  # what was begun is brought to its end, and not used
            self._measure()
        self._part = 0
        each = self.period // self.slices
        self.due = reading - (self.slices - 1) * each
        if self.due < 0:
            raise VeldrainError(
                "its first reading is over before it has begun", where=self.stream,
                cure=f"write first: {self.sensor.period:g} s or more, or leave it out",
            )  # fmt: skip

    def sample(self, step: int, stamp: int) -> Reading | None:
        """Measure now; None where there is no reading yet, or none because of a failure."""
        data = self._measure()
        self._part = (self._part + 1) % self.slices
        self.due += self.period // self.slices
        if data is None:
            return None
        data, late = self._failing.change(data, step)
        if data is None:
            return None
        self.latest = Reading(stamp, data)
        self.arrived(step)  # what has been overtaken is dropped, whether a controller asks or not
        self._under_way.append((step + self.latency + late, self.latest))
        return self.latest

    def arrived(self, step: int) -> Reading | None:
        """The newest reading that has reached a controller by now; None before the first."""
        there = [k for k, (when, _) in enumerate(self._under_way) if when <= step]
        if there:  # readings overtaken on the way are of no use any more
            self._arrived = self._under_way[there[-1]][1]
            del self._under_way[: there[-1] + 1]
        return self._arrived


class Failing:
    """What a sensor's failures make of its readings in one trial."""

    def __init__(self, simulation: Clocked, stream: str, failures: Sequence[Any]) -> None:
        self._sim, self._failures = simulation, failures
        self._random = randomness.stream(simulation.seed, f"{stream}/failures") if failures else None
        self._good: Any = None

    def change(self, data: Any, step: int) -> tuple[Any, int]:
        """The reading as it comes out (None: it does not), and by how many steps late."""
        now, late, is_stuck = step * self._sim.step, 0, False
        for failure in self._failures:
            if not failure.start - 1e-9 <= now < failure.end - 1e-9:
                continue
            if failure.kind == "dead":
                return None, 0
            if failure.kind == "dropped":
                assert self._random is not None
                if self._random.random() < failure.share:
                    return None, 0
            elif failure.kind == "delayed":
                late += round(failure.by / self._sim.step)
            elif failure.kind == "biased":
                data = failure.bias(data)
            else:
                is_stuck = True
        if is_stuck:
            return self._good, late
        self._good = data
        return data, late
