"""Roads through points, and crossings of them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.motion.curves import Curve
from veldrain.motion.roads.geometry import Geometry, pieces_of
from veldrain.motion.roads.profiles import Profile
from veldrain.motion.roads.road import Connection, Junction, Lane, Link, Mark, Network, Road, Section
from veldrain.units import Quantity, quantity

WIDEST = 100.0  # m of a lane, shoulder or sidewalk
KERB = 0.12  # m: how high a sidewalk lies
LINE = 0.12  # m: width of a line


def road_through(
    name: str,
    points: Sequence[Sequence[Quantity]],
    radius: Quantity | None,
    lanes: Sequence[int],
    width: Quantity,
    shoulder: Quantity,
    sidewalk: Quantity,
    speed: Quantity,
    bank: Quantity,
    rule: str,
) -> Road:
    """A road through points; see ``Roads.road``."""
    where = f"road {name}"
    rows = [[quantity(v, "length", where) for v in row] for row in points]
    if len(rows) < 2 or len({len(row) for row in rows}) != 1 or len(rows[0]) not in (2, 3):
        raise VeldrainError("no line", where=where, cure="give two or more points, [x, y] or [x, y, z] each")
    if len(lanes) != 2 or min(lanes) < 0 or not sum(lanes):
        raise VeldrainError(f"lanes {list(lanes)!r}", where=where, cure="give how many on the left and on the right")
    if rule not in ("RHT", "LHT"):
        raise unknown("rule", rule, ("RHT", "LHT"), where)
    given = {"width": width, "shoulder": shoulder, "sidewalk": sidewalk}
    wide, beside, walk = (_size(value, word, where) for word, value in given.items())
    limit = quantity(speed, "speed", where)
    if limit <= 0.0:
        raise VeldrainError(f"speed {limit:g} m/s", where=where, cure="give more than 0")
    at = np.array(rows)[:, :2]
    curve = Curve.through(at) if radius is None else Curve.rounded(at, quantity(radius, "length", where))
    s = curve.to_st(at[:, 0], at[:, 1])[0]
    s[0], s[-1] = 0.0, curve.length
    heights = Profile.through(s.tolist(), [row[2] for row in rows]) if len(rows[0]) == 3 else Profile()
    edges = [("shoulder", beside), ("sidewalk", walk)]
    found = {0: Lane(0, "none", marks=(_middle(lanes),) if all(lanes) else ())}
    for side, count in ((1, lanes[0]), (-1, lanes[1])):
        for n in range(1, count + 1):
            mark = Mark(0.0, "solid" if n == count else "broken", LINE)
            found[side * n] = Lane(
                side * n, "driving", Profile.even(wide), marks=(mark,), before=side * n, after=side * n
            )
        n = count
        for kind, size in edges:
            if size > 0:
                n += 1
                high = ((0.0, KERB, KERB),) if kind == "sidewalk" else ()
                found[side * n] = Lane(
                    side * n, kind, Profile.even(size), before=side * n, after=side * n, heights=high
                )
    return Road(
        name,
        pieces_of(curve),
        [Section(0.0, found)],
        name=name,
        rule=rule,
        length=curve.length,
        elevation=heights,
        banking=Profile.even(quantity(bank, "angle", where)),
        types=((0.0, "town", limit),),
    )


def _size(value: Quantity, word: str, where: str) -> float:
    """A width in m: above 0 of lanes, 0 for none of what is beside them."""
    found = quantity(value, "length", where)
    if not (found > 0.0 or (found == 0.0 and word != "width")) or found > WIDEST:
        bounds = "more than 0" if word == "width" else "0 or more"
        raise VeldrainError(f"{word} {found:g} m", where=where, cure=f"give {bounds}, at most {WIDEST:g} m")
    return found


def _middle(lanes: Sequence[int]) -> Mark:
    return Mark(0.0, "broken" if sum(lanes) == 2 else "solid", LINE)


def crossing(roads: Network, name: str, arms: Sequence[str], is_strict: bool = True) -> int:
    """Join ends of roads; see ``Roads.crossing``. Not strict, it leaves turns without room out, and counts them."""
    ends = [_arm(roads, name, arm) for arm in arms]
    for arm, (road, end) in zip(arms, ends, strict=True):
        joined = road.after if end == "end" else road.before
        if joined is not None or list(arms).count(arm) > 1:
            what = f"is joined to {joined.kind} '{joined.to}' already" if joined else "is named twice"
            raise VeldrainError(f"{arm} {what}", where=f"crossing {name}", cure="name each end of a road once")
    if len(ends) < 2:
        raise VeldrainError("a crossing of less than two arms", where=name, cure="name ends of roads, road:end")
    if name in roads.junctions:
        raise VeldrainError(f"a second junction '{name}'", where="roads", cure="give it another name")
    turns: list[Road] = []
    connections: list[Connection] = []
    left = 0
    for one, one_end in ends:
        for other, other_end in ends:
            if one is other and one_end == other_end:
                continue
            for first, then in _pairs(one, one_end, other, other_end):
                id = f"{name}.{len(connections) + 1}"
                try:
                    turns.append(_turn(id, name, one, one_end, first, other, other_end, then))
                except VeldrainError:
                    if is_strict:
                        raise
                    left += 1
                    continue
                connections.append(Connection(str(len(connections)), one.id, id, "start", ((first, -1),)))
    for turn in turns:
        roads.add(turn)
    for road, end in ends:
        if end == "end":
            road.after = Link("junction", name)
        else:
            road.before = Link("junction", name)
    roads.junctions[name] = Junction(name, connections, name)
    return left


def _arm(roads: Network, name: str, arm: str) -> tuple[Road, str]:
    id, _, end = arm.rpartition(":")
    if end not in ("start", "end") or id not in roads.roads:
        known = [f"{road}:{word}" for road in roads.roads for word in ("start", "end")]
        raise unknown("end of a road", arm, known, f"crossing {name}")
    return roads.roads[id], end


def _lanes(road: Road, end: str, arrives: bool) -> list[int]:
    """The driven lanes that arrive at an end of a road, or leave from it, from the middle outwards."""
    lanes = road.sections[-1 if end == "end" else 0].lanes
    sign = (-1 if end == "end" else 1) * (1 if arrives else -1) * (1 if road.rule == "RHT" else -1)
    return sorted((n for n, lane in lanes.items() if n * sign > 0 and lane.type == "driving"), key=abs)


def _pairs(one: Road, one_end: str, other: Road, other_end: str) -> list[tuple[int, int]]:
    arriving, leaving = _lanes(one, one_end, True), _lanes(other, other_end, False)
    return list(zip(arriving, leaving, strict=False))


def _turn(id: str, junction: str, one: Road, one_end: str, first: int, other: Road, other_end: str, then: int) -> Road:
    """A connecting road of one lane between the middles of two lanes: a cubic whose ends agree with theirs."""
    (x, y, turn), z, wide = _mouth(one, one_end, first, arrives=True)
    (ox, oy, o_turn), oz, o_wide = _mouth(other, other_end, then, arrives=False)
    c, s = math.cos(turn), math.sin(turn)
    u, v = c * (ox - x) + s * (oy - y), c * (oy - y) - s * (ox - x)
    bend = math.remainder(o_turn - turn, 2 * math.pi)
    far = math.hypot(u, v)
    if far < 0.5 or (u <= 0.0 and abs(bend) < math.pi / 2):  # it would have to turn round
        raise VeldrainError(
            f"{one.id}:{one_end} and {other.id}:{other_end} have no room between them",
            where=f"crossing {junction}",
            cure="end the roads some metres before it",
        )
    # A Hermite cubic whose tangents are as long as an arc's would be (exact for a quarter circle within 0.03 %).
    pull = far * (4.0 / 3.0 * math.tan(min(abs(bend), 3.0) / 4.0) / (2.0 * math.sin(max(abs(bend), 1e-6) / 2.0))) * 3.0
    pull = pull if abs(bend) > 1e-3 else far
    du, dv = pull * math.cos(bend), pull * math.sin(bend)
    numbers = (0.0, pull, 3 * u - 2 * pull - du, -2 * u + pull + du, 0.0, 0.0, 3 * v - dv, -2 * v + dv)
    p = np.linspace(0, 1, 257)
    along = np.polynomial.Polynomial(numbers[:4]).deriv()(p)
    across = np.polynomial.Polynomial(numbers[4:]).deriv()(p)
    speeds = np.hypot(along, across)
    length = float(((speeds[:-1:2] + 4 * speeds[1::2] + speeds[2::2]) / 6 * (2 / 256)).sum())
    geometry = Geometry(0.0, x, y, turn, length, "paramPoly3", numbers, normalized=True)
    width = Profile.of([(0.0, wide, (o_wide - wide) / length, 0.0, 0.0)])
    lane = Lane(-1, "driving", width, before=first, after=then)
    offset = Profile.of([(0.0, wide / 2, (o_wide - wide) / length / 2, 0.0, 0.0)])
    return Road(
        id,
        [geometry],
        [Section(0.0, {0: Lane(0, "none"), -1: lane})],
        junction=junction,
        length=length,
        elevation=Profile.of([(0.0, z, (oz - z) / length, 0.0, 0.0)]) if z or oz else Profile(),
        lane_offset=offset,
        before=Link("road", one.id, one_end),
        after=Link("road", other.id, other_end),
        types=one.types,
    )


def _mouth(road: Road, end: str, lane: int, arrives: bool) -> tuple[tuple[float, float, float], float, float]:
    """Place and heading of a lane's middle at an end of its road as one drives, its height, and its width."""
    s = np.array([road.curve.length if end == "end" else 0.0])
    inner, outer = road.borders(len(road.sections) - 1 if end == "end" else 0, s)[lane]
    (place,) = road.points(s, (inner + outer) / 2)
    heading = float(road.curve.at(s)[2][0])
    outward = heading if end == "end" else heading + math.pi
    turn = outward if arrives else outward + math.pi
    found: Any = (float(place[0]), float(place[1]), turn)
    return found, float(place[2]), float(abs(outer - inner)[0])
