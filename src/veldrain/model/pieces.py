"""What a model is made of: its links, joints, motors and the rest, each a frozen record in SI units."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from fnmatch import fnmatchcase
from typing import Any, Literal

from veldrain.errors import VeldrainError
from veldrain.model.inertia import MassProperties
from veldrain.model.sensor import Failure, Sensor
from veldrain.model.shapes import Part, Surface
from veldrain.pose import Pose
from veldrain.units import Triple

JointKind = Literal["fixed", "revolute", "continuous", "prismatic", "planar", "ball", "floating"]
LoopKind = Literal["revolute", "prismatic", "ball", "fixed", "rope"]
MotorMode = Literal["effort", "velocity", "position"]
JOINT_KINDS = ("fixed", "revolute", "continuous", "prismatic", "planar", "ball", "floating")
LOOP_KINDS = ("revolute", "prismatic", "ball", "fixed", "rope")
# The coordinates of a joint with several, and whether each is a length; a ball's are its rotation vector.
_SEVERAL = {"planar": {"x": True, "y": True, "yaw": False}, "ball": {"x": False, "y": False, "z": False}}
MOTOR_MODES = ("effort", "velocity", "position")
SIMPLE_KINDS = ("revolute", "continuous", "prismatic")  # with one coordinate


@dataclass(frozen=True)
class Link:
    """A rigid body: its parts, and its mass properties in its own frame."""

    name: str
    parts: tuple[Part, ...]
    mass_properties: MassProperties
    surface: Surface


@dataclass(frozen=True)
class Joint:
    """What holds a child link on its parent: in SI units, the child's frame being the joint's frame."""

    name: str
    parent: str
    child: str
    kind: JointKind
    pose: Pose
    axis: Triple
    limits: tuple[float, float] | None
    damping: float
    friction: float
    stiffness: float
    rest_position: float
    mimic: tuple[str, float, float] | None
    collide: bool
    effort: float = math.inf
    speed: float = math.inf

    @property
    def is_linear(self) -> bool:
        """True where damping and friction are of a slide (N·s/m, N) rather than of a turn (N·m·s/rad, N·m)."""
        return self.kind in ("prismatic", "planar")

    def told(self, position: float) -> str:
        """A position as a person writes it: in m where it slides, in degrees where it turns."""
        return f"{position:.4g} m" if self.is_linear else f"{math.degrees(position):.4g}°"

    @property
    def coordinates(self) -> dict[str, bool]:
        """Names of the joint's coordinates, and whether each is a length (m, m/s, N) or an angle.

        One that turns or slides has its own name; a planar joint has ``name/x``, ``name/y`` and ``name/yaw``, a
        ball joint ``name/x``, ``name/y`` and ``name/z``.
        """
        if self.kind in ("fixed", "floating"):
            return {}
        several = _SEVERAL.get(self.kind)
        return {f"{self.name}/{c}": linear for c, linear in several.items()} if several else {self.name: self.is_linear}


@dataclass(frozen=True)
class Loop:
    """What closes a loop of links: frames on two of them that stay together as a joint's would."""

    name: str
    link_a: str
    link_b: str
    kind: LoopKind
    pose_a: Pose
    pose_b: Pose
    axis: Triple
    length: float


@dataclass(frozen=True)
class Spring:
    """A spring with a damper between points of two links, in SI units."""

    name: str
    link_a: str
    link_b: str
    stiffness: float
    damping: float
    rest_length: float
    at_a: Triple
    at_b: Triple


@dataclass(frozen=True)
class Motor:
    """A motor on a joint, in SI units."""

    joint: str
    mode: MotorMode
    stiffness: float
    damping: float
    limit: float
    inertia: float
    gear_ratio: float = 1.0
    speed: float = math.inf
    stall: float = 0.0
    free_speed: float = 0.0
    play: float = 0.0
    lag: float = 0.0
    integral: float = 0.0
    brake: float = 0.0


MOTOR_NUMBERS = tuple(f.name for f in fields(Motor) if f.name not in ("joint", "mode", "gear_ratio"))


@dataclass(frozen=True)
class Rotor:
    """Blades on a joint, in SI units: thrust and torque for the square of its velocity."""

    joint: str
    thrust: float
    torque: float


@dataclass(frozen=True)
class Drag:
    """What the air holds back on a link: drag areas (m²) along the link's axes, at a point of it."""

    link: str
    area: Triple
    at: Triple


@dataclass(frozen=True)
class Frame:
    """A named point of interest on a link."""

    name: str
    link: str
    pose: Pose


@dataclass(frozen=True)
class Mounted:
    """A sensor fixed to a link, and what goes wrong with it."""

    name: str
    link: str
    pose: Pose
    sensor: Sensor
    failures: tuple[Failure, ...] = ()


@dataclass(frozen=True)
class Fault:
    """A mistake in a description that could be read past: the rule it breaks, and the error that tells of it.

    ``fix`` is what mends it, in the words of a file's ``change:``; other changes of these words mend it too. Where it
    is sure, the check offers it.
    """

    rule: str
    error: VeldrainError
    is_grave: bool = True
    fix: Mapping[str, Any] = field(default_factory=dict)
    is_sure: bool = False


@dataclass(frozen=True)
class Defaults:
    """What joints are given where their own description leaves it out."""

    joints: str
    kind: str | None
    values: Mapping[str, Any]
    motor: Mapping[str, Any]

    def fit(self, name: str, kind: str) -> bool:
        """True for the joints that are meant: by a pattern of names, and by kind."""
        return fnmatchcase(name, self.joints) and self.kind in (None, kind)


@dataclass(frozen=True)
class Suppressed:
    """A finding that is none, and why: a rule of the check, and the name path it is silent about."""

    rule: str
    at: str
    because: str
