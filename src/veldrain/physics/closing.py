"""Closing the loops of a plant at its start."""

from __future__ import annotations

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.physics import plant as p
from veldrain.physics.compiling import Compiled
from veldrain.physics.loops import all_openings
from veldrain.physics.stepping import refresh
from veldrain.pose import Array


def close_loops(plant: p.Plant, found: Compiled) -> None:
    """Turn the joints whose start is not given so that all loops are closed."""
    from scipy.optimize import least_squares

    dofs = [d for r in found.robots.values() for name, d in r.joints.items() if name not in r.given]
    coords = plant.dofs["coord"][dofs]
    coords = coords[coords >= 0]

    def gaps(x: Array) -> Array:
        plant.q[coords] = x
        refresh(plant)
        out = np.zeros(plant.closed.shape[1])
        all_openings(plant.nodes, plant.loops, plant.q, out)
        return out

    start = plant.q[coords].copy()
    left = gaps(start)
    if len(left) == 0 or np.abs(left).max() < 1e-9:
        return
    if len(coords):
        best = least_squares(gaps, start, xtol=1e-15, ftol=1e-15, gtol=1e-15)
        left = gaps(best.x)
    if np.abs(left).max() > 1e-9:
        kinds = plant.loops["kind"]
        rows = np.where((kinds == p.MIMIC) | (kinds <= p.CLOSED_BALL), plant.loops["rows"], 0)
        closed, worst = np.repeat(np.arange(len(kinds)), rows), int(np.abs(left).argmax())
        raise VeldrainError(
            f"the loop is open by {np.abs(left).max():.3g} m or rad at the start, and no free joint closes it",
            where=found.loop_names[closed[worst]],
            cure="look at its frames and lengths, or leave joints out of joints=",
        )
