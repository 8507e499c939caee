"""A model: links, the joints between them, motors, named frames and mounted sensors. Pure data."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, TypeVar

import numpy as np
from numpy.typing import ArrayLike

from veldrain.errors import VeldrainError, unknown
from veldrain.model.inertia import MassProperties, checked_inertia, of_parts
from veldrain.model.sensor import Sensor, checked_sensor
from veldrain.model.shapes import Part, Shape, Surface, as_parts
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, Triple, quantity, triple

JointKind = Literal["fixed", "revolute", "continuous", "prismatic", "planar", "ball", "floating"]
LoopKind = Literal["revolute", "prismatic", "ball", "fixed", "rope"]
MotorMode = Literal["effort", "velocity", "position"]
JOINT_KINDS = ("fixed", "revolute", "continuous", "prismatic", "planar", "ball", "floating")
LOOP_KINDS = ("revolute", "prismatic", "ball", "fixed", "rope")
# The coordinates of a joint with several, and whether each is a length; a ball's are its rotation vector.
_SEVERAL = {
    "planar": {"x": True, "y": True, "yaw": False},
    "ball": {"x": False, "y": False, "z": False},
}
MOTOR_MODES = ("effort", "velocity", "position")
SIMPLE_KINDS = ("revolute", "continuous", "prismatic")  # with one coordinate
_Named = TypeVar("_Named")


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
    rest: float
    mimic: tuple[str, float, float] | None
    collide: bool

    @property
    def is_linear(self) -> bool:
        """True where damping and friction are of a slide (N·s/m, N) rather than of a turn (N·m·s/rad, N·m)."""
        return self.kind in ("prismatic", "planar")

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
    length: float
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


@dataclass(frozen=True)
class Frame:
    """A named point of interest on a link."""

    name: str
    link: str
    pose: Pose


@dataclass(frozen=True)
class Mounted:
    """A sensor fixed to a link."""

    name: str
    link: str
    pose: Pose
    sensor: Sensor


class Model:
    """A robot or another mechanism, described once and placed into worlds as often as wanted.

    >>> hoist = Model("hoist")
    >>> hoist.link("trolley", mass=12).link("rake", mass=3).joint("swing", "trolley", "rake", kind="revolute")
    Model('hoist': 2 links, 1 joint, 0 sensors)
    """

    def __init__(self, name: str) -> None:
        self.name = _checked_name(name, "model")
        self.links: dict[str, Link] = {}
        self.joints: dict[str, Joint] = {}
        self.motors: dict[str, Motor] = {}
        self.loops: dict[str, Loop] = {}
        self.springs: dict[str, Spring] = {}
        self.apart: list[tuple[str, str]] = []
        self.frames: dict[str, Frame] = {}
        self.sensors: dict[str, Mounted] = {}

    def link(
        self,
        name: str,
        *shapes: Shape | Part,
        mass: Quantity | None = None,
        inertia: ArrayLike | None = None,
        com: Sequence[Quantity] | None = None,
        surface: Surface | None = None,
    ) -> Model:
        """Add a link.

        Args:
            name: its name, unique in the model.
            shapes: shapes or parts, at poses in the link's frame.
            mass: kg, above zero. None: a frame without mass, which only a fixed joint can hold.
            inertia: (3, 3) about the centre of mass in the link's axes, kg·m². None: from the shapes that
                can be touched, at even density.
            com: centre of mass in the link's frame, m. None: from the shapes.
            surface: of all parts that have none of their own.

        Raises:
            VeldrainError: a name taken, a mass not above zero, an inertia that no body can have.

        >>> Model("probe").link("shell", Sphere("5 cm"), mass="300 g").links["shell"].mass_properties.mass
        0.3
        """
        where = f"{self.name}/{name}"
        parts = as_parts(shapes)
        properties = _mass_properties(parts, mass, inertia, com, where)
        self._add(self.links, name, Link(name, parts, properties, surface or Surface()), "link")
        return self

    def joint(
        self,
        name: str,
        parent: str,
        child: str,
        kind: JointKind,
        pose: Pose | None = None,
        axis: Sequence[float] = (0.0, 0.0, 1.0),
        limits: tuple[Quantity, Quantity] | None = None,
        damping: Quantity = 0.0,
        friction: Quantity = 0.0,
        mimic: tuple[str, float, Quantity] | None = None,
        stiffness: Quantity = 0.0,
        rest: Quantity = 0.0,
        collide: bool = False,
    ) -> Model:
        """Join two links.

        Args:
            name: its name, unique in the model.
            parent: name of the link that holds.
            child: name of the link that is held; its frame is the joint's frame.
            kind: ``fixed``, ``revolute``, ``continuous``, ``prismatic``, ``planar`` (slides in the plane across the
                axis and turns about it), ``ball`` or ``floating``.
            pose: of the joint in the parent.
            axis: of turning or sliding, in the joint's frame; made a unit vector.
            limits: least and largest position (rad, or m when prismatic). None: none.
            damping: N·m·s/rad, or N·s/m when prismatic or planar (of its slides).
            friction: Coulomb friction in the joint, N·m, or N when prismatic or planar (of each slide).
            mimic: another joint, a ratio and an offset: this joint's position is ratio · the other's + offset.
            stiffness: of a spring in the joint, N·m/rad, or N/m when prismatic.
            rest: the position at which that spring is at rest.
            collide: True lets the two links touch each other.

        Raises:
            VeldrainError: an unknown link or kind, an axis of length zero, limits the wrong way round, a
                child that is held twice.

        >>> m = Model("gate").link("frame", mass=40).link("blade", mass=15)
        >>> m.joint("lift", "frame", "blade", kind="prismatic", limits=(0, "60 cm")).joints["lift"].limits
        (0.0, 0.6)
        """
        where = f"{self.name}/{name}"
        if kind not in JOINT_KINDS:
            raise unknown("kind of joint", kind, JOINT_KINDS, where)
        for link in (parent, child):
            if link not in self.links:
                raise unknown("link", link, self.links, where)
        held = next((j for j in self.joints.values() if j.child == child), None)
        if held is not None or parent == child:
            by = f"joint '{held.name}'" if held else "itself"
            raise VeldrainError(f"link '{child}' is held by {by} already", where=where, cure="a link has one parent")
        if child in self.ancestors(parent):
            raise VeldrainError(f"'{parent}' hangs on '{child}': the joints form a ring", where=where,
                                cure="links form a tree")  # fmt: skip
        linear = kind in ("prismatic", "planar")
        force, position = ("force", "length") if linear else ("torque", "angle")
        sort = "linear" if linear else "angular"
        joint = Joint(
            name=name,
            parent=parent,
            child=child,
            kind=kind,
            pose=pose or Pose(),
            axis=_unit(axis, where),
            limits=_limits(limits, position, where),
            damping=_not_negative(quantity(damping, f"{sort} damping", where), "damping", where),
            friction=_not_negative(quantity(friction, force, where), "friction", where),
            stiffness=_not_negative(quantity(stiffness, f"{sort} stiffness", where), "stiffness", where),
            rest=quantity(rest, position, where),
            mimic=self._mimic(mimic, position, name),
            collide=collide,
        )
        if joint.limits and kind not in ("revolute", "prismatic"):
            raise VeldrainError(f"a {kind} joint has no limits", where=where, cure="use kind='revolute'")
        if (joint.stiffness or joint.mimic) and kind not in SIMPLE_KINDS:
            raise VeldrainError(f"a {kind} joint has no spring and follows no other", where=where,
                                cure="use Model.spring, or a joint with one coordinate")  # fmt: skip
        self._add(self.joints, name, joint, "joint")
        return self

    def _mimic(
        self, mimic: tuple[str, float, Quantity] | None, position: str, name: str
    ) -> tuple[str, float, float] | None:
        if mimic is None:
            return None
        where = f"{self.name}/{name}"
        leader, ratio, offset = mimic
        if leader not in self.joints or self.joints[leader].kind not in SIMPLE_KINDS or leader == name:
            simple = [j.name for j in self.joints.values() if j.kind in SIMPLE_KINDS]
            raise unknown("joint to follow", leader, simple, where)
        return leader, float(ratio), quantity(offset, position, where)

    def close(
        self,
        name: str,
        link_a: str,
        link_b: str,
        kind: LoopKind = "revolute",
        pose_a: Pose | None = None,
        pose_b: Pose | None = None,
        axis: Sequence[float] = (0.0, 0.0, 1.0),
        length: Quantity = 0.0,
    ) -> Model:
        """Close a loop: hold a frame of one link on a frame of another, as a joint of that kind would.

        Joints whose start is not given when the model is placed are turned so that the loop closes.

        Args:
            name: its name, unique in the model.
            link_a: one link.
            link_b: the other.
            kind: ``revolute``, ``prismatic``, ``ball``, ``fixed``, or ``rope``: never farther apart than ``length``.
            pose_a: the frame on link a.
            pose_b: the frame on link b.
            axis: of turning or sliding, in both frames.
            length: of the rope, m.

        Raises:
            VeldrainError: an unknown link or kind, both ends on one link, a rope without length.

        >>> m = Model("bar").link("base").link("crank", mass=1).joint("turn", "base", "crank", kind="continuous")
        >>> m.close("stay", "crank", "base", kind="rope", length="40 cm").loops["stay"].length
        0.4
        """
        where = f"{self.name}/{name}"
        if kind not in LOOP_KINDS:
            raise unknown("kind of loop", kind, LOOP_KINDS, where)
        self._two_links(link_a, link_b, where)
        reach = quantity(length, "length", where)
        if (kind == "rope") != (reach > 0):
            raise VeldrainError(f"a loop of kind {kind} with length {reach:g} m", where=where,
                                cure="give length= to a rope, and to nothing else")  # fmt: skip
        loop = Loop(name, link_a, link_b, kind, pose_a or Pose(), pose_b or Pose(), _unit(axis, where), reach)
        self._add(self.loops, name, loop, "loop")
        return self

    def spring(
        self,
        name: str,
        link_a: str,
        link_b: str,
        stiffness: Quantity = 0.0,
        damping: Quantity = 0.0,
        length: Quantity = 0.0,
        at_a: Sequence[Quantity] = (0.0, 0.0, 0.0),
        at_b: Sequence[Quantity] = (0.0, 0.0, 0.0),
    ) -> Model:
        """Put a spring with a damper between points of two links.

        Args:
            name: its name, unique in the model.
            link_a: one link.
            link_b: the other.
            stiffness: N/m.
            damping: N·s/m.
            length: at which it is at rest, m.
            at_a: its point on link a, in the link.
            at_b: its point on link b.

        >>> m = Model("m").link("a", mass=1).link("b", mass=1).joint("j", "a", "b", kind="prismatic")
        >>> m.spring("coil", "a", "b", stiffness="2 kN/m", length="10 cm").springs["coil"].stiffness
        2000.0
        """
        where = f"{self.name}/{name}"
        self._two_links(link_a, link_b, where)
        k = _not_negative(quantity(stiffness, "linear stiffness", where), "stiffness", where)
        c = _not_negative(quantity(damping, "linear damping", where), "damping", where)
        if k + c == 0.0:
            raise VeldrainError("a spring without stiffness and damping", where=where, cure="give one of them")
        rest = _not_negative(quantity(length, "length", where), "length", where)
        at = triple(at_a, "length", where), triple(at_b, "length", where)
        self._add(self.springs, name, Spring(name, link_a, link_b, k, c, rest, *at), "spring")
        return self

    def no_contact(self, link_a: str, link_b: str) -> Model:
        """Let two links pass through each other.

        >>> Model("m").link("a", mass=1).link("b", mass=1).no_contact("a", "b").apart
        [('a', 'b')]
        """
        self._two_links(link_a, link_b, self.name)
        self.apart.append((link_a, link_b))
        return self

    def _two_links(self, link_a: str, link_b: str, where: str) -> None:
        for link in (link_a, link_b):
            if link not in self.links:
                raise unknown("link", link, self.links, where)
        if link_a == link_b:
            raise VeldrainError(f"both ends on link '{link_a}'", where=where, cure="name two links")

    def coordinates(self) -> dict[str, tuple[Joint, bool]]:
        """All coordinates by name: their joint, and whether they are lengths."""
        return {c: (j, linear) for j in self.joints.values() for c, linear in j.coordinates.items()}

    def motor(
        self,
        joint: str,
        mode: MotorMode = "effort",
        stiffness: Quantity = 0.0,
        damping: Quantity = 0.0,
        limit: Quantity = np.inf,
        inertia: Quantity = 0.0,
    ) -> Model:
        """Put a motor on a joint.

        In mode ``effort`` it gives the effort that is commanded; in mode ``velocity`` damping·(commanded
        velocity − velocity); in mode ``position`` stiffness·(commanded position − position) − damping·velocity.
        Its effort never exceeds ``limit``.

        Args:
            joint: name of a joint, or of one of its coordinates (``slide/x`` of a planar joint).
            mode: what is commanded.
            stiffness: N·m/rad, or N/m when prismatic.
            damping: N·m·s/rad, or N·s/m when prismatic.
            limit: largest effort, N·m, or N when prismatic.
            inertia: of the rotor, as the joint feels it (times the square of the gear's ratio), kg·m², or kg.

        Raises:
            VeldrainError: an unknown joint or mode, a gain missing or negative, a second motor.

        >>> m = Model("drum").link("stand", mass=5).link("drum", mass=2)
        >>> m.joint("turn", "stand", "drum", kind="continuous").motor("turn", "velocity", damping=2, limit=8)
        Model('drum': 2 links, 1 joint, 0 sensors)
        """
        where = f"{self.name}/{joint}"
        if joint in self.joints and self.joints[joint].kind in ("fixed", "floating"):
            raise VeldrainError(f"a motor on a {self.joints[joint].kind} joint", where=where,
                                cure="use a joint that turns or slides")  # fmt: skip
        coordinates = self.coordinates()
        if joint not in coordinates:
            raise unknown("joint", joint, coordinates, where)
        if mode not in MOTOR_MODES:
            raise unknown("motor mode", mode, MOTOR_MODES, where)
        held, linear = coordinates[joint]
        if held.kind == "ball" and mode == "position":
            raise VeldrainError("a ball joint has no position motor", where=where, cure="use mode 'effort'")
        sort = "linear" if linear else "angular"
        motor = Motor(
            joint,
            mode,
            _not_negative(quantity(stiffness, f"{sort} stiffness", where), "stiffness", where),
            _not_negative(quantity(damping, f"{sort} damping", where), "damping", where),
            _not_negative(quantity(limit, "force" if linear else "torque", where), "limit", where),
            _not_negative(quantity(inertia, "mass" if linear else "inertia", where), "inertia", where),
        )
        needed = {"velocity": motor.damping, "position": motor.stiffness}.get(mode, 1.0)
        if needed == 0.0:
            word = {"velocity": "damping", "position": "stiffness"}[mode]
            raise VeldrainError(f"a motor in {mode} mode with {word} 0 never moves", where=where,
                                cure=f"give {word}=")  # fmt: skip
        if joint in self.motors:
            raise VeldrainError(f"a second motor on joint '{joint}'", where=self.name, cure="one is enough")
        self.motors[joint] = motor
        return self

    def frame(self, name: str, on: str, pose: Pose | None = None) -> Model:
        """Name a point of interest on a link, such as a tool's tip; ``pose`` is in the link.

        >>> Model("arm").link("flange", mass=1).frame("tip", on="flange", pose=Pose((0, 0, "8 cm"))).frames["tip"].link
        'flange'
        """
        if on not in self.links:
            raise unknown("link", on, self.links, f"{self.name}/{name}")
        if name in self.links:
            raise VeldrainError(f"'{name}' is a link already", where=self.name, cure="give another name")
        self._add(self.frames, name, Frame(name, on, pose or Pose()), "frame")
        return self

    def mount(self, sensor: Sensor, name: str, on: str, pose: Pose | None = None) -> Model:
        """Fix a sensor to a link, at a pose in the link; its stream is called ``<robot>/<name>``.

        Raises:
            VeldrainError: an unknown link, a name taken, an object that is no sensor.

        >>> from veldrain.sensing import Imu
        >>> Model("probe").link("shell", mass=1).mount(Imu(), name="imu", on="shell").sensors["imu"].link
        'shell'
        """
        where = f"{self.name}/{name}"
        if on not in self.links:
            raise unknown("link", on, self.links, where)
        self._add(self.sensors, name, Mounted(name, on, pose or Pose(), checked_sensor(sensor, where)), "sensor")
        return self

    def root(self) -> str:
        """Name of the one link that no joint holds.

        Raises:
            VeldrainError: no link at all, or several roots.
        """
        roots = [name for name in self.links if all(j.child != name for j in self.joints.values())]
        if len(roots) != 1:
            raise VeldrainError(
                f"{len(roots)} links are held by no joint ({', '.join(roots) or 'there is no link'})",
                where=self.name,
                cure="a model has one root: join the others to it",
            )
        return roots[0]

    def ancestors(self, link: str) -> list[str]:
        """The links from this one up to the root, itself first."""
        holding = {j.child: j.parent for j in self.joints.values()}
        chain = [link]
        while chain[-1] in holding:
            chain.append(holding[chain[-1]])
        return chain

    def _add(self, table: dict[str, _Named], name: str, thing: _Named, what: str) -> None:
        _checked_name(name, f"{self.name}: {what}")
        if name in table:
            raise VeldrainError(f"a second {what} '{name}'", where=self.name, cure="give it another name")
        table[name] = thing

    def __repr__(self) -> str:
        def count(table: Mapping[str, Any], what: str) -> str:
            return f"{len(table)} {what}{'' if len(table) == 1 else 's'}"

        parts = (count(self.links, "link"), count(self.joints, "joint"), count(self.sensors, "sensor"))
        return f"Model('{self.name}': {', '.join(parts)})"


def _checked_name(name: str, where: str) -> str:
    if not isinstance(name, str) or not name or any(c.isspace() or c == "." for c in name) or "//" in name:
        raise VeldrainError(f"{name!r} is not a name", where=where, cure="use letters, digits, _ and -")
    return name


def _mass_properties(
    parts: Sequence[Part],
    mass: Quantity | None,
    inertia: ArrayLike | None,
    com: Sequence[Quantity] | None,
    where: str,
) -> MassProperties:
    if mass is None:
        return MassProperties(0.0, np.zeros(3), np.zeros((3, 3)))
    kg = quantity(mass, "mass", where)
    if not 0 < kg < np.inf:
        raise VeldrainError(f"mass is {kg:g} kg", where=where, cure="give a mass above zero")
    # A link without shapes is a point: small, but not so small that turning it is ill-conditioned.
    made = of_parts(parts, kg) if parts else MassProperties(kg, np.zeros(3), kg * 1e-4 * np.eye(3))
    centre = np.array(triple(com, "length", where)) if com is not None else made.com
    return MassProperties(kg, centre, checked_inertia(made.inertia if inertia is None else np.asarray(inertia), where))


def _unit(axis: Sequence[float], where: str) -> Triple:
    vector: Array = np.array([float(a) for a in axis])
    length = float(np.linalg.norm(vector))
    if vector.shape != (3,) or not np.isfinite(length) or length < 1e-9:
        raise VeldrainError(
            f"axis {tuple(axis)} has no direction", where=where, cure="give three numbers, such as (0, 0, 1)"
        )
    x, y, z = vector / length
    return float(x), float(y), float(z)


def _limits(limits: tuple[Quantity, Quantity] | None, kind: str, where: str) -> tuple[float, float] | None:
    if limits is None:
        return None
    low, high = (quantity(v, kind, where) for v in limits)
    if low > high:
        raise VeldrainError(f"limits ({low:g}, {high:g}) are the wrong way round", where=where, cure="the lower first")
    return low, high


def _not_negative(value: float, name: str, where: str) -> float:
    if value < 0:
        raise VeldrainError(f"{name} is {value:g}", where=where, cure="give 0 or more")
    return value
