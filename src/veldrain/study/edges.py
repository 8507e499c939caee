"""Where trials turn from passing to failing, over each quantity that was varied."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from veldrain.study.statistics import holm

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True)
class Edge:
    """The value of a quantity that parts a controller's failed trials from its passed ones best.

    Attributes:
        controller, quantity, unit: whose trials, over what.
        edge: the value, midway between two that were drawn.
        fails: ``below`` or ``above``, the side on which more of them fail.
        failed, trials: of those on that side.
        failed_beyond, trials_beyond: of those on the other.
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

    @property
    def is_clear(self) -> bool:
        """True where chance alone would hardly part them so."""
        return self.p < 0.05


def edges_of(trials: pd.DataFrame, vary: Mapping[str, str]) -> list[Edge]:
    """The edges of all controllers over quantities by unit, the clearest first; none for one that only fails or passes.

    The edge is where the shares of failed and of passed trials below it differ most, and p that of the two-sample
    Kolmogorov–Smirnov test (N. V. Smirnov, Ann. Math. Stat. 19, 1948), which is based on that difference.
    """
    from scipy.stats import ks_2samp

    found: list[tuple[float, Edge]] = []
    for controller, rows in trials.groupby("controller", sort=False):
        passed = rows["passed"].to_numpy(bool)
        if passed.all() or not passed.any():
            continue
        for quantity, unit in vary.items():
            values = rows[quantity].to_numpy(float)
            test = ks_2samp(values[~passed], values[passed])
            at = float(test.statistic_location)
            edge = (at + float(values[values > at].min(initial=np.inf))) / 2.0
            if not np.isfinite(edge):  # one value for all of them
                continue
            side = values <= edge if test.statistic_sign > 0 else values > edge
            counts = (int((~passed & side).sum()), int(side.sum()), int((~passed & ~side).sum()), int((~side).sum()))
            fails = "below" if test.statistic_sign > 0 else "above"
            p = float(test.pvalue)
            found.append((p, Edge(str(controller), quantity, unit, edge, fails, *counts, p)))
    corrected = holm([p for p, _ in found])
    made = [Edge(**{**vars(edge), "p": p}) for (_, edge), p in zip(found, corrected, strict=True)]
    return sorted(made, key=lambda edge: edge.p)
