"""World files: the same words as ``World`` and ``Model``."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from veldrain.control import call_named, load_named
from veldrain.documents.source import Document, Source
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Box, Capsule, Cylinder, Model, Part, Shape, Sphere, Surface, World
from veldrain.model.model import JointKind, MotorMode
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
    """``{friction: 0.6, restitution: 0.1, rolling: 1 mm}``"""

    friction: Quantity = 0.8
    restitution: Quantity = 0.0
    rolling: Quantity = 0.0

    def make(self) -> Surface:
        return Surface(self.friction, self.restitution, self.rolling)


class RoundText(Document):
    """Sizes of a cylinder or capsule."""

    radius: Quantity
    length: Quantity


class PartText(Document):
    """A shape, one of four, and where it sits."""

    box: Row | None = None
    sphere: Quantity | None = None
    cylinder: RoundText | None = None
    capsule: RoundText | None = None
    pose: PoseText = PoseText()
    role: Literal["both", "visual", "collision"] = "both"
    colour: str | None = None

    def shape(self) -> Shape:
        given = [k for k in ("box", "sphere", "cylinder", "capsule") if getattr(self, k) is not None]
        if len(given) != 1:
            raise VeldrainError(f"{len(given)} shapes", cure="give one of box, sphere, cylinder and capsule")
        if self.box is not None:
            return Box(self.box)
        if self.sphere is not None:
            return Sphere(self.sphere)
        if self.cylinder is not None:
            return Cylinder(self.cylinder.radius, self.cylinder.length)
        assert self.capsule is not None
        return Capsule(self.capsule.radius, self.capsule.length)

    def make(self, surface: Surface | None = None) -> Part:
        return Part(self.shape(), self.pose.make(), self.role, self.colour, surface)


class LinkText(Document):
    """A link of a model."""

    parts: list[PartText] = []
    mass: Quantity | None = None
    inertia: list[list[float]] | None = None
    com: Row | None = None
    surface: SurfaceText | None = None


class JointText(Document):
    """A joint of a model."""

    parent: str
    child: str
    kind: JointKind
    pose: PoseText = PoseText()
    axis: list[float] = [0.0, 0.0, 1.0]
    limits: tuple[Quantity, Quantity] | None = None
    damping: Quantity = 0.0
    friction: Quantity = 0.0


class MotorText(Document):
    """A motor, under the name of its joint."""

    mode: MotorMode = "effort"
    stiffness: Quantity = 0.0
    damping: Quantity = 0.0
    limit: Quantity = float("inf")


class FrameText(Document):
    """A named point of interest on a link."""

    on: str
    pose: PoseText = PoseText()


class MountText(Document):
    """A sensor on a link: ``use: Lidar``, or ``module:Name`` for one of your own, and its arguments."""

    use: str
    on: str
    pose: PoseText = PoseText()
    arguments: dict[str, Any] = Field(default={}, alias="with")


class ModelText(Document):
    """A model, link by link."""

    links: dict[str, LinkText]
    joints: dict[str, JointText] = {}
    motors: dict[str, MotorText] = {}
    frames: dict[str, FrameText] = {}
    sensors: dict[str, MountText] = {}


class GroundText(Document):
    """The level ground."""

    surface: SurfaceText = SurfaceText()
    height: Quantity = 0.0


class ObstacleText(PartText):
    """A shape fixed in the world."""

    surface: SurfaceText | None = None


class PatchText(Document):
    """A region with another surface."""

    size: Row
    surface: SurfaceText
    pose: PoseText = PoseText()


class BodyText(PartText):
    """One free rigid body."""

    mass: Quantity
    surface: SurfaceText | None = None
    velocity: Row = [0.0, 0.0, 0.0]
    spin: Row = [0.0, 0.0, 0.0]


class PlacedText(Document):
    """A model placed into the world."""

    model: str
    pose: PoseText = PoseText()
    fixed: bool = False
    joints: dict[str, Quantity] = {}


class WorldText(Document):
    """A world file."""

    gravity: Row = [0.0, 0.0, -9.81]
    ground: GroundText | None = None
    obstacles: dict[str, ObstacleText] = {}
    patches: dict[str, PatchText] = {}
    bodies: dict[str, BodyText] = {}
    frames: dict[str, PoseText] = {}
    models: dict[str, str | ModelText] = {}
    place: dict[str, PlacedText] = {}


def load_world(path: str | Path) -> World:
    """A world from a file that starts with ``veldrain: world/1``.

    Raises:
        VeldrainError: what is wrong in it, with file and line.

    >>> load_world("culvert.world.yaml").patches["silt"].surface.friction
    0.2
    """
    source = Source(path, "world")
    text = source.read(WorldText)
    with source.at("gravity"):
        world = World(text.gravity)
    if text.ground:
        with source.at("ground"):
            world.ground(text.ground.surface.make(), text.ground.height)
    for name, o in text.obstacles.items():
        with source.at("obstacles", name):
            surface = o.surface.make() if o.surface else None
            world.obstacle(name, Part(o.shape(), role=o.role, colour=o.colour), o.pose.make(), surface)
    for name, p in text.patches.items():
        with source.at("patches", name):
            world.patch(name, p.size, p.pose.make(), p.surface.make())
    for name, b in text.bodies.items():
        with source.at("bodies", name):
            surface = b.surface.make() if b.surface else None
            part = Part(b.shape(), role=b.role, colour=b.colour)
            world.body(name, part, b.mass, b.pose.make(), surface, b.velocity, b.spin)
    for name, f in text.frames.items():
        with source.at("frames", name):
            world.frame(name, f.make())
    models = {name: _model(source, name, m) for name, m in text.models.items()}
    for name, placed in text.place.items():
        with source.at("place", name):
            if placed.model not in models:
                raise unknown("model", placed.model, models)
            world.place(models[placed.model], name, placed.pose.make(), placed.fixed, placed.joints)
    return world


def _model(source: Source, name: str, text: str | ModelText) -> Model:
    if isinstance(text, str):
        with source.at("models", name):
            made = load_named(text, source.path.parent, "")
            model = made() if callable(made) else made
            if not isinstance(model, Model):
                raise VeldrainError(
                    f"'{text}' gives {type(model).__name__}, not a Model",
                    cure="name a function that makes one",
                )
            return model
    model = Model(name)
    for link, t in text.links.items():
        with source.at("models", name, "links", link):
            surface = t.surface.make() if t.surface else None
            parts = [p.make() for p in t.parts]
            model.link(link, *parts, mass=t.mass, inertia=t.inertia, com=t.com, surface=surface)
    for joint, j in text.joints.items():
        with source.at("models", name, "joints", joint):
            model.joint(joint, j.parent, j.child, j.kind, j.pose.make(), j.axis, j.limits, j.damping, j.friction)
    for joint, m in text.motors.items():
        with source.at("models", name, "motors", joint):
            model.motor(joint, m.mode, m.stiffness, m.damping, m.limit)
    for frame, f in text.frames.items():
        with source.at("models", name, "frames", frame):
            model.frame(frame, f.on, f.pose.make())
    for sensor, s in text.sensors.items():
        with source.at("models", name, "sensors", sensor):
            model.mount(_sensor(s, source.path.parent), sensor, s.on, s.pose.make())
    return model


def _sensor(text: MountText, folder: Path) -> Any:
    import veldrain.sensing as own

    if ":" in text.use:
        kind = load_named(text.use, folder, "")
    elif text.use in own.__all__ and hasattr(getattr(own, text.use), "message"):
        kind = getattr(own, text.use)
    else:
        sensors: Sequence[str] = [n for n in own.__all__ if hasattr(getattr(own, n), "message")]
        raise unknown("sensor", text.use, sensors)
    return call_named(kind, text.arguments, text.use, "")
