"""Colours by name or as ``#rrggbb``, as Pillow knows them."""

from __future__ import annotations

import difflib

from veldrain.errors import VeldrainError

Rgba = tuple[float, float, float, float]


def rgba(colour: str, where: str = "") -> Rgba:
    """Red, green, blue and opacity, 0 to 1.

    >>> rgba("#ff8000")[:2]
    (1.0, 0.5019607843137255)
    """
    from PIL import ImageColor

    try:
        values = ImageColor.getrgb(str(colour))
    except ValueError as error:
        near = difflib.get_close_matches(str(colour), ImageColor.colormap, n=1)
        hint = f"write '{near[0]}', another name" if near else "give a name"
        raise VeldrainError(f"no colour '{colour}'", where=where, cure=f"{hint} or '#rrggbb'") from error
    r, g, b, a = (*values, 255)[:4]
    return r / 255, g / 255, b / 255, a / 255


def hex_of(values: Rgba) -> str:
    """``#rrggbb``, or ``#rrggbbaa`` where it is not opaque.

    >>> hex_of((1.0, 0.5, 0.0, 1.0))
    '#ff8000'
    """
    digits = "".join(f"{round(255 * min(max(v, 0.0), 1.0)):02x}" for v in values)
    return f"#{digits[:6] if digits.endswith('ff') else digits}"


def checked_colour(colour: str, where: str) -> str:
    """A colour as it was given, if it is one."""
    rgba(colour, where)
    return colour
