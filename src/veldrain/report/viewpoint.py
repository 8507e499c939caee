"""Where a picture is taken from."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError, unknown
from veldrain.model.drawing import SIDES
from veldrain.physics.scene import Scene
from veldrain.pose import Array
from veldrain.sensing.camera import Camera
from veldrain.sensing.painting import Painter

FIELD = math.radians(34)  # horizontal: about that of a 60 mm lens
FAR = 400.0  # sizes of the scene from which sides are seen: lines stay parallel to 0.2 %
MARGIN = 1.06


@dataclass
class Viewpoint:
    """An eye, its axes (columns: forward, left, up) and its camera.

    ``scale`` is pixels a metre where the view is parallel, else 0.
    """

    name: str
    eye: Array
    axes: Array
    camera: Camera
    scale: float = 0.0

    def project(self, points: Array) -> Array:
        """Pixels (n, 2) of points (n, 3) of the world; nan behind the eye."""
        return self.camera.project((np.atleast_2d(points) - self.eye) @ self.axes)

    def size_at(self, point: Array) -> float:
        """Pixels a metre at a point."""
        away = float((point - self.eye) @ self.axes[:, 0])
        return self.camera.lens.focal / max(away, 1e-9)


def axes_along(forward: Array, up: Array | None = None) -> Array:
    """Axes of an eye that looks forward, level to the left; ``up`` says what is up where it looks straight down."""
    forward = forward / np.linalg.norm(forward)
    left = np.cross((0.0, 0.0, 1.0), forward)
    if np.linalg.norm(left) < 1e-6:
        left = np.cross(up if up is not None else (1.0, 0.0, 0.0), forward)
    left /= np.linalg.norm(left)
    return np.stack([forward, left, np.cross(forward, left)], axis=1)


def corners_of(scene: Scene, beside: Array | None = None) -> Array:
    """Corners (n, 3) of the boxes around all that is seen but the ground; of a cube where there is nothing else.

    ``beside``: points (n, 3) that are to be in the picture too.
    """
    v = scene.view
    low, high = v.low[v.planes :], v.high[v.planes :]
    if not len(low):
        low, high = np.full((1, 3), -1.0), np.ones((1, 3))
    signs = np.array([(x, y, z) for x in (0, 1) for y in (0, 1) for z in (0, 1)])
    corners = (low[:, None] * (1 - signs) + high[:, None] * signs).reshape(-1, 3)
    return np.asarray(corners if beside is None else np.concatenate([corners, beside]))


def looking(
    scene: Scene,
    painter: Painter,
    size: tuple[int, int],
    eye: Array | None = None,
    at: Array | None = None,
    side: str | None = None,
    beside: Array | None = None,
) -> Viewpoint:
    """The viewpoint that was asked for, or the one around the scene from which most can be seen.

    ``beside``: points (n, 3) that are to be in the picture too.

    Raises:
        VeldrainError: an unknown side, an eye at what it looks at.
    """
    scene.follow()
    corners = corners_of(scene, beside)
    middle = (corners.min(axis=0) + corners.max(axis=0)) / 2
    if side is not None:
        if side not in SIDES:
            raise unknown("side", side, SIDES)
        return _from_side(side, corners, at if at is not None else middle, size)
    camera = Camera(size=size, field_of_view=FIELD, antialiasing=3)
    if eye is not None:
        forward = (middle if at is None else at) - eye
        if np.linalg.norm(forward) < 1e-9:
            raise VeldrainError("the eye is where it looks at", where="look", cure="give another look_from= or at=")
        return Viewpoint("eye", eye, axes_along(forward), camera)
    if at is not None:
        corners = corners - middle + at
    best: tuple[float, Array, Array] | None = None
    small = Camera(size=(96, 64), field_of_view=FIELD, antialiasing=1)
    rows = np.repeat(np.arange(64, dtype=np.int32), 96)
    for up in (24, 38, 58):
        for around in (-55, -125, 35, 125, -90, 0):
            level = math.cos(math.radians(up))
            way = np.array(
                (
                    level * math.cos(math.radians(around)),
                    level * math.sin(math.radians(around)),
                    math.sin(math.radians(up)),
                )
            )
            place, axes = _fitted(corners, -way, size)
            sights = painter.shoot(
                np.tile(place, (64, 1)), np.tile(axes, (64, 1, 1)), rows, small.lens.rays, 0.0, 1e9, is_shaded=False
            )[2]
            # Along an axis lines fall on each other.
            worth = _worth(scene, sights) - 0.002 * (up - 24) - (0.4 if around in (-90, 0) else 0.0)
            if best is None or worth > best[0] + 1e-9:
                best = worth, place, axes
    assert best is not None
    return Viewpoint("around", best[1], best[2], camera)


def _worth(scene: Scene, sights: NDArray[np.int32]) -> float:
    """How much of a scene is seen: of each thing, by the logarithm of its pixels."""
    counts: dict[str, int] = {}
    for sight, count in zip(*np.unique(sights[sights >= scene.view.planes], return_counts=True), strict=True):
        counts[scene.names[sight]] = counts.get(scene.names[sight], 0) + int(count)
    moving = {s.name for s in scene.sights if s.node >= 0}
    return sum(math.log2(1 + n) * (3 if name in moving else 1) for name, n in counts.items()) / max(
        len(set(scene.names)), 1
    )


def _fitted(corners: Array, forward: Array, size: tuple[int, int]) -> tuple[Array, Array]:
    """Eye and axes from which all corners just fit into the picture."""
    axes = axes_along(forward)
    half = math.tan(FIELD / 2) / MARGIN
    tall = half * size[1] / size[0]
    p = corners @ axes
    # Corner i is in the picture if |left − l| ≤ half·(p_x − x) and |up − u| ≤ tall·(p_x − x).
    left = ((p[:, 1] + half * p[:, 0]).min() + (p[:, 1] - half * p[:, 0]).max()) / 2
    up = ((p[:, 2] + tall * p[:, 0]).min() + (p[:, 2] - tall * p[:, 0]).max()) / 2
    back = min((p[:, 0] - np.abs(p[:, 1] - left) / half).min(), (p[:, 0] - np.abs(p[:, 2] - up) / tall).min())
    return axes @ np.array((back, left, up)), axes


def _from_side(side: str, corners: Array, at: Array, size: tuple[int, int]) -> Viewpoint:
    """A parallel view."""
    way = np.array(SIDES[side], float)
    axes = axes_along(-way, np.array((1.0, 0.0, 0.0)))
    p = (corners - at) @ axes
    wide, tall = 2 * np.abs(p[:, 1]).max(), 2 * np.abs(p[:, 2]).max()
    scale = min(size[0] / max(wide, 1e-9), size[1] / max(tall, 1e-9)) / (MARGIN + 0.04)
    away = FAR * max(float(np.ptp(p)), 1.0)
    camera = Camera(size=size, focal_length=scale * away, antialiasing=3, far=4 * away)
    return Viewpoint(side, at + way * away, axes, camera, scale)
