"""A data set out of a study's recordings: labelled files with an index, for those who learn from them."""

from __future__ import annotations

import importlib.util
import json
import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.files import new_folder, write_csv
from veldrain.progress import Progress
from veldrain.recording import Recording
from veldrain.recording.exporting.base import needed
from veldrain.recording.log import Log
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

KINDS = ("npz", "csv", "parquet")
NOT_LABELS = ("file", "controller", "trial", "expectations", "notices", "end")  # a row's end is a digest
SPLIT = {"train": 0.7, "validation": 0.15, "test": 0.15}


class Studied(Protocol):
    """What is needed of a study's results."""

    folder: Path
    about: dict[str, Any]

    @property
    def trials(self) -> pd.DataFrame:
        """A row per trial."""


def write_table(table: pd.DataFrame, path: Path) -> Path:
    """Write a table as CSV or Parquet, by the name's ending; see ``Result.write_table``."""
    try:
        if path.suffix == ".csv":
            write_csv(table, path)
        elif path.suffix == ".parquet":
            table.to_parquet(path, index=False)
        else:
            raise VeldrainError(f"'{path.suffix}' is no kind of table", where=str(path), cure="name a .csv or .parquet")
    except ImportError:
        raise needed("pyarrow", "parquet", "Parquet") from None
    except OSError as error:
        raise VeldrainError(
            f"cannot be written ({error.strerror})", where=str(path), cure="name another file"
        ) from error
    return path


def write_dataset(
    result: Studied,
    out: str | Path,
    columns: Sequence[str],
    *,
    kind: str = "npz",
    period: Quantity | None = None,
    window: Quantity | None = None,
    stride: Quantity | None = None,
    split: Mapping[str, float] | None = None,
    seed: int = 0,
    progress: Progress | None = None,
) -> pd.DataFrame:
    """Write one labelled file a trial, or one a window of it, with an index and a README.

    Every file holds the same columns at a common time: each has its newest value at that time, nan before its first.
    Trials that met the same draws are in the same split, whichever controller drove them.

    Args:
        result: of the study.
        out: a new folder.
        columns: what the files hold, each as ``stream.column``; an array is a column an element.
        kind: npz, csv or parquet.
        period: between two rows, s. None: that of the fastest stream of the first trial.
        window: length of the windows, s. None: a file a trial. What is left at the end of a trial is left out, and told
            in the README.
        stride: from the start of a window to that of the next, s. None: the window's length.
        split: shares by name, of the trials; they are made to sum to 1.
        seed: of the draw of the split.
        progress: told how far it is.

    Returns:
        The index: a row a file with controller, trial, split, start, end, passed, reason, drawn values and metrics.

    Raises:
        VeldrainError: no such column, a recording that is missing, a folder that holds something, or shares below 0.
    """
    import pandas as pd

    target = Path(out)
    if kind not in KINDS:
        raise unknown("kind", kind, KINDS, "data set")
    if not columns:
        raise VeldrainError(
            "no column is named", where="data set", cure="give such as 'crawler/imu.angular_velocity.z'"
        )
    if kind == "parquet" and importlib.util.find_spec("pyarrow") is None:
        raise needed("pyarrow", "parquet", "Parquet")
    trials = result.trials
    if trials.empty:
        raise VeldrainError("holds no trials yet", where=str(result.folder), cure="run the study")
    length, shift = (None if t is None else quantity(t, "time", "data set") for t in (window, stride or window))
    for word, time in (("window", length), ("stride", shift)):
        if time is not None and not time > 0:
            raise VeldrainError(f"{word} is {time:g} s", where="data set", cure="give a time above zero")
    parts = _split(trials["trial"].unique().tolist(), split or SPLIT, seed)
    first = Recording(result.folder / str(trials.iloc[0]["file"]))
    step = _period(first, columns) if period is None else quantity(period, "time", "data set: period")
    rows, left = [], 0.0
    with new_folder(target) as folder:
        (folder / "files").mkdir()
        for k, row in enumerate(trials.to_dict("records")):
            if progress:
                progress(k, len(trials), f"{row['controller']} {row['trial']}")
            table = sampled(Recording(result.folder / str(row["file"])), columns, step)
            end = float(table["time"].iloc[-1]) if len(table) else 0.0
            starts = [0.0] if length is None or shift is None else np.arange(0.0, end - length + 1e-9, shift).tolist()
            if length is not None:
                left += end - (starts[-1] + length if starts else 0.0)
            labels = {word: value for word, value in row.items() if word not in NOT_LABELS}
            for n, start in enumerate(starts):
                until = end if length is None else start + length
                name = f"{row['controller']}-{row['trial']:04d}" + ("" if length is None else f"-{n:03d}") + f".{kind}"
                inside = (table["time"] >= start - 1e-9) & (table["time"] < until - 1e-9 if length else True)
                _write(table[inside], folder / "files" / name, kind)
                place = {"file": f"files/{name}", "controller": row["controller"], "trial": row["trial"]}
                rows.append(place | {"split": parts[row["trial"]], "start": start, "end": until} | labels)
        if not rows:
            raise VeldrainError("no trial is as long as a window", where="data set", cure="give a shorter one")
        index = pd.DataFrame(rows)
        plain = index.map(lambda value: json.dumps(value) if isinstance(value, dict | list) else value)
        write_csv(plain, folder / "index.csv")
        plain.to_json(folder / "index.json", orient="records", indent=1)
        if kind == "parquet":
            plain.to_parquet(folder / "index.parquet", index=False)
        told = _readme(result, first, list(table), columns, step, length, shift, plain, left, seed)
        (folder / "README.md").write_text(told, encoding="utf-8")
    return index


def sampled(log: Log, columns: Sequence[str], period: float) -> pd.DataFrame:
    """Columns of a log at a common time: each has its newest value, nan before its first.

    Raises:
        VeldrainError: no such column, or one that is neither of numbers nor of arrays of one length.
    """
    import pandas as pd

    tables: dict[str, pd.DataFrame] = {}
    found: dict[str, np.ndarray] = {}
    ends = [log.streams[s].last for s in log.messages if any(path.startswith(f"{s}.") for path in columns)]
    times = np.arange(0, math.floor(max(ends, default=0.0) / period + 1e-9) + 1) * period
    for path in columns:
        stream, name = log.split(path)
        table = tables.setdefault(stream, log[stream])
        if name not in table:
            raise unknown("column", name, [str(c) for c in table], f"{log.where}: {stream}")
        values = table[name].to_numpy()
        if values.dtype == object:
            if (
                not len(values)
                or not all(isinstance(v, np.ndarray) for v in values)
                or len({len(v) for v in values}) > 1
            ):
                raise VeldrainError("is not of numbers", where=path, cure="name another column")
            values = np.stack(values.tolist())
        rows: Any = values if values.ndim > 1 else values[:, None]
        newest = np.searchsorted(table["time"], times + 1e-9, side="right") - 1
        for k, column in enumerate(rows.T):
            there = column[np.maximum(newest, 0)].astype(float) if len(column) else np.full(len(times), np.nan)
            there[newest < 0] = np.nan
            found[path if values.ndim == 1 else f"{path}[{k}]"] = there
    return pd.DataFrame({"time": times} | found)


def _period(log: Log, columns: Sequence[str]) -> float:
    rates = [log.streams[log.split(path)[0]].rate for path in columns]
    if not max(rates) > 0:
        raise VeldrainError("its streams have no rate of their own", where="data set", cure="give period=")
    return round(1.0 / max(rates), 9)


def _split(trials: Sequence[int], shares: Mapping[str, float], seed: int) -> dict[int, str]:
    """Which part each trial is in."""
    total = sum(shares.values())
    if not shares or min(shares.values()) < 0 or not total > 0:
        raise VeldrainError(f"split is {dict(shares)}", where="data set", cure="give shares such as {'train': 0.8, …}")
    order = np.random.default_rng(seed).permutation(np.array(sorted(trials)))
    bounds = np.rint(np.cumsum([share / total for share in shares.values()]) * len(order)).astype(int)
    return {int(t): name for name, part in zip(shares, np.split(order, bounds[:-1]), strict=True) for t in part}


def _write(table: pd.DataFrame, path: Path, kind: str) -> None:
    if kind == "csv":
        write_csv(table, path)
    elif kind == "parquet":
        table.to_parquet(path, index=False)
    else:
        np.savez(path, **{str(name): table[name].to_numpy() for name in table})  # type: ignore[arg-type]


def _readme(
    result: Studied,
    log: Log,
    names: Sequence[Any],
    columns: Sequence[str],
    period: float,
    window: float | None,
    stride: float | None,
    index: pd.DataFrame,
    left: float,
    seed: int,
) -> str:
    """What the files hold, in words."""
    units = {path: log.unit(*log.split(path)) for path in columns}
    lines = [f"# Data set of {len(index)} files", ""]
    what = "a trial" if window is None else f"a window of {window:g} s, one every {stride:g} s"
    lines += [f"Made from the study in {result.folder.name}. Each file is {what}, with a row every {period:g} s:"]
    lines += ["each column has its newest value at that time, nan before its first.", ""]
    if left > 0:
        lines += [f"At the ends of the trials {left:.4g} s in all are left out, less than a window each.", ""]
    counts = index["split"].value_counts()
    lines += ["| split | files |", "|---|---|", *(f"| {name} | {count} |" for name, count in counts.items()), ""]
    lines += [f"Splits are by trial, drawn with seed {seed}. `index.csv` and `index.json` have a row a file:"]
    lines += [
        "where it is, controller, trial, split, start and end (s), how it ended, what was drawn, and its metrics.",
        "",
    ]
    shown = dict.fromkeys(str(name).partition("[")[0] for name in names if name != "time")
    counts_of = {name: sum(str(n).partition("[")[0] == name for n in names) for name in shown}
    lines += ["| column | unit |", "|---|---|", "| time | s |"]
    for name, count in counts_of.items():
        lines.append(f"| {name}{f'[0] … [{count - 1}]' if count > 1 else ''} | {units.get(name, '') or '–'} |")
    more = [("metric", m["name"], m["unit"]) for m in result.about["metrics"]]
    lines += ["", "| label | unit |", "|---|---|", *(f"| {name} | {unit or '–'} |" for _, name, unit in more)]
    return "\n".join(lines) + "\n"
