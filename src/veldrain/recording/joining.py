"""Logs made of others: several as one, and one with another clock."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.recording.log import FIRST, LAST, Batch, Log
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd
    from rosbags.typesys.store import Typestore


class JoinedLog(Log):
    """Several logs as one: a stream that several of them have goes on from one to the next."""

    def __init__(self, logs: Sequence[Log]) -> None:
        self.logs = list(logs)
        self.path = logs[0].path

    @cached_property
    def messages(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for log in self.logs:
            for stream, message in log.messages.items():
                if found.setdefault(stream, message) != message:
                    raise VeldrainError(
                        f"stream '{stream}' has {message} here, and {found[stream]} elsewhere",
                        where=log.where,
                        cure="open them one by one",
                    )
        return dict(sorted(found.items()))

    def having(self, stream: str) -> list[Log]:
        """The logs that have a stream, in the order of their first messages of it."""
        some = [(log, log.stamps(stream)) for log in self.logs if stream in log.messages]
        return [log for log, stamps in sorted(some, key=lambda pair: pair[1][0] if len(pair[1]) else LAST)]

    @property
    def types(self) -> Typestore:
        raise VeldrainError("has types of several files", where=self.where, cure="ask one of .logs")

    def stamps(self, stream: str) -> np.ndarray:
        found = [log.stamps(stream) for log in self.having(stream)]
        return np.sort(np.concatenate(found)) if found else np.zeros(0, np.int64)

    def batches(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[Batch]:
        for log in self.having(stream):
            yield from log.batches(stream, start, end)

    def table(self, stream: str, start: Quantity | None = None, end: Quantity | None = None) -> pd.DataFrame:
        import pandas as pd

        self._named(stream)
        tables = [log.table(stream, start, end) for log in self.having(stream)]
        some = [table for table in tables if len(table)] or tables[:1]
        whole = some[0] if len(some) == 1 else pd.concat(some, ignore_index=True)
        return whole if whole["time"].is_monotonic_increasing else whole.sort_values("time", ignore_index=True)

    def table_parts(
        self, stream: str, start: Quantity | None = None, end: Quantity | None = None
    ) -> Iterator[pd.DataFrame]:
        yield self.table(stream, start, end)

    def clouds(
        self, stream: str, frame: str | None = None, start: Quantity | None = None, end: Quantity | None = None
    ) -> Iterator[tuple[float, dict[str, np.ndarray]]]:
        self._named(stream)
        for log in self.having(stream):
            yield from log.clouds(stream, frame, start, end)

    def pictures(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[tuple[int, np.ndarray]]:
        self._named(stream)
        for log in self.having(stream):
            yield from log.pictures(stream, start, end)


class ShiftedLog(Log):
    """A log whose clock was another: its times become ``offset + (1 + drift)·time``.

    Attributes:
        offset: s.
        drift: by what share its clock is slow: 1e-5 is 10 µs in a second.
        correlation: how alike the signals are by which it was aligned; nan: it was not.
    """

    correlation = float("nan")

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
