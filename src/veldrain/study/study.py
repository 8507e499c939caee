"""A study: controllers and paired draws over one scenario, and the trials it is made of."""

from __future__ import annotations

import copy
import hashlib
import importlib.metadata
import inspect
import json
import logging
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Executor
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain import randomness
from veldrain.control import NamedController, fresh
from veldrain.control.loading import each_of
from veldrain.errors import VeldrainError, checked_title, told_at, unknown
from veldrain.model import Mesh
from veldrain.model.knobs import knob_of
from veldrain.pose import Pose
from veldrain.randomness import checked_seed
from veldrain.recording import Recording
from veldrain.scenario import Scenario
from veldrain.scenario.limits import OverLimitError, limited
from veldrain.scenario.running import run, wall_time
from veldrain.scenario.trial import Trial
from veldrain.sheet import Sheet
from veldrain.study.draws import Draw, rounded
from veldrain.study.metrics import AnyMetric, checked_metrics, described_metric, look_at_metric, metric_of
from veldrain.study.plan import plan_of
from veldrain.study.result import RESULTS, Result
from veldrain.study.runner import carry_out, read_row, write_whole
from veldrain.study.sources import source_of
from veldrain.study.starts import bad_starts
from veldrain.units import SI_UNITS, Quantity, quantity

log = logging.getLogger(__name__)
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

    @property
    def row_path(self) -> Path:
        """Of the trial's row."""
        return self.stem.with_suffix(".json")

    def run(self) -> None:
        """Run the trial, and write its recording and its row."""
        study = self.study
        drawn = study.draw(self.number)
        recording = run(
            study.drawn(drawn, self.controller),
            seed=study.seed_of(self.number),
            record=self.stem.with_suffix(".mcap"),
            about={"controller": self.controller, "trial": self.number, "drawn": drawn, "units": study.units},
            limit=study.limit,
            warn=False,
        )
        self.measure(recording)

    def measure(self, recording: Recording) -> None:
        """Write the trial's row from its recording."""
        study, outcome = self.study, recording.outcome
        row = {
            "controller": self.controller,
            "trial": self.number,
            "seed": study.seed_of(self.number),
            **{key: outcome[key] for key in ("passed", "failed", "reason", "time")},
            **study.draw(self.number),
            **{metric.name: metric_of(metric, recording) for metric in study.metrics},
            "notices": outcome.get("notices", []),
            "file": self.stem.with_suffix(".mcap").relative_to(self.folder).as_posix(),
        }
        write_whole(self.row_path, json.dumps(row, indent=1))


class Study:
    """Controllers compared over repeated trials of one scenario.

    Trials are paired: in a trial of one number every controller meets the same draws and the same noise.

    Args:
        scenario: what happens.
        controllers: by name; each a controller, or several by name, for the one robot that the scenario drives, or
            a dictionary of them by robot.
        vary: what is drawn for each trial, by ``thing.quantity`` such as ``"silt.friction"``.
        changes: by controller, what else is other in its trials: quantities by path, such as the gains of motors or
            the noise of a sensor. So two sets of gains are compared, or two sensors, with one controller.
        trials: how many for each controller.
        metrics: what is read from each recording.
        seed: of all draws.
        limit: longest that a trial may take by the clock on the wall, s; then it is aborted, and the study goes on.
        where: files and lines of what is varied and of the metrics, by name, for messages.

    Raises:
        VeldrainError: an unknown quantity, a draw of the wrong unit, no controller.

    >>> study = Study(scenario, controllers={"slow": CentreLine(speed=0.3), "fast": CentreLine(speed=0.6)},
    ...               vary={"silt.friction": uniform(0.2, 0.5)}, trials=8)
    >>> soft = Study(scenario, {"stiff": CentreLine(), "soft": CentreLine()},
    ...              changes={"soft": {"crawler/front_left.motor.damping": 1.0}})
    """

    def __init__(
        self,
        scenario: Scenario,
        controllers: Mapping[str, Any],
        *,
        vary: Mapping[str, Draw] | None = None,
        changes: Mapping[str, Mapping[str, Quantity]] | None = None,
        trials: int = 10,
        metrics: Sequence[AnyMetric] = (),
        seed: int = 0,
        limit: Quantity | None = None,
        where: Mapping[str, str] | None = None,
    ) -> None:
        if isinstance(trials, bool) or trials != int(trials) or trials < 1:
            raise VeldrainError(f"{trials} trials", where="study", cure="give a whole number, 1 or more")
        if not controllers:
            raise VeldrainError("no controllers", where="study", cure="give one or more")
        self.scenario, self.trials, self.seed = scenario, int(trials), checked_seed(seed)
        self.limit, self.where = wall_time(limit), dict(where or {})
        self.controllers = {
            checked_title(name, "controller", is_file=True): self._by_robot(name, c) for name, c in controllers.items()
        }
        for name, by_robot in self.controllers.items():
            for title, controller in each_of(by_robot):
                with suppress(OverLimitError), limited(self.limit):  # its trials will break off for the same reason
                    fresh(controller, f"controller '{name}' of {title}")
        self.vary = dict(vary or {})
        self._kinds = self._kinds_of(self.vary)
        self._draws = {path: draw.bind(self._kinds[path], path) for path, draw in self.vary.items()}
        self.changes = {name: self._changed(name, told) for name, told in (changes or {}).items()}
        self.metrics = checked_metrics(list(metrics), self.vary)

    def __getstate__(self) -> dict[str, Any]:  # bound draws are functions, which do not travel
        return {k: v for k, v in self.__dict__.items() if k != "_draws"}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self._draws = {path: draw.bind(self._kinds[path], path) for path, draw in self.vary.items()}

    def _kinds_of(self, paths: Iterable[str]) -> dict[str, str]:
        """The kinds of quantities that are varied, which the scenario has with each controller."""
        kinds: dict[str, str] = {}
        if not paths:
            return kinds
        for name, controllers in self.controllers.items():
            known = {knob.path: knob for knob in self.scenario.driven_by(controllers).knobs()}
            for path in paths:
                kinds[path] = knob_of(known.values(), path, f"vary, with controller '{name}'").kind
        return kinds

    def _changed(self, name: str, told: Mapping[str, Quantity]) -> dict[str, tuple[float, str]]:
        """What is other with a controller: values in SI units, and their units, by path."""
        if name not in self.controllers:
            raise unknown("controller", name, self.controllers, self.where.get(f"changes {name}", "changes"))
        known, found = list(self.scenario.driven_by(self.controllers[name]).knobs()), {}
        for path, value in told.items():
            where = self.where.get(f"changes {name} {path}", f"changes of '{name}'")
            knob = knob_of(known, path, where)
            if path in self.vary:
                raise VeldrainError(
                    "is drawn, and set with a controller as well", where=f"{where}: {path}", cure="take one of them out"
                )
            found[path] = quantity(value, knob.kind, f"{where}: {path}"), knob.unit
        return found

    def _by_robot(self, name: str, controller: Any) -> dict[str, Any]:
        if isinstance(controller, Mapping) and set(controller) <= set(self.scenario.world.placed):
            return dict(controller)
        robots = list(self.scenario.controllers) or list(self.scenario.world.placed)
        if len(robots) != 1:
            raise VeldrainError(
                f"which of {', '.join(robots) or 'no robots'} it drives is not said",
                where=f"controller '{name}'",
                cure="give {'<robot>': controller}",
            )
        return {robots[0]: dict(controller) if isinstance(controller, Mapping) else controller}

    def kind(self, path: str) -> str:
        """The kind of a quantity that is varied, such as ``length``."""
        return self._kinds[path]

    @property
    def units(self) -> dict[str, str]:
        """The SI unit of each quantity that is varied."""
        return {path: SI_UNITS[kind] for path, kind in self._kinds.items()}

    def draw(self, trial: int) -> dict[str, float]:
        """The drawn values of a trial, in SI units; the same for every controller."""
        return {path: rounded(draw(randomness.stream(self.seed, path, trial))) for path, draw in self._draws.items()}

    def seed_of(self, trial: int) -> int:
        """The seed of a trial's noise; the same for every controller."""
        return randomness.child_seed(self.seed, "noise", trial)

    def drawn(self, values: Mapping[str, float], controller: str | None = None) -> Scenario:
        """The scenario with these values (SI units) in their places, driven by a controller (None: by the first)."""
        name = controller or next(iter(self.controllers))
        scenario = copy.deepcopy(self.scenario.driven_by(self.controllers[name]))
        for path, value in [*((p, v) for p, (v, _) in self.changes.get(name, {}).items()), *values.items()]:
            knob_of(scenario.knobs(), path, "vary").set(value)
        return scenario

    def describe(self) -> dict[str, Any]:
        """All that decides the results of every controller, as plain data."""
        return {
            "version": importlib.metadata.version("veldrain"),
            "seed": self.seed,
            "draws": plain(self.vary),
            "world": plain(self.scenario.world),
            "scenario": {k: v for k, v in plain(self.scenario).items() if k not in ("world", "controllers")},
        }

    def fingerprints(self) -> dict[str, str]:
        """A digest of each part of ``describe``: they are those of a study whose trials may stand in one folder."""
        return {name: digest(part) for name, part in self.describe().items()}

    def sources(self) -> dict[str, str]:
        """A digest of each controller: class, arguments and source, and the user's own files that it draws on."""
        found = dict.fromkeys(self.controllers, "cannot be loaded within the limit")
        for name, by_robot in self.controllers.items():
            with suppress(OverLimitError), limited(self.limit):
                other = self.changes.get(name)
                found[name] = digest([plain(by_robot), plain(other)] if other else plain(by_robot))
        return found

    def fingerprint(self) -> str:
        """A digest of all that decides the results but the number of trials."""
        return digest([self.fingerprints(), self.sources()])

    def run(
        self,
        folder: str | Path,
        *,
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
        self._look_into(folder)
        with locked(folder):
            plans = [
                TrialPlan(self, name, number, folder) for number in range(self.trials) for name in self.controllers
            ]
            self._claim(folder, plans, progress or (lambda *_: None))
            carry_out(plans, workers, progress, executor)
            result = Result(folder)
            write_whole(folder / "trials.csv", result.trials.to_csv(index=False))
        return result

    def rehearse(self) -> None:
        """Set up a trial with each controller, and look whether metrics and draws will do.

        Raises:
            VeldrainError: what would go wrong at the start of a trial, before anything is written.
        """
        for name in self.controllers:
            with suppress(OverLimitError), limited(self.limit):
                trial = Trial(self.drawn({}, name))
                for metric in self.metrics:
                    with told_at(self.where.get(f"metric {metric.name}", "")):
                        look_at_metric(metric, trial)
        for finding in bad_starts(self):
            raise finding

    def _look_into(self, folder: Path) -> None:
        """See that a folder is empty, or holds trials of this study.

        Raises:
            VeldrainError: it holds something else; says what differs.
        """
        marker = folder / RESULTS
        if marker.exists():
            held = Result(folder).about.get("fingerprints", {})
            mine = self.fingerprints()
            other = [name for name in mine if held.get(name) != mine[name]]
            if other:
                raise VeldrainError(
                    f"holds the results of another study ({' and '.join(other)} differ)",
                    where=str(folder),
                    cure="name another folder, or remove this one if it is not needed",
                )
        elif folder.exists() and not folder.is_dir():
            raise VeldrainError("is a file", where=str(folder), cure="name a folder for the results")
        elif folder.exists() and any(p.name != LOCK for p in folder.iterdir()):
            raise VeldrainError("is not empty", where=str(folder), cure="name a new folder for the results")

    def _claim(self, folder: Path, plans: Sequence[TrialPlan], progress: Progress) -> None:
        """Note whose folder it is; drop what a changed controller left, and measure anew what the metrics changed."""
        marker, sources = folder / RESULTS, self.sources()
        mark = {
            "veldrain": "results/1",
            "fingerprints": self.fingerprints(),
            "sources": sources,
            "trials": self.trials,
            "seed": self.seed,
            "controllers": list(self.controllers),
            "vary": self.units,
            "changes": self.changes,
            "metrics": [described_metric(m) for m in self.metrics],
            "measures": [plain(m) for m in self.metrics],
            "plan": plan_of(self.scenario.world),
            "paths": [
                f"{robot}/{m.name}"
                for robot, placed in self.scenario.world.placed.items()
                for m in placed.model.sensors.values()
                if m.sensor.truth and m.sensor.message == "nav_msgs/msg/Odometry"
            ],
        }
        held = Result(folder).about if marker.exists() else mark
        before: dict[str, str] = held.get("sources", {})  # type: ignore[assignment]
        changed = {name for name, source in before.items() if sources.get(name, source) != source}
        for name in sorted(changed):
            stale = [p.stem for p in plans if p.controller == name and p.row_path.exists()]
            for stem in stale:
                stem.with_suffix(".json").unlink(missing_ok=True)
            if stale:
                text = f"controller '{name}' has changed since: its {len(stale)} trials {ANEW}"
                log.warning(text)
                progress(0, len(plans), text)
        write_whole(marker, json.dumps(mark, indent=1))
        if held.get("measures") != mark["measures"]:
            for plan in plans:
                recording = plan.stem.with_suffix(".mcap")
                if read_row(plan.row_path) is not None and recording.exists():
                    plan.measure(Recording(recording))


LOCK = ".lock"
ANEW = "are run anew"  # ends what is told of a controller that has changed


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Nobody else writes to a folder of results meanwhile.

    Raises:
        VeldrainError: somebody does, or it cannot be written to.
    """
    from filelock import FileLock, Timeout

    try:
        folder.mkdir(parents=True, exist_ok=True)
        lock = FileLock(folder / LOCK)
        lock.acquire(timeout=0)
    except Timeout:
        raise VeldrainError(
            "is being written to by another run", where=str(folder), cure="wait for it, or name another folder"
        ) from None
    except OSError as error:
        raise VeldrainError(
            f"cannot be written to ({error.strerror or error})", where=str(folder), cure="name another folder"
        ) from error
    try:
        yield
    finally:
        lock.release()


def digest(data: Any) -> str:
    """A short digest of plain data."""
    return hashlib.sha256(json.dumps(data, sort_keys=True).encode()).hexdigest()[:32]


# What tells how something was described, not what it is.
_HOW_IT_CAME_ABOUT = ("folder", "where", "draft", "faults", "notes", "suppressed", "_given", "_defaults")


def plain(thing: Any) -> Any:
    """An object as plain data that tells it from any other: for a digest, not for reading back."""
    if thing is None or isinstance(thing, (bool, int, float, str)):
        return repr(thing) if isinstance(thing, float) else thing
    if isinstance(thing, NamedController):
        return [thing.use, plain(thing.arguments), source_of(thing.load()), thing.digest()]
    if isinstance(thing, type) or inspect.isroutine(thing):
        return [f"{thing.__module__}:{thing.__qualname__}", source_of(thing)]
    if isinstance(thing, Sheet):
        return [f"{type(thing).__name__} {source_of(type(thing))}", plain(thing.values)]
    if isinstance(thing, Mesh):
        numbers = hashlib.sha256(thing.corners.tobytes() + thing.triangles.tobytes()).hexdigest()
        return [type(thing).__name__, numbers, thing.collide, thing.fit]
    if isinstance(thing, np.ndarray):
        return [repr(x) for x in thing.ravel().tolist()]
    if isinstance(thing, np.generic):
        return repr(thing.item())
    if isinstance(thing, Pose):
        return [plain(thing.position), plain(thing.rotation)]
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
    if source := source_of(type(thing)):
        title = f"{type(thing).__qualname__} {source}"
    return {"": title} | {k: plain(v) for k, v in fields.items() if k not in _HOW_IT_CAME_ABOUT}
