"""World files: the words of ``World``'s own functions, section by section."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from pydantic import create_model

from veldrain.documents.model_file import ModelText, make_model
from veldrain.documents.source import FOREIGN, Document, Source
from veldrain.documents.words import PoseText, Row, Words, call, document
from veldrain.errors import CodeRefusedError, VeldrainError, unknown
from veldrain.formats import load_roads
from veldrain.model import Air, Lamp, Look, Model, Sky, Sun, Surface, World
from veldrain.model.pieces import Fault
from veldrain.motion.roads import Roads
from veldrain.pose import Pose
from veldrain.recording import Recording
from veldrain.recording.attaching import WORLD
from veldrain.resolver import allowed_code, code_from_files
from veldrain.units import Quantity


class StepText(PoseText):
    """A pose of a path, and its time."""

    at: Quantity

    def make(self, folder: Path) -> tuple[Quantity, Pose]:  # type: ignore[override]
        return self.at, super().make(folder)


PlacedText: type[Words] = create_model(
    "PlacedWords", __base__=document(World.place, ("model", "path")), model=(str, ...), path=(list[StepText], [])
)


class RoadsText(Words):
    """Roads from a file, or built road by road."""

    file: str | None = None
    roads: dict[str, document(Roads.road)] = {}  # type: ignore[valid-type]
    crossings: dict[str, list[str]] = {}
    lights: dict[str, document(Roads.light)] = {}  # type: ignore[valid-type]
    give_ways: dict[str, document(Roads.give_way)] = {}  # type: ignore[valid-type]

    def network(self, name: str, folder: Path) -> Roads:
        """The network of this name."""
        if (self.file is None) == (not self.roads):
            raise VeldrainError("not one network of roads", cure="give file, or roads")
        made = Roads() if self.file is None else load_roads(folder / self.file)
        made.name = name
        for road, text in self.roads.items():
            call(made.road, text, folder, road)
        for crossing, arms in self.crossings.items():
            made.crossing(crossing, arms)
        for light, text in self.lights.items():
            call(made.light, text, folder, light)
        for line, text in self.give_ways.items():
            call(made.give_way, text, folder, line)
        return made


class WorldText(Document):
    """A world file."""

    base: str | None = None
    surfaces: dict[str, document(Surface)] = {}  # type: ignore[valid-type]
    looks: dict[str, document(Look)] = {}  # type: ignore[valid-type]
    sun: document(Sun) | None = None  # type: ignore[valid-type]
    sky: document(Sky) | None = None  # type: ignore[valid-type]
    lamps: list[document(Lamp)] = []  # type: ignore[valid-type]
    air: document(Air) | None = None  # type: ignore[valid-type]
    gravity: Row = [0.0, 0.0, -9.81]
    ground: document(World.ground) | None = None  # type: ignore[valid-type]
    obstacles: dict[str, document(World.obstacle)] = {}  # type: ignore[valid-type]
    build: dict[str, document(World.build)] = {}  # type: ignore[valid-type]
    patches: dict[str, document(World.patch)] = {}  # type: ignore[valid-type]
    bodies: dict[str, document(World.body)] = {}  # type: ignore[valid-type]
    frames: dict[str, PoseText] = {}
    models: dict[str, str | ModelText] = {}
    place: dict[str, PlacedText] = {}  # type: ignore[valid-type]
    roads: dict[str, RoadsText] = {}
    scenes: dict[str, document(World.scene)] = {}  # type: ignore[valid-type]
    actors: dict[str, document(World.actor)] = {}  # type: ignore[valid-type]
    no_contact: list[tuple[str, str]] = []
    suppress: list[document(World.suppress)] = []  # type: ignore[valid-type]


def with_names_filled(source: Source) -> Any:
    """The file's data with ``surface: name`` and ``look: name`` replaced by what ``surfaces:`` and ``looks:`` say.

    Raises:
        VeldrainError: there is none of that name.
    """
    tree = source.tree
    told = {word: tree.get(f"{word}s") for word in ("surface", "look")}
    known = {word: names if isinstance(names, Mapping) else {} for word, names in told.items()}

    def filled(node: Any, place: tuple[str | int, ...]) -> Any:
        if isinstance(node, Mapping):
            return {key: filled(value, (*place, key)) for key, value in node.items()}
        if isinstance(node, list):
            return [filled(value, (*place, k)) for k, value in enumerate(node)]
        word = place[-1] if place else None
        if word in known and isinstance(node, str):
            if node not in known[word]:
                raise unknown(word, node, known[word], source.line(place))
            found = known[word][node]
            return {"name": node, **found} if word == "surface" and isinstance(found, Mapping) else found
        return node

    return filled(tree, ())


BELOW_ROADS = -0.15  # m: the level ground around roads that are read by themselves, lower than their kerbs


def load_world(path: str | Path | Recording, draft: bool = False) -> World:
    """A world from a file that starts with ``veldrain: world/1``, or the world that a recording holds.

    Roads by themselves (``.xodr``, ``.osm``) are laid over level ground.

    Args:
        path: the file; a recording, or the path of one (``….mcap``).
        draft: True keeps mistakes that can be read past in ``faults`` instead of raising them: for ``check``.

    Raises:
        VeldrainError: what is wrong in it, with file and line.

    >>> load_world("culvert.world.yaml").patches["silt"].surface.friction
    0.2
    """
    if isinstance(path, Recording) or str(path).endswith(".mcap"):
        return _held(path if isinstance(path, Recording) else Recording(path), draft)
    if FOREIGN.get(Path(path).suffix.lower()) == "world":
        return World(draft=draft).ground(height=BELOW_ROADS).roads(load_roads(path))
    source = Source(path, "world", draft)
    source.tree = with_names_filled(source)
    text, folder = source.read(WorldText), source.path.parent
    world = World(draft=source.is_draft)
    with source.at("gravity"):
        world = World(text.gravity, draft=source.is_draft)

    def each(section: str, act: Callable[[Any, Any], Any]) -> None:
        """Do what a section says, entry by entry."""
        told = getattr(text, section)
        for key, entry in told.items() if isinstance(told, Mapping) else enumerate(told):
            if isinstance(key, str):
                world.where[key] = source.line((section, key))
            with source.at(section, key):
                act(key, entry)

    def plain(function: Callable[..., Any]) -> Callable[[Any, Any], Any]:
        return lambda key, entry: call(function, entry, folder, key)

    models: dict[str, Model] = {}

    def place(name: str, entry: Any) -> None:
        words = entry.given(folder)
        model = words.pop("model")
        if model not in models:
            raise unknown("model", model, models)
        world.place(models[model], name, **words)

    def actor(name: str, entry: Any) -> None:
        try:
            words = entry.given(folder)
        except CodeRefusedError as error:
            if allowed_code() != "data":
                raise
            world.faults.append(Fault("not-looked-at", error.at(f"actor '{name}'"), is_grave=False))
            return
        if isinstance(words["shape"], str):
            if words["shape"] not in models:
                raise unknown("model", words["shape"], models)
            words["shape"] = models[words["shape"]]
        if isinstance(words["route"], dict):
            words["route"] = world.route_on(**words["route"])
        world.actor(name, **words)

    def scene(name: str, words: dict[str, Any]) -> None:
        world.scene(name, folder / words.pop("file"), **words)

    each("surfaces", plain(lambda name, **words: world.surface(name, Surface(**words))))
    if text.ground:
        with source.at("ground"):
            call(world.ground, text.ground, folder)
    for word in ("sun", "sky"):
        if light := getattr(text, word):
            with source.at(word):
                world.light(light.make(folder))
    each("lamps", lambda _, lamp: world.light(lamp.make(folder)))
    if text.air:
        with source.at("air"):
            world.weather(text.air.make(folder))
    each("obstacles", plain(world.obstacle))
    each("build", plain(world.build))
    each("patches", plain(world.patch))
    each("bodies", plain(world.body))
    each("scenes", lambda name, entry: scene(name, entry.given(folder)))
    each("roads", lambda name, entry: world.roads(entry.network(name, folder)))
    each("frames", lambda name, entry: world.frame(name, entry.make(folder)))
    for name in text.models:
        make_model(source, name, text.models, models)
    each("place", place)
    each("actors", actor)
    each("no_contact", lambda _, pair: world.no_contact(*pair))
    each("suppress", lambda _, entry: call(world.suppress, entry, folder))
    world.where[""] = source.path.name
    world.faults += [Fault("file", mistake) for mistake in source.mistakes]
    return world


def _held(recording: Recording, draft: bool) -> World:
    """The world that a recording holds."""
    if WORLD not in recording.attachments:
        raise VeldrainError(
            "holds no world", where=str(recording.path or "recording"), cure="name the world's file (world=, --world)"
        )
    with tempfile.TemporaryDirectory() as folder:
        for name, data in recording.attachments.items():
            target = Path(folder) / name
            try:
                if not target.resolve().is_relative_to(Path(folder).resolve()):
                    raise ValueError("outside of its folder")
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(data)
            except (OSError, ValueError) as error:  # no name of a file, or of one and of its folder
                shown = name if len(name) < 60 else f"{name[:60]}…"
                told = f"an attachment called {shown!r} ({error.strerror if isinstance(error, OSError) else error})"
                raise VeldrainError(told, where=str(recording.path or "recording"), cure="do not trust it") from error
        try:
            with code_from_files("data"):
                return load_world(Path(folder) / WORLD, draft)
        except VeldrainError as error:  # of a file that is gone when it is read
            place = error.where.replace(f"{folder}/", f"{recording.path or 'recording'}, ")
            raise type(error)(error.problem, where=place, cure=error.cure) from error
