"""What no sensor can know: for metrics, and for controllers only where a scenario grants it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from veldrain.model import Mount
from veldrain.pose import Array, Pose
from veldrain.sensing.noise import timing
from veldrain.units import Quantity


@dataclass(frozen=True)
class Motion:
    """Pose in the world, and linear and angular velocity (3,) in the axes of the mount."""

    pose: Pose
    velocity: Array
    rate: Array


class TruePose:
    """The true pose and velocity of its mount in the world.

    Args:
        period: s.

    >>> TruePose("20 ms").truth
    True
    """

    truth = True
    message = "nav_msgs/msg/Odometry"

    def __init__(self, period: Quantity = 0.02) -> None:
        self.period, self.latency, self.first = timing(self, period, 0.0, 0.0)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Motion]:
        def measure() -> Motion:
            pose = mount.pose()
            to_mount = pose.matrix.T
            linear, angular = mount.velocity()
            return Motion(pose, to_mount @ linear, to_mount @ angular)

        return measure

    def to_message(self, reading: Motion) -> dict[str, Any]:
        def xyz(values: Array) -> dict[str, float]:
            return dict(zip("xyz", values.tolist(), strict=True))

        turn = dict(zip("xyzw", reading.pose.rotation.as_quat().tolist(), strict=True))
        return {
            "child_frame_id": "",
            "pose": {"pose": {"position": xyz(reading.pose.position), "orientation": turn}, "covariance": np.zeros(36)},
            "twist": {"twist": {"linear": xyz(reading.velocity), "angular": xyz(reading.rate)}, "covariance": np.zeros(36)},
        }


@dataclass(frozen=True)
class Gap:
    """Least distance in m; negative where shapes overlap."""

    distance: float


class TrueClearance:
    """The least distance between the touchable shapes of its robot and those of a thing.

    Args:
        thing: name path, such as ``culvert`` for all that is called ``culvert/…``.
        period: s.

    >>> TrueClearance("culvert").message
    'sensor_msgs/msg/Range'
    """

    truth = True
    message = "sensor_msgs/msg/Range"

    def __init__(self, thing: str, period: Quantity = 0.02) -> None:
        self.thing = thing
        self.period, self.latency, self.first = timing(self, period, 0.0, 0.0)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Gap]:
        mount.clearance(self.thing)  # an unknown thing is told before the start
        return lambda: Gap(mount.clearance(self.thing))

    def to_message(self, reading: Gap) -> dict[str, Any]:
        return {
            "radiation_type": 1,
            "field_of_view": 0.0,
            "min_range": 0.0,
            "max_range": float("inf"),
            "range": reading.distance,
        }
