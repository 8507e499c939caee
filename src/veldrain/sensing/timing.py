"""What all sensors share: when they measure, what goes wrong with them, and how they are without any error."""

from __future__ import annotations

import copy
import inspect
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from types import SimpleNamespace
from typing import Any, ClassVar, Self, TypedDict, Unpack

from veldrain.errors import VeldrainError, unknown
from veldrain.sensing.noise import not_negative
from veldrain.units import Quantity, quantity

CONTACTS = "veldrain_msgs/msg/Contacts"  # ours: no standard message has them; its definition is in every file
KINDS = ("stuck", "dropped", "delayed", "biased", "dead")


@dataclass(frozen=True, init=False)
class Failure:
    """Something that goes wrong with a sensor for a while.

    Args:
        kind: ``stuck``: the last good reading again and again; ``dropped``: readings are lost; ``delayed``: they arrive
            later; ``biased``: they are off; ``dead``: none any more, whatever ``end`` says.
        start: of the failure, s.
        end: of it, s.
        share: of the readings that are lost, 0 to 1, for ``dropped``.
        by: for ``delayed`` s more; for ``biased`` what is added, in SI units, by the name of a field of the reading,
            such as ``{"ranges": 0.05}``.

    Raises:
        VeldrainError: no such kind, an end before the start, a bias or delay that is missing.

    >>> Failure("dropped", start="2 s", end="5 s", share=0.3).share
    0.3
    """

    kind: str
    start: float
    end: float
    share: float
    by: Any

    def __init__(
        self,
        kind: str,
        start: Quantity = 0.0,
        end: Quantity = math.inf,
        share: float = 1.0,
        by: Quantity | Mapping[str, float] | None = None,
    ) -> None:
        if kind not in KINDS:
            raise unknown("kind of failure", kind, KINDS)
        begins, ends = quantity(start, "time", "failure start"), quantity(end, "time", "failure end")
        if not 0 <= begins < ends:
            raise VeldrainError(f"from {begins:g} s to {ends:g} s", where="failure", cure="start before its end")
        if not 0 <= share <= 1:
            raise VeldrainError(f"share is {share:g}", where="failure", cure="give 0 to 1")
        wanted = {"delayed": "a time", "biased": "numbers by the names of fields"}.get(kind)
        given = None if by is None else "numbers by the names of fields" if isinstance(by, Mapping) else "a time"
        if given != wanted:
            cure = f"give by= {wanted}" if wanted else "leave it out"
            raise VeldrainError(f"'{kind}' with by={by!r}", where="failure", cure=cure)
        object.__setattr__(self, "kind", kind)
        object.__setattr__(self, "start", begins)
        object.__setattr__(self, "end", math.inf if kind == "dead" else ends)
        object.__setattr__(self, "share", share)
        late = None if isinstance(by, Mapping) or by is None else not_negative(by, "time", "failure by")
        object.__setattr__(self, "by", dict(by) if isinstance(by, Mapping) else late)

    def bias(self, reading: Any) -> Any:
        """A reading with the bias added.

        Raises:
            VeldrainError: it has no such field.
        """
        for name in self.by:
            if not hasattr(reading, name):
                raise unknown("field of the reading", name, vars(reading))
        return replace(reading, **{name: getattr(reading, name) + value for name, value in self.by.items()})


class Timing(TypedDict, total=False):
    """What every sensor takes beside its period.

    Attributes:
        latency: from the sample to its arrival at a controller, s.
        first: time of the first sample, s; None: 0, or one period where it takes time to measure.
        failures: what goes wrong, and when; records, or what they are made of, as in files.
        exact: True measures without any error of its own; timing and failures stay.
    """

    latency: Quantity
    first: Quantity | None
    failures: Sequence[Failure | Mapping[str, Any]]
    exact: bool


class Timed:
    """The part of the sensor contract that all of ours share.

    Args:
        period: s.
        timing: see ``Timing``.
    """

    truth: bool = False
    message: str = ""
    looks_back: ClassVar[bool] = False  # it measures over the last step, so that it has nothing to say at 0 s
    perfect: ClassVar[Mapping[str, Any]] = {}  # what its errors are when there are none

    def __init__(self, period: Quantity, **timing: Unpack[Timing]) -> None:
        name = type(self).__name__
        for word in timing:
            if word not in Timing.__annotations__:
                raise unknown("argument", word, self.arguments(), name)
        first, failures = timing.get("first"), timing.get("failures", ())
        self.period = quantity(period, "time", f"{name} period")
        if not 0 < self.period < math.inf:
            raise VeldrainError(f"period is {self.period:g} s", where=name, cure="give a time above zero")
        self.latency = not_negative(timing.get("latency", 0.0), "time", f"{name} latency")
        if first is None:
            first = self.period if self.looks_back else 0.0
        self.first = not_negative(first, "time", f"{name} first")
        try:
            self.failures = tuple(f if isinstance(f, Failure) else Failure(**f) for f in failures)
        except TypeError as error:
            raise VeldrainError(f"a failure that cannot be read ({error})", where=name,
                                cure="give kind, start, end, share, by") from error  # fmt: skip
        self.exact = timing.get("exact", False)

    @classmethod
    def arguments(cls, more: Sequence[str] = ()) -> list[str]:
        """Names of all that it takes."""
        own = [n for n, p in inspect.signature(cls).parameters.items() if p.kind is not p.VAR_KEYWORD]
        return [*own, *more, *Timing.__annotations__]

    @classmethod
    def knows_errors(cls) -> bool:
        """True where the class says what its errors are, or is one of ours, which have none where they say so."""
        return bool(cls.perfect) or cls.__module__.startswith("veldrain.")

    def exactly(self) -> Self:
        """The same sensor without errors of its own."""
        same = copy.copy(self)
        same.exact = True
        for name, value in self.perfect.items():
            setattr(same, name, value)
        return same


def xyz(values: Any) -> SimpleNamespace:
    """Three numbers as a message has them."""
    x, y, z = values.tolist()
    return SimpleNamespace(x=x, y=y, z=z)
