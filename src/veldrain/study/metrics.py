"""One number for a trial, read from its recording."""

from __future__ import annotations

import math
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Literal

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.recording import Recording

Better = Literal["lower", "higher"]
STATISTICS = {
    "mean": lambda v: float(v.mean()),
    "rms": lambda v: float(np.sqrt((v**2).mean())),
    "largest": lambda v: float(np.abs(v).max()),
    "least": lambda v: float(v.min()),
    "most": lambda v: float(v.max()),
    "last": lambda v: float(v[-1]),
}


@dataclass(frozen=True)
class Metric:
    """A statistic of a stream's column over a trial.

    Args:
        name: what it is called in tables and pages.
        stream: the stream, such as ``crawler/truth``.
        column: the column, such as ``y``, or a pattern such as ``effort.*`` for several together.
        statistic: ``mean``, ``rms``, ``largest`` (size, whatever the sign), ``least``, ``most`` or ``last``.
        unit: of the metric, for tables and pages.
        better: ``lower`` or ``higher``.

    >>> Metric("offset, RMS", stream="crawler/truth", column="y", statistic="rms", unit="m").better
    'lower'
    """

    name: str
    stream: str
    column: str
    statistic: str
    unit: str = ""
    better: Better = "lower"

    def __post_init__(self) -> None:
        if self.statistic not in STATISTICS:
            raise unknown("statistic", self.statistic, STATISTICS, f"metric '{self.name}'")

    def of(self, recording: Recording) -> float:
        """The number (nan: the stream is empty).

        Raises:
            VeldrainError: no such stream or column.
        """
        table = recording[self.stream]
        columns = [c for c in table.columns if fnmatchcase(c, self.column)]
        if not columns:
            raise unknown("column", self.column, table.columns, f"metric '{self.name}', {self.stream}")
        values = table[columns].to_numpy(float).ravel()
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

    def of(self, recording: Recording) -> float:
        """The time, or nan."""
        outcome = recording.outcome
        return float(outcome["time"]) if outcome.get("reason") == self.reason else math.nan


AnyMetric = Metric | FinishTime


def checked_metrics(metrics: list[AnyMetric]) -> list[AnyMetric]:
    """The metrics, if their names differ and none is a column of its own."""
    taken = {"controller", "trial", "seed", "passed", "failed", "reason", "time", "file"}
    for metric in metrics:
        if metric.name in taken:
            raise VeldrainError("this name is taken", where=f"metric '{metric.name}'", cure="give another name")
        taken.add(metric.name)
    return metrics
