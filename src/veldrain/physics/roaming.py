"""A robot that is set into postures, to see what it would meet: nothing moves by itself."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Model, World
from veldrain.physics import plant as p
from veldrain.physics.engine import Engine
from veldrain.physics.postures import meetings
from veldrain.pose import Array

SLIDES = 2.0  # m that a slide without limits is taken to reach
FLAT = (p.PLANE, p.MESH)


class Roaming:
    """One robot of an engine, and the pairs of shapes that it may meet with.

    Args:
        engine: of its own, since its state is changed.
        robot: name of the robot.
        joints: names of the joints that are set; () : all of them. A robot without joints is set as a free body, by its
            seven coordinates.
        margin: nearer than this is met, m.
        ignored: names of robots that are not in the way.
        every: True: pairs that are let through each other are looked at too, and only the robot's own.
    """

    def __init__(
        self,
        engine: Engine,
        robot: str,
        joints: Sequence[str],
        margin: float,
        *,
        ignored: Collection[str] = (),
        every: bool = False,
    ) -> None:
        self.engine, self.robot, self.margin = engine, robot, margin
        table = engine.compiled.robots[robot]
        self.model = table.model or Model(robot)
        plant = engine.plant
        movable = [j for j, dof in table.joints.items() if plant.dofs["coord"][dof] >= 0 and not self._follows(j)]
        for name in joints:
            if name not in movable:
                raise unknown("joint that can be set", name, movable, robot)
        self.joints = tuple(joints or movable)
        if movable:
            self._share_out(table.joints)
        else:
            node = plant.nodes[engine.compiled.links[table.root].node]
            self._coords = np.arange(node["coord"], node["coord"] + 7)
            self._share, self._offset = np.eye(7), np.zeros(7)
            self.low, self.high = np.full(7, -np.inf), np.full(7, np.inf)
        self.pairs = self._pairs(set(ignored), every)

    def _follows(self, joint: str) -> bool:
        return joint in self.model.joints and self.model.joints[joint].mimic is not None

    def _share_out(self, dofs: Mapping[str, int]) -> None:
        """Coordinates of all joints that are set or follow one: share @ q + offset."""
        plant, model = self.engine.plant, self.model
        rows: list[tuple[int, Array, float]] = []
        for name, dof in dofs.items():
            leader, ratio, offset = (
                (model.joints[name].mimic or ("", 1.0, 0.0)) if self._follows(name) else (name, 1.0, 0.0)
            )
            if leader in self.joints:
                row = np.zeros(len(self.joints))
                row[self.joints.index(leader)] = ratio
                rows.append((int(plant.dofs["coord"][dof]), row, offset))
        self._coords = np.array([row[0] for row in rows], np.int64)
        self._share, self._offset = np.array([row[1] for row in rows]), np.array([row[2] for row in rows])
        own = plant.dofs[[dofs[name] for name in self.joints]]
        slides = np.array([model.coordinates()[name][1] for name in self.joints])
        wide = np.where(slides, SLIDES, math.pi)
        self.low = np.where(np.isfinite(own["low"]), own["low"], -wide)
        self.high = np.where(np.isfinite(own["high"]), own["high"], wide)
        reach = self._reaches()
        far = np.array([1.0 if slides[k] else reach[int(own["node"][k])] for k in range(len(own))])
        followers = np.abs(self._share).sum(axis=0)
        self._far = far * np.maximum(followers, 1.0)

    def _reaches(self) -> dict[int, float]:
        """How far the shapes that move with each node reach from its joint (m), however the others stand."""
        plant = self.engine.plant
        found = dict.fromkeys(range(len(plant.nodes)), 0.0)
        for g in plant.geoms:
            if g["node"] >= 0 and g["kind"] not in FLAT:
                size = float(np.linalg.norm(g["size"]) + g["size"].max())
                found[int(g["node"])] = max(found[int(g["node"])], float(np.linalg.norm(g["place"])) + size)
        for k in range(len(plant.nodes) - 1, -1, -1):
            node = plant.nodes[k]
            if node["parent"] >= 0:
                slides = 0.0
                if node["kind"] == p.SLIDING:
                    dof = plant.dofs[node["dof"]]
                    slides = max(abs(dof["low"]), abs(dof["high"])) if np.isfinite(dof["high"]) else SLIDES
                way = float(np.linalg.norm(node["place"])) + slides + found[k]
                found[int(node["parent"])] = max(found[int(node["parent"])], way)
        return found

    def _is_own(self, name: str) -> bool:
        return name == self.robot or name.startswith(f"{self.robot}/")

    def _pairs(self, ignored: set[str], every: bool) -> p.Ints:
        """Numbers (k, 2) of shapes that may meet, the flat one second; both move with it, or one does."""
        names, geoms = self.engine.compiled.geom_names, self.engine.plant.geoms
        off = set() if every else set(self.engine.plant.skipped.tolist())
        own = [k for k, name in enumerate(names) if self._is_own(name)]
        others = [] if every else [k for k, name in enumerate(names) if name.partition("/")[0] not in ignored]
        found = []
        for a in own:
            for b in own if every else others:
                if (self._is_own(names[b]) and b <= a) or geoms["node"][a] == geoms["node"][b]:
                    continue
                if min(a, b) * len(geoms) + max(a, b) in off or geoms["kind"][a] in FLAT:
                    continue
                found.append((a, b))
        return np.array(found, np.int64).reshape(-1, 2)

    @classmethod
    def of_model(cls, model: Model, joints: dict[str, Any]) -> Roaming:
        """A model by itself, with all of its pairs."""
        engine = Engine(World(gravity=(0.0, 0.0, 0.0)).place(model, "model", fixed=True, joints=joints), 1e-3)
        if not engine.compiled.robots["model"].joints:
            raise VeldrainError("no joint moves", where=model.name, cure="give a model with joints")
        return cls(engine, "model", (), 0.0, every=True)

    def has_shapes(self, link: str) -> bool:
        """True for a link with shapes that can be touched."""
        return f"{self.robot}/{link}" in self.engine.compiled.geom_names

    @property
    def now(self) -> Array:
        """Positions (n,) of the joints as they are."""
        dofs = self.engine.compiled.robots[self.robot].joints
        coords = self.engine.plant.dofs["coord"][[dofs[name] for name in self.joints]]
        return np.asarray(self.engine.plant.q[coords])

    def row(self, q: ArrayLike, word: str) -> Array:
        """Positions (n,) of the joints, inside of their limits.

        Raises:
            VeldrainError: another shape, not finite, or outside.
        """
        row, where = np.asarray(q, float), f"plan {self.robot}: {word}"
        if row.shape != (len(self.joints),) or not np.isfinite(row).all():
            raise VeldrainError(
                f"positions of shape {row.shape}",
                where=where,
                cure=f"give {len(self.joints)} finite numbers, one for each of: {', '.join(self.joints)}",
            )
        for name, value, low, high in zip(self.joints, row, self.low, self.high, strict=True):
            if not low - 1e-9 <= value <= high + 1e-9 and self.model.joints[name].limits:
                told = self.model.joints[name].told
                raise VeldrainError(
                    f"{told(float(value))} is outside of its limits, {told(float(low))} to {told(float(high))}",
                    where=f"{where}/{name}",
                    cure="give a position inside",
                )
        return row

    def met(self, rows: Array, first_only: bool = False) -> p.Ints:
        """For postures (m, n) the number of a pair that each brings too near, −1: none; ``first_only``: −2 after it."""
        found = np.full(len(rows), -2, np.int64)
        every = np.ascontiguousarray(rows @ self._share.T + self._offset)
        meetings(self.engine.plant, self._coords, every, self.pairs, self.margin, found, first_only)
        return found

    def meets(self, q: Array) -> str:
        """What a posture brings too near; "" for nothing."""
        return self._said(int(self.met(q[None])[0]))

    def first_on(self, a: Array, b: Array, step: float) -> str:
        """What is met on the straight way between two postures, looked at every ``step`` m of the farthest point."""
        count = max(1, math.ceil(float(np.abs(b - a) @ self._far) / step))
        found = self.met(a + (np.arange(1, count + 1) / count)[:, None] * (b - a), True)
        return self._said(int(found.max()))

    def is_free(self, a: Array, b: Array, step: float) -> bool:
        """True where nothing is met on the way."""
        return not self.first_on(a, b, step)

    def _said(self, pair: int) -> str:
        if pair < 0:
            return ""
        names = self.engine.compiled.geom_names
        return " and ".join(names[k] for k in self.pairs[pair])

    def other_side(self, pair: int) -> str:
        """What of a pair is not the robot."""
        return str(self.engine.compiled.geom_names[self.pairs[pair, 1]])

    def postures(self, count: int, random: np.random.Generator) -> Array:
        """Postures (count, n) within the limits: the one of now, and random ones."""
        rows = random.uniform(self.low, self.high, (max(count, 1), len(self.joints)))
        rows[0] = self.now
        return rows

    def meetings(self, rows: Array) -> dict[frozenset[str], int]:
        """In how many postures (m, n) pairs of links touch, by their names in the model."""
        names = [name.removeprefix(f"{self.robot}/") for name in self.engine.compiled.geom_names]
        pairs: dict[frozenset[str], list[int]] = {}
        for k, (a, b) in enumerate(self.pairs):
            pairs.setdefault(frozenset((names[a], names[b])), []).append(k)
        every = np.ascontiguousarray(rows @ self._share.T + self._offset)
        found = {}
        for pair, numbers in pairs.items():
            hit = np.zeros(len(rows), np.int64)
            meetings(self.engine.plant, self._coords, every, self.pairs[numbers], self.margin, hit, False)
            found[pair] = int((hit >= 0).sum())
        return found
