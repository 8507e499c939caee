"""Trajectories: where joints are at every time, how fast they move, and under which limits."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, Any, Self

import numpy as np
from numpy.typing import ArrayLike

from veldrain.errors import VeldrainError
from veldrain.model import Fields, Message
from veldrain.motion.chains import Chain
from veldrain.motion.joint_paths import (
    blended,
    hermite,
    joined,
    largest,
    polynomials_at,
    straight_line,
    with_velocities,
)
from veldrain.motion.profiles import polynomials, rest_to_rest
from veldrain.motion.tool_lines import EXACTLY, SAMPLE, Arc, Follower, Line
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd
    from scipy.interpolate import PPoly

JOINT_TRAJECTORY = "trajectory_msgs/msg/JointTrajectory"


class Trajectory:
    """Joint positions over time, as polynomials between knots; before its start and after its end it stands still.

    Made by ``through``, ``straight``, ``arc``, ``of`` or ``of_message``.

    Attributes:
        joints: names of the joints, in the order of all arrays.
        duration: s.
        knots: times (k,) at which it changes its course, s; the first is 0.

    >>> path = Trajectory.through([[0.0], [1.0]], speed=1.0, acceleration=2.0)
    >>> path.duration, path.at(0.75)[0].tolist()
    (1.5, [0.5])
    """

    def __init__(self, polynomial: PPoly, joints: Sequence[str] = ()) -> None:
        self._position = polynomial
        self._velocity, self._acceleration = polynomial.derivative(), polynomial.derivative(2)
        count = polynomial.c.shape[2]
        self.joints = tuple(joints) or tuple(f"joint_{k + 1}" for k in range(count))
        if len(self.joints) != count:
            raise VeldrainError(
                f"{len(self.joints)} names for {count} joints", where="trajectory", cure="give one for each"
            )
        self.knots: Array = np.array(polynomial.x)
        self._c: Array = np.array(polynomial.c, order="C")
        self.duration = float(self.knots[-1])

    @classmethod
    def through(
        cls,
        points: ArrayLike,
        *,
        speed: ArrayLike | str,
        acceleration: ArrayLike | str,
        jerk: ArrayLike | str | None = None,
        scale: float = 1.0,
        velocities: ArrayLike | None = None,
        blend: float = 0.0,
        joints: Sequence[str] | Chain = (),
    ) -> Self:
        """The fastest way through points in straight lines of the joints, all joints in step.

        It comes to rest in every point, unless ``blend`` lets it round the corners, or ``velocities`` say how it goes
        through the points: then it is a cubic between each two (with a limit of jerk a quintic without acceleration in
        the points), just as long as the limits ask for.

        Args:
            points: joint positions (n, joints), two or more.
            speed: limit, rad/s or m/s: one for all joints, or one each.
            acceleration: limit, rad/s² or m/s².
            jerk: limit, rad/s³ or m/s³. None: none, so that the acceleration jumps.
            scale: of speed: 0.5 takes twice as long (limits of acceleration by its square, of jerk by its cube).
            velocities: (n, joints) in the points.
            blend: how far from a point (rad or m, of the joint that is farthest) its corner may be cut.
            joints: their names, or the ``Chain`` whose joints they are: its limits are then looked at.

        Raises:
            VeldrainError: fewer than two points, two alike in a row, numbers that are none, limits not above zero, or
                beyond those of the chain.
        """
        where = "trajectory"
        rows = _rows(points, where)
        count = rows.shape[1]
        names = joints.joints if isinstance(joints, Chain) else joints
        if isinstance(joints, Chain):
            joints.inside(rows, where)
        if not 0 < scale <= 1e6:
            raise VeldrainError(f"a scale of {scale}", where=where, cure="give one above 0, such as 0.5 for half speed")
        limits = [
            _limits(value, word, count, where) * scale**power
            for power, (word, value) in enumerate(
                (("speed", speed), ("acceleration", acceleration), ("jerk", jerk)), start=1
            )
        ]
        if isinstance(joints, Chain):
            for name, asked, most in zip(joints.joints, limits[0], joints.speeds, strict=True):
                if asked > most * (1 + 1e-9):
                    raise VeldrainError(
                        f"a speed of {asked:.4g}, beyond the {most:.4g} of joint '{name}'",
                        where=where,
                        cure="give no more, one for each joint if need be",
                    )
        if velocities is not None:
            given = _rows(velocities, where)
            if given.shape != rows.shape or blend:
                raise VeldrainError(
                    f"velocities of shape {given.shape}" if not blend else "velocities and blend",
                    where=where,
                    cure=f"give {rows.shape} numbers, one for each joint in each point" if not blend else "give one",
                )
            return cls(with_velocities(rows, given, limits), names)
        moves = np.abs(np.diff(rows, axis=0)).max(axis=1)
        if (moves == 0).any():
            k = int(np.argmin(moves))
            raise VeldrainError(
                f"points {k + 1} and {k + 2} are the same",
                where=where,
                cure="leave one out; to stay there, join two paths",
            )
        if blend < 0 or not math.isfinite(blend):
            raise VeldrainError(f"a blend of {blend}", where=where, cure="give 0 or more")
        if blend and len(rows) > 2:
            return cls(blended(rows, limits, blend), names)
        return cls(joined([straight_line(a, b, limits) for a, b in pairwise(rows)]), names)

    @classmethod
    def of(
        cls, times: ArrayLike, positions: ArrayLike, velocities: ArrayLike | None = None, joints: Sequence[str] = ()
    ) -> Self:
        """A trajectory through samples: cubics with the velocities given, or else with those of a smooth curve.

        Args:
            times: (n,) s, growing; the first becomes 0.
            positions: (n, joints).
            velocities: (n, joints). None: of the cubic spline that starts and ends at rest.
            joints: their names.
        """
        from scipy.interpolate import CubicSpline

        where, t = "trajectory", np.asarray(times, float)
        rows = _rows(positions, where)
        if t.shape != (len(rows),) or not np.isfinite(t).all():
            raise VeldrainError(f"{t.shape} times for {len(rows)} points", where=where, cure="give one for each")
        if (np.diff(t) <= 0).any():
            k = int(np.argmax(np.diff(t) <= 0))
            raise VeldrainError(
                f"points {k + 1} and {k + 2} are at {t[k]:g} s and {t[k + 1]:g} s", where=where, cure="let times grow"
            )
        t = t - t[0]
        if velocities is None:
            return cls(CubicSpline(t, rows, bc_type="clamped"), joints)
        return cls(hermite(t, rows, _rows(velocities, where)), joints)

    @classmethod
    def straight(
        cls,
        chain: Chain,
        poses: Sequence[Pose | Sequence[Quantity]],
        *,
        start: ArrayLike,
        speed: Quantity,
        turning: Quantity = "1 rad/s",
        acceleration: Quantity | None = None,
        free_axis: Sequence[float] | None = None,
        tolerance: tuple[Quantity, Quantity | None] = EXACTLY,
    ) -> Self:
        """Straight lines of the tool from where it starts through poses, at a speed; it comes to rest in each.

        Args:
            chain: whose tip is the tool.
            poses: of the tip in the chain's base; three lengths keep the direction as it is.
            start: joint positions (n,) at which it begins.
            speed: largest of the tool's tip, m/s.
            turning: largest angular speed of the tool, rad/s.
            acceleration: of the tool's tip, m/s². None: it takes 0.2 s to reach its speed.
            free_axis: an axis of the tip about which any turn will do.
            tolerance: how near the tool stays to the line (m) and to its direction (rad). None as the second: any
                direction, for arms of fewer than six joints.

        Raises:
            VeldrainError: a line leaves reach, would jump between branches, or asks a joint for more than its speed:
                says where, as a share of the line.
        """
        q0 = chain.inside(start)
        begin = chain.forward(q0)
        goals = [p if isinstance(p, Pose) else Pose(p, rotation=begin.rotation) for p in poses]
        if not goals:
            raise VeldrainError("an empty path", where="straight", cure="give one pose or more")
        stops = [begin, *goals]
        lines = [Line(a, b) for a, b in pairwise(stops)]
        return cls._of_tool(Follower(chain, free_axis, tolerance), lines, q0, speed, turning, acceleration)

    @classmethod
    def arc(
        cls,
        chain: Chain,
        via: Sequence[Quantity],
        end: Pose | Sequence[Quantity],
        *,
        start: ArrayLike,
        speed: Quantity,
        turning: Quantity = "1 rad/s",
        acceleration: Quantity | None = None,
        free_axis: Sequence[float] | None = None,
        tolerance: tuple[Quantity, Quantity | None] = EXACTLY,
    ) -> Self:
        """An arc of the tool from where it starts, through a point, to a pose; all else as of ``straight``.

        Raises:
            VeldrainError: as ``straight``; or the three points lie on a line.
        """
        q0 = chain.inside(start)
        begin = chain.forward(q0)
        goal = end if isinstance(end, Pose) else Pose(end, rotation=begin.rotation)
        line, follower = Arc(begin, Pose(via).position, goal), Follower(chain, free_axis, tolerance)
        return cls._of_tool(follower, [line], q0, speed, turning, acceleration)

    @classmethod
    def _of_tool(
        cls,
        follower: Follower,
        lines: Sequence[Line],
        q: Array,
        speed: Quantity,
        turning: Quantity,
        acceleration: Quantity | None,
    ) -> Self:
        from scipy.interpolate import PPoly

        v, w = quantity(speed, "speed", "straight: speed"), quantity(turning, "angular speed", "straight: turning")
        a = v / 0.2 if acceleration is None else quantity(acceleration, "acceleration", "straight: acceleration")
        for word, value in (("speed", v), ("turning", w), ("acceleration", a)):
            if not 0 < value < math.inf:
                raise VeldrainError(f"{word} is {value:g}", where="straight", cure="give one above zero")
        times, rows = [0.0], [q]
        for number, line in enumerate(lines, start=1):
            # One profile for both: the slower of moving and turning has it.
            top = min(v / line.length if line.length else math.inf, w / line.turn if line.turn else math.inf)
            if math.isinf(top):
                raise VeldrainError(
                    f"line {number} goes nowhere", where="straight", cure="leave the pose out where the tool is already"
                )
            grow = min(a / line.length if line.length else math.inf, w * a / v / line.turn if line.turn else math.inf)
            knots, c = polynomials(rest_to_rest(top, grow, math.inf))
            profile = PPoly(c, knots)
            count = max(8, math.ceil(knots[-1] / SAMPLE))
            steps, begun = np.linspace(0.0, knots[-1], count + 1)[1:], times[-1]
            for t, share in zip(steps, np.clip(profile(steps), 0.0, 1.0), strict=True):
                rows.append(follower.next_posture(line.at(float(share)), rows[-1], number, float(share), top))
                times.append(begun + float(t))
        path = cls.of(times, np.array(rows), joints=follower.chain.joints)
        path._check_speeds(follower.chain)
        return path

    def _check_speeds(self, chain: Chain) -> None:
        steps = np.linspace(0.0, self.duration, max(2, int(self.duration / SAMPLE)))
        over = np.abs(self._velocity(steps)) / chain.speeds
        if over.max() > 1.0 + 1e-6:
            t, k = np.unravel_index(int(over.argmax()), over.shape)
            asked = abs(float(self._velocity(steps[t])[k]))
            raise VeldrainError(
                f"at {100 * steps[t] / self.duration:.0f} % of the path joint '{chain.joints[k]}' would need "
                f"{asked:.3g} {'m/s' if chain.is_linear[k] else 'rad/s'}, and its limit is {chain.speeds[k]:.3g}",
                where="straight",
                cure="give a lower speed, or stay away from singular postures",
            )

    def at(self, time: float | Array) -> tuple[Array, Array, Array]:
        """Position, velocity and acceleration at a time (s): (joints,) each; (n, joints) for n times.

        Before the start and after the end it stands still.
        """
        if isinstance(time, float):
            found = np.empty((3, len(self.joints)))
            polynomials_at(self.knots, self._c, time, found)
            return found[0], found[1], found[2]
        t = np.clip(time, 0.0, self.duration)
        still = np.asarray((t != time) | (np.asarray(time) >= self.duration))[..., None]
        return (
            np.asarray(self._position(t)),
            np.where(still, 0.0, self._velocity(t)),
            np.where(still, 0.0, self._acceleration(t)),
        )

    def then(self, other: Trajectory) -> Trajectory:
        """This path and, where it ends, another one.

        Raises:
            VeldrainError: the other one starts somewhere else, or is of other joints.
        """
        if self.joints != other.joints:
            raise VeldrainError("paths of other joints", where="trajectory", cure="join paths of the same joints")
        gap = float(np.abs(self.at(self.duration)[0] - other.at(0.0)[0]).max())
        if gap > 1e-6:
            raise VeldrainError(f"a gap of {gap:.3g} between two paths", where="trajectory", cure="start at the end")
        return type(self)(joined([self._position, other._position]), self.joints)

    def extremes(self) -> pd.DataFrame:
        """The largest speed, acceleration and jerk of each joint, a row each."""
        import pandas as pd

        pieces = self._position
        found = {}
        for word, order in (("speed", 1), ("acceleration", 2), ("jerk", 3)):
            found[word] = largest(pieces.derivative(order)) if len(pieces.c) > order else np.zeros(len(self.joints))
        return pd.DataFrame(found, index=pd.Index(self.joints, name="joint"))

    def to_frame(self, period: Quantity = "10 ms") -> pd.DataFrame:
        """A row for each period and one for the end: time, and position, velocity and acceleration of each joint."""
        import pandas as pd

        times = self._times(period)
        columns: dict[str, Any] = {"time": times}
        for what, values in zip(("position", "velocity", "acceleration"), self.at(times), strict=True):
            columns |= {f"{joint}.{what}": values[:, k] for k, joint in enumerate(self.joints)}
        return pd.DataFrame(columns)

    def _times(self, period: Quantity) -> Array:
        step = quantity(period, "time", "trajectory: period")
        if not 0 < step < math.inf:
            raise VeldrainError(f"a period of {step:g} s", where="trajectory", cure="give one above zero")
        times = np.arange(math.floor(self.duration / step + 1e-9) + 1) * step
        return np.asarray(times if self.duration - times[-1] < 1e-9 else np.append(times, self.duration))

    def message(self, period: Quantity = "10 ms") -> Message:
        """It as a trajectory_msgs/JointTrajectory, sampled."""
        times = self._times(period)
        rows = self.at(times)
        stamp = Fields(sec=0, nanosec=0)
        points = [
            Fields(
                positions=q,
                velocities=v,
                accelerations=a,
                effort=np.zeros(0),
                time_from_start=Fields(sec=int(round(t * 1e9) // 10**9), nanosec=int(round(t * 1e9) % 10**9)),
            )
            for t, q, v, a in zip(times, *rows, strict=True)
        ]
        return Message(
            JOINT_TRAJECTORY,
            Fields(header=Fields(stamp=stamp, frame_id=""), joint_names=list(self.joints), points=points),
        )

    @classmethod
    def of_message(cls, message: Any) -> Self:
        """The trajectory of a trajectory_msgs/JointTrajectory: any object with its fields.

        Raises:
            VeldrainError: fewer than two points, or points without positions.
        """
        points = list(message.points)
        times = [p.time_from_start.sec + p.time_from_start.nanosec * 1e-9 for p in points]
        rows = [np.asarray(p.positions, float) for p in points]
        count = len(message.joint_names)
        if len(points) < 2 or any(len(row) != count for row in rows):
            raise VeldrainError(
                f"a JointTrajectory of {len(points)} points", where="trajectory", cure="give two or more with positions"
            )
        rates = [np.asarray(p.velocities, float) for p in points]
        given = np.array(rates) if all(len(row) == count for row in rates) else None
        return cls.of(times, np.array(rows), given, joints=list(message.joint_names))

    def __repr__(self) -> str:
        return f"Trajectory({self.duration:.4g} s: {', '.join(self.joints)})"


def _rows(points: ArrayLike, where: str) -> Array:
    try:
        rows = np.asarray(points, float)
    except (TypeError, ValueError) as error:
        raise VeldrainError("points are no numbers", where=where, cure="give (n, joints) numbers, SI units") from error
    if rows.ndim != 2 or len(rows) < 2 or rows.shape[1] < 1:
        raise VeldrainError(f"points of shape {rows.shape}", where=where, cure="give two points or more: (n, joints)")
    if not np.isfinite(rows).all():
        k = int(np.argmin(np.isfinite(rows).all(axis=1)))
        raise VeldrainError(f"point {k + 1} is not finite", where=where, cure="look at where it comes from")
    return rows


def _limits(value: ArrayLike | str | None, word: str, count: int, where: str) -> Array:
    """Limits (joints,), all above zero; None: none."""
    if value is None:
        return np.full(count, np.inf)
    kinds = {"speed": ("angular speed", "speed"), "acceleration": ("angular acceleration", "acceleration")}
    if isinstance(value, str):
        for kind in kinds.get(word, ("angular jerk", "jerk")):
            try:
                value = quantity(value, kind, f"{where}: {word}")
                break
            except VeldrainError as error:
                told = error
        else:
            raise told
    row = np.broadcast_to(np.asarray(value, float), (count,)) if np.size(value) in (1, count) else np.zeros(0)
    if row.shape != (count,) or not (row > 0).all():
        raise VeldrainError(
            f"limits of {word} are {value}", where=where, cure=f"give one above zero, or {count}, one for each joint"
        )
    return np.array(row)
