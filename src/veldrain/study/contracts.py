"""What is needed of a study, and of its results, by all that answers with them: so that none of it imports either."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from veldrain.recording import Recording
from veldrain.scenario import Scenario
from veldrain.scenario.trial import Trial
from veldrain.study.designs import Design
from veldrain.study.keeping import Policy
from veldrain.study.metrics import AnyMetric

if TYPE_CHECKING:
    import pandas as pd


class Study(Protocol):
    """A study: see ``veldrain.study.study.Study``."""

    scenario: Scenario
    controllers: dict[str, dict[str, Any]]
    metrics: list[AnyMetric]
    design: Design
    changes: dict[str, dict[str, tuple[float, str]]]
    reads_in: dict[str, str]
    trials: int
    seed: int
    limit: float | None
    level: float
    noise: str
    file: str
    keep: Policy
    variants: Any

    @property
    def units(self) -> dict[str, str]:
        """The SI unit of each quantity that is varied."""

    @property
    def rows(self) -> Sequence[dict[str, float]]:
        """The conditions of all trials that the design has."""

    def draw(self, trial: int) -> dict[str, float]:
        """The values of what is varied in a trial."""

    def drawn(self, values: Mapping[str, float], controller: str | None = None) -> Scenario:
        """The scenario with these values, driven by a controller."""

    def seed_of(self, trial: int) -> int:
        """The seed of a trial's noise."""

    def trial(self, number: int, controller: str, **options: Any) -> Trial:
        """A trial, not yet begun."""

    def fingerprints(self) -> dict[str, str]:
        """Digests of what decides the results of every controller."""

    def sources(self) -> dict[str, str]:
        """A digest of each controller."""

    def followed(self) -> tuple[dict[str, str], list[str]]:
        """The same, and what could not be followed."""

    def rehearse(self) -> None:
        """See that trials can begin."""


class Results(Protocol):
    """The results of a study: see ``veldrain.study.result.Result``."""

    folder: Path
    about: dict[str, Any]

    @property
    def study(self) -> Study | None:
        """The study itself, where it is at hand."""

    @property
    def trials(self) -> pd.DataFrame:
        """A row per trial."""

    @property
    def metrics(self) -> list[tuple[str, str, str]]:
        """Name, unit, and what is better."""

    @property
    def matters(self) -> dict[str, float]:
        """The smallest difference that matters, by metric."""

    def metric(self, name: str) -> dict[str, Any]:
        """What is known of a metric."""

    def worst(self, metric: str, n: int = 3, controller: str | None = None) -> pd.DataFrame:
        """The worst trials by a metric."""

    def recording(self, controller: str, trial: int) -> Recording:
        """The recording of one trial."""

    def forget(self, key: tuple[str, int]) -> None:
        """Let go of a recording."""

    def read_again(self) -> None:
        """Read the table anew."""
