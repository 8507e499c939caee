"""Links that are attached to each other and released while a world moves: a hand and what it holds, two that dock."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.physics import plant as p
from veldrain.physics.host import Engine
from veldrain.pose import Array, Pose

FARTHEST = math.radians(80)  # that what is attached may be turned from the pose that is given: it is drawn there
WIDE = 0.05  # m between two that are attached as they are, from which on it is told


@dataclass(frozen=True)
class Coupling:
    """Two links that move as one, and what it takes: the force (3,) in N on the first in the last step, and the torque
    (3,) in N·m about the point (3,) in m, world axes."""

    thing: str
    to: str
    force: Array
    torque: Array
    point: Array


class Couplings:
    """What is attached to what in an engine. A pair has a row among the plant's loops from when it is first named."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._first = len(engine.plant.loops)
        self._skipped = engine.plant.skipped
        self.pairs: list[tuple[str, str]] = []
        self._told = 0  # the step up to which it is known what broke
        self.record: Callable[[str], None] | None = None  # who records what happens other than by actions

    def prepare(self, thing: str, to: str) -> int:
        """Make room for a coupling of two links, frames, bodies or things; gives the number of its row.

        Raises:
            VeldrainError: no such name, one and the same part, or a thing that nothing can move.
        """
        if (thing, to) in self.pairs:
            return self._first + self.pairs.index((thing, to))
        (node, link), (other, other_link) = self._end(thing), self._end(to)
        if node == other:
            raise VeldrainError(f"is fixed to {to} already", where=f"attach {thing}", cure="name what is apart")
        if node < 0:
            raise VeldrainError(
                "is fixed in the world", where=f"attach {thing}", cure=f"name what moves first: attach {to} to {thing}"
            )
        if self._is_led(node) and self._is_led(other):
            raise VeldrainError(f"is led, and so is {to}", where=f"attach {thing}", cure="name one that moves freely")
        row = np.zeros(1, p.LOOP)
        row["kind"], row["node_a"], row["link_a"], row["node_b"], row["link_b"] = p.APART, node, link, other, other_link
        self._make_room([*self.pairs, (thing, to)], np.concatenate([self._engine.plant.loops, row]))
        return self._first + len(self.pairs) - 1

    def _make_room(self, pairs: Sequence[tuple[str, str]], loops: p.Records) -> None:
        """Take other rows, and have room for the six limits of each."""
        a, self.pairs = self._engine.plant, list(pairs)
        more = max(3 * len(a.dofs) + self._first + 6 * len(pairs) - len(a.limits), 0)
        a = a._replace(loops=loops, limits=np.concatenate([a.limits, np.zeros(more, p.LIMIT)]))
        self._engine.plant = p.with_room(a, len(a.contacts), len(a.pairs), len(a.J))

    def _end(self, path: str) -> tuple[int, int]:
        """The node of a link or frame, and the number of the link that loads of it are counted on."""
        compiled, place = self._engine.compiled, self._engine.place_of(path)
        robot, _, part = path.partition("/")
        found = compiled.robots.get(robot)
        if found is not None and part == "":
            path = found.root
        elif found is not None and found.model is not None and part in found.model.frames:
            path = f"{robot}/{found.model.frames[part].link}"
        if path not in compiled.links:
            raise unknown("link, frame, body or obstacle", path, compiled.links, "attach")
        return place.node, compiled.link_names.index(path)

    def _is_led(self, node: int) -> bool:
        """True for what no force can move."""
        if node < 0:
            return True
        tree = self._engine.plant.trees[self._engine.plant.nodes["tree"][node]]
        return bool(tree["script"] >= 0 and (tree["whole"] == 1 or tree["first"] == node))

    def attach(
        self, thing: str, to: str, pose: Pose | None = None, most_force: float = math.inf, most_torque: float = math.inf
    ) -> None:
        """Let two move as one from the next step on.

        Args:
            thing: a link, frame, body or robot.
            to: another, or an obstacle.
            pose: of the thing in the frame of the other, where it is drawn to; None: as it is now.
            most_force, most_torque: beyond which it breaks (N, N·m).

        Raises:
            VeldrainError: see ``prepare``; or the pose is turned too far from the one that the thing has.
        """
        for path in (thing, to):
            if self._engine.is_away(path):
                raise VeldrainError(
                    f"{path} was removed", where=f"attach {thing}", cure="put it somewhere before it is attached"
                )
        if (to, thing) in self.pairs and self._holds(self.pairs.index((to, thing))):
            self._let_go(self.pairs.index((to, thing)))  # said the other way round, it is the same pair
        row = self.prepare(thing, to)
        loop = self._engine.plant.loops[row : row + 1]
        here, there = (self._engine.pose_at(self._engine.place_of(path)) for path in (thing, to))
        wanted = here if pose is None else there @ pose
        turned = math.acos(min(max((np.trace(here.matrix.T @ wanted.matrix) - 1) / 2, -1.0), 1.0))
        if turned > FARTHEST:
            raise VeldrainError(
                f"is turned by {math.degrees(turned):.0f}° from the pose that it is to have",
                where=f"attach {thing}",
                cure=f"bring it within {math.degrees(FARTHEST):.0f}°, or leave the pose out",
            )
        for end, at in (("a", here), ("b", wanted)):  # where the thing is, and is to be, as each of the nodes sees it
            held = self._engine.node_pose(int(loop[f"node_{end}"][0])).inverse() @ at
            loop[f"at_{end}"], loop[f"turn_{end}"] = held.position, held.matrix
        loop["kind"], loop["rows"], loop["impulse"], loop["broke"] = p.COUPLED, 6, 0.0, 0
        loop["most_force"], loop["most_moment"] = most_force, most_torque
        self._let_pass()
        shapes = [self._shapes_of(int(loop[f"node_{end}"][0])) for end in "ab"]
        gap = self._engine.clearance(*shapes) if pose is None and all(map(len, shapes)) else 0.0
        if gap > WIDE:
            self._engine.notice(
                f"gap {thing} {to}", f"{thing} was attached to {to} at a distance of {gap:.3g} m, and keeps it"
            )

    def _shapes_of(self, node: int) -> p.Ints:
        """Numbers of the shapes that are fixed to a node."""
        return np.flatnonzero(self._engine.plant.geoms["node"] == node)

    def release(self, thing: str, to: str | None = None) -> list[tuple[str, str]]:
        """Let a thing move apart from another, or from all that it is attached to; gives the pairs that were attached.

        A robot's name stands for all of its links.
        """
        held = [k for k, pair in enumerate(self.pairs) if self._holds(k) and _is_meant(pair, thing, to)]
        for k in held:
            self._let_go(k)
        self._let_pass()
        return [self.pairs[k] for k in held]

    def _let_go(self, number: int) -> None:
        loop = self._engine.plant.loops[self._first + number]
        loop["kind"], loop["rows"], loop["impulse"], loop["force"], loop["moment"] = p.APART, 0, 0.0, 0.0, 0.0

    def is_attached(self, thing: str, to: str | None = None) -> bool:
        """True where a thing is attached to another, or to any."""
        return any(self._holds(k) and _is_meant(pair, thing, to) for k, pair in enumerate(self.pairs))

    def _holds(self, number: int) -> bool:
        return bool(self._engine.plant.loops["kind"][self._first + number] == p.COUPLED)

    def now(self, thing: str | None = None, to: str | None = None) -> list[Coupling]:
        """All that is attached, or a thing to another, with what it bears."""
        rows = zip(self.pairs, self._engine.plant.loops[self._first :], strict=True)
        return [
            Coupling(*pair, loop["force"].copy(), loop["moment"].copy(), loop["point"].copy())
            for pair, loop in rows
            if loop["kind"] == p.COUPLED and (thing is None or _is_meant(pair, thing, to))
        ]

    def see_what_broke(self) -> None:
        """Tell what has broken apart since the last look, and let its shapes meet again."""
        broke = self._engine.plant.loops["broke"][self._first :]
        broken = [self.pairs[k] for k in np.flatnonzero(broke > self._told).tolist()]
        self._told = self._engine.steps
        if broken:
            self._let_pass()
        for thing, to in broken:
            self.tell(f"{thing} breaks off {to}")
            self._engine.notice(f"broke {thing} {to}", f"{thing} broke off {to}")

    def tell(self, text: str) -> None:
        """Record that something has happened, where somebody records."""
        if self.record is not None:
            self.record(text)

    def _let_pass(self) -> None:
        """Let the shapes of links that are attached pass each other, and no others."""
        a, off = self._engine.plant, [self._skipped]
        count = len(a.geoms)
        for loop in a.loops[self._first :]:
            if loop["kind"] == p.COUPLED:
                shapes = (self._shapes_of(loop[f"node_{end}"]) for end in "ab")
                x, y = (side.ravel() for side in np.meshgrid(*shapes))
                off.append(np.minimum(x, y) * count + np.maximum(x, y))
        self._engine.plant = a._replace(skipped=np.unique(np.concatenate(off)))

    def make_room_for(self, pairs: Sequence[tuple[str, str]]) -> None:
        """Have the rows of a state that is about to be restored."""
        loops = self._engine.plant.loops[: self._first]
        self._make_room(pairs, np.concatenate([loops, np.zeros(len(pairs), p.LOOP)]))

    def go_on(self) -> None:
        """Go on after a state was restored."""
        self._told = self._engine.steps
        if self.pairs or len(self._engine.plant.skipped) != len(self._skipped):
            self._let_pass()


def _is_meant(pair: tuple[str, str], thing: str, to: str | None) -> bool:
    """True for a pair of a thing and another, in any order; None: and any."""

    def is_of(path: str, name: str) -> bool:
        return path == name or path.startswith(f"{name}/")

    return any(is_of(one, thing) and (to is None or is_of(other, to)) for one, other in (pair, pair[::-1]))
