"""Paired comparison of controllers: differences, intervals, tests."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy import stats

from veldrain.errors import VeldrainError, unknown
from veldrain.pose import Array

if TYPE_CHECKING:
    import pandas as pd

LEVEL = 0.95


@dataclass(frozen=True)
class Difference:
    """One controller against the baseline in one metric.

    Attributes:
        pairs: trials in which both have a value.
        baseline, other: means over these pairs.
        difference: mean of other − baseline; low and high are its 95 % interval (Student's t on the
            differences of the pairs). nan with fewer than two pairs.
        p: two-sided, Wilcoxon's signed-rank test (exact for few pairs); nan where there is nothing to test.
        verdict: better or worse where the interval leaves zero out and p is below 5 %, so that neither a
            normal distribution nor five lucky pairs are taken on trust; else "no clear difference".
    """

    metric: str
    unit: str
    controller: str
    pairs: int
    baseline: float
    other: float
    difference: float
    low: float
    high: float
    p: float
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


def paired_difference(baseline: Array, other: Array) -> tuple[float, float, float, float]:
    """Mean of other − baseline over pairs, its 95 % interval, and the p of the signed-rank test.

    Student's t interval; F. Wilcoxon, "Individual comparisons by ranking methods", Biometrics Bulletin 1(6),
    1945. Pairs in which either is nan have to be left out before.

    >>> [round(x, 2) for x in paired_difference(np.array([1.0, 2, 3]), np.array([2.0, 3.5, 4]))[:3]]
    [1.17, 0.45, 1.88]
    """
    d = other - baseline
    n = len(d)
    mean = float(d.mean()) if n else math.nan
    if n < 2:
        return mean, math.nan, math.nan, math.nan
    half = float(stats.t.ppf(0.5 + LEVEL / 2, n - 1) * d.std(ddof=1) / math.sqrt(n))
    p = float(stats.wilcoxon(d).pvalue) if np.any(d != 0) else 1.0
    return mean, mean - half, mean + half, p


def compare(trials: pd.DataFrame, metrics: Sequence[tuple[str, str, str]], baseline: str) -> Comparison:
    """Compare all controllers in a table of trials with one of them.

    Args:
        trials: columns controller, trial, passed, and one for each metric.
        metrics: name, unit, and ``lower`` or ``higher`` for what is better.
        baseline: name of a controller.

    Raises:
        VeldrainError: an unknown controller, or no other to compare with.
    """
    controllers = list(dict.fromkeys(trials["controller"]))
    if baseline not in controllers:
        raise unknown("controller", baseline, controllers, "compare")
    others = [c for c in controllers if c != baseline]
    if not others:
        raise VeldrainError("only one controller", where="compare", cure="a study compares two or more")
    by_trial = trials.pivot_table(index="trial", columns="controller", values=[m[0] for m in metrics], dropna=False)
    differences = []
    for name, unit, better in metrics:
        for other in others:
            pair = by_trial[[(name, baseline), (name, other)]].dropna()
            a, b = pair.to_numpy(float).T
            mean, low, high, p = paired_difference(a, b)
            verdict = "no clear difference"
            if (low > 0 or high < 0) and p < 1 - LEVEL:
                verdict = "better" if (mean < 0) == (better == "lower") else "worse"
            means = (float(a.mean()), float(b.mean())) if len(pair) else (math.nan, math.nan)
            differences.append(Difference(name, unit, other, len(pair), *means, mean, low, high, p, verdict))
    return Comparison(baseline, differences, _pass_rates(trials, controllers, baseline))


def _pass_rates(trials: Any, controllers: Sequence[str], baseline: str) -> list[PassRate]:
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
