"""What a reader of the results has to know about the steps of an engine."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from veldrain.physics import plant as p
from veldrain.physics.host import Engine

_ROUGH = {
    p.ROUGH_PATH: "a root that follows a path",
    p.ROUGH_STOP: "a joint at its limit",
    p.ROUGH_FRICTION: "joint friction",
    p.ROUGH_LINKS: "closed loops, mimic joints, ropes or springs between links",
    p.ROUGH_CONTACT: "contact in reach",
    p.ROUGH_AIR: "rotors or drag",
    p.ROUGH_SPEED: "a motor's speed limit",
}


def shown(engine: Engine) -> Iterator[tuple[str, str]]:
    """What the steps taken have shown: subject and text."""
    count = engine.plant.counts[0]
    if count["rough"]:
        yield (
            "rk4",
            f"rk4 was asked for and cannot be used with {_ROUGH[int(count['rough'])]}: such steps are "
            "semi-implicit, of first order",
        )
    if count["wanted"]:
        yield (
            "step",
            f"the step of {engine.step * 1e3:g} ms is too coarse for what touches here; "
            f"use {_two_digits(float(count['wanted'])) * 1e3:g} ms",
        )
    if count["surges"]:
        pair = int(count["surge_pair"])
        names = (
            " and ".join(engine.sides_of(np.array([pair]))[0])
            if pair >= 0
            else (engine.compiled.dof_names[int(count["surge_dof"])])
        )
        yield (
            "energy",
            f"energy grew by {count['surge']:.3g} J in the step to "
            f"{count['surge_step'] * engine.step:.6g} s, from {count['surge_energy']:.3g} J, and nothing gave it: "
            f"{names}; see whether they overlap, or use a smaller step",
        )


def deepest(engine: Engine) -> str:
    """The pair of shapes that was deepest in each other when the last contacts were found; "" for none."""
    a = engine.plant
    found = a.contacts[: int(a.counts["contacts"][0])]
    if len(found) == 0 or found["gap"].min() > -1e-4:
        return ""
    deep = found[found["gap"].argmin()]
    one, other = engine.sides_of(deep["key"][None])[0]
    return f"{one} and {other} are {-deep['gap'] * 1e3:.3g} mm inside each other"


def _two_digits(value: float) -> float:
    return float(f"{value:.1e}")
