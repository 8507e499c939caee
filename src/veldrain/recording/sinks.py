"""Where streams go: a recording, a live link, a page. A trial has any number of sinks."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from veldrain.model import Message
from veldrain.recording.batches import Sample


class Sink:
    """Takes all messages of a trial, in the order of their stamps.

    A new sink is a class below this one. ``begin`` is called once before the first message, ``end`` after the last;
    ``write`` must not change the message, which other sinks are given too.

    Attributes:
        wants_files: True where ``begin`` is to be given the world as files, which takes some milliseconds to make.
    """

    wants_files = True

    def takes(self, stream: str, stamp: int) -> bool:
        """False where a message of a stream is of no use here: it is then not given, and perhaps not even made."""
        return True

    def begin(self, about: Mapping[str, Any], attached: Mapping[str, bytes]) -> None:
        """What describes the trial, and the files that go with it, by name."""

    def write(self, stream: str, stamp: int, message: Message, latched: bool = False) -> None:
        """One message at a simulated time in ns; ``latched``: who comes later is to have it too."""
        raise NotImplementedError(f"{type(self).__name__}.write")

    def take(self, sample: Sample) -> None:
        """What was measured at one time: its messages, unless a sink can do with the values."""
        for stream, message in sample.messages.items():
            if self.takes(stream, sample.stamp):
                self.write(stream, sample.stamp, message)

    def end(self, about: Mapping[str, Any]) -> None:
        """What describes the trial, its outcome included."""

    def abandon(self) -> None:
        """Nothing comes any more, and no end: something went wrong while streams were written."""
