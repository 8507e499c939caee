"""How a picture of a thing is asked for. It is drawn by the report, which is above all that asks."""

from __future__ import annotations

import importlib
from collections.abc import Sequence
from typing import Any, ClassVar

from veldrain.errors import VeldrainError, unknown
from veldrain.sheet import Made, Maybe, Row, Sheet, Text
from veldrain.units import Quantity

# Where a side is looked at from.
SIDES = {"top": (0, 0, 1), "front": (1, 0, 0), "left": (0, 1, 0), "right": (0, -1, 0), "back": (-1, 0, 0)}


class Eye(Sheet):
    """Where a picture is taken from, and how large it is."""

    ways: ClassVar[tuple[str, ...]] = ("look_from", "side")  # to look: one of them at most

    size: Made[Sequence[int], tuple[int, ...]] = Made(
        lambda value, where: tuple(value), default=(1280, 800), doc="(width, height) in pixels of the whole"
    )
    look_from: Maybe[Sequence[Quantity], tuple[float, ...]] = Maybe(
        Row("length"), default=None, doc="where to look from; None: from where most can be seen"
    )
    look_at: Maybe[Sequence[Quantity], tuple[float, ...]] = Maybe(
        Row("length"), default=None, doc="where to look; None: at all of it"
    )
    side: Maybe[str, str] = Maybe(
        Text(), default=None, doc="``top``, ``front``, ``left``, ``right`` or ``back``: a parallel view"
    )

    def check(self) -> None:
        if len(self.size) != 2 or not all(16 <= n <= 8192 for n in self.size):
            raise VeldrainError(
                f"a size of {self.size!r} pixels", where="look", cure="give (width, height), 16 to 8192"
            )
        if sum(bool(getattr(self, way)) for way in self.ways) > 1:
            raise VeldrainError(
                "more than one way to look",
                where="look",
                cure=f"give one of {', '.join(self.ways[:-1])} and {self.ways[-1]}",
            )
        if self.side is not None and self.side not in SIDES:
            raise unknown("side", self.side, SIDES, "look")


def drawn(thing: Any, **view: Any) -> Any:
    """Pixels of a thing: drawn by ``look``, which is found by its public name."""
    return importlib.import_module("veldrain").look(thing, **view)


def page_of(thing: Any, out: Any = None, **words: Any) -> Any:
    """The page of a thing: made by ``page``, which is found by its public name."""
    return importlib.import_module("veldrain").page(thing, out, **words)


def shown_in_notebook(thing: Any) -> bytes:
    """A picture of a thing as PNG."""
    picture: bytes = drawn(thing, size=(640, 400))._repr_png_()
    return picture
