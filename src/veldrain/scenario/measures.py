"""What can be measured of a trial, to be compared: speeds, posture, readings, signals, time since an event."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.scenario.conditions import Condition, Measure, Watching
from veldrain.sensing.traffic import SLOWEST, on_the_way, time_over, time_to
from veldrain.simulation import Simulation, engine_of
from veldrain.units import Quantity, quantities, quantity

AHEAD = 0.9  # of its speed is along its own x of what moves ahead


@dataclass(frozen=True)
class Speed(Measure, word="speed"):
    """The speed of the origin of a link, frame or thing in the world, m/s.

    >>> speed("crawler/hull") > "0.5 m/s"
    Compared(measure=Speed(a='crawler/hull'), below=False, bound=0.5)
    """

    a: str
    quantity: ClassVar[str] = "speed"
    span: ClassVar[tuple[float, float]] = (0.0, math.inf)

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        a = engine.place_of(self.a)
        return lambda: math.hypot(*engine.moving(a)[3:])


@dataclass(frozen=True)
class SpeedDifference(Measure, word="speed_difference"):
    """How much faster the origin of one thing is than that of another, m/s; negative where it is slower.

    >>> (speed_difference("car", "lorry") > 2).unit()
    'm/s'
    """

    a: str
    b: str
    quantity: ClassVar[str] = "speed"

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        one, other = Speed(self.a).bind(simulation), Speed(self.b).bind(simulation)
        return lambda: one() - other()


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
    """The time to a collision, s; inf where there is none to come.

    For what moves ahead along its own x, as vehicles do, this is that of ``TrueTraffic``: the gap to the other over the
    speed at which it shrinks, if that is on the own way, which keeps its curvature and is as wide as both. For others
    it is their clearance over the speed at which their origins close in. ``beside``: who is beside that way counts as
    if it were on it; ``origins``: between the origins, not the boxes.

    >>> time_to_collision("car", "lorry") < "1.5 s"
    Compared(measure=TimeToCollision(a='car', b='lorry', beside=False, origins=False), below=True, bound=1.5)
    """

    a: str
    b: str
    beside: bool = False
    origins: bool = False
    quantity: ClassVar[str] = "time"
    span: ClassVar[tuple[float, float]] = (0.0, math.inf)

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        general = _gap_over(Closing(self.a, self.b).bind(simulation), self.a, self.b, simulation)
        return _on_its_way(self, simulation, lambda gap, speed, closing: time_to(gap, closing), general)


@dataclass(frozen=True)
class TimeGap(Measure, word="time_gap"):
    """The gap from one thing to another over the speed of the first, s; inf below 1 mm/s.

    For what moves ahead along its own x the other counts where it is on the own way, as for ``time_to_collision``, with
    the same ``beside`` and ``origins``.

    >>> time_gap("car", "lorry") < "1 s"
    Compared(measure=TimeGap(a='car', b='lorry', beside=False, origins=False), below=True, bound=1.0)
    """

    a: str
    b: str
    beside: bool = False
    origins: bool = False
    quantity: ClassVar[str] = "time"
    span: ClassVar[tuple[float, float]] = (0.0, math.inf)

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        general = _gap_over(Speed(self.a).bind(simulation), self.a, self.b, simulation)
        return _on_its_way(self, simulation, lambda gap, speed, closing: time_over(gap, speed), general)


def _on_its_way(
    measure: TimeGap | TimeToCollision,
    simulation: Simulation,
    says: Callable[[float, float, float], float],
    general: Callable[[], float],
) -> Callable[[], float]:
    """What is said of gap, speed and closing speed, while the first moves along its own x; else what holds in general.

    Parts of things have no way: for them it is always the general.
    """
    engine, both, point = engine_of(simulation), (measure.a, measure.b), (np.zeros(3), np.zeros(3))
    if not all(name in engine.compiled.robots for name in both):
        return general
    boxes = [point if measure.origins else engine.actors.ways.bounds(name) for name in both]
    places, beside = [engine.place_of(name) for name in both], math.inf if measure.beside else 0.0

    def now() -> float:
        motions = [(engine.position(p), engine.axes(p), *engine.velocity_at(p)) for p in places]
        _, axes, v, _ = motions[0]
        speed = float(axes[:, 0] @ v)
        if speed < max(SLOWEST, AHEAD * float(np.linalg.norm(v))):
            return general()
        found = on_the_way(boxes[0], motions[0], boxes[1], motions[1], beside)
        return math.inf if found is None else says(found[0], speed, found[1])

    return now


def _gap_over(speed: Callable[[], float], a: str, b: str, simulation: Simulation) -> Callable[[], float]:
    """The gap between two things over a speed; inf below 1 mm/s."""
    engine = engine_of(simulation)
    one, other = engine.geoms_of(a), engine.geoms_of(b)

    def now() -> float:
        v = speed()
        return max(engine.clearance(one, other), 0.0) / v if v > 1e-3 else math.inf

    return now


@dataclass(frozen=True)
class Tilt(Measure, word="tilt"):
    """The angle between the z axis of a link or thing and the world's, rad.

    >>> (tilt("crawler/hull") > "30 deg").unit()
    'rad'
    """

    a: str
    quantity: ClassVar[str] = "angle"
    span: ClassVar[tuple[float, float]] = (0.0, math.pi)

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
        return lambda: engine.spot(a)[2]


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
    """A number of a sensor's newest reading: ``robot/sensor``, and its column as in a recording's table.

    Such as ``range``, ``angular_velocity.z``, of encoders ``position.left``, and of a row of beams ``ranges[0]``.
    nan before the first reading: then no comparison holds.

    >>> (reading("crawler/imu", "angular_velocity.z") > 1.0).below
    False
    """

    stream: str
    column: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        if self.stream not in simulation.streams:
            raise unknown("sensor", self.stream, simulation.streams, "condition")
        samples = simulation.streams[self.stream]
        data = samples.measured()
        found = [] if data is None else [_place_of(data, self.column, self.stream)]  # found once: it takes 20 µs

        def now() -> float:
            reading = samples.latest
            if reading is None or reading.data is None:
                return math.nan
            if not found:
                found.append(_place_of(reading.data, self.column, self.stream))
            field, place = found[0]
            value = getattr(reading.data, field)
            if place is None:
                return float(value)
            row = np.asarray(value)
            return float(row.item(place)) if place < row.size else math.nan

        return now


def _place_of(data: Any, column: str, stream: str) -> tuple[str, int | None]:
    """The field of a reading that a column is in, and its place there where that is a row."""
    field, _, rest = column.partition("[")
    if rest.endswith("]") and rest[:-1].isdecimal():
        row = np.asarray(vars(data).get(field, 0.0))
        if row.ndim and (int(rest[:-1]) < row.size or not row.size):  # a radar may see nothing now
            return field, int(rest[:-1])
    columns = _columns(data)
    if column not in columns:
        raise unknown("column", column, columns, f"condition: {stream}")
    return columns[column]


def _columns(data: Any) -> dict[str, tuple[str, int | None]]:
    """The columns of a reading, as a table of its stream has them; of a longer row the first number."""
    found: dict[str, tuple[str, int | None]] = {}
    joints = vars(data).get("name", ())
    for field, value in vars(data).items():
        shape = np.shape(value)
        if np.asarray(value).dtype.kind not in "bif":
            continue
        if shape == ():
            found[field] = field, None
        elif shape == (len(joints),):
            found |= {f"{field}.{joint}": (field, k) for k, joint in enumerate(joints)}
        elif shape in ((3,), (4,)):
            found |= {f"{field}.{axis}": (field, k) for k, axis in enumerate("xyzw"[: shape[0]])}
        else:
            found[f"{field}[0]"] = field, 0
    return found


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
    span: ClassVar[tuple[float, float]] = (0.0, math.inf)

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
            return lambda: all(b <= v <= t for b, v, t in zip(low, engine.spot(a), high, strict=True))
        outline = corners.tolist()
        sides = list(zip(outline, [*outline[1:], outline[0]], strict=True))
        return lambda: _is_in(*engine.spot(a)[:2], sides)


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
speed, closing, tilt, height = Speed, Closing, Tilt, Height
speed_difference = SpeedDifference
time_to_collision, time_gap = TimeToCollision, TimeGap
joint, joint_speed, reading, signal, elapsed, inside = Joint, JointSpeed, Reading, Signal, Elapsed, Inside
