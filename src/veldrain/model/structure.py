"""How a model is described: link by link, joint by joint, each looked over as it is added."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from veldrain.errors import VeldrainError, told_at, unknown
from veldrain.model.inertia import LEAST_MASS, NOTHING, MassProperties, checked_inertia, is_solid, of_parts, volume_of
from veldrain.model.motoring import Motoring, not_negative
from veldrain.model.pieces import (
    JOINT_KINDS,
    LOOP_KINDS,
    SIMPLE_KINDS,
    Frame,
    Joint,
    JointKind,
    Link,
    Loop,
    LoopKind,
    Mounted,
    Spring,
)
from veldrain.model.sensor import Failure, Sensor, checked_sensor
from veldrain.model.shapes import Part, Shape, Surface, as_parts
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, Triple, finite, quantity, triple


class Structure(Motoring):
    """Links, joints, loops, springs, frames and sensors of a model. Use it as ``Model``."""

    def link(
        self,
        name: str,
        *shapes: Shape | Part,
        mass: Quantity | None = None,
        inertia: ArrayLike | None = None,
        com: Sequence[Quantity] | None = None,
        surface: Surface | None = None,
        density: Quantity | None = None,
    ) -> Self:
        """Add a link.

        Args:
            name: its name, unique in the model.
            shapes: shapes or parts, at poses in the link's frame.
            mass: kg, above zero. None: a frame without mass, which only a fixed joint can hold.
            inertia: (3, 3) about the centre of mass in the link's axes, kg·m². None: from the shapes that
                can be touched, at even density.
            com: centre of mass in the link's frame, m. None: from the shapes.
            surface: of all parts that have none of their own.
            density: kg/m³, instead of mass: of the volume of the shapes that can be touched.

        Raises:
            VeldrainError: a name taken, mass and density together, a mass not above zero, an inertia that no body
                can have.

        >>> Model("probe").link("shell", Sphere("5 cm"), mass="300 g").links["shell"].mass_properties.mass
        0.3
        """
        where = f"{self.name}/{name}"
        parts = as_parts(shapes)
        if density is not None:
            if mass is not None:
                raise VeldrainError("mass and density", where=where, cure="give one of them")
            mass = volume_of(parts) * quantity(density, "density", where)
        self._add(
            self.links,
            name,
            Link(name, parts, self._body(parts, mass, inertia, com, name), surface or Surface()),
            "link",
        )
        return self

    def _body(
        self,
        parts: Sequence[Part],
        mass: Quantity | None,
        inertia: ArrayLike | None,
        com: Sequence[Quantity] | None,
        name: str,
    ) -> MassProperties:
        where = f"{self.name}/{name}"
        if mass is None:
            return NOTHING
        kg = quantity(mass, "mass", where)
        if not LEAST_MASS <= kg < np.inf:
            with self._reading_past("no-mass", {"links": {name: {"mass": None}}}):
                raise VeldrainError(f"mass is {kg:g} kg", where=where, cure="give a mass above zero")
            return NOTHING
        if inertia is not None:
            with self._reading_past("impossible-inertia", {"links": {name: {"inertia": None}}}, is_sure=True):
                tensor = checked_inertia(np.asarray(inertia), where)
                if com is not None:  # nothing to ask the shapes for
                    return MassProperties(kg, np.array(triple(com, "length", where)), tensor)
                return MassProperties(kg, of_parts(parts, kg).com if parts else np.zeros(3), tensor)
        # A link without shapes is a point: small, but not so small that turning it is ill-conditioned.
        made = MassProperties(kg, np.zeros(3), kg * 1e-4 * np.eye(3))
        if parts and (inertia is None or all(is_solid(p.shape) for p in parts)):
            made = of_parts(parts, kg)
        return replace(made, com=np.array(triple(com, "length", where))) if com is not None else made

    def joint(
        self,
        name: str,
        parent: str,
        child: str,
        kind: JointKind,
        pose: Pose | None = None,
        axis: Sequence[float] = (0.0, 0.0, 1.0),
        limits: tuple[Quantity, Quantity] | None = None,
        damping: Quantity | None = None,
        friction: Quantity | None = None,
        mimic: tuple[str, float, Quantity] | None = None,
        stiffness: Quantity | None = None,
        rest_position: Quantity | None = None,
        collide: bool = False,
        effort: Quantity | None = None,
        speed: Quantity | None = None,
    ) -> Self:
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
            rest_position: the position at which that spring is at rest.
            collide: True lets the two links touch each other.
            effort: the largest that a motor may give it, N·m, or N when prismatic. None: any.
            speed: the largest it is made for, rad/s, or m/s when prismatic: for ``check``; nothing holds it.

        What is None here is as ``defaults`` say, or 0.

        Raises:
            VeldrainError: an unknown link or kind, an axis of length zero, limits the wrong way round, a
                child that is held twice.

        >>> m = Model("gate").link("frame", mass=40).link("blade", mass=15)
        >>> m.joint("lift", "frame", "blade", kind="prismatic", limits=(0, "60 cm")).joints["lift"].limits
        (0.0, 0.6)
        """
        where = f"{self.name}/{name}"
        can_be = False
        with self._reading_past("tree"):
            self._checked_ends(parent, child, kind, where)
            can_be = True
        if not can_be:
            return self
        values: dict[str, Any] = {
            "limits": limits,
            "damping": damping,
            "friction": friction,
            "stiffness": stiffness,
            "rest_position": rest_position,
            "effort": effort,
            "speed": speed,
        }
        given = {key: value for key, value in values.items() if value is not None}
        values |= self._default_values(name, kind, "values") | given
        linear = kind in ("prismatic", "planar")
        force, position = ("force", "length") if linear else ("torque", "angle")
        sort = "linear" if linear else "angular"

        def number(key: str, of: str, otherwise: float = 0.0) -> float:
            if key == "rest_position":
                return finite(values[key] or 0.0, of, where)
            return not_negative(otherwise if values[key] is None else quantity(values[key], of, where), key, where)

        limits = None
        swapped = {"joints": {name: {"limits": list(values["limits"] or ())[::-1] or None}}}
        with self._reading_past("limits", swapped, is_sure=True):
            limits = _limits(values["limits"], position, where)
            if limits and kind not in ("revolute", "prismatic"):
                limits = None
                raise VeldrainError(f"a {kind} joint has no limits", where=where, cure="use kind='revolute'")
        direction = (0.0, 0.0, 1.0)
        with self._reading_past("axis", {"joints": {name: {"axis": [0, 0, 1]}}}):
            direction = _unit(axis, where)
        follows = None
        with self._reading_past("mimic", {"joints": {name: {"mimic": None}}}):
            follows = self._mimic(mimic, position, name)
        joint = Joint(
            name=name,
            parent=parent,
            child=child,
            kind=kind,
            pose=pose or Pose(),
            axis=direction,
            limits=limits,
            damping=number("damping", f"{sort} damping"),
            friction=number("friction", force),
            stiffness=number("stiffness", f"{sort} stiffness"),
            rest_position=number("rest_position", position),
            mimic=follows,
            collide=collide,
            effort=number("effort", force, np.inf),
            speed=number("speed", "speed" if linear else "angular speed", np.inf),
        )
        if (joint.stiffness or joint.mimic) and kind not in SIMPLE_KINDS:
            raise VeldrainError(
                f"a {kind} joint has no spring and follows no other",
                where=where,
                cure="use Model.spring, or a joint with one coordinate",
            )
        self._add(self.joints, name, joint, "joint")
        self._given[f"joint {name}"] = set(given)
        motor = self._default_values(name, kind, "motor")
        if motor and name not in self.motors:
            self.motor(name)
            self._given[f"motor {name}"] = set()
        return self

    def _checked_ends(self, parent: str, child: str, kind: str, where: str) -> None:
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
            raise VeldrainError(
                f"'{parent}' hangs on '{child}': the joints form a ring",
                where=where,
                cure="links form a tree; close a loop with Model.close",
            )

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
    ) -> Self:
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
            raise VeldrainError(
                f"a loop of kind {kind} with length {reach:g} m",
                where=where,
                cure="give length= to a rope, and to nothing else",
            )
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
        rest_length: Quantity = 0.0,
        at_a: Sequence[Quantity] = (0.0, 0.0, 0.0),
        at_b: Sequence[Quantity] = (0.0, 0.0, 0.0),
    ) -> Self:
        """Put a spring with a damper between points of two links.

        Args:
            name: its name, unique in the model.
            link_a: one link.
            link_b: the other.
            stiffness: N/m.
            damping: N·s/m.
            rest_length: at which it gives no force, m.
            at_a: its point on link a, in the link.
            at_b: its point on link b.

        >>> m = Model("m").link("a", mass=1).link("b", mass=1).joint("j", "a", "b", kind="prismatic")
        >>> m.spring("coil", "a", "b", stiffness="2 kN/m", rest_length="10 cm").springs["coil"].stiffness
        2000.0
        """
        where = f"{self.name}/{name}"
        self._two_links(link_a, link_b, where)
        k = not_negative(quantity(stiffness, "linear stiffness", where), "stiffness", where)
        c = not_negative(quantity(damping, "linear damping", where), "damping", where)
        if k + c == 0.0:
            raise VeldrainError("a spring without stiffness and damping", where=where, cure="give one of them")
        rest = not_negative(quantity(rest_length, "length", where), "rest_length", where)
        at = triple(at_a, "length", where), triple(at_b, "length", where)
        self._add(self.springs, name, Spring(name, link_a, link_b, k, c, rest, *at), "spring")
        return self

    def no_contact(self, link_a: str, link_b: str) -> Self:
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

    def frame(self, name: str, on: str, pose: Pose | None = None) -> Self:
        """Name a point of interest on a link, such as a tool's tip; ``pose`` is in the link.

        >>> Model("arm").link("flange", mass=1).frame("tip", on="flange", pose=Pose((0, 0, "8 cm"))).frames["tip"].link
        'flange'
        """
        if not self._is_link(on, name):
            return self
        if name in self.links:
            raise VeldrainError(f"'{name}' is a link already", where=self.name, cure="give another name")
        self._add(self.frames, name, Frame(name, on, pose or Pose()), "frame")
        return self

    def mount(
        self,
        name: str,
        sensor: Sensor,
        *,
        on: str,
        pose: Pose | None = None,
        failures: Sequence[Failure | Mapping[str, Any]] = (),
    ) -> Self:
        """Fix a sensor to a link, at a pose in the link; its stream is called ``<robot>/<name>``.

        Args:
            name: its name, unique in the model.
            sensor: its data sheet.
            on: the link.
            pose: in the link; the sensor looks along its +x.
            failures: what goes wrong with it, and when; records, or what they are made of.

        Raises:
            VeldrainError: an unknown link, a name taken, an object that is no sensor.

        >>> from veldrain.sensing import Imu
        >>> Model("probe").link("shell", mass=1).mount("imu", Imu(), on="shell").sensors["imu"].link
        'shell'
        """
        where = f"{self.name}/{name}"
        checked = checked_sensor(sensor, where)
        with told_at(where):
            wrong = tuple(f if isinstance(f, Failure) else Failure(**f) for f in failures)
        if self._is_link(on, name):
            with self._reading_past("one-name"):
                self._add(self.sensors, name, Mounted(name, on, pose or Pose(), checked, wrong), "sensor")
        return self

    def _is_link(self, on: str, name: str) -> bool:
        with self._reading_past("not-on-a-link"):
            if on not in self.links:
                raise unknown("link", on, self.links, f"{self.name}/{name}")
        return on in self.links


def _unit(axis: Sequence[float], where: str) -> Triple:
    vector: Array = np.array([float(a) for a in axis])
    length = float(np.linalg.norm(vector))
    if vector.shape != (3,) or not np.isfinite(length) or length < 1e-9:
        raise VeldrainError(
            f"axis {tuple(axis)} has no direction", where=where, cure="give three numbers, such as (0, 0, 1)"
        )
    x, y, z = vector if abs(length - 1.0) < 1e-15 else vector / length  # what is one stays as it is
    return float(x), float(y), float(z)


def _limits(limits: tuple[Quantity, Quantity] | None, kind: str, where: str) -> tuple[float, float] | None:
    if limits is None:
        return None
    low, high = (quantity(v, kind, where) for v in limits)
    if low > high:
        raise VeldrainError(f"limits ({low:g}, {high:g}) are the wrong way round", where=where, cure="the lower first")
    return low, high
