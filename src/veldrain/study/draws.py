"""What is drawn for each trial, and where the drawn value goes.

A new distribution is a class below ``Draw`` with ``bind`` and, where it has one, ``quantile``, by which grids,
space-filling designs and correlated groups take it too.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.units import Quantity, quantity

Drawn = Callable[[np.random.Generator], tuple[float, ...]]
Paths = str | tuple[str, ...]


class Draw(ABC):
    """A distribution; its quantities are read in the unit of what is varied."""

    def __str__(self) -> str:
        values = ", ".join(f"{name} {value}" for name, value in vars(self).items() if value is not None)
        return f"{type(self).__name__.lower()}: {values}"

    @abstractmethod
    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        """The function that draws, in SI units of a kind of quantity."""

    def bind_all(self, kinds: Sequence[str], where: str) -> Drawn:
        """The function that draws a value for each of several quantities: one value for all of them."""
        if len(set(kinds)) > 1:
            raise VeldrainError(f"one value for a {' and a '.join(kinds)}", where=where, cure="draw them apart")
        draw = self.bind(kinds[0], where)
        return lambda random: (draw(random),) * len(kinds)

    def quantile(self, kind: str, where: str) -> Callable[[float], float]:
        """The function that gives the value below which a share of all draws lies.

        Raises:
            VeldrainError: it has none.
        """
        raise VeldrainError(f"{type(self).__name__} has no quantiles", where=where, cure="use design: drawn for it")

    def stream(self, name: str) -> str:
        """The name of the random stream that it draws from, in a study where it is called so."""
        return name

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        """The least and the largest value, SI units; empty where there are none."""
        return ()

    def levels(self, count: int, kind: str, where: str) -> list[float]:
        """So many values that stand for all, SI units: from end to end, or quantiles in the middle of equal shares."""
        if count < 1:
            raise VeldrainError(f"{count} levels", where=where, cure="give 1 or more")
        if (ends := self.ends(kind, where)) and count > 1:
            return [float(x) for x in np.linspace(ends[0], ends[-1], count)]
        at = self.quantile(kind, where)
        return [at((k + 0.5) / count) for k in range(count)]


def _finite(value: Quantity, kind: str, where: str) -> float:
    number = quantity(value, kind, where)
    if not math.isfinite(number):
        raise VeldrainError(f"{number:g} cannot be drawn", where=where, cure="give a finite value")
    return number


def _rising(kind: str, where: str, *values: Quantity) -> list[float]:
    found = [_finite(value, kind, where) for value in values]
    if found != sorted(found):
        raise VeldrainError(f"from {found[0]:g} to {found[-1]:g}", where=where, cure="the lower value first")
    return found


@dataclass(frozen=True)
class Uniform(Draw):
    """Every value between two is as likely."""

    low: Quantity
    high: Quantity

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        low, high = _rising(kind, where, self.low, self.high)
        return lambda random: float(random.uniform(low, high))

    def quantile(self, kind: str, where: str) -> Callable[[float], float]:
        low, high = _rising(kind, where, self.low, self.high)
        return lambda share: low + share * (high - low)

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        return quantity(self.low, kind, where), quantity(self.high, kind, where)


@dataclass(frozen=True)
class LogUniform(Draw):
    """Every ratio between two positive values is as likely."""

    low: Quantity
    high: Quantity

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        at = self.quantile(kind, where)
        return lambda random: at(float(random.random()))

    def quantile(self, kind: str, where: str) -> Callable[[float], float]:
        low, high = _rising(kind, where, self.low, self.high)
        if low <= 0:
            raise VeldrainError(f"from {low:g}", where=where, cure="give values above 0")
        return lambda share: low * (high / low) ** share

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        return quantity(self.low, kind, where), quantity(self.high, kind, where)

    def levels(self, count: int, kind: str, where: str) -> list[float]:
        at = self.quantile(kind, where)
        return [at(k / (count - 1)) for k in range(count)] if count > 1 else [at(0.5)]


@dataclass(frozen=True)
class Triangular(Draw):
    """Most likely at one value, falling off in a straight line to two others."""

    low: Quantity
    mode: Quantity
    high: Quantity

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        at = self.quantile(kind, where)
        return lambda random: at(float(random.random()))

    def quantile(self, kind: str, where: str) -> Callable[[float], float]:
        low, mode, high = _rising(kind, where, self.low, self.mode, self.high)
        turn = (mode - low) / (high - low) if high > low else 0.5

        def at(share: float) -> float:
            if share < turn:
                return low + math.sqrt(share * (high - low) * (mode - low))
            return high - math.sqrt((1 - share) * (high - low) * (high - mode))

        return at

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        return quantity(self.low, kind, where), quantity(self.high, kind, where)


@dataclass(frozen=True)
class Normal(Draw):
    """A normal distribution about a mean; with ``low`` and ``high``, cut off there."""

    mean: Quantity
    deviation: Quantity
    low: Quantity | None = None
    high: Quantity | None = None

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        mean, deviation = self._told(kind, where)
        if self.low is None and self.high is None:
            return lambda random: float(random.normal(mean, deviation))
        at = self.quantile(kind, where)
        return lambda random: at(float(random.random()))

    def _told(self, kind: str, where: str) -> tuple[float, float]:
        mean, deviation = _finite(self.mean, kind, where), _finite(self.deviation, kind, where)
        if deviation < 0:
            raise VeldrainError(f"deviation is {deviation:g}", where=where, cure="give 0 or more")
        return mean, deviation

    def quantile(self, kind: str, where: str) -> Callable[[float], float]:
        from scipy.special import ndtr, ndtri

        mean, deviation = self._told(kind, where)
        low, high = self._cut(kind, where)
        if deviation == 0:
            return lambda share: min(max(mean, low), high)
        first, last = float(ndtr((low - mean) / deviation)), float(ndtr((high - mean) / deviation))
        if not last > first:
            raise VeldrainError("nothing lies between its ends", where=where, cure="give ends nearer to its mean")

        def at(share: float) -> float:
            value = mean + deviation * float(ndtri(first + share * (last - first)))
            return min(max(value, low), high)

        return at

    def _cut(self, kind: str, where: str) -> tuple[float, float]:
        low = -math.inf if self.low is None else _finite(self.low, kind, where)
        high = math.inf if self.high is None else _finite(self.high, kind, where)
        if low > high:
            raise VeldrainError(f"from {low:g} to {high:g}", where=where, cure="the lower value first")
        return low, high

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        ends = self._cut(kind, where)
        return ends if all(map(math.isfinite, ends)) else ()


@dataclass(frozen=True)
class OneOf(Draw):
    """One of some values, each as likely, or as likely as its weight says."""

    values: tuple[Quantity, ...]
    weights: tuple[float, ...] = ()

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        values = self._values(kind, where)
        if not self.weights:
            return lambda random: float(values[random.integers(len(values))])
        at = self.quantile(kind, where)
        return lambda random: at(float(random.random()))

    def _values(self, kind: str, where: str) -> list[float]:
        values = [_finite(v, kind, where) for v in self.values]
        if not values:
            raise VeldrainError("no values to choose from", where=where, cure="give at least one")
        if self.weights and not (all(0 <= w < math.inf for w in self.weights) and sum(self.weights) > 0):
            raise VeldrainError(f"weights are {list(self.weights)}", where=where, cure="give 0 or more, not all 0")
        return values

    def quantile(self, kind: str, where: str) -> Callable[[float], float]:
        values = self._values(kind, where)
        weights = np.array(self.weights or [1.0] * len(values))
        upto = np.cumsum(weights) / weights.sum()
        return lambda share: values[min(int(np.searchsorted(upto, share, "right")), len(values) - 1)]

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        values = self._values(kind, where)
        return min(values), max(values)

    def levels(self, count: int, kind: str, where: str) -> list[float]:
        return list(dict.fromkeys(self._values(kind, where)))


@dataclass(frozen=True)
class Orientation(Draw):
    """Every orientation is as likely: roll, pitch and yaw of one thing (K. Shoemake, Graphics Gems III, 1992)."""

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        raise VeldrainError(
            "an orientation is three angles", where=where, cure="name roll, pitch and yaw of a thing together"
        )

    def bind_all(self, kinds: Sequence[str], where: str) -> Drawn:
        if list(kinds) != ["angle"] * 3:
            self.bind("", where)
        from scipy.spatial.transform import Rotation

        def draw(random: np.random.Generator) -> tuple[float, ...]:
            u, v, w = random.random(3)
            a, b = 2 * math.pi * v, 2 * math.pi * w
            s, c = math.sqrt(1 - u), math.sqrt(u)
            turn = Rotation.from_quat([s * math.sin(a), s * math.cos(a), c * math.sin(b), c * math.cos(b)])
            return tuple(float(angle) for angle in turn.as_euler("xyz"))

        return draw


@dataclass(frozen=True)
class Own(Draw):
    """What a function of one's own gives for a random stream: a quantity, or one for each that it draws."""

    function: Callable[..., Any]
    arguments: Mapping[str, Any] = field(default_factory=dict)

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        draw = self.bind_all([kind], where)
        return lambda random: draw(random)[0]

    def bind_all(self, kinds: Sequence[str], where: str) -> Drawn:
        name = getattr(self.function, "__qualname__", repr(self.function))

        def draw(random: np.random.Generator) -> tuple[float, ...]:
            found = self.function(random, **self.arguments)
            rows = list(found) if isinstance(found, Sequence | np.ndarray) and not isinstance(found, str) else [found]
            if len(rows) == 1:
                rows *= len(kinds)
            if len(rows) != len(kinds):
                raise VeldrainError(
                    f"{name} gives {len(rows)} values for {len(kinds)}", where=where, cure="give one each"
                )
            return tuple(_finite(value, kind, where) for value, kind in zip(rows, kinds, strict=True))

        return draw


@dataclass(frozen=True)
class Correlated(Draw):
    """One of a group of quantities whose ranks go together (a normal copula)."""

    draw: Draw
    names: tuple[str, ...]
    place: int
    root: tuple[tuple[float, ...], ...]

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        from scipy.special import ndtr

        at, row = self.draw.quantile(kind, where), np.array(self.root[self.place])
        return lambda random: at(float(ndtr(row @ random.standard_normal(len(row)))))

    def quantile(self, kind: str, where: str) -> Callable[[float], float]:
        return self.draw.quantile(kind, where)

    def stream(self, name: str) -> str:
        return "correlated " + " ".join(self.names)

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        return self.draw.ends(kind, where)

    def levels(self, count: int, kind: str, where: str) -> list[float]:
        return self.draw.levels(count, kind, where)


def uniform(low: Quantity, high: Quantity) -> Draw:
    """Every value between two is as likely.

    >>> uniform("-10 deg", "10 deg")
    Uniform(low='-10 deg', high='10 deg')
    """
    return Uniform(low, high)


def log_uniform(low: Quantity, high: Quantity) -> Draw:
    """Every ratio between two positive values is as likely: for what spans decades.

    >>> log_uniform(0.01, 1.0)
    LogUniform(low=0.01, high=1.0)
    """
    return LogUniform(low, high)


def triangular(low: Quantity, mode: Quantity, high: Quantity) -> Draw:
    """Most likely at ``mode``, and never beyond ``low`` and ``high``.

    >>> triangular(0.1, 0.2, 0.5)
    Triangular(low=0.1, mode=0.2, high=0.5)
    """
    return Triangular(low, mode, high)


def normal(mean: Quantity, deviation: Quantity) -> Draw:
    """A normal distribution with a mean and a standard deviation.

    >>> normal(0, "5 cm").mean
    0
    """
    return Normal(mean, deviation)


def truncated_normal(
    mean: Quantity, deviation: Quantity, low: Quantity | None = None, high: Quantity | None = None
) -> Draw:
    """A normal distribution of which what lies beyond ``low`` and ``high`` is left out.

    >>> truncated_normal(0.5, 0.2, low=0).low
    0
    """
    return Normal(mean, deviation, low, high)


def one_of(*values: Quantity) -> Draw:
    """One of some values, each as likely.

    >>> one_of(0.2, 0.4).values
    (0.2, 0.4)
    """
    return OneOf(values)


def weighted(values: Mapping[Quantity, float]) -> Draw:
    """One of some values, each as likely as its weight says.

    >>> weighted({"0 deg": 3, "90 deg": 1}).weights
    (3, 1)
    """
    return OneOf(tuple(values), tuple(values.values()))


def uniform_orientation() -> Draw:
    """Every orientation is as likely: for the three angles of a thing, ``("probe.roll", "probe.pitch", "probe.yaw")``.

    >>> vary = {("probe.roll", "probe.pitch", "probe.yaw"): uniform_orientation()}
    """
    return Orientation()


def correlated(draws: Mapping[Paths, Draw], matrix: Sequence[Sequence[float]]) -> dict[Paths, Draw]:
    """Draws whose ranks go together, to be put into ``vary``: ``vary={**correlated({…}, matrix), …}``.

    Args:
        draws: by path; each with quantiles.
        matrix: Spearman's rank correlations (n, n): of normal scores r = 2·sin(π·ρ/6) (W. H. Kruskal, J. Am. Stat.
            Assoc. 53, 1958).

    Raises:
        VeldrainError: no matrix of correlations.

    >>> len(correlated({"a": uniform(0, 1), "b": normal(0, 1)}, [[1, 0.8], [0.8, 1]]))
    2
    """
    names = tuple(" ".join([p] if isinstance(p, str) else p) for p in draws)
    ranks = np.array(matrix, float)
    if ranks.shape != (len(names),) * 2 or not np.allclose(ranks, ranks.T) or not np.allclose(np.diag(ranks), 1.0):
        raise VeldrainError(
            f"is no matrix of correlations of {len(names)} quantities",
            where="correlated",
            cure="symmetric, ones along it",
        )
    try:
        root = np.linalg.cholesky(2 * np.sin(np.pi * ranks / 6) + 1e-12 * np.eye(len(names)))
    except np.linalg.LinAlgError:
        raise VeldrainError(
            "no quantities can go together so (the matrix is not positive definite)",
            where="correlated",
            cure="make the correlations smaller",
        ) from None
    rows = tuple(tuple(float(x) for x in row) for row in root)
    return {path: Correlated(draw, names, k, rows) for k, (path, draw) in enumerate(draws.items())}


def rounded(value: float) -> float:
    """A value to nine digits: what is noted in files is exactly what was used."""
    return float(f"{value:.9g}") if math.isfinite(value) else value
