"""Actions on what is led: actors on routes set off, stop, change their speed, offset, gap and way."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from veldrain.errors import VeldrainError, told_at
from veldrain.model.leading import Gap
from veldrain.motion.routes import Route, is_on_roads
from veldrain.physics.actors import Actors
from veldrain.scenario.actions import Action, Trial
from veldrain.sheet import Made, Maybe, Number, Row, Text
from veldrain.simulation import engine_of
from veldrain.units import Quantity


def _gap(value: Any, where: str) -> Gap:
    if isinstance(value, dict):
        return Gap(**value)
    if not isinstance(value, Gap):
        raise VeldrainError(f"{value!r} is no gap", where=where, cure="give a Gap; in a file time and to")
    return value


def _route(value: Any, where: str) -> Any:
    if is_on_roads(value):
        return value  # a lane of the world's roads: known in a trial
    found = Route(**value) if isinstance(value, dict) else value
    if not isinstance(found, Route):
        raise VeldrainError(f"{value!r} is no route", where=where, cure="give a Route; in a file points and speed")
    return found


def _actors(trial: Trial, name: str) -> Actors:
    """What tells actors, where there is one of that name."""
    actors = engine_of(trial.simulation).actors
    actors.check(name)
    return actors


class Go(Action):
    """Let an actor reach a speed, within a limit of acceleration; after a stop it sets off again.

    >>> str(Go("lorry", speed="30 km/h"))
    'lorry goes at 8.33 m/s'
    """

    actor: Text = Text(kw_only=False, doc="its name")
    speed: Maybe[Quantity, float] = Maybe(
        Number("speed", least=0.0), default=None, kw_only=False, doc="None: its route's"
    )
    acceleration: Maybe[Quantity, float] = Maybe(
        Number("acceleration", above=0.0), default=None, doc="None: its route's"
    )

    def bind(self, trial: Trial) -> Callable[[], None]:
        actors = _actors(trial, self.actor)
        return lambda: actors.go(self.actor, self.speed, self.acceleration)

    def __str__(self) -> str:
        return f"{self.actor} goes" + ("" if self.speed is None else f" at {self.speed:.3g} m/s")


class Stop(Action):
    """Let an actor brake until it stands, or so that its front stands at a point.

    >>> str(Stop("lorry", deceleration="6 m/s^2"))
    'lorry stops, at 6 m/s²'
    """

    actor: Text = Text(kw_only=False, doc="its name")
    deceleration: Maybe[Quantity, float] = Maybe(
        Number("acceleration", above=0.0), default=None, doc="None: its route's"
    )
    at: Maybe[Any, tuple[float, ...]] = Maybe(
        Row("length", count=2),
        default=None,
        doc="x and y of a point beside which its front is to stand; None: as soon as it can",
    )

    def bind(self, trial: Trial) -> Callable[[], None]:
        actors = _actors(trial, self.actor)
        return lambda: actors.stop(self.actor, self.deceleration, self.at)

    def __str__(self) -> str:
        where = "" if self.at is None else f" at ({self.at[0]:.4g}, {self.at[1]:.4g})"
        return f"{self.actor} stops{where}" + ("" if self.deceleration is None else f", at {self.deceleration:g} m/s²")


class Shift(Action):
    """Let an actor move to another offset from its route: to another lane, or aside.

    >>> str(Shift("car", "3.5 m", within="4 s"))
    'car moves to 3.5 m left of its route within 4 s'
    """

    actor: Text = Text(kw_only=False, doc="its name")
    offset: Number = Number("length", kw_only=False, doc="left of its route")
    within: Number = Number(
        "time", default=3.0, above=0.0, doc="how long it takes at the speed it has then; its way there counts"
    )

    def bind(self, trial: Trial) -> Callable[[], None]:
        actors = _actors(trial, self.actor)
        with told_at(f"shift {self.actor}"):
            actors.widen(self.actor, self.offset)
        return lambda: actors.shift(self.actor, self.offset, self.within)

    def takes(self) -> float:
        return self.within

    def __str__(self) -> str:
        side = "left" if self.offset >= 0 else "right"
        return f"{self.actor} moves to {abs(self.offset):g} m {side} of its route within {self.within:g} s"


class Keep(Action):
    """Let an actor keep a gap to others that are ahead of it on its route.

    >>> str(Keep("car", Gap("2 s", to="ego")))
    'car keeps 2 s to ego'
    """

    actor: Text = Text(kw_only=False, doc="its name")
    gap: Made[Any, Gap] = Made(_gap, kw_only=False, doc="the gap: its time, and to whom")

    def bind(self, trial: Trial) -> Callable[[], None]:
        actors = _actors(trial, self.actor)
        with told_at(f"keep {self.actor}"):
            rows = actors.add_minds(self.actor, self.gap)
        return lambda: actors.keep(self.actor, self.gap, rows)

    def __str__(self) -> str:
        gap = f"{self.gap.time:g} s" if self.gap.time else f"{self.gap.standstill:g} m"
        return f"{self.actor} keeps {gap} to {', '.join(self.gap.to)}"


class Take(Action):
    """Let an actor take another route from where it is: it turns off, or aside.

    >>> str(Take("car", Route([(0, 0), (9, 0)], speed=2), over="8 m"))
    'car takes a route of 9 m'
    """

    actor: Text = Text(kw_only=False, doc="its name")
    route: Made[Any, Any] = Made(
        _route, kw_only=False, doc="the route, which it joins where it is nearest; in a file also road, lane, via"
    )
    over: Number = Number("length", default=20.0, above=0.0, doc="way over which it comes onto its line")

    def bind(self, trial: Trial) -> Callable[[], None]:
        actors = _actors(trial, self.actor)
        with told_at(f"take {self.actor}"):
            given = self.route
            route: Any = trial.simulation.world.route_on(**given) if isinstance(given, dict) else given
            row = actors.prepare(self.actor, route)
        return lambda: actors.take(self.actor, route, row, self.over)

    def __str__(self) -> str:
        told = self.route
        if isinstance(told, dict):
            return f"{self.actor} takes " + (f"road {told['road']}" if "road" in told else f"the way to {told['goal']}")
        return f"{self.actor} takes a route of {self.route.length:.4g} m"


class Leave(Action):
    """Let an actor leave its route: its steering straightens, and it goes straight on, level as it was.

    >>> str(Leave("car"))
    'car leaves its route'
    """

    actor: Text = Text(kw_only=False, doc="its name")
    over: Number = Number("length", default=5.0, above=0.0, doc="way over which its steering straightens")

    def bind(self, trial: Trial) -> Callable[[], None]:
        actors = _actors(trial, self.actor)
        return lambda: actors.leave(self.actor, self.over)

    def __str__(self) -> str:
        return f"{self.actor} leaves its route"
