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
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, ClassVar, Protocol

from veldrain.errors import VeldrainError, checked_title, told_at, unknown
from veldrain.model import Failure
from veldrain.model.knobs import Knob, sheet_knobs
from veldrain.model.sensor import FAILURES
from veldrain.pose import Pose, as_pose
from veldrain.recording.publishing import Publisher
from veldrain.scenario.changing import Changes
from veldrain.sheet import Choice, Made, Maybe, Number, Row, Sheet, Text
from veldrain.simulation import Simulation, engine_of
from veldrain.units import Quantity, names_of, quantity


class Trial(Protocol):
    """What an action is bound to: a trial before its first step."""

    simulation: Simulation
    changes: Changes
    publisher: Publisher
    held: dict[str, list[int]]  # the steps at which each of those that hold something lets it go

    @property
    def drivers(self) -> Sequence[Any]:
        """The controllers at work."""

    def finish(self, reason: str) -> None:
        """End the trial for a reason."""

    def held_for(
        self, lasting: float | None, what: str, act: Callable[[], None], undo: Callable[[], None]
    ) -> Callable[[], None]:
        """An act that is undone so long (s) after each time that it is done, and while no other holds the same."""


def _told(value: Any, where: str) -> dict[str, Quantity]:
    if not isinstance(value, Mapping) or not value or not all(isinstance(v, int | float | str) for v in value.values()):
        raise VeldrainError(
            f"{value!r} is nothing to tell", where=where, cure="give a value for each input: forward: 0.4 m/s"
        )
    return dict(value)


class Given(Maybe[Quantity, Quantity]):
    """A quantity whose kind is that of the knob which takes it; None: it stays."""

    def __init__(self, doc: str) -> None:
        super().__init__(Made(lambda value, where: value), default=None, doc=doc)


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

    def takes(self) -> float:
        """How long it takes from its moment on, s; 0: it is done at once."""
        return 0.0

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
        pushes = engine_of(sim).pushes
        place, number = pushes.link(self.link)
        with told_at(f"push '{self.name}'"):
            steps = sim.steps_of(self.lasting, "lasting")
        return lambda: pushes.push(place, number, self.force, self.torque, self.at, steps)

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


def _by_field(value: Any, where: str) -> dict[str, float]:
    if not isinstance(value, Mapping):
        cure = "give it by field of the reading, such as {range: 0.25}"
        raise VeldrainError(f"an offset of {value!r}", where=where, cure=cure)
    return dict(value)


class Fail(Action):
    """Let a sensor fail, as ``Failure`` says: stuck, dropped, delayed, biased or dead.

    >>> str(Fail("crawler/scan", "stuck", lasting="2 s"))
    'crawler/scan is stuck for 2 s'
    """

    stream: Text = Text(kw_only=False, doc="the sensor's name path, ``robot/sensor``")
    type: Choice = Choice(*FAILURES, kw_only=False, doc="what goes wrong")
    lasting: Maybe[Quantity, float] = Maybe(Number("time", above=0.0), default=None, doc="how long; None: to the end")
    fraction: Number = Number("ratio", default=1.0, least=0.0, most=1.0, doc="of the readings that are ``dropped``")
    delay: Maybe[Quantity, float] = Maybe(Number("time", least=0.0), default=None, doc="of what is ``delayed``")
    offset: Made[Mapping[str, float], dict[str, float]] = Made(
        _by_field, default={}, doc="what is added where it is ``biased``, by field of the reading"
    )

    def failure(self, start: float) -> Failure:
        """The failure, from a time on."""
        end = math.inf if self.lasting is None else start + self.lasting
        more = {"delay": self.delay} if self.delay is not None else {}
        return Failure(self.type, start=start, end=end, fraction=self.fraction, offset=self.offset, **more)

    def bind(self, trial: Trial) -> Callable[[], None]:
        sim = trial.simulation
        if self.stream not in sim.streams:
            raise unknown("sensor", self.stream, sim.streams, "fail")
        with told_at(f"fail {self.stream}"):
            found = self.failure(0.0)
            data = sim.streams[self.stream].measured() if self.offset else None
            if data is not None:
                found.biased(data)
        return lambda: sim.streams[self.stream].fail(self.failure(sim.time))

    def __str__(self) -> str:
        return f"{self.stream} is {self.type}" + ("" if self.lasting is None else f" for {self.lasting:g} s")


class Cut(Action):
    """Cut a controller off: it no longer updates, and its motors keep their last commands.

    >>> str(Cut("crawler", lasting="1 s"))
    'cut crawler off for 1 s'
    """

    needs_controllers = True

    controller: Text = Text(kw_only=False, doc="name of the robot, or ``robot/controller`` where it has several")
    lasting: Maybe[Quantity, float] = Maybe(Number("time", above=0.0), default=None, doc="how long; None: to the end")

    def bind(self, trial: Trial) -> Callable[[], None]:
        drivers = {f"{d.robot}/{d.name}" if d.name else d.robot: d for d in trial.drivers}
        if self.controller not in drivers:
            raise unknown("controller", self.controller, drivers, "cut")
        driver, sim = drivers[self.controller], trial.simulation
        with told_at(f"cut {self.controller}"):
            steps = None if self.lasting is None else sim.steps_of(self.lasting, "lasting")
        return lambda: driver.pause(steps)

    def __str__(self) -> str:
        return f"cut {self.controller} off" + ("" if self.lasting is None else f" for {self.lasting:g} s")


class Put(Action):
    """Put a free robot or body somewhere else at once, at rest or with a velocity.

    >>> str(Put("crate", Pose((1, 0, 0.5))))
    'put crate at (1, 0, 0.5)'
    """

    thing: Text = Text(kw_only=False, doc="name of the robot or body")
    pose: Made[Pose, Pose] = Made(as_pose, kw_only=False, doc="of its root in the world")
    velocity: Row = Row("speed", default=(0.0, 0.0, 0.0), doc="world axes")
    spin: Row = Row("angular speed", default=(0.0, 0.0, 0.0), doc="world axes")

    def bind(self, trial: Trial) -> Callable[[], None]:
        handle, engine = trial.simulation[self.thing], engine_of(trial.simulation)
        engine.free_node(engine.compiled.robots[self.thing])
        return lambda: handle.move_to(self.pose, self.velocity, self.spin)

    def __str__(self) -> str:
        return f"put {self.thing} at ({', '.join(f'{x:.4g}' for x in self.pose.position)})"


class Change(Action):
    """Change a quantity by its path, at once or evenly over a time: ``veldrain inspect FILE --knobs`` lists them.

    >>> str(Change("silt.friction", 0.1, over="2 s"))
    'change silt.friction to 0.1 over 2 s'
    """

    path: Text = Text(kw_only=False, doc="of the quantity, such as ``silt.friction``")
    to: Made[Quantity, Any] = Made(lambda value, where: value, kw_only=False, doc="its value, a number or with a unit")
    over: Number = Number("time", default=0.0, least=0.0, doc="how long it takes; 0: at once")

    def bind(self, trial: Trial) -> Callable[[], None]:
        changes = trial.changes
        with told_at(f"change {self.path}"):
            kind = changes.knob(self.path).kind
            value = quantity(self.to, kind)
            if names_of(kind) and self.over:
                raise VeldrainError("a name is changed at once", where="over", cure="leave it out")
            steps = trial.simulation.steps_of(self.over, "over", least=0)
        changes.check(self.path, value)
        return lambda: changes.begin(self.path, value, steps)

    def takes(self) -> float:
        return self.over

    def __str__(self) -> str:
        return f"change {self.path} to {self.to}" + (f" over {self.over:g} s" if self.over else "")


class Weather(Action):
    """Turn the weather, at once or evenly over a time: what is not named stays.

    >>> str(Weather(rain="8 mm/h", visibility="300 m", over="2 s"))
    'weather: rain 8 mm/h, visibility 300 m over 2 s'
    """

    rain: Given = Given(doc="such as 8 mm/h")
    visibility: Given = Given(doc="in fog: the meteorological optical range")
    temperature: Given = Given(doc="of the air")
    pressure: Given = Given(doc="of the air")
    wind_x: Given = Given(doc="along the world's x")
    wind_y: Given = Given(doc="along its y")
    gusts: Given = Given(doc="standard deviation of the wind's speed")
    over: Number = Number("time", default=0.0, least=0.0, doc="how long it takes; 0: at once")

    def bind(self, trial: Trial) -> Callable[[], None]:
        told = {word: value for word, value in self.given.items() if word != "over"}
        if not told:
            raise VeldrainError("nothing is told of it", where="weather", cure="give such as rain: 8 mm/h")
        acts = [Change(f"air.{word}", value, over=self.over).bind(trial) for word, value in told.items()]
        return lambda: [act() for act in acts][-1]

    def takes(self) -> float:
        return self.over

    def __str__(self) -> str:
        told = ", ".join(f"{word} {value}" for word, value in self.given.items() if word != "over")
        return f"weather: {told}" + (f" over {self.over:g} s" if self.over else "")
