"""Paths that lead a root: poses at times, made a table with a row for each step."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.spatial.transform import Rotation, RotationSpline

from veldrain.pose import Array, Pose


def table_of_path(path: Sequence[tuple[float, Pose]], com: Array, step: float) -> Array:
    """Mass centre and quaternion (rows, 7) at each step from 0 s to the path's end.

    Positions go by a monotone cubic (F. N. Fritsch, R. E. Carlson, SIAM J. Numer. Anal. 17(2), 1980), which never
    goes beyond the poses given; rotations by a spline of continuous angular acceleration.
    """
    times = np.array([time for time, _ in path])
    at = np.clip(np.arange(int(np.ceil(times[-1] / step - 1e-9)) + 1) * step, times[0], times[-1])
    positions = PchipInterpolator(times, [pose.position for _, pose in path])(at)
    turns = RotationSpline(times, Rotation.concatenate([pose.rotation for _, pose in path]))(at)
    return np.hstack([positions + turns.apply(com), turns.as_quat()])
