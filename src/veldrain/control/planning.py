"""Paths around what is in the way: of joints through a world, and of a robot over the ground."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from itertools import combinations, pairwise
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike

from veldrain.control.grasping import holding
from veldrain.control.routing import Grid, NoPath
from veldrain.errors import VeldrainError, unknown
from veldrain.model import GROUND, Cylinder, Model, World
from veldrain.physics.engine import Engine
from veldrain.physics.roaming import Roaming
from veldrain.pose import Array, Pose
from veldrain.simulation import Simulation, engine_of
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

FINE = 1e-3  # m that the farthest point moves between two looks along a path that is given out
ROUGH = 8e-3  # the same while a path is searched for
STRIDE = 0.35  # rad or m of joints: the longest way that a tree grows at once
SHORTCUTS = 200


def plan(
    world: World | Simulation,
    robot: str,
    *,
    goal: ArrayLike,
    start: ArrayLike | None = None,
    joints: Sequence[str] = (),
    margin: Quantity = "1 cm",
    seed: int = 0,
    budget: int = 20000,
    carrying: str | None = None,
    grasped_by: Sequence[str] = (),
) -> Array:
    """Joint positions that lead around what is in the way, the robot itself included.

    Two trees grow towards each other from start and goal (J. Kuffner, S. LaValle, "RRT-Connect", ICRA 2000); the path
    is then shortened and looked at along its whole length, at every millimetre of the robot's farthest point.

    Args:
        world: what is in the way, as it is; of a simulation, as it is now.
        robot: name of the robot.
        goal: joint positions (n,) to end at.
        start: joint positions (n,) to begin at. None: where the robot is.
        joints: names of the joints that may move. () : all of the robot's, in their order.
        margin: least distance to all that the robot may touch, m.
        seed: of the samples: the same seed gives the same path.
        budget: samples at most.
        carrying: name of a body that goes along, as it lies in the hand at the start of the world, or now.
        grasped_by: links that hold it: it goes along with the first, and may touch all of them.

    Returns:
        Points (k, n), for ``Trajectory.through``.

    Raises:
        NoPath: start or goal is too near to something (says what), or no path was found within the budget.
        VeldrainError: names or numbers that are none, positions outside of their limits.

    >>> points = plan(world, "arm", goal=[0, 1, 0.5], seed=3)  # doctest: +SKIP
    """
    engine = _copy(world)
    if robot not in engine.compiled.robots:
        raise unknown("robot", robot, engine.compiled.robots, "plan")
    if carrying is not None:
        place = world if isinstance(world, World) else world.world
        loaded = Engine(holding(place, engine, robot, carrying, grasped_by), engine.step)
        loaded.take_poses(engine)
        engine = loaded
    roaming = Roaming(engine, robot, joints, quantity(margin, "length", "plan: margin"))
    q0 = roaming.now if start is None else roaming.row(start, "start")
    q1 = roaming.row(goal, "goal")
    for word, q in (("start", q0), ("goal", q1)):
        if said := roaming.meets(q):
            raise NoPath(
                f"the {word} is in the way of something: {said}",
                where=f"plan {robot}",
                cure="choose another posture, or a smaller margin",
            )
    random = np.random.default_rng(seed)
    for step in (ROUGH, FINE):
        found = _connect(roaming, q0, q1, random, budget, step)
        found = _shortened(roaming, found, random, step)
        if all(roaming.is_free(a, b, FINE) for a, b in pairwise(found)):
            return found
    raise NoPath("what was found does not hold when looked at finely", where=f"plan {robot}", cure="use another seed")


def _copy(world: World | Simulation) -> Engine:
    if isinstance(world, World):
        return Engine(world, 1e-3)
    if not isinstance(world, Simulation):
        raise VeldrainError(f"{type(world).__name__} is no world", where="plan", cure="give a World or a Simulation")
    engine = Engine(world.world, world.step)
    engine.take_poses(engine_of(world))
    return engine


class _Tree:
    """Postures that are connected to a root."""

    def __init__(self, root: Array) -> None:
        self.rows = np.empty((256, len(root)))
        self.rows[0], self.parents = root, [-1]

    def nearest(self, q: Array) -> int:
        away = self.rows[: len(self.parents)] - q
        return int(np.argmin(np.einsum("ij,ij->i", away, away)))

    def add(self, q: Array, parent: int) -> int:
        if len(self.parents) == len(self.rows):
            self.rows = np.concatenate([self.rows, np.empty_like(self.rows)])
        self.rows[len(self.parents)] = q
        self.parents.append(parent)
        return len(self.parents) - 1

    def way(self, k: int) -> list[Array]:
        found = []
        while k >= 0:
            found.append(self.rows[k].copy())
            k = self.parents[k]
        return found


def _connect(roaming: Roaming, q0: Array, q1: Array, random: np.random.Generator, budget: int, step: float) -> Array:
    """Grow two trees until they meet."""
    if roaming.is_free(q0, q1, step):
        return np.array([q0, q1])
    trees = [_Tree(q0), _Tree(q1)]
    met: dict[str, int] = {}
    for turn in range(budget):
        grown, other = trees[turn % 2], trees[1 - turn % 2]
        goal = random.uniform(roaming.low, roaming.high)
        k = grown.nearest(goal)
        near = grown.rows[k].copy()
        way = goal - near
        q = near + way * min(1.0, STRIDE / float(np.linalg.norm(way)))
        if said := roaming.first_on(near, q, step):
            met[said] = met.get(said, 0) + 1
            continue
        new = grown.add(q, k)
        # Let the other tree come as far towards it as it can.
        at = other.nearest(q)
        while True:
            here = other.rows[at].copy()
            left = q - here
            size = float(np.linalg.norm(left))
            to = q if size <= STRIDE else here + left * (STRIDE / size)
            if not roaming.is_free(here, to, step):
                break
            at = other.add(to, at)
            if size <= STRIDE:
                ways = grown.way(new), other.way(at)
                first, second = ways if turn % 2 == 0 else (ways[1], ways[0])
                return np.array([*reversed(first), *second[1:]])
    often = sorted(met, key=lambda pair: -met[pair])[:3]
    raise NoPath(
        f"no path within {budget} samples; most in the way: {'; '.join(often) or 'nothing, it is far'}",
        where=f"plan {roaming.robot}",
        cure="give a larger budget, a smaller margin, or a posture on the way",
    )


def _shortened(roaming: Roaming, points: Array, random: np.random.Generator, step: float) -> Array:
    """Leave out what is not needed: straight lines between points drawn on the path, and between its corners."""
    path = list(points)
    for _ in range(SHORTCUTS):
        if len(path) <= 2:
            break
        lengths = np.concatenate([[0.0], np.cumsum([np.linalg.norm(b - a) for a, b in pairwise(path)])])
        s, t = np.sort(random.uniform(0.0, lengths[-1], 2))
        i, j = (int(np.clip(np.searchsorted(lengths, x, side="right") - 1, 0, len(path) - 2)) for x in (s, t))
        if i == j:
            continue
        a, b = (
            path[k] + (path[k + 1] - path[k]) * (x - lengths[k]) / max(lengths[k + 1] - lengths[k], 1e-12)
            for k, x in ((i, s), (j, t))
        )
        if roaming.is_free(a, b, step):
            path = [*path[: i + 1], a, b, *path[j + 1 :]]
    k = 0
    while k < len(path) - 2:
        if np.allclose(path[k], path[k + 1], atol=1e-9) or roaming.is_free(path[k], path[k + 2], step):
            del path[k + 1]
        else:
            k += 1
    return np.array(path)


def collision_pairs(
    model: Model, postures: int = 1000, *, seed: int = 0, joints: Mapping[str, Quantity] | None = None
) -> pd.DataFrame:
    """Which links of a model touch each other, over random postures within the limits.

    Args:
        model: the model; what its ``no_contact`` lets pass is looked at too.
        postures: how many; the first is that of ``joints``.
        seed: of the postures.
        joints: a posture to look at as well; 0 where not given.

    Returns:
        A row a pair: a, b; share of the postures that they touch in; ``adjacent``: a joint joins them; ``touch``:
        always, sometimes or never; ``passes``: they are let through each other as it is; ``no_contact``: the line to
        write where they always touch, or touch and are adjacent.
    """
    import pandas as pd

    found = Roaming.of_model(model, dict(joints or {}))
    rows = found.postures(postures, np.random.default_rng(seed))
    counts = found.meetings(rows)
    joined = {frozenset((j.parent, j.child)) for j in model.joints.values()}
    passes = {frozenset(pair) for pair in model.apart}
    table = []
    for a, b in combinations([name for name in model.links if found.has_shapes(name)], 2):
        pair = frozenset((a, b))
        share = counts.get(pair, 0) / len(rows)
        touch = "always" if share == 1.0 else "never" if share == 0.0 else "sometimes"
        is_needed = (touch == "always" or (touch == "sometimes" and pair in joined)) and pair not in passes
        line = f"[{a}, {b}]" if is_needed and pair not in joined else ""
        table.append((a, b, share, pair in joined, touch, pair in passes or pair in joined, line))
    columns = ["a", "b", "share", "adjacent", "touch", "passes", "no_contact"]
    return pd.DataFrame(table, columns=columns).sort_values("share", ascending=False, ignore_index=True)


def plan_route(
    world: World | Simulation,
    start: Sequence[Quantity],
    goal: Sequence[Quantity],
    *,
    radius: Quantity,
    height: Quantity = "50 cm",
    lift: Quantity = "5 cm",
    turning_radius: Quantity = 0.0,
    cell: Quantity = "5 cm",
    robot: str | None = None,
    room: Quantity = "2 m",
) -> Array:
    """A way over the ground around obstacles, for a robot as wide as a circle.

    What stands between ``lift`` and ``height`` above z = 0 is in the way. The shortest way over a grid is pulled tight
    and its corners are rounded.

    Args:
        world: what is in the way, as it is; of a simulation, as it is now.
        start: x and y, m.
        goal: x and y, m.
        radius: of the circle around the robot, with the distance it is to keep, m.
        height: of the robot, m.
        lift: what is lower is driven over, m.
        turning_radius: least radius of a curve, m.
        cell: of the grid, m.
        robot: name of the robot that is to drive: it is not in its own way.
        room: how far the way may lead around start and goal and what lies between, m.

    Returns:
        Points (k, 2), m.

    Raises:
        NoPath: start or goal is in something, or nothing leads from the one to the other; says what is in the way.
    """
    ends = [
        np.array([quantity(v, "length", f"plan_route: {word}") for v in end])
        for word, end in (("start", start), ("goal", goal))
    ]
    for word, end in zip(("start", "goal"), ends, strict=True):
        if end.shape != (2,) or not np.isfinite(end).all():
            raise VeldrainError(f"{word} is {end.tolist()}", where="plan_route", cure="give x and y")
    width, top, low, size, bend, around = (
        quantity(value, "length", f"plan_route: {word}")
        for word, value in (
            ("radius", radius),
            ("height", height),
            ("lift", lift),
            ("cell", cell),
            ("turning_radius", turning_radius),
            ("room", room),
        )
    )
    if not (width > 0 and size > 0 and top > low >= 0):
        raise VeldrainError(
            "a circle, a cell or a height of nothing", where="plan_route", cure="give values above zero"
        )
    source = world.world if isinstance(world, Simulation) else world
    probe = Model("route_probe").link("route_probe", Cylinder(width, top - low), mass=1.0)
    scene = copy.deepcopy(source).place(probe, "route_probe", pose=Pose((*ends[0], (top + low) / 2)))
    engine = Engine(scene, 1e-3)
    if isinstance(world, Simulation):
        engine.take_poses(engine_of(world))
    roaming = Roaming(engine, "route_probe", (), 0.0, ignored=[GROUND, *([robot] if robot else [])])
    return Grid(roaming, ends, size, around, (top + low) / 2, bend).way(ends[0], ends[1])
