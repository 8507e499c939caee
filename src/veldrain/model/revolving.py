"""Triangles of plain shapes, for pictures and scenes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.pose import Array

BOX_FACES = np.array(  # of the corners (x, y, z) of −1 and 1, z changing first; seen from outside, a side a row
    [
        *((0, 1, 3), (0, 3, 2)),
        *((4, 6, 7), (4, 7, 5)),
        *((0, 4, 5), (0, 5, 1)),
        *((2, 3, 7), (2, 7, 6)),
        *((0, 2, 6), (0, 6, 4)),
        *((1, 5, 7), (1, 7, 3)),
    ]
)


def revolved(profile: Sequence[tuple[float, float]] | Array) -> tuple[Array, NDArray[Any]]:
    """Corners and triangles of what a profile (n, 2), radius and height from the bottom up, makes as it turns about z.

    It begins and ends on the axis.
    """
    rings, around = np.asarray(profile)[1:-1], 32
    turn = np.arange(around) * (2 * np.pi / around)
    circle = np.stack([np.cos(turn), np.sin(turn)], axis=1)
    walls = [np.column_stack([radius * circle, np.full(around, height)]) for radius, height in rings]
    ends = [(0.0, 0.0, profile[0][1]), (0.0, 0.0, profile[-1][1])]
    here = np.arange(around)
    after, top = np.roll(here, -1), around * (len(rings) - 1)
    low, high = around * len(rings), around * len(rings) + 1
    faces = [
        np.stack([np.full(around, low), after, here], 1),
        np.stack([np.full(around, high), top + here, top + after], 1),
    ]
    for k in range(0, top, around):
        faces += [np.stack([k + here, k + after, k + around + after], 1)]
        faces += [np.stack([k + here, k + around + after, k + around + here], 1)]
    return np.vstack([*walls, ends]), np.vstack(faces)


def rounded(radius: float, straight: float = 0.0) -> tuple[Array, NDArray[Any]]:
    """The same of a ball, cut through its middle with a straight piece between."""
    half = np.linspace(0.0, np.pi / 2, 9)
    upper = half if straight else half[1:]
    angles = np.concatenate([-half[::-1], upper])
    lift = np.repeat([-straight / 2, straight / 2], [len(half), len(upper)])
    return revolved(np.stack([radius * np.cos(angles), radius * np.sin(angles) + lift], axis=1))
