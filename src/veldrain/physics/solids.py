"""Hulls and meshes as the arrays that kernels read."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.model import HeightField, Mesh
from veldrain.physics import plant as p
from veldrain.physics.growing import grow_tree
from veldrain.physics.sides import set_leans
from veldrain.pose import Array

SAME_PLANE = 1e-4  # rad: hull triangles this close are one face
LEAF = 4  # triangles of a branch that has no branches


@dataclass(frozen=True)
class Solid:
    """What the engine makes of a mesh: its rows, counted from 0, and the point of the mesh that is its origin."""

    kind: int
    size: Array
    origin: Array
    corners: NDArray[np.void]
    faces: NDArray[np.void]
    branches: NDArray[np.void]


class Solids:
    """Collects corners, faces and branches; a mesh met twice is stored once, what was made of it is kept with it."""

    def __init__(self) -> None:
        self._corners: list[NDArray[np.void]] = [_probe()]  # see ``triangles``
        self._faces: list[NDArray[np.void]] = [np.zeros(2, p.FACE)]
        self._triangles: list[NDArray[np.void]] = [np.zeros(0, p.TRIANGLE)]
        self._heights: list[Array] = []
        self._branches: list[NDArray[np.void]] = []
        self._known: dict[tuple[int, bool], tuple[Mesh, dict[str, Any], Array]] = {}

    def add(self, mesh: Mesh) -> tuple[dict[str, Any], Array]:
        """Fields of GEOM for a mesh's hull or its exact triangles, and the point of it that is the shape's origin."""
        exact = mesh.collide == "triangles"
        key = id(mesh), exact
        if key not in self._known and isinstance(mesh, HeightField):
            self._known[key] = mesh, *self._field(mesh)
        elif key not in self._known:
            solid = mesh.kept.get(exact) or (_triangles(mesh) if exact else _hull(mesh))
            mesh.kept[exact] = solid
            self._known[key] = (mesh, self._stored(solid), solid.origin)
        return self._known[key][1:]

    def arrays(self) -> dict[str, Any]:
        """The plant's arrays."""
        branches = np.concatenate(self._branches) if self._branches else np.zeros(0, p.BRANCH)
        heights = np.concatenate(self._heights) if self._heights else np.zeros(0)
        corners, faces = np.concatenate(self._corners), np.concatenate(self._faces)
        triangles = np.concatenate(self._triangles) if len(self._triangles) > 2 else self._triangles[-1]
        made = {"corners": corners, "faces": faces, "triangles": triangles}
        return made | {"branches": branches, "heights": heights}

    def _field(self, field: HeightField) -> tuple[dict[str, Any], Array]:
        """A ground of heights stays a grid: the kernels look up the triangles near a shape."""
        (rows, columns), z = field.heights.shape, field.heights
        low, high = float(np.nanmin(z)), float(np.nanmax(z))
        edges = field.spacing * (np.array((rows, columns)) - 1)
        first = sum(map(len, self._heights))
        self._heights.append((z - (low + high) / 2).ravel())
        size = np.maximum((*edges / 2, (high - low) / 2), 1e-9)
        fields = {"kind": p.MESH, "size": size, "rows": rows, "columns": columns, "spacing": field.spacing}
        return fields | {"first_face": first}, np.array((0.0, 0.0, (low + high) / 2))

    def _stored(self, solid: Solid) -> dict[str, Any]:
        kept = self._triangles if solid.kind == p.MESH else self._faces
        corner, face, branch = (sum(len(r) for r in rows) for rows in (self._corners, kept, self._branches))
        branches = solid.branches.copy()
        leaf = branches["end"] > 0
        branches["first"][leaf] += face
        branches["end"][leaf] += face
        branches["skip"] += branch
        self._corners.append(solid.corners)
        kept.append(solid.faces)
        self._branches.append(branches)
        return {
            "kind": solid.kind,
            "size": solid.size,
            "branch": branch,
            "first_corner": corner,
            "first_face": face,
            "end_face": face + len(solid.faces),
        }


@cache
def _probe() -> NDArray[np.void]:
    """The corners of a triangle."""
    return _edges(np.zeros((3, 3)), np.array([[0, 1, 2]]), np.zeros(1, np.int64))


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
    number = np.searchsorted(hull.vertices, hull.simplices)
    rows = _edges(corners - origin, number, which)
    size = np.array((inner, outer, _add_starts(rows, len(corners))))
    return Solid(p.HULL, size, origin, rows, faces, np.zeros(0, p.BRANCH))


def _edges(at: Array, triangles: NDArray[Any], face: NDArray[Any]) -> NDArray[np.void]:
    """Corners with their neighbours, of a hull's triangles (m, 3) and the face that each of these is part of."""
    ends = triangles.ravel(), np.roll(triangles, -1, axis=1).ravel()
    near = np.unique(np.stack([np.concatenate(ends), np.concatenate(ends[::-1])], axis=1), axis=0)
    lies = np.unique(np.stack([triangles.ravel(), np.repeat(face, 3)], axis=1), axis=0)
    ranks = [np.arange(len(of)) - np.searchsorted(of[:, 0], of[:, 0]) for of in (near, lies)]
    # A corner has a row, and more of them behind all corners where its neighbours don't fit.
    needs = np.maximum(*(np.bincount(of[:, 0], minlength=len(at)) for of in (near, lies)))
    further = np.maximum(0, -(-needs // p.NEAR) - 1)
    begin = len(at) + np.cumsum(further) - further
    rows = np.zeros(len(at) + int(further.sum()), p.CORNER)
    rows["at"][: len(at)], rows["near"], rows["faces"], rows["more"] = at, -1, -1, -1
    for of, rank, name in zip((near, lies), ranks, ("near", "faces"), strict=True):
        row = np.where(rank < p.NEAR, of[:, 0], begin[of[:, 0]] + rank // p.NEAR - 1)
        rows[name][row, rank % p.NEAR] = of[:, 1]
    rows["more"][: len(at)] = np.where(further > 0, begin, -1)
    last = np.isin(np.arange(len(at), len(rows)), begin + further - 1)
    rows["more"][len(at) :] = np.where(last, -1, np.arange(len(at), len(rows)) + 1)
    return rows


def _add_starts(rows: NDArray[np.void], corners: int) -> int:
    """Say for each cell of the cube of directions which corner is farthest in its middle; gives its divisions."""
    divided = min(int(np.sqrt(corners / 6)), 12)
    middle = (2 * np.arange(divided) + 1) / max(divided, 1) - 1
    for side in range(6):
        axis, sign = divmod(side, 2)
        d = np.zeros((divided, divided, 3))
        # As ``outlines.cell_of`` has it: the other two parts are divided by the greatest.
        d[..., axis], d[..., (axis + 1) % 3], d[..., (axis + 2) % 3] = 1, middle[:, None], middle
        along = d.reshape(-1, 3) @ rows["at"][:corners].T * (1 if sign else -1)
        rows["start"][side * divided**2 : (side + 1) * divided**2] = along.argmax(axis=1)
    return divided


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
    most = np.minimum(sizes, p.MOST_CORNERS)[face]
    place = -(-rank * most // sizes[face])
    stays = (place * sizes[face] // most == rank) & (place < most)
    faces["corners"] = np.minimum(sizes, p.MOST_CORNERS)
    faces["at"][face[stays], place[stays]] = at[corner[order[stays]]]


def _triangles(mesh: Mesh) -> Solid:
    low, high = mesh.corners.min(axis=0), mesh.corners.max(axis=0)
    origin = (low + high) / 2
    at = mesh.corners[mesh.triangles] - origin
    normals = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
    areas = np.linalg.norm(normals, axis=1)
    has_area = areas > 0
    at, normals = at[has_area], normals[has_area] / areas[has_area, None]
    order, branches = _tree_of_boxes(at)
    faces = np.zeros(len(at), p.TRIANGLE)
    faces["normal"], faces["at"] = normals[order], at[order]
    faces["lean"] = _leans(at, normals, _joined(mesh.corners - low)[mesh.triangles[has_area]])[order]
    size = np.maximum((high - low) / 2, 1e-9)
    return Solid(p.MESH, size, origin, np.zeros(0, p.CORNER), faces, branches)


def _joined(corners: Array) -> NDArray[np.int64]:
    """Numbers of corners (n,): those that are a millionth of the size apart have one."""
    fine = 1 << 20
    x, y, z = np.round(corners / max(np.ptp(corners), 1e-12) * (fine - 1)).astype(np.int64).T
    return np.unique((x * fine + y) * fine + z, return_inverse=True)[1]


def _leans(at: Array, normals: Array, corner: NDArray[np.int64]) -> Array:
    """Least cosine between a triangle's normal and a contact's, for each of its sides (n, 3)."""
    leans = np.empty(corner.shape)
    first, order = np.zeros(int(corner.max(initial=-1)) + 2, np.int64), np.zeros(corner.size, np.int64)
    set_leans(at, normals, corner, first, order, leans)
    return leans


def _tree_of_boxes(at: Array) -> tuple[NDArray[np.int64], NDArray[np.void]]:
    """An order of triangles and the branches over it, depth first, halved at the median along the longest side."""
    order, branches = np.arange(len(at)), np.zeros(2 * len(at), p.BRANCH)
    a, b, c = at.transpose(1, 0, 2)  # a reduction over three takes ten times as long
    low, high = np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)
    count = grow_tree((a + b + c) / 3, low, high, LEAF, order, branches, np.zeros((64, 3), np.int64))
    return order, branches[:count].copy()
