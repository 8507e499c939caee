"""Searches on SciPy's optimisers: the worst case, the best arguments. All trials are kept, none is run twice."""

from __future__ import annotations

import copy
import importlib
import math
import warnings
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from veldrain import randomness
from veldrain.errors import VeldrainError, unknown
from veldrain.model.knobs import knob_of
from veldrain.pose import Array
from veldrain.study.asking import Asking, Tell
from veldrain.study.ranks import median_interval
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    from veldrain.study.study import Study

BAD = 1e12  # of a trial that was aborted, and of what is infinite
Bounds = Mapping[str, tuple[Quantity, Quantity]]


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


@dataclass(frozen=True)
class Tuned:
    """The best values that were found, confirmed on trials that the search has not seen.

    Attributes:
        values: SI units, by path; ``before``: what they were.
        units: theirs.
        improvement: pseudo-median of before − after (after − before where higher is better) over the fresh pairs; low
            and high are its 95 % interval: above 0 is better.
        pairs: how many fresh pairs.
        passed, passed_before: of these.
        trials: all that the search ran, a row each.
    """

    metric: str
    unit: str
    values: dict[str, float]
    before: dict[str, float | None]
    units: dict[str, str]
    improvement: float
    low: float
    high: float
    pairs: int
    passed: int
    passed_before: int
    trials: pd.DataFrame

    @property
    def is_better(self) -> bool:
        """True where the interval of the improvement lies above 0, and no more trials fail than before."""
        return self.low > 0 and self.passed >= self.passed_before


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
    progress: Tell | None = None,
) -> Worst:
    """Look for the values of what is varied at which a metric is worst, and for the least change that makes a trial
    fail.

    A third of the budget fills the ranges evenly, a third goes to differential evolution (R. Storn, K. Price, J.
    Global Optim. 11, 1997), and the rest goes from what fails towards nominal, the values in the scenario, by
    bisection and Nelder and Mead's simplex.

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

    better = _better(study, metric)
    name = _controller(study, controller)
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
                raise _OverError
            found = [_cost(row, metric, sign, -BAD) for row in run(rows)]
            return np.array(found + [math.inf] * (len(rows) - len(found)))

        asking.tell("nominal")
        nominal = run([middle])[0]
        asking.tell("all over the ranges")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)
            filling = qmc.Sobol(count, rng=np.random.default_rng(randomness.child_seed(seed, "worst")))
            first = filling.random(max(budget // 3, 1))
        run(list(first))
        asking.tell("evolution")
        population = _best_of(asking, metric, sign, room, max(8, min(5 * count, budget // 12)))
        try:
            end = budget // 3

            def over(*_: Any, **__: Any) -> bool:
                return asking.left <= end

            optimize.differential_evolution(
                cost, [(0.0, 1.0)] * count, init=population, rng=np.random.default_rng(seed), vectorized=True,
                updating="deferred", polish=False, maxiter=10_000, callback=over, tol=1e-6,
            )  # fmt: skip
        except _OverError:
            pass
        asking.tell("towards nominal")
        nearest, distance = _nearest(asking, run, middle, room, optimize.minimize)
        table = asking.trials
    costs = np.array([_cost(row, metric, sign, -BAD) for row in table.to_dict("records")])
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


class _OverError(Exception):
    """The budget is spent."""


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
            raise _OverError
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
    except _OverError:
        pass
    return room.values(best), far(best)


def tune(
    study: Study,
    bounds: Bounds,
    metric: str,
    folder: str | Path | None = None,
    *,
    controller: str | None = None,
    trials: int | None = None,
    budget: int = 200,
    confirm: int | None = None,
    workers: int = 1,
    executor: Executor | None = None,
    seed: int = 0,
    progress: Tell | None = None,
) -> Tuned:
    """Look for the values of some quantities, such as a controller's arguments, at which a metric is best on average.

    Every candidate meets the same draws and noise. A candidate that passes fewer trials than another is worse than it,
    whatever its metric: expectations are constraints. Half of the budget fills the bounds evenly, half goes to Nelder
        and
    Mead's simplex from the best. What is best is then confirmed on draws that the search has not seen.

    Args:
        study: its draws are what the candidates are tried on.
        bounds: lower and upper value by path, such as ``{"controller.gain": (0.5, 4)}``.
        metric: its name.
        folder: for all trials; a search that was broken off goes on there. None: they are not kept on disk.
        controller: whose; None: the first.
        trials: that each candidate meets; None: those of the study, eight at most.
        budget: trials of the search, all candidates together.
        confirm: fresh pairs; None: as many as ``trials``, sixteen at least.
        workers, executor, progress: as of ``Study.run``.
        seed: of the search.

    Raises:
        VeldrainError: no such quantity or metric, or a budget that is too small for three candidates.

    >>> tune(study, {"controller.gain": (0.5, 4)}, "offset, RMS", "out/tune").values  # doctest: +SKIP
    """
    optimize: Any = importlib.import_module("scipy.optimize")
    from scipy.stats import qmc

    better, name = _better(study, metric), _controller(study, controller)
    known = list(study.scenario.driven_by(study.controllers[name]).knobs())
    knobs = {path: knob_of(known, path, "tune") for path in bounds}
    for path in bounds:
        if path in study.units:
            raise VeldrainError("is varied by the study", where=f"tune: {path}", cure="take it out of one of them")
    lows, highs = (np.array([quantity(b[k], knobs[p].kind, f"tune: {p}") for p, b in bounds.items()]) for k in (0, 1))
    if not bounds or not (lows < highs).all():
        raise VeldrainError("no room to search", where="tune", cure="give a lower and a higher value by path")
    each = trials or min(study.trials, 8)
    fresh = confirm or max(each, 16)
    if budget < 3 * each:
        raise VeldrainError(f"{budget} trials of {each} a candidate", where="tune", cure=f"give {3 * each} or more")
    paths, sign = list(bounds), 1.0 if better == "lower" else -1.0
    before = {path: knobs[path].get() for path in paths}
    part = copy.copy(study)
    part.vary, part._kinds = study.vary, study._kinds | {p: k.kind for p, k in knobs.items()}
    with Asking(part, folder, budget + 2 * fresh, workers, executor, progress) as asking:
        costs: dict[tuple[float, ...], float] = {}

        def drawn(number: int) -> dict[str, float]:
            """A design that has an end begins again, with other noise."""
            return study.draw(number % len(study.rows))

        def told(points: Array, numbers: Sequence[int]) -> list[list[dict[str, Any]]]:
            asked = [
                (name, drawn(n) | dict(zip(paths, (lows + p * (highs - lows)).tolist(), strict=True)), n)
                for p in points
                for n in numbers
            ]
            rows = asking.run(asked)
            return [rows[k : k + len(numbers)] for k in range(0, len(rows), len(numbers))]

        def cost(points: Array) -> list[float]:
            """Means of the metric; each trial that fails costs more than any value does."""
            some = np.clip(np.atleast_2d(points), 0, 1)
            if budget - len(asking.rows) < each * len(some):
                raise _OverError
            found = []
            for point, rows in zip(some, told(some, range(each)), strict=True):
                values = [_cost(row, metric, sign) for row in rows]
                failed = sum(not row["passed"] for row in rows)
                costs[tuple(point)] = found_cost = float(np.mean(values)) + BAD * failed
                found.append(found_cost)
            best = min(costs.values())
            shown = sign * (best % BAD if best > BAD / 2 else best)
            asking.tell(f"{metric} {shown:.4g} at best")
            return found

        def fenced(point: Array) -> float:
            """The same with a fence around the bounds."""
            return cost(point)[0] + 1e3 * BAD * float(np.abs(point - np.clip(point, 0, 1)).sum())

        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)
            filling = qmc.Sobol(len(paths), rng=np.random.default_rng(randomness.child_seed(seed, "tune")))
            first = filling.random(max(budget // (2 * each), 2))
        known_point = (np.array([before[p] if before[p] is not None else math.nan for p in paths], float) - lows) / (
            highs - lows
        )
        if np.isfinite(known_point).all() and ((known_point >= 0) & (known_point <= 1)).all():
            first = np.vstack([known_point, first[:-1]])
        try:
            cost(first)
            start = np.array(min(costs, key=costs.__getitem__))
            scale = 0.5 / max(len(first) ** (1 / len(paths)), 1.0)
            steps = [
                np.where(start + scale * row > 1, start - scale * row, start + scale * row)
                for row in np.eye(len(paths))
            ]
            while budget - len(asking.rows) >= each:
                simplex = np.vstack([start, *steps])
                options = {"initial_simplex": simplex, "maxfev": 10_000, "xatol": 1e-4, "fatol": 0.0}
                found = optimize.minimize(fenced, start, method="Nelder-Mead", options=options)
                start, scale = np.clip(found.x, 0, 1), scale / 2
                steps = [
                    start + scale * row * (1 if s < 0.5 else -1)
                    for row, s in zip(np.eye(len(paths)), start, strict=True)
                ]
                if scale < 1e-3:
                    break
        except _OverError:
            pass
        best = np.array(min(costs, key=costs.__getitem__))
        searched = asking.trials
        asking.tell("confirmed on fresh draws")
        numbers = range(each, each + fresh)
        after = told(best[None], numbers)[0]
        was = asking.run([(name, drawn(n), n) for n in numbers])
    gains = sign * (np.array([r[metric] for r in was], float) - np.array([r[metric] for r in after], float))
    known_gains = gains[~np.isnan(gains)]
    middle, low, high = median_interval(known_gains)
    return Tuned(
        metric,
        _unit(study, metric),
        dict(zip(paths, (lows + best * (highs - lows)).tolist(), strict=True)),
        before,
        {p: k.unit for p, k in knobs.items()},
        middle,
        low,
        high,
        len(known_gains),
        sum(bool(r["passed"]) for r in after),
        sum(bool(r["passed"]) for r in was),
        searched,
    )


def _better(study: Study, metric: str) -> str:
    found = {m.name: m.better for m in study.metrics}
    if metric not in found:
        raise unknown("metric", metric, found, "search")
    return found[metric]


def _unit(study: Study, metric: str) -> str:
    from veldrain.study.metrics import unit_of_metric

    return next(unit_of_metric(m, study.reads_in.get(m.name, "")) for m in study.metrics if m.name == metric)


def _controller(study: Study, name: str | None) -> str:
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


def _cost(row: Mapping[Any, Any], metric: str, sign: float, worst: float = BAD) -> float:
    """A metric with its sign, where what is infinite is a large number, and what is aborted or missing is the worst."""
    value = float(row[metric])
    if row["failed"] or math.isnan(value):
        return worst
    return float(np.clip(sign * value, -BAD, BAD))


def _best_of(asking: Asking, metric: str, sign: float, room: _Room, count: int) -> Array:
    """The points with the lowest costs so far, as the first population: five at least, as its optimiser asks."""
    table = asking.trials
    costs = np.array([_cost(row, metric, sign, -BAD) for row in table.to_dict("records")])
    points = room.points(table)
    chosen = points[np.argsort(costs, kind="stable")[: max(count, 5)]]
    return (
        chosen
        if len(chosen) >= 5
        else np.vstack([chosen, np.random.default_rng(0).random((5 - len(chosen), len(room.paths)))])
    )
