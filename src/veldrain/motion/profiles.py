"""Profiles of a move from rest to rest, or from one velocity to another, under limits: each as pieces of polynomials.

A trapezoid of velocity under limits of speed V and acceleration A; with a limit of jerk J, an S-curve, whose
acceleration is a trapezoid itself (L. Biagiotti, C. Melchiorri, "Trajectory Planning for Automatic Machines and
Robots", 2008, sections 3.2 and 3.4). Distances are 1, so that all joints of a move can share a profile.
"""

from __future__ import annotations

import math

import numpy as np

from veldrain.pose import Array


def change_time(accel: float, jerk: float) -> tuple[float, float]:
    """Duration of a change of velocity by 1, and the part of it in which the acceleration grows."""
    if math.isinf(jerk):
        return 1.0 / accel, 0.0
    if accel * accel >= jerk:  # the largest acceleration is not needed
        grows = 1.0 / math.sqrt(jerk)
        return 2.0 * grows, grows
    return 1.0 / accel + accel / jerk, accel / jerk


def change_pieces(accel: float, jerk: float, size: float) -> list[tuple[float, float, float]]:
    """A change of velocity by ``size``: duration, acceleration at the start and jerk of each of its pieces."""
    whole, grows = change_time(accel / size, jerk / size)
    top = size / (whole - grows)  # the mean acceleration of a trapezoid
    if grows == 0.0:
        return [(whole, top, 0.0)]
    steep, even = top / grows, whole - 2.0 * grows
    pieces = [(grows, 0.0, steep), (even, top, 0.0), (grows, top, -steep)]
    return [piece for piece in pieces if piece[0] > 1e-15 * whole]


def rest_to_rest(speed: float, accel: float, jerk: float) -> list[tuple[float, float, float]]:
    """The fastest move by 1 from rest to rest: duration, acceleration at the start and jerk of each piece."""
    top = speed
    # A change of velocity to v takes v·T(v)/2 of the way, T its duration, and as much again to come to rest.
    if _ramp_time(top, accel, jerk) * top > 1.0:
        top = _peak(accel, jerk)
    up = change_pieces(accel, jerk, top)
    even = 1.0 / top - sum(piece[0] for piece in up)
    coast = [(even, 0.0, 0.0)] if even > 1e-15 * max(1.0, 1.0 / top) else []
    return [*up, *coast, *((t, -a, -j) for t, a, j in up)]


def _ramp_time(top: float, accel: float, jerk: float) -> float:
    return change_time(accel / top, jerk / top)[0]


def _peak(accel: float, jerk: float) -> float:
    """The velocity v that just fits: v·T(v) = 1."""
    if math.isinf(jerk):
        return math.sqrt(accel)
    # With the largest acceleration T = v/A + A/J, without it T = 2·√(v/J).
    with_it = 0.5 * (-accel * accel / jerk + math.sqrt((accel * accel / jerk) ** 2 + 4.0 * accel))
    return with_it if with_it * jerk >= accel * accel else (jerk / 4.0) ** (1.0 / 3.0)


def polynomials(pieces: list[tuple[float, float, float]]) -> tuple[Array, Array]:
    """Times (k + 1,) and coefficients (4, k), highest power first, of the way that pieces give from rest at 0."""
    times, columns = [0.0], []
    s = v = 0.0
    for duration, accel, jerk in pieces:
        columns.append((jerk / 6.0, accel / 2.0, v, s))
        s += duration * (v + duration * (accel / 2.0 + duration * jerk / 6.0))
        v += duration * (accel + duration * jerk / 2.0)
        times.append(times[-1] + duration)
    return np.array(times), np.array(columns).T
