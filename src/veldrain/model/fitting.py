"""Boxes, spheres, cylinders and capsules fitted to meshes."""

from __future__ import annotations

from itertools import combinations
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from veldrain.model.grids import Bools, Grid
from veldrain.model.shapes import Box, Capsule, Cylinder, Shape, Sphere
from veldrain.pose import Array, Pose, z_to

if TYPE_CHECKING:
    from scipy.spatial import ConvexHull


class Meshed(Protocol):
    """What is needed of a mesh."""

    corners: Array

    @property
    def hull(self) -> Any:
        """Its convex hull, as ``scipy.spatial.ConvexHull`` has it."""

    @property
    def is_closed(self) -> bool:
        """True where it has an inside."""

    def fills(self, pose: Pose, grid: Grid, solid_hull: bool = False) -> Bools:
        """Points of a grid that are inside of it at a pose."""


DIRECTIONS = 60  # axes that are tried: those of the largest faces


def fitted(mesh: Meshed, kind: str, by: str = "volume") -> tuple[Shape, Pose]:
    """A shape of a kind for a mesh, and its pose in the mesh's frame.

    Args:
        mesh: the mesh.
        kind: ``box``, ``sphere``, ``cylinder`` or ``capsule``.
        by: ``volume``: the least found that holds all corners; ``overlap``: grown from it to share the most with the
            mesh's volume, as intersection over union on a grid.

    Raises:
        VeldrainError: the mesh is flat.

    >>> cube = [(x, y, z) for x in (0, 2) for y in (0, 1) for z in (0, 1)]
    >>> fitted(Mesh.of(cube, [(0, 1, 2)]), "box")[0]
    Box(size=(2.0, 1.0, 1.0))
    """
    hull = mesh.hull
    corners = mesh.corners[hull.vertices]
    if kind == "sphere":
        centre, radius = least_ball(corners)
        found: tuple[Shape, Pose] = Sphere(radius), Pose(centre)
    else:
        fits = [_about(axis, corners, kind) for axis in _directions(mesh, hull)]
        found = min(fits, key=lambda fit: fit[0].volume)
    return _grown(mesh, *found) if by == "overlap" else found


def _directions(mesh: Meshed, hull: ConvexHull) -> list[Array]:
    """Axes to try: across the hull's largest faces, its principal axes, the axes of the frame."""
    normals = np.round(hull.equations[:, :3], 6)
    a, b, c = mesh.corners[hull.simplices].transpose(1, 0, 2)
    areas = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    unique, which = np.unique(
        normals * np.sign(normals @ (1.0, 1e-3, 1e-6) + 1e-12)[:, None], axis=0, return_inverse=True
    )
    sums = np.bincount(which.ravel(), areas)
    largest = unique[np.argsort(-sums, kind="stable")[:DIRECTIONS]]
    middle = mesh.corners[hull.vertices] - mesh.corners[hull.vertices].mean(axis=0)
    principal = np.linalg.eigh(middle.T @ middle)[1].T
    return [axis / np.linalg.norm(axis) for axis in (*np.eye(3), *principal, *largest)]


def _about(axis: Array, corners: Array, kind: str) -> tuple[Shape, Pose]:
    """The least shape of a kind with its z along an axis."""
    turn = z_to(axis)
    at = turn.inverse().apply(corners)
    low, high = float(at[:, 2].min()), float(at[:, 2].max())
    if kind == "box":
        middle, size, yaw = least_rectangle(at[:, :2])
        pose = turn @ Pose((*middle, (low + high) / 2), yaw=yaw)
        return Box((*size, high - low)), pose
    centre, radius = least_ball(at[:, :2])
    if kind == "capsule":  # each corner needs the ball at an end to come as near as this
        rise = np.sqrt(np.maximum(0.0, radius**2 - ((at[:, :2] - centre) ** 2).sum(axis=1)))
        low, high = float((at[:, 2] + rise).min()), float((at[:, 2] - rise).max())
        if low >= high:
            low = high = (low + high) / 2
    length = max(high - low, 1e-6 * radius)
    made = Capsule(radius, length) if kind == "capsule" else Cylinder(radius, length)
    return made, turn @ Pose((*centre, (low + high) / 2))


def least_rectangle(points: Array) -> tuple[Array, Array, float]:
    """Middle (2,), edges (2,) and turn of the least rectangle around points (n, 2): one side lies on a hull's edge."""
    from scipy.spatial import ConvexHull

    ring = points[ConvexHull(points).vertices]
    edges = np.roll(ring, -1, axis=0) - ring
    angles = np.arctan2(edges[:, 1], edges[:, 0]) % (np.pi / 2)
    along = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    u = along @ ring.T
    v = np.stack([-along[:, 1], along[:, 0]], axis=1) @ ring.T
    best = int(np.argmin(np.ptp(u, axis=1) * np.ptp(v, axis=1)))
    mid_u, mid_v = (u[best].min() + u[best].max()) / 2, (v[best].min() + v[best].max()) / 2
    c, s = along[best]
    return (
        np.array((c * mid_u - s * mid_v, s * mid_u + c * mid_v)),
        np.array((np.ptp(u[best]), np.ptp(v[best]))),
        float(angles[best]),
    )


def least_ball(points: Array) -> tuple[Array, float]:
    """Centre and radius of the least circle or ball around points (n, 2 or 3).

    It is the least ball of a few points on its skin: the point farthest out is taken in, those that no longer matter
    are let go, until none is left outside (E. Welzl, "Smallest enclosing disks", LNCS 555, 1991, for why they are few).
    """
    held = [points[0]]
    centre, radius = points[0], 0.0
    for _ in range(1000):
        away = np.linalg.norm(points - centre, axis=1)
        if away.max() <= radius * (1 + 1e-12) + 1e-15:
            break
        held.append(points[int(away.argmax())])
        best = None
        for count in range(2, min(len(held), points.shape[1] + 1) + 1):
            for some in combinations(held, count):
                middle, r = _through(np.array(some))
                if (best is None or r < best[1]) and np.linalg.norm(np.array(held) - middle, axis=1).max() <= r * (
                    1 + 1e-9
                ):
                    best = middle, r, list(some)
        if best is None or best[1] <= radius:
            break
        centre, radius, held = best
    return centre, float(np.linalg.norm(points - centre, axis=1).max())


def _through(points: Array) -> tuple[Array, float]:
    """The least ball with all of these points on its skin."""
    edges = points[1:] - points[0]
    middle = points[0] + np.linalg.lstsq(2 * edges, (edges**2).sum(axis=1), rcond=None)[0]
    return middle, float(np.linalg.norm(points - middle, axis=1).max())


def _grown(mesh: Meshed, shape: Shape, pose: Pose) -> tuple[Shape, Pose]:
    """The shape with its sizes and middle changed so that it shares the most with the mesh."""
    from scipy.optimize import minimize

    if not mesh.is_closed:
        return shape, pose
    back = pose.inverse()
    low, high = shape.bounds(Pose())
    grid = Grid.over(low * 1.05, high * 1.05)
    solid = mesh.fills(back, grid)
    given: Any = shape
    if isinstance(shape, Box):
        sizes = np.array(shape.size)
    else:
        sizes = np.array([given.radius] if isinstance(shape, Sphere) else [given.radius, given.length])

    def made(x: Array) -> tuple[Shape, Pose]:
        new = np.exp(x[3:]) * sizes
        return (Box(new) if isinstance(shape, Box) else type(shape)(*new)), Pose(x[:3] * float(sizes.min()))

    def missed(x: Array) -> float:
        one, at = made(x)
        inside = one.fills(at, grid)
        return 1.0 - float((inside & solid).sum() / max((inside | solid).sum(), 1))

    start = np.zeros(3 + len(sizes))
    corners = np.vstack([start, start - 0.15 * np.eye(len(start))])
    best = minimize(
        missed, start, method="Nelder-Mead", options={"initial_simplex": corners, "maxiter": 200, "xatol": 1e-3}
    )
    new, at = made(best.x)
    return new, pose @ at
