"""Streams of a trial that runs, kept in memory: what metrics read, without a file."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.model import Message
from veldrain.recording.gathering import Gatherer, gatherer
from veldrain.recording.log import Log
from veldrain.recording.messages import to_bytes, typestore
from veldrain.recording.reading import FIRST, LAST, Batch
from veldrain.recording.sinks import Sink
from veldrain.units import Quantity

if TYPE_CHECKING:
    import pandas as pd
    from rosbags.typesys.store import Typestore


class Kept(Log):
    """A log of what its sink is given: some streams of a trial, or all.

    Args:
        streams: names, with ``*`` for any part of one. None: all.

    >>> kept = Kept(["crawler/truth"]); trial = Trial(scenario, sinks=[kept.sink]); outcome = trial.run()
    >>> kept["crawler/truth"]["y"].abs().max()  # doctest: +SKIP
    """

    def __init__(self, streams: Iterable[str] | None = None) -> None:
        self.sink = _Keeper(None if streams is None else list(streams))
        self._tables: dict[str, pd.DataFrame] = {}

    @property
    def metadata(self) -> dict[str, Any]:
        """What describes the trial."""
        return self.sink.about

    @property
    def outcome(self) -> dict[str, Any]:
        """How the trial ended."""
        return dict(self.metadata.get("outcome", {}))

    @property
    def messages(self) -> dict[str, str]:
        return self.sink.kinds

    @property
    def types(self) -> Typestore:
        return typestore()

    def stamps(self, stream: str) -> np.ndarray:
        self._named(stream)
        return np.array(self.sink.rows[stream][0], np.int64)

    def batches(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[Batch]:
        stamps, rows = self.stamps(stream), self.sink.rows[stream][1]
        first, last = np.searchsorted(stamps, start), np.searchsorted(stamps, end, "right")
        if last > first:
            kind, rows = self.messages[stream], rows[first:last]
            gather = self.sink.gatherers[stream]
            yield stamps[first:last], [to_bytes(kind, gather.fields(row)) for row in rows] if gather else rows

    def table(self, stream: str, start: Quantity | None = None, end: Quantity | None = None) -> pd.DataFrame:
        if start is not None or end is not None or "outcome" not in self.metadata:
            return super().table(stream, start, end)
        if stream not in self._tables:  # several metrics read one stream
            gather = self.sink.gatherers.get(stream)
            if gather:
                from veldrain.recording.tables import table_of

                parts = list(gather.parts(self.sink.rows[stream][1]))
                self._tables[stream] = table_of(parts, self.stamps(stream) / 1e9, self.types, self.messages[stream])
            else:
                self._tables[stream] = super().table(stream)
        return self._tables[stream]


class _Keeper(Sink):
    """Keeps stamps and values of streams; bytes where a message is not taken apart."""

    wants_files = False

    def __init__(self, streams: list[str] | None) -> None:
        self._streams = streams
        self._takes: dict[str, bool] = {}
        self.rows: dict[str, tuple[list[int], list[Any]]] = {}
        self.gatherers: dict[str, Gatherer | None] = {}
        self.kinds: dict[str, str] = {}
        self.about: dict[str, Any] = {}

    def takes(self, stream: str, stamp: int) -> bool:
        if stream not in self._takes:
            wanted = self._streams
            self._takes[stream] = wanted is None or any(fnmatchcase(stream, name) for name in wanted)
        return self._takes[stream]

    def begin(self, about: Mapping[str, Any], attached: Mapping[str, bytes]) -> None:
        self.about = dict(about)

    def write(self, stream: str, stamp: int, message: Message, latched: bool = False) -> None:
        if stream not in self.rows:
            self.rows[stream], self.kinds[stream] = ([], []), message.type
            self.gatherers[stream] = gatherer(message.type)
        stamps, rows = self.rows[stream]
        gather = self.gatherers[stream]
        row = gather.row(message.fields) if gather else to_bytes(message.type, message.fields)
        stamps.append(stamp)
        rows.append(row)

    def end(self, about: Mapping[str, Any]) -> None:
        self.about = dict(about)
