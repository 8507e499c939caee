"""What a robot feels: contacts of a link, the pressure under a foot, the load in a joint, switches at its ends."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from types import SimpleNamespace as Fields
from typing import ClassVar, Unpack

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Mount, Touches
from veldrain.pose import Array
from veldrain.sensing.noise import not_negative
from veldrain.sensing.timing import CONTACTS, Timed, Timing, xyz
from veldrain.units import Quantity, quantity


def _wrench(force: Array, torque: Array) -> Fields:
    (fx, fy, fz), (tx, ty, tz) = force.tolist(), torque.tolist()
    return Fields(wrench=Fields(force=Fields(x=fx, y=fy, z=fz), torque=Fields(x=tx, y=ty, z=tz)))


def _rows(others: Sequence[str], points: Array, normals: Array, forces: Array) -> list[Fields]:
    """Contacts as their message has them; the link that carries the sensor is the first side."""
    return [
        Fields(link_a="", link_b=other, point=xyz(at), normal=xyz(normal), force=xyz(force), gap=math.nan)
        for other, at, normal, force in zip(others, points, normals, forces, strict=True)
    ]


@dataclass(frozen=True)
class Touching:
    """What touched a link since the last reading, in the sensor's axes; empty where nothing did.

    Forces are means over that time, so that force times period is the impulse, however short the touch was.

    Attributes:
        others: name paths of what touches it, one a point (n).
        points: (n, 3), m.
        normals: (n, 3), towards the link.
        forces: (n, 3) on the link, N.
        force: (3,) in all, N.
        torque: (3,) in all about the sensor's origin, N·m.
    """

    others: tuple[str, ...]
    points: Array
    normals: Array
    forces: Array
    force: Array
    torque: Array


class Touch(Timed):
    """A skin on the link that it is mounted on: what touches it, where, and with which force.

    It feels every step of the engine: a reading is the mean over its period. With whom, where and how each touch was
    is recorded beside the sum, in its stream ``…/contacts``.

    Args:
        period: s.
        threshold: a point with less force is not felt, N.
        noise: standard deviation of each component of the total force, N.
        timing: see ``Timing``.

    >>> Touch(threshold="0.5 N").message
    'geometry_msgs/msg/WrenchStamped'
    """

    message = "geometry_msgs/msg/WrenchStamped"
    looks_back = True
    perfect = {"threshold": 0.0, "noise": 0.0}

    def __init__(
        self,
        period: Quantity = 0.01,
        threshold: Quantity = 0.0,
        noise: Quantity = 0.0,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.threshold = not_negative(threshold, "force", "Touch threshold")
        self.noise = not_negative(noise, "force", "Touch noise")

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Touching]:
        touches = mount.touches()

        def measure() -> Touching:
            others, points, normals, forces, _ = touches()
            felt = np.linalg.norm(forces, axis=1) > self.threshold
            axes = mount.axes()
            points = (points[felt] - mount.position()) @ axes
            normals, forces = normals[felt] @ axes, forces[felt] @ axes
            total = forces.sum(axis=0) + random.standard_normal(3) * self.noise
            names = tuple(name for name, is_felt in zip(others, felt, strict=True) if is_felt)
            return Touching(names, points, normals, forces, total, np.cross(points, forces).sum(axis=0))

        return measure

    companions: ClassVar[Mapping[str, str]] = {"contacts": CONTACTS}

    def to_companions(self, reading: Touching) -> dict[str, Fields]:
        return {"contacts": Fields(contacts=_rows(reading.others, reading.points, reading.normals, reading.forces))}

    def to_message(self, reading: Touching) -> Fields:
        return _wrench(reading.force, reading.torque)


@dataclass(frozen=True)
class Load:
    """A number: the force on a sole, N; and what pressed on it, in the sensor's axes."""

    force: float
    touches: Touches


class FootPressure(Timed):
    """The force that a link, such as a foot, is pressed with: along the normals of its contacts, in all.

    A reading is the mean over its period. What presses and where is in its stream ``…/contacts``.

    Args:
        period: s.
        most: what is more reads as this, N.
        noise: standard deviation of a sample, N.
        timing: see ``Timing``.

    >>> FootPressure(most="500 N").most
    500.0
    """

    message = "std_msgs/msg/Float64"
    looks_back = True
    perfect = {"most": math.inf, "noise": 0.0}

    def __init__(
        self,
        period: Quantity = 0.01,
        most: Quantity = math.inf,
        noise: Quantity = 0.0,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.most = quantity(most, "force", "FootPressure most")
        self.noise = not_negative(noise, "force", "FootPressure noise")
        if not self.most > 0:
            raise VeldrainError(f"most is {self.most:g} N", where="FootPressure", cure="give a force above zero")

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Load]:
        touches = mount.touches()

        def measure() -> Load:
            others, points, normals, forces, _ = touches()
            axes = mount.axes()
            found = Touches(others, (points - mount.position()) @ axes, normals @ axes, forces @ axes, np.zeros(3))
            pressed = float(np.einsum("ij,ij->", normals, forces)) + random.standard_normal() * self.noise
            return Load(min(max(pressed, 0.0), self.most), found)

        return measure

    companions: ClassVar[Mapping[str, str]] = {"contacts": CONTACTS}

    def to_companions(self, reading: Load) -> dict[str, Fields]:
        return {"contacts": Fields(contacts=_rows(*reading.touches[:4]))}

    def to_message(self, reading: Load) -> Fields:
        return Fields(data=reading.force)


@dataclass(frozen=True)
class Wrench:
    """Force (3,) in N and torque (3,) in N·m about the sensor's origin, in its axes."""

    force: Array
    torque: Array


class ForceTorque(Timed):
    """A load cell in a joint: what the parent gives the child through it, fixed joints too; the mean over its period.

    It is mounted on a link and measures in the joint that holds that link, in the axes of its mount, about its origin.

    Args:
        period: s.
        force_noise: standard deviation of a sample, N.
        torque_noise: standard deviation of a sample, N·m.
        most_force: each component is cut off there, N.
        most_torque: each component is cut off there, N·m.
        timing: see ``Timing``.

    Raises:
        VeldrainError: no joint holds the link.

    >>> ForceTorque(most_force="200 N").message
    'geometry_msgs/msg/WrenchStamped'
    """

    message = "geometry_msgs/msg/WrenchStamped"
    looks_back = True
    perfect = {"force_noise": 0.0, "torque_noise": 0.0, "most_force": math.inf, "most_torque": math.inf}

    def __init__(
        self,
        period: Quantity = 0.01,
        force_noise: Quantity = 0.0,
        torque_noise: Quantity = 0.0,
        most_force: Quantity = math.inf,
        most_torque: Quantity = math.inf,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.force_noise = not_negative(force_noise, "force", "ForceTorque force_noise")
        self.torque_noise = not_negative(torque_noise, "torque", "ForceTorque torque_noise")
        self.most_force = quantity(most_force, "force", "ForceTorque most_force")
        self.most_torque = quantity(most_torque, "torque", "ForceTorque most_torque")

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Wrench]:
        load = mount.load()

        def measure() -> Wrench:
            force, about = load()
            force = force + random.standard_normal(3) * self.force_noise
            about = about + random.standard_normal(3) * self.torque_noise
            return Wrench(np.clip(force, -self.most_force, self.most_force),
                          np.clip(about, -self.most_torque, self.most_torque))  # fmt: skip

        return measure

    def to_message(self, reading: Wrench) -> Fields:
        return _wrench(reading.force, reading.torque)


def _travel(value: Quantity, where: str) -> float:
    """A position of a joint that slides, m, or turns, rad."""
    try:
        return quantity(value, "length", where)
    except VeldrainError:
        return quantity(value, "angle", where)


@dataclass(frozen=True)
class Closed:
    """True where the switch is closed."""

    closed: bool


class EndSwitch(Timed):
    """A switch that a joint closes when it comes to a position, and opens when it has gone back by its hysteresis.

    Args:
        joint: name of a joint that turns or slides.
        at: position, rad or m.
        above: True: closed from there on upward; False: downward.
        hysteresis: rad or m.
        period: s.
        timing: see ``Timing``.

    >>> EndSwitch("lift", at=0.75).message
    'std_msgs/msg/Bool'
    """

    message = "std_msgs/msg/Bool"
    perfect = {"hysteresis": 0.0}

    def __init__(
        self,
        joint: str,
        at: Quantity,
        above: bool = True,
        hysteresis: Quantity = 0.0,
        period: Quantity = 0.01,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.joint, self.above = joint, above
        self.at, self.hysteresis = (_travel(value, f"EndSwitch {word}") for value, word in
                                    ((at, "at"), (hysteresis, "hysteresis")))  # fmt: skip
        if not self.hysteresis >= 0:
            raise VeldrainError(f"hysteresis is {self.hysteresis:g}", where="EndSwitch", cure="give 0 or more")

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Closed]:
        _, read = mount.joints((self.joint,))
        way, closed = 1.0 if self.above else -1.0, False

        def measure() -> Closed:
            nonlocal closed
            beyond = way * (float(read()[0][0]) - self.at)
            closed = beyond >= (-self.hysteresis if closed else 0.0)
            return Closed(closed)

        return measure

    def to_message(self, reading: Closed) -> Fields:
        return Fields(data=reading.closed)
