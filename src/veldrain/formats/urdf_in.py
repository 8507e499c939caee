"""URDF in: links, joints, transmissions and materials; what is not used is noted with its line.

The format is described at wiki.ros.org/urdf/XML; elements in the namespace ``OWN`` are those that ``urdf_out`` adds.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.formats.packages import Folders
from veldrain.model import Box, Capsule, Cone, Cylinder, Ellipsoid, Mesh, Model, Part, Shape, Sphere, Surface
from veldrain.model.colours import hex_of, rgba
from veldrain.model.meshes import Collide
from veldrain.model.pieces import JOINT_KINDS, MOTOR_NUMBERS, Fault
from veldrain.pose import Array, Pose

OWN = "urn:veldrain:model"
_ROUND: dict[str, type[Cylinder | Capsule | Cone]] = {"cylinder": Cylinder, "capsule": Capsule, "cone": Cone}


def local(element: Any) -> str:
    """An element's name without its namespace; our own ones start with ``v:``."""
    space, _, name = str(element.tag).rpartition("}")
    return f"v:{name}" if space == "{" + OWN else name if not space else str(element.tag)


def children(element: Any, name: str | None = None) -> Iterator[Any]:
    """Elements inside an element, of a name."""
    for child in element:
        if name in (None, local(child)):
            yield child


class UrdfReader:
    """Reads one robot element into a draft of a model.

    Args:
        root: the element (lxml).
        path: the file, for errors.
        folders: where meshes are looked for.
        meshes: how they collide.
    """

    def __init__(self, root: Any, path: str, folders: Folders, meshes: Collide) -> None:
        self.root, self.path, self.folders, self.meshes = root, path, folders, meshes
        self.unused: dict[str, list[int]] = {}
        self.colours: dict[str, str] = {}
        self.loaded: dict[tuple[str, ...], Mesh] = {}

    def model(self, name: str | None) -> Model:
        """The model, with mistakes that can be read past among its faults."""
        root = self.root
        if local(root) != "robot":
            raise VeldrainError(
                f"<{local(root)}> is not a robot", where=self.at(root), cure="a URDF file holds <robot>"
            )
        known = {"link", "joint", "material", "transmission", "v:frame", "v:loop", "v:spring", "v:apart", "v:posture"}
        known |= {"v:rotor", "v:drag"}
        self.uses(root, {"name", "version"}, known)
        m = self.m = Model(name or self.word(root, "name"), draft=True)
        for material in children(root, "material"):
            self.colour(material)
        for link in children(root, "link"):
            with_line(lambda link=link: self.link(link), self.at(link))  # type: ignore[misc]
        for joint in self._leaders_first():
            with_line(lambda joint=joint: self.joint(joint), self.at(joint))  # type: ignore[misc]
        if not m.links:
            raise VeldrainError("a robot without links", where=self.at(root), cure="add <link name='base'/>")
        for transmission in children(root, "transmission"):
            with_line(lambda t=transmission: self.transmission(t), self.at(transmission))  # type: ignore[misc]
        for tag, read in (
            ("frame", self.frame),
            ("loop", self.loop),
            ("spring", self.spring),
            ("rotor", self.rotor),
            ("drag", self.drag),
            ("apart", self.apart),
            ("posture", self.posture),
        ):
            for element in children(root, f"v:{tag}"):
                with_line(lambda e=element, r=read: r(e), self.at(element))  # type: ignore[misc]
        for text, lines in self.unused.items():
            times = f", {len(lines)} times" if len(lines) > 1 else ""
            m.notes.append(f"{self.path}:{lines[0]}: {text}{times}")
        return m

    # Elements

    def link(self, e: Any) -> None:
        name = self.word(e, "name")
        self.uses(e, {"name"}, {"inertial", "visual", "collision", "v:surface"})
        self.m.where[f"link {name}"] = self.at(e)
        parts: list[Part] = []
        for child in (*children(e, "visual"), *children(e, "collision")):
            self.uses(child, {"name"}, {"geometry", "origin", "material", "v:surface"})
            if child.get("name"):
                self.note(child, f"the name of a <{local(child)}> is not kept")
            geometry = self.one(child, "geometry")
            if geometry is None:
                raise VeldrainError(f"a <{local(child)}> without geometry", where=self.at(child), cure="add <geometry>")
            colour = next((self.colour(c) for c in children(child, "material")), None)
            surface = next((self.surface(c) for c in children(child, "v:surface")), None)
            shape, role = self.shape(geometry), "visual" if local(child) == "visual" else "collision"
            part = Part(shape, self.origin(child), role, colour, surface)  # type: ignore[arg-type]
            twin = next(
                (
                    k
                    for k, p in enumerate(parts)
                    if role == "collision" and p.role == "visual" and p.shape == part.shape and p.pose == part.pose
                ),
                None,
            )
            if twin is None:
                parts.append(part)
            else:
                parts[twin] = replace(parts[twin], role="both", surface=surface)
        mass = com = inertia = None
        inertial = self.one(e, "inertial")
        if inertial is not None:
            mass, com, inertia = self.inertial(inertial)
        surface = next((self.surface(c) for c in children(e, "v:surface")), None)
        self.m.link(
            name, *parts, mass=mass, com=None if com is None else com.tolist(), inertia=inertia, surface=surface
        )

    def inertial(self, e: Any) -> tuple[float | None, Array | None, Array | None]:
        self.uses(e, set(), {"origin", "mass", "inertia"})
        origin, mass_of, inertia_of = self.origin(e), self.one(e, "mass"), self.one(e, "inertia")
        if mass_of is None:
            raise VeldrainError("an <inertial> without mass", where=self.at(e), cure="add <mass value='…'/>")
        mass = self.number(mass_of, "value")
        if mass == 0:
            self.note(mass_of, "a mass of 0 is taken as none")
            return None, None, None
        if inertia_of is None:
            self.note(e, "an <inertial> without inertia: made from the shapes")
            return mass, origin.position if self.one(e, "origin") is not None else None, None
        xx, xy, xz, yy, yz, zz = (self.number(inertia_of, f"i{k}", 0.0) for k in ("xx", "xy", "xz", "yy", "yz", "zz"))
        self.uses(inertia_of, {"ixx", "ixy", "ixz", "iyy", "iyz", "izz"}, set())
        R = origin.matrix
        return mass, origin.position, R @ np.array(((xx, xy, xz), (xy, yy, yz), (xz, yz, zz))) @ R.T

    def shape(self, e: Any) -> Shape:
        kinds = list(children(e))
        if len(kinds) != 1:
            raise VeldrainError(f"a <geometry> with {len(kinds)} shapes", where=self.at(e), cure="give one")
        g, kind = kinds[0], local(kinds[0]).removeprefix("v:")
        if kind == "box":
            self.uses(g, {"size"}, set())
            return Box(self.numbers(g, "size", 3))
        if kind == "sphere":
            self.uses(g, {"radius"}, set())
            return Sphere(self.number(g, "radius"))
        if kind in _ROUND:
            self.uses(g, {"radius", "length"}, set())
            return _ROUND[kind](self.number(g, "radius"), self.number(g, "length"))
        if kind == "ellipsoid":
            return Ellipsoid(self.numbers(g, "half_axes", 3))
        if kind != "mesh":
            raise unknown("geometry", kind, ("box", "sphere", "mesh", *_ROUND, "ellipsoid"), self.at(g))
        own = (f"{{{OWN}}}collide", f"{{{OWN}}}fit")
        self.uses(g, {"filename", "scale", *own}, set())
        scale = self.numbers(g, "scale", 3, (1.0, 1.0, 1.0))
        file = self.folders.find(self.word(g, "filename"), self.at(g))
        how = g.get(own[0], self.meshes), g.get(own[1], "volume")
        key = (str(file), str(scale), *how)
        if key not in self.loaded:
            self.loaded[key] = with_line(lambda: Mesh(file, scale, how[0], fit=how[1]), self.at(g))
        return self.loaded[key]

    def joint(self, e: Any) -> None:
        name, kind = self.word(e, "name"), self.word(e, "type")
        self.uses(e, {"name", "type"}, {"origin", "parent", "child", "axis", "limit", "dynamics", "mimic", "v:more"})
        self.m.where[f"joint {name}"] = self.at(e)
        if kind not in JOINT_KINDS:
            raise unknown("type of joint", kind, JOINT_KINDS, self.at(e))
        ends = [self.one(e, end) for end in ("parent", "child")]
        if None in ends:
            raise VeldrainError(f"joint '{name}' without parent or child", where=self.at(e), cure="name both links")
        more: dict[str, Any] = {}
        axis = self.one(e, "axis")
        if axis is not None:
            xyz = self.numbers(axis, "xyz", 3)
            more["axis"] = xyz
            if abs(np.linalg.norm(xyz) - 1) > 1e-3 and np.linalg.norm(xyz) > 0 and kind not in ("fixed", "floating"):
                said = " ".join(f"{x:g}" for x in xyz)
                direction = [float(x) for x in np.array(xyz) / np.linalg.norm(xyz)]
                error = VeldrainError(
                    f"its axis {said} has length {np.linalg.norm(xyz):.3g}, not 1; its direction was taken",
                    where=f"{self.m.name}/{name}",
                    cure="write a unit vector: other readers may take it as it is",
                )
                self.m.faults.append(Fault("axis-length", error, False, {"joints": {name: {"axis": direction}}}, True))
        elif kind not in ("fixed", "floating"):
            more["axis"] = (1.0, 0.0, 0.0)  # as URDF has it where it is left out
        limit = self.one(e, "limit")
        if limit is not None:
            self.uses(limit, {"lower", "upper", "effort", "velocity"}, set())
            if kind in ("revolute", "prismatic"):
                more["limits"] = (self.number(limit, "lower", 0.0), self.number(limit, "upper", 0.0))
            elif limit.get("lower") or limit.get("upper"):
                self.note(limit, f"the lower and upper limit of a {kind} joint are not used")
            for word, own in (("effort", "effort"), ("velocity", "speed")):
                if limit.get(word) is not None and kind not in ("fixed", "floating"):
                    more[own] = self.number(limit, word)
        dynamics = self.one(e, "dynamics")
        if dynamics is not None:
            self.uses(dynamics, {"damping", "friction"}, set())
            more |= {word: self.number(dynamics, word) for word in ("damping", "friction") if dynamics.get(word)}
        mimic = self.one(e, "mimic")
        if mimic is not None:
            self.uses(mimic, {"joint", "multiplier", "offset"}, set())
            more["mimic"] = (
                self.word(mimic, "joint"),
                self.number(mimic, "multiplier", 1.0),
                self.number(mimic, "offset", 0.0),
            )
        own_words = self.one(e, "v:more")
        if own_words is not None:
            more |= {
                word: self.number(own_words, word) for word in ("stiffness", "rest_position") if own_words.get(word)
            }
            more["collide"] = own_words.get("collide") == "true"
        parent, child = (self.word(end, "link") for end in ends)
        self.m.joint(name, parent, child, kind, self.origin(e), **more)  # type: ignore[arg-type]

    def _leaders_first(self) -> list[Any]:
        """The joint elements, those that others follow before them."""
        waiting, found, names = list(children(self.root, "joint")), [], set()
        while waiting:
            ready = [j for j in waiting if all(m.get("joint") in names for m in children(j, "mimic"))] or waiting
            found += ready
            names |= {j.get("name") for j in ready}
            waiting = [j for j in waiting if not any(j is r for r in ready)]
        return found

    def transmission(self, e: Any) -> None:
        self.uses(e, {"name", "type"}, {"type", "joint", "actuator", "mechanicalReduction", "v:motor"})
        reduction = self.one(e, "actuator/mechanicalReduction", "mechanicalReduction")
        ratio = 1.0
        if reduction is not None:
            ratio = self.float_of((reduction.text or "").strip(), reduction, "mechanicalReduction")
        for e_joint in children(e, "joint"):
            joint = self.word(e_joint, "name")
            self.uses(e_joint, {"name"}, {"hardwareInterface", "role", "offset", "mechanicalReduction"})
            more: dict[str, Any] = {}
            motor = self.one(e, "v:motor")
            if motor is not None:
                more = {"mode": motor.get("mode")}
                more |= {w: self.number(motor, w) for w in MOTOR_NUMBERS if motor.get(w)}
            elif self.one(e_joint, "hardwareInterface") is not None:
                asked = (self.one(e_joint, "hardwareInterface").text or "").rpartition("/")[2]
                if "Effort" not in asked:
                    error = VeldrainError(
                        f"{asked or 'its interface'} asks for gains, and URDF has no words for them: an effort motor",
                        where=f"{self.m.name}/{joint}",
                        cure=f"say motors: {{{joint}: {{mode: …, damping: …}}}}",
                    )
                    self.m.faults.append(Fault("gains", error, False, {"motors": {joint: {}}}))
            if f"motor {joint}" in self.m.where:
                raise VeldrainError(f"a second transmission for joint '{joint}'", where=self.at(e), cure="keep one")
            self.m.where[f"motor {joint}"] = self.at(e)
            self.m.motor(joint, gear_ratio=ratio, **more)
        for actuator in children(e, "actuator"):
            self.uses(actuator, {"name"}, {"mechanicalReduction", "hardwareInterface"})

    def frame(self, e: Any) -> None:
        self.m.frame(self.word(e, "name"), self.word(e, "link"), self.origin(e))

    def loop(self, e: Any) -> None:
        a, b = (self.pose(e, f"pose_{s}") for s in "ab")
        self.m.close(
            self.word(e, "name"),
            self.word(e, "link_a"),
            self.word(e, "link_b"),
            self.word(e, "kind"),  # type: ignore[arg-type]
            a,
            b,
            self.numbers(e, "axis", 3),
            self.number(e, "length", 0.0),
        )

    def spring(self, e: Any) -> None:
        values = {word: self.number(e, word) for word in ("stiffness", "damping", "rest_length")}
        ends = {f"at_{s}": self.numbers(e, f"at_{s}", 3) for s in "ab"}
        self.m.spring(self.word(e, "name"), self.word(e, "link_a"), self.word(e, "link_b"), **values, **ends)  # type: ignore[arg-type]

    def rotor(self, e: Any) -> None:
        self.m.rotor(self.word(e, "joint"), self.number(e, "thrust"), self.number(e, "torque"))

    def drag(self, e: Any) -> None:
        self.m.drag(self.word(e, "link"), self.numbers(e, "area", 3), at=self.numbers(e, "at", 3))

    def apart(self, e: Any) -> None:
        self.m.no_contact(self.word(e, "link_a"), self.word(e, "link_b"))

    def posture(self, e: Any) -> None:
        joints = {self.word(at, "joint"): self.number(at, "position") for at in children(e, "v:at")}
        self.m.posture(self.word(e, "name"), joints)

    # Values

    def surface(self, e: Any) -> Surface:
        words = ("friction", "restitution", "rolling", "torsional", "damping")
        values: dict[str, Any] = {word: self.number(e, word) for word in words}
        values["stiffness"] = self.number(e, "stiffness") if e.get("stiffness") else math.inf
        return Surface(**values, belt=self.numbers(e, "belt", 3))

    def colour(self, e: Any) -> str | None:
        self.uses(e, {"name"}, {"color", "texture"})
        for texture in children(e, "texture"):
            self.note(texture, "a <texture> is not used")
        name, color = e.get("name", ""), self.one(e, "color")
        if color is not None:
            values = self.numbers(color, "rgba", 4)
            found = hex_of((values[0], values[1], values[2], values[3]))
            if name:  # a name that says the same is the more readable
                try:
                    same = hex_of(rgba(name)) == found
                except VeldrainError:
                    same = False
                found = name if same else found
            self.colours.setdefault(name, found)
            return found
        if name and name not in self.colours and not list(children(e, "texture")):
            self.note(e, f"material '{name}' is not described")
        return self.colours.get(name)

    def origin(self, e: Any) -> Pose:
        found = self.one(e, "origin")
        if found is None:
            return Pose()
        self.uses(found, {"xyz", "rpy"}, set())
        return Pose(self.numbers(found, "xyz", 3, (0.0, 0.0, 0.0)), self.numbers(found, "rpy", 3, (0.0, 0.0, 0.0)))

    def pose(self, e: Any, word: str) -> Pose:
        values = self.numbers(e, word, 6, (0.0,) * 6)
        return Pose(values[:3], values[3:])

    def word(self, e: Any, attribute: str) -> str:
        found = (e.get(attribute) or "").strip()
        if not found:
            raise VeldrainError(f"<{local(e)}> without {attribute}", where=self.at(e), cure=f"add {attribute}=")
        return str(found)

    def number(self, e: Any, attribute: str, default: float | None = None) -> float:
        text = e.get(attribute)
        if text is None and default is not None:
            return default
        return self.float_of(self.word(e, attribute), e, attribute)

    def numbers(self, e: Any, attribute: str, count: int, default: Sequence[float] | None = None) -> tuple[float, ...]:
        text = e.get(attribute)
        if text is None and default is not None:
            return tuple(default)
        values = tuple(self.float_of(v, e, attribute) for v in re.split(r"[\s,]+", self.word(e, attribute)))
        if len(values) != count:
            raise VeldrainError(
                f"{attribute} of <{local(e)}> has {len(values)} numbers", where=self.at(e), cure=f"give {count}"
            )
        return values

    def float_of(self, text: str, e: Any, attribute: str) -> float:
        try:
            value = float(text)
        except ValueError:
            value = math.nan
        if not math.isfinite(value):
            raise VeldrainError(
                f"{attribute} of <{local(e)}> is '{text[:40]}', no number",
                where=self.at(e),
                cure="write a plain number in SI units",
            )
        return value

    def one(self, e: Any, *paths: str) -> Any:
        """The first element at one of the paths."""
        for path in paths:
            found = [e]
            for name in path.split("/"):
                found = [c for f in found for c in children(f, name)]
            if len(found) > 1:
                self.note(found[1], f"a second <{path}> of one <{local(e)}> is not used")
            if found:
                return found[0]
        return None

    def uses(self, e: Any, attributes: set[str], inner: set[str]) -> None:
        """Note all that an element has beside what is known."""
        for attribute in e.attrib:
            if attribute not in attributes:
                self.note(e, f"attribute '{attribute}' of <{local(e)}> is not used")
        for child in children(e):
            if local(child) not in inner:
                self.note(child, f"<{local(child)}> in <{local(e)}> is not used")

    def note(self, e: Any, text: str) -> None:
        self.unused.setdefault(text, []).append(e.sourceline or 1)

    def at(self, e: Any) -> str:
        return f"{self.path}:{e.sourceline or 1}"


def with_line(act: Callable[[], Any], line: str) -> Any:
    """What a function gives; its errors get the line where they have none."""
    try:
        return act()
    except VeldrainError as error:
        file = line.rpartition(":")[0]
        raise error if error.where.startswith(f"{file}:") else error.at(line) from error
