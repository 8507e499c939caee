"""What shapes look like to sensors: colours, checkers and pictures, and how much of a beam comes back."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.model.colours import rgba
from veldrain.units import Quantity, quantity

Picture = NDArray[np.uint8]
GREY = "#b4b4b4"  # of what is given no colour


@dataclass(frozen=True, init=False)
class Look:
    """What a shape looks like to cameras and lidars.

    Args:
        colour: a name or ``"#rrggbb"``.
        checker: the other colour of a checker of cubes with edges ``tile``.
        image: a picture (a file, or an array (h, w, 3) of uint8), laid once on each side of a box, again and again
            every ``tile`` on the ground, and by its texture coordinates on a mesh. Its top is up on the sides of a box,
            and towards +x on its top and on the ground.
        tile: edge of a checker's cubes and of a picture on the ground, m.
        reflectance: share of a lidar's light that a surface gives back, square to the beam, 0 to 1.
        echo: the same for radar and ultrasound, 0 to 1.

    Raises:
        VeldrainError: no such colour, a picture that is none, a share outside 0 to 1.

    >>> Look("white", checker="black", tile="20 cm").tile
    0.2
    """

    colour: str
    checker: str | None
    image: Picture | None = field(compare=False)
    source: str
    tile: float
    reflectance: float
    echo: float

    def __init__(
        self,
        colour: str = GREY,
        checker: str | None = None,
        image: str | Path | NDArray[Any] | None = None,
        tile: Quantity = 1.0,
        reflectance: float = 0.5,
        echo: float = 1.0,
    ) -> None:
        for given in (colour, checker):
            if given is not None:
                rgba(given, "look")
        values: dict[str, Any] = {"colour": colour, "checker": checker, "tile": quantity(tile, "length", "look tile")}
        if not 0 < values["tile"] < np.inf:
            raise VeldrainError(f"tile is {values['tile']:g} m", where="look", cure="give a length above zero")
        for name, share in (("reflectance", reflectance), ("echo", echo)):
            values[name] = quantity(share, "ratio", f"look {name}")
            if not 0 <= values[name] <= 1:
                raise VeldrainError(f"{name} is {values[name]:g}", where="look", cure="give 0 to 1")
        values["image"] = None if image is None else picture(image)
        values["source"] = "" if image is None else str(image) if isinstance(image, str | Path) else "array"
        for name, value in values.items():
            object.__setattr__(self, name, value)


def picture(image: str | Path | NDArray[Any]) -> Picture:
    """A picture as (h, w, 3) of uint8.

    Raises:
        VeldrainError: no such file, or no picture.
    """
    if not isinstance(image, str | Path):
        found = np.asarray(image)
        if found.dtype == np.uint8 and found.ndim == 2:
            found = np.repeat(found[:, :, None], 3, axis=2)
        if found.dtype != np.uint8 or found.ndim != 3 or found.shape[2] != 3 or found.size == 0:
            raise VeldrainError(f"an array {found.shape} of {found.dtype} is no picture", where="look",
                                cure="give (h, w, 3) of uint8")  # fmt: skip
        return np.ascontiguousarray(found)
    from PIL import Image, UnidentifiedImageError

    try:
        with Image.open(image) as opened:
            return np.asarray(opened.convert("RGB"))
    except (OSError, UnidentifiedImageError, Image.DecompressionBombError) as error:
        said = "no such picture" if isinstance(error, FileNotFoundError) else "is no picture"
        raise VeldrainError(said, where=str(image), cure="give a PNG or JPEG file") from error
