"""A robot set down on what is below it: where it stands, and what does not reach."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.physics.engine import Engine
from veldrain.physics.overlaps import deepest_overlap, things_of
from veldrain.pose import Array, Pose

FAR = 200.0  # m that it is lowered at most
LEVEL = 0.9998  # cosine of what it stands on with up: 1°


@dataclass
class Stand:
    """A robot set down on what is below it: how far it fell, the points it stands on with the links there,
    the gaps (m) under its wheels and the ends of its limbs, and whether what it stands on is level."""

    drop: float
    points: Array
    links: list[str]
    gaps: dict[str, float]
    is_level: bool


def set_down(engine: Engine, placed: Mapping[str, Any], name: str, ends: set[str], up: Array) -> Stand | None:
    """The robot lowered or lifted until it just touches, and its contacts there; None: nothing to stand on.

    Args:
        engine: one of its own, at the start; it is moved.
        placed: all robots of its world.
        name: of the robot.
        ends: its wheels, and the ends of its limbs.
        up: direction against gravity (3,).
    """
    groups = things_of(engine, placed)
    others = [k for thing, geoms in groups.items() if thing != name for k in geoms]
    if name not in groups or not others:
        return None
    start, tree, drop = engine.pose(name), engine.compiled.robots[name], 0.0
    for _ in range(8):  # what is nearest may lie beside it rather than below
        gap = -deepest_overlap(engine, groups[name], others)[0]
        if not np.isfinite(gap) or abs(drop + gap) > FAR:
            return None
        if abs(gap) < 1e-4:
            break
        drop += gap
        engine.move_to(tree, Pose(start.position - drop * up, rotation=start.rotation), np.zeros(3), np.zeros(3))
    try:
        engine.advance(1)
    except VeldrainError:
        return None
    forces, points, links, is_level = engine.forces(), [], [], True
    own = f"{name}/"
    for (a, b), point, normal in zip(forces.sides, forces.point, forces.normal, strict=True):
        for side, other, way in ((a, b, 1.0), (b, a, -1.0)):
            if str(side).startswith(own) and not str(other).startswith(own) and way * (normal @ up) > 0.5:
                points.append(point)
                links.append(str(side).removeprefix(own))
                is_level = is_level and bool(abs(normal @ up) > LEVEL)
    gaps = {}
    for link in sorted(ends):
        shapes = [k for k, geom in enumerate(engine.compiled.geom_names) if geom == own + link]
        if shapes:
            gaps[link] = -deepest_overlap(engine, shapes, others)[0]
    return Stand(drop, np.array(points).reshape(-1, 3), links, gaps, is_level)
