"""How a wheel slips, and how much of its grip that takes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from veldrain.model.sensor import Fields, Message, Mount
from veldrain.sensing.truth import Truth
from veldrain.sheet import Number

SLOW = 1e-3  # m/s: slower than this nothing is called slip


@dataclass(frozen=True)
class Slip:
    """Longitudinal slip (1: it spins in place, −1: it is locked), slip angle (rad, positive where the wheel goes to
    its left), load (N) and the friction it uses: the force along the ground over that across it."""

    slip: float
    slip_angle: float
    load: float
    friction: float


class TrueSlip(Truth):
    """The true slip of a wheel: mount it in the wheel's middle, y along its axle.

    With the speed v_x of the middle and the rolling speed ω·r, slip = (ω·r − v_x)/max(|ω·r|, |v_x|), and the angle is
    atan2(v_y, |v_x|) (SAE J670). Load and friction are means over its period.

    >>> TrueSlip("20 ms", radius="12 cm").truth
    True
    """

    message = "std_msgs/msg/Float64"
    stacks = True
    looks_back = True
    companions = ("slip_angle", "load", "friction")

    radius: Number = Number("length", above=0.0, doc="of the wheel, as it rolls")

    def unit(self, companion: str = "") -> str:
        return {"slip_angle": "rad", "load": "N"}.get(companion, "")

    def start(self, mount: Mount, random: np.random.Generator) -> SlipAtWork:
        mount.feel_touches()
        return SlipAtWork(self.radius)

    def messages(self, reading: Slip) -> dict[str, Message]:
        values = {"": reading.slip, **{name: getattr(reading, name) for name in self.companions}}
        return {name: Message(self.message, Fields(data=value)) for name, value in values.items()}


@dataclass
class SlipAtWork:
    """The radius; what touched is gathered by the engine."""

    radius: float

    def measure(self, mount: Mount) -> Slip:
        touches, axle = mount.felt_touches(), mount.axes()[:, 1]
        pull = touches.forces.sum(axis=0) if len(touches.forces) else np.zeros(3)
        weights = np.einsum("ij,ij->i", touches.normals, touches.forces) if len(touches.forces) else np.zeros(0)
        up = weights @ touches.normals if weights.any() else np.array((0.0, 0.0, 1.0))
        up = up / np.linalg.norm(up)
        forward = np.cross(axle, up)
        forward /= max(float(np.linalg.norm(forward)), 1e-12)
        linear, angular, _ = mount.motion()
        along, side = float(linear @ forward), float(linear @ np.cross(up, forward))
        rolled = float(angular @ axle) * self.radius
        fastest = max(abs(rolled), abs(along))
        load = float(pull @ up)
        across = float(np.linalg.norm(pull - load * up))
        return Slip(
            (rolled - along) / fastest if fastest > SLOW else 0.0,
            math.atan2(side, abs(along)) if max(abs(side), abs(along)) > SLOW else 0.0,
            load,
            across / load if load > 1e-9 else 0.0,
        )
