"""What no sensor can know: for metrics, and for controllers only where a scenario grants it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from veldrain.model import Mount
from veldrain.pose import Array, quaternion_of
from veldrain.sensing.noise import timing
from veldrain.units import Quantity


@dataclass(frozen=True)
class Motion:
    """Position (3,) and quaternion x, y, z, w in the world; velocity and rate (3,) in the axes of the mount."""

    position: Array
    quaternion: tuple[float, float, float, float]
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
            position, axes = mount.frame()
            linear, angular = mount.velocity()
            return Motion(position, quaternion_of(axes), axes.T @ linear, axes.T @ angular)

        return measure

    def to_message(self, reading: Motion) -> dict[str, Any]:
        def xyz(values: Array) -> dict[str, float]:
            return dict(zip("xyz", values.tolist(), strict=True))

        turn = dict(zip("xyzw", reading.quaternion, strict=True))
        return {
            "child_frame_id": "",
            "pose": {"pose": {"position": xyz(reading.position), "orientation": turn}, "covariance": np.zeros(36)},
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
