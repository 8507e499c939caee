"""Many copies of one world, stepped together, with arrays in and out."""

from __future__ import annotations

import copy
import dataclasses
import logging
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from veldrain import randomness
from veldrain.errors import VeldrainError, unknown
from veldrain.model import World
from veldrain.model.knobs import Knob, knob_of, world_knobs
from veldrain.physics import plant as p
from veldrain.physics.stacking import Stack
from veldrain.physics.states import Snapshot
from veldrain.physics.tapping import GATHERED
from veldrain.physics.telling import shown
from veldrain.pose import Array, quaternions_of
from veldrain.sampling import Samples
from veldrain.simulation import Simulation, SimulationState, engine_of
from veldrain.units import Quantity, finite, quantity

log = logging.getLogger(__name__)
Which = Sequence[int] | NDArray[Any] | None


class Copies:
    """Many copies of one world, each with its own state, stepped together by all cores.

    Copy k does to the last bit what ``Simulation(world, step, seed=seed + k)`` does that is told the same.

    Args:
        world: what there is at the start.
        count: how many copies.
        period: how far ``step`` goes, a time or a rate; None: one step of the engine.
        step: length of a step of the engine, s.
        seed: of the first copy's sensors and gusts; those of the others follow it.
        vary: quantities by path, each a row of one value a copy, such as ``{"cart/pole.mass": masses}``.
        streams: the sensors that are read; all others are left out.

    Raises:
        VeldrainError: no such quantity or sensor, a quantity that changes the structure of the world, something led
            along a path, or more copies than the memory holds.

    >>> carts = Copies(world, 1000, period="20 ms")  # doctest: +SKIP
    >>> carts.step(-carts.positions @ gains); carts.reset(abs(carts.positions[:, 1]) > 0.6)  # doctest: +SKIP
    """

    def __init__(
        self,
        world: World,
        count: int,
        *,
        period: Quantity | None = None,
        step: Quantity = 1e-3,
        seed: int = 0,
        vary: Mapping[str, ArrayLike] | None = None,
        streams: Sequence[str] = (),
    ) -> None:
        if isinstance(count, bool) or not isinstance(count, (int, np.integer)) or count < 1:
            raise VeldrainError(f"{count!r} copies", where="copies", cure="give a whole number, 1 or more")
        self._seeds = randomness.checked_seed(seed) + np.arange(count)
        worlds = _varied(world, int(count), vary or {})
        first = Simulation(worlds[0], step, seed=int(self._seeds[0]))
        for name in engine_of(first).actors.asked:
            raise VeldrainError("is led from Python, which copies do not ask", where=name, cure="give it a route")
        self._streams = {name: _full_name(name, first) for name in streams}
        self._homes = [
            first,
            *(Simulation(w, step, seed=int(s)) for w, s in zip(worlds[1:], self._seeds[1:], strict=False)),
        ]
        self._engine = engine = engine_of(first)
        self._every = 1 if period is None else first.steps_of(quantity(period, "period", "period"), "period")
        self._samples: list[dict[str, Samples]] = [{} for _ in range(count)]
        self._told: dict[str, str] = {}
        self.failed = np.zeros(count, bool)  #: copies whose velocities were no longer finite: they stand still
        if not streams:
            for home in self._homes:
                engine_of(home).taps.clear()
        self._stack = Stack(engine.plant, int(count), engine.step)
        robots = engine.compiled.robots
        dofs = {f"{name}/{joint}": dof for name, robot in robots.items() for joint, dof in robot.joints.items()}
        self.joints: tuple[str, ...] = tuple(dofs)  #: names of the movable joints, in the order of the arrays
        self._dofs = np.array(list(dofs.values()), np.int64)
        modes = engine.plant.dofs["mode"][self._dofs]
        self.motors: tuple[str, ...] = tuple(n for n, m in zip(self.joints, modes, strict=True) if m != p.NO_MOTOR)
        self._motors = self._dofs[modes != p.NO_MOTOR]
        self._balls = [
            (at, [self.joints.index(f"{name}/{joint}/{axis}") for axis in "xyz"])
            for name, robot in robots.items()
            for joint, at in robot.balls.items()
        ]
        self._has_gusts = bool(world.surroundings.air.gusts)
        if self._streams or self._has_gusts or vary:  # else all begin as the first
            for k in range(int(count)):
                self._start(k)
        self._begin = {name: getattr(self._stack.plants, name).copy() for name in p.STATE}

    def _start(self, k: int) -> None:
        """Put a copy to its start, as a simulation of its seed begins."""
        home = self._home(k)
        if self._streams:
            home.reset(int(self._seeds[k]))
            self._samples[k] = {stream: home.streams[stream] for stream in self._streams.values()}
        elif self._has_gusts:
            home.seed = int(self._seeds[k])
            home.surroundings = home.world.surroundings
        self._stack.put(k, engine_of(home).plant)

    def _home(self, k: int) -> Simulation:
        return self._homes[k if len(self._homes) > 1 else 0]

    def __len__(self) -> int:
        return len(self._seeds)

    @property
    def times(self) -> Array:
        """Simulated time (n,) since the start of each, s."""
        return np.asarray(self._steps * self._stack.step)

    @property
    def _steps(self) -> NDArray[np.int64]:
        return np.asarray(self._stack.plants.counts["step"][:, 0])

    @property
    def positions(self) -> Array:
        """Joint positions (n, joints): rad, or m where they slide; a ball joint's are its rotation vector."""
        q, coords = self._stack.plants.q, self._engine.plant.dofs["coord"][self._dofs]
        found = q[:, np.maximum(coords, 0)]
        for at, columns in self._balls:
            from scipy.spatial.transform import Rotation

            found[:, columns] = Rotation.from_quat(q[:, at : at + 4]).as_rotvec()
        return np.asarray(found)

    @property
    def velocities(self) -> Array:
        """Joint velocities (n, joints): rad/s, or m/s where they slide."""
        return np.asarray(self._stack.plants.speeds[:, p.NOW, self._dofs])

    @property
    def efforts(self) -> Array:
        """Efforts (n, joints) of the motors in the last step, N·m or N."""
        return np.asarray(self._stack.plants.dofs["effort"][:, self._dofs])

    @property
    def limits(self) -> tuple[Array, Array]:
        """Lowest and highest position of the joints (joints,); infinite where there is none."""
        dofs = self._engine.plant.dofs[self._dofs]
        return dofs["low"].copy(), dofs["high"].copy()

    @property
    def bounds(self) -> tuple[Array, Array]:
        """Lowest and highest command of the motors (motors,): what their efforts, speeds or joints can reach."""
        dofs = self._engine.plant.dofs[self._motors]
        most = np.where(dofs["mode"] == p.EFFORT, dofs["limit"], dofs["top_speed"])
        is_place = dofs["mode"] == p.POSITION
        return np.where(is_place, dofs["low"], -most), np.where(is_place, dofs["high"], most)

    def poses(self, path: str) -> tuple[Array, Array]:
        """Positions (n, 3), m, and quaternions x, y, z, w (n, 4) of a link, frame or body in the world."""
        place = self._engine.place_of(path)
        if place.node < 0:
            return np.tile(place.pose.position, (len(self), 1)), np.tile(place.pose.quaternion, (len(self), 1))
        nodes, (at, turn) = self._stack.plants.nodes[:, place.node], place.arrays
        return nodes["pos"] + nodes["rot"] @ at, quaternions_of(nodes["rot"] @ turn)

    def twists(self, path: str) -> tuple[Array, Array]:
        """Velocities (n, 3), m/s, and angular velocities (n, 3), rad/s, of a link, frame or body, world axes."""
        place = self._engine.place_of(path)
        if place.node < 0:
            return np.zeros((len(self), 3)), np.zeros((len(self), 3))
        nodes = self._stack.plants.nodes[:, place.node]
        arm = nodes["pos"] + nodes["rot"] @ place.pose.position
        arm -= self._stack.plants.trees["ref"][:, int(nodes["tree"][0])]
        spin = nodes["twist"][:, :3]
        return nodes["twist"][:, 3:] + np.cross(spin, arm), spin.copy()

    def forces(self, path: str) -> Array:
        """Contact forces (n, 3) on a link, robot or body in the last step, world axes, N; its own parts left out."""
        a, mine = self._stack.plants, np.zeros(self._stack.plants.geoms.shape[1], bool)
        mine[self._engine.geoms_of(path)] = True
        one, other = np.divmod(a.kept["key"], len(mine))
        there = np.arange(a.kept.shape[1]) < a.counts["kept"]
        _, is_flat = self._engine.sides  # a plane or a mesh is always the second of a pair
        swap = np.where(np.array(is_flat, bool)[one], -1.0, 1.0)
        sign = (mine[one].astype(float) - mine[other]) * swap * there
        return np.asarray(np.einsum("nc,ncx->nx", sign, a.kept["impulse"])) / self._stack.step

    def step(self, commands: ArrayLike | None = None) -> None:
        """Go on for a period, with other commands if any are given: they hold until others come.

        Args:
            commands: (n, motors) or (motors,), in the order of ``motors``: efforts, velocities or positions, as the
                modes of the motors have it.

        Raises:
            VeldrainError: a wrong shape, or a command that is not finite.
        """
        if commands is not None:
            self._command(commands)
        goals = np.where(self.failed, self._steps, self._steps + self._every)
        if not self._streams:
            self._advance(goals)
        while self._streams and (self._steps < goals).any():
            due = np.array([min(s.due for s in samples.values()) for samples in self._samples])
            self._advance(np.minimum(goals, due))
            for k in np.flatnonzero(~self.failed & (self._steps == due)):
                self._sample(int(k))
            goals[self.failed] = self._steps[self.failed]
        self._look()

    def _command(self, commands: ArrayLike) -> None:
        rows, dofs = np.asarray(commands, float), self._stack.plants.dofs
        wanted = (len(self), len(self.motors))
        if rows.shape not in (wanted, wanted[1:]):
            raise VeldrainError(
                f"commands of shape {rows.shape}", where="step", cure=f"give {wanted}: {', '.join(self.motors[:6])}"
            )
        if not np.isfinite(rows).all():
            k, motor = np.argwhere(~np.isfinite(np.broadcast_to(rows, wanted)))[0]
            raise VeldrainError(
                f"the command to {self.motors[motor]} is not finite", where=f"copy {k}", cure="look at who commands it"
            )
        low, high = self.bounds
        beyond = ((rows < low - 1e-9) | (rows > high + 1e-9)) & (
            self._engine.plant.dofs["mode"][self._motors] != p.EFFORT
        )
        if beyond.any():
            motor = int(np.argwhere(beyond)[0][-1])
            self._tell(f"command {motor}", f"{self.motors[motor]}: commanded beyond what it can reach; see bounds")
        dofs["command"][:, self._motors], dofs["told"][:, self._motors] = rows, 1

    def _advance(self, goals: NDArray[np.int64]) -> None:
        """Bring each to its own step; those that cannot go on stay where they are."""
        while True:
            self._stack.advance(goals)
            status = self._stack.status
            for k in np.flatnonzero((status == p.STATUS_NOT_FINITE) & ~self.failed):
                self.failed[k] = True
                goals[k] = self._steps[k]
                self._tell(
                    "failed", f"copy {k} is no longer finite at {self.times[k]:.6g} s: it stands until it is reset"
                )
            if not (status == p.STATUS_FULL).any():
                return
            self._stack.grow()
            status[status == p.STATUS_FULL] = p.STATUS_FINE

    def _tell(self, about: str, text: str) -> None:
        if about not in self._told:
            self._told[about] = text
            log.warning(text)

    def _look(self) -> None:
        """Tell what the steps have shown, once for each subject."""
        counts = self._stack.plants.counts[:, 0]
        for field in ("wanted", "surges"):
            if field not in self._told and (found := np.flatnonzero(counts[field] > 0)).size:
                self._told[field], k = "", int(found[0])
                engine = engine_of(self._home(k))
                start = engine.snapshot()
                self._show(k)
                for about, text in list(shown(engine)):
                    self._tell(about, f"copy {k}: {text}")
                engine.restore(start)

    @property
    def notices(self) -> list[str]:
        """What a reader of the results has to know, each told for the first copy that it was seen in."""
        return [text for text in self._told.values() if text]

    def _snapshot(self, k: int) -> Snapshot:
        a = self._stack.plants
        arrays = {name: getattr(a, name)[k] for name in p.STATE}
        taps = {name: getattr(a, name)[k] for name in GATHERED}
        return Snapshot(arrays, self._engine.names, taps, (), int(self._steps[k]))

    def _show(self, k: int) -> None:
        """Have the engine of a copy's simulation be as the copy is."""
        engine_of(self._home(k)).restore(self._snapshot(k))

    def _sample(self, k: int) -> None:
        """Take the samples of a copy that are due."""
        self._show(k)
        home = self._home(k)
        for samples in self._samples[k].values():
            if samples.due == home.steps:
                samples.sample(home.steps, home.stamp)
        for name in GATHERED:
            getattr(self._stack.plants, name)[k] = getattr(engine_of(home).plant, name)

    def read(self, stream: str) -> dict[str, Array]:
        """The newest readings of a sensor that have arrived: an array (n, …) for each of their numbers, by name.

        Rows of copies that have no reading yet are nan.

        Raises:
            VeldrainError: no such stream, or readings that are no numbers of a fixed shape.
        """
        name = self._streams.get(stream, stream)
        if name not in self._streams.values():
            raise unknown("stream of the copies", stream, self._streams, "read")
        readings = [samples[name].arrived(int(at)) for samples, at in zip(self._samples, self._steps, strict=True)]
        there = [k for k, reading in enumerate(readings) if reading is not None]
        found: dict[str, Array] = {}
        first = readings[there[0]] if there else None
        for field in dataclasses.fields(first.data) if first else ():
            try:
                rows: Array = np.array([getattr(readings[k], field.name) for k in there], np.float64)
            except (TypeError, ValueError) as error:
                raise VeldrainError(
                    f"{field.name} is no array of numbers of one shape", where=name, cure="read it of one copy's state"
                ) from error
            found[field.name] = np.full((len(self), *rows.shape[1:]), np.nan)
            found[field.name][there] = rows
        return found

    def reset(
        self,
        which: Which = None,
        *,
        positions: ArrayLike | None = None,
        velocities: ArrayLike | None = None,
        seeds: Sequence[int] | NDArray[np.int64] | None = None,
    ) -> None:
        """Put some copies back to their start, or to another one.

        Args:
            which: their numbers, or True where (n,) one is meant; None: all.
            positions: of their joints (m, joints) or (joints,); motors that were told nothing hold there.
            velocities: likewise.
            seeds: new ones (m,); None: each keeps its own, and has the same luck again.

        Raises:
            VeldrainError: no such copy, a wrong shape, or a position outside of its limits.
        """
        rows = self._rows(which)
        new = {
            name: self._row(name, given, len(rows))
            for name, given in (("positions", positions), ("velocities", velocities))
            if given is not None
        }
        if "positions" in new:
            self._see_limits(rows, np.broadcast_to(new["positions"], (len(rows), len(self.joints))))
        if seeds is not None:
            if len(seeds) != len(rows):
                raise VeldrainError(f"{len(seeds)} seeds for {len(rows)} copies", where="reset", cure="give one each")
            self._seeds[rows] = [randomness.checked_seed(int(seed)) for seed in seeds]
        a = self._stack.plants
        if self._streams or seeds is not None:
            for k in rows.tolist():
                self._start(k)
        else:
            for name, begin in self._begin.items():
                now = getattr(a, name)
                now[rows, : begin.shape[1]] = begin[rows]
        self.failed[rows] = False
        self._stack.status[rows] = p.STATUS_FINE
        if "positions" in new:
            coords = self._engine.plant.dofs["coord"][self._dofs]
            a.q[np.ix_(rows, coords[coords >= 0])] = new["positions"][..., coords >= 0]
            for at, columns in self._balls:
                from scipy.spatial.transform import Rotation

                a.q[rows, at : at + 4] = Rotation.from_rotvec(new["positions"][..., columns]).as_quat()
            waiting = (a.dofs["told"][rows] == 0) & (a.dofs["mode"][rows] == p.POSITION) & (a.dofs["coord"][rows] >= 0)
            held = np.take_along_axis(a.q[rows], np.maximum(a.dofs["coord"][rows], 0), axis=1)
            for word in ("command", "held"):
                a.dofs[word][rows] = np.where(waiting, held, a.dofs[word][rows])
        if "velocities" in new:
            a.speeds[rows[:, None], p.NOW, self._dofs] = new["velocities"]
        self._stack.refresh(rows)

    def _see_limits(self, rows: NDArray[np.int64], positions: Array) -> None:
        low, high = self.limits
        wrong = np.argwhere((positions < low - 1e-9) | (positions > high + 1e-9))
        for row, joint in wrong[:1]:
            raise VeldrainError(
                f"position {positions[row, joint]:.6g} is outside of its limits",
                where=f"copy {rows[row]}: {self.joints[joint]}",
                cure=f"give {low[joint]:.6g} to {high[joint]:.6g}",
            )

    def _rows(self, which: Which) -> NDArray[np.int64]:
        if which is None:
            return np.arange(len(self))
        rows = np.asarray(which)
        if rows.dtype == bool and rows.shape == (len(self),):
            return np.flatnonzero(rows)
        is_rows = rows.ndim == 1 and (rows.size == 0 or np.issubdtype(rows.dtype, np.integer))
        if not is_rows or ((rows < 0) | (rows >= len(self))).any() or len(np.unique(rows)) < len(rows):
            raise VeldrainError(
                f"{which!r} says no copies",
                where="reset",
                cure=f"give numbers of 0 to {len(self) - 1}, each once, or ({len(self)},) bools",
            )
        return rows.astype(np.int64)

    def _row(self, what: str, given: ArrayLike, count: int) -> Array:
        found, wanted = np.asarray(given, float), (count, len(self.joints))
        fits = found.shape in (wanted, wanted[1:])
        if not fits or not np.isfinite(found).all():
            problem = f"{what} that are not finite" if fits else f"{what} of shape {found.shape}"
            raise VeldrainError(problem, where="reset", cure=f"give {wanted}: {', '.join(self.joints[:6])}")
        return found

    def state(self, copy_number: int) -> SimulationState:
        """The whole state of one copy, for ``Simulation.restore``: to look at it, record it or go on from it.

        The simulation is made of the copy's world: with ``vary=`` that is ``world(k)``.
        """
        k = int(self._rows(np.array([copy_number]))[0])
        home = self._home(k)
        sensors = {stream: samples.snapshot() for stream, samples in self._samples[k].items()}
        return SimulationState(copy.deepcopy(self._snapshot(k)), sensors, home.surroundings, int(self._seeds[k]))

    def world(self, copy_number: int) -> World:
        """The world of one copy, with its own quantities."""
        return self._home(int(self._rows(np.array([copy_number]))[0])).world


def _full_name(stream: str, simulation: Simulation) -> str:
    """A stream by its name, or by its last part where only one has it."""
    found = [name for name in simulation.streams if name == stream or name.endswith(f"/{stream}")]
    if len(found) != 1:
        raise unknown("sensor", stream, simulation.streams, "streams")
    return found[0]


def _varied(world: World, count: int, vary: Mapping[str, ArrayLike]) -> list[World]:
    """A world for each copy; one for all where nothing varies."""
    if not vary:
        return [world]
    rows = {path: np.asarray(values, object) for path, values in vary.items()}
    for path, values in rows.items():
        if values.shape != (count,):
            raise VeldrainError(f"values of shape {values.shape}", where=path, cure=f"give {count}, one a copy")
    made = []
    for k in range(count):
        own = copy.deepcopy(world)
        knobs: dict[str, Knob] = {knob.path: knob for knob in world_knobs(own)}
        for path, values in rows.items():
            knob = knobs[path] if path in knobs else knob_of(knobs.values(), path, "vary")
            knob.set(finite(values[k], knob.kind, path))
        made.append(own)
    return made
