"""How lanes lie across a road that banks: most of them in its plane, some level, some raised above it.

Offsets t are measured in the plane of the road; ``plan`` offsets, as seen from above, are shorter where it banks
(ASAM OpenDRIVE 1.7, sections 8.4 and 9.5: superelevation, and lanes that stay level).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from veldrain.motion.roads.profiles import Profile
from veldrain.pose import Array


@dataclass(frozen=True)
class Lying:
    """A line along a lane at lengths of its road: offsets seen from above, heights, and what lies across it.

    Attributes:
        plan: offset seen from above, m, and its first and second derivative along the road.
        high: height, m, and its first derivative.
        lean: rad by which the left side lies higher across the road.
    """

    plan: tuple[Array, Array, Array]
    high: tuple[Array, Array]
    lean: Array

    def frame(self, bend: Array) -> tuple[Array, Array, Array]:
        """Turn to the left of the road's heading, rise and roll (rad) of a thing that goes along it.

        Its x axis is along the line, and z stands on the lane.
        """
        ahead, left, up = 1.0 - bend * self.plan[0], self.plan[1], self.high[1]
        c, s = np.cos(self.lean), np.sin(self.lean)
        # Its y axis is (f × l) × f, of its way f = (ahead, left, up) and l = (0, c, s), which lies across the lane.
        square, along = ahead**2 + left**2 + up**2, left * c + up * s
        flat = np.maximum(np.hypot(ahead, left), 1e-15)
        tilt = (s * square - up * along) / (flat * np.sqrt(np.maximum(square - along**2, 1e-30)))
        return np.arctan2(left, ahead), np.arctan2(up, flat), np.arcsin(np.clip(tilt, -1.0, 1.0))


def raised(road: Any, section: int, number: int, s: Array) -> tuple[Array, Array]:
    """How high the inner and outer side of a lane lie above the road, m."""
    lanes = road.sections[section].lanes
    rows = np.array(lanes[number].heights if number in lanes else ()).reshape(-1, 3)
    if not len(rows):
        return np.zeros(len(s)), np.zeros(len(s))
    k = np.clip(np.searchsorted(rows[:, 0], s - road.sections[section].s, side="right") - 1, 0, len(rows) - 1)
    return rows[k, 1], rows[k, 2]


def base(road: Any, section: int, number: int, s: Array, order: int = 0) -> Array | None:
    """Offset from which on outwards a lane stays level, or its derivatives; None: it banks with its road."""
    lanes, side = road.sections[section].lanes, 1 if number > 0 else -1
    if number == 0 or number not in lanes or not lanes[number].level:
        return None
    inner = number
    while inner - side and lanes[inner - side].level:
        inner -= side
    return np.asarray(road.borders(section, s, order)[inner][0])


def lying(road: Any, section: int, number: int, s: Array, offsets: tuple[Array, ...], above: Any = 0.0) -> Lying:
    """A line at offsets (and their derivatives, 0 where none are given), so far above the plane of the road."""
    zero = np.zeros(len(s))
    t, t1, t2 = (*offsets, zero, zero)[:3]
    b, b1, b2 = (road.banking.at(s, order) for order in range(3))
    c, sine = np.cos(b), np.sin(b)
    from_base = [base(road, section, number, s, order) for order in range(3)]
    if from_base[0] is None:
        e, e1, e2, rest, up, across = t, t1, t2, (zero, zero, zero), above, b
    else:
        e, e1, e2 = from_base  # type: ignore[assignment]
        rest, up, across = (t - e, t1 - e1, t2 - e2), zero, zero
    plan = (
        e * c - up * sine + rest[0],
        e1 * c - (e * sine + up * c) * b1 + rest[1],
        e2 * c - 2 * e1 * sine * b1 - e * (c * b1**2 + sine * b2) + up * (sine * b1**2 - c * b2) + rest[2],
    )
    lift = up * c if from_base[0] is None else above
    high = road.elevation.at(s) + e * sine + lift
    climb = road.elevation.at(s, 1) + e1 * sine + (e * c - up * sine) * b1
    return Lying(plan, (high, climb), across)


def on_lane(road: Any, section: int, number: int, s: Array, offsets: tuple[Array, ...]) -> Lying:
    """A line on the surface of a lane at offsets, and their derivatives."""
    low, high = raised(road, section, number, s)
    if not (low.any() or high.any()):
        return lying(road, section, number, s, offsets)
    inner, outer = road.borders(section, s)[number]
    rise = (high - low) / np.where(outer == inner, np.inf, outer - inner)
    found = lying(road, section, number, s, offsets, low + rise * (offsets[0] - inner))
    return replace(found, lean=found.lean + np.arctan(rise))


def placed(road: Any, s: Array, line: Lying) -> Array:
    """Its points (n, 3)."""
    x, y, heading, _ = road.curve.at(s)
    return np.stack([x - line.plan[0] * np.sin(heading), y + line.plan[0] * np.cos(heading), line.high[0]], axis=-1)


def steps(profile: Profile) -> list[tuple[float, float]]:
    """Where a profile jumps, and by how much."""
    found = []
    for one, other in zip(profile.rows, profile.rows[1:], strict=False):
        u = other[0] - one[0]
        found.append((other[0], other[1] - (one[1] + u * (one[2] + u * (one[3] + u * one[4])))))
    return found
