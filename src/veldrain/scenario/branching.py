"""Branches: a trial that was stopped goes on, with other controllers, other quantities, or other luck."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from veldrain import randomness
from veldrain.control.beginning import differences_in
from veldrain.control.driving import DriverState
from veldrain.errors import VeldrainError, unknown
from veldrain.randomness import checked_seed
from veldrain.recording import Recorder, Recording, Sink
from veldrain.recording.choice import Choice, Chosen
from veldrain.recording.states import from_bytes
from veldrain.recording.tables import message_of
from veldrain.scenario.carrying import carried_out
from veldrain.units import Quantity, quantity

STATES = "scenario/states"


def branch(
    trial: Any,
    controllers: Mapping[str, Any] | None = None,
    changes: Mapping[str, Quantity] | None = None,
    seeds: Iterable[int] | None = None,
    record: str | Path | None = None,
    limit: Quantity | None = None,
) -> Recording | list[Recording]:
    """See ``Trial.branch``."""
    if seeds is None:
        return one_branch(trial, controllers, changes, None, [], None if record is None else Path(record), limit)
    lucks = [checked_seed(seed) for seed in seeds]
    paths = [None if record is None else Path(record) / f"{seed}.mcap" for seed in lucks]
    return [
        one_branch(trial, controllers, changes, seed, [], path, limit) for seed, path in zip(lucks, paths, strict=True)
    ]


def one_branch(
    trial: Any,
    controllers: Mapping[str, Any] | None,
    changes: Mapping[str, Quantity] | None,
    seed: int | None,
    sinks: Sequence[Sink],
    record: Path | None,
    limit: Quantity | None = None,
) -> Recording:
    """One branch, recorded from where it leaves the trial."""
    scenario = trial.scenario
    for robot in controllers or {}:
        if robot not in scenario.world.placed:
            raise unknown("robot", robot, scenario.world.placed, "branch: controllers")
    if controllers:
        scenario = scenario.driven_by({**scenario.controllers, **controllers})
    choice = Choice.of(scenario.record.words)
    recorder = Recorder(record)
    every = [Chosen(recorder, choice) if choice.words else recorder, *sinks]
    state, was = trial.snapshot(), [(d.robot, d.name) for d in trial.drivers]

    def go_from(new: Any) -> None:
        held = {who: kept for who, kept in zip(was, state.drivers, strict=True) if who[0] not in (controllers or {})}
        told = {who: getattr(kept.controller, "inputs", None) for who, kept in zip(was, state.drivers, strict=True)}
        new.continue_from(state, [held.get((d.robot, d.name)) for d in new.drivers], told)
        if seed is not None:
            other_luck(new, seed)
        for path, value in (changes or {}).items():
            knob = new.changes.knob(path)
            number = quantity(value, knob.kind, f"branch: {path}")
            new.changes.check(path, number)
            new.changes.begin(path, number, 0)

    about = {"branched_at": trial.simulation.time}
    carried_out(
        type(trial),
        scenario,
        trial.simulation.seed if seed is None else seed,
        every,
        about=about,
        exact=trial.simulation.exact,
        limit=limit,
        go_from=go_from,
    )
    return Recording(recorder.path or recorder.data)


def resume(trial: Any, recording: Recording, at: Quantity | None) -> float:
    """See ``Trial.resume``."""
    if STATES not in recording.messages:
        raise VeldrainError("keeps no states", where="resume", cure="record it with keep_states='5 s'")
    stamps = recording.stamps(STATES)
    latest = math.inf if at is None else quantity(at, "time", "resume")
    early = stamps[stamps / 1e9 <= latest + 1e-9]
    if not len(early):
        raise VeldrainError(f"its first state is at {stamps[0] / 1e9:g} s", where="resume", cure="name a later time")
    raw = [data for _, found in recording.batches(STATES, int(early[-1]), int(early[-1])) for data in found]
    try:
        return _gone_on(trial, recording, raw[-1])
    except (LookupError, TypeError, ValueError, AttributeError) as error:  # it is of another make, or was spoilt
        raise VeldrainError(
            f"no state of such a trial ({type(error).__name__}: {error})", where="resume", cure="record it anew"
        ) from error


def _gone_on(trial: Any, recording: Recording, data: bytes) -> float:
    written = message_of(recording.types, data, recording.messages[STATES])
    names = {name: thing for d in trial.drivers for name, thing in d.known().items()}
    found = from_bytes(np.asarray(written.data, np.uint8).tobytes(), names)
    written = {tuple(w["who"]): w for w in found["drivers"]}
    kept: list[DriverState | None] = []
    for driver in trial.drivers:
        held = written.get((driver.robot, driver.name))
        other = differences_in(driver.began, held["began"]) if held else "none was recorded"
        if other:
            trial.simulation.notice(f"resume {driver.title}", f"the {driver.title} begins anew: {other}")
        kept.append(driver.read(held) if held and not other else None)
    told = {who: w["keeps"].get("inputs") for who, w in written.items()}
    notices = dict(trial.simulation.told_notices)
    trial.continue_from(found["trial"], kept, told)
    for about, text in notices.items():
        trial.simulation.notice(about, text)
    return float(trial.simulation.time)


def other_luck(trial: Any, seed: int) -> None:
    """Let all noise from now on be that of another seed: sensors, failures, gusts, and controllers that draw."""
    simulation = trial.simulation
    simulation.seed = seed
    simulation.surroundings = simulation.surroundings  # gusts are drawn anew
    for name, samples in simulation.streams.items():
        for k, random in enumerate(_generators(samples.kept())):
            random.bit_generator.state = randomness.stream(seed, "branch", name, k).bit_generator.state
    for driver in trial.drivers:
        for k, random in enumerate(_generators([vars(driver.controller)])):
            random.bit_generator.state = randomness.stream(seed, "branch", driver.title, k).bit_generator.state


def _generators(held: Iterable[Any]) -> Iterator[np.random.Generator]:
    """The random streams among attributes, also in rows and tables, each once."""
    waiting, seen = list(held), set[int]()
    while waiting:
        thing = waiting.pop(0)
        if id(thing) in seen:
            continue
        seen.add(id(thing))
        if isinstance(thing, np.random.Generator):
            yield thing
        elif isinstance(thing, Mapping):
            waiting += list(thing.values())
        elif isinstance(thing, (list, tuple)):
            waiting += list(thing)
        elif hasattr(thing, "__dict__") and type(thing).__module__.startswith("veldrain.sensing"):
            waiting += list(vars(thing).values())
