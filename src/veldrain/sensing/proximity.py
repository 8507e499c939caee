"""Proximity sensors: one distance for a whole cone, by ultrasound or infrared light."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from types import SimpleNamespace as Fields
from typing import Any, ClassVar, Unpack

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.noise import not_negative, share
from veldrain.sensing.timing import Timed, Timing
from veldrain.units import Quantity, quantity

GOLDEN = math.pi * (3 - math.sqrt(5))  # rad: turns of a spiral that covers a disc evenly


@dataclass(frozen=True)
class Nearness:
    """Distance in m (inf: nothing), and the raw value that the response curve gives for it."""

    range: float
    raw: float


class _Cone(Timed):
    """Rays over a cone about +x of the mount, as an even spiral."""

    perfect = {"noise": 0.0, "raw_noise": 0.0, "resolution": 0.0, "dropouts": 0.0}
    radiation: ClassVar[int]

    def __init__(
        self,
        period: Quantity,
        cone: Quantity,
        nearest: Quantity,
        reach: Quantity,
        steepest: Quantity,
        noise: Quantity,
        resolution: Quantity,
        dropouts: Quantity,
        response: Sequence[tuple[Quantity, float]],
        raw_noise: float,
        rays: int,
        sees: str,
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        name = type(self).__name__
        self.cone = quantity(cone, "angle", f"{name} cone")
        self.nearest, self.reach = (quantity(v, "length", f"{name} {w}") for v, w in
                                    ((nearest, "nearest"), (reach, "reach")))  # fmt: skip
        self.steepest = quantity(steepest, "angle", f"{name} steepest")
        if not (0 < self.cone < math.pi and rays >= 1):
            raise VeldrainError(f"{rays} rays over a cone of {math.degrees(self.cone):g}°", where=name,
                                cure="give one ray or more and a cone of less than 180°")  # fmt: skip
        if not 0 <= self.nearest < self.reach < math.inf:
            raise VeldrainError(f"nearest is {self.nearest:g} m and reach {self.reach:g} m", where=name,
                                cure="nearest is less than reach")  # fmt: skip
        self.noise = not_negative(noise, "length", f"{name} noise")
        self.resolution = not_negative(resolution, "length", f"{name} resolution")
        self.dropouts = share(dropouts, f"{name} dropouts")
        self.raw_noise = not_negative(raw_noise, "ratio", f"{name} raw_noise")
        self.response = sorted((quantity(at, "length", f"{name} response"), float(raw)) for at, raw in response)
        if len({at for at, _ in self.response}) != len(self.response):
            raise VeldrainError("two raw values for one distance", where=f"{name} response", cure="give one")
        self.sees = sees
        k = np.arange(rays)
        off = self.cone / 2 * np.sqrt(k / max(rays - 1, 1))
        turn = GOLDEN * k
        self.directions: Array = np.stack([np.cos(off), np.sin(off) * np.cos(turn), np.sin(off) * np.sin(turn)], axis=1)

    def raw(self, distance: float) -> float:
        """The raw value for a distance: the response curve between its points, its ends beyond them."""
        if not self.response:
            return distance
        at, values = zip(*self.response, strict=True)
        return float(np.interp(distance, at, values))

    def met(self, distances: Array, cosines: Array, echoes: Array) -> float:
        """One distance out of what the rays meet (inf: nothing)."""
        raise NotImplementedError

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Nearness]:
        looks = mount.looks(self.sees)
        echoes = np.array([self.returns(look) for look in looks] + [0.0])

        def measure() -> Nearness:
            ways = np.ascontiguousarray(self.directions @ mount.axes().T)
            found = mount.strike(np.tile(mount.position(), (len(ways), 1)), ways, self.reach, self.sees)
            cosines = np.abs(np.einsum("ij,ij->i", found.normals, ways))
            distance = self.met(found.distances, cosines, echoes[found.sights])
            distance += random.standard_normal() * self.noise
            if self.resolution > 0 and math.isfinite(distance):
                distance = round(distance / self.resolution) * self.resolution
            lost = self.dropouts > 0 and random.random() < self.dropouts
            if lost or not self.nearest <= distance <= self.reach:
                distance = math.inf
            return Nearness(distance, self.raw(distance) + random.standard_normal() * self.raw_noise)

        return measure

    def returns(self, look: Any) -> float:
        """How much of what is sent comes back from a look."""
        raise NotImplementedError

    companions: ClassVar[Mapping[str, str]] = {"raw": "std_msgs/msg/Float64"}

    def to_companions(self, reading: Nearness) -> dict[str, Fields]:
        return {"raw": Fields(data=reading.raw)}

    def to_message(self, reading: Nearness) -> Fields:
        return Fields(radiation_type=self.radiation, field_of_view=self.cone, min_range=self.nearest,
                      max_range=self.reach, range=reading.range)  # fmt: skip


class Ultrasonic(_Cone):
    """An ultrasonic sensor: the nearest thing in its cone that faces it well enough to send sound back.

    Args:
        period: s.
        cone: full angle, rad.
        nearest: m; what is nearer gives inf.
        reach: m.
        steepest: angle of incidence beyond which a wall mirrors the sound away, rad.
        noise: standard deviation of a distance, m.
        resolution: m.
        dropouts: share of readings that give nothing.
        response: table of (distance in m, raw value), read as a curve of straight pieces; none: raw is the distance.
        raw_noise: standard deviation of the raw value.
        rays: over the cone.
        sees: ``visual`` or ``collision`` shapes.
        timing: see ``Timing``.

    >>> Ultrasonic(response=[("0.1 m", 200), ("3 m", 4000)]).raw(1.55)
    2100.0
    """

    message = "sensor_msgs/msg/Range"
    radiation = 0

    def __init__(
        self,
        period: Quantity = 0.05,
        cone: Quantity = "30 deg",
        nearest: Quantity = 0.02,
        reach: Quantity = 4.0,
        steepest: Quantity = "35 deg",
        noise: Quantity = 0.0,
        resolution: Quantity = 0.0,
        dropouts: Quantity = 0.0,
        response: Sequence[tuple[Quantity, float]] = (),
        raw_noise: float = 0.0,
        rays: int = 61,
        sees: str = "visual",
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, cone, nearest, reach, steepest, noise, resolution, dropouts, response, raw_noise, rays,
                         sees, **timing)  # fmt: skip

    def returns(self, look: Any) -> float:
        return float(look.echo)

    def met(self, distances: Array, cosines: Array, echoes: Array) -> float:
        heard = distances[(cosines >= math.cos(self.steepest)) & (echoes > 0)]
        return float(heard.min(initial=math.inf))


class Infrared(_Cone):
    """An infrared sensor: where the light in its narrow cone comes back from, the bright and near counting most.

    The distance is the mean over its rays, weighted by reflectance·cos i/r².

    Args:
        period: s.
        cone: full angle, rad.
        nearest: m; what is nearer gives inf.
        reach: m.
        noise: standard deviation of a distance, m.
        resolution: m.
        dropouts: share of readings that give nothing.
        response: table of (distance in m, raw value such as V), as a data sheet's curve.
        raw_noise: standard deviation of the raw value.
        rays: over the cone.
        sees: ``visual`` or ``collision`` shapes.
        timing: see ``Timing``.

    >>> Infrared(response=[("10 cm", 2.3), ("80 cm", 0.4)]).raw(0.1)
    2.3
    """

    message = "sensor_msgs/msg/Range"
    radiation = 1

    def __init__(
        self,
        period: Quantity = 0.04,
        cone: Quantity = "4 deg",
        nearest: Quantity = 0.1,
        reach: Quantity = 0.8,
        noise: Quantity = 0.0,
        resolution: Quantity = 0.0,
        dropouts: Quantity = 0.0,
        response: Sequence[tuple[Quantity, float]] = (),
        raw_noise: float = 0.0,
        rays: int = 13,
        sees: str = "visual",
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, cone, nearest, reach, math.pi / 2, noise, resolution, dropouts, response, raw_noise,
                         rays, sees, **timing)  # fmt: skip

    def returns(self, look: Any) -> float:
        return float(look.reflectance)

    def met(self, distances: Array, cosines: Array, echoes: Array) -> float:
        weights = np.where(np.isfinite(distances), echoes * cosines / np.maximum(distances, 1e-6) ** 2, 0.0)
        if not weights.sum() > 0:
            return math.inf
        return float(weights[weights > 0] @ distances[weights > 0] / weights.sum())
