"""Paths that lead a root: poses at times, made a table with a row for each step."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.interpolate import PchipInterpolator
from scipy.spatial.transform import Rotation, Slerp

from veldrain.pose import Array, Pose


def table_of_path(path: Sequence[tuple[float, Pose]], com: Array, step: float) -> Array:
    """Mass centre and quaternion (rows, 7) at each step from 0 s to the path's end.

    Positions go by a monotone cubic (F. N. Fritsch, R. E. Carlson, SIAM J. Numer. Anal. 17(2), 1980), which never
    goes beyond the poses given; turns start and end gently at each pose. At both ends everything is at rest.
    """
    times = np.array([time for time, _ in path])
    at = np.clip(np.arange(int(np.ceil(times[-1] / step - 1e-9)) + 1) * step, times[0], times[-1])
    places = np.array([pose.position for _, pose in path])
    waiting = [times[0] - 1.0, *times, times[-1] + 1.0]  # before and after, so that the ends are at rest
    positions = PchipInterpolator(waiting, np.vstack([places[:1], places, places[-1:]]))(at)
    last = np.clip(np.searchsorted(times, at, side="right") - 1, 0, len(times) - 2)
    share = (at - times[last]) / (times[last + 1] - times[last])
    turns = Slerp(np.arange(len(times)), Rotation.concatenate([pose.rotation for _, pose in path]))(
        np.clip(last + share**2 * (3.0 - 2.0 * share), 0, len(times) - 1)
    )
    return np.hstack([positions + turns.apply(com), turns.as_quat()])
