"""A YAML file as checked data, with the line of everything in it."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar, get_args

from pydantic import BaseModel, ConfigDict, ValidationError
from ruamel.yaml import YAML
from ruamel.yaml.error import MarkedYAMLError, YAMLError

from veldrain.errors import VeldrainError

D = TypeVar("D", bound="Document")
Place = tuple[str | int, ...]


class Document(BaseModel):
    """Data of a file; words it does not know are an error."""

    model_config = ConfigDict(extra="forbid", arbitrary_types_allowed=True)


class Source:
    """A YAML file that starts with ``veldrain: <kind>/1``.

    Raises:
        VeldrainError: the file is missing, is no YAML, or is of another kind; with its line.
    """

    def __init__(self, path: str | Path, kind: str) -> None:
        self.path = Path(path)
        try:
            text = self.path.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            reason = "no such file" if isinstance(error, FileNotFoundError) else str(error)
            raise VeldrainError(reason, where=str(path), cure=f"name a {kind} file") from error
        try:
            tree = YAML(typ="rt").load(text)
        except MarkedYAMLError as error:
            line = error.problem_mark.line + 1 if error.problem_mark else 1
            raise VeldrainError(f"not YAML: {error.problem}", where=f"{path}:{line}", cure="see the indents") from error
        except YAMLError as error:
            raise VeldrainError(f"not YAML: {error}", where=str(path)) from error
        self.tree: Any = tree
        found = tree.get("veldrain") if isinstance(tree, Mapping) else None
        if found != f"{kind}/1":
            raise VeldrainError(
                f"is {f'a file of {found!r}' if found else 'no Veldrain file'}", where=f"{path}:1",
                cure=f"a {kind} file starts with 'veldrain: {kind}/1'",
            )  # fmt: skip

    def line(self, place: Place) -> str:
        """File and line of a place, or of the nearest thing around it."""
        node, line = self.tree, 0
        for key in place:
            try:
                mark = node.lc.item(key) if isinstance(key, int) else node.lc.key(key)
                node, line = node[key], mark[0]
            except (AttributeError, KeyError, IndexError, TypeError):
                continue  # not a place of the file: one of several allowed forms, or what is missing
        return f"{self.path}:{line + 1}"

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
        if first["type"] == "extra_forbidden":
            known = sorted(_fields_at(kind, place[:-1]))
            near = difflib.get_close_matches(str(place[-1]), known, n=1, cutoff=0.4)
            hint = f"did you mean '{near[0]}'? " if near else ""
            return VeldrainError(f"unknown word '{place[-1]}'", where=where, cure=f"{hint}Known: {', '.join(known)}")
        word = str(place[-1]) if place else "file"
        if first["type"] == "missing":
            return VeldrainError(f"'{place[-1]}' is missing", where=where, cure=f"add '{place[-1]}:'")
        return VeldrainError(f"{word}: {first['msg'].lower()}", where=where, cure=f"it is {str(first['input'])[:60]!r}")

    @contextmanager
    def at(self, *place: str | int) -> Iterator[None]:
        """Errors in here are told with the line of this place."""
        try:
            yield
        except VeldrainError as error:
            if ".yaml:" in error.where or ".yml:" in error.where:
                raise  # it knows its line already
            raise error.at(self.line(place)) from error


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
