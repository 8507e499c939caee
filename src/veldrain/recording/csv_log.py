"""Tables of numbers in CSV files as streams."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.recording.log import Log
from veldrain.recording.quantities import units_of
from veldrain.recording.reading import FIRST, LAST, Batch
from veldrain.units import SI_UNITS, Quantity, quantity, to_si

if TYPE_CHECKING:
    import pandas as pd
    from rosbags.typesys.store import Typestore

TABLE = "table"  # what stands for the message type of a stream of a CSV


class CsvLog(Log):
    """A CSV file with a row a time.

    Args:
        path: of the file.
        columns: what each of our columns (``stream.column``) is called there, or its name and unit:
            ``{"crawler/imu.angular_velocity.z": ("gyro_z", "deg/s")}``. None: all of them are one stream, called as the
            file, in SI units.
        time: the column of the time, or its name and unit.

    Raises:
        VeldrainError: no such file or column, an unknown unit, or times that do not grow.
    """

    def __init__(self, path: str | Path, columns: Mapping[str, Any] | None = None, time: Any = "time") -> None:
        import pandas as pd

        self.path = Path(path)
        try:
            self._read: pd.DataFrame = pd.read_csv(path, skipinitialspace=True)
        except OSError as error:
            raise VeldrainError(
                f"cannot be read ({error.strerror})", where=str(path), cure="name a CSV file"
            ) from error
        except (ValueError, UnicodeDecodeError) as error:
            raise VeldrainError(
                f"is no CSV ({type(error).__name__}: {error})".replace("\n", " "),
                where=str(path),
                cure="see its first lines",
            ) from error
        self._tables: dict[str, pd.DataFrame] = {}
        self.units: dict[str, str] = {}
        times = self._column(time, "time")
        if len(times) and (not np.isfinite(times).all() or (np.diff(times) < 0).any()):
            raise VeldrainError("has times that do not grow", where=str(path), cure="sort its rows by time")
        name = time if isinstance(time, str) else time[0]
        mine = columns or {
            f"{self.path.stem}.{c}": c for c in self._read if c != name and self._read[c].dtype.kind in "biuf"
        }
        for ours, theirs in mine.items():
            stream, dot, column = ours.partition(".") if "/" not in ours else _split(ours)
            if not dot or not column:
                raise VeldrainError(f"'{ours}' is no column", where=str(path), cure="write stream.column")
            values = self._column(theirs, ours)
            table = self._tables.setdefault(stream, pd.DataFrame({"time": times}))
            table[column] = values

    def _column(self, told: Any, ours: str) -> np.ndarray:
        """A column in SI units."""
        name, unit = (told, "") if isinstance(told, str) else tuple(told)
        if name not in self._read:
            raise unknown("column", name, [str(c) for c in self._read], str(self.path))
        if self._read[name].dtype.kind not in "biuf":
            raise VeldrainError(f"column '{name}' is not of numbers", where=str(self.path), cure="leave it out")
        values: np.ndarray = self._read[name].to_numpy(float)
        where = f"{self.path}: {name}"
        if not unit:
            return values
        wanted = {"s"} if ours == "time" else units_of(_split(ours)[2] if "/" in ours else ours.partition(".")[2])
        for ours_in in sorted(wanted):  # "g" is a mass elsewhere, and an acceleration here
            if (factor := _factor(unit, ours_in)) is not None:
                return factor * values
        if wanted - {"°C"}:
            cure = f"write such as '{min(wanted)}', or take another column for it"
            raise VeldrainError(
                f"unit '{unit}' does not fit '{ours}' in {' or '.join(sorted(wanted))}", where=where, cure=cure
            )
        return to_si(values, unit, where)

    @cached_property
    def messages(self) -> dict[str, str]:
        return dict.fromkeys(sorted(self._tables), TABLE)

    @property
    def types(self) -> Typestore:
        from veldrain.recording.messages import typestore

        return typestore()

    def stamps(self, stream: str) -> np.ndarray:
        return np.rint(self._tables[stream]["time"].to_numpy(float) * 1e9).astype(np.int64)

    def batches(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[Batch]:
        raise VeldrainError("has numbers, and no messages", where=f"{self.path}: {stream}", cure="ask for its table")

    def table(self, stream: str, start: Quantity | None = None, end: Quantity | None = None) -> pd.DataFrame:
        if stream not in self._tables:
            raise unknown("stream", stream, self._tables, self.where)
        table = self._tables[stream]
        kept = np.ones(len(table), bool)
        for bound, is_first in ((start, True), (end, False)):
            if bound is not None:
                t = quantity(bound, "time", stream)
                kept &= table["time"] >= t - 1e-9 if is_first else table["time"] <= t + 1e-9
        return table[kept].reset_index(drop=True)

    def table_parts(
        self, stream: str, start: Quantity | None = None, end: Quantity | None = None
    ) -> Iterator[pd.DataFrame]:
        yield self.table(stream, start, end)

    def __repr__(self) -> str:
        return f"CsvLog({self.path}: {', '.join(self.messages)})"


def _factor(unit: str, ours: str) -> float | None:
    """What numbers in a unit are multiplied by to be in another; None where these are of different kinds."""
    plain = ours.replace("·", "*").replace("²", "**2")
    for kind, si in SI_UNITS.items():
        try:
            if plain in (si, "deg") and kind != "period":
                return quantity(f"1 {unit}", kind) / quantity(f"1 {plain}", kind)
        except VeldrainError:
            continue
    return None


def _split(ours: str) -> tuple[str, str, str]:
    """Stream and column of a path: the column begins after the first dot behind the last slash."""
    at = ours.find(".", ours.rfind("/"))
    return (ours[:at], ".", ours[at + 1 :]) if at > 0 else (ours, "", "")
