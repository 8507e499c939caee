"""The worst, the median and the best pair of a study: the moment that made them, in pictures and in the stream that
differs."""

from __future__ import annotations

import base64
import io
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from veldrain.errors import VeldrainError
from veldrain.recording import Recording
from veldrain.report import figures
from veldrain.report.text import number
from veldrain.study import Result
from veldrain.study.metrics import expectation_columns
from veldrain.study.statistics import Comparison, Difference

SIZE = (480, 300)


@dataclass(frozen=True)
class Moment:
    """One pair of trials.

    Attributes:
        title: which it is, in a sentence.
        pictures: caption and JPEG (base64) of each controller at the moment.
        figure: the metric's stream of both; None where the metric has none.
        recordings: of both, by controller.
        name: a word for it, and the number of the trial: ``worst-12``.
    """

    title: str
    pictures: list[tuple[str, str]]
    figure: Figure | None
    recordings: dict[str, Recording]
    name: str


def moments(result: Result, comparison: Comparison, pictures: bool) -> Iterator[Moment]:
    """The worst and the median pair in the metric that tells most, where their recordings are there."""
    told = [d for d in comparison.differences if d.pairs and result.metric(d.metric).get("stream")]
    if not told:
        return
    clear = [d for d in told if d.verdict in ("better", "worse", "mixed")]
    d = min(clear or told, key=lambda d: d.p)
    for word, trial in _chosen(result, comparison, d):
        names = (comparison.baseline, d.controller)
        try:
            recordings = [result.recording(name, trial) for name in names]
        except VeldrainError:  # not kept, and the study is not at hand
            continue
        values = [_value(result, name, trial, d.metric) for name in names]
        shown = " against ".join(f"{number(v)} {d.unit}".rstrip() for v in values[::-1])
        title = f"{word} pair in {d.metric}: trial {trial}, {shown} ({d.controller} against {comparison.baseline})."
        when = _moment(result, d.controller, trial, d.metric, recordings[1])  # one moment for both, to be compared
        seen = [
            (f"{name}, {number(at)} s", jpeg)
            for name, r in zip(names, recordings, strict=True)
            if pictures and (jpeg := _pictured(r, at := min(when, float(r.outcome["time"]))))
        ]
        both = dict(zip(names, recordings, strict=True))
        yield Moment(title, seen, _streams(result, d, names, recordings, when), both, f"{word.lower()}-{trial}")


def _chosen(result: Result, comparison: Comparison, d: Difference) -> Iterator[tuple[str, int]]:
    """The pair that speaks most against the controller, the one in the middle, and the one that speaks most for it."""
    wide = result.trials[~result.trials["failed"]].pivot(index="trial", columns="controller", values=d.metric)
    both = wide[[comparison.baseline, d.controller]].dropna()
    change = (both[d.controller] - both[comparison.baseline]) * (1.0 if d.better == "lower" else -1.0)
    order = change.dropna().sort_values(kind="stable").index
    if len(order):
        yield "Worst", int(order[-1])
    if len(order) > 2:
        yield "Median", int(order[len(order) // 2])
        yield "Best", int(order[0])


def _value(result: Result, controller: str, trial: int, metric: str) -> float:
    own = result.trials[(result.trials["controller"] == controller) & (result.trials["trial"] == trial)]
    return float(own[metric].iloc[0])


def _moment(result: Result, controller: str, trial: int, metric: str, recording: Recording) -> float:
    """When it went wrong: the first failed expectation, else the extreme of the metric's column, else the end."""
    own = result.trials[(result.trials["controller"] == controller) & (result.trials["trial"] == trial)].iloc[0]
    failed = [
        float(own[when])
        for met, _, when in map(expectation_columns, result.about.get("expectations", {}))
        if own[met] is False and own[when] is not None
    ]
    if failed:
        return min(failed)
    told = result.metric(metric)
    rows = _series(told, recording)
    if rows is None or not np.isfinite(rows[:, 1]).any():
        return float(own["time"])
    values = np.where(np.isfinite(rows[:, 1]), rows[:, 1], np.nan)
    pick = {"min": np.nanargmin, "max": np.nanargmax}.get(str(told.get("statistic")))
    if pick is None:
        return float(own["time"]) if told.get("statistic") == "last" else float(rows[np.nanargmax(np.abs(values)), 0])
    return float(rows[pick(values), 0])


def _series(metric: dict[str, Any], recording: Recording) -> np.ndarray | None:
    """Times and values (n, 2) of a metric's column; None where it is a pattern or is not there."""
    stream, column = metric.get("stream", ""), metric.get("column", "")
    if stream not in recording.messages or "*" in column:
        return None
    table = recording[stream]
    if column not in table or not len(table) or table[column].dtype.kind not in "biuf":
        return None
    return table[["time", column]].to_numpy(float)


def _streams(
    result: Result, d: Difference, names: tuple[str, str], recordings: list[Recording], moment: float
) -> Figure | None:
    metric = result.metric(d.metric)
    series = []
    for name, recording in zip(names, recordings, strict=True):
        rows = _series(metric, recording)
        if rows is None:
            return None
        series.append((name, figures.colour_of(result, name), rows))
    unit = metric.get("reads_in", "")
    title = figures.column_title(metric["stream"], metric["column"])
    return figures.two_over_time(series, f"{title}{', ' + unit if unit else ''}", moment)


def _pictured(recording: Recording, time: float) -> str:
    """A recording's world at a time as JPEG, base64; "" where it cannot be drawn."""
    from PIL import Image

    from veldrain.report.picture import look

    try:
        pixels = look(recording, time=time, size=SIZE, layers=("trails",))
    except VeldrainError:
        return ""
    file = io.BytesIO()
    Image.fromarray(np.asarray(pixels)).save(file, "JPEG", quality=82)
    return base64.b64encode(file.getvalue()).decode()
