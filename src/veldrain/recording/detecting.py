"""Detections of sensors as rows, and matched against the truth: hits, misses, and what is near nothing true."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.model.sensor import Sensor
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

    A radar's are its own, without those that it marks as of the ground; a lidar's are clusters of its points: those
    that are near each other and above the ground; both in the world. Of a camera with ``output="labels"`` the stream
    ``…/boxes`` has names and pixels.

    Args:
        log: a recording or another log.
        stream: of the radar or lidar, or of a camera's boxes.
        gap: points that are closer are of one cluster, m.
        ground: what is no higher than this above the lowest fifth of the points is ground, m.
        least: points of a cluster.

    Columns: time (of a lidar's cluster: when its beams met it), x, y, z (m), range (m), and radial_velocity (m/s) or
    points; of a camera time, name, left, top, right, bottom (pixels).
    """
    import pandas as pd

    if log.messages.get(stream) == "std_msgs/msg/String":
        return log[stream].reindex(columns=["time", "name", "left", "top", "right", "bottom"])
    own, placed = log.points(stream), log.points(stream, frame="world")
    own_range = np.linalg.norm(own[["x", "y", "z"]].to_numpy(float), axis=1)
    if "radial_velocity" in own:
        table = placed[["time", "x", "y", "z", "radial_velocity"]].copy()
        table["range"] = own_range
        return table[own["ground"] == 0].reset_index(drop=True) if "ground" in own else table
    apart, high = quantity(gap, "length", "detections"), quantity(ground, "length", "detections")
    rows = []
    measured = placed["stamp"] + placed["beam_time"] if "beam_time" in placed else placed["time"]
    for _, part in placed.assign(range=own_range, measured=measured).groupby("time"):
        at = part[["x", "y", "z"]].to_numpy(float)
        keep = np.isfinite(at).all(axis=1)
        if not keep.any():
            continue
        keep &= at[:, 2] > np.nanquantile(at[keep, 2], 0.2) + high
        at, far, when = at[keep], part["range"].to_numpy(float)[keep], part["measured"].to_numpy(float)[keep]
        for members in _clusters(at, apart):
            if len(members) >= least:
                middle, time = at[members].mean(axis=0), float(when[members].mean())
                rows.append((time, *middle, float(far[members].min()), len(members)))
    return pd.DataFrame(rows, columns=["time", "x", "y", "z", "range", "points"])


def _clusters(points: Array, gap: float) -> list[Array]:
    """Rows of points that hang together."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

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
            of them is from the box, m (nan: none); and ``in_view``: some of it is in the sensor's field of view.
        detections: with ``name``: of the box that each is on; "" where it is near none: a false one, or a thing that
            the truth does not name.
    """

    truth: pd.DataFrame
    detections: pd.DataFrame

    def by_range(self, bins: Sequence[float] = BINS) -> pd.DataFrame:
        """A row for each stretch of range: boxes in view that can be seen, hits, misses, the share of hits, and
        detections on none of them."""
        import pandas as pd

        rows = []
        for low, high in pairwise(bins):
            inside = (self.truth["range"] >= low) & (self.truth["range"] < high)
            boxes = self.truth[inside & (self.truth["visible"] > 0.1) & self.truth["in_view"]]
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


def match(log: Log, stream: str, truth: str, *, within: Quantity = 0.5, sensor: Sensor | None = None) -> Matched:
    """Match what a radar, a lidar or a camera has detected against the boxes of a ``TrueBoxes`` stream.

    A camera's boxes are matched by their names: a hit is of what any part is in the picture. Their range is that of the
    truth, nan where it does not name them.

    Args:
        log: a recording or another log.
        stream: of the radar or lidar, or of a camera's boxes: ``…/boxes`` of one with ``output="labels"``.
        truth: of the boxes.
        within: a detection is a box's where it is in it, or so near to it, seen from above, m.
        sensor: the data sheet of what detected, for its field of view and range: a box out of these is no miss. None:
            all boxes count as in view.

    >>> match(recording, "car/radar", "car/boxes").by_range()  # doctest: +SKIP
    """
    boxes, found = true_boxes(log, truth), detections(log, stream)
    margin = quantity(within, "length", "match")
    boxes, found = boxes.reset_index(drop=True), found.reset_index(drop=True)
    names, errors = np.full(len(found), "", object), np.full(len(boxes), np.nan)
    hits, seen_at = np.zeros(len(boxes), int), np.full(len(found), np.nan)
    own_names = found["name"].tolist() if "left" in found else None
    places = np.zeros((len(found), 2)) if own_names is not None else found[["x", "y"]].to_numpy(float)
    sizes = boxes[["length", "width"]].to_numpy(float)
    titles, ranges = boxes["name"].tolist(), boxes["range"].to_numpy(float)
    stamps = found["time"].to_numpy(float)
    tracks = {name: _Track(part) for name, part in boxes.groupby("name")}
    for rows, own in _at_one_time(boxes["time"].to_numpy(float), stamps):
        for k in rows.tolist():
            if own_names is not None:
                on = np.array([own_names[n].partition("/")[0] == titles[k] for n in own], bool)
            else:
                # Where the box was when each was measured: at speed, half a period is metres.
                local = np.abs(tracks[titles[k]].seen_from(places[own], stamps[own]))
                off = np.linalg.norm(np.maximum(local - sizes[k] / 2, 0.0), axis=1)
                on = off <= margin
                errors[k] = float(off[on].min()) if on.any() else np.nan
            hits[k], names[own[on]], seen_at[own[on]] = int(on.sum()), titles[k], ranges[k]
    found = found.assign(name=names) if own_names is None else found.assign(label=own_names, name=names, range=seen_at)
    in_view = (
        np.ones(len(boxes), bool) if sensor is None else _in_view(log, stream.removesuffix("/boxes"), boxes, sensor)
    )
    return Matched(boxes.assign(hits=hits, error=errors, in_view=in_view), found)


def _in_view(log: Log, frame: str, boxes: pd.DataFrame, sensor: Sensor) -> NDArray[np.bool_]:
    """Boxes of which some point lies between a sensor's outermost lines of sight, and in its range."""
    from scipy.spatial.transform import Rotation

    sight = sensor.sight()
    if sight is None:
        cure = "give that of a radar, a lidar or a camera"
        raise VeldrainError(f"{type(sensor).__name__} has no field of view", where=frame, cure=cure)
    at, turns = log.frames.poses_between("world", frame, boxes["time"].to_numpy(float))
    middle, sizes = boxes[["x", "y", "z"]].to_numpy(float), boxes[["length", "width", "height"]].to_numpy(float)
    yaws, seen = Rotation.from_rotvec(boxes[["yaw"]].to_numpy(float) * (0.0, 0.0, 1.0)), np.zeros(len(boxes), bool)
    around, up = _angles(sensor.looks_along())
    for share in np.stack(np.meshgrid(*[np.linspace(-0.5, 0.5, 5)] * 3), -1).reshape(-1, 3):
        point = turns.inv().apply(middle + yaws.apply(share * sizes) - at)
        a, e = _angles(point)
        inside = (a >= around.min()) & (a <= around.max()) & (e >= up.min()) & (e <= up.max())
        seen |= inside & (np.linalg.norm(point, axis=1) <= sight.max_range)
    return seen


def _angles(points: Array) -> tuple[Array, Array]:
    """Azimuths and elevations (n,) of points (n, 3), rad."""
    return np.arctan2(points[:, 1], points[:, 0]), np.arctan2(points[:, 2], np.hypot(points[:, 0], points[:, 1]))


class _Track:
    """Where a box was over time."""

    def __init__(self, boxes: pd.DataFrame) -> None:
        self.times, self.x, self.y = (boxes[word].to_numpy(float) for word in ("time", "x", "y"))
        self.yaw = np.unwrap(boxes["yaw"].to_numpy(float))

    def seen_from(self, places: Array, times: Array) -> Array:
        """Places (n, 2) at times (n,) in the axes of the box, m from its middle."""
        x, y, yaw = (np.interp(times, self.times, row) for row in (self.x, self.y, self.yaw))
        east, north, c, s = places[:, 0] - x, places[:, 1] - y, np.cos(yaw), np.sin(yaw)
        return np.stack([c * east + s * north, c * north - s * east], axis=1)


def _at_one_time(times: Array, stamps: Array) -> Iterator[tuple[NDArray[np.int64], NDArray[np.int64]]]:
    """The rows of boxes of each time, and those of detections that are nearest to it."""
    looks, which = np.unique(times, return_inverse=True)
    if not len(looks) or not len(stamps):
        return
    middles = (looks[1:] + looks[:-1]) / 2
    nearest = np.searchsorted(middles, stamps, side="right")
    apart = float(np.diff(looks).min()) / 2 + 1e-9 if len(looks) > 1 else np.inf
    timely = np.abs(stamps - looks[nearest]) <= apart
    for k in range(len(looks)):
        yield np.flatnonzero(which == k), np.flatnonzero((nearest == k) & timely)


def _yaws(log: Log, stream: str, times: Array) -> Array:
    """The heading of a sensor's frame in the world at times."""
    from scipy.spatial.transform import Rotation

    at, turns = log.frames.poses_of(stream)  # its messages are in the sensor's own frame
    yaws = np.unwrap(Rotation.as_euler(turns, "ZYX")[:, 0]) if len(at) else np.zeros(0)
    return np.interp(times, log.frames.times, yaws)
