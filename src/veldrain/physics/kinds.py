"""The engine's codes of shapes with a closed form, and the three numbers that it knows each by."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Box, Capsule, Cone, Cylinder, Ellipsoid, Shape, Sphere
from veldrain.physics import plant as p

SOLIDS: dict[type[Shape], tuple[int, Callable[[Any], tuple[float, ...]]]] = {
    Box: (p.BOX, lambda s: tuple(edge / 2 for edge in s.size)),
    Sphere: (p.SPHERE, lambda s: (s.radius, 0.0, 0.0)),
    Cylinder: (p.CYLINDER, lambda s: (s.radius, s.length / 2, 0.0)),
    Capsule: (p.CAPSULE, lambda s: (s.radius, s.length / 2, 0.0)),
    # The third: how far the middle of the largest ball inside is above the base.
    Cone: (p.CONE, lambda s: (s.radius, s.length / 2, s.radius * s.length / (s.radius + np.hypot(s.radius, s.length)))),
    Ellipsoid: (p.ELLIPSOID, lambda s: s.half_axes),
}


def code_of(shape: Shape) -> tuple[int, tuple[float, ...]]:
    """Code and sizes of a shape.

    Raises:
        VeldrainError: the engine has no such shape.
    """
    for kind in type(shape).__mro__:
        if kind in SOLIDS:
            code, sizes = SOLIDS[kind]
            return code, sizes(shape)
    raise VeldrainError(f"the engine has no shape {type(shape).__name__}", cure="use Box, Sphere, Cylinder, Mesh, …")
