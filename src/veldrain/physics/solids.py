"""Hulls and meshes as the arrays that kernels read."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.model import Mesh
from veldrain.physics import plant as p
from veldrain.physics.growing import grow_tree
from veldrain.pose import Array

MOST_CORNERS = 12  # of a face, as in plant.FACE
SAME_PLANE = 1e-4  # rad: hull triangles this close are one face
OUTER = 1e-3  # rad: a side bent outward by more than this is an outer one
LEAF = 4  # triangles of a branch that has no branches


@dataclass(frozen=True)
class Solid:
    """What the engine makes of a mesh: its rows, counted from 0, and the point of the mesh that is its origin."""

    kind: int
    size: Array
    origin: Array
    corners: Array
    faces: NDArray[np.void]
    branches: NDArray[np.void]


class Solids:
    """Collects corners, faces and branches; a mesh met twice is stored once, what was made of it is kept with it."""

    def __init__(self) -> None:
        self._corners: list[Array] = [np.zeros((3, 3))]  # the first triangle is the probe's
        self._faces: list[NDArray[np.void]] = [np.zeros(1, p.FACE)]
        self._branches: list[NDArray[np.void]] = []
        self._known: dict[tuple[int, bool], tuple[Mesh, dict[str, Any], Array]] = {}

    def add(self, mesh: Mesh) -> tuple[dict[str, Any], Array]:
        """Fields of GEOM for a mesh's hull or its exact triangles, and the point of it that is the shape's origin."""
        exact = mesh.collide == "triangles"
        key = id(mesh), exact
        if key not in self._known:
            solid = mesh.kept.get(exact) or (_triangles(mesh) if exact else _hull(mesh))
            mesh.kept[exact] = solid
            self._known[key] = (mesh, self._stored(solid), solid.origin)
        return self._known[key][1:]

    def arrays(self) -> dict[str, Any]:
        """The plant's arrays."""
        branches = np.concatenate(self._branches) if self._branches else np.zeros(0, p.BRANCH)
        return {"corners": np.concatenate(self._corners), "faces": np.concatenate(self._faces), "branches": branches}

    def _stored(self, solid: Solid) -> dict[str, Any]:
        corner, face, branch = (sum(len(r) for r in rows) for rows in (self._corners, self._faces, self._branches))
        branches = solid.branches.copy()
        leaf = branches["end"] > 0
        branches["first"][leaf] += face
        branches["end"][leaf] += face
        branches["skip"] += branch
        self._corners.append(solid.corners)
        self._faces.append(solid.faces)
        self._branches.append(branches)
        return {
            "kind": solid.kind,
            "size": solid.size,
            "branch": branch,
            "first_corner": corner,
            "end_corner": corner + len(solid.corners),
            "first_face": face,
            "end_face": face + len(solid.faces),
        }


def _hull(mesh: Mesh) -> Solid:
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    hull = mesh.hull
    corners = mesh.corners[hull.vertices]
    origin = corners.mean(axis=0)
    normals = hull.equations[:, :3]
    one, other = np.repeat(np.arange(len(normals)), 3), hull.neighbors.ravel()
    same = np.einsum("ij,ij->i", normals[one], normals[other]) > np.cos(SAME_PLANE)
    together = coo_array((same[same], (one[same], other[same])), shape=(len(normals), len(normals)))
    count, which = connected_components(together, directed=False)
    first = np.unique(which, return_index=True)[1]
    faces = np.zeros(count, p.FACE)
    faces["normal"] = normals[first]
    _add_rings(faces, np.repeat(which, 3), hull.simplices.ravel(), mesh.corners - origin)
    inner = float((-hull.equations[:, 3] - normals @ origin).min())
    outer = float(np.linalg.norm(corners - origin, axis=1).max())
    return Solid(p.HULL, np.array((inner, outer, 0.0)), origin, corners - origin, faces, np.zeros(0, p.BRANCH))


def _add_rings(faces: NDArray[np.void], face: NDArray[np.int64], corner: NDArray[np.int64], at: Array) -> None:
    """Give faces their corners in turning order, as many as there is room for; one may be named several times."""
    face, corner = np.divmod(np.unique(face.astype(np.int64) * len(at) + corner), len(at))
    sizes = np.bincount(face)
    mean = np.stack([np.bincount(face, at[corner, k]) for k in range(3)], axis=1) / sizes[:, None]
    middle = at[corner] - mean[face]
    firsts = np.cumsum(sizes) - sizes
    one = np.repeat(middle[firsts], sizes, axis=0)
    across = np.repeat(np.cross(faces["normal"], middle[firsts]), sizes, axis=0)
    angles = np.arctan2(np.einsum("ij,ij->i", middle, across), np.einsum("ij,ij->i", middle, one))
    order = np.lexsort((angles, face))
    rank = np.arange(len(face)) - np.repeat(firsts, sizes)
    # Of a face with more corners every so many-th stays.
    most = np.minimum(sizes, MOST_CORNERS)[face]
    place = -(-rank * most // sizes[face])
    stays = (place * sizes[face] // most == rank) & (place < most)
    faces["corners"] = np.minimum(sizes, MOST_CORNERS)
    faces["at"][face[stays], place[stays]] = at[corner[order[stays]]]


def _triangles(mesh: Mesh) -> Solid:
    low, high = mesh.corners.min(axis=0), mesh.corners.max(axis=0)
    origin = (low + high) / 2
    at = mesh.corners[mesh.triangles] - origin
    normals = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
    areas = np.linalg.norm(normals, axis=1)
    at, normals = at[areas > 0], normals[areas > 0] / areas[areas > 0, None]
    order, branches = _tree_of_boxes(at)
    faces = np.zeros(len(at), p.FACE)
    faces["corners"], faces["normal"] = 3, normals[order]
    faces["lean"] = _leans(at, normals)[order]
    faces["at"][:, :3] = at[order]
    size = np.maximum((high - low) / 2, 1e-9)
    return Solid(p.MESH, size, origin, np.zeros((0, 3)), faces, branches)


def _leans(at: Array, normals: Array) -> Array:
    """Least cosine between a triangle's normal and a contact's, for each of its sides.

    It is 1 where the next triangle lies in the same plane or bends inward, and −1 where there is none.
    """
    fine = 1 << 20  # corners this much of the size apart are one
    x, y, z = np.round((at - at.min()) / max(np.ptp(at), 1e-12) * (fine - 1)).astype(np.int64).reshape(-1, 3).T
    corner = np.unique((x * fine + y) * fine + z, return_inverse=True)[1].reshape(-1, 3)
    ends = np.roll(corner, -1, axis=1)
    count = corner.max() + 1
    here, back = (corner * count + ends).ravel(), (ends * count + corner).ravel()
    order = np.argsort(here, kind="stable")
    # Of several triangles with one side the last counts.
    row = np.searchsorted(here, back, side="right", sorter=order) - 1
    found = order[np.maximum(row, 0)]
    met = here[found] == back
    this, other = np.arange(len(here)) // 3, found // 3
    edges = (np.roll(at, -1, axis=1) - at).reshape(-1, 3)
    bend = np.einsum("ij,ij->i", np.cross(normals[this], normals[other]), edges) / np.linalg.norm(edges, axis=1)
    cosine = np.einsum("ij,ij->i", normals[this], normals[other])
    leans = np.where(met, np.where(bend > OUTER, cosine - 1e-3, 1.0), -1.0)
    return np.asarray(leans.reshape(-1, 3))


def _tree_of_boxes(at: Array) -> tuple[NDArray[np.int64], NDArray[np.void]]:
    """An order of triangles and the branches over it, depth first, halved at the median along the longest side."""
    order, branches = np.arange(len(at)), np.zeros(2 * len(at), p.BRANCH)
    count = grow_tree(
        at.mean(axis=1), at.min(axis=1), at.max(axis=1), LEAF, order, branches, np.zeros((64, 3), np.int64)
    )
    return order, branches[:count].copy()
