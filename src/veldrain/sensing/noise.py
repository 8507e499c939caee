"""What stands between the truth and a reading."""

from __future__ import annotations

import math

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.pose import Array
from veldrain.units import Quantity, quantity


def not_negative(value: Quantity, kind: str, where: str) -> float:
    """A data-sheet value that is zero or more, in SI units."""
    number = quantity(value, kind, where)
    if not 0 <= number < math.inf:
        raise VeldrainError(f"{number:g} is not zero or more", where=where, cure="give 0 to leave it out")
    return number


def above_zero(value: Quantity, kind: str, where: str) -> float:
    """A data-sheet value that is more than zero; infinite for one that is left out."""
    number = quantity(value, kind, where)
    if not number > 0:
        raise VeldrainError(f"{number:g} is not above zero", where=where, cure="give more, or leave it out")
    return number


def share(value: Quantity, where: str) -> float:
    """A share, 0 to 1."""
    number = quantity(value, "ratio", where)
    if not 0 <= number <= 1:
        raise VeldrainError(f"{number:g} is no share", where=where, cure="give 0 to 1, or percent")
    return number


class Wander:
    """What a triad of axes makes of true values: bandwidth, bias and its walk, white noise, steps, and an end.

    Args:
        random: the sensor's own stream.
        bias: standard deviation of the bias at the start.
        noise: standard deviation of a sample's noise.
        walk: of the bias, in units per √s: after t seconds it has gone astray by walk·√t (standard deviation).
        period: between samples, s.
        resolution: readings are whole multiples of this; 0: any.
        most: readings end there, on both sides; with a resolution one of its steps earlier above zero.
        bandwidth: Hz: a first-order low pass, y' = 2π·bandwidth·(x − y), exact over each period; infinite: none.
    """

    def __init__(
        self,
        random: np.random.Generator,
        bias: float,
        noise: float,
        walk: float = 0.0,
        period: float = 1.0,
        resolution: float = 0.0,
        most: float = math.inf,
        bandwidth: float = math.inf,
    ) -> None:
        self._random, self._noise = random, noise
        self._bias: Array = random.standard_normal(3) * bias
        self._stray = walk * math.sqrt(period)
        self._resolution, self._most = resolution, most
        self._follows = 1.0 - math.exp(-2.0 * math.pi * bandwidth * period)
        self._smooth: Array | None = None

    def add_to(self, values: Array) -> Array:
        """What is read for true values (3,)."""
        if self._stray > 0:  # no draw without it, so that other sensors' readings stay as they are
            self._bias = self._bias + self._random.standard_normal(3) * self._stray
        if self._follows < 1.0:
            self._smooth = values if self._smooth is None else self._smooth + self._follows * (values - self._smooth)
            values = self._smooth
        read: Array = values + self._bias + self._random.standard_normal(3) * self._noise
        top = self._most
        if self._resolution > 0:
            read = np.round(read / self._resolution) * self._resolution
            top -= self._resolution  # a signed number of n bits ends at 2ⁿ⁻¹ − 1: +2 g reads 32767
        return np.clip(read, -self._most, top) if self._most < math.inf else read
