"""What a sensor is: a data sheet, an object that measures in one trial, and the messages that its readings become.

A new sensor is a class below ``Sensor`` that does the following.

1. It declares the fields of its data sheet (see ``veldrain.sheet``), ``period`` with its default among them.
2. ``message`` names the ROS 2 message of its stream.
3. ``start`` gives an object with a method ``measure(mount)``, called at each sample. All that changes from sample to
   sample (a drifting bias, a random stream) is a plain attribute of that object, so that it can be saved and restored;
   all that the mount gathers between samples is asked for in ``start`` by ``mount.feel_…``.
4. ``measure`` returns a reading, a small frozen dataclass, or None where there is none yet.
5. ``messages`` turns a reading into messages, the one of its own stream under ``""``.

Everything else that others ask of a sensor has a default here.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from types import SimpleNamespace
from typing import Any, ClassVar, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError, unknown
from veldrain.model.lights import Air, Surroundings
from veldrain.model.looks import Look
from veldrain.pose import Array, Pose
from veldrain.sheet import KEPT, Choice, Flag, Made, Maybe, Number, Sheet
from veldrain.units import Quantity

Fields = SimpleNamespace  # a message, or a part of one, by the names of its fields


class Struck(NamedTuple):
    """What rays meet: distances (n,) in m (inf: nothing), numbers of the shapes (n,) (−1: nothing), normals (n, 3)."""

    distances: Array
    sights: NDArray[np.int64]
    normals: Array


class Touches(NamedTuple):
    """What touched a link over a time: names (n) of what did, where, with which normal towards the link, and the mean
    force on it, (n, 3) each, world axes; and the mean torque (3,) of all of it about the world's origin."""

    others: Sequence[str]
    points: Array
    normals: Array
    forces: Array
    torque: Array


class Message(NamedTuple):
    """A ROS 2 message: its type, and its fields without the header.

    A part with a ``frame_id`` of its own is given a header with it; others have the sensor's frame.
    """

    type: str
    fields: Fields


class Mount(Protocol):
    """What a sensor is given to measure with: the world as it is at the moment of the sample."""

    name: str  # name path of the sensor, which is that of its stream
    robot: str
    link: str  # name path of the link that it is mounted on
    slices: int  # how often the sensor measures for one reading; the last time gives it

    @property
    def air(self) -> Air:
        """What is in the air now."""

    @property
    def surroundings(self) -> Surroundings:
        """Light and air as they are now."""

    def kept(self, key: object, make: Callable[[], Any]) -> Any:
        """What ``make`` made when it was first asked for: for what is costly and can be made anew at any time."""

    def now(self) -> float:
        """Simulated time, s."""

    def position(self) -> Array:
        """Position (3,) of the sensor in the world, m."""

    def axes(self) -> Array:
        """Axes of the sensor in the world: the columns of a rotation matrix (3, 3)."""

    def motion(self) -> tuple[Array, Array, Array]:
        """Linear velocity (m/s), angular velocity (rad/s) and linear acceleration over the last step (m/s²)
        of the sensor's origin, (3,) each, world axes."""

    def gravity(self) -> Array:
        """Gravity (3,), world axes, m/s²."""

    def wind(self) -> Array:
        """Velocity (3,) of the air now, with its gusts, world axes, m/s."""

    def strike(self, origins: Array, directions: Array, max_range: float, sees: str = "visual") -> Struck:
        """What rays (n, 3) of unit directions first meet, of the shapes that are ``visual`` or of ``collision``."""

    def sweep(
        self, directions: Array, lead: Array, max_range: float, shine: Array, sees: str = "visual"
    ) -> tuple[Array, Array]:
        """Distances (n,) of beams along directions (n, 3) in the mount, each from where the sensor is ``lead`` (n,) s
        from now, its velocity and spin being kept; and ``shine`` (by sight) times the cosine of incidence (n,)."""

    def looks(self, sees: str = "visual") -> Sequence[Look]:
        """What each shape looks like, by the numbers in ``Struck.sights``."""

    def velocities(self, sights: NDArray[np.int64], points: Array, sees: str = "visual") -> Array:
        """Velocities (n, 3) of points (n, 3) of the shapes that were met, world axes, m/s."""

    def scene(self) -> Any:
        """All that is seen, as ``physics.scene.Scene``, for those who paint it."""

    def pose_of(self, path: str) -> tuple[Array, Array]:
        """Position (3,) and axes (3, 3) of a link, frame or thing in the world; unknown names are an error."""

    def frame_names(self) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Names of all links, frames, sensors and things, and names of what each is on ("": the world)."""

    def frames(self) -> tuple[Array, Array]:
        """Positions (n, 3) and axes (n, 3, 3) of the frames in the world, in the order of their names."""

    def clearance(self, thing: str) -> float:
        """Least distance (m) between the touchable shapes of the sensor's robot and those of a thing."""

    def box_of(self, thing: str) -> tuple[Array, Array]:
        """The low and high corner (3,) of a robot, body or actor in its root's axes, as it is at the start."""

    def motion_of(self, thing: str) -> tuple[Array, Array, Array, Array]:
        """Position (3,), axes (3, 3), velocity and spin (3,) of a robot's, body's or actor's root, world axes."""

    def lane_offset(self) -> float:
        """How far left of the middle of its lane the sensor is, m; nan where it is on no lane."""

    def feel_motion(
        self,
        turn: Array,
        bandwidth: float = math.inf,
        accel_full_scale: float = math.inf,
        gyro_full_scale: float = math.inf,
    ) -> None:
        """Have specific force and rate gathered at every step, in the mount's axes times ``turn`` (3, 3).

        Each component is cut off at its full scale, then, with a bandwidth (Hz), taken through a first-order low pass.
        """

    def felt_motion(self) -> tuple[Array, Array]:
        """Specific force (3,), m/s², and rate (3,), rad/s: their means since the last call."""

    def feel_touches(self) -> None:
        """Have what touches the sensor's link gathered at every step."""

    def felt_touches(self) -> Touches:
        """What has touched the sensor's link since the last call."""

    def feel_load(self) -> None:
        """Have the load in the joint that holds the sensor's link gathered at every step."""

    def felt_load(self) -> tuple[Array, Array]:
        """Force (3,) and torque (3,) about the mount's origin through that joint, of the parent on the child, in the
        mount's axes: their means since the last call."""

    def feel_efforts(self, names: Sequence[str]) -> None:
        """Have the efforts of motors gathered at every step."""

    def felt_efforts(self) -> Array:
        """Mean efforts of these motors since the last call, in N·m or N."""

    def joint_names(self, names: Sequence[str]) -> tuple[str, ...]:
        """Names of movable joints of the robot: those given, which must be known, or all of them for none."""

    def slide(self, names: Sequence[str]) -> NDArray[np.bool_]:
        """True (n,) for the joints that slide (m) rather than turn (rad)."""

    def joints(self, names: Sequence[str]) -> tuple[Array, Array, Array]:
        """Positions, velocities and motor efforts of these joints now."""


class Measuring(Protocol):
    """A sensor at work in one trial; its state is plain attributes."""

    def measure(self, mount: Mount) -> Any:
        """A reading of this moment, or None where there is none yet."""


def looking() -> Choice:
    """The word of a sheet that says where a sensor is meant to look, for the check."""
    ways = ("anywhere", "level", "down", "up")
    return Choice(*ways, default="anywhere", doc="where its x axis is meant to point, which the check sees to")


class Sight(NamedTuple):
    """What a sensor looks along: unit vectors (n, 3) in its mount, how far (m), from where on (m), at which shapes."""

    directions: Array
    max_range: float
    near: float = 0.0
    sees: str = "visual"
    is_picture: bool = False


class Sensor(Sheet):
    """What all sensors share: when they measure, and what others may ask of them."""

    period: Number = Number("period", default=0.1, above=0.0, doc="time between samples, or their rate")
    latency: Number = Number("time", default=0.0, least=0.0, doc="from a sample to its arrival at a controller")
    period_jitter: Number = Number(
        "time", default=0.0, least=0.0, doc="each sample is taken up to so much before or after its time"
    )
    latency_jitter: Number = Number(
        "time", default=0.0, least=0.0, doc="each sample arrives up to so much later than the latency says"
    )
    first: Maybe[Quantity, float] = Maybe(
        Number("time", least=0.0),
        default=None,
        doc="time of the first sample; None: 0, or after one period where it measures over a time",
    )
    exact: Flag = Flag(default=False, exact=True, doc="True measures without any error of its own; its timing stays")

    truth: ClassVar[bool] = False  # what no real sensor could know; controllers see it only where a scenario grants it
    looks_back: ClassVar[bool] = False  # it measures over the last period, so that it has nothing to say at 0 s
    stacks: ClassVar[bool] = False  # ``messages`` can be given many readings in one, see there
    has_gaps: ClassVar[bool] = False  # it looks along lines alone: what is between two of them is not seen
    optical: ClassVar[Pose | None] = None  # of a frame on the mount with z forward, x right, y down

    @property
    def message(self) -> str:
        """Type of the message of its own stream, such as ``sensor_msgs/msg/Imu``."""
        raise NotImplementedError(f"{type(self).__name__}.message")

    def start(self, mount: Mount, random: np.random.Generator) -> Measuring:
        """The object that measures in one trial; ``random`` is the sensor's own stream."""
        raise NotImplementedError(f"{type(self).__name__}.start")

    def messages(self, reading: Any) -> dict[str, Message]:
        """Messages of a reading: its own stream's under "", others' under what comes after ``<stream>/``.

        A class that says ``stacks = True`` has messages of one layout (the same lengths, the same texts), and can be
        given a reading whose numbers and arrays have an axis more at their end, one place a sample, so that a recording
        encodes a second of them at once. Who does not say it is asked for each sample.
        """
        raise NotImplementedError(f"{type(self).__name__}.messages")

    @property
    def first_sample(self) -> float:
        """Time of the first sample, s."""
        return self.first if self.first is not None else self.period if self.looks_back else 0.0

    @property
    def timing(self) -> tuple[float, ...]:
        """All that says when it measures and when that arrives: it stays as it is through a trial."""
        jitter = self.period_jitter, self.latency_jitter
        return self.period, self.latency, self.first_sample, self.slices, *jitter

    @property
    def slices(self) -> int:
        """How often it is asked within a period at most, for readings that take time: the last time gives it."""
        return 1

    def frame(self, stream: str) -> str:
        """The frame that its messages are in."""
        return f"{stream}/optical" if self.optical else stream

    def encodes(self, joints: Sequence[str]) -> tuple[str, ...]:
        """Which joints of a robot its readings have in ``position``, in their order; () for most sensors."""
        return ()

    def age(self, reading: Any) -> float:
        """Time from the first beam or row of a reading to its stamp, s."""
        return 0.0

    @property
    def companions(self) -> tuple[str, ...]:
        """Names of the streams that it has beside its own, after ``<stream>/``."""
        return ()

    def unit(self, companion: str = "") -> str:
        """The unit of the one number that its stream, or one beside it, consists of; "" where its message says it."""
        return ""

    def sight(self) -> Sight | None:
        """What it looks along; None: it feels rather than looks."""
        return None

    def picture(self) -> tuple[float, int, int] | None:
        """Focal length in pixels, columns and rows of what one can look through; None: it takes no pictures."""
        return None

    def looks_along(self) -> Array:
        """Unit vectors (n, 3) in its mount all over its field of view, close enough to tell what it covers."""
        sight = self.sight()
        return np.zeros((0, 3)) if sight is None else sight.directions

    def outline(self) -> list[Array]:
        """Lines of directions (n, 3) around its field of view, for pictures."""
        return []

    def switch(self) -> tuple[str, float] | None:
        """The joint that it watches and the position (m or rad) at which it switches; None: it is no switch."""
        return None

    def closes_above(self) -> bool:
        """Of a switch: True where it is closed from its position on upward, False where downward."""
        return True

    def aim(self) -> str:
        """Where it is meant to look: ``anywhere``, ``level``, ``down`` or ``up``; see ``looking``."""
        return "anywhere"

    @classmethod
    def knows_errors(cls) -> bool:
        """True where the class says what its errors are, or is one of ours, which have none where they say so."""
        own = [field for name, field in cls.fields().items() if name not in Sensor.fields()]
        return cls.__module__.startswith("veldrain.") or any(field.exact is not KEPT for field in own)


FAILURES = ("stuck", "dropped", "delayed", "biased", "dead")


def _offsets(value: Any, where: str) -> dict[str, float]:
    if not isinstance(value, Mapping) or not all(isinstance(v, int | float) for v in value.values()):
        raise VeldrainError(f"{value!r} is no offset", where=where, cure="give numbers by the names of fields")
    return dict(value)


class Failure(Sheet):
    """Something that goes wrong with a sensor for a while; said where the sensor is mounted.

    ``stuck``: the last good reading again and again; ``dropped``: readings are lost; ``delayed``: they arrive later;
    ``biased``: they are off; ``dead``: none any more, whatever ``end`` says.

    Raises:
        VeldrainError: no such type, an end before the start, an offset or delay that is missing or of no use.

    >>> Failure("dropped", start="2 s", end="5 s", fraction=0.3).fraction
    0.3
    """

    type: Choice = Choice(*FAILURES, kw_only=False, doc="what goes wrong")
    start: Number = Number("time", default=0.0, least=0.0, doc="of the failure")
    end: Number = Number("time", default=math.inf, least=0.0, doc="of it")
    fraction: Number = Number("ratio", default=1.0, least=0.0, most=1.0, doc="of the readings that are ``dropped``")
    delay: Maybe[Quantity, float] = Maybe(Number("time", least=0.0), default=None, doc="of what is ``delayed``")
    offset: Made[Mapping[str, float], dict[str, float]] = Made(
        _offsets,
        default={},
        doc='what is added where it is ``biased``, SI, by the name of a field of the reading, such as {"ranges": 0.05}',
    )

    def check(self) -> None:
        if self.type == "dead":
            self.fill(end=math.inf)
        if self.start >= self.end:
            raise VeldrainError(
                f"from {self.start:g} s to {self.end:g} s", where="Failure", cure="start before its end"
            )
        for type_, word, value in (("delayed", "delay", self.delay is not None), ("biased", "offset", self.offset)):
            if bool(value) != (self.type == type_):
                what = f"a '{type_}' failure needs {word}=" if not value else f"a '{self.type}' failure has no {word}"
                raise VeldrainError(what, where="Failure", cure=f"{'give' if not value else 'leave out'} {word}=")

    def biased(self, reading: Any) -> Any:
        """A reading with the offset added.

        Raises:
            VeldrainError: it has no such field.
        """
        for name in self.offset:
            if name not in vars(reading):
                raise unknown("field of the reading", name, vars(reading))
        return replace(reading, **{name: vars(reading)[name] + value for name, value in self.offset.items()})


def checked_sensor(sensor: object, where: str) -> Sensor:
    """The sensor, if it is one."""
    if not isinstance(sensor, Sensor):
        raise VeldrainError(
            f"{sensor!r} is not a sensor", where=where, cure="mount one such as vd.Imu(), or a class below vd.Sensor"
        )
    return sensor
