"""What is measured at joints: encoders, the distance that wheels have rolled, the current of motors."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from veldrain.model.sensor import Fields, Message, Mount, Sensor
from veldrain.pose import Array
from veldrain.sensing.noise import stepped
from veldrain.sensing.parts import NO_COVARIANCE
from veldrain.sheet import Maybe, Names, Number, Whole


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


class Odometer(Sensor):
    """Wheel odometry of a robot with wheels on two sides, by counts: it does not know when a wheel slips.

    Each period: Δs = (Δs_right + Δs_left)/2, Δψ = (Δs_right − Δs_left)/track, along the circle in between.

    >>> Odometer(["left"], ["right"], wheel_radius="9 cm", track="40 cm").message
    'nav_msgs/msg/Odometry'
    """

    message = "nav_msgs/msg/Odometry"

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
    period: Number = Number("period", default=0.02, above=0.0, doc="time between samples, or their rate")

    def check(self) -> None:
        for name, wheels in (("left", self.left), ("right", self.right)):
            if not wheels:
                raise self.fields()[name].wrong("empty", "Odometer", "name the joints of the wheels")

    def start(self, mount: Mount, random: np.random.Generator) -> OdometerAtWork:
        mount.joint_names((*self.left, *self.right))
        work = OdometerAtWork(self, 2 * math.pi / self.counts_per_revolution if self.counts_per_revolution else 0.0)
        work.before = work.sides(mount)
        return work

    def frame(self, stream: str) -> str:
        return f"{stream}/start"  # it counts from where it started

    def messages(self, reading: Travel) -> dict[str, Message]:
        turn = Fields(x=0.0, y=0.0, z=math.sin(reading.yaw / 2), w=math.cos(reading.yaw / 2))
        pose = Fields(position=Fields(x=reading.x, y=reading.y, z=0.0), orientation=turn)
        twist = Fields(linear=Fields(x=reading.vx, y=0.0, z=0.0), angular=Fields(x=0.0, y=0.0, z=reading.wz))
        fields = Fields(
            child_frame_id=reading.child_frame_id,
            pose=Fields(pose=pose, covariance=NO_COVARIANCE),
            twist=Fields(twist=twist, covariance=NO_COVARIANCE),
        )
        return {"": Message(self.message, fields)}


@dataclass
class OdometerAtWork:
    """Where it has come to, and how far each side had rolled."""

    sheet: Odometer
    count: float  # rad; 0: no rounding
    before: Array = field(default_factory=lambda: np.zeros(2))
    x: float = 0.0
    y: float = 0.0
    yaw: float = 0.0

    def sides(self, mount: Mount) -> Array:
        """How far the wheels of the left and of the right have rolled, (2,) in m."""
        sheet = self.sheet
        turned = stepped(mount.joints((*sheet.left, *sheet.right))[0], self.count)
        count = len(sheet.left)
        return np.array((turned[:count].mean(), turned[count:].mean())) * sheet.wheel_radius

    def measure(self, mount: Mount) -> Travel:
        now = self.sides(mount)
        left, right = (now - self.before).tolist()
        self.before = now
        along, turn = (left + right) / 2, (right - left) / self.sheet.track
        chord = along * float(np.sinc(turn / 2 / math.pi))
        self.x += chord * math.cos(self.yaw + turn / 2)
        self.y += chord * math.sin(self.yaw + turn / 2)
        self.yaw += turn
        period = self.sheet.period
        return Travel(mount.name, self.x, self.y, self.yaw, along / period, turn / period)


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
