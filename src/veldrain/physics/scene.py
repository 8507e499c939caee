"""What can be seen, or touched, of a world, as rays meet it.

Two levels of hierarchies: one over all shapes, whose boxes follow the motion, and one over the triangles of each mesh,
in its own frame. Endless planes stand beside them. The shapes themselves are met exactly.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import unknown
from veldrain.kernel import entry, inlined, kernel, vector_entry
from veldrain.model import HeightField, Look, Mesh, Part, Shape
from veldrain.physics import plant as p
from veldrain.physics.fields import corner, meet_field
from veldrain.physics.hierarchy import DEPTH, WIDE, Hierarchy, grown, refit
from veldrain.physics.kinds import code_of
from veldrain.physics.plant import FIELD, MESH, PLANE
from veldrain.physics.rays import meet, meet_three
from veldrain.physics.spatial import add, cross, dot, minus, multiply, put, scaled, triple, turned, turned_back
from veldrain.physics.threads import in_parts, threads
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
        _follow(records, nodes, low, high, whole, planes)
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


@entry
def _follow(sights, nodes, low, high, whole, planes):
    """Bring the shapes' places, and the corners of the boxes around them, up to date."""
    place_all(sights, nodes, low, high, whole, planes)


@entry
def follow(sights, nodes, low, high, whole, planes, boxes, sides, order):
    """The same, and the hierarchy over them."""
    place_all(sights, nodes, low, high, whole, planes)
    refit(boxes, sides, order, low, high)


@kernel
def place_all(sights, nodes, low, high, whole, planes):
    """Bring the shapes' places, and the corners of the boxes around them, up to date."""
    for k in range(len(sights)):
        s = sights[k]
        if s.node >= 0:
            n = nodes[s.node]
            multiply(n.rot, s.turn, s.rot)
            put(s.pos, add(triple(n.pos), turned(n.rot, triple(s.place))))
        else:
            for i in range(3):
                s.pos[i] = s.place[i]
                for j in range(3):
                    s.rot[i, j] = s.turn[i, j]
        middle = add(triple(s.pos), turned(s.rot, triple(s.middle)))
        for i in range(3):
            half = abs(s.rot[i, 0]) * s.half[0] + abs(s.rot[i, 1]) * s.half[1] + abs(s.rot[i, 2]) * s.half[2]
            low[k, i], high[k, i] = middle[i] - half, middle[i] + half
    for i in range(3):
        least, most = math.inf, -math.inf
        for k in range(planes, len(sights)):
            least, most = min(least, low[k, i]), max(most, high[k, i])
        whole[0, i], whole[1, i] = (0.5 * (least + most), 0.5 * (most - least)) if least <= most else (0.0, -1.0)


@inlined
def inverse(x):
    """1/x, and something huge for what is as good as nothing."""
    return 1.0 / x if abs(x) > 1e-30 else math.copysign(1e30, x)


@inlined
def next_node(boxes, sides, node, room, stack, near, top, ox, oy, oz, ix, iy, iz, best):
    """Stack the sides of an inner node that a ray enters before ``best``, the nearest last; gives the new top."""
    limit, nought = np.float32(best), np.float32(0.0)
    for k in range(boxes.shape[2]):  # a count that LLVM does not know is not unrolled, but done eight at a time
        a, b = (boxes[node, 0, k] - ox) * ix, (boxes[node, 3, k] - ox) * ix
        c, d = (boxes[node, 1, k] - oy) * iy, (boxes[node, 4, k] - oy) * iy
        e, f = (boxes[node, 2, k] - oz) * iz, (boxes[node, 5, k] - oz) * iz
        enter, leave = (a if a < b else b), (b if a < b else a)
        enter, leave = (enter if enter > nought else nought), (leave if leave < limit else limit)
        x, y = (c if c < d else d), (d if c < d else c)
        enter, leave = (x if x > enter else enter), (y if y < leave else leave)
        x, y = (e if e < f else f), (f if e < f else e)
        enter, leave = (x if x > enter else enter), (y if y < leave else leave)
        room[k] = enter
        room[WIDE + k] = leave
    bottom = top
    for k in range(WIDE):
        enter = room[k]
        if enter <= room[WIDE + k]:
            j = top
            while j > bottom and near[j - 1] < enter:
                stack[j], near[j] = stack[j - 1], near[j - 1]
                j -= 1
            stack[j], near[j] = sides[node, k], enter
            top += 1
    return top


@inlined
def popped(stack, near, bottom, top, best):
    """The next stacked node that is nearer than what was met (0: none), and the stack's new top."""
    while top > bottom:
        top -= 1
        if near[top] < best:
            return stack[top], top
    return 0, top


@inlined
def corner_and_ways(rows, k):
    """A triangle's corner and the ways to the two others; without slices, which cost as much as the triangle."""
    return (
        (rows[k, 0], rows[k, 1], rows[k, 2]),
        (rows[k, 3], rows[k, 4], rows[k, 5]),
        (rows[k, 6], rows[k, 7], rows[k, 8]),
    )


@inlined
def approach(o, d, middle, half, best):
    """How far a ray can go before it comes to a box; inf where it does not before ``best``."""
    enter, leave = 0.0, best
    for k in range(3):
        inv = inverse(d[k])
        a, b = (middle[k] - half[k] - o[k]) * inv, (middle[k] + half[k] - o[k]) * inv
        enter, leave = max(enter, min(a, b)), min(leave, max(a, b))
    return enter if enter <= leave else math.inf


@inlined
def trace_mesh(v, root, room, stack, near, bottom, o, d, best, any_hit, start):
    """Distance, triangle (its place in the view) and shares of its two ways; inf: missed.

    The hierarchy is walked in single precision from ``start`` on, where the ray is near what it holds.
    """
    ix, iy, iz = np.float32(inverse(d[0])), np.float32(inverse(d[1])), np.float32(inverse(d[2]))
    ox, oy, oz = np.float32(o[0] + start * d[0]), np.float32(o[1] + start * d[1]), np.float32(o[2] + start * d[2])
    hit = (math.inf, 0, 0.0, 0.0)
    top = next_node(v.mesh_boxes, v.mesh_sides, root, room, stack, near, bottom, ox, oy, oz, ix, iy, iz, best - start)
    while True:
        node, top = popped(stack, near, bottom, top, best - start)
        if node == 0:
            return hit
        if node > 0:
            top = next_node(
                v.mesh_boxes, v.mesh_sides, node, room, stack, near, top, ox, oy, oz, ix, iy, iz, best - start
            )
            continue
        first = (-1 - node) // 16
        for k in range(first, first + (-1 - node) % 16):
            a, u, w = corner_and_ways(v.triangles, k)
            t, x, y = meet_three(a, u, w, o, d, best)
            if t < best:
                best, hit = t, (t, k, x, y)
        if any_hit and hit[0] < math.inf:
            return hit


@inlined
def meet_sight(v, k, room, stack, near, top, o, d, best, any_hit):
    """Where a ray in world axes meets a sight: distance, local normal, triangle and its shares."""
    s = v.sights[k]
    local, way = turned_back(s.rot, minus(o, triple(s.pos))), turned_back(s.rot, d)
    if s.kind == MESH:
        t, triangle, x, y = math.inf, 0, 0.0, 0.0
        start = approach(local, way, s.middle, s.half, best)
        if start < math.inf:
            t, triangle, x, y = trace_mesh(v, s.first, room, stack, near, top, local, way, best, any_hit, start)
        n = (0.0, 0.0, 0.0)
        if t < best:
            _, u, w = corner_and_ways(v.triangles, triangle)
            n = cross(u, w)
    elif s.kind == FIELD:
        t, triangle, x, y = meet_field(s, v.heights, local, way, best)
        n = (0.0, 0.0, 0.0)
        if t < best:
            cell, odd = triangle // 2, triangle % 2
            i, j = cell // (s.columns - 1), cell % (s.columns - 1)
            a, c = corner(s, v.heights, i, j), corner(s, v.heights, i + 1, j + 1)
            b = corner(s, v.heights, i, j + 1) if odd else corner(s, v.heights, i + 1, j)
            n = cross(minus(c, a), minus(b, a))
            n = scaled(n, math.copysign(1.0, n[2]))  # upward
    else:
        t, nx, ny, nz = meet(s.kind, s.size, local, way, best)
        return t, nx, ny, nz, -1, 0.0, 0.0
    length = math.sqrt(dot(n, n))
    if length > 0.0:
        n = scaled(n, 1.0 / length)
    return t, n[0], n[1], n[2], triangle, x, y


@inlined
def trace(v, room, stack, near, o, d, best, any_hit):
    """Where a ray first meets anything nearer than ``best``, or anywhere at all before it.

    Gives distance (inf: nowhere), sight, local normal, triangle (−1: none) and the shares of its two ways.
    """
    found, hit = -1, (math.inf, 0.0, 0.0, 0.0, -1, 0.0, 0.0)
    for k in range(v.planes):
        s = v.sights[k]
        height, sinking = turned_back(s.rot, minus(o, triple(s.pos)))[2], -turned_back(s.rot, d)[2]
        t = height / sinking if sinking != 0.0 else -1.0
        if 0.0 <= t < best:
            best, found, hit = t, k, (t, 0.0, 0.0, 1.0, -1, 0.0, 0.0)
    ix, iy, iz = np.float32(inverse(d[0])), np.float32(inverse(d[1])), np.float32(inverse(d[2]))
    start = approach(o, d, v.whole[0], v.whole[1], best)
    ox, oy, oz = np.float32(o[0] + start * d[0]), np.float32(o[1] + start * d[1]), np.float32(o[2] + start * d[2])
    top = 0
    if start < math.inf:
        if len(v.order) == 1:  # there is nothing to choose from
            stack[0], near[0], top = v.sides[0, 0], 0.0, 1
        else:
            top = next_node(v.boxes, v.sides, 0, room, stack, near, 0, ox, oy, oz, ix, iy, iz, best - start)
    while not (any_hit and found >= 0):
        node, top = popped(stack, near, 0, top, best - start)
        if node == 0:
            break
        if node > 0:
            top = next_node(v.boxes, v.sides, node, room, stack, near, top, ox, oy, oz, ix, iy, iz, best - start)
            continue
        first = (-1 - node) // 16
        for item in range(first, first + (-1 - node) % 16):
            k = v.order[item]
            one = meet_sight(v, k, room, stack, near, top, o, d, best, any_hit)
            if one[0] < best:
                best, found, hit = one[0], k, one
    return hit[0], found, hit[1], hit[2], hit[3], hit[4], hit[5], hit[6]


@vector_entry
def cast_rays(v, room, stack, near, origins, directions, reach, distances, hits, normals):
    """Fill distances (n,), sights (n,) and world normals (n, 3) of rays with unit directions."""
    for k in range(len(origins)):
        t, sight, x, y, z, _, _, _ = trace(
            v, room, stack, near, triple(origins[k]), triple(directions[k]), reach, False
        )
        distances[k], hits[k] = t, sight
        put(normals[k], turned(v.sights[sight].rot, (x, y, z)) if sight >= 0 else (0.0, 0.0, 0.0))


@vector_entry
def sweep_beams(v, room, stack, near, place, ways, lead, reach, shine, distances, echoes):
    """Fill distances (n,) and reflectance times cosine (n,) of beams from an eye that keeps its motion.

    ``place`` (6, 3): its position, the rows of its axes, its velocity and its spin; ``lead`` (n,): s before now.
    """
    position, velocity, spin = triple(place[0]), triple(place[4]), triple(place[5])
    speed = math.sqrt(dot(spin, spin))
    axis = scaled(spin, 1.0 / speed) if speed > 0.0 else (0.0, 0.0, 0.0)
    for k in range(len(ways)):
        d = turned(place[1:4], triple(ways[k]))
        if speed > 0.0:  # O. Rodrigues' formula
            s, c = math.sin(speed * lead[k]), math.cos(speed * lead[k])
            along = dot(axis, d) * (1.0 - c)
            d = add(add(scaled(d, c), scaled(cross(axis, d), s)), scaled(axis, along))
        o = add(position, scaled(velocity, lead[k]))
        t, sight, x, y, z, _, _, _ = trace(v, room, stack, near, o, d, reach, False)
        distances[k], echoes[k] = t, 0.0
        if sight >= 0:
            echoes[k] = shine[sight] * abs(dot(turned(v.sights[sight].rot, (x, y, z)), d))
