"""The frames of a world in motion as a tree."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from veldrain.model import GROUND, World
from veldrain.physics.builder import LinkPlace
from veldrain.physics.engine import Engine
from veldrain.pose import Array, quaternions_of


class FrameTree:
    """Links, frames, sensors and things as a tree of frames: their names, what each is on, and their poses."""

    def __init__(self, world: World, engine: Engine) -> None:
        places = {name: place for name, place in engine.compiled.links.items() if name != GROUND}
        parents = dict.fromkeys(places, "")
        for robot, placed in world.placed.items():
            parents |= {f"{robot}/{j.child}": f"{robot}/{j.parent}" for j in placed.model.joints.values()}
            parents |= {f"{robot}/{f.name}": f"{robot}/{f.link}" for f in placed.model.frames.values()}
            for mounted in placed.model.sensors.values():
                name, on = f"{robot}/{mounted.name}", f"{robot}/{mounted.link}"
                added = [(name, on, mounted.pose)]
                if mounted.sensor.optical is not None:
                    added.append((f"{name}/optical", name, mounted.pose @ mounted.sensor.optical))
                for frame, parent, pose in added:
                    if frame not in places:  # a link of that name has the better claim
                        places[frame] = LinkPlace(places[on].node, places[on].pose @ pose)
                        parents[frame] = parent
        self._engine = engine
        self.names, self.parents = tuple(places), tuple(parents[name] for name in places)
        self._nodes = np.array([place.node for place in places.values()], np.int64)
        self._at = np.array([place.pose.position for place in places.values()]).reshape(-1, 3)
        self._axes = np.array([place.pose.matrix for place in places.values()]).reshape(-1, 3, 3)
        self.moves = self._nodes >= 0
        self._moving = np.flatnonzero(self.moves)
        self._held = self._nodes[self._moving]
        self.above = np.array([self.names.index(parent) if parent else -1 for parent in self.parents], np.int64)
        held = np.where(self.above >= 0, self._nodes[self.above], -1) if len(self.above) else self._nodes
        self.moves_in_parent = self._nodes != held

    def in_parents(self, which: NDArray[np.int64]) -> tuple[Array, Array]:
        """Positions (k, 3) and axes (k, 3, 3) of some frames in their parents now."""
        at, axes = self.poses()
        # The world is the last row: −1 stands for it.
        at, axes = np.concatenate([at, np.zeros((1, 3))]), np.concatenate([axes, np.eye(3)[None]])
        above = self.above[which]
        back = axes[above].transpose(0, 2, 1)
        return (back @ (at[which] - at[above])[:, :, None])[:, :, 0], back @ axes[which]

    def positions_and_quaternions(self) -> tuple[Array, Array]:
        """Positions (n, 3) and quaternions x, y, z, w (n, 4) in the world now."""
        at, axes = self.poses()
        return at, quaternions_of(axes)

    def poses(self) -> tuple[Array, Array]:
        """Positions (n, 3) and axes (n, 3, 3) in the world now."""
        found, turned = self._at.copy(), self._axes.copy()
        nodes, moving = self._engine.plant.nodes, self._moving
        rot = nodes["rot"][self._held]
        found[moving] = nodes["pos"][self._held] + (rot @ self._at[moving][:, :, None])[:, :, 0]
        turned[moving] = rot @ self._axes[moving]
        return found, turned
