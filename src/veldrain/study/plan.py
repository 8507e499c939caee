"""A world seen from above, for pages."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from veldrain.model import Box, Capsule, Cone, Cylinder, Ellipsoid, Mesh, Shape, Sphere, World
from veldrain.pose import Array, Pose

TURN = np.linspace(0, 2 * np.pi, 24, endpoint=False)
CORNERS = np.array([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)])
BALL = np.array(
    [(np.cos(a) * c, np.sin(a) * c, z) for a in TURN for z in np.linspace(-1, 1, 9) for c in [np.sqrt(1 - z * z)]]
)


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
    try:
        return points[ConvexHull(points).vertices]
    except QhullError:  # as thin as a line from above
        return points[[points[:, 0].argmin(), points[:, 1].argmin(), points[:, 0].argmax(), points[:, 1].argmax()]]


def _surface_points(shape: Shape) -> Array:
    """Points (n, 3) of a shape whose hull is as good as its own."""
    if isinstance(shape, Mesh):
        return shape.corners
    if isinstance(shape, Box):
        return np.asarray(CORNERS * np.array(shape.size) / 2)
    if isinstance(shape, Sphere):
        return BALL * shape.radius
    if isinstance(shape, Ellipsoid):
        return np.asarray(BALL * np.array(shape.half_axes))
    if isinstance(shape, Capsule):
        end = np.array((0.0, 0.0, shape.length / 2))
        return np.concatenate([BALL * shape.radius + end, BALL * shape.radius - end])
    assert isinstance(shape, Cylinder | Cone)
    rim = np.stack([np.cos(TURN), np.sin(TURN), np.zeros(len(TURN))], axis=1) * shape.radius
    end = np.array((0.0, 0.0, shape.length / 2))
    top = rim if isinstance(shape, Cylinder) else np.zeros((1, 3))
    return np.concatenate([rim - end, top + end])
