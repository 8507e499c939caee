"""The small contract between a model and the sensors mounted on it.

A sensor is a description (a data sheet) that is never changed by a run. For each trial ``start`` makes the
function that measures; what changes from sample to sample (a drifting bias, say) lives in there.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from types import SimpleNamespace
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.model.looks import Look
from veldrain.pose import Array

if TYPE_CHECKING:
    from veldrain.model.world import World


class Struck(NamedTuple):
    """What rays meet: distances (n,) in m (inf: nothing), numbers of the shapes (n,) (−1: nothing), normals (n, 3)."""

    distances: Array
    sights: NDArray[np.int64]
    normals: Array


class Touches(NamedTuple):
    """What touched a link over a time: names (n) of what did, where, with which normal towards the link, and the mean
    force on it, (n, 3) each, world axes; and the mean torque (3,) of all of it about the world's origin."""

    others: Sequence[str]
    points: Array
    normals: Array
    forces: Array
    torque: Array


class Mount(Protocol):
    """What a sensor is given to measure with: the world as it is at the moment of the sample."""

    name: str
    robot: str
    slices: int  # how often the measuring function is called for one reading; its last call gives it
    world: World

    def now(self) -> float:
        """Simulated time, s."""

    def position(self) -> Array:
        """Position (3,) of the sensor in the world, m."""

    def axes(self) -> Array:
        """Axes of the sensor in the world: the columns of a rotation matrix (3, 3)."""

    def motion(self) -> tuple[Array, Array, Array]:
        """Linear velocity (m/s), angular velocity (rad/s) and linear acceleration over the last step (m/s²)
        of the sensor's origin, (3,) each, world axes."""

    def gravity(self) -> Array:
        """Gravity (3,), world axes, m/s²."""

    def strike(self, origins: Array, directions: Array, reach: float, sees: str = "visual") -> Struck:
        """What rays (n, 3) of unit directions first meet, of the shapes that are ``visual`` or of ``collision``."""

    def sweep(self, ways: Array, lead: Array, reach: float, shine: Array, sees: str = "visual") -> tuple[Array, Array]:
        """Distances (n,) of beams along ways (n, 3) in the mount, each from where the sensor is ``lead`` (n,) s from
        now, its velocity and spin being kept; and ``shine`` (by sight) times the cosine of incidence (n,)."""

    def looks(self, sees: str = "visual") -> Sequence[Look]:
        """What each shape looks like, by the numbers in ``Struck.sights``."""

    def velocities(self, sights: NDArray[np.int64], points: Array, sees: str = "visual") -> Array:
        """Velocities (n, 3) of points (n, 3) of the shapes that were met, world axes, m/s."""

    def scene(self) -> Any:
        """All that is seen, as ``physics.scene.Scene``, for those who paint it."""

    def pose_of(self, path: str) -> Callable[[], tuple[Array, Array]]:
        """The function that gives position (3,) and axes (3, 3) of a link, frame or thing in the world."""

    def frames(self) -> tuple[tuple[str, ...], tuple[str, ...], Callable[[], tuple[Array, Array]]]:
        """Names of all links, frames, sensors and things, names of what each is on ("": the world), and the function
        that gives their positions (n, 3) and axes (n, 3, 3) in the world."""

    def clearance(self, thing: str) -> float:
        """Least distance (m) between the touchable shapes of the sensor's robot and those of a thing."""

    def felt_motion(
        self, turn: Array, bandwidth: float = math.inf, most_force: float = math.inf, most_rate: float = math.inf
    ) -> Callable[[], tuple[Array, Array]]:
        """The function that gives specific force (3,), m/s², and rate (3,), rad/s, in the mount's axes times ``turn``.

        They are gathered at every step of the engine, each component cut off where ``most_…`` says, then, with a
        bandwidth (Hz), taken through a first-order low pass: their mean since the last call.
        """

    def touches(self) -> Callable[[], Touches]:
        """The function that gives what has touched the sensor's link since its last call, gathered at every step."""

    def load(self) -> Callable[[], tuple[Array, Array]]:
        """The function that gives force (3,) and torque (3,) about the mount's origin through the joint that holds the
        sensor's link, of the parent on the child, in the mount's axes: their mean since its last call."""

    def efforts(self, names: Sequence[str]) -> Callable[[], Array]:
        """The function that gives the mean efforts of motors since its last call, in N·m or N."""

    def joints(self, names: Sequence[str]) -> tuple[tuple[str, ...], Callable[[], tuple[Array, Array, Array]]]:
        """Names of the robot's movable joints (all of them for no names), and the function that gives their
        positions, velocities and motor efforts now."""


@runtime_checkable
class Sensor(Protocol):
    """What can be mounted.

    A sensor that looks also has ``directions`` (n, 3), unit vectors in its mount, and ``reach`` (m), and a camera its
    ``near`` plane (m): the check looks along them.

    Attributes:
        period: time between samples (s), a whole number of steps.
        latency: time from a sample to its arrival at a controller (s), a whole number of steps.
        first: time of the first sample (s).
        truth: True for what no real sensor could know; controllers see it only where a scenario grants it.
        message: the ROS 2 message it is recorded as, such as ``"sensor_msgs/msg/Imu"``.
    """

    period: float
    latency: float
    first: float
    truth: bool
    message: str

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Any]:
        """The function that measures in one trial; what it returns is a reading, a small dataclass.

        A sensor with an attribute ``slices`` is called up to that often within a period, for readings that take time:
        it returns None but for the last call.
        """

    def to_message(self, reading: Any) -> SimpleNamespace:
        """A reading as the fields of the message, nested ones likewise, without its header."""


def checked_sensor(sensor: object, where: str) -> Sensor:
    """The sensor, if it keeps the contract."""
    missing = [
        word
        for word in ("period", "latency", "first", "truth", "message", "start", "to_message")
        if not hasattr(sensor, word)
    ]
    if missing:
        raise VeldrainError(
            f"{type(sensor).__name__} is not a sensor: it has no {', '.join(missing)}",
            where=where,
            cure="see veldrain.model.sensor.Sensor for what a sensor has",
        )
    return sensor  # type: ignore[return-value]
