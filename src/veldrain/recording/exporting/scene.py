"""The scene of a recording as glTF with its motion, in one file (Khronos glTF 2.0, sections 3.11 and 4.4)."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.formats.glb import Glb
from veldrain.formats.glb_out import Y_UP
from veldrain.recording.exporting.base import Choices, Export
from veldrain.recording.frames import FrameHistory
from veldrain.recording.reading import Streams

SCENE = "scene.glb"


class Scene(Export):
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

    file = Glb(glb)
    moving, poses = frames.moving, {}
    channels, samplers = [], []
    times = file.array(frames.times.astype(np.float32)[:, None], has_bounds=True)
    for number, node in enumerate(file.document["nodes"]):
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
            samplers.append({"input": times, "output": file.array(values.astype(np.float32))})
            channels.append({"sampler": len(samplers) - 1, "target": {"node": number, "path": word}})
    if channels:
        file.document["animations"] = [{"name": "trial", "channels": channels, "samplers": samplers}]
    return file.to_bytes()
