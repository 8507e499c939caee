"""A file of glTF with all that belongs to it (GLB): Khronos glTF 2.0, sections 3.6 and 4.4."""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

KINDS = {np.dtype(np.float32): 5126, np.dtype(np.uint32): 5125}
WIDTHS = {1: "SCALAR", 3: "VEC3", 4: "VEC4"}


class Glb:
    """What such a file says, and its numbers.

    Args:
        data: the bytes of a file; none: an empty scene.
    """

    def __init__(self, data: bytes = b"") -> None:
        self.body = bytearray()
        self.document: dict[str, Any] = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": []}]}
        if data:
            size = struct.unpack_from("<I", data, 12)[0]
            self.document, self.body = json.loads(data[20 : 20 + size]), bytearray(data[28 + size :])

    def add(self, word: str, value: dict[str, Any]) -> int:
        """Put something into a list of the document, such as ``nodes``; its number there."""
        self.document.setdefault(word, []).append(value)
        return len(self.document[word]) - 1

    def array(self, values: NDArray[Any], has_bounds: bool = False) -> int:
        """Put an array (n, width) of float32 or uint32 into the file; the number of its accessor."""
        self.body += b"\0" * (-len(self.body) % 4)
        view = {"buffer": 0, "byteOffset": len(self.body), "byteLength": values.nbytes}
        self.body += np.ascontiguousarray(values).tobytes()
        accessor = {
            "bufferView": self.add("bufferViews", view),
            "componentType": KINDS[values.dtype],
            "count": len(values),
            "type": WIDTHS[values.shape[1]],
        }
        if has_bounds:
            accessor |= {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()}
        return self.add("accessors", accessor)

    def to_bytes(self) -> bytes:
        """The file."""
        self.document["buffers"] = [{"byteLength": len(self.body)}]
        text = json.dumps(self.document, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        body = self.body + b"\0" * (-len(self.body) % 4)
        head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(body)) + struct.pack("<I4s", len(text), b"JSON")
        return head + text + struct.pack("<I4s", len(body), b"BIN\0") + bytes(body)
