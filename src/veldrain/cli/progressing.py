"""Shows how far a command is, on standard error: a bar on a terminal, in a log a line now and then."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from veldrain.cli.output import err
from veldrain.errors import printable

if TYPE_CHECKING:
    from veldrain.model import World

FIRST, LONGEST = 2.0, 60.0  # s until the first line of a log, and at most from one to the next
GROWTH = 1.5  # of the time from one line to the next


_quiet = ContextVar("quiet", default=False)


@contextmanager
def silent() -> Iterator[None]:
    """Show nothing of it for a while."""
    before = _quiet.set(True)
    try:
        yield
    finally:
        _quiet.reset(before)


@dataclass
class _Pace:
    """How far something is: done and total in s of simulated time, or of things that are counted."""

    unit: str
    done: float = 0.0
    total: float = 0.0
    last: str = ""
    begun: float = field(default_factory=time.monotonic)

    def tell(self, done: float, total: float, last: str = "") -> None:
        self.done, self.total, self.last = done, total, last

    @property
    def is_counted(self) -> bool:
        """Whether there is more than one step to tell."""
        return self.total > (0 if self.unit else 1)

    def said(self) -> str:
        """In words: how much, how fast, what was last, how long to go."""
        took = time.monotonic() - self.begun
        if not self.is_counted:
            return self.last or f"{took:.0f} s"
        left = took * (self.total - self.done) / self.done if self.done > 0 else None
        if self.unit:
            words = [f"{self.done:.1f} of {self.total:g} {self.unit}"]
            words += [f"{self.done / took:.2g} × real time"] if self.done else []
        else:
            words = [f"{self.done:g} of {self.total:g}"]
            words += [f"{self.done / took:.2g}/s"] if self.done else []
        words += [self.last] if self.last else []
        words += [f"{lasts(left)} to go"] if left is not None and self.done < self.total else []
        return ", ".join(words)


def lasts(seconds: float) -> str:
    """A time in words: 42 s, 3 min, 1.5 h."""
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"


@contextmanager
def progress(
    title: str, unit: str = "", look: Callable[[], tuple[float, float, str]] | None = None
) -> Iterator[Callable[[float, float, str], None]]:
    """Show that something goes on, and how far it is once that is told.

    Args:
        title: what is done, such as ``Trials``.
        unit: ``s`` for simulated time; "": things that are counted.
        look: asked for what is done, the total and the last, by what cannot tell it.
    """
    pace = _Pace(unit)
    if _quiet.get():
        yield pace.tell
        return

    def now() -> _Pace:
        if look is not None:
            pace.tell(*look())
        return pace

    with _bar(title, now) if err.is_terminal else _lines(title, now):
        yield pace.tell


@contextmanager
def _lines(title: str, now: Callable[[], _Pace]) -> Iterator[None]:
    over = threading.Event()

    def say() -> None:
        wait = FIRST
        while not over.wait(wait):
            err.print(printable(f"{title}: {now().said()}"), markup=False, soft_wrap=True)
            wait = min(GROWTH * wait, LONGEST)

    thread = threading.Thread(target=say, daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()


@contextmanager
def _bar(title: str, now: Callable[[], _Pace]) -> Iterator[None]:
    from rich.progress import BarColumn, Progress, ProgressColumn, SpinnerColumn, Task, TextColumn
    from rich.text import Text

    class Said(ProgressColumn):
        """The words of a log, asked anew each time that the bar is drawn."""

        def render(self, task: Task) -> Text:
            pace = now()
            bar.update(task.id, completed=pace.done, total=pace.total if pace.is_counted else None)
            return Text(printable(pace.said()), style="dim")

    columns = (SpinnerColumn(), TextColumn("{task.description}", markup=False), BarColumn(), Said())
    with Progress(*columns, console=err, transient=True) as bar:
        bar.add_task(title, total=None)
        yield


def prepare_engine(*worlds: World, pictures: bool = False) -> None:
    """Compile what this machine has not compiled yet, and say so: the engine, and what paints where there is a need."""
    from veldrain.kernel import is_compiled
    from veldrain.physics.preparing import KERNELS, prepare
    from veldrain.sensing.painting import PAINTERS, prepare_painting

    pictures = pictures or any(
        mounted.sensor.optical is not None
        for world in worlds
        for placed in world.placed.values()
        for mounted in placed.model.sensors.values()
    )
    if not is_compiled("stepping.advance-"):
        _compile("engine", KERNELS, prepare)
    if pictures and not is_compiled("painting.paint"):
        _compile("painter", PAINTERS, prepare_painting)


def _compile(what: str, count: int, act: Callable[[], None]) -> None:
    from veldrain.kernel import cache_folder, kept_kernels, kernels_folder

    begun, before = time.perf_counter(), kept_kernels("engine")
    if not _quiet.get():
        err.print(f"Preparing the {what}: compiling its kernels, once on this machine; it takes a minute or so …")
    with progress("Compiling", look=lambda: (kept_kernels("engine") - before, count, "")):
        act()
    if not _quiet.get():
        kept = "; kept for the next time" if cache_folder("engine").is_relative_to(kernels_folder()) else ""
        err.print(f"The {what} is compiled, in {time.perf_counter() - begun:.0f} s{kept}.")
