"""What sensors saw and what touched, as a page keeps it: scans, clouds, pictures, contacts."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from PIL import Image

from veldrain.errors import VeldrainError
from veldrain.recording.log import Log
from veldrain.report.pixels import as_colours
from veldrain.report.staging import CONTACTS_OF_ALL, FORCES
from veldrain.report.viewer.store import Store
from veldrain.sensing.parts import CONTACTS

POINTS = ("sensor_msgs/msg/LaserScan", "sensor_msgs/msg/PointCloud2")
PICTURES = ("sensor_msgs/msg/Image", "sensor_msgs/msg/CompressedImage")
CENTIMETRE = 0.01
MOST_CLOUDS, MOST_POINTS, MOST_PICTURES = 400, 120_000, 80
WIDTH = 320  # pixels of a picture


def clouds_of(log: Log, store: Store) -> tuple[list[dict[str, Any]], list[str]]:
    """The points of scans, clouds and radars in their sensors' axes, to a centimetre, and what is left out."""
    found, notes = [], []
    for stream, message in log.messages.items():
        if message not in POINTS:
            continue
        stamps = log.stamps(stream)
        every = max(1, -(-len(stamps) // MOST_CLOUDS))
        chosen = set(stamps[::every].tolist())
        try:
            kept = [(t, c) for t, c in log.clouds(stream) if round(t * 1e9) in chosen]
        except VeldrainError as error:
            notes.append(f"{stream} is not read: {error.problem}")
            continue
        points = [cloud["xyz"][np.isfinite(cloud["xyz"]).all(axis=1)] for _, cloud in kept]
        total = sum(map(len, points))
        thin = max(1, -(-total // MOST_POINTS))
        points = [p[::thin] for p in points]
        if every > 1 or thin > 1:
            notes.append(
                f"of {stream} one of {every} messages" + (f" and one of {thin} points" if thin > 1 else "") + " is kept"
            )
        store.begin_part()
        whole = np.concatenate([*points, np.zeros((0, 3))])
        found.append(
            {
                "stream": stream,
                "times": [round(t, 6) for t, _ in kept],
                "counts": [len(p) for p in points],
                "points": store.add(np.clip(np.round(whole / CENTIMETRE), -32767, 32767), "i2"),
                "unit": CENTIMETRE,
            }
        )
    store.begin_part()
    return found, notes


def pictures_of(log: Log, store: Store) -> tuple[list[dict[str, Any]], list[str]]:
    """Camera pictures at their times, as JPEG, and what is left out."""
    found, notes = [], []
    for stream, message in log.messages.items():
        if message not in PICTURES or stream.startswith("scenario/"):
            continue
        stamps = log.stamps(stream)
        every = max(1, -(-len(stamps) // MOST_PICTURES))
        store.begin_part()
        times, files = [], []
        try:
            for k, (stamp, pixels) in enumerate(log.pictures(stream)):
                if k % every == 0:
                    times.append(stamp / 1e9)
                    files.append(store.add(_jpeg(pixels)))
        except VeldrainError as error:
            notes.append(f"{stream} is not read: {error.problem}")
        if every > 1:
            notes.append(f"of {stream} one of {every} pictures is kept")
        if files:
            found.append({"stream": stream, "times": times, "files": files})
    store.begin_part()
    return found, notes


def _jpeg(pixels: Any) -> bytes:
    """A picture of any kind as JPEG."""
    picture = Image.fromarray(as_colours(pixels)).convert("RGB")
    picture.thumbnail((WIDTH, WIDTH))
    file = io.BytesIO()
    picture.save(file, "JPEG", quality=75)
    return file.getvalue()


def contacts_of(log: Log, store: Store) -> dict[str, Any] | None:
    """Contacts by their times: points (3) and forces (3), world axes; None where none are recorded."""
    if log.messages.get(CONTACTS_OF_ALL) != CONTACTS:
        return None
    table = log.table(CONTACTS_OF_ALL)
    if not len(table):
        return None
    times, first = np.unique(table["time"].to_numpy(float), return_index=True)
    rows = table[["x", "y", "z", *FORCES]].to_numpy(float)
    return {
        "times": store.add(log.stamps(CONTACTS_OF_ALL) / 1e9, "f4"),
        "touched": store.add(times, "f4"),
        "first": store.add(np.append(first, len(table)), "i4"),
        "rows": store.add(rows, "f4"),
    }
