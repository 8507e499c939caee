"""CDR messages of any type as columns: many at once, without an object a message.

Where each number of a message lies follows from its type and from its length words (of strings and sequences) alone.
Messages whose length words are the same have one layout: they are laid under each other as rows of bytes, and each
number is a slice of these. Source: OMG Common Data Representation (CORBA 3.3, part 2, section 9.3), with the
encapsulation header of DDS-RTPS 2.3, section 10.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from rosbags.interfaces import Nodetype
from rosbags.typesys.store import Typestore

HEADER = 4  # bytes of the encapsulation header
MOST_ITEMS = 100_000  # parts of one message that are looked at one by one
SIZES = {
    "bool": "b1", "octet": "u1", "byte": "u1", "char": "u1", "uint8": "u1", "int8": "i1", "uint16": "u2", "int16": "i2",
    "uint32": "u4", "int32": "i4", "float32": "f4", "uint64": "u8", "int64": "i8", "float64": "f8",
}  # fmt: skip
NOTHING = "structure_needs_at_least_one_member"  # what ROS 2 puts into a message without fields


@dataclass(frozen=True)
class Leaf:
    """Numbers or a text of a message: name, row of the spread sequence (−1: not in it), and where its bytes are.

    ``kind`` is a NumPy code without its byte order, or "S" for text; ``count`` −1: a single one.
    """

    name: str
    row: int
    kind: str
    offset: int
    count: int = -1


@dataclass
class Layout:
    """Where all numbers of messages with the same length words are."""

    order: str
    leaves: list[Leaf] = field(default_factory=list)
    words: list[int] = field(default_factory=list)  # offsets of the length words
    rows: int = -1  # in the sequence that is spread over rows; −1: there is none


class _Walker:
    """Goes through one message and notes where everything is."""

    def __init__(self, data: bytes, store: Typestore, message: str, spread: str) -> None:
        if len(data) < HEADER or data[0] != 0 or data[1] > 1:
            raise ValueError("its encapsulation is not plain CDR")
        self.data, self.store, self.spread, self.at, self.items = data, store, spread, HEADER, 0
        self.layout = Layout("<" if data[1] else ">")
        self.walk(message, "", -1)
        if len(data) - self.at > 7:
            raise ValueError(f"{len(data) - self.at} bytes are left over")

    def align(self, size: int) -> None:
        self.at += -(self.at - HEADER) % size

    def take(self, size: int) -> int:
        """The offset of the next bytes."""
        start, self.at = self.at, self.at + size
        if self.at > len(self.data):
            raise ValueError(f"ends after {len(self.data)} bytes")
        return start

    def word(self) -> int:
        """A length word."""
        self.align(4)
        at = self.take(4)
        self.layout.words.append(at)
        return int.from_bytes(self.data[at : at + 4], "little" if self.layout.order == "<" else "big")

    def walk(self, message: str, path: str, row: int) -> None:
        for name, kind in fields_of(self.store, message):
            self.part(kind, path + name, row)

    def part(self, kind: Any, path: str, row: int) -> None:
        self.items += 1
        if self.items > MOST_ITEMS:
            raise ValueError(f"has over {MOST_ITEMS} parts")
        node, inner = kind
        if node == Nodetype.NAME:
            self.walk(inner, f"{path}.", row)
        elif node == Nodetype.BASE and inner[0] in SIZES:
            size = int(SIZES[inner[0]][1])
            self.align(size)
            self.note(path, row, SIZES[inner[0]], self.take(size))
        elif node == Nodetype.BASE:
            if inner[0] != "string":
                raise ValueError(f"has a {inner[0]}, which is not read here")
            length = self.word()
            self.note(path, row, "S", self.take(length), max(length - 1, 0))
        else:
            self.several(inner[0], inner[1], path, row, is_fixed=node == Nodetype.ARRAY)

    def several(self, kind: Any, count: int, path: str, row: int, is_fixed: bool) -> None:
        """An array, or a sequence with its length."""
        count = count if is_fixed else self.word()
        node, inner = kind
        if node == Nodetype.BASE and inner[0] in SIZES:
            size = int(SIZES[inner[0]][1])
            if count:
                self.align(size)
            self.note(path, row, SIZES[inner[0]], self.take(count * size), count)
            return
        if count > len(self.data):
            raise ValueError(f"has {count} of {path} in {len(self.data)} bytes")
        if path == self.spread:
            self.layout.rows = count
        for k in range(count):
            if path == self.spread:
                self.part(kind, "", k)
            else:
                self.part(kind, f"{path}[{k}]", row)

    def note(self, path: str, row: int, kind: str, offset: int, count: int = -1) -> None:
        if path.rpartition(".")[2] != NOTHING:
            self.layout.leaves.append(Leaf(path.removeprefix("."), row, kind, offset, count))


def layout_of(data: bytes, store: Typestore, message: str) -> list[Leaf]:
    """Where each number and text of a message is; those of parts in a sequence are called ``name[k].…``."""
    return _Walker(data, store, message, "").layout.leaves


def fields_of(store: Typestore, message: str) -> Any:
    """Names and kinds of a message's fields."""
    return store.fielddefs[message][1]


def spread_of(store: Typestore, message: str) -> str:
    """The field of a message that a table spreads over rows: the one sequence of messages in it; "" for none."""
    fields = fields_of(store, message)
    several = (Nodetype.ARRAY, Nodetype.SEQUENCE)
    found = [name for name, (node, inner) in fields if node in several and inner[0][0] == Nodetype.NAME]
    return found[0] if len(found) == 1 else ""


def names_of(store: Typestore, message: str, prefix: str = "") -> list[str]:
    """The names of the columns of a message of which there is none, those of its spread part included."""
    spread, found = "" if prefix else spread_of(store, message), []
    for name, (node, inner) in fields_of(store, message):
        if node == Nodetype.NAME:
            found += names_of(store, inner, f"{prefix}{name}.")
        elif name == spread:
            found += [n.removeprefix(".") for n in names_of(store, inner[0][1], ".")]
        elif node == Nodetype.BASE or inner[0][0] == Nodetype.BASE:
            found.append(prefix + name)
    return found


@dataclass(frozen=True)
class Part:
    """Columns of the messages of one layout.

    Attributes:
        index: (n,) which messages these are.
        rows: rows of each message; −1: messages are not spread over rows.
        columns: by name: (n·rows,) numbers or texts, or (n·rows, count) numbers, message by message.
    """

    index: np.ndarray
    rows: int
    columns: dict[str, np.ndarray]


def parts_of(raw: Sequence[bytes], store: Typestore, message: str) -> list[Part]:
    """Messages as columns, in groups of one layout.

    Raises:
        ValueError: bytes that are no such message.
    """
    sizes = np.array([len(data) for data in raw])
    spread, found = spread_of(store, message), []
    for size in dict.fromkeys(sizes.tolist()):
        index = np.flatnonzero(sizes == size)
        table = np.frombuffer(b"".join(raw[k] for k in index.tolist()), np.uint8).reshape(len(index), size)
        while len(index):
            layout = _Walker(raw[index[0]], store, message, spread).layout
            fixed = np.concatenate([np.arange(HEADER), *(np.arange(at, at + 4) for at in layout.words)])
            alike = (table[:, fixed] == table[0, fixed]).all(axis=1)
            found.append(_part(layout, index[alike], table[alike]))
            index, table = index[~alike], table[~alike]
    return found


def _part(layout: Layout, index: np.ndarray, table: np.ndarray) -> Part:
    columns = {}
    spread: dict[str, list[Leaf]] = {}
    for leaf in layout.leaves:
        if leaf.row < 0:
            values = _values(table, layout.order, leaf)
            columns[leaf.name] = values if layout.rows < 0 else np.repeat(values, layout.rows, axis=0)
        else:
            spread.setdefault(leaf.name, []).append(leaf)
    for name, leaves in spread.items():
        each = [_values(table, layout.order, leaf) for leaf in leaves]
        columns[name] = _rows(each, [leaf.row for leaf in leaves], layout.rows)
    return Part(index, layout.rows, columns)


def _rows(each: list[np.ndarray], places: list[int], rows: int) -> np.ndarray:
    """The values of all rows of the messages, message by message; None where a row has none."""
    if len(each) == rows and len({(values.shape, values.dtype) for values in each}) == 1:
        stacked = np.stack(each, axis=1)
        return stacked.reshape(len(stacked) * rows, *stacked.shape[2:])  # rows may be empty: -1 would not do
    found = np.full((len(each[0]), rows), None, object)
    for values, row in zip(each, places, strict=True):
        for k, value in enumerate(values):
            found[k, row] = value
    return found.reshape(-1)


def _values(table: np.ndarray, order: str, leaf: Leaf) -> np.ndarray:
    if leaf.kind == "S":
        return _texts(table[:, leaf.offset : leaf.offset + leaf.count])
    size = int(leaf.kind[1])
    count = max(leaf.count, 1) if leaf.count else 0
    if count == 0:
        return np.zeros((len(table), 0), leaf.kind)
    block = np.ascontiguousarray(table[:, leaf.offset : leaf.offset + count * size])
    values = block.view(order + leaf.kind).astype(leaf.kind, copy=False)
    return values[:, 0] if leaf.count < 0 else values


def _texts(block: np.ndarray) -> np.ndarray:
    """Texts of one length; most are the same in all messages."""
    if block.shape[1] == 0:
        return np.full(len(block), "", object)
    if (block == block[0]).all():
        return np.full(len(block), block[0].tobytes().decode("utf-8", "replace"), object)
    return np.array([row.tobytes().decode("utf-8", "replace") for row in block], object)
