"""Quantities of a world that can be changed while it is in motion: those that are numbers of the plant and no state."""

from __future__ import annotations

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import World
from veldrain.physics.compiling import compile_world
from veldrain.physics.engine import Engine

# By array of the plant: what of it may change. Where things are, and what shapes they have, may not.
TUNED: dict[str, tuple[str, ...]] = {
    "dofs": (
        "damping", "friction", "low", "high", "spring", "rest", "inertia", "stiffness", "gain", "limit", "top_speed",
        "stall", "free_speed", "play", "follows",
    ),
    "geoms": ("surface", "belt"),
    "patches": ("surface",),
    "nodes": ("mass", "inertia"),
}  # fmt: skip


def tune(engine: Engine, world: World, try_only: bool = False) -> bool:
    """Take over what is other in a changed copy of an engine's world; True if there is anything.

    Args:
        engine: in motion.
        world: the same world with other quantities.
        try_only: only look.

    Raises:
        VeldrainError: the mass of a thing would lie elsewhere in it.
    """
    now = engine.plant
    then = compile_world(world, engine.step, len(now.watch_step)).plant
    found = not np.array_equal(now.gravity, then.gravity)
    if not np.allclose(now.nodes["centre"], then.nodes["centre"], atol=1e-12):
        raise VeldrainError("its centre of mass would move", where="change", cure="change the mass of what is even")
    for name, fields in TUNED.items():
        mine, theirs = getattr(now, name), getattr(then, name)
        for field in fields:
            if not np.array_equal(mine[field], theirs[field]):
                found = True
                if not try_only:
                    held = now.dofs["locked"] == 1 if field in ("low", "high") else np.zeros(len(mine), bool)
                    mine[field] = np.where(held.reshape(-1, *[1] * (mine[field].ndim - 1)), mine[field], theirs[field])
    if not try_only:
        now.gravity[:] = then.gravity
        engine.refresh()
    return found
