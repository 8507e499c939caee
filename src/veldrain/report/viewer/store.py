"""The numbers of a page: arrays one after another, deflated, as text in it."""

from __future__ import annotations

import base64
import zlib
from typing import Any

import numpy as np
from numpy.typing import NDArray

KINDS = {"f4": np.float32, "i4": np.int32, "u4": np.uint32, "u2": np.uint16, "i2": np.int16, "u1": np.uint8}


class Store:
    """Arrays of numbers that a page reads back by where they are: its part, offset in bytes, count, kind.

    A part is unpacked by the page when something in it is first needed, so that a long run opens at once.
    """

    def __init__(self) -> None:
        self._parts: list[list[bytes]] = [[]]
        self._size = 0

    def begin_part(self) -> None:
        """What follows is unpacked apart from what was before."""
        if self._parts[-1]:
            self._parts.append([])
            self._size = 0

    def add(self, values: NDArray[Any] | bytes, kind: str = "u1", differences: bool = False) -> list[Any]:
        """Put an array there; where it is. ``differences``: of each row (n, …) to the one before: they pack smaller."""
        if isinstance(values, bytes):
            values = np.frombuffer(values, np.uint8)
        flat = np.ascontiguousarray(values, KINDS[kind])
        if differences and len(flat):
            flat = np.concatenate([flat[:1], np.diff(flat, axis=0)])
        data = flat.tobytes()
        place = [len(self._parts) - 1, self._size, flat.size, kind]
        data += b"\0" * (-len(data) % 4)
        self._parts[-1].append(data)
        self._size += len(data)
        return place

    def parts(self) -> list[str]:
        """Each part as text."""
        return [base64.b64encode(zlib.compress(b"".join(part), 9)).decode() for part in self._parts]
