"""What no sensor can know: for metrics, and for controllers only where a scenario grants it."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from veldrain.model.sensor import Fields, Message, Mount, Sensor
from veldrain.pose import Array, quaternion_of, quaternions_of
from veldrain.sensing.parts import NO_COVARIANCE, xyz, xyzw
from veldrain.sheet import Maybe, Number, Text


class Truth(Sensor):
    """What a sensor of the truth is."""

    truth = True
    period: Number = Number("period", default=0.02, above=0.0, kw_only=False, doc="time between samples, or their rate")


@dataclass(frozen=True)
class Motion:
    """Position (3,) and quaternion x, y, z, w in the world; linear and angular velocity (3,) in the axes of the mount,
    which is called ``child_frame_id``."""

    child_frame_id: str
    position: Array
    orientation: tuple[float, float, float, float]
    linear_velocity: Array
    angular_velocity: Array


class TruePose(Truth):
    """The true pose and velocity of its mount in the world.

    >>> TruePose("20 ms").truth
    True
    """

    message = "nav_msgs/msg/Odometry"
    stacks = True

    def start(self, mount: Mount, random: np.random.Generator) -> PoseAtWork:
        return PoseAtWork()

    def frame(self, stream: str) -> str:
        return "world"

    def messages(self, reading: Motion) -> dict[str, Message]:
        pose = Fields(position=xyz(reading.position), orientation=xyzw(reading.orientation))
        twist = Fields(linear=xyz(reading.linear_velocity), angular=xyz(reading.angular_velocity))
        fields = Fields(
            child_frame_id=reading.child_frame_id,
            pose=Fields(pose=pose, covariance=NO_COVARIANCE),
            twist=Fields(twist=twist, covariance=NO_COVARIANCE),
        )
        return {"": Message(self.message, fields)}


class PoseAtWork:
    """Has no state."""

    def measure(self, mount: Mount) -> Motion:
        axes = mount.axes()
        linear, angular, _ = mount.motion()
        return Motion(mount.name, mount.position(), quaternion_of(axes), axes.T @ linear, axes.T @ angular)


@dataclass(frozen=True)
class Gap:
    """Least distance in m; negative where shapes overlap."""

    range: float


class TrueClearance(Truth):
    """The least distance between the touchable shapes of its robot and those of a thing.

    >>> TrueClearance("culvert").message
    'sensor_msgs/msg/Range'
    """

    message = "sensor_msgs/msg/Range"
    stacks = True

    thing: Text = Text(kw_only=False, doc="name path, such as ``culvert`` for all that is called ``culvert/…``")
    period: Number = Number("period", default=0.02, above=0.0, doc="time between samples, or their rate")

    def start(self, mount: Mount, random: np.random.Generator) -> ClearanceAtWork:
        mount.clearance(self.thing)  # an unknown thing is told before the start
        return ClearanceAtWork(self.thing)

    def messages(self, reading: Gap) -> dict[str, Message]:
        fields = Fields(radiation_type=1, field_of_view=0.0, min_range=0.0, max_range=math.inf, range=reading.range)
        return {"": Message(self.message, fields)}


@dataclass
class ClearanceAtWork:
    """Has no state."""

    thing: str

    def measure(self, mount: Mount) -> Gap:
        return Gap(mount.clearance(self.thing))


@dataclass(frozen=True)
class Relative:
    """Position (3,) in m, roll, pitch, yaw (3,) in rad, and the same turn as a quaternion x, y, z, w."""

    position: Array
    rpy: Array
    orientation: tuple[float, float, float, float]


class TrueRelative(Truth):
    """The true pose of one link, frame or thing as another sees it.

    >>> TrueRelative("gripper", to="jar").message
    'geometry_msgs/msg/PoseStamped'
    """

    message = "geometry_msgs/msg/PoseStamped"
    stacks = True

    of: Text = Text(kw_only=False, doc="name path of what is looked at; its robot's name may be left out")
    to: Maybe[str, str] = Maybe(
        Text(), default=None, kw_only=False, doc="name path of what it is seen from; None: the world"
    )
    period: Number = Number("period", default=0.02, above=0.0, doc="time between samples, or their rate")

    def start(self, mount: Mount, random: np.random.Generator) -> RelativeAtWork:
        for path in (self.of, self.to):
            if path is not None:
                mount.pose_of(path)
        return RelativeAtWork(self.of, self.to)

    def frame(self, stream: str) -> str:
        return self.to or "world"

    def messages(self, reading: Relative) -> dict[str, Message]:
        pose = Fields(position=xyz(reading.position), orientation=xyzw(reading.orientation))
        return {"": Message(self.message, Fields(pose=pose))}


@dataclass
class RelativeAtWork:
    """Has no state."""

    of: str
    to: str | None

    def measure(self, mount: Mount) -> Relative:
        from scipy.spatial.transform import Rotation

        at, axes = mount.pose_of(self.of)
        if self.to is not None:
            origin, base = mount.pose_of(self.to)
            at, axes = base.T @ (at - origin), base.T @ axes
        return Relative(at, Rotation.from_matrix(axes).as_euler("xyz"), quaternion_of(axes))


@dataclass(frozen=True)
class Frames:
    """Frames by name, each with its parent and its pose there: positions (n, 3), quaternions x, y, z, w (n, 4)."""

    names: tuple[str, ...]
    parents: tuple[str, ...]
    positions: Array
    orientations: Array


class TrueFrames(Truth):
    """All links, frames, sensors and things of the world as a tree of frames below ``world``.

    Cameras have their optical frame too, ``…/optical``: z forward, x right, y down.

    >>> TrueFrames("50 ms").message
    'tf2_msgs/msg/TFMessage'
    """

    message = "tf2_msgs/msg/TFMessage"

    period: Number = Number("period", default=0.05, above=0.0, kw_only=False, doc="time between samples, or their rate")

    def start(self, mount: Mount, random: np.random.Generator) -> FramesAtWork:
        return FramesAtWork()

    def messages(self, reading: Frames) -> dict[str, Message]:
        return {"": Message(self.message, Fields(transforms=transforms(reading)))}


class FramesAtWork:
    """Has no state."""

    def measure(self, mount: Mount) -> Frames:
        return in_parents(*mount.frame_names(), *mount.frames())


def in_parents(names: tuple[str, ...], parents: tuple[str, ...], at: Array, axes: Array) -> Frames:
    """Frames whose poses are given in the world, positions (n, 3) and axes (n, 3, 3), each in its parent's axes."""
    number = {name: k for k, name in enumerate(names)}
    above = np.array([number.get(parent, -1) for parent in parents], np.int64)
    held = above >= 0
    base, moved, turned = axes[above[held]], at.copy(), axes.copy()
    moved[held] = np.einsum("nij,ni->nj", base, at[held] - at[above[held]])
    turned[held] = np.einsum("nij,nik->njk", base, axes[held])
    return Frames(names, tuple(p or "world" for p in parents), moved, quaternions_of(turned))


def transforms(frames: Frames) -> list[Fields]:
    """Frames as a transform message has them, without their headers."""
    rows = zip(frames.names, frames.parents, frames.positions, frames.orientations.tolist(), strict=True)
    return [
        Fields(frame_id=parent, child_frame_id=name, transform=Fields(translation=xyz(at), rotation=xyzw(turn)))
        for name, parent, at, turn in rows
    ]
