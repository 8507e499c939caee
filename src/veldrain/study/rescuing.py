"""Branches from the worst moments of a study: which controller would have saved the trial, how likely it fails."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

from veldrain import randomness
from veldrain.errors import VeldrainError
from veldrain.progress import Progress
from veldrain.scenario.branching import one_branch
from veldrain.study.contracts import Results
from veldrain.study.metrics import expectation_columns
from veldrain.study.ranks import LEVEL
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd


def rescues_of(
    result: Results,
    metric: str,
    n: int,
    before: Quantity,
    seeds: int,
    controller: str | None,
    progress: Progress | None,
) -> pd.DataFrame:
    """See ``Result.rescues``."""
    import pandas as pd
    from scipy import stats

    study = result.study
    if study is None:
        raise VeldrainError("the study is not at hand", where=str(result.folder), cure="give it: Result(folder, study)")
    lead = quantity(before, "time", "rescues: before")
    worst = result.worst(metric, n, controller)
    total, done, rows = len(worst) * len(study.controllers) * (seeds + 1), 0, []
    for row in worst.to_dict("records"):
        who, number = str(row["controller"]), int(row["trial"])
        moment = max(0.0, _moment(row, list(result.about.get("expectations", {}))) - lead)
        step = study.scenario.step
        trial = study.trial(number, who)
        try:
            trial.advance(math.floor(moment / step + 1e-9) * step)
            for name, by_robot in study.controllers.items():
                others = None if name == who else by_robot
                outcomes = []
                for seed in (None, *(randomness.child_seed(study.seed, "rescue", k) for k in range(seeds))):
                    recording = one_branch(trial, others, None, seed, [], None, study.limit)
                    outcomes.append(bool(recording.outcome["passed"]))
                    done += 1
                    if progress:
                        progress(done, total, f"{who} {number} by {name}")
                count = sum(outcomes[1:])
                interval = stats.binomtest(count, seeds).proportion_ci(LEVEL, method="wilson") if seeds else None
                rows.append(
                    {
                        "trial": number,
                        "of": who,
                        metric: row[metric],
                        "from": trial.simulation.time,
                        "controller": name,
                        "saved": outcomes[0],
                        "passed": count,
                        "seeds": seeds,
                        "low": interval.low if interval else math.nan,
                        "high": interval.high if interval else math.nan,
                    }
                )
        finally:
            trial.close()
    return pd.DataFrame(rows)


def _moment(row: Mapping[Any, Any], expectations: list[str]) -> float:
    """When a trial went wrong: the first time that an expectation failed, else its end."""
    return min(_failed_at(row, expectations), default=float(row["time"]))


def _failed_at(row: Mapping[Any, Any], expectations: list[str]) -> Iterator[float]:
    for name in expectations:
        met, _, when = expectation_columns(name)
        if row[met] is False and row[when] is not None and not math.isnan(row[when]):
            yield float(row[when])
