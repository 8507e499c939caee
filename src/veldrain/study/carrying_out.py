"""A study carried out into a folder: what is there and fits is kept, all else is run, measured and stored."""

from __future__ import annotations

import copy
import logging
import time
from collections.abc import Sequence
from concurrent.futures import Executor
from dataclasses import replace
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError, unknown
from veldrain.files import write_bytes
from veldrain.progress import Progress
from veldrain.study.contracts import Study
from veldrain.study.keeping import Keeping, Policy, path_of
from veldrain.study.locking import LOCK, locked
from veldrain.study.making import made_of
from veldrain.study.metrics import described_metric, smallest_of
from veldrain.study.plan import plan_of
from veldrain.study.result import Result
from veldrain.study.runner import Workers
from veldrain.study.sequential import Until, level_of, looks
from veldrain.study.sources import digest, plain
from veldrain.study.statistics import UNCLEAR
from veldrain.study.store import STORE, Key, Store
from veldrain.study.trials import Done, TrialPlan

log = logging.getLogger(__name__)
ANEW = "are run anew"  # ends what is told of what has changed
NONE = Keeping("none")
FLUSHED = 0.25  # s between two writes to the store


def run_study(
    study: Study,
    folder: Path,
    *,
    workers: int = 1,
    progress: Progress | None = None,
    executor: Executor | None = None,
    keep: Keeping | None = None,
    more: Sequence[int] = (),
) -> Result:
    """See ``Study.run``; ``more``: trials beyond its number, such as those near a boundary; those of before stay."""
    keep = keep or Keeping("all")
    if keep.word == "worst" and keep.metric not in [m.name for m in study.metrics]:
        raise unknown("metric", keep.metric, [m.name for m in study.metrics], "keep")
    study.rehearse()
    _look_into(study, folder)
    with locked(folder), Store(folder, write=True) as store:
        about = describe(study, keep)
        held = [number for number in store.about.get("more", []) if number >= study.trials]
        about["more"] = sorted({*held, *more})
        store.describe(about)
        numbers = [*range(study.trials), *about["more"]]
        wanted = [(name, number) for number in numbers for name in study.controllers]
        plans = _planned(study, folder, store, about, wanted, keep, progress or (lambda *_: None))
        _run(study, folder, store, about, plans, len(wanted), workers, progress, executor)
        result = Result(folder, study)
        if keep.word == "worst":
            _keep_worst(study, folder, result, keep)
    return result


def run_until(
    study: Study, folder: Path, until: Until, *, keep: Policy | Keeping | None = None, **options: Any
) -> Result:
    """Run a study in parts, and end it as soon as it can tell; see ``Study.run``."""
    names = [m.name for m in study.metrics]
    if until.metric not in (*names, "passes"):
        raise unknown("metric", until.metric, ["passes", *names], "until")
    at = looks(study.trials)
    level = level_of(tuple(at))
    part = copy.copy(study)
    for number in at:
        part.trials = number
        part.level = level
        result = run_study(part, folder, keep=Keeping.of(study.keep if keep is None else keep), **options)
        if _can_tell(result, until, level):
            break
    return result


def _can_tell(result: Result, until: Until, level: float) -> bool:
    """True where a look ends a study: all its comparisons can tell, or are narrow enough."""
    found = result.compare()
    if until.metric == "passes":
        return all(r.verdict in ("better", "worse") for r in found.passes if r.controller != found.baseline)
    mine = [d for d in found.differences if d.metric == until.metric]
    if until.width is None:
        return all(not d.verdict.startswith(UNCLEAR) for d in mine)
    width = smallest_of(until.width, mine[0].unit, until.metric)
    return all((d.high - d.low) / 2 <= width for d in mine)


def describe(study: Study, keep: Keeping = NONE) -> dict[str, Any]:
    """What describes a study as it is run now."""
    sources, missed = study.followed()
    return {
        "veldrain": "results/2",
        "fingerprints": study.fingerprints(),
        "sources": sources,
        "not_followed": missed,
        "trials": study.trials,
        "level": study.level,
        "seed": study.seed,
        "controllers": list(study.controllers),
        "vary": study.units,
        "design": str(study.design),
        "changes": study.changes,
        "metrics": [described_metric(m, study.reads_in.get(m.name, "")) for m in study.metrics],
        "measures": {m.name: digest(plain([m, study.reads_in.get(m.name, "")])) for m in study.metrics},
        "expectations": {
            name: {"unit": e.condition.unit(), "says": said(e)} for name, e in study.scenario.expectations.items()
        },
        "keep": [word for word in (keep.word, keep.metric, keep.count) if word],
        "file": study.file,
        "plan": plan_of(study.scenario.world),
        "paths": [
            f"{robot}/{m.name}"
            for robot, placed in study.scenario.world.placed.items()
            for m in placed.model.sensors.values()
            if m.sensor.truth and m.sensor.message == "nav_msgs/msg/Odometry"
        ],
    }


def said(expectation: Any) -> str:
    """Which way a condition is expected."""
    return next(w for w in ("never", "always", "eventually", "at_the_end") if getattr(expectation, w) is not None)


def _look_into(study: Study, folder: Path) -> None:
    """See that a folder is empty, or holds trials of this study.

    Raises:
        VeldrainError: it holds something else; says what differs.
    """
    if (folder / STORE).exists():
        with Store(folder) as store:
            held = store.about.get("fingerprints", {})
        mine = study.fingerprints()
        other = [name for name in mine if held and held.get(name) != mine[name]]
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


def _planned(
    study: Study, folder: Path, store: Store, about: dict[str, Any], wanted: list[Key], keep: Keeping, tell: Progress
) -> list[TrialPlan]:
    """What is to be done of what is wanted: trials to run, and recordings to measure anew. What is stale is dropped."""
    made, measured, measures = store.made(), store.measured(), about["measures"]
    values = {number: made_of(study, about, (name, number)) for name, number in wanted}
    stale: dict[str, list[Key]] = {}
    plans = []
    for key in wanted:
        name, number = key
        path = path_of(folder, name, number)
        needed = values[number] | {"controller": about["sources"][name]}
        missing = tuple(m for m, d in measures.items() if measured.get(key, {}).get(m) != d)
        plan = TrialPlan(name, number, study.draw(number), needed, keep.record(path, number), keep.record_failed(path))
        held = made.get(key)
        if held == needed and not missing:
            continue
        if held == needed and path.is_file():
            plan = replace(plan, record=path, measure=missing)
        elif held is not None and held != needed:
            what = "its draws have" if held.get("controller") == needed["controller"] else f"controller '{name}' has"
            stale.setdefault(what, []).append(key)
        plans.append(plan)
    # No row is left beside a recording that is written over, and no recording beside a row that is not its own.
    store.drop([key for keys in stale.values() for key in keys])
    for plan in plans:
        if plan.measure is None:
            path_of(folder, *plan.key).unlink(missing_ok=True)
    for what, keys in stale.items():
        text = f"{what} changed since: {'its' if what.startswith('c') else 'the'} {len(keys)} trials {ANEW}"
        log.warning(text)
        tell(len(wanted) - len(plans), len(wanted), text)
    return plans


def _run(
    study: Study,
    folder: Path,
    store: Store,
    about: dict[str, Any],
    plans: list[TrialPlan],
    total: int,
    workers: int,
    progress: Progress | None,
    executor: Executor | None,
) -> None:
    """Run what is planned, and store what comes of it, some at a time."""
    done, passed, waiting, last = total - len(plans), 0, list[Done](), time.perf_counter()
    ran = 0
    if progress:
        progress(done, total, f"{done} found" if done else "")

    def store_waiting() -> None:
        store.put((d.key, d.made, d.row, d.took) for d in waiting if d.row)
        store.measure(
            (d.key, name, about["measures"][name], value, note)
            for d in waiting
            for name, (value, note) in d.measured.items()
        )
        waiting.clear()

    try:
        with Workers(study, workers, executor) as crew:
            for one in crew.run(plans):
                waiting.append(_recording_written(one, path_of(folder, *one.key)))
                done, ran, passed = done + 1, ran + bool(one.row), passed + bool(one.row.get("passed"))
                if time.perf_counter() - last > FLUSHED:
                    store_waiting()
                    last = time.perf_counter()
                if progress:
                    how = f", {passed} of {ran} passed" if ran else ""
                    progress(done, total, f"{one.key[0]} {one.key[1]}{how}")
    finally:  # also Ctrl-C, and a worker that died: what is done is kept
        store_waiting()


def _recording_written(done: Done, path: Path) -> Done:
    """Write the recording of a trial that came by value."""
    if not done.recording:
        return done
    write_bytes(part := path.with_name(f"{path.name}.part"), done.recording)
    part.replace(path)
    return replace(done, recording=b"")


def _keep_worst(study: Study, folder: Path, result: Result, keep: Keeping) -> None:
    """Record the worst trials, those that are not yet; what was kept before stays."""
    worst = {(c, t) for c in study.controllers for t in result.worst(keep.metric, keep.count, c)["trial"]}
    for name, number in sorted(worst):
        if not (path := path_of(folder, name, number)).exists():
            plan = TrialPlan(name, number, study.draw(number), {}, path)
            plan.run(study)
