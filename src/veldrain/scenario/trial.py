"""One trial from start to end."""

from __future__ import annotations

import importlib.metadata
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from veldrain.control import Controller, Motors, Senses, fresh
from veldrain.errors import VeldrainError, unknown
from veldrain.physics.engine import NotFiniteError
from veldrain.physics.plant import EFFORT, POSITION, VELOCITY
from veldrain.recording import Recorder, Recording
from veldrain.scenario.conditions import Condition, Look
from veldrain.scenario.scenario import Entry, Expectation, Finish, Scenario
from veldrain.simulation import Simulation

STATE_PERIOD = 0.05  # s between the states that a recording keeps
_FIELDS = {EFFORT: "effort", VELOCITY: "velocity", POSITION: "position"}


class _Driver:
    """One controller at work: its ticks, senses, motors, and the commands that it leaves."""

    def __init__(self, trial: Trial, robot: str, controller: Any, granted: bool) -> None:
        sim = trial.simulation
        if robot not in sim.world.placed:
            raise unknown("robot", robot, sim.world.placed, "controllers")
        self.robot = robot
        self.controller: Controller = fresh(controller, f"controller of {robot}")
        self.period = sim.steps_of(self.controller.period, f"controller of {robot}: period")
        self.due = 0
        motors = list(sim.world.placed[robot].model.motors)
        self.motors = Motors(sim[robot], motors)
        self.senses = Senses(robot, sim.streams, granted)
        dofs = sim.engine.compiled.robots[robot].joints
        self._dofs = {joint: dofs[joint] for joint in motors}
        self._modes = {j: _FIELDS[int(sim.engine.plant.dofs[d]["mode"])] for j, d in self._dofs.items()}

    def tick(self, trial: Trial) -> None:
        sim = trial.simulation
        try:
            self.controller.update(sim.time, self.senses.at(sim.engine.steps), self.motors)
        except Exception as error:  # whatever the user's controller raises ends the trial, not the study
            kind = "" if isinstance(error, VeldrainError) else f"{type(error).__name__}: "
            raise TrialFailedError(f"the controller of {self.robot} raised at {sim.time:g} s: {kind}{error}") from error
        self.due += self.period
        values = {j: float(sim.engine.plant.dofs[d]["command"]) for j, d in self._dofs.items()}
        if values:
            trial.recorder.commands(f"{self.robot}/commands", sim.stamp, self._modes, values)


class TrialFailedError(VeldrainError):
    """A trial cannot go on."""


@dataclass
class _Verdict:
    """How an expectation stands: decided at a time, or not yet."""

    expectation: Expectation
    holds: Callable[[], bool]
    passed: bool | None = None
    time: float | None = None

    def look(self, now: float) -> None:
        if self.passed is not None:
            return
        e, holds = self.expectation, self.holds()
        if e.eventually is not None:
            late = e.within is not None and now > e.within + 1e-12
            if holds or late:
                self.passed, self.time = holds and not late, now
        elif holds == (e.never is not None):
            self.passed, self.time = False, now

    def summary(self) -> dict[str, Any]:
        passed = self.passed if self.passed is not None else self.expectation.eventually is None
        return {"passed": passed, "time": self.time}


class Trial:
    """A scenario in motion."""

    def __init__(self, scenario: Scenario, seed: int, recorder: Recorder, exact: bool = False) -> None:
        self.scenario, self.recorder = scenario, recorder
        watches = sorted({pair for c in scenario.conditions() for pair in c.watches()})
        self.simulation = sim = Simulation(scenario.world, scenario.step, seed, scenario.integrator, watches, exact)
        self.look = Look(sim)
        self.tick = sim.steps_of(scenario.tick, "scenario: tick")
        self.end = sim.steps_of(scenario.duration, "scenario: duration")
        self.drivers = [
            _Driver(self, robot, controller, robot in scenario.truth)
            for robot, controller in scenario.controllers.items()
        ]
        self.timed = [(sim.steps_of(e.trigger, "scenario: at", least=0), e) for e in scenario.timeline if
                      not isinstance(e.trigger, Condition)]  # fmt: skip
        self.timed.sort(key=lambda pair: pair[0])
        self.waiting = [(e.trigger.bind(self.look), e) for e in scenario.timeline if isinstance(e.trigger, Condition)]
        self.verdicts = [_Verdict(e, e.condition.bind(self.look)) for e in scenario.expectations.values()]
        for push in scenario.pushes().values():
            sim.engine.place_of(push.link)
        for robot in scenario.truth - set(scenario.world.placed):
            raise unknown("robot", robot, scenario.world.placed, "scenario: truth")
        self.reason: str | None = None
        self.state_every = max(1, round(STATE_PERIOD / sim.step))

    def streams(self) -> list[str]:
        """Names of the streams that the recording will have."""
        return [
            *self.simulation.streams,
            *(f"{d.robot}/commands" for d in self.drivers),
            "scenario/events",
            "scenario/state",
        ]

    def run(self) -> dict[str, Any]:
        """Go to the end; gives the outcome."""
        sim, failure = self.simulation, None
        for samples in sim.streams.values():
            if samples.latest:
                self.recorder.sample(samples, samples.latest)
        sim.on_sample = self.recorder.sample
        try:
            while True:
                self._happen()
                if self.reason is not None or sim.engine.steps >= self.end:
                    break
                sim.advance_to(self._next())
        except (NotFiniteError, TrialFailedError) as error:
            failure = str(error)
            self.recorder.event(sim.stamp, f"failed: {failure}")
        verdicts = {v.expectation.name: v.summary() for v in self.verdicts}
        return {
            "passed": failure is None and all(v["passed"] for v in verdicts.values()),
            "reason": failure or self.reason or "time is up",
            "failed": failure is not None,
            "time": sim.time,
            "expectations": verdicts,
        }

    def _next(self) -> int:
        now = self.simulation.engine.steps
        times = [self.end, *((now // every + 1) * every for every in (self.tick, self.state_every))]
        times += [d.due for d in self.drivers]
        return min(times + [step for step, _ in self.timed[:1]])

    def _happen(self) -> None:
        """All that is due now: conditions and expectations, the timeline, then controllers."""
        sim = self.simulation
        step = sim.engine.steps
        if step % self.state_every == 0 or step == self.end:
            self.recorder.state(sim.stamp, sim.engine.plant.q)
        if step % self.tick == 0 or step == self.end:
            self.look.take()
            for verdict in self.verdicts:
                verdict.look(sim.time)
            for waiting in [w for w in self.waiting if w[0]()]:
                self.waiting.remove(waiting)
                self._do(waiting[1])
        while self.timed and self.timed[0][0] == step:
            self._do(self.timed.pop(0)[1])
        if self.reason is None:
            for driver in self.drivers:
                if driver.due == step:
                    driver.tick(self)

    def _do(self, entry: Entry) -> None:
        action, sim = entry.action, self.simulation
        self.recorder.event(sim.stamp, str(action))
        if isinstance(action, Finish):
            self.reason = self.reason or action.reason
        else:
            sim.push(action.link, action.force, action.torque, action.at, action.lasting)


def run(
    scenario: Scenario,
    seed: int = 0,
    record: str | Path | None = None,
    controllers: Mapping[str, Any] | None = None,
    about: Mapping[str, Any] | None = None,
    exact: bool = False,
) -> Recording:
    """Run one trial.

    Args:
        scenario: what happens; it is not changed.
        seed: of the sensors' noise.
        record: path of the MCAP file; None: the recording stays in memory.
        controllers: instead of the scenario's own, by robot.
        about: more to note in the file's metadata, such as drawn values.
        exact: True lets all sensors measure without errors of their own.

    Returns:
        The recording. A controller that raises, or a state that is no longer finite, ends the trial: it is
        recorded up to there, and its outcome says why.

    Raises:
        VeldrainError: an unknown name, or a period that is not a whole number of steps.
    """
    if controllers is not None:
        scenario = scenario.driven_by(controllers)
    recorder = Recorder(Path(record) if record is not None else None)
    trial = Trial(scenario, seed, recorder, exact)  # a mistake shows here, before there is a file
    outcome: dict[str, Any] = {"passed": False, "failed": True, "reason": "interrupted", "time": math.nan,
                               "expectations": {}}  # fmt: skip
    metadata = {
        "version": importlib.metadata.version("veldrain"),
        "seed": seed,
        "exact": exact,
        "step": trial.simulation.step,
        "world_file": scenario.world.where.get("", ""),
        "controllers": {robot: _title(c) for robot, c in scenario.controllers.items()},
        **(about or {}),
    }
    try:
        outcome = trial.run()
    finally:  # interrupted: what was recorded is kept
        outcome["time"] = trial.simulation.time
        data = recorder.finish(metadata | {"outcome": outcome})
    return Recording(recorder.path or data)


def _title(controller: Any) -> str:
    return getattr(controller, "use", None) or f"{type(controller).__module__}:{type(controller).__qualname__}"
