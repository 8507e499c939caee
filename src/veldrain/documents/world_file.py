"""World files: the same words as ``World``."""

from __future__ import annotations

from pathlib import Path

from veldrain.documents.model_text import (
    AcceptText,
    ModelText,
    PartText,
    PoseText,
    Row,
    SurfaceText,
    make_model,
)
from veldrain.documents.source import Document, Source
from veldrain.errors import unknown
from veldrain.model import Model, Part, World
from veldrain.model.pieces import Fault
from veldrain.units import Quantity


class GroundText(Document):
    """The level ground."""

    surface: SurfaceText = SurfaceText()
    height: Quantity = 0.0


class ObstacleText(PartText):
    """A shape fixed in the world."""


class PatchText(Document):
    """A region with another surface."""

    size: Row
    surface: SurfaceText
    pose: PoseText = PoseText()


class BodyText(PartText):
    """One free rigid body."""

    mass: Quantity
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
    posture: str | None = None


class WorldText(Document):
    """A world file."""

    base: str | None = None
    gravity: Row = [0.0, 0.0, -9.81]
    ground: GroundText | None = None
    obstacles: dict[str, ObstacleText] = {}
    patches: dict[str, PatchText] = {}
    bodies: dict[str, BodyText] = {}
    frames: dict[str, PoseText] = {}
    models: dict[str, str | ModelText] = {}
    place: dict[str, PlacedText] = {}
    no_contact: list[tuple[str, str]] = []
    accept: list[AcceptText] = []


def load_world(path: str | Path, draft: bool = False) -> World:
    """A world from a file that starts with ``veldrain: world/1``.

    Args:
        path: the file.
        draft: True keeps mistakes that can be read past in ``faults`` instead of raising them: for ``check``.

    Raises:
        VeldrainError: what is wrong in it, with file and line.

    >>> load_world("culvert.world.yaml").patches["silt"].surface.friction
    0.2
    """
    source = Source(path, "world", draft)
    text, folder = source.read(WorldText), source.path.parent
    world = World(draft=source.is_draft)
    with source.at("gravity"):
        world = World(text.gravity, draft=source.is_draft)
    if text.ground:
        with source.at("ground"):
            world.ground(text.ground.surface.make(), text.ground.height)
    for name, o in text.obstacles.items():
        world.where[name] = source.line(("obstacles", name))
        with source.at("obstacles", name):
            surface = o.surface.make() if o.surface else None
            world.obstacle(name, Part(o.shape(folder), role=o.role, colour=o.colour), o.pose.make(), surface)
    for name, p in text.patches.items():
        with source.at("patches", name):
            world.patch(name, p.size, p.pose.make(), p.surface.make())
    for name, b in text.bodies.items():
        world.where[name] = source.line(("bodies", name))
        with source.at("bodies", name):
            surface = b.surface.make() if b.surface else None
            part = Part(b.shape(folder), role=b.role, colour=b.colour)
            world.body(name, part, b.mass, b.pose.make(), surface, b.velocity, b.spin)
    for name, f in text.frames.items():
        with source.at("frames", name):
            world.frame(name, f.make())
    models: dict[str, Model] = {}
    for name in text.models:
        make_model(source, name, text.models, models)
    for name, placed in text.place.items():
        world.where[name] = source.line(("place", name))
        with source.at("place", name):
            if placed.model not in models:
                raise unknown("model", placed.model, models)
            steps = [(step.at, step.make()) for step in placed.path]
            pose = placed.pose.make() if placed.pose else None
            world.place(models[placed.model], name, pose, placed.fixed, placed.joints, steps, placed.posture)
    for k, (one, other) in enumerate(text.no_contact):
        with source.at("no_contact", k):
            world.no_contact(one, other)
    for k, accepted in enumerate(text.accept):
        with source.at("accept", k):
            world.accept(accepted.rule, accepted.at, accepted.because)
    world.faults += [Fault("file", mistake) for mistake in source.mistakes]
    return world
