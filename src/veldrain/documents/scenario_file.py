"""Scenario files: the words of ``Scenario``, its actions and its conditions."""

from __future__ import annotations

from dataclasses import MISSING, fields
from functools import cache, reduce
from operator import and_, or_
from pathlib import Path
from typing import Any

from pydantic import Field, create_model

from veldrain.control import NamedController
from veldrain.documents.open_scenario_in import load_open_scenario
from veldrain.documents.source import FOREIGN, Document, Source
from veldrain.documents.words import NamedText, Words, document, made
from veldrain.documents.world_file import load_world
from veldrain.errors import VeldrainError, unknown
from veldrain.resolver import call_named, load_named
from veldrain.scenario import Action, Condition, Scenario
from veldrain.scenario.conditions import Measure
from veldrain.scenario.scenario import Moment
from veldrain.units import Quantity

Values = list[Any] | dict[str, Any] | str  # what a condition is asked about: names in a row, or by word


class ControllerText(NamedText):
    """A controller, made anew for each trial."""

    def named(self, source: Source, *place: str | int) -> NamedController:
        """The controller by its name."""
        return NamedController(self.use, self.arguments, str(source.path.parent.resolve()), source.line(place))


Controllers = ControllerText | dict[str, ControllerText]  # of a robot: one, or several by name


def named_controllers(told: Any, source: Source, *place: str | int) -> Any:
    """Controllers by their names, in maps as they are told."""
    if isinstance(told, dict):
        return {name: named_controllers(one, source, *place, name) for name, one in told.items()}
    return told.named(source, *place)


EXPECTED = ("never", "always", "eventually", "at_the_end")


class _Condition(Words):
    """``{distance: [a, b], below: 0.5 m}``, ``{touching: [a, b]}``, ``{use: file.py:Name}``, or others joined."""

    below: Quantity | None = None
    above: Quantity | None = None
    between: tuple[Quantity, Quantity] | None = None
    released: Quantity | None = None
    held: Quantity | None = None
    all: list[_Condition] | None = None
    any: list[_Condition] | None = None
    not_: _Condition | None = Field(default=None, alias="not")
    use: str | None = None
    arguments: dict[str, Any] = Field(default={}, alias="with")

    def make(self, folder: Path) -> Condition:
        found = self._made(folder)
        return found if self.held is None else found.held(self.held)

    def measure(self, folder: Path) -> Measure:
        """What is measured, where nothing is said of a bound."""
        told = [word for word in (*Measure.kinds, "use") if getattr(self, word) is not None]
        if len(told) != 1 or any(b is not None for b in (self.below, self.above, self.between, self.held)):
            raise VeldrainError("not one measure", cure=f"give one of {', '.join(Measure.kinds)} without a bound")
        if self.use is not None:
            found = call_named(load_named(self.use, folder, ""), self.arguments, self.use, "")
        else:
            found = asked(Measure.kinds[told[0]], getattr(self, told[0]), told[0])
        return found  # type: ignore[no-any-return]  # the scenario sees that it is one

    def _made(self, folder: Path) -> Condition:
        kinds: dict[str, Any] = {**Measure.kinds, **Condition.kinds}
        told = [word for word in (*kinds, "use", "all", "any", "not_") if getattr(self, word) is not None]
        if len(told) != 1:
            known = ", ".join([*kinds, "all", "any", "not", "use"])
            raise VeldrainError(f"{len(told)} conditions", cure=f"give one of {known}")
        word = told[0]
        if word in ("all", "any"):
            parts: list[Condition] = [part.make(folder) for part in getattr(self, word)]
            if not parts:
                raise VeldrainError("an empty list of conditions", cure="give one or more")
            return reduce(and_ if word == "all" else or_, parts)
        if word == "not_":
            return ~self.not_.make(folder)  # type: ignore[union-attr]
        if self.use is not None:
            found = call_named(load_named(self.use, folder, ""), self.arguments, self.use, "")
        else:
            found = asked(kinds[word], getattr(self, word), word)
        return self._compared(found, word)

    def _compared(self, found: Any, word: str) -> Condition:
        bounds = [bound is not None for bound in (self.below, self.above, self.between)]
        if self.released is not None and (isinstance(found, Condition) or self.between is not None):
            raise VeldrainError("released goes with below or above", cure="leave it out")
        if isinstance(found, Condition):
            if any(bounds):
                raise VeldrainError(f"{word} is compared with a number", cure="leave below, above and between out")
            return found
        if not isinstance(found, Measure):
            raise VeldrainError(f"'{self.use}' gives {type(found).__name__}, not a condition", cure="name one")
        if sum(bounds) != 1:
            raise VeldrainError(f"{word} is not compared with one thing", cure="give below, above or between")
        if self.between is not None:
            return found.between(*self.between)
        made = found < self.below if self.below is not None else found > self.above  # type: ignore[operator]
        return made if self.released is None else made.released(self.released)


@cache
def condition_text() -> type[_Condition]:
    """The words of all conditions."""
    fields: dict[str, Any] = dict.fromkeys((*Measure.kinds, *Condition.kinds), (Values, None))
    found: type[_Condition] = create_model("ConditionWords", __base__=_Condition, **fields)
    for word, of in (("all", list[found]), ("any", list[found]), ("not_", found)):  # type: ignore[valid-type]
        found.model_fields[word].annotation = of | None  # type: ignore[assignment]
    found.model_rebuild(force=True)
    return found


def asked(kind: Any, value: Any, word: str) -> Any:
    """What a class makes of names in a row, of one name, or of a map."""
    values = value if isinstance(value, list) else [] if isinstance(value, dict) else [value]
    names = [*values, *(value.values() if isinstance(value, dict) else ())]
    if not all(isinstance(name, str | int | float | list) for name in names):
        raise VeldrainError(f"{word} of {value!r}", cure="give names")
    if isinstance(value, dict):
        return call_named(kind, value, word, "")
    needed = [f.name for f in fields(kind) if f.default is MISSING]
    if len(values) != len(needed):
        raise VeldrainError(f"{word} of {len(values)} things", cure=f"give [{', '.join(needed)}]")
    return kind(*values)


class _Entry(Words):
    """What happens at a time, when a condition first holds, after an event, or again and again."""

    at: Quantity | None = None
    after: Quantity | None = None  # an event's name; with when: how long it has to have held
    delay: Quantity | None = None  # from the event
    every: Quantity | None = None
    name: str | None = None  # of the event
    do: NamedText | None = None

    def moment(self, scenario: Scenario, folder: Path) -> Moment:
        """When."""
        when: Any = getattr(self, "when", None)
        told = [w for w in (self.at, when, self.every, self.after if when is None else None) if w is not None]
        if len(told) != 1:
            raise VeldrainError("an entry needs a moment", cure="give at:, when:, after: or every:")
        if self.delay is not None and (self.after is None or when is not None):
            raise VeldrainError("delay goes with after: and an event", cure="leave it out")
        if self.at is not None:
            return scenario.at(self.at, name=self.name)
        if when is not None:
            return scenario.when(when.make(folder), after=self.after or 0.0, name=self.name)
        if self.every is not None:
            return scenario.every(self.every, name=self.name)
        return scenario.after(str(self.after), self.delay or 0.0, name=self.name)

    def action(self, folder: Path) -> Action:
        """What is to be done."""
        told = [word for word in (*Action.kinds, "do") if getattr(self, word) is not None]
        if len(told) != 1:
            what = "something to do" if not told else "one thing to do"
            words = ", ".join(f"{word}:" for word in (*Action.kinds, "do"))
            raise VeldrainError(f"an entry needs {what}", cure=f"give one of {words}")
        value = made(getattr(self, told[0]), folder)
        return value if isinstance(value, Action) else Action.kinds[told[0]](value)


class _Expectation(Words):
    name: str


class ScenarioText(Document):
    """A scenario file; the words of ``Scenario`` and its world, controllers, timeline and expectations."""

    world: str
    controllers: dict[str, Controllers] = {}


@cache
def scenario_text() -> type[Document]:
    """The words of a scenario file."""
    condition = condition_text()
    kinds: dict[str, Any] = {**Action.kinds}
    actions: dict[str, Any] = {word: (document(kind) | str | float, None) for word, kind in kinds.items()}
    entry = create_model("EntryWords", __base__=_Entry, when=(condition, None), **actions)
    conditions: dict[str, Any] = dict.fromkeys(EXPECTED, (condition, None))
    expectation = create_model(
        "ExpectationWords", __base__=(_Expectation, document(Scenario.expect, EXPECTED)), **conditions
    )
    return create_model(
        "ScenarioWords",
        __base__=(ScenarioText, document(Scenario, ("world", "controllers"))),
        timeline=(list[entry], []),  # type: ignore[valid-type]
        log=(dict[str, condition], {}),  # type: ignore[valid-type]
        expect=(list[expectation], []),  # type: ignore[valid-type]
    )


def load_scenario(path: str | Path, draft: bool = False) -> Scenario:
    """A scenario from a file that starts with ``veldrain: scenario/1``; its world is looked for beside it.

    One of ASAM OpenSCENARIO XML (``.xosc``) is read as ``load_open_scenario`` does.

    Args:
        path: the file.
        draft: of its world, see ``load_world``.

    Raises:
        VeldrainError: what is wrong in it or in its world's file, with file and line.

    >>> load_scenario("culvert.scenario.yaml").duration
    40.0
    """
    if FOREIGN.get(Path(path).suffix.lower()) == "scenario":
        return load_open_scenario(path)
    source = Source(path, "scenario")
    text: Any = source.read(scenario_text())
    folder = source.path.parent
    with source.at("world"):
        world = load_world(folder / text.world, draft)
    for robot in text.controllers:
        with source.at("controllers", robot):
            if robot not in world.placed:
                raise unknown("robot", robot, world.placed, "controllers")
    controllers = named_controllers(text.controllers, source, "controllers")
    own = document(Scenario, ("world", "controllers"))
    words = {word: made(getattr(text, word), folder) for word in own.model_fields if word in text.told}
    with source.at("duration"):
        scenario = Scenario(world, controllers=controllers, **words)
    for k, entry in enumerate(text.timeline):
        with source.at("timeline", k):
            moment = entry.moment(scenario, folder)
            moment.do(entry.action(folder), source.line(("timeline", k)))
    for name, measure in text.log.items():
        with source.at("log", name):
            scenario.log(name, measure.measure(folder))
    for k, expected in enumerate(text.expect):
        with source.at("expect", k):
            words = expected.given(folder)
            scenario.expect(words.pop("name"), **words)
    return scenario
