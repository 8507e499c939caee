"""A look at what metrics will read, before anything is run for them."""

from __future__ import annotations

import difflib
from fnmatch import fnmatchcase

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Message
from veldrain.recording import Sink
from veldrain.scenario.limits import limited
from veldrain.scenario.trial import Trial
from veldrain.study.metrics import AnyMetric, FinishTime, Margin, Metric, unit_of_metric

PROBED = 0.2  # s of a trial, to see what controllers log


def reads_in(metric: AnyMetric, trial: Trial, limit: float | None = None) -> str:
    """The unit of what a metric reads ("": not known), if a trial will have it.

    Raises:
        VeldrainError: no such stream, column, event, expectation or reason, or a unit of another kind.
    """
    where, scenario = f"metric '{metric.name}'", trial.scenario
    if isinstance(metric, FinishTime) and metric.reason not in scenario.reasons():
        raise unknown("reason to finish", metric.reason, scenario.reasons(), where)
    if isinstance(metric, Margin):
        if metric.expectation not in scenario.expectations:
            raise unknown("expectation", metric.expectation, scenario.expectations, where)
        unit = scenario.expectations[metric.expectation].condition.unit()
        unit_of_metric(metric, unit)
        return unit
    if not isinstance(metric, Metric):
        return ""
    for word in ("since", "until"):
        told = getattr(metric, word)
        known = [name for entry in scenario.timeline for name in entry.names]
        if isinstance(told, str) and not told[:1].isdigit() and told not in known:
            raise unknown("event", told, known, f"{where}: {word}")
    streams = [*trial.streams(), *trial.companions()]
    if metric.stream not in streams:
        _see_that_it_may_be_logged(metric, trial, streams, limit)
        return ""
    if not scenario.record.has(metric.stream):
        raise VeldrainError(
            f"needs stream '{metric.stream}', which is not recorded",
            where=where,
            cure="name it in the scenario's record",
        )
    tried = trial.tried(metric.stream)
    if tried is None:
        return ""
    columns = metric.samples(tried[metric.stream])[2]
    unit = trial.unit(metric.stream, tried.messages[metric.stream], columns[0].partition("[")[0])
    unit_of_metric(metric, unit)
    metric.told(tried, unit)  # its words may be of another kind of unit
    return unit


def _see_that_it_may_be_logged(metric: Metric, trial: Trial, streams: list[str], limit: float | None) -> None:
    """Of what only a controller knows: what it logs at once is seen, and what it may log later is not refused."""
    where, robot = f"metric '{metric.name}'", metric.stream.partition("/")[0]
    if robot not in trial.scenario.controllers:
        raise unknown("stream", metric.stream, streams, where)
    logged = _logged(trial, limit)
    near = difflib.get_close_matches(metric.stream, [*streams, *logged], n=1, cutoff=0.8)
    if metric.stream not in logged and near:
        raise unknown("stream", metric.stream, [*streams, *logged], where)
    if not fnmatchcase("data", metric.column):
        raise unknown("column", metric.column, ["data"], f"{where}, {metric.stream}")


class _Names(Sink):
    """Notes which streams come."""

    wants_files = False

    def __init__(self) -> None:
        self.seen: set[str] = set()

    def write(self, stream: str, stamp: int, message: Message, latched: bool = False) -> None:
        self.seen.add(stream)


def _logged(trial: Trial, limit: float | None) -> set[str]:
    """The streams that come in a first part of a trial like this."""
    names = _Names()
    probe = Trial(trial.scenario, trial.simulation.seed, sinks=[names])
    step = trial.simulation.step
    try:
        with limited(limit):
            probe.advance(min(round(PROBED / step), probe.end) * step)
    except VeldrainError:  # a controller that fails: the trials tell of it
        return names.seen
    finally:
        probe.close()
    return names.seen
