"""Drives on wheels: which wheel speeds make a robot move in some way, and how it moves at some wheel speeds.

Every drive but a car's is linear: wheel speeds s (rad/s) = A·(forward, sideways, turning), and the motion of given
wheel speeds is the least squares answer. Turning is positive to the left; x is forward, y to the left.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.pose import Array

Twist = tuple[float, float, float]


class WheelMixer:
    """A linear drive.

    Args:
        joints: names of the wheels' joints.
        matrix: A (wheels, 3): rad/s of each wheel for 1 m/s forward, 1 m/s sideways, 1 rad/s turning.
    """

    def __init__(self, joints: Sequence[str], matrix: Array) -> None:
        self.joints, self.matrix = tuple(joints), matrix
        self._back = np.linalg.pinv(matrix)
        self._rows: list[tuple[float, float, float]] = [(x, y, w) for x, y, w in matrix.tolist()]

    def speeds(self, forward: float, sideways: float, turning: float) -> list[float]:
        """Wheel speeds in the order of the joints, rad/s; so few are quicker as plain numbers."""
        return [x * forward + y * sideways + w * turning for x, y, w in self._rows]

    def wheels(self, forward: float, sideways: float, turning: float) -> dict[str, float]:
        """Wheel speeds by joint, rad/s."""
        return dict(zip(self.joints, self.speeds(forward, sideways, turning), strict=True))

    def twist(self, speeds: Mapping[str, float]) -> Twist:
        """Forward and sideways speed (m/s) and turning (rad/s) at wheel speeds by joint (rad/s)."""
        x, y, w = self._back @ [speeds[joint] for joint in self.joints]
        return float(x), float(y), float(w)


def side_by_side(left: Sequence[str], right: Sequence[str], radius: float, track: float) -> WheelMixer:
    """Wheels on both sides that only roll forward: v = (r/2)(ω_R + ω_L), ω = (r/b)(ω_R − ω_L) of the track b."""
    rows = [(1.0, 0.0, -track / 2)] * len(left) + [(1.0, 0.0, track / 2)] * len(right)
    return WheelMixer((*left, *right), np.array(rows) / radius)


def omni(wheels: Sequence[str], radius: float, track: float, wheelbase: float) -> WheelMixer:
    """Four wheels with rollers at 45 degrees (front left, front right, rear left, rear right).

    ω = (v_x ∓ v_y ∓ (l_x + l_y)·ω_z)/r (H. Taheri, B. Qiao, N. Ghaeminezhad, "Kinematic model of a four mecanum wheeled
    mobile robot", Int. J. of Computer Applications 113(3), 2015), with the rollers as they are seen from above: those
    of the wheels on one diagonal point to the middle.
    """
    reach = (track + wheelbase) / 2
    rows = [(1, -1, -reach), (1, 1, reach), (1, 1, -reach), (1, -1, reach)]
    return WheelMixer(wheels, np.array(rows) / radius)


class CarSteering:
    """Wheels that steer so that all roll around one centre (R. Ackermann's condition: cot δ_o − cot δ_i = b/l).

    Args:
        wheelbase: from the rear axle to the front one, m.
        track: between the two wheels of an axle, m.
    """

    def __init__(self, wheelbase: float, track: float) -> None:
        self.wheelbase, self.track = wheelbase, track

    def angles(self, steering: float) -> tuple[float, float]:
        """Angles of the left and right front wheel (rad) for that of a wheel in the middle."""
        t = math.tan(steering)
        left = math.atan2(t, 1.0 - t * self.track / (2 * self.wheelbase))
        right = math.atan2(t, 1.0 + t * self.track / (2 * self.wheelbase))
        return left, right

    def steering(self, forward: float, turning: float) -> float:
        """Angle of a wheel in the middle that turns so fast at that speed, rad; 0 at rest."""
        if forward == 0.0:
            return 0.0
        return math.atan(self.wheelbase * turning / forward)

    def turning(self, forward: float, steering: float) -> float:
        """Turning (rad/s) of a car at a speed and a steering angle: v·tan(δ)/l."""
        return forward * math.tan(steering) / self.wheelbase

    def shares(self, steering: float) -> tuple[float, float, float, float]:
        """Speeds of the wheels (front left and right, rear left and right) for 1 m/s of the middle of the rear axle."""
        curve = math.tan(steering) / self.wheelbase
        rear = 1.0 - curve * self.track / 2, 1.0 + curve * self.track / 2
        front = tuple(math.hypot(side, curve * self.wheelbase) for side in rear)
        return front[0], front[1], *rear


class Odometry:
    """Dead reckoning: position and heading from the motion of a drive, and how they become uncertain.

    Motion over a time is an arc of a circle. Each wheel's way has a variance that grows with it, slip²·|way|·(1 m), as
    in R. Siegwart, I. R. Nourbakhsh, "Introduction to Autonomous Mobile Robots", 2004, section 5.2.4, and is carried
    on by the Jacobian of the arc. What stays the same all along, a share of each wheel's way and of the track, is
    carried on as a Jacobian of its own: such errors add up, where those of single ways cancel.

    Args:
        ways: (wheels, 3): way of each wheel's rim for 1 m forward, 1 m sideways and 1 rad of turning, m.
        slip: standard deviation of a wheel's way over its first metre, m.
        count: what one count of the encoders is on the ground, m; 0: none.
        lasting: standard deviation of the share of its way by which each wheel is off all along.
        track: that of the turning.
    """

    def __init__(self, ways: Array, slip: float, count: float = 0.0, lasting: float = 0.0, track: float = 0.0) -> None:
        self._ways, self._slip, self._count = ways, slip, count
        self._back = np.linalg.pinv(ways)
        self._lasting = np.array([lasting**2] * len(ways) + [track**2])
        self._drifted: Array = np.zeros((3, len(ways) + 1))  # of the pose, by what stays the same all along
        self._random: Array = np.zeros((3, 3))
        self.x = self.y = self.yaw = 0.0
        self.twist: Twist = (0.0, 0.0, 0.0)
        self.covariance: Array = np.zeros((3, 3))
        self.twist_covariance: Array = np.zeros((3, 3))

    def go(self, forward: float, sideways: float, turn: float, time: float) -> None:
        """Go on by a way (m, m, rad) in the robot's axes that took a time (s)."""
        half = 0.5 * turn
        # A chord is shorter than its arc by sin(half)/half.
        chord = math.sin(half) / half if abs(half) > 1e-9 else 1.0
        c, s = math.cos(self.yaw + half) * chord, math.sin(self.yaw + half) * chord
        dx, dy = c * forward - s * sideways, s * forward + c * sideways
        F = np.array(((1.0, 0.0, -dy), (0.0, 1.0, dx), (0.0, 0.0, 1.0)))
        G = np.array(((c, -s, -0.5 * dy), (s, c, 0.5 * dx), (0.0, 0.0, 1.0)))
        rolled = self._ways @ (forward, sideways, turn)
        back = self._back
        slipped = (back * (self._slip**2 * np.abs(rolled))) @ back.T
        shares = np.column_stack([back * rolled, (0.0, 0.0, -turn)])
        self._random = F @ self._random @ F.T + G @ slipped @ G.T
        self._drifted = F @ self._drifted + G @ shares
        self.covariance = self._random + (self._drifted * self._lasting) @ self._drifted.T
        self.x, self.y, self.yaw = self.x + dx, self.y + dy, self.yaw + turn
        if time > 0:
            self.twist = forward / time, sideways / time, turn / time
            counted = self._count**2 / 6.0 * (back @ back.T)
            self.twist_covariance = (slipped + (shares * self._lasting) @ shares.T + counted) / time**2


def checked_wheels(joints: Sequence[str], where: str) -> None:
    """Refuse a drive without wheels, or with one twice."""
    if not joints or len(set(joints)) != len(joints):
        raise VeldrainError(f"wheels are {', '.join(joints) or 'none'}", where=where, cure="name each joint once")
