"""What can only be seen by setting a trial up and taking its first steps: names, arguments, controllers, draws."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from functools import partial
from types import SimpleNamespace
from typing import Any

from veldrain.control import Fly, fresh
from veldrain.control.loading import each_of
from veldrain.errors import CodeRefusedError, VeldrainError, told_at
from veldrain.model import World
from veldrain.progress import Progress
from veldrain.review import costs, following, rolling_out, studies, timeline, timing, trying
from veldrain.review.drives import drive_fits
from veldrain.review.finding import Finding, mistake
from veldrain.review.rolling_out import moves_as_told
from veldrain.review.studies import PATIENCE
from veldrain.sampling import Samples
from veldrain.scenario import Change, Scenario, Tell
from veldrain.scenario.changing import Changes
from veldrain.scenario.conditions import Condition, Watching
from veldrain.scenario.limits import OverLimitError, limited
from veldrain.scenario.trial import Trial
from veldrain.simulation import Simulation, engine_of
from veldrain.study import Study

FIRST_TICKS = 5  # of each controller
LONGEST = 2.0  # s simulated at most
WHOLE, SECONDS = 10_000, 5.0  # steps of a trial that is run to its end where nothing looks around, and its time

# What the rules of this module say, as those of docs/check.md do.
STATEMENTS = (
    {
        "cannot-measure": "A sensor can begin to measure: the joints, frames and things that it names are there.",
        "cannot-run": "A trial can begin: conditions, pushes, controllers, metrics and draws name what is there.",
        "controller-fails": "A controller gets through its first ticks.",
        "drive-does-not-fit": "A drive's sides, radius and track are those of the model's wheels.",
        "inputs-untold": "What a controller can be told, somebody tells.",
    }
    | following.STATEMENTS
    | timeline.STATEMENTS
    | studies.STATEMENTS
    | trying.STATEMENTS
    | rolling_out.STATEMENTS
    | timing.STATEMENTS
    | costs.STATEMENTS
)


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


def what_cannot_run(thing: Scenario | Study, tell: Progress) -> Iterator[Finding]:
    """A finding for each mistake that a trial would end with before or in its first moments."""
    scenario = thing.scenario if isinstance(thing, Study) else thing
    try:
        sim = Simulation(
            scenario.world, scenario.step, seed=0, integrator=scenario.integrator, watches=_watches(scenario)
        )
    except VeldrainError as error:
        yield mistake("cannot-run", error)
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
    failed = unseen = False
    for place, act in acts:
        try:
            with told_at(place):
                act()
        except VeldrainError as error:
            failed = True
            yield mistake("cannot-run", error)
    if not failed:
        yield from timeline.never_fires(scenario, look)
        yield from timeline.cut_short(scenario)
        yield from timeline.does_nothing(scenario, thing.units if isinstance(thing, Study) else ())
        yield from timeline.never_released(scenario, look)
        yield from timeline.taken_away(scenario)
        yield from timeline.never_attached(scenario)
        yield from timeline.never_sets_off(scenario)
    drivers = thing.controllers if isinstance(thing, Study) else {"": scenario.controllers}
    for k, (name, by_robot) in enumerate(drivers.items()):
        who = f"controller '{name}'" if name else "controller"
        tell(k, len(drivers), f"first ticks of {who}")
        mine = thing.drawn({}, name) if isinstance(thing, Study) else scenario
        for found in _controller(mine, by_robot, who, failed, thing, k == 0):
            failed = failed or found.severity == "error"
            unseen = unseen or found.rule == "not-looked-at"
            yield found
    if isinstance(thing, Study) and not failed and not unseen:
        alike = list(studies.compares_nothing(thing))
        yield from alike
        told = studies.what_is_drawn(thing)
        yield from told
        if not any(found.severity == "error" for found in told):
            tell(len(drivers), len(drivers), "trials on two draws")
            known = {(f.rule, f.path) for f in alike}
            yield from (f for f in trying.what_makes_no_difference(thing) if (f.rule, f.path) not in known)


def _watches(scenario: Scenario) -> list[tuple[str, str]]:
    """Pairs to watch, those left out that name what is not there: they are told one by one."""
    found = []
    for condition in scenario.conditions():
        with suppress(VeldrainError):
            engine = Simulation(scenario.world, scenario.step, watches=sorted(condition.watches())).watches
            found += list(engine)
    return found


def _controller(
    scenario: Scenario, by_robot: Mapping[str, Any], who: str, failed: bool, thing: Scenario | Study, is_first: bool
) -> Iterator[Finding]:
    """Set up a trial with a controller and take its first steps."""
    try:
        with limited(PATIENCE):
            for title, controller in each_of(by_robot):
                fresh(controller, f"{who} of {title}")
            if failed:
                return  # what is wrong with the scenario is told: no trial can begin
            trial = Trial(scenario.driven_by(by_robot))
            asked: dict[str, timing.Asked] = {}
            for driver in trial.drivers:
                wrong = list(drive_fits(driver))
                yield from wrong
                placed = scenario.world.placed[driver.robot]
                if not wrong and not placed.fixed and placed.course is None:
                    yield from moves_as_told(driver, placed.joints, scenario.step, scenario.world.gravity)
                yield from following.what_does_not_follow(trial, driver)
                yield from timing.reads_what_is_not_there(driver)
                yield from timing.rare_ticks(trial, driver)
                driver.senses = asked[driver.title] = timing.Asked(driver.senses)  # type: ignore[assignment]
            ticks = max((FIRST_TICKS * d.period for d in trial.drivers), default=0)
            slow = max((s.first + s.period for s in trial.simulation.streams.values()), default=0)
            whole = trial.end
            goal = min(trial.end, ticks + slow, max(ticks, round(LONGEST / scenario.step)))
            trial.end = goal // 2  # the first steps load what is needed: they say nothing of the time that others take
            outcome = trial.run()
            trial.end, begun = goal, time.process_time()
            outcome = outcome if outcome["failed"] else trial.run()
            took = (time.process_time() - begun) * whole / max(goal - goal // 2, 1)
        blind = all(samples.sensor.sight() is None for samples in trial.simulation.streams.values())
        if is_first and not outcome["failed"]:
            yield from costs.what_it_costs(thing, trial, took)
        if isinstance(thing, Scenario) and blind and whole <= WHOLE and took < SECONDS and not outcome["failed"]:
            trial.end = whole
            outcome = trial.run()
            yield from timeline.never_happened(trial)
    except CodeRefusedError as error:
        text = f"no trial was tried with it: {error.problem}"
        yield Finding("not-looked-at", "note", who, text, error.cure, error.where)
        return
    except VeldrainError as error:
        yield mistake("cannot-run", error)
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
    for driver in trial.drivers:
        yield from timing.reads_too_late(trial, driver, asked[driver.title].names)
    if not outcome["failed"]:
        yield from timeline.unknown_signals(trial.scenario, set(trial.publisher.signals))
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
