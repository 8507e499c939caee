"""Trials at conditions that are asked for one after another, for searches: all are kept, and none is run twice."""

from __future__ import annotations

import math
from collections.abc import Sequence
from concurrent.futures import Executor
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

from veldrain.errors import VeldrainError
from veldrain.progress import Progress
from veldrain.study.carrying_out import describe
from veldrain.study.draws import rounded
from veldrain.study.locking import locked
from veldrain.study.metrics import expectation_columns
from veldrain.study.runner import Workers
from veldrain.study.sources import digest, plain
from veldrain.study.store import Key, Store
from veldrain.study.trials import TrialPlan

if TYPE_CHECKING:
    import pandas as pd

    from veldrain.study.study import Study

Asked = tuple[str, dict[str, float], int]  # controller, values by path, and the number of the trial whose noise it has


class Asking:
    """Runs trials as they are asked for, into a folder; a search that was broken off finds what it asked for before.

    Args:
        study: whose trials.
        folder: for the rows; None: one that is gone afterwards.
        budget: trials at most.
        workers, executor: as of ``Study.run``.
        progress: called with trials done, the budget, and what the search says of itself.
    """

    def __init__(
        self,
        study: Study,
        folder: str | Path | None,
        budget: int,
        workers: int = 1,
        executor: Executor | None = None,
        progress: Progress | None = None,
    ) -> None:
        if budget < 1:
            raise VeldrainError(f"a budget of {budget} trials", where="search", cure="give 1 or more")
        study.rehearse()
        self._aside = TemporaryDirectory() if folder is None else None
        place = Path(self._aside.name if self._aside else str(folder))
        self.study, self.folder, self.budget, self._tell = study, place, budget, progress
        self._lock = locked(self.folder)
        self._lock.__enter__()
        self._store = Store(self.folder, write=True)
        about = describe(study)
        held = self._store.about.get("fingerprints")
        if held and held != about["fingerprints"]:
            self.close()
            raise VeldrainError("holds another search", where=str(folder), cure="name a new folder")
        self._store.describe(about)
        self._crew = Workers(study, workers, executor)
        self._common = {word: about["fingerprints"][word] for word in ("version", "world", "scenario")}
        self._about, self.said = about, ""
        measured = {m.name: self._store.values(m.name, about["measures"][m.name]) for m in study.metrics}
        self._next, self._known = 0, dict[str, dict[str, Any]]()
        rows = self._store.rows(about["controllers"], 2**31)
        for (name, number), made, row in rows:
            self._next = max(self._next, number + 1)
            if all((name, number) in values for values in measured.values()):
                self._known[digest(made)] = self._flat(
                    name, row, {m: values[name, number] for m, values in measured.items()}
                )
        self.rows: list[dict[str, Any]] = []
        self._seen: set[str] = set()

    def __enter__(self) -> Asking:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of processes and of the folder."""
        if hasattr(self, "_crew"):
            self._crew.__exit__()
        self._store.close()
        self._lock.__exit__(None, None, None)
        if self._aside:
            self._aside.cleanup()

    @property
    def left(self) -> int:
        """Trials that may still be asked for."""
        return self.budget - len(self.rows)

    @property
    def trials(self) -> pd.DataFrame:
        """All that was asked for, a row each, in its order."""
        import pandas as pd

        return pd.DataFrame(self.rows)

    def _made(self, asked: Asked) -> dict[str, str]:
        name, values, luck = asked
        told = digest([plain(values), self.study.seed_of(luck)])
        return self._common | {"controller": self._about["sources"][name], "values": told}

    def _flat(self, name: str, row: dict[str, Any], measured: dict[str, float]) -> dict[str, Any]:
        found = {
            "controller": name,
            **{word: row[word] for word in ("passed", "failed", "reason", "time")},
            **row["drawn"],
        }
        for expectation, told in row["expectations"].items():
            met, margin, _ = expectation_columns(expectation)
            found |= {met: told.get("passed"), margin: math.nan if told.get("margin") is None else told["margin"]}
        return found | measured

    def run(self, asked: Sequence[Asked]) -> list[dict[str, Any]]:
        """The rows of trials, in the order in which they are asked for; as many as the budget allows."""
        wanted = [(name, {p: rounded(v) for p, v in values.items()}, luck) for name, values, luck in asked]
        made = [self._made(one) for one in wanted]
        keys = [digest(m) for m in made]
        plans: dict[Key, tuple[str, TrialPlan]] = {}
        for one, needed, key in zip(wanted, made, keys, strict=True):
            if key not in self._known and key not in {k for k, _ in plans.values()}:
                plan = TrialPlan(one[0], self._next, one[1], needed, luck=one[2])
                plans[plan.key] = (key, plan)
                self._next += 1
        for done in self._crew.run([plan for _, plan in plans.values()]):
            key = plans[done.key][0]
            self._store.put([(done.key, done.made, done.row, done.took)])
            self._store.measure(
                (done.key, m, self._about["measures"][m], value, note) for m, (value, note) in done.measured.items()
            )
            self._known[key] = self._flat(done.key[0], done.row, {m: v for m, (v, _) in done.measured.items()})
            self.tell(extra=1)
        found = [self._known[key] for key in keys]
        for key, row in zip(keys, found, strict=True):
            if key not in self._seen:
                self._seen.add(key)
                self.rows.append(row)
        return found

    def tell(self, said: str | None = None, extra: int = 0) -> None:
        """Say how far it is."""
        self.said = self.said if said is None else said
        if self._tell:
            self._tell(min(len(self.rows) + extra, self.budget), self.budget, self.said)
