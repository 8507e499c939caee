"""The results of a study, read from its folder."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, overload

from veldrain.errors import VeldrainError, checked_title, unknown
from veldrain.progress import Progress
from veldrain.recording import Recording
from veldrain.study.contracts import Study
from veldrain.study.keeping import path_of
from veldrain.study.metrics import expectation_columns
from veldrain.study.ranks import LEVEL
from veldrain.study.store import Key, Store
from veldrain.units import Quantity, names_of

if TYPE_CHECKING:
    import pandas as pd

    from veldrain.study.boundaries import Boundary
    from veldrain.study.doubting import Doubt
    from veldrain.study.edges import Edge
    from veldrain.study.effects import Effect
    from veldrain.study.metrics import AnyMetric
    from veldrain.study.statistics import Comparison

WORDS = ("seed", "passed", "failed", "reason", "time")


class Result:
    """The trials of a study that are in a folder, as they were asked for last: what does not fit is left out, and told.

    Args:
        folder: that the study was written to.
        study: the study itself, where it is at hand: for recordings that were not kept.

    Raises:
        VeldrainError: the folder holds no study.

    >>> Result("out/study").trials.groupby("controller")["passed"].mean()  # doctest: +SKIP
    """

    def __init__(self, folder: str | Path, study: Study | None = None) -> None:
        self.folder, self.study = Path(folder), study
        self._recordings: dict[Key, Recording] = {}
        with Store(self.folder) as store:
            self.about: dict[str, Any] = store.about
        if not {"controllers", "metrics", "vary", "trials", "measures"} <= set(self.about):
            raise VeldrainError("is not what a study leaves", where=str(self.folder), cure="run the study anew")
        for name in self.about["controllers"]:  # they are names of folders, also in what comes from elsewhere
            checked_title(name, "controller", is_file=True)

    @cached_property
    def _read(self) -> tuple[pd.DataFrame, list[str], dict[str, list[str]]]:
        """The table of trials, what is to be said of it, and what was told of trials by text."""
        import pandas as pd

        about, expected = self.about, list(self.about.get("expectations", {}))
        rows, notices, said = [], dict[str, list[str]](), list[str]()
        stale: dict[str, int] = {}
        prints = {word: about["fingerprints"][word] for word in ("version", "world", "scenario")}
        with Store(self.folder) as store:
            measured = {m["name"]: store.values(m["name"], about["measures"][m["name"]]) for m in about["metrics"]}
            notes = store.notes(about["measures"])
            kept = {
                (name, int(path.stem))
                for name in about["controllers"]
                for path in (self.folder / "trials" / name).glob("*.mcap")
                if path.stem.isdigit()
            }
            for (name, trial), made, row in store.rows(about["controllers"], about["trials"], about.get("more", [])):
                if made != made | prints | {"controller": about["sources"][name]}:
                    stale[name] = stale.get(name, 0) + 1
                    continue
                found = {"controller": name, "trial": trial} | {word: row[word] for word in WORDS} | row["drawn"]
                for expectation in expected:
                    told = row["expectations"].get(expectation, {})
                    values = (told.get("passed"), told.get("margin"), told.get("time"))
                    found |= dict(zip(expectation_columns(expectation), values, strict=True))
                found |= {m: values.get((name, trial), float("nan")) for m, values in measured.items()}
                own = [*row["notices"], *notes.get((name, trial), ())]
                for text in own:
                    notices.setdefault(text, []).append(f"{name} {trial}")
                file = path_of(Path(), name, trial).as_posix() if (name, trial) in kept else ""
                rows.append(found | {"notices": own, "file": file, "end": row["end"]})
            for name, known in measured.items():
                gone = sum((row["controller"], row["trial"]) not in known for row in rows)
                if gone:
                    said.append(f"'{name}' is not measured yet in {gone} trials: run the study again to complete it")
        said += [
            f"{count} trials of '{name}' are of an earlier version and are left out: run the study again"
            for name, count in stale.items()
        ]
        said += [f"not followed: {what}; edits of it are not noticed" for what in about.get("not_followed", [])]
        table = pd.DataFrame(rows)
        for path, unit in about["vary"].items() if rows else ():
            if names := names_of(unit):
                table[path] = pd.Categorical.from_codes(table[path].to_numpy(int), pd.Index(names))
        for expectation in expected if rows else []:
            margin = expectation_columns(expectation)[1]
            table[margin] = table[margin].astype(float)
        return table, said, notices

    @property
    def trials(self) -> pd.DataFrame:
        """A row per trial.

        Columns: controller, trial, seed, passed, failed, reason, time (s); what is varied, by path, SI units; of each
        expectation ``<name>: passed``, ``: margin`` and ``: when`` (s); the metrics; notices, file, and end: a digest
        of where all that moves was, which trials share that are copies of one.
        """
        return self._read[0]

    @property
    def caveats(self) -> list[str]:
        """What is to be known of the table: rows left out, what is not measured, what could not be followed."""
        from veldrain.study.statistics import copies_of

        found = list(self._read[1])
        if not self.trials.empty:
            copies = copies_of(self.trials, [name for name, *_ in self.metrics])
            if len(copies):
                found.append(
                    f"{len(copies)} of {self.trials['trial'].nunique()} trials are copies of others to the last bit: "
                    "nothing that is drawn acts on them; they count once"
                )
        return found

    @property
    def metrics(self) -> list[tuple[str, str, str]]:
        """Name, unit, and ``lower`` or ``higher`` for what is better."""
        return [(m["name"], m["unit"], m["better"]) for m in self.about["metrics"]]

    @property
    def matters(self) -> dict[str, float]:
        """The smallest difference that matters, by metric."""
        return {m["name"]: float(m.get("matters", 0.0)) for m in self.about["metrics"]}

    def metric(self, name: str) -> dict[str, Any]:
        """What is known of a metric.

        Raises:
            VeldrainError: there is none of that name.
        """
        found = {m["name"]: m for m in self.about["metrics"]}
        if name not in found:
            raise unknown("metric", name, found, str(self.folder))
        return dict(found[name])

    @property
    def notices(self) -> dict[str, list[str]]:
        """What was told of the trials, and of which."""
        return self._read[2]

    @property
    def failures(self) -> pd.DataFrame:
        """Which expectation failed how often: a row each, a column a controller; aborted trials as the last."""
        import pandas as pd

        trials = self.trials
        rows: dict[str, dict[str, str]] = {}
        for name in self.about.get("expectations", {}):
            column = expectation_columns(name)[0]
            rows[name] = {
                str(c): _count(own[column].eq(False).sum(), own[column].notna().sum())
                for c, own in trials.groupby("controller", sort=False)
            }
        aborted = {str(c): _count(own["failed"].sum(), len(own)) for c, own in trials.groupby("controller", sort=False)}
        if any(not told.startswith("0 ") for told in aborted.values()):
            rows["(aborted)"] = aborted
        return pd.DataFrame(rows).T

    def _repr_html_(self) -> str:
        """Its trials, for notebooks."""
        return self.trials.drop(columns=["expectations", "notices", "end"], errors="ignore").to_html(index=False)

    def recording(self, controller: str, trial: int) -> Recording:
        """The recording of one trial; one that was not kept is made again, if the study is at hand.

        Raises:
            VeldrainError: no such trial, or one that was not kept, and of which the study is not known or has changed.
        """
        key = (controller, int(trial))
        if key not in self._recordings:
            path = path_of(self.folder, *key)
            self._recordings[key] = Recording(path) if path.is_file() else self._made_again(key)
        return self._recordings[key]

    def _made_again(self, key: Key) -> Recording:
        from veldrain.study.again import again

        with Store(self.folder) as store:
            made = store.made().get(key)
        if made is None:
            raise VeldrainError(
                f"holds no trial {key[1]} of '{key[0]}'", where=str(self.folder), cure="see Result.trials"
            )
        if self.study is None:
            raise VeldrainError(
                f"the recording of {key[0]} {key[1]} was not kept",
                where=str(self.folder),
                cure="give the study: Result(folder, study); or: veldrain run FOLDER TRIAL --controller NAME",
            )
        found, changed = again(self.study, self.about, key, made)
        if changed:
            raise VeldrainError(
                f"cannot be made as it was: {' and '.join(changed)} differ",
                where=f"{key[0]} {key[1]}",
                cure="run the study again",
            )
        return found

    def add_metric(self, metric: AnyMetric, progress: Progress | None = None) -> Result:
        """Measure one more metric, or one of this name anew, from the recordings: nothing is run for it.

        A trial whose recording was not kept has no value, unless the study is at hand to make it again.

        Raises:
            VeldrainError: a name that is taken, no such stream or column, or a unit of another kind.

        >>> result.add_metric(Metric("top speed", "crawler/truth", "vx", "max")).trials["top speed"]  # doctest: +SKIP
        """
        from veldrain.study.adding import add_metric

        add_metric(self, metric, progress)
        return self

    def rescues(
        self,
        metric: str,
        n: int = 3,
        *,
        before: Quantity = 1.0,
        seeds: int = 20,
        controller: str | None = None,
        progress: Progress | None = None,
    ) -> pd.DataFrame:
        """Branches from shortly before the n worst trials went wrong: which controller would have saved them?

        Args:
            metric: that tells the worst trials.
            n: how many.
            before: so long before the first expectation failed (or before the end) each branch begins, s.
            seeds: branches with other noise, for each controller.
            controller: whose worst trials; None: of all.
            progress: called with branches done, branches in all, and what was done last.

        Returns:
            A row for each trial and controller: saved (with the noise that was to come), passed of so many seeds, and
            Wilson's 95 % interval of that rate.

        Raises:
            VeldrainError: no such metric, or the study is not at hand.

        >>> result.rescues("nearest wall", n=3)  # doctest: +SKIP
        """
        from veldrain.study.rescuing import rescues_of

        return rescues_of(self, metric, n, before, seeds, controller, progress)

    def forget(self, key: Key) -> None:
        """Let go of a recording that was read: of many, not all stay in memory."""
        self._recordings.pop(key, None)

    def read_again(self) -> None:
        """Read the table anew when it is asked for next."""
        self.__dict__.pop("_read", None)

    def worst(self, metric: str, n: int = 3, controller: str | None = None) -> pd.DataFrame:
        """The n worst trials by a metric, of one controller or of all; inf is worst where lower is better.

        Raises:
            VeldrainError: no such metric or controller.

        >>> result.worst("nearest wall", n=3)[["controller", "trial"]]  # doctest: +SKIP
        """
        told, trials = self.metric(metric), self.trials
        if controller is not None:
            if controller not in self.about["controllers"]:
                raise unknown("controller", controller, self.about["controllers"], str(self.folder))
            trials = trials[trials["controller"] == controller]
        ordered = trials[trials[metric].notna()].sort_values(
            metric, ascending=told["better"] == "higher", kind="stable"
        )
        return ordered.head(n).reset_index(drop=True)

    def write_dataset(self, out: str | Path, columns: Sequence[str], **choices: Any) -> pd.DataFrame:
        """Write a data set: one labelled file a trial, or a window of it, an index, splits by trial, and a README.

        Args:
            out: a new folder.
            columns: what the files hold, each as ``stream.column``.
            choices: ``kind`` (npz, csv, parquet), ``period``, ``window``, ``stride``, ``split``, ``seed``; see
                ``veldrain.study.dataset.write_dataset``.

        Returns:
            The index, a row a file.

        >>> result.write_dataset("out/set", ["crawler/imu.angular_velocity.z"], window="2 s")  # doctest: +SKIP
        """
        from veldrain.study.dataset import write_dataset

        return write_dataset(self, out, columns, **choices)

    def write_table(self, out: str | Path) -> Path:
        """Write the table of trials: CSV or Parquet, by the name's ending.

        Raises:
            VeldrainError: another ending, no pyarrow for Parquet, or a file that cannot be written.

        >>> result.write_table("trials.csv")  # doctest: +SKIP
        """
        from veldrain.study.dataset import write_table

        return write_table(self.trials.drop(columns=["notices"], errors="ignore"), Path(out))

    @overload
    def edges(self) -> list[Edge]: ...
    @overload
    def edges(self, quantities: Sequence[str]) -> list[Boundary]: ...
    def edges(self, quantities: Sequence[str] | None = None) -> list[Edge] | list[Boundary]:
        """Where its trials turn from passing to failing, the clearest first.

        Args:
            quantities: over these at once: a boundary for each controller that passes some trials and fails some. None:
                over each varied quantity by itself.

        >>> [(edge.quantity, edge.edge) for edge in result.edges() if edge.is_clear]  # doctest: +SKIP
        >>> [b.at("speed", {"gap": 20}) for b in result.edges(["speed", "gap"])]  # doctest: +SKIP
        """
        from veldrain.study.edges import edges_of

        if quantities is None:
            return [] if self.trials.empty else edges_of(self.trials, self.about["vary"])
        shares = self.trials.groupby("controller", sort=False)["passed"].mean()
        found = [self.boundary(str(name), quantities) for name, share in shares.items() if 0 < share < 1]
        return sorted(found, key=lambda boundary: boundary.p)

    def compare(self, baseline: str | None = None, correct: str = "holm") -> Comparison:
        """Compare the controllers with one of them (None: the first), trial by trial.

        Args:
            baseline: the controller to compare with.
            correct: ``holm`` for the number of comparisons, or ``none``.

        Raises:
            VeldrainError: no trials yet, an unknown controller, or only one.
        """
        from veldrain.study.statistics import compare

        if self.trials.empty:
            raise VeldrainError("holds no trials yet", where=str(self.folder), cure="run the study")
        first = baseline or self.about["controllers"][0]
        trials = self.trials[self.trials["trial"] < self.about["trials"]]  # others were placed where it turns
        return compare(trials, self.metrics, first, self.matters, correct=correct, level=self.about.get("level", LEVEL))

    def needed(
        self, metric: str, *, power: float = 0.8, width: Quantity | None = None, baseline: str | None = None
    ) -> pd.DataFrame:
        """How many pairs it takes: a row for each controller and question, with a 90 % interval of the number.

        Args:
            metric: its name.
            power: chance to tell the difference, if it is as large.
            width: half of the interval's width that is wanted, in the metric's unit or with its own. None: what
                matters.
            baseline: None: the first controller.

        Raises:
            VeldrainError: no such metric or controller, or fewer than six pairs.

        >>> result.needed("offset, RMS")[["controller", "what", "pairs"]]  # doctest: +SKIP
        """
        from veldrain.study.needed import needed_of

        return needed_of(self, metric, power, width, baseline)

    def effects(self, baseline: str | None = None) -> list[Effect]:
        """Which varied quantity, or two of them together, matter for each metric and for passing; the clearest first.

        >>> [(e.metric, e.quantity, e.strength) for e in result.effects() if e.is_clear]  # doctest: +SKIP
        """
        from veldrain.study.effects import effects_of

        if self.trials.empty:
            return []
        metrics = [(name, unit) for name, unit, _ in self.metrics]
        return effects_of(self.trials, metrics, self.about["vary"], baseline or self.about["controllers"][0])

    def boundary(self, controller: str, quantities: Sequence[str] | None = None) -> Boundary:
        """Where a controller's trials turn from passing to failing, over several quantities at once (None: all varied).

        Raises:
            VeldrainError: no such controller or quantity, all passed, none did, or too few trials.

        >>> result.boundary("short gap", ["lorry.start", "car.speed"]).at("lorry.start")  # doctest: +SKIP
        """
        from veldrain.study.boundaries import boundary_of

        units = {path: unit for path, unit in self.about["vary"].items() if not names_of(unit)}
        names = list(quantities or units)
        for name in names:
            if name not in units:
                raise unknown("quantity of numbers", name, units, str(self.folder))
        if controller not in self.about["controllers"]:
            raise unknown("controller", controller, self.about["controllers"], str(self.folder))
        own = self.trials[self.trials["controller"] == controller]
        values, passed = own[names].to_numpy(float), own["passed"].to_numpy(bool)
        return boundary_of(controller, values, passed, names, [units[n] for n in names])

    def doubts(
        self, pairs: int = 8, baseline: str | None = None, workers: int = 1, progress: Progress | None = None
    ) -> list[Doubt]:
        """What the verdict hangs on: a sample of the pairs again at half the step, with other noise, with defaults
        turned.

        Args:
            pairs: how many; more tell finer.
            baseline: None: the first controller.
            workers: processes.
            progress: called with trials done, trials in all, and what is other in the last.

        Returns:
            The most dangerous first: what turns or blurs a verdict, and which expectations come out otherwise.

        Raises:
            VeldrainError: the study is not at hand.

        >>> [(d.what, d.effect) for d in study.run("out").doubts() if d.effect != "stands"]  # doctest: +SKIP
        """
        from veldrain.study.doubting import doubts_of

        return doubts_of(self, pairs, baseline, workers, progress)


def _count(part: Any, whole: Any) -> str:
    return f"{int(part)} of {int(whole)}"
