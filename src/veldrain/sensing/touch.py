"""What a robot feels: contacts of a link, the force on a foot, the load in a joint, switches at its ends."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.sensor import Fields, Message, Mount, Sensor, Touches
from veldrain.pose import Array
from veldrain.sensing.noise import Errors
from veldrain.sensing.parts import CONTACTS, contact, xyz
from veldrain.sheet import Flag, Made, Number, Text
from veldrain.units import quantity


def _wrench(force: Array, torque: Array) -> Message:
    return Message("geometry_msgs/msg/WrenchStamped", Fields(wrench=Fields(force=xyz(force), torque=xyz(torque))))


def _contacts(link: str, others: Sequence[str], points: Array, normals: Array, forces: Array) -> Message:
    """Contacts as their message has them; the link that carries the sensor is the first side."""
    rows = [contact(link, *row) for row in zip(others, points, normals, forces, strict=True)]
    return Message(CONTACTS, Fields(contacts=rows))


def _in_mount(mount: Mount, touches: Touches) -> tuple[Array, Array, Array]:
    """Points, normals and forces of touches in the mount's axes."""
    if not touches.others:
        return touches.points, touches.normals, touches.forces
    axes = mount.axes()
    return (touches.points - mount.position()) @ axes, touches.normals @ axes, touches.forces @ axes


@dataclass(frozen=True)
class Touching:
    """What touched a link since the last reading, in the sensor's axes; empty where nothing did.

    Forces are means over that time, so that force times period is the impulse, however short the touch was.

    Attributes:
        link: name path of the link that was touched.
        others: name paths of what touches it, one a point (n).
        points: (n, 3), m.
        normals: (n, 3), towards the link.
        forces: (n, 3) on the link, N.
        force: (3,) in all, N.
        torque: (3,) in all about the sensor's origin, N·m.
    """

    link: str
    others: tuple[str, ...]
    points: Array
    normals: Array
    forces: Array
    force: Array
    torque: Array


class Touch(Sensor):
    """A tactile skin: what touches the link that it is mounted on, where, and with which force.

    Use it for bumpers, grippers and shells. It feels every step of the engine: a reading is the mean over its period.
    Each touch, with whom, where and how, is recorded beside the sum, in its stream ``…/contacts``.

    >>> Touch(threshold="0.5 N").message
    'geometry_msgs/msg/WrenchStamped'
    """

    message = "geometry_msgs/msg/WrenchStamped"
    looks_back = True
    companions = ("contacts",)

    period: Number = Number("period", default=0.01, above=0.0, kw_only=False, doc="time between samples, or their rate")
    threshold: Number = Number("force", default=0.0, least=0.0, exact=0.0, doc="a point with less force is not felt")
    noise: Number = Number(
        "force", default=0.0, least=0.0, exact=0.0, doc="standard deviation of each component of the total force"
    )

    def start(self, mount: Mount, random: np.random.Generator) -> TouchAtWork:
        mount.feel_touches()
        return TouchAtWork(self, random)

    def messages(self, reading: Touching) -> dict[str, Message]:
        rows = reading.points, reading.normals, reading.forces
        return {"": _wrench(reading.force, reading.torque), "contacts": _contacts(reading.link, reading.others, *rows)}


@dataclass
class TouchAtWork:
    """The random stream of its noise."""

    sheet: Touch
    random: np.random.Generator

    def measure(self, mount: Mount) -> Touching:
        touches = mount.felt_touches()
        felt = np.linalg.norm(touches.forces, axis=1) > self.sheet.threshold
        points, normals, forces = (values[felt] for values in _in_mount(mount, touches))
        total = forces.sum(axis=0) + self.random.standard_normal(3) * self.sheet.noise
        names = tuple(name for name, is_felt in zip(touches.others, felt, strict=True) if is_felt)
        return Touching(mount.link, names, points, normals, forces, total, np.cross(points, forces).sum(axis=0))


@dataclass(frozen=True)
class Load:
    """The force on a sole, N; and what pressed on it: the link, names of others, points, normals and forces (n, 3) in
    the sensor's axes."""

    force: float
    link: str
    others: Sequence[str]
    points: Array
    normals: Array
    forces: Array


class FootForce(Sensor):
    """A force sensor in a foot or sole: what presses on its link along the normals of the contacts, in all.

    Use it to see which feet stand. A reading is the mean over its period. What presses and where is in its stream
    ``…/contacts``.

    >>> FootForce(full_scale="500 N").full_scale
    500.0
    """

    message = "std_msgs/msg/Float64"
    looks_back = True
    companions = ("contacts",)

    period: Number = Number("period", default=0.01, above=0.0, kw_only=False, doc="time between samples, or their rate")
    full_scale: Number = Number(
        "force", default=math.inf, above=0.0, exact=math.inf, doc="a larger force reads as this"
    )
    noise: Number = Number("force", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample")

    def unit(self, companion: str = "") -> str:
        return "" if companion else "N"

    def start(self, mount: Mount, random: np.random.Generator) -> FootAtWork:
        mount.feel_touches()
        return FootAtWork(self, random)

    def messages(self, reading: Load) -> dict[str, Message]:
        rows = reading.points, reading.normals, reading.forces
        return {
            "": Message(self.message, Fields(data=reading.force)),
            "contacts": _contacts(reading.link, reading.others, *rows),
        }


@dataclass
class FootAtWork:
    """The random stream of its noise."""

    sheet: FootForce
    random: np.random.Generator

    def measure(self, mount: Mount) -> Load:
        touches = mount.felt_touches()
        pressed = float(np.einsum("ij,ij->", touches.normals, touches.forces))
        pressed += self.random.standard_normal() * self.sheet.noise
        force = min(max(pressed, 0.0), self.sheet.full_scale)
        return Load(force, mount.link, touches.others, *_in_mount(mount, touches))


@dataclass(frozen=True)
class Wrench:
    """Force (3,) in N and torque (3,) in N·m about the sensor's origin, in its axes."""

    force: Array
    torque: Array


class ForceTorque(Sensor):
    """A force-torque sensor (load cell) in a joint: what the parent gives the child through it.

    Use it in a wrist or ankle. It is mounted on a link and measures in the joint that holds that link, fixed joints
    too, in the axes of its mount, about its origin. A reading is the mean over its period.

    Raises:
        VeldrainError: no joint holds the link.

    >>> ForceTorque(force_full_scale="200 N").message
    'geometry_msgs/msg/WrenchStamped'
    """

    message = "geometry_msgs/msg/WrenchStamped"
    stacks = True
    looks_back = True

    period: Number = Number("period", default=0.01, above=0.0, kw_only=False, doc="time between samples, or their rate")
    force_noise: Number = Number("force", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample")
    torque_noise: Number = Number("torque", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample")
    force_bias: Number = Number(
        "force", default=0.0, least=0.0, exact=0.0, doc="standard deviation of the constant bias over trials"
    )
    torque_bias: Number = Number(
        "torque", default=0.0, least=0.0, exact=0.0, doc="standard deviation of the constant bias over trials"
    )
    force_drift: Number = Number(
        "force random walk",
        default=0.0,
        least=0.0,
        exact=0.0,
        doc="random walk of the bias: after t s it has grown by that·√t",
    )
    torque_drift: Number = Number("torque random walk", default=0.0, least=0.0, exact=0.0, doc="the same of torques")
    force_full_scale: Number = Number(
        "force", default=math.inf, above=0.0, exact=math.inf, doc="each component is cut off there"
    )
    torque_full_scale: Number = Number(
        "torque", default=math.inf, above=0.0, exact=math.inf, doc="each component is cut off there"
    )

    def start(self, mount: Mount, random: np.random.Generator) -> ForceTorqueAtWork:
        mount.feel_load()
        figures = (
            (self.force_bias, self.force_noise, self.force_drift, self.period, 0.0, self.force_full_scale),
            (self.torque_bias, self.torque_noise, self.torque_drift, self.period, 0.0, self.torque_full_scale),
        )
        return ForceTorqueAtWork(*(Errors(random, *each) for each in figures))

    def messages(self, reading: Wrench) -> dict[str, Message]:
        return {"": _wrench(reading.force, reading.torque)}


@dataclass
class ForceTorqueAtWork:
    """Errors of the two triads."""

    force: Errors
    torque: Errors

    def measure(self, mount: Mount) -> Wrench:
        force, torque = mount.felt_load()
        return Wrench(self.force.add_to(force), self.torque.add_to(torque))


def _travel(value: Any, where: str) -> float:
    """A position of a joint that slides, m, or turns, rad."""
    try:
        return quantity(value, "length", where)
    except VeldrainError:
        return quantity(value, "angle", where)


@dataclass(frozen=True)
class Closed:
    """True where the switch is closed."""

    closed: bool


class LimitSwitch(Sensor):
    """A limit switch: a joint closes it when it comes to a position, and opens it when it has gone back enough.

    Use it at the end of a travel, or as a reference.

    >>> LimitSwitch("lift", at=0.75).message
    'std_msgs/msg/Bool'
    """

    message = "std_msgs/msg/Bool"
    stacks = True

    joint: Text = Text(kw_only=False, doc="name of a joint that turns or slides")
    at: Made[float | int | str, float] = Made(_travel, kw_only=False, doc="position at which it closes (rad or m)")
    above: Flag = Flag(default=True, doc="True: closed from there on upward; False: downward")
    hysteresis: Made[float | int | str, float] = Made(
        _travel, default=0.0, exact=0.0, doc="how far the joint goes back before it opens (rad or m)"
    )
    period: Number = Number("period", default=0.01, above=0.0, doc="time between samples, or their rate")

    def check(self) -> None:
        if not self.hysteresis >= 0:
            raise VeldrainError(f"hysteresis is {self.hysteresis:g}", where="LimitSwitch", cure="give 0 or more")

    def switch(self) -> tuple[str, float]:
        return self.joint, self.at

    def closes_above(self) -> bool:
        return self.above

    def start(self, mount: Mount, random: np.random.Generator) -> SwitchAtWork:
        mount.joint_names((self.joint,))
        return SwitchAtWork(self)

    def messages(self, reading: Closed) -> dict[str, Message]:
        return {"": Message(self.message, Fields(data=reading.closed))}


@dataclass
class SwitchAtWork:
    """Whether it is closed."""

    sheet: LimitSwitch
    closed: bool = False

    def measure(self, mount: Mount) -> Closed:
        position = float(mount.joints((self.sheet.joint,))[0][0])
        beyond = (1.0 if self.sheet.above else -1.0) * (position - self.sheet.at)
        self.closed = beyond >= (-self.sheet.hysteresis if self.closed else 0.0)
        return Closed(self.closed)
