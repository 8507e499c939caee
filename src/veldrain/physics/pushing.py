"""Forces and torques from outside that push links for a time."""

from __future__ import annotations

from collections.abc import Sequence
from struct import Struct

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.physics import plant as p
from veldrain.physics.builder import LinkPlace
from veldrain.physics.host import Engine

PACKED = Struct("=3q9d")  # a row as ``plant.PUSH`` has it


class Pushes:
    """What pushes in an engine."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._rows: p.Records | None = None  # those of the plant that the views are of
        self._until: p.Ints
        self._bytes: memoryview

    def link(self, path: str) -> tuple[LinkPlace, int]:
        """Where a link is that can be pushed, and its number; a robot's name stands for its root link.

        Raises:
            VeldrainError: no such link, a frame, or one that no push can move.
        """
        plant, compiled = self._engine.plant, self._engine.compiled
        place = self._engine.place_of(path)
        root = compiled.robots[path].root if path in compiled.robots else path
        if place.node < 0 or root not in compiled.link_names:
            raise VeldrainError("cannot be pushed: it is fixed in the world", where=path, cure="push a link that moves")
        node = plant.nodes[place.node]
        if node["kind"] == p.FREE and plant.trees["script"][node["tree"]] >= 0:
            raise VeldrainError("cannot be pushed: it is led along a path", where=path, cure="push what moves freely")
        return place, compiled.link_names.index(root)

    def push(
        self,
        place: LinkPlace,
        link: int,
        force: Sequence[float],
        torque: Sequence[float],
        point: Sequence[float],
        steps: int,
    ) -> None:
        """Push a link with a force at a point of its frame and a torque, world axes, for so many steps.

        It is called at every step: a row is packed as a whole, since a field by its name takes ten times as long.
        """
        engine, now = self._engine, self._engine.steps
        until = self._ends()
        row = next((k for k in range(len(until)) if until.item(k) <= now), len(until))
        if row == len(until):
            pushes = engine.plant.pushes
            engine.plant = engine.plant._replace(pushes=np.concatenate([pushes, np.zeros(row, p.PUSH)]))
            self._ends()
        x, y, z = place.offset
        if any(point):
            a, b, c = (place.arrays[1] @ np.asarray(point)).tolist()
            x, y, z = x + a, y + b, z + c
        PACKED.pack_into(self._bytes, row * PACKED.size, place.node, link, now + steps, *force, *torque, x, y, z)

    def _ends(self) -> p.Ints:
        """The step up to which each pushes; the views are made anew where the plant has other rows."""
        rows = self._engine.plant.pushes
        if rows is not self._rows:
            self._rows, self._until, self._bytes = rows, rows["until"], rows.view(np.uint8).data
        return self._until
