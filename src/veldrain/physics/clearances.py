"""How far apart things are."""

from __future__ import annotations

import math

from veldrain.physics.collision import pair_clearance
from veldrain.physics.kernel import entry
from veldrain.physics.plant import PLANE


@entry
def clearance(geoms, poly, side_a, side_b):
    """Least gap between the touchable shapes of two sides (arrays (G,), 1: belongs); negative: overlap."""
    least = math.inf
    for i in range(len(geoms)):
        for j in range(len(geoms)):
            a, b = geoms[i], geoms[j]
            if side_a[i] == 1 and side_b[j] == 1 and a.touch == 1 and b.touch == 1:
                if b.kind == PLANE and a.kind != PLANE:
                    least = min(least, pair_clearance(a, b, poly))
                elif a.kind == PLANE and b.kind != PLANE:
                    least = min(least, pair_clearance(b, a, poly))
                elif a.kind != PLANE:
                    least = min(least, pair_clearance(a, b, poly))
    return least
