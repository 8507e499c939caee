"""The joints of one robot in an engine, by name: read, set and commanded."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.physics import plant as p
from veldrain.physics.builder import Robot
from veldrain.physics.engine import Engine
from veldrain.physics.motors import command_motors
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, quantity

MODES = {p.EFFORT: "effort", p.VELOCITY: "velocity", p.POSITION: "position"}
# What a motor takes by its mode: first what drives it, then what may be given beside it.
TAKEN = {"effort": ("effort",), "velocity": ("velocity", "effort"), "position": ("position", "velocity", "effort")}
_FIELDS = {"velocity": "pace", "effort": "assist"}
_KINDS = {"effort": ("torque", "force"), "velocity": ("angular speed", "speed"), "position": ("angle", "length")}


_NOTHING = np.zeros(0)


class Joints:
    """The movable joints of a robot, in the order of ``names``."""

    def __init__(self, engine: Engine, robot: Robot) -> None:
        self._engine, self._robot = engine, robot
        self.names = tuple(robot.joints)
        self.dofs = np.array(list(robot.joints.values()), np.int64)
        self.positions = self.positions_of(self.names)
        self._groups: dict[tuple[str, ...], p.Ints] = {}  # degrees of freedom of joints that are commanded together

    def positions_of(self, names: Sequence[str]) -> Callable[[], Array]:
        """The function that reads the positions of some coordinates; a ball joint's are its rotation vector."""
        plant, robot = self._engine.plant, self._robot
        coords, q = plant.dofs["coord"][np.array([robot.joints[n] for n in names], np.int64)], plant.q
        if (coords >= 0).all():
            return lambda: np.asarray(q[coords])

        def read() -> Array:
            from scipy.spatial.transform import Rotation

            found = q[np.maximum(coords, 0)]
            for joint, at in robot.balls.items():
                turn = Rotation.from_quat(q[at : at + 4]).as_rotvec()
                for axis, angle in zip("xyz", turn, strict=True):
                    if f"{joint}/{axis}" in names:
                        found[names.index(f"{joint}/{axis}")] = angle
            return np.asarray(found)

        return read

    def set_positions(self, row: Array) -> None:
        """Put all joints somewhere inside of their limits; motors that were told nothing hold there."""
        plant = self._engine.plant
        dofs = plant.dofs[self.dofs]
        for name, value, dof in zip(self.names, row, dofs, strict=True):
            if not dof["low"] - 1e-9 <= value <= dof["high"] + 1e-9:
                raise VeldrainError(
                    f"position {value:.6g} is outside of its limits, {dof['low']:.6g} to {dof['high']:.6g}",
                    where=f"{self._robot.name}/{name}",
                    cure="assign one inside, or change the limits",
                )
        coords = dofs["coord"]
        plant.q[coords[coords >= 0]] = row[coords >= 0]
        for joint, at in self._robot.balls.items():
            turn = [row[self.names.index(f"{joint}/{axis}")] for axis in "xyz"]
            plant.q[at : at + 4] = Pose.turned(turn).quaternion
        self._engine.hold_still()
        self._engine.refresh()

    def velocities(self, dofs: p.Ints | None = None) -> Array:
        """Velocities (n,) of all joints, or of some degrees of freedom."""
        return np.asarray(self._engine.plant.speeds[p.NOW, self.dofs if dofs is None else dofs])

    def set_velocities(self, row: Array) -> None:
        """Give all joints a velocity."""
        self._engine.plant.speeds[p.NOW, self.dofs] = row
        self._engine.refresh()

    def efforts(self, dofs: p.Ints | None = None) -> Array:
        """Efforts (n,) of the motors in the last step."""
        return np.asarray(self._engine.plant.dofs["effort"][self.dofs if dofs is None else dofs])

    def command(self, joint: str, given: dict[str, Quantity]) -> None:
        """Command a motor: what is given holds until it is given again.

        Raises:
            VeldrainError: an unknown joint, no motor there, or a command that its mode does not take.
        """
        if joint not in self._robot.joints:
            raise unknown("movable joint", joint, self._robot.joints, self._robot.name)
        index, where = self._robot.joints[joint], f"{self._robot.name}/{joint}"
        dof = self._engine.plant.dofs[index]
        motor = int(dof["mode"])
        if motor == p.NO_MOTOR:  # a dead one takes commands, and does nothing
            motor = self._engine.holds.mode_of(index)
        if motor == p.NO_MOTOR:
            raise VeldrainError("a command to a joint without a motor", where=where, cure="add Model.motor")
        mode, linear = MODES[motor], joint in self._robot.linear
        taken = TAKEN[mode]
        if not given or not set(given) <= set(taken):
            raise VeldrainError(
                f"a command of {' and '.join(given) or 'nothing'} to a motor in {mode} mode",
                where=where,
                cure=f"give {mode}=" + (f", and beside it {'=, '.join(taken[1:])}=" if len(taken) > 1 else ""),
            )
        if mode not in given and not dof["told"]:
            raise VeldrainError(
                f"a command of {' and '.join(given)} to a motor in {mode} mode, which was told no {mode} yet",
                where=where,
                cure=f"give {mode}= with it",
            )
        for what, value in given.items():
            number = float(value) if isinstance(value, (int, float)) else quantity(value, _KINDS[what][linear], where)
            if not math.isfinite(number):
                said = "not a number" if math.isnan(number) else f"{number:g}"
                raise VeldrainError(f"the commanded {what} is {said}", where=where, cure="look at who commands it")
            if what == mode:
                self._look_at(what, number, dof, linear, where)
                dof["command"], dof["told"] = number, 1
            else:
                dof[_FIELDS[what]] = number

    def with_brakes(self) -> list[str]:
        """Joints whose motors have a brake."""
        return [name for name, k in self._robot.joints.items() if self._engine.plant.dofs[k]["brake"] > 0]

    def brake(self, joints: Iterable[str]) -> None:
        """Let brakes hold joints until their motors are commanded again.

        Raises:
            VeldrainError: no such joint, or one whose motor has no brake.
        """
        asked = list(joints)
        for joint in asked:
            if joint not in self._robot.joints:
                raise unknown("movable joint", joint, self._robot.joints, self._robot.name)
            if not self._engine.plant.dofs[self._robot.joints[joint]]["brake"]:
                where = f"{self._robot.name}/{joint}"
                raise VeldrainError("no brake there", where=where, cure="give its motor brake=")
        for joint in asked:
            dof = self._engine.plant.dofs[self._robot.joints[joint]]
            for field in ("told", "command", "held", "pace", "assist", "wound"):
                dof[field] = 0
        self._engine.hold_still()

    def command_all(self, joints: tuple[str, ...], given: dict[str, Array]) -> None:
        """Command several motors: rows of numbers, SI units, in the order of the joints.

        Raises:
            VeldrainError: as for one.
        """
        if joints not in self._groups:
            for joint in joints:
                if joint not in self._robot.joints:
                    raise unknown("movable joint", joint, self._robot.joints, self._robot.name)
            self._groups[joints] = np.array([self._robot.joints[joint] for joint in joints], np.int64)
        at, dofs = self._groups[joints], self._engine.plant.dofs
        number = int(dofs["mode"][at[0]])
        mode = MODES.get(number, "")
        if mode in given and given.keys() <= set(TAKEN[mode]):
            beside = (given.get(what, _NOTHING) if what != mode else _NOTHING for what in ("velocity", "effort"))
            if command_motors(dofs, at, number, given[mode], *beside):
                return
        for k, joint in enumerate(joints):  # each by itself says what is wrong with it
            self.command(joint, {what: float(row[k]) for what, row in given.items()})

    def _look_at(self, mode: str, number: float, dof: Any, linear: bool, where: str) -> None:
        """Tell of a command that cannot be followed."""
        if mode == "position" and not dof["locked"] and not dof["low"] - 1e-9 <= number <= dof["high"] + 1e-9:
            unit = "m" if linear else "rad"
            self._engine.notice(
                f"command {where}",
                f"{where}: commanded to {number:.4g} {unit}, beyond its limits of "
                f"{dof['low']:.4g} to {dof['high']:.4g} {unit}"
                + ("" if linear or abs(number) < 7 else "; are these degrees?"),
            )
        elif mode == "velocity" and abs(number) > dof["top_speed"] * (1 + 1e-9):
            unit = "m/s" if linear else "rad/s"
            self._engine.notice(
                f"command {where}",
                f"{where}: commanded to {number:.4g} {unit}; its motor holds its speed limit of "
                f"{dof['top_speed']:.4g} {unit}",
            )

    def commands(self) -> dict[str, dict[str, float]]:
        """The commands that hold now by joint of a motor: what drives it, and what is given beside it."""
        dofs, model, found = self._engine.plant.dofs, self._robot.model, {}
        for joint in model.motors if model else ():
            dof = dofs[self._robot.joints[joint]]
            mode = MODES[self._engine.holds.mode_of(self._robot.joints[joint])]
            beside = {what: float(dof[_FIELDS[what]]) for what in TAKEN[mode][1:] if dof[_FIELDS[what]] != 0.0}
            found[joint] = {mode: float(dof["command"]), **beside}
        return found
