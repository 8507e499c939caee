"""Streams as lines over time, as a page keeps them: at most so many points that the eye tells apart."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from veldrain.errors import VeldrainError
from veldrain.recording.log import Log
from veldrain.report.viewer.store import Store

MOST = 1000  # spans of time of a column; of each the least and the greatest value are kept
MOST_COLUMNS = 400  # of one stream
DIGITS = np.uint32(0xFFFFFF00)  # of a float32: 16 bits of its fraction are kept, five digits
SPREAD = (  # of whose messages a table has many rows each
    "tf2_msgs/msg/TFMessage",
    "sensor_msgs/msg/PointCloud2",
    "veldrain_msgs/msg/Contacts",
    "sensor_msgs/msg/Image",
    "sensor_msgs/msg/CompressedImage",
)


def streams_of(log: Log, store: Store) -> tuple[list[dict[str, Any]], list[str]]:
    """All streams with their columns of numbers, and what is left out."""
    found, notes = [], []
    for name, message in log.messages.items():
        entry: dict[str, Any] = {"name": name, "message": message, "columns": []}
        stamps = log.stamps(name) if message else np.zeros(0)
        entry["count"] = len(stamps)
        found.append(entry)
        if not message or message in SPREAD or not len(stamps):
            continue
        try:
            table = log.table(name)
        except VeldrainError as error:
            notes.append(f"{name} is not read: {error.problem}")
            continue
        columns = [c for c in table.columns if c not in ("time", "stamp") and table[c].dtype.kind in "biuf"]
        if len(columns) > MOST_COLUMNS:
            notes.append(f"of {name} {MOST_COLUMNS} of {len(columns)} columns are kept")
        entry["columns"] = _columns(log, name, table, columns[:MOST_COLUMNS], store, entry)
        if entry.get("spans"):
            span = entry["spans"]
            words = f"{span:.3g} s" if span >= 1 else f"{span * 1e3:.3g} ms"
            notes.append(f"of {name} the least and the greatest value of each {words} are kept")
    return found, notes


def _columns(
    log: Log, stream: str, table: pd.DataFrame, columns: list[str], store: Store, entry: dict[str, Any]
) -> list[dict[str, Any]]:
    times = table["time"].to_numpy(float)
    order = np.argsort(times, kind="stable")
    times = times[order]
    thins = len(times) > 2 * MOST
    edges = np.unique(np.searchsorted(times, np.linspace(times[0], times[-1], MOST + 1)[:-1])) if thins else None
    if edges is None:
        entry["times"] = store.add(times, "f4")
    else:
        entry["times"] = store.add(times[edges], "f4")
        entry["spans"] = float(times[-1] - times[0]) / MOST
    made = []
    for column in columns:
        values = table[column].to_numpy(float)[order]
        one: dict[str, Any] = {"name": column, "unit": log.unit(stream, column)}
        with np.errstate(over="ignore"):
            if values.size and (values == values[0]).all():
                one["constant"] = told(float(values[0]))
            elif edges is None:
                one["values"] = store.add(_rounded(values), "f4")
            else:
                one["least"] = store.add(_rounded(np.fmin.reduceat(values, edges)), "f4")
                one["most"] = store.add(_rounded(np.fmax.reduceat(values, edges)), "f4")
        made.append(one)
    return made


def told(value: Any) -> Any:
    """A value as JSON has it: what is not finite as text."""
    return str(value) if isinstance(value, float | np.floating) and not np.isfinite(value) else value


def _rounded(values: np.ndarray) -> np.ndarray:
    found = values.astype(np.float32)
    finite = np.isfinite(found)
    bits = found.view(np.uint32)
    bits[finite] = (bits[finite] + np.uint32(0x80)) & DIGITS
    return bits.view(np.float32)
