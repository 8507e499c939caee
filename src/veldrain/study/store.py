"""The store of a study: one SQLite file with a row a trial, what made it, and what was measured of it.

One process writes: that of ``Study.run``; workers hand their rows to it. Readers see whole rows alone (write-ahead
log).
A row carries digests of all that made it, and each measured value that of its metric: what does not fit what is asked
is not used.
"""

from __future__ import annotations

import json
import math
import os
import sqlite3
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError

STORE = "study.sqlite"
FORMAT = 1
_TABLES = """
CREATE TABLE IF NOT EXISTS about (word TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS trials (
  controller TEXT NOT NULL, trial INTEGER NOT NULL, made TEXT NOT NULL, row TEXT NOT NULL, took REAL NOT NULL,
  PRIMARY KEY (controller, trial)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS measures (
  controller TEXT NOT NULL, trial INTEGER NOT NULL, metric TEXT NOT NULL, digest TEXT NOT NULL, value REAL,
  note TEXT NOT NULL,
  PRIMARY KEY (controller, trial, metric)) WITHOUT ROWID;
"""
Key = tuple[str, int]


def gone(folder: Path) -> VeldrainError:
    """The error of a folder of results that somebody took away while a study wrote to it."""
    return VeldrainError(
        "is gone: it was deleted or renamed while the study ran",
        where=str(folder),
        cure="run the study again where its results are to be",
    )


class Store:
    """The rows of a study.

    Args:
        folder: that holds, or is to hold, the store.
        write: False for a look only: nothing is written then, and there has to be a store.

    Raises:
        VeldrainError: there is none, or what is there is no store.
    """

    def __init__(self, folder: Path, write: bool = False) -> None:
        self.path, self._writes = folder / STORE, write
        if not write and not self.path.is_file():
            old = " of this version: its rows are files" if (folder / "study.json").is_file() else ""
            raise VeldrainError(
                f"holds no study{old}", where=str(folder), cure="name the folder a study was written to"
            )
        with self._told():
            self._base = sqlite3.connect(self.path, isolation_level=None, timeout=20.0)
            self._base.execute("PRAGMA trusted_schema=OFF")  # a file from elsewhere is data
            if write:
                self._base.execute("PRAGMA journal_mode=WAL")
                self._base.execute("PRAGMA synchronous=NORMAL")
                self._base.executescript(_TABLES)
            self._file = self.path.stat()

    @contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.DatabaseError as error:
            full = "full" in str(error) or "readonly" in str(error) or "unable" in str(error)
            problem = "cannot be written" if full else "is no store of a study, or a spoilt one"
            cure = "make room, or name another folder; what was finished is kept" if full else "run the study anew"
            raise VeldrainError(f"{problem} ({error})", where=str(self.path), cure=cure) from error
        except (ValueError, TypeError) as error:
            raise VeldrainError(
                f"holds a row that cannot be read ({error})",
                where=str(self.path),
                cure="run the study again: it makes the trial anew",
            ) from error

    @contextmanager
    def _writing(self) -> Iterator[None]:
        """What is written in here is written whole or not at all.

        Raises:
            VeldrainError: its folder was deleted or renamed meanwhile: what is written would be in no folder.
        """
        try:
            is_there = os.path.samestat(self.path.stat(), self._file)
        except OSError:
            is_there = False
        if not is_there:
            raise gone(self.path.parent)
        with self._told():
            self._base.execute("BEGIN IMMEDIATE")
            try:
                yield
            except BaseException:
                self._base.execute("ROLLBACK")
                raise
            self._base.execute("COMMIT")

    def close(self) -> None:
        """Let go of the file: one that was written to is then a single file, which is read from any disk."""
        if self._writes:
            with suppress(sqlite3.OperationalError):  # somebody reads: it stays as it is
                self._base.execute("PRAGMA journal_mode=DELETE")
        self._base.close()

    def __enter__(self) -> Store:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @property
    def about(self) -> dict[str, Any]:
        """What describes the study as it was run last; empty for a new store."""
        with self._told():
            return {word: json.loads(value) for word, value in self._base.execute("SELECT word, value FROM about")}

    def describe(self, about: Mapping[str, Any]) -> None:
        """Note what describes the study from now on."""
        rows = [(word, json.dumps(value)) for word, value in about.items()]
        with self._writing():
            self._base.execute("DELETE FROM about")
            self._base.executemany("INSERT INTO about VALUES (?, ?)", rows)

    def note(self, word: str, value: Any) -> None:
        """Note one more thing that describes the study as it is now."""
        with self._writing():
            self._base.execute("INSERT OR REPLACE INTO about VALUES (?, ?)", (word, json.dumps(value)))

    def made(self) -> dict[Key, dict[str, str]]:
        """By trial: the digests of what made its row."""
        with self._told():
            rows = self._base.execute("SELECT controller, trial, made FROM trials").fetchall()
            return {(controller, trial): json.loads(made) for controller, trial, made in rows}

    def measured(self) -> dict[Key, dict[str, str]]:
        """By trial: the digests of the metrics that it was measured with, by metric."""
        found: dict[Key, dict[str, str]] = {}
        with self._told():
            for controller, trial, metric, digest in self._base.execute(
                "SELECT controller, trial, metric, digest FROM measures"
            ):
                found.setdefault((controller, trial), {})[metric] = digest
        return found

    def took(self) -> float:
        """Mean time of a trial on the clock, s; nan for none."""
        with self._told():
            (found,) = self._base.execute("SELECT AVG(took) FROM trials").fetchone()
        return math.nan if found is None else float(found)

    def put(self, rows: Iterable[tuple[Key, Mapping[str, str], Mapping[str, Any], float]]) -> None:
        """Write the rows of trials, in place of older ones; what was measured of those is dropped."""
        with self._writing():
            for (controller, trial), made, row, took in rows:
                self._base.execute("DELETE FROM measures WHERE controller = ? AND trial = ?", (controller, trial))
                values = (controller, trial, json.dumps(made), json.dumps(row), took)
                self._base.execute("INSERT OR REPLACE INTO trials VALUES (?, ?, ?, ?, ?)", values)

    def drop(self, keys: Iterable[Key]) -> None:
        """Take out the rows of trials, and what was measured of them."""
        with self._writing():
            for table in ("trials", "measures"):
                self._base.executemany(f"DELETE FROM {table} WHERE controller = ? AND trial = ?", list(keys))

    def measure(self, values: Iterable[tuple[Key, str, str, float, str]]) -> None:
        """Write what was measured: trial, metric, digest of the metric, value, and what is to be said of it."""
        rows = [
            (c, t, metric, digest, None if math.isnan(v) else v, note) for (c, t), metric, digest, v, note in values
        ]
        with self._writing():
            self._base.executemany("INSERT OR REPLACE INTO measures VALUES (?, ?, ?, ?, ?, ?)", rows)

    def rows(
        self, controllers: Iterable[str], trials: int, more: Iterable[int] = ()
    ) -> Iterator[tuple[Key, dict[str, str], dict[str, Any]]]:
        """Trial, digests and row of the trials of these controllers below a number, and of some more, in order."""
        wanted = set(more)
        for controller in controllers:
            with self._told():
                rows = self._base.execute(
                    "SELECT trial, made, row FROM trials WHERE controller = ? ORDER BY trial", (controller,)
                )
                found = [row for row in rows if row[0] < trials or row[0] in wanted]
                made = json.loads("[" + ",".join(m for _, m, _ in found) + "]")
                rows = json.loads("[" + ",".join(r for *_, r in found) + "]")
            for (trial, *_), by, row in zip(found, made, rows, strict=True):
                if not isinstance(row, dict) or not {"passed", "failed", "reason"} <= set(row):
                    with self._told():
                        raise ValueError(f"{controller} {trial}")
                yield (controller, trial), by, row

    def values(self, metric: str, digest: str) -> dict[Key, float]:
        """What was measured with a metric, by trial; nan for what has no value."""
        with self._told():
            found = self._base.execute(
                "SELECT controller, trial, value FROM measures WHERE metric = ? AND digest = ?", (metric, digest)
            ).fetchall()
        return {(c, t): math.nan if value is None else value for c, t, value in found}

    def notes(self, digests: Mapping[str, str]) -> dict[Key, list[str]]:
        """What is to be said of what was measured with these metrics, by trial."""
        found: dict[Key, list[str]] = {}
        with self._told():
            rows = self._base.execute("SELECT controller, trial, metric, digest, note FROM measures WHERE note != ''")
            for controller, trial, metric, digest, note in rows.fetchall():
                if digests.get(metric) == digest:
                    found.setdefault((controller, trial), []).append(note)
        return found
