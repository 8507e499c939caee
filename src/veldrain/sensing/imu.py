"""An inertial measurement unit."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from types import SimpleNamespace as Fields
from typing import Unpack

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError
from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.noise import Wander, above_zero, not_negative
from veldrain.sensing.timing import Timed, Timing
from veldrain.units import Quantity

_NOT_MEASURED = np.array([-1.0] + 8 * [0.0])  # the message's own sign for an orientation that is not measured
_EYE = np.eye(3).ravel()


@dataclass(frozen=True)
class Inertial:
    """Specific force (3,) in m/s² and angular rate (3,) in rad/s, in the sensor's axes."""

    force: Array
    rate: Array


class Imu(Timed):
    """Accelerometers and gyroscopes on three axes.

    At rest and level it reads +g along its z axis: what it measures is the acceleration of its place less gravity.
    It looks at every step of the engine: a reading is the mean over its period, as a part with an anti-aliasing filter
    gives it, so that no impact between two samples is missed. What is beyond the full scale is cut off at each step,
    before the low pass and the mean. Its first sample comes after one period.

    Args:
        period: s.
        gyro_noise: standard deviation of a sample, rad/s.
        gyro_bias: standard deviation, over trials, of the constant bias, rad/s.
        force_noise: standard deviation of a sample, m/s².
        force_bias: standard deviation, over trials, of the constant bias, m/s².
        gyro_density: instead of gyro_noise: noise density N, rad/s/√Hz; a sample's deviation is N/√period.
        force_density: instead of force_noise: m/s²/√Hz.
        gyro_walk: random walk of the bias, rad/s/√s.
        force_walk: the same, m/s²/√s.
        gyro_most: rates are cut off there, rad/s; with a resolution upward one digit before, as a signed number is.
        force_most: forces are cut off there, m/s².
        gyro_resolution: of the digits, rad/s.
        force_resolution: of the digits, m/s².
        bandwidth: of both, Hz: a first-order low pass at every step, before the mean. Infinite: none.
        misalignment: standard deviation, over trials, of the turn of its axes about each of the mount's, rad.
        timing: see ``Timing``.

    >>> Imu(gyro_noise="0.2 deg/s").message
    'sensor_msgs/msg/Imu'
    """

    message = "sensor_msgs/msg/Imu"
    looks_back = True
    perfect = dict.fromkeys(
        [f"{kind}_{word}" for kind in ("gyro", "force") for word in ("noise", "bias", "walk", "resolution")], 0.0
    ) | {"gyro_most": math.inf, "force_most": math.inf, "bandwidth": math.inf, "misalignment": 0.0}

    def __init__(
        self,
        period: Quantity = 0.01,
        gyro_noise: Quantity = 0.0,
        gyro_bias: Quantity = 0.0,
        force_noise: Quantity = 0.0,
        force_bias: Quantity = 0.0,
        gyro_density: float = 0.0,
        force_density: float = 0.0,
        gyro_walk: float = 0.0,
        force_walk: float = 0.0,
        gyro_most: Quantity = math.inf,
        force_most: Quantity = math.inf,
        gyro_resolution: Quantity = 0.0,
        force_resolution: Quantity = 0.0,
        bandwidth: Quantity = math.inf,
        misalignment: Quantity = 0.0,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.gyro_noise = not_negative(gyro_noise, "angular speed", "Imu gyro_noise")
        self.gyro_bias = not_negative(gyro_bias, "angular speed", "Imu gyro_bias")
        self.force_noise = not_negative(force_noise, "acceleration", "Imu force_noise")
        self.force_bias = not_negative(force_bias, "acceleration", "Imu force_bias")
        for density, noise, word in ((gyro_density, "gyro_noise", "gyro"), (force_density, "force_noise", "force")):
            if density:
                if getattr(self, noise):
                    raise VeldrainError(f"{noise} and {word}_density", where="Imu", cure="give one of them")
                setattr(self, noise, not_negative(density, "ratio", f"Imu {word}_density") / math.sqrt(self.period))
        self.gyro_walk = not_negative(gyro_walk, "ratio", "Imu gyro_walk")
        self.force_walk = not_negative(force_walk, "ratio", "Imu force_walk")
        self.gyro_most = above_zero(gyro_most, "angular speed", "Imu gyro_most")
        self.force_most = above_zero(force_most, "acceleration", "Imu force_most")
        self.gyro_resolution = not_negative(gyro_resolution, "angular speed", "Imu gyro_resolution")
        self.force_resolution = not_negative(force_resolution, "acceleration", "Imu force_resolution")
        self.bandwidth = above_zero(bandwidth, "frequency", "Imu bandwidth")
        self.misalignment = not_negative(misalignment, "angle", "Imu misalignment")

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Inertial]:
        gyro = Wander(random, self.gyro_bias, self.gyro_noise, self.gyro_walk, self.period, self.gyro_resolution,
                      self.gyro_most)  # fmt: skip
        force = Wander(random, self.force_bias, self.force_noise, self.force_walk, self.period, self.force_resolution,
                       self.force_most)  # fmt: skip
        turn = np.eye(3)
        if self.misalignment > 0:
            turn = Rotation.from_rotvec(random.standard_normal(3) * self.misalignment).as_matrix()
        felt = mount.felt_motion(turn, self.bandwidth, self.force_most, self.gyro_most)

        def measure() -> Inertial:
            true_force, true_rate = felt()
            return Inertial(force.add_to(true_force), gyro.add_to(true_rate))

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
