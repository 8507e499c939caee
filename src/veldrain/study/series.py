"""Statistics of a column over time: one number out of times and values.

inf is a value. nan is missing: where a sample that counts is nan, so is the statistic.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.pose import Array


@dataclass(frozen=True)
class Statistic:
    """One statistic.

    Attributes:
        of: takes times (n,), values (n,), n at least 1, and its words; gives the number.
        needs: words that have to be given with it, in the column's unit or as it says.
        may: words that may be given.
        unit: of the number, out of that of the column, ``{}``.
        doc: what it is, in a line.
    """

    of: Callable[..., float]
    doc: str
    needs: tuple[str, ...] = ()
    may: tuple[str, ...] = ()
    unit: str = "{}"


def _quietly(act: Callable[..., Any]) -> Callable[..., float]:
    def run(times: Array, values: Array, **words: Any) -> float:
        with np.errstate(invalid="ignore", over="ignore"):  # inf − inf is nan, and said to be missing
            return float(act(times, values, **words))

    return run


def _percentile(times: Array, values: Array, percent: float) -> float:
    return (
        math.nan if np.isnan(values).any() else float(np.quantile(values, percent / 100, method="closest_observation"))
    )


def _integral(times: Array, values: Array) -> float:
    return float(np.trapezoid(values, times)) if len(values) > 1 else 0.0


def _share_of_time(times: Array, holds: NDArray[np.bool_]) -> float:
    """Time for which something holds, each sample until the next."""
    return float(np.diff(times)[holds[:-1]].sum())


def _above(times: Array, values: Array, level: float) -> float:
    return math.nan if np.isnan(values).any() else _share_of_time(times, values > level)


def _below(times: Array, values: Array, level: float) -> float:
    return math.nan if np.isnan(values).any() else _share_of_time(times, values < level)


def _until(times: Array, values: Array, level: float) -> float:
    """Time of the first sample at or beyond a level, seen from where the first one is; inf: never."""
    if np.isnan(values).any():
        return math.nan
    reached = values >= level if values[0] < level else values <= level
    return float(times[int(reached.argmax())]) if reached.any() else math.inf


def _settling(times: Array, values: Array, band: float, target: float | None = None) -> float:
    """From the first sample until the values stay within a band around the target; inf where they do not."""
    if np.isnan(values).any():
        return math.nan
    outside = np.flatnonzero(np.abs(values - (values[-1] if target is None else target)) > band)
    if not len(outside):
        return 0.0
    last = int(outside[-1])
    return math.inf if last == len(values) - 1 else float(times[last + 1] - times[0])


def _overshoot(times: Array, values: Array, target: float | None = None) -> float:
    """By how much the values go beyond the target, seen from the first; 0 where they do not."""
    end = values[-1] if target is None else target
    return float(np.maximum((values - end) * (1.0 if end >= values[0] else -1.0), 0.0).max())


def _at(times: Array, values: Array, at: float) -> float:
    """The newest sample at a time; nan before the first and after the last."""
    k = int(np.searchsorted(times, at + 1e-9, "right")) - 1
    return float(values[k]) if k >= 0 and at <= times[-1] + 1e-9 else math.nan


STATISTICS: dict[str, Statistic] = {
    "mean": Statistic(_quietly(lambda t, v: v.mean()), "mean of the samples"),
    "median": Statistic(_quietly(lambda t, v: np.median(v)), "median of the samples"),
    "rms": Statistic(_quietly(lambda t, v: np.sqrt((v**2).mean())), "root of the mean square"),
    "std": Statistic(_quietly(lambda t, v: v.std()), "standard deviation"),
    "min": Statistic(_quietly(lambda t, v: v.min()), "least"),
    "max": Statistic(_quietly(lambda t, v: v.max()), "largest"),
    "max abs": Statistic(_quietly(lambda t, v: np.abs(v).max()), "largest size"),
    "first": Statistic(_quietly(lambda t, v: v[0]), "first sample"),
    "last": Statistic(_quietly(lambda t, v: v[-1]), "last sample"),
    "count": Statistic(_quietly(lambda t, v: np.count_nonzero(~np.isnan(v))), "samples that are not nan", unit=""),
    "integral": Statistic(_quietly(_integral), "integral over time, by trapezoids", unit="{}*s"),
    "percentile": Statistic(_quietly(_percentile), "value below which a share of the samples lies", ("percent",)),
    "at": Statistic(_quietly(_at), "newest sample at a time", ("at",)),
    "time above": Statistic(_quietly(_above), "time for which it is above a level", ("level",), unit="s"),
    "time below": Statistic(_quietly(_below), "time for which it is below a level", ("level",), unit="s"),
    "time until": Statistic(
        _quietly(_until), "time at which it first reaches a level; inf: never", ("level",), unit="s"
    ),
    "settling time": Statistic(
        _quietly(_settling), "time until it stays within a band around the target (None: the last sample); inf: never",
        ("band",), ("target",), unit="s",
    ),
    "overshoot": Statistic(
        _quietly(_overshoot), "by how much it goes beyond the target (None: the last sample)", (), ("target",)
    ),
}  # fmt: skip
