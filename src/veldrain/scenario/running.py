"""Runs one trial from start to end, and records it."""

from __future__ import annotations

import importlib.metadata
import math
import warnings
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any, overload

from veldrain.errors import VeldrainError
from veldrain.randomness import checked_seed
from veldrain.recording import Recorder, Recording, Sink
from veldrain.recording.attaching import attachments_of
from veldrain.recording.choice import Choice, Chosen
from veldrain.recording.interrupts import uninterrupted
from veldrain.scenario.limits import OverLimitError, limited
from veldrain.scenario.scenario import Scenario
from veldrain.scenario.trial import Trial
from veldrain.units import Quantity, quantity


@cache
def version() -> str:
    """The version of this library."""
    return importlib.metadata.version("veldrain")


@overload
def run(
    scenario: Scenario,
    seed: int = 0,
    *,
    record: str | Path | None = ...,
    controllers: Mapping[str, Any] | None = ...,
    about: Mapping[str, Any] | None = ...,
    exact: bool = ...,
    limit: Quantity | None = ...,
    sinks: Sequence[Sink] = ...,
    warn: bool = ...,
    keep_states: Quantity | None = ...,
    only: Iterable[str] | None = ...,
    without: Iterable[str] | None = ...,
    every: Mapping[str, Quantity] | None = ...,
    until: None = ...,
) -> Recording: ...
@overload
def run(
    scenario: Scenario,
    seed: int = 0,
    *,
    record: str | Path | None = ...,
    controllers: Mapping[str, Any] | None = ...,
    about: Mapping[str, Any] | None = ...,
    exact: bool = ...,
    limit: Quantity | None = ...,
    sinks: Sequence[Sink] = ...,
    warn: bool = ...,
    keep_states: Quantity | None = ...,
    only: Iterable[str] | None = ...,
    without: Iterable[str] | None = ...,
    every: Mapping[str, Quantity] | None = ...,
    until: Quantity,
) -> Trial: ...
def run(
    scenario: Scenario,
    seed: int = 0,
    *,
    record: str | Path | None = None,
    controllers: Mapping[str, Any] | None = None,
    about: Mapping[str, Any] | None = None,
    exact: bool = False,
    limit: Quantity | None = None,
    sinks: Sequence[Sink] = (),
    warn: bool = True,
    keep_states: Quantity | None = None,
    only: Iterable[str] | None = None,
    without: Iterable[str] | None = None,
    every: Mapping[str, Quantity] | None = None,
    until: Quantity | None = None,
) -> Recording | Trial:
    """Run one trial.

    Args:
        scenario: what happens; it is not changed.
        seed: of the sensors' noise.
        record: path of the MCAP file; None: the recording stays in memory.
        controllers: instead of the scenario's own, by robot.
        about: more to note in the file's metadata, such as drawn values.
        exact: True lets all sensors measure without errors of their own.
        limit: longest that the trial may take by the clock on the wall, s; None: any.
        sinks: where streams go beside the recording.
        keep_states: so often (s) the whole state is recorded, for ``Trial.resume``. None: never.
        only, without, every: which streams are recorded, see ``Scenario``; this counts for the scenario's.
        warn: False leaves the RuntimeWarning out: for callers that look at the outcome.
        until: stop at this time, s, and give the trial there: to look at it, or to go on with ``Trial.branch``. Nothing
            is recorded then.

    Returns:
        The recording. A controller that raises, a state that is no longer finite, or a limit that is over ends the
        trial: it is recorded up to there, its outcome says why, and a RuntimeWarning does too. With ``until``, the
            trial.

    Raises:
        VeldrainError: an unknown name, or a period that is not a whole number of steps.
    """
    if controllers is not None:
        scenario = scenario.driven_by(controllers)
    if until is not None:
        if record is not None:
            raise VeldrainError("until= stops before there is a recording", where="run", cure="leave record out")
        trial = Trial(scenario, checked_seed(seed), sinks=sinks, exact=exact)
        with limited(wall_time(limit)):
            trial.advance(until)
        return trial
    told = {"only": only, "without": without, "every": every}
    choice = Choice.of(scenario.record.words | {word: value for word, value in told.items() if value is not None})
    recorder = Recorder(Path(record) if record is not None else None)
    every_sink = [Chosen(recorder, choice) if choice.words else recorder, *sinks]
    outcome = carried_out(
        scenario, seed, every_sink, about=about, exact=exact, limit=limit, keep_states=keep_states, choice=choice
    )
    if warn and outcome["failed"]:
        warnings.warn(
            f"the trial was aborted at {outcome['time']:.4g} s: {outcome['reason']}", RuntimeWarning, stacklevel=2
        )
    return Recording(recorder.path or recorder.data)


def carried_out(
    scenario: Scenario,
    seed: int,
    sinks: Sequence[Sink],
    *,
    about: Mapping[str, Any] | None = None,
    exact: bool = False,
    limit: Quantity | None = None,
    keep_states: Quantity | None = None,
    choice: Choice | None = None,
    go_from: Callable[[Trial], None] | None = None,
) -> dict[str, Any]:
    """Run one trial into sinks; gives the outcome, with ``end``: a digest of where all that moves was at the end.

    ``go_from`` brings the trial to where it is to go on from; the sinks have begun.

    Raises:
        VeldrainError: as ``run``.
    """
    seconds = wall_time(limit)
    metadata = {
        "version": version(),
        "seed": checked_seed(seed),
        "exact": exact,
        "step": scenario.step,
        "duration": scenario.duration,
        "world_file": scenario.world.where.get("", ""),
        "controllers": {robot: _titles(c) for robot, c in scenario.controllers.items()},
        **(about or {}),
    }
    trial: Trial | None = None
    has_begun = False
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
                trial = Trial(
                    scenario, seed, sinks=sinks, exact=exact, keep_states=keep_states
                )  # a mistake shows before there is a file
                if choice:
                    choice.check([*trial.streams(), *trial.companions()], scenario.controllers)
                attached = _attached(trial) if any(sink.wants_files for sink in sinks) else {}
                for sink in sinks:
                    sink.begin(metadata, attached)
                has_begun = True
                if go_from:
                    trial.publisher.begin()
                    go_from(trial)
                    trial.publisher.state()
                outcome = trial.run()
        except OverLimitError:
            if seconds is None:  # somebody else's, who waits for no whole trial
                raise
            now = f"at {trial.simulation.time:g} s" if trial else "while it was set up: see what its controller imports"
            outcome["reason"] = f"the limit of {seconds:g} s is over {now}"
        except KeyboardInterrupt:
            if has_begun:
                _close(trial, sinks, metadata, outcome)
            raise
        except VeldrainError:  # a recording that cannot be written, or a mistake found while it was
            for sink in sinks:
                sink.abandon()
            raise
        finally:
            if trial:
                trial.close()
        _close(trial, sinks, metadata, outcome)
    return outcome | {"end": trial.simulation.digest() if trial else ""}


def _attached(trial: Trial) -> dict[str, bytes]:
    """The world of a trial as files; where files have no words for it, that is told."""
    try:
        return attachments_of(trial.scenario.world)
    except VeldrainError as error:
        trial.simulation.notice("world", f"the recording does not hold its world: {error}")
        return {}


def _close(trial: Trial | None, sinks: Sequence[Sink], metadata: dict[str, Any], outcome: dict[str, Any]) -> None:
    """Bring sinks to their end; of a trial that was aborted, with what was judged until then."""
    if trial and outcome["failed"]:
        outcome |= {k: v for k, v in trial.outcome(outcome["reason"]).items() if k != "reason"}
    for sink in reversed(sinks):  # the recording last
        sink.end(metadata | {"outcome": outcome})


def wall_time(limit: Quantity | None) -> float | None:
    """A limit in s.

    Raises:
        VeldrainError: it is not above zero.
    """
    seconds = None if limit is None else quantity(limit, "time", "limit")
    if seconds is not None and not 0 < seconds < math.inf:
        raise VeldrainError(f"a limit of {seconds:g} s", where="limit", cure="give a time above zero, or none")
    return seconds


def _titles(controller: Any) -> Any:
    """A controller's name, or the names of several."""
    if isinstance(controller, Mapping):
        return {name: _titles(one) for name, one in controller.items()}
    return getattr(controller, "use", None) or f"{type(controller).__module__}:{type(controller).__qualname__}"
