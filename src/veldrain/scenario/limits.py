"""A time limit on what a user's code may take, as the clock on the wall goes."""

from __future__ import annotations

import ctypes
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

from veldrain.kernel import Compiling
from veldrain.recording import interrupts


class OverLimitError(BaseException):
    """The time is over. No Exception, so that no ``except Exception`` of a user's swallows it."""


@contextmanager
def limited(seconds: float | None) -> Iterator[None]:
    """Raise OverLimitError in here once so many seconds are over; None: never.

    In a main thread a signal does it, which breaks into anything that waits. Elsewhere it is raised between two lines
    of Python, so that a call that never comes back to Python is not stopped. While a kernel is compiled, the time
    stands still: a compiler that is broken into is of no use to its process any more.
    """
    if seconds is None:
        yield
    elif threading.current_thread() is threading.main_thread() and hasattr(signal, "setitimer"):
        begun, compiled = time.monotonic(), Compiling.seconds

        def end(*_: object) -> None:
            left = seconds - (time.monotonic() - begun) + (Compiling.seconds - compiled)
            # What is recorded is brought to its end, and what is compiled too: the signal comes again.
            if left <= 0 and not interrupts.is_busy() and not Compiling.depth:
                raise OverLimitError

        before = signal.signal(signal.SIGALRM, end)
        signal.setitimer(signal.ITIMER_REAL, seconds, 0.1)  # again and again: a bare ``except`` may swallow the first
        try:
            yield
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
            signal.signal(signal.SIGALRM, before)
    else:
        thread, over = ctypes.c_ulong(threading.get_ident()), threading.Event()
        begun, compiled = time.monotonic(), Compiling.seconds

        def watch() -> None:
            left = seconds
            while left > 0 or Compiling.depth:
                if over.wait(max(left, 0.1)):
                    return
                left = seconds - (time.monotonic() - begun) + (Compiling.seconds - compiled)
            ctypes.pythonapi.PyThreadState_SetAsyncExc(thread, ctypes.py_object(OverLimitError))

        threading.Thread(target=watch, daemon=True).start()
        try:
            yield
        finally:
            over.set()
