"""The words of files, from the signatures of the Python functions and classes that they stand for.

``document(World.body)`` is a pydantic model with the parameters of ``World.body``. Poses, surfaces, looks and shapes
are maps in a file; everything else is as it is in Python. A parameter that is added to a function is a word of files.
"""

from __future__ import annotations

import inspect
import types
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any, Literal, Union, get_args, get_origin

import numpy as np
from numpy.typing import ArrayLike
from pydantic import Field, create_model

from veldrain.documents.source import Document
from veldrain.errors import VeldrainError
from veldrain.model import HeightField, Leader, Look, Mesh, Model, Part, Shape, Surface
from veldrain.model.leading import MOVES, Moves
from veldrain.model.meshes import Collide
from veldrain.model.structures import Built
from veldrain.motion import Route
from veldrain.motion.routes import is_on_roads
from veldrain.pose import Pose
from veldrain.resolver import call_named, load_named
from veldrain.sheet import Sheet
from veldrain.units import Quantity

Row = list[Quantity]
OWN = ("self", "name", "draft", "where")  # parameters that a file says in another way


class Words(Document):
    """A map of a file that something is made of."""

    def given(self, folder: Path) -> dict[str, Any]:
        """The words that it really has, with what they stand for made; files are looked for in the folder."""
        return {word: made(getattr(self, word), folder) for word in self.told}

    @property
    def told(self) -> list[str]:
        """The words that it really has, always in one order: what is made of them is recorded, byte by byte."""
        return [word for word in type(self).model_fields if word in self.model_fields_set]

    def make(self, folder: Path) -> Any:
        """What it stands for; a map, where it is no more than that."""
        return self.given(folder)

    @classmethod
    def extra(cls, fields: Mapping[str, Any]) -> dict[str, Any]:
        """Words beside those that its function takes."""
        return {}


def made(value: Any, folder: Path) -> Any:
    """Data of a file with all words in it made into what they stand for."""
    if isinstance(value, Words):
        return value.make(folder)
    if isinstance(value, list):
        return [made(v, folder) for v in value]
    if isinstance(value, dict):
        return {k: made(v, folder) for k, v in value.items()}
    return value


class NamedText(Words):
    """Something of one's own: ``use: module:Name`` or ``file.py:Name``, and its arguments."""

    use: str
    arguments: dict[str, Any] = Field(default={}, alias="with")

    def make(self, folder: Path) -> Any:
        return call_named(load_named(self.use, folder, ""), self.arguments, self.use, "")


class PoseText(Words):
    """``{xyz: [1 m, 0, 30 cm], rpy: [0, 0, 90 deg]}``, or with ``yaw`` or ``quaternion`` (x, y, z, w)."""

    xyz: Row = [0.0, 0.0, 0.0]
    rpy: Row | None = None
    yaw: Quantity | None = None
    quaternion: list[float] | None = None

    def make(self, folder: Path) -> Pose:
        if self.quaternion is None:
            return Pose(self.xyz, self.rpy, yaw=self.yaw)
        if self.rpy is not None or self.yaw is not None:
            raise VeldrainError("a pose with two rotations", cure="give one of rpy, yaw and quaternion")
        return Pose(self.xyz, rotation=rotation_of(self.quaternion))


def rotation_of(quaternion: Sequence[float]) -> Any:
    """The rotation of a quaternion x, y, z, w."""
    from scipy.spatial.transform import Rotation

    if len(quaternion) != 4 or not np.isfinite(quaternion).all() or not np.any(quaternion):
        raise VeldrainError(f"{quaternion!r} is not a quaternion", cure="give x, y, z, w")
    is_unit = abs(float(np.linalg.norm(quaternion)) - 1) < 1e-12  # as written by us: to the last digit
    return Rotation(np.array(quaternion, float), normalize=not is_unit)


class MeshText(Words):
    """A mesh file, beside the world file; or corners and triangles."""

    file: str | None = None
    scale: float | list[float] = 1.0
    collide: Collide = "hull"
    unit: str | None = None
    fit: Literal["volume", "overlap"] = "volume"
    corners: list[list[float]] | None = None
    triangles: list[list[int]] | None = None
    uv: list[Any] | None = None
    name: str = "mesh"

    def make(self, folder: Path) -> Mesh:
        if (self.file is None) == (self.corners is None or self.triangles is None):
            raise VeldrainError("not one mesh", cure="give file, or corners and triangles")
        if self.file is not None:
            return Mesh(folder / self.file, self.scale, self.collide, self.unit, self.fit)
        try:
            return Mesh.of(
                self.corners or [], self.triangles or [], collide=self.collide, name=self.name, fit=self.fit, uv=self.uv
            )
        except (ValueError, TypeError) as error:
            raise VeldrainError("not a mesh", cure="give corners (n, 3) and triangles (m, 3) of them") from error


class RoughText(Words):
    """Rough ground, drawn from a seed."""

    size: Row
    height: Quantity
    length: Quantity
    spacing: Quantity = 0.05
    seed: int = 0

    def make(self, folder: Path) -> HeightField:
        return HeightField.rough(**{word: getattr(self, word) for word in self.told})


class HeightsText(Words):
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
            return HeightField.of_image(folder / self.image, self.height, spacing=self.spacing)
        return self.rough.make(folder) if self.rough is not None else HeightField(self.heights or [], self.spacing)


def in_file(annotation: Any) -> Any:
    """The type that a parameter of a function has in a file; None is left out of it: an empty value was forgotten."""
    if annotation == ArrayLike:
        return list[Any]
    if annotation is Pose:
        return PoseText
    if annotation is Leader:
        return leader_text()
    if annotation == Quantity | Moves:
        return Quantity | moves_text()
    kind: Any = annotation
    if isinstance(kind, type) and Sheet in kind.__mro__:
        return document(kind)
    if annotation is Shape:
        return shape_text()
    if annotation in (Part, Shape | Part):
        return part_text()
    origin, arms = get_origin(annotation), get_args(annotation)
    if origin in (Union, types.UnionType):
        kept = {in_file(arm): None for arm in arms if arm is not type(None) and get_origin(arm) is not np.ndarray}
        return Union[tuple(kept)]  # noqa: UP007  # of a tuple
    if origin in (Sequence, Iterable):
        return list[in_file(arms[0])]  # type: ignore[misc]
    if origin is Mapping:
        return dict[in_file(arms[0]), in_file(arms[1])]  # type: ignore[misc]
    return annotation


@cache
def document(kind: Any, without: tuple[str, ...] = (), changes: bool = False) -> type[Words]:
    """The words of what a function or class takes.

    Args:
        kind: the function or class.
        without: parameters that are no words.
        changes: True: every word may be left out, and an empty one removes.
    """
    fields: dict[str, Any] = {}
    base: type[Words] = Words
    is_sheet = isinstance(kind, type) and issubclass(kind, Sheet)
    for name, parameter in inspect.signature(kind, eval_str=True).parameters.items():
        annotation, is_needed = parameter.annotation, parameter.default is inspect.Parameter.empty
        if parameter.kind is inspect.Parameter.VAR_KEYWORD or name in (*(() if is_sheet else OWN), *without):
            continue
        if parameter.kind is inspect.Parameter.VAR_POSITIONAL:
            fields["parts"] = (list[in_file(annotation)], [])  # type: ignore[misc]
            continue
        if annotation in _ONE_OF:  # said by one of several words, beside the others
            base = _ONE_OF[annotation]
            continue
        word = Any if is_sheet else in_file(annotation)
        fields[name] = (word | None if changes else word, None if changes or not is_needed else ...)
    if base is not Words:
        own = choices(base) | base.extra(fields)
        fields = own | fields
    title = getattr(kind, "__qualname__", "words").replace(".", "")
    found: type[Words] = create_model(
        f"{title}Words", __base__=_SheetWords if is_sheet else base, __doc__=kind.__doc__, **fields
    )
    if is_sheet:
        found.kind = kind  # type: ignore[attr-defined]
    return found


class _SheetWords(Words):
    """Words of a data sheet, which converts and checks them itself."""

    def make(self, folder: Path) -> Any:
        kind: type[Sheet] = type(self).kind  # type: ignore[attr-defined]
        words = {word: getattr(self, word) for word in self.told}
        if isinstance(words.get("image"), str) and kind is Look:
            words["image"] = folder / words["image"]
        return kind(**words)


class ShapeText(Words):
    """A shape, one of several kinds."""

    def make(self, folder: Path) -> Any:
        return one_of(self, Shape.kinds, "shapes", folder)

    def given(self, folder: Path) -> dict[str, Any]:
        words = super().given(folder)
        for word in Shape.kinds:
            words.pop(word, None)
        return {"shape": one_of(self, Shape.kinds, "shapes", folder)} | words


class Solid(ShapeText):
    """A shape, one of several kinds, and what else a part has."""

    @classmethod
    def extra(cls, fields: Mapping[str, Any]) -> dict[str, Any]:
        words: dict[str, Any] = {
            "role": (Literal["both", "visual", "collision"], "both"),
            "colour": (str, None),
            "look": (document(Look), None),
            "surface": (document(Surface), None),
            "shape_pose": (PoseText, None),  # of the shape in the thing
        }
        return {word: value for word, value in words.items() if word not in fields}

    def given(self, folder: Path) -> dict[str, Any]:
        words = super().given(folder)
        own = {word: words.pop(word) for word in ("role", "colour", "look", "surface") if word in words}
        place = words.pop("shape_pose", None)
        return words | {"shape": Part(words["shape"], place or Pose(), **own)}


class ActorText(Solid):
    """A shape, or the name of a model."""

    model: str | None = None

    def given(self, folder: Path) -> dict[str, Any]:
        if self.model is None:
            return super().given(folder)
        words = Words.given(self, folder)
        return {"shape": words.pop("model")} | words


@cache
def leader_text() -> type[Words]:
    """The words of a route, or a leader of one's own."""

    class LeaderWords(Words):
        use: str | None = None
        arguments: dict[str, Any] = Field(default={}, alias="with")

        def make(self, folder: Path) -> Any:
            if self.use is not None:
                return NamedText(use=self.use, **{"with": self.arguments}).make(folder)
            told = {word: getattr(self, word) for word in self.told}
            return told if is_on_roads(told) else Route(**told)  # on a road: the world has it

    on_roads = "road", "lane", "section", "via", "network", "start", "goal"
    fields: dict[str, Any] = dict.fromkeys([*Route.fields(), *on_roads], (Any, None))
    return create_model("RouteWords", __base__=LeaderWords, **fields)


@cache
def moves_text() -> type[Words]:
    """What a joint of an actor does: one of several words."""

    class MovesWords(Words):
        def make(self, folder: Path) -> Any:
            told = [word for word in MOVES if word in self.told]
            if len(told) != 1:
                raise VeldrainError(f"a joint that does {len(told)} things", cure=f"give one of {', '.join(MOVES)}")
            value, kind = getattr(self, told[0]), MOVES[told[0]]
            return kind(**value) if isinstance(value, dict) else kind(value)

    fields: dict[str, Any] = dict.fromkeys(MOVES, (Any, None))
    return create_model("JointWords", __base__=MovesWords, **fields)


class BuiltText(Words):
    """Something built from several shapes."""

    def given(self, folder: Path) -> dict[str, Any]:
        words = super().given(folder)
        for word in Built.kinds:
            words.pop(word, None)
        return {"built": one_of(self, Built.kinds, "things to build", folder)} | words


_ONE_OF: dict[Any, Any] = {Shape | Part | Model: ActorText, Shape | Part: Solid, Shape: ShapeText, Built: BuiltText}


@cache
def shape_text() -> type[Words]:
    """A shape alone."""
    return create_model("ShapeWords", __base__=ShapeText, **choices(ShapeText))


@cache
def part_text() -> type[Words]:
    """A shape and where it sits, as a part of a link."""
    fields = choices(Solid) | Solid.extra({}) | {"pose": (PoseText, None), "surface": (in_file_sheet("Surface"), None)}
    return create_model("PartWords", __base__=_PartWords, **fields)


class _PartWords(Solid):
    """A shape and where it sits."""

    def make(self, folder: Path) -> Part:
        words = {word: made(getattr(self, word), folder) for word in self.told if word not in Shape.kinds}
        return Part(one_of(self, Shape.kinds, "shapes", folder), **words)


def in_file_sheet(name: str) -> Any:
    """The words of a sheet of the model by its name."""
    import veldrain.model

    return document(getattr(veldrain.model, name))


def choices(base: type[Words]) -> dict[str, Any]:
    """One word for each kind of shape, or of thing to build."""
    kinds: Mapping[str, type] = Built.kinds if base is BuiltText else Shape.kinds
    return {word: (value_of(kind), None) for word, kind in kinds.items()}


def value_of(kind: type) -> Any:
    """What stands behind the word of a shape: its one size, or a map of them."""
    special: dict[type, type[Words]] = {Mesh: MeshText, HeightField: HeightsText}
    if kind in special:
        return special[kind]
    parameters = inspect.signature(kind, eval_str=True).parameters
    if len(parameters) == 1 and not issubclass(kind, Built):
        return in_file(next(iter(parameters.values())).annotation)
    return document(kind)


def one_of(text: Words, kinds: Mapping[str, type[Any]], what: str, folder: Path) -> Any:
    """What one of several words stands for.

    Raises:
        VeldrainError: none of them is there, or more than one.
    """
    told = [word for word in kinds if word in text.told]
    if len(told) != 1:
        raise VeldrainError(f"{len(told)} {what}", cure=f"give one of {', '.join(kinds)}")
    value, kind = getattr(text, told[0]), kinds[told[0]]
    if isinstance(value, MeshText | HeightsText):
        return value.make(folder)
    return call(kind, value, folder) if isinstance(value, Words) else kind(value)


def call(function: Callable[..., Any], text: Words, folder: Path, *values: Any) -> Any:
    """What a function gives for the words of a file; ``values`` go before them."""
    words = text.given(folder)
    parts = words.pop("parts", [])
    return function(*values, *parts, **words)
