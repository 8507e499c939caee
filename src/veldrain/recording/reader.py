"""Streams from an MCAP file, as tables."""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from mcap.exceptions import EndOfFile, McapError
from mcap.reader import McapReader, make_reader

from veldrain.errors import VeldrainError, unknown
from veldrain.recording.writer import METADATA

if TYPE_CHECKING:
    import pandas as pd

BROKEN = (McapError, struct.error)  # what the reader raises for files that are none, or cut short


@dataclass(frozen=True)
class StreamInfo:
    """One stream of a recording; times in s. ``gaps``: where the time between two messages is over 1.5 periods."""

    message: str
    count: int
    rate: float
    first: float
    last: float
    gaps: int


class Recording:
    """A recorded trial.

    Args:
        source: path of an MCAP file, or the bytes of one.

    Raises:
        VeldrainError: no such file, or not an MCAP file.
    """

    def __init__(self, source: str | Path | bytes) -> None:
        self.path = None if isinstance(source, bytes) else Path(source)
        self._bytes = source if isinstance(source, bytes) else b""
        self._tables: dict[str, pd.DataFrame] = {}
        if self.path and not self.path.is_file():
            raise VeldrainError("no such file", where=str(self.path), cure="name an MCAP file")

    @contextmanager
    def _reader(self) -> Iterator[McapReader]:
        """A reader of the file; what is wrong with the file is told in one line."""
        with self.path.open("rb") if self.path else BytesIO(self._bytes) as file:
            try:
                yield make_reader(file)
            except BROKEN as error:
                raise VeldrainError(
                    f"not an MCAP file, or cut short ({type(error).__name__}: {error})",
                    where=str(self.path),
                    cure="name a file that was recorded to its end",
                ) from error

    @cached_property
    def messages(self) -> dict[str, str]:
        """Message type by stream, such as ``sensor_msgs/msg/Imu``."""
        with self._reader() as reader:
            summary = reader.get_summary()
            if summary is None:
                raise EndOfFile
            kinds = {c.topic: summary.schemas[c.schema_id].name for c in summary.channels.values()}
        return dict(sorted(kinds.items()))

    @cached_property
    def _raw(self) -> dict[str, tuple[list[int], list[bytes]]]:
        """Stamps (ns) and bytes by stream: one pass, since a pass for one stream unpacks all of them anyway."""
        found: dict[str, tuple[list[int], list[bytes]]] = {name: ([], []) for name in self.messages}
        with self._reader() as reader:
            for _, channel, message in reader.iter_messages():
                stamps, raw = found[channel.topic]
                stamps.append(message.log_time)
                raw.append(message.data)
        return found

    @cached_property
    def metadata(self) -> dict[str, Any]:
        """What describes the trial: seed, controllers, drawn values, version, outcome."""
        with self._reader() as reader:
            for record in reader.iter_metadata():
                if record.name == METADATA:
                    return {k: json.loads(v) for k, v in record.metadata.items()}
        return {}

    @property
    def outcome(self) -> dict[str, Any]:
        """How the trial ended: passed, reason, time, and each expectation's verdict."""
        return dict(self.metadata.get("outcome", {}))

    @cached_property
    def streams(self) -> dict[str, StreamInfo]:
        """All streams, by name."""
        found = {}
        for name, message in self.messages.items():
            times = np.array(self._raw[name][0]) / 1e9
            steps = np.diff(times)
            period = float(np.median(steps)) if len(steps) else 0.0
            regular = period > 0 and message != "std_msgs/msg/String"
            found[name] = StreamInfo(
                message=message,
                count=len(times),
                rate=1.0 / period if regular else 0.0,
                first=float(times[0]),
                last=float(times[-1]),
                gaps=int((steps > 1.5 * period).sum()) if regular else 0,
            )
        return found

    def __getitem__(self, stream: str) -> pd.DataFrame:
        """A stream as a table: ``time`` in s, then the fields of its messages."""
        from veldrain.recording.messages import to_table, typestore

        if stream not in self.messages:
            raise unknown("stream", stream, self.messages, str(self.path or "recording"))
        if stream not in self._tables:
            message = self.messages[stream]
            if message not in typestore().types:
                raise VeldrainError(f"no definition of '{message}'", where=stream, cure="read it with another reader")
            self._tables[stream] = to_table(message, *self._raw[stream])
        return self._tables[stream].copy()

    def __iter__(self) -> Iterator[str]:
        return iter(self.messages)

    def __repr__(self) -> str:
        return f"Recording({str(self.path) if self.path else 'in memory'}: {', '.join(self.messages)})"
