"""What is held from outside: joints locked or without a motor, and things taken away."""

from __future__ import annotations

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.physics import plant as p
from veldrain.physics.host import Engine, tree_of

AWAY = -1000.0  # m: where things wait that were taken away
APART = 100.0  # m between two of them


class Holds:
    """Joints and things of an engine, by name."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._first = engine.plant.dofs[["low", "high", "mode"]].copy()
        self._rooms: dict[str, int] = {}  # where the row of a thing that may be taken away begins
        robots = engine.compiled.robots
        self._dofs = {f"{name}/{joint}": dof for name, robot in robots.items() for joint, dof in robot.joints.items()}

    def check(self, path: str, motor: bool = False) -> None:
        """See that there is such a joint, which can be held.

        Raises:
            VeldrainError: there is none, it is a ball joint's, or led, or has no motor.
        """
        if path not in self._dofs:
            raise unknown("joint", path, self._dofs, "scenario")
        dof = self._engine.plant.dofs[self._dofs[path]]
        if self._engine.plant.trees["whole"][self._engine.plant.nodes["tree"][dof["node"]]]:
            raise VeldrainError("is led, and moves as it is told", where=path, cure="name a joint of what moves freely")
        if dof["coord"] < 0:
            raise VeldrainError("is of a ball joint", where=path, cure="name a joint of one axis")
        if motor and dof["mode"] == p.NO_MOTOR:
            raise VeldrainError("has no motor", where=path, cure="it is free already")

    def lock(self, path: str) -> None:
        """Hold a joint where it is."""
        dof = self._engine.plant.dofs[self._dofs[path]]
        dof["low"] = dof["high"] = self._engine.plant.q[dof["coord"]]
        dof["locked"] = 1

    def unlock(self, path: str) -> None:
        """Give a joint its limits back."""
        number = self._dofs[path]
        dof = self._engine.plant.dofs[number]
        dof["low"], dof["high"], dof["locked"] = self._first["low"][number], self._first["high"][number], 0

    def free(self, path: str) -> None:
        """Let a motor do nothing."""
        dof = self._engine.plant.dofs[self._dofs[path]]
        dof["mode"], dof["effort"], dof["slope"], dof["offset"] = p.NO_MOTOR, 0.0, 0.0, 0.0

    def mode_of(self, number: int) -> int:
        """The mode of a motor, also while it is dead."""
        return int(self._first["mode"][number])

    def wake(self, path: str) -> None:
        """Let a motor do as it is commanded again."""
        number = self._dofs[path]
        self._engine.plant.dofs["mode"][number] = self._first["mode"][number]

    def check_free(self, name: str) -> None:
        """See that a thing can be taken away, and make room for where it waits."""
        robots = self._engine.compiled.robots
        if name not in robots:
            raise unknown("robot or body", name, robots, "remove")
        self._engine.free_node(robots[name])
        if name not in self._rooms:
            plant = self._engine.plant
            self._rooms[name] = len(plant.script)
            row = np.array([APART * len(self._rooms), 0.0, AWAY, 0.0, 0.0, 0.0, 1.0])
            self._engine.plant = plant._replace(script=np.concatenate([plant.script, row]))

    def remove(self, name: str) -> None:
        """Put a thing far below, and keep it there."""
        self._engine.let_go(name)
        tree = tree_of(self._engine, name)
        tree["script"], tree["rows"], tree["width"], tree["base"], tree["lone"] = self._rooms[name], 1, 7, 0, 0
        row = self._engine.plant.script[self._rooms[name] :][:7]
        plant, node = self._engine.plant, self._engine.plant.nodes[tree["first"]]
        plant.q[node["coord"] : node["coord"] + 7] = row
        plant.speeds[:, tree["dof"] : tree["dof"] + tree["dofs"]] = 0.0
        self._engine.refresh()

    def is_away(self, name: str) -> bool:
        """True for a thing that was taken away and not put back."""
        return name in self._rooms and bool(tree_of(self._engine, name)["script"] == self._rooms[name])

    def bring_back(self, name: str) -> None:
        """Let a thing that was taken away move freely again."""
        if self.is_away(name):
            tree = tree_of(self._engine, name)
            tree["script"], tree["lone"] = -1, tree["end"] - tree["first"] == 1
