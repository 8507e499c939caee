"""World files: the same words as ``World``."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from veldrain.documents.model_text import (
    AcceptText,
    LookText,
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
from veldrain.model import Air, Channel, Lamp, Model, Pipe, Ramp, Sky, Stairs, Strewn, Sun, Wall, World
from veldrain.model import Row as RowOf
from veldrain.model.pieces import Fault
from veldrain.model.structures import Built
from veldrain.pose import Pose
from veldrain.units import Quantity


class GroundText(Document):
    """The level ground."""

    surface: SurfaceText = SurfaceText()
    height: Quantity = 0.0
    look: LookText | None = None


class SunText(Document):
    """Where the sun stands, and how bright it is."""

    elevation: Quantity = "40 deg"
    azimuth: Quantity = "-125 deg"
    lux: Quantity = 50e3
    colour: str = "#fff4e0"


class SkyText(Document):
    """Light from all around above."""

    lux: Quantity = 15e3
    colour: str = "#9cc4ee"
    horizon: str = "#e4ecf2"


class LampText(Document):
    """Light from a point of the world or of a link."""

    position: Row
    candela: Quantity = 100.0
    colour: str = "#ffffff"
    link: str | None = None


class AirText(Document):
    """Fog, rain, pressure."""

    visibility: Quantity = math.inf
    rain: Quantity = 0.0
    pressure: Quantity = 101325.0
    temperature: Quantity = 288.15


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
    look: LookText | None = None

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
    looks: dict[str, LookText] = {}
    sun: SunText | None = None
    sky: SkyText | None = None
    lamps: list[LampText] = []
    air: AirText | None = None
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


def with_names_filled(source: Source) -> Any:
    """The file's data with ``surface: name`` and ``look: name`` replaced by what ``surfaces:`` and ``looks:`` say.

    Raises:
        VeldrainError: there is none of that name.
    """
    tree = source.tree
    known = {word: tree.get(f"{word}s") or {} for word in ("surface", "look")}

    def filled(node: Any, place: tuple[str | int, ...]) -> Any:
        if isinstance(node, Mapping):
            return {key: filled(value, (*place, key)) for key, value in node.items()}
        if isinstance(node, list):
            return [filled(value, (*place, k)) for k, value in enumerate(node)]
        word = place[-1] if place else None
        if word in known and isinstance(node, str):
            if node not in known[word]:
                raise unknown(word, node, known[word], source.line(place))
            return known[word][node]
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
    source.tree = with_names_filled(source)
    text, folder = source.read(WorldText), source.path.parent
    world = World(draft=source.is_draft)
    with source.at("gravity"):
        world = World(text.gravity, draft=source.is_draft)
    if text.ground:
        with source.at("ground"):
            look = text.ground.look.make(folder) if text.ground.look else None
            world.ground(text.ground.surface.make(), text.ground.height, look)
    for word, text_of, kind in (("sun", text.sun, Sun), ("sky", text.sky, Sky)):
        if text_of:
            with source.at(word):
                world.light(kind(**given(text_of)))
    for k, lamp in enumerate(text.lamps):
        with source.at("lamps", k):
            world.light(Lamp(**given(lamp)))
    if text.air:
        with source.at("air"):
            world.weather(Air(**given(text.air)))
    for name, o in text.obstacles.items():
        world.where[name] = source.line(("obstacles", name))
        with source.at("obstacles", name):
            surface = o.surface.make() if o.surface else None
            world.obstacle(name, replace(o.make(folder), pose=Pose(), surface=None), o.pose.make(), surface)
    for name, built in text.build.items():
        world.where[name] = source.line(("build", name))
        with source.at("build", name):
            surface = built.surface.make() if built.surface else None
            look = built.look.make(folder) if built.look else None
            world.build(name, built.make(folder), built.pose.make(), surface, built.colour, built.mass, look)
    for name, p in text.patches.items():
        with source.at("patches", name):
            world.patch(name, p.size, p.pose.make(), p.surface.make())
    for name, b in text.bodies.items():
        world.where[name] = source.line(("bodies", name))
        with source.at("bodies", name):
            surface = b.surface.make() if b.surface else None
            part = replace(b.make(folder), pose=Pose(), surface=None)
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
    world.where[""] = source.path.name
    world.faults += [Fault("file", mistake) for mistake in source.mistakes]
    return world
