"""The best arguments, on SciPy's optimisers, confirmed on trials that the search has not seen."""

from __future__ import annotations

import copy
import importlib
import math
import warnings
from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain import randomness
from veldrain.errors import VeldrainError
from veldrain.model.knobs import knob_of
from veldrain.pose import Array
from veldrain.progress import Progress
from veldrain.study.asking import Asking
from veldrain.study.metrics import unit_of_metric
from veldrain.study.ranks import median_interval
from veldrain.study.searching import BAD, OverError, better_of, controller_of, cost_of
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

    from veldrain.study.study import Study

Bounds = Mapping[str, tuple[Quantity, Quantity]]


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
    progress: Progress | None = None,
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

    better, name = better_of(study, metric), controller_of(study, controller)
    own = next(m for m in study.metrics if m.name == metric)
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
                raise OverError
            found = []
            for point, rows in zip(some, told(some, range(each)), strict=True):
                values = [cost_of(row, metric, sign) for row in rows]
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
        except OverError:
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
        unit_of_metric(own, study.reads_in.get(metric, "")),
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
