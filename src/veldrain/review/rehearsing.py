"""What can only be seen by setting a trial up and taking its first steps: names, arguments, controllers, draws."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from functools import partial
from types import SimpleNamespace
from typing import Any

from veldrain.control import Fly, fresh
from veldrain.control.loading import each_of
from veldrain.errors import VeldrainError, told_at
from veldrain.model import World
from veldrain.review import following
from veldrain.review.drives import drive_fits
from veldrain.review.finding import Finding
from veldrain.review.look import Look
from veldrain.review.rules import RULES
from veldrain.review.slips import UNLIKELY
from veldrain.sampling import Samples
from veldrain.scenario import Change, Finish, Put, Remove, Scenario, Tell
from veldrain.scenario.changing import Changes
from veldrain.scenario.conditions import Compared, Condition, Watching
from veldrain.scenario.limits import OverLimitError, limited
from veldrain.scenario.trial import Trial
from veldrain.simulation import Simulation, engine_of
from veldrain.study import Study
from veldrain.study.metrics import look_at_metric
from veldrain.study.starts import at_the_ends, bad_starts
from veldrain.study.statistics import FEWEST
from veldrain.study.study import digest, plain

FIRST_TICKS = 5  # of each controller
LONGEST = 2.0  # s simulated at most
PATIENCE = 20.0  # s on the clock

# What the rules of this module say, as those of docs/check.md do.
STATEMENTS = {
    "cannot-measure": "A sensor can begin to measure: the joints, frames and things that it names are there.",
    "cannot-run": "A trial can begin: conditions, pushes, controllers, metrics and draws name what is there.",
    "controller-fails": "A controller gets through its first ticks.",
    "drive-does-not-fit": "A drive's sides, radius and track are those of the model's wheels.",
    "ends-at-once": "A trial does not end where it begins.",
    "few-trials": "A study has trials enough to tell a difference.",
    "inputs-untold": "What a controller can be told, somebody tells.",
    "cut-short": "What takes its time is done before the trial ends.",
    "never-fires": "A condition can hold: what it compares can change, and reach its bound.",
    "same-controllers": "The controllers of a study differ.",
    "taken-away": "What is expected of a thing is expected while it is there.",
} | following.STATEMENTS


class _Bench(Simulation):
    """A simulation whose sensors are begun one by one."""

    def _start_sensors(self) -> None:
        self._samples = {}


def sensors_that_cannot_begin(world: World, step: float) -> Iterator[Finding]:
    """A finding for each sensor that cannot begin."""
    try:
        bench = _Bench(world, step)
    except VeldrainError:
        return  # the world cannot be built, and other rules say so
    for robot, placed in world.placed.items():
        for mounted in placed.model.sensors.values():
            path = f"{robot}/{mounted.name}"
            try:
                with engine_of(bench).taps.aside():
                    Samples(bench, engine_of(bench), engine_of(bench).compiled.robots[robot], mounted)
            except VeldrainError as error:
                if "whole number of steps" in error.problem:
                    continue  # a rule of its own says so
                line = placed.model.line_of(path)
                yield Finding("cannot-measure", "error", path, error.problem, error.cure or "mend it", line)


def what_cannot_run(thing: Scenario | Study) -> Iterator[Finding]:
    """A finding for each mistake that a trial would end with before or in its first moments."""
    scenario = thing.scenario if isinstance(thing, Study) else thing
    try:
        sim = Simulation(
            scenario.world, scenario.step, seed=0, integrator=scenario.integrator, watches=_watches(scenario)
        )
    except VeldrainError as error:
        yield _mistake("cannot-run", error)
        return
    look = Watching(sim)
    stage: Any = SimpleNamespace(
        simulation=sim, finish=lambda reason: None, undo_after=lambda *_: None, changes=Changes(sim)
    )
    driven = tuple(f"{robot}/" for robot in scenario.controllers)
    acts: list[tuple[str, Callable[[], Any]]] = []  # each with its place
    for entry in scenario.timeline:
        action = entry.action
        if isinstance(entry.trigger, Condition):
            acts.append((entry.where or str(action), partial(entry.trigger.bind, look)))
        if not action.needs_controllers and not (isinstance(action, Change) and action.path.startswith(driven)):
            acts.append((entry.where, partial(action.bind, stage)))
    acts += [(e.name, partial(e.condition.bind, look)) for e in scenario.expectations.values()]
    failed = False
    for place, act in acts:
        try:
            with told_at(place):
                act()
        except VeldrainError as error:
            failed = True
            yield _mistake("cannot-run", error)
    if not failed:
        yield from _never_fires(scenario, sim, look)
        yield from _cut_short(scenario)
        yield from _taken_away(scenario)
    drivers = thing.controllers if isinstance(thing, Study) else {"": scenario.controllers}
    for name, by_robot in drivers.items():
        who = f"controller '{name}'" if name else "controller"
        mine = thing.drawn({}, name) if isinstance(thing, Study) else scenario
        for found in _controller(mine, by_robot, who, failed):
            failed = failed or found.severity == "error"
            yield found
    if isinstance(thing, Study) and not failed:
        yield from _compares_nothing(thing)
        yield from _of_study(thing)


def _never_fires(scenario: Scenario, sim: Simulation, look: Watching) -> Iterator[Finding]:
    """Conditions that nothing can meet; and those on what never moves, that do not hold at the start."""
    engine = engine_of(sim)
    for expected in scenario.expectations.values():
        why = expected.condition.impossible(scenario.duration)
        if why:
            yield Finding("never-fires", "warning", expected.name, f"its condition never holds: {why}", "see its bound")
    for entry in scenario.timeline:
        condition = entry.trigger
        why = condition.impossible(scenario.duration) if isinstance(condition, Condition) else ""
        if why:
            text = f"waits for a condition that never holds: {why}"
            yield Finding("never-fires", "warning", str(entry.action), text, "see its bound", entry.where)
            continue
        if isinstance(entry.action, Finish) and isinstance(condition, Condition) and condition.bind(look)():
            text = "ends the trial on a condition that holds at the start"
            yield Finding("ends-at-once", "warning", str(entry.action), text, "see its bound", entry.where)
            continue
        measure = condition.measure if isinstance(condition, Compared) else None
        names = [vars(measure)[word] for word in ("a", "b") if word in vars(measure)] if measure is not None else []
        fixed = [name for name in names if engine.is_fixed(name)]
        if names and len(fixed) == len(names) and isinstance(condition, Compared) and not condition.bind(look)():
            yield Finding(
                "never-fires",
                "warning",
                str(entry.action),
                f"waits for a condition on {' and '.join(fixed)}, which never moves: it does not hold, and never will",
                "name what moves",
                entry.where,
            )


def _cut_short(scenario: Scenario) -> Iterator[Finding]:
    """Actions at a time that are not done when the trial ends."""
    for entry in scenario.timeline:
        done = entry.trigger + entry.action.takes() if isinstance(entry.trigger, float) else 0.0
        if done > scenario.duration + 1e-9:
            yield Finding(
                "cut-short",
                "warning",
                str(entry.action),
                f"takes until {done:g} s, and the trial ends at {scenario.duration:g} s",
                "begin it earlier, let it take less, or give the scenario a longer duration",
                entry.where,
            )


def _taken_away(scenario: Scenario) -> Iterator[Finding]:
    """Expectations that go on over what the timeline takes away."""
    gone = {e.action.thing: e for e in scenario.timeline if isinstance(e.action, Remove)}
    back = {e.action.thing for e in scenario.timeline if isinstance(e.action, Put)}
    for expected in scenario.expectations.values():
        told = repr(expected.condition)
        for thing, entry in gone.items():
            if f"'{thing}" in told and thing not in back and expected.until is None:
                yield Finding(
                    "taken-away",
                    "warning",
                    expected.name,
                    f"is expected of {thing}, which is taken away: from then on it waits far below",
                    f"give it an end: until: {entry.names[0]}",
                    entry.where,
                )


def _watches(scenario: Scenario) -> list[tuple[str, str]]:
    """Pairs to watch, those left out that name what is not there: they are told one by one."""
    found = []
    for condition in scenario.conditions():
        with suppress(VeldrainError):
            engine = Simulation(scenario.world, scenario.step, watches=sorted(condition.watches())).watches
            found += list(engine)
    return found


def _controller(scenario: Scenario, by_robot: Mapping[str, Any], who: str, failed: bool) -> Iterator[Finding]:
    try:
        with limited(PATIENCE):
            for title, controller in each_of(by_robot):
                fresh(controller, f"{who} of {title}")
            if failed:
                return  # what is wrong with the scenario is told: no trial can begin
            trial = Trial(scenario.driven_by(by_robot))
            for driver in trial.drivers:
                yield from drive_fits(driver)
                yield from following.what_does_not_follow(trial, driver)
            ticks = max((FIRST_TICKS * d.period for d in trial.drivers), default=0)
            slow = max((s.first + s.period for s in trial.simulation.streams.values()), default=0)
            trial.end = min(trial.end, ticks + slow, max(ticks, round(LONGEST / scenario.step)))
            outcome = trial.run()
    except VeldrainError as error:
        yield _mistake("cannot-run", error)
        return
    except OverLimitError:
        yield Finding(
            "controller-fails",
            "warning",
            who,
            f"is not through its first ticks after {PATIENCE:g} s",
            "see what it waits for; a trial can be given a limit",
        )
        return
    if outcome["failed"]:
        yield Finding("controller-fails", "error", who, outcome["reason"], "see the names and values it uses")
    told = {e.action.controller.partition("/")[0] for e in scenario.timeline if isinstance(e.action, Tell)}
    for driver in trial.drivers:
        flies = isinstance(driver.controller, Fly)  # it has waypoints, or holds where it is
        if driver.inputs.kinds and driver.inputs.told is None and driver.robot not in told and not flies:
            names = ", ".join(driver.inputs.kinds)
            yield Finding(
                "inputs-untold",
                "note",
                driver.title,
                f"nobody tells it anything ({names}): all stay 0",
                f"tell it: at: 1 s, tell: {{controller: {driver.robot}, inputs: {{…}}}}",
            )


def _compares_nothing(study: Study) -> Iterator[Finding]:
    """Controllers that are the same, and trials that are too few to tell a difference."""
    known: dict[str, str] = {}
    for name, by_robot in study.controllers.items():
        other = known.setdefault(digest([plain(by_robot), plain(study.changes.get(name))]), name)
        if other != name:
            text = f"is the same as '{other}', with the same arguments: nothing is compared"
            line = study.where.get(f"controller {name}", "")
            yield Finding("same-controllers", "warning", f"controller '{name}'", text, "give it another argument", line)
    if len(study.controllers) > 1 and study.trials < FEWEST:
        text = f"are {study.trials}: with fewer than {FEWEST} pairs no test can tell a difference from chance"
        yield Finding("few-trials", "note", "trials", text, f"run {FEWEST} or more; 20 are a good start")


def _of_study(study: Study) -> list[Finding]:
    by_robot, found = next(iter(study.controllers.values())), []
    try:
        with limited(PATIENCE):
            trial = Trial(study.scenario.driven_by(by_robot))
            for metric in study.metrics:
                try:
                    look_at_metric(metric, trial)
                except VeldrainError as error:
                    found.append(_mistake("cannot-run", error, study.where.get(f"metric {metric.name}", "")))
            at_ends = list(_at_the_ends(study))
            found += at_ends or [_mistake("cannot-run", mistake) for mistake in bad_starts(study)]
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
    told = {(f.rule, f.path) for name in UNLIKELY for f in RULES[name].apply(Look(scenario.world, scenario.step))}
    for path, value, drawn in at_the_ends(study):
        line, where = study.where.get(path, ""), f"vary {path}"
        if isinstance(drawn, VeldrainError):
            said = f"can be drawn as {value:.4g}: {drawn.where + ': ' if drawn.where else ''}{drawn.problem}"
            yield Finding("cannot-run", "error", where, said, drawn.cure or "narrow its range", line)
            continue
        look = Look(drawn.world, drawn.step)
        for found in (f for name in UNLIKELY for f in RULES[name].apply(look)):
            if (found.rule, found.path) not in told:
                told.add((found.rule, found.path))
                said = f"can be drawn as {value:.4g}: {found.path}: {found.problem}"
                yield Finding(found.rule, found.severity, where, said, found.cure, line)


def _mistake(rule: str, error: VeldrainError, line: str = "") -> Finding:
    place, _, rest = error.where.partition(": ")
    is_file = ".yaml:" in place or ".yml:" in place
    return Finding(
        rule,
        "error",
        rest if is_file else error.where,
        error.problem,
        error.cure or "mend it",
        line or (place if is_file else ""),
    )
