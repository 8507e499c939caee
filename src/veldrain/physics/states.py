"""What an engine gives of itself: its whole state, and what acted between things in its last step."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from numpy.typing import NDArray

from veldrain.pose import Array


@dataclass(frozen=True)
class Snapshot:
    """A copy of a state; restoring it continues to the same bits.

    ``names`` tells the world that it is of: those of its links, joints and shapes.
    """

    arrays: dict[str, NDArray[Any]]
    names: tuple[str, ...]
    taps: dict[str, NDArray[Any]]
    notices: tuple[tuple[str, str], ...]
    steps: int
    couplings: tuple[tuple[str, str], ...] = ()  # pairs that were attached at some time


@dataclass(frozen=True)
class Forces:
    """The contacts of a step: names of both sides (n, 2), point, normal from the second to the first, gap, and the
    force (N) and moment (N·m) on the first."""

    sides: NDArray[Any]
    point: Array
    normal: Array
    gap: Array
    force: Array
    moment: Array
