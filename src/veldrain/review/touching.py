"""Rules about shapes that overlap at the start."""

from __future__ import annotations

from collections import Counter
from collections.abc import Container
from itertools import combinations, product
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import GROUND
from veldrain.model.pieces import SIMPLE_KINDS
from veldrain.physics.engine import Engine
from veldrain.physics.overlaps import bend, deepest_overlap, depth_of, near_pairs, things_of
from veldrain.pose import Pose
from veldrain.review.look import Look, RobotLook, mm
from veldrain.review.rules import Found, found, rule
from veldrain.review.shapes import is_filled

SLIGHT = 1e-5  # m of overlap that nobody sees
DEEP = 1e-3  # m of overlap that throws things apart
SUNK = 0.05  # m: what is led stands on four points of its ground, which may bend between them, and nothing throws it
POSTURES = 24
WHILE = 0.1  # s
PLACES = 9  # of a joint, between its limits
LEAST_MEETING = 1e-3  # m
MOST_TOLD = 3


@rule("meets-on-its-way", "warning", "overlap")
def meets_on_its_way(robot: RobotLook) -> Found:
    """Links do not meet while one joint goes from limit to limit.

    A steered wheel that rubs on the hull stops there, whatever is commanded. For joints of arms, which can fold into
    themselves, it is worth knowing; for those that steer a wheel it is a mistake of the limits.
    """
    look = robot.look
    if look.engine is None or robot.model.loops or not any(j.limits for j in robot.model.joints.values()):
        return
    start = {frozenset((a, b)) for a, b, _ in overlaps_within(robot, look.engine)}
    engine = look.trial()
    folds: list[str] = []  # of arms
    for joint in robot.model.joints.values():
        if joint.kind not in SIMPLE_KINDS or joint.mimic or not joint.limits:
            continue
        below = set(robot.below(joint.child))
        if not any(robot.touched(link) for link in below):
            continue
        steers = any(link in robot.wheels and robot.wheels[link].parent == joint.child for link in below)
        told: set[frozenset[str]] = set()
        here = robot.at_start[joint.name]
        for value in sorted(np.linspace(*joint.limits, PLACES), key=lambda v: abs(v - here)):
            bend(engine, robot.name, robot.model.bent(robot.at_start | {joint.name: float(value)}))
            for a, b, depth in overlaps_within(robot, engine, below):
                pair = frozenset((a, b))
                if depth <= LEAST_MEETING or pair in told | start:
                    continue
                told.add(pair)
                if not steers:
                    folds.append(f"{a} and {b} from {joint.name} {joint.told(float(value))} on")
                else:
                    yield found(
                        "meets-on-its-way",
                        robot,
                        joint.name,
                        f"{a} meets {b} at {joint.told(float(value))}, within "
                        f"its limits of {' to '.join(joint.told(v) for v in joint.limits)}: {mm(depth)} deep",
                        f"narrow its limits, or make a shape smaller; or no_contact: [[{a}, {b}]]",
                        kind="joint",
                        numbers={"depth m": depth, "at": float(value)},
                    )
    if folds:
        more = f", and {len(folds) - MOST_TOLD} more" if len(folds) > MOST_TOLD else ""
        yield found(
            "meets-on-its-way",
            robot,
            "",
            f"it can fold into itself within its limits: {'; '.join(folds[:MOST_TOLD])}{more}",
            "plan around it, or narrow the limits",
            severity="note",
            numbers={"pairs": float(len(folds))},
        )


@rule("overlapping-links", "error", "overlap")
def overlapping_links(robot: RobotLook) -> Found:
    """No two links of a robot overlap at the start.

    The engine moves them apart, slowly and without speed, as far as their joints let it; until then they rub, and the
    posture is not the one that was meant. Pairs that always overlap are meant to; switch them off.
    """
    look = robot.look
    if look.engine is None or robot.placed.course is not None:  # its joints are led: nothing moves them apart
        return
    overlapping = overlaps_within(robot, look.engine)
    how_often = _how_often(robot) if overlapping else {}
    left = _after_a_while(robot) if overlapping else None
    for a, b, depth in overlapping:
        joint = next((j.name for j in robot.model.joints.values() if {j.parent, j.child} == {a, b}), None)
        always, tried = how_often.get(frozenset((a, b)), 0), POSTURES if how_often else 1
        rest = left.get(frozenset((a, b)), 0.0) if left is not None else 0.0
        jump = max(0.0, depth - rest)
        stays = "; they are not parted: the joint between brakes, or stands" if rest > depth / 2 else ""
        parted = f"; they are moved {mm(jump)} apart in the first {WHILE:g} s" if jump > SLIGHT else ""
        hollow = [name for name in (a, b) if is_filled(robot, name)]
        beside = f", which joint '{joint}' joins," if joint else ""
        fix: dict[str, Any] = {}
        if hollow:
            cure = f"the hull of {' and '.join(hollow)} fills a hollow: write collide: parts there first"
        elif always == tried or not how_often:
            how = f" at every posture tried ({tried})" if tried > 1 else ""
            cure = f"they overlap{how}: switch the pair off with no_contact: [[{a}, {b}]]"
            fix = {"models": {robot.model.name: {"no_contact": [[a, b]]}}}
        else:
            cure = f"they overlap at {always} of {tried} postures: start in another, or make a shape smaller"
        yield found(
            "overlapping-links",
            robot,
            a,
            f"overlaps {b}{beside} by {mm(depth)}{parted or stays}",
            cure,
            severity=None if depth > DEEP else "warning",
            numbers={"depth m": depth, "jump m": jump},
            fix=fix,
        )


@rule("overlapping-world", "error", "overlap", world=True)
def overlapping_world(look: Look) -> Found:
    """No robot or body overlaps the world or another robot at the start.

    A wheel two millimetres in the ground throws its vehicle into the air.
    """
    if look.engine is None:
        return
    groups = things_of(look.engine, look.world.placed)
    movers = [name for name in groups if name in look.world.placed or name in look.world.bodies]
    fixed = [name for name in groups if name not in set(movers)]
    for mover, still in (*combinations(movers, 2), *product(movers, fixed)):
        depth, link = deepest_overlap(look.engine, groups[mover], groups[still])
        placed = look.world.placed.get(mover)
        if depth <= SLIGHT or (placed and placed.is_led and still in fixed and depth < SUNK):
            continue
        lift = depth if still == GROUND else _lift(look, mover, still)
        fix = {}
        if placed and still == GROUND and not placed.fixed and not placed.is_led:
            fix = {
                "place": {
                    mover: {
                        "pose": {"xyz": [round(float(x), 6) for x in placed.pose.position + look.up * (lift + 1e-5)]}
                    }
                }
            }
        above = mover
        if still in movers and (other := _lift(look, still, mover)) < lift:
            above, lift = still, other  # it is the upper one that is lifted
        cure = f"lift {above} by {mm(lift)}" if lift < 2 else f"move {above} out of it"
        yield found(
            "overlapping-world",
            look,
            link,
            f"is {mm(depth)} deep in {still} at the start",
            cure,
            severity=None if depth > DEEP else "warning",
            numbers={"depth m": depth, "lift m": lift},
            fix=fix,
        )


def overlaps_within(
    robot: RobotLook, engine: Engine, moved: Container[str] | None = None
) -> list[tuple[str, str, float]]:
    """Pairs of links of a robot that may touch and overlap, with the depth (m); of which one is among ``moved``."""
    names = {robot.path(link): link for link in robot.links}
    shapes = engine.compiled.geom_names
    deepest: dict[tuple[str, str], float] = {}
    for a, b in near_pairs(engine, [k for k, name in enumerate(shapes) if name in names]):
        pair = names[shapes[a]], names[shapes[b]]
        if moved is None or (pair[0] in moved) != (pair[1] in moved):
            deepest[pair] = max(depth_of(engine, [a], [b]), deepest.get(pair, SLIGHT))
    return [(a, b, depth) for (a, b), depth in deepest.items() if depth > SLIGHT]


def _how_often(robot: RobotLook) -> Counter[frozenset[str]]:
    """At how many of some postures within the limits pairs of links overlap; empty where nothing can be bent."""
    random, engine = np.random.default_rng(7), robot.look.trial()
    joints = [j for j in robot.model.joints.values() if j.kind in SIMPLE_KINDS and not j.mimic]
    counts: Counter[frozenset[str]] = Counter()
    if not joints or robot.model.loops:
        return counts
    for k in range(POSTURES):
        at = {}
        for j in joints:
            low, high = j.limits or ((-0.5, 0.5) if j.kind == "prismatic" else (-np.pi, np.pi))
            at[j.name] = random.uniform(low, high) if k else robot.at_start[j.name]
        bend(engine, robot.name, robot.model.bent(at))
        counts.update(frozenset((a, b)) for a, b, _ in overlaps_within(robot, engine))
    return counts


def _after_a_while(robot: RobotLook) -> dict[frozenset[str], float] | None:
    """Depths (m) of the overlaps that are left after WHILE; None where it cannot be simulated."""
    engine = robot.look.trial()
    try:
        engine.advance(max(1, round(WHILE / robot.look.step)))
    except VeldrainError:
        return None
    return {frozenset((a, b)): depth for a, b, depth in overlaps_within(robot, engine)}


def _lift(look: Look, mover: str, still: str) -> float:
    """How far up (m) a thing must go to be free of another; infinite where that is not within 2 m."""
    engine = look.trial()
    robot, groups = engine.compiled.robots[mover], things_of(engine, look.world.placed)
    placed = look.world.placed.get(mover)
    if placed is not None and (placed.fixed or placed.is_led):
        return np.inf
    start = engine.pose(mover)

    def clear(height: float) -> bool:
        engine.move_to(
            robot, Pose(start.position + height * look.up, rotation=start.rotation), np.zeros(3), np.zeros(3)
        )
        return deepest_overlap(engine, groups[mover], groups[still])[0] <= SLIGHT

    low, high = 0.0, 2.0
    if not clear(high):
        return np.inf
    while high - low > 1e-4:
        middle = (low + high) / 2
        low, high = (low, middle) if clear(middle) else (middle, high)
    return high
