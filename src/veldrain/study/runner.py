"""Trials carried out, in this process or in several; what is done already is not done again."""

from __future__ import annotations

import json
import multiprocessing
import os
import pickle
import signal
import time
from collections.abc import Callable, Sequence
from concurrent.futures import BrokenExecutor, Executor, ProcessPoolExecutor, as_completed
from pathlib import Path
from typing import Any, Protocol

from veldrain.errors import VeldrainError
from veldrain.physics.threads import VARIABLE as THREADS
from veldrain.physics.threads import threads
from veldrain.resolver import load_file, loaded_files


class TrialPlan(Protocol):
    """One trial, ready to be run in any process."""

    @property
    def controller(self) -> str:
        """Name of the controller."""

    @property
    def number(self) -> int:
        """Of the trial."""

    @property
    def row_path(self) -> Path:
        """Of the trial's row."""

    def run(self) -> None:
        """Run the trial, and write its recording and its row."""


def write_whole(path: Path, text: str) -> None:
    """Write a file so that it is there whole or not at all.

    Raises:
        VeldrainError: the disk is full, or the folder cannot be written to.
    """
    part = path.with_name(path.name + ".part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        part.write_text(text, encoding="utf-8")
        part.replace(path)
    except OSError as error:
        raise VeldrainError(
            f"cannot be written ({error.strerror or error})",
            where=str(path),
            cure="make room, or name another folder; what was finished is kept",
        ) from error


def read_row(path: Path) -> dict[str, Any] | None:
    """The row of a trial; None where there is none, or one that cannot be read."""
    try:
        row = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    return row if isinstance(row, dict) and {"controller", "trial", "passed", "failed"} <= set(row) else None


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
    """Run the trials whose row is not written yet, or cannot be read.

    Raises:
        VeldrainError: a worker died, or a file could not be written; what was finished is kept.
    """
    missing = [p for p in plans if read_row(p.row_path) is None]
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
    files = loaded_files()
    futures = {pool.submit(_run, files, pickle.dumps(plan)): plan for plan in missing}
    try:
        for future in as_completed(futures):
            future.result()
            done += 1
            tell(f"{futures[future].controller} {futures[future].number}")
    except BrokenExecutor as error:
        time.sleep(0.5)  # Ctrl-C kills the workers a moment before it is raised here
        lost = [f"{p.controller} {p.number}" for f, p in futures.items() if f.done() and f.exception() is not None]
        raise VeldrainError(
            f"a worker process died while trials were running ({done} of {len(plans)} done)",
            where="study",
            cure="run it again, which goes on from there; with fewer workers if memory ran out"
            + (f"; {lost[0]} was under way" if lost else ""),
        ) from error
    except BaseException:  # also Ctrl-C: trials not begun are dropped, those done are kept
        for future in futures:
            future.cancel()
        raise
    finally:
        if executor is None:
            pool.shutdown(cancel_futures=True)


def _run(files: Sequence[Path], plan: bytes) -> None:
    for file in files:  # classes from a user's file are found by the name that it has as a module
        if file.is_file():
            load_file(file)
    pickle.loads(plan).run()
