"""Which shapes of an engine overlap as it stands, and how deep; and other postures of a robot to ask this of."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

import numpy as np

from veldrain.physics.engine import Engine
from veldrain.pose import Array


def bend(engine: Engine, robot: str, positions: Mapping[str, float]) -> None:
    """Set some joints of a robot, by name, rad or m; nothing moves by itself."""
    dofs = engine.compiled.robots[robot].joints
    for name, value in positions.items():
        coord = engine.plant.dofs["coord"][dofs[name]]
        if coord >= 0:
            engine.plant.q[coord] = value
    engine.refresh()


def things_of(engine: Engine, robots: Collection[str]) -> dict[str, list[int]]:
    """Numbers of the shapes that can be touched of the ground, each obstacle, body and robot."""
    made: dict[str, list[int]] = {}
    for k, name in enumerate(engine.compiled.geom_names):
        thing = next((r for r in robots if name.startswith(f"{r}/")), name)
        made.setdefault(thing, []).append(k)
    return made


def near_pairs(engine: Engine, shapes: Sequence[int]) -> Iterator[tuple[int, int]]:
    """Pairs among shapes that may touch, those left out that are far apart."""
    geoms, off = engine.plant.geoms, _skipped(engine)
    at, reach = geoms["pos"][shapes], _reach(geoms["size"][shapes])[:, None]
    low, high = at - reach, at + reach
    near = (low[:, None] <= high[None]).all(axis=2) & (low[None] <= high[:, None]).all(axis=2)
    for i, j in np.argwhere(np.triu(near, 1)):
        a, b = shapes[i], shapes[j]
        if geoms["node"][a] != geoms["node"][b] and a * len(geoms) + b not in off:
            yield a, b


def depth_of(engine: Engine, one: Sequence[int], other: Sequence[int]) -> float:
    """How deep (m) shapes overlap others; below 0 for a gap."""
    return -engine.clearance(np.array(one, np.int64), np.array(other, np.int64))


def deepest_overlap(engine: Engine, one: Sequence[int], other: Sequence[int]) -> tuple[float, str]:
    """Depth (m) of the deepest overlap of two things, pairs that are switched off left out, and its shape's name."""
    best, off, count = (-np.inf, ""), _skipped(engine), len(engine.plant.geoms)
    for a in one:
        partners = [b for b in other if min(a, b) * count + max(a, b) not in off]
        if partners:
            best = max(best, (depth_of(engine, [a], partners), engine.compiled.geom_names[a]))
    return best


def _skipped(engine: Engine) -> set[int]:
    """Pairs of shapes that are let through each other: first · count + second."""
    return set(engine.plant.skipped.tolist())


def _reach(sizes: Array) -> Array:
    """How far shapes may reach from their middles: generously, to leave out pairs that are far apart."""
    return np.asarray(1.01 * np.linalg.norm(sizes, axis=1) + sizes.max(axis=1))
