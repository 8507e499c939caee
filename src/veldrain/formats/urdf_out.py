"""URDF out: what URDF has words for in them, the rest in elements of our own namespace."""

from __future__ import annotations

import math
import os
import shutil
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.formats.urdf_in import OWN
from veldrain.model import Box, Capsule, Cone, Cylinder, Ellipsoid, Mesh, Model, Part, Sphere, Surface
from veldrain.model.colours import rgba
from veldrain.model.pieces import MOTOR_NUMBERS, Joint, Link
from veldrain.pose import Array, Pose


def row(values: Iterable[float] | Array) -> str:
    """Numbers as text that reads back to the same bits."""
    return " ".join(repr(float(v) + 0.0) for v in values)


class UrdfWriter:
    """One model as the content of a URDF file that is to stand at a path."""

    def __init__(self, model: Model, path: Path) -> None:
        from lxml import etree

        self.model, self.folder, self.stem = model, path.resolve().parent, path.stem
        self.left = [f"sensor '{name}' is left out: URDF has no words for it" for name in model.sensors]
        self.left += [
            f"of the look of {link.name} its colour is kept alone"
            for link in model.links.values()
            if any(part.look for part in link.parts)
        ]
        self.meshes: dict[str, Path] = {}
        self._sub: Any = etree.SubElement
        self.root: Any = etree.Element("robot", name=model.name, nsmap={"v": OWN})

    def content(self) -> bytes:
        """The file's bytes; meshes that lie elsewhere or in memory are written beside it."""
        from lxml import etree

        m = self.model
        for link in m.links.values():
            self.link(link)
        for joint in m.joints.values():
            self.joint(joint)
        for name, motor in m.motors.items():
            e = self.add(self.root, "transmission", name=f"{name}_drive")
            self.add(e, "type").text = "transmission_interface/SimpleTransmission"
            interface = {
                "effort": "EffortJointInterface",
                "velocity": "VelocityJointInterface",
                "position": "PositionJointInterface",
            }[motor.mode]
            self.add(self.add(e, "joint", name=name), "hardwareInterface").text = f"hardware_interface/{interface}"
            self.add(self.add(e, "actuator", name=f"{name}_motor"), "mechanicalReduction").text = repr(motor.gear_ratio)
            values = {word: getattr(motor, word) for word in MOTOR_NUMBERS}
            self.own(
                e,
                "motor",
                mode=motor.mode,
                **{w: repr(v) for w, v in values.items() if math.isfinite(v) and (v or w == "limit")},
            )
        for rotor in m.rotors.values():
            values = {"thrust": repr(rotor.thrust), "torque": repr(rotor.torque)}
            self.own(self.root, "rotor", joint=rotor.joint, **values)
        for drag in m.drags.values():
            self.own(self.root, "drag", link=drag.link, area=row(drag.area), at=row(drag.at))
        for frame in m.frames.values():
            self.origin(self.own(self.root, "frame", name=frame.name, link=frame.link), frame.pose)
        for loop in m.loops.values():
            self.own(
                self.root,
                "loop",
                name=loop.name,
                link_a=loop.link_a,
                link_b=loop.link_b,
                kind=loop.kind,
                pose_a=row((*loop.pose_a.position, *loop.pose_a.rpy)),
                axis=row(loop.axis),
                pose_b=row((*loop.pose_b.position, *loop.pose_b.rpy)),
                length=repr(loop.length),
            )
        for s in m.springs.values():
            self.own(
                self.root,
                "spring",
                name=s.name,
                link_a=s.link_a,
                link_b=s.link_b,
                stiffness=repr(s.stiffness),
                damping=repr(s.damping),
                rest_length=repr(s.rest_length),
                at_a=row(s.at_a),
                at_b=row(s.at_b),
            )
        for a, b in m.apart:
            self.own(self.root, "apart", link_a=a, link_b=b)
        for name, joints in m.postures.items():
            e = self.own(self.root, "posture", name=name)
            for joint_name, value in joints.items():
                self.own(e, "at", joint=joint_name, position=repr(value))
        etree.indent(self.root, "  ")
        return bytes(etree.tostring(self.root, xml_declaration=True, encoding="utf-8"))

    def add(self, parent: Any, tag: str, **attributes: str) -> Any:
        return self._sub(parent, tag, attributes)

    def own(self, parent: Any, tag: str, **attributes: str) -> Any:
        return self._sub(parent, f"{{{OWN}}}{tag}", attributes)

    def origin(self, parent: Any, pose: Pose) -> None:
        if pose != Pose():
            self.add(parent, "origin", xyz=row(pose.position), rpy=row(pose.rpy))

    def link(self, link: Link) -> None:
        e, body = self.add(self.root, "link", name=link.name), link.mass_properties
        if body.mass:
            inertial = self.add(e, "inertial")
            self.add(inertial, "origin", xyz=row(body.com))
            self.add(inertial, "mass", value=repr(body.mass))
            I = body.inertia  # noqa: E741
            self.add(
                inertial,
                "inertia",
                **{f"i{'xyz'[i]}{'xyz'[j]}": repr(float(I[i, j])) for i in range(3) for j in range(i, 3)},
            )
        for k, part in enumerate(link.parts):
            for role in ("visual", "collision"):
                if part.role in ("both", role):
                    self.part(e, role, part, f"{link.name}_{k}".replace("/", "_"))
        if link.surface != Surface():
            self.surface(e, link.surface)

    def part(self, link: Any, role: str, part: Part, name: str) -> None:
        e = self.add(link, role)
        self.origin(e, part.pose)
        g, shape = self.add(e, "geometry"), part.shape
        if isinstance(shape, Box):
            self.add(g, "box", size=row(shape.size))
        elif isinstance(shape, Sphere):
            self.add(g, "sphere", radius=repr(shape.radius))
        elif isinstance(shape, Cylinder | Capsule):
            self.add(g, type(shape).__name__.lower(), radius=repr(shape.radius), length=repr(shape.length))
        elif isinstance(shape, Cone):
            self.own(g, "cone", radius=repr(shape.radius), length=repr(shape.length))
        elif isinstance(shape, Ellipsoid):
            self.own(g, "ellipsoid", half_axes=row(shape.half_axes))
        else:
            assert isinstance(shape, Mesh)
            mesh = self.add(
                g, "mesh", filename=self.file_of(shape, name), scale=row(np.array(shape.scale) / shape.file_unit)
            )
            mesh.set(f"{{{OWN}}}collide", shape.collide)
            if shape.fit != "volume":
                mesh.set(f"{{{OWN}}}fit", shape.fit)
        colour = part.look.colour if part.look else part.colour
        if colour and role == ("collision" if part.role == "collision" else "visual"):
            self.add(self.add(e, "material", name=colour), "color", rgba=row(rgba(colour, self.model.name)))
        if part.surface and role == ("visual" if part.role == "visual" else "collision"):
            self.surface(e, part.surface)

    def surface(self, parent: Any, s: Surface) -> None:
        words = {
            word: repr(getattr(s, word)) for word in ("friction", "restitution", "rolling", "torsional", "damping")
        }
        if math.isfinite(s.stiffness):
            words["stiffness"] = repr(s.stiffness)
        self.own(parent, "surface", **words, belt=row(s.belt))

    def file_of(self, mesh: Mesh, name: str) -> str:
        """Name of the mesh's file, from the URDF's folder; it is put beside the URDF where it is not there."""
        if mesh.path is not None:
            path = mesh.path.resolve()
            if path.is_relative_to(self.folder):
                return path.relative_to(self.folder).as_posix()
            target = self.folder / f"{self.stem}_meshes" / path.name
            taken = {v: k for k, v in self.meshes.items()}
            if taken.get(target, str(path)) != str(path):
                target = target.with_stem(f"{target.stem}_{name}")
            self.meshes[str(path)] = target
        else:
            target = self.folder / f"{self.stem}_meshes" / f"{name}.obj"
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            if mesh.path is not None:
                shutil.copyfile(mesh.path, target)
            else:
                target.write_text(_obj_of(mesh), encoding="ascii")
        except OSError as error:
            raise VeldrainError(f"cannot be written ({error.strerror})", where=os.fspath(target)) from error
        return target.relative_to(self.folder).as_posix()

    def joint(self, joint: Joint) -> None:
        e = self.add(self.root, "joint", name=joint.name, type=joint.kind)
        self.add(e, "parent", link=joint.parent)
        self.add(e, "child", link=joint.child)
        self.origin(e, joint.pose)
        if joint.kind != "fixed":
            self.add(e, "axis", xyz=row(joint.axis))
        limit = dict(zip(("lower", "upper"), map(repr, joint.limits or ()), strict=False))
        limit |= {w: repr(v) for w, v in (("effort", joint.effort), ("velocity", joint.speed)) if math.isfinite(v)}
        if limit:
            self.add(e, "limit", **limit)
        if joint.damping or joint.friction:
            self.add(e, "dynamics", damping=repr(joint.damping), friction=repr(joint.friction))
        if joint.mimic:
            leader, ratio, offset = joint.mimic
            self.add(e, "mimic", joint=leader, multiplier=repr(ratio), offset=repr(offset))
        if joint.stiffness or joint.rest_position or joint.collide:
            self.own(
                e,
                "more",
                stiffness=repr(joint.stiffness),
                rest_position=repr(joint.rest_position),
                collide=str(joint.collide).lower(),
            )


def _obj_of(mesh: Mesh) -> str:
    corners = [f"v {row(corner)}" for corner in mesh.corners]
    return "\n".join([*corners, *("f " + " ".join(str(k + 1) for k in t) for t in mesh.triangles), ""])


class _Described(UrdfWriter):
    """A model as text alone: meshes are named, and not written."""

    def file_of(self, mesh: Mesh, name: str) -> str:
        return mesh.path.name if mesh.path is not None else f"{name}.obj"


def description_of(model: Model) -> str:
    """A model as a URDF text, its meshes by their names alone."""
    return _Described(model, Path("robot.urdf")).content().decode()
