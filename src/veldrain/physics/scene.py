"""What can be seen, or touched, of a world, as rays meet it.

Two levels of hierarchies: one over all shapes, whose boxes follow the motion, and one over the triangles of each mesh,
in its own frame. Endless planes stand beside them. The shapes themselves are met exactly.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import unknown
from veldrain.model import HeightField, Look, Mesh, Part, Shape
from veldrain.physics import plant as p
from veldrain.physics.hierarchy import DEPTH, WIDE, Hierarchy, grown
from veldrain.physics.kinds import code_of
from veldrain.physics.plant import FIELD, MESH, PLANE
from veldrain.physics.threads import in_parts, threads
from veldrain.physics.tracing import cast_rays, follow, place_sights, sweep_beams
from veldrain.pose import Array, Pose

SIGHT = np.dtype(
    [(name, np.int64) for name in ("kind", "node", "first", "rows", "columns")]  # first: node of a mesh, or height
    + [(name, np.float64, 3) for name in ("size", "place", "middle", "half", "pos")]  # middle, half: of its box
    + [(name, np.float64, (3, 3)) for name in ("turn", "rot")]
)
FEWEST = 2000  # rays that are worth a thread


@dataclass(frozen=True)
class Sight:
    """A shape on a node (−1: the world), for the scene of what is seen or of what is touched; no shape: the ground."""

    name: str
    node: int
    pose: Pose
    shape: Shape | None
    part: Part | None
    is_touched: bool


Stack = tuple[NDArray[np.float32], NDArray[np.int32], NDArray[np.float32]]


class View(NamedTuple):
    """The arrays of a scene, as kernels take them."""

    planes: int  # sights before this are endless planes, the others are items of the hierarchy
    sights: NDArray[np.void]
    low: Array  # corners of the sights' boxes
    high: Array
    whole: Array  # (2, 3): middle and half edges of the box around all that is in the hierarchy
    boxes: NDArray[np.float32]
    sides: NDArray[np.int32]
    order: NDArray[np.int64]
    mesh_boxes: NDArray[np.float32]
    mesh_sides: NDArray[np.int32]
    triangles: Array  # (n, 9): corner, and the ways to the two others
    heights: Array


class Scene:
    """Shapes as rays meet them.

    Args:
        sights: what there is.
        nodes: the plant's nodes, which the shapes move with.
        ground: what the ground looks like.
        places: nodes of links and their poses there, for what is carried by them.
    """

    def __init__(
        self,
        sights: Sequence[Sight],
        nodes: NDArray[np.void],
        ground: Look | None = None,
        places: Mapping[str, tuple[int, Pose]] | None = None,
    ) -> None:
        self.ground_look, self._places = ground or Look(), places or {}
        self.sights = sorted(sights, key=lambda s: s.shape is not None)
        self.names = [s.name for s in self.sights]
        self._nodes = nodes
        records = np.zeros(len(self.sights), SIGHT)
        meshes: dict[int, int] = {}
        parts: list[tuple[Any, ...]] = []
        heights: list[Array] = []
        self.first_triangle: dict[int, int] = {}  # place in the view, by the mesh's id
        used = np.zeros(3, np.int64)  # branches, triangles, heights
        for record, sight in zip(records, self.sights, strict=True):
            record["node"], record["place"], record["turn"] = sight.node, sight.pose.position, sight.pose.matrix
            shape = sight.shape
            if isinstance(shape, HeightField):
                z = shape.heights
                record["kind"], record["first"], record["rows"], record["columns"] = FIELD, used[2], *z.shape
                record["size"] = shape.spacing, np.nanmin(z), np.nanmax(z)
                heights.append(z.ravel())
                used[2] += z.size
            elif isinstance(shape, Mesh):
                if id(shape) not in meshes:
                    tree, rows = _seen_mesh(shape)
                    inner = tree.sides > 0
                    sides = np.where(inner, tree.sides + used[0], tree.sides - 16 * used[1]).astype(np.int32)
                    meshes[id(shape)], self.first_triangle[id(shape)] = int(used[0]), int(used[1])
                    parts.append((tree.boxes, sides, rows))
                    used[:2] += len(sides), len(rows)
                record["kind"], record["first"] = MESH, meshes[id(shape)]
            else:
                record["kind"], record["size"] = _plain(shape)
            record["middle"], record["half"] = _extent(shape, record)
        planes = sum(s.shape is None for s in self.sights)
        low, high, whole = np.zeros((len(records), 3)), np.zeros((len(records), 3)), np.zeros((2, 3))
        place_sights(records, nodes, low, high, whole, planes)
        top = grown(low[planes:], high[planes:], leaf=2)
        none = np.zeros((0, 6, WIDE), np.float32), np.zeros((0, WIDE), np.int32), np.zeros((0, 9))
        boxes, sides, triangles = (np.concatenate(rows) for rows in zip(none, *parts, strict=True))
        self.view = View(
            planes,
            records,
            low,
            high,
            whole,
            top.boxes,
            top.sides,
            top.order + planes,
            boxes,
            sides,
            triangles,
            np.concatenate([np.zeros(0), *heights]),
        )
        self._moves = bool((records["node"] >= 0).any())
        self._stacks: list[Stack] = []

    def without(self, names: Collection[str]) -> Scene:
        """A scene of the same things but for some names."""
        return Scene([s for s in self.sights if s.name not in names], self._nodes, self.ground_look, self._places)

    @property
    def looks(self) -> list[Look]:
        """What each sight looks like."""
        return [self.ground_look if s.part is None else s.part.seen_as for s in self.sights]

    def point_on(self, link: str | None, at: Array) -> Array:
        """A point of a link's frame (None: of the world) in the world.

        Raises:
            VeldrainError: there is no such link.
        """
        if link is None:
            return at
        if link not in self._places:
            raise unknown("link", link, self._places, "lamp")
        node, pose = self._places[link]
        inside = pose.apply(at)
        return inside if node < 0 else self._nodes["pos"][node] + self._nodes["rot"][node] @ inside

    def nodes_of(self, sights: p.Ints) -> p.Ints:
        """The nodes (n,) that sights are on."""
        return np.asarray(self.view.sights["node"][sights])

    def follow(self) -> None:
        """Bring the shapes' places and their boxes up to date with the nodes."""
        if self._moves:
            v = self.view
            follow(v.sights, self._nodes, v.low, v.high, v.whole, v.planes, v.boxes, v.sides, v.order)

    def stack(self, thread: int) -> Stack:
        """Room for one thread to work in: boxes' distances, and the nodes still to look at with theirs."""
        while len(self._stacks) < threads():
            near = np.zeros(2 * WIDE * DEPTH, np.float32)
            self._stacks.append((np.zeros(2 * WIDE, np.float32), np.zeros(2 * WIDE * DEPTH, np.int32), near))
        return self._stacks[thread]

    def cast(self, origins: Array, directions: Array, reach: float) -> tuple[Array, p.Ints, Array]:
        """Distances (n,), sights (n,) (−1: nothing) and world normals (n, 3) along rays of unit directions (n, 3)."""
        self.follow()
        count = len(origins)
        distances, hits, normals = np.empty(count), np.empty(count, np.int64), np.empty((count, 3))
        self.stack(0)

        def part(first: int, end: int, thread: int) -> None:
            rows = slice(first, end)
            cast_rays(
                self.view,
                *self._stacks[thread],
                origins[rows],
                directions[rows],
                reach,
                distances[rows],
                hits[rows],
                normals[rows],
            )

        in_parts(count, FEWEST, part)
        return distances, hits, normals

    def sweep(self, place: Array, ways: Array, lead: Array, reach: float, shine: Array) -> tuple[Array, Array]:
        """Distances (n,) and reflectance times cosine (n,) of beams from an eye in motion, see ``sweep_beams``."""
        self.follow()
        distances, echoes = np.empty(len(ways)), np.empty(len(ways))
        self.stack(0)

        def part(first: int, end: int, thread: int) -> None:
            rows = slice(first, end)
            sweep_beams(
                self.view,
                *self.stack(thread),
                place,
                ways[rows],
                lead[rows],
                reach,
                shine,
                distances[rows],
                echoes[rows],
            )

        in_parts(len(ways), FEWEST, part)
        return distances, echoes


def _plain(shape: Shape | None) -> tuple[int, tuple[float, ...]]:
    """Kind and size of a shape with a closed form."""
    if shape is None:
        return PLANE, (0.0, 0.0, 0.0)
    return code_of(shape)


def _extent(shape: Shape | None, record: Any) -> tuple[Array, Array]:
    """Middle and half edges of the box around a shape, in its frame; a hair wider than the shape."""
    if isinstance(shape, Mesh):
        corners = shape.corners
        low, high = corners.min(axis=0), corners.max(axis=0)
    else:
        a, b, _ = record["size"]
        half = {p.BOX: record["size"], p.ELLIPSOID: record["size"], p.SPHERE: (a, a, a), p.CAPSULE: (a, a, a + b)}
        high = np.array(half.get(int(record["kind"]), (a, a, b)))
        low = -high
    return (low + high) / 2, (high - low) / 2 * (1 + 1e-9) + 1e-9


def _seen_mesh(mesh: Mesh) -> tuple[Hierarchy, Array]:
    """The hierarchy over a mesh's triangles and their rows in its order; kept with the mesh."""
    if "sight" not in mesh.kept:
        at = mesh.corners[mesh.triangles]
        low, high = at.min(axis=1), at.max(axis=1)
        slack = 1e-9 * (1.0 + np.abs(at).max())
        tree = grown(low - slack, high + slack, 8)
        rows = np.concatenate([at[:, 0], at[:, 1] - at[:, 0], at[:, 2] - at[:, 0]], axis=1)[tree.order]
        mesh.kept["sight"] = tree, np.ascontiguousarray(rows)
    kept: tuple[Hierarchy, Array] = mesh.kept["sight"]
    return kept
