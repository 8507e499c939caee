"""What is drawn for each trial, and where the drawn value goes."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.model import GROUND, Surface
from veldrain.pose import Pose
from veldrain.scenario import Push, Scenario
from veldrain.units import Quantity, quantity


class Draw(ABC):
    """A distribution; its quantities are read in the unit of what is varied."""

    @abstractmethod
    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        """The function that draws, in SI units of a kind of quantity."""

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        """The least and the largest value, SI units; empty where there are none."""
        return ()


def _finite(value: Quantity, kind: str, where: str) -> float:
    number = quantity(value, kind, where)
    if not math.isfinite(number):
        raise VeldrainError(f"{number:g} cannot be drawn", where=where, cure="give a finite value")
    return number


@dataclass(frozen=True)
class Uniform(Draw):
    """Every value between two is as likely."""

    low: Quantity
    high: Quantity

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        low, high = _finite(self.low, kind, where), _finite(self.high, kind, where)
        if low > high:
            raise VeldrainError(f"from {low:g} to {high:g}", where=where, cure="the lower value first")
        return lambda random: float(random.uniform(low, high))

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        return quantity(self.low, kind, where), quantity(self.high, kind, where)


@dataclass(frozen=True)
class Normal(Draw):
    """A normal distribution about a mean."""

    mean: Quantity
    deviation: Quantity

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        mean, deviation = _finite(self.mean, kind, where), _finite(self.deviation, kind, where)
        if deviation < 0:
            raise VeldrainError(f"deviation is {deviation:g}", where=where, cure="give 0 or more")
        return lambda random: float(random.normal(mean, deviation))


@dataclass(frozen=True)
class OneOf(Draw):
    """One of some values, each as likely."""

    values: tuple[Quantity, ...]

    def bind(self, kind: str, where: str) -> Callable[[np.random.Generator], float]:
        values = [_finite(v, kind, where) for v in self.values]
        if not values:
            raise VeldrainError("no values to choose from", where=where, cure="give at least one")
        return lambda random: float(values[random.integers(len(values))])

    def ends(self, kind: str, where: str) -> tuple[float, ...]:
        values = [quantity(v, kind, where) for v in self.values]
        return min(values), max(values)


def uniform(low: Quantity, high: Quantity) -> Draw:
    """Every value between two is as likely.

    >>> uniform("-10 deg", "10 deg")
    Uniform(low='-10 deg', high='10 deg')
    """
    return Uniform(low, high)


def normal(mean: Quantity, deviation: Quantity) -> Draw:
    """A normal distribution with a mean and a standard deviation.

    >>> normal(0, "5 cm")
    Normal(mean=0, deviation='5 cm')
    """
    return Normal(mean, deviation)


def one_of(*values: Quantity) -> Draw:
    """One of some values, each as likely.

    >>> one_of(0.2, 0.4)
    OneOf(values=(0.2, 0.4))
    """
    return OneOf(values)


_POSE = {"x": "length", "y": "length", "z": "length", "roll": "angle", "pitch": "angle", "yaw": "angle"}
_SURFACE = {
    "friction": "ratio",
    "restitution": "ratio",
    "rolling": "length",
    "torsional": "length",
    "stiffness": "linear stiffness",
    "damping": "linear damping",
}
_PUSH = {f"{load}_{axis}": kind for load, kind in (("force", "force"), ("torque", "torque")) for axis in "xyz"}
_PUSH["lasting"] = "time"


def quantities_of(scenario: Scenario) -> dict[str, str]:
    """Everything that can be varied, as ``thing.quantity``, with the kind of quantity."""
    world = scenario.world
    found = {f"{GROUND}.{q}": k for q, k in _SURFACE.items()} if world.floor else {}
    robots = [r.name for r in world.placed.values() if not r.path]
    for name in (*robots, *world.obstacles, *world.bodies, *world.patches):
        found |= {f"{name}.{q}": k for q, k in _POSE.items()}
    for name in (*world.obstacles, *world.bodies, *world.patches):
        found |= {f"{name}.{q}": k for q, k in _SURFACE.items()}
    for robot in world.placed.values():
        for coordinate, (_, linear) in robot.model.coordinates().items():
            found[f"{robot.name}/{coordinate}.position"] = "length" if linear else "angle"
    for name in scenario.pushes():
        found |= {f"{name}.{q}": k for q, k in _PUSH.items()}
    return found


def kind_of(scenario: Scenario, path: str) -> str:
    """The kind of a quantity that can be varied.

    Raises:
        VeldrainError: there is no such quantity.
    """
    known = quantities_of(scenario)
    if path not in known:
        raise unknown("quantity to vary", path, known, "vary")
    return known[path]


def _with(surface: Surface, name: str, value: float) -> Surface:
    changed: dict[str, Any] = {name: value}
    return surface.changed(**changed)


def set_quantity(scenario: Scenario, path: str, value: float) -> None:
    """Put a value (SI units) in its place; the scenario is changed."""
    thing, _, name = path.rpartition(".")
    world = scenario.world
    if thing == GROUND and world.floor:
        world.floor.surface = _with(world.floor.surface, name, value)
        return
    if name in _PUSH and thing in scenario.pushes():
        _set_push(scenario, thing, name, value)
        return
    if name == "position":
        robot = next(r for r in world.placed.values() if thing.startswith(f"{r.name}/"))
        robot.joints[thing.removeprefix(f"{robot.name}/")] = value
        return
    tables: Sequence[dict[str, Any]] = (world.placed, world.obstacles, world.bodies, world.patches)
    found = next(table[thing] for table in tables if thing in table)
    if name in _SURFACE:
        found.surface = _with(found.surface, name, value)
        return
    xyz, rpy = found.pose.position.copy(), found.pose.rpy
    row, at = (xyz, "xyz".index(name)) if name in "xyz" else (rpy, ("roll", "pitch", "yaw").index(name))
    row[at] = value
    found.pose = Pose(xyz, rpy)


def _set_push(scenario: Scenario, push: str, name: str, value: float) -> None:
    entry = next(e for e in scenario.timeline if isinstance(e.action, Push) and e.action.name == push)
    if name == "lasting":
        # A time that is drawn is rounded to a millisecond, the longest step that is of use.
        entry.action = entry.action.changed(lasting=max(round(value, 3), 1e-3))
        return
    load, axis = name.split("_")
    row = list(entry.action.values[load])
    row["xyz".index(axis)] = value
    entry.action = entry.action.changed(**{load: row})


def rounded(value: float) -> float:
    """A value to nine digits: what is noted in files is what was used, to the letter."""
    return float(f"{value:.9g}") if math.isfinite(value) else value
