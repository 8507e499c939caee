"""Traffic lights in a scenario: the condition, the action, and what the recording tells of them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from veldrain.control.driving import NEVER
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Fields, Message
from veldrain.motion.roads.lights import COLOURS
from veldrain.recording.publishing import Publisher
from veldrain.scenario.actions import Action, Trial
from veldrain.scenario.conditions import Condition, Watching
from veldrain.sheet import Choice, Maybe, Number, Text
from veldrain.simulation import Simulation, engine_of
from veldrain.units import Quantity


class Switch(Action):
    """Let a traffic light show one colour, whatever its cycle says; or follow its cycle again.

    >>> str(Switch("town/north", to="red", lasting="20 s"))
    'town/north shows red for 20 s'
    """

    light: Text = Text(kw_only=False, doc="its name, with that of its roads in front")
    to: Maybe[str, str] = Maybe(Choice(*COLOURS), default=None, doc="the colour; None: as its cycle says")
    lasting: Maybe[Quantity, float] = Maybe(Number("time", above=0.0), default=None, doc="None: from then on")

    def check(self) -> None:
        if self.to is None and self.lasting is not None:
            raise VeldrainError("a cycle for a while", where="switch", cure="say what it shows, or leave lasting out")

    def bind(self, trial: Trial) -> Callable[[], None]:
        actors, light = engine_of(trial.simulation).actors, self.light
        actors.shown(light)  # an unknown one is told before the start

        def switch(to: str | None, for_a_while: bool) -> None:
            before = actors.shown(light)
            actors.switch(light, to, for_a_while)
            if (now := actors.shown(light)) != before:
                _tell(trial.publisher, light, now)

        if self.lasting is None:
            return lambda: switch(self.to, False)
        # Of several that last, the one that was begun last counts; when it is over, another that still holds.
        held = {colour: f"light {light} {colour}" for colour in COLOURS}

        def over() -> None:
            switch(next((colour for colour in COLOURS if trial.held.get(held[colour])), None), True)

        return trial.held_for(self.lasting, held[str(self.to)], lambda: switch(self.to, True), over)

    def takes(self) -> float:
        return self.lasting or 0.0

    def __str__(self) -> str:
        what = f"shows {self.to}" if self.to else "follows its cycle"
        return f"{self.light} {what}" + ("" if self.lasting is None else f" for {self.lasting:g} s")


@dataclass(frozen=True)
class Shows(Condition, word="shows"):
    """A traffic light shows a colour.

    >>> shows("town/north", "red")
    Shows(light='town/north', colour='red')
    """

    light: str
    colour: str

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.colour not in COLOURS:
            raise unknown("colour", self.colour, COLOURS, f"shows {self.light}")

    def bind(self, look: Watching) -> Callable[[], bool]:
        actors = engine_of(look.simulation).actors
        actors.shown(self.light)
        return lambda: actors.shown(self.light) == self.colour


def shows(light: str, colour: str) -> Shows:
    """Holds while a traffic light shows a colour: ``green``, ``amber`` or ``red``.

    >>> shows("town/north", "red")
    Shows(light='town/north', colour='red')
    """
    return Shows(light, colour)


class LightStreams:
    """What traffic lights show, told at the start and at each change: a stream each, by the light's name.

    It keeps nothing that a snapshot would have to hold: what is to be told follows from the time.
    """

    def __init__(self, simulation: Simulation, publisher: Publisher) -> None:
        self._sim, self._publisher = simulation, publisher
        self._actors = engine_of(simulation).actors
        self._lights = self._actors.lines.lights
        self._known = 0, 0  # the next change after the first of these steps is at the second
        self.names = list(self._lights)

    def due(self) -> int:
        """The step of the next change by a cycle."""
        now, step = self._sim.steps, self._sim.step
        if not self._known[0] <= now < self._known[1]:
            changes = [light.changes(now * step) for light in self._lights.values()]
            self._known = now, min((max(now + 1, round(t / step)) for t in changes if t < math.inf), default=NEVER)
        return self._known[1]

    def look(self) -> None:
        """Publish what has changed by its cycle."""
        if not self.names:
            return
        now = self._sim.time
        for name, light in self._lights.items():
            before = "" if self._sim.steps == 0 else light.shows(now - self._sim.step)
            colour = light.shows(now)
            if colour != before and not self._actors.switched(name):
                _tell(self._publisher, name, colour)


def _tell(publisher: Publisher, light: str, colour: str) -> None:
    publisher.write(light, Message("std_msgs/msg/String", Fields(data=colour)))
