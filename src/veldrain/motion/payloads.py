"""What hangs on a force-torque sensor, and what it reads by itself, out of readings in several postures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from veldrain.errors import VeldrainError
from veldrain.pose import Array, Pose

TURNED = 0.05  # least spread of the directions of gravity, of 1, from which a mass can be told from an offset


@dataclass(frozen=True)
class Payload:
    """A load and a sensor's offsets, in the sensor's axes.

    Attributes:
        mass: kg.
        centre: (3,) of mass, m from the sensor's origin.
        force_offset: (3,) that it reads without a load, N.
        torque_offset: (3,) likewise, N·m.
        error: largest difference between what was read and what these explain, N or N·m.
    """

    mass: float
    centre: Array
    force_offset: Array
    torque_offset: Array
    error: float

    def taken_off(
        self, force: ArrayLike, torque: ArrayLike, pose: Pose, gravity: Sequence[float] = (0.0, 0.0, -9.81)
    ) -> tuple[Array, Array]:
        """Force and torque (3,) that are left of a reading without the load at rest and the offsets: the tare."""
        weight = -self.mass * (pose.matrix.T @ np.asarray(gravity, float))
        return (
            np.asarray(force, float) - self.force_offset - weight,
            np.asarray(torque, float) - self.torque_offset - np.cross(self.centre, weight),
        )


def payload(
    forces: ArrayLike, torques: ArrayLike, poses: Sequence[Pose], gravity: Sequence[float] = (0.0, 0.0, -9.81)
) -> Payload:
    """The load on a force-torque sensor by its readings at rest.

    With the acceleration g of gravity in the sensor's axes a reading is f = −m·g + f₀ and τ = −c × m·g + τ₀, which is
    linear in m, m·c, f₀ and τ₀: least squares over all postures (R. Featherstone and others, in "Springer Handbook of
    Robotics", 2nd edition 2016, chapter 6, identification of inertial parameters).

    Args:
        forces, torques: (n, 3) as ``ForceTorque`` reads them, N and N·m.
        poses: of the sensor in the world, one for each: ``chain.forward(q)``.
        gravity: m/s², world axes.

    Raises:
        VeldrainError: fewer than three readings, or postures that turn the sensor too little to tell all of it apart.

    >>> payload(forces, torques, [chain.forward(q) for q in postures]).mass  # doctest: +SKIP
    0.4
    """
    f, t = np.atleast_2d(np.asarray(forces, float)), np.atleast_2d(np.asarray(torques, float))
    if f.shape != t.shape or f.shape != (len(poses), 3) or not (np.isfinite(f).all() and np.isfinite(t).all()):
        raise VeldrainError(
            f"forces {f.shape}, torques {t.shape} and {len(poses)} poses",
            where="payload",
            cure="give (n, 3), (n, 3) and n, of finite numbers",
        )
    g = np.stack([pose.matrix.T @ np.asarray(gravity, float) for pose in poses]) if len(poses) else np.zeros((0, 3))
    spread = np.linalg.svd(g - g.mean(axis=0), compute_uv=False) if len(g) > 2 else np.zeros(3)
    if spread[1] < TURNED * np.linalg.norm(gravity):
        raise VeldrainError(
            f"{len(poses)} postures do not turn the sensor far enough to tell the load from its offsets",
            where="payload",
            cure="read it in three or more, such as level, tipped forward and tipped to the side",
        )
    rows = np.zeros((len(g), 6, 10))
    rows[:, :3, 0], rows[:, :3, 4:7], rows[:, 3:, 7:] = -g, np.eye(3), np.eye(3)
    # −c × m·g = g × (m·c)
    rows[:, 3, 2], rows[:, 3, 3] = -g[:, 2], g[:, 1]
    rows[:, 4, 1], rows[:, 4, 3] = g[:, 2], -g[:, 0]
    rows[:, 5, 1], rows[:, 5, 2] = -g[:, 1], g[:, 0]
    read = np.concatenate([f, t], axis=1)
    found = np.linalg.lstsq(rows.reshape(-1, 10), read.ravel(), rcond=None)[0]
    mass = float(found[0])
    centre = found[1:4] / mass if abs(mass) > 1e-9 else np.zeros(3)
    return Payload(mass, centre, found[4:7], found[7:], float(np.abs(rows @ found - read).max()))
