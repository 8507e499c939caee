"""What happens when in a scenario."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Concatenate, ParamSpec

from veldrain.errors import VeldrainError, checked_title, unknown
from veldrain.scenario.acting import Go, Keep, Leave, Shift, Stop, Take
from veldrain.scenario.actions import Action, Change, Cut, Fail, Finish, Push, Put, Say, Tell, Weather
from veldrain.scenario.conditions import Condition
from veldrain.scenario.holding import Free, Lock, Remove
from veldrain.scenario.picturing import Picture
from veldrain.units import Quantity

if TYPE_CHECKING:
    from veldrain.scenario.scenario import Scenario

P = ParamSpec("P")


@dataclass(frozen=True)
class After:
    """A time (s) after each time that an event happens: the name of an action, or its words."""

    event: str
    delay: float


@dataclass(frozen=True)
class Every:
    """Again and again, first after one period (s)."""

    period: float


Trigger = float | Condition | After | Every


@dataclass
class Entry:
    """What happens when: at a time in s, when a condition first holds, after an event, or again and again.

    ``where``: file and line; ``name``: of the event, "" for none of its own.
    """

    trigger: Trigger
    action: Action
    where: str = ""
    name: str = ""

    @property
    def title(self) -> str:
        """Its name, or that of its action; "" for none."""
        return self.name or str(self.action.values.get("name") or "")

    @property
    def names(self) -> list[str]:
        """What its event is called: its name, and its action's words."""
        return [*([self.title] if self.title else []), *self.action.words(), str(self.action)]

    def follows(self, events: Iterable[str]) -> bool:
        """True for what comes after one of these events."""
        return isinstance(self.trigger, After) and self.trigger.event in events


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
    lock, free, remove = _do(Lock), _do(Free), _do(Remove)

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
