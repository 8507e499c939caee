"""What shapes look like to sensors: colours, checkers and pictures, and how much of a beam comes back."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.model.colours import checked_colour
from veldrain.sheet import Made, Maybe, Number, Sheet

Picture = NDArray[np.uint8]
GREY = "#b4b4b4"  # of what is given no colour


class Look(Sheet):
    """What a shape looks like to cameras, lidars, radar and ultrasound.

    A picture is laid once on each side of a box, again and again every ``tile`` on the ground, and by its texture
    coordinates on a mesh. Its top is up on the sides of a box, and towards +x on its top and on the ground.

    Raises:
        VeldrainError: no such colour, a file that is not an image, a fraction outside 0 to 1.

    >>> Look("white", checker="black", tile="20 cm").tile
    0.2
    """

    colour: Made[str, str] = Made(checked_colour, default=GREY, kw_only=False, doc='a name or ``"#rrggbb"``')
    checker: Maybe[str, str] = Maybe(
        Made(checked_colour), default=None, doc="the other colour of a checker of cubes with edges ``tile``"
    )
    image: Maybe[Any, Picture] = Maybe(
        Made(lambda image, where: picture(image)), default=None, doc="a picture: a file, or an array (h, w, 3) of uint8"
    )
    tile: Number = Number(
        "length", default=1.0, above=0.0, doc="edge of a checker's cubes and of a picture on the ground"
    )
    reflectance: Number = Number(
        "ratio", default=0.5, least=0.0, most=1.0, doc="fraction of a lidar's light that comes back, square to the beam"
    )
    echo: Number = Number("ratio", default=1.0, least=0.0, most=1.0, doc="the same for radar and ultrasound")

    @property
    def source(self) -> str:
        """The file of the picture, ``array``, or nothing."""
        image = self.given.get("image")
        return "" if image is None else str(image) if isinstance(image, str | Path) else "array"


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
            raise VeldrainError(
                f"an array {found.shape} of {found.dtype} is not an image", where="look", cure="give (h, w, 3) of uint8"
            )
        return np.ascontiguousarray(found)
    from PIL import Image, UnidentifiedImageError

    try:
        with Image.open(image) as opened:
            return np.asarray(opened.convert("RGB"))
    except (OSError, UnidentifiedImageError, Image.DecompressionBombError) as error:
        said = "no such image" if isinstance(error, FileNotFoundError) else "is not an image"
        raise VeldrainError(said, where=str(image), cure="give a PNG or JPEG file") from error
