"""What a few whole trials tell before a study is run: factors that do nothing, metrics that never differ."""

from __future__ import annotations

import copy
import math
import time
from collections.abc import Iterator
from itertools import product

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.kernel import Compiling
from veldrain.review.finding import Finding
from veldrain.scenario.trial import Trial
from veldrain.study import Study
from veldrain.study.metrics import smallest_of, unit_of_metric
from veldrain.study.ranks import LEVEL
from veldrain.study.starts import at_the_ends
from veldrain.study.statistics import FEWEST
from veldrain.study.trials import Done, TrialPlan

PATIENCE = 8.0  # s of work, for all of it
ROUNDING = 1e-12  # what differs by less, and by a share that is less, does not differ
SHORT = 2.0  # s of a trial that is cut short
PAIRS = 3  # trials beside the first, by which the spread of a metric is guessed

STATEMENTS = {
    "idle-factor": "What is drawn makes a difference to a trial.",
    "same-metric": "A metric can differ between trials.",
    "too-few-trials": "The trials of a study are enough to tell what matters.",
}


def what_makes_no_difference(study: Study) -> Iterator[Finding]:
    """Trials at the ends of each factor, cut short where that shows a difference, and some pairs; all by patience."""
    begun, study = _worked(), copy.copy(study)
    study.limit = min(study.limit or PATIENCE, PATIENCE)
    study.rehearse()
    names = list(study.controllers)
    first = [_run(study, name, 0, study.draw(0)) for name in names]
    each = (_worked() - begun) / len(names)
    if any(done.row["failed"] for done in first):
        return  # a rule of its own says so
    tried: list[Done] = []
    untried: list[str] = []
    for path, values in _idle_at_first(study, names[0]).items():
        is_idle = True
        for drawn, (k, name) in product(values, enumerate(names)):
            if not is_idle:
                break
            if is_idle := _worked() - begun + each < PATIENCE:
                ended = _run(study, name, 0, drawn)
                tried.append(ended)
                is_idle = _is_same(first[k], ended)
            else:
                untried.append(path)
        if is_idle:
            text = "is drawn, and makes no difference to a trial, to the last bit, from one end of it to the other"
            cure = "take it out, or see that something touches, weighs or measures what it is of"
            yield Finding("idle-factor", "warning", f"vary {path}", text, cure, study.where.get(path, ""))
    if untried:
        text = f"whether {', '.join(untried)} makes a difference was not tried: a trial takes {each:.1f} s"
        yield Finding("not-looked-at", "note", "vary", text, "see it in the first trials, or shorten the scenario")
    left = int((PATIENCE - (_worked() - begun)) / max(each * len(names), 1e-9))
    pairs = [
        [_run(study, n, k, study.draw(k)) for n in names] for k in range(1, 1 + min(PAIRS, study.trials - 1, left))
    ]
    if not pairs or any(done.row["failed"] for row in pairs for done in row):
        return
    pairs.insert(0, first)
    for k, name in enumerate(names):
        other = next((n for n in range(k) if all(_is_same(row[n], row[k]) for row in pairs)), None)
        if other is not None:
            text = f"does the same as '{names[other]}' in each of {len(pairs)} trials that were tried, to the last bit"
            cure = "see whether what differs between them acts here"
            line = study.where.get(f"controller {name}", "")
            yield Finding("same-controllers", "warning", f"controller '{name}'", text, cure, line)
    tried += [done for row in pairs for done in row]
    for metric in study.metrics:
        seen = np.array([done.measured[metric.name][0] for done in tried])
        line = study.where.get(f"metric {metric.name}", "")
        alike = np.isfinite(seen).all() and np.ptp(seen) <= ROUNDING + ROUNDING * np.abs(seen).max()
        if len(seen) > 1 and (np.isnan(seen).all() or (seen == seen[0]).all() or alike):
            shown, where = (
                "has no value" if np.isnan(seen).all() else f"is {np.round(seen[0], 12) + 0.0:.4g}",
                f"metric '{metric.name}'",
            )
            text = f"{shown} in each of {len(seen)} trials that were tried, with every controller"
            yield Finding("same-metric", "warning", where, text, "see its stream and statistic", line)
    if len(names) > 1 and len(pairs) > PAIRS:
        yield from _too_few(study, names, pairs)


def _idle_at_first(study: Study, name: str) -> dict[str, list[dict[str, float]]]:
    """Factors that move nothing otherwise in the first moments of a trial, with the values of trial 0 at their ends."""
    values: dict[str, list[dict[str, float]]] = {}
    for path, value, scenario in at_the_ends(study):
        if not isinstance(scenario, Exception):
            values.setdefault(path, []).append(study.draw(0) | {path: value})
    usual = _soon(study, name, study.draw(0))
    return {path: drawn for path, drawn in values.items() if _soon(study, name, drawn[-1]) == usual}


def _soon(study: Study, name: str, values: dict[str, float]) -> str:
    """A digest of where all that moves is soon after the start; what stopped the trial, where something did."""
    trial = Trial(study.drawn(values, name), study.seed_of(0))
    try:
        trial.advance(round(SHORT / trial.simulation.step) * trial.simulation.step)
        return trial.simulation.digest()
    except VeldrainError as error:
        return str(error)
    finally:
        trial.close()


def _worked() -> float:
    """Seconds that this process has worked, compiling left out: the same on a machine that others keep busy."""
    return time.process_time() - Compiling.seconds


def _too_few(study: Study, names: list[str], pairs: list[list[Done]]) -> Iterator[Finding]:
    """Metrics whose interval will be wider than what matters, as far as some pairs tell."""
    from scipy.stats import t

    for metric in study.metrics:
        unit = unit_of_metric(metric, study.reads_in.get(metric.name, ""))
        matters = smallest_of(getattr(metric, "matters", 0.0), unit, metric.name)
        values = np.array([[done.measured[metric.name][0] for done in row] for row in pairs])
        if not matters or study.trials < FEWEST or not np.isfinite(values).all():
            continue
        spread = float((values[:, 1:] - values[:, :1]).std(axis=0, ddof=1).max())
        reach = float(t.ppf(0.5 + LEVEL / 2, study.trials - 1)) * spread / math.sqrt(study.trials)
        if reach > matters:
            needed = math.ceil(study.trials * (reach / matters) ** 2)
            text = (
                f"differs by ± {spread:.3g} {unit} from pair to pair: {study.trials} trials will tell it to "
                f"± {reach:.3g} {unit}, and {matters:g} matters"
            )
            line = study.where.get(f"metric {metric.name}", "")
            yield Finding("too-few-trials", "note", f"metric '{metric.name}'", text, f"run some {needed}", line)


def _run(study: Study, name: str, number: int, values: dict[str, float]) -> Done:
    return TrialPlan(name, number, values, {}).run(study)


def _is_same(a: Done, b: Done) -> bool:
    """True for trials that went alike to the last bit, and were measured so."""
    values = [(x, b.measured[name][0]) for name, (x, _) in a.measured.items()]
    return a.row["end"] == b.row["end"] and all(x == y or (math.isnan(x) and math.isnan(y)) for x, y in values)
