"""A model: what it is made of, and how it is joined, changed, scaled, copied and bent. Pure data."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Self

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.model.inertia import MassProperties, combined
from veldrain.model.pieces import SIMPLE_KINDS, Defaults, Joint, JointKind, Link, Suppressed
from veldrain.model.rolling import Rolling
from veldrain.model.shapes import Part, Shape, as_parts
from veldrain.model.structure import Structure
from veldrain.pose import Pose, z_to
from veldrain.units import Quantity, quantity

_TABLES = ("links", "joints", "motors", "loops", "springs", "rotors", "drags", "frames", "sensors")
_OF_A_LINK = ("mass", "inertia", "com", "surface", "density")
_JOINT_DEFAULTS = ("limits", "damping", "friction", "stiffness", "rest_position", "effort", "speed")


class Model(Rolling):
    """A robot or another mechanism, described once and placed into worlds as often as wanted.

    >>> hoist = Model("hoist")
    >>> hoist.link("trolley", mass=12).link("rake", mass=3).joint("swing", "trolley", "rake", kind="revolute")
    Model('hoist': 2 links, 1 joint, 0 sensors)
    """

    def posture(self, name: str, joints: Mapping[str, Quantity]) -> Self:
        """Name positions of joints (rad, or m), for ``World.place(posture=…)``; those left out are 0.

        >>> m = Model("arm").link("base", mass=4).link("boom", mass=2).joint("swing", "base", "boom", kind="revolute")
        >>> round(m.posture("stowed", {"swing": "90 deg"}).postures["stowed"]["swing"], 4)
        1.5708
        """
        self._add(self.postures, name, self.positions(joints, f"{self.name}/{name}"), "posture")
        return self

    def positions(self, joints: Mapping[str, Quantity], where: str = "") -> dict[str, float]:
        """Positions by coordinate in SI units.

        Raises:
            VeldrainError: an unknown joint, or a quantity of the wrong kind.
        """
        coordinates, start = self.coordinates(), {}
        for joint, value in joints.items():
            if joint not in coordinates:
                raise unknown("joint", joint, coordinates, where or self.name)
            start[joint] = quantity(
                value, "length" if coordinates[joint][1] else "angle", f"{where or self.name}/{joint}"
            )
        return start

    def bent(self, joints: Mapping[str, Quantity] | None = None) -> dict[str, float]:
        """Positions of all coordinates at a posture: those given, what follows them, and 0."""
        given = self.positions(joints or {})
        found = {name: given.get(name, 0.0) for name in self.coordinates()}
        for joint in self.joints.values():  # a leader comes before its follower
            if joint.mimic and joint.name not in given:
                leader, ratio, offset = joint.mimic
                found[joint.name] = ratio * found[leader] + offset
        return found

    def poses(self, joints: Mapping[str, Quantity] | None = None) -> dict[str, Pose]:
        """Poses of all links in the root link at positions of the joints (0 where they are not given).

        Closed loops are taken as open.

        >>> m = Model("arm").link("base", mass=4).link("boom", mass=2)
        >>> m.joint("lift", "base", "boom", kind="prismatic").poses({"lift": "20 cm"})["boom"].position.tolist()
        [0.0, 0.0, 0.2]
        """
        at, found = self.bent(joints), {self.root(): Pose()}
        waiting = list(self.joints.values())
        while waiting:
            ready = [j for j in waiting if j.parent in found]
            for joint in ready:
                found[joint.child] = found[joint.parent] @ joint.pose @ moved(joint, at)
            waiting = [j for j in waiting if j.child not in found]
        return found

    def total(self, joints: Mapping[str, Quantity] | None = None) -> MassProperties:
        """Mass properties of the whole at a posture, in the root link's frame."""
        return combined([self.links[n].mass_properties.moved(pose) for n, pose in self.poses(joints).items()])

    def attach(
        self,
        other: Model,
        on: str,
        *,
        name: str | None = None,
        kind: JointKind = "fixed",
        pose: Pose | None = None,
        in_root: Pose | None = None,
        **joint: Any,
    ) -> Self:
        """Join another model to a link of this one; names of its parts get ``name/`` before them.

        Args:
            other: the other model, which stays as it is.
            on: link of this model that holds the other's root.
            name: of the joint, and prefix of the other's names. None: the other's name.
            kind: of the joint.
            pose: of the joint in the link.
            in_root: instead: pose of the other's root in this model's root at joint positions of 0, as it is when
                both were drawn in one frame.
            joint: what else ``joint`` takes.

        >>> mast = Model("mast").link("pole", mass=1).frame("top", on="pole", pose=Pose((0, 0, 1)))
        >>> Model("hull").link("deck", mass=9).attach(mast, on="deck", pose=Pose((0, 0, "20 cm"))).frames["mast/top"]
        Frame(name='mast/top', link='mast/pole', pose=Pose((0, 0, 1)))
        """
        name = name or other.name
        if pose is not None and in_root is not None:
            raise VeldrainError("pose and in_root", where=f"{self.name}/{name}", cure="give one of them")
        if on not in self.links:
            raise unknown("link", on, self.links, f"{self.name}/{name}")
        if in_root is not None:
            pose = self.poses()[on].inverse() @ in_root
        prefixed = other.copy()
        for table in _TABLES:
            for key, thing in getattr(prefixed, table).items():
                self._add(getattr(self, table), f"{name}/{key}", _prefixed(thing, f"{name}/"), table[:-1])
        for key, given in prefixed._given.items():
            what, _, of = key.partition(" ")
            self._given[f"{what} {name}/{of}"] = set(given)
        for key, place in prefixed.where.items():
            what, _, of = key.partition(" ")
            self.where[f"{what} {name}/{of}"] = place
        self.apart += [(f"{name}/{a}", f"{name}/{b}") for a, b in other.apart]
        for posture, joints in other.postures.items():
            self.postures[f"{name}/{posture}"] = {f"{name}/{j}": value for j, value in joints.items()}
        self.suppressed += [replace(a, at=f"{name}/{a.at}") for a in other.suppressed]
        self.notes += other.notes
        for fault in other.faults:
            at = fault.error.where.partition("/")[2]
            error = VeldrainError(fault.error.problem, where=f"{self.name}/{name}/{at}", cure=fault.error.cure)
            fix = {table: {f"{name}/{key}": words for key, words in some.items()} for table, some in fault.fix.items()}
            self.faults.append(replace(fault, error=error, fix=fix))
        return self.joint(name, on, f"{name}/{other.root()}", kind, pose, **joint)

    def change_link(self, name: str, *shapes: Shape | Part, **changes: Any) -> Self:
        """Give a link other shapes, or another ``mass``, ``inertia``, ``com``, ``surface`` or ``density``.

        Where mass or shapes change and no inertia is given, it is made anew from the shapes. Shapes in ``role=``
        ``"visual"`` or ``"collision"`` alone replace those of that role only.

        >>> m = Model("cart").link("wheel", Box((0.2, 0.2, 0.1)), mass="1 kg")
        >>> m.change_link("wheel", Cylinder("10 cm", "10 cm")).links["wheel"].parts[0].shape
        Cylinder(radius=0.1, length=0.1)
        """
        old = self._known(self.links, name, "link")
        for word in changes:
            if word not in _OF_A_LINK:
                raise unknown("word", word, _OF_A_LINK, f"{self.name}/{name}")
        self._mended("links", name, changes)
        parts = list(old.parts)
        if shapes:
            new = as_parts(shapes)
            roles = {p.role for p in new}
            kept = [_less(p, next(iter(roles))) for p in old.parts] if roles in ({"visual"}, {"collision"}) else []
            parts = [p for p in kept if p is not None] + list(new)
        body = old.mass_properties
        if shapes or {"mass", "inertia", "com", "density"} & set(changes):
            mass = None if "density" in changes else body.mass or None
            made = Structure(self.name).link(name, *parts, **{"mass": mass} | changes).links[name].mass_properties
            keeps = "com" not in changes and "density" not in changes and (not shapes or "mass" not in changes)
            if keeps and body.mass and made.mass:  # what was measured stays, but for what is given
                scale = made.mass / body.mass
                made = replace(
                    made, com=body.com, inertia=made.inertia if "inertia" in changes or shapes else body.inertia * scale
                )
            body = made
        self.links[name] = Link(name, tuple(parts), body, changes.get("surface") or old.surface)
        return self

    def change_joint(self, name: str, **changes: Any) -> Self:
        """Change what ``joint`` takes: ``axis``, ``limits``, ``pose``, ``damping``, ``kind``, …

        >>> m = Model("cart").link("hull", mass=9).link("wheel", mass=1).joint("roll", "hull", "wheel", "continuous")
        >>> m.change_joint("roll", axis=(0, 1, 0), damping=0.1).joints["roll"].axis
        (0.0, 1.0, 0.0)
        """
        old = self._known(self.joints, name, "joint")
        self._mended("joints", name, changes)
        if "mimic" in changes and changes["mimic"] is None:
            old = replace(old, mimic=None)
        fields = {key: value for key, value in vars(old).items() if key in changes or self._keeps(old, key)}
        order = list(self.joints)
        del self.joints[name]
        try:
            self.joint(**fields | changes)
        except BaseException:
            self.joints[name] = old
            raise
        finally:
            self.joints = {key: self.joints[key] for key in order}
        if name in self.motors:
            self.change_motor(name)  # its limit may be the joint's
        return self

    def _mended(self, table: str, name: str, changes: Mapping[str, Any]) -> None:
        """Forget faults of a draft that a change takes away."""
        words = {*changes, *(("mass", "inertia") if "density" in changes else ())}
        self.faults = [f for f in self.faults if not words & set(f.fix.get(table, {}).get(name, {}))]

    def _keeps(self, joint: Joint, key: str) -> bool:
        """True for what a joint was given itself, and for what has no defaults."""
        return key not in _JOINT_DEFAULTS or key in self._given[f"joint {joint.name}"]

    def change_motor(self, joint: str, **changes: Any) -> Self:
        """Change what ``motor`` takes, or put a motor where there is none.

        >>> m = Model("cart").link("hull", mass=9).link("wheel", mass=1).joint("roll", "hull", "wheel", "continuous")
        >>> m.change_motor("roll", mode="velocity", damping=4).change_motor("roll", limit=3).motors["roll"].limit
        3.0
        """
        self.faults = [f for f in self.faults if joint not in f.fix.get("motors", {})]
        old, given = self.motors.pop(joint, None), self._given.pop(f"motor {joint}", set())
        try:
            return self.motor(**{key: getattr(old, key) for key in given} | {"joint": joint} | changes)
        except BaseException:
            if old:
                self.motors[joint], self._given[f"motor {joint}"] = old, given
            raise

    def remove_motor(self, joint: str) -> Self:
        """Take a motor off its joint."""
        self._known(self.motors, joint, "motor")
        del self.motors[joint], self._given[f"motor {joint}"]
        return self

    def defaults(
        self, joints: str = "*", kind: JointKind | None = None, *, motor: Mapping[str, Any] | None = None, **values: Any
    ) -> Self:
        """Say what joints have where their own description leaves it out; the last match wins.

        Args:
            joints: a pattern of names, such as ``"*_wheel"``.
            kind: of joints, such as ``"revolute"``; None: all.
            motor: what ``motor`` takes: joints that fit and have no motor get one.
            values: ``limits``, ``damping``, ``friction``, ``stiffness``, ``rest_position``, ``effort``, ``speed``.

        >>> m = Model("arm").defaults(kind="revolute", damping=0.2).link("base", mass=4).link("boom", mass=2)
        >>> m.joint("swing", "base", "boom", kind="revolute").joints["swing"].damping
        0.2
        """
        for word in values:
            if word not in _JOINT_DEFAULTS:
                raise unknown("default", word, (*_JOINT_DEFAULTS, "motor"), self.name)
        new = Defaults(joints, kind, values, dict(motor or {}))
        self._defaults.append(new)
        for joint in list(self.joints.values()):
            if new.fit(joint.name, joint.kind):
                self.change_joint(joint.name)
                if new.motor and joint.kind in SIMPLE_KINDS:
                    self.change_motor(joint.name)
        return self

    def suppress(self, rule: str, at: str, *, because: str) -> Self:
        """Silence a rule of the check for a link, joint, motor or sensor, with the reason why.

        >>> Model("probe").suppress("no-mass", at="tip", because="it stands for a thread").suppressed[0].rule
        'no-mass'
        """
        if not because.strip():
            raise VeldrainError(
                "a finding suppressed without a reason", where=f"{self.name}/{at}", cure="give because="
            )
        self.suppressed.append(Suppressed(rule, at, because))
        return self

    def copy(self, name: str | None = None) -> Self:
        """A copy, under another name if one is given."""
        made = copy.copy(self)
        for key, value in vars(self).items():
            if isinstance(value, dict | list):
                setattr(made, key, copy.copy(value))
        made._given = {key: set(value) for key, value in self._given.items()}
        made.name = name or self.name
        return made

    def scaled(self, factor: float, name: str | None = None, *, keep_mass: bool = False) -> Self:
        """A copy of another size: lengths times ``factor``, masses times its cube (same density), unless kept.

        Springs, dampings, efforts and sensors stay as they are.

        >>> Model("box").link("hull", Box((1, 1, 1)), mass=8).scaled(0.5).links["hull"].mass_properties.mass
        1.0
        """
        if not 0 < factor < np.inf:
            raise VeldrainError(f"scale is {factor:g}", where=self.name, cure="give a number above zero")
        made, heavier = self.copy(name), 1.0 if keep_mass else factor**3

        def at(pose: Pose) -> Pose:
            return Pose(pose.position * factor, rotation=pose.rotation)

        for link in self.links.values():
            body = link.mass_properties
            parts = tuple(replace(p, shape=p.shape.scaled(factor), pose=at(p.pose)) for p in link.parts)
            body = MassProperties(body.mass * heavier, body.com * factor, body.inertia * heavier * factor**2)
            made.links[link.name] = replace(link, parts=parts, mass_properties=body)
        for joint in self.joints.values():
            slide, mimic = joint.kind == "prismatic", joint.mimic
            if mimic and slide:
                leading = factor if self.joints[mimic[0]].kind == "prismatic" else 1.0
                mimic = (mimic[0], mimic[1] * factor / leading, mimic[2] * factor)
            elif mimic and self.joints[mimic[0]].kind == "prismatic":
                mimic = (mimic[0], mimic[1] / factor, mimic[2])
            limits = joint.limits
            if limits and slide:
                limits = (limits[0] * factor, limits[1] * factor)
            rest = joint.rest_position * factor if slide else joint.rest_position
            made.joints[joint.name] = replace(
                joint, pose=at(joint.pose), limits=limits, rest_position=rest, mimic=mimic
            )
        for loop in self.loops.values():
            made.loops[loop.name] = replace(
                loop, pose_a=at(loop.pose_a), pose_b=at(loop.pose_b), length=loop.length * factor
            )
        for spring in self.springs.values():
            a, b = (tuple(factor * x for x in end) for end in (spring.at_a, spring.at_b))
            made.springs[spring.name] = replace(spring, rest_length=spring.rest_length * factor, at_a=a, at_b=b)  # type: ignore[arg-type]
        for rotor in self.rotors.values():  # at the same speed thrust goes with D⁴ and torque with D⁵
            thrust, torque = rotor.thrust * factor**4, rotor.torque * factor**5
            made.rotors[rotor.joint] = replace(rotor, thrust=thrust, torque=torque)
        for drag in self.drags.values():
            area, point = (tuple(x * size for x in row) for row, size in ((drag.area, factor**2), (drag.at, factor)))
            made.drags[drag.link] = replace(drag, area=area, at=point)  # type: ignore[arg-type]
        for frame in self.frames.values():
            made.frames[frame.name] = replace(frame, pose=at(frame.pose))
        for sensor in self.sensors.values():
            made.sensors[sensor.name] = replace(sensor, pose=at(sensor.pose))
        lengths = {name for name, (_, linear) in self.coordinates().items() if linear}
        made.postures = {
            posture: {j: q * factor if j in lengths else q for j, q in joints.items()}
            for posture, joints in self.postures.items()
        }
        return made

    @staticmethod
    def _known(table: Mapping[str, Any], name: str, what: str) -> Any:
        if name not in table:
            raise unknown(what, name, table)
        return table[name]


def moved(joint: Joint, at: Mapping[str, float]) -> Pose:
    """Pose of a joint's child in the joint at positions of its coordinates."""
    q = [at[name] for name in joint.coordinates]
    if joint.kind == "prismatic":
        return Pose(q[0] * np.array(joint.axis))
    if joint.kind in SIMPLE_KINDS:
        return Pose.turned(q[0] * np.array(joint.axis))
    if joint.kind == "ball":
        return Pose.turned(q)
    if joint.kind == "planar":
        across = z_to(joint.axis)
        return across @ Pose((q[0], q[1], 0.0), yaw=q[2]) @ across.inverse()
    return Pose()


def _prefixed(thing: Any, prefix: str) -> Any:
    """A link, joint, … with a prefix before its own name and before all names of others it has."""
    own = ("name", "parent", "child", "link", "link_a", "link_b", "joint")
    names = {key: prefix + getattr(thing, key) for key in own if isinstance(getattr(thing, key, None), str)}
    if getattr(thing, "mimic", None):
        names["mimic"] = (prefix + thing.mimic[0], *thing.mimic[1:])
    return replace(thing, **names)


def _less(part: Part, role: str) -> Part | None:
    """A part without a role it had; None: nothing is left of it."""
    if part.role == role:
        return None
    other: Any = "visual" if role == "collision" else "collision"
    return replace(part, role=other) if part.role == "both" else part
