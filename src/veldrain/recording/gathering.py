"""Messages in memory as columns, without bytes in between: of types that hold numbers and texts, and lists of these."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cache
from operator import attrgetter
from typing import Any

import numpy as np
from rosbags.interfaces import Nodetype

from veldrain.recording.decoding import NOTHING, SIZES, Part, fields_of
from veldrain.recording.messages import Fields, typestore

Row = tuple[Any, ...]
TEXTS = "S"
BYTES = ("u1", "i1")  # pictures and the like: one block of bytes is the shortest there is of them


class Gatherer:
    """Takes messages of one type apart into rows of values, and makes columns or messages of rows.

    Args:
        leaves: path and kind of each value: a NumPy code or ``S``, and whether it is a list.
    """

    def __init__(self, leaves: Sequence[tuple[str, str, bool]]) -> None:
        self._leaves = leaves
        self._get = attrgetter(*(path for path, _, _ in leaves))
        self._lists = [(k, kind) for k, (_, kind, several) in enumerate(leaves) if several]

    def row(self, fields: Any) -> Row:
        """The values of a message; lists are copied, since who made them may go on with them."""
        row = self._get(fields)
        if len(self._leaves) == 1:
            row = (row,)
        if not self._lists:
            return row
        values = list(row)
        for k, kind in self._lists:
            values[k] = tuple(row[k]) if kind == TEXTS else np.array(row[k], kind)
        return tuple(values)

    def fields(self, row: Row) -> Fields:
        """The message that a row is of."""
        whole = Fields()
        for (path, _, _), value in zip(self._leaves, row, strict=True):
            *inner, last = path.split(".")
            at = whole
            for name in inner:
                at = vars(at).setdefault(name, Fields())
            setattr(at, last, value)
        return whole

    def parts(self, rows: Sequence[Row]) -> Iterator[Part]:
        """Rows as columns, in groups whose lists are of the same lengths."""
        lengths = [tuple([len(row[k]) for k, _ in self._lists]) for row in rows] if self._lists else [()] * len(rows)
        for wanted in dict.fromkeys(lengths):
            index = np.array([k for k, found in enumerate(lengths) if found == wanted])
            mine = rows if len(index) == len(rows) else [rows[k] for k in index.tolist()]
            columns: dict[str, np.ndarray] = {}
            for (path, kind, several), values in zip(self._leaves, zip(*mine, strict=True), strict=True):
                if kind != TEXTS:
                    columns[path] = np.array(values, kind)
                elif several:
                    for place, texts in enumerate(zip(*values, strict=True)):
                        columns[f"{path}[{place}]"] = np.array(texts, object)
                else:
                    columns[path] = np.array(values, object)
            yield Part(index, -1, columns)


@cache
def gatherer(message: str) -> Gatherer | None:
    """What takes messages of a type apart; None where they hold lists of parts, also as a text, or blocks of bytes."""
    leaves = _leaves(message)
    return Gatherer(leaves) if leaves and leaves != [("data", TEXTS, False)] else None


def _leaves(message: str, prefix: str = "") -> list[tuple[str, str, bool]] | None:
    found: list[tuple[str, str, bool]] = []
    for name, (node, inner) in fields_of(typestore(), message):
        several = node in (Nodetype.ARRAY, Nodetype.SEQUENCE)
        node, inner = inner[0] if several else (node, inner)
        if node == Nodetype.NAME:
            parts = None if several else _leaves(inner, f"{prefix}{name}.")
            if parts is None:
                return None
            found += parts
            continue
        kind = TEXTS if inner[0] == "string" else SIZES.get(inner[0], "")
        if not kind or name == NOTHING or (several and kind in BYTES):
            return None
        found.append((prefix + name, kind, several))
    return found
