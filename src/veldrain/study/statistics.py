"""Paired comparison of controllers: differences, intervals, tests."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.pose import Array

if TYPE_CHECKING:
    import pandas as pd

LEVEL = 0.95
FEWEST = 6  # pairs: with less no test of ranks can reach 5 %
NOISE = 1e-9  # of the values' size: a difference below is rounding, and counts as none
TOO_FEW = f"too few pairs, {'six' if FEWEST == 6 else FEWEST} at least"
UNCLEAR = "no clear difference"
BY_CHANCE = "clear alone, not among so many comparisons"


@dataclass(frozen=True)
class Difference:
    """One controller against the baseline in one metric.

    Attributes:
        pairs: trials in which both have a value. A trial that was aborted has none.
        lost_baseline, lost_other: trials that only the other of the two has a value in.
        baseline, other: means over these pairs.
        difference: median of other − baseline (Hodges and Lehmann's: of the means of all two pairs); low and high are
            its 95 % interval from the signed ranks, which holds whether or not differences are normally distributed.
            nan with fewer than six pairs.
        mean: of other − baseline.
        skewed: True where the mean lies outside of the interval: a few trials make the mean.
        p: two-sided, Wilcoxon's signed-rank test (exact for few pairs).
        p_holm: the same, corrected for the number of comparisons (Holm): that one of all is found by chance has at most
            this probability. nan where there is nothing to test.
        verdict: ``better`` or ``worse`` where p_holm is below 5 %, the interval leaves zero out, and the difference is
            one that matters; else why there is none.
    """

    metric: str
    unit: str
    controller: str
    pairs: int
    lost_baseline: int
    lost_other: int
    baseline: float
    other: float
    difference: float
    low: float
    high: float
    mean: float
    skewed: bool
    p: float
    p_holm: float
    verdict: str


@dataclass(frozen=True)
class PassRate:
    """How many trials a controller passed, with Wilson's 95 % interval of the rate."""

    controller: str
    passed: int
    trials: int
    low: float
    high: float
    p: float  # against the baseline: exact McNemar test on the pairs that differ; nan for the baseline


@dataclass(frozen=True)
class Comparison:
    """Controllers compared with a baseline over the same trials."""

    baseline: str
    differences: list[Difference]
    passes: list[PassRate]

    @property
    def table(self) -> pd.DataFrame:
        """The differences, a row each."""
        import pandas as pd

        return pd.DataFrame([vars(d) for d in self.differences])


@cache
def _rank_of_end(n: int) -> int:
    """How many of the sorted means of all two pairs lie outside of the interval at each end (0: no interval holds).

    The number of them below the true median has the distribution of the signed-rank statistic (J. L. Hodges,
    E. L. Lehmann, "Estimates of location based on rank tests", Ann. Math. Statist. 34(2), 1963).
    """
    from scipy import stats

    top = n * (n + 1) // 2
    if n > 50:
        spread = math.sqrt(n * (n + 1) * (2 * n + 1) / 24)
        return int(top / 2 - stats.norm.ppf(0.5 + LEVEL / 2) * spread)
    ways = np.zeros(top + 1)
    ways[0] = 1.0
    for rank in range(1, n + 1):
        ways[rank:] += ways[:-rank].copy()
    below = np.cumsum(ways) / 2.0**n
    return int((below <= (1 - LEVEL) / 2).sum())


def median_interval(differences: Array) -> tuple[float, float, float]:
    """Median of paired differences and its 95 % interval, by signed ranks; nan for an interval that cannot hold.

    >>> [round(x, 2) for x in median_interval(np.array([1.0, 2, 3, 4, 5, 6]))]
    [3.5, 1.0, 6.0]
    """
    n = len(differences)
    if n == 0:
        return math.nan, math.nan, math.nan
    row, column = np.triu_indices(n)
    means = np.sort((differences[row] + differences[column]) / 2)
    outside = _rank_of_end(n)
    if outside == 0:
        return float(np.median(means)), math.nan, math.nan
    return float(np.median(means)), float(means[outside - 1]), float(means[-outside])


def signed_rank_p(differences: Array) -> float:
    """Two-sided p of the signed-rank test; 1 where no pair differs.

    F. Wilcoxon, "Individual comparisons by ranking methods", Biometrics Bulletin 1(6), 1945.
    """
    from scipy import stats

    differs = differences[differences != 0]
    return float(stats.wilcoxon(differs).pvalue) if len(differs) else 1.0


def holm(values: Sequence[float]) -> list[float]:
    """p-values corrected for their number; nan stays and does not count.

    S. Holm, "A simple sequentially rejective multiple test procedure", Scand. J. Statist. 6(2), 1979.

    >>> holm([0.01, 0.04])
    [0.02, 0.04]
    """
    known = sorted((p, k) for k, p in enumerate(values) if p == p)
    found, least = [math.nan] * len(values), 0.0
    for rank, (p, k) in enumerate(known):
        least = max(least, min(1.0, p * (len(known) - rank)))
        found[k] = least
    return found


def compare(
    trials: pd.DataFrame,
    metrics: Sequence[tuple[str, str, str]],
    baseline: str,
    matters: Mapping[str, float] | None = None,
) -> Comparison:
    """Compare all controllers in a table of trials with one of them.

    Args:
        trials: columns controller, trial, passed, failed, and one for each metric.
        metrics: name, unit, and ``lower`` or ``higher`` for what is better.
        baseline: name of a controller.
        matters: smallest difference of a metric that matters, by its name.

    Raises:
        VeldrainError: an unknown controller, or no other to compare with.
    """
    controllers = list(dict.fromkeys(trials["controller"]))
    if baseline not in controllers:
        raise unknown("controller", baseline, controllers, "compare")
    others = [c for c in controllers if c != baseline]
    if not others:
        raise VeldrainError("only one controller", where="compare", cure="a study compares two or more")
    passes = _pass_rates(trials, controllers, baseline)
    passed = {r.controller: r.passed for r in passes}
    differences, ways = [], []
    for name, unit, better in metrics:
        values = _values(trials, name)
        for other in others:
            smallest = (matters or {}).get(name, 0.0)
            differences.append(_difference(values[baseline], values[other], name, unit, other, smallest))
            ways.append((better, smallest, passed[other] - passed[baseline]))
    corrected = holm([d.p if d.pairs >= FEWEST else math.nan for d in differences])
    judged = [
        replace(d, p_holm=p, verdict=_verdict(replace(d, p_holm=p), *way))
        for d, p, way in zip(differences, corrected, ways, strict=True)
    ]
    return Comparison(baseline, judged, passes)


def _values(trials: pd.DataFrame, metric: str) -> pd.DataFrame:
    """A metric by trial and controller; a trial that was aborted has no value, whatever was measured until then."""
    values = trials[metric].astype(float)
    own = trials.assign(value=values.mask(trials["failed"].astype(bool)) if "failed" in trials else values)
    return own.pivot(index="trial", columns="controller", values="value")


def _difference(a: Any, b: Any, metric: str, unit: str, other: str, matters: float) -> Difference:
    both = a.notna() & b.notna()
    x, y = a[both].to_numpy(float), b[both].to_numpy(float)
    d = y - x
    d[np.abs(d) <= NOISE * np.maximum(np.abs(x), np.abs(y))] = 0.0
    middle, low, high = median_interval(d)
    means = (float(x.mean()), float(y.mean()), float(d.mean())) if len(d) else (math.nan,) * 3
    has_interval = low == low
    return Difference(
        metric,
        unit,
        other,
        len(d),
        int((a.isna() & b.notna()).sum()),
        int((a.notna() & b.isna()).sum()),
        means[0],
        means[1],
        middle,
        low,
        high,
        means[2],
        bool(has_interval and not low <= means[2] <= high),
        signed_rank_p(d) if len(d) else math.nan,
        math.nan,
        "",
    )


def _verdict(d: Difference, better: str, matters: float, more_passes: int) -> str:
    """What a difference comes to: passes first, then pairs, then chance, then size."""
    if d.pairs < FEWEST:
        return TOO_FEW
    if not (d.low > 0 or d.high < 0) or d.p >= 1 - LEVEL:
        return UNCLEAR
    if d.p_holm >= 1 - LEVEL:
        return BY_CHANCE
    if abs(d.difference) <= matters:
        return f"no difference that matters (less than {matters:g}{' ' + d.unit if d.unit else ''})"
    if (d.difference < 0) != (better == "lower"):
        return "worse"
    if d.lost_other > d.lost_baseline or more_passes < 0:
        return "not better: it fails trials that the baseline passes"
    return "better"


def _pass_rates(trials: Any, controllers: Sequence[str], baseline: str) -> list[PassRate]:
    from scipy import stats

    passed = trials.assign(passed=trials["passed"].astype(float)).pivot(
        index="trial", columns="controller", values="passed"
    )
    found = []
    for name in controllers:
        own = passed[name].dropna()
        count, n = int(own.sum()), len(own)
        interval = stats.binomtest(count, n).proportion_ci(LEVEL, method="wilson")
        p = math.nan
        if name != baseline:
            both = passed[[baseline, name]].dropna()
            won = int((both[name] > both[baseline]).sum())
            lost = int((both[name] < both[baseline]).sum())
            p = float(stats.binomtest(won, won + lost).pvalue) if won + lost else 1.0
        found.append(PassRate(name, count, n, float(interval.low), float(interval.high), p))
    return found
