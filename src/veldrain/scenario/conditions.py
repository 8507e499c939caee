"""Conditions on the true state of the world: for triggers and expectations."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass

from veldrain.simulation import Simulation
from veldrain.units import Quantity, quantity

Pair = tuple[str, str]


class Look:
    """A simulation at one moment, and what has touched since the moment before."""

    def __init__(self, simulation: Simulation) -> None:
        self.simulation = simulation
        self._touched: set[Pair] = set()

    def take(self) -> None:
        """Look again."""
        watches = enumerate(self.simulation.watches)
        self._touched = {pair for k, pair in watches if self.simulation.touched(k)}

    def touched(self, pair: Pair) -> bool:
        """True where the two have touched since the look before."""
        return pair in self._touched


class Condition(ABC):
    """Something that holds or does not; combine with ``&``, ``|`` and ``~``."""

    def watches(self) -> set[Pair]:
        """The pairs whose touching has to be noted."""
        return set()

    @abstractmethod
    def bind(self, look: Look) -> Callable[[], bool]:
        """The function that tells whether it holds now; unknown names are told here."""

    def __and__(self, other: Condition) -> Condition:
        return Joined(self, other, both=True)

    def __or__(self, other: Condition) -> Condition:
        return Joined(self, other, both=False)

    def __invert__(self) -> Condition:
        return Not(self)


@dataclass(frozen=True)
class Joined(Condition):
    """Both hold, or one or both do."""

    one: Condition
    other: Condition
    both: bool

    def watches(self) -> set[Pair]:
        return self.one.watches() | self.other.watches()

    def bind(self, look: Look) -> Callable[[], bool]:
        one, other = self.one.bind(look), self.other.bind(look)
        return (lambda: one() and other()) if self.both else (lambda: one() or other())


@dataclass(frozen=True)
class Not(Condition):
    """It does not hold."""

    one: Condition

    def watches(self) -> set[Pair]:
        return self.one.watches()

    def bind(self, look: Look) -> Callable[[], bool]:
        one = self.one.bind(look)
        return lambda: not one()


@dataclass(frozen=True)
class Touching(Condition):
    """Two things touch: no touch is missed, however short."""

    pair: Pair

    def watches(self) -> set[Pair]:
        return {self.pair}

    def bind(self, look: Look) -> Callable[[], bool]:
        return lambda: look.touched(self.pair)


@dataclass(frozen=True)
class Compared(Condition):
    """A measure is below or above a bound (SI units)."""

    measure: Measure
    below: bool
    bound: float

    def bind(self, look: Look) -> Callable[[], bool]:
        value, bound = self.measure.bind(look.simulation), self.bound
        return (lambda: value() < bound) if self.below else (lambda: value() > bound)


class Measure(ABC):
    """A length that can be compared: ``measure < 0.5`` or ``measure < "50 cm"`` is a condition."""

    @abstractmethod
    def bind(self, simulation: Simulation) -> Callable[[], float]:
        """The function that measures now; unknown names are told here."""

    def __lt__(self, bound: Quantity) -> Condition:
        return Compared(self, True, quantity(bound, "length", "condition"))

    def __gt__(self, bound: Quantity) -> Condition:
        return Compared(self, False, quantity(bound, "length", "condition"))


@dataclass(frozen=True)
class Distance(Measure):
    """Between the origins of two links, frames or things."""

    a: str
    b: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = simulation.engine
        a, b = engine.place_of(self.a), engine.place_of(self.b)
        return lambda: math.dist(engine.position(a), engine.position(b))


@dataclass(frozen=True)
class Clearance(Measure):
    """Least gap between the shapes of two things."""

    a: str
    b: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = simulation.engine
        a, b = engine.geoms_of(self.a), engine.geoms_of(self.b)
        return lambda: engine.clearance(a, b)


def distance(a: str, b: str) -> Distance:
    """The distance (m) between the origins of two links, frames or things.

    >>> distance("crawler/hull", "outlet") < "50 cm"
    Compared(measure=Distance(a='crawler/hull', b='outlet'), below=True, bound=0.5)
    """
    return Distance(a, b)


def clearance(a: str, b: str) -> Clearance:
    """The least gap (m) between the touchable shapes of two things; negative where they overlap.

    >>> clearance("crawler", "culvert") < 0.05
    Compared(measure=Clearance(a='crawler', b='culvert'), below=True, bound=0.05)
    """
    return Clearance(a, b)


def touching(a: str, b: str) -> Touching:
    """Holds when two things touch. A name stands for all whose names start with it.

    >>> touching("crawler", "culvert")
    Touching(pair=('crawler', 'culvert'))
    """
    return Touching((a, b))
