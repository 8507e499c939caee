"""What can be done to a world at a moment of a scenario.

A new action is a class below ``Action`` that does the following.

1. It declares its fields as a data sheet does (see ``veldrain.sheet``): they are its arguments, and its words in files.
2. ``bind`` looks up all that it names in a trial, so that every mistake is told before the first step, and gives the
   function that does it.
3. ``__str__`` says in a line what it does: it is recorded as an event.

``scenario.at("3 s").do(MyAction(…))`` then does it; what comes with Veldrain is a method of its own, ``.push(…)``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any, ClassVar, Protocol

import numpy as np

from veldrain.errors import checked_title, told_at
from veldrain.model.knobs import Knob, sheet_knobs
from veldrain.sheet import Made, Maybe, Number, Row, Sheet, Text
from veldrain.simulation import Simulation, engine_of


class Trial(Protocol):
    """What an action is bound to: a trial before its first step."""

    simulation: Simulation

    def finish(self, reason: str) -> None:
        """End the trial for a reason."""


class Action(Sheet):
    """Something that is done at a moment."""

    kinds: ClassVar[dict[str, type[Action]]] = {}  # by the word that files and moments know them by

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        if cls.__module__.startswith("veldrain."):
            Action.kinds[cls.__name__.lower()] = cls

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
