"""Many plants of one kind as one: each array has a row for each of them, so that they are stepped without Python."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.kernel import entry, kernel
from veldrain.physics.plant import Ints, Plant
from veldrain.physics.stepping import refresh_all, take_steps
from veldrain.physics.threads import in_parts

MOST = 16e9  # bytes of all rows
PART = 8  # rows for a thread at least
# What grows where there are more contacts than room, see ``plant.with_room``.
ROOMS = ("pairs", "contacts", "kept", "rows", "J", "B")


@kernel
def row_of(s, k):
    """One of the plants, in the arrays of all."""
    return Plant(
        s.counts[k],
        s.gravity[k],
        s.trees[k],
        s.nodes[k],
        s.dofs[k],
        s.q[k],
        s.speeds[k],
        s.geoms[k],
        s.probe[k],
        s.corners[k],
        s.faces[k],
        s.triangles[k],
        s.heights[k],
        s.branches[k],
        s.loops[k],
        s.script[k],
        s.led[k],
        s.pieces[k],
        s.lifts[k],
        s.moves[k],
        s.minds[k],
        s.lights[k],
        s.lines[k],
        s.patches[k],
        s.skipped[k],
        s.watched[k],
        s.pushes[k],
        s.air[k],
        s.gusts[k],
        s.blown[k],
        s.watch_sides[k],
        s.watch_step[k],
        s.order[k],
        s.still[k],
        s.boxes[k],
        s.pairs[k],
        s.poly[k],
        s.chosen[k],
        s.contacts[k],
        s.kept[k],
        s.limits[k],
        s.rows[k],
        s.J[k],
        s.B[k],
        s.closed[k],
        s.stages[k],
        s.room[k],
        s.inertials[k],
        s.loads[k],
        s.load_geoms[k],
        s.load_links[k],
        s.hanging[k],
        s.tallies[k],
        s.tally_geoms[k],
        s.felt[k],
        s.drives[k],
    )


@entry
def advance_rows(s, h, goals, first, end, status):
    """Bring some of the plants each to its own step; the status of each as ``stepping.advance`` has it."""
    for k in range(first, end):
        steps = goals[k] - s.counts[k, 0].step
        if steps > 0:
            status[k], _ = take_steps(row_of(s, k), h, steps)


@entry
def refresh_rows(s, rows):
    """All that follows from the states of some of the plants, see ``stepping.refresh``."""
    for k in rows:
        refresh_all(row_of(s, k))


class Stack:
    """Plants of one kind.

    Args:
        first: the first of them; all begin as it.
        count: how many.
        step: s.

    Raises:
        VeldrainError: they do not fit into the memory.
    """

    plants: Plant

    def __init__(self, first: Plant, count: int, step: float) -> None:
        size = count * sum(array.nbytes for array in first)
        if size > MOST:
            raise VeldrainError(
                f"{count} copies take {size / 1e9:.3g} GB", where="copies", cure="make fewer, or simpler shapes"
            )
        self.plants = Plant._make(np.repeat(array[None], count, axis=0) for array in first)
        self.step, self.status = step, np.zeros(count, np.int64)

    def put(self, k: int, plant: Plant) -> None:
        """Let a row be as a plant.

        Raises:
            VeldrainError: it is of another kind.
        """
        while len(plant.contacts) > self.plants.contacts.shape[1]:
            self.grow()
        for name, rows, array in zip(Plant._fields, self.plants, plant, strict=True):
            if (
                len(array) > len(rows[k])
                or array.shape[1:] != rows[k].shape[1:]
                or (len(array) < len(rows[k]) and name not in ROOMS)
            ):
                raise VeldrainError(
                    f"is of another structure than the first ({name}: {array.shape} and {rows[k].shape})",
                    where=f"copy {k}",
                    cure="vary what adds and takes away nothing, such as masses, friction and gains",
                )
            rows[k][: len(array)] = array

    def advance(self, goals: Ints) -> None:
        """Bring each to its own step; ``status`` then tells which could not."""
        a = self.plants
        in_parts(len(goals), PART, lambda first, end, _: advance_rows(a, self.step, goals, first, end, self.status))

    def refresh(self, rows: Sequence[int] | NDArray[np.int64]) -> None:
        """Bring what follows from the states of some up to date."""
        refresh_rows(self.plants, np.asarray(rows, np.int64))

    def grow(self) -> None:
        """Twice the room for contacts and pairs in all of them."""
        a = self.plants
        wider = {name: np.concatenate([getattr(a, name)] * 2, axis=1) for name in ROOMS}
        wider["kept"][:, a.kept.shape[1] :] = 0
        self.plants = a._replace(**wider)
