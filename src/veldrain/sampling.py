"""A sensor in motion: the engine as it sees it, when it is due, what it has measured, what has arrived."""

from __future__ import annotations

import copy
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from veldrain import randomness
from veldrain.errors import VeldrainError, told_at, unknown
from veldrain.model import Air, Failure, Look, Measuring, Mounted, Sensor, Struck, Surroundings, Touches, World
from veldrain.physics.builder import LinkPlace, Robot
from veldrain.physics.engine import Engine
from veldrain.physics.frames import FrameTree
from veldrain.physics.joints import Joints
from veldrain.physics.mechanics import Mechanics
from veldrain.physics.plant import Ints
from veldrain.physics.scene import Scene
from veldrain.physics.tapping import Felt
from veldrain.pose import Array, Pose
from veldrain.sensing.resheeting import carried, is_same
from veldrain.units import Quantity


class Clocked(Protocol):
    """What sampling needs of a simulation."""

    world: World
    seed: int
    exact: bool
    step: float
    surroundings: Surroundings

    @property
    def frames(self) -> FrameTree:
        """All frames of the world."""

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

    def __init__(self, simulation: Clocked, engine: Engine, robot: Robot, mounted: Mounted, slices: int) -> None:
        self._sim, self._engine, self._robot = simulation, engine, robot
        self.slices = slices
        engine, self.taps = self._engine, self._engine.taps
        self.robot, self.name = robot.name, f"{robot.name}/{mounted.name}"
        self.link = f"{robot.name}/{mounted.link}"
        self._mechanics, self._joints = Mechanics(engine, robot), Joints(engine, robot)
        link = engine.place_of(self.link)
        self._place = LinkPlace(link.node, link.pose @ mounted.pose)
        self._axes = self._place.pose.matrix
        if link.node >= 0:
            self._rot = engine.turn_of(link.node)
        self._kept: dict[Any, Any] = {}
        self._feel: dict[str, Callable[[], Any]] = {}  # what gives what is gathered between samples

    @property
    def surroundings(self) -> Surroundings:
        return self._sim.surroundings

    @property
    def air(self) -> Air:
        return self._sim.surroundings.air

    def kept(self, key: Any, make: Callable[[], Any]) -> Any:
        if key not in self._kept:
            self._kept[key] = make()
        return self._kept[key]

    def position(self) -> Array:
        return self._engine.position(self._place)

    def axes(self) -> Array:
        return self._axes if self._place.node < 0 else self._rot @ self._axes

    def motion(self) -> tuple[Array, Array, Array]:
        return self._engine.motion(self._place)

    def gravity(self) -> Array:
        return self._engine.gravity

    def wind(self) -> Array:
        return self._engine.wind()

    def now(self) -> float:
        return self._sim.time

    def strike(self, origins: Array, directions: Array, max_range: float, sees: str = "visual") -> Struck:
        return Struck(*self._engine.scene_of(sees).cast(origins, directions, max_range))

    def sweep(
        self, directions: Array, lead: Array, max_range: float, shine: Array, sees: str = "visual"
    ) -> tuple[Array, Array]:
        place = np.stack([self.position(), *self.axes(), *self.motion()[:2]])
        return self._engine.scene_of(sees).sweep(place, directions, lead, max_range, shine)

    def looks(self, sees: str = "visual") -> list[Look]:
        return self._engine.scene_of(sees).looks

    def velocities(self, sights: Ints, points: Array, sees: str = "visual") -> Array:
        return self._engine.velocities(self._engine.scene_of(sees).nodes_of(sights), points)

    def scene(self) -> Scene:
        return self._engine.scene

    def pose_of(self, path: str) -> tuple[Array, Array]:
        engine, own = self._engine, f"{self.robot}/{path}"
        place = self.kept(path, lambda: engine.place_of(own if engine.has_place(own) else path))
        return engine.position(place), engine.axes(place)

    def frame_names(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        tree = self._sim.frames
        return tree.names, tree.parents

    def frames(self) -> tuple[Array, Array]:
        return self._sim.frames.poses()

    def clearance(self, thing: str) -> float:
        engine = self._engine
        sides = self.kept(("sides", thing), lambda: (engine.geoms_of(self.robot), engine.geoms_of(thing)))
        return engine.clearance(*sides)

    def box_of(self, thing: str) -> tuple[Array, Array]:
        engine = self._engine
        if thing not in engine.compiled.robots:
            raise unknown("robot, body or actor", thing, engine.compiled.robots, self.name)
        found: tuple[Array, Array] = self.kept(("box", thing), lambda: engine.actors.ways.bounds(thing))
        return found

    def motion_of(self, thing: str) -> tuple[Array, Array, Array, Array]:
        engine = self._engine
        place = self.kept(("root", thing), lambda: engine.place_of(thing))
        return engine.position(place), engine.axes(place), *engine.velocity_at(place)

    def lane_offset(self) -> float:
        x, y, _ = self.position().tolist()
        for network in self._sim.world.networks.values():
            spot = network.at(x, y)
            if spot is not None:
                return float(spot.offset)
        return math.nan

    def feel_motion(
        self,
        turn: Array,
        bandwidth: float = math.inf,
        accel_full_scale: float = math.inf,
        gyro_full_scale: float = math.inf,
    ) -> None:
        engine = self._engine

        def now() -> tuple[Array, Array]:
            back = (self.axes() @ turn).T
            _, angular, acceleration = engine.motion(self._place)
            return back @ (acceleration - engine.gravity), back @ angular

        if self._place.node < 0:
            self._feel["motion"] = now
            return
        follows = 1.0 - math.exp(-2.0 * math.pi * bandwidth * engine.step)
        place = LinkPlace(self._place.node, self._place.pose @ Pose.of(np.zeros(3), turn))
        tap = engine.taps.inertial(place, follows, accel_full_scale, gyro_full_scale)
        self._feel["motion"] = lambda: tap.take() or now()

    def felt_motion(self) -> tuple[Array, Array]:
        force, rate = self._feel["motion"]()
        return force, rate

    def feel_touches(self) -> None:
        names = self._engine.compiled.geom_names
        tally = self._engine.taps.tally(np.array([name == self.link for name in names], np.int64))
        self._feel["touches"] = tally.take

    def felt_touches(self) -> Touches:
        found: Felt = self._feel["touches"]()
        if found.lost:
            self._engine.notice(
                f"tally {self.name}",
                f"{self.name}: touched by so much at once that {found.lost} contacts are not in its reading",
            )
        if not len(found.sides):  # a foot in the air: most of the time there is nothing
            return Touches([], found.point, found.normal, found.force, np.zeros(3))
        sides = found.sides.tolist()
        others = [other if one == self.link else one for one, other in sides]
        if all(one == self.link for one, _ in sides):
            return Touches(others, found.point, found.normal, found.force, found.moment.sum(axis=0))
        sign = np.array([[1.0] if one == self.link else [-1.0] for one, _ in sides])
        torque = (sign * found.moment).sum(axis=0)
        return Touches(others, found.point, sign * found.normal, sign * found.force, torque)

    def feel_load(self) -> None:
        assert self._robot.model is not None
        model, engine = self._robot.model, self._engine
        link = self.link.removeprefix(f"{self.robot}/")
        joint = next((j.name for j in model.joints.values() if j.child == link), None)
        if joint is None:
            raise VeldrainError(f"no joint holds link '{link}'", where=self.name, cure="mount it on a link below")
        hanging = [f"{self.robot}/{name}" for name in self._mechanics.hanging(joint)]
        place = engine.place_of(self.link)

        def now() -> tuple[Array, Array]:
            force, torque = self._mechanics.reaction(joint)
            torque = torque + np.cross(engine.position(place) - self.position(), force)
            return self.axes().T @ force, self.axes().T @ torque

        if place.node < 0:
            self._feel["load"] = now
            return
        bodies = [
            (engine.compiled.links[n], model.links[n.removeprefix(f"{self.robot}/")].mass_properties) for n in hanging
        ]
        tap = engine.taps.load(self._place, hanging, bodies)
        self._feel["load"] = lambda: tap.take() or now()

    def felt_load(self) -> tuple[Array, Array]:
        force, torque = self._feel["load"]()
        return force, torque

    def feel_efforts(self, names: Sequence[str]) -> None:
        taps = [self._engine.taps.drive(self._robot.joints[name]) for name in names]
        self._feel["efforts"] = lambda: np.array([tap.take() or 0.0 for tap in taps])

    def felt_efforts(self) -> Array:
        return np.asarray(self._feel["efforts"]())

    def joint_names(self, names: Sequence[str]) -> tuple[str, ...]:
        for name in names:
            if name not in self._robot.joints:
                raise unknown("movable joint", name, self._robot.joints, self.name)
        return tuple(names or self._robot.joints)

    def slide(self, names: Sequence[str]) -> NDArray[np.bool_]:
        return np.array([name in self._robot.linear for name in names], bool)

    def joints(self, names: Sequence[str]) -> tuple[Array, Array, Array]:
        names, own = tuple(names), self._joints
        dofs = self.kept(("dofs", names), lambda: np.array([self._robot.joints[n] for n in names], np.int64))
        positions = self.kept(("positions", names), lambda: own.positions_of(names))
        return positions(), own.velocities(dofs), own.efforts(dofs)


class Samples:
    """One sensor in one trial: when it is due, what it has measured, what has arrived."""

    def __init__(self, simulation: Clocked, engine: Engine, robot: Robot, mounted: Mounted) -> None:
        self.mounted, self.stream, self.robot = mounted, f"{robot.name}/{mounted.name}", robot.name
        sensor, self._sim, self._engine, self._robot = mounted.sensor, simulation, engine, robot
        if simulation.exact and not sensor.knows_errors():
            engine.notice(
                f"exact {self.stream}",
                f"{self.stream}: {type(sensor).__name__} does not say what its errors are "
                "(no field of its own has exact=), so that exact leaves it as it is",
            )
        self.sensor = self._in_force(sensor)
        self.period = simulation.steps_of(self.sensor.period, f"{self.stream}: period")
        self.latency = simulation.steps_of(self.sensor.latency, f"{self.stream}: latency", least=0)
        self.first = simulation.steps_of(self.sensor.first_sample, f"{self.stream}: first", least=0)
        self.slices = max(n for n in range(1, self.sensor.slices + 1) if self.period % n == 0)
        self._jitter = [round(t / simulation.step) for t in (self.sensor.period_jitter, self.sensor.latency_jitter)]
        if 2 * self._jitter[0] * self.slices >= self.period and self._jitter[0]:
            raise VeldrainError(
                f"period_jitter is {self.sensor.period_jitter:g} s and period {self.sensor.period:g} s",
                where=self.stream,
                cure="give less than half of the time between two samples",
            )
        self._timing = randomness.stream(simulation.seed, f"{self.stream}/timing") if any(self._jitter) else None
        self._failing = Failing(simulation, self.stream, mounted.failures)
        self._mount, self._work = self._started(self.sensor, simulation.seed)
        self.latest: Reading | None = None
        self._arrived: Reading | None = None
        self._under_way: list[tuple[int, Reading]] = []
        self._next = self.due = self.first - (self.slices - 1) * (self.period // self.slices)
        if self.due < 0:
            raise VeldrainError(
                "its first reading is over before it has begun",
                where=self.stream,
                cure=f"write first: {self.sensor.period:g} s or more, or leave it out",
            )

    def _drawn(self, low: int, high: int) -> int:
        """Steps of jitter; 0, and no draw, without any."""
        return int(self._timing.integers(low, high + 1)) if self._timing and low < high else 0

    def _started(self, sheet: Sensor, seed: int) -> tuple[EngineMount, Measuring]:
        mount = EngineMount(self._sim, self._engine, self._robot, self.mounted, self.slices)
        with told_at(self.stream):
            return mount, sheet.start(mount, randomness.stream(seed, self.stream))

    def go_on_with(self, sheet: Sensor, try_only: bool = False) -> bool:
        """Go on with another data sheet of the same kind; True where that makes a difference to what is measured.

        Constant errors are those of the same draws, as if it had had this sheet from the start; what has drifted stays.

        Raises:
            VeldrainError: its timing is other, or what is gathered for it in the engine at every step.
        """
        sheet = self._in_force(sheet)
        if sheet.timing != self.sensor.timing:
            raise VeldrainError("its timing cannot be changed in mid-trial", where=self.stream, cure="set it before")
        started = []
        for one in (self.sensor, sheet):
            with self._mount.taps.aside() as taken:
                started.append((self._started(one, self._sim.seed)[1], taken()))
        (was, felt), (new, feels) = started
        if not is_same(felt, feels):
            raise VeldrainError(
                "what it gathers at every step of the engine cannot be changed in mid-trial",
                where=self.stream,
                cure="set it before",
            )
        if is_same(was, new):
            return False
        if not try_only:
            self._work, self.sensor = carried(self._work, was, new), sheet
        return True

    def take_sheet(self, sheet: Sensor) -> None:
        """Have a data sheet beside a state that was restored already."""
        self.sensor = self._in_force(sheet)

    def _in_force(self, sheet: Sensor) -> Sensor:
        return sheet.exactly() if self._sim.exact or sheet.exact else sheet

    def measured_joints(self) -> tuple[str, ...]:
        """The joints whose positions its readings hold, in their order."""
        return self.sensor.encodes(tuple(self._robot.joints))

    def measured(self) -> Any:
        """What the sensor would measure now, beside its own course: as if it had just been switched on."""
        data = None
        with self._mount.taps.aside():
            mount, work = self._started(self.sensor, 0)
            for _ in range(self.slices):
                data = work.measure(mount)
        return data

    def sample(self, step: int, stamp: int) -> Reading | None:
        """Measure now; None where there is no reading yet, or none because of a failure."""
        data = self._work.measure(self._mount)
        self._next += self.period // self.slices
        self.due = self._next + self._drawn(-self._jitter[0], self._jitter[0])
        if data is None:
            return None
        data, late = self._failing.change(data, step)
        if data is None:
            return None
        self.latest = Reading(stamp, data)
        self.arrived(step)  # what has been overtaken is dropped, whether a controller asks or not
        late += self._drawn(0, self._jitter[1])
        self._under_way.append((step + self.latency + late, self.latest))
        return self.latest

    def begin_after(self, step: int) -> None:
        """Go on after a step without anything from before it, as a sensor that was switched on there."""
        self._next += max(0, -((self._next - step - 1) // self.period)) * self.period
        self.due = self._next

    def arrived(self, step: int) -> Reading | None:
        """The newest reading that has reached a controller by now; None before the first."""
        there = [k for k, (when, _) in enumerate(self._under_way) if when <= step]
        if there:  # readings overtaken on the way are of no use any more
            self._arrived = self._under_way[there[-1]][1]
            del self._under_way[: there[-1] + 1]
        return self._arrived

    def fail(self, failure: Failure) -> None:
        """Let it fail from now on as a failure says."""
        self._failing.add(failure)

    def kept(self) -> list[Any]:
        """What the sensor and its failures keep: the random streams of its noise are among it."""
        return [vars(self._work), *self._failing.state()]

    def snapshot(self) -> dict[str, Any]:
        """A copy of all that changes from sample to sample."""
        mine = {word: vars(self)[word] for word in ("due", "_next", "_timing", "latest", "_arrived", "_under_way")}
        return copy.deepcopy({"mine": mine, "work": vars(self._work), "failing": self._failing.state()})

    def restore(self, state: Mapping[str, Any]) -> None:
        """Go back to a snapshot of the same sensor."""
        state = copy.deepcopy(dict(state))  # a snapshot can be restored again
        vars(self).update(state["mine"])
        vars(self._work).clear()
        vars(self._work).update(state["work"])
        self._failing.go_back(state["failing"])


class Failing:
    """What a sensor's failures make of its readings in one trial."""

    def __init__(self, simulation: Clocked, stream: str, failures: Sequence[Failure]) -> None:
        self._sim, self._failures, self._stream = simulation, list(failures), stream
        self._random = randomness.stream(simulation.seed, f"{stream}/failures") if failures else None
        self._good: Any = None

    def add(self, failure: Failure) -> None:
        """One more failure."""
        self._random = self._random or randomness.stream(self._sim.seed, f"{self._stream}/failures")
        self._failures.append(failure)

    def state(self) -> tuple[Any, Any, list[Failure]]:
        """What changes from sample to sample."""
        return self._random, self._good, self._failures

    def go_back(self, state: tuple[Any, Any, list[Failure]]) -> None:
        """Take over a state."""
        self._random, self._good, self._failures = state

    def change(self, data: Any, step: int) -> tuple[Any, int]:
        """The reading as it comes out (None: it does not), and by how many steps late."""
        now, late, is_stuck = step * self._sim.step, 0, False
        for failure in self._failures:
            if not failure.start - 1e-9 <= now < failure.end - 1e-9:
                continue
            if failure.type == "dead":
                return None, 0
            if failure.type == "dropped":
                assert self._random is not None
                if self._random.random() < failure.fraction:
                    return None, 0
            elif failure.delay is not None:
                late += round(failure.delay / self._sim.step)
            elif failure.type == "biased":
                with told_at(self._stream):
                    data = failure.biased(data)
            else:
                is_stuck = True
        if is_stuck:
            return self._good, late
        self._good = data
        return data, late
