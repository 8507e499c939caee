"""A world seen from above, for pages."""

from __future__ import annotations

from typing import Any

from veldrain.model import Box, Shape, World
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
    from scipy.spatial import ConvexHull, QhullError

    points = pose.apply(shape.rim())[:, :2]
    try:
        return points[ConvexHull(points).vertices]
    except QhullError:  # as thin as a line from above
        return points[[points[:, 0].argmin(), points[:, 1].argmin(), points[:, 0].argmax(), points[:, 1].argmax()]]
