"""Shapes of another size."""

from __future__ import annotations

from veldrain.model.meshes import Mesh
from veldrain.model.shapes import Box, Ellipsoid, Shape, Sphere, _Round


def scaled_shape(shape: Shape, factor: float) -> Shape:
    """The shape with all its lengths times a factor."""
    if isinstance(shape, Box):
        return Box([factor * edge for edge in shape.size])
    if isinstance(shape, Sphere):
        return Sphere(shape.radius * factor)
    if isinstance(shape, Ellipsoid):
        return Ellipsoid([factor * a for a in shape.half_axes])
    if isinstance(shape, _Round):
        return type(shape)(shape.radius * factor, shape.length * factor)
    assert isinstance(shape, Mesh)
    return shape.scaled(factor)
