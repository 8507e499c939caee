"""How far something is that takes long: told to whoever asked for it."""

from __future__ import annotations

import time
from collections.abc import Callable

Progress = Callable[[float, float, str], None]  # what is done, how much there is in all, what was done last
APART = 0.2  # s from one time that it is told to the next


def seldom(progress: Progress | None) -> Progress:
    """The same, but told now and then: for what is done a thousand times a second."""
    due = 0.0

    def tell(done: float, total: float, last: str) -> None:
        nonlocal due
        if progress and (time.monotonic() >= due or done >= total):
            due = time.monotonic() + APART
            progress(done, total, last)

    return tell
