"""Messages to CDR bytes, by a function that is written once for each type.

Numbers that follow each other become one ``struct``: of a length and a start within eight bytes, on which their padding
depends. Source: as for ``decoding``.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any

import numpy as np
from rosbags.interfaces import Nodetype
from rosbags.typesys.store import Typestore

from veldrain.recording.decoding import NOTHING, SIZES, fields_of

HEADER = b"\0\1\0\0"  # plain CDR, little endian
LETTERS = {"b1": "?", "u1": "B", "i1": "b", "u2": "H", "i2": "h", "u4": "I", "i4": "i", "f4": "f", "u8": "Q", "i8": "q"}
LETTERS["f8"] = "d"
PADS = [b"\0" * k for k in range(8)]


def structs_of(items: tuple[tuple[str, int], ...]) -> list[struct.Struct]:
    """The struct of numbers (letter, count) for each start within eight bytes, its padding included."""
    found = []
    for start in range(8):
        at, text = start, "<"
        for letter, count in items:
            size = struct.calcsize(f"<{letter}")
            pad = -at % size if count else 0
            text += f"{pad}x{count}{letter}" if pad else f"{count}{letter}"
            at += pad + count * size
        found.append(struct.Struct(text))
    return found


def listed(values: Any) -> Any:
    """Numbers of an array as Python has them."""
    return values.tolist() if isinstance(values, np.ndarray) else values


def numbers(values: Any, kind: str) -> bytes:
    """A sequence of numbers as bytes."""
    return values if isinstance(values, bytes) else np.ascontiguousarray(values, kind).tobytes()


class _Writer:
    """Writes the function of one message type."""

    def __init__(self, store: Typestore, message: str) -> None:
        self.store, self.lines, self.depth, self.names = store, list[str](), 1, 0
        self.known: dict[str, Any] = {"listed": listed, "numbers": numbers, "PADS": PADS, "HEADER": HEADER}
        self.items: list[tuple[str, int, str]] = []  # letter, count and expression of numbers to pack
        self.fields(message, "m")
        self.flush()
        body = "\n".join(["def to_cdr(m):", " out, n = [HEADER], 0", *self.lines, " return b''.join(out)"])
        exec(body, self.known)  # of definitions alone: names of fields are checked below
        self.function: Callable[[Any], bytes] = self.known["to_cdr"]

    def line(self, text: str) -> None:
        self.lines.append(" " * self.depth + text)

    def name(self) -> str:
        self.names += 1
        return f"v{self.names}"

    def flush(self) -> None:
        """Pack the numbers that wait."""
        if self.items:
            name = self.name()
            self.known[name] = structs_of(tuple((letter, count) for letter, count, _ in self.items))
            self.line(f"s = {name}[n & 7]")
            self.line(f"out.append(s.pack({', '.join(words for *_, words in self.items)}))")
            self.line("n += s.size")
            self.items = []

    def fields(self, message: str, source: str) -> None:
        for name, kind in fields_of(self.store, message):
            if not name.isidentifier():
                raise ValueError(f"'{name}' is no name of a field")
            self.part(kind, "0" if name == NOTHING else f"{source}.{name}")

    def part(self, kind: Any, source: str) -> None:
        node, inner = kind
        if node == Nodetype.NAME:
            name = self.name()
            self.line(f"{name} = {source}")
            self.fields(inner, name)
        elif node == Nodetype.BASE and inner[0] in SIZES:
            self.items.append((LETTERS[SIZES[inner[0]]], 1, source))
        elif node == Nodetype.BASE:
            if inner[0] != "string":
                raise ValueError(f"a {inner[0]} is not written here")
            name = self.name()
            self.line(f"{name} = {source}.encode() + b'\\0'")
            self.items.append(("I", 1, f"len({name})"))
            self.flush()
            self.line(f"out.append({name}); n += len({name})")
        else:
            self.several(inner[0], inner[1] if node == Nodetype.ARRAY else None, source)

    def several(self, kind: Any, count: int | None, source: str) -> None:
        """An array, or a sequence with its length."""
        node, inner = kind
        is_number = node == Nodetype.BASE and inner[0] in SIZES
        name, code = self.name(), SIZES[inner[0]] if is_number else ""
        if is_number and count is not None:
            self.items.append((LETTERS[code], count, f"*listed({source})"))
            return
        self.line(f"{name} = {source}")
        if count is None:
            self.items.append(("I", 1, f"len({name})"))
        self.flush()
        if is_number:
            self.line(f"if len({name}):")
            self.line(f" out.append(PADS[-n % {code[1]}]); n += -n % {code[1]}")
            self.line(f" {name} = numbers({name}, '<{code}'); out.append({name}); n += len({name})")
            return
        if count is not None:
            self.line(f"if len({name}) != {count}: raise ValueError('{source} has not {count} parts')")
        each = self.name()
        self.line(f"for {each} in {name}:")
        self.depth += 1
        self.part(kind, each)
        self.flush()
        self.depth -= 1


def encoder(store: Typestore, message: str) -> Callable[[Any], bytes]:
    """The function that turns the fields of a message, as attributes, into its bytes."""
    return _Writer(store, message).function
