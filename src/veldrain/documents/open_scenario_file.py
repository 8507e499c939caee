"""A file of ASAM OpenSCENARIO XML with its parameters, expressions and catalogue entries put in their places."""

from __future__ import annotations

import ast
import copy
import math
import operator
import re
from collections.abc import Callable, Collection, Mapping
from functools import cached_property
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError, unknown
from veldrain.files import read_bytes
from veldrain.xml import XmlReader, parse_xml

MOST_FILE = 20 << 20
BASE = "{http://www.w3.org/XML/1998/namespace}base"  # tells of a catalogue's entry which file it is from
DEEPEST = 20  # catalogue entries within each other

_SUMS: dict[type, Callable[[float, float], float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.Mod: operator.mod,
}
_SIGNS: dict[type, Callable[[float], float]] = {ast.USub: operator.neg, ast.UAdd: operator.pos, ast.Not: operator.not_}
_FUNCTIONS: dict[str, Callable[..., float]] = {
    "round": round,
    "floor": math.floor,
    "ceil": math.ceil,
    "sqrt": math.sqrt,
    "pow": math.pow,
    "sign": lambda x: (x > 0) - (x < 0),
    "max": max,
    "min": min,
}


def worth(expression: str, parameters: Mapping[str, str]) -> str:
    """What an expression such as ``$gap + 2`` is worth, as a file writes it.

    Raises:
        ValueError: it is none, or has a parameter that is not there or is no number.
    """
    names = {"true": True, "false": False}

    def named(found: re.Match[str]) -> str:
        if found[1] not in parameters:
            raise ValueError(f"there is no parameter '{found[1]}'")
        value = parameters[found[1]]
        names[f"p_{found[1]}"] = names[value] if value in names else float(value)  # type: ignore[assignment]
        return f"p_{found[1]}"

    def of(node: Any) -> float:
        match node:
            case ast.Constant(value=int() | float() as value):
                return value
            case ast.Name(id=name) if name in names:
                return names[name]
            case ast.BinOp(left=left, op=op, right=right) if type(op) in _SUMS:
                return _SUMS[type(op)](of(left), of(right))
            case ast.UnaryOp(op=op, operand=operand) if type(op) in _SIGNS:
                return _SIGNS[type(op)](of(operand))
            case ast.BoolOp(op=op, values=values):
                return (all if isinstance(op, ast.And) else any)(bool(of(value)) for value in values)
            case ast.Call(func=ast.Name(id=name), args=args, keywords=[]) if name in _FUNCTIONS:
                return _FUNCTIONS[name](*(of(arg) for arg in args))
        raise ValueError("only numbers, parameters, + - * / %, and, or, not and a few functions are read")

    try:
        found = of(ast.parse(re.sub(r"\$(\w+)", named, expression).strip(), mode="eval").body)
    except (SyntaxError, TypeError, ArithmeticError, RecursionError, MemoryError) as error:
        raise ValueError(str(error)) from error
    return str(found).lower() if isinstance(found, bool) else f"{float(found):.15g}"


class ScenarioFile(XmlReader):
    """One file, read whole.

    Attributes:
        notes: what of it is not used, a line each.
        parameters: those of the whole file, by name.
    """

    def __init__(self, path: Path) -> None:
        super().__init__(parse_xml(read_bytes(path, "name an OpenSCENARIO file", MOST_FILE), path), path)
        self.notes: list[str] = []
        if self.root.tag != "OpenSCENARIO":
            raise VeldrainError(
                f"is a file of <{self.root.tag}>", where=self.at(self.root), cure="name one of <OpenSCENARIO>"
            )
        self.parameters = self._declared(self.root, {})
        self._put_in(self.root, {}, 0)

    def at(self, element: Any) -> str:
        return f"{element.base or self.path}:{element.sourceline}"

    def unused(self, element: Any, why: str = "is not used") -> None:
        """Note something that is not used."""
        file, _, line = self.at(element).rpartition(":")
        self.notes.append(f"{Path(file).name}:{line}: <{element.tag}> {why}")

    def child(self, element: Any, name: str) -> Any:
        """An element in another one, which has to be there."""
        found = element.find(name)
        if found is None:
            raise VeldrainError(f"<{element.tag}> has no <{name}>", where=self.at(element), cure=f"add <{name}>")
        return found

    def flag(self, element: Any, word: str) -> bool:
        """An attribute that is true or false."""
        return element.get(word) in ("true", "1")

    def entity(self, element: Any, known: Collection[str]) -> str:
        """The entity that an element names.

        Raises:
            VeldrainError: there is none.
        """
        name = self.text(element, "entityRef")
        if name not in known:
            raise unknown("entity", name, known, self.at(element))
        return name

    def _declared(self, element: Any, scope: dict[str, str]) -> dict[str, str]:
        """The parameters within an element."""
        for one in element.iterfind("ParameterDeclarations/ParameterDeclaration"):
            scope = scope | {self.text(one, "name"): self._value(self.text(one, "value"), scope, one)}
        return scope

    def _put_in(self, element: Any, scope: dict[str, str], depth: int) -> None:
        scope = self._declared(element, scope)
        for word, text in element.attrib.items():
            if "$" in text:
                element.set(word, self._value(text, scope, element))
        for child in list(element):
            self._put_in(child, scope, depth)
            if child.tag == "CatalogReference" and (entry := self._entry(child, depth)) is not None:
                element.replace(child, entry)

    def _value(self, text: str, scope: Mapping[str, str], element: Any) -> str:
        if not text.startswith("$") or text == "$":
            return text
        if text.startswith("${") and text.endswith("}"):
            try:
                return worth(text[2:-1], scope)
            except ValueError as error:
                raise VeldrainError(
                    f"'{text}' is no expression: {error}", where=self.at(element), cure="write a number"
                ) from error
        if text[1:] not in scope:
            raise unknown("parameter", text[1:], scope, self.at(element))
        return scope[text[1:]]

    def _entry(self, reference: Any, depth: int) -> Any:
        """The entry of a catalogue that a reference names, with the values that are assigned to its parameters."""
        catalogue, name = reference.get("catalogName", ""), reference.get("entryName", "")
        if (catalogue, name) not in self._catalogues:
            self.unused(reference, f"names '{name}' of '{catalogue}', which is in no catalogue of the file")
            return None
        if depth >= DEEPEST:
            raise VeldrainError("catalogue entries name each other", where=self.at(reference), cure="end that")
        entry, path = self._catalogues[catalogue, name]
        made = copy.deepcopy(entry)
        made.set(BASE, str(path))
        assigned = {
            self.text(one, "parameterRef").lstrip("$"): self.text(one, "value")
            for one in reference.iterfind("ParameterAssignments/ParameterAssignment")
        }
        for one in made.iterfind("ParameterDeclarations/ParameterDeclaration"):
            one.set("value", assigned.pop(one.get("name"), one.get("value")))
        for word in assigned:
            self.unused(reference, f"assigns '{word}', which '{name}' has not")
        self._put_in(made, {}, depth + 1)
        return made

    @cached_property
    def _catalogues(self) -> dict[tuple[str, str], tuple[Any, Path]]:
        found: dict[tuple[str, str], tuple[Any, Path]] = {}
        for place in self.root.iterfind("CatalogLocations/*/Directory"):
            folder = self.path.parent / self.text(place, "path")
            files = [folder] if folder.is_file() else sorted(folder.glob("*.xosc"))
            if not files:
                self.unused(place, f"has no catalogue: '{place.get('path')}'")
            for file in files:
                root = parse_xml(read_bytes(file, "name a catalogue", MOST_FILE), file)
                for catalogue in root.iterfind("Catalog"):
                    for entry in catalogue.iterchildren("*"):
                        found[catalogue.get("name", ""), entry.get("name", "")] = entry, file
        return found
