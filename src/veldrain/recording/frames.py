"""Frames of a recording over time, from its transforms."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain.pose import Array, Pose
from veldrain.recording.messages import typestore

TF = "tf2_msgs/msg/TFMessage"


@dataclass(frozen=True)
class FrameHistory:
    """Where all frames are over time.

    Attributes:
        times: (t,) of the moving frames, s.
        names: of all frames (n), each after its parent.
        parents: number of each frame's parent; −1: the world.
        positions: (t, n, 3) in the parents, m.
        orientations: (t, n, 4) in the parents, quaternions x, y, z, w.
    """

    times: Array
    names: tuple[str, ...]
    parents: tuple[int, ...]
    positions: Array
    orientations: Array

    def at(self, time: float) -> dict[str, Pose]:
        """Poses in the world by name, at the recorded time that is nearest."""
        row = int(np.abs(self.times - time).argmin())
        found: list[Pose] = []
        for k, parent in enumerate(self.parents):
            own = Pose(self.positions[row, k], rotation=Rotation.from_quat(self.orientations[row, k]))
            found.append(found[parent] @ own if parent >= 0 else own)
        return dict(zip(self.names, found, strict=True))

    def path(self, name: str) -> Array:
        """Positions (t, 3) of a frame in the world."""
        k, points = self.names.index(name), np.zeros((len(self.times), 3))
        while k >= 0:
            points = Rotation.from_quat(self.orientations[:, k]).apply(points) + self.positions[:, k]
            k = self.parents[k]
        return points


def history_of(fixed: list[tuple[int, bytes]], moving: list[tuple[int, bytes]]) -> FrameHistory:
    """Frames out of the messages of ``tf_static`` and ``tf``, as a recording gives them raw."""
    parents: dict[str, str] = {}
    still: dict[str, Any] = {}
    for _, data in fixed:
        for row in typestore().deserialize_cdr(data, TF).transforms:  # type: ignore[attr-defined]
            parents[row.child_frame_id], still[row.child_frame_id] = row.header.frame_id, row.transform
    told = [(stamp, typestore().deserialize_cdr(data, TF).transforms) for stamp, data in moving]  # type: ignore[attr-defined]
    for _, rows in told:
        parents |= {row.child_frame_id: row.header.frame_id for row in rows}
    order: list[str] = []
    waiting = list(parents)
    while waiting:
        ready = [name for name in waiting if parents[name] in order or parents[name] not in parents]
        order += ready
        waiting = [name for name in waiting if name not in ready] if ready else []
    number = {name: k for k, name in enumerate(order)}
    times = np.array([stamp for stamp, _ in told] or [0]) / 1e9
    at, turns = np.zeros((len(times), len(order), 3)), np.tile((0.0, 0.0, 0.0, 1.0), (len(times), len(order), 1))
    for name, transform in still.items():
        at[:, number[name]], turns[:, number[name]] = _numbers(transform)
    for t, (_, rows) in enumerate(told):
        for row in rows:
            at[t, number[row.child_frame_id]], turns[t, number[row.child_frame_id]] = _numbers(row.transform)
    return FrameHistory(times, tuple(order), tuple(number.get(parents[n], -1) for n in order), at, turns)


def _numbers(transform: Any) -> tuple[tuple[float, ...], tuple[float, ...]]:
    t, r = transform.translation, transform.rotation
    return (t.x, t.y, t.z), (r.x, r.y, r.z, r.w)
