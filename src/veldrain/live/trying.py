"""To try a link on a machine with nothing else: what is published, and a message of one's own."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from types import SimpleNamespace
from typing import Any

import numpy as np
from rosbags.interfaces import Nodetype

from veldrain.errors import VeldrainError, unknown
from veldrain.live.dds import Bus, quality
from veldrain.recording.decoding import SIZES, fields_of
from veldrain.recording.messages import to_bytes, typestore
from veldrain.recording.tables import to_table

FOUND = 3.0  # s in which publications are found


def topics(bus: Bus, seconds: float = FOUND) -> dict[str, str]:
    """Message types by topic of what is published in a domain, as far as it is found in a while."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        bus.publications()
        time.sleep(0.05)
    return dict(sorted(bus.publications().items()))


def listen(bus: Bus, topic: str, message: str | None = None, seconds: float = 10.0) -> Iterator[dict[str, Any]]:
    """The messages of a topic as they come, each as columns of a table.

    Raises:
        VeldrainError: nobody publishes it, and its type was not said.
    """
    if message is None:
        found = topics(bus)
        if topic.strip("/") not in found:
            raise unknown("topic", topic.strip("/"), found, "live: listen")
        message = found[topic.strip("/")]
    reader = bus.reader(topic, message, quality(reliable=False))
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        for raw in reader.take():
            table = to_table(typestore(), message, np.array([time.time_ns()]), [raw])
            for row in table.to_dict("records"):
                yield {str(k): v for k, v in row.items()}
        time.sleep(0.002)


def say(bus: Bus, topic: str, message: str, fields: Mapping[str, Any], rate: float, seconds: float) -> int:
    """Publish a message again and again for a while; fields that are not given are 0. The number of its readers."""
    if message not in typestore().fielddefs:
        raise unknown("message type", message, typestore().fielddefs, "live: say")
    raw = to_bytes(message, filled(message, fields, "live: say"))
    writer = bus.writer(topic, message, quality())
    end, most = time.monotonic() + seconds, 0
    while time.monotonic() < end:
        most = max(most, writer.readers)
        writer.write(raw)
        time.sleep(1.0 / rate)
    return most


def filled(message: str, given: Mapping[str, Any], where: str) -> SimpleNamespace:
    """A message with some of its fields given, the others 0 or empty.

    Raises:
        VeldrainError: no such field, or a value that it does not take.
    """
    if not isinstance(given, Mapping):
        raise VeldrainError(f"{given!r} is no message", where=where, cure="write fields and values")
    known = dict(fields_of(typestore(), message))
    for name in given:
        if name not in known:
            raise unknown("field", name, known, where)
    return SimpleNamespace(**{name: _value(kind, given.get(name), f"{where}: {name}") for name, kind in known.items()})


def _value(kind: Any, given: Any, where: str) -> Any:
    node, inner = kind
    if node == Nodetype.NAME:
        return filled(inner, {} if given is None else given, where)
    try:
        if node == Nodetype.BASE:
            if inner[0] == "string":
                return "" if given is None else str(given)
            code = SIZES[inner[0]]
            return np.zeros(1, code)[0].item() if given is None else np.array([given]).astype(code)[0].item()
        count = inner[1] if node == Nodetype.ARRAY else 0
        values = [None] * count if given is None else list(given)
        if inner[0][0] == Nodetype.BASE and inner[0][1][0] in SIZES:
            return np.array([0 if v is None else v for v in values], SIZES[inner[0][1][0]])
        return [_value(inner[0], v, where) for v in values]
    except (TypeError, ValueError, OverflowError) as error:
        raise VeldrainError(f"{given!r} cannot be used ({error})", where=where, cure="give what it is") from error
