"""A gripper as one controller: how wide and how hard in, how wide and whether it holds something out."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

import numpy as np

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, Motors
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Model
from veldrain.pose import Array
from veldrain.sampling import Reading
from veldrain.sensing import Encoders
from veldrain.sheet import Made, Maybe, Names, Number, Text
from veldrain.units import Quantity

DIFFERENCE = 1e-6  # rad or m by which a joint is moved to see how the width changes


class Grip(SheetController):
    """Opens and closes a gripper to a width, and pinches no harder than it is told.

    The width w is the distance between its two tips less what their pads take. A joint at q with g = ∂w/∂q pinches with
    F by the effort g·F (virtual work), and its position motor gives stiffness·(command − q): each joint is commanded no
    farther ahead than g·F/stiffness. It holds something where it has come to rest before the width that it is told;
    ``holds`` and ``width`` are logged as streams, for conditions such as ``signal("arm/holds") > 0.5``.

    Inputs: ``width`` (m), and ``force`` (N; 0: as on the sheet). What is told of one leaves the other.

    >>> Grip("slide", tips=("left", "right"), width="8 cm", force="20 N").force
    20.0
    """

    inputs: ClassVar[Any] = {"width": "length", "force": "force"}

    fingers: Made[str | Sequence[str], tuple[str, ...]] = Made(
        lambda value, where: (value,) if isinstance(value, str) else tuple(value),
        kw_only=False,
        doc="joint or joints with position motors that open and close it",
    )
    tips: Names = Names(doc="the two links or frames between which the width is measured")
    pads: Number = Number("length", default=0.0, doc="by how much less the width is than the distance of the tips")
    width: Maybe[Quantity, float] = Maybe(
        Number("length", least=0.0), default=None, doc="that it goes to until it is told another; None: as it begins"
    )
    force: Number = Number("force", default=20.0, above=0.0, doc="with which it pinches at most")
    tolerance: Number = Number("length", default=0.002, above=0.0, doc="of the width: what is within is reached")
    still: Number = Number("speed", default=0.003, above=0.0, doc="of the width: what is slower is at rest")
    settle: Number = Number("time", default=0.1, above=0.0, doc="how long it is at rest before it holds something")
    encoders: Text = Text(default="encoders", doc="name of the encoders of its joints")
    period: Number = Number("period", default=0.01, above=0.0, doc="time between updates, or their rate")

    def check(self) -> None:
        if len(self.tips) != 2 or not self.fingers:
            raise VeldrainError(
                f"{len(self.fingers)} fingers and {len(self.tips)} tips", where="Grip", cure="give joints, and two tips"
            )

    def start(self, body: Body, random: np.random.Generator, log: Any) -> None:
        """See that the motors, tips and encoders are there."""
        where = f"{body.robot}: Grip"
        self._model, self._log = body.model, log
        motors = [body.motor(joint, "position", "Grip") for joint in self.fingers]
        self._stiffness, self._limits = (np.array([vars(m)[word] for m in motors]) for word in ("stiffness", "limit"))
        self._is_new = True
        for tip in self.tips:
            if tip not in body.model.links and tip not in body.model.frames:
                raise unknown("link or frame", tip, [*body.model.links, *body.model.frames], where)
        body.see_sensor(self.encoders, (Encoders,), where)
        if self.width is not None:
            self.inputs.tell(width=self.width)
        self._body, self._rests, self.holds = body, 0.0, False
        self.now = math.nan  # its width, m

    @property
    def joints(self) -> tuple[str, ...]:
        """The joints whose motors it commands."""
        return self.fingers

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Motors) -> None:
        reading = senses[self.encoders]
        if reading is None:
            return
        names = list(reading.data.name)
        order = [names.index(joint) for joint in self.fingers]
        q, rates = (np.asarray(row, float)[order] for row in (reading.data.position, reading.data.velocity))
        self.now, slopes = self._width(q)
        told = self.inputs
        if self.width is None and self._is_new and told.told is None:
            told.tell(width=self.now)
        left, pace = told.width - self.now, float(slopes @ rates)
        efforts = (told.force or self.force) * np.abs(slopes)
        if self._is_new and (efforts > self._limits).any():
            weakest = self.fingers[int((self._limits / np.maximum(efforts, 1e-12)).argmin())]
            self._body.notice(f"pinches less than it is told: the motor of {weakest} does not give that")
        self._is_new = False
        most = efforts / self._stiffness
        step = left * slopes / max(float(slopes @ slopes), 1e-12)
        motors.command(self.fingers, position=q + np.clip(step, -most, most))
        self._rests = self._rests + self.period if abs(pace) < self.still and abs(left) > self.tolerance else 0.0
        self.holds = self._rests >= self.settle
        self._log("width", self.now)
        self._log("holds", float(self.holds))

    def _width(self, q: Array) -> tuple[float, Array]:
        """The width at joint positions (n,), and how it changes with each of them."""

        def at(positions: Array) -> float:
            a, b = (_place(self._model, tip, dict(zip(self.fingers, positions, strict=True))) for tip in self.tips)
            return math.dist(a, b) - self.pads

        here = at(q)
        return here, np.array([(at(q + DIFFERENCE * row) - here) / DIFFERENCE for row in np.eye(len(q))])


def _place(model: Model, tip: str, joints: Mapping[str, float]) -> Array:
    """Where a link or frame is in the root link, m."""
    poses = model.poses(joints)
    if tip in model.links:
        return poses[tip].position
    frame = model.frames[tip]
    return (poses[frame.link] @ frame.pose).position
