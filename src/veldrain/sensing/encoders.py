"""What is measured at joints: encoders, the distance that wheels have rolled, the current of motors."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from veldrain.model.sensor import Fields, Message, Mount, Sensor
from veldrain.motion.drives import Odometry, omni, side_by_side
from veldrain.pose import Array
from veldrain.sensing.noise import stepped
from veldrain.sensing.parts import about_z
from veldrain.sheet import Maybe, Names, Number, Whole
from veldrain.units import Quantity

SCRUBS = 0.03  # share of its way: of wheels in a row, which go sideways in a bend


def _counts(mount: Mount, names: Sequence[str], counts_per_revolution: int | None) -> Array:
    """What one count of each joint is (n,): rad of those that turn, m of those that slide; 0: no rounding."""
    if counts_per_revolution is None:
        return np.zeros(len(names))
    return np.where(mount.slide(names), 1.0, 2 * math.pi) / counts_per_revolution


@dataclass(frozen=True)
class JointReading:
    """Joints by name (n): positions (rad or m), velocities and motor efforts (N·m or N), each (n,)."""

    name: tuple[str, ...]
    position: Array
    velocity: Array
    effort: Array


class Encoders(Sensor):
    """Encoders at joints, and the motors' own measure of their effort.

    With ``counts_per_revolution`` the position is a whole number of counts, and the velocity is the change of the
    counted position over a period, as drives form it.

    >>> Encoders(["left", "right"], counts_per_revolution=2048).message
    'sensor_msgs/msg/JointState'
    """

    message = "sensor_msgs/msg/JointState"
    stacks = True

    joints: Names = Names(default=(), kw_only=False, doc="names of the joints; none: all movable joints of the robot")
    counts_per_revolution: Maybe[int, int] = Maybe(
        Whole(least=1),
        default=None,
        exact=None,
        doc="counts in a turn, or in a metre where it slides; None: no rounding",
    )
    period: Number = Number("period", default=0.01, above=0.0, doc="time between samples, or their rate")

    def start(self, mount: Mount, random: np.random.Generator) -> EncodersAtWork:
        names = mount.joint_names(self.joints)
        return EncodersAtWork(names, _counts(mount, names, self.counts_per_revolution), self.period)

    def encodes(self, joints: Sequence[str]) -> tuple[str, ...]:
        return self.joints or tuple(joints)

    def messages(self, reading: JointReading) -> dict[str, Message]:
        fields = Fields(
            name=list(reading.name), position=reading.position, velocity=reading.velocity, effort=reading.effort
        )
        return {"": Message(self.message, fields)}


@dataclass
class EncodersAtWork:
    """The positions of the sample before."""

    names: tuple[str, ...]
    count: Array
    period: float
    before: Array | None = None

    def measure(self, mount: Mount) -> JointReading:
        positions, velocities, efforts = mount.joints(self.names)
        if self.count.any():
            positions = np.round(positions / self.count) * self.count
            still = np.zeros(len(self.names))
            velocities = (positions - self.before) / self.period if self.before is not None else still
        self.before = positions
        return JointReading(self.names, positions, velocities, efforts)


@dataclass(frozen=True)
class Travel:
    """Where a robot has come to by its wheels: (x, y) in m and yaw in rad from its start; forward velocity vx (m/s) and
    yaw rate wz (rad/s)."""

    child_frame_id: str
    x: float
    y: float
    yaw: float
    vx: float
    wz: float
    vy: float = 0.0
    covariance: Array = field(default_factory=lambda: np.zeros((3, 3)))  # of x, y, yaw
    twist_covariance: Array = field(default_factory=lambda: np.zeros((3, 3)))  # of vx, vy, wz


class Odometer(Sensor):
    """Wheel odometry of a robot with wheels on two sides, by counts: it does not know when a wheel slips.

    Each period: Δs = (Δs_right + Δs_left)/2, Δψ = (Δs_right − Δs_left)/track, along the circle in between, for the
    point in the middle between the wheels. With a ``wheelbase`` they have rollers, and sideways ways are counted too.
    How uncertain it becomes is in its covariance (see ``veldrain.motion.drives.Odometry``): it is as honest as what it
    is told of slip and of errors of radius and track, which are drawn for each trial.

    >>> Odometer(["left"], ["right"], wheel_radius="9 cm", track="40 cm").message
    'nav_msgs/msg/Odometry'
    """

    message = "nav_msgs/msg/Odometry"
    stacks = True

    left: Names = Names(kw_only=False, doc="joints of the wheels on the left, of which the mean counts")
    right: Names = Names(kw_only=False, doc="those on the right")
    wheel_radius: Number = Number("length", above=0.0, doc="as the odometer takes it")
    track: Number = Number(
        "length",
        above=0.0,
        doc="between left and right wheels, as the odometer takes it; skid-steered robots take more",
    )
    counts_per_revolution: Maybe[int, int] = Maybe(
        Whole(least=1), default=None, exact=None, doc="counts in a turn of a wheel; None: no rounding"
    )
    slip: Number = Number(
        "ratio", default=0.02, least=0.0, doc="standard deviation that it gives the way of a wheel over its first metre"
    )
    lasting_slip: Maybe[Quantity, float] = Maybe(
        Number("ratio", least=0.0),
        default=None,
        doc="standard deviation that it gives the share of its way that each wheel slips all along, as on one ground; "
        "None: 0 with one wheel a side, 0.03 with several, which scrub when they turn",
    )
    radius_error: Number = Number(
        "ratio",
        default=0.0,
        least=0.0,
        exact=0.0,
        doc="standard deviation, over trials, of the share by which it takes the radius of each wheel wrong",
    )
    track_error: Number = Number(
        "ratio",
        default=0.0,
        least=0.0,
        exact=0.0,
        doc="standard deviation, over trials, of the share by which it takes the track wrong",
    )
    wheelbase: Maybe[Any, float] = Maybe(
        Number("length", above=0.0),
        default=None,
        doc="of four wheels with rollers at 45°, front to rear (left and right: front, rear); None: plain wheels",
    )
    period: Number = Number("period", default=0.02, above=0.0, doc="time between samples, or their rate")

    def check(self) -> None:
        if self.lasting_slip is None:
            self.fill(lasting_slip=SCRUBS if len(self.left) > 1 else 0.0)
        for name, wheels in (("left", self.left), ("right", self.right)):
            if not wheels:
                raise self.fields()[name].wrong("empty", "Odometer", "name the joints of the wheels")
            if self.wheelbase is not None and len(wheels) != 2:
                raise self.fields()[name].wrong(
                    f"{len(wheels)} wheels", "Odometer", "with a wheelbase name two, front and rear"
                )

    def start(self, mount: Mount, random: np.random.Generator) -> OdometerAtWork:
        mount.joint_names((*self.left, *self.right))
        return OdometerAtWork(self, mount, random)

    def frame(self, stream: str) -> str:
        return f"{stream}/start"  # it counts from where it started

    def messages(self, reading: Travel) -> dict[str, Message]:
        pose = Fields(position=Fields(x=reading.x, y=reading.y, z=0.0), orientation=about_z(reading.yaw))
        linear, angular = Fields(x=reading.vx, y=reading.vy, z=0.0), Fields(x=0.0, y=0.0, z=reading.wz)
        fields = Fields(
            child_frame_id=reading.child_frame_id,
            pose=Fields(pose=pose, covariance=_planar(reading.covariance)),
            twist=Fields(twist=Fields(linear=linear, angular=angular), covariance=_planar(reading.twist_covariance)),
        )
        return {"": Message(self.message, fields)}


def _planar(covariance: Array) -> Array:
    """A covariance (3, 3) of x, y and yaw as a message has it: (36,)."""
    found = np.zeros((6, 6, *covariance.shape[2:]))
    found[np.ix_((0, 1, 5), (0, 1, 5))] = covariance
    return found.reshape(36, *covariance.shape[2:])


class OdometerAtWork:
    """Where it has come to, and how far each wheel had turned."""

    def __init__(self, sheet: Odometer, mount: Mount, random: np.random.Generator) -> None:
        self.sheet = sheet
        self.count = 2 * math.pi / sheet.counts_per_revolution if sheet.counts_per_revolution else 0.0
        (left, right), r, base = (sheet.left, sheet.right), sheet.wheel_radius, sheet.wheelbase
        track = sheet.track * (1.0 + sheet.track_error * float(random.standard_normal()))
        if base is None:
            self.mixer = side_by_side(left, right, r, track)
        else:
            self.mixer = omni((left[0], right[0], left[1], right[1]), r, track, base)
        self.scale = 1.0 + sheet.radius_error * random.standard_normal(len(self.mixer.joints))
        lasting = math.hypot(sheet.lasting_slip or 0.0, sheet.radius_error)
        lever = sheet.track / (sheet.track + (base or 0.0))
        self.odometry = Odometry(self.mixer.matrix * r, sheet.slip, self.count * r, lasting, sheet.track_error * lever)
        self.before = self.turned(mount)

    def turned(self, mount: Mount) -> Array:
        """How far the wheels have turned, (n,) in rad."""
        return stepped(mount.joints(self.mixer.joints)[0], self.count)

    def measure(self, mount: Mount) -> Travel:
        now, odometry = self.turned(mount), self.odometry
        turned, self.before = self.scale * (now - self.before), now
        odometry.go(*self.mixer.twist(dict(zip(self.mixer.joints, turned, strict=True))), self.sheet.period)
        vx, vy, wz = odometry.twist
        return Travel(
            mount.name, odometry.x, odometry.y, odometry.yaw, vx, wz, vy, odometry.covariance, odometry.twist_covariance
        )


@dataclass(frozen=True)
class Currents:
    """Currents (n,) in A of the motors of joints."""

    name: tuple[str, ...]
    current: Array


class MotorCurrent(Sensor):
    """The current of motors: |effort|/torque constant + no-load current, the effort being its mean over the period.

    Use it to feel loads without a force sensor, and to watch for overload.

    >>> MotorCurrent(["lift"], torque_constant=0.4).message
    'std_msgs/msg/Float64MultiArray'
    """

    message = "std_msgs/msg/Float64MultiArray"
    stacks = True

    joints: Names = Names(default=(), kw_only=False, doc="names of the joints; none: all movable joints of the robot")
    torque_constant: Number = Number(
        "torque per current", default=1.0, above=0.0, doc="effort for a current, seen at the joint; N/A where it slides"
    )
    no_load_current: Number = Number("current", default=0.0, least=0.0, doc="without effort")
    noise: Number = Number("current", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample")
    resolution: Number = Number("current", default=0.0, least=0.0, exact=0.0, doc="of the output (LSB); 0: continuous")
    full_scale: Number = Number("current", default=math.inf, above=0.0, exact=math.inf, doc="readings end there")
    period: Number = Number("period", default=0.01, above=0.0, doc="time between samples, or their rate")

    def start(self, mount: Mount, random: np.random.Generator) -> CurrentAtWork:
        names = mount.joint_names(self.joints)
        mount.feel_efforts(names)
        return CurrentAtWork(self, names, random)

    def messages(self, reading: Currents) -> dict[str, Message]:
        size = len(reading.current)
        rows = [Fields(label=",".join(reading.name), size=size, stride=size)]
        fields = Fields(layout=Fields(dim=rows, data_offset=0), data=reading.current)
        return {"": Message(self.message, fields)}


@dataclass
class CurrentAtWork:
    """The random stream of its noise."""

    sheet: MotorCurrent
    names: Sequence[str]
    random: np.random.Generator

    def measure(self, mount: Mount) -> Currents:
        sheet = self.sheet
        drawn = np.abs(mount.felt_efforts()) / sheet.torque_constant + sheet.no_load_current
        drawn = drawn + self.random.standard_normal(len(self.names)) * sheet.noise
        drawn = stepped(drawn, sheet.resolution)
        return Currents(tuple(self.names), np.clip(drawn, -sheet.full_scale, sheet.full_scale))
