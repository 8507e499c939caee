"""The same trial twice: is it the same?"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from veldrain.documents import load_scenario, load_study
from veldrain.documents.source import kind_of_file
from veldrain.recording import Recording
from veldrain.scenario import Scenario
from veldrain.scenario.running import run

CURE = "draw from numpy.random.default_rng(a seed of its own), and keep nothing from one trial to the next"


def first_difference(thing: str | Path | Any) -> str:
    """Run trial 0 of a scenario or study twice with each controller; what differs first, "" for nothing.

    Args:
        thing: a ``Scenario``, a ``Study``, or the path of a file of one.
    """
    if isinstance(thing, str | Path):
        path = Path(thing)
        thing = load_study(path) if kind_of_file(path) == "study" else load_scenario(path)
    if isinstance(thing, Scenario):
        pairs = [("", [run(thing, 0, warn=False) for _ in range(2)])]
    else:
        seed, values = thing.seed_of(0), thing.draw(0)
        pairs = [
            (f"controller '{name}': ", [run(thing.drawn(values, name), seed, warn=False) for _ in range(2)])
            for name in thing.controllers
        ]
    for who, (one, other) in pairs:
        found = _differs(one, other)
        if found:
            return f"{who}{found}; {CURE}"
    return ""


def _differs(one: Recording, other: Recording) -> str:
    firsts = []
    for name in sorted({*one.messages, *other.messages}):
        a, b = one.raw(name), other.raw(name)
        k = next((k for k, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
        if k < max(len(a), len(b)):
            firsts.append(((a if k < len(a) else b)[k][0], name))
    if not firsts:
        return ""
    stamp, name = min(firsts)
    return f"the same trial twice differs first in {name}, at {stamp / 1e9:.6g} s"
