"""Drives as controllers: told how fast to move, they command the motors of their wheels."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, Motors
from veldrain.errors import VeldrainError
from veldrain.motion.drives import CarSteering, Twist, WheelMixer, checked_wheels, omni, side_by_side
from veldrain.sampling import Reading
from veldrain.sheet import Maybe, Names, Number


class Drive(SheetController):
    """What all drives share: they go from one motion to the next under limits, and stop when nobody tells them.

    Inputs: ``forward`` and ``sideways`` (m/s), ``turning`` (rad/s, to the left).
    """

    inputs: ClassVar[Any] = {"forward": "speed", "sideways": "speed", "turning": "angular speed"}

    acceleration: Number = Number(
        "acceleration", default=math.inf, above=0.0, doc="largest, forward, backward and sideways"
    )
    turning_acceleration: Number = Number(
        "angular acceleration", default=math.inf, above=0.0, doc="largest, of turning"
    )
    watchdog: Maybe[Any, float] = Maybe(
        Number("time", above=0.0), default=None, doc="it stops when nothing was told for so long; None: never"
    )

    def check(self) -> None:
        self._mixer: WheelMixer = self.mixer()
        checked_wheels(self._mixer.joints, type(self).__name__)
        self._now: Twist = (0.0, 0.0, 0.0)

    def mixer(self) -> WheelMixer:
        """Its wheels, and what each of them does."""
        raise NotImplementedError

    @property
    def joints(self) -> tuple[str, ...]:
        """Names of the joints whose motors it commands."""
        return self._mixer.joints

    def wheels(self, forward: float = 0.0, sideways: float = 0.0, turning: float = 0.0) -> dict[str, float]:
        """Wheel speeds by joint (rad/s) for a motion (m/s, m/s, rad/s)."""
        return self._mixer.wheels(forward, sideways, turning)

    def twist(self, speeds: Mapping[str, float]) -> Twist:
        """Motion (m/s, m/s, rad/s) at wheel speeds by joint (rad/s)."""
        return self._mixer.twist(speeds)

    def start(self, body: Body, random: Any, log: Any) -> None:
        for joint in self.joints:
            body.motor(joint, "velocity", type(self).__name__)
        self._now = (0.0, 0.0, 0.0)

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Motors) -> None:
        motors.command(self.joints, velocity=self._mixer.speeds(*self._eased(now)))

    def _asked(self, now: float) -> Twist:
        told = self.inputs.told
        if self.watchdog is not None and (told is None or now - told > self.watchdog):
            return 0.0, 0.0, 0.0
        return self.inputs.forward, self.inputs.sideways, self.inputs.turning

    def _eased(self, now: float) -> Twist:
        """The motion of now: as near to what is asked for as the limits allow."""
        (x, y, w), (to_x, to_y, to_w) = self._now, self._asked(now)
        step, turn = self.acceleration * self.period, self.turning_acceleration * self.period
        self._now = _nearer(x, to_x, step), _nearer(y, to_y, step), _nearer(w, to_w, turn)
        return self._now


def _nearer(was: float, asked: float, step: float) -> float:
    return was + min(max(asked - was, -step), step)


class DifferentialDrive(Drive):
    """Wheels on both sides that are driven apart: v = (r/2)(ω_R + ω_L), turning = (r/track)(ω_R − ω_L).

    >>> drive = DifferentialDrive(["left"], ["right"], radius="10 cm", track="50 cm")
    >>> drive.wheels(forward=0.4, turning=0.8)
    {'left': 2.0, 'right': 6.0}
    """

    left: Names = Names(kw_only=False, doc="joints of the wheels on the left")
    right: Names = Names(kw_only=False, doc="those on the right")
    radius: Number = Number("length", above=0.0, kw_only=False, doc="of the wheels")
    track: Number = Number("length", above=0.0, kw_only=False, doc="from the left wheels to the right ones")

    def mixer(self) -> WheelMixer:
        return side_by_side(self.left, self.right, self.radius, self.track)

    def check(self) -> None:
        super().check()
        if not self.left or not self.right:
            raise VeldrainError("wheels on one side only", where=type(self).__name__, cure="name joints of both sides")

    def _asked(self, now: float) -> Twist:
        forward, sideways, turning = super()._asked(now)
        if sideways:
            raise VeldrainError(
                "told to go sideways, which its wheels cannot",
                where=type(self).__name__,
                cure="tell forward and turning",
            )
        return forward, 0.0, turning


class SkidSteer(DifferentialDrive):
    """Several wheels or a belt on both sides, which slip across as it turns: it turns as if its track were wider.

    >>> SkidSteer(["fl", "rl"], ["fr", "rr"], radius=0.1, track=0.4, widening=1.25).wheels(turning=2.0)["fr"]
    5.0
    """

    widening: Number = Number(
        "ratio",
        default=1.0,
        least=1.0,
        doc="track that it turns with, over the real one; 1.3 to 2 is common, and measured by turning on the spot",
    )

    def mixer(self) -> WheelMixer:
        return side_by_side(self.left, self.right, self.radius, self.track * self.widening)


class OmniDrive(Drive):
    """Four wheels with rollers at 45 degrees, which go sideways as well.

    >>> wheels = ["front_left", "front_right", "rear_left", "rear_right"]
    >>> OmniDrive(wheels, radius=0.1, track=0.4, wheelbase=0.6).wheels(sideways=0.2)["front_left"]
    -2.0
    """

    wheel_joints: Names = Names(kw_only=False, doc="joints: front left, front right, rear left, rear right")
    radius: Number = Number("length", above=0.0, kw_only=False, doc="of the wheels")
    track: Number = Number("length", above=0.0, kw_only=False, doc="from the left wheels to the right ones")
    wheelbase: Number = Number("length", above=0.0, kw_only=False, doc="from the rear wheels to the front ones")

    def mixer(self) -> WheelMixer:
        if len(self.wheel_joints) != 4:
            raise VeldrainError(f"{len(self.wheel_joints)} wheels", where="OmniDrive", cure="name four joints")
        return omni(self.wheel_joints, self.radius, self.track, self.wheelbase)


class AckermannDrive(Drive):
    """A car: front wheels that steer around one centre, and driven wheels behind them, or in front too.

    Inputs: ``forward`` (m/s), and ``turning`` (rad/s) or ``steering`` (rad, of a wheel in the middle).

    >>> car = AckermannDrive(["fl", "fr"], ["rl", "rr"], radius=0.3, track=1.4, wheelbase=2.5, steering_limit="35 deg")
    >>> round(car.radius_of(car.steering_limit), 2)
    3.57
    """

    inputs: ClassVar[Any] = {"forward": "speed", "turning": "angular speed", "steering": "angle"}

    steered: Names = Names(kw_only=False, doc="joints that steer: left, right")
    driven: Names = Names(
        kw_only=False, doc="joints of the driven wheels: rear left, rear right, or all four, front first"
    )
    radius: Number = Number("length", above=0.0, kw_only=False, doc="of the wheels")
    track: Number = Number("length", above=0.0, kw_only=False, doc="from the left wheels to the right ones")
    wheelbase: Number = Number("length", above=0.0, kw_only=False, doc="from the rear axle to the front one")
    steering_limit: Number = Number("angle", default="35 deg", above=0.0, doc="largest angle of a wheel in the middle")
    steering_speed: Number = Number("angular speed", default=math.inf, above=0.0, doc="largest, of the steering")

    def mixer(self) -> WheelMixer:
        if len(self.steered) != 2 or len(self.driven) not in (2, 4):
            raise VeldrainError(
                f"{len(self.steered)} steered and {len(self.driven)} driven joints",
                where="AckermannDrive",
                cure="name two that steer, and two or four that drive",
            )
        self._car, self._angle = CarSteering(self.wheelbase, self.track), 0.0
        half = len(self.driven) // 2
        return side_by_side(self.driven[::2][:half], self.driven[1::2][:half], self.radius, self.track)

    @property
    def joints(self) -> tuple[str, ...]:
        return (*self.steered, *self.driven)

    def radius_of(self, steering: float) -> float:
        """Radius (m) of the circle of the rear axle's middle at a steering angle (rad)."""
        return self.wheelbase / math.tan(abs(steering)) if steering else math.inf

    def wheels(self, forward: float = 0.0, sideways: float = 0.0, turning: float = 0.0) -> dict[str, float]:
        """Speeds (rad/s) of the driven joints and angles (rad) of the steered ones, by joint."""
        angles, speeds = self._at(forward, self._car.steering(forward, turning))
        return dict(zip(self.joints, (*angles, *speeds), strict=True))

    def _at(self, forward: float, steering: float) -> tuple[Sequence[float], Sequence[float]]:
        """Angles of the steered joints (rad) and speeds of the driven ones (rad/s)."""
        steering = min(max(steering, -self.steering_limit), self.steering_limit)
        shares = self._car.shares(steering)[-len(self.driven) :]
        return self._car.angles(steering), [forward * share / self.radius for share in shares]

    def start(self, body: Body, random: Any, log: Any) -> None:
        for joints, mode in ((self.steered, "position"), (self.driven, "velocity")):
            for joint in joints:
                body.motor(joint, mode, "AckermannDrive")
        self._now, self._angle = (0.0, 0.0, 0.0), 0.0

    def _asked(self, now: float) -> Twist:
        told = self.inputs.told
        if self.watchdog is not None and (told is None or now - told > self.watchdog):
            return 0.0, 0.0, 0.0
        if self.inputs.turning and self.inputs.steering:
            raise VeldrainError("told both turning and steering", where="AckermannDrive", cure="tell one of them")
        return self.inputs.forward, 0.0, self.inputs.turning

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Motors) -> None:
        forward, _, turning = self._eased(now)
        asked = self.inputs.steering or self._car.steering(forward, turning)
        asked = min(max(asked, -self.steering_limit), self.steering_limit)
        step = self.steering_speed * self.period
        self._angle += min(max(asked - self._angle, -step), step)
        angles, speeds = self._at(forward, self._angle)
        motors.command(self.steered, position=angles)
        motors.command(self.driven, velocity=speeds)
