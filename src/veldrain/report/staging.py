"""What a picture is to show: a simulation at some time, made from whatever was given."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.documents import load_scenario, load_study, load_world
from veldrain.documents.source import kind_of_file
from veldrain.errors import VeldrainError
from veldrain.formats import is_robot_file, load_robot
from veldrain.model import HeightField, Model, World
from veldrain.model.volumes import bounds
from veldrain.physics.scene import Scene, Sight
from veldrain.pose import Array, Pose
from veldrain.recording import Recording
from veldrain.recording.frames import FrameHistory
from veldrain.simulation import Simulation, engine_of

CONTACTS_OF_ALL = "scenario/contacts"
FORCES = ("fx", "fy", "fz")
INNER = 0.8  # of the box around a part: what is looked for of it


@dataclass
class Stage:
    """A simulation to be drawn, and what is known of its course.

    Attributes:
        name: what it is called.
        simulation: at the time that is drawn.
        history: frames over time, of a recording.
        now: the time that is drawn, s.
        recording: what it is of; None: it is of no recording.
    """

    name: str
    simulation: Simulation
    history: FrameHistory | None = None
    now: float = 0.0
    recording: Recording | None = None

    @property
    def times(self) -> Array:
        """Times (n,) at which a recording knows where things are, s."""
        return self.history.times if self.history else np.zeros(0)

    def go_to(self, time: float) -> None:
        """Set the scene as it was at the recorded time that is nearest."""
        if self.history:
            self.now = float(self.times[np.abs(self.times - time).argmin()])
            engine = engine_of(self.simulation)
            engine.show(self.history.at(self.now), round(self.now / engine.step))

    def contacts(self) -> tuple[Array, Array] | None:
        """Points and forces (n, 3) of the contacts now, world axes; None where a recording keeps none."""
        if self.recording is None:
            found = engine_of(self.simulation).forces()
            return found.point, np.where(found.normal[:, 2:] >= 0, found.force, -found.force)
        if CONTACTS_OF_ALL not in self.recording.messages:
            return None
        stamps = self.recording.stamps(CONTACTS_OF_ALL) / 1e9
        table = self.recording[CONTACTS_OF_ALL]
        here = table[table["time"] == stamps[np.abs(stamps - self.now).argmin()]] if len(stamps) else table
        points, forces, up = (here[list(names)].to_numpy(float) for names in (["x", "y", "z"], FORCES, ["nz"]))
        return points, np.where(up >= 0, forces, -forces)

    def is_ground(self, sight: Sight) -> bool:
        """True for planes, height fields and roads."""
        is_flat = sight.shape is None or isinstance(sight.shape, HeightField)
        return is_flat or self.simulation.world.is_of_roads(sight.name)

    def in_the_way(self, scene: Scene, eye: Array) -> set[str]:
        """Names of fixed things, but for the ground, that stand between an eye and its robots."""
        robots = tuple(f"{robot}/" for robot in self.simulation.world.placed)
        own = [name.startswith(robots) for name in scene.names]
        middle = (scene.view.low[own] + scene.view.high[own]) / 2
        half = INNER * (scene.view.high[own] - middle)  # what a robot stands on is not in its way
        points = np.concatenate([middle, *(middle + half * (2 * np.array(s) - 1) for s in np.ndindex(2, 2, 2))])
        ways = points - eye
        away = np.maximum(np.linalg.norm(ways, axis=1), 1e-9)
        found: set[str] = set()
        while len(points):  # what stands behind another shows once that one is gone
            met, sights, _ = scene.cast(np.tile(eye, (len(points), 1)), ways / away[:, None], float(away.max()))
            near = [scene.sights[k] for k in set(sights[met < away].tolist())]
            near = [s for s in near if s.node < 0 and not self.is_ground(s) and not s.name.startswith(robots)]
            if not near:
                break
            found |= {s.name for s in near}
            scene = scene.without(found)
        return found

    def trails(self) -> dict[str, Array]:
        """Where robots and bodies that move freely have been up to now, (n, 3), by name; of others their frames."""
        engine, found = engine_of(self.simulation), {}
        if self.history:
            for name, robot in engine.compiled.robots.items():
                frames = [f"{name}/{frame}" for frame in robot.model.frames] if robot.model else []
                is_free = engine.place_of(name).node >= 0
                for told, frame in [(name, robot.root)] if is_free else [(frame, frame) for frame in frames]:
                    if frame not in self.history.names:
                        continue
                    path = self.history.path(frame)[self.times <= self.now + 1e-9]
                    if len(path) > 1 and np.ptp(path, axis=0).max() > 0.01:
                        found[told] = path
        for name, placed in self.simulation.world.placed.items():
            if placed.path:
                found[name] = np.array([pose.position for _, pose in placed.path])
        return found


def staged(thing: Any, time: float | None = None, world: str | Path | None = None, posture: str | None = None) -> Stage:
    """The stage of a thing.

    Args:
        thing: a ``Model``, ``World``, ``Simulation``, ``Scenario``, ``Study`` or ``Recording``, or the path of a file.
        time: of a recording, s; None: its end. Of others: how long they go on by themselves first.
        world: of a recording: its world's file; None: the one that it holds.
        posture: of a model.

    Raises:
        VeldrainError: a file that cannot be read, a recording without its world, a time that it does not have.
    """
    name = getattr(thing, "name", "") or type(thing).__name__.lower()
    if isinstance(thing, str | Path):
        path, name = Path(thing), Path(thing).name
        if not path.is_file():
            raise VeldrainError(
                "no such file", where=str(path), cure="name a robot, world, scenario, study or MCAP file"
            )
        thing = _read(path)
    if isinstance(thing, Recording):
        return _of_recording(thing, time, world)
    if isinstance(thing, Model):
        thing = on_ground(thing, posture)
    scenario = getattr(thing, "scenario", thing)
    found = getattr(scenario, "world", scenario) if not isinstance(scenario, Simulation) else scenario
    if isinstance(found, World):
        found = Simulation(found, getattr(scenario, "step", 1e-3))
    if not isinstance(found, Simulation):
        raise VeldrainError(
            f"{type(thing).__name__} cannot be drawn",
            cure="give a Model, World, Simulation, Scenario, Study, Recording, or a file",
        )
    if time:
        found.advance(round(time / found.step) * found.step)
    return Stage(name, found)


def _read(path: Path) -> Any:
    if path.suffix == ".mcap":
        return Recording(path)
    if is_robot_file(path.name):
        return load_robot(path)
    kind = kind_of_file(path)
    return load_study(path) if kind == "study" else load_scenario(path) if kind == "scenario" else load_world(path)


def on_ground(model: Model, posture: str | None, fixed: bool = True) -> World:
    """A model with its lowest point on the ground, held still or free."""
    poses = model.poses(model.postures.get(posture or "", {}))
    lows = [
        bounds(part.shape, poses[name] @ part.pose)[0][2] for name, link in model.links.items() for part in link.parts
    ]
    world = World().ground()
    return world.place(model, pose=Pose((0, 0, -min(lows, default=0.0))), fixed=fixed, posture=posture)


def _of_recording(recording: Recording, time: float | None, world: str | Path | None) -> Stage:
    where = str(recording.path or "recording")
    history = recording.frames
    step = float(recording.metadata.get("step", 1e-3))
    simulation = Simulation(load_world(world if world is not None else recording), step)
    known = {name for name in history.names if name in engine_of(simulation).compiled.links}
    moved = {name for name, place in engine_of(simulation).compiled.links.items() if place.node >= 0}
    if not moved <= known:
        missing = ", ".join(sorted(moved - known)[:3])
        raise VeldrainError(
            f"the recording does not know where {missing} is", where=where, cure="name the world it was recorded in"
        )
    stage = Stage(Path(where).name, simulation, history, recording=recording)
    first, last = history.times[0], history.times[-1]
    if time is not None and not first - 1e-9 <= time <= last + simulation.step + 0.06:
        raise VeldrainError(f"there is no {time:g} s in it", where=where, cure=f"give {first:g} to {last:g} s")
    stage.go_to(last if time is None else time)
    return stage
