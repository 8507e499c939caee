"""What is drawn for each trial, and where the drawn value goes."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.units import Quantity, quantity


class Draw(ABC):
    """A distribution; its quantities are read in the unit of what is varied."""

    @abstractmethod
    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        """The function that draws, in SI units of a kind of quantity."""

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        """The least and the largest value, SI units; empty where there are none."""
        return ()


def _finite(value: Quantity, kind: str, where: str) -> float:
    number = quantity(value, kind, where)
    if not math.isfinite(number):
        raise VeldrainError(f"{number:g} cannot be drawn", where=where, cure="give a finite value")
    return number


@dataclass(frozen=True)
class Uniform(Draw):
    """Every value between two is as likely."""

    low: Quantity
    high: Quantity

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        low, high = _finite(self.low, kind, where), _finite(self.high, kind, where)
        if low > high:
            raise VeldrainError(f"from {low:g} to {high:g}", where=where, cure="the lower value first")
        return lambda random: float(random.uniform(low, high))

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        return quantity(self.low, kind, where), quantity(self.high, kind, where)


@dataclass(frozen=True)
class Normal(Draw):
    """A normal distribution about a mean."""

    mean: Quantity
    deviation: Quantity

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        mean, deviation = _finite(self.mean, kind, where), _finite(self.deviation, kind, where)
        if deviation < 0:
            raise VeldrainError(f"deviation is {deviation:g}", where=where, cure="give 0 or more")
        return lambda random: float(random.normal(mean, deviation))


@dataclass(frozen=True)
class OneOf(Draw):
    """One of some values, each as likely."""

    values: tuple[Quantity, ...]

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        values = [_finite(v, kind, where) for v in self.values]
        if not values:
            raise VeldrainError("no values to choose from", where=where, cure="give at least one")
        return lambda random: float(values[random.integers(len(values))])

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        values = [quantity(v, kind, where) for v in self.values]
        return min(values), max(values)


def uniform(low: Quantity, high: Quantity) -> Draw:
    """Every value between two is as likely.

    >>> uniform("-10 deg", "10 deg")
    Uniform(low='-10 deg', high='10 deg')
    """
    return Uniform(low, high)


def normal(mean: Quantity, deviation: Quantity) -> Draw:
    """A normal distribution with a mean and a standard deviation.

    >>> normal(0, "5 cm")
    Normal(mean=0, deviation='5 cm')
    """
    return Normal(mean, deviation)


def one_of(*values: Quantity) -> Draw:
    """One of some values, each as likely.

    >>> one_of(0.2, 0.4)
    OneOf(values=(0.2, 0.4))
    """
    return OneOf(values)


def rounded(value: float) -> float:
    """A value to nine digits: what is noted in files is exactly what was used."""
    return float(f"{value:.9g}") if math.isfinite(value) else value
