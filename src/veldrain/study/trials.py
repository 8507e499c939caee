"""One trial of a study: run, measured while it runs, recorded where it is to be kept, and turned into a row."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from veldrain.recording import Recorder, Recording, Sink
from veldrain.recording.choice import Choice, Chosen
from veldrain.recording.kept import Kept
from veldrain.scenario.carrying import carried_out
from veldrain.scenario.trial import Trial
from veldrain.study.contracts import Study
from veldrain.study.metrics import metric_of, streams_of
from veldrain.study.store import gone
from veldrain.units import named

Key = tuple[str, int]


@dataclass(frozen=True)
class Done:
    """What comes of a trial: its row and what made it, values and remarks by metric, how long it took."""

    key: Key
    made: dict[str, str]
    row: dict[str, Any]
    measured: dict[str, tuple[float, str]]
    took: float
    recording: bytes = b""  # where it came by value
    variant: str = ""


@dataclass(frozen=True)
class TrialPlan:
    """One trial to be run, in any process.

    Attributes:
        controller, number: which.
        drawn: values of what is varied, SI units.
        made: digests of what makes its row.
        record: path of its recording; None: none is kept, but of one that fails with ``record_failed``.
        measure: names of the metrics that are missing where its row is there already; None: it is to be run.
        variant: of the study, of which it is; "": the study itself.
        luck: the number of the trial whose noise it has; None: its own.
        by_value: True where recordings come back as bytes: the worker may have another disk.
    """

    controller: str
    number: int
    drawn: dict[str, float]
    made: dict[str, str]
    record: Path | None = None
    record_failed: Path | None = None
    measure: tuple[str, ...] | None = None
    by_value: bool = False
    variant: str = ""
    luck: int | None = None

    @property
    def key(self) -> Key:
        """Controller and number."""
        return self.controller, self.number

    def seed(self, study: Study) -> int:
        """The seed of its noise."""
        return study.seed_of(self.number if self.luck is None else self.luck)

    def run(self, study: Study) -> Done:
        """Run the trial, or measure it from its recording where only that is missing."""
        study = study.variants[self.variant] if self.variant else study
        if self.measure is not None:
            assert self.record is not None
            recording = Recording(self.record)
            wanted = [m for m in study.metrics if m.name in self.measure]
            return Done(self.key, self.made, {}, measured(study, recording, wanted), 0.0)
        begun = time.perf_counter()
        kept, outcome, data = self._carried_out(study, self.record)
        if self.record is None and self.record_failed is not None and not outcome["passed"]:
            *_, data = self._carried_out(study, self.record_failed)  # the same bytes, now recorded
        row = {
            "seed": self.seed(study),
            **{word: outcome[word] for word in ("passed", "failed", "reason", "time", "end", "expectations")},
            "drawn": self.drawn,
            "notices": outcome.get("notices", []),
        }
        found = measured(study, kept, study.metrics)
        return Done(self.key, self.made, row, found, time.perf_counter() - begun, data, self.variant)

    def _carried_out(self, study: Study, path: Path | None) -> tuple[Kept, dict[str, Any], bytes]:
        scenario = study.drawn(self.drawn, self.controller)
        kept = Kept(streams_of(study.metrics))
        about: dict[str, Any] = {"controller": self.controller, "trial": self.number}
        about |= {"drawn": named(self.drawn, study.units), "units": study.units}
        sinks: list[Sink] = [kept.sink]
        choice = Choice.of(scenario.record.words)
        if path is not None and not self.by_value and not path.parents[2].is_dir():
            raise gone(path.parents[2])  # and is not made anew for one recording
        recorder = None if path is None else Recorder(None if self.by_value else path)
        if recorder:
            sinks = [Chosen(recorder, choice) if choice.words else recorder, kept.sink]
        outcome = carried_out(Trial, scenario, self.seed(study), sinks, about=about, limit=study.limit)
        return kept, outcome, recorder.data if recorder else b""


def measured(study: Study, recording: Any, metrics: Any) -> dict[str, tuple[float, str]]:
    """Values and remarks by metric."""
    units: Mapping[str, str] = study.reads_in
    return {metric.name: metric_of(metric, recording, units.get(metric.name)) for metric in metrics}
