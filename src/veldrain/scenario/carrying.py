"""A trial carried out into sinks: its limits, its end, and what becomes of sinks where it breaks off."""

from __future__ import annotations

import importlib.metadata
import math
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from typing import Any, Protocol

from veldrain.errors import VeldrainError
from veldrain.progress import Progress
from veldrain.randomness import checked_seed
from veldrain.recording import Sink
from veldrain.recording.attaching import attachments_of
from veldrain.recording.choice import Choice
from veldrain.recording.interrupts import uninterrupted
from veldrain.recording.publishing import Publisher
from veldrain.scenario.limits import OverLimitError, limited
from veldrain.scenario.scenario import Scenario
from veldrain.simulation import Simulation
from veldrain.units import Quantity, quantity


class Trial(Protocol):
    """What is needed of a trial."""

    scenario: Scenario
    simulation: Simulation
    publisher: Publisher

    def streams(self) -> list[str]:
        """Names of the streams that the recording will have."""

    def companions(self) -> list[str]:
        """Names of the streams that sensors have beside their own."""

    def run(self) -> dict[str, Any]:
        """Go to the end; gives the outcome."""

    def outcome(self, failure: str = "") -> dict[str, Any]:
        """How it ended."""

    def close(self) -> None:
        """Let the controllers give back what they hold."""


@cache
def version() -> str:
    """The version of this library."""
    return importlib.metadata.version("veldrain")


def carried_out(
    begin: Callable[..., Trial],
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
    progress: Progress | None = None,
) -> dict[str, Any]:
    """Run a trial that ``begin`` makes into sinks.

    Gives the outcome, with ``end``: a digest of where all that moves was at the end.

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
                told = {"progress": progress} if progress else {}
                # A mistake shows before there is a file.
                trial = begin(scenario, seed, sinks=sinks, exact=exact, keep_states=keep_states, **told)
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
