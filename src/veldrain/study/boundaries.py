"""Where trials turn from passing to failing over several quantities at once: a boundary with its spread.

The chance of passing is a logistic function of the quantities, their squares and products, so that a boundary may be a
line, a curve, a ring or a band (D. R. Cox, J. R. Stat. Soc. B 20(2), 1958; with a small ridge, as S. le Cessie and J.
C. van Houwelingen, Appl. Stat. 41(1), 1992, since trials that part cleanly have no largest likelihood).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.pose import Array

RIDGE = 0.02
RESAMPLED = 60
FINE = 400  # points along a line on which a boundary is looked for


@dataclass(frozen=True)
class Boundary:
    """The boundary of a controller's trials.

    Attributes:
        controller, quantities: whose, over what; ``units`` theirs.
        trials, failed: how many it is drawn from.
        p: that chance alone parts them so (likelihood ratio).
        right: share of the trials that lie on their own side.

    >>> [b.at("speed", gap=20.0) for b in result.boundaries() if b.is_clear]  # doctest: +SKIP
    """

    controller: str
    quantities: tuple[str, ...]
    units: tuple[str, ...]
    trials: int
    failed: int
    p: float
    right: float
    middle: Array
    spread: Array
    ends: Array
    weights: Array
    resampled: Array

    @property
    def is_clear(self) -> bool:
        """True where chance would hardly part them so."""
        return self.p < 0.05

    def chance(self, values: Mapping[str, float] | Array) -> Array:
        """The chance of passing at values by path, SI units, or at rows (n, quantities) of them."""
        from scipy.special import expit

        rows = np.atleast_2d([values[q] for q in self.quantities] if isinstance(values, Mapping) else values)
        return expit(_features((rows - self.middle) / self.spread) @ self.weights)

    def at(self, quantity: str, others: Mapping[str, float] | None = None) -> list[tuple[float, float, float]]:
        """Where it is passed along one quantity, the others held: each value with its 95 % interval by resampling.

        Args:
            quantity: along which, within what was drawn.
            others: values of the others, SI units; those not named are in the middle.

        Raises:
            VeldrainError: no such quantity.
        """
        for name in (quantity, *(others or {})):
            if name not in self.quantities:
                raise unknown("quantity", name, self.quantities, "boundary")
        k = self.quantities.index(quantity)
        line = np.tile(self.middle, (FINE, 1))
        for name, value in (others or {}).items():
            line[:, self.quantities.index(name)] = value
        line[:, k] = np.linspace(float(self.ends[0, k]), float(self.ends[1, k]), FINE)
        features = _features((line - self.middle) / self.spread)
        found = _crossings(features @ self.weights, line[:, k])
        every = [_crossings(features @ w, line[:, k]) for w in self.resampled]
        return [(value, *_interval(value, every)) for value in found]


def _interval(value: float, every: Sequence[Sequence[float]]) -> tuple[float, float]:
    near = [min(one, key=lambda x: abs(x - value)) for one in every if one]
    if len(near) < len(every) / 2:
        return math.nan, math.nan
    low, high = np.quantile(near, [0.025, 0.975])
    return float(low), float(high)


def _crossings(score: Array, at: Array) -> list[float]:
    turns = np.flatnonzero(np.diff(np.sign(score)) != 0)
    return [float(at[k] - score[k] * (at[k + 1] - at[k]) / (score[k + 1] - score[k])) for k in turns]


def _features(z: Array) -> Array:
    """1, the quantities, their squares and products."""
    n = z.shape[1]
    pairs = [z[:, i] * z[:, j] for i in range(n) for j in range(i, n)]
    return np.column_stack([np.ones(len(z)), z, *pairs])


def _fitted(x: Array, passed: Array) -> Array:
    """Weights of the features, by Newton's method."""
    from scipy.special import expit

    w = np.zeros(x.shape[1])
    ridge = np.full(len(w), RIDGE)
    ridge[0] = 1e-6
    for _ in range(50):
        p = expit(x @ w)
        slope = x.T @ (passed - p) - ridge * w
        curve = (x * (p * (1 - p))[:, None]).T @ x + np.diag(ridge)
        step = np.linalg.solve(curve, slope)
        step *= min(1.0, 5.0 / max(float(np.abs(step).max()), 1e-12))
        w = w + step
        if np.abs(step).max() < 1e-9:
            break
    return w


def _likelihood(x: Array, passed: Array, w: Array) -> float:
    from scipy.special import expit

    p = np.clip(expit(x @ w), 1e-12, 1 - 1e-12)
    return float((passed * np.log(p) + (1 - passed) * np.log(1 - p)).sum())


def boundary_of(
    controller: str, values: Array, passed: Array, quantities: Sequence[str], units: Sequence[str]
) -> Boundary:
    """A boundary out of trials: values (n, quantities), SI units, and who passed (n,).

    Raises:
        VeldrainError: all passed, all failed, or too few trials for so many quantities.
    """
    from scipy.stats import chi2

    n, count = len(passed), 1 + len(quantities) * (len(quantities) + 3) // 2
    if passed.all() or not passed.any():
        raise VeldrainError(
            f"{'all' if passed.all() else 'no'} trials passed",
            where=controller,
            cure="run more, or draw from wider ranges",
        )
    if n < 2 * count:
        raise VeldrainError(
            f"{n} trials for a boundary over {len(quantities)} quantities",
            where=controller,
            cure=f"run {2 * count} or more",
        )
    middle, spread = values.mean(axis=0), values.std(axis=0)
    spread = np.where(spread > 0, spread, 1.0)
    x, y = _features((values - middle) / spread), passed.astype(float)
    w = _fitted(x, y)
    share = float(y.mean())
    alone = n * (share * math.log(share) + (1 - share) * math.log(1 - share))
    p = float(chi2.sf(max(2 * (_likelihood(x, y, w) - alone), 0.0), count - 1))
    random = np.random.default_rng(0)
    again = []
    for _ in range(RESAMPLED):
        rows = random.integers(n, size=n)
        if 0 < y[rows].sum() < n:
            again.append(_fitted(x[rows], y[rows]))
    right = float(((x @ w > 0) == passed).mean())
    ends = np.array([values.min(axis=0), values.max(axis=0)])
    failed = int((~passed.astype(bool)).sum())
    return Boundary(
        controller, tuple(quantities), tuple(units), n, failed, p, right, middle, spread, ends, w, np.array(again)
    )
