"""What a controller is, and what it is given: readings that have arrived, and motors to command."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, Protocol, runtime_checkable

from veldrain.errors import VeldrainError, unknown
from veldrain.sampling import Reading, Samples
from veldrain.simulation import RobotInMotion


@runtime_checkable
class Controller(Protocol):
    """Any object with a period and an update.

    Attributes:
        period: time between updates (s), a whole number of steps.
    """

    period: float

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Mapping[str, MotorHandle]) -> None:
        """Read the senses and command the motors; ``now`` is simulated time in s."""


class MotorHandle:
    """One motor: assign ``effort``, ``velocity`` or ``position``, by its mode (SI units)."""

    __slots__ = ("_joint", "_robot")
    _joint: str
    _robot: RobotInMotion

    def __init__(self, robot: RobotInMotion, joint: str) -> None:
        object.__setattr__(self, "_robot", robot)
        object.__setattr__(self, "_joint", joint)

    def __setattr__(self, quantity: str, value: Any) -> None:
        if quantity not in ("effort", "velocity", "position"):
            raise unknown("command", quantity, ("effort", "velocity", "position"), f"{self._robot.name}/{self._joint}")
        self._robot.command(self._joint, **{quantity: value})


class Motors(Mapping[str, MotorHandle]):
    """The motors of one robot by the names of their joints."""

    def __init__(self, robot: RobotInMotion, joints: list[str]) -> None:
        self._robot = robot
        self._handles = {joint: MotorHandle(robot, joint) for joint in joints}

    def __getitem__(self, joint: str) -> MotorHandle:
        if joint not in self._handles:
            raise unknown("motor", joint, self._handles, self._robot.name)
        return self._handles[joint]

    def __iter__(self) -> Iterator[str]:
        return iter(self._handles)

    def __len__(self) -> int:
        return len(self._handles)


class Senses(Mapping[str, "Reading | None"]):
    """The newest readings that have reached a controller, by sensor name; truth only where it is granted."""

    def __init__(self, robot: str, samples: Mapping[str, Samples], granted: bool) -> None:
        self._robot, self._granted = robot, granted
        self._samples = {
            stream.removeprefix(f"{robot}/"): s for stream, s in samples.items() if stream.startswith(f"{robot}/")
        }
        self._step = 0

    def at(self, step: int) -> Senses:
        """The senses as they are at a step."""
        self._step = step
        return self

    def __getitem__(self, sensor: str) -> Reading | None:
        if sensor not in self._samples:
            raise unknown("sensor", sensor, self, self._robot)
        samples = self._samples[sensor]
        if samples.sensor.truth and not self._granted:
            raise VeldrainError(
                "tells the truth, which no controller may read",
                where=f"{self._robot}/{sensor}",
                cure=f"use a real sensor, or grant it in the scenario: truth={{'{self._robot}'}}",
            )
        return samples.arrived(self._step)

    def __iter__(self) -> Iterator[str]:
        return (name for name, s in self._samples.items() if self._granted or not s.sensor.truth)

    def __len__(self) -> int:
        return sum(1 for _ in self)
