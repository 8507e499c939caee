"""What is led: it goes where it is told, whatever holds it back, and pushes aside what moves freely.

A leader of one's own is a class below ``Leader`` that does the following.

1. ``at(times)`` gives the place of the root link at times (n,), s from the start: positions (n, 3) in the world, and
   quaternions (n, 4) as x, y, z, w. It is a function of the time alone, and smooth: speeds and accelerations are
   what follows from it.
2. ``joints`` names the joints that it moves, and ``joints_at(times)`` gives their positions (n, joints), rad or m.
   Joints that it does not name stay where they start.

``world.actor("gate", model, route=MyLeader())`` then leads it. A ``Route`` is a leader that can also be told things
while it goes: see the actions ``go``, ``stop``, ``shift``, ``keep``, ``take`` and ``leave``.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.shapes import Part, Surface
from veldrain.pose import Array, Pose
from veldrain.sheet import Made, Number, Sheet
from veldrain.units import Quantity, finite


class Leader:
    """What leads a root link, and joints: see the module for what one has to do."""

    joints: Sequence[str] = ()

    def at(self, times: Array) -> tuple[Array, Array]:
        """Positions (n, 3), m, and quaternions (n, 4) at times (n,), s."""
        raise NotImplementedError(f"{type(self).__name__}.at")

    def joints_at(self, times: Array) -> Array:
        """Positions (n, joints) of its joints, rad or m."""
        return np.zeros((len(times), len(self.joints)))

    def start(self, course: Course) -> Pose:
        """Where it begins, as far as is known without a world."""
        from scipy.spatial.transform import Rotation

        at, turn = self.at(np.zeros(1))
        return Pose(at[0], rotation=Rotation.from_quat(turn[0]))


class Laid(Protocol):
    """What lays many things into a world at once: roads."""

    name: str

    def laid(self) -> Iterator[tuple[str, Part, Pose, Surface]]:
        """Names below its own, parts, poses and surfaces."""

    def route_on(self, road: str, lane: int = -1, section: int = 0, **words: Any) -> Leader:
        """The route that words of a file tell: road, lane and more."""

    def at(self, x: float, y: float) -> Any:
        """Where a point is: on which lane, and how far left of its middle (``offset``); None: on none."""


class PosePath(Leader):
    """Poses at times.

    Positions go by a monotone cubic (F. N. Fritsch, R. E. Carlson, SIAM J. Numer. Anal. 17(2), 1980), which never goes
    beyond the poses given; turns start and end gently at each pose. At both ends everything is at rest.
    """

    def __init__(self, path: Sequence[tuple[float, Pose]]) -> None:
        from scipy.interpolate import PchipInterpolator
        from scipy.spatial.transform import Rotation, Slerp

        self._times = times = np.array([time for time, _ in path])
        places = np.array([pose.position for _, pose in path])
        waiting = [times[0] - 1.0, *times, times[-1] + 1.0]  # before and after, so that the ends are at rest
        self._places = PchipInterpolator(waiting, np.vstack([places[:1], places, places[-1:]]))
        self._turns = Slerp(np.arange(len(times)), Rotation.concatenate([pose.rotation for _, pose in path]))

    def at(self, times: Array) -> tuple[Array, Array]:
        own = self._times
        at = np.clip(times, own[0], own[-1])
        last = np.clip(np.searchsorted(own, at, side="right") - 1, 0, len(own) - 2)
        share = (at - own[last]) / (own[last + 1] - own[last])
        turns = self._turns(np.clip(last + share**2 * (3.0 - 2.0 * share), 0, len(own) - 1))
        return self._places(at), turns.as_quat()


class Gap(Sheet):
    """The gap that an actor keeps to what is ahead of it on its route.

    It follows by the intelligent driver model (M. Treiber, A. Hennecke, D. Helbing, Phys. Rev. E 62(2), 2000): what
    is ahead, the speed it is told and its route's limits of acceleration decide how it speeds up and slows down.

    >>> Gap("2 s", to="ego").time
    2.0
    """

    time: Number = Number("time", least=0.0, kw_only=False, doc="gap over speed, from its front to the other's rear")
    to: Made[str | Sequence[str], tuple[str, ...]] = Made(
        lambda value, where: (value,) if isinstance(value, str) else tuple(value),
        doc="names of whom it minds: actors, robots, bodies; who is not ahead of it on its route is not minded",
    )
    standstill: Number = Number("length", default=2.0, above=0.0, doc="gap at rest")


class Rolls(Sheet):
    """A wheel of an actor: it turns as it rolls.

    >>> Rolls("30 cm").moves()["rate"]
    3.3333333333333335
    """

    radius: Number = Number("length", kw_only=False, doc="of the wheel; negative where its axis points to the right")

    def check(self) -> None:
        if self.radius == 0.0:
            raise VeldrainError("radius is 0", where="Rolls", cure="give the wheel's radius")

    def moves(self) -> Mapping[str, float]:
        """The numbers of ``physics.leading`` that say so."""
        return {"rate": 1.0 / self.radius}


class Swings(Sheet):
    """A limb of an actor: it swings as it goes, once to and fro in a stride.

    >>> Swings("25 deg", stride="1.4 m").stride
    1.4
    """

    amplitude: Number = Number("angle", kw_only=False, doc="to either side")
    stride: Number = Number("length", above=0.0, doc="way in which it swings to and fro")
    phase: Number = Number("angle", default=0.0, doc="where it begins")

    def moves(self) -> Mapping[str, float]:
        """The numbers of ``physics.leading`` that say so."""
        return {"swing": self.amplitude, "wave": 2.0 * math.pi / self.stride, "phase": self.phase}


class Steers(Sheet):
    """A steered wheel of an actor: it points along the curve, tan(angle) = wheelbase · curvature.

    >>> Steers("2.7 m").wheelbase
    2.7
    """

    wheelbase: Number = Number("length", above=0.0, kw_only=False, doc="from the rear axle to the front one")

    def moves(self) -> Mapping[str, float]:
        """The numbers of ``physics.leading`` that say so."""
        return {"base": self.wheelbase}


Moves = Rolls | Swings | Steers
MOVES: dict[str, Any] = {"rolls": Rolls, "swings": Swings, "steers": Steers}  # by the words of files


COURSE_NUMBERS = {"start": "length", "begin": "time", "offset": "length", "start_speed": "speed"}


@dataclass
class Course:
    """How a placed model is led: what ``World.actor`` says.

    Attributes:
        leader: a route, or another leader.
        keeps: the gap that it keeps; None: it minds nobody.
        moves: what its joints do, by name.
        passes: True: it passes through everything; sensors see it.
        upright: True: it stays upright on slopes.
        start: where on its route it begins, m.
        begin: when it sets off, s.
        offset: how far left of its route it goes, m.
        start_speed: that it begins with, m/s; None: its route's.
    """

    leader: Leader
    keeps: Gap | None = None
    moves: Mapping[str, Moves] = field(default_factory=dict)
    passes: bool = False
    upright: bool = False
    start: float = 0.0
    begin: float = 0.0
    offset: float = 0.0
    start_speed: float | None = None


def course_number(word: str, value: Quantity, name: str) -> float:
    """A number of a course, by its word in ``COURSE_NUMBERS``, SI units.

    Raises:
        VeldrainError: it is not finite, or a time before the start.
    """
    number = finite(value, COURSE_NUMBERS[word], f"{name}: {word}")
    if word in ("begin", "start_speed") and number < 0.0:
        raise VeldrainError(f"{word} is {number:g}", where=name, cure="give 0 or more")
    return number


def checked_leader(value: Any, where: str) -> Leader:
    """A leader.

    Raises:
        VeldrainError: it is none.
    """
    if not isinstance(value, Leader):
        raise VeldrainError(
            f"{value!r} leads nothing", where=where, cure="give a Route, or a class below Leader with at(times)"
        )
    return value
