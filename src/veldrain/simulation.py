"""A world in motion: engine, sensors and commands under one clock."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain import randomness
from veldrain.errors import VeldrainError, unknown
from veldrain.handles import RobotInMotion
from veldrain.model import Surroundings, World
from veldrain.physics.couplings import Coupling
from veldrain.physics.engine import Engine
from veldrain.physics.frames import FrameTree
from veldrain.physics.preparing import prepared
from veldrain.physics.states import Snapshot
from veldrain.physics.tapping import Tallies
from veldrain.physics.totals import energy, momentum
from veldrain.pose import Array, Pose
from veldrain.recording import Recorder, Recording, Sink
from veldrain.recording.attaching import attachments_of
from veldrain.recording.publishing import Publisher
from veldrain.sampling import Reading, Samples
from veldrain.units import Quantity, quantity, triple

if TYPE_CHECKING:
    import pandas as pd


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
        self.world, self.seed, self.exact = world, randomness.checked_seed(seed), exact
        self.step = quantity(step, "time", "step")
        self.step_ns = round(self.step * 1e9) if math.isfinite(self.step) else 0
        if self.step_ns < 1 or abs(self.step_ns * 1e-9 - self.step) > 1e-15:
            raise VeldrainError(
                f"a step of {self.step:g} s is not a whole number of nanoseconds above zero", cure="use 1 ms"
            )
        prepared()
        self._engine = Engine(world, self.step, watches, integrator)
        self.watches = tuple(watches)
        self.surroundings = world.surroundings
        self._start = self._engine.snapshot()
        self._robots = {
            name: RobotInMotion(self, self._engine, robot) for name, robot in self._engine.compiled.robots.items()
        }
        self.on_sample: Callable[[Samples, Reading], None] | None = None
        self._publishers: list[Publisher] = []
        self._recorded = 0  # records that are under way
        self._start_sensors()

    @property
    def surroundings(self) -> Surroundings:
        """Light and air as they are now; another wind blows from when it is assigned."""
        return self._surroundings

    @surroundings.setter
    def surroundings(self, value: Surroundings) -> None:
        self._surroundings = value
        self._engine.set_air(value.air, randomness.stream(self.seed, "air", "gusts"))

    def _start_sensors(self) -> None:
        self._samples = {
            f"{name}/{mounted.name}": Samples(self, self._engine, self._engine.compiled.robots[name], mounted)
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
        return self._engine.steps * self.step_ns

    @property
    def steps(self) -> int:
        """Steps since the start."""
        return self._engine.steps

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
        self.advance_to(self._engine.steps + self.steps_of(seconds, "advance", least=0))

    def advance_to(self, goal: int) -> None:
        """Go on to a step, taking all samples that are due on the way and at its end."""
        if goal < self._engine.steps:
            raise VeldrainError(
                f"step {goal} is over: the clock is at step {self._engine.steps}",
                where="advance_to",
                cure="name a later step, or restore a snapshot",
            )
        while (now := self._engine.steps) < goal:
            due = [s.due for s in self._samples.values()] + [now - now % p.every + p.every for p in self._publishers]
            now = min([goal, *due])
            self._engine.advance(now - self._engine.steps)
            self._take_samples()
            for publisher in self._publishers:
                if now % publisher.every == 0:
                    publisher.state()

    def _take_samples(self) -> None:
        step, stamp = self._engine.steps, self.stamp
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
        self._recorded += 1
        try:
            publisher.begin()
            publisher.state()
            yield lambda: Recording(recorder.path or closed[0])
            publisher.state()
        finally:
            self._recorded -= 1
            self._publishers.remove(publisher)
            outcome = {"passed": True, "failed": False, "reason": "recorded", "time": self.time, "expectations": {}}
            closed.append(recorder.finish(about | {"outcome": outcome | {"notices": self.notices}}))

    def joint_state(self, robot: str) -> tuple[tuple[str, ...], Array, Array, Array]:
        """Names, positions, velocities and motor efforts of a robot's joints."""
        handle = self[robot]
        return handle.joints, handle.positions, handle.velocities, handle.efforts

    def reset(self, seed: int | None = None) -> None:
        """Back to the start, with another seed if one is given.

        Raises:
            VeldrainError: it is recorded: the record would hold two courses of the same time.
        """
        self._see_that_time_goes_on(0)
        self.seed = self.seed if seed is None else randomness.checked_seed(seed)
        self._engine.taps.clear()
        self._engine.restore(self._start)
        self.surroundings = self.world.surroundings
        self._start_sensors()

    def _see_that_time_goes_on(self, steps: int) -> None:
        if steps < self._engine.steps and self._recorded:
            raise VeldrainError(
                f"would go back from {self.time:g} s while it is recorded",
                where="simulation",
                cure="end the recording first, and record what follows by itself",
            )

    def snapshot(self) -> SimulationState:
        """A copy of the whole state: restoring it continues to the same bits.

        It holds what moves, the time, the weather, and what sensors keep (random streams, drifting biases, readings on
        their way).

        Raises:
            VeldrainError: a sensor keeps what cannot be copied, such as its mount.
        """
        sensors = {}
        for stream, samples in self._samples.items():
            try:
                sensors[stream] = samples.snapshot()
            except (VeldrainError, TypeError) as error:  # it keeps its mount, or what has no copy: a file, a lock
                raise VeldrainError(
                    f"its sensor keeps what cannot be copied ({getattr(error, 'problem', error)})",
                    where=stream,
                    cure="let it keep numbers and arrays, and take the mount that measure() is given",
                ) from error
        return SimulationState(self._engine.snapshot(), sensors, self.surroundings, self.seed)

    def restore(self, snapshot: SimulationState) -> None:
        """Go back to a snapshot of this simulation, or of another of the same world.

        Raises:
            VeldrainError: it is no snapshot, one of another world, or an earlier one while this is recorded.
        """
        if not isinstance(snapshot, SimulationState):
            raise VeldrainError(f"{type(snapshot).__name__} is not a snapshot", cure="give what snapshot() gave")
        self._see_that_time_goes_on(snapshot.engine.steps)
        self._engine.restore(snapshot.engine)
        self.seed, self.surroundings = snapshot.seed, snapshot.surroundings
        for stream, samples in self._samples.items():
            if stream in snapshot.sensors:
                samples.restore(snapshot.sensors[stream])
            else:
                samples.begin_after(snapshot.engine.steps)

    @cached_property
    def frames(self) -> FrameTree:
        """All frames of the world as a tree."""
        return FrameTree(self.world, self._engine)

    def attach(
        self,
        thing: str,
        to: str,
        *,
        pose: Pose | None = None,
        most_force: Quantity = math.inf,
        most_torque: Quantity = math.inf,
    ) -> None:
        """Let two links, frames, bodies or robots move as one from the next step on.

        What they do at that moment meets as in a collision without a bounce: momentum and angular momentum stay. Their
        shapes pass each other for as long as they are attached.

        Args:
            thing: what is attached; it moves.
            to: what it is attached to; this may be fixed in the world.
            pose: of the thing in the frame of ``to``: it is drawn there, at 1 m/s and 1 rad/s at most. None: as it is.
            most_force, most_torque: beyond which it breaks, N and N·m.

        Raises:
            VeldrainError: no such name, one part of one thing, or a pose turned by more than 80° from where it is.

        >>> sim.attach("crate", to="arm/tool", most_force="80 N")  # doctest: +SKIP
        >>> sim.release("crate")  # doctest: +SKIP
        """
        force, torque = quantity(most_force, "force", "attach"), quantity(most_torque, "torque", "attach")
        for word, value in (("most_force", force), ("most_torque", torque)):
            if not value > 0:
                raise VeldrainError(f"{word} is {value:g}", where=f"attach {thing}", cure="give one above zero")
        self._engine.couplings.attach(thing, to, pose, force, torque)

    def release(self, thing: str, of: str | None = None) -> None:
        """Let a thing move apart from another, None: from all that it is attached to. A robot stands for its links.

        Raises:
            VeldrainError: it is not attached.
        """
        if not self._engine.couplings.release(thing, of):
            held = [f"{c.thing} to {c.to}" for c in self.attached]
            raise VeldrainError(
                f"is not attached{f' to {of}' if of else ''}",
                where=f"release {thing}",
                cure=f"attached are: {', '.join(held)}" if held else "attach it first",
            )

    @property
    def attached(self) -> list[Coupling]:
        """All that is attached, with what it bears: ``thing``, ``to``, ``force``, ``torque`` and ``point``."""
        return self._engine.couplings.now()

    def tally(self) -> Tallies:
        """What gathers all contacts of the world at every step, from now on."""
        return self._engine.taps.tally_of_all()

    def notice(self, about: str, text: str) -> None:
        """Tell something about the results, once for each subject."""
        self._engine.notice(about, text)

    @property
    def told_notices(self) -> dict[str, str]:
        """The same by what they are about."""
        return self._engine.told_notices

    @property
    def notices(self) -> list[str]:
        """What a reader of the results has to know: energy out of nothing, a step too coarse, a command too far."""
        return list(self._engine.notices)

    def __reduce_ex__(self, _: object) -> Any:
        raise VeldrainError(
            "a simulation cannot be copied or pickled",
            cure="make another of the same world, and give it snapshot() with restore()",
        )

    def digest(self) -> str:
        """A digest of the time and of where all that moves is, to the last bit: trials that are copies share it."""
        found = hashlib.sha256(str(self.stamp).encode())
        for array in self._engine.whereabouts():
            found.update(array.tobytes())
        return found.hexdigest()[:16]

    def energy(self) -> tuple[float, float]:
        """Kinetic and potential energy in J."""
        return energy(self._engine)

    def momentum(self) -> tuple[Array, Array]:
        """Linear momentum (3,), N·s, and angular momentum about the world's origin (3,), N·m·s, of all that moves."""
        return momentum(self._engine)

    def contacts(self) -> pd.DataFrame:
        """The contacts of the last step, a row each.

        Columns: link_a, link_b (name paths); x, y, z (m); nx, ny, nz (normal from b to a); gap (m);
        normal_force, friction_force (N); fx, fy, fz (force on a, N).
        """
        import pandas as pd

        found = self._engine.forces()
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
        scene = self._engine.scene_of(sees)
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
        told = (
            triple(force, "force", path),
            triple(torque, "torque", path),
            triple((0.0, 0.0, 0.0) if at is None else at, "length", path),
        )
        pushes = self._engine.pushes
        pushes.push(*pushes.link(path), *told, self.steps_of(lasting, f"{path}: lasting"))

    def touched(self, watch: int) -> bool:
        """True where the pair of a watch has touched since it was last asked about or since the start."""
        return self._engine.taps.has_touched(watch)

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


def engine_of(simulation: Simulation) -> Engine:
    """The engine of a simulation: for the layers of the library, not for its users."""
    return simulation._engine
