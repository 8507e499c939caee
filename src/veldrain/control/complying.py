"""An arm that gives way as a spring does, and pushes as it is told: Cartesian impedance."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, Motors
from veldrain.motion.chains import Chain
from veldrain.pose import Array, Pose, as_pose
from veldrain.sampling import Reading
from veldrain.sensing import Encoders
from veldrain.sheet import Made, Maybe, Number, Row, Text

AXES = "x", "y", "z"
FASTEST = 0.3  # rad that a spring may swing on in a period
SMALL = 1e-6  # 1/kg or 1/(kg·m²) added to the mobility of the tip: where it cannot move, no damping grows without end


class Comply(SheetController):
    """Holds the tip of an arm at a pose as by six springs, and pushes with a force that it is told.

    τ = Jᵀ·(K·e − D·v + f) + g with the way e to its pose (a rotation vector for the turn), the velocity v, and the
    efforts g that carry the arm (N. Hogan, "Impedance Control", ASME Journal of Dynamic Systems, Measurement, and
    Control 107, 1985; O. Khatib, IEEE Journal on Robotics and Automation 3(1), 1987, for D: along each axis it damps
    the mass that the tip has there). Along an axis of stiffness 0 it controls the force alone. It needs effort motors
    on all joints of the chain, and encoders; all axes are those of the chain's base.

    Inputs: ``x``, ``y``, ``z``, by how far its pose is moved (m), and ``force_x``, ``force_y``, ``force_z`` (N), with
    which it pushes.

    >>> Comply("tool", stiffness=(800, 800, 0, 30, 30, 30)).stiffness[2]
    0.0
    """

    inputs: ClassVar[Any] = dict.fromkeys(AXES, "length") | {f"force_{axis}": "force" for axis in AXES}

    tip: Text = Text(kw_only=False, doc="link or frame that is held")
    pose: Maybe[Any, Pose] = Maybe(Made(as_pose), default=None, doc="of the tip in the base; None: where it begins")
    stiffness: Row = Row(
        *3 * ["linear stiffness"],
        *3 * ["angular stiffness"],
        default=(500.0, 500.0, 500.0, 30.0, 30.0, 30.0),
        doc="along x, y and z, and about them",
    )
    damping: Number = Number("ratio", default=1.0, least=0.0, doc="damping ratio of each axis")
    least_damping: Number = Number(
        "linear damping",
        default=20.0,
        least=0.0,
        doc="along axes of stiffness 0, so that it comes to rest where nothing is",
    )
    encoders: Text = Text(default="encoders", doc="name of the encoders of its joints")
    base: Maybe[str, str] = Maybe(Text(), default=None, doc="what stands still; None: the root link")
    period: Number = Number("period", default=0.002, above=0.0, doc="time between updates, or their rate")

    def start(self, body: Body, random: np.random.Generator, log: Any) -> None:
        """See that the motors and encoders are there."""
        where = f"{body.robot}: Comply"
        self._chain = Chain(body.model, self.tip, self.base)
        for joint in self._chain.joints:
            body.motor(joint, "effort", where)
        body.see_sensor(self.encoders, (Encoders,), where)
        self._body, self._log = body, log
        self._limits = np.array([body.model.motors[joint].limit for joint in self._chain.joints])
        self._goal: Pose | None = self.pose
        self._is_new = True

    @property
    def joints(self) -> tuple[str, ...]:
        """The joints whose motors it commands; known once it has started."""
        chain = vars(self).get("_chain")
        return tuple(chain.joints) if chain else ()

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Motors) -> None:
        reading = senses[self.encoders]
        if reading is None:
            return
        names = list(reading.data.name)
        order = [names.index(joint) for joint in self._chain.joints]
        q, rates = (np.asarray(row, float)[order] for row in (reading.data.position, reading.data.velocity))
        at = self._chain.forward(q)
        self._goal = self._goal or at
        J = self._chain.jacobian(q)
        way = np.concatenate([self._goal.position + self._told("") - at.position, _turn(at, self._goal)])
        K = np.array(self.stiffness)
        mobility = J @ np.linalg.solve(self._chain.inertia(q), J.T)
        mass = 1.0 / (np.diag(mobility) + SMALL)
        if self._is_new:
            self._see_that_it_is_fast_enough(np.sqrt(K / mass))
        D = np.maximum(2.0 * self.damping * np.sqrt(K * mass), np.where(K == 0.0, self.least_damping, 0.0))
        push = np.concatenate([self._told("force_"), np.zeros(3)])
        efforts = J.T @ (K * way - D * (J @ rates) + push) + self._chain.gravity(q, self._body.gravity)
        motors.command(self._chain.joints, effort=np.clip(efforts, -self._limits, self._limits))
        self._log("off_pose", math.sqrt(float(way[:3] @ way[:3])))

    def _see_that_it_is_fast_enough(self, rates: Array) -> None:
        """Tell of springs whose swing (rad/s) is too fast for a controller of its period."""
        self._is_new, worst = False, int(rates.argmax())
        if rates[worst] * self.period > FASTEST:
            way = ("along", "about")[worst // 3]
            self._body.notice(
                f"is too stiff {way} {AXES[worst % 3]} for what it moves there: it swings at {rates[worst]:.0f} rad/s "
                f"and is updated each {1e3 * self.period:g} ms; use {1e3 * FASTEST / rates[worst]:.2g} ms, or soften it"
            )

    def _told(self, word: str) -> Array:
        return np.array([getattr(self.inputs, f"{word}{axis}") for axis in AXES])


def _turn(at: Pose, goal: Pose) -> Array:
    """The rotation vector (3,), rad, from one pose to another, axes of the base."""
    R = goal.matrix @ at.matrix.T
    axis = np.array((R[2, 1] - R[1, 2], R[0, 2] - R[2, 0], R[1, 0] - R[0, 1]))
    sine, cosine = float(np.linalg.norm(axis)) / 2, (float(np.trace(R)) - 1) / 2
    angle = math.atan2(sine, cosine)
    return axis / 2 * (angle / sine if sine > 1e-9 else 1.0)
