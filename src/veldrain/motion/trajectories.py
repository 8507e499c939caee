"""Trajectories: where joints are at every time, how fast they move, and under which limits."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, Any, Self

import numpy as np
from numpy.typing import ArrayLike
from scipy.interpolate import CubicHermiteSpline, PPoly
from scipy.spatial.transform import Rotation, Slerp

from veldrain.errors import VeldrainError
from veldrain.model import Fields, Message
from veldrain.motion.chains import Chain
from veldrain.motion.profiles import change_pieces, change_time, polynomials, rest_to_rest
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

JOINT_TRAJECTORY = "trajectory_msgs/msg/JointTrajectory"
SAMPLE = 0.005  # s between the points of a tool's line at which joint positions are solved for
JUMP = 4.0  # times the joint speed that the line asks for: a larger step is to another branch


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
            VeldrainError: fewer than two points, two alike in a row, numbers that are none, limits not above zero.
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
        if velocities is not None:
            given = _rows(velocities, where)
            if given.shape != rows.shape or blend:
                raise VeldrainError(
                    f"velocities of shape {given.shape}" if not blend else "velocities and blend",
                    where=where,
                    cure=f"give {rows.shape} numbers, one for each joint in each point" if not blend else "give one",
                )
            return cls(_with_velocities(rows, given, limits), names)
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
            return cls(_blended(rows, limits, blend), names)
        return cls(_joined([_line(a, b, limits) for a, b in pairwise(rows)]), names)

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
        return cls(_hermite(t, rows, _rows(velocities, where)), joints)

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
        lines = [_Line(a, b) for a, b in pairwise(stops)]
        return cls._of_tool(chain, lines, q0, speed, turning, acceleration, free_axis)

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
    ) -> Self:
        """An arc of the tool from where it starts, through a point, to a pose; all else as of ``straight``.

        Raises:
            VeldrainError: as ``straight``; or the three points lie on a line.
        """
        q0 = chain.inside(start)
        begin = chain.forward(q0)
        goal = end if isinstance(end, Pose) else Pose(end, rotation=begin.rotation)
        return cls._of_tool(chain, [_Arc(begin, Pose(via).position, goal)], q0, speed, turning, acceleration, free_axis)

    @classmethod
    def _of_tool(
        cls,
        chain: Chain,
        lines: Sequence[_Line],
        q: Array,
        speed: Quantity,
        turning: Quantity,
        acceleration: Quantity | None,
        free_axis: Sequence[float] | None,
    ) -> Self:
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
                rows.append(_next(chain, line.at(float(share)), rows[-1], free_axis, number, float(share), top))
                times.append(begun + float(t))
        path = cls.of(times, np.array(rows), joints=chain.joints)
        path._check_speeds(chain)
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
        return type(self)(_joined([self._position, other._position]), self.joints)

    def extremes(self) -> pd.DataFrame:
        """The largest speed, acceleration and jerk of each joint, a row each."""
        import pandas as pd

        pieces = self._position
        found = {}
        for word, order in (("speed", 1), ("acceleration", 2), ("jerk", 3)):
            found[word] = _largest(pieces.derivative(order)) if len(pieces.c) > order else np.zeros(len(self.joints))
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


class _Line:
    """A straight line of a tool: share 0 to 1."""

    def __init__(self, a: Pose, b: Pose) -> None:
        self._a, self._way = a.position, b.position - a.position
        self.length = float(np.linalg.norm(self._way))
        self.turn = float((a.rotation.inv() * b.rotation).magnitude())
        self._turns = Slerp([0.0, 1.0], Rotation.concatenate([a.rotation, b.rotation]))

    def at(self, share: float) -> Pose:
        return Pose(self._point(share), rotation=self._turns(share))

    def _point(self, share: float) -> Array:
        return np.asarray(self._a + share * self._way)


class _Arc(_Line):
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


def _next(
    chain: Chain, pose: Pose, q: Array, free_axis: Sequence[float] | None, line: int, share: float, top: float
) -> Array:
    """Joint positions at the next pose of a tool's line, near those of the one before."""
    found = chain.inverse(pose, start=q, free_axis=free_axis, starts=1, tolerance=("1 um", "1e-4 deg"))
    at = f"at {100 * share:.0f} % of line {line}"
    if not found.reached:
        # From where it is, it does not go on: is there another way to have this pose?
        other = chain.inverse(pose, start=q, free_axis=free_axis)
        if not other.reached:
            raise VeldrainError(
                f"the tool leaves reach {at}: {other.why}", where="straight", cure="move the line, or turn the tool"
            )
        moved = int(np.argmax(np.abs(other.q - q)))
        raise VeldrainError(
            f"{at} the arm would jump to another branch: {chain.joints[moved]} by "
            f"{chain.model.joints[chain.joints[moved]].told(float(other.q[moved] - q[moved]))}",
            where="straight",
            cure="start in another posture, or go round by more poses",
        )
    step = float(np.abs(found.q - q).max())
    if step > JUMP * max(SAMPLE * top * math.pi, 0.05):
        moved = int(np.argmax(np.abs(found.q - q)))
        raise VeldrainError(
            f"{at} the arm would jump to another branch: {chain.joints[moved]} by "
            f"{chain.model.joints[chain.joints[moved]].told(float(found.q[moved] - q[moved]))}",
            where="straight",
            cure="stay away from singular postures, or start in another one",
        )
    return found.q


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


def _line(a: Array, b: Array, limits: Sequence[Array]) -> PPoly:
    """The fastest straight line of the joints between two points, from rest to rest."""
    way = np.abs(b - a)
    moves = way > 0
    speed, accel, jerk = (float((limit[moves] / way[moves]).min()) for limit in limits)
    knots, c = polynomials(rest_to_rest(speed, accel, jerk))
    c = c[:, :, None] * (b - a)
    c[-1] += a
    return PPoly(c, knots)


def _joined(parts: Sequence[PPoly]) -> PPoly:
    degree = max(len(part.c) for part in parts)
    c = np.concatenate([np.pad(p.c, ((degree - len(p.c), 0), (0, 0), (0, 0))) for p in parts], axis=1)
    knots = [np.zeros(1)]
    for part in parts:
        knots.append(knots[-1][-1] + part.x[1:])
    return PPoly(c, np.concatenate(knots))


def _hermite(times: Array, rows: Array, velocities: Array) -> PPoly:
    if velocities.shape != rows.shape:
        raise VeldrainError(
            f"velocities of shape {velocities.shape} for points of {rows.shape}",
            where="trajectory",
            cure="give as many",
        )
    return CubicHermiteSpline(times, rows, velocities)


def _with_velocities(rows: Array, velocities: Array, limits: Sequence[Array]) -> PPoly:
    """Cubics or, under a limit of jerk, quintics through points with velocities, each as short as the limits allow."""
    speed, accel, jerk = limits
    if (np.abs(velocities) > speed * (1 + 1e-12)).any():
        point, joint = np.argwhere(np.abs(velocities) > speed * (1 + 1e-12))[0]
        raise VeldrainError(
            f"the velocity in point {point + 1} is above the limit of speed of joint {joint + 1}",
            where="trajectory",
            cure="give a lower one",
        )
    smooth = bool(np.isfinite(jerk).any())
    parts = []
    for k in range(len(rows) - 1):
        ends = rows[k], velocities[k], rows[k + 1], velocities[k + 1]
        if not np.any(rows[k] != rows[k + 1]) and not np.any(velocities[k : k + 2]):
            raise VeldrainError(f"points {k + 1} and {k + 2} are the same", where="trajectory", cure="leave one out")

        def fits(T: float, ends: tuple[Array, Array, Array, Array] = ends) -> bool:
            part = _between(*ends, T, smooth)
            return all(
                (_largest(part.derivative(order)) <= limit * (1 + 1e-12)).all()
                for order, limit in ((1, speed), (2, accel), (3, jerk))
                if np.isfinite(limit).any()
            )

        high = 1e-3
        while not fits(high):
            high *= 2.0
            if high > 1e6:
                raise VeldrainError(
                    f"no time is long enough from point {k + 1} to {k + 2} with these velocities",
                    where="trajectory",
                    cure="give velocities that lead from the one to the other",
                )
        low = high / 2.0 if high > 1e-3 else 0.0
        while high - low > 1e-12 * high:
            middle = 0.5 * (low + high)
            low, high = (low, middle) if fits(middle) else (middle, high)
        parts.append(_between(*ends, high, smooth))
    return _joined(parts)


def _between(a: Array, va: Array, b: Array, vb: Array, T: float, smooth: bool) -> PPoly:
    """The cubic with given ends, or the quintic without acceleration at them, over a time T."""
    d = b - a
    if smooth:
        c = [
            (6 * d - 3 * (va + vb) * T) / T**5,
            (-15 * d + (8 * va + 7 * vb) * T) / T**4,
            (10 * d - (6 * va + 4 * vb) * T) / T**3,
            np.zeros_like(a),
            va,
            a,
        ]
    else:
        c = [(-2 * d + (va + vb) * T) / T**3, (3 * d - (2 * va + vb) * T) / T**2, va, a]
    return PPoly(np.array(c)[:, None, :], np.array((0.0, T)))


def _largest(poly: PPoly) -> Array:
    """The largest absolute value (joints,) of polynomials: at their ends, or where their derivative is 0."""
    best = np.zeros(poly.c.shape[2])
    for k, T in enumerate(np.diff(poly.x)):
        for j in range(len(best)):
            c = poly.c[:, k, j]
            turns = np.roots(np.polyder(c)) if len(c) > 1 else np.zeros(0)
            inner = [t.real for t in turns if abs(t.imag) < 1e-9 * max(T, 1) and 0 < t.real < T]
            best[j] = max(best[j], np.abs(np.polyval(c, [0.0, T, *inner])).max())
    return best


def _blended(rows: Array, limits: Sequence[Array], blend: float) -> PPoly:
    """Straight lines at constant velocity with their corners cut: each corner is a change of velocity in step.

    A corner of duration T between velocities u and v is left by at most |v − u|·T/8 of each joint.
    """
    speed, accel, jerk = limits
    ways = np.diff(rows, axis=0)
    times = (np.abs(ways) / speed).max(axis=1)
    for _ in range(10000):
        v = np.concatenate([np.zeros((1, rows.shape[1])), ways / times[:, None], np.zeros((1, rows.shape[1]))])
        change = np.abs(np.diff(v, axis=0))
        last = [_corner(change[k], accel, jerk) for k in range(len(change))]
        cut = (change.max(axis=1) * last / 8.0)[1:-1]
        need = 0.5 * (np.array(last[:-1]) + np.array(last[1:]))  # half of both changes is within a line
        slow = np.maximum(1.0, need / times)
        for k, much in enumerate(cut):
            if much > blend:
                grow = (much / blend) ** 0.25
                slow[k], slow[k + 1] = max(slow[k], grow), max(slow[k + 1], grow)
        if (slow <= 1.0 + 1e-9).all():
            break
        times = times * np.minimum(slow, 1.5)
    pieces: list[tuple[float, Array, Array]] = []  # duration, acceleration, jerk of all joints
    for k in range(len(change)):
        step = v[k + 1] - v[k]
        if change[k].any():
            unit = change_pieces(*_in_step(change[k], accel, jerk), 1.0)
            pieces += [(t, push * step, steep * step) for t, push, steep in unit]
        if k < len(times):
            even = times[k] - 0.5 * (last[k] + last[k + 1])
            if even > 1e-12:
                pieces.append((even, np.zeros_like(step), np.zeros_like(step)))
    knots, columns = [0.0], []
    q: Array = rows[0].copy()
    u: Array = np.zeros(rows.shape[1])
    for time, a, j in pieces:
        columns.append((j / 6.0, a / 2.0, u, q))
        q = q + time * (u + time * (a / 2.0 + time * j / 6.0))
        u = u + time * (a + time * j / 2.0)
        knots.append(knots[-1] + time)
    return PPoly(np.array(columns).transpose(1, 0, 2), np.array(knots))


def _in_step(change: Array, accel: Array, jerk: Array) -> tuple[float, float]:
    """Limits of a change of velocity of 1 that all joints share."""
    moves = change > 1e-12 * change.max()
    return float((accel[moves] / change[moves]).min()), float((jerk[moves] / change[moves]).min())


def _corner(change: Array, accel: Array, jerk: Array) -> float:
    return change_time(*_in_step(change, accel, jerk))[0] if change.any() else 0.0
