"""Mass properties of bodies made of shapes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.shapes import Part, Shape
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, finite

LEAST_MASS = 1e-12  # kg: what is lighter is a slip of the pen


def checked_mass(mass: Quantity, name: str) -> float:
    """A mass that can be moved, kg.

    Raises:
        VeldrainError: it is not above zero, or infinite.
    """
    kg = finite(mass, "mass", name)
    if kg < LEAST_MASS:
        raise VeldrainError(f"mass is {kg:g} kg", where=name, cure=f"give a mass above zero, {LEAST_MASS:g} kg or more")
    return kg


@dataclass(frozen=True)
class MassProperties:
    """Mass (kg), centre of mass (3,) and inertia (3, 3) about that centre, both in one frame's axes."""

    mass: float
    com: Array
    inertia: Array

    def moved(self, pose: Pose) -> MassProperties:
        """The same body seen from the frame in which this one's frame has ``pose``."""
        R = pose.matrix
        return MassProperties(self.mass, pose.apply(self.com), R @ self.inertia @ R.T)


NOTHING = MassProperties(0.0, np.zeros(3), np.zeros((3, 3)))


def combined(bodies: Sequence[MassProperties]) -> MassProperties:
    """Bodies of one frame joined to one (the parallel axis theorem)."""
    mass = sum(b.mass for b in bodies)
    if mass == 0.0:
        return NOTHING
    com = sum((b.mass * b.com for b in bodies), np.zeros(3)) / mass
    inertia = np.zeros((3, 3))
    for b in bodies:
        d = b.com - com
        inertia += b.inertia + b.mass * (d @ d * np.eye(3) - np.outer(d, d))
    return MassProperties(mass, com, inertia)


def is_solid(shape: Shape) -> bool:
    """True for a shape with a volume; a mesh that is not closed has none."""
    try:
        return shape.volume > 0
    except VeldrainError:
        return False


def solid_parts(parts: Sequence[Part]) -> list[Part]:
    """The parts that can be touched, or all if none can."""
    return [p for p in parts if p.role != "visual"] or list(parts)


def volume_of(parts: Sequence[Part]) -> float:
    """Volume (m³) that mass is spread over."""
    return sum(p.shape.volume for p in solid_parts(parts))


def of_parts(parts: Sequence[Part], mass: float) -> MassProperties:
    """A mass spread evenly over the volume of the parts that can be touched (of all, if none can)."""
    solid, volume = solid_parts(parts), volume_of(parts)
    shares = [(p, mass * p.shape.volume / volume) for p in solid]
    return combined([MassProperties(m, p.shape.centre, m * p.shape.unit_inertia()).moved(p.pose) for p, m in shares])


def checked_inertia(inertia: Array, where: str) -> Array:
    """The inertia, if a body can have it.

    A body's principal moments are positive and none is larger than the sum of the other two (the triangle
    inequality: I₁ + I₂ − I₃ is twice a sum of m·z²).

    Raises:
        VeldrainError: not 3 × 3, not symmetric, or moments that no body has.
    """
    matrix = np.asarray(inertia, float)
    if matrix.shape != (3, 3) or not np.allclose(matrix, matrix.T, rtol=1e-6, atol=1e-12):
        raise VeldrainError(
            "inertia is not a symmetric 3 × 3 matrix", where=where, cure="give [[xx, xy, xz], …] in kg·m²"
        )
    low, middle, high = np.linalg.eigvalsh(matrix)
    if low <= 0 or low + middle < high * (1 - 1e-6):
        raise VeldrainError(
            f"no body has the principal moments {low:.3g}, {middle:.3g}, {high:.3g} kg·m²",
            where=where,
            cure="each must be positive and none above the sum of the other two; "
            "leave inertia out to have it made from the shapes",
        )
    return matrix
