"""Two logs of the same thing compared: stream by stream, how far apart they are, and since when."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.recording.aligning import lag
from veldrain.recording.csv_log import TABLE
from veldrain.recording.log import Log
from veldrain.recording.reading import TF

if TYPE_CHECKING:
    import pandas as pd

ANGLES = ("roll", "pitch", "yaw")
ONE_ROW = 1.001  # rows a message: what has more is compared message by message
MOST_LAG = 2.0  # s


@dataclass(frozen=True)
class LogComparison:
    """What two logs have in common, and how far they are apart.

    Attributes:
        table: a row a column of numbers: ``stream``, ``column``, ``unit``, ``messages`` compared, ``RMS`` and
            ``largest`` of the differences (b − a, b between its samples where they have other times; of arrays where
            both are finite), their ``mean``, ``lag`` (how much later b is, s; nan where that cannot be told), and
            ``first`` (time of the first difference, s; nan: none). Of frames, ``turn`` is the angle of their rotation.
        same: streams whose messages are the same bytes at the same times.
        different: streams of other messages (pictures, clouds, texts) that are not the same, and the time since when.
        only: streams that one of the two has alone, in ``a`` or ``b``.
        names: what the two are called in figures.
    """

    table: pd.DataFrame
    same: list[str]
    different: dict[str, float]
    only: dict[str, list[str]]
    names: tuple[str, str] = ("a", "b")
    _errors: dict[tuple[str, str], pd.DataFrame] = field(default_factory=dict, repr=False)

    def _repr_html_(self) -> str:
        """The table, for notebooks."""
        return self.table.to_html()

    def errors(self, stream: str, column: str) -> pd.DataFrame:
        """One column over time: ``time``, ``a``, ``b`` and ``error``.

        Raises:
            VeldrainError: it was not compared.
        """
        if (stream, column) not in self._errors:
            raise unknown("column", f"{stream}.{column}", [".".join(key) for key in self._errors], "errors")
        return self._errors[stream, column]


def compare_logs(a: Log, b: Log, pairs: Mapping[str, str] | None = None) -> LogComparison:
    """Compare two logs: two trials, or a real robot's log and a simulated one.

    Args:
        a: the log that counts.
        b: the other one; see ``Log.aligned`` where its clock was another.
        pairs: streams of ``b`` by those of ``a`` that have other names. Those of the same name, but for a slash before
            it, are compared anyway.

    Raises:
        VeldrainError: no such stream, or a pair of streams without a column in common.

    >>> compare_logs(recording, open_log("walk.mcap"), {"crawler/imu": "/imu/data"}).table  # doctest: +SKIP
    """
    import pandas as pd

    theirs = {name.lstrip("/"): name for name in b.messages}
    both = {name: theirs[name.lstrip("/")] for name in a.messages if name.lstrip("/") in theirs}
    for mine, other in (pairs or {}).items():
        for name, log in ((mine, a), (other, b)):
            if name not in log.messages:
                raise unknown("stream", name, log.messages, log.where)
        both[mine] = other
    rows, same, different, errors = [], [], dict[str, float](), {}
    for mine, other in both.items():
        since = _since(a, b, mine, other)
        if since is None:
            same.append(mine)
            continue
        one, two = _comparable(a, mine), _comparable(b, other)
        names = [str(c) for c in one if c in two and c != "time"] if one is not None and two is not None else []
        if one is not None and two is not None and not names and mine in (pairs or {}):
            sides = " and ".join(", ".join(str(c) for c in t if c != "time") or "none" for t in (one, two))
            raise VeldrainError(
                f"'{mine}' and '{other}' have no column in common: {sides}",
                where="compare_logs",
                cure="call the columns of a CSV as those of the stream, by columns=",
            )
        if one is None or two is None or not names:
            different[mine] = since
            continue
        for name in names:
            found = _errors(one, two, name)
            if len(found):
                errors[mine, name] = found
                rows.append({"stream": mine, "column": name, "unit": a.unit(mine, name)} | _summary(found))
    only = {"a": [n for n in a.messages if n not in both], "b": [n for n in b.messages if n not in both.values()]}
    words = ["stream", "column", "unit", "messages", "RMS", "largest", "mean", "lag", "first"]
    return LogComparison(
        pd.DataFrame(rows, columns=words), same, different, only, (_named("a", a), _named("b", b)), errors
    )


def _named(letter: str, log: Log) -> str:
    """A log in a figure: its letter, and the end of its path."""
    return letter if log.path is None else f"{letter}: {'/'.join(log.path.with_suffix('').parts[-2:])}"


def _since(a: Log, b: Log, mine: str, other: str) -> float | None:
    """The time (s) from which two streams are not the same; None: they are."""
    if TABLE in (a.messages[mine], b.messages[other]):
        return math.nan
    first, second = a.stamps(mine), b.stamps(other)
    short = min(len(first), len(second))
    apart = np.flatnonzero(first[:short] != second[:short])
    since = int(apart[0]) if len(apart) else short
    k, theirs = 0, (pair for stamps, raw in b.batches(other) for pair in zip(stamps, raw, strict=True))
    for stamps, raw in a.batches(mine):
        for stamp, data in zip(stamps, raw, strict=True):
            if k >= since:
                longer = first if len(first) > k else second
                return None if k >= len(longer) else float(longer[k]) / 1e9
            if next(theirs, (0, b""))[1] != data:
                return float(stamp) / 1e9
            k += 1
    return None if len(first) == len(second) else float((first if len(first) > short else second)[short]) / 1e9


def _comparable(log: Log, stream: str) -> pd.DataFrame | None:
    """A stream as columns of numbers with a row a time; None where it has none."""
    import pandas as pd

    kind = log.messages[stream]
    if kind in ("sensor_msgs/msg/Image", "sensor_msgs/msg/CompressedImage", "sensor_msgs/msg/PointCloud2"):
        return None
    table = log[stream]
    if kind == TF:
        return _frames(table)
    if kind != TABLE and len(table) > ONE_ROW * max(len(log.stamps(stream)), 1):
        return None
    turned = {"qx", "qy", "qz", "qw"}  # roll, pitch and yaw say the same
    found = {str(c): table[c] for c in table if table[c].dtype.kind in "biuf" and c not in turned}
    for name in table:
        values = table[name].tolist() if table[name].dtype == object else []
        if values and all(isinstance(v, np.ndarray) and v.dtype.kind in "iuf" for v in values) and len(values[0]):
            found[str(name)] = table[name]
    return pd.DataFrame(found).drop_duplicates("time") if len(found) > 1 else None


def _frames(table: pd.DataFrame) -> pd.DataFrame | None:
    """Transforms with a row a time: where each frame is in its parent, and by what angle it is turned."""
    import pandas as pd

    wide = []
    for name, rows in table.groupby("child_frame_id") if len(table) else ():
        part = rows[["time", "x", "y", "z"]].assign(turn=2 * np.arccos(np.minimum(rows["qw"].abs(), 1.0)))
        wide.append(part.drop_duplicates("time").set_index("time").add_prefix(f"{name}."))
    return pd.concat(wide, axis=1).sort_index().reset_index() if wide else None


def _errors(one: pd.DataFrame, other: pd.DataFrame, name: str) -> pd.DataFrame:
    """A column of both over the times of the first that the second has, too; its values in between are linear."""
    import pandas as pd

    t, u = one["time"].to_numpy(float), other["time"].to_numpy(float)
    if one[name].dtype == object or other[name].dtype == object:
        return _array_errors(one.set_index("time")[name], other.set_index("time")[name])
    x, y = one[name].to_numpy(float), other[name].to_numpy(float)
    is_angle = name.rpartition(".")[2] in ANGLES
    known = np.isfinite(y)
    if len(t) == len(u) and np.array_equal(t, u):
        there = y
    elif known.sum() >= 2:
        u, y = u[known], y[known]
        there = np.interp(t, u, np.unwrap(y) if is_angle else y, left=np.nan, right=np.nan)
    else:
        return pd.DataFrame({"time": [], "a": [], "b": [], "error": []})
    both = np.isfinite(x) & np.isfinite(there)
    error = there[both] - x[both]
    if is_angle:
        error = (error + np.pi) % (2 * np.pi) - np.pi
    return pd.DataFrame({"time": t[both], "a": x[both], "b": there[both], "error": error})


def _array_errors(one: pd.Series, other: pd.Series) -> pd.DataFrame:
    """Arrays at the times that both have: their means, and the RMS of their difference where both are finite."""
    import pandas as pd

    rows = []
    for time in one.index.intersection(other.index):
        x, y = np.asarray(one[time], float), np.asarray(other[time], float)
        both = np.isfinite(x) & np.isfinite(y) if x.shape == y.shape else np.zeros(0, bool)
        if both.any():
            x, y = x[both], y[both]
            rows.append((time, x.mean(), y.mean(), math.sqrt(np.mean((y - x) ** 2))))
    return pd.DataFrame(rows, columns=["time", "a", "b", "error"])


def _summary(found: pd.DataFrame) -> dict[str, float]:
    time, error = found["time"].to_numpy(), found["error"].to_numpy()
    late, alike = lag(time, found["a"].to_numpy(), time, found["b"].to_numpy(), MOST_LAG)
    apart = np.flatnonzero(error != 0)
    return {
        "messages": len(found),
        "RMS": float(np.sqrt(np.mean(error**2))),
        "largest": float(np.abs(error).max()),
        "mean": float(error.mean()),
        "lag": late if alike > 0.9 else math.nan,
        "first": float(time[apart[0]]) if len(apart) else math.nan,
    }
