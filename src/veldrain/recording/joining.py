"""Several logs as one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.recording.log import Log
from veldrain.recording.reading import FIRST, LAST, Batch
from veldrain.units import Quantity

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

    def _clouds(
        self,
        stream: str,
        frame: str | None,
        start: Quantity | None,
        end: Quantity | None,
        deskew: bool,
        beams: bool = False,
    ) -> Iterator[tuple[float, float, dict[str, np.ndarray]]]:
        self._named(stream)
        for log in self.having(stream):
            yield from log._clouds(stream, frame, start, end, deskew, beams)

    def pictures(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[tuple[int, np.ndarray]]:
        self._named(stream)
        for log in self.having(stream):
            yield from log.pictures(stream, start, end)
