"""Paired comparison of controllers: passes first, then differences, their intervals, tests and verdicts."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.pose import Array
from veldrain.study.ranks import LEVEL, beyond_p, holm, median_interval, signed_rank_p, within_p

if TYPE_CHECKING:
    import pandas as pd

FEWEST = 6  # pairs: with less no test of ranks can reach 5 %
NOISE = 1e-9  # of the values' size: a difference below is rounding, and counts as none
UNCLEAR = "cannot tell"
TOO_FEW = f"{UNCLEAR}: too few pairs, {'six' if FEWEST == 6 else FEWEST} at least"
BY_CHANCE = f"{UNCLEAR}: clear alone, not among so many comparisons"
SAME = "the same in every pair"
MIXED = "mixed"
__all__ = ["Comparison", "Difference", "PassRate", "compare", "holm", "median_interval", "signed_rank_p"]


@dataclass(frozen=True)
class Difference:
    """One controller against the baseline in one metric.

    Attributes:
        pairs: trials in which both have a value. A trial that was aborted has none; inf is a value.
        lost_baseline, lost_other: trials that only the other of the two has a value in.
        baseline, other: means over these pairs.
        difference: the pseudo-median of other − baseline (Hodges and Lehmann's: the median of the means of all two
            differences); low and high are its 95 % interval from the signed ranks, which holds whether or not
            differences are normally distributed. nan with fewer than six pairs.
        mean: of other − baseline.
        skewed: True where the mean lies outside of the interval: a few trials make the mean.
        p: two-sided, of the test that the pseudo-median lies within ±matters (Wilcoxon's signed-rank test, exact for
            few pairs); with matters 0, that it is 0.
        p_holm: the same, corrected for the number of comparisons (Holm), those of passes included: that one of all is
            found by chance has at most this probability. nan where there is nothing to test.
        p_equal: of the two one-sided tests that it lies beyond ±matters, corrected likewise; nan with matters 0.
        verdict: ``better`` or ``worse`` where the whole interval lies beyond ±matters and p_holm is below 5 %;
            ``equal within …`` where it lies inside and p_equal is below 5 %; ``mixed: …`` where the mean points the
            other way; else ``cannot tell``, and why. Of lost pairs, each counts as the worst for who lost it: a
            verdict that does not stand so is none.
        better: which way is better, ``lower`` or ``higher``.
        matters: the smallest difference that matters.
        level: of the interval and of the tests; above 95 % where a study was looked at more than once.
    """

    metric: str
    unit: str
    controller: str
    pairs: int = 0
    lost_baseline: int = 0
    lost_other: int = 0
    baseline: float = math.nan
    other: float = math.nan
    difference: float = math.nan
    low: float = math.nan
    high: float = math.nan
    mean: float = math.nan
    skewed: bool = False
    p: float = math.nan
    p_holm: float = math.nan
    verdict: str = ""
    p_equal: float = math.nan
    better: str = "lower"
    matters: float = 0.0
    level: float = LEVEL


@dataclass(frozen=True)
class PassRate:
    """How many trials a controller passed, and how that compares with the baseline.

    Attributes:
        low, high: Wilson's 95 % interval of the rate.
        p: against the baseline: exact McNemar test on the pairs that differ; nan for the baseline.
        p_holm: corrected for the number of comparisons, those of metrics included.
        difference: of the rates, over the pairs of both; change_low and change_high are its 95 % interval (D. G.
            Bonett, R. M. Price, J. Educ. Behav. Stat. 37(4), 2012).
        won, lost: trials that it passed and the baseline did not, and the other way round.
        verdict: ``better``, ``worse``, ``the same in every pair`` or ``cannot tell``; "" for the baseline.
    """

    controller: str
    passed: int
    trials: int
    low: float
    high: float
    p: float
    p_holm: float = math.nan
    difference: float = math.nan
    change_low: float = math.nan
    change_high: float = math.nan
    won: tuple[int, ...] = ()
    lost: tuple[int, ...] = ()
    verdict: str = ""


@dataclass(frozen=True)
class Comparison:
    """Controllers compared with a baseline over the same trials.

    Attributes:
        copies: numbers of trials that are others again to the last bit; they are left out.
        tests: how many p-values were corrected for: those that can be small at all.
        pairs: the differences that were used, by metric and controller.
    """

    baseline: str
    differences: list[Difference]
    passes: list[PassRate]
    copies: tuple[int, ...] = ()
    tests: int = 0
    pairs: Mapping[tuple[str, str], Array] = field(default_factory=dict, repr=False)

    @property
    def table(self) -> pd.DataFrame:
        """The differences, a row each."""
        import pandas as pd

        return pd.DataFrame([vars(d) for d in self.differences])

    def __str__(self) -> str:
        words = [
            "metric",
            "unit",
            "controller",
            "pairs",
            "baseline",
            "other",
            "difference",
            "low",
            "high",
            "mean",
            "p_holm",
            "verdict",
        ]
        passes = "\n".join(
            f"{r.controller}: {r.passed} of {r.trials} passed" + (f" ({r.verdict})" if r.verdict else "")
            for r in self.passes
        )
        return f"{passes}\n{self.table[words].to_string(index=False) if self.differences else ''}".rstrip()

    def _repr_html_(self) -> str:
        """Passes and differences as tables, for notebooks."""
        import pandas as pd

        passes = pd.DataFrame([vars(r) for r in self.passes])
        return passes.to_html(index=False) + self.table.to_html(index=False)


def compare(
    trials: pd.DataFrame,
    metrics: Sequence[tuple[str, str, str]],
    baseline: str,
    matters: Mapping[str, float] | None = None,
    *,
    correct: str = "holm",
    level: float = LEVEL,
) -> Comparison:
    """Compare all controllers in a table of trials with one of them.

    Args:
        trials: columns controller, trial, passed, failed, and one for each metric.
        metrics: name, unit, and ``lower`` or ``higher`` for what is better.
        baseline: name of a controller.
        matters: smallest difference of a metric that matters, by its name.
        correct: ``holm``, or ``none``.
        level: of intervals and tests.

    Raises:
        VeldrainError: an unknown controller, or no other to compare with.
    """
    if correct not in ("holm", "none"):
        raise unknown("correction", correct, ("holm", "none"), "compare")
    controllers = list(dict.fromkeys(trials["controller"]))
    if baseline not in controllers:
        raise unknown("controller", baseline, controllers, "compare")
    others = [c for c in controllers if c != baseline]
    if not others:
        raise VeldrainError("only one controller", where="compare", cure="a study compares two or more")
    copies = copies_of(trials, [name for name, *_ in metrics])
    trials = trials[~trials["trial"].isin(copies)]
    passes = _pass_rates(trials, controllers, baseline, level)
    found: list[tuple[Difference, Array]] = []
    for name, unit, better in metrics:
        values = _values(trials, name)
        for other in others:
            smallest = (matters or {}).get(name, 0.0)
            asked = Difference(name, unit, other, better=better, matters=smallest, level=level)
            found.append(_difference(values[baseline], values[other], asked))
    rows = [d for d, _ in found]
    tested = [len(r.won) + len(r.lost) >= FEWEST for r in passes] + [(pairs != 0).sum() >= FEWEST for _, pairs in found]
    p_all = _corrected([r.p for r in passes] + [d.p for d in rows], tested, correct)
    p_equal = _corrected([d.p_equal for d in rows], [d.pairs >= FEWEST for d in rows], correct)
    passes = [_judged(r, p, level) for r, p in zip(passes, p_all[: len(passes)], strict=True)]
    judged = []
    for (d, pairs), p, equal in zip(found, p_all[len(passes) :], p_equal, strict=True):
        whole = replace(d, p_holm=p, p_equal=equal)
        judged.append(replace(whole, verdict=_verdict(whole, pairs)))
    used = {(d.metric, d.controller): pairs[: d.pairs] for d, pairs in found}
    return Comparison(baseline, judged, passes, tuple(copies), sum(tested), used)


def _corrected(values: Sequence[float], tested: Sequence[bool], correct: str) -> list[float]:
    """p-values corrected for the number of those that can be small at all (R. E. Tarone, Biometrics 46, 1990)."""
    if correct == "none":
        return list(values)
    found = holm([p if can else math.nan for p, can in zip(values, tested, strict=True)])
    return [h if can else p for h, p, can in zip(found, values, tested, strict=True)]


def copies_of(trials: pd.DataFrame, metrics: Sequence[str]) -> list[int]:
    """Numbers of trials in which all went as in an earlier one, to the last bit, with every controller.

    They are told by ``end``, a digest of where all that moves was; metrics have to be the same as well.
    """
    if "end" not in trials or trials.empty:
        return []
    columns = ["end", "passed", *[m for m in metrics if m in trials]]
    keys = trials.assign(**{m: trials[m].astype(str) for m in columns[1:]}).pivot(
        index="trial", columns="controller", values=columns
    )
    is_known = (keys["end"].notna() & (keys["end"] != "")).to_numpy(bool)
    known = keys[is_known.reshape(len(keys), -1).all(axis=1)]
    return [int(t) for t in known.index[known.duplicated()]]


def _values(trials: pd.DataFrame, metric: str) -> pd.DataFrame:
    """A metric by trial and controller; a trial that was aborted has no value, whatever was measured until then."""
    values = trials[metric].astype(float)
    own = trials.assign(value=values.mask(trials["failed"].astype(bool)) if "failed" in trials else values)
    return own.pivot(index="trial", columns="controller", values="value")


def differences_of(a: Any, b: Any) -> Array:
    """Differences b − a of pairs; those that are rounding are 0, and so are two that are infinite alike."""
    x, y = np.asarray(a, float), np.asarray(b, float)
    with np.errstate(invalid="ignore"):
        d = np.where(x == y, 0.0, y - x)
        d[np.abs(d) <= NOISE * np.maximum(np.abs(x), np.abs(y)) * np.isfinite(d)] = 0.0
    return d


def _mean(values: Array) -> float:
    with np.errstate(invalid="ignore"):
        return float(values.mean()) if len(values) else math.nan


def _difference(a: Any, b: Any, d: Difference) -> tuple[Difference, Array]:
    """A comparison with its numbers, and its pairs: those with a value, then lost ones as the worst for who lost."""
    both = a.notna() & b.notna()
    x, y = a[both].to_numpy(float), b[both].to_numpy(float)
    pairs = differences_of(x, y)
    middle, low, high = median_interval(pairs, d.level)
    lost_baseline, lost_other = int((a.isna() & b.notna()).sum()), int((a.notna() & b.isna()).sum())
    worst = math.inf if d.better == "lower" else -math.inf
    some = bool(len(pairs))
    whole = replace(
        d,
        pairs=len(pairs),
        lost_baseline=lost_baseline,
        lost_other=lost_other,
        baseline=_mean(x),
        other=_mean(y),
        difference=middle,
        low=low,
        high=high,
        mean=_mean(pairs),
        p=beyond_p(pairs, d.matters) if some else math.nan,
        p_equal=within_p(pairs, d.matters) if some and d.matters > 0 else math.nan,
    )
    whole = replace(whole, skewed=bool(low == low and not low <= whole.mean <= high))
    return whole, np.concatenate([pairs, np.full(lost_other, worst), np.full(lost_baseline, -worst)])


def _verdict(d: Difference, with_lost: Array) -> str:
    """What a difference comes to: pairs first, then the interval, then chance, then the mean and what was lost."""
    if d.pairs < FEWEST:
        return TOO_FEW
    pairs = with_lost[: d.pairs]
    if not pairs.any():
        return SAME if d.matters == 0 else f"equal within {_with_unit(d.matters, d.unit)}"
    found = _side(d.low, d.high, d)
    if not found or (found != "equal" and not d.p < 1 - d.level):
        return UNCLEAR
    if not (d.p_equal if found == "equal" else d.p_holm) < 1 - d.level:
        return BY_CHANCE
    lost = d.lost_baseline + d.lost_other
    if lost:
        _, low, high = median_interval(with_lost, d.level)
        p = within_p(with_lost, d.matters) if found == "equal" else beyond_p(with_lost, d.matters)
        if _side(low, high, d) != found or not p < 1 - d.level:
            were = "was" if lost == 1 else "were"
            return f"{UNCLEAR}: {found} in the {d.pairs} pairs that both finished, and {lost} {were} lost"
    if found == "equal":
        return f"equal within {_with_unit(d.matters, d.unit)}"
    if d.mean * d.difference < 0:
        other = "worse" if found == "better" else "better"
        return f"{MIXED}: {found} in most pairs, {other} on average"
    return found


def _side(low: float, high: float, d: Difference) -> str:
    """Where an interval lies: ``better``, ``worse``, ``equal``; "" where it does not say."""
    if low > d.matters or high < -d.matters:
        return "better" if (high < 0) == (d.better == "lower") else "worse"
    return "equal" if d.matters > 0 and -d.matters < low and high < d.matters else ""


def _with_unit(value: float, unit: str) -> str:
    return f"{value:g} {unit}".rstrip()


def _pass_rates(trials: Any, controllers: Sequence[str], baseline: str, level: float) -> list[PassRate]:
    from scipy import stats

    passed = trials.assign(passed=trials["passed"].astype(float)).pivot(
        index="trial", columns="controller", values="passed"
    )
    found = []
    for name in controllers:
        own = passed[name].dropna()
        count, n = int(own.sum()), len(own)
        interval = stats.binomtest(count, n).proportion_ci(level, method="wilson")
        rate = PassRate(name, count, n, float(interval.low), float(interval.high), math.nan)
        if name != baseline:
            both = passed[[baseline, name]].dropna()
            won = [int(t) for t in both.index[both[name] > both[baseline]]]
            lost = [int(t) for t in both.index[both[name] < both[baseline]]]
            change = change_of_passes(len(won), len(lost), len(both), level)
            differ = len(won) + len(lost)
            p = float(stats.binomtest(len(won), differ).pvalue) if differ else 1.0
            rate = replace(
                rate,
                p=p,
                difference=change[0],
                change_low=change[1],
                change_high=change[2],
                won=tuple(won),
                lost=tuple(lost),
            )
        found.append(rate)
    return found


def change_of_passes(won: int, lost: int, pairs: int, level: float = LEVEL) -> tuple[float, float, float]:
    """The difference of two paired rates and its 95 % interval (Bonett and Price).

    >>> [round(x, 2) for x in change_of_passes(28, 0, 40)]
    [0.7, 0.51, 0.82]
    """
    from scipy.special import ndtri

    if not pairs:
        return math.nan, math.nan, math.nan
    up, down = (won + 1) / (pairs + 2), (lost + 1) / (pairs + 2)
    reach = float(ndtri(0.5 + level / 2)) * math.sqrt(max(up + down - (up - down) ** 2, 0.0) / (pairs + 2))
    return (won - lost) / pairs, max(up - down - reach, -1.0), min(up - down + reach, 1.0)


def _judged(rate: PassRate, p: float, level: float) -> PassRate:
    """A rate with its verdict."""
    if math.isnan(rate.p):
        return rate
    if p < 1 - level:
        verdict = "better" if rate.difference > 0 else "worse"
    elif not rate.won and not rate.lost:
        verdict = SAME
    else:
        verdict = BY_CHANCE if rate.p < 1 - level else UNCLEAR
    return replace(rate, p_holm=p, verdict=verdict)
