"""What the parts of an engine need of the whole: they are made by it, and it is above them."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from veldrain.physics import plant as p
from veldrain.physics.compiling import Compiled, Robot
from veldrain.pose import Pose


class Engine(Protocol):
    """An engine, as its parts see it."""

    plant: p.Plant
    compiled: Compiled
    step: float

    def refresh(self) -> None:
        """Bring poses and velocities up to date."""

    def sides_of(self, keys: NDArray[np.int64]) -> NDArray[Any]:
        """Names of both sides of pairs."""

    def node_pose(self, node: int) -> Pose:
        """Pose of a node in the world."""

    def free_node(self, robot: Robot) -> int:
        """The node of a free robot's root."""

    def notice(self, about: str, text: str) -> None:
        """Tell something about the results, once for each subject."""


def tree_of(engine: Engine, name: str) -> Any:
    """The row of the tree of a robot, actor or body."""
    plant = engine.plant
    return plant.trees[plant.nodes["tree"][engine.compiled.robots[name].node]]
