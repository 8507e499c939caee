"""What a study draws and compares: values that cannot be, starts in a wall, controllers that are the same."""

from __future__ import annotations

from collections.abc import Iterator

from veldrain.errors import VeldrainError
from veldrain.review.finding import Finding, mistake
from veldrain.review.look import Look
from veldrain.review.rules import RULES
from veldrain.scenario import Change
from veldrain.scenario.limits import OverLimitError, limited
from veldrain.scenario.trial import Trial
from veldrain.study import Study
from veldrain.study.looking import reads_in
from veldrain.study.sources import digest, plain
from veldrain.study.starts import at_the_ends, bad_starts
from veldrain.study.statistics import FEWEST

PATIENCE = 20.0  # s on the clock

STATEMENTS = {
    "overwritten": "What is drawn is not set to something else where the trial begins.",
    "few-trials": "A study has trials enough to tell a difference.",
    "same-controllers": "The controllers of a study differ.",
}


def compares_nothing(study: Study) -> Iterator[Finding]:
    """Controllers that are the same, and trials that are too few to tell a difference."""
    known: dict[str, str] = {}
    for name, by_robot in study.controllers.items():
        other = known.setdefault(digest([plain(by_robot), plain(study.changes.get(name))]), name)
        if other != name:
            text = f"is the same as '{other}', with the same arguments: nothing is compared"
            line = study.where.get(f"controller {name}", "")
            yield Finding("same-controllers", "warning", f"controller '{name}'", text, "give it another argument", line)
    for factor in study.factors:
        ends = factor.draw.ends(factor.kinds[0], factor.name)
        if ends and ends[0] == ends[-1]:
            path = factor.paths[0]
            text = f"is drawn from {ends[0]:g} to {ends[-1]:g} {study.units[path]}: always the same"
            line = study.where.get(path, "")
            yield Finding("idle-factor", "warning", f"vary {path}", text, "give it two values, or take it out", line)
    changes = [(e.trigger, e.action) for e in study.scenario.timeline if isinstance(e.action, Change)]
    now = {change.path: change for at, change in changes if at == 0.0}
    for path in study.units:
        if path in now:
            text = f"is drawn, and the timeline changes it to {now[path].to} at 0 s: no draw acts"
            yield Finding("overwritten", "warning", f"vary {path}", text, "take it out of the timeline, or of vary:")
    metrics: dict[str, str] = {}
    for metric in study.metrics:
        words = {word: value for word, value in vars(metric).items() if word != "name"}
        other = metrics.setdefault(digest([type(metric).__name__, plain(words)]), metric.name)
        if other != metric.name:
            text = f"is the same as '{other}' under another name: it counts twice"
            line = study.where.get(f"metric {metric.name}", "")
            yield Finding("same-metric", "warning", f"metric '{metric.name}'", text, "take one of them out", line)
    if len(study.controllers) > 1 and study.trials < FEWEST:
        text = f"are {study.trials}: with fewer than {FEWEST} pairs no test can tell a difference from chance"
        yield Finding("few-trials", "note", "trials", text, f"run {FEWEST} or more; 20 are a good start")


def what_is_drawn(study: Study) -> list[Finding]:
    """What is wrong with a study's metrics and draws."""
    by_robot, found = next(iter(study.controllers.values())), []
    try:
        with limited(PATIENCE):
            trial = Trial(study.scenario.driven_by(by_robot))
            for metric in study.metrics:
                try:
                    reads_in(metric, trial)
                except VeldrainError as error:
                    found.append(mistake("cannot-run", error, study.where.get(f"metric {metric.name}", "")))
            at_ends = list(_at_the_ends(study))
            found += at_ends or [mistake("cannot-run", error) for error in bad_starts(study)]
    except OverLimitError:
        found.append(
            Finding(
                "cannot-run",
                "note",
                "draws",
                f"not all were looked at within {PATIENCE:g} s",
                "look at the first trials yourself",
            )
        )
    return found


def _at_the_ends(study: Study) -> Iterator[Finding]:
    """What is wrong at the ends of what is drawn: values that cannot be, and those that are rarely meant."""
    scenario = study.scenario
    rules = [rule for rule in RULES.values() if rule.drawn]
    told = {(f.rule, f.path) for rule in rules for f in rule.apply(Look(scenario.world, scenario.step))}
    for path, value, drawn in at_the_ends(study):
        line, where = study.where.get(path, ""), f"vary {path}"
        if isinstance(drawn, VeldrainError):
            said = f"can be drawn as {value:.4g}: {drawn.where + ': ' if drawn.where else ''}{drawn.problem}"
            yield Finding("cannot-run", "error", where, said, drawn.cure or "narrow its range", line)
            continue
        look = Look(drawn.world, drawn.step)
        for found in (f for rule in rules for f in rule.apply(look)):
            if (found.rule, found.path) not in told:
                told.add((found.rule, found.path))
                said = f"can be drawn as {value:.4g}: {found.path}: {found.problem}"
                yield Finding(found.rule, found.severity, where, said, found.cure, line)
