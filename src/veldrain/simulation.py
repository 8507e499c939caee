"""A world in motion: engine, sensors and commands under one clock."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Surroundings, World
from veldrain.physics.compiling import LinkPlace, Robot
from veldrain.physics.engine import Engine, Snapshot
from veldrain.physics.mechanics import Mechanics
from veldrain.physics.plant import EFFORT, NO_MOTOR, NOW, POSITION, VELOCITY, Ints
from veldrain.physics.tapping import Tallies
from veldrain.pose import Array, Pose
from veldrain.randomness import checked_seed
from veldrain.recording import Recorder, Recording, Sink
from veldrain.recording.attaching import attachments_of
from veldrain.recording.publishing import Publisher
from veldrain.sampling import FrameTree, Reading, Samples, positions_of
from veldrain.units import Quantity, quantity, triple

if TYPE_CHECKING:
    import pandas as pd

_MODES = {"effort": EFFORT, "velocity": VELOCITY, "position": POSITION}
_MODE_NAMES = {number: name for name, number in _MODES.items()}


NOWHERE = (0.0, 0.0, 0.0)


def numbers(values: Sequence[Quantity], kind: str, where: str) -> Array:
    """Three quantities as an array; plain floats are taken as they are, for calls at every step."""
    if len(values) == 3 and all(type(value) is float and math.isfinite(value) for value in values):
        return np.array(values)
    return np.array(triple(values, kind, where))


class RobotInMotion:
    """A placed robot or body in a simulation."""

    def __init__(self, simulation: Simulation, robot: Robot) -> None:
        self._sim, self._robot = simulation, robot
        self.name = robot.name
        self._dofs = np.array(list(robot.joints.values()), np.int64)
        self._read_positions = positions_of(simulation.engine, robot, tuple(robot.joints))
        self._mechanics = Mechanics(simulation.engine, robot)
        self._places: dict[str | None, LinkPlace] = {}
        self._pushed: dict[str | None, tuple[LinkPlace, int]] = {}
        self._groups: dict[tuple[str, ...], tuple[Ints, Array, Array]] = {}

    @property
    def joints(self) -> tuple[str, ...]:
        """Names of the movable joints, in the order of the arrays below."""
        return tuple(self._robot.joints)

    @property
    def positions(self) -> Array:
        """Joint positions (rad, or m where they slide; a ball joint's are its rotation vector); can be assigned."""
        return self._read_positions()

    @positions.setter
    def positions(self, values: Sequence[float]) -> None:
        plant, row = self._sim.engine.plant, self._row(values, "positions")
        dofs = plant.dofs[self._dofs]
        for name, value, dof in zip(self.joints, row, dofs, strict=True):
            if not dof["low"] - 1e-9 <= value <= dof["high"] + 1e-9:
                raise VeldrainError(
                    f"position {value:.6g} is outside of its limits, {dof['low']:.6g} to {dof['high']:.6g}",
                    where=f"{self.name}/{name}",
                    cure="assign one inside, or change the limits",
                )
        coords = dofs["coord"]
        plant.q[coords[coords >= 0]] = row[coords >= 0]
        for joint, at in self._robot.balls.items():
            turn = [row[self.joints.index(f"{joint}/{axis}")] for axis in "xyz"]
            plant.q[at : at + 4] = Rotation.from_rotvec(turn).as_quat()
        self._sim.engine.hold_still()
        self._sim.engine.refresh()

    @property
    def velocities(self) -> Array:
        """Joint velocities (rad/s, or m/s when prismatic); can be assigned."""
        return np.asarray(self._sim.engine.plant.speeds[NOW, self._dofs])

    @velocities.setter
    def velocities(self, values: Sequence[float]) -> None:
        self._sim.engine.plant.speeds[NOW, self._dofs] = self._row(values, "velocities")
        self._sim.engine.refresh()

    @property
    def efforts(self) -> Array:
        """Efforts of the motors in the last step (N·m, or N when prismatic)."""
        return np.asarray(self._sim.engine.plant.dofs["effort"][self._dofs])

    def _row(self, values: Sequence[float], what: str) -> Array:
        row = np.asarray(values, float)
        if row.shape != self._dofs.shape or not np.isfinite(row).all():
            raise VeldrainError(
                f"{what} must be {len(self._dofs)} finite numbers, one for each of: {', '.join(self.joints)}",
                where=self.name,
            )
        return row

    def pose(self, link: str | None = None) -> Pose:
        """Pose of a link or frame in the world; None: of the root."""
        return self._sim.engine.pose_at(self._place(link))

    def poses(self, links: Sequence[str] | None = None) -> tuple[Array, Array]:
        """Positions (n, 3), m, and axes (n, 3, 3), as columns, of links or frames in the world; None: of all links."""
        model = self._robot.model
        names = tuple(links if links is not None else model.links if model else (self.name,))
        if names not in self._groups:
            places = [self._place(name if model else None) for name in names]
            at, axes = (np.array([place.arrays[k] for place in places]) for k in range(2))
            self._groups[names] = np.array([place.node for place in places], np.int64), at, axes
        return self._sim.engine.poses_at(*self._groups[names])

    def _place(self, link: str | None) -> LinkPlace:
        if link not in self._places:
            self._places[link] = self._sim.engine.place_of(self._path(link))
        return self._places[link]

    def velocity(self, link: str | None = None) -> tuple[Array, Array]:
        """Linear velocity (3,) of a link's origin and its angular velocity (3,), world axes, m/s and rad/s."""
        return self._sim.engine.velocity_at(self._place(link))

    def move_to(
        self, pose: Pose, velocity: Sequence[Quantity] = (0.0, 0.0, 0.0), spin: Sequence[Quantity] = (0.0, 0.0, 0.0)
    ) -> None:
        """Put the root of a free robot or body somewhere else, with a velocity (m/s) and spin (rad/s), world axes.

        Raises:
            VeldrainError: it does not move freely.
        """
        self._sim.engine.move_to(
            self._robot,
            pose,
            np.array(triple(velocity, "speed", self.name)),
            np.array(triple(spin, "angular speed", self.name)),
        )

    def inertia_matrix(self) -> Array:
        """Inertia (n, n) that the joints feel at their positions, reflected inertias included (kg·m², kg·m, kg).

        Rows are in the order of ``joints``. Of a robot that moves freely six more come first: the velocity of its
        root link's origin and its spin, world axes. Closed loops are taken as open.
        """
        return self._mechanics.inertia()

    def inverse_dynamics(self, accelerations: ArrayLike) -> Array:
        """Efforts (n,) that give accelerations (n,), in the order of ``inertia_matrix``.

        They overcome inertia, gravity, joint damping and joint springs at the present state, nothing being touched;
        zeros ask for what holds it still against gravity and velocity products.

        >>> efforts = sim["arm"].inverse_dynamics(np.zeros(7))  # doctest: +SKIP
        """
        return self._mechanics.efforts(accelerations)

    def jacobian(self, link: str | None = None, at: Sequence[Quantity] = (0.0, 0.0, 0.0)) -> Array:
        """Jacobian (6, n): velocity of a point of a link or frame, then its spin, world axes, per joint velocity.

        Columns are in the order of ``inertia_matrix``; ``at`` is in the link's frame, m.
        """
        place = self._sim.engine.place_of(self._path(link))
        return self._mechanics.jacobian(place, np.array(triple(at, "length", self.name)))

    def reaction(self, joint: str) -> tuple[Array, Array]:
        """Force (3,) in N and torque (3,) in N·m of the parent on the child through a joint, over the last step.

        Both are in world axes, the torque about the joint's origin; fixed joints have them too, and what a motor
        gives is part of the torque about its axis.
        """
        return self._mechanics.reaction(joint)

    def contacts(self) -> pd.DataFrame:
        """The rows of ``Simulation.contacts`` that this robot has a part in."""
        found = self._sim.contacts()
        own = [
            any(name == self.name or name.startswith(f"{self.name}/") for name in pair)
            for pair in zip(found["link_a"], found["link_b"], strict=True)
        ]
        return found[own].reset_index(drop=True)

    def _path(self, link: str | None) -> str:
        return self.name if link is None else f"{self.name}/{link}"

    def command(
        self,
        joint: str,
        effort: Quantity | None = None,
        velocity: Quantity | None = None,
        position: Quantity | None = None,
    ) -> None:
        """Command a motor; the command holds until the next one.

        Raises:
            VeldrainError: an unknown joint, no motor there, or a command that is not of the motor's mode.
        """
        given = {k: v for k, v in (("effort", effort), ("velocity", velocity), ("position", position)) if v is not None}
        if joint not in self._robot.joints:
            raise unknown("movable joint", joint, self._robot.joints, self.name)
        dof = self._sim.engine.plant.dofs[self._robot.joints[joint]]
        where = f"{self.name}/{joint}"
        if dof["mode"] == NO_MOTOR:
            raise VeldrainError("a command to a joint without a motor", where=where, cure="add Model.motor")
        mode = _MODE_NAMES[int(dof["mode"])]
        if list(given) != [mode]:
            raise VeldrainError(
                f"a command of {' and '.join(given) or 'nothing'} to a motor in {mode} mode",
                where=where,
                cure=f"give {mode}=",
            )
        linear = joint in self._robot.linear
        kind = {
            "effort": "force" if linear else "torque",
            "velocity": "speed" if linear else "angular speed",
            "position": "length" if linear else "angle",
        }[mode]
        value = given[mode]
        number = float(value) if isinstance(value, (int, float)) else quantity(value, kind, where)
        if math.isnan(number):
            raise VeldrainError(f"the commanded {mode} is not a number", where=where, cure="look at the controller")
        if mode == "position" and not dof["low"] - 1e-9 <= number <= dof["high"] + 1e-9:
            unit = "m" if linear else "rad"
            self._sim.engine.notice(
                f"command {where}",
                f"{where}: commanded to {number:.4g} {unit}, beyond its limits of "
                f"{dof['low']:.4g} to {dof['high']:.4g} {unit}"
                + ("" if linear or abs(number) < 7 else "; are these degrees?"),
            )
        dof["command"], dof["told"] = number, 1

    def commands(self) -> tuple[dict[str, str], dict[str, float]]:
        """Modes of the motors by joint, and the commands that hold now, SI units."""
        dofs, model = self._sim.engine.plant.dofs, self._robot.model
        moved = {joint: dofs[self._robot.joints[joint]] for joint in (model.motors if model else ())}
        modes = {joint: _MODE_NAMES[int(dof["mode"])] for joint, dof in moved.items()}
        return modes, {joint: float(dof["command"]) for joint, dof in moved.items()}

    def push(
        self,
        force: Sequence[Quantity],
        torque: Sequence[Quantity] = (0.0, 0.0, 0.0),
        link: str | None = None,
        at: Sequence[Quantity] | None = None,
    ) -> None:
        """Push a link during the coming step only.

        Args:
            force: N, world axes.
            torque: N·m, world axes.
            link: name of the link; None: the root.
            at: point of the link's frame where the force acts, m; None: its origin.
        """
        if link not in self._pushed:
            path, engine = self._path(link), self._sim.engine
            self._pushed[link] = engine.pushed(path), engine.link_number(path)
        place, number = self._pushed[link]
        pull, turn = numbers(force, "force", self.name), numbers(torque, "torque", self.name)
        point = numbers(at or NOWHERE, "length", self.name)
        self._sim.engine.push_at(place, number, pull, turn, point, self._sim.steps + 1)

    def read(self, sensor: str) -> Reading | None:
        """The latest reading of a sensor, with its stamp; None before the first."""
        return self._sim.samples_of(f"{self.name}/{sensor}").latest


@dataclass(frozen=True)
class SimulationState:
    """A copy of the whole state of a simulation."""

    engine: Snapshot
    sensors: Mapping[str, Mapping[str, Any]]
    surroundings: Surroundings
    seed: int


class Simulation:
    """A world in motion.

    Args:
        world: what there is at the start.
        step: length of a step, s.
        seed: of the sensors' noise.
        integrator: ``semi-implicit``, or ``rk4``: of fourth order, for mechanisms that nothing touches, stops or rubs.
        watches: pairs of name paths whose first touch is to be noted, see ``touched``.
        exact: True lets all sensors measure without errors of their own.

    >>> w = World().ground().body("ball", Sphere("10 cm"), mass=1, pose=Pose((0, 0, 1)))
    >>> sim = Simulation(w); sim.advance("2 s"); sim["ball"].pose().position.round(3).tolist()
    [0.0, 0.0, 0.1]
    """

    def __init__(
        self,
        world: World,
        step: Quantity = 1e-3,
        *,
        seed: int = 0,
        integrator: str = "semi-implicit",
        watches: Sequence[tuple[str, str]] = (),
        exact: bool = False,
    ) -> None:
        self.world, self.seed, self.exact = world, checked_seed(seed), exact
        self.step = quantity(step, "time", "step")
        self.step_ns = round(self.step * 1e9) if math.isfinite(self.step) else 0
        if self.step_ns < 1 or abs(self.step_ns * 1e-9 - self.step) > 1e-15:
            raise VeldrainError(
                f"a step of {self.step:g} s is not a whole number of nanoseconds above zero", cure="use 1 ms"
            )
        self.engine = Engine(world, self.step, watches, integrator)
        self.watches = tuple(watches)
        self.surroundings = world.surroundings  # light and air as they are now
        self._start = self.engine.snapshot()
        self._robots = {name: RobotInMotion(self, robot) for name, robot in self.engine.compiled.robots.items()}
        self.on_sample: Callable[[Samples, Reading], None] | None = None
        self._publishers: list[Publisher] = []
        self._start_sensors()

    def _start_sensors(self) -> None:
        self._samples = {
            f"{name}/{mounted.name}": Samples(self, self.engine.compiled.robots[name], mounted)
            for name, placed in self.world.placed.items()
            for mounted in placed.model.sensors.values()
        }
        self._take_samples()

    @property
    def time(self) -> float:
        """Simulated time in s."""
        return self.stamp / 1e9

    @property
    def stamp(self) -> int:
        """Simulated time in ns."""
        return self.engine.steps * self.step_ns

    @property
    def steps(self) -> int:
        """Steps since the start."""
        return self.engine.steps

    @property
    def streams(self) -> Mapping[str, Samples]:
        """The sensors in this simulation by the names of their streams."""
        return self._samples

    def steps_of(self, seconds: Quantity, where: str, least: int = 1) -> int:
        """A time as a whole number of steps.

        Raises:
            VeldrainError: it is not one; names the nearest that are.
        """
        time = quantity(seconds, "time", where)
        steps = round(time / self.step) if math.isfinite(time) else -1
        if steps < least or abs(steps * self.step - time) > 1e-9 * max(time, self.step):
            low = max(math.floor(time / self.step), least) if math.isfinite(time) else least
            near = " or ".join(f"{n * self.step * 1e3:g} ms" for n in (low, low + 1))
            raise VeldrainError(
                f"{time:g} s is not a whole number of steps of {self.step * 1e3:g} ms", where=where, cure=f"use {near}"
            )
        return steps

    def advance(self, seconds: Quantity) -> None:
        """Go on for a time, a whole number of steps.

        Raises:
            NotFiniteError: a velocity is no longer finite; names the time and the joint.
        """
        self.advance_to(self.engine.steps + self.steps_of(seconds, "advance", least=0))

    def advance_to(self, goal: int) -> None:
        """Go on to a step, taking all samples that are due on the way and at its end."""
        if goal < self.engine.steps:
            raise VeldrainError(
                f"step {goal} is over: the clock is at step {self.engine.steps}",
                where="advance_to",
                cure="name a later step, or restore a snapshot",
            )
        while (now := self.engine.steps) < goal:
            due = [s.due for s in self._samples.values()] + [now - now % p.every + p.every for p in self._publishers]
            self.engine.advance(min([goal, *due]) - now)
            self._take_samples()
            for publisher in self._publishers:
                if self.engine.steps % publisher.every == 0:
                    publisher.state()

    def _take_samples(self) -> None:
        step, stamp = self.engine.steps, self.stamp
        for samples in self._samples.values():
            if samples.due == step:
                reading = samples.sample(step, stamp)
                if reading and self.on_sample:
                    self.on_sample(samples, reading)
                if reading:
                    for publisher in self._publishers:
                        publisher.sample(samples, reading)

    def publish(self, sinks: Sequence[Sink], track: Mapping[str, str] | None = None) -> Publisher:
        """Give to sinks, from now on, what sensors measure, transforms, joint states and robot descriptions.

        Args:
            sinks: where streams go; they have begun.
            track: more streams by name, each the pose of a link, frame or thing in the world.

        Raises:
            VeldrainError: no link, frame or thing of that name.
        """
        for path in (track or {}).values():
            if path not in self.frames.names:
                raise unknown("link, frame or thing", path, self.frames.names, "track")
        publisher = Publisher(self, sinks, track)
        self._publishers.append(publisher)
        return publisher

    @contextmanager
    def record(
        self, path: str | Path | None = None, *, track: Mapping[str, str] | None = None
    ) -> Iterator[Callable[[], Recording]]:
        """Record what happens in here, to a file or, for none, in memory.

        Args:
            path: of the MCAP file.
            track: more streams by name, each the pose of a link, frame or thing in the world.

        Returns:
            The function that gives the recording, once it is closed.

        >>> with sim.record("drop.mcap", track={"tip": "arm/tool"}) as recorded:  # doctest: +SKIP
        ...     sim.advance("2 s")
        >>> recorded()["tip"]  # doctest: +SKIP
        """
        recorder = Recorder(Path(path) if path is not None else None)
        about: dict[str, Any] = {"seed": self.seed, "exact": self.exact, "step": self.step}
        recorder.begin(about, attachments_of(self.world))
        publisher = self.publish([recorder], track)
        closed: list[bytes] = []
        try:
            publisher.begin()
            publisher.state()
            yield lambda: Recording(recorder.path or closed[0])
            publisher.state()
        finally:
            self._publishers.remove(publisher)
            outcome = {"passed": True, "failed": False, "reason": "recorded", "time": self.time, "expectations": {}}
            closed.append(recorder.finish(about | {"outcome": outcome | {"notices": self.notices}}))

    def joint_state(self, robot: str) -> tuple[tuple[str, ...], Array, Array, Array]:
        """Names, positions, velocities and motor efforts of a robot's joints."""
        handle = self[robot]
        return handle.joints, handle.positions, handle.velocities, handle.efforts

    def reset(self, seed: int | None = None) -> None:
        """Back to the start, with another seed if one is given."""
        self.seed = self.seed if seed is None else checked_seed(seed)
        self.surroundings = self.world.surroundings
        self.engine.taps.clear()
        self.engine.restore(self._start)
        self._start_sensors()

    def snapshot(self) -> SimulationState:
        """A copy of the whole state: restoring it continues to the same bits.

        It holds what moves, the time, the weather, and what sensors keep (random streams, drifting biases, readings on
        their way).
        """
        sensors = {stream: samples.snapshot() for stream, samples in self._samples.items()}
        return SimulationState(self.engine.snapshot(), sensors, self.surroundings, self.seed)

    def restore(self, snapshot: SimulationState) -> None:
        """Go back to a snapshot of this simulation, or of another of the same world.

        Raises:
            VeldrainError: it is no snapshot, or one of another world.
        """
        if not isinstance(snapshot, SimulationState):
            raise VeldrainError(f"{type(snapshot).__name__} is not a snapshot", cure="give what snapshot() gave")
        self.engine.restore(snapshot.engine)
        self.surroundings, self.seed = snapshot.surroundings, snapshot.seed
        for stream, state in snapshot.sensors.items():
            self.samples_of(stream).restore(state)

    @cached_property
    def frames(self) -> FrameTree:
        """All frames of the world as a tree."""
        return FrameTree(self.world, self.engine)

    def tally(self) -> Tallies:
        """What gathers all contacts of the world at every step, from now on."""
        return self.engine.taps.tally(np.ones(len(self.engine.plant.geoms), np.int64))

    def notice(self, about: str, text: str) -> None:
        """Tell something about the results, once for each subject."""
        self.engine.notice(about, text)

    @property
    def notices(self) -> list[str]:
        """What a reader of the results has to know: energy out of nothing, a step too coarse, a command too far."""
        return list(self.engine.notices)

    def __reduce_ex__(self, _: object) -> Any:
        raise VeldrainError(
            "a simulation cannot be copied or pickled",
            cure="make another of the same world, and give it snapshot() with restore()",
        )

    def energy(self) -> tuple[float, float]:
        """Kinetic and potential energy in J."""
        return self.engine.energy()

    def momentum(self) -> tuple[Array, Array]:
        """Linear momentum (3,), N·s, and angular momentum about the world's origin (3,), N·m·s, of all that moves."""
        return self.engine.momentum()

    def contacts(self) -> pd.DataFrame:
        """The contacts of the last step, a row each.

        Columns: link_a, link_b (name paths); x, y, z (m); nx, ny, nz (normal from b to a); gap (m);
        normal_force, friction_force (N); fx, fy, fz (force on a, N).
        """
        import pandas as pd

        found = self.engine.forces()
        normal = np.einsum("ij,ij->i", found.force, found.normal)
        sideways = np.linalg.norm(found.force - normal[:, None] * found.normal, axis=1)
        columns = {"link_a": found.sides[:, 0], "link_b": found.sides[:, 1]}
        columns |= dict(zip("xyz", found.point.T, strict=True))
        columns |= dict(zip(("nx", "ny", "nz"), found.normal.T, strict=True))
        columns |= {"gap": found.gap, "normal_force": normal, "friction_force": sideways}
        return pd.DataFrame(columns | dict(zip(("fx", "fy", "fz"), found.force.T, strict=True)))

    def cast(
        self, origins: Array, directions: Array, reach: Quantity, sees: str = "visual"
    ) -> tuple[Array, list[str | None], Array]:
        """Send rays through the world, as a lidar does.

        Args:
            origins: (n, 3) or (3,), m.
            directions: (n, 3) or (3,), of any length.
            reach: m.
            sees: ``visual``: the shapes that sensors see; ``collision``: those that are touched.

        Returns:
            Distances (n,) in m (inf: nothing), names of what was met (None: nothing), normals (n, 3).
        """
        ends = np.atleast_2d(np.asarray(directions, float))
        starts = np.broadcast_to(np.atleast_2d(np.asarray(origins, float)), ends.shape)
        lengths = np.linalg.norm(ends, axis=1, keepdims=True)
        if (lengths == 0).any():
            raise VeldrainError("a ray without direction", where="cast", cure="give directions of non-zero length")
        scene = self.engine.scene_of(sees)
        found = scene.cast(np.ascontiguousarray(starts), ends / lengths, quantity(reach, "length", "reach"))
        names = scene.names
        return found[0], [names[g] if g >= 0 else None for g in found[1]], found[2]

    def push(
        self,
        path: str,
        force: Sequence[Quantity],
        *,
        torque: Sequence[Quantity] = (0.0, 0.0, 0.0),
        at: Sequence[Quantity] | None = None,
        lasting: Quantity = 1e-3,
    ) -> None:
        """Push a link or body from now on for a time (see ``RobotInMotion.push``)."""
        steps = self.steps_of(lasting, f"{path}: lasting")
        self.engine.push(
            path,
            np.array(triple(force, "force", path)),
            np.array(triple(torque, "torque", path)),
            np.array(triple(at or (0.0, 0.0, 0.0), "length", path)),
            self.engine.steps + steps,
        )

    def touched(self, watch: int) -> bool:
        """True where the pair of a watch has touched since it was last asked about or since the start."""
        steps = self.engine.plant.watch_step
        found = bool(steps[watch] >= 0)
        steps[watch] = -1
        return found

    def samples_of(self, stream: str) -> Samples:
        """One sensor by the name of its stream."""
        if stream not in self._samples:
            raise unknown("sensor", stream, self._samples)
        return self._samples[stream]

    def __getitem__(self, name: str) -> RobotInMotion:
        if name not in self._robots:
            raise unknown("robot or body", name, self._robots)
        return self._robots[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._robots)
