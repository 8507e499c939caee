"""Trials carried out, in this process or in several; what is done already is not done again."""

from __future__ import annotations

import multiprocessing
import os
import signal
from collections.abc import Callable, Sequence
from concurrent.futures import Executor, ProcessPoolExecutor, as_completed
from pathlib import Path
from typing import TYPE_CHECKING

from veldrain.physics.threads import VARIABLE as THREADS
from veldrain.physics.threads import threads

if TYPE_CHECKING:
    from veldrain.study.study import TrialPlan


def write_whole(path: Path, text: str) -> None:
    """Write a file so that it is there whole or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(path.name + ".part")
    part.write_text(text, encoding="utf-8")
    part.replace(path)


def _begin(share: int) -> None:
    """A worker dies of Ctrl-C without a word, and takes its share of the threads that rays may have."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    os.environ[THREADS] = str(share)


def carry_out(
    plans: Sequence[TrialPlan],
    workers: int,
    progress: Callable[[int, int, str], None] | None,
    executor: Executor | None,
) -> None:
    """Run the trials whose row is not written yet."""
    missing = [p for p in plans if not p.stem.with_suffix(".json").exists()]
    done = len(plans) - len(missing)

    def tell(what: str) -> None:
        if progress:
            progress(done, len(plans), what)

    tell("" if not done else f"{done} found")
    if executor is None and (workers <= 1 or len(missing) <= 1):
        for plan in missing:
            plan.run()
            done += 1
            tell(f"{plan.controller} {plan.number}")
        return
    # Spawned, not forked: a fork copies whatever threads and locks the caller's process happens to hold.
    # Ctrl-C reaches the workers too: they go without a word, and this process says what there is to say.
    pool = executor or ProcessPoolExecutor(
        min(workers, len(missing)),
        multiprocessing.get_context("spawn"),
        initializer=_begin,
        initargs=(max(1, threads() // workers),),
    )
    futures = {pool.submit(_run, plan): plan for plan in missing}
    try:
        for future in as_completed(futures):
            future.result()
            done += 1
            tell(f"{futures[future].controller} {futures[future].number}")
    except BaseException:  # also Ctrl-C: trials not begun are dropped, those done are kept
        for future in futures:
            future.cancel()
        raise
    finally:
        if executor is None:
            pool.shutdown(cancel_futures=True)


def _run(plan: TrialPlan) -> None:
    plan.run()
