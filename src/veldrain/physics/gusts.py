"""Gusts as a sum of waves with the power of a published spectrum.

The wind's changes have the spectrum of Dryden (MIL-HDBK-1797, "Flying Qualities of Piloted Aircraft", 1997, appendix
A): with the standard deviation σ, the length L and the wind's speed V, along the wind
Φ(ω) = σ²·(2·L/(π·V))·1/(1 + (L·ω/V)²), and across it Φ(ω) = σ²·(L/(π·V))·(1 + 3·(L·ω/V)²)/(1 + (L·ω/V)²)².
They are made of cosines with drawn phases, each with the power of its band (M. Shinozuka, G. Deodatis, "Simulation of
stochastic processes by spectral representation", Appl. Mech. Rev. 44(4), 1991); a rate is drawn within each band, so
that they do not repeat.
"""

from __future__ import annotations

import numpy as np

from veldrain.model import Air
from veldrain.physics import plant as p

WAVES = 32  # in each direction
SLOWEST, FASTEST = 0.03, 300.0  # of L·ω/V: 97 % of the power
LEAST_SPEED = 1.0  # m/s, that gusts pass with where no wind carries them


def waves_of(air: Air, random: np.random.Generator) -> p.Records:
    """The waves of gusts in an air; none where it has none."""
    if air.gusts == 0.0:
        return np.zeros(0, p.GUST)
    wind = np.array(air.wind)
    speed = max(float(np.linalg.norm(wind)), LEAST_SPEED)
    along = wind / np.linalg.norm(wind) if wind.any() else np.array((1.0, 0.0, 0.0))
    side = np.cross((0.0, 0.0, 1.0), along)
    side = side / np.linalg.norm(side) if np.linalg.norm(side) > 1e-6 else np.array((0.0, 1.0, 0.0))
    made = np.zeros((3, WAVES), p.GUST)
    edges = np.geomspace(SLOWEST, FASTEST, WAVES + 1)
    for k, axis in enumerate((along, side, np.cross(along, side))):
        share = np.diff(_along(edges) if k == 0 else _across(edges))
        share = share / share.sum()  # what lies beyond the edges goes to all
        made[k]["rate"] = random.uniform(edges[:-1], edges[1:]) * speed / air.gust_length
        made[k]["phase"] = random.uniform(0.0, 2.0 * np.pi, WAVES)
        made[k]["size"] = air.gusts * np.sqrt(2.0 * share)[:, None] * axis
    return made.reshape(-1)


def _along(x: np.ndarray) -> np.ndarray:
    """Share of the power along the wind below x = L·ω/V: the integral of (2/π)/(1 + x²)."""
    return 2.0 / np.pi * np.arctan(x)


def _across(x: np.ndarray) -> np.ndarray:
    """The same across it: the integral of (1/π)·(1 + 3·x²)/(1 + x²)²."""
    return (2.0 * np.arctan(x) - x / (1.0 + x**2)) / np.pi
