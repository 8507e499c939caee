"""What lights a world, and what is in its air."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.colours import rgba
from veldrain.pose import Array
from veldrain.units import Quantity, Triple, quantity, triple

CONTRAST = 3.912  # −ln 0.02: what is left of a contrast at the visibility (H. Koschmieder, 1924)


def _least(value: float, name: str, where: str, least: float = 0.0) -> float:
    if not least <= value < math.inf:
        raise VeldrainError(f"{name} is {value:g}", where=where, cure=f"give {least:g} or more")
    return value


@dataclass(frozen=True, init=False)
class Sun:
    """Light from far away, with sharp shadows.

    Args:
        elevation: above the horizon, rad; below it (or 0 lux) there is no sun.
        azimuth: of where it stands, about z from +x, rad.
        lux: illuminance of what is square to it, lx: 100 000 at noon in summer, 10 000 through thin cloud.
        colour: of its light.

    >>> round(float(Sun(elevation="30 deg").direction[2]), 6)
    0.5
    """

    elevation: float
    azimuth: float
    lux: float
    colour: str

    def __init__(
        self, elevation: Quantity = "40 deg", azimuth: Quantity = "-125 deg", lux: float = 50e3, colour: str = "#fff4e0"
    ) -> None:
        rgba(colour, "sun")
        object.__setattr__(self, "elevation", quantity(elevation, "angle", "sun elevation"))
        object.__setattr__(self, "azimuth", quantity(azimuth, "angle", "sun azimuth"))
        object.__setattr__(self, "lux", _least(quantity(lux, "ratio", "sun lux"), "lux", "sun"))
        object.__setattr__(self, "colour", colour)

    @property
    def direction(self) -> Array:
        """Unit vector (3,) towards the sun."""
        level = math.cos(self.elevation)
        return np.array((level * math.cos(self.azimuth), level * math.sin(self.azimuth), math.sin(self.elevation)))


@dataclass(frozen=True, init=False)
class Lamp:
    """Light from a point, the same all around, with sharp shadows.

    Args:
        position: m.
        candela: luminous intensity, cd: a household lamp of 800 lm has some 64.
        colour: of its light.
        link: name path of what carries it (``crawler/mast``), the position being in its frame; None: the world.
    """

    position: Triple
    candela: float
    colour: str
    link: str | None

    def __init__(
        self, position: Sequence[Quantity], candela: float = 100.0, colour: str = "#ffffff", link: str | None = None
    ) -> None:
        rgba(colour, "lamp")
        object.__setattr__(self, "position", triple(position, "length", "lamp"))
        object.__setattr__(self, "candela", _least(quantity(candela, "ratio", "lamp candela"), "candela", "lamp"))
        object.__setattr__(self, "colour", colour)
        object.__setattr__(self, "link", link)


@dataclass(frozen=True, init=False)
class Sky:
    """Even light from all around above; level surfaces that look up get all of it, walls half, ceilings none.

    Args:
        lux: illuminance of what lies open to it, lx.
        colour: overhead.
        horizon: its colour at the horizon.
    """

    lux: float
    colour: str
    horizon: str

    def __init__(self, lux: float = 15e3, colour: str = "#9cc4ee", horizon: str = "#e4ecf2") -> None:
        rgba(colour, "sky"), rgba(horizon, "sky")
        object.__setattr__(self, "lux", _least(quantity(lux, "ratio", "sky lux"), "lux", "sky"))
        object.__setattr__(self, "colour", colour)
        object.__setattr__(self, "horizon", horizon)


@dataclass(frozen=True, init=False)
class Air:
    """What beams and views go through.

    Args:
        visibility: where 2 % of a contrast is left, m: 1000 and less is fog. Infinite: clear.
        rain: mm/h: 2 is light, 10 moderate, 50 violent.
        pressure: at height 0, Pa.
        temperature: K.

    >>> round(Air(visibility="100 m").extinction, 5)
    0.03912
    """

    visibility: float
    rain: float
    pressure: float
    temperature: float

    def __init__(
        self,
        visibility: Quantity = math.inf,
        rain: float = 0.0,
        pressure: Quantity = 101325.0,
        temperature: Quantity = 288.15,
    ) -> None:
        far = quantity(visibility, "length", "air visibility")
        if not far > 0:
            raise VeldrainError(f"visibility is {far:g} m", where="air", cure="give a length above zero")
        object.__setattr__(self, "visibility", far)
        object.__setattr__(self, "rain", _least(quantity(rain, "ratio", "air rain"), "rain", "air"))
        for name, value in (("pressure", pressure), ("temperature", temperature)):
            number = quantity(value, name, f"air {name}")
            if not 0 < number < math.inf:
                raise VeldrainError(f"{name} is {number:g}", where="air", cure="give a value above zero")
            object.__setattr__(self, name, number)

    @property
    def rain_extinction(self) -> float:
        """Of light by rain, 1/m, from the attenuation 1.076·R^0.67 dB/km for R in mm/h.

        As measured on optical links of some kilometres (ITU-R Recommendation P.1814, 2007, the coefficients of
        Carbonneau), up to about 100 mm/h. A dB is ln(10)/10 of the exponent. What single drops do close to a lens, and
        what they send back to a lidar, is not in it: the latter is the lidar's ``ghosts``.
        """
        return 1.076 * self.rain**0.67 * math.log(10.0) / 10.0 / 1000.0 if self.rain > 0 else 0.0

    @property
    def extinction(self) -> float:
        """Of light by fog and rain, 1/m."""
        return CONTRAST / self.visibility + self.rain_extinction
