"""Hulls and meshes as the arrays that kernels read."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull, QhullError

from veldrain.errors import VeldrainError
from veldrain.model import Mesh
from veldrain.physics import plant as p
from veldrain.pose import Array

MOST_CORNERS = 12  # of a face, as in plant.FACE
SAME_PLANE = 1e-4  # rad: hull triangles this close are one face
OUTER = 1e-3  # rad: a side bent outward by more than this is an outer one
LEAF = 4  # triangles of a branch that has no branches


class Solids:
    """Collects corners, faces and branches; a shape met twice is stored once."""

    def __init__(self) -> None:
        self._corners: list[Array] = [np.zeros((3, 3))]  # the first triangle is the probe's
        self._faces: list[NDArray[np.void]] = [np.zeros(1, p.FACE)]
        self._branches: list[NDArray[np.void]] = []
        self._known: dict[tuple[int, bool], tuple[Mesh, dict[str, Any], Array]] = {}

    def add(self, mesh: Mesh, exact: bool = False) -> tuple[dict[str, Any], Array]:
        """Fields of GEOM for a mesh's hull or its exact triangles, and the point of it that is the shape's origin."""
        exact = exact or mesh.collide == "triangles"
        key = id(mesh), exact
        if key not in self._known:
            self._known[key] = (mesh, *(self._triangles(mesh) if exact else self._hull(mesh)))
        return self._known[key][1:]

    def arrays(self) -> dict[str, Any]:
        """The plant's arrays."""
        branches = np.concatenate(self._branches) if self._branches else np.zeros(0, p.BRANCH)
        return {"corners": np.concatenate(self._corners), "faces": np.concatenate(self._faces), "branches": branches}

    def _hull(self, mesh: Mesh) -> tuple[dict[str, Any], Array]:
        try:
            hull = ConvexHull(mesh.corners)
        except QhullError as error:
            raise VeldrainError("the mesh is flat, so that it has no hull", where=mesh.source,
                                cure="use a thin box, or collide='triangles'") from error  # fmt: skip
        corners = mesh.corners[hull.vertices]
        origin = corners.mean(axis=0)
        normals, faces = hull.equations[:, :3], []
        left = np.ones(len(normals), bool)
        for k in range(len(normals)):
            if not left[k]:
                continue
            same = left & (normals @ normals[k] > np.cos(SAME_PLANE))
            left &= ~same
            face = np.zeros(1, p.FACE)
            ring = _ring(mesh.corners[np.unique(hull.simplices[same])] - origin, normals[k])
            face["corners"], face["normal"], face["at"][0, : len(ring)] = len(ring), normals[k], ring
            faces.append(face)
        fields = {
            "kind": p.HULL,
            "size": (float((-hull.equations[:, 3] - normals @ origin).min()),
                     float(np.linalg.norm(corners - origin, axis=1).max()), 0.0),
            "first_corner": self._count(self._corners), "first_face": self._count(self._faces),
        }  # fmt: skip
        self._corners.append(corners - origin)
        self._faces += faces
        fields |= {"end_corner": self._count(self._corners), "end_face": self._count(self._faces)}
        return fields, origin

    def _triangles(self, mesh: Mesh) -> tuple[dict[str, Any], Array]:
        low, high = mesh.corners.min(axis=0), mesh.corners.max(axis=0)
        origin = (low + high) / 2
        at = mesh.corners[mesh.triangles] - origin
        normals = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
        areas = np.linalg.norm(normals, axis=1)
        at, normals = at[areas > 0], normals[areas > 0] / areas[areas > 0, None]
        leans = _leans(at, normals)
        order, branches = _tree_of_boxes(at)
        faces = np.zeros(len(at), p.FACE)
        faces["corners"], faces["lean"], faces["normal"] = 3, leans[order], normals[order]
        faces["at"][:, :3] = at[order]
        first, root = self._count(self._faces), self._count(self._branches)
        leaf = branches["end"] > 0
        branches["first"][leaf] += first
        branches["end"][leaf] += first
        branches["skip"] += root
        self._faces.append(faces)
        self._branches.append(branches)
        size = np.maximum((high - low) / 2, 1e-9)
        return {"kind": p.MESH, "size": size, "first_face": first, "end_face": first + len(at), "branch": root}, origin

    @staticmethod
    def _count(rows: list[Any]) -> int:
        return sum(len(r) for r in rows)


def _ring(corners: Array, normal: Array) -> Array:
    """Corners of a face in turning order, no more than there is room for."""
    middle = corners - corners.mean(axis=0)
    one = middle[np.argmax((middle**2).sum(axis=1))]
    angles = np.arctan2(middle @ np.cross(normal, one), middle @ one)
    ring = corners[np.argsort(angles)]
    chosen = np.unique(np.linspace(0, len(ring), MOST_CORNERS, endpoint=False).astype(int))
    return np.asarray(ring[chosen] if len(ring) > MOST_CORNERS else ring)


def _leans(at: Array, normals: Array) -> Array:
    """Least cosine between a triangle's normal and a contact's, for each of its sides.

    It is 1 where the next triangle lies in the same plane or bends inward, and −1 where there is none.
    """
    keys = np.round(at / max(np.ptp(at), 1e-12) * 1e7).astype(np.int64)
    beyond: dict[tuple[bytes, bytes], int] = {}
    for t, triangle in enumerate(keys):
        for k in range(3):
            beyond[triangle[k].tobytes(), triangle[(k + 1) % 3].tobytes()] = t
    leans = np.full((len(at), 3), -1.0)
    for t, triangle in enumerate(keys):
        for k in range(3):
            other = beyond.get((triangle[(k + 1) % 3].tobytes(), triangle[k].tobytes()))
            if other is not None:
                edge = at[t, (k + 1) % 3] - at[t, k]
                bend = np.cross(normals[t], normals[other]) @ edge / np.linalg.norm(edge)
                leans[t, k] = normals[t] @ normals[other] - 1e-3 if bend > OUTER else 1.0
    return leans


def _tree_of_boxes(at: Array) -> tuple[NDArray[np.int64], NDArray[np.void]]:
    """An order of triangles and the branches over it, depth first, halved at the median along the longest side."""
    middles, low, high = at.mean(axis=1), at.min(axis=1), at.max(axis=1)
    order: list[int] = []
    branches: list[tuple[int, int, int, Array]] = []

    def grow(rows: NDArray[np.int64]) -> None:
        here, box = len(branches), np.concatenate([low[rows].min(axis=0), high[rows].max(axis=0)])
        branches.append((0, 0, 0, box))
        if len(rows) <= LEAF:
            first = len(order)
            order.extend(rows.tolist())
            branches[here] = (first, len(order), len(branches), box)
            return
        axis = int(np.argmax(np.ptp(middles[rows], axis=0)))
        halves = rows[np.argsort(middles[rows, axis], kind="stable")]
        grow(halves[: len(rows) // 2])
        grow(halves[len(rows) // 2 :])
        branches[here] = (0, 0, len(branches), box)

    grow(np.arange(len(at)))
    return np.array(order), np.array(branches, p.BRANCH)
