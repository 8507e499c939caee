"""What stands between the truth and a reading."""

from __future__ import annotations

import math

import numpy as np

from veldrain.pose import Array


class Errors:
    """What a triad of axes makes of true values: bandwidth, bias and its walk, white noise, steps, and an end.

    Args:
        random: the sensor's own stream.
        bias: standard deviation of the bias at the start.
        noise: standard deviation of a sample's noise.
        walk: random walk of the bias, units per √s: after t seconds its standard deviation has grown by walk·√t.
        period: between samples, s.
        resolution: readings are whole multiples of this; 0: any.
        full_scale: readings end there, on both sides; with a resolution one of its steps earlier above zero.
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
        full_scale: float = math.inf,
        bandwidth: float = math.inf,
    ) -> None:
        self.random, self.noise = random, noise
        self.bias: Array = random.standard_normal(3) * bias
        self.stray = walk * math.sqrt(period)
        self.resolution, self.full_scale = resolution, full_scale
        self.follows = 1.0 - math.exp(-2.0 * math.pi * bandwidth * period)
        self.smooth: Array | None = None

    def add_to(self, values: Array) -> Array:
        """What is read for true values (3,)."""
        if self.stray > 0:  # no draw without it, so that other sensors' readings stay as they are
            self.bias = self.bias + self.random.standard_normal(3) * self.stray
        if self.follows < 1.0:
            self.smooth = values if self.smooth is None else self.smooth + self.follows * (values - self.smooth)
            values = self.smooth
        read: Array = values + self.bias + self.random.standard_normal(3) * self.noise
        top = self.full_scale
        if self.resolution > 0:
            read = stepped(read, self.resolution)
            top -= self.resolution  # a signed number of n bits ends at 2ⁿ⁻¹ − 1: +2 g reads 32767
        return np.clip(read, -self.full_scale, top) if self.full_scale < math.inf else read


def stepped(values: Array, resolution: float) -> Array:
    """Values as whole multiples of a resolution; 0: as they are."""
    return np.round(values / resolution) * resolution if resolution > 0 else values
