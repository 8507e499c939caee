"""What lights a world, and what is in its air."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from veldrain.model.colours import checked_colour
from veldrain.pose import Array
from veldrain.sheet import Made, Maybe, Number, Row, Sheet, Text

CONTRAST = 3.912  # −ln 0.02: what is left of a contrast at the visibility (H. Koschmieder, 1924)


class Sun(Sheet):
    """Light from far away, with sharp shadows; below the horizon, or with 0 lx, there is no sun.

    >>> round(float(Sun(elevation="30 deg").direction[2]), 6)
    0.5
    """

    elevation: Number = Number("angle", default="40 deg", kw_only=False, doc="above the horizon")
    azimuth: Number = Number("angle", default="-125 deg", kw_only=False, doc="of where it stands, about z from +x")
    lux: Number = Number(
        "illuminance",
        default=50e3,
        least=0.0,
        doc="of what is square to it: 100 klx at noon in summer, 10 klx through thin cloud",
    )
    colour: Made[str, str] = Made(checked_colour, default="#fff4e0", doc="of its light")

    @property
    def direction(self) -> Array:
        """Unit vector (3,) towards the sun."""
        level = math.cos(self.elevation)
        return np.array((level * math.cos(self.azimuth), level * math.sin(self.azimuth), math.sin(self.elevation)))


class Lamp(Sheet):
    """Light from a point, the same all around, with sharp shadows.

    >>> Lamp((0, 0, "2 m"), candela="64 cd").candela
    64.0
    """

    position: Row = Row("length", kw_only=False, doc="in the world, or in the frame of the link that carries it")
    candela: Number = Number(
        "luminous intensity", default=100.0, least=0.0, kw_only=False, doc="a household lamp of 800 lm has some 64 cd"
    )
    colour: Made[str, str] = Made(checked_colour, default="#ffffff", doc="of its light")
    link: Maybe[str, str] = Maybe(
        Text(), default=None, doc="name path of what carries it (``crawler/mast``); None: the world"
    )


class Sky(Sheet):
    """Even light from all around above; level surfaces that look up get all of it, walls half, ceilings none.

    >>> Sky(lux="5 klx").lux
    5000.0
    """

    lux: Number = Number("illuminance", default=15e3, least=0.0, kw_only=False, doc="of what lies open to it")
    colour: Made[str, str] = Made(checked_colour, default="#9cc4ee", doc="overhead")
    horizon: Made[str, str] = Made(checked_colour, default="#e4ecf2", doc="its colour at the horizon")


class Air(Sheet):
    """What beams and views go through, what blows against drag and rotors.

    >>> round(Air(visibility="100 m").extinction, 5)
    0.03912
    """

    visibility: Number = Number(
        "length", default=math.inf, above=0.0, doc="where 2 % of a contrast is left: 1000 m and less is fog"
    )
    rain: Number = Number("rainfall", default=0.0, least=0.0, doc="2 mm/h is light, 10 moderate, 50 violent")
    pressure: Number = Number("pressure", default=101325.0, above=0.0, doc="at height 0")
    temperature: Number = Number("temperature", default=288.15, above=0.0, doc="at height 0")
    wind: Row = Row("speed", default=(0.0, 0.0, 0.0), doc="steady, along the world's axes: where it blows to")
    gusts: Number = Number(
        "speed", default=0.0, least=0.0, doc="standard deviation of the wind about that, along each axis"
    )
    gust_length: Number = Number("length", default=50.0, above=0.0, doc="how far one gust reaches along the wind")

    @property
    def density(self) -> float:
        """Of dry air at height 0, kg/m³ (ideal gas, 287.05 J/(kg·K))."""
        return self.pressure / (287.05 * self.temperature)

    @property
    def rain_extinction(self) -> float:
        """Of light by rain, 1/m, from the attenuation 1.076·R^0.67 dB/km for R in mm/h.

        As measured on optical links of some kilometres (ITU-R Recommendation P.1814, 2007, the coefficients of
        Carbonneau), up to about 100 mm/h. A dB is ln(10)/10 of the exponent. What single drops do close to a lens, and
        what they send back to a lidar, is not in it: the latter is the lidar's ``rain_false_returns``.
        """
        return 1.076 * self.rain**0.67 * math.log(10.0) / 10.0 / 1000.0 if self.rain > 0 else 0.0

    @property
    def extinction(self) -> float:
        """Of light by fog and rain, 1/m."""
        return CONTRAST / self.visibility + self.rain_extinction


@dataclass(frozen=True)
class Surroundings:
    """Light and air of a world at one time."""

    sun: Sun
    sky: Sky
    lamps: tuple[Lamp, ...]
    air: Air
