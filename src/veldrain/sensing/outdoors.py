"""What tells a robot where it is on the earth: satellites, the earth's field, the pressure of the air."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache, cached_property
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.lights import Air
from veldrain.model.sensor import Fields, Message, Mount, Sensor
from veldrain.pose import Array
from veldrain.sensing.clouds import directions_at
from veldrain.sensing.noise import Errors
from veldrain.sensing.parts import xyz
from veldrain.sheet import Made, Number, Row
from veldrain.units import Quantity, quantities

# WGS 84 (NIMA TR8350.2, 2000): half axis in m and the first eccentricity squared.
EARTH, ECCENTRIC = 6378137.0, 6.69437999014e-3
LAPSE, GAS, MOLAR, WEIGHT = 0.0065, 8.31446, 0.0289644, 9.80665  # ISO 2533, the standard atmosphere
SKY = 12  # rings and spokes of the rays that look for the open sky


def on_earth(position: Array, origin: Sequence[float]) -> tuple[float, float, float]:
    """Latitude (rad), longitude (rad) and height (m) of a point given in m east, north and up of an origin.

    By way of axes through the earth's middle, and back by B. R. Bowring, Survey Review 23(181), 1976, twice.

    >>> latitude, longitude, height = on_earth(np.array((0.0, 0.0, 5.0)), (0.9, 0.1, 2.0))
    >>> round(latitude, 9), round(longitude, 9), round(height, 6)
    (0.9, 0.1, 7.0)
    """
    latitude, longitude, height = origin
    sp, cp, sl, cl = math.sin(latitude), math.cos(latitude), math.sin(longitude), math.cos(longitude)
    normal = EARTH / math.sqrt(1 - ECCENTRIC * sp * sp)
    centre = np.array(
        [(normal + height) * cp * cl, (normal + height) * cp * sl, (normal * (1 - ECCENTRIC) + height) * sp]
    )
    axes = np.array([[-sl, -sp * cl, cp * cl], [cl, -sp * sl, cp * sl], [0.0, cp, sp]])
    x, y, z = (centre + axes @ position).tolist()
    across, short = math.hypot(x, y), EARTH * math.sqrt(1 - ECCENTRIC)
    reduced = math.atan2(z * EARTH, across * short)
    for _ in range(2):
        up = z + ECCENTRIC / (1 - ECCENTRIC) * short * math.sin(reduced) ** 3
        found = math.atan2(up, across - ECCENTRIC * EARTH * math.cos(reduced) ** 3)
        reduced = math.atan2(short * math.sin(found), EARTH * math.cos(found))
    s, c = math.sin(found), math.cos(found)
    return found, math.atan2(y, x), across * c + z * s - EARTH * math.sqrt(1 - ECCENTRIC * s * s)


@dataclass(frozen=True)
class Fix:
    """A position, or none: (3,) in m in the world, nan without a fix; latitude and longitude in rad, altitude in m."""

    position: Array
    latitude: float
    longitude: float
    altitude: float
    has_fix: bool


@cache
def open_sky() -> Array:
    """Unit vectors (n, 3) spread evenly over the sky from 10° above the horizon on, world axes."""
    heights = np.arcsin(np.linspace(math.sin(math.radians(10)), 0.98, SKY))
    up, around = (a.ravel() for a in np.meshgrid(heights, np.arange(SKY) * 2 * math.pi / SKY))
    return directions_at(around, up)


def _outages(value: Any, where: str) -> tuple[tuple[float, ...], ...]:
    spans = tuple(quantities(span, "time", where, 2) for span in value)
    if any(not start < end for start, end in spans):
        raise VeldrainError("an outage that ends before it starts", where=where, cure="give (from, to)")
    return spans


class Gnss(Sensor):
    """A satellite receiver: its position with noise, drift, and outages.

    The world's x axis points east, y north. Drift is a first-order Gauss-Markov process: its correlation falls by
    e^(−t/correlation_time).

    >>> Gnss(noise="1.2 m", outages=[("10 s", "14 s")]).outages
    ((10.0, 14.0),)
    """

    message = "sensor_msgs/msg/NavSatFix"

    period: Number = Number("period", default=0.2, above=0.0, kw_only=False, doc="time between samples, or their rate")
    noise: Number = Number(
        "length", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample, east and north"
    )
    vertical_noise: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="the same upward")
    drift: Number = Number(
        "length", default=0.0, least=0.0, exact=0.0, doc="standard deviation of the slow error, east and north"
    )
    vertical_drift: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="the same upward")
    correlation_time: Number = Number("time", default=120.0, above=0.0, doc="of the drift")
    outages: Made[Sequence[Sequence[Quantity]], tuple[tuple[float, ...], ...]] = Made(
        _outages, default=(), doc="times without a fix, (from, to) in s"
    )
    open_sky: Number = Number(
        "ratio",
        default=0.0,
        least=0.0,
        most=1.0,
        doc="fraction of the sky, over 10° above the horizon, that must be free for a fix",
    )
    origin: Row = Row(
        "angle",
        "angle",
        "length",
        default=("52.5 deg", "5.5 deg", 0.0),
        doc="(latitude, longitude, altitude above the ellipsoid) of the world's origin",
    )

    def check(self) -> None:
        if not (abs(self.origin[0]) <= math.pi / 2 and abs(self.origin[1]) <= math.pi):
            raise VeldrainError(
                f"an origin at {math.degrees(self.origin[0]):g}°, {math.degrees(self.origin[1]):g}°",
                where="Gnss",
                cure="give latitude and longitude as '52.5 deg'",
            )

    def start(self, mount: Mount, random: np.random.Generator) -> GnssAtWork:
        return GnssAtWork(self, random, random.standard_normal(3) * (self.drift, self.drift, self.vertical_drift))

    def messages(self, reading: Fix) -> dict[str, Message]:
        variance = [self.noise**2 + self.drift**2] * 2 + [self.vertical_noise**2 + self.vertical_drift**2]
        fields = Fields(
            status=Fields(status=0 if reading.has_fix else -1, service=1),
            latitude=math.degrees(reading.latitude),
            longitude=math.degrees(reading.longitude),
            altitude=reading.altitude,
            position_covariance=np.diag(variance).ravel(),
            position_covariance_type=2,  # its diagonal is known
        )
        return {"": Message(self.message, fields)}


@dataclass
class GnssAtWork:
    """Its random stream, and the drift (3,) of now, m."""

    sheet: Gnss
    random: np.random.Generator
    drift: Array

    def measure(self, mount: Mount) -> Fix:
        sheet, sky = self.sheet, open_sky()
        keeps = math.exp(-sheet.period / sheet.correlation_time)
        drifts = np.array((sheet.drift, sheet.drift, sheet.vertical_drift))
        noises = np.array((sheet.noise, sheet.noise, sheet.vertical_noise))
        self.drift = keeps * self.drift + self.random.standard_normal(3) * drifts * math.sqrt(1 - keeps**2)
        noise = self.random.standard_normal(3) * noises
        at, now = mount.position(), mount.now()
        is_out = any(start <= now < end for start, end in sheet.outages)
        if not is_out and sheet.open_sky > 0:
            met = mount.strike(np.tile(at, (len(sky), 1)), sky, 1e3, "visual").distances
            is_out = bool(np.isinf(met).mean() < sheet.open_sky)
        if is_out:
            return Fix(np.full(3, math.nan), math.nan, math.nan, math.nan, False)
        found = at + self.drift + noise
        return Fix(found, *on_earth(found, sheet.origin), True)


@dataclass(frozen=True)
class Field:
    """Flux density (3,) in T, in the sensor's axes."""

    magnetic_field: Array


class Magnetometer(Sensor):
    """A compass on three axes: the earth's field in the sensor's axes; the world's x axis points east, y north.

    >>> round(Magnetometer(field_strength="50 uT").field_strength, 9)
    5e-05
    """

    message = "sensor_msgs/msg/MagneticField"
    stacks = True

    period: Number = Number("period", default=0.02, above=0.0, kw_only=False, doc="time between samples, or their rate")
    field_strength: Number = Number("flux density", default=49e-6, least=0.0, doc="of the earth's field")
    inclination: Number = Number("angle", default="67 deg", doc="dip of the field below the horizon")
    declination: Number = Number("angle", default="2 deg", doc="of the field's level part, east of north")
    noise: Number = Number("flux density", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample")
    bias: Number = Number(
        "flux density",
        default=0.0,
        least=0.0,
        exact=0.0,
        doc="standard deviation, over trials, of what iron on the robot adds to each axis",
    )
    bias_random_walk: Number = Number(
        "flux density random walk", default=0.0, least=0.0, exact=0.0, doc="random walk of the bias"
    )
    resolution: Number = Number(
        "flux density", default=0.0, least=0.0, exact=0.0, doc="of the output (LSB); 0: continuous"
    )
    full_scale: Number = Number("flux density", default=math.inf, above=0.0, exact=math.inf, doc="readings end there")

    @cached_property
    def field(self) -> Array:
        """The earth's field (3,) in the world, T."""
        level = self.field_strength * math.cos(self.inclination)
        east, north = level * math.sin(self.declination), level * math.cos(self.declination)
        return np.array((east, north, -self.field_strength * math.sin(self.inclination)))

    def start(self, mount: Mount, random: np.random.Generator) -> MagnetometerAtWork:
        errors = Errors(
            random, self.bias, self.noise, self.bias_random_walk, self.period, self.resolution, self.full_scale
        )
        return MagnetometerAtWork(self.field, errors)

    def messages(self, reading: Field) -> dict[str, Message]:
        covariance = np.eye(3).ravel() * self.noise**2
        fields = Fields(magnetic_field=xyz(reading.magnetic_field), magnetic_field_covariance=covariance)
        return {"": Message(self.message, fields)}


@dataclass
class MagnetometerAtWork:
    """Its errors."""

    field: Array
    errors: Errors

    def measure(self, mount: Mount) -> Field:
        return Field(self.errors.add_to(mount.axes().T @ self.field))


@dataclass(frozen=True)
class Pressure:
    """Pressure of the air in Pa."""

    fluid_pressure: float


def pressure_at(height: float, air: Air) -> float:
    """Pressure (Pa) at a height (m): p₀·(1 − L·h/T₀)^(g·M/(R·L)), the standard atmosphere (ISO 2533).

    >>> round(pressure_at(1000.0, Air()))
    89875
    """
    return float(air.pressure * (1 - LAPSE * height / air.temperature) ** (WEIGHT * MOLAR / (GAS * LAPSE)))


class Barometer(Sensor):
    """A barometer: the pressure of the air at its height; ``Air`` says what it is at height 0. 12 Pa are a metre.

    >>> Barometer(noise="3 Pa").message
    'sensor_msgs/msg/FluidPressure'
    """

    message = "sensor_msgs/msg/FluidPressure"
    stacks = True

    period: Number = Number("period", default=0.04, above=0.0, kw_only=False, doc="time between samples, or their rate")
    noise: Number = Number("pressure", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample")
    bias: Number = Number("pressure", default=0.0, least=0.0, exact=0.0, doc="standard deviation over trials")
    bias_random_walk: Number = Number(
        "pressure random walk", default=0.0, least=0.0, exact=0.0, doc="random walk of the bias"
    )
    resolution: Number = Number("pressure", default=0.0, least=0.0, exact=0.0, doc="of the output (LSB); 0: continuous")

    def start(self, mount: Mount, random: np.random.Generator) -> BarometerAtWork:
        errors = Errors(random, self.bias, self.noise, self.bias_random_walk, self.period, self.resolution)
        return BarometerAtWork(errors)

    def messages(self, reading: Pressure) -> dict[str, Message]:
        return {"": Message(self.message, Fields(fluid_pressure=reading.fluid_pressure, variance=self.noise**2))}


@dataclass
class BarometerAtWork:
    """Its errors."""

    errors: Errors

    def measure(self, mount: Mount) -> Pressure:
        true = pressure_at(mount.position()[2], mount.air)
        return Pressure(float(self.errors.add_to(np.full(3, true))[0]))
