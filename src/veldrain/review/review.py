"""Apply all rules to a thing, or to what a file describes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from veldrain.documents import load_scenario, load_study, load_world
from veldrain.documents.source import kind_of_file
from veldrain.errors import VeldrainError
from veldrain.formats import is_robot_file, load_robot
from veldrain.model import Model, Placed, World
from veldrain.model.pieces import Fault, Suppressed
from veldrain.pose import Pose
from veldrain.progress import Progress, seldom
from veldrain.resolver import allowed_code, code_from_files

# Each of these registers its rules.
from veldrain.review import (  # noqa: F401
    aiming,
    balance,
    driving,
    flying,
    gains,
    instruments,
    joints,
    mass,
    mechanisms,
    motors,
    roads,
    sensors,
    shapes,
    slips,
    stepping,
    surroundings,
    touching,
)
from veldrain.review.finding import Finding, Findings, Silenced
from veldrain.review.look import Look, RobotLook
from veldrain.review.rehearsing import sensors_that_cannot_begin, what_cannot_run
from veldrain.review.rules import RULES
from veldrain.scenario import Scenario
from veldrain.study import Study
from veldrain.units import Quantity, quantity


def check(
    thing: Any, *, step: Quantity | None = None, posture: str | None = None, progress: Progress | None = None
) -> Findings:
    """Look a thing over before it runs.

    Args:
        thing: a ``Model``, a ``World``, a ``Scenario``, a ``Study``, or the path of a file: a robot (URDF, xacro), a
            world, a scenario or a study.
        step: of the simulation, s. None: the scenario's, or 1 ms.
        posture: of a model that is looked at by itself.
        progress: told now and then how many rules are done, of how many, and what is looked at.

    Controllers that are programs are not started, which is said, unless ``code_from_files("all")`` holds.

    Raises:
        VeldrainError: a file that is not there or cannot be read at all.

    >>> from veldrain.model import Box, World
    >>> [f.rule for f in check(World().body("crate", Box((1, 1, 1)), mass=90))]
    ['nothing-below']
    """
    if allowed_code() == "beside":
        with code_from_files("python"):  # a check starts no programs
            return check(thing, step=step, posture=posture, progress=progress)
    tell = seldom(progress)
    if isinstance(thing, str | Path):
        thing = of_file(Path(thing))
        if isinstance(thing, VeldrainError):
            return Findings([_mistake(thing)])
    scenario = getattr(thing, "scenario", thing)
    integrator = getattr(scenario, "integrator", "semi-implicit")
    length = quantity(step, "time", "step") if step is not None else float(getattr(scenario, "step", 1e-3))
    if isinstance(thing, Model):
        return _check_model(thing, length, posture, tell)
    world = getattr(scenario, "world", scenario)
    if not isinstance(world, World):
        raise VeldrainError(
            f"{type(thing).__name__} cannot be checked", cure="give a Model, World, Scenario, Study, or a file"
        )
    if unread := [fault.error for fault in world.faults if fault.rule == "file"]:
        return Findings([_mistake(error) for error in unread])
    found = [_of_fault(fault, world.where.get(fault.error.where.partition("/")[0], "")) for fault in world.faults]
    whole = True
    for name, placed in world.placed.items():
        found += _described(placed.model, name)
        whole = whole and len(placed.model.roots()) == 1
    for name, read in (("scenario", scenario), *world.networks.items()):
        found += _not_used(name, getattr(read, "notes", ()), "see that it does not matter here")
    accepted = [*world.suppressed, *(_at(a, robot) for robot, p in world.placed.items() for a in p.model.suppressed)]
    if whole:
        found += _applied(Look(world, length, integrator), tell)
        found += sensors_that_cannot_begin(world, length)
        if isinstance(thing, Scenario | Study) and not any(f.severity == "error" for f in found):
            found += what_cannot_run(thing, tell)
    return _silenced(_taken_together(found), accepted)


def _check_model(model: Model, step: float, posture: str | None, tell: Progress) -> Findings:
    """A model by itself: held still, with nothing around it."""
    found = _described(model, model.name)
    if len(model.roots()) == 1:
        world = World(draft=True)
        world.place(model, fixed=True, posture=posture)
        found += [_of_fault(fault, model.line_of(fault.error.where)) for fault in world.faults]
        found += _applied(Look(world, step, is_bare=True), tell)
    return _silenced(found, [_at(a, model.name) for a in model.suppressed])


def _described(model: Model, robot: str) -> list[Finding]:
    """What the reader of a robot's model found: its faults, what it did not use, and links that nothing holds."""
    found = [_of_fault(fault, model.line_of(fault.error.where), robot) for fault in model.faults]
    found += _not_used(robot, model.notes, "take it out, or say it in the world file")
    if len(model.roots()) != 1:
        look = Look(World(draft=True), 1e-3)
        found += RULES["held-by-nothing"].act(RobotLook(look, Placed(robot, model, Pose(), True)))
        left = "checks that need the poses of its links were skipped"
        found.append(Finding("not-looked-at", "note", robot, left, "join the links that nothing holds first"))
    return found


def _not_used(path: str, notes: Sequence[str], cure: str) -> Iterator[Finding]:
    """What the reader of a file did not use, or took as something near."""
    for note in notes:
        line, _, text = note.partition(": ")
        yield Finding("not-used", "note", path, text, cure, line)


def _applied(look: Look, tell: Progress) -> list[Finding]:
    found: list[Finding] = []
    for k, rule in enumerate(RULES.values()):
        tell(k, len(RULES), rule.name)
        found += rule.apply(look)
    if look.cannot_be_built is not None and not any(f.severity == "error" for f in found):
        error = look.cannot_be_built
        found.append(Finding("cannot-be-built", "error", error.where, error.problem, error.cure))
    return found


def _of_fault(fault: Fault, line: str, robot: str = "") -> Finding:
    """A fault of a draft as a finding; one of a model is told by the name of the robot."""
    error = fault.error
    severity = "error" if fault.is_grave else "warning"
    model, sep, part = error.where.partition("/")
    path = f"{robot or model}{sep}{part}"
    fix = {"models": {model: {"change": fault.fix}}} if fault.is_sure else {}
    return Finding(fault.rule, severity, path, error.problem, error.cure, line, fix=fix)  # type: ignore[arg-type]


def _mistake(error: VeldrainError) -> Finding:
    line, _, path = error.where.partition(": ")
    return Finding("file", "error", path, error.problem, error.cure, line)


def _taken_together(found: list[Finding]) -> list[Finding]:
    """One finding for many pieces of one thing: pieces are called name/1, name/2, …"""
    firsts: dict[tuple[str, str], Finding] = {}
    counts: Counter[tuple[str, str]] = Counter()
    for k, finding in enumerate(found):
        thing, _, piece = finding.path.rpartition("/")
        key = (finding.rule, thing) if thing and piece.isdigit() else (finding.rule, f"{finding.path} {k}")
        firsts.setdefault(key, finding)
        counts[key] += 1
    return [
        replace(first, path=key[1], problem=f"{first.problem} (and so with {counts[key] - 1} more pieces)")
        if counts[key] > 1
        else first
        for key, first in firsts.items()
    ]


def _at(accepted: Suppressed, robot: str) -> Suppressed:
    return Suppressed(accepted.rule, f"{robot}/{accepted.at}", accepted.because)


def _silenced(found: list[Finding], accepted: list[Suppressed]) -> Findings:
    """The findings, less those that were accepted; one accepted for nothing is noted, so that it does not stay."""
    loud, quiet, used = [], [], set()
    for finding in found:
        reason = next(
            (
                a
                for a in accepted
                if a.rule == finding.rule and (finding.path == a.at or finding.path.startswith(f"{a.at}/"))
            ),
            None,
        )
        if reason is None:
            loud.append(finding)
        else:
            quiet.append(Silenced(finding, reason.because))
            used.add(reason)
    for a in accepted:
        if a not in used:
            loud.append(
                Finding(
                    "suppressed-in-vain",
                    "note",
                    a.at,
                    f"'{a.rule}' is suppressed here and finds nothing",
                    "take it out of suppress",
                )
            )
    return Findings(loud, quiet)


def of_file(path: Path) -> Any:
    """What a file describes, as a draft; or the mistake for which it cannot be read.

    Raises:
        VeldrainError: there is no such file.
    """
    if not path.is_file():
        raise VeldrainError("no such file", where=str(path), cure="name a robot, world, scenario or study file")
    try:
        if is_robot_file(path.name):
            return load_robot(path, draft=True)
        kind = kind_of_file(path)
        if kind == "study":
            return load_study(path, draft=True)
        return (load_scenario if kind == "scenario" else load_world)(path, draft=True)
    except VeldrainError as error:
        return error
