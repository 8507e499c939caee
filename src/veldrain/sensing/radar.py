"""A radar: detections with range, bearing, range rate and cross-section."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from types import SimpleNamespace as Fields
from typing import Unpack

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.clouds import cloud_message, ways_along
from veldrain.sensing.noise import above_zero, not_negative, share
from veldrain.sensing.timing import Timed, Timing
from veldrain.units import Quantity, quantity

DENSE = math.radians(0.5)  # between rays
FALSE_ALARM = 1e-6  # probability that noise alone passes for a detection in a cell
HALF = math.log(FALSE_ALARM) / math.log(0.5) - 1  # signal over noise that is detected every other time


@dataclass(frozen=True)
class Detections:
    """What a radar has detected, n things.

    Attributes:
        ranges: (n,) m.
        azimuths: (n,) rad, about z of the mount from +x.
        elevations: (n,) rad, above its xy plane.
        rates: (n,) of the range, m/s: positive going away.
        sections: (n,) radar cross-sections, m².
    """

    ranges: Array
    azimuths: Array
    elevations: Array
    rates: Array
    sections: Array


class Radar(Timed):
    """A radar that looks along +x of its mount.

    Rays over its field meet surfaces; each stands for a cross-section of 4·echo·cos i·r²·dΩ, as of a surface that
    scatters evenly (a ball of radius R has 8/3·π·R²·echo). What falls into one cell of range, azimuth and range rate
    is one detection, found with the probability P^(1/(1 + S)) of a target of Swerling's first case, S being the signal
    over noise, which goes with the cross-section over r⁴ (M. Skolnik, Introduction to Radar Systems, chapter 2).

    Args:
        period: s.
        field: full angle in azimuth, rad.
        height: full angle in elevation, rad.
        nearest: m.
        reach: at which ``section`` is detected every other time, m; nothing is beyond one and a half of it.
        section: radar cross-section that reach is stated for, m².
        range_cell: resolution in range, m.
        azimuth_cell: in azimuth, rad.
        rate_cell: in range rate, m/s.
        range_noise: standard deviation, m.
        azimuth_noise: rad.
        rate_noise: m/s.
        misses: share of detections that are lost beside.
        clutter: false detections in a reading, on average.
        sees: ``visual`` or ``collision`` shapes.
        timing: see ``Timing``.

    >>> Radar(field="60 deg", azimuth_cell="4 deg").message
    'sensor_msgs/msg/PointCloud2'
    """

    message = "sensor_msgs/msg/PointCloud2"
    perfect = {"range_noise": 0.0, "azimuth_noise": 0.0, "rate_noise": 0.0, "misses": 0.0, "clutter": 0.0}

    def __init__(
        self,
        period: Quantity = 0.05,
        field: Quantity = "90 deg",
        height: Quantity = "16 deg",
        nearest: Quantity = 0.2,
        reach: Quantity = 40.0,
        section: float = 1.0,
        range_cell: Quantity = 0.2,
        azimuth_cell: Quantity = "3 deg",
        rate_cell: Quantity = 0.1,
        range_noise: Quantity = 0.0,
        azimuth_noise: Quantity = 0.0,
        rate_noise: Quantity = 0.0,
        misses: Quantity = 0.0,
        clutter: float = 0.0,
        sees: str = "visual",
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.field, self.height = quantity(field, "angle", "Radar field"), quantity(height, "angle", "Radar height")
        if not (0 < self.field <= 2 * math.pi and 0 < self.height < math.pi):
            raise VeldrainError(f"{math.degrees(self.field):g}° × {math.degrees(self.height):g}°", where="Radar",
                                cure="give a field of up to 360° and a height of less than 180°")  # fmt: skip
        self.nearest = not_negative(nearest, "length", "Radar nearest")
        self.sheet_reach = above_zero(reach, "length", "Radar reach")
        self.reach = 1.5 * self.sheet_reach
        if self.nearest >= self.sheet_reach:
            raise VeldrainError(f"nearest is {self.nearest:g} m and reach {self.sheet_reach:g} m", where="Radar",
                                cure="nearest is less than reach")  # fmt: skip
        self.section = above_zero(section, "ratio", "Radar section")
        self.range_cell = above_zero(range_cell, "length", "Radar range_cell")
        self.azimuth_cell = above_zero(azimuth_cell, "angle", "Radar azimuth_cell")
        self.rate_cell = above_zero(rate_cell, "speed", "Radar rate_cell")
        self.range_noise = not_negative(range_noise, "length", "Radar range_noise")
        self.azimuth_noise = not_negative(azimuth_noise, "angle", "Radar azimuth_noise")
        self.rate_noise = not_negative(rate_noise, "speed", "Radar rate_noise")
        self.misses, self.clutter = share(misses, "Radar misses"), not_negative(clutter, "ratio", "Radar clutter")
        self.sees = sees
        # Three rays or more across an azimuth cell, and as dense in elevation, but not more than 20 000 in all.
        apart = max(min(self.azimuth_cell / 3, DENSE), math.sqrt(self.field * self.height / 20e3))
        wide, high = math.ceil(self.field / apart), math.ceil(self.height / apart)
        self._around = self.field * ((np.arange(wide) + 0.5) / wide - 0.5)
        self._up = self.height * ((np.arange(high) + 0.5) / high - 0.5)
        around, up = (a.ravel() for a in np.meshgrid(self._around, self._up))
        self.directions: Array = ways_along(around, up)
        self._solid = np.cos(up) * (self.field / wide) * (self.height / high)  # sr of each ray

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Detections]:
        echoes = np.array([look.echo for look in mount.looks(self.sees)] + [0.0])

        def measure() -> Detections:
            ways = np.ascontiguousarray(self.directions @ mount.axes().T)
            found = mount.strike(np.tile(mount.position(), (len(ways), 1)), ways, self.reach, self.sees)
            hit = np.isfinite(found.distances) & (found.distances >= self.nearest)
            r, ways, sights = found.distances[hit], ways[hit], found.sights[hit]
            points = mount.position() + r[:, None] * ways
            relative = mount.velocities(sights, points, self.sees) - mount.motion()[0]
            rates = np.einsum("ij,ij->i", relative, ways)
            cosines = np.abs(np.einsum("ij,ij->i", found.normals[hit], ways))
            sections = 4 * echoes[sights] * cosines * r**2 * self._solid[hit]
            return self._detected(r, self.directions[hit], rates, sections, random)

        return measure

    def _detected(
        self, r: Array, ways: Array, rates: Array, sections: Array, random: np.random.Generator
    ) -> Detections:
        """Detections out of what single rays met."""
        azimuths, elevations = np.arctan2(ways[:, 1], ways[:, 0]), np.arcsin(ways[:, 2])
        cells = np.stack([np.floor(r / self.range_cell), np.floor(azimuths / self.azimuth_cell),
                          np.round(rates / self.rate_cell)], axis=1)  # fmt: skip
        _, which = np.unique(cells, axis=0, return_inverse=True)
        whole = np.bincount(which.ravel(), sections)
        some = whole > 0

        def mean(values: Array) -> Array:
            return np.asarray(np.bincount(which.ravel(), sections * values)[some] / whole[some])

        found = np.stack([mean(r), mean(azimuths), mean(elevations), mean(rates), whole[some]])
        signal = HALF * (found[4] / self.section) * (self.sheet_reach / found[0]) ** 4
        chance = FALSE_ALARM ** (1 / (1 + signal)) * (1 - self.misses)
        keep = chance >= 0.5 if self.exact else random.random(len(chance)) < chance
        found = found[:, keep]
        count = found.shape[1]
        for row, deviation in enumerate((self.range_noise, self.azimuth_noise, 0.0, self.rate_noise)):
            if deviation > 0:
                found[row] += random.standard_normal(count) * deviation
        if self.clutter > 0:
            n = random.poisson(self.clutter)
            low = (self.nearest, -self.field / 2, -self.height / 2, -10.0, 0.1 * self.section)
            high = (self.sheet_reach, self.field / 2, self.height / 2, 10.0, self.section)
            found = np.concatenate([found, random.uniform(low, high, (n, 5)).T], axis=1)
        return Detections(*found[:, np.argsort(found[0], kind="stable")])

    def to_message(self, reading: Detections) -> Fields:
        points = reading.ranges[:, None] * ways_along(reading.azimuths, reading.elevations)
        return cloud_message(points, range_rate=reading.rates, cross_section=reading.sections)
