"""A scripted course of events in a world, and what is expected of it."""

from __future__ import annotations

import copy
import inspect
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Concatenate, ParamSpec

from veldrain.control.loading import argument_knobs
from veldrain.errors import VeldrainError, checked_title, unknown
from veldrain.model import Knob, World
from veldrain.model.knobs import of, told_apart, world_knobs
from veldrain.recording.choice import Choice
from veldrain.scenario.acting import Go, Keep, Leave, Shift, Stop, Take
from veldrain.scenario.actions import Action, Change, Cut, Fail, Finish, Push, Put, Say, Tell, Weather
from veldrain.scenario.conditions import Condition, Measure
from veldrain.scenario.coupling import Attach, Release
from veldrain.scenario.entries import After, Entry, Every, Trigger
from veldrain.scenario.holding import Free, Lock, Remove
from veldrain.scenario.lights import Switch
from veldrain.scenario.picturing import Picture
from veldrain.sheet import sealed
from veldrain.units import Quantity, quantity

P = ParamSpec("P")


@dataclass(frozen=True)
class Expectation:
    """A rule a trial passes or fails: one of the four conditions is given."""

    name: str
    never: Condition | None = None
    always: Condition | None = None
    eventually: Condition | None = None
    within: float | None = None
    at_the_end: Condition | None = None
    since: str | None = None
    until: str | None = None

    @property
    def condition(self) -> Condition:
        """The condition, whichever way it is expected."""
        return next(c for c in (self.never, self.always, self.eventually, self.at_the_end) if c is not None)


def _do(kind: Callable[P, Action]) -> Callable[Concatenate[Moment, P], Scenario]:
    """The method of a moment that does an action of a kind, with the arguments and the docstring of the kind."""

    def does(moment: Moment, /, *values: P.args, **given: P.kwargs) -> Scenario:
        return moment.do(kind(*values, **given))

    does.__doc__, does.__name__ = kind.__doc__, getattr(kind, "__name__", "").lower()
    own = inspect.signature(kind).parameters.values()
    moment = inspect.Parameter("moment", inspect.Parameter.POSITIONAL_ONLY)
    vars(does)["__signature__"] = inspect.Signature([moment, *own])
    return does


class Moment:
    """What to do at a moment of a scenario; made by ``Scenario.at``, ``when``, ``after`` and ``every``.

    ``do`` takes any action; those that come with Veldrain are methods by their names: ``push``, ``finish``, ….
    """

    def __init__(self, scenario: Scenario, trigger: Trigger, name: str | None = None) -> None:
        self._scenario, self._trigger, self._name = scenario, trigger, name

    def do(self, action: Action, where: str = "") -> Scenario:
        """Do something.

        Args:
            action: what.
            where: file and line it comes from, for messages.
        """
        if not isinstance(action, Action):
            raise VeldrainError(f"{action!r} is not an action", where="scenario", cure="give one such as vd.Push(…)")
        if isinstance(action, Push) and not (action.name or self._name):
            action = action.changed(name=f"push{len(self._scenario.pushes()) + 1}")
        entry = Entry(self._trigger, action, where, checked_title(self._name, "event") if self._name else "")
        if entry.title:
            if any(entry.title == other.title for other in self._scenario.timeline):
                raise VeldrainError(f"a second event '{entry.title}'", where="scenario", cure="give it another name")
            if entry.name in self._scenario.world.names():
                raise VeldrainError(
                    f"'{entry.name}' is a thing of the world", where="scenario", cure="give the event another name"
                )
        return self._scenario.add(entry)

    push, finish, say, fail, cut, put = _do(Push), _do(Finish), _do(Say), _do(Fail), _do(Cut), _do(Put)
    change, weather, picture = _do(Change), _do(Weather), _do(Picture)
    go, stop, shift, keep, take, leave = _do(Go), _do(Stop), _do(Shift), _do(Keep), _do(Take), _do(Leave)
    lock, free, remove, attach, release = _do(Lock), _do(Free), _do(Remove), _do(Attach), _do(Release)
    switch = _do(Switch)

    def tell(self, controller: str, **inputs: Quantity) -> Scenario:
        """Tell a controller, named by its robot or as ``robot/controller``: inputs hold until it is told again."""
        return self.do(Tell(controller, inputs))

    if not TYPE_CHECKING:

        def __getattr__(self, word):  # actions of one's own kinds; in code with types, do(…) takes them
            if word.startswith("_"):
                raise AttributeError(word)
            if word not in Action.kinds:
                raise unknown("action", word, Action.kinds, "scenario")
            return lambda *values, **given: self.do(Action.kinds[word](*values, **given))

    def __dir__(self) -> list[str]:
        return sorted({*super().__dir__(), *Action.kinds})


class Scenario:
    """A scripted course of events.

    Args:
        world: the world at the start.
        duration: the longest a trial goes on, s.
        controllers: a controller for each robot that has one, by robot.
        step: of the engine, s.
        check_period: time between looks at the conditions, s, a whole number of steps.
        truth: names of the robots whose controllers may read truth sensors.
        integrator: of the engine, see ``Simulation``.
        record_contacts: True: every contact of the world is recorded as the stream ``scenario/contacts``, at each tick
            the means since the one before; or the time between two, s.
        record: which streams recordings keep: ``only`` and ``without`` are lists of names, with ``*`` for any part of
            one; ``every`` is the least time between two messages by stream, s. None: all.

    >>> scenario = Scenario(world, duration="40 s", controllers={"crawler": CentreLine(gain=1.4)})
    >>> entry = scenario.when(distance("crawler/hull", "outlet") < 0.5).finish("reached the outlet")
    """

    def __init__(
        self,
        world: World,
        duration: Quantity,
        *,
        controllers: Mapping[str, Any] | None = None,
        step: Quantity = 1e-3,
        check_period: Quantity = 1e-2,
        truth: Iterable[str] = (),
        integrator: str = "semi-implicit",
        record_contacts: bool | Quantity = False,
        record: Mapping[str, Any] | None = None,
    ) -> None:
        self.world = world
        self.duration = quantity(duration, "time", "duration")
        self.controllers: dict[str, Any] = dict(controllers or {})
        self.step = quantity(step, "time", "step")
        self.check_period = quantity(check_period, "time", "check_period")
        self.truth = frozenset(truth)
        self.integrator = integrator
        contacts = (
            (self.check_period if record_contacts else None) if isinstance(record_contacts, bool) else record_contacts
        )
        self.record_contacts = None if contacts is None else quantity(contacts, "time", "record_contacts")
        self.record = Choice.of(record)
        self.timeline: list[Entry] = []
        self.measures: dict[str, Measure] = {}  # by the name of the stream that each is recorded as
        self.notes: list[str] = []  # what of a file it was read from was not used
        self.expectations: dict[str, Expectation] = {}
        if not 0 < self.duration < float("inf"):
            raise VeldrainError(f"duration is {self.duration:g} s", where="scenario", cure="give a time above zero")
        self._is_made = True

    def __setattr__(self, name: str, value: Any) -> None:
        if "_is_made" in vars(self):
            sealed(self, Scenario, name)
        object.__setattr__(self, name, value)

    def at(self, time: Quantity, *, name: str | None = None) -> Moment:
        """A moment by its time in s, a whole number of steps.

        With a name, here and below, its event can be waited for by it, and its numbers are knobs: ``brake.at``.
        """
        seconds = quantity(time, "time", "at")
        if not 0 <= seconds <= self.duration:
            raise VeldrainError(
                f"a moment at {seconds:g} s, of a scenario of {self.duration:g} s",
                where="scenario",
                cure="give 0 or later, up to its end",
            )
        return Moment(self, seconds, name)

    def when(self, condition: Condition, *, after: Quantity = 0.0, name: str | None = None) -> Moment:
        """The moment at which a condition first holds, or has held without a break for a time (s)."""
        found, time = _checked(condition, "when"), quantity(after, "time", "when: after")
        return Moment(self, found.held(time) if time > 0 else found, name)

    def after(self, event: str, delay: Quantity = 0.0, *, name: str | None = None) -> Moment:
        """So long (s) after each time that an event happens: the name of an action, or the words of a note."""
        seconds = quantity(delay, "time", "after")
        if not seconds >= 0:
            raise VeldrainError(f"{seconds:g} s after '{event}'", where="scenario", cure="give 0 or more")
        return Moment(self, After(event, seconds), name)

    def every(self, period: Quantity, *, name: str | None = None) -> Moment:
        """Again and again, first after one period (s)."""
        seconds = quantity(period, "time", "every")
        if not seconds > 0:
            raise VeldrainError(f"every {seconds:g} s", where="scenario", cure="give a time above zero")
        return Moment(self, Every(seconds), name)

    def expect(
        self,
        name: str,
        *,
        never: Condition | None = None,
        always: Condition | None = None,
        eventually: Condition | None = None,
        within: Quantity | None = None,
        at_the_end: Condition | None = None,
        since: str | None = None,
        until: str | None = None,
    ) -> Scenario:
        """Add a rule that a trial passes or fails.

        Args:
            name: what is expected, in words.
            never: must not hold at any time.
            always: must hold at all times.
            eventually: must hold at some time.
            within: … by this time, s; None: by the end.
            at_the_end: must hold when the trial ends.
            since: it counts from this event on: the name of an action, or the words of a note. None: from the start.
            until: it counts up to this event. None: to the end.

        A rule whose condition is a comparison also tells its margin: by how much it held or failed, and when that was.
        """
        given = [c for c in (never, always, eventually, at_the_end) if c is not None]
        if len(given) != 1 or (within is not None and eventually is None):
            raise VeldrainError(
                "an expectation needs one of never, always, eventually and at_the_end",
                where=name,
                cure="give one; within= goes with eventually=",
            )
        checked_title(name, "expectation")
        _checked(given[0], name)
        if name in self.expectations:
            raise VeldrainError("a second expectation of this name", where=name, cure="give it another name")
        limit = quantity(within, "time", name) if within is not None else None
        if limit is not None and not 0 < limit <= self.duration:
            raise VeldrainError(
                f"within {limit:g} s, of a scenario of {self.duration:g} s",
                where=name,
                cure="give a time above zero, up to its end",
            )
        self.expectations[name] = Expectation(name, never, always, eventually, limit, at_the_end, since, until)
        return self

    def log(self, name: str, measure: Measure) -> Scenario:
        """Record a measure, such as ``distance("crawler", "outlet")``, as the stream ``scenario/<name>`` at each tick.

        Raises:
            VeldrainError: no measure, or a name that is taken.

        >>> scenario.log("wall", clearance("crawler/hull", "culvert")).measures["wall"].quantity
        'length'
        """
        if not isinstance(measure, Measure):
            raise VeldrainError(
                f"{measure!r} is no measure", where=f"log {name}", cure="give one such as vd.distance(a, b)"
            )
        checked_title(name, "stream", is_file=True)
        if name in (*self.measures, "events", "contacts", "states", "pictures"):
            raise VeldrainError("this stream is there already", where=f"scenario/{name}", cure="give another name")
        self.measures[name] = measure
        return self

    def driven_by(self, controllers: Mapping[str, Any]) -> Scenario:
        """The same scenario with other controllers, by robot."""
        other = copy.copy(self)
        for name, value in vars(self).items():  # what is added to the one is not in the other
            if isinstance(value, list | dict | set):
                setattr(other, name, copy.copy(value))
        other.controllers = dict(controllers)
        return other

    def knobs(self) -> Iterator[Knob]:
        """All quantities that can be set by path: those of the world, of named events, and of controllers."""
        yield from world_knobs(self.world)
        for entry in self.timeline:
            if entry.title:
                found = [("moment", knob) for knob in self._moment_knobs(entry)]
                found += [("action", knob) for knob in entry.action.knobs(entry.title, *of(entry, "action"))]
                yield from told_apart(found)
        for path, table, key in self._controllers():
            yield from argument_knobs(path, table, key)

    def _moment_knobs(self, entry: Entry) -> Iterator[Knob]:
        """When something happens: its time, or the bounds of its condition."""
        get, put = of(entry, "trigger")
        trigger = entry.trigger
        if isinstance(trigger, Condition):
            words: dict[str, int] = {}
            for k, bound in enumerate(trigger.bounds()):
                words[bound.word] = words.get(bound.word, 0) + 1
                word = bound.word if words[bound.word] == 1 else f"{bound.word}{words[bound.word]}"
                yield Knob(
                    f"{entry.title}.{word}",
                    bound.kind,
                    lambda k=k: list(get().bounds())[k].value,  # type: ignore[misc]
                    lambda value, k=k: put(list(get().bounds())[k].changed(value)),  # type: ignore[misc]
                )
        elif isinstance(trigger, float):
            yield Knob(f"{entry.title}.at", "time", get, lambda value: put(self.at(self._whole(value))._trigger))
        elif isinstance(trigger, After):
            yield Knob(
                f"{entry.title}.delay",
                "time",
                lambda: get().delay,
                lambda value: put(self.after(get().event, self._whole(value))._trigger),
            )
        else:
            yield Knob(
                f"{entry.title}.every",
                "time",
                lambda: get().period,
                lambda value: put(self.every(self._whole(value))._trigger),
            )

    def _whole(self, time: float) -> float:
        """A time as a whole number of steps: what is drawn is never one."""
        return round(time / self.step) * self.step

    def _controllers(self) -> Iterator[tuple[str, dict[str, Any], str]]:
        """Path, table and key of each controller: ``controller`` where there is one, else ``<robot>/controller``."""
        for robot, given in self.controllers.items():
            path = "controller" if len(self.controllers) == 1 else f"{robot}/controller"
            if isinstance(given, dict):
                yield from ((f"{path}/{name}", given, name) for name in given)
            else:
                yield path, self.controllers, robot

    def pushes(self) -> dict[str, Push]:
        """All pushes by name."""
        return {e.title: e.action for e in self.timeline if isinstance(e.action, Push)}

    def reasons(self) -> list[str]:
        """The reasons for which a trial may finish."""
        return [e.action.reason for e in self.timeline if isinstance(e.action, Finish)]

    def add(self, entry: Entry) -> Scenario:
        """Add an entry to the timeline."""
        self.timeline.append(entry)
        return self

    def conditions(self) -> list[Condition]:
        """All conditions that have to be looked at."""
        triggers = [e.trigger for e in self.timeline if isinstance(e.trigger, Condition)]
        return triggers + [e.condition for e in self.expectations.values()]


def _checked(condition: Any, where: str) -> Condition:
    if not isinstance(condition, Condition):
        raise VeldrainError(
            f"{condition!r} is not a condition", where=where, cure="write one such as vd.distance(a, b) < 0.5"
        )
    return condition
