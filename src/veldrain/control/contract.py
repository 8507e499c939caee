"""What a controller is, and what it is given: readings that have arrived, and motors to command."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, Protocol, runtime_checkable

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Model
from veldrain.sampling import Reading, Samples
from veldrain.units import Quantity, quantity


@runtime_checkable
class Controller(Protocol):
    """Any object with a period and an update. A trial works on a copy of it.

    It sees what its sensors measured and what has reached it by now; before the first reading of a sensor that is None.
    If it wants, it also has

    - ``inputs``, a dictionary of kinds of quantity by name: what it can be told while it runs, read as
      ``self.inputs.forward`` (0 until it is told);
    - ``start(body, random, log)``, called once before the first update: ``body`` knows the robot's model, ``random`` is
      a random stream of the controller's own, and ``log("gap", 0.3)`` makes a recorded stream ``<robot>/gap``.

    Several controllers may drive one robot, each with its own motors.

    Attributes:
        period: time between updates (s), a whole number of steps.
    """

    period: float

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Mapping[str, MotorHandle]) -> None:
        """Read the senses and command the motors; ``now`` is simulated time in s."""


class Body:
    """What a controller is told of its robot: its name and its model (links, joints, motors, mounts)."""

    def __init__(self, robot: str, model: Model) -> None:
        self.robot, self.model = robot, model

    def __deepcopy__(self, memo: object) -> Body:
        return self  # never changed


class Inputs:
    """What a controller can be told while it runs, in SI units: 0 until it is told."""

    def __init__(self, kinds: Mapping[str, str], where: str) -> None:
        vars(self).update(dict.fromkeys(kinds, 0.0), _kinds=dict(kinds), _where=where)

    def tell(self, **values: Quantity) -> None:
        """Set inputs.

        Raises:
            VeldrainError: no such input, or a value of another kind.
        """
        for name, value in values.items():
            if name not in self._kinds:
                raise unknown("input", name, self._kinds, self._where)
            vars(self)[name] = quantity(value, self._kinds[name], f"{self._where}: {name}")

    def __getattr__(self, name: str) -> Any:
        if name.startswith("_"):
            raise AttributeError(name)
        raise unknown("input", name, self._kinds, self._where)

    def __setattr__(self, name: str, value: Any) -> None:
        self.tell(**{name: value})


class Commanded(Protocol):
    """What takes commands for the joints of a robot."""

    name: str

    def command(self, joint: str, effort: Any = None, velocity: Any = None, position: Any = None) -> None:
        """Command one motor."""


class MotorHandle:
    """One motor: assign ``effort``, ``velocity`` or ``position``, by its mode (SI units).

    A command holds until the next one. Before the first, a motor gives no effort, or holds where it starts in mode
    ``position`` and stands still in mode ``velocity``.
    """

    __slots__ = ("_joint", "_owner", "_owners", "_robot")
    _joint: str
    _owner: str
    _owners: dict[str, str]
    _robot: Commanded

    def __init__(self, robot: Commanded, joint: str, owner: str, owners: dict[str, str]) -> None:
        for name, value in (("_robot", robot), ("_joint", joint), ("_owner", owner), ("_owners", owners)):
            object.__setattr__(self, name, value)

    def __setattr__(self, quantity: str, value: Any) -> None:
        where = f"{self._robot.name}/{self._joint}"
        if quantity not in ("effort", "velocity", "position"):
            raise unknown("command", quantity, ("effort", "velocity", "position"), where)
        if self._owners.setdefault(self._joint, self._owner) != self._owner:
            raise VeldrainError(
                f"is commanded by two controllers, '{self._owners[self._joint]}' and '{self._owner}'",
                where=where,
                cure="let one of them command it",
            )
        self._robot.command(self._joint, **{quantity: value})


class Motors(Mapping[str, MotorHandle]):
    """The motors of one robot by the names of their joints."""

    def __init__(
        self, robot: Commanded, joints: list[str], owner: str = "", owners: dict[str, str] | None = None
    ) -> None:
        self._robot, shared = robot, {} if owners is None else owners
        self._handles = {joint: MotorHandle(robot, joint, owner, shared) for joint in joints}

    def __deepcopy__(self, memo: dict[Any, Any]) -> Motors:
        return memo.get("motors", self)  # type: ignore[no-any-return]  # a controller that keeps them keeps its trial's

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

    def __deepcopy__(self, memo: dict[Any, Any]) -> Senses:
        return memo.get("senses", self)  # type: ignore[no-any-return]

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
