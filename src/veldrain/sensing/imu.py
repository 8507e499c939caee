"""An inertial measurement unit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from types import SimpleNamespace as Fields

import numpy as np

from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.noise import Wander, not_negative, timing
from veldrain.units import Quantity

_NOT_MEASURED = np.array([-1.0] + 8 * [0.0])  # the message's own sign for an orientation that is not measured
_EYE = np.eye(3).ravel()


@dataclass(frozen=True)
class Inertial:
    """Specific force (3,) in m/s² and angular rate (3,) in rad/s, in the sensor's axes."""

    force: Array
    rate: Array


class Imu:
    """Accelerometers and gyroscopes on three axes.

    At rest and level it reads +g along its z axis: what it measures is the acceleration of its place less
    gravity, over the last step. Its first sample comes after one period, since there is no step before.

    Args:
        period: s.
        gyro_noise: standard deviation of a sample, rad/s.
        gyro_bias: standard deviation, over trials, of the constant bias, rad/s.
        force_noise: standard deviation of a sample, m/s².
        force_bias: standard deviation, over trials, of the constant bias, m/s².
        latency: from the sample to its arrival at a controller, s.
        first: time of the first sample, s; None: one period.

    >>> Imu(gyro_noise="0.2 deg/s").message
    'sensor_msgs/msg/Imu'
    """

    truth = False
    message = "sensor_msgs/msg/Imu"

    def __init__(
        self,
        period: Quantity = 0.01,
        gyro_noise: Quantity = 0.0,
        gyro_bias: Quantity = 0.0,
        force_noise: Quantity = 0.0,
        force_bias: Quantity = 0.0,
        latency: Quantity = 0.0,
        first: Quantity | None = None,
    ) -> None:
        self.period, self.latency, self.first = timing(self, period, latency, period if first is None else first)
        self.gyro_noise = not_negative(gyro_noise, "angular speed", "Imu gyro_noise")
        self.gyro_bias = not_negative(gyro_bias, "angular speed", "Imu gyro_bias")
        self.force_noise = not_negative(force_noise, "acceleration", "Imu force_noise")
        self.force_bias = not_negative(force_bias, "acceleration", "Imu force_bias")

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Inertial]:
        gyro = Wander(random, self.gyro_bias, self.gyro_noise)
        force = Wander(random, self.force_bias, self.force_noise)

        def measure() -> Inertial:
            to_sensor = mount.axes().T
            _, angular, acceleration = mount.motion()
            rate = to_sensor @ angular
            felt = to_sensor @ (acceleration - mount.gravity())
            return Inertial(force.add_to(felt), gyro.add_to(rate))

        return measure

    def to_message(self, reading: Inertial) -> Fields:
        (wx, wy, wz), (fx, fy, fz) = reading.rate.tolist(), reading.force.tolist()
        return Fields(
            orientation=Fields(x=0.0, y=0.0, z=0.0, w=1.0),
            orientation_covariance=_NOT_MEASURED,
            angular_velocity=Fields(x=wx, y=wy, z=wz),
            angular_velocity_covariance=_EYE * self.gyro_noise**2,
            linear_acceleration=Fields(x=fx, y=fy, z=fz),
            linear_acceleration_covariance=_EYE * self.force_noise**2,
        )
