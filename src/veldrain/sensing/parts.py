"""Parts that the messages of several sensors have."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from veldrain.model.sensor import Fields
from veldrain.pose import Array

CONTACTS = "veldrain_msgs/msg/Contacts"  # ours: no standard message has them; its definition is in every file
NO_COVARIANCE = np.zeros(36)


def xyz(values: Array) -> Fields:
    """Three numbers as a message has them; of many samples (3, n) three arrays."""
    x, y, z = values.tolist() if values.ndim == 1 else values
    return Fields(x=x, y=y, z=z)


def xyzw(values: Sequence[float]) -> Fields:
    """A quaternion as a message has it."""
    x, y, z, w = values
    return Fields(x=x, y=y, z=z, w=w)


def about_z(yaw: float | Array) -> Fields:
    """A turn about z (rad) as a message has it."""
    each = [(math.sin(angle / 2), math.cos(angle / 2)) for angle in np.atleast_1d(yaw).tolist()]
    z, w = each[0] if np.ndim(yaw) == 0 else np.array(each).T
    return Fields(x=0.0, y=0.0, z=z, w=w)


def contact(link_a: str, link_b: str, point: Array, normal: Array, force: Array, gap: float = math.nan) -> Fields:
    """A contact as ``CONTACTS`` has it: what link b does to link a."""
    return Fields(link_a=link_a, link_b=link_b, point=xyz(point), normal=xyz(normal), force=xyz(force), gap=gap)
