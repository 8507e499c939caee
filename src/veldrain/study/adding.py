"""A metric that comes later: measured from the recordings of a study that was run."""

from __future__ import annotations

from typing import Any

from veldrain.errors import VeldrainError
from veldrain.study.contracts import Results
from veldrain.study.keeping import path_of
from veldrain.study.locking import locked
from veldrain.study.metrics import AnyMetric, Metric, checked_metrics, described_metric, expectation_columns, metric_of
from veldrain.study.sources import digest, plain
from veldrain.study.store import Store


def add_metric(result: Results, metric: AnyMetric, progress: Any = None) -> None:
    """See ``Result.add_metric``."""
    about = result.about
    others = [m for m in about["metrics"] if m["name"] != metric.name]
    taken = [*(m["name"] for m in others), *about["vary"]]
    taken += [column for name in about.get("expectations", {}) for column in expectation_columns(name)]
    checked_metrics([metric], taken)
    keys = [(str(c), int(t)) for c, t in zip(result.trials["controller"], result.trials["trial"], strict=True)]
    there = [key for key in keys if path_of(result.folder, *key).is_file() or result.study is not None]
    if not there:
        raise VeldrainError(
            "no recordings were kept", where=str(result.folder), cure="add the metric to the study, and run it again"
        )
    first = result.recording(*there[0])
    unit = ""
    if isinstance(metric, Metric):
        columns = metric.samples(first[metric.stream])[2]
        unit = first.unit(metric.stream, columns[0].partition("[")[0])
    told = described_metric(metric, unit)
    name = digest(plain([metric, unit]))
    values = []
    for k, key in enumerate(there):
        value, note = metric_of(metric, result.recording(*key), unit)
        result.forget(key)
        values.append((key, metric.name, name, value, note))
        if progress:
            progress(k + 1, len(there), f"{key[0]} {key[1]}")
    with locked(result.folder), Store(result.folder, write=True) as store:
        store.measure(values)
        result.about = about | {"metrics": [*others, told], "measures": about["measures"] | {metric.name: name}}
        store.describe(result.about)
    result.read_again()
