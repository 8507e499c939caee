"""The results of a study, read from its folder."""

from __future__ import annotations

import json
from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from veldrain.errors import VeldrainError
from veldrain.recording import Recording
from veldrain.study.runner import read_row

if TYPE_CHECKING:
    import pandas as pd

    from veldrain.study.edges import Edge
    from veldrain.study.statistics import Comparison

RESULTS = "study.json"


class Result:
    """The trials of a study that are in a folder.

    Raises:
        VeldrainError: the folder holds no study.

    >>> Result("out/study").trials.groupby("controller")["passed"].mean()  # doctest: +SKIP
    """

    def __init__(self, folder: str | Path) -> None:
        self.folder = Path(folder)
        self._recordings: dict[Path, Recording] = {}
        marker = self.folder / RESULTS
        if not marker.is_file():
            raise VeldrainError("holds no study", where=str(self.folder), cure="name the folder a study was written to")
        try:
            self.about: dict[str, Any] = json.loads(marker.read_text(encoding="utf-8"))
            known = {"controllers", "metrics", "vary"} <= set(self.about)
        except (ValueError, OSError, TypeError) as error:
            raise VeldrainError(f"cannot be read ({error})", where=str(marker), cure="run the study anew") from error
        if not known:
            raise VeldrainError("is not what a study leaves", where=str(marker), cure="run the study anew")

    @cached_property
    def trials(self) -> pd.DataFrame:
        """A row per trial: controller, trial, passed, reason, time, drawn values, metrics, file."""
        import pandas as pd

        order = {name: k for k, name in enumerate(self.about["controllers"])}
        rows = []
        for path in sorted(self.folder.glob("trials/*/*.json")):
            row = read_row(path)
            if row is None:
                raise VeldrainError(
                    "a trial's row that cannot be read",
                    where=str(path),
                    cure="run the study again: it makes this trial anew",
                )
            if row["controller"] in order:
                rows.append(row)
        rows.sort(key=lambda row: (order[row["controller"]], row["trial"]))
        return pd.DataFrame(rows)

    @property
    def metrics(self) -> list[tuple[str, str, str]]:
        """Name, unit, and ``lower`` or ``higher`` for what is better."""
        return [(m["name"], m["unit"], m["better"]) for m in self.about["metrics"]]

    @property
    def notices(self) -> dict[str, list[str]]:
        """What was told of the trials, and of which."""
        found: dict[str, list[str]] = {}
        for row in self.trials.to_dict("records"):
            for text in row.get("notices") or ():
                found.setdefault(text, []).append(f"{row['controller']} {row['trial']}")
        return found

    def _repr_html_(self) -> str:
        """Its trials, for notebooks."""
        return self.trials.drop(columns=["expectations", "notices"], errors="ignore").to_html(index=False)

    def recording(self, controller: str, trial: int) -> Recording:
        """The recording of one trial."""
        path = self.folder / "trials" / controller / f"{trial:03d}.mcap"
        return self._recordings.setdefault(path, Recording(path))

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

    def edges(self) -> list[Edge]:
        """Where its trials turn from passing to failing, over each varied quantity; the clearest first.

        >>> [(edge.quantity, edge.edge) for edge in result.edges() if edge.is_clear]  # doctest: +SKIP
        """
        from veldrain.study.edges import edges_of

        return [] if self.trials.empty else edges_of(self.trials, self.about["vary"])

    def compare(self, baseline: str | None = None) -> Comparison:
        """Compare the controllers with one of them (None: the first), trial by trial.

        Raises:
            VeldrainError: no trials yet, an unknown controller, or only one.
        """
        from veldrain.study.statistics import compare

        if self.trials.empty:
            raise VeldrainError("holds no trials yet", where=str(self.folder), cure="run the study")
        matters = {m["name"]: float(m.get("matters", 0.0)) for m in self.about["metrics"]}
        return compare(self.trials, self.metrics, baseline or self.about["controllers"][0], matters)
