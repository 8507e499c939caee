"""Two folders of one study compared: last week's code and today's, the same rows paired."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.study.result import Result
from veldrain.study.statistics import Comparison, Difference, PassRate, compare
from veldrain.units import in_unit

if TYPE_CHECKING:
    import pandas as pd

_RULE = re.compile(r"(?P<what>.+?) worse(?: by (?P<much>.+))?")


@dataclass(frozen=True)
class ResultComparison:
    """What became of a study's controllers from one folder to another.

    Attributes:
        a, b: the folders, the earlier first.
        differences: b − a by metric and controller, as in ``Comparison``.
        before, passes: how many trials each controller passed in a, and in b.
        changed: controllers whose code, arguments or data are other in b.
        notes: what is to be known: rows that have no partner, metrics that only one of them has.
    """

    a: Path
    b: Path
    differences: list[Difference]
    before: list[PassRate]
    passes: list[PassRate]
    changed: list[str]
    notes: list[str]

    @property
    def table(self) -> pd.DataFrame:
        """The differences, a row each."""
        import pandas as pd

        return pd.DataFrame([vars(d) for d in self.differences])

    def __str__(self) -> str:
        return str(Comparison("a", self.differences, self.passes))

    def fails(self, rule: str) -> tuple[list[str], list[str]]:
        """What breaks a rule such as ``offset worse by 1 cm`` or ``passes worse``, and what may break it but cannot
        be told.

        A metric breaks it where its difference is that much for the worse, and its interval leaves zero out; passes
        where more trials were lost than won by that share.

        Raises:
            VeldrainError: no such rule or metric.

        >>> compare_results("last-week", "today").fails("offset worse by 1 cm")  # doctest: +SKIP
        ([], [])
        """
        told = _RULE.fullmatch(rule.strip())
        if not told:
            raise VeldrainError(f"'{rule}' is no rule", where="--fail-if", cure="write such as 'offset worse by 1 cm'")
        what, much = told["what"], told["much"]
        broken, open_ = list[str](), list[str]()
        if what == "passes":
            share = in_unit(much, "", "--fail-if") if much else 0.0
            for rate in self.passes:
                if -rate.difference > share:
                    broken.append(f"{rate.controller} loses {len(rate.lost)} trials and wins {len(rate.won)}")
            return broken, open_
        mine = [d for d in self.differences if d.metric == what]
        if not mine:
            raise unknown("metric", what, ["passes", *(d.metric for d in self.differences)], "--fail-if")
        for d in mine:
            least = in_unit(much, d.unit, "--fail-if") if much else 0.0
            sign = 1.0 if d.better == "lower" else -1.0
            worse, low, high = sign * d.difference, *sorted((sign * d.low, sign * d.high))
            said = f"{d.metric} of {d.controller} by {worse:.3g} {d.unit}".rstrip() + f" ({low:.3g} to {high:.3g})"
            if d.lost_other > d.lost_baseline:
                broken.append(f"{d.metric} of {d.controller} has no value in {d.lost_other} trials that it had one in")
            elif worse > least and (low > 0 or np.isnan(low)):
                broken.append(f"worse: {said}")
            elif high > least or np.isnan(high):
                open_.append(f"not ruled out: {said}")
        return broken, open_


def compare_results(a: str | Path, b: str | Path) -> ResultComparison:
    """Compare two folders of one study, trial by trial.

    Args:
        a, b: folders, the earlier first. Trials of one number have to have met the same draws.

    Raises:
        VeldrainError: they have nothing in common, or their draws differ.

    >>> compare_results("out/last-week", "out/today").table  # doctest: +SKIP
    """
    one, other = Result(a), Result(b)
    mine, theirs = one.trials, other.trials
    common = [c for c in one.about["controllers"] if c in other.about["controllers"]]
    metrics = [m for m in one.metrics if m in other.metrics]
    notes = [
        f"'{name}' is in one of them alone, or is measured otherwise"
        for name in dict.fromkeys(n for n, *_ in (*one.metrics, *other.metrics))
        if name not in [n for n, *_ in metrics]
    ]
    differences, before, passes = list[Difference](), list[PassRate](), list[PassRate]()
    for name in common:
        x, y = (t[t["controller"] == name] for t in (mine, theirs))
        both = sorted(set(x["trial"]) & set(y["trial"]))
        if not both:
            continue
        x, y = (t[t["trial"].isin(both)] for t in (x, y))
        _see_that_draws_are_one(x, y, one, other, name)
        gone = len(set(mine[mine["controller"] == name]["trial"]) ^ set(theirs[theirs["controller"] == name]["trial"]))
        if gone:
            notes.append(f"{gone} trials of '{name}' are in one of them alone")
        table = _stacked(x.assign(controller="a"), y.assign(controller="b"))
        found = compare(table, metrics, "a", other.matters)
        differences += [replace(d, controller=name) for d in found.differences]
        before.append(replace(found.passes[0], controller=name))
        passes.append(replace(found.passes[1], controller=name))
    if not passes:
        raise VeldrainError(f"{a} and {b} have no trial in common", where="compare", cure="name two runs of one study")
    notes += [f"{path}: {text}" for path, r in ((a, one), (b, other)) for text in r.caveats]
    changed = [c for c in common if one.about["sources"].get(c) != other.about["sources"].get(c)]
    for word in ("version", "world", "scenario"):
        if one.about["fingerprints"].get(word) != other.about["fingerprints"].get(word):
            notes.append(f"the {word} differs between them")
    return ResultComparison(Path(a), Path(b), differences, before, passes, changed, notes)


def _stacked(x: pd.DataFrame, y: pd.DataFrame) -> pd.DataFrame:
    import pandas as pd

    return pd.concat([x.drop(columns="end"), y.drop(columns="end")], ignore_index=True)


def _see_that_draws_are_one(x: pd.DataFrame, y: pd.DataFrame, one: Result, other: Result, name: str) -> None:
    """Trials of one number are a pair only where they met the same."""
    if set(one.about["vary"]) != set(other.about["vary"]):
        odd = sorted(set(one.about["vary"]) ^ set(other.about["vary"]))
        raise VeldrainError(
            f"{odd[0]} is varied in one of them alone", where="compare", cure="compare two runs of one study"
        )
    for column in ["seed", *one.about["vary"]]:
        differs = x[column].to_numpy() != y[column].to_numpy()
        if differs.any():
            trial = int(x["trial"].to_numpy()[differs][0])
            raise VeldrainError(
                f"trial {trial} of '{name}' drew another {column}: they are no pairs",
                where="compare",
                cure="run both with the same seed and draws",
            )
