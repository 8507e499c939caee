"""Runs one trial from start to end, and records it."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, overload

from veldrain.errors import VeldrainError
from veldrain.progress import Progress
from veldrain.randomness import checked_seed
from veldrain.recording import Recorder, Recording, Sink
from veldrain.recording.choice import Choice, Chosen
from veldrain.scenario.carrying import carried_out, wall_time
from veldrain.scenario.limits import limited
from veldrain.scenario.scenario import Scenario
from veldrain.scenario.trial import Trial
from veldrain.units import Quantity


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
    progress: Progress | None = ...,
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
    progress: Progress | None = ...,
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
    progress: Progress | None = None,
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
        progress: told a few times a second how far it is, s of simulated time, and of how much.
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
        trial = Trial(scenario, checked_seed(seed), sinks=sinks, exact=exact, progress=progress)
        with limited(wall_time(limit)):
            trial.advance(until)
        return trial
    told = {"only": only, "without": without, "every": every}
    choice = Choice.of(scenario.record.words | {word: value for word, value in told.items() if value is not None})
    recorder = Recorder(Path(record) if record is not None else None)
    every_sink = [Chosen(recorder, choice) if choice.words else recorder, *sinks]
    outcome = carried_out(
        Trial, scenario, seed, every_sink, about=about, exact=exact, limit=limit, keep_states=keep_states,
        choice=choice, progress=progress,
    )  # fmt: skip
    if warn and outcome["failed"]:
        warnings.warn(
            f"the trial was aborted at {outcome['time']:.4g} s: {outcome['reason']}", RuntimeWarning, stacklevel=2
        )
    return Recording(recorder.path or recorder.data)
