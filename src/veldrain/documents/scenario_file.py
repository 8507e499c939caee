"""Scenario files: the same words as ``Scenario``."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from veldrain.control import NamedController
from veldrain.documents.model_text import Row
from veldrain.documents.source import Document, Source
from veldrain.documents.world_file import load_world
from veldrain.errors import VeldrainError
from veldrain.scenario import Condition, Scenario, clearance, distance, touching
from veldrain.units import Quantity


class ControllerText(Document):
    """A controller: ``use: module:Name`` or ``file.py:Name``, and its arguments."""

    use: str
    arguments: dict[str, Any] = Field(default={}, alias="with")

    def make(self, source: Source, *place: str | int) -> NamedController:
        return NamedController(self.use, self.arguments, str(source.path.parent.resolve()), source.line(place))


class ConditionText(Document):
    """``{distance: [a, b], below: 0.5 m}``, ``{touching: [a, b]}``, or others joined."""

    distance: tuple[str, str] | None = None
    clearance: tuple[str, str] | None = None
    touching: tuple[str, str] | None = None
    below: Quantity | None = None
    above: Quantity | None = None
    between: tuple[Quantity, Quantity] | None = None
    all: list[ConditionText] | None = None
    any: list[ConditionText] | None = None
    not_: ConditionText | None = Field(default=None, alias="not")

    def make(self) -> Condition:
        given = [k for k in ("distance", "clearance", "touching", "all", "any", "not_") if getattr(self, k) is not None]
        if len(given) != 1:
            raise VeldrainError(
                f"{len(given)} conditions", cure="give one of distance, clearance, touching, all, any and not"
            )
        if self.distance or self.clearance:
            measure = distance(*self.distance) if self.distance else clearance(*(self.clearance or ("", "")))
            if sum(bound is not None for bound in (self.below, self.above, self.between)) != 1:
                raise VeldrainError(f"{given[0]} is not compared with one thing", cure="give below, above or between")
            if self.between is not None:
                return measure.between(*self.between)
            return measure < self.below if self.below is not None else measure > (self.above or 0.0)
        if self.touching:
            return touching(*self.touching)
        if self.not_:
            return ~self.not_.make()
        parts = [c.make() for c in (self.all or self.any or [])]
        if not parts:
            raise VeldrainError("an empty list of conditions", cure="give one or more")
        joined = parts[0]
        for part in parts[1:]:
            joined = joined & part if self.all else joined | part
        return joined


class PushText(Document):
    """A push."""

    link: str
    force: Row = [0.0, 0.0, 0.0]
    torque: Row = [0.0, 0.0, 0.0]
    at: Row = [0.0, 0.0, 0.0]
    lasting: Quantity = 0.1
    name: str | None = None


class EntryText(Document):
    """What happens at a time or when a condition first holds."""

    at: Quantity | None = None
    when: ConditionText | None = None
    push: PushText | None = None
    finish: str | None = None


class ExpectationText(Document):
    """A rule that a trial passes or fails."""

    name: str
    never: ConditionText | None = None
    always: ConditionText | None = None
    eventually: ConditionText | None = None
    within: Quantity | None = None


class ScenarioText(Document):
    """A scenario file."""

    world: str
    duration: Quantity
    controllers: dict[str, ControllerText] = {}
    step: Quantity = 1e-3
    tick: Quantity = 1e-2
    truth: list[str] = []
    integrator: Literal["semi-implicit", "rk4"] = "semi-implicit"
    record_contacts: bool | Quantity = False
    timeline: list[EntryText] = []
    expect: list[ExpectationText] = []


def load_scenario(path: str | Path, draft: bool = False) -> Scenario:
    """A scenario from a file that starts with ``veldrain: scenario/1``; its world is looked for beside it.

    Args:
        path: the file.
        draft: of its world, see ``load_world``.

    Raises:
        VeldrainError: what is wrong in it or in its world's file, with file and line.

    >>> load_scenario("culvert.scenario.yaml").duration
    40.0
    """
    source = Source(path, "scenario")
    text = source.read(ScenarioText)
    with source.at("world"):
        world = load_world(source.path.parent / text.world, draft)
    controllers = {r: c.make(source, "controllers", r) for r, c in text.controllers.items()}
    with source.at("duration"):
        scenario = Scenario(
            world, text.duration, controllers, text.step, text.tick, text.truth, text.integrator, text.record_contacts
        )
    for k, entry in enumerate(text.timeline):
        with source.at("timeline", k):
            _add_entry(scenario, entry, source.line(("timeline", k)))
    for k, e in enumerate(text.expect):
        with source.at("expect", k):
            never, always, eventually = (c.make() if c else None for c in (e.never, e.always, e.eventually))
            scenario.expect(e.name, never, always, eventually, e.within)
    return scenario


def _add_entry(scenario: Scenario, entry: EntryText, where: str) -> None:
    if (entry.at is None) == (entry.when is None):
        raise VeldrainError("an entry needs a moment", cure="give at: or when:")
    if (entry.push is None) == (entry.finish is None):
        raise VeldrainError("an entry needs something to do", cure="give push: or finish:")
    moment = scenario.at(entry.at) if entry.at is not None else scenario.when(entry.when.make())  # type: ignore[union-attr]
    if entry.push:
        p = entry.push
        moment.push(p.link, p.force, p.torque, p.at, p.lasting, p.name, where)
    else:
        moment.finish(entry.finish or "")
