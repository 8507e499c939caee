"""Where a robot on the ground is, by an extended Kalman filter over its wheels, its gyro and satellite fixes.

State: x, y, yaw, the gyro's bias (without a gyro the share by which the wheels' turning is off), the share by which its
wheels are larger than told, and the slow error of the fixes (east, north), a first-order Gauss-Markov process.
(Y. Bar-Shalom, X. R. Li, T. Kirubarajan, "Estimation with Applications to Tracking and Navigation", Wiley 2001,
chapters 5, 8 and 10.)
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from veldrain.pose import Array

X, Y, YAW, BIAS, SCALE, EAST, NORTH = range(7)


class Errors(NamedTuple):
    """What data sheets say of the errors of wheels, gyro and fixes, SI units, each a standard deviation."""

    start: tuple[float, float, float] = (0.0, 0.0, 0.0)  # of x, y and yaw
    slip: float = 0.02  # of a way, over its first metre, m
    radius: float = 0.0  # share of the wheels' radius
    gyro: float = 0.0  # of a sample, rad/s
    gyro_period: float = 0.01  # between two samples, s
    bias: float = 0.0  # of the gyro at the start, rad/s; without a gyro the share of the wheels' turning
    walk: float = 0.0  # of its bias, rad/s/√s
    fix: float = 1.0  # of a fix, east and north, m
    drift: float = 0.0  # of the slow error of fixes, m
    correlation_time: float = 120.0  # of that, s


class PoseFilter:
    """Estimates a pose on the ground.

    Args:
        start: x, y (m) and yaw (rad).
        errors: of all that it is told.

    Attributes:
        state: (7,) as above.
        covariance: (7, 7).

    >>> f = PoseFilter((0.0, 0.0, 0.0), Errors()); f.go(1.0, 0.0, 0.5); round(float(f.state[0]), 3)
    0.5
    """

    def __init__(self, start: tuple[float, float, float], errors: Errors) -> None:
        self.errors = errors
        self.state: Array = np.array((*start, 0.0, 0.0, 0.0, 0.0))
        e = errors
        self.covariance: Array = np.diag(np.square((*e.start, e.bias, e.radius, e.drift, e.drift)))

    def go(self, speed: float, rate: float, time: float, has_gyro: bool = True, turn_variance: float = 0.0) -> None:
        """Go on for a time (s) by what the wheels say of the speed (m/s) and the gyro of the yaw rate (rad/s).

        Args:
            speed, rate: measured.
            time: since the last.
            has_gyro: False: the rate comes from the wheels, with ``turn_variance`` (rad²) over this time.
        """
        e, s = self.errors, self.state
        way = speed * time * (1.0 + s[SCALE])
        off = time if has_gyro else rate * time  # what the bias turns it by
        turn = rate * time - s[BIAS] * off
        half = s[YAW] + 0.5 * turn
        c, n = math.cos(half), math.sin(half)
        F = np.eye(7)
        F[X, YAW], F[Y, YAW] = -way * n, way * c
        F[X, SCALE], F[Y, SCALE] = speed * time * c, speed * time * n
        F[X, BIAS], F[Y, BIAS], F[YAW, BIAS] = 0.5 * off * way * n, -0.5 * off * way * c, -off
        keeps = math.exp(-time / e.correlation_time)
        F[EAST, EAST] = F[NORTH, NORTH] = keeps
        turned = e.gyro**2 * time * e.gyro_period if has_gyro else turn_variance
        along, across = np.array((c, n, 0.0)), np.array((-0.5 * way * n, 0.5 * way * c, 1.0))
        Q = np.zeros((7, 7))
        Q[:3, :3] = e.slip**2 * abs(way) * np.outer(along, along) + turned * np.outer(across, across)
        Q[BIAS, BIAS] = e.walk**2 * time
        Q[EAST, EAST] = Q[NORTH, NORTH] = e.drift**2 * (1.0 - keeps**2)
        s[X], s[Y], s[YAW] = s[X] + way * c, s[Y] + way * n, s[YAW] + turn
        s[EAST], s[NORTH] = keeps * s[EAST], keeps * s[NORTH]
        self.covariance = F @ self.covariance @ F.T + Q

    def see(self, fix: Array, arm: tuple[float, float] = (0.0, 0.0)) -> float:
        """Take a fix (2,), m, of an antenna at a place (m) in the robot's axes; gives its squared normalised surprise.

        That is νᵀ·S⁻¹·ν with the difference ν from what was expected and its covariance S: 2 on average.
        """
        s, (a, b) = self.state, arm
        c, n = math.cos(s[YAW]), math.sin(s[YAW])
        H = np.zeros((2, 7))
        H[0, X] = H[1, Y] = H[0, EAST] = H[1, NORTH] = 1.0
        H[0, YAW], H[1, YAW] = -n * a - c * b, c * a - n * b
        found = np.array((s[X] + c * a - n * b + s[EAST], s[Y] + n * a + c * b + s[NORTH]))
        off = np.asarray(fix, float)[:2] - found
        S = H @ self.covariance @ H.T + self.errors.fix**2 * np.eye(2)
        gain = np.linalg.solve(S, H @ self.covariance).T
        self.state = s + gain @ off
        rest = np.eye(7) - gain @ H
        # Joseph's form stays symmetric and positive.
        self.covariance = rest @ self.covariance @ rest.T + self.errors.fix**2 * gain @ gain.T
        return float(off @ np.linalg.solve(S, off))
