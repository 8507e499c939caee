"""Legs of three joints in closed form."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Model
from veldrain.motion.chains import Chain
from veldrain.motion.three_joints import EVEN, LEG, leg_angles, leg_answers
from veldrain.pose import Array


class Leg:
    """A leg of three joints that turn, found in a model: roll or swing, hip, knee.

    The second and third axis are parallel and square to the first one, wherever the joints are: the first angle brings
    the leg's plane onto the foot, the other two are those of a triangle of thigh and shank.

    Args:
        model: the model.
        foot: link, frame or sensor at its end.
        body: the link that it hangs on. None: the root.

    Raises:
        VeldrainError: it is no such leg; says what is different.

    >>> Leg(model, "front_left_foot").angles((0.3, 0.2, -0.3))  # doctest: +SKIP
    """

    def __init__(self, model: Model, foot: str, body: str | None = None) -> None:
        self.chain = chain = Chain(model, foot, body)
        self.joints, self.foot = chain.joints, foot
        where = f"{model.name}: leg to {foot}"
        if len(chain.joints) != 3 or chain.is_linear.any():
            raise VeldrainError(
                f"no closed form: its joints are {', '.join(chain.joints)}, and three that turn are wanted",
                where=where,
                cure="use Chain.inverse",
            )
        zero = np.zeros(3)
        J = chain.jacobian(zero)
        foot_at = chain.forward(zero).position
        self._axes = J[3:].T  # at rest, in the body
        a, b, c = self._axes
        # J's upper half is a × (foot − o): a point of each axis is foot + a × (a × (foot − o)).
        self._points = np.array([foot_at + np.cross(axis, J[:3, k]) for k, axis in enumerate(self._axes)])
        if abs(a @ b) > EVEN or 1.0 - abs(b @ c) > EVEN:
            told = (
                "its second and third axis are not parallel"
                if 1.0 - abs(b @ c) > EVEN
                else "its first axis is not square to the second"
            )
            raise VeldrainError(f"no closed form: {told}", where=where, cure="use Chain.inverse")
        # In the axes x across both, y along the second axis, z along the first, from a point of the first axis.
        self._frame = np.column_stack([np.cross(b, a), b, a])
        self._origin = self._points[0]
        self.hip: Array = self._points[1]  # of the second axis, where all joints are at 0
        hip, knee, foot_in = ((p - self._origin) @ self._frame for p in (self._points[1], self._points[2], foot_at))
        thigh, shank = knee[[0, 2]] - hip[[0, 2]], foot_in[[0, 2]] - knee[[0, 2]]
        self.thigh, self.shank = float(np.linalg.norm(thigh)), float(np.linalg.norm(shank))
        self.row = np.zeros(1, LEG)  # as kernels take it
        row = self.row[0]
        row["from"], row["axes"], row["hip"], row["side"] = self._origin, self._frame.T, hip[[0, 2]], foot_in[1]
        row["thigh"], row["shank"], row["sign"] = self.thigh, self.shank, 1.0 if b @ c > 0 else -1.0
        row["thigh_rest"], row["shank_rest"] = math.atan2(thigh[1], thigh[0]), math.atan2(shank[1], shank[0])
        row["low"], row["high"] = chain.low, chain.high
        if min(self.thigh, self.shank) < EVEN:
            raise VeldrainError("no closed form: thigh or shank has no length", where=where, cure="use Chain.inverse")

    def angles(self, foot: Array | Sequence[float], near: Array | Sequence[float] | None = None) -> Array:
        """Joint positions (3,) that bring the foot to a point of the body; of up to four, those near to a posture.

        Raises:
            VeldrainError: the point is out of reach, by how much, or only beyond the joints' limits.
        """
        q = np.empty((1, 3))
        feet, goal = np.array([foot], float), np.array([self.chain.middle if near is None else near], float)
        if not leg_angles(self.row, feet, goal, np.empty((1, 4, 3)), q):
            x, y, z = (float(v) for v in foot)
            off = self.out_of_reach(foot)
            why = f"is out of reach by {1e3 * off:.3g} mm" if off > 0 else "is beyond the limits of its joints"
            raise VeldrainError(
                f"({x:.3f}, {y:.3f}, {z:.3f}) {why}",
                where=f"leg to {self.foot}",
                cure="take shorter steps, or stand lower",
            )
        return q[0]

    def nearest(self, foot: Array, rest: Array, near: Array | Sequence[float] | None = None) -> tuple[Array, float]:
        """Joint positions (3,) for a foot, or for the last point within reach on the way to it from one that is.

        The second is how much of the way is left, m.
        """
        try:
            return self.angles(foot, near), 0.0
        except VeldrainError:
            low, high = 0.0, 1.0
        best = self.angles(rest, near)
        for _ in range(10):
            middle = 0.5 * (low + high)
            try:
                best, low = self.angles(rest + middle * (foot - rest), near), middle
            except VeldrainError:
                high = middle
        return best, (1.0 - low) * float(np.linalg.norm(foot - rest))

    def all_angles(self, foot: Array | Sequence[float]) -> list[Array]:
        """All answers (3,), limits left aside: none to four."""
        found, count = np.empty((1, 4, 3)), np.zeros(1, np.int64)
        leg_answers(self.row, np.array([foot], float), found, count)
        return list(found[0, : count[0]])

    def out_of_reach(self, foot: Array | Sequence[float]) -> float:
        """How far a point is out of the leg's reach, m; 0: it is within."""
        row = self.row[0]
        x, y, z = ((np.asarray(foot, float) - self._origin) @ self._frame).tolist()
        across, side = math.hypot(x, y), abs(float(row["side"]))
        if across < side:
            return side - across
        along = math.sqrt(across * across - side * side)
        far = [math.hypot(out - row["hip"][0], z - row["hip"][1]) for out in (along, -along)]
        return min(max(d - self.thigh - self.shank, abs(self.thigh - self.shank) - d, 0.0) for d in far)
