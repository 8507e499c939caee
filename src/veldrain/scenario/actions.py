"""What can be done to a world at a moment of a scenario.

A new action is a class below ``Action`` that does the following.

1. It declares its fields as a data sheet does (see ``veldrain.sheet``): they are its arguments, and its words in files.
2. ``bind`` looks up all that it names in a trial, so that every mistake is told before the first step, and gives the
   function that does it.
3. ``__str__`` says in a line what it does: it is recorded as an event.

``scenario.at("3 s").do(MyAction(…))`` then does it; what comes with Veldrain is a method of its own, ``.push(…)``.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar, Protocol

import numpy as np

from veldrain.errors import VeldrainError, checked_title, told_at, unknown
from veldrain.model.knobs import Knob, sheet_knobs
from veldrain.sheet import Made, Maybe, Number, Row, Sheet, Text
from veldrain.simulation import Simulation, engine_of
from veldrain.units import Quantity


class Trial(Protocol):
    """What an action is bound to: a trial before its first step."""

    simulation: Simulation

    @property
    def drivers(self) -> Sequence[Any]:
        """The controllers at work."""

    def finish(self, reason: str) -> None:
        """End the trial for a reason."""


def _told(value: Any, where: str) -> dict[str, Quantity]:
    if not isinstance(value, Mapping) or not value or not all(isinstance(v, int | float | str) for v in value.values()):
        raise VeldrainError(
            f"{value!r} is nothing to tell", where=where, cure="give a value for each input: forward: 0.4 m/s"
        )
    return dict(value)


class Action(Sheet):
    """Something that is done at a moment."""

    kinds: ClassVar[dict[str, type[Action]]] = {}  # by the word that files and moments know them by
    needs_controllers: ClassVar[bool] = False  # True: it is bound to what drives the robots

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        if cls.__module__.startswith("veldrain."):
            Action.kinds[cls.__name__.lower()] = cls

    def words(self) -> tuple[str, ...]:
        """More names by which its event can be waited for."""
        return ()

    def bind(self, trial: Trial) -> Callable[[], None]:
        """The function that does it; unknown names and values that do not fit are told here."""
        raise NotImplementedError(f"{type(self).__name__}.bind")

    @staticmethod
    def knobs(path: str, get: Callable[[], Any], put: Callable[[Any], None]) -> Iterator[Knob]:
        """Its quantities; ``get`` gives the action, and ``put`` takes the one in which a quantity is changed."""
        return sheet_knobs(path, get, put)


class Push(Action):
    """Push a link or body for a time.

    >>> Push("crawler/hull", force=(0, "60 N", 0), lasting="0.2 s").force
    (0.0, 60.0, 0.0)
    """

    link: Text = Text(kw_only=False, doc="its name path")
    force: Row = Row("force", default=(0.0, 0.0, 0.0), kw_only=False, doc="world axes")
    torque: Row = Row("torque", default=(0.0, 0.0, 0.0), doc="world axes")
    at: Row = Row("length", default=(0.0, 0.0, 0.0), doc="the point of the link's frame where the force acts")
    lasting: Number = Number("time", default=0.1, above=0.0, doc="how long")
    name: Maybe[str, str] = Maybe(
        Made(checked_title), default=None, doc="of the push, for a study to vary it; None: ``push`` and a number"
    )

    def bind(self, trial: Trial) -> Callable[[], None]:
        sim = trial.simulation
        engine_of(sim).pushed(self.link)
        with told_at(f"push '{self.name}'"):
            steps = sim.steps_of(self.lasting, "lasting")
        force, torque, at = (np.array(row) for row in (self.force, self.torque, self.at))
        return lambda: engine_of(sim).push(self.link, force, torque, at, engine_of(sim).steps + steps)

    @staticmethod
    def knobs(path: str, get: Callable[[], Any], put: Callable[[Any], None]) -> Iterator[Knob]:
        def last(value: float) -> None:  # rounded to a millisecond, the longest step that is of use
            put(get().changed(lasting=max(round(value, 3), 1e-3)))

        for knob in sheet_knobs(path, get, put):
            yield replace(knob, set=last) if knob.path.endswith(".lasting") else knob

    def __str__(self) -> str:
        load = ", ".join(f"{f:.3g}" for f in self.force)
        return f"push '{self.name}' on {self.link}: ({load}) N for {self.lasting:g} s"


class Tell(Action):
    """Tell a controller: set its inputs, which hold until it is told again.

    >>> str(Tell("crawler", {"forward": "0.4 m/s"}))
    'tell crawler: forward 0.4 m/s'
    """

    needs_controllers = True

    controller: Text = Text(kw_only=False, doc="name of the robot, or ``robot/controller`` where it has several")
    inputs: Made[Mapping[str, Quantity], dict[str, Quantity]] = Made(_told, kw_only=False, doc="values by input")

    def bind(self, trial: Trial) -> Callable[[], None]:
        drivers = {f"{d.robot}/{d.name}" if d.name else d.robot: d for d in trial.drivers}
        mine = [d for d in trial.drivers if d.robot == self.controller and set(self.inputs) <= set(d.inputs.kinds)]
        if self.controller not in drivers and len(mine) != 1:
            known = [path for path, d in drivers.items() if d.inputs.kinds]
            if len(mine) > 1:
                raise VeldrainError(
                    f"{len(mine)} controllers take {', '.join(self.inputs)}",
                    where=f"tell {self.controller}",
                    cure=f"name one: {', '.join(known)}",
                )
            raise unknown("controller that takes " + ", ".join(self.inputs), self.controller, known, "tell")
        driver = mine[0] if mine else drivers[self.controller]
        copy.copy(driver.inputs).tell(**self.inputs)  # wrong names and kinds are told now
        return lambda: driver.tell(**self.inputs)

    def __str__(self) -> str:
        return f"tell {self.controller}: " + ", ".join(f"{name} {value}" for name, value in self.inputs.items())


class Finish(Action):
    """End the trial, for a reason.

    >>> str(Finish("reached the outlet"))
    'finish: reached the outlet'
    """

    reason: Made[str, str] = Made(checked_title, kw_only=False, doc="why, in words")

    def bind(self, trial: Trial) -> Callable[[], None]:
        return lambda: trial.finish(self.reason)

    def __str__(self) -> str:
        return f"finish: {self.reason}"


class Say(Action):
    """Note something: it is recorded as an event, and can be waited for.

    >>> str(Say("the bank begins"))
    'note: the bank begins'
    """

    text: Made[str, str] = Made(checked_title, kw_only=False, doc="what is noted, in words")

    def words(self) -> tuple[str, ...]:
        return (self.text,)

    def bind(self, trial: Trial) -> Callable[[], None]:
        return lambda: None

    def __str__(self) -> str:
        return f"note: {self.text}"
