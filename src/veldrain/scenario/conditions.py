"""Conditions on the true state of the world: for triggers and expectations."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, fields, replace
from functools import partial
from typing import Any, ClassVar, NamedTuple, overload

from veldrain.errors import VeldrainError
from veldrain.physics.host import never_touch
from veldrain.simulation import Simulation, engine_of
from veldrain.units import SI_UNITS, Quantity, quantity

Pair = tuple[str, str]


class Watching:
    """A simulation at one moment, and what has touched since the moment before."""

    def __init__(self, simulation: Simulation) -> None:
        self.simulation = simulation
        self.touched_pairs: set[Pair] = set()
        self.events: dict[str, float] = {}  # when each was last, s, by the name of its action and by its words
        self.first: dict[str, float] = {}  # when each was first, s
        self.expected: list[str] = []  # events that conditions ask for
        self.signals: dict[str, float] = {}  # what controllers logged last
        self.memory: list[Any] = []  # what conditions keep from one look to the next

    def take(self) -> None:
        """Watching again."""
        watches = enumerate(self.simulation.watches)
        self.touched_pairs = {pair for k, pair in watches if self.simulation.touched(k)}

    def touched(self, pair: Pair) -> bool:
        """True where the two have touched since the look before."""
        return pair in self.touched_pairs


class Bound(NamedTuple):
    """A number of a condition: how files call it, its kind of quantity, and the condition with another number."""

    word: str
    kind: str
    value: float
    changed: Callable[[float], Condition]


def _within(condition: Condition, part: str, inner: Condition) -> Iterator[Bound]:
    """The numbers of a part of a condition, as numbers of the whole."""

    def whole(changed: Callable[[float], Condition], value: float) -> Condition:
        made: Condition = replace(condition, **{part: changed(value)})  # type: ignore[type-var]
        return made

    return (bound._replace(changed=partial(whole, bound.changed)) for bound in inner.bounds())


def _see_names(thing: Any) -> None:
    """See that a condition's names are names: in a file they may be numbers, lists or nothing."""
    for one in fields(thing):
        value = getattr(thing, one.name)
        if one.type == "str" and not isinstance(value, str):
            word = type(thing).__name__.lower()
            raise VeldrainError(f"{one.name} of {word} is {value!r}, not a name", where="condition", cure="give a name")


def _named(thing: Any, kinds: Mapping[str, type]) -> str:
    """A condition or measure by its word and its values; those that are as usual are left out."""
    word = next((word for word, kind in kinds.items() if kind is type(thing)), type(thing).__name__)
    told = [str(vars(thing)[f.name]) for f in fields(thing) if vars(thing)[f.name] != f.default]
    return f"{word}({', '.join(told)})"


class Condition(ABC):
    """Something that holds or does not; combine with ``&``, ``|`` and ``~``.

    A new condition is a frozen dataclass below it with ``bind``; one of a user's own is named in files as
    ``use: file.py:Name``. ``impossible`` lets the check find those that can never hold.
    """

    kinds: ClassVar[dict[str, type[Condition]]] = {}  # by the word that files know them by

    def __init_subclass__(cls, word: str = "", **more: Any) -> None:
        super().__init_subclass__(**more)
        if word:
            Condition.kinds[word] = cls

    def __post_init__(self) -> None:
        _see_names(self)

    def watches(self) -> set[Pair]:
        """The pairs whose touching has to be noted."""
        return set()

    @abstractmethod
    def bind(self, look: Watching) -> Callable[[], bool]:
        """The function that tells whether it holds now; unknown names are told here."""

    def margin(self, look: Watching) -> Callable[[], float] | None:
        """The function that tells by how much it holds now, below zero where it does not; None: that has no measure."""
        return None

    def unit(self) -> str:
        """The unit of its margin."""
        return ""

    def impossible(self, duration: float) -> str:
        """Why it can never hold in a trial of so long (s), whatever happens there; "" where it may."""
        return ""

    def certain(self) -> str:
        """Why it always holds, whatever happens in a trial; "" where it may not."""
        return ""

    def parts(self) -> Iterator[Condition]:
        """Itself, and the conditions that it is made of."""
        yield self
        for value in vars(self).values():
            if isinstance(value, Condition):
                yield from value.parts()

    def bounds(self) -> Iterator[Bound]:
        """Its numbers, from the outside in: knobs of an event that has a name."""
        return iter(())

    def __str__(self) -> str:
        return _named(self, Condition.kinds)

    def held(self, time: Quantity) -> Held:
        """It has held for a time without a break."""
        return Held(self, quantity(time, "time", "condition"))

    def __and__(self, other: Condition) -> Condition:
        return Joined(self, other, both=True)

    def __or__(self, other: Condition) -> Condition:
        return Joined(self, other, both=False)

    def __invert__(self) -> Condition:
        return Not(self)

    def __bool__(self) -> bool:
        raise VeldrainError(
            "a condition is true or false only in a trial: 'and', 'or', 'not' and 'a < x < b' would drop a part of it",
            cure="join conditions with &, | and ~, and write a range as vd.distance(a, b, between=(low, high))",
        )


@dataclass(frozen=True)
class Joined(Condition):
    """Both hold, or one or both do."""

    one: Condition
    other: Condition
    both: bool

    def __str__(self) -> str:
        return f"({self.one} {'and' if self.both else 'or'} {self.other})"

    def watches(self) -> set[Pair]:
        return self.one.watches() | self.other.watches()

    def impossible(self, duration: float) -> str:
        one, other = self.one.impossible(duration), self.other.impossible(duration)
        return one or other if self.both else one and other

    def certain(self) -> str:
        one, other = self.one.certain(), self.other.certain()
        return one and other if self.both else one or other

    def bounds(self) -> Iterator[Bound]:
        yield from _within(self, "one", self.one)
        yield from _within(self, "other", self.other)

    def bind(self, look: Watching) -> Callable[[], bool]:
        one, other = self.one.bind(look), self.other.bind(look)
        return (lambda: one() and other()) if self.both else (lambda: one() or other())

    def margin(self, look: Watching) -> Callable[[], float] | None:
        one, other = self.one.margin(look), self.other.margin(look)
        if one is None or other is None or self.one.unit() != self.other.unit():
            return None
        return (lambda: min(one(), other())) if self.both else (lambda: max(one(), other()))

    def unit(self) -> str:
        return self.one.unit()


@dataclass(frozen=True)
class Not(Condition):
    """It does not hold."""

    one: Condition

    def __str__(self) -> str:
        return f"not {self.one}"

    def impossible(self, duration: float) -> str:
        return self.one.certain()

    def certain(self) -> str:
        return self.one.impossible(math.inf)

    def watches(self) -> set[Pair]:
        return self.one.watches()

    def bounds(self) -> Iterator[Bound]:
        return _within(self, "one", self.one)

    def bind(self, look: Watching) -> Callable[[], bool]:
        one = self.one.bind(look)
        return lambda: not one()

    def margin(self, look: Watching) -> Callable[[], float] | None:
        one = self.one.margin(look)
        return None if one is None else (lambda: -one())

    def unit(self) -> str:
        return self.one.unit()


@dataclass(frozen=True)
class Held(Condition):
    """Another has held for a time (s) without a break, as far as the looks at it tell."""

    one: Condition
    time: float

    def __str__(self) -> str:
        return f"{self.one} for {self.time:g} s"

    def watches(self) -> set[Pair]:
        return self.one.watches()

    def impossible(self, duration: float) -> str:
        short = f"it has to hold for {self.time:g} s, and a trial has {duration:g} s" if self.time > duration else ""
        return short or self.one.impossible(duration)

    def bounds(self) -> Iterator[Bound]:
        yield Bound("held", "time", self.time, lambda value: replace(self, time=value))
        yield from _within(self, "one", self.one)

    def bind(self, look: Watching) -> Callable[[], bool]:
        one, slot = self.one.bind(look), len(look.memory)
        look.memory.append(None)  # since when

        def now() -> bool:
            if not one():
                look.memory[slot] = None
                return False
            if look.memory[slot] is None:
                look.memory[slot] = look.simulation.time
            return bool(look.simulation.time - look.memory[slot] >= self.time - 1e-9)

        return now


@dataclass(frozen=True)
class Touching(Condition, word="touching"):
    """Two things touch: no touch is missed, however short."""

    a: str
    b: str

    @property
    def pair(self) -> Pair:
        """Both."""
        return self.a, self.b

    def watches(self) -> set[Pair]:
        return {self.pair}

    def bind(self, look: Watching) -> Callable[[], bool]:
        reason = never_touch(engine_of(look.simulation), *self.pair)
        if reason:
            raise VeldrainError(
                f"touching {self.pair[0]} and {self.pair[1]} can never be seen: {reason}",
                where="scenario",
                cure="name things that can touch",
            )
        return lambda: look.touched(self.pair)


@dataclass(frozen=True)
class Compared(Condition):
    """A measure is below or above a bound (SI units)."""

    measure: Measure
    below: bool
    bound: float

    def __str__(self) -> str:
        return f"{self.measure} {'below' if self.below else 'above'} {self.bound:.4g} {self.unit()}".rstrip()

    def impossible(self, duration: float) -> str:
        low, high = self.measure.span
        out = self.bound <= low if self.below else self.bound >= high
        side, end = ("below", low) if self.below else ("above", high)
        unit = self.unit()
        return f"{self.measure} is never {side} {end:.4g}{f' {unit}' if unit else ''}" if out else ""

    def certain(self) -> str:
        low, high = self.measure.span
        sure = self.bound > high if self.below else self.bound < low
        side, end = ("above", high) if self.below else ("below", low)
        unit = self.unit()
        return f"{self.measure} is never {side} {end:.4g}{f' {unit}' if unit else ''}" if sure else ""

    def bounds(self) -> Iterator[Bound]:
        word = "below" if self.below else "above"
        yield Bound(word, self.measure.quantity, self.bound, lambda value: replace(self, bound=value))

    def bind(self, look: Watching) -> Callable[[], bool]:
        value, bound = self.measure.bind_in(look), self.bound
        return (lambda: value() < bound) if self.below else (lambda: value() > bound)

    def margin(self, look: Watching) -> Callable[[], float] | None:
        value, bound = self.measure.bind_in(look), self.bound
        return (lambda: bound - value()) if self.below else (lambda: value() - bound)

    def unit(self) -> str:
        return SI_UNITS.get(self.measure.quantity, "")

    def released(self, bound: Quantity) -> Latched:
        """With hysteresis: once it holds, it goes on to until the measure has passed another bound on the way back.

        >>> (distance("car", "gate") < 2).released("3 m").bound
        3.0
        """
        back = self.measure.bounded(bound)
        if (back <= self.bound) if self.below else (back >= self.bound):
            raise VeldrainError(
                f"is released at {back:g}, and holds {'below' if self.below else 'above'} {self.bound:g}",
                where="condition",
                cure="give a bound on the other side",
            )
        return Latched(self, back)


@dataclass(frozen=True)
class Latched(Condition):
    """A comparison with hysteresis: it ends where the measure has passed another bound."""

    one: Compared
    bound: float

    def __str__(self) -> str:
        return f"{self.one}, released at {self.bound:.4g} {self.unit()}".rstrip()

    def impossible(self, duration: float) -> str:
        return self.one.impossible(duration)

    def bounds(self) -> Iterator[Bound]:
        yield Bound("released", self.one.measure.quantity, self.bound, lambda value: replace(self, bound=value))
        yield from _within(self, "one", self.one)

    def bind(self, look: Watching) -> Callable[[], bool]:
        begins, slot = self.one.bind(look), len(look.memory)
        lasts = Compared(self.one.measure, self.one.below, self.bound).bind(look)
        look.memory.append(False)

        def now() -> bool:
            look.memory[slot] = lasts() if look.memory[slot] else begins()
            return bool(look.memory[slot])

        return now


class Measure(ABC):
    """A quantity that can be compared: ``measure < 0.5`` or ``measure < "50 cm"`` is a condition.

    ``measure.between("10 cm", "50 cm")`` is one too: Python drops half of ``0.1 < measure < 0.5``. A new measure is a
    frozen dataclass below it with ``bind``, its kind of quantity and the word that files know it by; and with ``span``,
    where it has ends: the check then finds bounds that it never passes.
    """

    kinds: ClassVar[dict[str, type[Measure]]] = {}
    quantity: ClassVar[str] = "length"
    span: ClassVar[tuple[float, float]] = (-math.inf, math.inf)  # the least and the largest that it can be

    def __init_subclass__(cls, word: str = "", **more: Any) -> None:
        super().__init_subclass__(**more)
        if word:
            Measure.kinds[word] = cls

    def __post_init__(self) -> None:
        _see_names(self)

    @abstractmethod
    def bind(self, simulation: Simulation) -> Callable[[], float]:
        """The function that measures now; unknown names are told here."""

    def bind_in(self, look: Watching) -> Callable[[], float]:
        """The same for a trial, whose events and signals it may need."""
        return self.bind(look.simulation)

    def __str__(self) -> str:
        return _named(self, Measure.kinds)

    def bounded(self, bound: Quantity) -> float:
        """A bound in SI units."""
        return quantity(bound, self.quantity, "condition")

    def __lt__(self, bound: Quantity) -> Compared:
        return Compared(self, True, self.bounded(bound))

    def __gt__(self, bound: Quantity) -> Compared:
        return Compared(self, False, self.bounded(bound))

    def between(self, low: Quantity, high: Quantity) -> Condition:
        """It is above the one and below the other."""
        if not self.bounded(low) < self.bounded(high):
            raise VeldrainError(f"between {low} and {high}", where="condition", cure="give the lower bound first")
        return (self > low) & (self < high)


@dataclass(frozen=True)
class Distance(Measure, word="distance"):
    """Between the origins of two links, frames or things."""

    a: str
    b: str
    span: ClassVar[tuple[float, float]] = (0.0, math.inf)

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        a, b = engine.place_of(self.a), engine.place_of(self.b)
        return lambda: math.dist(engine.spot(a), engine.spot(b))


@dataclass(frozen=True)
class Clearance(Measure, word="clearance"):
    """Least gap between the shapes of two things."""

    a: str
    b: str

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        a, b = engine.geoms_of(self.a), engine.geoms_of(self.b)
        return lambda: engine.clearance(a, b)


@overload
def distance(a: str, b: str) -> Distance: ...
@overload
def distance(a: str, b: str, *, between: tuple[Quantity, Quantity]) -> Condition: ...
def distance(a: str, b: str, *, between: tuple[Quantity, Quantity] | None = None) -> Distance | Condition:
    """The distance (m) between the origins of two links, frames or things; with ``between`` a condition.

    >>> distance("crawler/hull", "outlet") < "50 cm"
    Compared(measure=Distance(a='crawler/hull', b='outlet'), below=True, bound=0.5)
    """
    return Distance(a, b) if between is None else Distance(a, b).between(*between)


@overload
def clearance(a: str, b: str) -> Clearance: ...
@overload
def clearance(a: str, b: str, *, between: tuple[Quantity, Quantity]) -> Condition: ...
def clearance(a: str, b: str, *, between: tuple[Quantity, Quantity] | None = None) -> Clearance | Condition:
    """The least gap (m) between the touchable shapes of two things, negative where they overlap; with ``between`` a
    condition.

    >>> clearance("crawler", "culvert") < 0.05
    Compared(measure=Clearance(a='crawler', b='culvert'), below=True, bound=0.05)
    """
    return Clearance(a, b) if between is None else Clearance(a, b).between(*between)


def touching(a: str, b: str) -> Touching:
    """Holds when two things touch. A name stands for all whose names start with it.

    >>> touching("crawler", "culvert")
    Touching(a='crawler', b='culvert')
    """
    return Touching(a, b)
