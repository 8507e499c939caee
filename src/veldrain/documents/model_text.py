"""Models and shapes as files say them: the same words as ``Model`` and the shapes."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, field_validator

from veldrain.control import call_named, load_named
from veldrain.documents.source import Document, Source
from veldrain.errors import VeldrainError, unknown
from veldrain.formats import is_robot_file, load_robot
from veldrain.model import (
    Box,
    Capsule,
    Cone,
    Cylinder,
    Ellipsoid,
    HeightField,
    Look,
    Mesh,
    Model,
    Part,
    Shape,
    Sphere,
    Surface,
)
from veldrain.model.meshes import Collide
from veldrain.model.pieces import JointKind, LoopKind, MotorMode
from veldrain.pose import Pose
from veldrain.units import Quantity

Row = list[Quantity]


class PoseText(Document):
    """``{xyz: [1 m, 0, 30 cm], rpy: [0, 0, 90 deg]}`` or with ``yaw`` alone."""

    xyz: Row = [0.0, 0.0, 0.0]
    rpy: Row | None = None
    yaw: Quantity | None = None

    def make(self) -> Pose:
        return Pose(self.xyz, self.rpy, yaw=self.yaw)


class SurfaceText(Document):
    """``{friction: 0.6, restitution: 0.1, rolling: 1 mm, stiffness: 20 kN/m, belt: [0.3 m/s, 0, 0]}``"""

    friction: Quantity = 0.8
    restitution: Quantity = 0.0
    rolling: Quantity = 0.0
    torsional: Quantity = 0.0
    stiffness: Quantity = float("inf")
    damping: Quantity = 0.0
    belt: Row = [0.0, 0.0, 0.0]

    def make(self) -> Surface:
        return Surface(**given(self))


class LookText(Document):
    """``{colour: white, checker: black, tile: 20 cm, image: marker.png, reflectance: 0.8}``"""

    colour: str | None = None
    checker: str | None = None
    image: str | None = None
    tile: Quantity | None = None
    reflectance: float | None = None
    echo: float | None = None

    def make(self, folder: Path) -> Look:
        return Look(**given(self, "image"), image=folder / self.image if self.image is not None else None)


class RoundText(Document):
    """Sizes of a cylinder, capsule or cone."""

    radius: Quantity
    length: Quantity


class MeshText(Document):
    """A mesh file, beside the world file."""

    file: str
    scale: float | list[float] = 1.0
    collide: Collide = "hull"
    unit: str | None = None
    fit: Literal["volume", "overlap"] = "volume"


class RoughText(Document):
    """Rough ground, drawn from a seed."""

    size: Row
    height: Quantity
    length: Quantity
    spacing: Quantity = 0.05
    seed: int = 0


class HeightsText(Document):
    """Heights of a ground over a grid, row by row along x (``.nan``: a hole), or from a picture, or rough ground."""

    heights: list[list[float]] | None = None
    image: str | None = None
    rough: RoughText | None = None
    height: Quantity = 1.0
    spacing: Quantity = 0.1

    def make(self, folder: Path) -> HeightField:
        ways = [word for word in ("heights", "image", "rough") if getattr(self, word) is not None]
        if len(ways) != 1:
            raise VeldrainError(f"{len(ways)} ways to say heights", cure="give one of heights, image and rough")
        if self.image is not None:
            return HeightField.of_image(folder / self.image, self.height, self.spacing)
        if self.rough is not None:
            return HeightField.rough(**given(self.rough))
        return HeightField(self.heights or [], self.spacing)


_SHAPES: dict[str, Callable[[Any, Path], Shape]] = {
    "box": lambda t, _: Box(t),
    "sphere": lambda t, _: Sphere(t),
    "cylinder": lambda t, _: Cylinder(t.radius, t.length),
    "capsule": lambda t, _: Capsule(t.radius, t.length),
    "cone": lambda t, _: Cone(t.radius, t.length),
    "ellipsoid": lambda t, _: Ellipsoid(t),
    "mesh": lambda t, folder: Mesh(folder / t.file, t.scale, t.collide, t.unit, t.fit),
    "height_field": lambda t, folder: t.make(folder),
}


class PartText(Document):
    """A shape, one of several kinds, and where it sits."""

    box: Row | None = None
    sphere: Quantity | None = None
    cylinder: RoundText | None = None
    capsule: RoundText | None = None
    cone: RoundText | None = None
    ellipsoid: Row | None = None
    mesh: MeshText | None = None
    height_field: HeightsText | None = None
    pose: PoseText = PoseText()
    role: Literal["both", "visual", "collision"] = "both"
    colour: str | None = None
    surface: SurfaceText | None = None
    look: LookText | None = None

    def shape(self, folder: Path) -> Shape:
        given = [k for k in _SHAPES if getattr(self, k) is not None]
        if len(given) != 1:
            raise VeldrainError(f"{len(given)} shapes", cure=f"give one of {', '.join(_SHAPES)}")
        return _SHAPES[given[0]](getattr(self, given[0]), folder)

    def make(self, folder: Path) -> Part:
        surface = self.surface.make() if self.surface else None
        look = self.look.make(folder) if self.look else None
        return Part(self.shape(folder), self.pose.make(), self.role, self.colour, surface, look)


class LinkText(Document):
    """A link of a model."""

    parts: list[PartText] = []
    mass: Quantity | None = None
    inertia: list[list[float]] | None = None
    com: Row | None = None
    surface: SurfaceText | None = None
    density: Quantity | None = None


class NewLinkText(LinkText):
    """A link that is new, so nothing of it can be taken away: a value left empty was forgotten."""

    @field_validator("mass", "inertia", "com", "surface", "density")
    @classmethod
    def _given(cls, value: Any) -> Any:
        if value is None:
            raise ValueError("is empty")
        return value


class MotorText(Document):
    """A motor, under the name of its joint."""

    mode: MotorMode | None = None
    stiffness: Quantity | None = None
    damping: Quantity | None = None
    limit: Quantity | None = None
    inertia: Quantity | None = None
    reduction: float | None = None


class JointFigures(Document):
    """What a joint has that defaults can say."""

    limits: tuple[Quantity, Quantity] | None = None
    damping: Quantity | None = None
    friction: Quantity | None = None
    stiffness: Quantity | None = None
    rest: Quantity | None = None
    effort: Quantity | None = None
    speed: Quantity | None = None


class JointWords(JointFigures):
    """What a joint has beside its links and kind."""

    pose: PoseText = PoseText()
    axis: list[float] = [0.0, 0.0, 1.0]
    mimic: tuple[str, float, Quantity] | None = None
    collide: bool = False


class JointText(JointWords):
    """A joint of a model."""

    parent: str
    child: str
    kind: JointKind


class JointChangeText(JointWords):
    """What is changed of a joint; ``null`` takes away."""

    parent: str | None = None
    child: str | None = None
    kind: JointKind | None = None


class DefaultsText(JointFigures):
    """What joints have where their own description leaves it out."""

    joints: str = "*"
    kind: JointKind | None = None
    motor: MotorText | None = None


class AttachText(JointWords):
    """Another model, and the joint that holds its root."""

    model: str
    on: str
    kind: JointKind = "fixed"
    in_root: PoseText | None = None


class AcceptText(Document):
    """A finding of the check that is none, and why."""

    rule: str
    at: str
    because: str


class LoopText(Document):
    """What closes a loop of links."""

    a: str
    b: str
    kind: LoopKind = "revolute"
    pose_a: PoseText = PoseText()
    pose_b: PoseText = PoseText()
    axis: list[float] = [0.0, 0.0, 1.0]
    length: Quantity = 0.0


class SpringText(Document):
    """A spring between points of two links."""

    a: str
    b: str
    stiffness: Quantity = 0.0
    damping: Quantity = 0.0
    length: Quantity = 0.0
    at_a: Row = [0.0, 0.0, 0.0]
    at_b: Row = [0.0, 0.0, 0.0]


class FrameText(Document):
    """A named point of interest on a link."""

    on: str
    pose: PoseText = PoseText()


class MountText(Document):
    """A sensor on a link: ``use: Lidar``, or ``module:Name`` for one of your own, and its arguments."""

    use: str
    on: str
    pose: PoseText = PoseText()
    failures: list[dict[str, Any]] = []
    arguments: dict[str, Any] = Field(default={}, alias="with")


class ChangeText(Document):
    """What is changed of a model that comes from elsewhere."""

    links: dict[str, LinkText] = {}
    joints: dict[str, JointChangeText] = {}
    motors: dict[str, MotorText | None] = {}


class ModelText(Document):
    """A model, link by link; or one from a robot file or a function, with what is changed of it and added to it."""

    file: str | None = None
    make: str | None = None
    search: list[str] = []
    meshes: Collide = "hull"
    arguments: dict[str, str | float | bool] = {}
    scale: float | None = None
    defaults: list[DefaultsText] = []
    change: ChangeText = ChangeText()
    links: dict[str, NewLinkText] = {}
    joints: dict[str, JointText] = {}
    motors: dict[str, MotorText] = {}
    attach: dict[str, AttachText] = {}
    loops: dict[str, LoopText] = {}
    springs: dict[str, SpringText] = {}
    no_contact: list[tuple[str, str]] = []
    frames: dict[str, FrameText] = {}
    sensors: dict[str, MountText] = {}
    postures: dict[str, dict[str, Quantity]] = {}
    accept: list[AcceptText] = []


def given(text: Document, *without: str) -> dict[str, Any]:
    """The words that a text really has, with poses and surfaces made."""
    values = {word: getattr(text, word) for word in text.model_fields_set - set(without)}
    return {w: v.make() if isinstance(v, PoseText | SurfaceText) else v for w, v in values.items()}


def make_model(source: Source, name: str, texts: Mapping[str, str | ModelText], others: dict[str, Model]) -> Model:
    """A model of a file; those it is joined from are made first and kept in ``others``.

    Raises:
        VeldrainError: what is wrong in it, with its line.
    """
    if name in others:
        return others[name]
    text = texts[name]
    if isinstance(text, str):
        text = ModelText(file=text) if is_robot_file(text) else ModelText(make=text)
    place, folder = ("models", name), source.path.parent
    model = Model(name, draft=source.is_draft)
    with source.at(*place):
        model = _begun(source, name, text)
    for k, d in enumerate(text.defaults):
        with source.at(*place, "defaults", k):
            model.defaults(**given(d, "motor"), motor=given(d.motor) if d.motor else None)
    _change(source, place, model, text.change, folder)
    for link, t in text.links.items():
        model.where[f"link {link}"] = source.line((*place, "links", link))
        with source.at(*place, "links", link):
            model.link(link, *(p.make(folder) for p in t.parts), **given(t, "parts"))
    for joint, j in text.joints.items():
        model.where[f"joint {joint}"] = source.line((*place, "joints", joint))
        with source.at(*place, "joints", joint):
            model.joint(joint, **given(j))
    for prefix, a in text.attach.items():
        with source.at(*place, "attach", prefix):
            if a.model not in texts or a.model == name:
                raise unknown("model", a.model, [other for other in texts if other != name])
            model.attach(make_model(source, a.model, texts, others), name=prefix, **given(a, "model"))
    for joint, m in text.motors.items():
        model.where[f"motor {joint}"] = source.line((*place, "motors", joint))
        with source.at(*place, "motors", joint):
            model.motor(joint, **given(m))
    for loop, c in text.loops.items():
        with source.at(*place, "loops", loop):
            model.close(loop, c.a, c.b, c.kind, c.pose_a.make(), c.pose_b.make(), c.axis, c.length)
    for spring, g in text.springs.items():
        with source.at(*place, "springs", spring):
            model.spring(spring, g.a, g.b, g.stiffness, g.damping, g.length, g.at_a, g.at_b)
    for k, pair in enumerate(text.no_contact):
        with source.at(*place, "no_contact", k):
            model.no_contact(*pair)
    for frame, f in text.frames.items():
        model.where[f"frame {frame}"] = source.line((*place, "frames", frame))
        with source.at(*place, "frames", frame):
            model.frame(frame, f.on, f.pose.make())
    for sensor, s in text.sensors.items():
        model.where[f"sensor {sensor}"] = source.line((*place, "sensors", sensor))
        with source.at(*place, "sensors", sensor):
            model.mount(sensor, _sensor(s, folder), on=s.on, pose=s.pose.make(), failures=s.failures)
    for posture, joints in text.postures.items():
        with source.at(*place, "postures", posture):
            model.posture(posture, joints)
    for k, accepted in enumerate(text.accept):
        with source.at(*place, "accept", k):
            model.accept(accepted.rule, accepted.at, accepted.because)
    if not source.is_draft:
        model.settle()
    others[name] = model
    return model


def _begun(source: Source, name: str, text: ModelText) -> Model:
    """What a model starts from: a robot file, a function, or nothing."""
    if text.file is not None and text.make is not None:
        raise VeldrainError("file and make", cure="give one of them")
    folder = source.path.parent
    if text.file is not None:
        search = [folder / other for other in text.search]
        arguments = {key: str(value) for key, value in text.arguments.items()}
        file = Path(os.path.normpath(folder / text.file))
        model = load_robot(file, search, text.meshes, arguments, name, draft=True)
    elif text.make is not None:
        found = load_named(text.make, folder, "")
        model = found() if callable(found) else found
        if not isinstance(model, Model):
            raise VeldrainError(
                f"'{text.make}' gives {type(model).__name__}, not a Model", cure="name a function that makes one"
            )
        model = model.copy(name)  # what is changed here is changed of no other
    else:
        model = Model(name, draft=source.is_draft)
    return model.scaled(text.scale) if text.scale is not None else model


def _change(source: Source, place: tuple[str, ...], model: Model, change: ChangeText, folder: Path) -> None:
    for link, t in change.links.items():
        with source.at(*place, "change", "links", link):
            model.change_link(link, *(p.make(folder) for p in t.parts), **given(t, "parts"))
    for joint, j in change.joints.items():
        with source.at(*place, "change", "joints", joint):
            model.change_joint(joint, **given(j))
    for joint, m in change.motors.items():
        with source.at(*place, "change", "motors", joint):
            if m is None:
                model.remove_motor(joint)
            else:
                model.change_motor(joint, **given(m))


def _sensor(text: MountText, folder: Path) -> Any:
    import veldrain.sensing as own

    if ":" in text.use:
        kind = load_named(text.use, folder, "")
    elif text.use in own.__all__:
        kind = getattr(own, text.use)
    else:
        raise unknown("sensor", text.use, own.__all__)
    return call_named(kind, text.arguments, text.use, "")
