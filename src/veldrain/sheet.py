"""Data sheets: what can be said of a thing is declared once, and all else comes from that declaration.

A class names its fields, each with its kind of quantity, default, bounds and a line of documentation::

    class Sonar(Sheet):
        '''A sonar.'''

        max_range: Number = Number("length", default=4.0, above=0.0, doc="longest range")
        noise: Number = Number("length", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a range")

``Sonar(max_range="3 m")`` then converts units, tells of mistakes by name, compares, prints, and gives ``changed``,
``exactly`` and ``given``. The arguments in its docstring, the words of files and the knobs come from the same fields.
"""

from __future__ import annotations

import copy
import inspect
import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any, ClassVar, Generic, Self, TypeVar, dataclass_transform, overload

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.units import SI_UNITS, Quantity, quantities, quantity

G = TypeVar("G")  # what is given
H = TypeVar("H")  # what is held
REQUIRED: Any = inspect.Parameter.empty
KEPT: Any = object()  # of an exact value: the field stays as it is

# What people look for first, and what data sheets call it.
SYNONYMS = {
    "range": "max_range",
    "reach": "max_range",
    "nearest": "min_range",
    "rate": "period",
    "frequency": "period",
    "hz": "period",
    "fov": "field_of_view",
    "hfov": "field_of_view",
    "vfov": "vertical_field_of_view",
    "beams": "channels",
    "rings": "channels",
    "width": "size",
    "resolution": "size",
    "ticks": "counts_per_revolution",
    "cpr": "counts_per_revolution",
    "delay": "latency",
    "most": "full_scale",
    "force_noise": "accel_noise",
    "noise_density": "gyro_noise_density",
    "walk": "bias_random_walk",
    "ghosts": "rain_false_returns",
    "focal": "focal_length",
    "gives": "output",
    "takes": "returns",
    "spinning": "torsional",
}


class Field(Generic[G, H]):
    """One thing that a sheet says.

    Args:
        default: what holds where it is not given; left out: it must be given.
        exact: what holds in a sheet without errors of its own; left out: the same.
        kw_only: False for what may be given by position.
        doc: what it is, in a line; its unit is added.
    """

    kind: str = ""  # of quantity, where it is one

    def __init__(self, *, default: Any = REQUIRED, exact: Any = KEPT, kw_only: bool = True, doc: str = "") -> None:
        self.default, self.exact, self.kw_only, self.doc = default, exact, kw_only, doc
        self.name = ""

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = name

    @overload
    def __get__(self, sheet: None, owner: type) -> Self: ...
    @overload
    def __get__(self, sheet: object, owner: type) -> H: ...
    def __get__(self, sheet: Any, owner: type) -> Any:
        if sheet is None:
            return self
        try:
            return sheet.__dict__[self.name]
        except KeyError:
            raise AttributeError(self.name) from None

    def __set__(self, sheet: Any, value: G) -> None:
        raise VeldrainError(
            f"{self.name} cannot be assigned: a data sheet is never changed",
            where=type(sheet).__name__,
            cure=f"make another with changed({self.name}=…)",
        )

    def convert(self, value: Any, sheet: str) -> H:
        """What is held of what was given.

        Raises:
            VeldrainError: it cannot be used.
        """
        raise NotImplementedError

    @property
    def words(self) -> str:
        """What may be given, in a few words: a unit, or choices."""
        return ""

    def wrong(self, problem: str, sheet: str, cure: str) -> VeldrainError:
        """The error for a value that cannot be used."""
        return VeldrainError(f"{self.name} is {problem}", where=sheet, cure=cure)


class Number(Field[Quantity, float]):
    """A quantity of a kind, SI or with its unit.

    Args:
        kind: one of ``units.SI_UNITS``.
        least: the smallest that is allowed.
        above: what it has to be more than.
        most: the largest that is allowed. An infinite default allows infinity.
    """

    def __init__(
        self,
        kind: str,
        *,
        default: Any = REQUIRED,
        exact: Any = KEPT,
        kw_only: bool = True,
        doc: str = "",
        least: float = -math.inf,
        above: float = -math.inf,
        most: float = math.inf,
    ) -> None:
        super().__init__(default=default, exact=exact, kw_only=kw_only, doc=doc)
        self.kind, self.least, self.above, self.most = kind, least, above, most

    def convert(self, value: Any, sheet: str) -> float:
        number = quantity(value, self.kind, f"{sheet} {self.name}")
        is_finite = math.isfinite(number) or (self.default == math.inf and number == math.inf)
        if not (self.least <= number <= self.most and number > self.above) or not is_finite:
            raise self.wrong(self.told(number), sheet, f"give {self.bounds}")
        return number

    @property
    def unit(self) -> str:
        """The SI unit, as it is written."""
        return SI_UNITS[self.kind].replace("**0.5", "^½").replace("**2", "²").replace("*", "·")

    @property
    def bounds(self) -> str:
        """What is allowed, in words."""
        least, above, most = (self.told(value) if value else "0" for value in (self.least, self.above, self.most))
        if self.above > -math.inf:
            return f"a value above {above}" + (f", up to {most}" if self.most < math.inf else "")
        if self.least > -math.inf:
            return f"{least} to {most}" if self.most < math.inf else f"{least} or more"
        return f"{most} or less" if self.most < math.inf else "a finite value"

    def told(self, value: float) -> str:
        """A value as a person writes it: angles in degrees."""
        if self.kind == "angle":
            return f"{math.degrees(value):.6g}°"
        return f"{value:g} {self.unit}".rstrip()

    @property
    def words(self) -> str:
        return self.unit or {"ratio": ""}.get(self.kind, self.kind)


class Whole(Field[int, int]):
    """A whole number, ``least`` or more."""

    def __init__(
        self, *, default: Any = REQUIRED, exact: Any = KEPT, kw_only: bool = True, doc: str = "", least: int = 0
    ) -> None:
        super().__init__(default=default, exact=exact, kw_only=kw_only, doc=doc)
        self.least = least

    def convert(self, value: Any, sheet: str) -> int:
        if isinstance(value, bool) or not isinstance(value, int) or value < self.least:
            raise self.wrong(repr(value), sheet, f"give a whole number, {self.least} or more")
        return value

    @property
    def words(self) -> str:
        return "a whole number"


class Choice(Field[str, str]):
    """One of some words."""

    def __init__(
        self, *choices: str, default: Any = REQUIRED, exact: Any = KEPT, kw_only: bool = True, doc: str = ""
    ) -> None:
        super().__init__(default=default, exact=exact, kw_only=kw_only, doc=doc)
        self.choices = choices

    def convert(self, value: Any, sheet: str) -> str:
        if value not in self.choices:
            raise unknown(self.name, str(value), self.choices, sheet)
        return str(value)

    @property
    def words(self) -> str:
        return ", ".join(f"``{choice}``" for choice in self.choices)


class Flag(Field[bool, bool]):
    """True or False."""

    def convert(self, value: Any, sheet: str) -> bool:
        if not isinstance(value, bool):
            raise self.wrong(repr(value), sheet, "give True or False")
        return value


class Text(Field[str, str]):
    """A word, such as a name."""

    def convert(self, value: Any, sheet: str) -> str:
        if not isinstance(value, str):
            raise self.wrong(repr(value), sheet, "give a text")
        return value


class Names(Field[Sequence[str], tuple[str, ...]]):
    """Some names."""

    def convert(self, value: Any, sheet: str) -> tuple[str, ...]:
        if isinstance(value, str) or not all(isinstance(name, str) for name in value):
            raise self.wrong(repr(value), sheet, "give a list of names")
        return tuple(value)


class Row(Field[Sequence[Quantity], tuple[float, ...]]):
    """A row of ``count`` quantities of one kind, or of a kind each; ``count`` None: any number."""

    def __init__(
        self,
        *kinds: str,
        default: Any = REQUIRED,
        exact: Any = KEPT,
        kw_only: bool = True,
        doc: str = "",
        count: int | None = 3,
    ) -> None:
        super().__init__(default=default, exact=exact, kw_only=kw_only, doc=doc)
        self.kinds, self.count = kinds, len(kinds) if len(kinds) > 1 else count

    def convert(self, value: Any, sheet: str) -> tuple[float, ...]:
        where = f"{sheet} {self.name}"
        count = len(value) if self.count is None and hasattr(value, "__len__") else self.count or 0
        if len(self.kinds) == 1:
            return quantities(value, self.kinds[0], where, count)
        if isinstance(value, str) or not hasattr(value, "__len__") or len(value) != count:
            raise self.wrong(repr(value), sheet, f"give {count} values")
        return tuple(quantity(v, kind, where) for v, kind in zip(value, self.kinds, strict=True))

    @property
    def words(self) -> str:
        return ", ".join(Number(kind).unit for kind in self.kinds)


class Maybe(Field[G | None, H | None]):
    """Another field, or None."""

    def __init__(
        self, field: Field[G, H], *, default: Any = None, exact: Any = KEPT, kw_only: bool = True, doc: str = ""
    ) -> None:
        super().__init__(default=default, exact=exact, kw_only=kw_only, doc=doc)
        self.field, self.kind = field, field.kind

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = self.field.name = name

    def convert(self, value: Any, sheet: str) -> H | None:
        return None if value is None else self.field.convert(value, sheet)

    @property
    def words(self) -> str:
        return self.field.words


class Made(Field[G, H]):
    """What a function makes of what is given: ``make(value, where)``."""

    def __init__(
        self,
        make: Callable[[Any, str], H],
        *,
        default: Any = REQUIRED,
        exact: Any = KEPT,
        kw_only: bool = True,
        doc: str = "",
    ) -> None:
        super().__init__(default=default, exact=exact, kw_only=kw_only, doc=doc)
        self.make = make

    def convert(self, value: Any, sheet: str) -> H:
        return self.make(value, f"{sheet} {self.name}")


@dataclass_transform(
    kw_only_default=True, field_specifiers=(Number, Whole, Choice, Flag, Text, Names, Row, Maybe, Made)
)
class Sheet:
    """A data sheet: a class whose fields are declared once (see the module)."""

    takes_more: ClassVar[bool] = False  # True: other attributes may be assigned, as controllers do
    _fields: ClassVar[dict[str, Field[Any, Any]]] = {}
    _given: dict[str, Any]

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        fields: dict[str, Field[Any, Any]] = {}
        for kind in reversed(cls.__mro__):
            fields |= {name: field for name, field in vars(kind).items() if isinstance(field, Field)}
        own = [name for name in vars(cls) if isinstance(vars(cls)[name], Field)]
        order = [*own, *(name for name in fields if name not in own)]
        order.sort(key=lambda name: fields[name].kw_only)
        cls._fields = {name: fields[name] for name in order}
        kinds = inspect.Parameter
        parameters = [
            kinds(name, kinds.KEYWORD_ONLY if f.kw_only else kinds.POSITIONAL_OR_KEYWORD, default=f.default)
            for name, f in cls._fields.items()
        ]
        cls.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
        if cls.__doc__ and fields:
            cls.__doc__ = _documented(inspect.cleandoc(cls.__doc__), cls._fields)

    def __init__(self, *values: Any, **given: Any) -> None:
        kind, fields = type(self).__name__, self._fields
        places = [name for name, field in fields.items() if not field.kw_only]
        if len(values) > len(places):
            raise VeldrainError(
                f"{len(values)} values without a name",
                where=kind,
                cure=f"give {'only ' + ', '.join(places) + ' by position, the rest' if places else 'each'} by name, "
                f"such as {next(iter(fields))}=",
            )
        for name, value in zip(places, values, strict=False):
            if name in given:
                raise VeldrainError(f"{name} is given twice", where=kind, cure="give it once")
            given[name] = value
        for name in given:
            if name not in fields:
                raise unknown_word("argument", name, fields, kind)
        # A list that its maker goes on with changes nothing here.
        given = {
            name: copy.deepcopy(v) if isinstance(v, list | dict | set | np.ndarray) else v for name, v in given.items()
        }
        for name, field in fields.items():
            value = given.get(name, field.default)
            if value is REQUIRED:
                raise VeldrainError(f"{name} is missing", where=kind, cure=f"give {name}=")
            self.__dict__[name] = field.convert(value, kind)
        self.__dict__["_given"] = given
        self.check()

    def check(self) -> None:
        """What fields have to do with each other: raise for what does not go together, and put in what follows."""

    def fill(self, **values: Any) -> None:
        """Put values, SI, into fields or other attributes: for ``check`` alone."""
        self.__dict__.update(values)

    def __setattr__(self, name: str, value: Any) -> None:
        if name in self._fields:
            self._fields[name].__set__(self, value)
        if not name.startswith("_") and not self.takes_more and not hasattr(type(self), name):
            raise unknown_word("word", name, self._fields, type(self).__name__)
        object.__setattr__(self, name, value)

    @classmethod
    def fields(cls) -> Mapping[str, Field[Any, Any]]:
        """Its fields by name, in the order of its arguments."""
        return cls._fields

    @property
    def values(self) -> Mapping[str, Any]:
        """What it says, SI, by the names of its fields."""
        return {name: self.__dict__[name] for name in self._fields}

    @property
    def given(self) -> Mapping[str, Any]:
        """What was given when it was made, as it was written."""
        return dict(self._given)

    def changed(self, **changes: Any) -> Self:
        """The same sheet with other values.

        Raises:
            VeldrainError: no such field, or a value that cannot be used.
        """
        return type(self)(**(self._given | changes))

    def exactly(self) -> Self:
        """The same sheet without errors of its own."""
        return self.changed(**{name: f.exact for name, f in self._fields.items() if f.exact is not KEPT})

    def __repr__(self) -> str:
        return f"{type(self).__name__}({', '.join(f'{name}={value!r}' for name, value in self._given.items())})"

    def __eq__(self, other: object) -> bool:
        if type(self) is not type(other):
            return NotImplemented
        return all(_same(value, other.__dict__[name]) for name, value in self.values.items())

    def __hash__(self) -> int:
        return hash((type(self), *(repr(_unsigned(value)) for value in self.values.values())))

    def __copy__(self) -> Self:
        return self

    def __reduce__(self) -> tuple[Any, ...]:
        return _again, (type(self), dict(self._given))

    def __deepcopy__(self, memo: object) -> Self:
        return self  # never changed


def _unsigned(value: Any) -> Any:
    """A value in which −0 is 0: sheets that are equal have one hash."""
    if isinstance(value, float):
        return value + 0.0
    return tuple(map(_unsigned, value)) if isinstance(value, tuple | list) else value


def _again(kind: type[Sheet], given: dict[str, Any]) -> Sheet:
    return kind(**given)


def sealed(thing: Any, whole: type, name: str) -> None:
    """Refuse a new attribute of a thing that is made: a word that was misspelt would change nothing.

    Raises:
        VeldrainError: it has no such attribute; names the nearest.
    """
    known = {n for n in vars(thing) if not n.startswith("_")} | {
        n for n in dir(whole) if isinstance(getattr(whole, n, None), property)
    }
    if type(thing) is whole and not name.startswith("_") and name not in known:
        raise unknown("word", name, known, whole.__name__)


def unknown_word(what: str, word: str, known: Mapping[str, Any] | Sequence[str], where: str) -> VeldrainError:
    """The error for a word that is not known, with what data sheets call the thing, or else the nearest word."""
    meant = SYNONYMS.get(word, "")
    if meant in known:
        return VeldrainError(f"no {what} '{word}'", where=where, cure=f"it is called '{meant}' here")
    return unknown(what, word, known, where)


def _same(a: Any, b: Any) -> bool:
    """Equality of two values, arrays too."""
    same = a is b or a == b
    return bool(same if isinstance(same, bool) else getattr(same, "all", lambda: same)())


def _documented(doc: str, fields: Mapping[str, Field[Any, Any]]) -> str:
    """A docstring with its arguments put before its examples."""
    rows = ["Args:"]
    for name, field in fields.items():
        unit = f" ({field.words})" if field.words else ""
        has_default = field.default is not REQUIRED and field.default is not None
        rows.append(f"    {name}: {field.doc}{unit}.{f' Default: {field.default!r}.' if has_default else ''}")
    text, mark, rest = doc.partition("\n>>> ")
    body, raises, what = text.partition("\nRaises:")
    arguments = "\n".join(rows)
    return f"{body.rstrip()}\n\n{arguments}\n{raises and chr(10) + 'Raises:' + what.rstrip() + chr(10)}{mark}{rest}"
