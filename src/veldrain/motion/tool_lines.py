"""Lines and arcs of a tool, and the joint positions along them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.motion.chains import Chain
from veldrain.pose import Array, Pose
from veldrain.units import Quantity

SAMPLE = 0.005  # s between the points of a tool's line at which joint positions are solved for
EXACTLY: tuple[Quantity, Quantity | None] = ("1 um", "1e-4 deg")  # how near the tool stays to its line
AT_LIMIT = 0.02  # rad or m: as near to its limit as a step of the line takes a joint
JUMP = 4.0  # times the joint speed that the line asks for: a larger step is to another branch


class Line:
    """A straight line of a tool: share 0 to 1."""

    def __init__(self, a: Pose, b: Pose) -> None:
        from scipy.spatial.transform import Rotation, Slerp

        self._a, self._way = a.position, b.position - a.position
        self.length = float(np.linalg.norm(self._way))
        self.turn = float((a.rotation.inv() * b.rotation).magnitude())
        self._turns = Slerp([0.0, 1.0], Rotation.concatenate([a.rotation, b.rotation]))

    def at(self, share: float) -> Pose:
        return Pose(self._point(share), rotation=self._turns(share))

    def _point(self, share: float) -> Array:
        return np.asarray(self._a + share * self._way)


class Arc(Line):
    """A part of a circle through three points."""

    def __init__(self, a: Pose, via: Array, b: Pose) -> None:
        super().__init__(a, b)
        p, q = via - a.position, b.position - a.position
        normal = np.cross(p, q)
        size = float(normal @ normal)
        if size < 1e-16:
            raise VeldrainError("three points on a line", where="arc", cure="give a point beside it, or use straight")
        self._centre = a.position + (np.cross(normal, p) * (q @ q) + np.cross(q, normal) * (p @ p)) / (2.0 * size)
        spoke = a.position - self._centre
        self._radius = float(np.linalg.norm(spoke))
        self._x = spoke / self._radius
        self._y = np.cross(normal / math.sqrt(size), self._x)
        to = b.position - self._centre
        self._angle = math.atan2(float(to @ self._y), float(to @ self._x)) % (2.0 * math.pi)
        self.length = self._radius * self._angle

    def _point(self, share: float) -> Array:
        angle = share * self._angle
        return np.asarray(self._centre + self._radius * (math.cos(angle) * self._x + math.sin(angle) * self._y))


@dataclass(frozen=True)
class Follower:
    """What follows a tool's line.

    Attributes:
        chain: whose tip is the tool.
        free_axis: an axis of the tip about which any turn will do.
        tolerance: of the position and of the direction, as ``Chain.inverse`` takes it.
    """

    chain: Chain
    free_axis: Sequence[float] | None
    tolerance: tuple[Quantity, Quantity | None]

    def next_posture(self, pose: Pose, q: Array, line: int, share: float, top: float) -> Array:
        """Joint positions at the next pose of a line, near those of the one before."""
        chain, solve = self.chain, partial(self.chain.inverse, pose, start=q, free_axis=self.free_axis)
        found = solve(starts=1, tolerance=self.tolerance)
        at = f"at {100 * share:.0f} % of line {line}"
        if not found.reached:
            # From where it is, it does not go on: is there another way to have this pose?
            other = solve(tolerance=self.tolerance)
            if not other.reached:
                raise VeldrainError(f"the tool leaves reach {at}: {other.why}", where="straight", cure=self._cure())
            met = _limit_met(chain, q)
            if met is not None:
                cure = "start in another posture, or go round by more poses"
                raise VeldrainError(f"{at} {met}", where="straight", cure=cure)
            raise _jump(chain, at, other.q - q, "start in another posture, or go round by more poses")
        if float(np.abs(found.q - q).max()) > JUMP * max(SAMPLE * top * math.pi, 0.05):
            raise _jump(chain, at, found.q - q, "stay away from singular postures, or start in another one")
        return found.q

    def _cure(self) -> str:
        joints, asked = len(self.chain.joints), 6 - (self.free_axis is not None)
        if joints < asked and self.tolerance[1] is not None:
            return f'{joints} joints cannot hold every direction: tolerance=("0.1 mm", None) leaves it free'
        return "move the line, or turn the tool"


def _limit_met(chain: Chain, q: Array) -> str | None:
    """Which joint is at its limit, in words."""
    for joint, value, low, high in zip(chain.joints, q.tolist(), chain.low.tolist(), chain.high.tolist(), strict=True):
        for limit, beyond in ((low, value - low), (high, high - value)):
            if beyond < AT_LIMIT:
                told = chain.model.joints[joint].told
                return f"{joint} meets its limit of {told(limit)}"
    return None


def _jump(chain: Chain, at: str, step: Array, cure: str) -> VeldrainError:
    """The error for a line that goes on only on another branch."""
    moved = int(np.argmax(np.abs(step)))
    joint = chain.joints[moved]
    by = chain.model.joints[joint].told(float(step[moved]))
    return VeldrainError(f"{at} the arm would jump to another branch: {joint} by {by}", where="straight", cure=cure)
