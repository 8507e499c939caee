"""Compiles all kernels of the engine, so that nobody waits for one in the middle of something else."""

from __future__ import annotations

import numpy as np

from veldrain.model import Box, HeightField, World
from veldrain.physics.engine import Engine
from veldrain.physics.mechanics import Mechanics
from veldrain.pose import Pose


def prepare() -> None:
    """Compile all kernels, or load them from the cache: a tiny world is stepped, measured and seen once."""
    world = World().ground().body("box", Box((1.0, 1.0, 1.0)), mass=1.0, pose=Pose((0.0, 0.0, 0.5)))
    world.obstacle("dike", HeightField(np.zeros((2, 2)), 1.0), pose=Pose((9.0, 0.0, 0.0)))
    engine = Engine(world, 1e-3)
    engine.advance(1)
    Mechanics(engine, engine.compiled.robots["box"]).warm_up()
    engine.clearance(engine.geoms_of("box"), engine.geoms_of("ground"))
    up = np.array([[0.0, 0.0, 1.0]])
    engine.scene.cast(np.zeros((1, 3)), up, 1.0)
    engine.scene.sweep(np.zeros((6, 3)), up, np.zeros(1), 1.0, np.ones(len(engine.scene.sights)))
