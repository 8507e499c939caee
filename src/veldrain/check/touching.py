"""Rules about shapes that overlap at the start."""

from __future__ import annotations

from collections import Counter
from itertools import combinations
from typing import Any

import numpy as np

from veldrain.check.look import Look, RobotLook, figure, mm
from veldrain.check.rules import Found, found, rule
from veldrain.errors import VeldrainError
from veldrain.model import GROUND
from veldrain.model.pieces import SIMPLE_KINDS
from veldrain.physics.engine import Engine
from veldrain.pose import Array, Pose

SLIGHT = 1e-5  # m of overlap that nobody sees
DEEP = 1e-3  # m of overlap that throws things apart
POSTURES = 24


@rule("overlapping-links", "error", "overlap")
def overlapping_links(robot: RobotLook) -> Found:
    """No two links of a robot overlap at the start.

    The engine drives them apart at the first step: legs fly off, a joint jumps to its stop. Pairs that always overlap
    are meant to; switch them off.
    """
    look = robot.look
    if look.engine is None:
        return
    overlapping = overlaps_within(robot, look.engine)
    how_often = _how_often(robot) if overlapping else {}
    left = _after_a_step(robot) if overlapping else None
    for a, b, depth in overlapping:
        joint = next((j.name for j in robot.model.joints.values() if {j.parent, j.child} == {a, b}), None)
        always, tried = how_often.get(frozenset((a, b)), 0), POSTURES if how_often else 1
        jump = max(0.0, depth - left.get(frozenset((a, b)), 0.0)) if left is not None else 0.0
        speed = figure(jump / look.step)
        thrown = f"; the first step moves them {mm(jump)} apart, as if at {speed} m/s" if jump else ""
        beside = f", which joint '{joint}' joins," if joint else ""
        fix: dict[str, Any] = {}
        if always == tried or not how_often:
            how = f" at every posture tried ({tried})" if tried > 1 else ""
            cure = f"they overlap{how}: switch the pair off with no_contact: [[{a}, {b}]]"
            fix = {"models": {robot.model.name: {"no_contact": [[a, b]]}}}
        else:
            cure = f"they overlap at {always} of {tried} postures: start in another, or make a shape smaller"
        yield found(
            "overlapping-links", robot, a, f"overlaps {b}{beside} by {mm(depth)}{thrown}", cure,
            severity=None if depth > DEEP else "warning", numbers={"depth m": depth, "jump m": jump}, fix=fix,
        )  # fmt: skip


@rule("overlapping-world", "error", "overlap", world=True)
def overlapping_world(look: Look) -> Found:
    """No robot or body overlaps the world or another robot at the start.

    A wheel two millimetres in the ground throws its vehicle into the air.
    """
    if look.engine is None:
        return
    groups = things_of(look, look.engine)
    for one, other in combinations(groups, 2):
        if not (one in look.world.placed or one in look.world.bodies or other in look.world.placed
                or other in look.world.bodies):  # fmt: skip
            continue
        mover, still = (one, other) if one in look.world.placed or one in look.world.bodies else (other, one)
        depth, link = deepest_overlap(look, look.engine, groups[mover], groups[still])
        if depth <= SLIGHT:
            continue
        lift = depth if still == GROUND else _lift(look, mover, still)
        fix = {}
        placed = look.world.placed.get(mover)
        if placed and still == GROUND and not placed.fixed and not placed.path:
            fix = {"place": {mover: {"pose": {"xyz": [round(float(x), 6) for x in
                   placed.pose.position + look.up * (lift + 1e-5)]}}}}  # fmt: skip
        cure = f"lift {mover} by {mm(lift)}" if lift < 2 else f"move {mover} out of it"
        yield found(
            "overlapping-world", look, link, f"is {mm(depth)} deep in {still} at the start", cure,
            severity=None if depth > DEEP else "warning", numbers={"depth m": depth, "lift m": lift}, fix=fix,
        )  # fmt: skip


def overlaps_within(robot: RobotLook, engine: Engine) -> list[tuple[str, str, float]]:
    """Pairs of links of a robot that may touch and overlap, with the depth (m)."""
    compiled, plant = engine.compiled, engine.plant
    names = {robot.path(link): link for link in robot.links}
    own = [k for k, name in enumerate(compiled.geom_names) if name in names]
    low, high = (
        plant.geoms["pos"][own] - _reach(plant, own)[:, None],
        plant.geoms["pos"][own] + _reach(plant, own)[:, None],
    )
    deepest: dict[tuple[str, str], float] = {}
    off = set(plant.skipped.tolist())
    side = np.zeros((2, len(plant.geoms)), np.int64)
    for i, j in combinations(range(len(own)), 2):
        a, b = own[i], own[j]
        pair = names[compiled.geom_names[a]], names[compiled.geom_names[b]]
        if plant.geoms["node"][a] == plant.geoms["node"][b] or a * len(plant.geoms) + b in off:
            continue
        if (low[i] > high[j]).any() or (low[j] > high[i]).any():
            continue
        side[:] = 0
        side[0, a], side[1, b] = 1, 1
        depth = -engine.clearance(side[0], side[1])
        if depth > max(SLIGHT, deepest.get(pair, 0.0)):
            deepest[pair] = depth
    return [(a, b, depth) for (a, b), depth in deepest.items()]


def _reach(plant: object, own: list[int]) -> Array:
    """How far shapes may reach from their middles: generously, to leave out pairs that are far apart."""
    sizes = plant.geoms["size"][own]  # type: ignore[attr-defined]
    return np.asarray(1.01 * np.linalg.norm(sizes, axis=1) + sizes.max(axis=1))


def _how_often(robot: RobotLook) -> Counter[frozenset[str]]:
    """At how many of some postures within the limits pairs of links overlap; empty where nothing can be bent."""
    random, engine = np.random.default_rng(7), robot.look.trial()
    dofs = engine.compiled.robots[robot.name].joints
    joints = [j for j in robot.model.joints.values() if j.kind in SIMPLE_KINDS and not j.mimic]
    counts: Counter[frozenset[str]] = Counter()
    if not joints or robot.model.loops:
        return counts
    for k in range(POSTURES):
        at = {}
        for j in joints:
            low, high = j.limits or ((-0.5, 0.5) if j.kind == "prismatic" else (-np.pi, np.pi))
            at[j.name] = random.uniform(low, high) if k else robot.at_start[j.name]
        for name, value in robot.model.bent(at).items():
            coord = engine.plant.dofs["coord"][dofs[name]]
            if coord >= 0:
                engine.plant.q[coord] = value
        engine.refresh()
        counts.update(frozenset((a, b)) for a, b, _ in overlaps_within(robot, engine))
    return counts


def _after_a_step(robot: RobotLook) -> dict[frozenset[str], float] | None:
    """Depths (m) of the overlaps that are left after the first step; None where it cannot be taken."""
    engine = robot.look.trial()
    try:
        engine.advance(1)
    except VeldrainError:
        return None
    return {frozenset((a, b)): depth for a, b, depth in overlaps_within(robot, engine)}


def things_of(look: Look, engine: Engine) -> dict[str, list[int]]:
    """Numbers of the shapes that can be touched of the ground, each obstacle, body and robot."""
    robots = [*look.world.placed]
    made: dict[str, list[int]] = {}
    for k, name in enumerate(engine.compiled.geom_names):
        thing = next((r for r in robots if name.startswith(f"{r}/")), name)
        made.setdefault(thing, []).append(k)
    return made


def deepest_overlap(look: Look, engine: Engine, one: list[int], other: list[int]) -> tuple[float, str]:
    """Depth (m) of the deepest overlap of two things, pairs that are switched off left out, and its shape's name."""
    plant, best = engine.plant, (-np.inf, "")
    off, count = set(plant.skipped.tolist()), len(plant.geoms)
    side = np.zeros((2, count), np.int64)
    for a in one:
        partners = [b for b in other if min(a, b) * count + max(a, b) not in off]
        if not partners:
            continue
        side[:] = 0
        side[0, a], side[1, partners] = 1, 1
        best = max(best, (-engine.clearance(side[0], side[1]), engine.compiled.geom_names[a]))
    return best


def _lift(look: Look, mover: str, still: str) -> float:
    """How far up (m) a thing must go to be free of another; infinite where that is not within 2 m."""
    engine = look.trial()
    robot, groups = engine.compiled.robots[mover], things_of(look, engine)
    placed = look.world.placed.get(mover)
    if placed is not None and (placed.fixed or placed.path):
        return np.inf
    start = engine.pose(mover)

    def clear(height: float) -> bool:
        engine.move_to(
            robot, Pose(start.position + height * look.up, rotation=start.rotation), np.zeros(3), np.zeros(3)
        )
        return deepest_overlap(look, engine, groups[mover], groups[still])[0] <= SLIGHT

    low, high = 0.0, 2.0
    if not clear(high):
        return np.inf
    while high - low > 1e-4:
        middle = (low + high) / 2
        low, high = (low, middle) if clear(middle) else (middle, high)
    return high
