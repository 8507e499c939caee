"""More trials near a boundary."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.study.carrying_out import run_study
from veldrain.study.contracts import Study
from veldrain.study.keeping import Keeping
from veldrain.study.result import Result

POOL = 60  # draws that are looked at for each trial that is run


def sharpen(
    study: Study,
    folder: Path,
    trials: int,
    controller: str | None,
    quantities: Sequence[str] | None,
    workers: int,
    progress: Any,
) -> Result:
    """See ``Study.sharpen``."""
    if study.design.has_end:
        raise VeldrainError("a design that has an end", where="sharpen", cure="use design: drawn")
    result = Result(folder, study)
    passing = result.trials.groupby("controller", sort=False)["passed"].mean()
    both = [str(name) for name, share in passing.items() if 0 < share < 1]
    if controller is None and not both:
        raise VeldrainError(
            "no controller passes some trials and fails some", where="sharpen", cure="draw from wider ranges"
        )
    boundary = result.boundary(controller or both[0], quantities)
    held = set(result.about.get("more", []))
    first = study.trials
    numbers = [n for n in range(first, first + POOL * trials) if n not in held]
    drawn = [study.draw(n) for n in numbers]
    points = np.array([[values[q] for q in boundary.quantities] for values in drawn])
    nearest = np.argsort(np.abs(boundary.chance(points) - 0.5), kind="stable")[:trials]
    more = [numbers[k] for k in nearest]
    return run_study(study, folder, workers=workers, progress=progress, keep=Keeping.of(study.keep), more=more)
