"""One number for a trial, read from its recording."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any, Literal

import numpy as np

from veldrain.errors import VeldrainError, checked_title, unknown
from veldrain.recording import Recording
from veldrain.scenario.trial import Trial
from veldrain.units import Quantity, in_unit

Better = Literal["lower", "higher"]
STATISTICS = {
    "mean": lambda v: float(v.mean()),
    "rms": lambda v: float(np.sqrt((v**2).mean())),
    "max abs": lambda v: float(np.abs(v).max()),
    "min": lambda v: float(v.min()),
    "max": lambda v: float(v.max()),
    "last": lambda v: float(v[-1]),
}


@dataclass(frozen=True)
class Metric:
    """A statistic of a stream's column over a trial.

    Args:
        name: what it is called in tables and pages.
        stream: the stream, such as ``crawler/truth``.
        column: the column, such as ``y``, or a pattern such as ``effort.*`` for several together.
        statistic: ``mean``, ``rms``, ``max abs``, ``min``, ``max`` or ``last``.
        unit: of the metric, for tables and pages.
        better: ``lower`` or ``higher``.
        matters: the smallest difference that matters, in the metric's unit or with its own; less is no verdict.

    >>> Metric("offset, RMS", stream="crawler/truth", column="y", statistic="rms", unit="m").better
    'lower'
    """

    name: str
    stream: str
    column: str
    statistic: str
    unit: str = ""
    better: Better = "lower"
    matters: Quantity = 0.0

    def __post_init__(self) -> None:
        if self.statistic not in STATISTICS:
            raise unknown("statistic", self.statistic, STATISTICS, f"metric '{self.name}'")
        object.__setattr__(self, "matters", smallest_of(self.matters, self.unit, self.name))

    def of(self, recording: Recording) -> float:
        """The number (nan: the stream is empty).

        Raises:
            VeldrainError: no such stream or column.
        """
        table = recording[self.stream]
        columns = [c for c in table.columns if fnmatchcase(c, self.column)]
        if not columns:
            raise unknown("column", self.column, table.columns, f"metric '{self.name}', {self.stream}")
        try:
            values = table[columns].to_numpy(float).ravel()
        except (TypeError, ValueError):
            raise VeldrainError(
                f"{', '.join(columns[:3])} of {self.stream} is no column of numbers",
                where=f"metric '{self.name}'",
                cure="name another column",
            ) from None
        values = values[np.isfinite(values)]
        return STATISTICS[self.statistic](values) if len(values) else math.nan


@dataclass(frozen=True)
class FinishTime:
    """The time (s) at which a trial finished for a reason; nan where it did not.

    >>> FinishTime("time to outlet", reason="reached the outlet").unit
    's'
    """

    name: str
    reason: str
    unit: str = "s"
    better: Better = "lower"
    matters: Quantity = 0.0

    def __post_init__(self) -> None:
        object.__setattr__(self, "matters", smallest_of(self.matters, self.unit, self.name))

    def of(self, recording: Recording) -> float:
        """The time, or nan."""
        outcome = recording.outcome
        return float(outcome["time"]) if outcome.get("reason") == self.reason else math.nan


@dataclass(frozen=True)
class Margin:
    """By how much an expectation held (above 0) or failed (below), in the unit of what it compares; nan: it has none.

    Args:
        name: what it is called in tables and pages.
        expectation: its name in the scenario.
        unit: of the margin, for tables and pages.
        matters: the smallest difference that matters.

    >>> Margin("time to spare", expectation="a second to spare", unit="s").better
    'higher'
    """

    name: str
    expectation: str
    unit: str = ""
    better: Better = "higher"
    matters: Quantity = 0.0

    def __post_init__(self) -> None:
        object.__setattr__(self, "matters", smallest_of(self.matters, self.unit, self.name))

    def of(self, recording: Recording) -> float:
        """The margin, or nan."""
        found = recording.outcome.get("expectations", {}).get(self.expectation, {}).get("margin")
        return math.nan if found is None else float(found)


AnyMetric = Metric | FinishTime | Margin
TAKEN = {"controller", "trial", "seed", "passed", "failed", "reason", "time", "notices", "file"}


def smallest_of(matters: Quantity, unit: str, name: str) -> float:
    """A smallest difference that matters, in the unit of its metric.

    Raises:
        VeldrainError: less than zero, or of another kind of unit.
    """
    value = in_unit(matters, unit, f"metric '{name}': matters") if isinstance(matters, str) else float(matters)
    if not 0 <= value < math.inf:
        raise VeldrainError(f"matters is {value:g}", where=f"metric '{name}'", cure="give 0 or more")
    return value


def checked_metrics(metrics: list[AnyMetric], vary: Iterable[str] = ()) -> list[AnyMetric]:
    """The metrics, if their names are names, differ, and none is a column of its own or a drawn value."""
    taken = {*TAKEN, *vary}
    for metric in metrics:
        missing = [word for word in ("name", "unit", "better", "of") if not hasattr(metric, word)]
        if missing:
            raise VeldrainError(
                f"{type(metric).__name__} is not a metric: it has no {', '.join(missing)}",
                where="metrics",
                cure="see veldrain.Metric",
            )
        checked_title(metric.name, "metric")
        if metric.name in taken:
            raise VeldrainError("this name is taken", where=f"metric '{metric.name}'", cure="give another name")
        if metric.better not in ("lower", "higher"):
            raise unknown("way of being better", metric.better, ("lower", "higher"), f"metric '{metric.name}'")
        taken.add(metric.name)
    return metrics


def metric_of(metric: AnyMetric, recording: Recording) -> float:
    """A metric's value of a trial; nan where a trial that was aborted has not recorded what it needs."""
    try:
        return float(metric.of(recording))
    except VeldrainError:
        if recording.outcome.get("failed"):
            return math.nan
        raise


def described_metric(metric: AnyMetric) -> dict[str, Any]:
    """What tables and pages need of a metric."""
    words = ("name", "unit", "better", "matters", "stream", "column", "statistic", "reason", "expectation")
    return {word: getattr(metric, word) for word in words if hasattr(metric, word)}


def look_at_metric(metric: AnyMetric, trial: Trial) -> None:
    """See that a trial will have what a metric reads.

    Raises:
        VeldrainError: no such stream, column or reason.
    """
    where = f"metric '{metric.name}'"
    if isinstance(metric, FinishTime) and metric.reason not in trial.scenario.reasons():
        raise unknown("reason to finish", metric.reason, trial.scenario.reasons(), where)
    if isinstance(metric, Margin) and metric.expectation not in trial.scenario.expectations:
        raise unknown("expectation", metric.expectation, trial.scenario.expectations, where)
    if not isinstance(metric, Metric):
        return
    streams = [*trial.streams(), *trial.companions()]
    if metric.stream not in streams:
        raise unknown("stream", metric.stream, streams, where)
    if not trial.scenario.record.has(metric.stream):
        raise VeldrainError(
            f"needs stream '{metric.stream}', which is not recorded",
            where=where,
            cure="name it in the scenario's record",
        )
    tried = trial.tried(metric.stream)
    if tried is not None:
        metric.of(tried)
