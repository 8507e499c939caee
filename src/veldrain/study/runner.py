"""Trials carried out, in this process, in several, or by any executor; one process writes what comes of them."""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Executor, Future, ProcessPoolExecutor, wait
from dataclasses import replace
from typing import Any

from veldrain.errors import VeldrainError
from veldrain.physics.threads import VARIABLE as THREADS
from veldrain.physics.threads import threads
from veldrain.resolver import code_from_files
from veldrain.study.carrying import Packed, main_left_alone, packed, unpacked
from veldrain.study.trials import Done, TrialPlan

AHEAD = 4  # plans that are handed to each worker before they are done


class Workers:
    """What runs trials of a study: this process for one worker, else processes that know the study, or an executor.

    Args:
        study: whose trials.
        workers: processes.
        executor: instead of these; it may be elsewhere, so that recordings come back as bytes.
    """

    def __init__(self, study: Any, workers: int = 1, executor: Executor | None = None) -> None:
        self._study, self._workers, self._given = study, workers, executor
        self._pool: Executor | None = executor
        self._data: Packed | None = None

    def __enter__(self) -> Workers:
        return self

    def __exit__(self, *_: object) -> None:
        if self._pool is not None and self._given is None:
            self._pool.shutdown(cancel_futures=True)

    def run(self, plans: Sequence[TrialPlan]) -> Iterator[Done]:
        """Run trials; gives each as it is done, in any order.

        Raises:
            VeldrainError: a worker died, or something that has to travel to it cannot; what was given is done.
        """
        if self._given is None and (self._workers <= 1 or (self._pool is None and len(plans) <= 1)):
            yield from (plan.run(self._study) for plan in plans)
            return
        if self._data is None:
            self._data = packed(self._study, far=self._given is not None)
        if self._given is not None:
            plans = [replace(plan, by_value=True) for plan in plans]
            yield from self._flow(self._given, self._data, plans, getattr(self._given, "_max_workers", None) or 16)
            return
        if self._pool is None:
            # Spawned, not forked: a fork copies whatever threads and locks the caller's process happens to hold.
            # Ctrl-C reaches the workers too: they go without a word, and this process says what there is to say.
            told = (max(1, threads() // self._workers), self._data)
            context = multiprocessing.get_context("spawn")
            self._pool = ProcessPoolExecutor(min(self._workers, len(plans)), context, initializer=_begin, initargs=told)
        yield from self._flow(self._pool, (self._data[0], b""), plans, self._workers)

    def _flow(self, pool: Executor, data: Packed, plans: Sequence[TrialPlan], workers: int) -> Iterator[Done]:
        """Hands plans out, a few ahead of what is done: a hundred thousand at once would wait in memory."""
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
            lost = [
                f"{p.controller} {p.number}" for f, p in under_way.items() if f.done() and f.exception() is not None
            ]
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
    threading.Thread(target=_end_with_parent, daemon=True).start()
    os.environ[THREADS] = str(share)
    unpacked(data)


def _end_with_parent() -> None:
    """A study that is killed leaves nobody who would store what its workers do: they end too."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


def _run(data: Packed, plan: TrialPlan) -> Done:
    with code_from_files("all"):  # who handed it out has seen to what may run
        return plan.run(unpacked(data))
