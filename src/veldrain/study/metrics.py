"""One number for a trial: a statistic of a column, the time of a finish, the margin of an expectation.

A new kind is a class with ``name``, ``unit``, ``better`` and ``of(recording)``; where it says which ``streams`` it
reads, only these are kept for it while a trial runs.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from veldrain.errors import VeldrainError, checked_title, unknown
from veldrain.pose import Array
from veldrain.recording import Recording
from veldrain.study.series import STATISTICS
from veldrain.units import Quantity, in_unit, quantity

if TYPE_CHECKING:
    import pandas as pd

Better = Literal["lower", "higher"]


@dataclass(frozen=True)
class Metric:
    """A statistic of a stream's column over a trial, or over a part of it.

    inf is a value. A sample that is nan leaves the statistic without one, which is told, unless ``missing`` is
    ``skip``.

    Args:
        name: what it is called in tables and pages.
        stream: the stream, such as ``crawler/truth``; also one that a controller logs, or the scenario.
        column: the column, such as ``y``, ``ranges`` (all of an array) or ``ranges[2]`` (one of it), or a pattern
            such as ``effort.*`` for several together.
        statistic: ``mean``, ``median``, ``rms``, ``std``, ``min``, ``max``, ``max abs``, ``first``, ``last``,
            ``count``, ``integral``, ``percentile`` (of ``percent``), ``at`` (a time), ``time above``, ``time below``
            or ``time until`` (a ``level``), ``settling time`` (into a ``band`` about the ``target``), ``overshoot``
            (beyond it).
        unit: of the metric: the column's number is converted to it. Left out, it is the column's.
        better: ``lower`` or ``higher``.
        matters: the smallest difference that matters, in the metric's unit or with its own; less counts as equal.
        level, band, target: of the statistic, in the column's unit or with their own. ``target``: None is the last
            sample.
        percent: 0 to 100.
        at: a time, s.
        since, until: only samples from and up to these: times in s, or names of events (when each first happened).
        missing: ``skip`` leaves out samples that are nan.

    >>> Metric("offset, RMS", stream="crawler/truth", column="y", statistic="rms", unit="mm").better
    'lower'
    """

    name: str
    stream: str
    column: str
    statistic: str
    unit: str = ""
    better: Better = "lower"
    matters: Quantity = 0.0
    level: Quantity | None = None
    band: Quantity | None = None
    target: Quantity | None = None
    percent: float | None = None
    at: Quantity | None = None
    since: Quantity | None = None
    until: Quantity | None = None
    missing: Literal["nan", "skip"] = "nan"

    def __post_init__(self) -> None:
        if self.statistic not in STATISTICS:
            raise unknown("statistic", self.statistic, STATISTICS, self._where)
        kind, told = STATISTICS[self.statistic], self._told
        for word in kind.needs:
            if word not in told:
                raise VeldrainError(f"'{self.statistic}' of what {word}", where=self._where, cure=f"give {word}")
        for word in told:
            if word not in (*kind.needs, *kind.may):
                raise VeldrainError(f"'{self.statistic}' has no {word}", where=self._where, cure="leave it out")
        if self.percent is not None and not 0 <= self.percent <= 100:
            raise VeldrainError(f"percent is {self.percent:g}", where=self._where, cure="give 0 to 100")
        if self.missing not in ("nan", "skip"):
            raise unknown("way with what is missing", self.missing, ("nan", "skip"), self._where)
        _smallest_if_known(self)

    @property
    def _where(self) -> str:
        return f"metric '{self.name}'"

    @property
    def _told(self) -> list[str]:
        return [word for word in ("level", "band", "target", "percent", "at") if getattr(self, word) is not None]

    @property
    def streams(self) -> tuple[str, ...]:
        """The streams that it reads."""
        return (self.stream,)

    def unit_of(self, column: str) -> str:
        """The unit of the metric, out of that of its column ("": not known).

        Raises:
            VeldrainError: its own is of another kind.
        """
        told = STATISTICS[self.statistic].unit
        si = told.format(column) if column or "{}" not in told else ""
        if not self.unit or not si:
            return self.unit or si
        _factor(si, self.unit, self._where)
        return self.unit

    def of(self, recording: Recording, unit: str | None = None) -> float:
        """The number; nan: the stream is empty, or a sample is nan.

        Args:
            recording: of the trial, or tables by stream.
            unit: of the column, where it is known already. None: what the recording says.

        Raises:
            VeldrainError: no such stream or column, a column without numbers, or a unit of another kind.
        """
        return self.told(recording, unit)[0]

    def told(self, recording: Recording, unit: str | None = None) -> tuple[float, str]:
        """The same with what is to be said of it: why it has no value, or what was left out."""
        table, known = recording[self.stream], getattr(recording, "unit", None)
        times, values, columns = self.samples(table)
        if unit is None:
            unit = known(self.stream, columns[0].partition("[")[0]) if known and columns else ""
        begin, end = (self._moment(word, recording) for word in ("since", "until"))
        inside = np.ones(len(times), bool)
        if begin is not None:
            inside &= times >= begin - 1e-9
        if end is not None:
            inside &= times <= end + 1e-9
        times, values = times[inside], values[inside]
        gone = int(np.isnan(values).sum())
        if gone and self.missing == "skip":
            keep = ~np.isnan(values)
            times, values = times[keep], values[keep]
        if not len(values):
            return math.nan, f"'{self.name}' has no samples" + (f": all {gone} are nan" if gone else "")
        told = STATISTICS[self.statistic]
        found = told.of(times, values, **{word: self._word(word, unit) for word in self._told})
        si = told.unit.format(unit) if unit or "{}" not in told.unit else ""
        if self.unit and si and math.isfinite(found):
            factor, zero = _factor(si, self.unit, self._where)
            found = found * factor + (0.0 if self.statistic in ("std", "overshoot", "integral") else zero)
        if not gone or self.statistic == "count" or (self.missing == "nan" and not math.isnan(found)):
            return found, ""
        said = "left out" if self.missing == "skip" else "it has no value; missing: skip leaves them out"
        return found, f"'{self.name}': {gone} of {int(inside.sum())} samples are nan, {said}"

    def _word(self, word: str, unit: str) -> float:
        """One of the words of the statistic as a number, in the column's unit."""
        value, where = getattr(self, word), f"{self._where}: {word}"
        if word == "at":
            return quantity(value, "time", where)
        return in_unit(value, unit, where) if isinstance(value, str) else float(value)

    def samples(self, table: pd.DataFrame) -> tuple[Array, Array, list[str]]:
        """Times and values of all columns that are meant, in the order of time, and the columns' names."""
        time = table["time"].to_numpy(float)
        columns = [c for c in table.columns if fnmatchcase(str(c), self.column) and c != "time"]
        columns = [self.column] if self.column in table.columns else columns
        inner, _, place = self.column.removesuffix("]").rpartition("[")
        if not columns and inner in table.columns and place.isdigit():
            rows = table[inner].tolist()
            if rows and np.ndim(rows[0]) and all(len(row) > int(place) for row in rows):
                return time, np.array([row[int(place)] for row in rows], float), [self.column]
        if not columns:
            raise unknown("column", self.column, map(str, table.columns), f"{self._where}, {self.stream}")
        found: list[Array] = []
        stamps: list[Array] = []
        for name in columns:
            try:
                if table[name].dtype == object and len(table) and np.ndim(table[name].iloc[0]) == 1:
                    rows = [np.asarray(row, float) for row in table[name]]
                    found.append(np.concatenate(rows))
                    stamps.append(np.repeat(time, [len(row) for row in rows]))
                else:
                    found.append(table[name].to_numpy(float))
                    stamps.append(time)
            except (TypeError, ValueError):
                raise VeldrainError(
                    f"{name} of {self.stream} is no column of numbers", where=self._where, cure="name another column"
                ) from None
        times, values = np.concatenate(stamps), np.concatenate(found)
        order = np.argsort(times, kind="stable")
        return times[order], values[order], [str(c) for c in columns]

    def _moment(self, word: str, recording: Recording) -> float | None:
        """A time, or that at which an event first happened; inf where it never did."""
        told = getattr(self, word)
        if told is None:
            return None
        if not isinstance(told, str) or told[:1].isdigit():
            return quantity(told, "time", f"{self._where}: {word}")
        found = getattr(recording, "outcome", {}).get("events", {})
        return float(found.get(told, math.inf))


@dataclass(frozen=True)
class FinishTime:
    """The time (s) at which a trial finished for a reason; inf where it ended otherwise: it never got there.

    >>> FinishTime("time to outlet", reason="reached the outlet").unit
    's'
    """

    name: str
    reason: str
    unit: str = "s"
    better: Better = "lower"
    matters: Quantity = 0.0
    streams = ()

    def __post_init__(self) -> None:
        _smallest_if_known(self)
        _factor("s", self.unit, f"metric '{self.name}'")

    def of(self, recording: Recording) -> float:
        """The time, or inf; nan for a trial that was aborted."""
        outcome = recording.outcome
        if outcome.get("failed"):
            return math.nan
        time = float(outcome["time"]) * _factor("s", self.unit, f"metric '{self.name}'")[0]
        return time if outcome.get("reason") == self.reason else math.inf


@dataclass(frozen=True)
class Margin:
    """By how much an expectation held (above 0) or failed (below), in the unit of what it compares; nan: it has none.

    Args:
        name: what it is called in tables and pages.
        expectation: its name in the scenario.
        unit: of the margin, which is converted to it. Left out, it is that of what is compared.
        matters: the smallest difference that matters.

    >>> Margin("time to spare", expectation="a second to spare", unit="s").better
    'higher'
    """

    name: str
    expectation: str
    unit: str = ""
    better: Better = "higher"
    matters: Quantity = 0.0
    streams = ()

    def __post_init__(self) -> None:
        _smallest_if_known(self)

    def unit_of(self, column: str) -> str:
        """Its unit, out of that of what is compared."""
        if self.unit and column:
            _factor(column, self.unit, f"metric '{self.name}'")
        return self.unit or column

    def of(self, recording: Recording) -> float:
        """The margin, or nan."""
        found = recording.outcome.get("expectations", {}).get(self.expectation, {})
        if found.get("margin") is None:
            return math.nan
        unit = found.get("unit", "")
        factor = _factor(unit, self.unit, f"metric '{self.name}'")[0] if unit and self.unit else 1.0
        return float(found["margin"]) * factor


AnyMetric = Metric | FinishTime | Margin
TAKEN = {"controller", "trial", "seed", "passed", "failed", "reason", "time", "notices", "file", "end", "expectations"}


def _factor(unit: str, to: str, where: str) -> tuple[float, float]:
    """What a number of a unit is multiplied with for another, and what is added then.

    Raises:
        VeldrainError: they are of different kinds.
    """
    if unit == to:
        return 1.0, 0.0
    wrong = VeldrainError(
        f"its unit is {to}, and what it reads is in {unit}", where=where, cure=f"give unit: {unit}, or none"
    )
    angular = [any(word in u for word in ("rad", "deg", "°", "turn", "rev", "rpm")) and u != "°C" for u in (unit, to)]
    if angular[0] != angular[1]:
        raise wrong
    try:
        zero, one = in_unit(f"0 {unit}", to, where), in_unit(f"1 {unit}", to, where)
    except VeldrainError:
        raise wrong from None
    return one - zero, zero


def smallest_of(matters: Quantity, unit: str, name: str) -> float:
    """A smallest difference that matters, in the unit of its metric.

    Raises:
        VeldrainError: less than zero, or of another kind of unit.
    """
    value = in_unit(matters, unit, f"metric '{name}': matters") if isinstance(matters, str) else float(matters)
    if not 0 <= value < math.inf:
        raise VeldrainError(f"matters is {value:g}", where=f"metric '{name}'", cure="give 0 or more")
    return value


def _smallest_if_known(metric: Any) -> None:
    """Turn a smallest difference into a number where the unit is known already."""
    if metric.unit or not isinstance(metric.matters, str):
        object.__setattr__(metric, "matters", smallest_of(metric.matters, metric.unit, metric.name))


def expectation_columns(name: str) -> tuple[str, str, str]:
    """The columns of an expectation in a table of trials: whether it was met, by how much, and when it was decided."""
    return f"{name}: passed", f"{name}: margin", f"{name}: when"


def checked_metrics(metrics: list[AnyMetric], taken: Iterable[str] = ()) -> list[AnyMetric]:
    """The metrics, if their names are names, differ, and none is a column of its own or a drawn value."""
    known = {*TAKEN, *taken}
    for metric in metrics:
        missing = [word for word in ("name", "unit", "better", "of") if not hasattr(metric, word)]
        if missing:
            raise VeldrainError(
                f"{type(metric).__name__} is not a metric: it has no {', '.join(missing)}",
                where="metrics",
                cure="see veldrain.Metric",
            )
        checked_title(metric.name, "metric")
        if metric.name in known:
            raise VeldrainError("this name is taken", where=f"metric '{metric.name}'", cure="give another name")
        if metric.better not in ("lower", "higher"):
            raise unknown("way of being better", metric.better, ("lower", "higher"), f"metric '{metric.name}'")
        known.add(metric.name)
    return metrics


def metric_of(metric: AnyMetric, recording: Recording, unit: str | None = None) -> tuple[float, str]:
    """A metric's value of a trial, and what is to be said of it.

    nan where a trial has not recorded what it needs: it was aborted, or a controller never logged it.
    """
    try:
        if isinstance(metric, Metric):
            return metric.told(recording, unit)
        return float(metric.of(recording)), ""
    except VeldrainError as error:
        failed = recording.outcome.get("failed")
        if failed or (isinstance(metric, Metric) and metric.stream not in recording.messages):
            return math.nan, "" if failed else f"'{metric.name}' has no value: {error.problem}"
        raise


def described_metric(metric: AnyMetric, unit: str = "") -> dict[str, Any]:
    """What tables and pages need of a metric; ``unit``: of what it reads."""
    own = unit_of_metric(metric, unit)
    told = {f.name: getattr(metric, f.name) for f in fields(metric)} if isinstance(metric, AnyMetric) else {}
    told |= {"name": metric.name, "unit": own, "better": metric.better, "reads_in": unit}
    told["matters"] = smallest_of(getattr(metric, "matters", 0.0), own, metric.name)
    return {word: value for word, value in told.items() if value is not None}


def unit_of_metric(metric: AnyMetric, column: str) -> str:
    """A metric's unit, out of that of what it reads."""
    return metric.unit_of(column) if isinstance(metric, Metric | Margin) else metric.unit


def streams_of(metrics: Sequence[AnyMetric]) -> list[str] | None:
    """The streams that metrics read; None: one of them does not say."""
    found: dict[str, None] = {}
    for metric in metrics:
        streams = getattr(metric, "streams", None)
        if not isinstance(streams, tuple | list):
            return None
        found |= dict.fromkeys(streams)
    return list(found)
