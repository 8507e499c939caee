"""A look at every message of a log: whether it can be read, to the last one."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from veldrain.errors import VeldrainError
from veldrain.progress import Progress
from veldrain.recording.log import Log
from veldrain.recording.tables import to_table


@dataclass(frozen=True)
class Verified:
    """What became of a stream's messages: how many were read, and what is wrong with the first that cannot be.

    ``fault`` is "" where all can; ``stamp`` is that of the first that cannot, in s.
    """

    stream: str
    read: int
    stamp: float = 0.0
    fault: str = ""


def verified(log: Log, progress: Progress | None = None) -> Iterator[Verified]:
    """Decode every message of every stream, and say of each stream how far that went.

    >>> [v.fault for v in verified(open_log("run.mcap"))]  # doctest: +SKIP
    """
    for k, stream in enumerate(log.messages):
        if progress:
            progress(k, len(log.messages), stream)
        try:
            for _ in log.table_parts(stream):
                pass
            yield Verified(stream, len(log.stamps(stream)))
        except VeldrainError as error:
            yield _first_fault(log, stream, str(error))
    if progress:
        progress(len(log.messages), len(log.messages), "")


def _first_fault(log: Log, stream: str, said: str) -> Verified:
    """The first message of a stream that cannot be read."""
    message, count, last = log.messages[stream], 0, 0
    try:
        for stamps, raw in log.batches(stream):
            for stamp, data in zip(stamps.tolist(), raw, strict=True):
                last = stamp
                to_table(log.types, message, stamps[:1], [data])
                count += 1
    except (VeldrainError, ValueError, LookupError) as error:
        return Verified(stream, count, last / 1e9, str(error))
    return Verified(stream, count, last / 1e9, said)
