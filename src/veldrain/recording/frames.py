"""Frames of a recording over time, from its transforms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import unknown
from veldrain.pose import Array, Pose

if TYPE_CHECKING:
    import pandas as pd
    from scipy.spatial.transform import Rotation, Slerp

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
        roots: names of the frames that are in no other.
    """

    times: Array
    names: tuple[str, ...]
    parents: tuple[int, ...]
    positions: Array
    orientations: Array
    roots: tuple[str, ...] = ()
    _kept: list[Any] = field(default_factory=lambda: [None, {}, {}], repr=False, compare=False)

    def at(self, time: float) -> dict[str, Pose]:
        """Poses in the world by name, at the recorded time that is nearest."""
        from scipy.spatial.transform import Rotation

        row = int(np.abs(self.times - time).argmin())
        found: list[Pose] = []
        for k, parent in enumerate(self.parents):
            own = Pose(self.positions[row, k], rotation=Rotation.from_quat(self.orientations[row, k]))
            found.append(found[parent] @ own if parent >= 0 else own)
        return dict(zip(self.names, found, strict=True))

    def between(self, a: str, b: str, time: float, where: str = "frames") -> Pose:
        """Pose of one frame in another (or in the ``"world"``, where all begin), at the recorded time that is nearest.

        Raises:
            VeldrainError: no such frame.
        """
        if time != self._kept[0]:
            self._kept[:] = time, self.at(time)
        poses = self._kept[1]
        roots = {name: Pose() for name in {*self.roots, "world"}}
        for name in (a, b):
            if name not in poses and name not in roots:
                raise unknown("frame", name, [*poses, *roots], where)
        all_of_them: dict[str, Pose] = roots | poses
        return all_of_them[a].inverse() @ all_of_them[b]

    def poses_between(self, a: str, b: str, times: Array, where: str = "frames") -> tuple[Array, Rotation]:
        """Positions (n, 3) and turns (n) of frame b in a at times (n,): between two that were recorded, each frame goes
        straight, and turns the shortest way.

        Raises:
            VeldrainError: no such frame.
        """
        (at, turn), (other_at, other_turn) = (self._on_the_way(name, times, where) for name in (a, b))
        back = turn.inv()
        return back.apply(other_at - at), back * other_turn

    def _on_the_way(self, name: str, times: Array, where: str) -> tuple[Array, Rotation]:
        from scipy.spatial.transform import Rotation, Slerp

        if name not in self.names:
            if name not in (*self.roots, "world"):
                raise unknown("frame", name, [*self.names, *self.roots, "world"], where)
            return np.zeros((len(times), 3)), Rotation.identity(len(times))
        kept: dict[str, tuple[Array, Rotation, Slerp | None]] = self._kept[2]
        if name not in kept:
            points, turns = self.poses_of(name)
            kept[name] = points, turns, Slerp(self.times, turns) if len(self.times) > 1 else None
        points, turns, slerp = kept[name]
        if slerp is None:
            return np.repeat(points, len(times), axis=0), Rotation.from_quat(
                np.repeat(turns.as_quat(), len(times), axis=0)
            )
        there = np.clip(times, self.times[0], self.times[-1])
        return np.stack([np.interp(there, self.times, column) for column in points.T], axis=1), slerp(there)

    @property
    def moving(self) -> set[str]:
        """Names of the frames that move in the world."""
        found: set[str] = set()
        for k, name in enumerate(self.names):
            own = np.ptp(self.positions[:, k], axis=0).any() or np.ptp(self.orientations[:, k], axis=0).any()
            above = self.parents[k]
            if own or (above >= 0 and self.names[above] in found):
                found.add(name)
        return found

    def poses_of(self, name: str) -> tuple[Array, Rotation]:
        """Positions (t, 3) and turns (t) of a frame in the world."""
        from scipy.spatial.transform import Rotation

        k, turn = self.names.index(name), Rotation.identity(len(self.times))
        points = np.zeros((len(self.times), 3))
        while k >= 0:
            own = Rotation.from_quat(self.orientations[:, k])
            points, turn = own.apply(points) + self.positions[:, k], own * turn
            k = self.parents[k]
        return points, turn

    def path(self, name: str) -> Array:
        """Positions (t, 3) of a frame in the world."""
        from scipy.spatial.transform import Rotation

        k, points = self.names.index(name), np.zeros((len(self.times), 3))
        while k >= 0:
            points = Rotation.from_quat(self.orientations[:, k]).apply(points) + self.positions[:, k]
            k = self.parents[k]
        return points


def history_of(fixed: Sequence[pd.DataFrame], moving: Sequence[pd.DataFrame]) -> FrameHistory:
    """Frames out of the tables of static and of moving transforms.

    Between two messages of a frame it stays where the last one said; before the first, where that says.
    """
    parents: dict[str, str] = {}
    for table in (*fixed, *moving):
        if len(table):
            parents |= dict(zip(table["child_frame_id"], table["frame_id"], strict=True))
    order: list[str] = []
    waiting = list(parents)
    while waiting:
        ready = [name for name in waiting if parents[name] in order or parents[name] not in parents]
        order += ready
        waiting = [name for name in waiting if name not in ready] if ready else []
    number = {name: k for k, name in enumerate(order)}
    times = np.unique(np.concatenate([np.zeros(0), *(table["time"] for table in moving)]))
    times = times if len(times) else np.zeros(1)
    at, turns = np.zeros((len(times), len(order), 3)), np.tile((0.0, 0.0, 0.0, 1.0), (len(times), len(order), 1))
    for table in (*fixed, *moving):
        for name, rows in table.groupby("child_frame_id") if len(table) else ():
            if name not in number:  # in a circle of frames
                continue
            last = np.maximum(np.searchsorted(rows["time"], times, side="right") - 1, 0)
            k = number[str(name)]
            at[:, k] = rows[["x", "y", "z"]].to_numpy()[last]
            turns[:, k] = rows[["qx", "qy", "qz", "qw"]].to_numpy()[last]
    roots = tuple(dict.fromkeys(parent for parent in parents.values() if parent not in parents))
    return FrameHistory(times, tuple(order), tuple(number.get(parents[n], -1) for n in order), at, turns, roots)
