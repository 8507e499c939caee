"""Samples that wait to be encoded together: what nobody reads one by one needs no message of its own."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from veldrain.model import Fields, Message
from veldrain.recording.decoding import Leaf, layout_of
from veldrain.recording.messages import to_bytes, typestore

ROOM = 64  # samples for which there is room at first
FEW = 12  # samples that are not worth a look at their layout


class Source:
    """What turns values into messages.

    Args:
        streams: names of those that every sample has a message of.
        make: the messages by stream, of a stamp and values. Where ``stacks``, those of many samples at once too: stamps
            are an array (n,) then, and each number or array of the values has an axis (n) more at its end.
        stacks: True where all messages have one layout: the same lengths, and the same texts.
    """

    def __init__(
        self, streams: Sequence[str], make: Callable[[Any, Any], Mapping[str, Message]], stacks: bool = True
    ) -> None:
        self.streams, self.make, self.stacks = tuple(streams), make, stacks


class Sample:
    """Values of one time, as an object with attributes, and the messages that they become once somebody asks."""

    def __init__(self, source: Source, stamp: int, values: Any) -> None:
        self.source, self.stamp, self.values = source, stamp, values

    @cached_property
    def messages(self) -> Mapping[str, Message]:
        """By stream."""
        return self.source.make(self.stamp, self.values)


class Encoded(NamedTuple):
    """The bytes of many messages of one stream, and which number in the order of all messages each has."""

    stream: str
    rows: list[tuple[int, int, bytes]]  # stamp, number, bytes


class Batch:
    """What one source has measured since the last time that it was encoded.

    Args:
        first: a sample that has been encoded already: its layout is that of all.
        encoded: its bytes by stream.
    """

    def __init__(self, first: Sample, encoded: Mapping[str, bytes]) -> None:
        self._source, self._values = first.source, first.values
        self._first = {stream: (message.type, encoded[stream]) for stream, message in first.messages.items()}
        self.width, self.size = len(encoded), sum(len(data) for data in encoded.values())
        self._count, self._stamps = 0, np.zeros((2, ROOM), np.int64)  # stamps, numbers of the first message
        varying = {name: np.asarray(value) for name, value in vars(first.values).items() if _is_number(value)}
        # Room for whole numbers of one sample may be for others' fractions: all but flags are kept as float64.
        self._columns = {
            name: np.zeros((ROOM, *value.shape), bool if value.dtype == bool else np.float64)
            for name, value in varying.items()
        }
        self._leaves: dict[str, dict[str, Leaf]] = {}

    def add(self, stamp: int, number: int, values: Any) -> None:
        """Copy the values of one more sample: whoever holds them may change them afterwards."""
        k = self._count
        if k == len(self._stamps[0]):
            self._stamps = np.concatenate([self._stamps, np.zeros_like(self._stamps)], axis=1)
            self._columns = {name: np.concatenate([c, np.zeros_like(c)]) for name, c in self._columns.items()}
        held = vars(values)
        for name, column in self._columns.items():
            column[k] = held[name]
        self._stamps[:, k] = stamp, number
        self._count = k + 1

    def encoded(self) -> Iterator[Encoded]:
        """All that was added, stream by stream."""
        n = self._count
        if not n:
            return
        if n < FEW and not self._leaves:  # to find out where everything lies would take longer
            for k in range(n):
                yield from self._alone(k)
            return
        stacked = copy.copy(self._values)
        vars(stacked).update({name: np.moveaxis(column[:n], 0, -1) for name, column in self._columns.items()})
        stamps, numbers = self._stamps[:, :n]
        for place, (stream, message) in enumerate(self._source.make(stamps, stacked).items()):
            kind, data = self._first[stream]
            if stream not in self._leaves:
                self._leaves[stream] = {leaf.name: leaf for leaf in layout_of(data, typestore(), kind)}
            table = np.tile(np.frombuffer(data, np.uint8), (n, 1))
            _fill(table, message.fields, self._leaves[stream], "")
            whole, size = table.tobytes(), len(data)
            rows = (whole[at : at + size] for at in range(0, n * size, size))
            yield Encoded(stream, list(zip(stamps.tolist(), (numbers + place).tolist(), rows, strict=True)))

    def _alone(self, k: int) -> Iterator[Encoded]:
        """The messages of one sample."""
        values = copy.copy(self._values)
        vars(values).update({name: column[k] for name, column in self._columns.items()})
        stamp, number = self._stamps[:, k].tolist()
        for place, (stream, message) in enumerate(self._source.make(stamp, values).items()):
            yield Encoded(stream, [(stamp, number + place, to_bytes(message.type, message.fields))])

    def clear(self) -> None:
        """Forget what was added."""
        self._count = 0


def _is_number(value: Any) -> bool:
    """True for a number, an array or a row of them: for what differs from sample to sample."""
    return np.asarray(value).dtype.kind in "biuf"


def _fill(table: np.ndarray, part: Any, leaves: Mapping[str, Leaf], path: str) -> None:
    """Write the numbers of a message that differ from row to row into rows of bytes (n, size)."""
    if isinstance(part, Fields):
        for name, value in vars(part).items():
            _fill(table, value, leaves, f"{path}.{name}" if path else name)
    elif isinstance(part, list):
        for k, value in enumerate(part):
            _fill(table, value, leaves, f"{path}[{k}]")
    elif isinstance(part, np.ndarray):
        leaf = leaves.get(path)  # a header that the message has not is not written
        if leaf and part.ndim == 1 + (leaf.count >= 0):  # else it is the same in all
            values = np.ascontiguousarray(part.T, f"<{leaf.kind}")
            width = values.nbytes // len(table)
            table[:, leaf.offset : leaf.offset + width] = values.view(np.uint8).reshape(len(table), width)
