"""How many pairs it takes: for a verdict at the difference that was seen, at one that matters, for an interval.

G. E. Noether, "Sample size determination for some common nonparametric tests", J. Am. Stat. Assoc. 82(398), 1987.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.pose import Array
from veldrain.study.contracts import Results
from veldrain.study.metrics import smallest_of
from veldrain.study.ranks import LEVEL, finite, median_interval
from veldrain.study.statistics import FEWEST, differences_of
from veldrain.units import Quantity

if TYPE_CHECKING:
    import pandas as pd


RESAMPLED = 200  # times, for the uncertainty
MOST = 400  # differences that are looked at: pairs of them are listed


@dataclass(frozen=True)
class Needed:
    """Pairs that it takes.

    Attributes:
        controller, metric: of which comparison.
        what: for what.
        pairs: how many; inf: no number will do.
        low, high: 90 % interval of that number, by resampling the pairs that there are.
    """

    controller: str
    metric: str
    what: str
    pairs: float
    low: float
    high: float


def needed_of(result: Results, metric: str, power: float, width: Quantity | None, baseline: str | None) -> pd.DataFrame:
    """See ``Result.needed``."""
    import pandas as pd

    told, first = result.metric(metric), baseline or result.about["controllers"][0]
    wide = result.trials[~result.trials["failed"]].pivot(index="trial", columns="controller", values=metric)
    if first not in wide:
        raise unknown("controller", first, result.about["controllers"], str(result.folder))
    wanted = None if width is None else smallest_of(width, told["unit"], metric)
    rows = []
    for other in [c for c in wide if c != first]:
        both = wide[[first, other]].dropna()
        if len(both) < FEWEST:
            raise VeldrainError(
                f"{len(both)} pairs tell nothing of their spread", where=metric, cure=f"run {FEWEST} or more"
            )
        d = differences_of(both[first], both[other])
        rows += needed_for(d, str(other), metric, told["unit"], float(told["matters"]), power, wanted)
    return pd.DataFrame([vars(row) for row in rows])


def needed_for(
    differences: Array, controller: str, metric: str, unit: str, matters: float, power: float, width: float | None
) -> list[Needed]:
    """All numbers of pairs for one comparison: differences in the metric's unit."""
    d = finite(differences)[0]
    random = np.random.default_rng(0)
    d = random.choice(d, MOST, replace=False) if len(d) > MOST else d
    samples = [d, *(random.choice(d, len(d)) for _ in range(RESAMPLED))]
    middle = median_interval(d)[0]
    beyond = math.copysign(matters, middle)
    shown = f"{power:.0%}".replace("%", " %")
    asked = {f"to tell the difference that was seen ({shown} power)": [_pairs(s - beyond, power) for s in samples]}
    if matters > 0:
        asked[f"to tell a difference of {matters:g} {unit}".rstrip() + f" from none ({shown} power)"] = [
            _pairs(s - median_interval(s)[0] + matters, power) for s in samples
        ]
    wanted = width if width is not None else matters
    if wanted > 0:
        asked[f"for an interval of ±{wanted:g} {unit}".rstrip()] = [_for_width(s, wanted) for s in samples]
    return [
        Needed(
            controller,
            metric,
            what,
            found[0],
            float(np.quantile(found, 0.05, method="lower")),
            float(np.quantile(found, 0.95, method="higher")),
        )
        for what, found in asked.items()
    ]


def _pairs(d: Array, power: float) -> float:
    """Pairs with which the signed-rank test finds such differences, which are not zero in the middle."""
    from scipy.special import ndtri

    row, column = np.triu_indices(len(d), 1)
    sums = d[row] + d[column]
    share = float((sums > 0).mean() + (sums == 0).mean() / 2) if len(sums) else 0.5
    if share == 0.5:
        return math.inf
    z = float(ndtri(0.5 + LEVEL / 2) + ndtri(power))
    return float(max(FEWEST, math.ceil(z**2 / (3 * (share - 0.5) ** 2))))


def _for_width(d: Array, width: float) -> float:
    _, low, high = median_interval(d)
    if math.isnan(low):
        return math.nan
    return float(max(FEWEST, math.ceil(len(d) * ((high - low) / 2 / width) ** 2)))
