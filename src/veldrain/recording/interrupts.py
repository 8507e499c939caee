"""Ctrl-C waits until what is being written is written, so that a file is never cut in the middle of a record."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

_busy = 0
_waiting = False


@contextmanager
def uninterrupted() -> Iterator[None]:
    """In here Ctrl-C is held back while something is ``whole``; not in other threads, or with another handler."""
    is_plain = signal.getsignal(signal.SIGINT) is signal.default_int_handler
    if threading.current_thread() is not threading.main_thread() or not is_plain:
        yield
        return
    signal.signal(signal.SIGINT, _interrupt)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, signal.default_int_handler)


@contextmanager
def whole() -> Iterator[None]:
    """What is done in here is brought to its end before an interrupt is raised."""
    global _busy, _waiting
    _busy += 1
    try:
        yield
    finally:
        _busy -= 1
        if _waiting and not _busy:
            _waiting = False
            raise KeyboardInterrupt


def is_busy() -> bool:
    """True while something is being brought to its end."""
    return _busy > 0


def _interrupt(number: int, frame: FrameType | None) -> None:
    global _waiting
    if _busy:
        _waiting = True
    else:
        raise KeyboardInterrupt
