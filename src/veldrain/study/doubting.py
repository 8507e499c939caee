"""What a verdict hangs on: a sample of its pairs again at half the step, with other noise, and with defaults turned.

What nobody measured is what was left at its default: friction, damping, latency. Each kind of it is turned a fifth up
and down, all of that kind together; what is 0 by default is turned to a small value where there is one that makes
sense: of a joint's damping and friction, what takes 2 % of its motor's effort.
"""

from __future__ import annotations

import copy
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from veldrain.errors import VeldrainError
from veldrain.model.knobs import Knob
from veldrain.progress import Progress
from veldrain.scenario import Scenario
from veldrain.study.contracts import Results, Study
from veldrain.study.metrics import expectation_columns
from veldrain.study.runner import Workers
from veldrain.study.statistics import Comparison, compare
from veldrain.study.store import Store
from veldrain.study.trials import Done, TrialPlan

FIFTH = 0.2
TURNED = (
    "friction",
    "restitution",
    "rolling",
    "torsional",
    "damping",
    "stiffness",
    "latency",
    "noise",
    "bias",
    "density",
)

if TYPE_CHECKING:
    import pandas as pd
FROM_ZERO = {"restitution": 0.1}  # what is tried of what is 0 by default
OF_MOTOR = 0.02  # of a motor's effort, that its joint's friction takes, or its damping at 1 rad/s or 1 m/s
DANGER = {"turns": 0, "blurs": 1, "weakens": 2, "stands": 3, "no verdict": 4}


@dataclass(frozen=True)
class Doubt:
    """What became of a verdict where one thing was other.

    Attributes:
        what: was other.
        metric, controller: of which comparison; or ``expectation`` and its name, with how many trials came out
            otherwise.
        before, after: the difference on the sample of pairs, in the metric's unit; of an expectation trials that met
            it.
        verdict, then: the verdict on the sample before, and after.
        effect: ``turns`` (better became worse), ``blurs`` (no verdict any more), ``weakens`` (less than half of it is
            left), ``stands``, or ``no verdict`` (there was none on the sample).
    """

    what: str
    metric: str
    unit: str
    controller: str
    before: float
    after: float
    verdict: str
    then: str
    effect: str


def doubts_of(
    result: Results, pairs: int = 8, baseline: str | None = None, workers: int = 1, progress: Progress | None = None
) -> list[Doubt]:
    """See ``Result.doubts``."""
    study = result.study
    if study is None:
        raise VeldrainError(
            "the study is not at hand",
            where=str(result.folder),
            cure="give it: Result(folder, study); or: veldrain study FILE --doubt",
        )
    first = baseline or result.about["controllers"][0]
    numbers = [int(t) for t in dict.fromkeys(result.trials["trial"]) if t < result.about["trials"]][:pairs]
    variants = dict(variants_of(study))
    study = copy.copy(study)
    study.variants = variants
    plans = [
        TrialPlan(name, number, study.draw(number), {}, variant=what)
        for what in variants
        for number in numbers
        for name in study.controllers
    ]
    tables: dict[str, list[dict[str, Any]]] = {what: [] for what in variants}
    with Workers(study, workers) as crew:
        for k, done in enumerate(crew.run(plans)):
            tables[done.variant].append(_row(done))
            if progress:
                progress(k + 1, len(plans), done.variant)
    import pandas as pd

    before = result.trials[result.trials["trial"].isin(numbers)]
    found = [
        doubt for what, rows in tables.items() for doubt in _compared(what, before, pd.DataFrame(rows), result, first)
    ]
    found.sort(key=lambda d: (DANGER[d.effect], -_shift(d)))
    result.about["doubts"] = [vars(doubt) for doubt in found]
    with Store(result.folder, write=True) as store:
        store.note("doubts", result.about["doubts"])
    return found


def _shift(d: Doubt) -> float:
    size = max(abs(d.before), 1e-12)
    return abs(d.after - d.before) / size if math.isfinite(d.after - d.before) else math.inf


def _row(done: Done) -> dict[str, Any]:
    row = {"controller": done.key[0], "trial": done.key[1], "passed": done.row["passed"], "failed": done.row["failed"]}
    for name, told in done.row["expectations"].items():
        row[expectation_columns(name)[0]] = told.get("passed")
    return row | {name: value for name, (value, _) in done.measured.items()}


def _compared(what: str, before: pd.DataFrame, after: pd.DataFrame, result: Results, baseline: str) -> Iterator[Doubt]:
    """What became of each comparison, and of each expectation."""
    if before["controller"].nunique() > 1:
        pairs: list[Comparison] = [
            compare(table, result.metrics, baseline, result.matters, correct="none")
            for table in (before.drop(columns="end"), after)
        ]
        for was, now in zip(pairs[0].differences, pairs[1].differences, strict=True):
            yield Doubt(
                what, was.metric, was.unit, was.controller, was.difference, now.difference, was.verdict, now.verdict,
                _effect(was.verdict, now.verdict, was.difference, now.difference),
            )  # fmt: skip
    keys = ["controller", "trial"]
    for name in result.about.get("expectations", {}):
        column = expectation_columns(name)[0]
        both = before[[*keys, column]].merge(after[[*keys, column]], on=keys, suffixes=("", " now"))
        other = int((both[column] != both[f"{column} now"]).sum())
        met, meets = int(both[column].eq(True).sum()), int(both[f"{column} now"].eq(True).sum())
        effect = "turns" if other * 2 > len(both) else "blurs" if other else "stands"
        said = f"{other} of {len(both)} trials come out otherwise"
        then = said if other else f"met by {meets}"
        yield Doubt(what, name, "", "expectation", met, meets, f"met by {met}", then, effect)


def _effect(was: str, now: str, before: float, after: float) -> str:
    clear = ("better", "worse")
    if was not in clear and not was.startswith("equal"):
        return "no verdict"
    if now != was and now in clear:
        return "turns"
    if now != was:
        return "blurs"
    return "weakens" if was in clear and abs(after) < abs(before) / 2 else "stands"


def variants_of(study: Study) -> Iterator[tuple[str, Study]]:
    """Studies in which one thing is other, by what it is."""
    half = copy.copy(study)
    half.scenario = copy.copy(study.scenario)
    half.scenario.step = study.scenario.step / 2
    yield f"half the step ({half.scenario.step * 1e3:g} ms)", half
    luck = copy.copy(study)
    luck.noise = "other"
    yield "other noise", luck
    zeros = from_zero(study.scenario)
    known = left_at_default(study.scenario, {*study.units}, zeros)
    for (word, unit), paths in known.items():
        for factor in (1 - FIFTH, 1 + FIFTH):
            values = {path: value * factor for path, value in paths.items() if value}
            if factor > 1:
                values |= {path: zeros[path] for path, value in paths.items() if not value}
            if values:
                made = _with(study, values)
                if made is not None:
                    yield _said(word, unit, paths, values, factor), made


def _with(study: Study, values: dict[str, float]) -> Study | None:
    """The study with other quantities; None where they cannot be so."""
    other = copy.copy(study)
    other.scenario = copy.deepcopy(study.scenario)
    knobs = {knob.path: knob for knob in other.scenario.knobs()}
    try:
        for path, value in values.items():
            step = study.scenario.step
            knobs[path].set(round(value / step) * step if path.endswith(".latency") else value)
    except VeldrainError:
        return None  # beyond what it may be, such as a friction below 0
    return other


def _said(word: str, unit: str, paths: dict[str, float], values: dict[str, float], factor: float) -> str:
    now = sorted({f"{value:.3g}" for value in values.values()})
    which = next(iter(values)).rpartition(".")[0] if len(values) == 1 else f"{len(values)} things"
    amount = f"{now[0]} {unit}".rstrip() if len(now) == 1 else f"× {factor:g}"
    return f"{word} of {which} {amount} (left at its default)"


def from_zero(scenario: Scenario) -> dict[str, float]:
    """By path, what is tried of what is 0 by default."""
    found, values = {}, {knob.path: knob.get() for knob in scenario.knobs()}
    for path in values:
        thing, _, word = path.rpartition(".")
        limit = values.get(f"{thing}.motor.limit")
        if limit is not None and math.isfinite(limit) and word in ("friction", "damping"):
            found[path] = OF_MOTOR * limit
        elif word in FROM_ZERO:
            found[path] = FROM_ZERO[word]
    return found


def left_at_default(
    scenario: Scenario, but: set[str], zeros: Mapping[str, float]
) -> dict[tuple[str, str], dict[str, float]]:
    """What was left at its default, by word and unit: values by path; of what is 0, what has a value to try."""
    found: dict[tuple[str, str], dict[str, float]] = {}
    knobs: list[Knob] = [k for k in scenario.knobs() if k.is_default and k.path not in but]
    for knob in knobs:
        word, value = knob.path.rpartition(".")[2], knob.get()
        if word in TURNED and value is not None and math.isfinite(value) and (value or knob.path in zeros):
            found.setdefault((word, knob.unit), {})[knob.path] = value
    return found
