"""What is measured at joints: encoders, the way that wheels have rolled, the current of motors."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from types import SimpleNamespace as Fields
from typing import Unpack

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.noise import above_zero, not_negative
from veldrain.sensing.timing import Timed, Timing
from veldrain.units import Quantity, quantity


@dataclass(frozen=True)
class JointReading:
    """Positions (rad or m), velocities and motor efforts (N·m or N) of joints, each (n,)."""

    names: tuple[str, ...]
    positions: Array
    velocities: Array
    efforts: Array


class Encoders(Timed):
    """Encoders that count ticks, and the motors' own measure of their effort.

    Args:
        joints: names of the joints; none: all movable joints of the robot.
        period: s.
        ticks: counts a turn (a metre, when prismatic); None: no rounding. Velocity is the change of the
            counted position over a period, as drives form it.
        timing: see ``Timing``.

    >>> Encoders(["left", "right"], ticks=2048).message
    'sensor_msgs/msg/JointState'
    """

    message = "sensor_msgs/msg/JointState"
    perfect = {"ticks": None}

    def __init__(
        self,
        joints: Sequence[str] = (),
        period: Quantity = 0.01,
        ticks: int | None = None,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        if ticks is not None and ticks < 1:
            raise VeldrainError(f"{ticks} ticks a turn", where="Encoders", cure="give 1 or more, or None")
        self.joints, self.ticks = tuple(joints), ticks

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], JointReading]:
        names, read = mount.joints(self.joints)
        tick = 2 * math.pi / self.ticks if self.ticks else 0.0
        before: Array | None = None

        def measure() -> JointReading:
            nonlocal before
            positions, velocities, efforts = read()
            if tick:
                positions = np.round(positions / tick) * tick
                velocities = (positions - before) / self.period if before is not None else np.zeros(len(names))
            before = positions
            return JointReading(names, positions, velocities, efforts)

        return measure

    def to_message(self, reading: JointReading) -> Fields:
        return Fields(
            name=list(reading.names),
            position=reading.positions,
            velocity=reading.velocities,
            effort=reading.efforts,
        )


@dataclass(frozen=True)
class Travel:
    """Where a robot has come to by its wheels: (x, y) in m and yaw in rad from its start; speed (m/s), rate (rad/s)."""

    x: float
    y: float
    yaw: float
    speed: float
    rate: float


class Odometer(Timed):
    """The way of a robot with wheels on two sides, by counted ticks: it does not know when a wheel slips.

    Each period: Δs = (Δs_right + Δs_left)/2, Δψ = (Δs_right − Δs_left)/track, along the circle in between.

    Args:
        left: joints of the wheels on the left, of which the mean counts.
        right: those on the right.
        radius: of the wheels as the odometer takes it, m.
        track: between left and right wheels as the odometer takes it, m; skid-steered robots take more.
        ticks: counts a turn; None: no rounding.
        period: s.
        timing: see ``Timing``.

    >>> Odometer(["left"], ["right"], radius="9 cm", track="40 cm").message
    'nav_msgs/msg/Odometry'
    """

    message = "nav_msgs/msg/Odometry"
    perfect = {"ticks": None}

    def __init__(
        self,
        left: Sequence[str],
        right: Sequence[str],
        radius: Quantity,
        track: Quantity,
        ticks: int | None = None,
        period: Quantity = 0.02,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.left, self.right, self.ticks = tuple(left), tuple(right), ticks
        self.radius, self.track = (
            quantity(radius, "length", "Odometer radius"),
            quantity(track, "length", "Odometer track"),
        )
        if not (left and right and self.radius > 0 and self.track > 0) or (ticks is not None and ticks < 1):
            raise VeldrainError("wheels that do not roll", where="Odometer",
                                cure="name joints on both sides; give radius, track and ticks above zero")  # fmt: skip

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Travel]:
        _, read = mount.joints((*self.left, *self.right))
        tick, count = 2 * math.pi / self.ticks if self.ticks else 0.0, len(self.left)

        def sides() -> Array:
            turned = read()[0]
            turned = np.round(turned / tick) * tick if tick else turned
            return np.array((turned[:count].mean(), turned[count:].mean())) * self.radius

        before, x, y, yaw = sides(), 0.0, 0.0, 0.0

        def measure() -> Travel:
            nonlocal before, x, y, yaw
            now = sides()
            left, right = (now - before).tolist()
            before = now
            along, turn = (left + right) / 2, (right - left) / self.track
            chord = along * float(np.sinc(turn / 2 / math.pi))
            x, y = x + chord * math.cos(yaw + turn / 2), y + chord * math.sin(yaw + turn / 2)
            yaw += turn
            return Travel(x, y, yaw, along / self.period, turn / self.period)

        return measure

    def to_message(self, reading: Travel) -> Fields:
        zero = np.zeros(36)
        turn = Fields(x=0.0, y=0.0, z=math.sin(reading.yaw / 2), w=math.cos(reading.yaw / 2))
        pose = Fields(position=Fields(x=reading.x, y=reading.y, z=0.0), orientation=turn)
        twist = Fields(linear=Fields(x=reading.speed, y=0.0, z=0.0), angular=Fields(x=0.0, y=0.0, z=reading.rate))
        return Fields(
            child_frame_id="", pose=Fields(pose=pose, covariance=zero), twist=Fields(twist=twist, covariance=zero)
        )


@dataclass(frozen=True)
class Currents:
    """Currents (n,) in A of the motors of joints."""

    names: tuple[str, ...]
    currents: Array


class MotorCurrent(Timed):
    """The current that motors draw for their effort: |effort|/constant + idle; the effort is its mean over the period.

    Args:
        joints: names of the joints; none: all movable joints of the robot.
        constant: effort for a current, N·m/A (N/A where it slides), seen at the joint.
        idle: current without effort, A.
        noise: standard deviation of a sample, A.
        resolution: A.
        most: readings end there, A.
        period: s.
        timing: see ``Timing``.

    >>> MotorCurrent(["lift"], constant=0.4).message
    'std_msgs/msg/Float64MultiArray'
    """

    message = "std_msgs/msg/Float64MultiArray"
    perfect = {"noise": 0.0, "resolution": 0.0, "most": math.inf}

    def __init__(
        self,
        joints: Sequence[str] = (),
        constant: float = 1.0,
        idle: Quantity = 0.0,
        noise: Quantity = 0.0,
        resolution: Quantity = 0.0,
        most: Quantity = math.inf,
        period: Quantity = 0.01,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.joints, self.constant = tuple(joints), above_zero(constant, "ratio", "MotorCurrent constant")
        self.idle = not_negative(idle, "current", "MotorCurrent idle")
        self.noise = not_negative(noise, "current", "MotorCurrent noise")
        self.resolution = not_negative(resolution, "current", "MotorCurrent resolution")
        self.most = above_zero(most, "current", "MotorCurrent most")

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Currents]:
        names, _ = mount.joints(self.joints)
        efforts = mount.efforts(names)

        def measure() -> Currents:
            drawn = np.abs(efforts()) / self.constant + self.idle + random.standard_normal(len(names)) * self.noise
            if self.resolution > 0:
                drawn = np.round(drawn / self.resolution) * self.resolution
            return Currents(names, np.clip(drawn, -self.most, self.most))

        return measure

    def to_message(self, reading: Currents) -> Fields:
        size = len(reading.currents)
        rows = [Fields(label=",".join(reading.names), size=size, stride=size)]
        return Fields(layout=Fields(dim=rows, data_offset=0), data=reading.currents)
