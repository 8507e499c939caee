"""Directions from angles, and points as sensor_msgs/msg/PointCloud2 has them."""

from __future__ import annotations

import sys
from types import SimpleNamespace as Fields
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from veldrain.pose import Array

_CODES = {"uint16": 4, "uint32": 6, "float32": 7}  # of the message's PointField


def directions_at(azimuths: Array, elevations: Array) -> Array:
    """Unit vectors (…, 3) in the mount, from angles about z from +x and above the xy plane, rad."""
    level = np.cos(elevations)
    return np.stack([level * np.cos(azimuths), level * np.sin(azimuths), np.sin(elevations)], axis=-1)


def cloud_message(points: Array, **columns: ArrayLike) -> Fields:
    """Points (n, 3) or (rows, n, 3) with more columns of the same length, integers as uint16, others as float32."""
    rows = points if points.ndim == 3 else points[None]
    values: dict[str, Any] = dict(zip("xyz", np.moveaxis(rows, -1, 0), strict=True))
    values |= {name: np.asarray(column).reshape(rows.shape[:2]) for name, column in columns.items()}
    kinds = {name: "uint16" if v.dtype.kind in "iu" else "float32" for name, v in values.items()}
    table = np.empty(rows.shape[:2], list(kinds.items()))
    for name, value in values.items():
        table[name] = value
    described = table.dtype.fields
    assert described is not None
    return Fields(
        height=rows.shape[0],
        width=rows.shape[1],
        fields=[
            Fields(name=name, offset=described[name][1], datatype=_CODES[kind], count=1) for name, kind in kinds.items()
        ],
        is_bigendian=sys.byteorder == "big",
        point_step=table.dtype.itemsize,
        row_step=table.dtype.itemsize * rows.shape[1],
        data=table.reshape(-1).view(np.uint8),
        is_dense=bool(np.isfinite(points).all()),
    )
