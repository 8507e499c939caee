"""A radar: detections with range, angles, radial velocity and cross-section."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.sensor import Message, Mount, Sensor, Sight, looking
from veldrain.pose import Array
from veldrain.sensing.clouds import cloud_message, directions_at
from veldrain.sheet import Choice, Flag, Number

DENSE = math.radians(0.5)  # between rays
MOST_RAYS = 20e3
FALSE_ALARM = 1e-6  # probability that noise alone passes for a detection in a cell
LIES_FLAT = math.cos(math.radians(20))
HALF = math.log(FALSE_ALARM) / math.log(0.5) - 1  # signal over noise that is detected every other time


@dataclass(frozen=True)
class Detections:
    """What a radar has detected, n things.

    Attributes:
        ranges: (n,) m.
        azimuths: (n,) rad, about z of the mount from +x.
        elevations: (n,) rad, above its xy plane.
        radial_velocities: (n,) m/s: positive going away.
        cross_sections: (n,) radar cross-sections, m².
        ground: (n,) 1 where most of the echo came off what lies flat and faces up, such as a road; else 0.
    """

    ranges: Array
    azimuths: Array
    elevations: Array
    radial_velocities: Array
    cross_sections: Array
    ground: Array


class Radar(Sensor):
    """A radar that looks along +x of its mount.

    Use it to see vehicles and their speed through rain and fog. Rays over its field of view meet surfaces; each stands
    for a cross-section of 4·echo·cos i·r²·dΩ, as of a surface that scatters evenly (a ball of radius R has
    8/3·π·R²·echo). What falls into one cell of range, azimuth and radial velocity is one detection, found with the
    probability P^(1/(1 + S)) of a target of Swerling's first case, S being the signal over noise, which is proportional
    to the cross-section over r⁴ (M. Skolnik, Introduction to Radar Systems, chapter 2). What comes off the ground is
    marked, so that it can be told from things.

    >>> Radar(field_of_view="60 deg", azimuth_resolution="4 deg").message
    'sensor_msgs/msg/PointCloud2'
    """

    message = "sensor_msgs/msg/PointCloud2"

    period: Number = Number("period", default=0.05, above=0.0, kw_only=False, doc="time between samples, or their rate")
    field_of_view: Number = Number("angle", default="90 deg", above=0.0, most=2 * math.pi, doc="full angle in azimuth")
    vertical_field_of_view: Number = Number(
        "angle", default="16 deg", above=0.0, most=math.pi, doc="full angle in elevation"
    )
    min_range: Number = Number("length", default=0.2, least=0.0, doc="what is nearer is not detected")
    max_range: Number = Number(
        "length",
        default=40.0,
        above=0.0,
        doc="at which cross_section is detected with a probability of 50 %; the end is at one and a half of it",
    )
    cross_section: Number = Number("area", default=1.0, above=0.0, doc="that max_range is stated for")
    range_resolution: Number = Number("length", default=0.2, above=0.0, doc="of a cell")
    azimuth_resolution: Number = Number("angle", default="3 deg", above=0.0, doc="of a cell")
    velocity_resolution: Number = Number("speed", default=0.1, above=0.0, doc="of a cell, in radial velocity")
    range_noise: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="standard deviation")
    azimuth_noise: Number = Number("angle", default=0.0, least=0.0, exact=0.0, doc="standard deviation")
    velocity_noise: Number = Number("speed", default=0.0, least=0.0, exact=0.0, doc="standard deviation")
    detection_probability: Number = Number(
        "ratio", default=1.0, least=0.0, most=1.0, exact=1.0, doc="beside what range and cross-section make of it"
    )
    false_detections: Number = Number("ratio", default=0.0, least=0.0, exact=0.0, doc="in a reading, on average")
    filters_ground: Flag = Flag(
        default=False, doc="True: detections of the ground are left out, as by radars that do so"
    )
    sees: Choice = Choice("visual", "collision", default="visual", doc="which shapes it meets")
    looks: Choice = looking()

    def aim(self) -> str:
        return self.looks

    def check(self) -> None:
        if self.min_range >= self.max_range:
            raise VeldrainError(
                f"min_range is {self.min_range:g} m and max_range {self.max_range:g} m",
                where="Radar",
                cure="min_range is less than max_range",
            )
        if self.vertical_field_of_view >= math.pi:
            raise VeldrainError("vertical_field_of_view is 180°", where="Radar", cure="give less")

    @property
    def _grid(self) -> tuple[int, int]:
        """How many rays in azimuth and elevation: three or more across a cell, but not too many in all."""
        wide, high = self.field_of_view, self.vertical_field_of_view
        apart = max(min(self.azimuth_resolution / 3, DENSE), math.sqrt(wide * high / MOST_RAYS))
        return math.ceil(wide / apart), math.ceil(high / apart)

    @cached_property
    def _angles(self) -> tuple[Array, Array]:
        wide, high = self._grid
        around = self.field_of_view * ((np.arange(wide) + 0.5) / wide - 0.5)
        up = self.vertical_field_of_view * ((np.arange(high) + 0.5) / high - 0.5)
        around, up = (a.ravel() for a in np.meshgrid(around, up))
        return around, up

    @cached_property
    def directions(self) -> Array:
        """Unit vectors (n, 3) of the rays in the mount."""
        return directions_at(*self._angles)

    @cached_property
    def solid_angles(self) -> Array:
        """Of the rays, (n,) in sr."""
        wide, high = self._grid
        return np.cos(self._angles[1]) * (self.field_of_view / wide) * (self.vertical_field_of_view / high)

    def sight(self) -> Sight:
        return Sight(self.directions, 1.5 * self.max_range, sees=self.sees)

    def outline(self) -> list[Array]:
        a, e = self.field_of_view / 2, self.vertical_field_of_view / 2
        edge, side = np.linspace(-1, 1, 11), np.ones(11)
        around = a * np.concatenate([edge, side, -edge, -side])
        up = e * np.concatenate([-side, edge, side, -edge])
        return [directions_at(around, up)]

    def start(self, mount: Mount, random: np.random.Generator) -> RadarAtWork:
        return RadarAtWork(self, random, np.array([look.echo for look in mount.looks(self.sees)] + [0.0]))

    def detected(
        self, r: Array, directions: Array, velocities: Array, sections: Array, flat: Array, random: np.random.Generator
    ) -> Detections:
        """Detections out of what single rays met; flat: 1 where that faces up."""
        azimuths, elevations = np.arctan2(directions[:, 1], directions[:, 0]), np.arcsin(directions[:, 2])
        cells = np.stack(
            [
                np.floor(r / self.range_resolution),
                np.floor(azimuths / self.azimuth_resolution),
                np.round(velocities / self.velocity_resolution),
            ],
            axis=1,
        )
        # One number a cell, in the order of its three: a tenth of the time of sorting rows.
        steps = (cells - cells.min(axis=0)).astype(np.int64) if len(cells) else cells.astype(np.int64)
        sizes = steps.max(axis=0, initial=0) + 1
        _, which = np.unique((steps[:, 0] * sizes[1] + steps[:, 1]) * sizes[2] + steps[:, 2], return_inverse=True)
        whole = np.bincount(which.ravel(), sections)
        some = whole > 0

        def mean(values: Array) -> Array:
            return np.asarray(np.bincount(which.ravel(), sections * values)[some] / whole[some])

        found = np.stack([mean(r), mean(azimuths), mean(elevations), mean(velocities), whole[some], mean(flat) > 0.5])
        signal = HALF * (found[4] / self.cross_section) * (self.max_range / found[0]) ** 4
        chance = FALSE_ALARM ** (1 / (1 + signal)) * self.detection_probability
        keep = chance >= 0.5 if self.exact else random.random(len(chance)) < chance
        if self.filters_ground:
            keep &= found[5] == 0
        found = found[:, keep]
        count = found.shape[1]
        for row, deviation in enumerate((self.range_noise, self.azimuth_noise, 0.0, self.velocity_noise)):
            if deviation > 0:
                found[row] += random.standard_normal(count) * deviation
        if self.false_detections > 0:
            n = random.poisson(self.false_detections)
            a, e = self.field_of_view / 2, self.vertical_field_of_view / 2
            low = (self.min_range, -a, -e, -10.0, 0.1 * self.cross_section)
            high = (self.max_range, a, e, 10.0, self.cross_section)
            false = np.vstack([random.uniform(low, high, (n, 5)).T, np.zeros(n)])
            found = np.concatenate([found, false], axis=1)
        return Detections(*found[:, np.argsort(found[0], kind="stable")])

    def messages(self, reading: Detections) -> dict[str, Message]:
        points = reading.ranges[:, None] * directions_at(reading.azimuths, reading.elevations)
        fields = cloud_message(
            points,
            radial_velocity=reading.radial_velocities,
            cross_section=reading.cross_sections,
            ground=reading.ground,
        )
        return {"": Message(self.message, fields)}


@dataclass
class RadarAtWork:
    """The random stream of its noise, and how much each shape sends back."""

    sheet: Radar
    random: np.random.Generator
    echoes: Array

    def measure(self, mount: Mount) -> Detections:
        sheet = self.sheet
        ways = np.ascontiguousarray(sheet.directions @ mount.axes().T)
        found = mount.strike(np.tile(mount.position(), (len(ways), 1)), ways, 1.5 * sheet.max_range, sheet.sees)
        hit = np.isfinite(found.distances) & (found.distances >= sheet.min_range)
        r, ways, sights = found.distances[hit], ways[hit], found.sights[hit]
        points = mount.position() + r[:, None] * ways
        relative = mount.velocities(sights, points, sheet.sees) - mount.motion()[0]
        velocities = np.einsum("ij,ij->i", relative, ways)
        cosines = np.abs(np.einsum("ij,ij->i", found.normals[hit], ways))
        sections = 4 * self.echoes[sights] * cosines * r**2 * sheet.solid_angles[hit]
        up = -mount.gravity() if mount.gravity().any() else np.array((0.0, 0.0, 1.0))
        flat = found.normals[hit] @ (up / np.linalg.norm(up)) > LIES_FLAT
        return sheet.detected(r, sheet.directions[hit], velocities, sections, flat.astype(float), self.random)
