"""A study: controllers and paired draws over one scenario, and the trials it is made of."""

from __future__ import annotations

import copy
import dataclasses
import hashlib
import importlib.metadata
import json
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain import randomness
from veldrain.control import fresh
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Mesh
from veldrain.recording import Recorder
from veldrain.scenario import Scenario, run
from veldrain.scenario.trial import Trial
from veldrain.study.draws import Draw, kind_of, rounded, set_quantity
from veldrain.study.metrics import AnyMetric, Metric, checked_metrics
from veldrain.study.plan import plan_of
from veldrain.study.result import RESULTS, Result
from veldrain.study.runner import carry_out, write_whole
from veldrain.units import SI_UNITS

Progress = Callable[[int, int, str], None]


@dataclass(frozen=True)
class TrialPlan:
    """One trial of a study, ready to be run in any process."""

    study: Study
    controller: str
    number: int
    folder: Path

    @property
    def stem(self) -> Path:
        """Path of the trial's files without their endings."""
        return self.folder / "trials" / self.controller / f"{self.number:03d}"

    def run(self) -> None:
        """Run the trial, and write its recording and its row."""
        study = self.study
        drawn = study.draw(self.number)
        scenario = copy.deepcopy(study.scenario)
        for path, value in drawn.items():
            set_quantity(scenario, path, value)
        recording = run(
            scenario,
            seed=study.seed_of(self.number),
            record=self.stem.with_suffix(".mcap"),
            controllers=study.controllers[self.controller],
            about={"controller": self.controller, "trial": self.number, "drawn": drawn, "units": study.units},
        )
        outcome = recording.outcome
        row = {
            "controller": self.controller,
            "trial": self.number,
            "seed": study.seed_of(self.number),
            **{key: outcome[key] for key in ("passed", "failed", "reason", "time")},
            **drawn,
            **{metric.name: metric.of(recording) for metric in study.metrics},
            "file": self.stem.with_suffix(".mcap").relative_to(self.folder).as_posix(),
        }
        write_whole(self.stem.with_suffix(".json"), json.dumps(row, indent=1))


class Study:
    """Controllers compared over repeated trials of one scenario.

    Trials are paired: in a trial of one number every controller meets the same draws and the same noise.

    Args:
        scenario: what happens.
        controllers: by name; each a controller for the one robot that the scenario drives, or a dictionary
            of controllers by robot.
        vary: what is drawn for each trial, by ``thing.quantity`` such as ``"silt.friction"``.
        trials: how many for each controller.
        metrics: what is read from each recording.
        seed: of all draws.

    Raises:
        VeldrainError: an unknown quantity, a draw of the wrong unit, no controller.

    >>> study = Study(scenario, controllers={"slow": CentreLine(speed=0.3), "fast": CentreLine(speed=0.6)},
    ...               vary={"silt.friction": uniform(0.2, 0.5)}, trials=8)
    """

    def __init__(
        self,
        scenario: Scenario,
        controllers: Mapping[str, Any],
        vary: Mapping[str, Draw] | None = None,
        trials: int = 10,
        metrics: Sequence[AnyMetric] = (),
        seed: int = 0,
    ) -> None:
        if trials < 1:
            raise VeldrainError(f"{trials} trials", where="study", cure="give 1 or more")
        if not controllers:
            raise VeldrainError("no controllers", where="study", cure="give one or more")
        self.scenario, self.trials, self.seed = scenario, int(trials), int(seed)
        self.controllers = {name: self._by_robot(name, c) for name, c in controllers.items()}
        for name, by_robot in self.controllers.items():
            for robot, controller in by_robot.items():
                fresh(controller, f"controller '{name}' of {robot}")
        self.vary = dict(vary or {})
        self._draws = {path: draw.bind(kind_of(scenario, path), path) for path, draw in self.vary.items()}
        self.metrics = checked_metrics(list(metrics))

    def __getstate__(self) -> dict[str, Any]:  # bound draws are functions, which do not travel
        return {k: v for k, v in self.__dict__.items() if k != "_draws"}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self._draws = {path: draw.bind(kind_of(self.scenario, path), path) for path, draw in self.vary.items()}

    def _by_robot(self, name: str, controller: Any) -> dict[str, Any]:
        if isinstance(controller, Mapping):
            return dict(controller)
        robots = list(self.scenario.controllers) or list(self.scenario.world.placed)
        if len(robots) != 1:
            raise VeldrainError(
                f"which of {', '.join(robots) or 'no robots'} it drives is not said", where=f"controller '{name}'",
                cure="give {'<robot>': controller}",
            )  # fmt: skip
        return {robots[0]: controller}

    @property
    def units(self) -> dict[str, str]:
        """The SI unit of each quantity that is varied."""
        return {path: SI_UNITS[kind_of(self.scenario, path)] for path in self.vary}

    def draw(self, trial: int) -> dict[str, float]:
        """The drawn values of a trial, in SI units; the same for every controller."""
        return {path: rounded(draw(randomness.stream(self.seed, path, trial))) for path, draw in self._draws.items()}

    def seed_of(self, trial: int) -> int:
        """The seed of a trial's noise; the same for every controller."""
        return randomness.child_seed(self.seed, "noise", trial)

    def describe(self) -> dict[str, Any]:
        """All that decides the results, as plain data."""
        return {
            "version": importlib.metadata.version("veldrain"),
            "seed": self.seed,
            "controllers": plain(self.controllers),
            "vary": plain(self.vary),
            "metrics": [plain(m) for m in self.metrics],
            "scenario": plain(self.scenario),
        }

    def fingerprint(self) -> str:
        """A digest of all that decides the results but the number of trials."""
        return hashlib.sha256(json.dumps(self.describe(), sort_keys=True).encode()).hexdigest()

    def run(
        self,
        folder: str | Path,
        workers: int = 1,
        progress: Progress | None = None,
        executor: Executor | None = None,
    ) -> Result:
        """Run the trials that the folder does not hold yet.

        Args:
            folder: where recordings and results go; made if missing. A folder with a part of this same study
                is completed; more trials can be added.
            workers: processes.
            progress: called with trials done, trials in all, and what was done last.
            executor: runs the trials instead of processes of its own.

        Raises:
            VeldrainError: the folder holds something else.
        """
        folder = Path(folder)
        self.rehearse()
        self._claim(folder)
        plans = [TrialPlan(self, name, number, folder) for number in range(self.trials) for name in self.controllers]
        carry_out(plans, workers, progress, executor)
        result = Result(folder)
        write_whole(folder / "trials.csv", result.trials.to_csv(index=False))
        return result

    def rehearse(self) -> None:
        """Set up a trial with each controller, and look whether the metrics' streams will be there.

        Raises:
            VeldrainError: what would go wrong at the start of a trial, before anything is written.
        """
        for controllers in self.controllers.values():
            streams = Trial(self.scenario.driven_by(controllers), 0, Recorder()).streams()
            for metric in self.metrics:
                if isinstance(metric, Metric) and metric.stream not in streams:
                    raise unknown("stream", metric.stream, streams, f"metric '{metric.name}'")

    def _claim(self, folder: Path) -> None:
        marker = folder / RESULTS
        mark = {
            "veldrain": "results/1",
            "fingerprint": self.fingerprint(),
            "trials": self.trials,
            "seed": self.seed,
            "controllers": list(self.controllers),
            "vary": self.units,
            "metrics": [dataclasses.asdict(m) for m in self.metrics],
            "plan": plan_of(self.scenario.world),
        }
        if marker.exists():
            held = Result(folder).about
            if held.get("fingerprint") != mark["fingerprint"]:
                raise VeldrainError(
                    "holds the results of another study", where=str(folder),
                    cure="name another folder, or remove this one if it is not needed",
                )  # fmt: skip
        elif folder.exists() and any(folder.iterdir()):
            raise VeldrainError("is not empty", where=str(folder), cure="name a new folder for the results")
        folder.mkdir(parents=True, exist_ok=True)
        write_whole(marker, json.dumps(mark, indent=1))


# What tells how something was described, not what it is.
_HOW_IT_CAME_ABOUT = ("folder", "where", "draft", "faults", "notes", "accepted", "_given", "_defaults")


def plain(thing: Any) -> Any:
    """An object as plain data that tells it from any other: for a digest, not for reading back."""
    if thing is None or isinstance(thing, (bool, int, float, str)):
        return repr(thing) if isinstance(thing, float) else thing
    if isinstance(thing, Mesh):
        numbers = hashlib.sha256(thing.corners.tobytes() + thing.triangles.tobytes()).hexdigest()
        return [type(thing).__name__, numbers, thing.collide, thing.fit]
    if isinstance(thing, np.ndarray):
        return [repr(x) for x in thing.ravel().tolist()]
    if isinstance(thing, np.generic):
        return repr(thing.item())
    if isinstance(thing, Rotation):
        return plain(thing.as_quat(canonical=True))
    if isinstance(thing, Mapping):
        return {str(k): plain(v) for k, v in thing.items()}
    if isinstance(thing, (set, frozenset)):
        return sorted(json.dumps(plain(v), sort_keys=True) for v in thing)
    if isinstance(thing, Sequence):
        return [plain(v) for v in thing]
    if isinstance(thing, Path):
        return thing.name
    slots = [s for kind in type(thing).__mro__ for s in getattr(kind, "__slots__", ())]
    fields = {s: getattr(thing, s) for s in slots} or vars(thing) if hasattr(thing, "__dict__") or slots else {}
    title = f"{type(thing).__module__}:{type(thing).__qualname__}"
    return {"": title} | {k: plain(v) for k, v in fields.items() if k not in _HOW_IT_CAME_ABOUT}
