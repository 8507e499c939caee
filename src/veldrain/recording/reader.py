"""Streams from an MCAP file, as tables."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.recording.scanning import Scan, scan
from veldrain.recording.writer import METADATA, PLANNED

if TYPE_CHECKING:
    import pandas as pd

    from veldrain.recording.frames import FrameHistory


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
        VeldrainError: no such file, or not an MCAP file; one whose checksums are wrong. A file that was cut short is
            read up to its last whole chunk, see ``cut``.
    """

    def __init__(self, source: str | Path | bytes) -> None:
        self.path = None if isinstance(source, bytes) else Path(source)
        self._bytes = source if isinstance(source, bytes) else b""
        self._tables: dict[str, pd.DataFrame] = {}
        if self.path and not self.path.is_file():
            raise VeldrainError("no such file", where=str(self.path), cure="name an MCAP file")

    @cached_property
    def _scan(self) -> Scan:
        """All that is in the file; what is wrong with it is told in one line."""
        try:
            with self.path.open("rb") if self.path else BytesIO(self._bytes) as file:
                found = scan(file)
        except OSError as error:
            raise VeldrainError(f"cannot be read ({error.strerror})", where=str(self.path)) from error
        except Exception as error:  # the library raises many kinds for what is spoilt
            raise VeldrainError(
                f"not an MCAP file, or a spoilt one ({type(error).__name__}: {error})".replace("\n", " "),
                where=str(self.path or "recording"),
                cure="name a file as it was recorded",
            ) from error
        return found

    @cached_property
    def messages(self) -> dict[str, str]:
        """Message type by stream, such as ``sensor_msgs/msg/Imu``; "" where the file does not say."""
        return dict(sorted(self._scan.kinds.items()))

    @property
    def attachments(self) -> dict[str, bytes]:
        """Files that are in the recording, by name: its world among them, as ``world.yaml``."""
        return dict(self._scan.attachments)

    @cached_property
    def metadata(self) -> dict[str, Any]:
        """What describes the trial: seed, controllers, drawn values, version, outcome."""
        found = self._scan.metadata
        try:
            about = {k: json.loads(v) for k, v in found.get(METADATA, found.get(PLANNED, {})).items()}
        except ValueError as error:
            raise VeldrainError(f"what describes the trial cannot be read ({error})", where=str(self.path)) from error
        if self.cut_at is not None and "outcome" not in about and about:
            about["outcome"] = {
                "passed": False,
                "failed": True,
                "reason": self.cut,
                "time": self.cut_at,
                "expectations": {},
                "notices": [],
            }
        return about

    @cached_property
    def cut_at(self) -> float | None:
        """Time (s) up to which a file that was cut short can be read; None: it is whole."""
        if not self._scan.is_cut:
            return None
        return max((stamps[-1] for stamps in self._scan.stamps.values() if stamps), default=0) / 1e9

    @property
    def cut(self) -> str:
        """What to say of a file that was cut short; "": it is whole."""
        if self.cut_at is None:
            return ""
        planned = self._scan.metadata.get(PLANNED, {}).get("duration")
        return f"cut short: readable to {self.cut_at:.4g} s" + (f" of {float(planned):g} s" if planned else "")

    @property
    def outcome(self) -> dict[str, Any]:
        """How the trial ended: passed, reason, time, and each expectation's verdict."""
        return dict(self.metadata.get("outcome", {}))

    @cached_property
    def streams(self) -> dict[str, StreamInfo]:
        """All streams, by name."""
        found = {}
        for name, message in self.messages.items():
            times = np.array(self._scan.stamps[name]) / 1e9
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

        if "tf" not in self.messages and "tf_static" not in self.messages:
            raise VeldrainError("keeps no transforms", where=str(self.path or "recording"), cure="record it anew")
        return history_of(self.raw("tf_static"), self.raw("tf"))

    def raw(self, stream: str) -> list[tuple[int, bytes]]:
        """Stamps (ns) and bytes of a stream's messages; none for a stream that is not there."""
        return list(zip(self._scan.stamps.get(stream, ()), self._scan.raw.get(stream, ()), strict=True))

    def __getitem__(self, stream: str) -> pd.DataFrame:
        """A stream as a table: ``time`` in s, then the fields of its messages."""
        from veldrain.recording.messages import to_table, typestore

        if stream not in self.messages:
            raise unknown("stream", stream, self.messages, str(self.path or "recording"))
        if stream not in self._tables:
            message = self.messages[stream]
            if message not in typestore().types:
                raise VeldrainError(f"no definition of '{message}'", where=stream, cure="read it with another reader")
            try:
                self._tables[stream] = to_table(message, self._scan.stamps[stream], self._scan.raw[stream])
            except Exception as error:  # the library raises many kinds for bytes that are no such message
                raise VeldrainError(
                    f"has a message that is no {message} ({type(error).__name__}: {error})".replace("\n", " "),
                    where=stream,
                    cure="record it anew, or read it with what wrote it",
                ) from error
        return self._tables[stream].copy()

    def __iter__(self) -> Iterator[str]:
        return iter(self.messages)

    def __repr__(self) -> str:
        return f"Recording({str(self.path) if self.path else 'in memory'}: {', '.join(self.messages)})"
