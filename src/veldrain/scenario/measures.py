"""What can be measured of a trial, to be compared: speeds, posture, readings, signals, time since an event."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.scenario.conditions import Condition, Measure, Watching
from veldrain.simulation import Simulation, engine_of
from veldrain.units import Quantity, quantities, quantity


@dataclass(frozen=True)
class Speed(Measure, word="speed"):
    """The speed of the origin of a link, frame or thing in the world, m/s.

    >>> speed("crawler/hull") > "0.5 m/s"
    Compared(measure=Speed(a='crawler/hull'), below=False, bound=0.5)
    """

    a: str
    quantity: ClassVar[str] = "speed"

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        a = engine.place_of(self.a)
        return lambda: math.hypot(*engine.moving(a)[3:])


@dataclass(frozen=True)
class Closing(Measure, word="closing"):
    """How fast the distance between two origins shrinks, m/s; negative where it grows.

    >>> (closing("car", "lorry") > 2).unit()
    'm/s'
    """

    a: str
    b: str
    quantity: ClassVar[str] = "speed"

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        a, b = engine.place_of(self.a), engine.place_of(self.b)

        def now() -> float:
            ax, ay, az, au, av, aw = engine.moving(a)
            x, y, z, vx, vy, vz = engine.moving(b)
            x, y, z, vx, vy, vz = x - ax, y - ay, z - az, vx - au, vy - av, vz - aw
            length = math.hypot(x, y, z)
            return -(x * vx + y * vy + z * vz) / length if length > 0 else 0.0

        return now


@dataclass(frozen=True)
class TimeToCollision(Measure, word="time_to_collision"):
    """The gap between two things over the speed at which their origins close in, s; inf below 1 mm/s.

    >>> time_to_collision("car", "lorry") < "1.5 s"
    Compared(measure=TimeToCollision(a='car', b='lorry'), below=True, bound=1.5)
    """

    a: str
    b: str
    quantity: ClassVar[str] = "time"

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        closing = Closing(self.a, self.b).bind(simulation)
        a, b = engine.geoms_of(self.a), engine.geoms_of(self.b)

        def now() -> float:
            speed = closing()
            return max(engine.clearance(a, b), 0.0) / speed if speed > 1e-3 else math.inf

        return now


@dataclass(frozen=True)
class Tilt(Measure, word="tilt"):
    """The angle between the z axis of a link or thing and the world's, rad.

    >>> (tilt("crawler/hull") > "30 deg").unit()
    'rad'
    """

    a: str
    quantity: ClassVar[str] = "angle"

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        a = engine.place_of(self.a)
        up = a.pose.matrix[:, 2]

        def now() -> float:
            x, y, z = engine.direction(a, up).tolist()
            return math.atan2(math.hypot(x, y), z)  # exact where it is small, too

        return now


@dataclass(frozen=True)
class Height(Measure, word="height"):
    """The z of the origin of a link, frame or thing in the world, m.

    >>> (height("probe") < "2 m").bound
    2.0
    """

    a: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        a = engine.place_of(self.a)
        return lambda: engine.moving(a)[2]


class Anything(Measure):
    """A measure whose kind of quantity is only known in the trial: a bound with a unit is of whatever kind it is."""

    quantity: ClassVar[str] = "ratio"
    kinds_taken: ClassVar[tuple[str, ...]] = ("angle", "length", "angular speed", "speed", "force", "torque", "ratio")

    def bounded(self, bound: Quantity) -> float:
        if not isinstance(bound, str):
            return quantity(bound, "ratio", "condition")
        for kind in self.kinds_taken:
            try:
                return quantity(bound, kind, "condition")
            except VeldrainError:
                continue
        raise VeldrainError(f"'{bound}' cannot be compared", where="condition", cure="give a number in SI units")


@dataclass(frozen=True)
class Joint(Anything, word="joint"):
    """The position of a joint, ``robot/joint``: rad, or m of a prismatic one.

    >>> joint("arm/elbow") > "30 deg"
    Compared(measure=Joint(path='arm/elbow'), below=False, bound=0.5235987755982988)
    """

    path: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        robot, k = _joint(simulation, self.path)
        return lambda: float(robot.positions[k])


@dataclass(frozen=True)
class JointSpeed(Anything, word="joint_speed"):
    """The velocity of a joint, ``robot/joint``: rad/s, or m/s of a prismatic one.

    >>> (joint_speed("arm/elbow") > "90 deg/s").bound > 1.57
    True
    """

    path: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        robot, k = _joint(simulation, self.path)
        return lambda: float(robot.velocities[k])


def _joint(simulation: Simulation, path: str) -> tuple[Any, int]:
    name, _, joint = path.partition("/")
    if name not in simulation.world.placed:
        raise unknown("robot", name, simulation.world.placed, "condition")
    robot = simulation[name]
    if joint not in robot.joints:
        raise unknown("joint", joint, robot.joints, f"condition: {name}")
    return robot, list(robot.joints).index(joint)


@dataclass(frozen=True)
class Reading(Anything, word="reading"):
    """A number of a sensor's newest reading, ``robot/sensor`` and its field, as ``range`` or ``angular_velocity[2]``.

    nan before the first: then no comparison holds.

    >>> (reading("crawler/imu", "angular_velocity[2]") > 1.0).below
    False
    """

    stream: str
    column: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        if self.stream not in simulation.streams:
            raise unknown("sensor", self.stream, simulation.streams, "condition")
        samples = simulation.streams[self.stream]
        name, _, place = self.column.partition("[")
        try:
            number = int(place.removesuffix("]")) if place else None
        except ValueError as error:
            raise VeldrainError(
                f"'{self.column}' is no field", where="condition", cure="write such as angular_velocity[2]"
            ) from error
        data = samples.measured()
        if data is not None and not hasattr(data, name):
            raise unknown("field", name, vars(data), f"condition: {self.stream}")

        def now() -> float:
            reading = samples.latest
            if reading is None or reading.data is None:
                return math.nan
            value = getattr(reading.data, name)
            return float(value if number is None else np.ravel(value)[number])

        if data is not None:
            try:
                value = getattr(data, name)
                float(value if number is None else np.ravel(value)[number])
            except (TypeError, ValueError, IndexError) as error:
                raise VeldrainError(
                    f"'{self.column}' is no number of {self.stream} ({error})",
                    where="condition",
                    cure=f"write {name}[0] for the first of a row",
                ) from error
        return now


@dataclass(frozen=True)
class Signal(Anything, word="signal"):
    """The number that a controller logged last, ``robot/name``; nan before the first.

    >>> (signal("crawler/gap") < 0.1).bound
    0.1
    """

    path: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        raise VeldrainError("is known in a trial alone", where=f"signal {self.path}", cure="use it in a scenario")

    def bind_in(self, look: Watching) -> Callable[[], float]:
        robot = self.path.partition("/")[0]
        if robot not in look.simulation.world.placed:
            raise unknown("robot", robot, look.simulation.world.placed, "condition")
        return lambda: look.signals.get(self.path, math.nan)


@dataclass(frozen=True)
class Elapsed(Measure, word="elapsed"):
    """The time since an event, s: an action's name or its words, such as a note's; nan before it.

    >>> elapsed("shove") > "500 ms"
    Compared(measure=Elapsed(event='shove'), below=False, bound=0.5)
    """

    event: str
    quantity: ClassVar[str] = "time"

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        raise VeldrainError("is known in a trial alone", where=f"elapsed {self.event}", cure="use it in a scenario")

    def bind_in(self, look: Watching) -> Callable[[], float]:
        look.expected.append(self.event)
        return lambda: look.simulation.time - look.events.get(self.event, math.nan)


@dataclass(frozen=True)
class Inside(Condition, word="inside"):
    """The origin of a link or thing is in a region: a box ``[[x, y, z], [x, y, z]]``, or an outline ``[[x, y], …]``.

    >>> inside("crawler/hull", [(0, -1), (4, -1), (4, 1), (0, 1)]).a
    'crawler/hull'
    """

    a: str
    region: Any

    def bind(self, look: Watching) -> Callable[[], bool]:
        engine = engine_of(look.simulation)
        a, corners = engine.place_of(self.a), _corners(self.region)
        if corners.shape[1] == 3:
            low, high = corners.min(axis=0).tolist(), corners.max(axis=0).tolist()
            return lambda: all(b <= v <= t for b, v, t in zip(low, engine.moving(a)[:3], high, strict=True))
        outline = corners.tolist()
        sides = list(zip(outline, [*outline[1:], outline[0]], strict=True))
        return lambda: _is_in(*engine.moving(a)[:2], sides)


def _corners(region: Any) -> np.ndarray:
    """A box as two corners, or an outline as three or more points on the ground; m."""
    rows = list(region) if isinstance(region, Sequence | np.ndarray) and not isinstance(region, str) else []
    size = len(rows[0]) if rows and isinstance(rows[0], Sequence | np.ndarray) else 0
    if not ((size == 3 and len(rows) == 2) or (size == 2 and len(rows) >= 3)):
        raise VeldrainError(
            f"{region!r} is no region",
            where="inside",
            cure="give two corners of a box, [x, y, z] each, or an outline of three points [x, y] or more",
        )
    return np.array([quantities(row, "length", "inside", size) for row in rows])


def _is_in(x: float, y: float, sides: Sequence[Any]) -> bool:
    """Whether a ray from a point crosses an outline's sides an odd number of times."""
    inside = False
    for (px, py), (qx, qy) in sides:
        if (py > y) != (qy > y) and x < px + (y - py) / (qy - py) * (qx - px):
            inside = not inside
    return inside


# What scenarios are written with: the words of files.
speed, closing, time_to_collision, tilt, height = Speed, Closing, TimeToCollision, Tilt, Height
joint, joint_speed, reading, signal, elapsed, inside = Joint, JointSpeed, Reading, Signal, Elapsed, Inside
