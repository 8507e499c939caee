"""Streams of messages out of a file, as tables, points and pictures: read a stream and a span of time at a time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.drawing import page_of
from veldrain.recording.reading import FIRST, LAST, Batch, Streams
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd
    from rosbags.typesys.store import Typestore


class Log(Streams):
    """Streams with their messages. A new kind of file is a class below this one, with the four methods at its end.

    >>> log = open_log("walk.mcap")  # doctest: +SKIP
    >>> log["crawler/imu"].columns  # doctest: +SKIP
    """

    def aligned(self, to: Log, column: str, other: str | None = None, *, drift: bool = True) -> ShiftedLog:
        """This log by the clock of another, found where a signal of both is most alike.

        Args:
            to: the log whose clock counts.
            column: a signal of this log, ``stream.column``: one that changes much, such as a yaw rate.
            other: the same signal there. None: it has the same name.
            drift: False: the two clocks run equally fast.

        Returns:
            The shifted log, with its ``offset`` (s), ``drift`` (a share), the standard error of that, ``drift_error``
            (nan: none was found), and ``correlation`` (up to 1).

        Raises:
            VeldrainError: no such column, or signals that are not alike.

        >>> real = open_log("walk.mcap").aligned(recording, "/imu.angular_velocity.z", "crawler/imu.angular_velocity.z")
        ... # doctest: +SKIP
        """
        from veldrain.recording.aligning import aligned

        (mine, name, _), (theirs, their_name, _) = self.column(column), to.column(other or column)
        signals = [(t["time"].to_numpy(float), t[n].to_numpy(float)) for t, n in ((theirs, their_name), (mine, name))]
        found = aligned(*signals[0], *signals[1], with_drift=drift)
        if not found.correlation > 0.5:
            raise VeldrainError(
                f"is not like {other or column} of the other log at any lag (correlation {found.correlation:.2f})",
                where=f"{self.where}: {column}",
                cure="name a signal that both have, and that changes much; or give offset= to open_log",
            )
        shifted = ShiftedLog(self, found.offset, found.drift)
        shifted.correlation, shifted.drift_error = found.correlation, found.drift_error
        return shifted

    def page(self, out: str | Path | None = None, **words: Any) -> Any:
        """A page that shows it in a browser, and itself in a notebook; see ``veldrain.page``.

        >>> recording.page("run.html")  # doctest: +SKIP
        """
        return page_of(self, out, **words)

    def write(
        self,
        out: str | Path,
        kinds: Iterable[str] = ("csv",),
        *,
        streams: Sequence[str] | None = None,
        frame: str | None = None,
    ) -> list[Path]:
        """Write streams to files of other kinds, in a new folder.

        Args:
            out: the folder.
            kinds: csv, parquet, npz; png, jpeg, mp4 (pictures); ply, pcd (clouds and scans); glb (the scene and its
                motion); bag, bag-mcap (ROS 2 bags of all streams).
            streams: names, with ``*`` for any part of one. None: all that a kind takes.
            frame: what points are moved into, such as ``"world"``; then all clouds of a stream are one file.

        Returns:
            The files.

        Raises:
            VeldrainError: an unknown kind or stream, nothing to write, or a folder that holds something.

        >>> recording.write("out/clouds", ["ply"], streams=["rover/cloud"], frame="world")  # doctest: +SKIP
        """
        from veldrain.recording.exporting import Choices, export

        return export(self, out, kinds, streams, Choices(frame))


class ShiftedLog(Log):
    """A log whose clock was another: its times become ``offset + (1 + drift)·time``.

    Attributes:
        offset: s.
        drift: by what share its clock is slow: 1e-5 is 10 µs in a second.
        correlation: how alike the signals are by which it was aligned; nan: it was not.
        drift_error: standard error of the drift that was found; nan: none was.
    """

    correlation = float("nan")
    drift_error = float("nan")

    def __init__(self, log: Log, offset: Quantity = 0.0, drift: float = 0.0) -> None:
        self.log, self.path = log, log.path
        self.offset, self.drift = quantity(offset, "time", "open_log: offset"), float(drift)
        if not -0.5 < self.drift < 0.5:
            raise VeldrainError(f"drift is {drift:g}", where="open_log", cure="give a share such as 2e-5")

    @property
    def messages(self) -> dict[str, str]:
        return self.log.messages

    @property
    def types(self) -> Typestore:
        return self.log.types

    def _ours(self, stamps: np.ndarray) -> np.ndarray:
        """Stamps (ns) by our clock."""
        late = np.rint(stamps * self.drift).astype(np.int64) + round(self.offset * 1e9)
        return np.asarray(stamps, np.int64) + late

    def _theirs(self, stamp: int) -> int:
        if stamp in (FIRST, LAST):
            return stamp
        return round((stamp - self.offset * 1e9) / (1.0 + self.drift))

    def stamps(self, stream: str) -> np.ndarray:
        return self._ours(self.log.stamps(stream))

    def batches(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[Batch]:
        for stamps, raw in self.log.batches(stream, self._theirs(start), self._theirs(end)):
            yield self._ours(stamps), raw

    def table(self, stream: str, start: Quantity | None = None, end: Quantity | None = None) -> pd.DataFrame:
        bounds = [
            None if t is None else self._theirs(round(quantity(t, "time", stream) * 1e9)) / 1e9 for t in (start, end)
        ]
        table = self.log.table(stream, *bounds)
        table["time"] = self._ours(np.rint(table["time"].to_numpy(float) * 1e9).astype(np.int64)) / 1e9
        return table

    def table_parts(
        self, stream: str, start: Quantity | None = None, end: Quantity | None = None
    ) -> Iterator[pd.DataFrame]:
        yield self.table(stream, start, end)

    def __getattr__(self, name: str) -> Any:
        if name.startswith("_"):
            raise AttributeError(name)
        return getattr(self.log, name)
