"""Compiles all kernels of the engine, so that nobody waits for one in the middle of something else."""

from __future__ import annotations

import logging
import os
import subprocess
import sys
from functools import cache
from inspect import signature
from typing import Any

import numba
import numpy as np

from veldrain.kernel import elsewhere, is_compiled
from veldrain.model import Box, HeightField, World
from veldrain.physics.collision import find_contacts
from veldrain.physics.compiling import compile_world
from veldrain.physics.engine import Engine
from veldrain.physics.mechanics import Mechanics
from veldrain.physics.stepping import advance, build_rows, finish_step, solved_step, take_steps
from veldrain.pose import Pose

log = logging.getLogger(__name__)
STEP = 1e-3
KERNELS = 19  # that ``prepare`` compiles where none are kept


def prepare() -> None:
    """Compile all kernels, or load them from the cache: a tiny world is stepped, measured and seen once.

    Where there is nothing to load, two processes share the work.
    """
    world = tiny_world()
    if not is_compiled("stepping.advance-") and (os.cpu_count() or 1) > 1:
        other = subprocess.Popen([sys.executable, "-m", __name__], stdin=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            elsewhere.update(dict.fromkeys((build_rows, find_contacts), other))
            compile_for(world, finish_step, solved_step, take_steps, advance)
            other.wait()
        finally:
            elsewhere.clear()
            other.terminate()
    use(world).advance(1)


@cache
def prepared() -> None:
    """See that the kernels are compiled, once a process: where none are yet, ``prepare`` shares the work."""
    if not is_compiled("stepping.advance-"):
        log.warning("kernels are compiled, once on this machine: that takes a minute or two")
        prepare()


def compile_for(world: World, *kernels: Any) -> None:
    """Compile kernels of the step, in this order, for the arrays of a world."""
    plant = compile_world(world, STEP, 0).plant
    counts = numba.typeof(plant.counts)
    types = {"a": numba.typeof(plant), "count": counts.dtype, "h": numba.float64, "steps": numba.int64}
    for kernel in kernels:
        kernel.compile(tuple(types[name] for name in signature(kernel.py_func).parameters))


def tiny_world() -> World:
    """A box over a floor and a dike."""
    world = World().ground().body("box", Box((1.0, 1.0, 1.0)), mass=1.0, pose=Pose((0.0, 0.0, 0.5)))
    return world.obstacle("dike", HeightField(np.zeros((2, 2)), 1.0), pose=Pose((9.0, 0.0, 0.0)))


def use(world: World) -> Engine:
    """Call every entry but the step."""
    engine = Engine(world, STEP)
    Mechanics(engine, engine.compiled.robots["box"]).warm_up()
    engine.clearance(engine.geoms_of("box"), engine.geoms_of("ground"))
    up = np.array([[0.0, 0.0, 1.0]])
    engine.scene.cast(np.zeros((1, 3)), up, 1.0)
    engine.scene.sweep(np.zeros((6, 3)), up, np.zeros(1), 1.0, np.ones(len(engine.scene.sights)))
    return engine


if __name__ == "__main__":  # the second process
    compile_for(tiny_world(), build_rows, find_contacts)
    use(tiny_world())
