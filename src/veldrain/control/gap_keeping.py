"""Keeping a gap to what a radar detects ahead, by the intelligent driver model."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

HARDEST = 8.0  # m/s²
NEVER = math.inf


LOWEST = -0.35  # m below the radar: what is lower is the road


def nearest_ahead(detections: Any, curve: float, corridor: float) -> tuple[float, float]:
    """Range (m) and radial velocity (m/s) of the nearest detection on the own way; inf where there is none.

    Args:
        detections: of a radar that looks ahead, level: ranges, azimuths, elevations and radial velocities.
        curve: curvature of the own way, 1/m.
        corridor: half of its width, m.
    """
    r, azimuth = np.asarray(detections.ranges), np.asarray(detections.azimuths)
    if not len(r):
        return NEVER, 0.0
    x, y = r * np.cos(azimuth), r * np.sin(azimuth)
    high = r * np.sin(np.asarray(detections.elevations)) > LOWEST
    on_way = high & (x > 0) & (np.abs(y - curve * x**2 / 2) < corridor)
    if not on_way.any():
        return NEVER, 0.0
    k = int(np.where(on_way, r, np.inf).argmin())
    return float(r[k]), float(np.asarray(detections.radial_velocities)[k])


def eased(
    speed: float, wanted: float, gap: float, closing: float, time_gap: float, standstill: float, up: float, down: float
) -> float:
    """Acceleration (m/s²) of the intelligent driver model (M. Treiber, A. Hennecke, D. Helbing, Phys. Rev. E 62(2),
    2000, equations 3 and 4), no harder than a car can brake."""
    free = up * (1.0 - (speed / wanted) ** 4) if wanted > 0 else -down
    if gap == NEVER:
        return max(free, -down)
    space = standstill + max(0.0, speed * time_gap + speed * closing / (2.0 * math.sqrt(up * down)))
    return max(free - up * (space / max(gap, 0.1)) ** 2, -HARDEST)
