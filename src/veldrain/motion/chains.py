"""Kinematics of a chain of joints between two links of a model: forward, Jacobian, inverse, inertia, gravity."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from veldrain.errors import VeldrainError
from veldrain.model import Model
from veldrain.model.inertia import MassProperties, combined
from veldrain.motion.between import Piece, pieces_between, place_of, way_up
from veldrain.motion.serial import dynamics, follow_many, jacobians, reach
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, quantity, triple

STARTS = 60  # from which inverse kinematics tries at most
AT_LIMIT = 1e-6
SINGULAR = 1e-3  # least singular value, below which an answer is called singular
NO_AXIS = np.zeros(3)


class NothingMovesError(VeldrainError):
    """Two places are fixed to each other."""


@dataclass(frozen=True)
class Reached:
    """What inverse kinematics found.

    Attributes:
        q: joint positions (n,), the nearest that were found where the pose is not reached.
        error: what is left of the position (m) and of the direction (rad).
        reached: True where both are within the tolerance, and all joints inside of their limits.
        why: what keeps it from there; "" where it is reached.
        singular: least singular value of the Jacobian at q (m and rad; of its position alone where any direction will
            do): near 0, some motion is lost there.
        starts: from how many starts it was tried.
    """

    q: Array
    error: tuple[float, float]
    reached: bool
    why: str
    singular: float
    starts: int


class Chain:
    """The joints between two links, frames or mounted sensors of a model, as arrays.

    Args:
        model: the model; later changes of it are not seen.
        tip: name of a link, frame or sensor: what is moved.
        base: the same: what stands still. None: the root link that the tip hangs on.
        joints: positions of the model's other joints, for masses that hang on the chain; 0 where not given.

    Raises:
        VeldrainError: no such link, no joint that moves between the two, or one with several coordinates on the way.

    >>> m = Model("arm").link("post", mass=5).link("bar", mass=1).frame("tool", on="bar", pose=Pose((1, 0, 0)))
    >>> Chain(m.joint("swing", "post", "bar", "continuous"), "tool").forward([math.pi / 2]).position.round(3).tolist()
    [0.0, 1.0, 0.0]
    """

    def __init__(
        self, model: Model, tip: str, base: str | None = None, *, joints: dict[str, Quantity] | None = None
    ) -> None:
        self.model, self.tip = model, tip
        self._rest = model.bent(joints)
        tip_link, tip_pose = place_of(model, tip)
        self.base = base or way_up(model, tip_link)[-1]
        base_link, base_pose = place_of(model, self.base)
        pieces = pieces_between(model, base_link, tip_link)
        self._cut_into(pieces, base_link, base_pose.inverse(), tip_pose)

    def _cut_into(self, pieces: list[Piece], base: str, start: Pose, end: Pose) -> None:
        moving = [p for p in pieces if p.joint.kind != "fixed"]
        if not moving:
            raise NothingMovesError(
                f"no joint moves '{self.tip}' against '{self.base}'",
                where=self.model.name,
                cure="name a tip and a base with a joint between them",
            )
        leaders = {p.joint.mimic[0]: p for p in moving if p.joint.mimic}
        self.joints = tuple(p.joint.name for p in moving if not p.joint.mimic)
        for leader, piece in leaders.items():
            if leader not in self.joints:
                raise VeldrainError(
                    f"follows '{leader}', which is not on the chain",
                    where=f"{self.model.name}/{piece.joint.name}",
                    cure="take a chain through both",
                )
        # All joints of the way are share @ q + offset of those that lead.
        self._share, self._offset = np.zeros((len(moving), len(self.joints))), np.zeros(len(moving))
        poses: list[Pose] = []
        axes: list[Array] = []
        pose = start
        for piece in pieces:
            joint, sign = piece.joint, -1.0 if piece.is_back else 1.0
            if not piece.is_back:
                pose = pose @ joint.pose
            if joint.kind != "fixed":
                at = len(poses)
                leader, ratio, offset = joint.mimic or (joint.name, 1.0, 0.0)
                self._share[at, self.joints.index(leader)], self._offset[at] = ratio, offset
                poses.append(pose)
                axes.append(sign * np.array(joint.axis))
                pose = Pose()
            if piece.is_back:
                pose = pose @ joint.pose.inverse()
        poses.append(pose @ end)
        slides = np.array([p.joint.kind == "prismatic" for p in moving], np.int64)
        self._arrays = (
            np.array([p.matrix for p in poses]),
            np.array([p.position for p in poses]),
            np.array(axes),
            slides,
        )
        self._moving, self._base_link = moving, base
        joints = self.model.joints
        limits = [joints[name].limits or (-math.inf, math.inf) for name in self.joints]
        self.low, self.high = np.array(limits).T
        self.low.setflags(write=False)
        self.high.setflags(write=False)
        self.speeds = np.array([self._top_speed(name) for name in self.joints])
        self.is_linear = np.array([joints[name].kind == "prismatic" for name in self.joints])
        n = len(moving)
        self._follow_room = (np.zeros((n + 1, 3, 3)), np.zeros((n + 1, 3)), np.zeros((n, 3)), np.zeros((3, 3)))
        m = len(self.joints)
        self._room = (
            *self._follow_room,
            np.zeros((6, n)),
            np.zeros((m, m)),
            np.zeros((m + 1, m)),
            np.zeros(m),
            np.zeros(m),
            np.zeros(m, np.int64),
            np.zeros(m),
            np.zeros(6),
            np.zeros(m),
        )

    def _top_speed(self, name: str) -> float:
        motor = self.model.motors.get(name)
        return min(self.model.joints[name].speed, motor.speed if motor else math.inf)

    def _row(self, q: ArrayLike, many: bool = True) -> Array:
        row = np.asarray(q, float)
        count = len(self.joints)
        if row.ndim not in ((1, 2) if many else (1,)) or row.shape[-1] != count or not np.isfinite(row).all():
            shape = f"({count},)" + (f" or (n, {count})" if many else "")
            raise VeldrainError(
                f"joint positions of shape {row.shape}",
                where=f"chain to {self.tip}",
                cure=f"give finite numbers of shape {shape}, one for each of: {', '.join(self.joints)}",
            )
        return row

    def _all(self, rows: Array) -> Array:
        return np.ascontiguousarray(np.atleast_2d(rows) @ self._share.T + self._offset)

    def forward(self, q: ArrayLike) -> Any:
        """Pose of the tip in the base.

        Args:
            q: joint positions (n,), or (m, n) for many at once; rad, or m where they slide.

        Returns:
            A ``Pose``; for many, positions (m, 3) and axes (m, 3, 3) as columns.
        """
        rows = self._row(q)
        every = self._all(rows)
        axes, points = np.zeros((len(every), 3, 3)), np.zeros((len(every), 3))
        follow_many(every, self._arrays, *self._follow_room, axes, points)
        return Pose.of(points[0], axes[0]) if rows.ndim == 1 else (points, axes)

    def jacobian(self, q: ArrayLike) -> Array:
        """Jacobian (6, n) of the tip: its velocity, then its spin, axes of the base; of many (m, 6, n)."""
        rows = self._row(q)
        every = self._all(rows)
        found = np.zeros((len(every), 6, every.shape[1]))
        jacobians(every, self._arrays, *self._follow_room, found)
        found = found @ self._share
        return np.asarray(found[0] if rows.ndim == 1 else found)

    def inertia(self, q: ArrayLike) -> Array:
        """Inertia matrix (n, n) that the joints feel, reflected inertias of motors included; (m, n, n) for many."""
        return self._dynamics(q, np.zeros(3))[0]

    def gravity(self, q: ArrayLike, gravity: Sequence[Quantity] = (0.0, 0.0, -9.81)) -> Array:
        """Efforts (n,) that hold the chain still against gravity (m/s², axes of the base); (m, n) for many."""
        return self._dynamics(q, np.array(triple(gravity, "acceleration", "gravity")))[1]

    def _dynamics(self, q: ArrayLike, pull: Array) -> tuple[Array, Array]:
        rows = self._row(q)
        every, n = self._all(rows), len(self._moving)
        M, load = np.zeros((len(every), n, n)), np.zeros((len(every), n))
        dynamics(every, self._arrays, *self._bodies, pull, *self._follow_room, np.zeros((6, n)), M, load)
        M = self._share.T @ M @ self._share
        motors = self.model.motors
        M += np.diag([motors[name].inertia if name in motors else 0.0 for name in self.joints])
        load = load @ self._share
        return (M[0], load[0]) if rows.ndim == 1 else (M, load)

    @cached_property
    def _bodies(self) -> tuple[Array, Array, Array]:
        """Masses, mass centres and inertias of what moves with each joint: all that hangs on the chain between two."""
        model, poses = self.model, self.model.poses(self._rest)
        chain = {p.joint.name for p in self._moving}
        around: dict[str, list[tuple[str, str]]] = {}
        for joint in model.joints.values():
            around.setdefault(joint.parent, []).append((joint.child, joint.name))
            around.setdefault(joint.child, []).append((joint.parent, joint.name))
        found: list[MassProperties] = []
        for piece in self._moving:
            # The frame that moves with the joint: its child's, or gone through backwards, the joint's in its parent.
            joint = piece.joint
            begin = joint.parent if piece.is_back else joint.child
            frame = poses[joint.parent] @ joint.pose if piece.is_back else poses[joint.child]
            seen, waiting = {begin}, [begin]
            while waiting:
                for other, name in around.get(waiting.pop(), []):
                    if name not in chain and other not in seen:
                        seen.add(other)
                        waiting.append(other)
            bodies = [model.links[name].mass_properties.moved(frame.inverse() @ poses[name]) for name in seen]
            found.append(combined(bodies))
        return (
            np.array([b.mass for b in found]),
            np.array([b.com for b in found]),
            np.array([b.inertia for b in found]),
        )

    @cached_property
    def length(self) -> float:
        """Sum of the chain's lengths (m), slides at their longest: no pose farther from its first joint is in reach."""
        _, place, _, slides = self._arrays
        links = np.linalg.norm(place[1:], axis=1).sum()
        most = np.where(np.isfinite(self.high), np.maximum(abs(self.low), abs(self.high)), 0.0)
        far = abs(self._share) @ most
        return float(links + (far * slides).sum())

    def inverse(
        self,
        pose: Pose | Sequence[Quantity],
        *,
        start: ArrayLike | None = None,
        tolerance: tuple[Quantity, Quantity | None] = ("0.1 mm", "0.1 deg"),
        near: ArrayLike | None = None,
        free_axis: Sequence[float] | None = None,
        starts: int = STARTS,
    ) -> Reached:
        """Joint positions that bring the tip to a pose.

        Args:
            pose: of the tip in the base; three lengths ask for a position alone.
            start: joint positions (n,) to begin at. None: the middle of the limits.
            tolerance: of the position (m) and of the direction (rad). None as the second: any direction.
            near: a posture (n,) to stay near where there is a choice.
            free_axis: an axis of the tip about which any turn will do, such as that of a round tool.
            starts: how many starts are tried at most: the given one, then others inside of the limits, always the same.

        Raises:
            VeldrainError: numbers that are none, or of another shape.

        >>> m = Model("arm").link("post", mass=5).link("bar", mass=1).frame("tool", on="bar", pose=Pose((1, 0, 0)))
        >>> chain = Chain(m.joint("swing", "post", "bar", "continuous"), "tool")
        >>> chain.inverse((0, 1, 0)).q.round(6).tolist()
        [1.570796]
        """
        where = f"chain to {self.tip}"
        if self._share.shape[0] != self._share.shape[1]:
            raise VeldrainError("a joint of it follows another", where=where, cure="take a chain without mimic joints")
        if not isinstance(pose, Pose):
            pose, tolerance = Pose(pose), (tolerance[0], None)
        close = quantity(tolerance[0], "length", f"{where}: tolerance")
        turned = math.inf if tolerance[1] is None else quantity(tolerance[1], "angle", f"{where}: tolerance")
        if not (close > 0 and turned > 0):
            raise VeldrainError("a tolerance of zero", where=where, cure="give what is close enough, above zero")
        begin = self.middle if start is None else self._row(start, many=False)
        posture = begin if near is None else self._row(near, many=False)
        axis = NO_AXIS if free_axis is None else _unit(free_axis, where)
        tries = np.concatenate([np.clip(begin, self.low, self.high)[None], self._others[: max(starts - 1, 0)]])
        weights = np.array((1.0 / max(self.length, 1e-3), 0.0 if math.isinf(turned) else 1.0))
        limits = np.array((close, turned))
        q, best = np.zeros(len(self.joints)), np.zeros(2)
        goal = (np.ascontiguousarray(pose.matrix), np.ascontiguousarray(pose.position))
        used = reach(
            q,
            *goal,
            self._arrays,
            self.low,
            self.high,
            axis,
            weights,
            limits,
            posture,
            near is not None,
            tries,
            self._room,
            best,
        )
        turns = np.isinf(self.low) & np.isinf(self.high) & ~self.is_linear
        q[turns] -= 2 * math.pi * np.round((q[turns] - posture[turns]) / (2 * math.pi))
        there = bool(best[0] <= close and best[1] <= turned)
        lines = 3 if math.isinf(turned) else 6  # of the Jacobian: what is asked for
        singular = float(np.linalg.svd(self.jacobian(q)[:lines], compute_uv=False)[-1])
        error = float(best[0]), float(best[1]) if math.isfinite(turned) else 0.0
        why = "" if there else self._why(q, pose, error, (close, turned), singular)
        return Reached(q, error, there, why, singular, int(used))

    @cached_property
    def middle(self) -> Array:
        """Joint positions (n,) in the middle of the limits; 0 where there are none."""
        bounded = np.isfinite(self.low) & np.isfinite(self.high)
        low, high = (np.where(bounded, side, 0.0) for side in (self.low, self.high))
        return np.clip(0.5 * (low + high), self.low, self.high)

    @cached_property
    def _others(self) -> Array:
        """More starts, always the same."""
        low = np.where(np.isfinite(self.low), self.low, np.where(self.is_linear, -1.0, -math.pi))
        high = np.where(np.isfinite(self.high), self.high, np.where(self.is_linear, 1.0, math.pi))
        return np.random.default_rng(0).uniform(low, high, (STARTS * 4, len(self.joints)))

    def _why(
        self, q: Array, pose: Pose, error: tuple[float, float], close: tuple[float, float], singular: float
    ) -> str:
        said = []
        if error[0] > close[0] and math.isfinite(close[1]):
            alone = self.inverse(pose.position.tolist(), start=q, tolerance=(close[0], None))
            if alone.reached:
                said.append(
                    f"the position is within reach, but not in this direction: nearest by {_mm(error[0])}"
                    f" and {math.degrees(error[1]):.3g}°"
                )
            else:
                said.append(f"out of reach by {_mm(alone.error[0])}")
                q = alone.q
        elif error[0] > close[0]:
            said.append(f"out of reach by {_mm(error[0])}")
        else:
            said.append(f"the direction cannot be had there: {math.degrees(error[1]):.3g}° are left")
        at = [
            f"{name} at its {'lower' if value < middle else 'upper'} limit"
            for name, value, low, high, middle in zip(self.joints, q, self.low, self.high, self.middle, strict=True)
            if value < low + AT_LIMIT or value > high - AT_LIMIT
        ]
        if at:
            said.append(", ".join(at))
        if singular < SINGULAR:
            said.append(f"singular there (least singular value {singular:.2g})")
        return "; ".join(said)

    def inside(self, q: ArrayLike, where: str = "") -> Array:
        """Joint positions (n,) or (m, n), if they are inside of their limits.

        Raises:
            VeldrainError: one is not; names it, and its limits.
        """
        rows = self._row(q)
        off = np.maximum(self.low - rows, rows - self.high)
        if off.max(initial=0.0) > 1e-9:
            k = int(np.argmax(np.max(np.atleast_2d(off), axis=0)))
            joint = self.model.joints[self.joints[k]]
            row = np.atleast_2d(rows)[int(np.argmax(np.atleast_2d(off)[:, k])), k]
            raise VeldrainError(
                f"{joint.told(float(row))} is outside of its limits, "
                f"{joint.told(float(self.low[k]))} to {joint.told(float(self.high[k]))}",
                where=f"{where or self.model.name}/{joint.name}",
                cure="give a position inside, or change the limits",
            )
        return rows

    def __repr__(self) -> str:
        return f"Chain({self.base} to {self.tip}: {', '.join(self.joints)})"


def fixed_or_chain(model: Model, tip: str, base: str) -> Pose | Chain:
    """The chain between two links, frames or sensors; where no joint moves them, the pose of the tip in the base."""
    try:
        return Chain(model, tip, base)
    except NothingMovesError:
        poses = model.poses()
        (one, inner), (other, outer) = place_of(model, base), place_of(model, tip)
        return (poses[one] @ inner).inverse() @ poses[other] @ outer


def _mm(length: float) -> str:
    return f"{length:.3g} m" if length >= 1 else f"{1e3 * length:.3g} mm"


def _unit(axis: Sequence[float], where: str) -> NDArray[np.float64]:
    row = np.asarray(axis, float)
    if row.shape != (3,) or not np.isfinite(row).all() or not row.any():
        raise VeldrainError(f"{axis!r} is no axis", where=where, cure="give three numbers, not all zero")
    return np.asarray(row / np.linalg.norm(row))
