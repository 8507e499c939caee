"""Measures of shapes: how large, how round, how much they share."""

from __future__ import annotations

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Cylinder, Mesh, Part, Shape, Sphere
from veldrain.model.fitting import fitted
from veldrain.model.grids import Grid
from veldrain.model.volumes import bounds, bounds_of, filled
from veldrain.pose import Array, Pose

ROUND_ENOUGH = 0.905  # share of a shape's volume and a cylinder's around it, from which on it is round
Solids = list[tuple[Shape, Pose]]


def extent(part: Part) -> float:
    """Diagonal (m) of the box around a part."""
    low, high = bounds(part.shape, part.pose)
    return float(np.linalg.norm(high - low))


def round_axis(part: Part) -> Array | None:
    """Axis (3,), in the link, of a part that is a cylinder or a mesh as good as one; None: it is none.

    A ball has no axis: zeros.
    """
    shape = part.shape
    if isinstance(shape, Sphere):
        return np.zeros(3)
    if isinstance(shape, Cylinder):
        return part.pose.matrix[:, 2]
    if isinstance(shape, Mesh):
        found = round_fit(shape)
        if found is None:
            return None
        return np.zeros(3) if isinstance(found[0], Sphere) else (part.pose @ found[1]).matrix[:, 2]
    return None


def is_disc(part: Part) -> bool:
    """True for a flat cylinder that sits where its link's frame is, as a wheel does."""
    shape = part.shape
    return (
        isinstance(shape, Cylinder)
        and shape.length < 1.5 * shape.radius
        and float(np.linalg.norm(part.pose.position)) < 0.1 * shape.radius
    )


def round_fit(mesh: Mesh) -> tuple[Shape, Pose] | None:
    """A cylinder or sphere that a mesh fills but for a little; None: it is not round."""
    if "round" not in mesh.kept:
        mesh.kept["round"] = _round_fit(mesh)
    found: tuple[Shape, Pose] | None = mesh.kept["round"]
    return found


def _round_fit(mesh: Mesh) -> tuple[Shape, Pose] | None:
    try:
        fits = [fitted(mesh, kind) for kind in ("sphere", "cylinder")]
    except VeldrainError:
        return None  # flat
    volume = hull_volume(mesh)
    for shape, pose in fits:
        # A polygon of twelve corners fills 95 % of its circle, one of eight 90 %; a box at best 64 % of a cylinder.
        if volume > ROUND_ENOUGH * shape.volume:
            return shape, pose
    return None


def hull_volume(mesh: Mesh) -> float:
    """Volume (m³) of a mesh's convex hull."""
    try:
        return float(mesh.hull.volume)
    except VeldrainError:  # flat
        return 0.0


def solid_volume(solids: Solids) -> float:
    """Volume (m³) of shapes taken together, open meshes by their hulls."""
    return sum(hull_volume(s) if isinstance(s, Mesh) and not s.is_closed else s.volume for s, _ in solids)


def overlap(one: Solids, other: Solids) -> tuple[float, float, float]:
    """Intersection over union of two sets of shapes, and the volume (m³) of each, on a grid."""
    low, high = bounds_of([*one, *other])
    grid = Grid.over(low, high)
    a, b = filled(one, grid), filled(other, grid, solid_hulls=True)
    return float((a & b).sum() / max((a | b).sum(), 1)), float(a.sum() * grid.volume), float(b.sum() * grid.volume)


def closed(solids: Solids) -> bool:
    """True where all of the shapes have an inside."""
    return all(s.is_closed for s, _ in solids if isinstance(s, Mesh))
