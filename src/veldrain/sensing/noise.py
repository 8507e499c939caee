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


def timing(owner: object, period: Quantity, latency: Quantity, first: Quantity) -> tuple[float, float, float]:
    """Period, latency and time of the first sample in s, checked."""
    where = type(owner).__name__
    seconds = quantity(period, "time", f"{where} period")
    if not 0 < seconds < math.inf:
        raise VeldrainError(f"period is {seconds:g} s", where=where, cure="give a time above zero")
    late = not_negative(latency, "time", f"{where} latency")
    return seconds, late, not_negative(first, "time", f"{where} first")


class Wander:
    """A bias drawn once, and white noise at every sample: three axes.

    Args:
        random: the sensor's own stream.
        bias: standard deviation of the constant bias.
        noise: standard deviation of a sample's noise.
    """

    def __init__(self, random: np.random.Generator, bias: float, noise: float) -> None:
        self._random, self._noise = random, noise
        self._bias: Array = random.standard_normal(3) * bias

    def add_to(self, values: Array) -> Array:
        """The values with bias and noise."""
        return values + self._bias + self._random.standard_normal(3) * self._noise
