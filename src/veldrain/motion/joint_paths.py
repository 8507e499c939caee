"""Polynomials of joint paths: straight lines, cubics and quintics through points, rounded corners."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.kernel import entry
from veldrain.motion.profiles import change_pieces, change_time, polynomials, rest_to_rest
from veldrain.pose import Array

if TYPE_CHECKING:
    from scipy.interpolate import PPoly


@entry
def polynomials_at(knots, c, time, out):
    """Fill ``out`` (3, joints) with position, velocity and acceleration at a time, by Horner's scheme.

    c (degree + 1, pieces, joints): highest power first, from each piece's start. It stands still before the first and
    from the last of the knots (pieces + 1,) on.
    """
    end = knots[len(knots) - 1]
    t, piece = min(max(time, 0.0), end), 0
    for k in range(len(knots) - 1):
        if knots[k] <= t:
            piece = k
    ahead, still = t - knots[piece], t != time or time >= end
    for j in range(c.shape[2]):
        position = velocity = half = 0.0
        for k in range(c.shape[0]):
            half = half * ahead + velocity
            velocity = velocity * ahead + position
            position = position * ahead + c[k, piece, j]
        out[0, j], out[1, j], out[2, j] = position, 0.0 if still else velocity, 0.0 if still else 2.0 * half


def straight_line(a: Array, b: Array, limits: Sequence[Array]) -> PPoly:
    """The fastest straight line of the joints between two points, from rest to rest."""
    from scipy.interpolate import PPoly

    way = np.abs(b - a)
    moves = way > 0
    speed, accel, jerk = (float((limit[moves] / way[moves]).min()) for limit in limits)
    knots, c = polynomials(rest_to_rest(speed, accel, jerk))
    c = c[:, :, None] * (b - a)
    c[-1] += a
    return PPoly(c, knots)


def joined(parts: Sequence[PPoly]) -> PPoly:
    from scipy.interpolate import PPoly

    degree = max(len(part.c) for part in parts)
    c = np.concatenate([np.pad(p.c, ((degree - len(p.c), 0), (0, 0), (0, 0))) for p in parts], axis=1)
    knots = [np.zeros(1)]
    for part in parts:
        knots.append(knots[-1][-1] + part.x[1:])
    return PPoly(c, np.concatenate(knots))


def hermite(times: Array, rows: Array, velocities: Array) -> PPoly:
    from scipy.interpolate import CubicHermiteSpline

    if velocities.shape != rows.shape:
        raise VeldrainError(
            f"velocities of shape {velocities.shape} for points of {rows.shape}",
            where="trajectory",
            cure="give as many",
        )
    return CubicHermiteSpline(times, rows, velocities)


def with_velocities(rows: Array, velocities: Array, limits: Sequence[Array]) -> PPoly:
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
                (largest(part.derivative(order)) <= limit * (1 + 1e-12)).all()
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
    return joined(parts)


def _between(a: Array, va: Array, b: Array, vb: Array, T: float, smooth: bool) -> PPoly:
    """The cubic with given ends, or the quintic without acceleration at them, over a time T."""
    from scipy.interpolate import PPoly

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


def largest(poly: PPoly) -> Array:
    """The largest absolute value (joints,) of polynomials: at their ends, or where their derivative is 0."""
    best = np.zeros(poly.c.shape[2])
    for k, T in enumerate(np.diff(poly.x)):
        for j in range(len(best)):
            c = poly.c[:, k, j]
            turns = np.roots(np.polyder(c)) if len(c) > 1 else np.zeros(0)
            inner = [t.real for t in turns if abs(t.imag) < 1e-9 * max(T, 1) and 0 < t.real < T]
            best[j] = max(best[j], np.abs(np.polyval(c, [0.0, T, *inner])).max())
    return best


def blended(rows: Array, limits: Sequence[Array], blend: float) -> PPoly:
    """Straight lines at constant velocity with their corners cut: each corner is a change of velocity in step.

    A corner of duration T between velocities u and v is left by at most |v − u|·T/8 of each joint.
    """
    from scipy.interpolate import PPoly

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
