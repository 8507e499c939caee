"""An inertial measurement unit."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.sensor import Fields, Message, Mount, Sensor
from veldrain.pose import Array, Pose
from veldrain.sensing.noise import Errors
from veldrain.sensing.parts import xyz
from veldrain.sheet import Maybe, Number
from veldrain.units import Quantity

_NOT_MEASURED = np.array([-1.0] + 8 * [0.0])  # the message's own sign for an orientation that is not measured
_EYE = np.eye(3).ravel()


@dataclass(frozen=True)
class Inertial:
    """Linear acceleration less gravity (3,) in m/s² and angular velocity (3,) in rad/s, in the sensor's axes."""

    linear_acceleration: Array
    angular_velocity: Array


class Imu(Sensor):
    """An inertial measurement unit: accelerometers and gyroscopes on three axes.

    Use it for balance, for dead reckoning, and to feel impacts. At rest and level it reads +g along its z axis: it
    measures the acceleration of its place less gravity. A reading is the mean over its period, gathered at every step
    of the engine, as a part with an anti-aliasing filter gives it, so that no impact between two samples is missed.
    What is beyond the full scale is cut off at each step, before the low pass and the mean. Its first sample comes
    after one period.

    >>> Imu(gyro_noise="0.2 deg/s").message
    'sensor_msgs/msg/Imu'
    """

    message = "sensor_msgs/msg/Imu"
    looks_back = True
    stacks = True

    period: Number = Number("period", default=0.01, above=0.0, kw_only=False, doc="time between samples, or their rate")
    accel_noise: Number = Number(
        "acceleration", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample"
    )
    accel_noise_density: Maybe[Quantity, float] = Maybe(
        Number("acceleration noise density", least=0.0),
        default=None,
        exact=None,
        doc="instead of accel_noise: N, a sample's deviation being N/√period",
    )
    accel_bias: Number = Number(
        "acceleration", default=0.0, least=0.0, exact=0.0, doc="standard deviation of the constant bias over trials"
    )
    accel_bias_random_walk: Number = Number(
        "acceleration random walk", default=0.0, least=0.0, exact=0.0, doc="random walk of the bias"
    )
    accel_full_scale: Number = Number(
        "acceleration", default=math.inf, above=0.0, exact=math.inf, doc="values are cut off there, on both sides"
    )
    accel_resolution: Number = Number(
        "acceleration", default=0.0, least=0.0, exact=0.0, doc="of the output (LSB); 0: continuous"
    )
    gyro_noise: Number = Number(
        "angular speed", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample"
    )
    gyro_noise_density: Maybe[Quantity, float] = Maybe(
        Number("angular noise density", least=0.0),
        default=None,
        exact=None,
        doc="instead of gyro_noise: N, a sample's deviation being N/√period",
    )
    gyro_bias: Number = Number(
        "angular speed", default=0.0, least=0.0, exact=0.0, doc="standard deviation of the constant bias over trials"
    )
    gyro_bias_random_walk: Number = Number(
        "angular random walk", default=0.0, least=0.0, exact=0.0, doc="random walk of the bias"
    )
    gyro_full_scale: Number = Number(
        "angular speed",
        default=math.inf,
        above=0.0,
        exact=math.inf,
        doc="values are cut off there; with a resolution one LSB earlier above zero, as a signed number is",
    )
    gyro_resolution: Number = Number(
        "angular speed", default=0.0, least=0.0, exact=0.0, doc="of the output (LSB); 0: continuous"
    )
    bandwidth: Number = Number(
        "frequency",
        default=math.inf,
        above=0.0,
        exact=math.inf,
        doc="of both: a first-order low pass at every step, before the mean",
    )
    misalignment: Number = Number(
        "angle",
        default=0.0,
        least=0.0,
        exact=0.0,
        doc="standard deviation, over trials, of the turn of its axes about each of the mount's",
    )

    def check(self) -> None:
        for word, density in (("gyro", self.gyro_noise_density), ("accel", self.accel_noise_density)):
            if density is not None:
                if f"{word}_noise" in self.given and not self.exact:
                    raise VeldrainError(f"{word}_noise and {word}_noise_density", where="Imu", cure="give one of them")
                self.fill(**{f"{word}_noise": density / math.sqrt(self.period)})

    def start(self, mount: Mount, random: np.random.Generator) -> ImuAtWork:
        gyro = Errors(
            random,
            self.gyro_bias,
            self.gyro_noise,
            self.gyro_bias_random_walk,
            self.period,
            self.gyro_resolution,
            self.gyro_full_scale,
        )
        accel = Errors(
            random,
            self.accel_bias,
            self.accel_noise,
            self.accel_bias_random_walk,
            self.period,
            self.accel_resolution,
            self.accel_full_scale,
        )
        turn = np.eye(3)
        if self.misalignment > 0:
            turn = Pose.turned(random.standard_normal(3) * self.misalignment).matrix
        mount.feel_motion(turn, self.bandwidth, self.accel_full_scale, self.gyro_full_scale)
        return ImuAtWork(gyro, accel)

    def messages(self, reading: Inertial) -> dict[str, Message]:
        fields = Fields(
            orientation=Fields(x=0.0, y=0.0, z=0.0, w=1.0),
            orientation_covariance=_NOT_MEASURED,
            angular_velocity=xyz(reading.angular_velocity),
            angular_velocity_covariance=_EYE * self.gyro_noise**2,
            linear_acceleration=xyz(reading.linear_acceleration),
            linear_acceleration_covariance=_EYE * self.accel_noise**2,
        )
        return {"": Message(self.message, fields)}


@dataclass
class ImuAtWork:
    """Errors of the two triads."""

    gyro: Errors
    accel: Errors

    def measure(self, mount: Mount) -> Inertial:
        force, rate = mount.felt_motion()
        return Inertial(self.accel.add_to(force), self.gyro.add_to(rate))
