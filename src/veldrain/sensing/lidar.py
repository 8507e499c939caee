"""Lidars: one that scans a plane, and one with several channels above each other."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, ClassVar, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.model.sensor import Fields, Message, Mount, Sensor, Sight, looking
from veldrain.pose import Array
from veldrain.sensing.clouds import cloud_message, directions_at
from veldrain.sensing.noise import stepped
from veldrain.sheet import Choice, Flag, Made, Maybe, Number, Row, Whole
from veldrain.units import Quantity, quantities

RETURNS = ("first", "strongest", "last")
FOOTPRINT = 6  # rays around the one in a beam's middle
MOST_SLICES = 8
R = TypeVar("R")


@dataclass(frozen=True)
class Scan:
    """One turn of a planar lidar: ranges (n,) in m (inf: nothing met) at angles (n,) in rad, and intensities (n,)."""

    ranges: Array
    angles: Array
    intensities: Array = field(default_factory=lambda: np.zeros(0))


@dataclass(frozen=True)
class Cloud:
    """One turn of a lidar with several channels.

    Attributes:
        ranges: (channels, azimuths) in m; inf: nothing met.
        points: (channels, azimuths, 3) in m, each in the sensor's axes at its own time; nan: nothing met.
        intensities: (channels, azimuths), 0 to 1.
        times: (azimuths,) of the beams before the stamp, s, zero or negative.
    """

    ranges: Array
    points: Array
    intensities: Array
    times: Array


class _Lidar(Sensor):
    """What all lidars have: beams, echoes, and what a data sheet says goes wrong with them."""

    has_gaps: ClassVar[bool] = True

    period: Number = Number("period", default=0.1, above=0.0, kw_only=False, doc="of a turn, or its rate")
    min_range: Number = Number("length", default=0.05, least=0.0, doc="nearer targets read inf")
    max_range: Number = Number("length", default=10.0, above=0.0, doc="farther targets read inf")
    reference_reflectivity: Maybe[Quantity, float] = Maybe(
        Number("ratio", least=0.0, most=1.0),
        default=None,
        doc="reflectance that max_range is stated for: an echo, as ρ·cos i·e^(−2σr)/r² (i: angle of incidence, "
        "σ: extinction in fog and rain), must be no weaker than reference_reflectivity/max_range². "
        "None: everything is seen up to max_range in clear air, and up to r·e^(σr) = max_range in fog",
    )
    noise: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a range")
    relative_noise: Number = Number(
        "ratio", default=0.0, least=0.0, exact=0.0, doc="the same as a fraction of the range; root sum of squares"
    )
    resolution: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="of a range; 0: continuous")
    dropouts: Number = Number(
        "ratio", default=0.0, least=0.0, most=1.0, exact=0.0, doc="fraction of beams that give nothing"
    )
    divergence: Number = Number(
        "angle", default=0.0, least=0.0, doc="full angle of a beam: seven rays over its footprint are one echo"
    )
    range_discrimination: Number = Number(
        "length", default=0.3, least=0.0, doc="echoes that are nearer to each other are one"
    )
    returns: Choice = Choice(*RETURNS, default="first", doc="which of several echoes is read")
    rain_false_returns: Number = Number(
        "ratio",
        default=0.002,
        least=0.0,
        most=1.0,
        exact=0.0,
        doc="fraction of what rain takes from a beam that comes back as the echo of a drop",
    )
    motion_distortion: Flag = Flag(
        default=True,
        doc="True: each beam goes out at its own time within the period, from where the sensor then is; False: all at "
        "one moment. A turn is taken in up to eight slices: in each the sensor keeps its velocity and spin, and "
        "other things stand still",
    )
    sees: Choice = Choice("visual", "collision", default="visual", doc="which shapes it meets")
    looks: Choice = looking()

    def aim(self) -> str:
        return self.looks

    def check(self) -> None:
        if not self.min_range < self.max_range:
            raise VeldrainError(
                f"min_range is {self.min_range:g} m and max_range {self.max_range:g} m",
                where=type(self).__name__,
                cure="min_range is less than max_range",
            )
        if self.first is None and self.motion_distortion:
            self.fill(first=self.period)

    @property
    def directions(self) -> Array:
        """Unit vectors (n, 3) of the beams in the mount, in the order in which they go out."""
        raise NotImplementedError

    @property
    def firings(self) -> int:
        """How many times beams go out in a turn; those that go out together follow each other in ``directions``."""
        raise NotImplementedError

    @property
    def slices(self) -> int:
        return MOST_SLICES if self.motion_distortion else 1

    def age(self, reading: Any) -> float:
        return self.period if self.motion_distortion else 0.0

    def sight(self) -> Sight:
        return Sight(self.directions, self.max_range, sees=self.sees)

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

    def echo(self, distances: Array, echoes: Array, extinction: float) -> tuple[Array, Array]:
        """Range and intensity (n,) of what a beam's rays (rays, n) meet."""
        level = self.reference_reflectivity
        if extinction == 0 and level is None and len(distances) == 1:  # nothing was met beyond max_range
            return distances[0], echoes[0]
        with np.errstate(invalid="ignore", over="ignore"):
            left = np.where(np.isfinite(distances), echoes * np.exp(-2 * extinction * distances), 0.0)
            if level is not None:
                seen = left * self.max_range**2 >= level * distances**2
            else:
                seen = distances * np.exp(extinction * distances) <= self.max_range
        seen &= np.isfinite(distances)
        if len(distances) == 1:
            return np.where(seen[0], distances[0], math.inf), np.where(seen[0], left[0], 0.0)
        power = np.where(seen, left / np.maximum(distances, 1e-9) ** 2, 0.0)
        power = np.where(seen & (power == 0), 1e-300, power)
        apart = np.abs(distances[:, None] - np.where(np.isfinite(distances), distances, 1e300)[None])
        near = (apart <= self.range_discrimination) & seen[None]
        total = (near * power[None]).sum(axis=1)
        rank = {"first": -distances, "last": np.where(seen, distances, -math.inf), "strongest": total}[self.returns]
        best = np.where(seen, rank, -math.inf).argmax(axis=0)
        column = np.arange(distances.shape[1])
        weights = near[best, :, column].T * power
        with np.errstate(invalid="ignore"):
            whole = weights.sum(axis=0)
            range_ = np.where(weights > 0, weights * np.where(seen, distances, 0.0), 0.0).sum(axis=0) / whole
            shine = (weights * left).sum(axis=0) / whole
        hit = whole > 0
        return np.where(hit, range_, math.inf), np.where(hit, shine, 0.0)

    def spoilt(self, ranges: Array, shine: Array, rain: float, random: np.random.Generator) -> tuple[Array, Array]:
        """What is read of true ranges: drops of rain, noise, steps, lost beams, and nothing out of range."""
        if rain > 0 and self.rain_false_returns > 0:
            # A drop at s echoes with a density of f·2σ·e^(−2σs), f: rain_false_returns; the nearest counts.
            far = np.minimum(ranges, self.max_range)
            chance = self.rain_false_returns * -np.expm1(-2 * rain * far)
            drop = -np.log1p(-random.random(len(ranges)) * -np.expm1(-2 * rain * far)) / (2 * rain)
            is_drop = random.random(len(ranges)) < chance
            ranges, shine = np.where(is_drop, drop, ranges), np.where(is_drop, 0.02, shine)
        if self.noise > 0 or self.relative_noise > 0:
            deviation = np.hypot(self.noise, self.relative_noise * np.where(np.isfinite(ranges), ranges, 0.0))
            ranges = ranges + random.standard_normal(len(ranges)) * deviation
        ranges = stepped(ranges, self.resolution)
        lost = (ranges < self.min_range) | (ranges > self.max_range)
        if self.dropouts > 0:
            lost |= random.random(len(ranges)) < self.dropouts
        return np.where(lost, math.inf, ranges), np.where(lost, 0.0, shine)


S = TypeVar("S", bound=_Lidar)


class LidarAtWork(Generic[S, R]):
    """One turn under way: its slices, and what their beams have met so far."""

    def __init__(self, sheet: S, mount: Mount, random: np.random.Generator) -> None:
        self.sheet, self.random = sheet, random
        rays, count, slices = sheet.rays(), len(sheet.directions), mount.slices
        together = count // sheet.firings
        ends = [sheet.firings * k // slices * together for k in range(slices + 1)]
        # Of each beam: when it goes out after the end of its slice, which is before it.
        lead = np.arange(count) // together / sheet.firings * sheet.period
        for k in range(slices):
            lead[ends[k] : ends[k + 1]] -= (k + 1) / slices * sheet.period
        lead = lead if sheet.motion_distortion else np.zeros(count)
        self.ends, self.rays = ends, len(rays)
        self.parts = [np.ascontiguousarray(rays[:, ends[k] : ends[k + 1]].reshape(-1, 3)) for k in range(slices)]
        self.leads = [np.tile(lead[ends[k] : ends[k + 1]], len(rays)) for k in range(slices)]
        self.shine = np.array([look.reflectance for look in mount.looks(sheet.sees)])
        self.ranges, self.intensities, self.part = np.zeros(count), np.zeros(count), 0

    def measure(self, mount: Mount) -> R | None:
        sheet, part = self.sheet, self.part
        distances, echoes = mount.sweep(self.parts[part], self.leads[part], sheet.max_range, self.shine, sheet.sees)
        rows, shape = slice(self.ends[part], self.ends[part + 1]), (self.rays, -1)
        self.ranges[rows], self.intensities[rows] = sheet.echo(
            distances.reshape(shape), echoes.reshape(shape), mount.air.extinction
        )
        self.part = (part + 1) % len(self.parts)
        if self.part:
            return None
        return self.reading(*sheet.spoilt(self.ranges, self.intensities, mount.air.rain_extinction, self.random))

    def reading(self, ranges: Array, intensities: Array) -> R:
        """The reading of a whole turn."""
        raise NotImplementedError


class Lidar(_Lidar):
    """A planar lidar (laser scanner): beams in the xy plane of its mount, evenly over a field of view about +x.

    Use it to map and to keep clear of walls, on level ground. The rightmost beam comes first.

    >>> Lidar(beams=3, field_of_view="90 deg").angles.round(3).tolist()
    [-0.785, 0.0, 0.785]
    """

    message = "sensor_msgs/msg/LaserScan"
    stacks = True

    beams: Whole = Whole(default=180, least=2, doc="in a turn")
    field_of_view: Number = Number(
        "angle",
        default="270 deg",
        above=0.0,
        most=2 * math.pi + 1e-9,
        doc="from the first beam to the last; a full turn has one beam each 360°/beams, from −180° on",
    )

    @property
    def firings(self) -> int:
        return self.beams

    @cached_property
    def angles(self) -> Array:
        """Of the beams about z, (n,) in rad."""
        # Over a full turn the last beam would lie on the first: n beams are 360°/n apart.
        is_whole = self.field_of_view > 2 * math.pi - 1e-9
        return np.linspace(-self.field_of_view / 2, self.field_of_view / 2, self.beams, endpoint=not is_whole)

    @cached_property
    def directions(self) -> Array:
        return np.stack([np.cos(self.angles), np.sin(self.angles), np.zeros(self.beams)], axis=1)

    def outline(self) -> list[Array]:
        return [self.directions[:: max(1, self.beams // 60)]]

    def start(self, mount: Mount, random: np.random.Generator) -> ScanAtWork:
        return ScanAtWork(self, mount, random)

    def messages(self, reading: Scan) -> dict[str, Message]:
        fields = Fields(
            angle_min=float(self.angles[0]),
            angle_max=float(self.angles[-1]),
            angle_increment=float(self.angles[1] - self.angles[0]),
            time_increment=self.age(reading) / self.beams,
            scan_time=self.period,
            range_min=self.min_range,
            range_max=self.max_range,
            ranges=reading.ranges.astype(np.float32),
            intensities=reading.intensities.astype(np.float32),
        )
        return {"": Message(self.message, fields)}


class ScanAtWork(LidarAtWork[Lidar, Scan]):
    """A planar lidar at work."""

    def reading(self, ranges: Array, intensities: Array) -> Scan:
        return Scan(ranges, self.sheet.angles, intensities)


def _elevations(value: Any, where: str) -> tuple[float, ...]:
    return quantities(value, "angle", where, len(value) if hasattr(value, "__len__") else 0)


class SpinningLidar(_Lidar):
    """A spinning lidar: it turns about z of its mount with several channels above each other.

    Use it where the ground is not level, or things are to be recognised by their shape.

    Raises:
        VeldrainError: elevations beyond ±90°, a field of view of more than a turn.

    >>> SpinningLidar(elevations=["-5 deg", 0, "5 deg"], azimuths=4).directions.shape
    (12, 3)
    """

    message = "sensor_msgs/msg/PointCloud2"

    channels: Whole = Whole(default=16, least=1, doc="beams above each other, evenly over vertical_field_of_view")
    vertical_field_of_view: Row = Row(
        "angle", default=("-15 deg", "15 deg"), count=2, doc="(lowest, highest) elevation"
    )
    elevations: Maybe[Sequence[Quantity], tuple[float, ...]] = Maybe(
        Made(_elevations), default=None, doc="of the channels above the xy plane (rad), instead of the two above"
    )
    azimuths: Whole = Whole(default=900, least=1, doc="firings in a turn")
    field_of_view: Number = Number(
        "angle", default="360 deg", above=0.0, most=2 * math.pi + 1e-9, doc="about +x that it looks over"
    )

    def check(self) -> None:
        super().check()
        if not len(self.rings) or np.abs(self.rings).max() > math.pi / 2:
            raise VeldrainError(
                f"elevations are {np.degrees(self.rings).round(3).tolist()} degrees",
                where="SpinningLidar",
                cure="give one or more of -90° to 90°",
            )

    @property
    def firings(self) -> int:
        return self.azimuths

    @cached_property
    def rings(self) -> Array:
        """Elevations (channels,) in rad."""
        if self.elevations is not None:
            return np.array(self.elevations)
        low, high = self.vertical_field_of_view
        return np.linspace(low, high, self.channels)

    @cached_property
    def angles(self) -> Array:
        """Of the firings about z, (azimuths,) in rad."""
        return self.field_of_view * ((np.arange(self.azimuths) + 0.5) / self.azimuths - 0.5)

    @cached_property
    def directions(self) -> Array:
        up, around = np.meshgrid(self.rings, self.angles)  # by azimuth, then by ring: in order of time
        return directions_at(around, up).reshape(-1, 3)

    def outline(self) -> list[Array]:
        around = np.linspace(-self.field_of_view / 2, self.field_of_view / 2, 61)
        return [directions_at(around, np.full(61, up)) for up in (self.rings[0], self.rings[-1])]

    def start(self, mount: Mount, random: np.random.Generator) -> CloudAtWork:
        return CloudAtWork(self, mount, random)

    def messages(self, reading: Cloud) -> dict[str, Message]:
        rings, columns = reading.ranges.shape
        ring = np.broadcast_to(np.arange(rings, dtype=np.uint16)[:, None], (rings, columns))
        # Seconds after the header's stamp, which is the time of the first beam.
        time: NDArray[Any] = np.broadcast_to(reading.times + self.age(reading), (rings, columns))
        fields = cloud_message(reading.points, intensity=reading.intensities, ring=ring, time=time)
        return {"": Message(self.message, fields)}


class CloudAtWork(LidarAtWork[SpinningLidar, Cloud]):
    """A spinning lidar at work."""

    def reading(self, ranges: Array, intensities: Array) -> Cloud:
        sheet, shape = self.sheet, (self.sheet.azimuths, len(self.sheet.rings))
        ranges, intensities = ranges.reshape(shape).T, intensities.reshape(shape).T
        reached = np.where(np.isfinite(ranges), ranges, math.nan)
        points = reached[..., None] * sheet.directions.reshape(*shape, 3).transpose(1, 0, 2)
        age = sheet.age(None)
        return Cloud(ranges, points, intensities, (np.arange(sheet.azimuths) / sheet.azimuths - 1) * age)
