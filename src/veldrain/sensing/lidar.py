"""A planar lidar."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from types import SimpleNamespace as Fields

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.noise import not_negative, timing
from veldrain.units import Quantity, quantity


@dataclass(frozen=True)
class Scan:
    """One turn of a planar lidar: ranges (n,) in m (inf: nothing met) at bearings (n,) in rad."""

    ranges: Array
    bearings: Array


class Lidar:
    """A planar lidar: beams in the xy plane of its mount, evenly over a field about +x, all at one moment.

    Args:
        period: s.
        beams: how many, two or more.
        field: angle from the first beam to the last, rad, up to a full turn.
        nearest: shortest range that is measured, m; what is nearer gives inf.
        reach: longest range, m.
        noise: standard deviation of a range, m.
        latency: from the sample to its arrival at a controller, s.
        first: time of the first sample, s.

    >>> Lidar(beams=3, field="90 deg").bearings.round(3).tolist()
    [-0.785, 0.0, 0.785]
    """

    truth = False
    message = "sensor_msgs/msg/LaserScan"

    def __init__(
        self,
        period: Quantity = 0.1,
        beams: int = 180,
        field: Quantity = "270 deg",
        nearest: Quantity = 0.05,
        reach: Quantity = 10.0,
        noise: Quantity = 0.0,
        latency: Quantity = 0.0,
        first: Quantity = 0.0,
    ) -> None:
        self.period, self.latency, self.first = timing(self, period, latency, first)
        self.field = quantity(field, "angle", "Lidar field")
        if beams < 2 or not 0 < self.field <= 2 * math.pi + 1e-9:
            raise VeldrainError(
                f"{beams} beams over {math.degrees(self.field):g}°", where="Lidar",
                cure="give two beams or more over a field of up to 360°",
            )  # fmt: skip
        self.nearest = not_negative(nearest, "length", "Lidar nearest")
        self.reach = quantity(reach, "length", "Lidar reach")
        if not self.nearest < self.reach < math.inf:
            raise VeldrainError(
                f"nearest is {self.nearest:g} m and reach {self.reach:g} m",
                where="Lidar",
                cure="nearest is less than reach",
            )
        self.noise = not_negative(noise, "length", "Lidar noise")
        self.bearings: Array = np.linspace(-self.field / 2, self.field / 2, beams)

    @property
    def directions(self) -> Array:
        """Unit vectors (n, 3) along the beams, in the mount."""
        return np.stack([np.cos(self.bearings), np.sin(self.bearings), np.zeros(len(self.bearings))], axis=1)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Scan]:
        beams = self.directions

        def measure() -> Scan:
            origins = np.repeat(mount.position()[None], len(beams), axis=0)
            ranges = mount.cast(origins, beams @ mount.axes().T, self.reach)
            ranges += random.standard_normal(len(ranges)) * self.noise
            ranges[(ranges < self.nearest) | (ranges > self.reach)] = math.inf
            return Scan(ranges, self.bearings)

        return measure

    def to_message(self, reading: Scan) -> Fields:
        return Fields(
            angle_min=float(self.bearings[0]),
            angle_max=float(self.bearings[-1]),
            angle_increment=float(self.bearings[1] - self.bearings[0]),
            time_increment=0.0,
            scan_time=self.period,
            range_min=self.nearest,
            range_max=self.reach,
            ranges=reading.ranges.astype(np.float32),
            intensities=np.zeros(0, np.float32),
        )
