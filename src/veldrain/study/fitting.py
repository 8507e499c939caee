"""Quantities of a model fitted to logs of the real thing: values with intervals, and what the logs cannot tell apart.

Least squares by a trust region (M. A. Branch, T. F. Coleman, Y. Li, SIAM J. Sci. Comput. 21(1), 1999), from the best
of some points all over the bounds. Intervals are those of the linear regression at the solution, with the residuals'
own spread (G. A. F. Seber, C. J. Wild, "Nonlinear Regression", 1989, chapter 5).
"""

from __future__ import annotations

import copy
import importlib
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain import randomness
from veldrain.errors import VeldrainError, told_at
from veldrain.model.knobs import knob_of
from veldrain.pose import Array
from veldrain.progress import Progress
from veldrain.recording import Log
from veldrain.recording.kept import Kept
from veldrain.scenario import Scenario
from veldrain.scenario.carrying import carried_out
from veldrain.scenario.trial import Trial
from veldrain.study.ranks import LEVEL
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

BAD = 1e6  # of residuals where a trial was aborted
ALIKE = 0.99  # correlation from which on two quantities cannot be told apart
BEGUN = 2  # of the best points from which it goes down
ROUGH = 0.5  # autocorrelation of residuals from which on they are no noise
BLIND = 1e-6  # of the largest: a column of the Jacobian below this tells nothing


@dataclass(frozen=True)
class Match:
    """A column that is to be alike.

    Args:
        column: of the simulated trial, ``stream.column``.
        log: of the log; "": of the same name.
        weight: of its residuals, beside their spread: each column's are divided by the standard deviation of its log.

    >>> Match("leg/truth.z", log="/foot.z").weight
    1.0
    """

    column: str
    log: str = ""
    weight: float = 1.0


@dataclass(frozen=True)
class Fitted:
    """What a fit found.

    Attributes:
        values: by path, SI units; ``units`` theirs; low and high are 95 % intervals.
        before, after: root mean square of the residuals, by column, in its unit, which ``column_units`` tells.
        lag: time by which the logs are late, s; 0 where it was not estimated.
        alike: pairs of paths that the logs cannot tell apart, with their correlation.
        blind: paths on which nothing that was matched depends.
        at_bounds: paths whose value lies on a bound.
        rough: autocorrelation of the residuals from one sample to the next: of noise it is about 0.
        runs: trials that it took.
        residuals: time, column, log, simulated before and after: a row each sample.
    """

    values: dict[str, float]
    units: dict[str, str]
    low: dict[str, float]
    high: dict[str, float]
    before: dict[str, float]
    after: dict[str, float]
    column_units: dict[str, str]
    lag: float
    alike: list[tuple[str, str, float]]
    blind: list[str]
    at_bounds: list[str]
    rough: float
    runs: int
    residuals: pd.DataFrame = field(repr=False)

    @property
    def table(self) -> pd.DataFrame:
        """Values with their intervals, a row each."""
        import pandas as pd

        rows = [
            {"quantity": p, "value": v, "low": self.low[p], "high": self.high[p], "unit": self.units[p]}
            for p, v in self.values.items()
        ]
        return pd.DataFrame(rows)

    @property
    def remarks(self) -> list[str]:
        """What is to be known of it, a sentence each."""
        found = [
            f"{a} and {b} cannot be told apart (correlation {r:+.3f}): fix one, or excite them apart"
            for a, b, r in self.alike
        ]
        found += [f"nothing that was matched depends on {path}" for path in self.blind]
        found += [f"{path} lies on its bound: widen it" for path in self.at_bounds]
        if self.rough > ROUGH:
            found.append(
                f"what is left is no noise (autocorrelation {self.rough:.2f}): the model does not follow the log, and "
                "the intervals are too narrow; look at the residuals"
            )
        return found


def fit(
    scenario: Scenario | Sequence[Scenario],
    log: Log | Mapping[str, Any] | Sequence[Log | Mapping[str, Any]],
    bounds: Mapping[str, tuple[Quantity, Quantity]],
    match: Sequence[str | Match],
    *,
    lag: Quantity | None = None,
    starts: int = 12,
    seed: int = 0,
    exact: bool = True,
    progress: Progress | None = None,
) -> Fitted:
    """Fit quantities to one or several logs.

    Args:
        scenario: as the log was recorded; one for all logs, or one for each.
        log: a log, or tables by stream; or several.
        bounds: lower and upper value by path, such as ``{"ball.restitution": (0.1, 0.9)}``.
        match: the columns that are to be alike, ``stream.column``, or a ``Match``.
        lag: the most by which the log may be late, s: its lag is then estimated too. None: there is none.
        starts: points all over the bounds, from the best of which it begins.
        seed: of these points, and of the noise of trials that are not exact.
        exact: sensors measure without errors of their own, so that the log's noise is the only one.
        progress: called with trials done, trials expected, and the error at best.

    Raises:
        VeldrainError: no such quantity, stream or column, no samples in common, or bounds without room.

    >>> fit(scenario, open_log("drop.csv"), {"ball.restitution": (0.1, 0.9)}, ["ball/truth.z"]).table  # doctest: +SKIP
    """
    from scipy.optimize import least_squares
    from scipy.stats import qmc, t

    several = [log] if isinstance(log, Log | Mapping) else list(log)
    scenarios = [scenario] * len(several) if isinstance(scenario, Scenario) else list(scenario)
    if len(scenarios) != len(several) or not several:
        raise VeldrainError(
            f"{len(scenarios)} scenarios for {len(several)} logs", where="fit", cure="give one for each"
        )
    wanted = [m if isinstance(m, Match) else Match(m) for m in match]
    if not wanted or not bounds:
        raise VeldrainError("nothing to fit", where="fit", cure="give bounds by path, and columns to match")
    knobs = {path: knob_of(scenarios[0].knobs(), path, "fit") for path in bounds}
    lows, highs = (np.array([quantity(b[k], knobs[p].kind, f"fit: {p}") for p, b in bounds.items()]) for k in (0, 1))
    late = 0.0 if lag is None else quantity(lag, "time", "fit: lag")
    if late > 0:
        lows, highs = np.append(lows, 0.0), np.append(highs, late)
    if not (lows < highs).all():
        raise VeldrainError("no room to fit", where="fit", cure="give a lower and a higher value by path")
    sides = [_Side(s, one, wanted, f"log {k + 1}") for k, (s, one) in enumerate(zip(scenarios, several, strict=True))]
    paths, runs = list(bounds), 0

    def residuals(point: Array) -> Array:
        nonlocal runs
        values = lows + np.clip(point, 0, 1) * (highs - lows)
        told = dict(zip(paths, values.tolist(), strict=False))
        runs += len(sides)
        found = np.concatenate([side.residuals(told, values[-1] if late > 0 else 0.0, seed, exact) for side in sides])
        if progress:
            progress(runs, expected, f"error {math.sqrt(float(found @ found) / max(len(found), 1)):.3g}")
        return found

    expected = len(sides) * (starts + 8 * (len(lows) + 1))
    usual = [knobs[p].get() for p in paths]
    points = qmc.LatinHypercube(len(lows), rng=np.random.default_rng(randomness.child_seed(seed, "fit"))).random(
        max(starts, 1)
    )
    known = np.array([math.nan if v is None else v for v in usual] + ([0.0] if late > 0 else []))
    begun = np.clip((known - lows) / (highs - lows), 0.0, 1.0)
    if np.isfinite(begun).all():
        points = np.vstack([begun, points])
    costs = [float((r := residuals(p)) @ r) for p in points]
    order = np.argsort(costs)

    def solved(point: Array) -> Any:
        inside = np.clip(point, 0.002, 0.998)
        return least_squares(
            residuals, inside, bounds=(0.0, 1.0), diff_step=np.array([1e-3]), xtol=1e-8, ftol=1e-10, max_nfev=30
        )

    best = min((solved(points[k]) for k in order[:BEGUN]), key=lambda s: float(s.cost))
    # Bounces and stops make steps in the error, over which a simplex goes and a slope does not.
    size = 0.02
    steps = [best.x + size * row * (1 if x < 0.5 else -1) for row, x in zip(np.eye(len(lows)), best.x, strict=True)]
    minimize: Any = importlib.import_module("scipy.optimize").minimize  # its stubs know no simplex of one's own
    moved = minimize(
        lambda p: float((r := residuals(p)) @ r) * (1.0 + 1e3 * float(np.abs(p - np.clip(p, 0, 1)).sum())),
        best.x,
        method="Nelder-Mead",
        options={"initial_simplex": np.vstack([best.x, *steps]), "maxfev": 25 * len(lows), "xatol": 1e-5, "fatol": 0.0},
    )
    if float(moved.fun) < 0.98 * 2 * float(best.cost):
        best = min(best, solved(np.clip(moved.x, 0, 1)), key=lambda s: float(s.cost))
    rest, jacobian = best.fun, np.asarray(best.jac, float)
    free = max(len(rest) - len(lows), 1)
    size = np.linalg.norm(jacobian, axis=0)
    sees = size > BLIND * max(float(size.max(initial=0.0)), 1e-300)
    spread = np.full(len(lows), math.inf)
    if sees.any():
        inverse = np.linalg.pinv(jacobian[:, sees].T @ jacobian[:, sees])
        spread[sees] = np.sqrt(np.maximum(np.diag(inverse), 0.0) * float(rest @ rest) / free)
    reach = float(t.ppf(0.5 + LEVEL / 2, free)) * spread * (highs - lows)
    values = lows + best.x * (highs - lows)
    alike = []
    if sees.sum() > 1:
        deviations = np.sqrt(np.maximum(np.diag(inverse), 1e-300))
        together = inverse / np.outer(deviations, deviations)
        names = [p for p, s in zip([*paths, "lag"], sees, strict=False) if s]
        alike = [
            (names[i], names[j], float(together[i, j]))
            for i in range(len(names))
            for j in range(i + 1, len(names))
            if abs(together[i, j]) > ALIKE
        ]
    told = dict(zip(paths, values.tolist(), strict=False))
    shown = dict(zip(paths, known.tolist(), strict=False)) if np.isfinite(known).all() else told
    table, before, after = _compared(sides, shown, told, values[-1] if late > 0 else 0.0, seed, exact)
    return Fitted(
        told,
        {p: k.unit for p, k in knobs.items()},
        dict(zip(paths, (values - reach).tolist(), strict=False)),
        dict(zip(paths, (values + reach).tolist(), strict=False)),
        before,
        after,
        sides[0].units,
        float(values[-1]) if late > 0 else 0.0,
        alike,
        [p for p, s in zip(paths, sees, strict=False) if not s],
        [p for p, x in zip(paths, best.x, strict=False) if min(x, 1 - x) < 1e-6],
        _roughness(table),
        runs,
        table,
    )


def with_quantities(scenario: Scenario, values: Mapping[str, Quantity]) -> Scenario:
    """A copy of a scenario with other values of quantities, by path.

    Raises:
        VeldrainError: no such quantity, or a value of another kind.
    """
    other = copy.deepcopy(scenario)
    knobs = {knob.path: knob for knob in other.knobs()}
    for path, value in values.items():
        knob = knob_of(knobs.values(), path, "fit")
        knob.set(quantity(value, knob.kind, f"fit: {path}"))
    return other


class _Side:
    """A scenario and the log that it is to be like."""

    def __init__(self, scenario: Scenario, log: Log | Mapping[str, Any], match: Sequence[Match], title: str) -> None:
        self.scenario, self.match = scenario, list(match)
        self.units: dict[str, str] = {}  # of the columns, once they were simulated
        self.samples: list[tuple[Match, Array, Array, float]] = []  # column, times, values, scale
        for wanted in match:
            path = wanted.log or wanted.column
            with told_at(title):
                table, name = _column(log, path)
            times, values = table["time"].to_numpy(float), table[name].to_numpy(float)
            known = np.isfinite(values) & (times <= scenario.duration + 1e-9)
            if known.sum() < 2:
                raise VeldrainError(
                    "has no two samples within the scenario", where=f"{title}: {path}", cure="see its times"
                )
            scale = float(values[known].std()) or 1.0
            self.samples.append((wanted, times[known], values[known], wanted.weight / scale))

    def simulated(self, told: Mapping[str, float], seed: int, exact: bool) -> Kept | None:
        """The trial with these values; None where it was aborted."""
        scenario = with_quantities(self.scenario, told)
        # Names of columns have dots too: the stream is one of the parts before a dot.
        kept = Kept([m.column[:k] for m in self.match for k, letter in enumerate(m.column) if letter == "."])
        outcome = carried_out(Trial, scenario, seed, [kept.sink], exact=exact)
        return None if outcome["failed"] else kept

    def predicted(self, told: Mapping[str, float], late: float, seed: int, exact: bool) -> list[Array] | None:
        """The simulated columns at the times of the log; nan beyond their ends."""
        kept = self.simulated(told, seed, exact)
        if kept is None:
            return None
        found = []
        for wanted, times, _, _ in self.samples:
            table, name = _column(kept, wanted.column)
            self.units[wanted.column] = kept.unit(*kept.split(wanted.column))
            at, values = table["time"].to_numpy(float), table[name].to_numpy(float)
            found.append(np.interp(times - late, at, values, right=math.nan))
        return found

    def residuals(self, told: Mapping[str, float], late: float, seed: int, exact: bool) -> Array:
        """Simulated less logged, each column by its scale; a trial that ends early is as its last sample says."""
        predicted = self.predicted(told, late, seed, exact)
        if predicted is None:
            return np.full(sum(len(times) for _, times, _, _ in self.samples), BAD)
        rows = []
        for (_, _, values, scale), simulated in zip(self.samples, predicted, strict=True):
            rows.append(np.where(np.isfinite(simulated), (simulated - values) * scale, 0.0))
        return np.concatenate(rows)


def _column(log: Any, path: str) -> tuple[Any, str]:
    """A table and the name of its column."""
    if isinstance(log, Log):
        only = list(log.messages)
        if len(only) == 1 and not path.startswith(f"{only[0]}."):  # of a table its columns are enough
            path = f"{only[0]}.{path}"
        table, name, _ = log.column(path)
        return table, name
    stream = max((s for s in log if path.startswith(f"{s}.")), key=len, default="")
    name = path[len(stream) + 1 :]
    if not stream or name not in log[stream]:
        raise VeldrainError(f"no column '{path}'", where="fit", cure=f"Known: {', '.join(map(str, log))}")
    return log[stream], name


def _compared(
    sides: Sequence[_Side], before: Mapping[str, float], after: Mapping[str, float], late: float, seed: int, exact: bool
) -> tuple[pd.DataFrame, dict[str, float], dict[str, float]]:
    """Logged and simulated samples, a row each, and the root mean square of what is between them."""
    import pandas as pd

    parts = []
    for k, side in enumerate(sides):
        was, now = side.predicted(before, 0.0, seed, exact), side.predicted(after, late, seed, exact)
        for n, (wanted, times, values, _) in enumerate(side.samples):
            nothing = np.full(len(times), math.nan)
            columns = {"log": k + 1, "column": wanted.column, "time": times, "logged": values}
            columns |= {"before": was[n] if was else nothing, "after": now[n] if now else nothing}
            parts.append(pd.DataFrame(columns))
    table = pd.concat(parts, ignore_index=True)
    errors = [
        {
            str(c): float(np.sqrt(((own[word] - own["logged"]) ** 2).mean()))
            for c, own in table.groupby("column", sort=False)
        }
        for word in ("before", "after")
    ]
    return table, errors[0], errors[1]


def _roughness(table: pd.DataFrame) -> float:
    """The autocorrelation of what is left, from one sample to the next."""
    above, below = 0.0, 0.0
    for _, own in table.groupby(["log", "column"]):
        rest = (own["after"] - own["logged"]).dropna().to_numpy(float)
        rest = rest - rest.mean() if len(rest) else rest
        scale = float(rest @ rest)
        if scale > 0:
            above, below = above + float(rest[1:] @ rest[:-1]) / scale, below + 1.0
    return above / below if below else 0.0
