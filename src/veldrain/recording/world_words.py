"""A world in the words of files, as ``load_world`` reads them back equal: for saving, and for recordings to hold."""

from __future__ import annotations

import hashlib
import inspect
import io
import json
import math
import os
import sys
from collections.abc import Iterator, Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

import veldrain.sensing as sensing
from veldrain.errors import VeldrainError
from veldrain.formats.open_drive_out import open_drive_of
from veldrain.model import HeightField, Mesh, Model, Part, Placed, Shape, Surface, World
from veldrain.model.leading import Course
from veldrain.model.lights import Air, Sky, Sun
from veldrain.motion.roads import Roads
from veldrain.motion.routes import Route, Way
from veldrain.pose import Pose
from veldrain.resolver import name_of
from veldrain.sheet import Sheet
from veldrain.units import worded

Map = dict[str, Any]
MOST_INLINE = 2000  # triangles that are written as numbers


class Files:
    """Where a document is written to, and what goes beside it.

    Args:
        folder: of the document: other files are named as seen from there; None: all that it needs goes beside it.
    """

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder
        self.beside: dict[str, bytes] = {}

    def mesh(self, path: Path) -> str:
        """How a mesh file is called."""
        if self.folder is not None:
            return self.seen(path)
        data = path.read_bytes()
        return self.keep(f"meshes/{hashlib.sha256(data).hexdigest()[:12]}{path.suffix.lower()}", data)

    def picture(self, image: Any) -> str:
        """How the file of a picture is called; one in memory is written."""
        if self.folder is not None and isinstance(image, str | Path):
            return self.seen(Path(image))
        from PIL import Image

        from veldrain.model.looks import picture

        out = io.BytesIO()
        Image.fromarray(picture(image)).save(out, "PNG")
        return self.keep(f"pictures/{hashlib.sha256(out.getvalue()).hexdigest()[:12]}.png", out.getvalue())

    def named(self, kind: type) -> str:
        """How a class of the user's own is called; its source goes along where all does."""
        use = name_of(kind, self.folder)
        if self.folder is not None or ".py:" not in use:
            return use
        source = Path(str(vars(sys.modules[kind.__module__])["__file__"]))
        data = source.read_bytes()
        kept = self.keep(f"sources/{hashlib.sha256(data).hexdigest()[:12]}/{source.name}", data)
        return f"{kept}:{kind.__qualname__}"

    def kept_beside(self, name: str, data: bytes) -> str:
        """Put a file that the document alone needs beside it, wherever other files are."""
        return self.keep(name if self.folder is not None else f"roads/{name}", data)

    def keep(self, name: str, data: bytes) -> str:
        """Put a file beside the document."""
        self.beside[name] = data
        return name

    def seen(self, path: Path) -> str:
        """A path as seen from the document's folder."""
        return Path(os.path.relpath(path.resolve(), (self.folder or Path()).resolve())).as_posix()


def plain(value: Any) -> Any:
    """Numbers and rows as YAML has them."""
    if isinstance(value, np.ndarray):
        return plain(value.tolist())
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, Mapping):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [plain(v) for v in value]
    return value


def pose_words(pose: Pose) -> Map:
    """A pose; the turn as a person would write it where that is the same to the last digit."""
    words: Map = {"xyz": plain(pose.position)} if pose.position.any() else {}
    if not any(pose.quaternion[:3]):
        return words
    for turn in ({"yaw": pose.yaw}, {"rpy": plain(pose.rpy)}):
        if Pose(pose.position, **turn) == pose:
            return words | turn
    return words | {"quaternion": plain(np.array(pose.quaternion))}


def sheet_words(sheet: Sheet, files: Files) -> Map:
    """What was given to a data sheet."""
    given = sheet.given
    words = {word: given[word] for word in type(sheet).fields() if given.get(word) is not None}
    if isinstance(words.get("points"), Way):
        way = words.pop("points")
        words |= way.said or {"points": way.words()}
    if "image" in words:
        words["image"] = files.picture(words["image"])
    return {k: _word(v, files) for k, v in words.items()}


def shape_words(shape: Shape, files: Files) -> Map:
    """A shape: its word and its sizes."""
    word = next(word for word, kind in Shape.kinds.items() if kind is type(shape))
    if isinstance(shape, HeightField):
        return {word: {"heights": plain(shape.heights), "spacing": shape.spacing}}
    if isinstance(shape, Mesh):
        return {word: mesh_words(shape, files)}
    sizes = plain(shape.sizes)
    return {word: next(iter(sizes.values())) if len(sizes) == 1 else sizes}


def mesh_words(mesh: Mesh, files: Files) -> Map:
    """A mesh by its file, or by its corners."""
    how: Map = {"collide": mesh.collide, "fit": mesh.fit}
    if mesh.path is not None and mesh.path.is_file():
        return {"file": files.mesh(mesh.path), "scale": plain(mesh.scale), "unit": "m"} | how
    words = {"corners": plain(mesh.corners), "triangles": plain(mesh.triangles), "name": mesh.source} | how
    return words | ({"uv": plain(mesh.uv)} if len(mesh.uv) else {})


def part_words(part: Part, files: Files, pose_word: str = "pose") -> Map:
    """A shape and what else a part has; where a thing has a pose of its own, the part's is its ``shape_pose``."""
    words = shape_words(part.shape, files)
    if pose := pose_words(part.pose):
        words[pose_word] = pose
    if part.role != "both":
        words["role"] = part.role
    if part.colour is not None:
        words["colour"] = part.colour
    if part.surface is not None:
        words["surface"] = sheet_words(part.surface, files)
    if part.look is not None:
        words["look"] = sheet_words(part.look, files)
    return words


def record_words(record: Any, function: Any, files: Files, without: tuple[str, ...] = ()) -> Map:
    """The fields of a record that a function takes, those left out that are as it has them anyway."""
    words: Map = {}
    for name, parameter in inspect.signature(function).parameters.items():
        value = vars(record).get(name)
        if name in ("self", "name", *without) or value is None or same(value, parameter.default):
            continue
        if isinstance(value, float) and math.isinf(value):
            continue
        words[name] = _word(value, files)
    return {k: v for k, v in words.items() if not (isinstance(v, dict) and not v)}


def _word(value: Any, files: Files) -> Any:
    if isinstance(value, Pose):
        return pose_words(value)
    return sheet_words(value, files) if isinstance(value, Sheet) else plain(value)


def same(value: Any, default: Any) -> bool:
    """True for what need not be written: the default itself."""
    return value is default or (isinstance(value, int | float | str | tuple) and value == default)


def model_words(model: Model, files: Files) -> Map:
    """A model, link by link."""
    tables = ("links", "joints", "motors", "loops", "springs", "rotors", "drag", "frames", "sensors")
    words: dict[str, Any] = {table: {} for table in tables}
    for name, link in model.links.items():
        body = link.mass_properties
        found: Map = {"parts": [part_words(part, files) for part in link.parts]}
        words["links"][name] = found
        if body.mass:
            found |= {"mass": body.mass, "com": plain(body.com), "inertia": plain(body.inertia)}
        if link.surface != Surface():
            found["surface"] = sheet_words(link.surface, files)
    for table, function in (("joints", Model.joint), ("loops", Model.close), ("springs", Model.spring)):
        for name, record in getattr(model, table).items():
            words[table][name] = record_words(record, function, files)
    for name, motor in model.motors.items():
        words["motors"][name] = record_words(motor, Model.motor, files, ("joint",))
    for name, rotor in model.rotors.items():
        words["rotors"][name] = record_words(rotor, Model.rotor, files, ("joint",))
    for name, drag in model.drags.items():
        words["drag"][name] = record_words(drag, Model.drag, files, ("link",))
    for name, frame in model.frames.items():
        words["frames"][name] = {"on": frame.link} | ({"pose": pose_words(frame.pose)})
    for name, mounted in model.sensors.items():
        kind = type(mounted.sensor)
        own = kind.__name__ in sensing.__all__ and kind.__module__.startswith("veldrain.")
        entry: Map = {"use": kind.__name__ if own else files.named(kind)}
        words["sensors"][name] = entry
        entry |= {"on": mounted.link, "pose": pose_words(mounted.pose), "with": sheet_words(mounted.sensor, files)}
        if mounted.failures:
            entry["failures"] = [sheet_words(failure, files) for failure in mounted.failures]
    words["no_contact"] = plain(model.apart)
    words["postures"] = plain(model.postures)
    words["suppress"] = [vars(accepted) for accepted in model.suppressed]
    return {section: told for section, told in words.items() if told}


def world_words(world: World, files: Files) -> Map:
    """A world, section by section."""
    words: Map = {"veldrain": "world/1"}
    if world.gravity != (0.0, 0.0, -9.81):
        words["gravity"] = plain(world.gravity)
    for word, plainly in (("sun", Sun()), ("sky", Sky()), ("air", Air())):
        if (sheet := vars(world)[word]) != plainly:
            words[word] = sheet_words(sheet, files)
    words["surfaces"] = {
        name: {word: told for word, told in sheet_words(sheet, files).items() if word != "name"}
        for name, sheet in world.surfaces.items()
    }
    words["lamps"] = [sheet_words(lamp, files) for lamp in world.lamps]
    if world.floor:
        words["ground"] = record_words(world.floor, World.ground, files)
    words["roads"] = {
        name: {"file": files.kept_beside(f"{name}.xodr", open_drive_of(n))}
        | {
            word: {line: sheet_words(sheet, files) for line, sheet in lines.items()}
            for word, lines in (("lights", n.lights), ("give_ways", n.give_ways))
            if lines
        }
        for name, n in _networks(world)
    }
    words["obstacles"], words["bodies"] = {}, {}
    for name, o in world.obstacles.items():
        if world.is_of_roads(name):
            continue
        told = part_words(o.part, files, "shape_pose")
        told |= {"pose": pose_words(o.pose), "surface": sheet_words(o.surface, files)}
        words["obstacles"][name] = told
    for name, b in world.bodies.items():
        told = part_words(b.part, files, "shape_pose") | {"mass": b.mass_properties.mass, "pose": pose_words(b.pose)}
        told |= {"surface": sheet_words(b.surface, files), "velocity": plain(b.velocity), "spin": plain(b.spin)}
        words["bodies"][name] = told
    words["patches"] = {name: record_words(patch, World.patch, files) for name, patch in world.patches.items()}
    words["frames"] = {name: pose_words(pose) for name, pose in world.frames.items()}
    words["models"], words["place"], words["actors"] = _placed_words(world.placed, files)
    words["no_contact"] = plain(world.apart)
    words["suppress"] = [vars(accepted) for accepted in world.suppressed]
    return {section: told for section, told in words.items() if told or section == "ground"}


def _networks(world: World) -> Iterator[tuple[str, Roads]]:
    """Its roads, by name."""
    for name, network in world.networks.items():
        if not isinstance(network, Roads):
            raise VeldrainError("files have no words for what lays it", where=name, cure="lay Roads")
        yield name, network


def _placed_words(placed: Mapping[str, Placed], files: Files) -> tuple[Map, Map, Map]:
    """Models, each once, and where they are placed."""
    models: Map = {}
    names: dict[int, str] = {}
    places: Map = {}
    actors: Map = {}
    for name, robot in placed.items():
        model = robot.model
        if robot.course is not None and _is_of_shape(model, name):
            actors[name] = _shape_of(model, files) | _course_words(robot, robot.course, files)
            continue
        if id(model) not in names:
            names[id(model)] = model.name if model.name not in models else name
            models[names[id(model)]] = model_words(model, files)
        told: Map = {"model": names[id(model)]}
        if robot.course is not None:
            actors[name] = told | _course_words(robot, robot.course, files)
            continue
        if robot.path:
            told["path"] = [{"at": time} | pose_words(pose) for time, pose in robot.path]
        elif pose := pose_words(robot.pose):
            told["pose"] = pose
        told |= {"velocity": plain(robot.velocity)} if any(robot.velocity) else {}
        told |= ({"fixed": True} if robot.fixed else {}) | ({"joints": plain(robot.joints)} if robot.joints else {})
        places[name] = told
    return models, places, actors


def _is_of_shape(model: Model, name: str) -> bool:
    """True for the model that an actor of a shape alone has."""
    parts = model.links["body"].parts if [*model.links] == ["body"] else []
    return model.name == name and not model.sensors and len(parts) == 1


def _shape_of(model: Model, files: Files) -> Map:
    """The shape that an actor was made of."""
    (part,) = model.links["body"].parts
    return part_words(part, files, "shape_pose")


def _course_words(robot: Placed, course: Course, files: Files) -> Map:
    """How an actor is led."""
    leader = course.leader
    told: Map = {"route": sheet_words(leader, files)} if isinstance(leader, Route) else {}
    if not told:
        told = {"route": {"use": files.named(type(leader))}}
    if course.keeps is not None:
        told["keeps"] = sheet_words(course.keeps, files)
    moves = {joint: {worded(type(move).__name__): sheet_words(move, files)} for joint, move in course.moves.items()}
    if moves or robot.joints:
        told["joints"] = moves | plain(robot.joints)
    plainly = Course(leader)
    for word in ("start", "begin", "offset", "passes", "upright", "start_speed"):
        if (value := getattr(course, word)) != getattr(plainly, word):
            told[word] = value
    return told


def as_yaml(words: Map) -> str:
    """Words as the text of a file; a section that was written before is not written again."""
    return "".join(_section(json.dumps({name: section})) for name, section in words.items())


@lru_cache(64)
def _section(words: str) -> str:
    from ruamel.yaml import YAML
    from ruamel.yaml.comments import CommentedMap

    yaml, out = YAML(), io.StringIO()
    yaml.default_flow_style = None
    yaml.width = 110
    section = CommentedMap(json.loads(words))
    section.fa.set_block_style()  # of plain values alone it would become {name: value}
    yaml.dump(section, out)
    return out.getvalue()
