"""Looks at a study while it grows, without more false alarms: it ends as soon as it can tell, or at its last trial.

Looks are taken at set numbers of trials. The level of each is such that the chance of a false alarm at any of them is
5 % in all (S. J. Pocock, "Group sequential methods in the design and analysis of clinical trials", Biometrika 64(2),
1977); the signed-rank statistic at the looks goes as a Brownian motion does.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.study.ranks import LEVEL

FIRST = 8  # trials at the first look
GROWTH = 1.5  # from one look to the next
WALKS = 200_000


@dataclass(frozen=True)
class Until:
    """When a study may end: at a verdict in a metric, or at an interval that is narrow enough.

    Attributes:
        metric: its name, or ``passes``.
        width: half of the interval's width in the metric's unit, as a number or with its own; None: a verdict.
    """

    metric: str
    width: float | str | None = None

    @classmethod
    def of(cls, words: str | tuple[str, float | str] | Until) -> Until:
        """Out of ``"offset"``, ``"offset within 1 cm"`` or ``("offset", "1 cm")``.

        >>> Until.of("offset within 1 cm").width
        '1 cm'
        """
        if isinstance(words, Until):
            return words
        if isinstance(words, str):
            metric, within, width = words.partition(" within ")
            return cls(metric.strip(), width.strip() if within else None)
        if len(words) != 2:
            raise VeldrainError(f"{words!r} ends nothing", where="until", cure="give a metric, or a metric and a width")
        return cls(*words)


def looks(trials: int) -> list[int]:
    """Numbers of trials at which one looks, the last included.

    >>> looks(40)
    [8, 12, 18, 27, 40]
    """
    found, n = list[int](), float(FIRST)
    while n < trials:
        found.append(int(n))
        n *= GROWTH
    return [*found, trials]


@cache
def level_of(numbers: tuple[int, ...]) -> float:
    """The level (such as 0.98) of each look at these numbers of trials, so that all of them together err in 5 %."""
    from scipy.special import ndtr

    random = np.random.default_rng(0)
    steps = np.diff([0, *numbers])
    walks = np.cumsum(random.standard_normal((WALKS, len(steps))) * np.sqrt(steps), axis=1) / np.sqrt(numbers)
    bound = float(np.quantile(np.abs(walks).max(axis=1), LEVEL))
    return float(2 * ndtr(bound) - 1)
