"""One trial from start to end."""

from __future__ import annotations

import importlib.metadata
import math
import warnings
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.control import Controller, Motors, Senses, fresh
from veldrain.errors import VeldrainError, told_at, unknown
from veldrain.physics.engine import NotFiniteError
from veldrain.physics.plant import EFFORT, POSITION, VELOCITY
from veldrain.randomness import checked_seed
from veldrain.recording import Recorder, Recording
from veldrain.recording.interrupts import uninterrupted
from veldrain.sampling import Reading
from veldrain.scenario.conditions import Condition, Watching
from veldrain.scenario.limits import OverLimitError, limited
from veldrain.scenario.scenario import Expectation, Scenario
from veldrain.simulation import Simulation
from veldrain.units import Quantity, quantity

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
        except (KeyboardInterrupt, OverLimitError):
            raise
        except BaseException as error:  # whatever the user's controller raises ends the trial, not the study
            kind = "" if isinstance(error, VeldrainError) else f"{type(error).__name__}: "
            raise TrialFailedError(f"the controller of {self.robot} raised at {sim.time:g} s: {kind}{error}") from error
        self.due += self.period
        self.record(sim, trial.recorder)

    def record(self, sim: Simulation, recorder: Recorder) -> None:
        """Write the commands that hold now."""
        values = {j: float(sim.engine.plant.dofs[d]["command"]) for j, d in self._dofs.items()}
        if values:
            recorder.commands(f"{self.robot}/commands", sim.stamp, self._modes, values)


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

    def summary(self, whole: bool) -> dict[str, Any]:
        """The verdict; None where the trial was not whole and nothing was decided before it broke off."""
        passed = self.passed if self.passed is not None or not whole else self.expectation.eventually is None
        return {"passed": passed, "time": self.time}


class Trial:
    """A scenario in motion."""

    def __init__(self, scenario: Scenario, seed: int, recorder: Recorder, exact: bool = False) -> None:
        self.scenario, self.recorder = scenario, recorder
        watches = sorted({pair for c in scenario.conditions() for pair in c.watches()})
        self.simulation = sim = Simulation(scenario.world, scenario.step, seed, scenario.integrator, watches, exact)
        self.look = Watching(sim)
        self.tick = sim.steps_of(scenario.check_period, "scenario: check_period")
        self.end = sim.steps_of(scenario.duration, "scenario: duration")
        self.drivers = [
            _Driver(self, robot, controller, robot in scenario.truth)
            for robot, controller in scenario.controllers.items()
        ]
        self.reason: str | None = None
        self.timed: list[tuple[int, int]] = []  # steps, and numbers of entries, that are still to come
        self.waiting: list[int] = []  # numbers of entries whose conditions have not held yet
        self._holds: dict[int, Callable[[], bool]] = {}
        self._acts: list[Callable[[], None]] = []
        for k, entry in enumerate(scenario.timeline):
            with told_at(entry.where):
                self._acts.append(entry.action.bind(self))
                if isinstance(entry.trigger, Condition):
                    self._holds[k] = entry.trigger.bind(self.look)
                    self.waiting.append(k)
                else:
                    self.timed.append((sim.steps_of(entry.trigger, "scenario: at", least=0), k))
        self.timed.sort(key=lambda pair: pair[0])
        self.verdicts = [_Verdict(e, e.condition.bind(self.look)) for e in scenario.expectations.values()]
        self.tally = None
        if scenario.record_contacts is not None:
            self.contacts_every = sim.steps_of(scenario.record_contacts, "scenario: record_contacts")
            self.tally = sim.engine.taps.tally(np.ones(len(sim.engine.plant.geoms), np.int64))
        for robot in scenario.truth - set(scenario.world.placed):
            raise unknown("robot", robot, scenario.world.placed, "scenario: truth")
        self.state_every = max(1, round(STATE_PERIOD / sim.step))

    def streams(self) -> list[str]:
        """Names of the streams that the recording will have."""
        return [
            *self.simulation.streams,
            *(f"{d.robot}/commands" for d in self.drivers),
            "scenario/events",
            "scenario/state",
            *(["scenario/contacts"] if self.tally else []),
        ]

    def companions(self) -> list[str]:
        """Names of the streams that sensors have beside their own."""
        return [f"{s.stream}/{name}" for s in self.simulation.streams.values() for name in s.sensor.companions]

    def tried(self, stream: str) -> Recording | None:
        """A recording with one message of a stream; None for contacts, or where none comes out."""
        recorder = Recorder()
        for samples in self.simulation.streams.values():
            if stream in (samples.stream, *(s for s in self.companions() if s.startswith(f"{samples.stream}/"))):
                data = samples.measured()
                if data is None:
                    return None
                recorder.sample(samples, Reading(0, data))
        for driver in self.drivers:
            if stream == f"{driver.robot}/commands":
                driver.record(self.simulation, recorder)
        if stream == "scenario/events":
            recorder.event(0, "")
        if stream == "scenario/state":
            recorder.state(0, self.simulation.engine.plant.q)
        return Recording(recorder.finish({})) if recorder.has_begun else None

    def run(self) -> dict[str, Any]:
        """Go to the end; gives the outcome."""
        sim, failure = self.simulation, ""
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
        return self.outcome(failure)

    def outcome(self, failure: str) -> dict[str, Any]:
        """How it ended; failure: why it broke off, "" where it did not."""
        verdicts = {v.expectation.name: v.summary(whole=not failure) for v in self.verdicts}
        return {
            "passed": not failure and all(v["passed"] for v in verdicts.values()),
            "reason": failure or self.reason or "time is up",
            "failed": bool(failure),
            "time": self.simulation.time,
            "expectations": verdicts,
            "notices": self.simulation.notices,
        }

    def _next(self) -> int:
        now = self.simulation.engine.steps
        periods = (self.tick, self.state_every, *([self.contacts_every] if self.tally else []))
        times = [self.end, *((now // every + 1) * every for every in periods)]
        times += [d.due for d in self.drivers]
        return min(times + [step for step, _ in self.timed[:1]])

    def _happen(self) -> None:
        """All that is due now: conditions and expectations, the timeline, then controllers."""
        sim = self.simulation
        step = sim.engine.steps
        if step % self.state_every == 0 or step == self.end:
            self.recorder.state(sim.stamp, sim.engine.plant.q)
        if self.tally and step and (step % self.contacts_every == 0 or step == self.end):
            self.recorder.contacts(sim.stamp, self.tally.take())
        if step % self.tick == 0 or step == self.end:
            self.look.take()
            for verdict in self.verdicts:
                verdict.look(sim.time)
            for number in [k for k in self.waiting if self._holds[k]()]:
                self.waiting.remove(number)
                self._do(number)
        while self.timed and self.timed[0][0] == step:
            self._do(self.timed.pop(0)[1])
        if self.reason is None:
            for driver in self.drivers:
                if driver.due == step:
                    driver.tick(self)

    def _do(self, number: int) -> None:
        self.recorder.event(self.simulation.stamp, str(self.scenario.timeline[number].action))
        self._acts[number]()

    def finish(self, reason: str) -> None:
        """End the trial for a reason, if it has none yet."""
        self.reason = self.reason or reason


def run(
    scenario: Scenario,
    seed: int = 0,
    record: str | Path | None = None,
    controllers: Mapping[str, Any] | None = None,
    about: Mapping[str, Any] | None = None,
    exact: bool = False,
    limit: Quantity | None = None,
) -> Recording:
    """Run one trial.

    Args:
        scenario: what happens; it is not changed.
        seed: of the sensors' noise.
        record: path of the MCAP file; None: the recording stays in memory.
        controllers: instead of the scenario's own, by robot.
        about: more to note in the file's metadata, such as drawn values.
        exact: True lets all sensors measure without errors of their own.
        limit: longest that the trial may take by the clock on the wall, s; None: any.

    Returns:
        The recording. A controller that raises, a state that is no longer finite, or a limit that is over ends the
        trial: it is recorded up to there, its outcome says why, and a RuntimeWarning does too.

    Raises:
        VeldrainError: an unknown name, or a period that is not a whole number of steps.
    """
    recording = carry_out(scenario, seed, record, controllers, about, exact, limit)
    if recording.outcome["failed"]:
        warnings.warn(
            f"the trial broke off at {recording.outcome['time']:.4g} s: {recording.outcome['reason']}",
            RuntimeWarning,
            stacklevel=2,
        )
    return recording


def carry_out(
    scenario: Scenario,
    seed: int = 0,
    record: str | Path | None = None,
    controllers: Mapping[str, Any] | None = None,
    about: Mapping[str, Any] | None = None,
    exact: bool = False,
    limit: Quantity | None = None,
) -> Recording:
    """``run`` without its warning: for callers that look at the outcome."""
    seconds = wall_time(limit)
    if controllers is not None:
        scenario = scenario.driven_by(controllers)
    recorder = Recorder(Path(record) if record is not None else None)
    metadata = {
        "version": importlib.metadata.version("veldrain"),
        "seed": checked_seed(seed),
        "exact": exact,
        "step": scenario.step,
        "duration": scenario.duration,
        "world_file": scenario.world.where.get("", ""),
        "controllers": {robot: _title(c) for robot, c in scenario.controllers.items()},
        **(about or {}),
    }
    trial: Trial | None = None
    outcome: dict[str, Any] = {
        "passed": False,
        "failed": True,
        "reason": "interrupted",
        "time": 0.0,
        "expectations": {},
        "notices": [],
    }
    with uninterrupted():
        try:
            with limited(seconds):
                trial = Trial(scenario, seed, recorder, exact)  # a mistake shows here, before there is a file
                recorder.begin(metadata)
                outcome = trial.run()
        except OverLimitError:
            now = f"at {trial.simulation.time:g} s" if trial else "while it was set up: see what its controller imports"
            outcome["reason"] = f"the limit of {seconds:g} s is over {now}"
        except KeyboardInterrupt:
            if not recorder.has_begun:
                raise
            _close(trial, recorder, metadata, outcome)
            raise
        except VeldrainError:  # a recording that cannot be written, or a mistake found while it was
            recorder.abandon()
            raise
        data = _close(trial, recorder, metadata, outcome)
    return Recording(recorder.path or data)


def _close(trial: Trial | None, recorder: Recorder, metadata: dict[str, Any], outcome: dict[str, Any]) -> bytes:
    """Bring a recording to its end; of a trial that broke off, with what was judged until then."""
    if trial and outcome["failed"]:
        outcome |= {k: v for k, v in trial.outcome(outcome["reason"]).items() if k != "reason"}
    return recorder.finish(metadata | {"outcome": outcome})


def wall_time(limit: Quantity | None) -> float | None:
    """A limit in s.

    Raises:
        VeldrainError: it is not above zero.
    """
    seconds = None if limit is None else quantity(limit, "time", "limit")
    if seconds is not None and not 0 < seconds < math.inf:
        raise VeldrainError(f"a limit of {seconds:g} s", where="limit", cure="give a time above zero, or none")
    return seconds


def _title(controller: Any) -> str:
    return getattr(controller, "use", None) or f"{type(controller).__module__}:{type(controller).__qualname__}"
