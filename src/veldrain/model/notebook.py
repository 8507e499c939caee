"""How worlds and models show themselves in notebooks."""

from __future__ import annotations

import importlib
from typing import Any


def shown_in_notebook(thing: Any) -> bytes:
    """A picture of a thing as PNG: drawn by the report, which is above all models and is found by its public name."""
    picture: bytes = importlib.import_module("veldrain").look(thing, size=(640, 400))._repr_png_()
    return picture
