"""What can be read of streams: tables, points, pictures, frames, raw messages."""

from __future__ import annotations

import math
import re
from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.recording.quantities import unit_of
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd
    from rosbags.typesys.store import Typestore

    from veldrain.recording.frames import FrameHistory

TF = "tf2_msgs/msg/TFMessage"
OTHER_CLOCK = 2.0  # s between a message and its header from which on they go by two clocks
FIRST, LAST = -(2**62), 2**62  # ns
Batch = tuple[np.ndarray, list[bytes]]


@dataclass(frozen=True)
class StreamInfo:
    """One stream of a log; times in s. ``gaps``: where the time between two messages is over 1.5 periods."""

    message: str
    count: int
    rate: float
    first: float
    last: float
    gaps: int


class Streams(ABC):
    """Streams with their messages: what can be read of a log, whatever it is kept in."""

    path: Path | None = None

    @property
    def where(self) -> str:
        """Its name in messages."""
        return str(self.path or "recording")

    @cached_property
    def streams(self) -> dict[str, StreamInfo]:
        """All streams, by name."""
        found = {}
        for name, message in self.messages.items():
            times = self.stamps(name) / 1e9
            steps = np.diff(times)
            period = float(np.median(steps)) if len(steps) else 0.0
            regular = period > 0 and message != "std_msgs/msg/String"
            found[name] = StreamInfo(
                message=message,
                count=len(times),
                rate=1.0 / period if regular else 0.0,
                first=float(times[0]) if len(times) else math.nan,
                last=float(times[-1]) if len(times) else math.nan,
                gaps=int((steps > 1.5 * period).sum()) if regular else 0,
            )
        return found

    @cached_property
    def frames(self) -> FrameHistory:
        """Where all frames are over time, from its transforms.

        Raises:
            VeldrainError: it has none.
        """
        from veldrain.recording.frames import history_of

        streams = [name for name, message in self.messages.items() if message == TF]
        if not streams:
            raise VeldrainError("keeps no transforms", where=self.where, cure="record it anew")
        fixed = [name for name in streams if name.endswith("tf_static")]
        moving = [name for name in streams if name.rpartition("/")[2] == "tf"]
        return history_of(*([self[name] for name in names] for names in (fixed, moving)))

    def __getitem__(self, stream: str) -> pd.DataFrame:
        """A stream as a table, see ``table``."""
        return self.table(stream)

    def table(self, stream: str, start: Quantity | None = None, end: Quantity | None = None) -> pd.DataFrame:
        """A stream as a table: ``time`` in s, then the fields of its messages.

        What a message has many of (detections, transforms, contacts, points of a cloud) has a row each.

        Args:
            stream: its name.
            start, end: only messages from and up to these times, s.

        Raises:
            VeldrainError: no such stream, no definition of its messages, or bytes that are none.
        """
        import pandas as pd

        parts = list(self.table_parts(stream, start, end))
        return parts[0] if len(parts) == 1 else pd.concat(parts, ignore_index=True)

    def table_parts(
        self, stream: str, start: Quantity | None = None, end: Quantity | None = None
    ) -> Iterator[pd.DataFrame]:
        """The same in parts of some 16 MB, one at least: for streams that do not fit into memory."""
        from veldrain.recording.tables import to_table

        message, is_empty = self._known(stream), True
        for stamps, raw in self._joined(stream, start, end):
            with _spoilt(stream, message):
                yield to_table(self.types, message, stamps, raw)
            is_empty = False
        if is_empty:
            with _spoilt(stream, message):
                yield to_table(self.types, message, np.zeros(0, np.int64), [])

    def points(
        self,
        stream: str,
        frame: str | None = None,
        start: Quantity | None = None,
        end: Quantity | None = None,
        *,
        deskew: bool = True,
    ) -> pd.DataFrame:
        """The points of clouds or scans: ``time``, ``x``, ``y``, ``z`` (m) and what else they have, a row a point.

        ``time`` is that of the message, at the end of a turn; ``stamp`` is its header's, at the first beam, from which
        ``beam_time`` counts: ``points["stamp"] + points["beam_time"]`` is when each point was measured (s).

        Args:
            stream: of PointCloud2 or LaserScan messages.
            frame: the frame that the points are moved into, each by where its own was when it was measured, such as
                ``"world"``. None: as they were measured.
            start, end: only clouds from and up to these times, s.
            deskew: False moves all points of a cloud by where its frame was at ``time``, as if it had stood still.

        Raises:
            VeldrainError: no points in this stream, or no such frame.

        >>> recording.points("rover/cloud", frame="world")  # doctest: +SKIP
        """
        import pandas as pd

        found = list(self._clouds(stream, frame, start, end, deskew))
        if not found:
            return pd.DataFrame(columns=["time", "x", "y", "z", "stamp"])
        times, stamps, clouds = zip(*found, strict=True)
        sizes = [len(cloud["xyz"]) for cloud in clouds]
        columns = {"time": np.repeat(times, sizes)}
        columns |= zip("xyz", np.concatenate([cloud["xyz"] for cloud in clouds]).T, strict=True)
        columns["stamp"] = np.repeat(stamps, sizes)
        for name in dict.fromkeys(name for cloud in clouds for name in cloud if name != "xyz"):
            every = zip(clouds, sizes, strict=True)
            columns[name] = np.concatenate([_plain(c[name]) if name in c else np.full(n, np.nan) for c, n in every])
        return pd.DataFrame(columns)

    def clouds(
        self,
        stream: str,
        frame: str | None = None,
        start: Quantity | None = None,
        end: Quantity | None = None,
        *,
        deskew: bool = True,
    ) -> Iterator[tuple[float, dict[str, np.ndarray]]]:
        """Time (s) and points of each cloud: ``xyz`` (n, 3) and other fields (n,); see ``points``."""
        return ((time, cloud) for time, _, cloud in self._clouds(stream, frame, start, end, deskew))

    def _clouds(
        self,
        stream: str,
        frame: str | None,
        start: Quantity | None,
        end: Quantity | None,
        deskew: bool,
        beams: bool = False,
    ) -> Iterator[tuple[float, float, dict[str, np.ndarray]]]:
        """The same with the headers' stamps; of beams where each began, ``origin``, and those that met nothing too."""
        from veldrain.recording.tables import points_of

        message = self._known(stream)
        for stamps, raw in self._batches(stream, start, end):
            for stamp, data in zip(stamps.tolist(), raw, strict=True):
                with _spoilt(stream, message):
                    own, first, cloud = points_of(self.types, message, data, beams)
                time = stamp / 1e9
                if not abs(first - time) < OTHER_CLOCK:  # of another clock: what is known is the message's time
                    first = time
                if beams:
                    cloud["origin"] = np.zeros((len(cloud["xyz"]), 3))
                if frame is not None and frame != own and len(cloud["xyz"]):
                    beam = cloud.get("beam_time") if deskew else None
                    when = np.array([time]) if beam is None else first + np.asarray(beam, float)
                    when, of = np.unique(when, return_inverse=True)  # beams of a column are measured at once
                    at, turn = self.frames.poses_between(frame, own, when, stream)
                    cloud["xyz"] = (turn[of] if len(when) > 1 else turn[0]).apply(cloud["xyz"]) + at[of]
                    if beams:
                        cloud["origin"] += at[of]
                yield time, first, cloud

    def beams(
        self, stream: str, frame: str, start: Quantity | None = None, end: Quantity | None = None
    ) -> Iterator[tuple[float, np.ndarray, np.ndarray, np.ndarray]]:
        """Of each cloud or scan: time (s), where its beams began and ended (n, 3) in a frame, and which met nothing.

        A scan's beam that met nothing ends where the scan ends seeing; a cloud has only those that met something.

        Raises:
            VeldrainError: no points in this stream, or no such frame.

        >>> time, origins, ends, missed = next(recording.beams("crawler/scan", "world"))  # doctest: +SKIP
        """
        for time, _, cloud in self._clouds(stream, frame, start, end, deskew=True, beams=True):
            missed = cloud.get("missed", np.zeros(len(cloud["xyz"]), bool))
            yield time, cloud["origin"], cloud["xyz"], missed

    def image(self, stream: str, k: int = -1) -> np.ndarray:
        """The k-th picture of a stream: (rows, columns, 3) of colours, or (rows, columns) of depths or labels.

        Raises:
            VeldrainError: no pictures in this stream, or not so many.

        >>> recording.image("rover/eye", 0).shape  # doctest: +SKIP
        (480, 640, 3)
        """
        stamps = self.stamps(stream) if self._known(stream) else np.zeros(0)
        if not -len(stamps) <= k < len(stamps):
            raise VeldrainError(f"has {len(stamps)} pictures, no {k}", where=stream, cure="count them from 0")
        same = np.flatnonzero(stamps == stamps[k])  # several may have one stamp
        found = [picture for _, picture in self.pictures(stream, int(stamps[k]), int(stamps[k]))]
        return found[int(np.searchsorted(same, k % len(stamps)))]

    def pictures(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[tuple[int, np.ndarray]]:
        """Stamp (ns) and picture of each message from a stamp up to another."""
        from veldrain.recording.tables import image_of

        message = self._known(stream)
        for stamps, raw in self.batches(stream, start, end):
            for stamp, data in zip(stamps.tolist(), raw, strict=True):
                with _spoilt(stream, message):
                    yield stamp, image_of(self.types, message, data)

    def column(self, path: str) -> tuple[pd.DataFrame, str, str]:
        """A column by its path, ``stream.column``: the stream's table, the column's name and its unit ("": unknown).

        Raises:
            VeldrainError: no such stream or column, or one that is not of numbers.

        >>> table, name, unit = recording.column("crawler/truth.y")  # doctest: +SKIP
        """
        stream, name = self.split(path)
        table = self[stream]
        if name not in table:
            raise unknown("column", name, [str(c) for c in table], f"{self.where}: {stream}")
        if len(table) and table[name].dtype.kind not in "biuf":
            raise VeldrainError("is not of numbers", where=f"{stream}.{name}", cure="name another column")
        return table, name, self.unit(stream, name)

    def split(self, path: str) -> tuple[str, str]:
        """Stream and column of a path, ``stream.column``.

        Raises:
            VeldrainError: no such stream.
        """
        stream = max((s for s in self.messages if path.startswith(f"{s}.")), key=len, default="")
        if not stream:
            raise unknown("stream", path.partition(".")[0], self.messages, self.where)
        return stream, path[len(stream) + 1 :]

    def unit(self, stream: str, column: str) -> str:
        """The unit of a column; "" where none is known."""
        return unit_of(self.messages[stream], column, self._slides(stream, column))

    def _slides(self, stream: str, column: str) -> bool:
        """True for a column of a joint that its robot's description calls prismatic."""
        described = f"{stream.rpartition('/')[0]}/robot_description"
        if described not in self.messages or "." not in column:
            return False
        text = "".join(self[described]["data"].iloc[:1])
        joint = re.escape(column.partition(".")[2])
        return re.search(rf'<joint(?=[^>]*name="{joint}")[^>]*type="prismatic"', text) is not None

    def raw(self, stream: str) -> list[tuple[int, bytes]]:
        """Stamps (ns) and bytes of a stream's messages; none for a stream that is not there."""
        if stream not in self.messages:
            return []
        return [pair for stamps, raw in self.batches(stream) for pair in zip(stamps.tolist(), raw, strict=True)]

    def _named(self, stream: str) -> None:
        """See that there is such a stream."""
        if stream not in self.messages:
            raise unknown("stream", stream, self.messages, self.where)

    def _known(self, stream: str) -> str:
        """The message type of a stream, if it can be read."""
        self._named(stream)
        message = self.messages[stream]
        if message not in self.types.fielddefs:
            raise VeldrainError(f"no definition of '{message}'", where=stream, cure="read it with another reader")
        return message

    def _batches(self, stream: str, start: Quantity | None, end: Quantity | None) -> Iterator[Batch]:
        first, last = (None if t is None else quantity(t, "time", stream) for t in (start, end))
        begin = FIRST if first is None else math.floor(first * 1e9 - 0.5)
        return self.batches(stream, begin, LAST if last is None else math.ceil(last * 1e9 + 0.5))

    def _joined(self, stream: str, start: Quantity | None, end: Quantity | None) -> Iterator[Batch]:
        """The batches of some 16 MB each: fewer are quicker."""
        waiting: list[Batch] = []
        size = 0
        for batch in self._batches(stream, start, end):
            waiting.append(batch)
            size += sum(map(len, batch[1]))
            if size > 16 << 20:
                yield _one(waiting)
                waiting, size = [], 0
        if waiting:
            yield _one(waiting)

    def __iter__(self) -> Iterator[str]:
        return iter(self.messages)

    def _repr_html_(self) -> str:
        """Its streams as a table, for notebooks."""
        import pandas as pd

        return pd.DataFrame({name: vars(info) for name, info in self.streams.items()}).T.to_html()

    @property
    @abstractmethod
    def messages(self) -> dict[str, str]:
        """Message type by stream, such as ``sensor_msgs/msg/Imu``; "" where the file does not say."""

    @property
    @abstractmethod
    def types(self) -> Typestore:
        """The definitions of its message types."""

    @abstractmethod
    def stamps(self, stream: str) -> np.ndarray:
        """Stamps (ns) of a stream's messages, in order."""

    @abstractmethod
    def batches(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[Batch]:
        """Stamps (ns) and bytes (CDR) of a stream's messages, in order, some at a time."""


def _one(batches: list[Batch]) -> Batch:
    if len(batches) == 1:
        return batches[0]
    return np.concatenate([stamps for stamps, _ in batches]), [data for _, raw in batches for data in raw]


def _plain(values: np.ndarray) -> np.ndarray:
    """As a column has them: numbers in this machine's order of bytes; of several a point, an array each."""
    if values.ndim == 1:
        return values.astype(values.dtype.newbyteorder("="))
    column = np.empty(len(values), object)
    column[:] = list(values)
    return column


class _spoilt:  # noqa: N801
    """What goes wrong inside is told as a message that is spoilt."""

    def __init__(self, stream: str, message: str) -> None:
        self._stream, self._message = stream, message

    def __enter__(self) -> None:
        pass

    def __exit__(self, kind: Any, error: BaseException | None, trace: Any) -> None:
        if isinstance(error, Exception) and not isinstance(error, VeldrainError):
            raise VeldrainError(
                f"has a message that is no {self._message} ({type(error).__name__}: {error})".replace("\n", " "),
                where=self._stream,
                cure="record it anew, or read it with what wrote it",
            ) from error
