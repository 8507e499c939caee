"""Proximity sensors: one distance for a whole cone, by ultrasound or infrared light."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.looks import Look
from veldrain.model.sensor import Fields, Message, Mount, Sensor, Sight, looking
from veldrain.pose import Array
from veldrain.sheet import Choice, Made, Number, Whole
from veldrain.units import Quantity, quantity

GOLDEN = math.pi * (3 - math.sqrt(5))  # rad: turns of a spiral that covers a disc evenly
Curve = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Nearness:
    """Distance in m (inf: nothing), and the raw value that the calibration curve gives for it."""

    range: float
    raw: float


def _calibration(value: Any, where: str) -> Curve:
    curve = sorted((quantity(at, "length", where), float(raw)) for at, raw in value)
    if len({at for at, _ in curve}) != len(curve):
        raise VeldrainError("two raw values for one distance", where=where, cure="give one")
    return tuple(curve)


class _Cone(Sensor):
    """Rays over a cone about +x of the mount, as an even spiral."""

    radiation: ClassVar[int]
    companions = ("raw",)
    message = "sensor_msgs/msg/Range"
    stacks = True

    noise: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a distance")
    resolution: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="of a distance; 0: continuous")
    dropouts: Number = Number(
        "ratio", default=0.0, least=0.0, most=1.0, exact=0.0, doc="fraction of readings that give nothing"
    )
    calibration: Made[Sequence[tuple[Quantity, float]], Curve] = Made(
        _calibration,
        default=(),
        doc="table of (distance in m, raw value such as V), as a data sheet's curve; none: raw is the distance",
    )
    raw_noise: Number = Number("ratio", default=0.0, least=0.0, exact=0.0, doc="standard deviation of the raw value")
    sees: Choice = Choice("visual", "collision", default="visual", doc="which shapes it meets")
    looks: Choice = looking()

    # Each kind has these with defaults of its own.
    field_of_view: Number
    min_range: Number
    max_range: Number
    rays: Whole

    def aim(self) -> str:
        return self.looks

    def check(self) -> None:
        if not self.min_range < self.max_range:
            raise VeldrainError(
                f"min_range is {self.min_range:g} m and max_range {self.max_range:g} m",
                where=type(self).__name__,
                cure="min_range is less than max_range",
            )

    @cached_property
    def directions(self) -> Array:
        """Unit vectors (n, 3) of the rays in the mount."""
        k = np.arange(self.rays)
        off = self.field_of_view / 2 * np.sqrt(k / max(self.rays - 1, 1))
        turn = GOLDEN * k
        return np.stack([np.cos(off), np.sin(off) * np.cos(turn), np.sin(off) * np.sin(turn)], axis=1)

    def sight(self) -> Sight:
        return Sight(self.directions, self.max_range, sees=self.sees)

    def outline(self) -> list[Array]:
        turn, off = np.linspace(0, 2 * np.pi, 41), self.field_of_view / 2
        return [np.stack([np.full(41, np.cos(off)), np.sin(off) * np.cos(turn), np.sin(off) * np.sin(turn)], axis=1)]

    def raw(self, distance: float) -> float:
        """The raw value for a distance: the calibration curve between its points, its ends beyond them."""
        if not self.calibration:
            return distance
        at, values = zip(*self.calibration, strict=True)
        return float(np.interp(distance, at, values))

    def met(self, distances: Array, cosines: Array, echoes: Array) -> float:
        """One distance out of what the rays meet (inf: nothing)."""
        raise NotImplementedError

    def sent_back(self, look: Look) -> float:
        """How much of what is sent comes back from a look."""
        raise NotImplementedError

    def start(self, mount: Mount, random: np.random.Generator) -> ConeAtWork:
        echoes = np.array([self.sent_back(look) for look in mount.looks(self.sees)] + [0.0])
        return ConeAtWork(self, random, echoes)

    def messages(self, reading: Nearness) -> dict[str, Message]:
        fields = Fields(
            radiation_type=self.radiation,
            field_of_view=self.field_of_view,
            min_range=self.min_range,
            max_range=self.max_range,
            range=reading.range,
        )
        return {"": Message(self.message, fields), "raw": Message("std_msgs/msg/Float64", Fields(data=reading.raw))}


@dataclass
class ConeAtWork:
    """The random stream of its noise, and how much each shape sends back."""

    sheet: _Cone
    random: np.random.Generator
    echoes: Array

    def measure(self, mount: Mount) -> Nearness:
        sheet, random = self.sheet, self.random
        ways = np.ascontiguousarray(sheet.directions @ mount.axes().T)
        found = mount.strike(np.tile(mount.position(), (len(ways), 1)), ways, sheet.max_range, sheet.sees)
        cosines = np.abs(np.einsum("ij,ij->i", found.normals, ways))
        distance = sheet.met(found.distances, cosines, self.echoes[found.sights])
        distance += random.standard_normal() * sheet.noise
        if sheet.resolution > 0 and math.isfinite(distance):
            distance = round(distance / sheet.resolution) * sheet.resolution
        lost = sheet.dropouts > 0 and random.random() < sheet.dropouts
        if lost or not sheet.min_range <= distance <= sheet.max_range:
            distance = math.inf
        return Nearness(distance, sheet.raw(distance) + random.standard_normal() * sheet.raw_noise)


class Ultrasonic(_Cone):
    """An ultrasonic sensor: the nearest thing in its cone that faces it well enough to send sound back.

    Use it for distances to walls and water. Beyond ``max_incidence`` a smooth wall reflects the sound away (specular
    reflection) and is not heard.

    >>> Ultrasonic(calibration=[("0.1 m", 200), ("3 m", 4000)]).raw(1.55)
    2100.0
    """

    radiation = 0

    period: Number = Number("period", default=0.05, above=0.0, kw_only=False, doc="time between samples, or their rate")
    field_of_view: Number = Number("angle", default="30 deg", above=0.0, most=3.14, doc="full angle of the cone")
    min_range: Number = Number("length", default=0.02, least=0.0, doc="nearer targets read inf")
    max_range: Number = Number("length", default=4.0, above=0.0, doc="farther targets read inf")
    max_incidence: Number = Number(
        "angle", default="35 deg", least=0.0, doc="angle of incidence beyond which a wall reflects the sound away"
    )
    rays: Whole = Whole(default=61, least=1, doc="over the cone")

    def sent_back(self, look: Look) -> float:
        return look.echo

    def met(self, distances: Array, cosines: Array, echoes: Array) -> float:
        heard = distances[(cosines >= math.cos(self.max_incidence)) & (echoes > 0)]
        return float(heard.min(initial=math.inf))


class Infrared(_Cone):
    """An infrared distance sensor: where the light in its narrow cone comes back from.

    Use it for cheap, short distances. The distance is the mean over its rays, weighted by reflectance·cos i/r²: what is
    bright and near counts most.

    >>> Infrared(calibration=[("10 cm", 2.3), ("80 cm", 0.4)]).raw(0.1)
    2.3
    """

    radiation = 1

    period: Number = Number("period", default=0.04, above=0.0, kw_only=False, doc="time between samples, or their rate")
    field_of_view: Number = Number("angle", default="4 deg", above=0.0, most=3.14, doc="full angle of the cone")
    min_range: Number = Number("length", default=0.1, least=0.0, doc="nearer targets read inf")
    max_range: Number = Number("length", default=0.8, above=0.0, doc="farther targets read inf")
    rays: Whole = Whole(default=13, least=1, doc="over the cone")

    def sent_back(self, look: Look) -> float:
        return look.reflectance

    def met(self, distances: Array, cosines: Array, echoes: Array) -> float:
        weights = np.where(np.isfinite(distances), echoes * cosines / np.maximum(distances, 1e-6) ** 2, 0.0)
        if not weights.sum() > 0:
            return math.inf
        return float(weights[weights > 0] @ distances[weights > 0] / weights.sum())
