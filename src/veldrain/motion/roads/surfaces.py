"""What is seen and touched of a network: surfaces, marks, kerbs, things beside it and signs, in few meshes."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.model import Box, Cylinder, Mesh, Part, Sphere, Surface
from veldrain.motion.roads.crossfall import lying, placed, raised
from veldrain.motion.roads.road import DRIVEN, Mark, Network, Road, Thing
from veldrain.pose import Array, Pose

STEP = 4.0  # m between the rows of a surface, where it is straight and even
SAG = 5e-3  # m: how far a chord may be off a curve
FINEST = 0.05  # m: rows are never nearer, however sharp a slip of the pen makes a curve
WITHIN = 0.6  # of the way from the middle of a junction to its arms: no farther than its roads reach
BELOW = 2e-3  # m: what fills a junction lies below its roads
ABOVE = 3e-3  # m: marks above the road, so that they are seen
DASH, PAUSE = 3.0, 6.0  # m of a broken line
PAVED = (*DRIVEN, "shoulder", "stop", "parking", "restricted", "biking", "median", "curb")
COLOURS = {"asphalt": "#54565a", "pavement": "#8f8d88", "grass": "#6d8a52", "marks": "#f2f2ee", "yellow": "#e2b53e"}
ASPHALT = Surface(friction=0.9)
TREES, WALLS = (
    ("tree", "vegetation"),
    ("building", "wall", "barrier", "bridge", "obstacle", "soundBarrier", "roundabout"),
)


class _Strips:
    """Strips of triangles, gathered by what they are made of."""

    def __init__(self) -> None:
        self.corners: dict[str, list[Array]] = {}
        self.triangles: dict[str, list[NDArray[np.int64]]] = {}
        self.count: dict[str, int] = {}

    def add(self, kind: str, left: Array, right: Array) -> None:
        """A strip between two lines (n, 3), its outer side up where left is left."""
        n, first = len(left), self.count.get(kind, 0)
        k = first + np.arange(n - 1)
        found = np.concatenate([np.stack([k, k + n, k + 1], axis=1), np.stack([k + 1, k + n, k + n + 1], axis=1)])
        self.corners.setdefault(kind, []).append(np.concatenate([left, right]))
        self.triangles.setdefault(kind, []).append(found)
        self.count[kind] = first + 2 * n

    def mesh(self, kind: str, collide: Any = "triangles") -> Mesh:
        """All strips of a kind as one mesh."""
        corners, triangles = np.concatenate(self.corners[kind]), np.concatenate(self.triangles[kind])
        a, b, c = (corners[triangles[:, k]] for k in range(3))
        flat = np.linalg.norm(np.cross(b - a, c - a), axis=1) > 1e-9  # a lane of no width has none
        return Mesh.of(corners, triangles[flat], collide=collide, name=kind)


def surfaces(roads: Network) -> Iterator[tuple[str, Part, Pose, Surface]]:
    """Name, part, pose and surface of all that a network puts into a world."""
    strips = _Strips()
    for road in roads.roads.values():
        _lay(road, strips)
    for junction in roads.junctions:
        _fill(roads, junction, strips)
    for kind in ("asphalt", "pavement", "grass"):
        if kind in strips.corners:
            yield kind, Part(strips.mesh(kind), colour=COLOURS[kind]), Pose(), ASPHALT
    for kind in ("marks", "yellow"):
        if kind in strips.corners:
            yield kind, Part(strips.mesh(kind, "hull"), role="visual", colour=COLOURS[kind]), Pose(), ASPHALT
    for road in roads.roads.values():
        for thing in road.things:
            for k, (part, pose) in enumerate(_things(road, thing)):
                yield f"{road.id}/{thing.id or thing.type}/{k + 1}", part, pose, Surface()
        for sign in road.signs:
            if not 0.0 <= sign.s <= road.curve.length + 1e-6:
                continue  # which problems() tells
            s, t = np.array([sign.s]), np.array([sign.t])
            (at,) = road.points(s, t)
            heading = float(road.curve.at(s)[2][0]) + sign.heading + (math.pi if sign.orientation == "-" else 0.0)
            high = max(sign.z, 2.0)
            pole = Part(Cylinder(0.04, high), colour="#9a9ca0")
            yield f"{road.id}/sign{sign.id}/pole", pole, Pose((*at[:2], at[2] + high / 2)), Surface()
            plate = Part(Box((0.02, sign.width or 0.6, sign.height or 0.6)), colour="#c9423a")
            top = (*at[:2], at[2] + high + (sign.height or 0.6) / 2)
            yield f"{road.id}/sign{sign.id}/plate", plate, Pose(top, yaw=heading), Surface()


def grid_of(road: Road, first: float, last: float) -> Array:
    """Lengths at which a stretch is cut into rows: nearer where it curves or climbs."""
    curve = road.curve
    inside = (curve.s >= first - 1e-9) & (curve.s < last - 1e-9)
    bend = np.abs(curve.k[inside] if inside.any() else curve.at(np.array([first]))[3]).max(initial=0.0)
    bend = max(float(bend), float(np.abs(road.elevation.at(np.linspace(first, last, 9), 2)).max()))
    step = min(STEP, max(math.sqrt(8 * SAG / bend), FINEST) if bend > 0 else STEP)
    return np.linspace(first, last, max(2, math.ceil((last - first) / step) + 1))


def _lay(road: Road, strips: _Strips) -> None:
    for k, section in enumerate(road.sections):
        first, last = section.s, road.end_of(k)
        if last - first < 1e-6:
            continue
        varies = any(row[2] or row[3] or row[4] for lane in section.lanes.values() for row in lane.width.rows)
        s = np.linspace(first, last, max(2, math.ceil(last - first) + 1)) if varies else grid_of(road, first, last)
        borders = road.borders(k, s)
        for number, lane in section.lanes.items():
            inner, outer = borders[number]
            if number:
                low, high = raised(road, k, number, s)
                a, b = _edge(road, k, number, s, inner, low), _edge(road, k, number, s, outer, high)
                kind = (
                    "asphalt" if lane.type in PAVED else "pavement" if lane.type in ("sidewalk", "walking") else "grass"
                )
                strips.add(kind, *((a, b) if number < 0 else (b, a)))
                inwards = number - (1 if number > 0 else -1)
                foot = _edge(road, k, inwards, s, inner, raised(road, k, inwards, s)[1])
                if (np.abs(a - foot) > 1e-6).any():  # a kerb between it and the next lane inwards
                    strips.add("pavement", *((foot, a) if number < 0 else (a, foot)))
            ends = [*(mark.s for mark in lane.marks[1:]), last - first]
            for mark, until in zip(lane.marks, ends[-len(lane.marks) :] if lane.marks else (), strict=True):
                _mark(road, strips, mark, first + mark.s, min(first + until, last), k, number)


def _edge(road: Road, section: int, number: int, s: Array, t: Array, above: Array) -> Array:
    """Points (n, 3) of a lane, so far above the plane in which it lies."""
    return placed(road, s, lying(road, section, number, s, (t,), above))


def _fill(roads: Network, junction: str, strips: _Strips) -> None:
    """What connecting roads leave open in a junction: between the middles of its arms, just below them."""
    ends = []
    for road in roads.roads.values():
        for link, s in ((road.before, 0.0), (road.after, road.curve.length)):
            if link is not None and link.kind == "junction" and link.to == junction:
                ends.append(road.points(np.array([s]), np.zeros(1), -BELOW)[0])
    if len(ends) < 3:
        return
    corners = np.array(ends)
    middle = corners.mean(axis=0)
    around = corners[np.argsort(np.arctan2(corners[:, 1] - middle[1], corners[:, 0] - middle[0]))]
    rim = middle + WITHIN * (np.concatenate([around, around[:1]]) - middle)
    strips.add("asphalt", np.tile(middle, (len(rim), 1)), rim)


def _mark(road: Road, strips: _Strips, mark: Mark, first: float, last: float, section: int, number: int) -> None:
    if mark.type in ("none", "curb", "grass", "edge") or last - first < 0.1:
        return
    lines = {"solid solid": 2, "solid broken": 2, "broken solid": 2, "broken broken": 2}.get(mark.type, 1)
    dashed = "broken" in mark.type
    starts = np.arange(first, last, DASH + PAUSE) if dashed else np.array([first])
    kind = "yellow" if mark.colour == "yellow" else "marks"
    for k in range(lines):
        beside = (k - (lines - 1) / 2) * 2 * mark.width
        for start in starts:
            s = grid_of(road, start, min(start + DASH, last) if dashed else last)
            t = road.borders(section, s)[number][1] + beside
            high = raised(road, section, number, s)[1] + ABOVE
            left, right = (_edge(road, section, number, s, t + side * mark.width / 2, high) for side in (1, -1))
            strips.add(kind, left, right)


def _things(road: Road, thing: Thing) -> Iterator[tuple[Part, Pose]]:
    places = [(thing.s, thing.t, thing.z, thing.height, thing.width, thing.length)]
    if thing.repeats:
        places = []
        for r in thing.repeats:
            each = r.distance or max(thing.length, 1.0)
            for k in range(max(1, int(r.length / each + 1e-9) + (1 if r.distance else 0))):
                share = min(k * each / r.length, 1.0) if r.length else 0.0
                t, z, height, width = ((1 - share) * a + share * b for a, b in (r.t, r.z, r.height, r.width))
                places.append(
                    (r.s + k * each, t, z, height or thing.height, width or thing.width, thing.length or each)
                )
    for s, t, z, height, width, length in places:
        if not 0.0 <= s <= road.curve.length + 1e-6:
            continue
        at = np.array([s])
        (place,) = road.points(at, np.array([t]), z)
        if len(thing.along_road) >= 3:
            rows = np.array(thing.along_road) + np.array([s - thing.s, t - thing.t, z - thing.z, 0.0])
            low = road.points(rows[:, 0], rows[:, 1], rows[:, 2])
            top = low + np.column_stack([np.zeros((len(low), 2)), np.maximum(rows[:, 3], 0.1)])
            yield Part(_prism(low - place, top - place), colour="#b8a590"), Pose(place)
            continue
        pose = Pose(place, yaw=float(road.curve.at(at)[2][0]) + thing.heading)
        yield from _shapes(thing, pose, max(height, 0.1), width, length)


def _shapes(thing: Thing, pose: Pose, height: float, width: float, length: float) -> Iterator[tuple[Part, Pose]]:
    if len(thing.outline) >= 3:
        corners = np.array(thing.outline)
        low = np.column_stack([corners[:, :2], corners[:, 2]])
        top = low + np.column_stack([np.zeros((len(low), 2)), np.maximum(corners[:, 3], 0.1)])
        yield Part(_prism(low, top), colour="#b8a590"), pose
    elif thing.type in TREES:
        trunk = max(min(thing.radius or 0.2, 0.3), 0.1)
        crown = max(height * 0.3, 0.3)
        yield Part(Cylinder(trunk, height * 0.5), colour="#6b5138"), pose @ Pose((0, 0, height * 0.25))
        yield Part(Sphere(crown), colour="#4f7a45"), pose @ Pose((0, 0, height - crown))
    elif thing.radius > 0:
        yield Part(Cylinder(thing.radius, height), colour="#9a9ca0"), pose @ Pose((0, 0, height / 2))
    elif width > 0 and length > 0:
        colour = "#b8a590" if thing.type in WALLS else "#8d8f92"
        yield Part(Box((length, width, height)), colour=colour), pose @ Pose((0, 0, height / 2))
    else:
        yield Part(Cylinder(0.06, height), colour="#9a9ca0"), pose @ Pose((0, 0, height / 2))


def _prism(low: Array, top: Array) -> Mesh:
    """A body over an outline; it is touched as its convex hull."""
    n = len(low)
    k = np.arange(n)
    after = (k + 1) % n
    sides = np.concatenate([np.stack([k, after, k + n], 1), np.stack([after, after + n, k + n], 1)])
    cap = np.stack([np.zeros(n - 2, int) + n, k[1:-1] + n, k[2:] + n], 1)
    return Mesh.of(np.concatenate([low, top]), np.concatenate([sides, cap, cap[:, ::-1] - n]), name="building")
