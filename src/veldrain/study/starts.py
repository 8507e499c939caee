"""Where the draws of a study put things at the start: inside a wall, or behind one."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping
from typing import Protocol

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import GROUND, World
from veldrain.physics.engine import Engine
from veldrain.scenario import Scenario
from veldrain.study.factors import Factor


class Study(Protocol):
    """What is looked at of a study."""

    scenario: Scenario
    factors: list[Factor]
    trials: int
    where: dict[str, str]

    @property
    def units(self) -> dict[str, str]:
        """The units of what is varied, by path."""

    def draw(self, trial: int) -> dict[str, float]:
        """The drawn values of a trial."""

    def drawn(self, values: Mapping[str, float]) -> Scenario:
        """The scenario with these values in their places."""


DRAWS = 20  # first trials that are looked at
MOST_CORNERS = 16
DEEP = 1e-3  # m: of overlap that a draw may make
PLACES = ("x", "y", "z", "roll", "pitch", "yaw", "position")


def bad_starts(study: Study) -> Iterator[VeldrainError]:
    """Errors for draws that put a robot or body into, or behind, what is fixed in the world; at most one."""
    moved = [path for path in study.units if path.rpartition(".")[2] in PLACES]
    if not moved:
        return
    usual = Engine(study.scenario.world, study.scenario.step)
    for label, values in _looked_at(study, moved):
        world = study.drawn(values).world
        try:
            engine = Engine(world, study.scenario.step)
        except VeldrainError as error:
            yield error.at(f"{label} of the draws")
            return
        for name in _moving(world, moved):
            problem = _problem(name, world, engine, usual)
            if problem:
                drawn = [path for path in moved if path.partition(".")[0].partition("/")[0] == name]
                said = ", ".join(f"{path} = {values[path]:.4g}" for path in drawn)
                yield VeldrainError(
                    f"{label} of the draws starts {name} {problem} ({said}; a drawn value takes the place of the one "
                    "in the world, it is not added to it)",
                    where=study.where.get(drawn[0], "vary") if drawn else "vary",
                    cure="draw it from a narrower range",
                )
                return


def at_the_ends(study: Study) -> Iterator[tuple[str, float, Scenario | VeldrainError]]:
    """Each varied quantity at its least and its largest, the others as first drawn; an error where it cannot be so.

    Of one without ends, such as of a normal distribution, the least and the largest of the first trials.
    """
    first = study.draw(0)
    some = [study.draw(trial) for trial in range(min(DRAWS, study.trials))]
    drawn = {paths: f.draw.ends(f.kinds[0], f.name) for f in study.factors for paths in f.groups}
    for paths, ends in (drawn or {(path,): () for path in study.units}).items():
        seen = [values[paths[0]] for values in some]
        for value in sorted({*(ends or (min(seen), max(seen)))}):
            try:
                yield paths[0], value, study.drawn(first | dict.fromkeys(paths, value))
            except VeldrainError as error:
                yield paths[0], value, error


def _looked_at(study: Study, moved: list[str]) -> Iterator[tuple[str, Mapping[str, float]]]:
    """Values to look at, with what to call them: the corners of the draws that have ends, and the first trials."""
    first = study.draw(0)
    mine = [f for f in study.factors if set(f.paths) & set(moved)]
    ends = {f: found for f in mine if (found := f.draw.ends(f.kinds[0], f.name))}
    for corner in itertools.islice(itertools.product(*ends.values()), MOST_CORNERS):
        values = [f.all_at(value) for f, value in zip(ends, corner, strict=True)]
        yield "a corner", first | {path: value for part in values for path, value in part.items()}
    for trial in range(min(DRAWS, study.trials)):
        yield f"trial {trial}", study.draw(trial)


def _moving(world: World, moved: list[str]) -> list[str]:
    """The robots and bodies that the draws move, those on which the places of fixed things bear included."""
    things = [*world.placed, *world.bodies]
    own = {path.partition(".")[0].partition("/")[0] for path in moved}
    return [t for t in things if t in own] if own <= set(things) else things


def _problem(name: str, world: World, engine: Engine, usual: Engine) -> str:
    """What is wrong with where a thing starts; "" for nothing."""
    try:
        mine = engine.geoms_of(name)
    except VeldrainError:  # nothing of it can be touched
        return ""
    for other in world.obstacles:
        gap = engine.clearance(mine, engine.geoms_of(other))
        if gap < -DEEP and gap < usual.clearance(usual.geoms_of(name), usual.geoms_of(other)) - DEEP:
            return f"{-gap * 100:.2g} cm inside {other}"
    start, end = usual.pose(name).position, engine.pose(name).position
    way = end - start
    length = float(np.linalg.norm(way))
    if length > DEEP:
        scene = engine.touchable
        fixed = scene.nodes_of(np.arange(len(scene.names))) < 0
        found = scene.cast(start[None], way[None] / length, length)
        met = int(found[1][0])
        if met >= 0 and fixed[met] and scene.names[met] != GROUND:
            return f"behind {scene.names[met]}, seen from where the world has it"
    return ""
