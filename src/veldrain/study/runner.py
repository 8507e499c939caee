"""Trials carried out, in this process, in several, or by any executor; one process writes what comes of them."""

from __future__ import annotations

import multiprocessing
import os
import signal
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Executor, Future, ProcessPoolExecutor, wait
from dataclasses import replace
from typing import Any

from veldrain.errors import VeldrainError
from veldrain.physics.threads import VARIABLE as THREADS
from veldrain.physics.threads import threads
from veldrain.study.carrying import Packed, main_left_alone, packed, unpacked
from veldrain.study.trials import Done, TrialPlan

AHEAD = 4  # plans that are handed to each worker before they are done


def carry_out(study: Any, plans: Sequence[TrialPlan], workers: int, executor: Executor | None) -> Iterator[Done]:
    """Run trials; gives each as it is done, in any order.

    Raises:
        VeldrainError: a worker died, or something that has to travel to it cannot; what was given is done.
    """
    if executor is None and (workers <= 1 or len(plans) <= 1):
        yield from (plan.run(study) for plan in plans)
        return
    data = packed(study)
    if executor is not None:  # it may be elsewhere: recordings come back as bytes
        plans = [replace(plan, by_value=True) for plan in plans]
        yield from _flow(executor, data, plans, getattr(executor, "_max_workers", None) or 16)
        return
    workers = min(workers, len(plans))
    # Spawned, not forked: a fork copies whatever threads and locks the caller's process happens to hold.
    # Ctrl-C reaches the workers too: they go without a word, and this process says what there is to say.
    share = max(1, threads() // workers)
    pool = ProcessPoolExecutor(workers, multiprocessing.get_context("spawn"), initializer=_begin, initargs=(share, data))
    try:
        yield from _flow(pool, (data[0], b""), plans, workers)
    finally:
        pool.shutdown(cancel_futures=True)


def _flow(pool: Executor, data: Packed, plans: Sequence[TrialPlan], workers: int) -> Iterator[Done]:
    """Hands plans out, a few ahead of what is done: a hundred thousand at once would be slow, and wait in memory."""
    left, under_way, done = iter(plans), dict[Future[Done], TrialPlan](), 0
    try:
        while True:
            with main_left_alone():  # the first that is handed out starts the processes
                while len(under_way) < AHEAD * workers and (plan := next(left, None)) is not None:
                    under_way[pool.submit(_run, data, plan)] = plan
            if not under_way:
                return
            for future in wait(under_way, return_when=FIRST_COMPLETED).done:
                result = future.result()
                del under_way[future]
                done += 1
                yield result
    except (VeldrainError, OSError, GeneratorExit, KeyboardInterrupt):
        raise
    except Exception as error:  # a pool that broke; executors from elsewhere raise what they like
        time.sleep(0.5)  # Ctrl-C kills the workers a moment before it is raised here
        lost = [f"{p.controller} {p.number}" for f, p in under_way.items() if f.done() and f.exception() is not None]
        broken = isinstance(error, BrokenExecutor)
        what = "a worker process died" if broken else f"a worker gave up ({type(error).__name__}: {error})"
        raise VeldrainError(
            f"{what} while trials were running ({done} of {len(plans)} done)",
            where="study",
            cure="run it again, which goes on from there; with fewer workers if memory ran out"
            + (f"; {lost[0]} was under way" if lost else ""),
        ) from error
    finally:  # also Ctrl-C: trials not begun are dropped, those done are kept
        for future in under_way:
            future.cancel()


def _begin(share: int, data: Packed) -> None:
    """A worker dies of Ctrl-C without a word, and takes its share of the threads that rays may have."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    os.environ[THREADS] = str(share)
    unpacked(data)


def _run(data: Packed, plan: TrialPlan) -> Done:
    return plan.run(unpacked(data))
