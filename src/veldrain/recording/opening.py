"""One door for logs of all kinds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError
from veldrain.recording.bags import SqliteLog, open_bag
from veldrain.recording.csv_log import CsvLog
from veldrain.recording.joining import JoinedLog
from veldrain.recording.log import Log, ShiftedLog
from veldrain.recording.reader import Recording
from veldrain.units import Quantity


def open_log(
    path: str | Path | Sequence[str | Path],
    *,
    columns: Mapping[str, Any] | None = None,
    time: Any = "time",
    offset: Quantity = 0.0,
    drift: float = 0.0,
) -> Log:
    """A log: an MCAP file, a ROS 2 bag (its folder, or a ``.db3`` file), a CSV file, or several of these as one.

    Args:
        path: of the file or folder, or several paths.
        columns: of a CSV: what each of our columns is called there, or its name and unit, by ``stream.column``:
            ``{"crawler/imu.angular_velocity.z": ("gyro_z", "deg/s")}``. None: all its columns are one stream.
        time: of a CSV: the column of the time, or its name and unit, as ``("t", "ms")``.
        offset: added to its times, s, where its clock was another; see ``Log.aligned``, which finds it.
        drift: … and this share of its times.

    Raises:
        VeldrainError: no such file, one that is spoilt or of another kind, or no such column.

    >>> open_log("walk.csv", time=("t", "ms"), columns={"imu.angular_velocity.z": ("gz", "deg/s")})  # doctest: +SKIP
    """
    paths = [path] if isinstance(path, str | Path) else list(path)
    if not paths:
        raise VeldrainError("no file is named", where="open_log", cure="give one path or more")
    logs = [_opened(Path(p), columns, time) for p in paths]
    log = logs[0] if len(logs) == 1 else JoinedLog(logs)
    return ShiftedLog(log, offset, drift) if offset or drift else log


def _opened(path: Path, columns: Mapping[str, Any] | None, time: Any) -> Log:
    if path.is_dir():
        return open_bag(path)
    kind = path.suffix.lower()
    if kind == ".csv":
        return CsvLog(path, columns, time)
    if columns is not None:
        raise VeldrainError("has its own columns", where=str(path), cure="give columns= for CSV files alone")
    return SqliteLog(path) if kind == ".db3" else Recording(path)
