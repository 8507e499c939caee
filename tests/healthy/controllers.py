"""Controllers of the healthy things."""

from __future__ import annotations

import math
from typing import Any


class Hold:
    """Tells motors a velocity each and keeps to it."""

    period = 0.02

    def __init__(self, **velocities: float) -> None:
        self.velocities = velocities

    def update(self, now: float, senses: Any, motors: Any) -> None:
        for joint, velocity in self.velocities.items():
            motors[joint].velocity = velocity


class Sway:
    """Moves joints to and fro about where they are told to be (rad or m), slowly."""

    period = 0.02

    def __init__(self, by: float, pace: float = 1.0, **about: float) -> None:
        self.by, self.pace, self.about = by, pace, about

    def update(self, now: float, senses: Any, motors: Any) -> None:
        for joint, middle in self.about.items():
            motors[joint].position = middle + self.by * math.sin(self.pace * now)


class Balance:
    """Keeps a body on two wheels upright."""

    period = 0.005

    def __init__(self, tilt: float = 60.0, rate: float = 8.0) -> None:
        self.gains, self.lean = (tilt, rate), 0.0

    def update(self, now: float, senses: Any, motors: Any) -> None:
        imu = senses["imu"]
        if imu is None:
            return
        turning = imu.angular_velocity[1]
        self.lean += self.period * turning
        for wheel in ("left", "right"):
            motors[wheel].effort = 0.5 * (self.gains[0] * self.lean + self.gains[1] * turning)


class Reads:
    """Reads one sensor now and then, and drives on."""

    period = 0.02

    def __init__(self, speed: float = 2.0) -> None:
        self.speed = speed

    def update(self, now: float, senses: Any, motors: Any) -> None:
        if now > 1.5 and senses["imu"] is None:
            return
        motors["left"].velocity = motors["right"].velocity = self.speed
