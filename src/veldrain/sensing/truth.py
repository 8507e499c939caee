"""What no sensor can know: for metrics, and for controllers only where a scenario grants it."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from types import SimpleNamespace as Fields
from typing import Unpack

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain.model import Mount
from veldrain.pose import Array, quaternion_of
from veldrain.sensing.timing import Timed, Timing, xyz
from veldrain.units import Quantity


@dataclass(frozen=True)
class Motion:
    """Position (3,) and quaternion x, y, z, w in the world; velocity and rate (3,) in the axes of the mount."""

    position: Array
    quaternion: tuple[float, float, float, float]
    velocity: Array
    rate: Array


class TruePose(Timed):
    """The true pose and velocity of its mount in the world.

    Args:
        period: s.
        timing: see ``Timing``.

    >>> TruePose("20 ms").truth
    True
    """

    truth = True
    message = "nav_msgs/msg/Odometry"

    def __init__(self, period: Quantity = 0.02, **timing: Unpack[Timing]) -> None:
        super().__init__(period, **timing)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Motion]:
        def measure() -> Motion:
            axes = mount.axes()
            linear, angular, _ = mount.motion()
            return Motion(mount.position(), quaternion_of(axes), axes.T @ linear, axes.T @ angular)

        return measure

    def to_message(self, reading: Motion) -> Fields:
        turn = Fields(**dict(zip("xyzw", reading.quaternion, strict=True)))
        pose = Fields(position=xyz(reading.position), orientation=turn)
        twist = Fields(linear=xyz(reading.velocity), angular=xyz(reading.rate))
        return Fields(
            child_frame_id="",
            pose=Fields(pose=pose, covariance=_EXACT),
            twist=Fields(twist=twist, covariance=_EXACT),
        )


_EXACT = np.zeros(36)


@dataclass(frozen=True)
class Gap:
    """Least distance in m; negative where shapes overlap."""

    distance: float


class TrueClearance(Timed):
    """The least distance between the touchable shapes of its robot and those of a thing.

    Args:
        thing: name path, such as ``culvert`` for all that is called ``culvert/…``.
        period: s.
        timing: see ``Timing``.

    >>> TrueClearance("culvert").message
    'sensor_msgs/msg/Range'
    """

    truth = True
    message = "sensor_msgs/msg/Range"

    def __init__(self, thing: str, period: Quantity = 0.02, **timing: Unpack[Timing]) -> None:
        self.thing = thing
        super().__init__(period, **timing)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Gap]:
        mount.clearance(self.thing)  # an unknown thing is told before the start
        return lambda: Gap(mount.clearance(self.thing))

    def to_message(self, reading: Gap) -> Fields:
        return Fields(radiation_type=1, field_of_view=0.0, min_range=0.0, max_range=math.inf, range=reading.distance)


@dataclass(frozen=True)
class Relative:
    """Position (3,) in m, roll, pitch, yaw (3,) in rad, and the same turn as a quaternion x, y, z, w."""

    position: Array
    rpy: Array
    quaternion: tuple[float, float, float, float]


class TrueRelative(Timed):
    """The true pose of one link, frame or thing as another sees it.

    Args:
        of: name path of what is looked at, such as ``crawler/mast``; its robot's name may be left out.
        to: name path of what it is seen from; None: the world.
        period: s.
        timing: see ``Timing``.

    >>> TrueRelative("gripper", to="jar").message
    'geometry_msgs/msg/PoseStamped'
    """

    truth = True
    message = "geometry_msgs/msg/PoseStamped"

    def __init__(self, of: str, to: str | None = None, period: Quantity = 0.02, **timing: Unpack[Timing]) -> None:
        super().__init__(period, **timing)
        self.of, self.to = of, to

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Relative]:
        of, to = mount.pose_of(self.of), None if self.to is None else mount.pose_of(self.to)

        def measure() -> Relative:
            at, axes = of()
            if to is not None:
                origin, base = to()
                at, axes = base.T @ (at - origin), base.T @ axes
            rpy = Rotation.from_matrix(axes).as_euler("xyz")
            return Relative(at, rpy, quaternion_of(axes))

        return measure

    def to_message(self, reading: Relative) -> Fields:
        turn = Fields(**dict(zip("xyzw", reading.quaternion, strict=True)))
        return Fields(frame_id=self.to or "world", pose=Fields(position=xyz(reading.position), orientation=turn))


@dataclass(frozen=True)
class Frames:
    """Frames by name, each with its parent and its pose there: positions (n, 3), quaternions x, y, z, w (n, 4)."""

    names: tuple[str, ...]
    parents: tuple[str, ...]
    positions: Array
    quaternions: Array


class TrueFrames(Timed):
    """All links, frames, sensors and things of the world as a tree of frames below ``world``.

    Cameras have their optical frame too, ``…/optical``: z forward, x right, y down.

    Args:
        period: s.
        timing: see ``Timing``.

    >>> TrueFrames("50 ms").message
    'tf2_msgs/msg/TFMessage'
    """

    truth = True
    message = "tf2_msgs/msg/TFMessage"

    def __init__(self, period: Quantity = 0.05, **timing: Unpack[Timing]) -> None:
        super().__init__(period, **timing)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Frames]:
        names, parents, read = mount.frames()
        above = np.array([names.index(p) if p else -1 for p in parents])
        told = tuple(p or "world" for p in parents)

        def measure() -> Frames:
            at, axes = read()
            held = above >= 0
            base = axes[above[held]]
            at[held] = np.einsum("nij,ni->nj", base, at[held] - at[above[held]])
            turned = axes.copy()
            turned[held] = np.einsum("nij,nik->njk", base, axes[held])
            return Frames(names, told, at, Rotation.from_matrix(turned).as_quat())

        return measure

    def to_message(self, reading: Frames) -> Fields:
        rows = zip(reading.names, reading.parents, reading.positions, reading.quaternions.tolist(), strict=True)
        return Fields(transforms=[
            Fields(frame_id=parent, child_frame_id=name, transform=Fields(
                translation=xyz(at), rotation=Fields(**dict(zip("xyzw", turn, strict=True)))))
            for name, parent, at, turn in rows
        ])  # fmt: skip
