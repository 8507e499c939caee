"""Keeping a skid-steered robot on the centre line of a channel."""

from __future__ import annotations

import math
import statistics
from collections.abc import Mapping, Sequence

import numpy as np

from veldrain.control.contract import MotorHandle
from veldrain.sampling import Reading
from veldrain.units import Quantity, quantity


class CentreLine:
    """Steers by what a lidar sees to the left and to the right, at a set speed.

    The wanted turning rate is ω = gain · (left − right)/2 − damping · θ. Left and right are the median
    distances, across the robot, of the beams within ``sector`` of straight left and right. θ is how far the
    robot has turned of late: the gyro's rate summed up and forgotten with the time constant ``memory``, so
    that a bias of the gyro shifts the line by damping · bias · memory / gain and no more. Without damping the
    robot answers an offset with a turn, and a turn only changes the offset later, so that it weaves; θ is what
    tells it that it has turned enough.

    Args:
        gain: turning rate for an offset, rad/s per m.
        damping: turning rate for a recent turn, rad/s per rad (1/s).
        speed: forward speed, m/s.
        left: names of the wheel joints on the left.
        right: names of the wheel joints on the right.
        wheel: radius of the wheels, m.
        track: distance from left to right wheels, m.
        scan: name of the lidar.
        imu: name of the IMU.
        sector: half the width of the two side views, rad.
        memory: how long a turn is remembered, s.
        most: largest turning rate asked for, rad/s.
        standstill: gap at which it stands before what is ahead of it, m; 0: it does not look ahead.
        watchdog: it stands while its newest scan is older than that, s.
        period: time between updates, s.

    >>> CentreLine(gain=2.0, damping=1.2).period
    0.05
    """

    def __init__(
        self,
        gain: float = 2.0,
        damping: float = 0.0,
        speed: Quantity = 0.6,
        left: Sequence[str] = ("front_left", "rear_left"),
        right: Sequence[str] = ("front_right", "rear_right"),
        wheel: Quantity = "9 cm",
        track: Quantity = "38 cm",
        scan: str = "scan",
        imu: str = "imu",
        sector: Quantity = "30 deg",
        memory: Quantity = 4.0,
        most: Quantity = 0.8,
        standstill: Quantity = 0.0,
        watchdog: Quantity = math.inf,
        period: Quantity = 0.05,
    ) -> None:
        self.gain, self.damping = float(gain), float(damping)
        self.speed = quantity(speed, "speed", "CentreLine speed")
        self.left, self.right = tuple(left), tuple(right)
        self.wheel = quantity(wheel, "length", "CentreLine wheel")
        self.track = quantity(track, "length", "CentreLine track")
        self.scan, self.imu = scan, imu
        self.sector = quantity(sector, "angle", "CentreLine sector")
        self.memory = quantity(memory, "time", "CentreLine memory")
        self.most = quantity(most, "angular speed", "CentreLine most")
        self.period = quantity(period, "time", "CentreLine period")
        self.standstill = quantity(standstill, "length", "CentreLine standstill")
        self.watchdog = quantity(watchdog, "time", "CentreLine watchdog")
        self._turned = 0.0

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Mapping[str, MotorHandle]) -> None:
        turning, speed = 0.0, self.speed
        scan = senses[self.scan]
        if now - (scan.time if scan is not None else 0.0) > self.watchdog:
            speed = 0.0
        elif scan is not None:
            if self.standstill:
                speed = min(speed, max(0.0, self._ahead(scan) - self.standstill))  # a second from there
            turning = self.gain * 0.5 * (self._side(scan, 1.0) - self._side(scan, -1.0))
        if self.damping:
            imu = senses[self.imu]
            rate = imu.angular_velocity[2] if imu is not None else 0.0
            self._turned += self.period * (rate - self._turned / self.memory)
            turning -= self.damping * self._turned
        turning = min(max(turning, -self.most), self.most)
        across = 0.5 * self.track * turning
        for joint in self.left:
            motors[joint].velocity = (speed - across) / self.wheel
        for joint in self.right:
            motors[joint].velocity = (speed + across) / self.wheel

    def _ahead(self, scan: Reading) -> float:
        """Distance to the nearest thing in its way, m; inf: none."""
        is_ahead = np.abs(scan.angles) < math.pi / 2
        along, across = scan.ranges * np.cos(scan.angles), scan.ranges * np.sin(scan.angles)
        return float(along[is_ahead & (np.abs(across) < self.track / 2)].min(initial=math.inf))

    def _side(self, scan: Reading, sign: float) -> float:
        """Median distance across the robot of what is seen on one side, m; 0 where nothing is."""
        beams = np.abs(scan.angles - sign * math.pi / 2) <= self.sector
        across = scan.ranges[beams] * np.abs(np.sin(scan.angles[beams]))
        seen = across[np.isfinite(across)]
        return statistics.median(seen.tolist()) if len(seen) else 0.0
