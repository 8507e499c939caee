"""Quantities as people write them: a number is SI, a string carries its unit.

>>> quantity("30 mm", "length"), round(quantity("75 deg", "angle"), 4)
(0.03, 1.309)
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from functools import cache, lru_cache
from numbers import Real
from pathlib import Path
from pickle import PickleError
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
    "angular acceleration": "rad/s**2",
    "angular jerk": "rad/s**3",
    "jerk": "m/s**3",
    "force": "N",
    "torque": "N*m",
    "impulse": "N*s",
    "inertia": "kg*m**2",
    "density": "kg/m**3",
    "linear stiffness": "N/m",
    "linear damping": "N*s/m",
    "angular stiffness": "N*m/rad",
    "angular damping": "N*m*s/rad",
    "rotor thrust": "N*s**2/rad**2",
    "rotor torque": "N*m*s**2/rad**2",
    "frequency": "Hz",
    "period": "s",
    "pressure": "Pa",
    "temperature": "K",
    "current": "A",
    "flux density": "T",
    "illuminance": "lx",
    "luminous intensity": "cd",
    "rainfall": "mm/hour",
    "angular noise density": "rad/s/Hz**0.5",
    "angular random walk": "rad/s/s**0.5",
    "acceleration noise density": "m/s**2/Hz**0.5",
    "acceleration random walk": "m/s**2/s**0.5",
    "flux density random walk": "T/s**0.5",
    "pressure random walk": "Pa/s**0.5",
    "force random walk": "N/s**0.5",
    "torque random walk": "N*m/s**0.5",
    "torque per current": "N*m/A",
    "ratio": "",
}
NAMES = "one of "  # begins a kind whose values are names: the number of one is its place among them
_ANGULAR_UNITS = {
    "radian",
    "milliradian",
    "degree",
    "turn",
    "revolution",
    "revolutions_per_minute",
    "degree_per_second",
}


@cache
def _registry() -> Any:
    import pint  # slow to import, and not needed by those who write plain numbers

    try:
        registry = _kept_registry()
    except (OSError, ValueError, EOFError, PickleError):  # no folder to write in, or a file that was cut short
        registry = pint.UnitRegistry()
    registry.define("newton_meter = newton * meter = Nm")
    registry.define("degree_per_second = degree / second = dps")
    return registry


def _kept_registry() -> Any:
    """The units out of the user's cache folder, which takes a tenth of the time of reading their definitions."""
    import pint
    import platformdirs
    from filelock import FileLock

    folder = Path(platformdirs.user_cache_dir("veldrain")) / "units" / pint.__version__
    folder.mkdir(parents=True, exist_ok=True)
    with FileLock(folder / "lock", timeout=10):  # a process never reads what another has not written to its end
        return pint.UnitRegistry(cache_folder=folder)


def quantity(value: Quantity, kind: str, where: str = "") -> float:
    """The value in SI units.

    Args:
        value: a number in SI units, or a string with a unit such as ``"30 mm"`` or ``"0.005 deg/s/sqrt(Hz)"``. A
            ``period`` takes a rate as well, such as ``"100 Hz"`` or ``"600 rpm"``; of an acceleration ``g`` is the
            standard acceleration of gravity.
        kind: one of ``SI_UNITS``, such as ``"length"``.
        where: the place to name in an error.

    Raises:
        VeldrainError: not a number, no unit in the string, an unknown unit, or a unit of another kind.
    """
    if names := names_of(kind):
        return float(_place(value, names, where))
    if isinstance(value, Real) and not isinstance(value, bool):
        number = float(value)
    elif isinstance(value, str):
        number = _parsed(value, kind, where)
    else:
        raise VeldrainError(f"{value!r} is not a quantity", where=where, cure=_example(kind))
    if number != number:
        raise VeldrainError("not a number (nan)", where=where, cure=_example(kind))
    if LARGEST < abs(number) < math.inf:
        raise VeldrainError(f"{value} is too large to be {_an(kind)}", where=where, cure=_example(kind))
    return number


def kind_of_names(names: Sequence[str]) -> str:
    """The kind of a quantity whose values are names.

    >>> quantity("silt", kind_of_names(["wood", "silt"]))
    1.0
    """
    return NAMES + " | ".join(names)


def names_of(kind: str) -> list[str]:
    """The names that are the values of a kind; none for a kind of numbers."""
    return kind.removeprefix(NAMES).split(" | ") if kind.startswith(NAMES) else []


def unit_of_kind(kind: str) -> str:
    """The SI unit of a kind; of names the kind itself, so that a number can be told as its name."""
    return kind if kind.startswith(NAMES) else SI_UNITS[kind]


def named(values: Mapping[str, float], units: Mapping[str, str]) -> dict[str, float | str]:
    """Values by path, with names where their units are such as of ``unit_of_kind``."""
    return {path: names[int(v)] if (names := names_of(units.get(path, ""))) else v for path, v in values.items()}


def _place(value: Quantity, names: Sequence[str], where: str) -> int:
    if value not in names:
        raise unknown("name", str(value), names, where)
    return names.index(str(value))


def finite(value: Quantity, kind: str, where: str = "") -> float:
    """A quantity in SI units that is not infinite."""
    number = quantity(value, kind, where)
    if math.isinf(number):
        raise VeldrainError(f"{value} is not finite", where=where, cure=_example(kind))
    return number


def quantities(
    values: Sequence[Quantity] | NDArray[np.float64], kind: str, where: str = "", count: int = 3
) -> tuple[float, ...]:
    """A row of quantities of one kind in SI units, such as a position or a box's edges."""
    if isinstance(values, str) or not hasattr(values, "__len__") or len(values) != count:
        raise VeldrainError(f"{values!r} is not a row of {count}", where=where, cure=f"give {count} numbers")
    found = tuple(quantity(v, kind, where) for v in values)
    if not all(map(math.isfinite, found)):
        raise VeldrainError(f"{values!r} is not finite", where=where, cure=_example(kind))
    return found


def to_si(values: NDArray[np.float64], unit: str, where: str = "") -> NDArray[np.float64]:
    """Numbers of a unit in SI units, whatever kind of quantity they are.

    Raises:
        VeldrainError: an unknown unit.
    """
    for kind in SI_UNITS:
        if kind == "period":
            continue
        try:
            zero, one = quantity(f"0 {unit}", kind), quantity(f"1 {unit}", kind)
        except VeldrainError:
            continue
        return zero + (one - zero) * values
    raise VeldrainError(f"'{unit}' is no unit that is known", where=where, cure="write such as 'deg/s' or 'mm'")


def triple(values: Sequence[Quantity] | NDArray[np.float64], kind: str, where: str = "") -> Triple:
    """Three quantities of one kind in SI units: a position, a force, a box's edges."""
    x, y, z = quantities(values, kind, where)
    return x, y, z


# A number, then a unit; nothing that computes. A comma is refused: "8,5" is 8.5 to one reader and 85 to another.
_WRITTEN = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d{1,3})?|[+-]?inf(?:inity)?)\s*([^\d\s].*|)", re.ASCII)
_UNIT = re.compile(r"[^\W\d_]*[^\W\d]*(?:[\w%°µ²³√/*^()\- ·.]*)")
_ROOT = re.compile(r"(?:sqrt\(|√\(?)(\w+)\)?")
_GRAVITY = re.compile(r"\b([mukµ]?)g\b")
_POWER = re.compile(r"(?:\*\*|\^)\s*\(?\s*[+-]?(\d+)")
LONGEST = 80  # characters of a quantity

# What one of the units is that nearly all files write: pint, which knows all others, takes a second to load.
USUAL: dict[str, dict[str, float]] = {
    "length": {"m": 1.0, "cm": 0.01, "mm": 0.001, "km": 1000.0},
    "time": {"s": 1.0, "ms": 0.001},
    "period": {"s": 1.0, "ms": 0.001},
    "mass": {"kg": 1.0, "g": 0.001},
    "angle": {"rad": 1.0, "deg": math.pi / 180},
    "speed": {"m/s": 1.0, "cm/s": 0.01, "mm/s": 0.001},
    "acceleration": {"m/s^2": 1.0},
    "angular speed": {"rad/s": 1.0, "deg/s": math.pi / 180},
    "force": {"N": 1.0, "kN": 1000.0},
    "torque": {"N*m": 1.0},
    "inertia": {"kg*m^2": 1.0},
    "density": {"kg/m^3": 1.0},
    "linear stiffness": {"N/m": 1.0, "kN/m": 1000.0},
    "linear damping": {"N*s/m": 1.0, "kN*s/m": 1000.0},
    "angular damping": {"N*m*s/rad": 1.0},
    "frequency": {"Hz": 1.0},
}
LARGEST = 1e15  # of a finite one, SI: what is larger is a slip of the pen, and overflows when it is squared


@lru_cache(maxsize=4096)
def _parsed(text: str, kind: str, where: str) -> float:
    if kind not in SI_UNITS:
        raise unknown("kind of quantity", kind, SI_UNITS)
    usual = _WRITTEN.fullmatch(text) if len(text) <= LONGEST else None
    factor = usual and USUAL.get(kind, {}).get(usual[2].strip())
    if usual and factor:
        return float(usual[1]) * factor
    if usual and kind == "period" and usual[2].strip() == "Hz" and (rate := float(usual[1])) > 0:
        return _period(rate)
    number, unit = _split(text, kind, where)
    wrong = VeldrainError(f"'{text}' is not {_an(kind)}", where=where, cure=_example(kind))
    words = str(unit)
    angular = bool(_ANGULAR_UNITS & set(words.split()))
    if kind == "period" and unit.dimensionality == {"[time]": -1}:  # a rate
        turns = _converted(number, unit, "1/s", wrong) / (2 * math.pi if angular else 1.0)
        if not turns > 0:
            raise wrong
        return _period(turns)
    if (words in ("dimensionless", "percent")) != (kind == "ratio") or angular != ("rad" in SI_UNITS[kind]):
        raise wrong
    return _converted(number, unit, SI_UNITS[kind], wrong)


def _period(rate: float) -> float:
    return round(1.0 / rate, 12)  # a nanosecond is 1e-9 s: what is beyond is rounding


def _split(text: str, kind: str, where: str) -> tuple[float, Any]:
    """Number and unit of a text."""
    cure = _example(kind) if kind else "write a number and a unit"
    found = _WRITTEN.fullmatch(text) if len(text) <= LONGEST else None
    if "," in text:
        raise VeldrainError(f"'{text}' has a comma", where=where, cure="write a point, as in 8.5")
    powers = [int(p) for p in _POWER.findall(found[2])] if found else []
    if found is None or not _UNIT.fullmatch(found[2]) or max(powers, default=0) > 6 or found[2].count("*") > 12:
        shown = text if len(text) <= LONGEST else text[:LONGEST] + "…"
        has_number = any(c.isdigit() for c in text)
        problem = f"cannot read '{shown}' as a quantity" if has_number else f"'{shown}' has no number"
        raise VeldrainError(problem, where=where, cure=cure)
    unit = _ROOT.sub(r"\1**0.5", found[2].strip().replace("%", "percent"))
    if kind.startswith("acceleration"):
        unit = _GRAVITY.sub(r"\1g_0", unit)
    try:
        return float(found[1]), _registry().parse_units(unit)
    except Exception as error:  # pint raises many kinds for what it cannot read, a tokenizer's among them
        raise VeldrainError(f"cannot read '{text}' as a quantity", where=where, cure=cure) from error


def _converted(number: float, unit: Any, to: str, wrong: VeldrainError) -> float:
    import pint

    try:
        return float(_registry().Quantity(number, unit).to(to).magnitude)
    except pint.DimensionalityError as error:
        raise wrong from error


def in_unit(text: str, unit: str, where: str = "") -> float:
    """A quantity in a unit of one's own, such as that of a metric.

    >>> in_unit("1 cm", "m")
    0.01
    """
    number, own = _split(text, "", where)
    wrong = VeldrainError(
        f"'{text}' is not in {unit or 'numbers without a unit'}", where=where, cure=f"give it in {unit}"
    )
    try:
        to = str(_registry().parse_units(unit.replace("%", "percent")))
    except Exception as error:  # as above: a unit that only people can read
        raise VeldrainError(
            f"'{unit}' is no unit that '{text}' could be turned into", where=where, cure="give a plain number"
        ) from error
    return _converted(number, own, to, wrong)


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
    "period": "20 ms' or '50 Hz",
    "rainfall": "8 mm/h",
    "temperature": "15 degC",
    "illuminance": "50 klx",
    "angular noise density": "0.005 deg/s/sqrt(Hz)",
    "acceleration noise density": "150 ug/sqrt(Hz)",
}


def worded(name: str) -> str:
    """A class name as files write it.

    >>> worded("HeightField")
    'height_field'
    """
    return re.sub(r"(?<!^)(?=[A-Z])", "_", name).lower()
