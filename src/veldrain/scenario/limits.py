"""A time limit on what a user's code may take, as the clock on the wall goes."""

from __future__ import annotations

import ctypes
import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from veldrain.recording import interrupts


class OverLimitError(BaseException):
    """The time is over. No Exception, so that no ``except Exception`` of a user's swallows it."""


@contextmanager
def limited(seconds: float | None) -> Iterator[None]:
    """Raise OverLimitError in here once so many seconds are over; None: never.

    In a main thread a signal does it, which breaks into anything that waits. Elsewhere it is raised between two lines
    of Python, so that a call that never comes back to Python is not stopped.
    """
    if seconds is None:
        yield
    elif threading.current_thread() is threading.main_thread() and hasattr(signal, "setitimer"):
        before = signal.signal(signal.SIGALRM, _raise)
        signal.setitimer(signal.ITIMER_REAL, seconds, 0.1)  # again and again: a bare ``except`` may swallow the first
        try:
            yield
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
            signal.signal(signal.SIGALRM, before)
    else:
        thread = ctypes.c_ulong(threading.get_ident())
        timer = threading.Timer(
            seconds, ctypes.pythonapi.PyThreadState_SetAsyncExc, (thread, ctypes.py_object(OverLimitError))
        )
        timer.daemon = True
        timer.start()
        try:
            yield
        finally:
            timer.cancel()


def _raise(*_: object) -> None:
    if not interrupts.is_busy():  # a record that is being written is brought to its end: the signal comes again
        raise OverLimitError
