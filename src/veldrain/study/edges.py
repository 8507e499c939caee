"""Where trials turn from passing to failing, over each quantity that was varied."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from veldrain.pose import Array
from veldrain.study.ranks import holm
from veldrain.units import names_of

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Edge:
    """The value of a quantity that parts a controller's failed trials from its passed ones best.

    Attributes:
        controller, quantity, unit: whose trials, over what.
        edge: the value, midway between two that were drawn.
        fails: ``below`` or ``above``, the side on which more of them fail; ``between`` or ``outside`` two values.
        failed, trials: of those on that side.
        failed_beyond, trials_beyond: of those on the other.
        beyond: the other value, of those that fail between two or outside of them.
        p: how likely draws that do not matter part them as well, corrected for the number of edges (Holm).
    """

    controller: str
    quantity: str
    unit: str
    edge: float
    fails: str
    failed: int
    trials: int
    failed_beyond: int
    trials_beyond: int
    p: float
    beyond: float = math.nan

    @property
    def is_clear(self) -> bool:
        """True where chance alone would hardly part them so."""
        return self.p < 0.05


def edges_of(trials: pd.DataFrame, vary: Mapping[str, str]) -> list[Edge]:
    """The edges of all controllers over quantities by unit, the clearest first; none for one that only fails or passes.

    Trials may fail on one side of an edge, or between two, or outside of them. An edge is where the shares of failed
    and of passed trials below it differ most, and p that of the two-sample Kolmogorov–Smirnov test (N. V. Smirnov,
    Ann. Math. Stat. 19, 1948), which is based on that difference; two are where the shares between them differ most
    (Kuiper's test; M. A. Stephens, J. R. Stat. Soc. B 32(1), 1970).
    """
    from scipy.stats import ks_2samp

    found: list[tuple[float, Edge]] = []
    for controller, rows in trials.groupby("controller", sort=False):
        passed = rows["passed"].to_numpy(bool)
        if passed.all() or not passed.any():
            continue
        for quantity, unit in vary.items():
            if names_of(unit):
                continue
            values = rows[quantity].to_numpy(float)
            test = ks_2samp(values[~passed], values[passed])
            at = float(test.statistic_location)
            edge = (at + float(values[values > at].min(initial=np.inf))) / 2.0
            if not np.isfinite(edge):  # one value for all of them
                continue
            side = values <= edge if test.statistic_sign > 0 else values > edge
            counts = (int((~passed & side).sum()), int(side.sum()), int((~passed & ~side).sum()), int((~side).sum()))
            fails = "below" if test.statistic_sign > 0 else "above"
            p = min(1.0, 2 * float(test.pvalue))  # two ways are tried, each at half the level
            one = Edge(str(controller), quantity, unit, edge, fails, *counts, p)
            two = _band(str(controller), quantity, unit, values, passed)
            best = two if two and two.p < p else one
            found.append((best.p, best))
    corrected = holm([p for p, _ in found])
    made = [Edge(**{**vars(edge), "p": p}) for (_, edge), p in zip(found, corrected, strict=True)]
    return sorted(made, key=lambda edge: edge.p)


def _band(controller: str, quantity: str, unit: str, values: Array, passed: NDArray[np.bool_]) -> Edge | None:
    """Two values between which, or outside of which, trials fail; None where all have one value."""
    at = np.unique(values)
    if len(at) < 3:
        return None
    failed_below = np.searchsorted(np.sort(values[~passed]), at, "right") / (~passed).sum()
    passed_below = np.searchsorted(np.sort(values[passed]), at, "right") / passed.sum()
    apart = np.append(0.0, failed_below - passed_below)  # from below all of them
    high, low = int(apart.argmax()), int(apart.argmin())
    spread = float(apart[high] - apart[low])
    ends = [-1 if k == 0 else k - 1 for k in sorted((low, high))]
    if ends[0] < 0 or ends[1] >= len(at) - 1:
        return None
    edges = [float((at[k] + at[k + 1]) / 2) for k in ends]
    inside = (values > edges[0]) & (values < edges[1])
    fails = "between" if low < high else "outside"
    side = inside if fails == "between" else ~inside
    n = float(passed.sum() * (~passed).sum() / len(values))
    p = min(1.0, 2 * _kuiper((math.sqrt(n) + 0.155 + 0.24 / math.sqrt(n)) * spread))
    counts = (int((~passed & side).sum()), int(side.sum()), int((~passed & ~side).sum()), int((~side).sum()))
    return Edge(controller, quantity, unit, edges[0], fails, *counts, p, edges[1])


def _kuiper(x: float) -> float:
    """The chance of a larger statistic than this one."""
    k = np.arange(1, 101)
    return float(np.clip(2 * ((4 * (k * x) ** 2 - 1) * np.exp(-2 * (k * x) ** 2)).sum(), 0.0, 1.0)) if x > 0.4 else 1.0
