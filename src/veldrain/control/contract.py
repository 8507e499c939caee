"""What a controller is, and what it is given: readings that have arrived, and motors to command."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, Protocol, runtime_checkable

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Model
from veldrain.model.pieces import Motor
from veldrain.motion.chains import Chain, fixed_or_chain
from veldrain.pose import Pose
from veldrain.sampling import Reading, Samples
from veldrain.units import Quantity, quantity


@runtime_checkable
class Controller(Protocol):
    """Any object with a period and an update. A trial works on a copy of it.

    It sees what its sensors measured and what has reached it by now; before the first reading of a sensor that is None.
    If it wants, it also has

    - ``inputs``, a dictionary of kinds of quantity by name: what it can be told while it runs, read as
      ``self.inputs.forward`` (0 until it is told); ``self.inputs.told`` is when that was last (s; None: not yet);
    - ``start(body, random, log)``, called once before the first update: ``body`` knows the robot's model and tells its
      other controllers, ``random`` is a random stream of the controller's own, and ``log("gap", 0.3)`` makes a recorded
      stream ``<robot>/gap`` (a ``Message`` instead of a number is recorded as it is);
    - ``close()``, called once after the trial: for what has to be given back;
    - ``joints``, the names of the joints that it commands: two controllers of one motor are then told at the start.

    Several controllers may drive one robot, each with its own motors.

    Attributes:
        period: time between updates (s), a whole number of steps.
    """

    period: float

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Mapping[str, MotorHandle]) -> None:
        """Read the senses and command the motors; ``now`` is simulated time in s."""


class Body:
    """What a controller is told of its robot: its model (links, joints, motors, mounts), and its other controllers.

    Attributes:
        robot: name of the robot.
        model: its model.
        gravity: of the world (3,), m/s².
    """

    def __init__(
        self,
        robot: str,
        model: Model,
        tell: Callable[..., None] | None = None,
        others: Callable[[], dict[str, dict[str, str]]] | None = None,
        route_on: Callable[..., Any] | None = None,
        gravity: Sequence[float] = (0.0, 0.0, -9.81),
        notice: Callable[[str], None] | None = None,
    ) -> None:
        self._notice = notice
        self.gravity = (float(gravity[0]), float(gravity[1]), float(gravity[2]))
        self.robot, self._given, self._tell, self._others, self._route_on = robot, model, tell, others, route_on

    def notice(self, text: str) -> None:
        """Tell what a reader of the results has to know, such as a fall: among events, and once in the outcome."""
        if self._notice:
            self._notice(text)

    def see_sensor(self, name: str, kinds: tuple[type, ...], where: str) -> None:
        """See that the robot has a sensor of a kind; one of a class of one's own may do as well.

        Raises:
            VeldrainError: there is none of that name, or it is of another kind of ours.
        """
        if name not in self.model.sensors:
            raise unknown("sensor", name, self.model.sensors, where)
        kind = type(self.model.sensors[name].sensor)
        if not issubclass(kind, kinds) and kind.__module__.startswith("veldrain."):
            wanted = " or ".join(k.__name__ for k in kinds)
            raise VeldrainError(f"'{name}' is of kind {kind.__name__}", where=where, cure=f"name one of kind {wanted}")

    @cached_property
    def model(self) -> Model:
        """A copy: what a controller does to it, it does to no world."""
        return self._given.copy(self._given.name)

    def route_on(self, **words: Any) -> Any:
        """A route along a lane of the world's roads, as a map would give it: road, lane, section, via, ….

        Raises:
            VeldrainError: there are no roads, or none of that name.
        """
        if self._route_on is None:
            raise VeldrainError("there are no roads here", where=self.robot, cure="give points")
        return self._route_on(**words)

    def inputs(self) -> dict[str, dict[str, str]]:
        """What the other controllers of the robot can be told: kinds of quantity by input, by controller."""
        return self._others() if self._others else {}

    def tell(self, controller: str, **inputs: Quantity) -> None:
        """Tell another controller of the same robot.

        Raises:
            VeldrainError: no such controller or input, or a value of another kind.
        """
        if self._tell is None:
            raise VeldrainError(
                f"there is no controller '{controller}' here",
                where=self.robot,
                cure="name it in the scenario's controllers",
            )
        self._tell(controller, **inputs)

    def motor(self, joint: str, mode: str, who: str) -> Motor:
        """The motor of a joint, if it is in the mode that a controller needs.

        Raises:
            VeldrainError: no such joint, no motor, or one in another mode.
        """
        where = f"{self.robot}/{joint}"
        if joint not in self.model.coordinates():
            raise unknown("joint", joint, self.model.coordinates(), f"{self.robot}: {who}")
        motor = self.model.motors.get(joint)
        if motor is None or motor.mode != mode:
            has = f"its motor is in mode {motor.mode}" if motor else "it has no motor"
            raise VeldrainError(
                f"{who} needs a {mode} motor on it, and {has}", where=where, cure=f"give it one of mode '{mode}'"
            )
        return motor

    def __deepcopy__(self, memo: dict[Any, Any]) -> Body:
        return memo.get("body", self)  # type: ignore[no-any-return]  # a copy tells those of its own trial


class InputValues:
    """What a controller can be told while it runs, in SI units: 0 until it is told.

    Attributes:
        told: when that was last, s; None: not yet.
    """

    told: float | None

    def __init__(self, kinds: Mapping[str, str], where: str) -> None:
        vars(self).update(dict.fromkeys(kinds, 0.0), _kinds=dict(kinds), _where=where, told=None)

    def tell(self, now: float | None = None, /, **values: Quantity) -> None:
        """Set inputs, at a time in s.

        Raises:
            VeldrainError: no such input, or a value of another kind.
        """
        for name, value in values.items():
            if name not in self._kinds:
                raise unknown("input", name, self._kinds, self._where)
            number = quantity(value, self._kinds[name], f"{self._where}: {name}")
            if not math.isfinite(number):
                raise VeldrainError(f"is told {number}", where=f"{self._where}: {name}", cure="tell a finite value")
            vars(self)[name] = number
        if now is not None:
            vars(self)["told"] = now

    @property
    def values(self) -> dict[str, float]:
        """All inputs as they are."""
        return {name: vars(self)[name] for name in self._kinds}

    @property
    def kinds(self) -> dict[str, str]:
        """Kinds of quantity by input."""
        return dict(self._kinds)

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

    def command_all(self, joints: Sequence[str], **rows: Any) -> None:
        """Command several motors: rows of numbers, in the order of the joints."""

    def attach(self, thing: str, to: str | None = None, **words: Any) -> None:
        """Attach a thing to a link."""

    def release(self, thing: str) -> None:
        """Let go of a thing."""

    def holds(self, thing: str) -> bool:
        """True while a thing is attached."""


def claim(owners: dict[str, str], joint: str, owner: str, robot: str) -> None:
    """Note who commands a motor.

    Raises:
        VeldrainError: another controller does already.
    """
    if owners.setdefault(joint, owner) != owner:
        raise VeldrainError(
            f"is commanded by two controllers, '{owners[joint]}' and '{owner}'",
            where=f"{robot}/{joint}",
            cure="let one of them command it",
        )


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
        if quantity not in ("effort", "velocity", "position"):
            raise unknown("command", quantity, ("effort", "velocity", "position"), f"{self._robot.name}/{self._joint}")
        self.command(**{quantity: value})

    def command(self, effort: Any = None, velocity: Any = None, position: Any = None) -> None:
        """Command several quantities at once: ``command(position=…, velocity=…)``."""
        claim(self._owners, self._joint, self._owner, self._robot.name)
        self._robot.command(self._joint, effort, velocity, position)


class Motors(Mapping[str, MotorHandle]):
    """The motors of one robot by the names of their joints."""

    def __init__(
        self, robot: Commanded, joints: list[str], owner: str = "", owners: dict[str, str] | None = None
    ) -> None:
        self._robot, shared = robot, {} if owners is None else owners
        self._handles = {joint: MotorHandle(robot, joint, owner, shared) for joint in joints}
        self._groups: set[tuple[str, ...]] = set()  # that were commanded before, so that nobody else commands them

    def command(self, joints: Sequence[str], **rows: Any) -> None:
        """Command several motors at once: rows of ``effort``, ``velocity`` and ``position``, SI, a number a joint."""
        group = tuple(joints)
        if group not in self._groups:
            for joint in group:
                handle = self[joint]
                claim(handle._owners, joint, handle._owner, self._robot.name)
            self._groups.add(group)
        self._robot.command_all(group, **rows)

    def attach(self, thing: str, to: str | None = None, **words: Any) -> None:
        """Take hold of a thing of the world, as a magnet, a suction cup or a hook does.

        Args:
            thing: its name path.
            to: the link or frame of the robot; None: its root.
            words: pose, most_force, most_torque, see ``Simulation.attach``.

        >>> motors.attach("crate", to="tool", most_force="80 N")  # doctest: +SKIP
        """
        self._robot.attach(thing, to, **words)

    def release(self, thing: str) -> None:
        """Let go of a thing; nothing happens where the robot does not hold it."""
        self._robot.release(thing)

    def holds(self, thing: str) -> bool:
        """True while the robot holds a thing: it may have broken off."""
        return self._robot.holds(thing)

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

    def __init__(self, robot: str, samples: Mapping[str, Samples], granted: bool, model: Model | None = None) -> None:
        self._robot, self._granted, self._model = robot, granted, model or Model(robot)
        self._chains: dict[tuple[str, str], tuple[Chain | Pose, list[tuple[str, int]]]] = {}
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

    def between(self, a: str, b: str) -> Pose:
        """Pose of a link, frame, sensor or optical frame (``camera/optical``) in another, both of this robot.

        It comes from the model at the joint positions that encoders measured last: never from the truth.

        Raises:
            VeldrainError: no such frame, a joint between the two without an encoder, or no reading of it yet.

        >>> senses.between("tool", "camera/optical")  # doctest: +SKIP
        """
        if (a, b) not in self._chains:
            found = fixed_or_chain(self._model, a, b)
            joints = found.joints if isinstance(found, Chain) else ()
            self._chains[a, b] = found, [self._encoder_of(joint, a, b) for joint in joints]
        chain, encoders = self._chains[a, b]
        if isinstance(chain, Pose):
            return chain
        q = []
        for sensor, at in encoders:
            reading = self._samples[sensor].arrived(self._step)
            if reading is None:
                raise VeldrainError(
                    f"'{sensor}' has not measured yet",
                    where=f"{self._robot}: between",
                    cure="wait for its first reading",
                )
            q.append(reading.data.position[at])
        return chain.forward(q)  # type: ignore[no-any-return]

    def _encoder_of(self, joint: str, a: str, b: str) -> tuple[str, int]:
        """The encoders that measure a joint, and its place in their reading."""
        for name, samples in self._samples.items():
            names = samples.measured_joints()
            if joint in names:
                return name, names.index(joint)
        raise VeldrainError(
            f"no encoder measures joint '{joint}' between '{a}' and '{b}'",
            where=f"{self._robot}: between",
            cure=f"mount Encoders(['{joint}'])",
        )

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
