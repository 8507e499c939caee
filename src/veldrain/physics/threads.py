"""Several threads for kernels, which run without Python's lock; what they give does not depend on their number."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache

from veldrain.errors import VeldrainError

VARIABLE = "VELDRAIN_THREADS"
MOST = 1024


def threads() -> int:
    """How many: what the environment variable VELDRAIN_THREADS says, else the cores that this process may use."""
    said = os.environ.get(VARIABLE)
    if said and not (said.isascii() and said.isdigit() and 1 <= int(said) <= MOST):
        raise VeldrainError(f"'{said}' is no number of threads", where=VARIABLE, cure=f"give 1 to {MOST}, or unset it")
    if said:
        return int(said)
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


@cache
def _pool(process: int, workers: int) -> ThreadPoolExecutor:
    """One pool a process: threads do not outlive a fork."""
    return ThreadPoolExecutor(workers, "rays")


def in_parts(count: int, least: int, act: Callable[[int, int, int], object]) -> None:
    """Call ``act(first, end, thread)`` over the whole of range(count), in parts of ``least`` or more."""
    parts = min(threads(), count // least)
    if parts <= 1:
        act(0, count, 0)
        return
    ends = [count * k // parts for k in range(parts + 1)]
    pool = _pool(os.getpid(), threads())
    others = [pool.submit(act, ends[k], ends[k + 1], k) for k in range(1, parts)]
    act(ends[0], ends[1], 0)  # this thread has nothing else to do
    for other in others:
        other.result()
