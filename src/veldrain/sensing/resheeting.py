"""A sensor at work that goes on with another data sheet.

What it has become since its start is kept; what still is as it was at its start is as the other sheet would start it.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from veldrain.sheet import Sheet


def is_same(a: Any, b: Any) -> bool:
    """True for equal values: numbers, arrays, random streams, and objects whose attributes are the same."""
    if a is b:
        return True
    if type(a) is not type(b):
        return False
    if isinstance(a, np.ndarray):
        return bool(a.shape == b.shape and a.dtype == b.dtype and a.tobytes() == b.tobytes())
    if isinstance(a, np.random.Generator):
        return bool(a.bit_generator.state == b.bit_generator.state)
    if isinstance(a, dict):
        return a.keys() == b.keys() and all(is_same(a[key], b[key]) for key in a)
    if isinstance(a, list | tuple):
        return len(a) == len(b) and all(is_same(x, y) for x, y in zip(a, b, strict=True))
    if _is_own(a):
        return is_same(vars(a), vars(b))
    return bool(a == b)


def carried(now: Any, was: Any, new: Any) -> Any:
    """What a sensor at work becomes: ``was`` is how it started, ``new`` how it would start with the other sheet."""
    if is_same(now, was):
        return new
    if _is_own(now) and type(now) is type(was) is type(new):
        for name in vars(now):
            setattr(now, name, carried(vars(now)[name], vars(was).get(name), vars(new).get(name)))
    return now


def _is_own(thing: Any) -> bool:
    """True for an object with attributes that change, such as the errors of a triad."""
    return hasattr(thing, "__dict__") and not isinstance(thing, type | Sheet) and not callable(thing)
