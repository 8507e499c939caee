"""Lidars: one that turns in a plane, and one with several beams above each other."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from types import SimpleNamespace as Fields
from typing import Any, NamedTuple, Unpack

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.clouds import cloud_message, ways_along
from veldrain.sensing.noise import not_negative, share
from veldrain.sensing.timing import Timed, Timing
from veldrain.units import Quantity, quantities, quantity

TAKES = ("first", "strongest", "last")
FOOTPRINT = 6  # rays around the one in a beam's middle
MOST_SLICES = 8


class Optics(NamedTuple):
    """What all lidars take from their data sheets.

    Attributes:
        nearest: shortest range that is measured, m; what is nearer gives inf.
        reach: longest range, m.
        reach_at: reflectance that reach is stated for, 0 to 1: an echo as ρ·cos i·e^(−2σr)/r² (i: angle of incidence,
            σ: extinction in fog and rain) must be no weaker than reach_at/reach². None: everything is seen up to reach
            in clear air, and up to r·e^(σr) = reach in fog.
        noise: standard deviation of a range, m.
        noise_share: the same as a share of the range; both add up as squares do.
        resolution: of a range, m.
        dropouts: share of beams that give nothing.
        divergence: full angle of a beam, rad: seven rays over its footprint are one echo.
        pulse: length of a pulse: what is nearer to each other is one echo, m.
        takes: of several echoes the ``first``, ``strongest`` or ``last``.
        ghosts: share of what rain takes from a beam that comes back as an echo of a drop.
        sees: ``visual`` or ``collision`` shapes.
        turning: True: each beam goes out at its own time within the period, from where the sensor then is; False: all
            at one moment. A turn is taken in up to eight slices: in each the sensor keeps its velocity and spin, and
            other things stand still.
    """

    nearest: Quantity = 0.05
    reach: Quantity = 10.0
    reach_at: float | None = None
    noise: Quantity = 0.0
    noise_share: float = 0.0
    resolution: Quantity = 0.0
    dropouts: float = 0.0
    divergence: Quantity = 0.0
    pulse: Quantity = 0.3
    takes: str = "first"
    ghosts: float = 0.002
    sees: str = "visual"
    turning: bool = True


@dataclass(frozen=True)
class Scan:
    """One turn of a planar lidar: ranges (n,) in m (inf: nothing met) at bearings (n,) in rad, and intensities (n,).

    ``age`` is the time from the first beam to the stamp, s.
    """

    ranges: Array
    bearings: Array
    intensities: Array = field(default_factory=lambda: np.zeros(0))
    age: float = 0.0


@dataclass(frozen=True)
class Cloud:
    """One turn of a lidar with several beams.

    Attributes:
        ranges: (rings, azimuths) in m; inf: nothing met.
        points: (rings, azimuths, 3) in m, each in the sensor's axes at its own time; nan: nothing met.
        intensities: (rings, azimuths), 0 to 1.
        times: (azimuths,) of the beams before the stamp, s, zero or negative.
        age: time from the first beam to the stamp, s.
    """

    ranges: Array
    points: Array
    intensities: Array
    times: Array
    age: float = 0.0


class _Ranging(Timed):
    """Beams, echoes, and what a data sheet says goes wrong with them."""

    perfect = {"noise": 0.0, "noise_share": 0.0, "resolution": 0.0, "dropouts": 0.0, "ghosts": 0.0}
    directions: Array  # (n, 3) of the beams in the mount, in the order in which they go out
    columns: int  # how many go out one after another; those that go out together follow each other

    def __init__(self, period: Quantity, optics: dict[str, Any], **timing: Unpack[Timing]) -> None:
        super().__init__(period, **timing)
        name = type(self).__name__
        for word in optics:
            if word not in Optics._fields:
                raise unknown("argument", word, self.arguments(Optics._fields), name)
        given = Optics(**optics)
        self.nearest = not_negative(given.nearest, "length", f"{name} nearest")
        self.reach = quantity(given.reach, "length", f"{name} reach")
        if not self.nearest < self.reach < math.inf:
            raise VeldrainError(f"nearest is {self.nearest:g} m and reach {self.reach:g} m", where=name,
                                cure="nearest is less than reach")  # fmt: skip
        self.reach_at = None if given.reach_at is None else share(given.reach_at, f"{name} reach_at")
        self.noise = not_negative(given.noise, "length", f"{name} noise")
        self.noise_share = not_negative(given.noise_share, "ratio", f"{name} noise_share")
        self.resolution = not_negative(given.resolution, "length", f"{name} resolution")
        self.dropouts = share(given.dropouts, f"{name} dropouts")
        self.divergence = not_negative(given.divergence, "angle", f"{name} divergence")
        self.pulse = not_negative(given.pulse, "length", f"{name} pulse")
        if given.takes not in TAKES:
            raise unknown("echo", given.takes, TAKES, f"{name} takes")
        self.takes, self.sees = given.takes, given.sees
        self.ghosts = share(given.ghosts, f"{name} ghosts")
        self.turning = given.turning
        self.slices = MOST_SLICES if self.turning else 1
        if self.turning and timing.get("first") is None:
            self.first = self.period

    def rays(self) -> Array:
        """Unit vectors (rays, n, 3) of a beam's rays, the one in its middle first."""
        middle = self.directions
        if self.divergence == 0:
            return middle[None]
        side = np.cross(middle, np.where(np.abs(middle[:, 2:]) < 0.9, (0.0, 0.0, 1.0), (1.0, 0.0, 0.0)))
        side /= np.linalg.norm(side, axis=1, keepdims=True)
        up = np.cross(middle, side)
        angles = np.arange(FOOTPRINT) * 2 * math.pi / FOOTPRINT
        ring = math.tan(self.divergence / 2) * (
            np.cos(angles)[:, None, None] * side + np.sin(angles)[:, None, None] * up
        )
        all_of_it = np.concatenate([middle[None], middle + ring])
        return np.asarray(all_of_it / np.linalg.norm(all_of_it, axis=2, keepdims=True))

    def beams(self, mount: Mount, random: np.random.Generator) -> Callable[[], tuple[Array, Array] | None]:
        """The function that takes one slice of a turn and gives ranges and intensities (n,) with the last one."""
        rays, count, slices = self.rays(), len(self.directions), mount.slices
        ends = [self.columns * k // slices * (count // self.columns) for k in range(slices + 1)]
        # Of each beam: when it goes out after the end of its slice, which is before it.
        lead = np.arange(count) // (count // self.columns) / self.columns * self.period
        for k in range(slices):
            lead[ends[k] : ends[k + 1]] -= (k + 1) / slices * self.period
        lead = lead if self.turning else np.zeros(count)
        parts = [np.ascontiguousarray(rays[:, ends[k] : ends[k + 1]].reshape(-1, 3)) for k in range(slices)]
        leads = [np.tile(lead[ends[k] : ends[k + 1]], len(rays)) for k in range(slices)]
        ranges, intensities = np.empty(count), np.empty(count)
        shine = np.array([look.reflectance for look in mount.looks(self.sees)])
        air, part = mount.world.air, 0

        def measure() -> tuple[Array, Array] | None:
            nonlocal part, ranges, intensities
            distances, echoes = mount.sweep(parts[part], leads[part], self.reach, shine, self.sees)
            rows, shape = slice(ends[part], ends[part + 1]), (len(rays), -1)
            ranges[rows], intensities[rows] = self._echo(
                distances.reshape(shape), echoes.reshape(shape), air.extinction
            )
            part = (part + 1) % slices
            if part:
                return None
            whole, ranges, intensities = (ranges, intensities), np.empty(count), np.empty(count)
            return self._spoilt(*whole, air.rain_extinction, random)

        return measure

    def _echo(self, distances: Array, echoes: Array, extinction: float) -> tuple[Array, Array]:
        """Range and intensity (n,) of what a beam's rays (rays, n) meet."""
        if extinction == 0 and self.reach_at is None and len(distances) == 1:  # nothing was met beyond reach
            return distances[0], echoes[0]
        with np.errstate(invalid="ignore", over="ignore"):
            left = np.where(np.isfinite(distances), echoes * np.exp(-2 * extinction * distances), 0.0)
            if self.reach_at is not None:
                seen = left * self.reach**2 >= self.reach_at * distances**2
            else:
                seen = distances * np.exp(extinction * distances) <= self.reach
        seen &= np.isfinite(distances)
        if len(distances) == 1:
            return np.where(seen[0], distances[0], math.inf), np.where(seen[0], left[0], 0.0)
        power = np.where(seen, left / np.maximum(distances, 1e-9) ** 2, 0.0)
        power = np.where(seen & (power == 0), 1e-300, power)
        near = np.abs(distances[:, None] - np.where(np.isfinite(distances), distances, 1e300)[None]) <= self.pulse
        near &= seen[None]
        total = (near * power[None]).sum(axis=1)
        rank = {"first": -distances, "last": np.where(seen, distances, -math.inf), "strongest": total}[self.takes]
        best = np.where(seen, rank, -math.inf).argmax(axis=0)
        column = np.arange(distances.shape[1])
        weights = near[best, :, column].T * power
        with np.errstate(invalid="ignore"):
            whole = weights.sum(axis=0)
            range_ = np.where(weights > 0, weights * np.where(seen, distances, 0.0), 0.0).sum(axis=0) / whole
            shine = (weights * left).sum(axis=0) / whole
        hit = whole > 0
        return np.where(hit, range_, math.inf), np.where(hit, shine, 0.0)

    def _spoilt(self, ranges: Array, shine: Array, rain: float, random: np.random.Generator) -> tuple[Array, Array]:
        """What is read of true ranges: ghosts of rain, noise, steps, lost beams, and nothing out of reach."""
        if rain > 0 and self.ghosts > 0:
            # A drop at s echoes with a density of ghosts·2σ·e^(−2σs): of all drops the nearest counts.
            far = np.minimum(ranges, self.reach)
            chance = self.ghosts * -np.expm1(-2 * rain * far)
            drop = -np.log1p(-random.random(len(ranges)) * -np.expm1(-2 * rain * far)) / (2 * rain)
            ghost = random.random(len(ranges)) < chance
            ranges, shine = np.where(ghost, drop, ranges), np.where(ghost, 0.02, shine)
        if self.noise > 0 or self.noise_share > 0:
            deviation = np.hypot(self.noise, self.noise_share * np.where(np.isfinite(ranges), ranges, 0.0))
            ranges = ranges + random.standard_normal(len(ranges)) * deviation
        if self.resolution > 0:
            ranges = np.round(ranges / self.resolution) * self.resolution
        lost = (ranges < self.nearest) | (ranges > self.reach)
        if self.dropouts > 0:
            lost |= random.random(len(ranges)) < self.dropouts
        return np.where(lost, math.inf, ranges), np.where(lost, 0.0, shine)

    @property
    def age(self) -> float:
        """From the first beam of a turn to its stamp, s."""
        return self.period if self.turning else 0.0


class Lidar(_Ranging):
    """A planar lidar: beams in the xy plane of its mount, evenly over a field about +x, the rightmost first.

    Args:
        period: of a turn, s.
        beams: how many, two or more.
        field: angle from the first beam to the last, rad; a full turn has one beam each 360°/beams, from −180° on.
        more: see ``Optics`` and ``Timing``.

    >>> Lidar(beams=3, field="90 deg").bearings.round(3).tolist()
    [-0.785, 0.0, 0.785]
    """

    message = "sensor_msgs/msg/LaserScan"

    def __init__(self, period: Quantity = 0.1, beams: int = 180, field: Quantity = "270 deg", **more: Any) -> None:
        timing, optics = split(more)
        super().__init__(period, optics, **timing)
        self.field = quantity(field, "angle", "Lidar field")
        if beams < 2 or not 0 < self.field <= 2 * math.pi + 1e-9:
            raise VeldrainError(
                f"{beams} beams over {math.degrees(self.field):g}°", where="Lidar",
                cure="give two beams or more over a field of up to 360°",
            )  # fmt: skip
        self.columns = beams
        # Over a full turn the last beam would lie on the first: n beams are 360°/n apart.
        is_whole = self.field > 2 * math.pi - 1e-9
        self.bearings: Array = np.linspace(-self.field / 2, self.field / 2, beams, endpoint=not is_whole)
        self.directions = np.stack([np.cos(self.bearings), np.sin(self.bearings), np.zeros(beams)], axis=1)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Scan | None]:
        take = self.beams(mount, random)

        def measure() -> Scan | None:
            found = take()
            return None if found is None else Scan(found[0], self.bearings, found[1], self.age)

        return measure

    def to_message(self, reading: Scan) -> Fields:
        return Fields(
            angle_min=float(self.bearings[0]),
            angle_max=float(self.bearings[-1]),
            angle_increment=float(self.bearings[1] - self.bearings[0]),
            time_increment=self.age / len(self.bearings),
            scan_time=self.period,
            range_min=self.nearest,
            range_max=self.reach,
            ranges=reading.ranges.astype(np.float32),
            intensities=reading.intensities.astype(np.float32),
        )


class SpinningLidar(_Ranging):
    """A lidar that turns about z of its mount with several beams above each other.

    Args:
        period: of a turn, s.
        elevations: of the beams above the xy plane, rad: the sheet's table, or how many beams evenly over ``height``.
        azimuths: firings in a turn.
        height: (lowest, highest) elevation where only a number of beams is given, rad.
        field: angle about +x that it looks over, rad.
        more: see ``Optics`` and ``Timing``.

    Raises:
        VeldrainError: no beams, elevations beyond ±90°, a field of more than a turn.

    >>> SpinningLidar(elevations=["-5 deg", 0, "5 deg"], azimuths=4).directions.shape
    (12, 3)
    """

    message = "sensor_msgs/msg/PointCloud2"

    def __init__(
        self,
        period: Quantity = 0.1,
        elevations: int | Sequence[Quantity] = 16,
        azimuths: int = 900,
        height: Sequence[Quantity] = ("-15 deg", "15 deg"),
        field: Quantity = "360 deg",
        **more: Any,
    ) -> None:
        timing, optics = split(more)
        super().__init__(period, optics, **timing)
        if isinstance(elevations, int):
            low, high = quantities(height, "angle", "SpinningLidar height", 2)
            self.elevations: Array = np.linspace(low, high, max(elevations, 0))
        else:
            self.elevations = np.array(quantities(elevations, "angle", "SpinningLidar elevations", len(elevations)))
        self.field = quantity(field, "angle", "SpinningLidar field")
        rings = len(self.elevations)
        if rings < 1 or azimuths < 1 or np.abs(self.elevations).max(initial=0) > math.pi / 2:
            raise VeldrainError(f"{rings} × {azimuths} beams", where="SpinningLidar",
                                cure="give elevations of -90° to 90° and azimuths of 1 or more")  # fmt: skip
        if not 0 < self.field <= 2 * math.pi + 1e-9:
            raise VeldrainError(f"a field of {math.degrees(self.field):g}°", where="SpinningLidar",
                                cure="give up to 360°")  # fmt: skip
        self.columns = azimuths
        self.azimuths: Array = self.field * ((np.arange(azimuths) + 0.5) / azimuths - 0.5)
        up, around = np.meshgrid(self.elevations, self.azimuths)  # by azimuth, then by ring: in order of time
        self.directions = ways_along(around, up).reshape(-1, 3)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Cloud | None]:
        take, shape = self.beams(mount, random), (self.columns, len(self.elevations))
        times = (np.arange(self.columns) / self.columns - 1) * self.age

        def measure() -> Cloud | None:
            found = take()
            if found is None:
                return None
            ranges, shine = (values.reshape(shape).T for values in found)
            reached = np.where(np.isfinite(ranges), ranges, math.nan)
            points = reached[..., None] * self.directions.reshape(*shape, 3).transpose(1, 0, 2)
            return Cloud(ranges, points, shine, times, self.age)

        return measure

    def to_message(self, reading: Cloud) -> Fields:
        rings, columns = reading.ranges.shape
        ring = np.broadcast_to(np.arange(rings, dtype=np.uint16)[:, None], (rings, columns))
        # Seconds after the header's stamp, which is the time of the first beam.
        time: NDArray[Any] = np.broadcast_to(reading.times + reading.age, (rings, columns))
        return cloud_message(reading.points, intensity=reading.intensities, ring=ring, time=time)


def split(more: dict[str, Any]) -> tuple[Timing, dict[str, Any]]:
    """Arguments of ``Timing``, and the others."""
    timing: Any = {word: value for word, value in more.items() if word in Timing.__annotations__}
    return timing, {word: value for word, value in more.items() if word not in timing}
