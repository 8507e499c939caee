"""World files: the same words as ``World``."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from veldrain.documents.model_text import (
    AcceptText,
    ModelText,
    PartText,
    PoseText,
    Row,
    SurfaceText,
    given,
    make_model,
)
from veldrain.documents.source import Document, Source
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Channel, Model, Part, Pipe, Ramp, Stairs, Strewn, Wall, World
from veldrain.model import Row as RowOf
from veldrain.model.pieces import Fault
from veldrain.model.structures import Built
from veldrain.units import Quantity


class GroundText(Document):
    """The level ground."""

    surface: SurfaceText = SurfaceText()
    height: Quantity = 0.0


class ObstacleText(PartText):
    """A shape fixed in the world."""


class WallText(Document):
    """A wall along a line through points of the ground."""

    points: list[Row]
    height: Quantity = 1.0
    thickness: Quantity = 0.1
    closed: bool = False


class StairsText(Document):
    """Stairs that climb along x."""

    steps: int
    rise: Quantity = 0.17
    going: Quantity = 0.29
    width: Quantity = 1.0


class RampText(Document):
    """A wedge that rises along x."""

    length: Quantity
    rise: Quantity
    width: Quantity = 1.0


class PipeText(Document):
    """A round pipe along x."""

    radius: Quantity
    length: Quantity
    thickness: Quantity = 0.02
    sides: int = 48


class ChannelText(Document):
    """An open channel along x."""

    width: Quantity
    depth: Quantity
    length: Quantity
    thickness: Quantity = 0.1


class RowText(PartText):
    """A shape again and again, each a step from the one before."""

    count: int
    step: Row


class StrewnText(Document):
    """Shapes strewn over a rectangle, none overlapping."""

    shapes: list[PartText]
    count: int
    size: Row
    seed: int = 0
    gap: Quantity = 0.0


_BUILT: dict[str, Callable[[Any, Path], Built]] = {
    "wall": lambda t, _: Wall(**given(t)),
    "stairs": lambda t, _: Stairs(**given(t)),
    "ramp": lambda t, _: Ramp(**given(t)),
    "pipe": lambda t, _: Pipe(**given(t)),
    "channel": lambda t, _: Channel(**given(t)),
    "row": lambda t, folder: RowOf(t.shape(folder), t.count, t.step, t.pose.make()),
    "strewn": lambda t, folder: Strewn([s.shape(folder) for s in t.shapes], **given(t, "shapes")),
}


class BuildText(Document):
    """Something built from several shapes."""

    wall: WallText | None = None
    stairs: StairsText | None = None
    ramp: RampText | None = None
    pipe: PipeText | None = None
    channel: ChannelText | None = None
    row: RowText | None = None
    strewn: StrewnText | None = None
    pose: PoseText = PoseText()
    surface: SurfaceText | None = None
    colour: str | None = None
    mass: Quantity | None = None

    def make(self, folder: Path) -> Built:
        kinds = [kind for kind in _BUILT if getattr(self, kind) is not None]
        if len(kinds) != 1:
            raise VeldrainError(f"{len(kinds)} things to build", cure=f"give one of {', '.join(_BUILT)}")
        return _BUILT[kinds[0]](getattr(self, kinds[0]), folder)


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
    surfaces: dict[str, SurfaceText] = {}
    gravity: Row = [0.0, 0.0, -9.81]
    ground: GroundText | None = None
    obstacles: dict[str, ObstacleText] = {}
    build: dict[str, BuildText] = {}
    patches: dict[str, PatchText] = {}
    bodies: dict[str, BodyText] = {}
    frames: dict[str, PoseText] = {}
    models: dict[str, str | ModelText] = {}
    place: dict[str, PlacedText] = {}
    no_contact: list[tuple[str, str]] = []
    accept: list[AcceptText] = []


def with_named_surfaces(source: Source) -> Any:
    """The file's data with ``surface: name`` replaced by what ``surfaces:`` says of that name.

    Raises:
        VeldrainError: there is no surface of that name.
    """
    tree = source.tree
    known = tree.get("surfaces") or {}

    def filled(node: Any, place: tuple[str | int, ...]) -> Any:
        if isinstance(node, Mapping):
            return {key: filled(value, (*place, key)) for key, value in node.items()}
        if isinstance(node, list):
            return [filled(value, (*place, k)) for k, value in enumerate(node)]
        if place and place[-1] == "surface" and isinstance(node, str):
            if node not in known:
                raise unknown("surface", node, known, source.line(place))
            return known[node]
        return node

    return filled(tree, ())


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
    source.tree = with_named_surfaces(source)
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
    for name, built in text.build.items():
        world.where[name] = source.line(("build", name))
        with source.at("build", name):
            surface = built.surface.make() if built.surface else None
            world.build(name, built.make(folder), built.pose.make(), surface, built.colour, built.mass)
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
