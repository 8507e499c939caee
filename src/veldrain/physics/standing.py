"""A tree of boxes over what is fixed in the world, so that each thing that moves looks at few of it."""

from __future__ import annotations

import numpy as np

from veldrain.physics import plant as p
from veldrain.physics.growing import grow_tree
from veldrain.physics.pairing import bound_still

LEAF = 2  # shapes of a branch that has no branches


def with_boxes(plant: p.Plant) -> p.Plant:
    """A plant with the tree over its fixed shapes: first a leaf with all planes, which are everywhere."""
    bound_still(plant.geoms, plant.corners)
    fixed, kinds = plant.geoms["node"] < 0, plant.geoms["kind"]
    flat, still = np.flatnonzero(fixed & (kinds == p.PLANE)), np.flatnonzero(fixed & (kinds != p.PLANE))
    rows = np.zeros(1 + 2 * len(still), p.BRANCH)
    rows[0] = (0, len(flat), 1, (-np.inf,) * 3 + (np.inf,) * 3)
    used = 1
    if len(still):
        low, high = plant.geoms["box"][still, :3], plant.geoms["box"][still, 3:]
        order, tree = np.arange(len(still)), rows[1:]
        used += grow_tree((low + high) / 2, low, high, LEAF, order, tree, np.zeros((64, 3), np.int64))
        tree["skip"] += 1
        leaf = tree["end"] > tree["first"]
        tree["first"][leaf] += len(flat)
        tree["end"][leaf] += len(flat)
        still = still[order]
    return plant._replace(still=np.concatenate([flat, still]), boxes=rows[:used].copy())
