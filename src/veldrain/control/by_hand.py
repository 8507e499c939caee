"""Motors that are told one by one: for driving by hand, and for scenarios that tell joints where to go."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, InputValues, Motors
from veldrain.sheet import Names

KINDS = {  # of quantity, by mode: of joints that turn, and of those that slide
    "position": ("angle", "length"),
    "velocity": ("angular speed", "speed"),
    "effort": ("torque", "force"),
}


class ByHand(SheetController):
    """Each motor does what its joint is told: an input a joint, in the mode of its motor.

    Until it is first told something, the motors are told nothing. Then those that nobody has told hold 0.

    >>> ByHand(["lift"], period="20 ms").period
    0.02
    """

    inputs: ClassVar[Any] = {}  # of this robot's motors, from the start on

    joints: Names = Names(default=(), kw_only=False, doc="names of joints with motors; none: all of the robot's")

    def start(self, body: Body, random: Any, log: Any) -> None:
        """Make an input of each motor."""
        motors, slides = body.model.motors, body.model.coordinates()
        for name in self.joints:
            body.motor(name, motors[name].mode if name in motors else "position", "ByHand")
        names = self.joints or tuple(motors)
        kinds = {name: KINDS[motors[name].mode][slides[name][1]] for name in names}
        modes = {name: motors[name].mode for name in names}
        self._modes, self.inputs = modes, InputValues(kinds, f"{body.robot}, by hand")  # type: ignore[misc]

    def update(self, now: float, senses: Mapping[str, Any], motors: Motors) -> None:
        """Command the motors as they were told."""
        if self.inputs.told is not None:
            for name, value in self.inputs.values.items():
                motors[name].command(**{self._modes[name]: value})
