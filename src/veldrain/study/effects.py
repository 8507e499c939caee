"""Which varied quantity matters for a metric: regression on ranks, with intervals and a correction for their number.

R. L. Iman, W. J. Conover, "The use of the rank transform in regression", Technometrics 21(4), 1979.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from veldrain.pose import Array
from veldrain.study.ranks import LEVEL, holm
from veldrain.study.statistics import copies_of, differences_of
from veldrain.units import names_of

if TYPE_CHECKING:
    import pandas as pd

MOST_FACTORS = 12  # of which all pairs are looked at


@dataclass(frozen=True)
class Effect:
    """What a varied quantity, or two of them together, do to a metric.

    Attributes:
        metric: its name, or ``passed``.
        controller: whose trials; ``b − a`` for the difference of two.
        quantity: the path, of names with one and that in whose place it is (``swap``); or two with ``×`` between:
            more, or less, of one where there is more of the other.
        strength: −1 to 1: standardised coefficient of the ranks, all else being the same; low and high its 95 %
            interval.
        swing: by how much the metric rises as the quantity goes from its 10 % to its 90 % point, by a straight line,
            in the metric's unit; nan for two together, and where the metric is not finite.
        p: that chance alone makes it, corrected for the number of effects (Holm).
    """

    metric: str
    unit: str
    controller: str
    quantity: str
    strength: float
    low: float
    high: float
    swing: float
    swing_low: float
    swing_high: float
    p: float
    swap: tuple[str, str, str] | None = None  # path, the name, and that in whose place it is

    @property
    def is_clear(self) -> bool:
        """True where chance would hardly make it."""
        return self.p < 1 - LEVEL


def effects_of(
    trials: pd.DataFrame, metrics: Sequence[tuple[str, str]], vary: Mapping[str, str], baseline: str
) -> list[Effect]:
    """Effects of all varied quantities, and of two together, on all metrics and passes; the clearest first."""
    trials = trials[~trials["trial"].isin(copies_of(trials, [name for name, _ in metrics]))]
    columns_of, swaps = _drawn_columns(trials, vary)
    names = [str(column) for column in columns_of]
    found: list[Effect] = []
    for metric, unit in [*metrics, ("passed", "")]:
        table = trials.assign(
            value=trials[metric].astype(float).mask(trials["failed"].astype(bool) & (metric != "passed"))
        )
        wide = table.pivot(index="trial", columns="controller", values="value")
        drawn = columns_of.loc[wide.index].to_numpy(float)
        columns = {str(c): wide[c].to_numpy(float) for c in dict.fromkeys(trials["controller"])}
        for other in [c for c in columns if c != baseline]:
            columns[f"{other} − {baseline}"] = differences_of(columns[baseline], columns[other])
        for who, values in columns.items():
            found += _of_one(metric, unit, who, values, drawn, names)
    alone = [e for e in found if "×" not in e.quantity]
    together = [e for e in found if "×" in e.quantity]
    corrected = [
        replace(e, p=p, swap=swaps.get(e.quantity))
        for group in (alone, together)
        for e, p in zip(group, holm([e.p for e in group]), strict=True)
    ]
    return sorted(corrected, key=lambda e: (e.p, -abs(e.strength)))


def _drawn_columns(
    trials: pd.DataFrame, vary: Mapping[str, str]
) -> tuple[pd.DataFrame, dict[str, tuple[str, str, str]]]:
    """What is varied, a row a trial; of names a column for each but the first, 1 where a trial has it, and which."""
    import pandas as pd

    rows = trials.drop_duplicates("trial").set_index("trial")
    found, swaps = {}, {}
    for path, unit in vary.items():
        if names_of(unit):
            first, *others = [name for name in names_of(unit) if (rows[path] == name).any()]
            for name in others:
                swaps[column := f"{path}: {name} for {first}"] = path, name, first
                found[column] = (rows[path] == name).astype(float)
        elif rows[path].nunique() > 1:
            found[path] = rows[path]
    return pd.DataFrame(found, index=rows.index), swaps


def _of_one(metric: str, unit: str, who: str, values: Array, drawn: Array, names: list[str]) -> list[Effect]:
    from scipy.stats import rankdata

    known = ~np.isnan(values)
    y, x = values[known], drawn[known]
    n = len(y)
    if n < len(names) + 4 or not names or len(np.unique(y)) < 2:
        return []
    ranks = _standard(np.column_stack([rankdata(column) for column in x.T]))
    target = _standard(rankdata(y)[:, None])[:, 0]
    fits = _regress(ranks, target)
    is_number = bool(np.isfinite(y).all()) and metric != "passed"
    spans = np.subtract(*np.quantile(x, [0.9, 0.1], axis=0))
    lines = _regress(x / np.where(spans > 0, spans, 1.0), y) if is_number else [(math.nan,) * 4] * len(names)
    found = [
        Effect(metric, unit, who, name, *fit[:3], *line[:3], fit[3])
        for name, fit, line in zip(names, fits, lines, strict=True)
    ]
    if len(names) <= MOST_FACTORS:
        for a, b in itertools.combinations(range(len(names)), 2):
            if not (x[:, a] * x[:, b]).any():  # two names of one thing
                continue
            product = _standard((ranks[:, a] * ranks[:, b])[:, None])
            strength, low, high, p = _regress(np.column_stack([ranks, product]), target)[-1]
            title, none = f"{names[a]} × {names[b]}", math.nan
            found.append(Effect(metric, unit, who, title, strength, low, high, none, none, none, p))
    return [e for e in found if not math.isnan(e.p)]


def _standard(columns: Array) -> Array:
    spread = columns.std(axis=0)
    found: Array = (columns - columns.mean(axis=0)) / np.where(spread > 0, spread, 1.0)
    return found


def _regress(x: Array, y: Array) -> list[tuple[float, float, float, float]]:
    """Coefficient, its interval and p for each column, by least squares with a constant."""
    from scipy.stats import t

    design = np.column_stack([np.ones(len(y)), x])
    solution, *_ = np.linalg.lstsq(design, y, rcond=None)
    rest = y - design @ solution
    free = len(y) - design.shape[1]
    inverse = np.linalg.pinv(design.T @ design)
    if free < 1:
        return [(math.nan,) * 4] * x.shape[1]
    spread = np.sqrt(np.maximum(np.diag(inverse), 0.0) * float(rest @ rest) / free)
    reach = float(t.ppf(0.5 + LEVEL / 2, free)) * spread
    found = []
    for k in range(1, design.shape[1]):
        value, half = float(solution[k]), float(reach[k])
        p = 2 * float(t.sf(abs(value) / spread[k], free)) if spread[k] > 0 else (0.0 if value else math.nan)
        found.append((value, value - half, value + half, p))
    return found
