"""The worst case, on SciPy's optimisers. All trials are kept, and none is run twice."""

from __future__ import annotations

import importlib
import math
import warnings
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain import randomness
from veldrain.errors import VeldrainError, unknown
from veldrain.pose import Array
from veldrain.progress import Progress
from veldrain.study.asking import Asking

if TYPE_CHECKING:
    import pandas as pd

    from veldrain.study.study import Study

BAD = 1e12  # of a trial that was aborted, and of what is infinite


@dataclass(frozen=True)
class Worst:
    """The worst case that was found.

    Attributes:
        values: what is varied there, SI units, by path.
        value: of the metric there; what it is at nominal is ``nominal``.
        fails: True where a trial does not pass there.
        nearest: the failing values nearest to nominal, and ``distance``: how far, as a share of the ranges (root mean
            square over what is varied); empty and inf where none failed.
        trials: all that were run, a row each.
    """

    values: dict[str, float]
    value: float
    nominal: float
    fails: bool
    nearest: dict[str, float]
    distance: float
    trials: pd.DataFrame


def find_worst(
    study: Study,
    metric: str,
    folder: str | Path | None = None,
    *,
    controller: str | None = None,
    budget: int = 200,
    workers: int = 1,
    executor: Executor | None = None,
    seed: int = 0,
    progress: Progress | None = None,
) -> Worst:
    """Look for the values of what is varied at which a metric is worst, and for the least change that makes a trial
    fail.

    A quarter of the budget fills the ranges evenly, a quarter goes to differential evolution (R. Storn, K. Price, J.
    Global Optim. 11, 1997), a quarter to steps along each axis from the worst that was found, and the rest goes from
    what fails towards nominal, the values in the scenario, by bisection and Nelder and Mead's simplex. Where nothing
    fails, the rest goes on with evolution.

    Args:
        study: with ``vary``, whose ranges are searched; of a distribution without ends, the middle 99 %.
        metric: its name.
        folder: for all trials; a search that was broken off goes on there. None: they are not kept on disk.
        controller: whose; None: the first.
        budget: trials.
        workers, executor, progress: as of ``Study.run``.
        seed: of the search.

    Raises:
        VeldrainError: nothing is varied, or no such metric.

    >>> find_worst(study, "gap", "out/worst", budget=300).values  # doctest: +SKIP
    """
    optimize: Any = importlib.import_module("scipy.optimize")  # its stubs know no searches of many points at once
    from scipy.stats import qmc

    better = better_of(study, metric)
    name = controller_of(study, controller)
    room = _Room.of(study)
    middle, count = room.middle(study), len(room.paths)
    sign = -1.0 if better == "lower" else 1.0
    with Asking(study, folder, budget, workers, executor, progress) as asking:

        def run(points: Iterable[Array]) -> list[dict[str, Any]]:
            some = list(points)[: max(asking.left, 0)]
            return asking.run([(name, room.values(p), 0) for p in some])

        def cost(points: Array) -> Array:
            """Less is worse for the metric; what is beyond the budget is refused by its cost."""
            rows = np.atleast_2d(points.T if points.ndim > 1 else points)
            if asking.left <= 0:
                raise OverError
            found = [cost_of(row, metric, sign, -BAD) for row in run(rows)]
            return np.array(found + [math.inf] * (len(rows) - len(found)))

        asking.tell("nominal")
        nominal = run([middle])[0]
        asking.tell("all over the ranges")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)
            filling = qmc.Sobol(count, rng=np.random.default_rng(randomness.child_seed(seed, "worst")))
            first = filling.random(max(budget // 4, 1))
        run(list(first))

        def evolve(end: int) -> None:
            population = _best_of(asking, metric, sign, room, max(8, min(5 * count, budget // 12)))
            optimize.differential_evolution(
                cost, [(0.0, 1.0)] * count, init=population, rng=np.random.default_rng(seed), vectorized=True,
                updating="deferred", polish=False, maxiter=10_000, tol=1e-6,
                callback=lambda *_, **__: asking.left <= end,
            )  # fmt: skip

        try:
            asking.tell("evolution")
            evolve(budget // 2)
            asking.tell("along the axes")
            _climb(asking, cost, _best_of(asking, metric, sign, room, 1)[0], budget // 4)
            if asking.trials["passed"].all():
                asking.tell("evolution")
                evolve(0)
        except OverError:
            pass
        asking.tell("towards nominal")
        nearest, distance = _nearest(asking, run, middle, room, optimize.minimize)
        table = asking.trials
    costs = np.array([cost_of(row, metric, sign, -BAD) for row in table.to_dict("records")])
    worst = table.iloc[int(costs.argmin())]
    return Worst(
        {p: float(worst[p]) for p in study.units},
        float(worst[metric]),
        float(nominal[metric]),
        not bool(worst["passed"]),
        nearest,
        distance,
        table,
    )


class OverError(Exception):
    """The budget is spent."""


def _climb(asking: Asking, cost: Callable[[Array], Array], point: Array, end: int) -> None:
    """Steps along each axis, and along all of those that help at once; half as long where none helps."""
    step, least = 0.5, float(cost(point)[0])
    while step > 0.01 and asking.left > end:
        sides = np.clip(point + step * np.stack([-np.eye(len(point)), np.eye(len(point))]), 0, 1)
        costs = np.stack([cost(side.T) for side in sides])
        along = np.where(costs.min(axis=0) < least, np.sign(costs[0] - costs[1]), 0.0)
        together = np.clip(point + step * along, 0, 1)
        tried = np.vstack([*sides, together])
        found = np.append(costs.ravel(), cost(together))
        best = int(found.argmin())
        if found[best] < least:
            point, least = tried[best], float(found[best])
        else:
            step /= 2


def _nearest(
    asking: Asking, run: Callable[..., list[dict[str, Any]]], middle: Array, room: _Room, minimize: Any
) -> tuple[dict[str, float], float]:
    """The failing point nearest to nominal: bisection from those that are known, then a simplex among directions."""
    known = asking.trials
    failing = known[~known["passed"].astype(bool)]
    if failing.empty:
        return {}, math.inf
    points = room.points(failing)

    def far(point: Array) -> float:
        return float(np.sqrt(((point - middle) ** 2).mean()))

    best = min(points, key=far)
    if far(best) == 0:
        return room.values(best), 0.0

    def shrink(direction: Array, steps: int = 6) -> tuple[float, Array]:
        """The nearest failing point along a direction (a point of the cube); inf where that does not fail at all."""
        nonlocal best
        if asking.left <= 0:
            raise OverError
        point = np.clip(direction, 0, 1)
        if run([point])[0]["passed"]:
            return math.inf, point
        good, bad = 0.0, 1.0
        for _ in range(steps):
            if asking.left <= 0:
                break
            half = (good + bad) / 2
            if run([middle + half * (point - middle)])[0]["passed"]:
                good = half
            else:
                bad = half
        found = middle + bad * (point - middle)
        if far(found) < far(best):
            best = found
        return far(found), found

    try:
        for start in sorted(points, key=far)[:3]:
            shrink(start)
        size = max(far(best), 1e-3)
        simplex = np.vstack([best, *(best + 0.5 * size * row for row in np.eye(len(best)))])
        minimize(
            lambda p: min(shrink(p, 3)[0], 10.0), best, method="Nelder-Mead",
            options={"initial_simplex": simplex, "maxfev": 10_000, "xatol": 1e-3, "fatol": 1e-4},
        )  # fmt: skip
    except OverError:
        pass
    return room.values(best), far(best)


def better_of(study: Study, metric: str) -> str:
    found = {m.name: m.better for m in study.metrics}
    if metric not in found:
        raise unknown("metric", metric, found, "search")
    return found[metric]


def controller_of(study: Study, name: str | None) -> str:
    if name is not None and name not in study.controllers:
        raise unknown("controller", name, study.controllers, "search")
    return name or next(iter(study.controllers))


@dataclass(frozen=True)
class _Room:
    """What a search goes over: paths that have one value, and their least and largest values; all else stays."""

    paths: list[tuple[str, ...]]
    lows: Array
    highs: Array
    rest: dict[str, float]

    @classmethod
    def of(cls, study: Study) -> _Room:
        spans = [span for f in study.factors for span in f.spans()]
        if not spans:
            raise VeldrainError("nothing is varied", where="find_worst", cure="name ranges in vary")
        lows, highs = (np.array([span[k] for span in spans], float) for k in (1, 2))
        if not (lows < highs).all():
            name = ", ".join(spans[int((lows >= highs).argmax())][0])
            raise VeldrainError("a range of one value", where=name, cure="widen it")
        return cls([paths for paths, *_ in spans], lows, highs, study.draw(0))

    def values(self, point: Array) -> dict[str, float]:
        """Values by path at a point of the unit cube."""
        row = (self.lows + np.clip(point, 0, 1) * (self.highs - self.lows)).tolist()
        return self.rest | {path: value for paths, value in zip(self.paths, row, strict=True) for path in paths}

    def points(self, table: pd.DataFrame) -> Array:
        """The rows of a table as points of the unit cube."""
        found: Array = (table[[paths[0] for paths in self.paths]].to_numpy(float) - self.lows) / (
            self.highs - self.lows
        )
        return found

    def middle(self, study: Study) -> Array:
        """What the scenario itself has."""
        usual = np.array([study.usual.get(paths[0], math.nan) for paths in self.paths])
        found = (usual - self.lows) / (self.highs - self.lows)
        return np.clip(np.nan_to_num(found, nan=0.5), 0.0, 1.0)


def cost_of(row: Mapping[Any, Any], metric: str, sign: float, worst: float = BAD) -> float:
    """A metric with its sign, where what is infinite is a large number, and what is aborted or missing is the worst."""
    value = float(row[metric])
    if row["failed"] or math.isnan(value):
        return worst
    return float(np.clip(sign * value, -BAD, BAD))


def _best_of(asking: Asking, metric: str, sign: float, room: _Room, count: int) -> Array:
    """The points with the lowest costs so far, as the first population: five at least, as its optimiser asks."""
    table = asking.trials
    costs = np.array([cost_of(row, metric, sign, -BAD) for row in table.to_dict("records")])
    points = room.points(table)
    chosen = points[np.argsort(costs, kind="stable")[: max(count, 5)]]
    return (
        chosen
        if len(chosen) >= 5
        else np.vstack([chosen, np.random.default_rng(0).random((5 - len(chosen), len(room.paths)))])
    )
