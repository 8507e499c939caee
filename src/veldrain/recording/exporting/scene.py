"""The scene of a recording as glTF with its motion, in one file (Khronos glTF 2.0, sections 3.11 and 4.4)."""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.formats.glb_out import Y_UP
from veldrain.recording.exporting.base import Choices, Export
from veldrain.recording.frames import FrameHistory
from veldrain.recording.reading import Streams

SCENE = "scene.glb"
FLOAT, VEC = 5126, {1: "SCALAR", 3: "VEC3", 4: "VEC4"}


class Glb(Export):
    """What is seen of the world, each link moving as its transforms say."""

    word = "glb"
    is_whole = True

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        found = getattr(log, "attachments", {}).get(SCENE)
        if found is None:
            raise VeldrainError(
                "does not hold what is seen of its world", where=log.where, cure="export a recording of a trial"
            )
        path.with_name(SCENE).write_bytes(animated(found, log.frames))


def animated(glb: bytes, frames: FrameHistory) -> bytes:
    """A GLB file whose nodes are named as frames, with their motion added."""
    from scipy.spatial.transform import Rotation

    size = struct.unpack_from("<I", glb, 12)[0]
    document, body = json.loads(glb[20 : 20 + size]), bytearray(glb[28 + size :])
    moving, poses = frames.moving, {}
    channels, samplers = [], []
    times = _add(document, body, frames.times.astype(np.float32)[:, None], with_bounds=True)
    for number, node in enumerate(document["nodes"]):
        name = node.get("name", "")
        link = name if name in moving else name.rpartition(".")[0]
        if "mesh" not in node or link not in moving:
            continue
        if link not in poses:
            poses[link] = frames.poses_of(link)
        at, turn = poses[link]
        start = np.array(node.pop("matrix", np.eye(4).T.ravel().tolist())).reshape(4, 4).T
        base = np.eye(4)
        base[:3, :3], base[:3, 3] = turn[0].as_matrix(), at[0]
        on_link = np.linalg.inv(Y_UP @ base) @ start  # of the part on its link
        part, up = Rotation.from_matrix(on_link[:3, :3]), Rotation.from_matrix(Y_UP[:3, :3])
        place, turned = up.apply(at + turn.apply(on_link[:3, 3])), (up * turn * part).as_quat()
        flips = np.cumprod(np.sign(np.concatenate([[1.0], (turned[1:] * turned[:-1]).sum(axis=1)])) + 0.0)
        turned *= np.where(flips == 0, 1.0, flips)[:, None]  # the short way round from one to the next
        node |= {"translation": place[0].tolist(), "rotation": turned[0].tolist()}
        for word, values in (("translation", place), ("rotation", turned)):
            samplers.append({"input": times, "output": _add(document, body, values.astype(np.float32))})
            channels.append({"sampler": len(samplers) - 1, "target": {"node": number, "path": word}})
    if channels:
        document["animations"] = [{"name": "trial", "channels": channels, "samplers": samplers}]
    document["buffers"][0]["byteLength"] = len(body)
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    body += b"\0" * (-len(body) % 4)
    whole = 12 + 8 + len(text) + 8 + len(body)
    head = struct.pack("<4sII", b"glTF", 2, whole) + struct.pack("<I4s", len(text), b"JSON")
    return head + text + struct.pack("<I4s", len(body), b"BIN\0") + bytes(body)


def _add(document: dict[str, Any], body: bytearray, values: np.ndarray, with_bounds: bool = False) -> int:
    """Put an array into the file; the number of its accessor."""
    body += b"\0" * (-len(body) % 4)
    view = {"buffer": 0, "byteOffset": len(body), "byteLength": values.nbytes}
    body += np.ascontiguousarray(values).tobytes()
    document.setdefault("bufferViews", []).append(view)
    accessor = {
        "bufferView": len(document["bufferViews"]) - 1,
        "componentType": FLOAT,
        "count": len(values),
        "type": VEC[values.shape[1]],
    }
    if with_bounds:
        accessor |= {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()}
    document.setdefault("accessors", []).append(accessor)
    return len(document["accessors"]) - 1
