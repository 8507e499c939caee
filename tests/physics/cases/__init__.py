"""Cases with a closed form or a published equation: run by the tests, and by ``make validate`` for docs/validation.md.

Each module is a family. A case measures one error, in the unit of its tolerance; the first of a family that gives a
curve has it drawn.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

G = 9.81


@dataclass
class Curve:
    """What a figure shows: ours and the exact one against x."""

    x_label: str
    y_label: str
    x: list[float] = field(default_factory=list)
    ours: list[float] = field(default_factory=list)
    exact: list[float] = field(default_factory=list)

    def add(self, x: float, ours: float, exact: float) -> None:
        self.x.append(float(x))
        self.ours.append(float(ours))
        self.exact.append(float(exact))

    def worst(self) -> float:
        """Largest difference."""
        return float(np.max(np.abs(np.subtract(self.ours, self.exact))))


@dataclass(frozen=True)
class Case:
    """One case: what is compared with which closed form, and how far it may be off."""

    family: str
    name: str
    source: str
    tolerance: float
    unit: str
    measure: Callable[[], float | tuple[float, Curve]]

    def run(self) -> tuple[float, Curve | None]:
        """The error, and a curve where there is one."""
        found = self.measure()
        return found if isinstance(found, tuple) else (found, None)


def all_cases() -> list[Case]:
    """Every case, family by family."""
    from tests.physics.cases import contact, loops, motors, smooth, trust

    return [*contact.CASES, *smooth.CASES, *loops.CASES, *motors.CASES, *trust.CASES]
