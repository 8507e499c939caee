"""Signed ranks: intervals and tests of paired differences that ask for no distribution. inf is the largest rank there
is.

Sources: F. Wilcoxon, "Individual comparisons by ranking methods", Biometrics Bulletin 1(6), 1945; J. L. Hodges, E. L.
Lehmann, "Estimates of location based on rank tests", Ann. Math. Statist. 34(2), 1963; S. Holm, "A simple sequentially
rejective multiple test procedure", Scand. J. Statist. 6(2), 1979.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import cache

import numpy as np

from veldrain.pose import Array

LEVEL = 0.95
EXACT = 50  # pairs up to which distributions are exact; beyond, the normal limit
LISTED = 1000  # pairs up to which all means of two are listed; beyond, they are counted


def finite(differences: Array) -> tuple[Array, float]:
    """Differences with a number for what is infinite that no mean of two finite ones comes near, and that number."""
    known = np.abs(differences[np.isfinite(differences)])
    large = 1e9 * max(float(known.max(initial=0.0)), 1e-200)
    return np.clip(differences, -large, large), large


def told(value: float, large: float) -> float:
    """A number as it was before ``finite``."""
    return math.copysign(math.inf, value) if abs(value) > large / 4 else value


@cache
def rank_of_end(n: int, level: float = LEVEL) -> int:
    """How many of the sorted means of all two pairs lie outside of the interval at each end (0: no interval holds).

    The number of them below the true median has the distribution of the signed-rank statistic (Hodges and Lehmann).
    """
    from scipy.special import ndtri

    top = n * (n + 1) // 2
    if n > EXACT:
        spread = math.sqrt(n * (n + 1) * (2 * n + 1) / 24)
        return int(top / 2 - float(ndtri(0.5 + level / 2)) * spread)
    below = np.cumsum(_ways(tuple(range(1, n + 1)))) / 2.0**n
    return int((below <= (1 - level) / 2).sum())


@cache
def _ways(ranks: tuple[int, ...]) -> Array:
    """In how many ways a sum of some of these ranks comes about, by the sum."""
    ways = np.zeros(sum(ranks) + 1)
    ways[0] = 1.0
    for rank in ranks:
        ways[rank:] += ways[:-rank].copy()
    return ways


def median_interval(differences: Array, level: float = LEVEL) -> tuple[float, float, float]:
    """Pseudo-median of paired differences (the median of the means of all two of them) and its interval, by signed
    ranks.

    nan for an interval that cannot hold with so few. It holds whether or not differences are normally distributed.

    >>> [round(x, 2) for x in median_interval(np.array([1.0, 2, 3, 4, 5, 6]))]
    [3.5, 1.0, 6.0]
    """
    n = len(differences)
    if n == 0:
        return math.nan, math.nan, math.nan
    known, large = finite(differences)
    outside = rank_of_end(n, level)
    at = _listed(known) if n <= LISTED else _counted(known)
    top = n * (n + 1) // 2
    middle = told((at((top - 1) // 2) + at(top // 2)) / 2, large)
    if outside == 0:
        return middle, math.nan, math.nan
    return middle, told(at(outside - 1), large), told(at(top - outside), large)


def _listed(values: Array) -> Callable[[int], float]:
    """What gives the k-th smallest mean of two, of all of them in a row."""
    row, column = np.triu_indices(len(values))
    means = np.sort((values[row] + values[column]) / 2)
    return lambda k: float(means[k])


def _counted(values: Array) -> Callable[[int], float]:
    """The same by bisection on how many are not larger: n²/2 means of 50,000 values would take 10 GB."""
    ordered = np.sort(values)
    places = np.arange(len(ordered))

    def at(k: int) -> float:
        low, high = float(ordered[0]), float(ordered[-1])
        for _ in range(200):
            middle = (low + high) / 2
            if middle in (low, high):
                break
            count = np.maximum(np.searchsorted(ordered, 2 * middle - ordered, "right") - places, 0).sum()
            low, high = (low, middle) if count > k else (middle, high)
        return high

    return at


def signed_ranks_p(differences: Array) -> tuple[float, float]:
    """One-sided p of the signed-rank test: that differences so large, and that so small ones, come by chance.

    Exact up to 50 pairs, ties and all, by counting the sums of the ranks that there are; beyond, the normal limit.
    What is zero is left out, as Wilcoxon did.
    """
    from scipy.special import ndtr
    from scipy.stats import rankdata

    d = finite(differences[differences != 0])[0]
    if not len(d):
        return 1.0, 1.0
    ranks = rankdata(np.abs(d))
    above = float(ranks[d > 0].sum())
    if len(d) > EXACT:
        middle, spread = ranks.sum() / 2, math.sqrt(float((ranks**2).sum()) / 4)
        return float(ndtr((middle - above + 0.5) / spread)), float(ndtr((above - middle + 0.5) / spread))
    twice = np.rint(2 * ranks).astype(int)  # ties have halves of ranks
    ways = _ways(tuple(sorted(twice.tolist()))) / 2.0 ** len(d)
    k = round(2 * above)
    return min(1.0, float(ways[k:].sum())), min(1.0, float(ways[: k + 1].sum()))


def signed_rank_p(differences: Array) -> float:
    """Two-sided p of the signed-rank test; 1 where no pair differs."""
    return min(1.0, 2 * min(signed_ranks_p(differences)))


def beyond_p(differences: Array, matters: float) -> float:
    """Two-sided p of the test that the pseudo-median lies within ±``matters``: small where it lies beyond."""
    return min(1.0, 2 * min(signed_ranks_p(differences - matters)[0], signed_ranks_p(differences + matters)[1]))


def within_p(differences: Array, matters: float) -> float:
    """p of the two one-sided tests that the pseudo-median lies beyond ±``matters``: small where it lies within.

    D. J. Schuirmann, J. Pharmacokin. Biopharm. 15(6), 1987.
    """
    return max(signed_ranks_p(differences - matters)[1], signed_ranks_p(differences + matters)[0])


def holm(values: Sequence[float]) -> list[float]:
    """p-values corrected for their number; nan stays and does not count.

    >>> holm([0.01, 0.04])
    [0.02, 0.04]
    """
    known = sorted((p, k) for k, p in enumerate(values) if p == p)
    found, least = [math.nan] * len(values), 0.0
    for rank, (p, k) in enumerate(known):
        least = max(least, min(1.0, p * (len(known) - rank)))
        found[k] = least
    return found
