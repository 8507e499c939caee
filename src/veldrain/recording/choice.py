"""Which streams a recording keeps, and how often."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from fnmatch import fnmatchcase
from typing import Any

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Message
from veldrain.recording.batches import Sample
from veldrain.recording.sinks import Sink
from veldrain.units import quantity

ALWAYS = ("tf_static", "*/robot_description", "scenario/events")  # told once, or when something happens


class Choice:
    """Which streams are kept; names may have ``*`` in them.

    Args:
        only: these streams, and those that are told once (fixed frames, robot descriptions) and events.
        without: all but these.
        every: the least time (s) between two messages that are kept, by stream.

    Raises:
        VeldrainError: a word or a time that makes no sense.

    >>> Choice(without=["*/eye"], every={"crawler/scan": "1 s"}).has("crawler/scan")
    True
    """

    def __init__(
        self, only: Iterable[str] | None = None, without: Iterable[str] = (), every: Mapping[str, Any] | None = None
    ) -> None:
        self.only = None if only is None else _names(only, "only")
        self.without = _names(without, "without")
        where = "record: every"
        if not isinstance(every or {}, Mapping):
            raise VeldrainError(f"{every!r} is no table", where=where, cure="give times by stream")
        self.every = {name: quantity(time, "time", f"{where}: {name}") for name, time in (every or {}).items()}
        for name, time in self.every.items():
            if time <= 0:
                raise VeldrainError(f"{time:g} s", where=f"{where}: {name}", cure="give a time above zero")

    @classmethod
    def of(cls, words: Mapping[str, Any] | Choice | None) -> Choice:
        """Out of the words of a scenario."""
        if isinstance(words, Choice):
            return words
        if not isinstance(words or {}, Mapping):
            raise VeldrainError(f"{words!r} is no choice", where="record", cure="give only, without or every")
        for word in words or {}:
            if word not in ("only", "without", "every"):
                raise unknown("word", word, ("only", "without", "every"), "record")
        return cls(**(words or {}))

    @property
    def words(self) -> dict[str, Any]:
        """What was chosen, as ``of`` takes it."""
        found = {"only": self.only, "without": self.without or None, "every": self.every or None}
        return {word: value for word, value in found.items() if value is not None}

    def has(self, stream: str) -> bool:
        """True for a stream that is kept."""
        if any(fnmatchcase(stream, name) for name in self.without):
            return False
        return self.only is None or any(fnmatchcase(stream, name) for name in (*self.only, *ALWAYS))

    def period(self, stream: str) -> float:
        """The least time between two messages that are kept, s."""
        return next((time for name, time in self.every.items() if fnmatchcase(stream, name)), 0.0)

    def check(self, streams: Iterable[str], logging: Iterable[str] = ()) -> None:
        """See that all names are of streams; of robots whose controllers may log more, that is not known before.

        Raises:
            VeldrainError: one is of none.
        """
        known = list(streams)
        for name in (*(self.only or ()), *self.without, *self.every):
            open_ended = name.partition("/")[0] in set(logging)
            if not open_ended and not any(fnmatchcase(stream, name) for stream in known):
                raise unknown("stream", name, known, "record")


class Chosen(Sink):
    """Hands the chosen streams on to another sink."""

    def __init__(self, sink: Sink, choice: Choice) -> None:
        self._sink, self._choice = sink, choice
        self._due: dict[str, float] = {}  # ns from which on a stream's next message is kept; inf: none is

    def takes(self, stream: str, stamp: int) -> bool:
        if stream not in self._due:
            self._due[stream] = -1.0 if self._choice.has(stream) else float("inf")
        return stamp >= self._due[stream]

    def begin(self, about: Mapping[str, Any], attached: Mapping[str, bytes]) -> None:
        self._sink.begin(about, attached)

    def write(self, stream: str, stamp: int, message: Message, latched: bool = False) -> None:
        self._wait(stream, stamp)
        self._sink.write(stream, stamp, message, latched)

    def _wait(self, stream: str, stamp: int) -> None:
        """Take a stream's next message after its period."""
        if period := self._choice.period(stream):
            self._due[stream] = stamp + period * 1e9 - 0.5

    def take(self, sample: Sample) -> None:
        source = sample.source
        if not source.stacks or not all(self.takes(stream, sample.stamp) for stream in source.streams):
            super().take(sample)
            return
        for stream in source.streams:
            self._wait(stream, sample.stamp)
        self._sink.take(sample)

    def end(self, about: Mapping[str, Any]) -> None:
        self._sink.end(about)

    def abandon(self) -> None:
        self._sink.abandon()


def _names(names: Any, word: str) -> list[str]:
    listed = [names] if isinstance(names, str) else list(names or ())
    for name in listed:
        if not isinstance(name, str):
            raise VeldrainError(f"{name!r} is no name of a stream", where=f"record: {word}", cure="give names")
    return listed
