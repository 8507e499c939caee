"""Quantities as people write them: a number is SI, a string carries its unit.

>>> quantity("30 mm", "length"), round(quantity("75 deg", "angle"), 4)
(0.03, 1.309)
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from numbers import Real
from typing import TYPE_CHECKING, Any

from veldrain.errors import VeldrainError, unknown

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

Quantity = float | int | str
Triple = tuple[float, float, float]

# What each kind of quantity is measured in. Kinds that pint cannot tell apart (an angle and a ratio, a
# rotation speed and a frequency) are told apart by the words allowed in their unit.
SI_UNITS = {
    "length": "m",
    "area": "m**2",
    "time": "s",
    "mass": "kg",
    "angle": "rad",
    "speed": "m/s",
    "acceleration": "m/s**2",
    "angular speed": "rad/s",
    "force": "N",
    "torque": "N*m",
    "impulse": "N*s",
    "inertia": "kg*m**2",
    "density": "kg/m**3",
    "linear stiffness": "N/m",
    "linear damping": "N*s/m",
    "angular stiffness": "N*m/rad",
    "angular damping": "N*m*s/rad",
    "frequency": "Hz",
    "pressure": "Pa",
    "temperature": "K",
    "current": "A",
    "flux density": "T",
    "ratio": "",
}
_ANGULAR_UNITS = {"radian", "milliradian", "degree", "turn", "revolution", "revolutions_per_minute"}


@cache
def _registry() -> Any:
    import pint  # slow to import, and not needed by those who write plain numbers

    return pint.UnitRegistry()


def quantity(value: Quantity, kind: str, where: str = "") -> float:
    """The value in SI units.

    Args:
        value: a number in SI units, or a string with a unit such as ``"30 mm"``.
        kind: one of ``SI_UNITS``, such as ``"length"``.
        where: the place to name in an error.

    Raises:
        VeldrainError: not a number, no unit in the string, an unknown unit, or a unit of another kind.
    """
    if isinstance(value, Real) and not isinstance(value, bool):
        number = float(value)
    elif isinstance(value, str):
        number = _parsed(value, kind, where)
    else:
        raise VeldrainError(f"{value!r} is not a quantity", where=where, cure=_example(kind))
    if number != number:
        raise VeldrainError("not a number (nan)", where=where, cure=_example(kind))
    return number


def quantities(
    values: Sequence[Quantity] | NDArray[np.float64], kind: str, where: str = "", count: int = 3
) -> tuple[float, ...]:
    """A row of quantities of one kind in SI units, such as a position or a box's edges."""
    if isinstance(values, str) or not hasattr(values, "__len__") or len(values) != count:
        raise VeldrainError(f"{values!r} is not a row of {count}", where=where, cure=f"give {count} numbers")
    return tuple(quantity(v, kind, where) for v in values)


def triple(values: Sequence[Quantity] | NDArray[np.float64], kind: str, where: str = "") -> Triple:
    """Three quantities of one kind in SI units: a position, a force, a box's edges."""
    x, y, z = quantities(values, kind, where)
    return x, y, z


@cache
def _parsed(text: str, kind: str, where: str) -> float:
    if kind not in SI_UNITS:
        raise unknown("kind of quantity", kind, SI_UNITS)
    import pint

    try:
        parsed = _registry().Quantity(text.replace("%", "percent"))
    except Exception as error:  # pint raises many kinds for what it cannot read, a tokenizer's among them
        raise VeldrainError(f"cannot read '{text}' as a quantity", where=where, cure=_example(kind)) from error
    unit = str(parsed.units)
    angular = bool(_ANGULAR_UNITS & set(unit.split()))
    wrong = VeldrainError(f"'{text}' is not {_an(kind)}", where=where, cure=_example(kind))
    if (unit in ("dimensionless", "percent")) != (kind == "ratio") or angular != kind.startswith("ang"):
        raise wrong
    try:
        return float(parsed.to(SI_UNITS[kind]).magnitude)
    except pint.DimensionalityError as error:
        raise wrong from error


def _an(kind: str) -> str:
    return f"{'an' if kind[0] in 'aeiou' else 'a'} {kind}"


def _example(kind: str) -> str:
    unit = SI_UNITS[kind].replace("**", "^") or "no unit"
    return f"a plain number is in {unit}; a string names its unit, such as '{_EXAMPLES.get(kind, '2 ' + unit)}'"


_EXAMPLES = {
    "length": "30 mm",
    "time": "20 ms",
    "angle": "75 deg",
    "angular speed": "120 rpm",
    "torque": "15 N*m",
    "force": "60 N",
    "ratio": "20 %",
}
