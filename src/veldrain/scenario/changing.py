"""Quantities that a scenario changes in mid-trial, at once or over a time."""

from __future__ import annotations

import copy
import inspect
import math
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Knob, World
from veldrain.model.knobs import world_knobs
from veldrain.model.sensor import Sensor
from veldrain.physics.tuning import tune
from veldrain.simulation import Simulation, engine_of


@dataclass(frozen=True)
class Ramp:
    """A quantity on its way from one value to another, in steps of the engine."""

    path: str
    begin: int
    end: int
    low: float
    high: float

    def at(self, step: int) -> float:
        """Its value at a step."""
        if step >= self.end:
            return self.high
        share = (step - self.begin) / (self.end - self.begin)
        if math.isfinite(self.low) and math.isfinite(self.high):
            return self.low + share * (self.high - self.low)
        # Visibility without fog is infinite: its reciprocal, the extinction, goes evenly.
        turned = (1.0 - share) / self.low + share / self.high
        return 1.0 / turned if turned else math.inf


def _controller_knobs(driver: Any) -> Iterator[Knob]:
    """The numbers that a controller at work was made with: ``<robot>/controller.gain``, or its own name where the robot
    has several."""
    kept = vars(driver.controller)
    for name in inspect.signature(type(driver.controller)).parameters:
        value = kept.get(name)
        if isinstance(value, int | float) and not isinstance(value, bool) and name != "period":

            def read(name: str = name) -> float:
                return float(vars(driver.controller)[name])

            def write(number: float, name: str = name) -> None:
                vars(driver.controller)[name] = number

            yield Knob(f"{driver.robot}/{driver.name or 'controller'}.{name}", "ratio", read, write)


@dataclass
class Changes:
    """What has been changed in a trial. It works on a copy of the world, which the trial's user keeps as it was.

    Attributes:
        ramps: what is on its way.
        values: what has been changed so far, by path.
    """

    simulation: Simulation
    ramps: list[Ramp] = field(default_factory=list)
    values: dict[str, float] = field(default_factory=dict)
    drivers: Sequence[Any] = ()
    _world: World | None = None
    _knobs: dict[str, Knob] = field(default_factory=dict)
    _first: dict[str, float] = field(default_factory=dict)

    def knob(self, path: str) -> Knob:
        """A quantity by its path.

        Raises:
            VeldrainError: there is none, or one that cannot be changed in mid-trial.
        """
        if self._world is None:
            self._world = copy.deepcopy(self.simulation.world)
            self._knobs = {knob.path: knob for knob in world_knobs(self._world)}
            self._knobs |= {knob.path: knob for driver in self.drivers for knob in _controller_knobs(driver)}
        if path not in self._knobs:
            error = unknown("quantity", path, self._knobs, "change")
            raise VeldrainError(error.problem, where="change", cure=f"{error.cure}; all: veldrain inspect FILE --knobs")
        return self._knobs[path]

    def value(self, path: str) -> float:
        """What a quantity is now.

        Raises:
            VeldrainError: nothing was ever said of it.
        """
        found = self.knob(path).get()
        if found is None:
            raise VeldrainError("has no value to change", where=f"change {path}", cure="give it one in the world")
        return found

    def check(self, path: str, value: float) -> None:
        """See that a quantity can be changed to a value in mid-trial.

        Raises:
            VeldrainError: it cannot, or the value is none that it takes.
        """
        knob = self.knob(path)
        before = self.value(path)
        if any(path == own.path for driver in self.drivers for own in _controller_knobs(driver)):
            return
        for other in (value, 1.1 * value + 0.01 if value == before else value):
            knob.set(other)
            try:
                assert self._world is not None
                has_effect = (
                    self._resheet([path], try_only=True)
                    or self._surroundings_differ()
                    or tune(engine_of(self.simulation), self._world, try_only=True)
                )
            finally:
                knob.set(before)
        if not has_effect:
            raise VeldrainError(
                "cannot be changed in mid-trial", where=f"change {path}", cure="set it before, or in a study's vary"
            )

    def begin(self, path: str, value: float, steps: int) -> None:
        """Change a quantity, at once or over some steps."""
        now = self.simulation.steps
        self.ramps = [ramp for ramp in self.ramps if ramp.path != path]
        self.ramps.append(Ramp(path, now, now + steps, self.value(path), value))
        self.go_on()

    def go_on(self) -> None:
        """Bring what is on its way to where it is now."""
        now = self.simulation.steps
        if self.ramps:
            self._set({ramp.path: ramp.at(now) for ramp in self.ramps})
            self.ramps = [ramp for ramp in self.ramps if now < ramp.end]

    def _set(self, values: dict[str, float]) -> None:
        for path, value in values.items():
            self._first.setdefault(path, self.value(path))
            self.knob(path).set(value)
        self.values |= values
        assert self._world is not None
        self._resheet(values)
        if all(_thing(path) in self.simulation.streams for path in values):
            return
        if self._surroundings_differ():
            self.simulation.surroundings = self._world.surroundings
        tune(engine_of(self.simulation), self._world)

    def _sheets(self, paths: Collection[str]) -> dict[str, Sensor]:
        """The data sheets, as they are now, of the sensors that paths are of, by stream."""
        assert self._world is not None
        known = self.simulation.streams
        found = {stream: known[stream] for path in paths if (stream := _thing(path)) in known}
        placed = self._world.placed
        return {stream: placed[s.robot].model.sensors[s.mounted.name].sensor for stream, s in found.items()}

    def _resheet(self, paths: Collection[str], try_only: bool = False) -> bool:
        """Let the sensors that paths are of go on with their sheets; True where that makes a difference."""
        differs = False
        for stream, sheet in self._sheets(paths).items():
            differs |= self.simulation.streams[stream].go_on_with(sheet, try_only)
        return differs

    def _surroundings_differ(self) -> bool:
        return self._world is not None and self._world.surroundings != self.simulation.surroundings

    def state(self) -> tuple[list[Ramp], dict[str, float]]:
        """What changes in a trial."""
        return list(self.ramps), dict(self.values)

    def go_back(self, state: tuple[list[Ramp], dict[str, float]]) -> None:
        """Take over a state; the engine has its own already."""
        self.ramps, self.values = list(state[0]), dict(state[1])
        for path, first in self._first.items():
            self.knob(path).set(self.values.get(path, first))
        for path, value in self.values.items():
            self._first.setdefault(path, self.value(path))
            self.knob(path).set(value)
        for stream, sheet in (self._sheets(list(self._first)) if self._world else {}).items():
            self.simulation.streams[stream].take_sheet(sheet)


def _thing(path: str) -> str:
    """What a quantity is of."""
    return path.rpartition(".")[0].removesuffix(".sensor")
