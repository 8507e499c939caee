"""What tells a robot where it is on the earth: satellites, the earth's field, the pressure of the air."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from types import SimpleNamespace as Fields
from typing import Unpack

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Mount
from veldrain.model.lights import Air
from veldrain.pose import Array
from veldrain.sensing.clouds import ways_along
from veldrain.sensing.noise import Wander, not_negative, share
from veldrain.sensing.timing import Timed, Timing, xyz
from veldrain.units import Quantity, quantities, quantity

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


class Gnss(Timed):
    """A satellite receiver: its position with noise, with drift, and now and then without.

    The world's x axis points east, y north. Drift is a first-order Gauss-Markov process: its correlation falls by
    e^(−t/drift_time).

    Args:
        period: s.
        noise: standard deviation of a sample, east and north, m.
        noise_up: the same upward, m.
        drift: standard deviation of what comes and goes slowly, east and north, m.
        drift_up: the same upward, m.
        drift_time: over which the drift is correlated, s.
        outages: times without a fix, (from, to) in s.
        open_sky: share of the sky, over 10° above the horizon, that must be free for a fix.
        origin: (latitude, longitude, altitude) of the world's origin: rad or ``"52.1 deg"``, and m above the ellipsoid.
        timing: see ``Timing``.

    >>> Gnss(noise="1.2 m", outages=[("10 s", "14 s")]).outages
    ((10.0, 14.0),)
    """

    message = "sensor_msgs/msg/NavSatFix"
    perfect = dict.fromkeys(("noise", "noise_up", "drift", "drift_up"), 0.0)

    def __init__(
        self,
        period: Quantity = 0.2,
        noise: Quantity = 0.0,
        noise_up: Quantity = 0.0,
        drift: Quantity = 0.0,
        drift_up: Quantity = 0.0,
        drift_time: Quantity = 120.0,
        outages: Sequence[Sequence[Quantity]] = (),
        open_sky: Quantity = 0.0,
        origin: Sequence[Quantity] = ("52.5 deg", "5.5 deg", 0.0),
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.noise, self.noise_up, self.drift, self.drift_up = (
            not_negative(value, "length", f"Gnss {word}") for word, value in
            (("noise", noise), ("noise_up", noise_up), ("drift", drift), ("drift_up", drift_up))
        )  # fmt: skip
        self.drift_time = quantity(drift_time, "time", "Gnss drift_time")
        if not self.drift_time > 0:
            raise VeldrainError(f"drift_time is {self.drift_time:g} s", where="Gnss", cure="give a time above zero")
        self.outages = tuple(quantities(span, "time", "Gnss outages", 2) for span in outages)
        if any(not start < end for start, end in self.outages):
            raise VeldrainError("an outage that ends before it starts", where="Gnss", cure="give (from, to)")
        self.open_sky = share(open_sky, "Gnss open_sky")
        latitude, longitude, altitude = origin
        self.origin = (quantity(latitude, "angle", "Gnss origin"), quantity(longitude, "angle", "Gnss origin"),
                       quantity(altitude, "length", "Gnss origin"))  # fmt: skip
        if not (abs(self.origin[0]) <= math.pi / 2 and abs(self.origin[1]) <= math.pi):
            raise VeldrainError(f"an origin at {math.degrees(self.origin[0]):g}°, {math.degrees(self.origin[1]):g}°",
                                where="Gnss", cure="give latitude and longitude as '52.5 deg'")  # fmt: skip

    @cached_property
    def sky(self) -> Array:
        """Unit vectors (n, 3) spread evenly over the sky from 10° above the horizon on, world axes."""
        heights = np.arcsin(np.linspace(math.sin(math.radians(10)), 0.98, SKY))
        up, around = (a.ravel() for a in np.meshgrid(heights, np.arange(SKY) * 2 * math.pi / SKY))
        return ways_along(around, up)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Fix]:
        drifts = np.array((self.drift, self.drift, self.drift_up))
        noises = np.array((self.noise, self.noise, self.noise_up))
        keeps = math.exp(-self.period / self.drift_time)
        drift = random.standard_normal(3) * drifts
        sky = self.sky

        def measure() -> Fix:
            nonlocal drift
            drift = keeps * drift + random.standard_normal(3) * drifts * math.sqrt(1 - keeps**2)
            noise = random.standard_normal(3) * noises
            at, now = mount.position(), mount.now()
            is_out = any(start <= now < end for start, end in self.outages)
            if not is_out and self.open_sky > 0:
                met = mount.strike(np.tile(at, (len(sky), 1)), sky, 1e3, "visual").distances
                is_out = bool(np.isinf(met).mean() < self.open_sky)
            if is_out:
                return Fix(np.full(3, math.nan), math.nan, math.nan, math.nan, False)
            found = at + drift + noise
            return Fix(found, *on_earth(found, self.origin), True)

        return measure

    def to_message(self, reading: Fix) -> Fields:
        variance = [self.noise**2 + self.drift**2] * 2 + [self.noise_up**2 + self.drift_up**2]
        return Fields(
            status=Fields(status=0 if reading.has_fix else -1, service=1),
            latitude=math.degrees(reading.latitude),
            longitude=math.degrees(reading.longitude),
            altitude=reading.altitude,
            position_covariance=np.diag(variance).ravel(),
            position_covariance_type=2,  # its diagonal is known
        )


@dataclass(frozen=True)
class Field:
    """Flux density (3,) in T, in the sensor's axes."""

    field: Array


class Magnetometer(Timed):
    """The earth's field in the sensor's axes; the world's x axis points east, y north.

    Args:
        period: s.
        strength: of the field, T.
        inclination: how far it points down, rad.
        declination: how far its level part points east of north, rad.
        noise: standard deviation of a sample, T.
        bias: standard deviation, over trials, of what iron on the robot adds to each axis, T.
        walk: random walk of the bias, T/√s.
        resolution: T.
        most: readings end there, T.
        timing: see ``Timing``.

    >>> round(Magnetometer(strength="50 uT").strength, 9)
    5e-05
    """

    message = "sensor_msgs/msg/MagneticField"
    perfect = {"noise": 0.0, "bias": 0.0, "walk": 0.0, "resolution": 0.0, "most": math.inf}

    def __init__(
        self,
        period: Quantity = 0.02,
        strength: Quantity = 49e-6,
        inclination: Quantity = "67 deg",
        declination: Quantity = "2 deg",
        noise: Quantity = 0.0,
        bias: Quantity = 0.0,
        walk: float = 0.0,
        resolution: Quantity = 0.0,
        most: Quantity = math.inf,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.strength, self.noise, self.bias, self.resolution, self.most = (
            not_negative(value, "flux density", f"Magnetometer {word}") if value != math.inf else math.inf
            for word, value in (("strength", strength), ("noise", noise), ("bias", bias), ("resolution", resolution),
                                ("most", most))
        )  # fmt: skip
        self.walk = not_negative(walk, "ratio", "Magnetometer walk")
        down, east = (quantity(v, "angle", "Magnetometer") for v in (inclination, declination))
        level = self.strength * math.cos(down)
        self.field: Array = np.array((level * math.sin(east), level * math.cos(east), -self.strength * math.sin(down)))

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Field]:
        errors = Wander(random, self.bias, self.noise, self.walk, self.period, self.resolution, self.most)
        return lambda: Field(errors.add_to(mount.axes().T @ self.field))

    def to_message(self, reading: Field) -> Fields:
        return Fields(magnetic_field=xyz(reading.field), magnetic_field_covariance=np.eye(3).ravel() * self.noise**2)


@dataclass(frozen=True)
class Pressure:
    """Pressure of the air in Pa."""

    pressure: float


def pressure_at(height: float, air: Air) -> float:
    """Pressure (Pa) at a height (m): p₀·(1 − L·h/T₀)^(g·M/(R·L)), the standard atmosphere (ISO 2533).

    >>> round(pressure_at(1000.0, Air()))
    89875
    """
    return float(air.pressure * (1 - LAPSE * height / air.temperature) ** (WEIGHT * MOLAR / (GAS * LAPSE)))


class Barometer(Timed):
    """The pressure of the air at its height; ``Air`` says what it is at height 0.

    Args:
        period: s.
        noise: standard deviation of a sample, Pa: 12 Pa are a metre.
        bias: standard deviation over trials, Pa.
        walk: random walk of the bias, Pa/√s.
        resolution: Pa.
        timing: see ``Timing``.

    >>> Barometer(noise="3 Pa").message
    'sensor_msgs/msg/FluidPressure'
    """

    message = "sensor_msgs/msg/FluidPressure"
    perfect = {"noise": 0.0, "bias": 0.0, "walk": 0.0, "resolution": 0.0}

    def __init__(
        self,
        period: Quantity = 0.04,
        noise: Quantity = 0.0,
        bias: Quantity = 0.0,
        walk: float = 0.0,
        resolution: Quantity = 0.0,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        self.noise, self.bias, self.resolution = (
            not_negative(value, "pressure", f"Barometer {word}")
            for word, value in (("noise", noise), ("bias", bias), ("resolution", resolution))
        )
        self.walk = not_negative(walk, "ratio", "Barometer walk")

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Pressure]:
        errors, air = Wander(random, self.bias, self.noise, self.walk, self.period, self.resolution), mount.world.air
        return lambda: Pressure(float(errors.add_to(np.full(3, pressure_at(mount.position()[2], air)))[0]))

    def to_message(self, reading: Pressure) -> Fields:
        return Fields(fluid_pressure=reading.pressure, variance=self.noise**2)
