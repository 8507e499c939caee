"""World files: the same words as ``World`` and ``Model``."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from veldrain.control import call_named, load_named
from veldrain.documents.source import Document, Source
from veldrain.errors import VeldrainError, unknown
from veldrain.model import (
    Box,
    Capsule,
    Cone,
    Cylinder,
    Ellipsoid,
    HeightField,
    Mesh,
    Model,
    Part,
    Shape,
    Sphere,
    Surface,
    World,
)
from veldrain.model.model import JointKind, LoopKind, MotorMode
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
    spinning: Quantity = 0.0
    stiffness: Quantity = float("inf")
    damping: Quantity = 0.0
    belt: Row = [0.0, 0.0, 0.0]

    def make(self) -> Surface:
        return Surface(
            self.friction, self.restitution, self.rolling, self.spinning, self.stiffness, self.damping, self.belt
        )


class RoundText(Document):
    """Sizes of a cylinder, capsule or cone."""

    radius: Quantity
    length: Quantity


class MeshText(Document):
    """A mesh file, beside the world file."""

    file: str
    scale: float | list[float] = 1.0
    collide: Literal["hull", "triangles"] = "hull"


class HeightsText(Document):
    """Heights of a ground over a grid, row by row along x."""

    heights: list[list[float]]
    spacing: Quantity


_SHAPES: dict[str, Callable[[Any, Path], Shape]] = {
    "box": lambda t, _: Box(t),
    "sphere": lambda t, _: Sphere(t),
    "cylinder": lambda t, _: Cylinder(t.radius, t.length),
    "capsule": lambda t, _: Capsule(t.radius, t.length),
    "cone": lambda t, _: Cone(t.radius, t.length),
    "ellipsoid": lambda t, _: Ellipsoid(t),
    "mesh": lambda t, folder: Mesh(folder / t.file, t.scale, t.collide),
    "height_field": lambda t, _: HeightField(t.heights, t.spacing),
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

    def shape(self, folder: Path) -> Shape:
        given = [k for k in _SHAPES if getattr(self, k) is not None]
        if len(given) != 1:
            raise VeldrainError(f"{len(given)} shapes", cure=f"give one of {', '.join(_SHAPES)}")
        return _SHAPES[given[0]](getattr(self, given[0]), folder)

    def make(self, folder: Path) -> Part:
        return Part(self.shape(folder), self.pose.make(), self.role, self.colour)


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
    mimic: tuple[str, float, Quantity] | None = None
    stiffness: Quantity = 0.0
    rest: Quantity = 0.0
    collide: bool = False


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


class MotorText(Document):
    """A motor, under the name of its joint."""

    mode: MotorMode = "effort"
    stiffness: Quantity = 0.0
    damping: Quantity = 0.0
    limit: Quantity = float("inf")
    inertia: Quantity = 0.0


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
    loops: dict[str, LoopText] = {}
    springs: dict[str, SpringText] = {}
    no_contact: list[tuple[str, str]] = []
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


class StepText(PoseText):
    """A pose of a path, and its time."""

    at: Quantity


class PlacedText(Document):
    """A model placed into the world."""

    model: str
    pose: PoseText | None = None
    fixed: bool = False
    joints: dict[str, Quantity] = {}
    path: list[StepText] = []


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
    no_contact: list[tuple[str, str]] = []


def load_world(path: str | Path) -> World:
    """A world from a file that starts with ``veldrain: world/1``.

    Raises:
        VeldrainError: what is wrong in it, with file and line.

    >>> load_world("culvert.world.yaml").patches["silt"].surface.friction
    0.2
    """
    source = Source(path, "world")
    text, folder = source.read(WorldText), source.path.parent
    with source.at("gravity"):
        world = World(text.gravity)
    if text.ground:
        with source.at("ground"):
            world.ground(text.ground.surface.make(), text.ground.height)
    for name, o in text.obstacles.items():
        with source.at("obstacles", name):
            surface = o.surface.make() if o.surface else None
            world.obstacle(name, Part(o.shape(folder), role=o.role, colour=o.colour), o.pose.make(), surface)
    for name, p in text.patches.items():
        with source.at("patches", name):
            world.patch(name, p.size, p.pose.make(), p.surface.make())
    for name, b in text.bodies.items():
        with source.at("bodies", name):
            surface = b.surface.make() if b.surface else None
            part = Part(b.shape(folder), role=b.role, colour=b.colour)
            world.body(name, part, b.mass, b.pose.make(), surface, b.velocity, b.spin)
    for name, f in text.frames.items():
        with source.at("frames", name):
            world.frame(name, f.make())
    models = {name: _model(source, name, m) for name, m in text.models.items()}
    for name, placed in text.place.items():
        with source.at("place", name):
            if placed.model not in models:
                raise unknown("model", placed.model, models)
            steps = [(step.at, step.make()) for step in placed.path]
            pose = placed.pose.make() if placed.pose else None
            world.place(models[placed.model], name, pose, placed.fixed, placed.joints, steps)
    for k, (one, other) in enumerate(text.no_contact):
        with source.at("no_contact", k):
            world.no_contact(one, other)
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
            parts = [p.make(source.path.parent) for p in t.parts]
            model.link(link, *parts, mass=t.mass, inertia=t.inertia, com=t.com, surface=surface)
    for joint, j in text.joints.items():
        with source.at("models", name, "joints", joint):
            model.joint(
                joint, j.parent, j.child, j.kind, j.pose.make(), j.axis, j.limits, j.damping, j.friction, j.mimic,
                j.stiffness, j.rest, j.collide,
            )  # fmt: skip
    for joint, m in text.motors.items():
        with source.at("models", name, "motors", joint):
            model.motor(joint, m.mode, m.stiffness, m.damping, m.limit, m.inertia)
    for loop, c in text.loops.items():
        with source.at("models", name, "loops", loop):
            model.close(loop, c.a, c.b, c.kind, c.pose_a.make(), c.pose_b.make(), c.axis, c.length)
    for spring, g in text.springs.items():
        with source.at("models", name, "springs", spring):
            model.spring(spring, g.a, g.b, g.stiffness, g.damping, g.length, g.at_a, g.at_b)
    for k, pair in enumerate(text.no_contact):
        with source.at("models", name, "no_contact", k):
            model.no_contact(*pair)
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
