"""A world seen from above, for pages."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.spatial import ConvexHull

from veldrain.model import Box, Shape, Sphere, World
from veldrain.pose import Array, Pose


def plan_of(world: World) -> list[dict[str, Any]]:
    """Outlines (x, y) in m of all obstacles and patches, with name and kind."""
    patches = [("patch", p.name, Box(p.size), p.pose) for p in world.patches.values()]
    obstacles = [("obstacle", o.name, o.part.shape, o.pose @ o.part.pose) for o in world.obstacles.values()]
    return [
        {"kind": kind, "name": name, "outline": _outline(shape, pose).round(4).tolist()}
        for kind, name, shape, pose in patches + obstacles
    ]


def _outline(shape: Shape, pose: Pose) -> Array:
    """Corners (n, 2) of the shadow of a shape on the ground, in turning order."""
    points = pose.apply(_surface_points(shape))[:, :2]
    return points[ConvexHull(points).vertices]


def _surface_points(shape: Shape) -> Array:
    angles = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    if isinstance(shape, Box):
        signs = np.array([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)])
        return np.asarray(signs * np.array(shape.size) / 2)
    if isinstance(shape, Sphere):
        heights = np.linspace(-1, 1, 9)
        return np.array(
            [
                (
                    np.cos(a) * np.sqrt(1 - h * h) * shape.radius,
                    np.sin(a) * np.sqrt(1 - h * h) * shape.radius,
                    h * shape.radius,
                )
                for a in angles
                for h in heights
            ]
        )
    radius, half = shape.radius, shape.length / 2  # type: ignore[attr-defined]
    return np.array([(radius * np.cos(a), radius * np.sin(a), z) for a in angles for z in (-half, half)])
