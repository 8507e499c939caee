"""One trial from start to end."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.control.driving import NEVER, ControllerFailedError, Driver, DriverState
from veldrain.errors import VeldrainError, told_at, unknown
from veldrain.model import Fields, Message
from veldrain.physics.engine import NotFiniteError
from veldrain.progress import Progress, seldom
from veldrain.recording import Recorder, Recording, Sink
from veldrain.recording.publishing import Publisher
from veldrain.recording.quantities import unit_of
from veldrain.recording.states import to_bytes
from veldrain.sampling import Reading
from veldrain.scenario.actions import Action
from veldrain.scenario.branching import STATES, branch, resume
from veldrain.scenario.changing import Changes, Ramp
from veldrain.scenario.conditions import Condition, Pair, Watching
from veldrain.scenario.entries import After, Entry, Every
from veldrain.scenario.lights import LightStreams
from veldrain.scenario.picturing import PICTURES, Picture
from veldrain.scenario.scenario import Scenario
from veldrain.scenario.verdicts import Verdict
from veldrain.simulation import Simulation, SimulationState, engine_of
from veldrain.units import SI_UNITS, Quantity


@dataclass(frozen=True)
class TrialState:
    """A copy of the whole state of a trial: what moves, sensors, controllers, verdicts, and what is still to happen."""

    simulation: SimulationState
    drivers: tuple[DriverState, ...]
    verdicts: tuple[tuple[bool | None, float | None, float | None, float | None], ...]
    timed: tuple[tuple[int, int], ...]
    waiting: tuple[int, ...]
    touched: frozenset[Pair]
    changed: tuple[list[Ramp], dict[str, float]]
    watched: tuple[dict[str, float], dict[str, float], list[Any]]  # events, signals, and what conditions keep
    reason: str | None
    happened: int
    first: dict[str, float]  # when each event was first
    held: dict[str, list[int]]  # when what is held is let go


class Trial:
    """A scenario in motion.

    Args:
        scenario: what happens; it is not changed.
        seed: of the sensors' noise and the controllers' random streams.
        sinks: where streams go; they have begun.
        exact: True lets all sensors measure without errors of their own.
        keep_states: so often (s) the whole state is published as ``scenario/states``, for ``resume``. None: never.
        progress: told now and then how far it is, and of how much, in s of simulated time.

    Raises:
        VeldrainError: an unknown name, or a period that is not a whole number of steps.

    >>> trial = Trial(scenario, seed=7)
    >>> trial.advance("5 s"); middle = trial.snapshot(); end = trial.run()
    >>> trial.restore(middle); trial.run() == end
    True
    """

    def __init__(
        self,
        scenario: Scenario,
        seed: int = 0,
        *,
        sinks: Sequence[Sink] = (),
        exact: bool = False,
        keep_states: Quantity | None = None,
        progress: Progress | None = None,
    ) -> None:
        self.scenario, self._tell = scenario, seldom(progress)
        watches = sorted({pair for c in scenario.conditions() for pair in c.watches()})
        self.simulation = sim = Simulation(
            scenario.world, scenario.step, seed=seed, integrator=scenario.integrator, watches=watches, exact=exact
        )
        self.publisher = sim.publish(sinks)
        engine_of(sim).couplings.record = self.publisher.event
        self.lights = LightStreams(sim, self.publisher)
        self.changes = Changes(sim)
        self.watching = Watching(sim)
        self.watching.signals = self.publisher.signals
        self.check_every = sim.steps_of(scenario.check_period, "scenario: check_period")
        self.end = sim.steps_of(scenario.duration, "scenario: duration")
        self.drivers = list(self._drivers())
        self.changes.drivers = self.drivers
        self.reason: str | None = None
        self.timed: list[tuple[int, int]] = []  # steps, and numbers of entries, that are still to come
        self.waiting: list[int] = []  # numbers of entries whose conditions have not held yet
        self._holds: dict[int, Callable[[], bool]] = {}
        self._acts: list[Callable[[], None]] = []
        self._undone: dict[int, tuple[int, str, Callable[[], None]]] = {}  # steps, what is held, and how, by entry
        self.held: dict[str, list[int]] = {}  # the steps at which each of those that hold something lets it go
        self._bound = 0  # number of the entry that is bound
        self._delays: dict[int, int] = {}  # steps from an event, or from one time to the next, by number of entry
        self._happened = -1  # the step up to which all has happened
        for k, entry in enumerate(scenario.timeline):
            self._bound = k
            with told_at(entry.where):
                self._acts.append(entry.action.bind(self))
                if isinstance(entry.trigger, Condition):
                    with told_at("" if entry.where else str(entry.action)):
                        self._holds[k] = entry.trigger.bind(self.watching)
                    self.waiting.append(k)
                elif isinstance(entry.trigger, After):
                    self._delays[k] = sim.steps_of(entry.trigger.delay, "scenario: after", least=0)
                elif isinstance(entry.trigger, Every):
                    self._delays[k] = sim.steps_of(entry.trigger.period, "scenario: every")
                    self.timed.append((self._delays[k], k))
                else:
                    self.timed.append((sim.steps_of(entry.trigger, "scenario: at", least=0), k))
        self.timed.sort(key=lambda pair: pair[0])
        self.verdicts = [Verdict(e, self.watching) for e in scenario.expectations.values()]
        self._check_events()
        self._measures = [
            (f"scenario/{name}", measure.bind_in(self.watching)) for name, measure in scenario.measures.items()
        ]
        self.tally = None
        if scenario.record_contacts is not None:
            self.contacts_every = sim.steps_of(scenario.record_contacts, "scenario: record_contacts")
            self.tally = sim.tally()
        self.keep_every = None if keep_states is None else sim.steps_of(keep_states, "keep_states")
        for robot in scenario.truth - set(scenario.world.placed):
            raise unknown("robot", robot, scenario.world.placed, "scenario: truth")

    def _drivers(self) -> Iterator[Driver]:
        for robot, given in self.scenario.controllers.items():
            several = given if isinstance(given, Mapping) else {"": given}
            owners: dict[str, str] = {}
            others: dict[str, Driver] = {}
            for name, controller in several.items():
                yield Driver(
                    self.simulation,
                    robot,
                    name,
                    controller,
                    robot in self.scenario.truth,
                    owners,
                    others,
                    self.publisher,
                )

    def streams(self) -> list[str]:
        """Names of the streams that the recording will have, but for those that controllers log."""
        return [
            *self.simulation.streams,
            *self.publisher.streams(),
            *dict.fromkeys(f"{d.robot}/commands" for d in self.drivers),
            *(stream for d in self.drivers for stream in d.input_streams()),
            "scenario/events",
            *self.lights.names,
            *(stream for stream, _ in self._measures),
            *([PICTURES] if any(isinstance(e.action, Picture) for e in self.scenario.timeline) else []),
            *(["scenario/contacts"] if self.tally else []),
            *([STATES] if self.keep_every else []),
        ]

    def companions(self) -> list[str]:
        """Names of the streams that sensors have beside their own."""
        return [f"{s.stream}/{name}" for s in self.simulation.streams.values() for name in s.sensor.companions]

    def unit(self, stream: str, message: str, column: str) -> str:
        """The unit of a column of a stream of this trial; "" where none is known."""
        name = stream.removeprefix("scenario/")
        if name in self.scenario.measures and name != stream:
            unit = SI_UNITS[self.scenario.measures[name].quantity]
            return unit.replace("**2", "²").replace("*", "·")
        for own, samples in self.simulation.streams.items():
            if column == "data" and (stream == own or stream.startswith(f"{own}/")):
                return samples.sensor.unit(stream[len(own) + 1 :])
        placed = self.scenario.world.placed.get(stream.partition("/")[0])
        joint = placed.model.coordinates().get(column.partition(".")[2]) if placed else None
        return unit_of(message, column, slides=bool(joint and joint[1]))

    def tried(self, stream: str) -> Recording | None:
        """A recording with one message of a stream; None for contacts, or where none comes out."""
        recorder = Recorder()
        publisher = Publisher(self.simulation, [recorder])
        for samples in self.simulation.streams.values():
            if stream in (samples.stream, *(s for s in self.companions() if s.startswith(f"{samples.stream}/"))):
                data = samples.measured()
                if data is None:
                    return None
                publisher.sample(samples, Reading(0, data))
        if stream in publisher.streams():
            publisher.begin()
            publisher.state()
        elif stream == "scenario/events":
            publisher.event("")
        elif stream in dict(self._measures):
            publisher.write(stream, Message("std_msgs/msg/Float64", Fields(data=0.0)))
        elif any(stream == f"{driver.robot}/commands" for driver in self.drivers):
            robot = stream.rpartition("/")[0]
            publisher.commands(stream, self.simulation[robot].commands())
        return Recording(recorder.finish({})) if recorder.has_begun else None

    def run(self) -> dict[str, Any]:
        """Go to the end; gives the outcome."""
        failure = ""
        try:
            self._go(self.end)
        except (NotFiniteError, ControllerFailedError) as error:
            failure = str(error)
            self.publisher.event(f"failed: {failure}")
        self.publisher.state()
        return self.outcome(failure)

    def advance(self, seconds: Quantity) -> None:
        """Go on for a time, a whole number of steps, or to the end of the trial if that comes first."""
        self._go(self.simulation.steps + self.simulation.steps_of(seconds, "advance", least=0))

    def _go(self, goal: int) -> None:
        sim, goal = self.simulation, min(goal, self.end)
        if self._happened < 0:
            self.publisher.begin()
            self.publisher.state()
        while self.reason is None:
            if self._happened < sim.steps:
                self._happened = sim.steps
                self._happen()
            if self.reason is not None or sim.steps >= goal:
                break
            sim.advance_to(min(goal, self._next()))
            self._tell(sim.time, self.end * sim.step, "")

    def do(self, action: Action) -> float:
        """Do something at the next step, as if the timeline had said so: the scenario's timeline says it from now on.

        A run of that scenario does the same at the same step, to the same bytes.

        Returns:
            When that is, s.

        Raises:
            VeldrainError: unknown names, or values that do not fit; or the trial is at its end.
        """
        sim = self.simulation
        step = sim.steps + (self._happened >= sim.steps)
        if step > self.end or self.reason is not None:
            raise VeldrainError("the trial is at its end", where=str(action), cure="do it before")
        number = self._bound = len(self.scenario.timeline)
        with told_at(str(action)):
            self._acts.append(action.bind(self))
        self.scenario.timeline.append(Entry(time := round(step * sim.step, 9), action))
        self.timed = sorted([*self.timed, (step, number)], key=lambda pair: pair[0])
        return time

    def close(self) -> None:
        """Let the controllers give back what they hold: programs end."""
        for driver in self.drivers:
            driver.close()

    def outcome(self, failure: str = "") -> dict[str, Any]:
        """How it ended; failure: why it was aborted, "" where it did not."""
        verdicts = {v.expectation.name: v.summary(whole=not failure) for v in self.verdicts}
        return {
            "passed": not failure and all(v["passed"] for v in verdicts.values()),
            "reason": failure or self.reason or "time is up",
            "failed": bool(failure),
            "time": self.simulation.time,
            "expectations": verdicts,
            "events": {name: round(time, 9) for name, time in self.watching.first.items()},
            "notices": self.simulation.notices,
        }

    def snapshot(self) -> TrialState:
        """A copy of the whole state; restoring it continues to the same bytes."""
        return TrialState(
            self.simulation.snapshot(),
            tuple(driver.snapshot() for driver in self.drivers),
            tuple((v.passed, v.time, v.margin, v.nearest) for v in self.verdicts),
            tuple(self.timed),
            tuple(self.waiting),
            frozenset(self.watching.touched_pairs),
            self.changes.state(),
            (dict(self.watching.events), dict(self.watching.signals), list(self.watching.memory)),
            self.reason,
            self._happened,
            dict(self.watching.first),
            {what: list(ends) for what, ends in self.held.items()},
        )

    def restore(self, state: TrialState) -> None:
        """Go back to a snapshot of this trial, or of another of the same scenario.

        Raises:
            VeldrainError: it is none, or of another scenario.
        """
        if not isinstance(state, TrialState):
            raise VeldrainError(f"{type(state).__name__} is not a snapshot", cure="give what snapshot() gave")
        if len(state.drivers) != len(self.drivers):
            raise VeldrainError("a snapshot of another scenario", cure="restore it in a trial of its own scenario")
        self.continue_from(state, state.drivers)

    def continue_from(
        self,
        state: TrialState,
        drivers: Sequence[DriverState | None],
        inputs: Mapping[tuple[str, str], Any] | None = None,
    ) -> None:
        """Go to a snapshot, with controllers of one's own in places of others.

        Args:
            state: of a trial of the same scenario, but for its controllers.
            drivers: of each controller its state there; None: it begins now, and ticks at once.
            inputs: what the controllers there were last told, by robot and name.

        Raises:
            VeldrainError: a snapshot of another scenario.
        """
        if len(state.verdicts) != len(self.verdicts):
            raise VeldrainError("a snapshot of another scenario", cure="restore it in a trial of its own scenario")
        self.simulation.restore(state.simulation)
        for driver, kept in zip(self.drivers, drivers, strict=True):
            if kept is not None:
                driver.restore(kept)
        for verdict, judged in zip(self.verdicts, state.verdicts, strict=True):
            verdict.passed, verdict.time, verdict.margin, verdict.nearest = judged
        self.changes.go_back(state.changed)
        events, signals, memory = state.watched
        self.watching.memory[:] = memory
        for mine, theirs in ((self.watching.events, events), (self.watching.signals, signals)):
            mine.clear()
            mine.update(theirs)
        self.timed, self.waiting = list(state.timed), list(state.waiting)
        self.watching.touched_pairs = set(state.touched)
        self.reason, self._happened, self.watching.first = state.reason, state.happened, dict(state.first)
        self.held = {what: list(ends) for what, ends in state.held.items()}
        for driver, kept in zip(self.drivers, drivers, strict=True):
            if kept is None:
                driver.begin_now(
                    (inputs or {}).get((driver.robot, driver.name)), self._happened >= self.simulation.steps
                )

    def branch(
        self,
        controllers: Mapping[str, Any] | None = None,
        changes: Mapping[str, Quantity] | None = None,
        seeds: Iterable[int] | None = None,
        record: str | Path | None = None,
        limit: Quantity | None = None,
    ) -> Recording | list[Recording]:
        """Go on from here to the end, in a trial of its own: this one stays where it is, and can be branched again.

        Where nothing is changed, what follows is the same to the byte.

        Args:
            controllers: instead of those at work, by robot: each comes in now, and ticks at once.
            changes: quantities by path, as an action ``change`` takes them.
            seeds: one branch a seed, each with other noise from here on. None: one, with the noise that was to come.
            record: path of the MCAP file; with seeds of the folder. None: in memory.
            limit: longest by the clock on the wall, s.

        Returns:
            The recording from here on, or one a seed.

        Raises:
            VeldrainError: no such robot or quantity, or one that cannot be changed in mid-trial.

        >>> trial = run(scenario, seed=7, until="4 s")  # doctest: +SKIP
        >>> [r.outcome["passed"] for r in trial.branch({"crawler": Careful()}, seeds=range(20))]  # doctest: +SKIP
        """
        return branch(self, controllers, changes, seeds, record, limit)

    def _next(self) -> int:
        now = self.simulation.steps
        periods = [self.check_every, *([self.contacts_every] if self.tally else [])]
        periods += [self.keep_every] if self.keep_every else []
        times = [self.end, *((now // every + 1) * every for every in periods)]
        times += [d.due for d in self.drivers]
        times += [self.lights.due()] if self.lights.names else []
        return min(times + [step for step, _ in self.timed[:1]])

    def _happen(self) -> None:
        """All that is due now: conditions and expectations, the timeline, then controllers."""
        sim = self.simulation
        step = sim.steps
        self.lights.look()
        if self.tally and step and (step % self.contacts_every == 0 or step == self.end):
            self.publisher.contacts(self.tally.take())
        if step % self.check_every == 0 or step == self.end:
            self.changes.go_on()
            self.watching.take()
            if self.publisher.sinks:
                for stream, value in self._measures:
                    self.publisher.number(stream, float(value()))
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
                    driver.tick()
        if self.keep_every and step % self.keep_every == 0:
            data = np.frombuffer(self._written(), np.uint8)
            fields = Fields(layout=Fields(dim=[], data_offset=0), data=data)
            self.publisher.write(STATES, Message("std_msgs/msg/UInt8MultiArray", fields))

    def _written(self) -> bytes:
        """The whole state as bytes."""
        state = {"trial": replace(self.snapshot(), drivers=()), "drivers": [d.written() for d in self.drivers]}
        return to_bytes(state, {id(thing): name for d in self.drivers for name, thing in d.known().items()})

    def resume(self, recording: Recording, at: Quantity | None = None) -> float:
        """Go to a state that a recording of the same scenario keeps, and go on from there to the same bytes.

        A controller that is not the one that was recorded, or was made with other arguments, begins there anew, which a
        notice tells.

        Args:
            recording: made with ``keep_states``.
            at: the newest state up to this time is taken, s. None: the last one.

        Returns:
            The time of the state, s.

        Raises:
            VeldrainError: it keeps no states, none so early, or those of another scenario.
        """
        return resume(self, recording, at)

    def held_for(
        self, lasting: float | None, what: str, act: Callable[[], None], undo: Callable[[], None]
    ) -> Callable[[], None]:
        """An act that is undone so long (s) after each time that it is done, None: never; of several that hold the same
        thing, by the one that lets it go last."""
        steps = None if lasting is None else self.simulation.steps_of(lasting, "lasting")
        if steps is not None:
            self._undone[self._bound] = steps, what, undo

        def begin() -> None:
            self.held.setdefault(what, []).append(NEVER if steps is None else self.simulation.steps + steps)
            if len(self.held[what]) == 1:
                act()

        return begin

    def _do(self, number: int) -> None:
        """Do what an entry says, or undo it: then its number is −1 less."""
        step = self.simulation.steps
        if number < 0:
            action = self.scenario.timeline[-1 - number].action
            _, what, undo = self._undone[-1 - number]
            self.held[what].remove(step)
            self.publisher.event(f"over: {action}" + (" (another holds on)" if self.held[what] else ""))
            if not self.held[what]:
                undo()
            return
        entry = self.scenario.timeline[number]
        self.publisher.event(str(entry.action))
        names = entry.names
        self.watching.events.update(dict.fromkeys(names, self.simulation.time))
        for name in names:
            self.watching.first.setdefault(name, self.simulation.time)
        self._acts[number]()
        coming = [(step + self._delays[k], k) for k, e in enumerate(self.scenario.timeline) if e.follows(names)]
        if isinstance(entry.trigger, Every):
            coming.append((step + self._delays[number], number))
        if number in self._undone:
            coming.append((step + self._undone[number][0], -1 - number))
        self.timed = sorted([*self.timed, *coming], key=lambda pair: pair[0])

    def _check_events(self) -> None:
        """See that all events that something waits for can happen."""
        known = [name for entry in self.scenario.timeline for name in entry.names]
        waited = [e.trigger.event for e in self.scenario.timeline if isinstance(e.trigger, After)]
        bounds = [event for e in self.scenario.expectations.values() for event in (e.since, e.until) if event]
        for event in (*waited, *bounds, *self.watching.expected):
            if event not in known:
                raise unknown("event", event, known, "scenario")

    def finish(self, reason: str) -> None:
        """End the trial for a reason, if it has none yet."""
        self.reason = self.reason or reason
