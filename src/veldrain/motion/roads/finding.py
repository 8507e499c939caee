"""The shortest way over a network of roads, from a point to another, along its lanes."""

from __future__ import annotations

import heapq
from collections.abc import Sequence

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.motion.curves import Curve
from veldrain.motion.roads.road import OnLane, joined_ways
from veldrain.motion.routes import Way

Key = tuple[str, int, int]  # road, section, lane


def shortest_way(first: OnLane, start: Sequence[float], last: OnLane, goal: Sequence[float]) -> Way:
    """The shortest way along lanes from a point (x, y) on one to a point on another.

    It keeps to the lanes that follow each other and changes none; of the last's road any lane of its direction will do
    (E. W. Dijkstra, "A note on two problems in connexion with graphs", Numerische Mathematik 1, 1959).

    Raises:
        VeldrainError: no lanes lead from the one to the other.
    """
    ways: dict[Key, Way] = {}

    def way_of(lane: OnLane) -> Way:
        return ways.setdefault(_key(lane), lane.way())

    def foot(lane: OnLane, point: Sequence[float]) -> float:
        return way_of(lane).curve.foot(point[0], point[1])[0]

    begin = foot(first, start)
    ends = {(last.road.id, last.section, n) for n, lane in last.road.sections[last.section].lanes.items() if n}
    ends = {key for key in ends if (key[2] < 0) == (last.lane.number < 0)}
    best: dict[Key, float] = {}
    # Each with how long the way to its beginning is, a number that settles ties, and the lanes up to it.
    count, open_ends = 0, [(-begin, 0, [first])]
    found: tuple[float, list[OnLane], float] | None = None
    while open_ends and (found is None or open_ends[0][0] < found[0]):
        so_far, _, chain = heapq.heappop(open_ends)
        lane = chain[-1]
        if _key(lane) in ends:
            end = foot(lane, goal)
            if so_far + end > 0 and (found is None or so_far + end < found[0]):
                found = so_far + end, chain, end
        for after in lane.onward():
            length = so_far + way_of(lane).curve.length
            if length < best.get(_key(after), np.inf):
                best[_key(after)] = length
                count += 1
                heapq.heappush(open_ends, (length, count, [*chain, after]))
    if found is None:
        raise VeldrainError(
            f"no lanes lead from road {first.road.id}, lane {first.lane.number}, to road {last.road.id}",
            where="route",
            cure="start on another lane, or go by way of a road where it can turn",
        )
    whole = joined_ways([way_of(lane) for lane in found[1]])
    length = sum(way_of(lane).curve.length for lane in found[1][:-1])
    return cut(whole, begin, length + found[2])


def cut(way: Way, begin: float, end: float) -> Way:
    """A part of a way, from one length (m) to another."""
    inner = way.s[(way.s > begin + 1e-6) & (way.s < end - 1e-6)]
    s = np.concatenate([[begin], inner, [end]])
    x, y, heading, k = way.curve.at(s)
    heights, rolls = (np.interp(s, way.s, values) for values in (way.heights, way.rolls))
    limits = way.limits[np.searchsorted(way.s, s + 1e-9, side="right") - 1]
    return Way(Curve.sampled(s - begin, x, y, np.unwrap(heading), k), s - begin, heights, rolls, limits)


def _key(lane: OnLane) -> Key:
    return lane.road.id, lane.section, lane.lane.number
