"""Detections of sensors as rows, and matched against the truth: hits, misses, and what is near nothing true."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError
from veldrain.pose import Array
from veldrain.recording.log import Log
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

BINS = (0.0, 10.0, 20.0, 40.0, 60.0, 80.0, 120.0, 200.0)  # m


def true_boxes(log: Log, stream: str) -> pd.DataFrame:
    """The boxes of a ``TrueBoxes`` stream in the world, a row a box.

    Columns: time, name, x, y, z (m), yaw (rad), length, width, height (m), vx, vy (m/s, relative to the sensor, along
    the world's axes), visible, range (m).

    Raises:
        VeldrainError: the stream is none of boxes.
    """
    own, placed = log.points(stream), log.points(stream, frame="world")
    if "visible" not in own or f"{stream}/names" not in log.messages:
        raise VeldrainError("is no stream of boxes", where=stream, cure="mount TrueBoxes, and name its stream")
    names = str(log[f"{stream}/names"]["data"].iloc[0]).split() if len(own) else []
    table = placed.copy()
    table["name"] = [names[int(k)] for k in own["id"]]
    table["range"] = np.linalg.norm(own[["x", "y", "z"]].to_numpy(float), axis=1)
    turn = _yaws(log, stream, table["time"].to_numpy(float))
    table["yaw"] = own["yaw"].to_numpy(float) + turn
    c, s = np.cos(turn), np.sin(turn)
    vx, vy = own["vx"].to_numpy(float), own["vy"].to_numpy(float)
    table["vx"], table["vy"] = c * vx - s * vy, s * vx + c * vy
    order = ["time", "name", "x", "y", "z", "yaw", "length", "width", "height", "vx", "vy", "visible", "range"]
    return table[order]


def detections(log: Log, stream: str, *, gap: Quantity = 0.7, ground: Quantity = 0.3, least: int = 3) -> pd.DataFrame:
    """What a radar, a lidar or a camera has detected, a row a detection.

    A radar's are its own; a lidar's are clusters of its points: those that are near each other and above the ground;
    both in the world. Of a camera with ``output="labels"`` the stream ``…/boxes`` has names and pixels.

    Args:
        log: a recording or another log.
        stream: of the radar or lidar, or of a camera's boxes.
        gap: points that are closer are of one cluster, m.
        ground: what is no higher than this above the lowest fifth of the points is ground, m.
        least: points of a cluster.

    Columns: time, x, y, z (m), range (m), and radial_velocity (m/s) or points; of a camera time, name, left, top,
    right, bottom (pixels).
    """
    import pandas as pd

    if log.messages.get(stream) == "std_msgs/msg/String":
        return log[stream].reindex(columns=["time", "name", "left", "top", "right", "bottom"])
    own, placed = log.points(stream), log.points(stream, frame="world")
    own_range = np.linalg.norm(own[["x", "y", "z"]].to_numpy(float), axis=1)
    if "radial_velocity" in own:
        table = placed[["time", "x", "y", "z", "radial_velocity"]].copy()
        table["range"] = own_range
        return table
    apart, high = quantity(gap, "length", "detections"), quantity(ground, "length", "detections")
    rows = []
    for time, part in placed.assign(range=own_range).groupby("time"):
        at = part[["x", "y", "z"]].to_numpy(float)
        keep = np.isfinite(at).all(axis=1)
        if not keep.any():
            continue
        keep &= at[:, 2] > np.nanquantile(at[keep, 2], 0.2) + high
        at, far = at[keep], part["range"].to_numpy(float)[keep]
        for members in _clusters(at, apart):
            if len(members) >= least:
                rows.append((time, *at[members].mean(axis=0), float(far[members].min()), len(members)))
    return pd.DataFrame(rows, columns=["time", "x", "y", "z", "range", "points"])


def _clusters(points: Array, gap: float) -> list[Array]:
    """Rows of points that hang together."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    if not len(points):
        return []
    cells, own = np.unique(np.floor(points / (gap / 2)), axis=0, return_inverse=True)  # of many points, few cells
    near = cKDTree(cells).query_pairs(2.0, output_type="ndarray")
    links = coo_array((np.ones(len(near)), (near[:, 0], near[:, 1])), shape=(len(cells), len(cells)))
    count, whole = connected_components(links, directed=False)
    labels = whole[own.ravel()]
    order = np.argsort(labels, kind="stable")
    return list(np.split(order, np.searchsorted(labels[order], np.arange(1, count))))


@dataclass(frozen=True)
class Matched:
    """Detections against true boxes.

    Attributes:
        truth: the boxes, with ``hits``: how many detections were on or near each, and ``error``: how far the nearest
            of them is from the box, m (nan: none).
        detections: with ``name``: of the box that each is on; "" where it is near none: a false one, or a thing that
            the truth does not name.
    """

    truth: pd.DataFrame
    detections: pd.DataFrame

    def by_range(self, bins: Sequence[float] = BINS) -> pd.DataFrame:
        """A row for each stretch of range: boxes that can be seen, hits, misses, the share of hits, and detections on
        none of them."""
        import pandas as pd

        rows = []
        for low, high in pairwise(bins):
            inside = (self.truth["range"] >= low) & (self.truth["range"] < high)
            boxes = self.truth[inside & (self.truth["visible"] > 0.1)]
            others = self.detections[(self.detections["range"] >= low) & (self.detections["range"] < high)]
            hits = int((boxes["hits"] > 0).sum())
            rows.append(
                {
                    "from": low,
                    "to": high,
                    "boxes": len(boxes),
                    "hits": hits,
                    "misses": len(boxes) - hits,
                    "share": hits / len(boxes) if len(boxes) else np.nan,
                    "on none": int((others["name"] == "").sum()),
                }
            )
        return pd.DataFrame(rows)


def match(log: Log, stream: str, truth: str, *, within: Quantity = 0.5) -> Matched:
    """Match what a radar or lidar has detected against the boxes of a ``TrueBoxes`` stream.

    Args:
        log: a recording or another log.
        stream: of the radar or lidar.
        truth: of the boxes.
        within: a detection is a box's where it is in it, or so near to it, seen from above, m.

    >>> match(recording, "car/radar", "car/boxes").by_range()  # doctest: +SKIP
    """
    boxes, found = true_boxes(log, truth), detections(log, stream)
    margin = quantity(within, "length", "match")
    boxes, found = boxes.reset_index(drop=True), found.reset_index(drop=True)
    hits, errors, names = np.zeros(len(boxes), int), np.full(len(boxes), np.nan), np.full(len(found), "", object)
    times = np.unique(boxes["time"])
    if len(times) and len(found):
        stamps = found["time"].to_numpy(float)
        after = np.clip(np.searchsorted(times, stamps), 1, max(len(times) - 1, 1)) if len(times) > 1 else None
        nearest = np.full(len(stamps), times[0])
        if after is not None:
            before = stamps - times[after - 1] < times[after] - stamps
            nearest = np.where(before, times[after - 1], times[after])
        places, sizes = found[["x", "y"]].to_numpy(float), boxes[["length", "width"]].to_numpy(float)
        middles, turns = boxes[["x", "y"]].to_numpy(float), boxes["yaw"].to_numpy(float)
        titles = boxes["name"].tolist()
        period = float(np.diff(times).min()) if len(times) > 1 else np.inf
        for time, rows in boxes.groupby("time"):
            own = np.flatnonzero((nearest == time) & (np.abs(stamps - time) <= period / 2 + 1e-9))
            for k in rows.index.tolist():
                c, s = np.cos(turns[k]), np.sin(turns[k])
                local = np.abs((places[own] - middles[k]) @ np.array([[c, -s], [s, c]]))
                off = np.linalg.norm(np.maximum(local - sizes[k] / 2, 0.0), axis=1)
                on = off <= margin
                hits[k], names[own[on]] = int(on.sum()), titles[k]
                errors[k] = float(off[on].min()) if on.any() else np.nan
    return Matched(boxes.assign(hits=hits, error=errors), found.assign(name=names))


def _yaws(log: Log, stream: str, times: Array) -> Array:
    """The heading of a sensor's frame in the world at times."""
    at, turns = log.frames.poses_of(stream)  # its messages are in the sensor's own frame
    yaws = np.unwrap(Rotation.as_euler(turns, "ZYX")[:, 0]) if len(at) else np.zeros(0)
    return np.interp(times, log.frames.times, yaws)
