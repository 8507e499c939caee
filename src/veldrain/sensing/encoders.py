"""Encoders on joints."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from types import SimpleNamespace as Fields

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Mount
from veldrain.pose import Array
from veldrain.sensing.noise import timing
from veldrain.units import Quantity


@dataclass(frozen=True)
class JointReading:
    """Positions (rad or m), velocities and motor efforts (N·m or N) of joints, each (n,)."""

    names: tuple[str, ...]
    positions: Array
    velocities: Array
    efforts: Array


class Encoders:
    """Encoders that count ticks, and the motors' own measure of their effort.

    Args:
        joints: names of the joints; none: all movable joints of the robot.
        period: s.
        ticks: counts a turn (a metre, when prismatic); None: no rounding. Velocity is the change of the
            counted position over a period, as drives form it.
        latency: from the sample to its arrival at a controller, s.
        first: time of the first sample, s.

    >>> Encoders(["left", "right"], ticks=2048).message
    'sensor_msgs/msg/JointState'
    """

    truth = False
    message = "sensor_msgs/msg/JointState"

    def __init__(
        self,
        joints: Sequence[str] = (),
        period: Quantity = 0.01,
        ticks: int | None = None,
        latency: Quantity = 0.0,
        first: Quantity = 0.0,
    ) -> None:
        self.period, self.latency, self.first = timing(self, period, latency, first)
        if ticks is not None and ticks < 1:
            raise VeldrainError(f"{ticks} ticks a turn", where="Encoders", cure="give 1 or more, or None")
        self.joints, self.ticks = tuple(joints), ticks

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], JointReading]:
        names, read = mount.joints(self.joints)
        tick = 2 * math.pi / self.ticks if self.ticks else 0.0
        before: Array | None = None

        def measure() -> JointReading:
            nonlocal before
            positions, velocities, efforts = read()
            if tick:
                positions = np.round(positions / tick) * tick
                velocities = (positions - before) / self.period if before is not None else np.zeros(len(names))
            before = positions
            return JointReading(names, positions, velocities, efforts)

        return measure

    def to_message(self, reading: JointReading) -> Fields:
        return Fields(
            name=list(reading.names),
            position=reading.positions,
            velocity=reading.velocities,
            effort=reading.efforts,
        )
