"""What no sensor can know: for metrics, and for controllers only where a scenario grants it."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from types import SimpleNamespace as Fields

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
            axes = mount.axes()
            linear, angular, _ = mount.motion()
            return Motion(mount.position(), quaternion_of(axes), axes.T @ linear, axes.T @ angular)

        return measure

    def to_message(self, reading: Motion) -> Fields:
        turn = Fields(**dict(zip("xyzw", reading.quaternion, strict=True)))
        pose = Fields(position=_xyz(reading.position), orientation=turn)
        twist = Fields(linear=_xyz(reading.velocity), angular=_xyz(reading.rate))
        return Fields(
            child_frame_id="",
            pose=Fields(pose=pose, covariance=_EXACT),
            twist=Fields(twist=twist, covariance=_EXACT),
        )


_EXACT = np.zeros(36)


def _xyz(values: Array) -> Fields:
    x, y, z = values.tolist()
    return Fields(x=x, y=y, z=z)


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

    def to_message(self, reading: Gap) -> Fields:
        return Fields(radiation_type=1, field_of_view=0.0, min_range=0.0, max_range=math.inf, range=reading.distance)
