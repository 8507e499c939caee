"""An inertial measurement unit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.noise import Wander, not_negative, timing
from veldrain.units import Quantity


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
            to_sensor = mount.frame()[1].T
            rate = to_sensor @ mount.velocity()[1]
            felt = to_sensor @ (mount.acceleration() - mount.gravity())
            return Inertial(force.add_to(felt), gyro.add_to(rate))

        return measure

    def to_message(self, reading: Inertial) -> dict[str, Any]:
        unknown = np.zeros(9)
        unknown[0] = -1.0  # the message's own sign for an orientation that is not measured
        return {
            "orientation": {"x": 0.0, "y": 0.0, "z": 0.0, "w": 1.0},
            "orientation_covariance": unknown,
            "angular_velocity": dict(zip("xyz", reading.rate.tolist(), strict=True)),
            "angular_velocity_covariance": np.eye(3).ravel() * self.gyro_noise**2,
            "linear_acceleration": dict(zip("xyz", reading.force.tolist(), strict=True)),
            "linear_acceleration_covariance": np.eye(3).ravel() * self.force_noise**2,
        }
