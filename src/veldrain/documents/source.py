"""A YAML file as checked data, with the line of everything in it."""

from __future__ import annotations

import difflib
import os
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar, get_args

from pydantic import BaseModel, ConfigDict, ValidationError
from ruamel.yaml.error import MarkedYAMLError, YAMLError

from veldrain.documents.yaml_tree import tree_of
from veldrain.errors import VeldrainError
from veldrain.files import MOST_TEXT, read_bytes, read_text
from veldrain.formats import is_robot_file

D = TypeVar("D", bound="Document")
Place = tuple[str | int, ...]


class Document(BaseModel):
    """Data of a file; words it does not know are an error."""

    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True)


class Source:
    """A YAML file that starts with ``veldrain: <kind>/1``.

    A world file with ``base: other.world.yaml`` says how it differs from that one: maps are laid over its maps, word
    by word, and all else takes the place of what is there.

    Args:
        path: the file.
        kind: ``world``, ``scenario`` or ``study``.
        draft: True collects mistakes in ``mistakes`` where it can go on after them, instead of raising them.

    Raises:
        VeldrainError: the file is missing, is no YAML, or is of another kind; with its line.
    """

    def __init__(self, path: str | Path, kind: str, draft: bool = False) -> None:
        self.path, self.is_draft = Path(path), draft
        self.mistakes: list[VeldrainError] = []
        text = read_text(self.path, f"name a {kind} file")
        if text.count("*") > MOST_ALIASES and len(re.findall(r"(?m)[\s\[{,:-]\*\w", text)) > MOST_ALIASES:
            raise VeldrainError(f"more than {MOST_ALIASES} aliases", where=str(path), cure="write it out")
        try:
            tree = tree_of(text)
            _see_through(tree, str(path))
        except RecursionError as error:
            raise VeldrainError("nested too deeply", where=str(path), cure="flatten it") from error
        except MarkedYAMLError as error:
            line = error.problem_mark.line + 1 if error.problem_mark else 1
            cure = next(cure for words, cure in CURES.items() if words in f"{error.problem}")
            raise VeldrainError(f"not YAML: {error.problem}", where=f"{path}:{line}", cure=cure) from error
        except YAMLError as error:
            raise VeldrainError(f"not YAML: {error}", where=str(path)) from error
        except (ValueError, TypeError, KeyError, IndexError, OverflowError, AttributeError, AssertionError) as error:
            # what its scalars raise: dates and numbers that are invalid
            said = " ".join(str(error).split()) or type(error).__name__
            raise VeldrainError(
                f"not YAML that can be read: {said}", where=str(path), cure="put what is no plain value in quotes"
            ) from error
        self.tree: Any = tree
        found = tree.get("veldrain") if isinstance(tree, Mapping) else None
        if found != f"{kind}/1":
            raise VeldrainError(
                f"is {f'a file of {found!r}' if found else 'no Veldrain file'}",
                where=f"{path}:1",
                cure=f"a {kind} file starts with 'veldrain: {kind}/1'",
            )
        self.own, self.base = tree, None
        if kind == "world" and isinstance(tree.get("base"), str):
            below = self.path.parent / tree["base"]
            if below.resolve() in _under_way:
                raise VeldrainError(
                    f"'{tree['base']}' is based on this file itself", where=self.line(("base",)), cure="name another"
                )
            _under_way.append(self.path.resolve())
            try:
                self.base = Source(below, kind)
            except VeldrainError as error:
                raise error.at(self.line(("base",))) from error
            finally:
                _under_way.pop()
            self.tree = laid_over(seen_from(self.base, self.path.parent), with_models_as_maps(tree))

    def line(self, place: Place) -> str:
        """File and line of a place, or of the nearest thing around it."""
        return self._found(place)[1]

    def _found(self, place: Place) -> tuple[int, str]:
        """How far into a place the file leads, and the line there: the base's where that leads farther."""
        node, line, depth = self.own, 0, 0
        for key in place:
            try:
                node, line, depth = node[key], node.lines[key], depth + 1
            except (AttributeError, KeyError, IndexError, TypeError):
                continue  # not a place of the file: one of several allowed forms, or what is missing
        below = self.base._found(place) if self.base else (0, "")
        return below if below[0] > depth else (depth, f"{self.path}:{line + 1}")

    def read(self, kind: type[D]) -> D:
        """The data, checked.

        Raises:
            VeldrainError: the first thing that is wrong, with its line; for an unknown word the nearest known.
        """
        try:
            return kind.model_validate({k: v for k, v in self.tree.items() if k != "veldrain"})
        except ValidationError as error:
            raise self._explained(kind, error) from error

    def _explained(self, kind: type[Document], error: ValidationError) -> VeldrainError:
        # Where one of several forms is allowed, the form that was meant is the one that fits the farthest.
        forbidden = [e for e in error.errors() if e["type"] == "extra_forbidden"]
        first = max(forbidden or error.errors(), key=lambda e: len(e["loc"]))
        place = first["loc"]
        where = self.line(place)
        if (
            place
            and (first["type"] == "invalid_key" or str(place[-1])[:1].isdigit())
            and first["input"] in (None, place[-1])
        ):
            return VeldrainError(
                f"'{place[-1]}' stands where a word should",
                where=where,
                cure="a comma ends a value between { and }: write a number with a point, as in 25.5",
            )
        if first["type"] == "extra_forbidden":
            known = sorted(_fields_at(kind, place[:-1]))
            near = difflib.get_close_matches(str(place[-1]), known, n=1, cutoff=0.4)
            hint = f"did you mean '{near[0]}'? " if near else ""
            return VeldrainError(f"unknown word '{place[-1]}'", where=where, cure=f"{hint}Known: {', '.join(known)}")
        word = str(place[-1]) if place else "file"
        if first["type"] == "missing":
            return VeldrainError(f"'{place[-1]}' is missing", where=where, cure=f"add '{place[-1]}:'")
        word = self._last_word(place) or word  # what follows names one of several forms, not a word of the file
        if first["input"] is None:
            return VeldrainError(f"'{word}' is empty", where=where, cure="give it a value, or leave it out")
        told = f"'{first['input']}'" if isinstance(first["input"], str) else str(first["input"])
        wanted = next((wanted for words, wanted in WANTED.items() if words in first["type"]), "")
        if first["type"] == "literal_error":
            wanted = first["ctx"]["expected"]
        cure = f"give {wanted}" if wanted else first["msg"].lower()
        return VeldrainError(f"{word} is {told[:60]}", where=where, cure=cure)

    def _last_word(self, place: Place) -> str:
        """The last key of a place that is in the file."""
        node, last = self.tree, ""
        for key in place:
            try:
                node, last = node[key], str(key)
            except (KeyError, IndexError, TypeError):
                continue
        return last

    @contextmanager
    def at(self, *place: str | int) -> Iterator[None]:
        """Errors in here are told with the line of this place."""
        try:
            yield
        except VeldrainError as error:
            # It may know its line already.
            known = ".yaml:" in error.where or ".yml:" in error.where
            told = error if known else error.at(self.line(place))
            if not self.is_draft:
                raise told from error
            self.mistakes.append(told)


# What to do about a text that is no YAML, by what its reader says; the last holds for all.
CURES = {
    "duplicate key": "leave one out, or give it a name of its own",
    r"'\t'": "write spaces for the tab",
    "expected ',' or": "close what is open before it, and put quotes around what has a # or a colon in it",
    "expected <block end>": "begin the words of one thing in one column, each with a colon and a space after it",
    "mapping values": "put quotes around what has a colon in it, and begin each word on a line of its own",
    "could not find expected ':'": "write a colon and a space after the word",
    "alias": "name what has an & before it, or put quotes around what begins with *",
    "": "see its brackets, quotes and indents",
}
# What is asked for, by the type of the mistake that the reader of the data names.
WANTED = {
    "list": "a list: [a, b]",
    "tuple": "a list: [a, b]",
    "dict": "words with their values: {word: value}",
    "model": "words with their values: {word: value}",
    "mapping": "words with their values: {word: value}",
    "int": "a whole number",
    "float": "a number",
    "string": "a text",
    "bool": "true or false",
}
MOST_ALIASES = 1000
MOST_VALUES = 500_000  # in a file with its aliases written out
DEEPEST = 60


def _see_through(tree: Any, where: str) -> None:
    """Refuse what unfolds to more than a file can mean: aliases of aliases, and nesting without end."""
    waiting, count = [(tree, 0)], 0
    while waiting:
        node, depth = waiting.pop()
        count += 1
        if depth > DEEPEST:
            raise VeldrainError(f"nested more than {DEEPEST} deep", where=where, cure="flatten it")
        if count > MOST_VALUES:
            raise VeldrainError(f"unfolds to more than {MOST_VALUES} values", where=where, cure="write its aliases out")
        inner = node.values() if isinstance(node, Mapping) else node if isinstance(node, list) else ()
        waiting.extend((value, depth + 1) for value in inner)


FOREIGN = {".xosc": "scenario", ".xodr": "world", ".osm": "world"}  # what files of open standards are read as


def kind_of_file(path: Path) -> str:
    """``world``, ``scenario`` or ``study``, as a file's own first word says; ``world`` where it says nothing.

    Raises:
        VeldrainError: there is no such file.
    """
    if path.suffix.lower() in FOREIGN and path.is_file():
        return FOREIGN[path.suffix.lower()]
    content = read_bytes(path, "name a robot, world, scenario or study file", MOST_TEXT)
    found = re.search(
        r"""(?:^|[{,])\s*["']?veldrain["']?\s*:\s*["']?(\w+)/1""",
        content.decode("utf-8", errors="replace"),
        re.MULTILINE,
    )
    return found[1] if found else "world"


ADDED = ("no_contact", "suppress", "defaults")
_under_way: list[Path] = []  # files that are being read because another is based on them


def with_models_as_maps(tree: Mapping[str, Any]) -> dict[str, Any]:
    """The tree with models that are named by a word alone written as a map, so that others can be laid over them."""
    models = tree.get("models")
    if not isinstance(models, Mapping):
        return dict(tree)
    made = {
        name: {"file" if is_robot_file(m) else "make": m} if isinstance(m, str) else m for name, m in models.items()
    }
    return dict(tree) | {"models": made}


def laid_over(below: Any, above: Any) -> Any:
    """Maps laid over maps, word by word; lists of ``ADDED`` go on; all else takes the place of what is there."""
    if not (isinstance(below, Mapping) and isinstance(above, Mapping)):
        return above
    made = dict(below)
    for key, value in above.items():
        if key in ADDED and isinstance(value, list) and isinstance(below.get(key), list):
            made[key] = [*below[key], *value]
        else:
            made[key] = laid_over(below[key], value) if key in below else value
    return made


def seen_from(source: Source, folder: Path) -> Any:
    """A file's data with the files that it names as they are called from another folder."""
    way = os.path.relpath(source.path.parent, folder)

    def moved(key: str, value: Any) -> Any:
        if isinstance(value, Mapping):
            return {k: moved(str(k), v) for k, v in value.items()}
        if isinstance(value, list):
            return [moved(key, v) for v in value]
        names_file = key in ("file", "search") or (key in ("use", "make") and ".py:" in str(value))
        return os.path.normpath(Path(way) / value) if names_file and isinstance(value, str) else value

    tree = with_models_as_maps({k: v for k, v in source.tree.items() if k != "base"})
    return tree if way == "." else moved("", tree)


def _fields_at(kind: type[Document], place: Place) -> set[str]:
    """The words known at a place of a document."""
    here: list[Any] = [kind]
    for key in place:
        found: list[Any] = []
        for one in here:
            if isinstance(one, type) and issubclass(one, BaseModel):
                if str(key) in one.model_fields:
                    found += _documents(one.model_fields[str(key)].annotation)
            else:
                found += _documents(one)
        here = found or here
    names: set[str] = set()
    for one in here:
        if isinstance(one, type) and issubclass(one, BaseModel):
            names |= {field.alias or name for name, field in one.model_fields.items()}
    return names


def _documents(annotation: Any) -> list[Any]:
    """The document types named in an annotation, however deep."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [d for inner in get_args(annotation) for d in _documents(inner)]
