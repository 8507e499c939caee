"""Runs one trial from start to end, and records it."""

from __future__ import annotations

import importlib.metadata
import math
import warnings
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

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
        sinks: where streams go beside the recording.
        keep_states: so often (s) the whole state is recorded, for ``Trial.resume``. None: never.
        only, without, every: which streams are recorded, see ``Scenario``; this counts for the scenario's.
        warn: False leaves the RuntimeWarning out: for callers that look at the outcome.

    Returns:
        The recording. A controller that raises, a state that is no longer finite, or a limit that is over ends the
        trial: it is recorded up to there, its outcome says why, and a RuntimeWarning does too.

    Raises:
        VeldrainError: an unknown name, or a period that is not a whole number of steps.
    """
    seconds = wall_time(limit)
    if controllers is not None:
        scenario = scenario.driven_by(controllers)
    told = {"only": only, "without": without, "every": every}
    choice = Choice.of(scenario.record.words | {word: value for word, value in told.items() if value is not None})
    recorder = Recorder(Path(record) if record is not None else None)
    every_sink = [Chosen(recorder, choice) if choice.words else recorder, *sinks]
    metadata = {
        "version": importlib.metadata.version("veldrain"),
        "seed": checked_seed(seed),
        "exact": exact,
        "step": scenario.step,
        "duration": scenario.duration,
        "world_file": scenario.world.where.get("", ""),
        "controllers": {robot: _titles(c) for robot, c in scenario.controllers.items()},
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
                trial = Trial(
                    scenario, seed, sinks=every_sink, exact=exact, keep_states=keep_states
                )  # a mistake shows before there is a file
                attached = _attached(trial)
                choice.check([*trial.streams(), *trial.companions()], scenario.controllers)
                for sink in every_sink:
                    sink.begin(metadata, attached)
                outcome = trial.run()
        except OverLimitError:
            now = f"at {trial.simulation.time:g} s" if trial else "while it was set up: see what its controller imports"
            outcome["reason"] = f"the limit of {seconds:g} s is over {now}"
        except KeyboardInterrupt:
            if not recorder.has_begun:
                raise
            _close(trial, recorder, sinks, metadata, outcome)
            raise
        except VeldrainError:  # a recording that cannot be written, or a mistake found while it was
            recorder.abandon()
            raise
        finally:
            if trial:
                trial.close()
        data = _close(trial, recorder, sinks, metadata, outcome)
    if warn and outcome["failed"]:
        warnings.warn(
            f"the trial was aborted at {outcome['time']:.4g} s: {outcome['reason']}", RuntimeWarning, stacklevel=2
        )
    return Recording(recorder.path or data)


def _attached(trial: Trial) -> dict[str, bytes]:
    """The world of a trial as files; where files have no words for it, that is told."""
    try:
        return attachments_of(trial.scenario.world)
    except VeldrainError as error:
        trial.simulation.notice("world", f"the recording does not hold its world: {error}")
        return {}


def _close(
    trial: Trial | None, recorder: Recorder, sinks: Sequence[Sink], metadata: dict[str, Any], outcome: dict[str, Any]
) -> bytes:
    """Bring a recording to its end; of a trial that was aborted, with what was judged until then."""
    if trial and outcome["failed"]:
        outcome |= {k: v for k, v in trial.outcome(outcome["reason"]).items() if k != "reason"}
    for sink in sinks:
        sink.end(metadata | {"outcome": outcome})
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


def _titles(controller: Any) -> Any:
    """A controller's name, or the names of several."""
    if isinstance(controller, Mapping):
        return {name: _titles(one) for name, one in controller.items()}
    return getattr(controller, "use", None) or f"{type(controller).__module__}:{type(controller).__qualname__}"
