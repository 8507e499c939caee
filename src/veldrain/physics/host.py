"""What the parts of an engine need of the whole: they are made by it, and it is above them."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from veldrain.physics import plant as p
from veldrain.physics.builder import LinkPlace, Robot
from veldrain.physics.compiling import Compiled
from veldrain.pose import Pose


class Engine(Protocol):
    """An engine, as its parts see it."""

    plant: p.Plant
    compiled: Compiled
    step: float

    @property
    def steps(self) -> int:
        """Steps since the start."""

    def place_of(self, path: str) -> LinkPlace:
        """Where a link or frame is."""

    def pose_at(self, place: LinkPlace) -> Pose:
        """Pose of a place in the world."""

    def refresh(self) -> None:
        """Bring poses and velocities up to date."""

    def sides_of(self, keys: NDArray[np.int64]) -> NDArray[Any]:
        """Names of both sides of pairs."""

    def geoms_of(self, path: str) -> p.Ints:
        """Numbers of the shapes of a thing."""

    def clearance(self, geoms_a: p.Ints, geoms_b: p.Ints) -> float:
        """Least gap (m) between two sides."""

    def node_pose(self, node: int) -> Pose:
        """Pose of a node in the world."""

    def free_node(self, robot: Robot) -> int:
        """The node of a free robot's root."""

    def is_away(self, path: str) -> bool:
        """True for what was taken away."""

    def let_go(self, name: str) -> None:
        """Release a thing that is put elsewhere, and say so."""

    def notice(self, about: str, text: str) -> None:
        """Tell something about the results, once for each subject."""


def tree_of(engine: Engine, name: str) -> Any:
    """The row of the tree of a robot, actor or body."""
    plant = engine.plant
    return plant.trees[plant.nodes["tree"][engine.compiled.robots[name].node]]


def never_touch(engine: Engine, one: str, other: str) -> str:
    """Why no touch of two things can ever be seen; "" where one can."""
    a, side_a, side_b = engine.plant, engine.geoms_of(one), engine.geoms_of(other)
    nodes, kinds = a.geoms["node"], a.geoms["kind"]
    pairs = [(i, j) for i in side_a for j in side_b if i != j]
    apart = [(i, j) for i, j in pairs if nodes[i] != nodes[j]]
    if not apart:
        return "neither can move against the other"
    off = set(a.skipped.tolist())
    allowed = [(i, j) for i, j in apart if min(i, j) * len(nodes) + max(i, j) not in off]
    if not allowed:
        return "their contact is switched off"
    flat = (p.PLANE, p.MESH)
    return "" if any(kinds[i] not in flat or kinds[j] not in flat for i, j in allowed) else "both are fixed"
