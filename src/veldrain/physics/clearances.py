"""How far apart things are."""

from __future__ import annotations

from veldrain.physics.collision import clearance
from veldrain.physics.kernel import entry


@entry
def between(plant, work, side_a, side_b):  # type: ignore[no-untyped-def]
    """Least gap between the shapes of two sides (arrays (G,), 1: belongs); negative: overlap."""
    return clearance(plant, work, side_a, side_b)
