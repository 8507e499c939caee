"""Two clocks lined up: how much later one signal is than another, and how much faster its clock runs.

The lag is where the correlation of the two signals, each less its mean, is greatest; a parabola through the peak and
its neighbours gives it finer than a sample (G. C. Carter, "Coherence and time delay
estimation", Proc. IEEE 75(2), 1987).
The drift is the slope of the lags of pieces over time, by Theil's median of the slopes between all pairs.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

PIECES = 8  # of which the drift is found
MOST_SAMPLES = 400_000  # of each signal


@dataclass(frozen=True)
class Alignment:
    """How a signal's clock becomes another's, ``offset + (1 + drift)·time``, and how alike the two then are; and the
    drift's standard error (nan: none was found)."""

    offset: float
    drift: float
    correlation: float
    drift_error: float = np.nan


def lag(t: np.ndarray, x: np.ndarray, u: np.ndarray, y: np.ndarray, most: float = np.inf) -> tuple[float, float]:
    """How much later y(u) is than x(t), s, up to ``most``; and how alike the two are then, −1 to 1.

    nan and 0 where one of them does not change, or they share no time.
    """
    from scipy.signal import correlate

    step = min(float(np.median(np.diff(t))), float(np.median(np.diff(u)))) if min(len(t), len(u)) > 2 else 0.0
    if not step > 0:
        return np.nan, 0.0
    step = max(step, max(np.ptp(t), np.ptp(u)) / MOST_SAMPLES)
    a, b = (np.interp(np.arange(s[0], s[-1], step), s, v) for s, v in ((t, x), (u, y)))
    if len(a) < 3 or len(b) < 3 or np.ptp(a) == 0 or np.ptp(b) == 0:
        return np.nan, 0.0
    a, b = a - a.mean(), b - b.mean()
    sums = correlate(b, a, "full", "fft")
    lags = (np.arange(len(sums)) - (len(a) - 1)) * step + (u[0] - t[0])
    # By the energy of what overlaps: long lags would win by chance, and few samples say nothing.
    ones = correlate(b**2, np.ones(len(a)), "full", "fft"), correlate(np.ones(len(b)), a**2, "full", "fft")
    overlap = correlate(np.ones(len(b)), np.ones(len(a)), "full", "fft")
    good = (overlap > 0.3 * min(len(a), len(b))) & (np.abs(lags) <= most)
    if not good.any():
        return np.nan, 0.0
    energy = np.sqrt(np.maximum(ones[0], 0) * np.maximum(ones[1], 0))
    alike = np.where(good & (energy > 0), sums / np.maximum(energy, 1e-300), -1.0)
    k = int(alike.argmax())
    found = lags[k]
    if 0 < k < len(alike) - 1 and good[k - 1] and good[k + 1]:
        low, high = alike[k - 1] - alike[k], alike[k + 1] - alike[k]
        found += 0.5 * step * (low - high) / (low + high) if low + high < 0 else 0.0
    return float(found), float(min(alike[k], 1.0))


def aligned(t: np.ndarray, x: np.ndarray, u: np.ndarray, y: np.ndarray, with_drift: bool) -> Alignment:
    """How the clock of y(u) becomes that of x(t)."""
    late, alike = lag(t, x, u, y)
    offset, drift, error = -late, 0.0, np.nan
    if with_drift and np.isfinite(late):
        for _ in range(3):  # each time from nearer by
            ours = offset + (1 + drift) * u
            edges = np.linspace(max(ours[0], t[0]), min(ours[-1], t[-1]), PIECES + 1)
            times, lags = [], []
            for low, high in pairwise(edges.tolist()):
                mine, theirs = (t >= low) & (t <= high), (ours >= low) & (ours <= high)
                piece, sure = lag(t[mine], x[mine], ours[theirs], y[theirs], 0.25 * (high - low))
                if sure > 0.7:
                    times.append((low + high) / 2)
                    lags.append(piece)
            if len(times) < 3:
                break
            slopes = [
                (lags[j] - lags[i]) / (times[j] - times[i]) for i in range(len(times)) for j in range(i + 1, len(times))
            ]
            slope = float(np.median(slopes))
            rest = float(np.median(np.array(lags) - slope * np.array(times)))
            # As of a straight line through them; what is left about it is taken for noise.
            off = np.array(lags) - rest - slope * np.array(times)
            error = float(np.sqrt(np.sum(off**2) / (len(off) - 2) / np.sum((np.array(times) - np.mean(times)) ** 2)))
            # ours − (rest + slope·ours) is the better time.
            offset, drift = (1 - slope) * offset - rest, (1 - slope) * (1 + drift) - 1
        _, alike = lag(t, x, offset + (1 + drift) * u, y, 1.0)
    return Alignment(offset, drift, alike, error)
