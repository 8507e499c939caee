"""Rules about rotors."""

from __future__ import annotations

import math

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.motion.rotors import RotorMixer
from veldrain.review.look import RobotLook
from veldrain.review.rules import Found, found, rule

LITTLE = 1.5  # times its weight: less leaves hardly anything to steer with
TURNS = 0.1  # share of the rotors' torques that may be left at hover


def _mixer(robot: RobotLook) -> RotorMixer | None:
    """Its rotors, if they can fly it."""
    try:
        return RotorMixer(robot.model) if robot.model.rotors else None
    except VeldrainError:
        return None  # what is no flyer may still have a fan


def _gravity(robot: RobotLook) -> float:
    return float(np.linalg.norm(robot.look.world.gravity))


@rule("cannot-lift", "error", "rotors")
def cannot_lift(robot: RobotLook) -> Found:
    """Rotors lift what they carry, with something left to steer with.

    Thrust goes with the square of the speed, which the motor's speed limit and its largest effort bound.
    """
    mixer = _mixer(robot)
    if mixer is None or not robot.is_free:
        return
    weight, most = mixer.mass * _gravity(robot), mixer.most_lift
    if most < LITTLE * weight:
        yield found(
            "cannot-lift",
            robot,
            "",
            f"its rotors lift {most:.3g} N at most, and it weighs {weight:.3g} N",
            "give them more thrust, or their motors a higher speed or limit",
            severity="error" if most < weight else "warning",
            numbers={"lift N": most, "weight N": weight},
        )


@rule("torques-do-not-cancel", "warning", "rotors")
def torques_do_not_cancel(robot: RobotLook) -> Found:
    """At hover the torques of the rotors cancel: half of them turn the other way.

    The air holds every rotor back, and its motor hands that on to the hull.
    """
    mixer = _mixer(robot)
    if mixer is None:
        return
    speeds = np.sign(mixer.thrust) * math.sqrt(mixer.mass * _gravity(robot) / float(np.abs(mixer.thrust).sum()))
    left = abs(float(mixer.does(speeds)[3]))
    whole = float((mixer.torque * speeds**2).sum())
    if left > TURNS * whole:
        yield found(
            "torques-do-not-cancel",
            robot,
            "",
            f"with all rotors alike, {left:.3g} N·m turn it about z",
            "let half of the rotors turn the other way: a negative thrust lifts with a speed below 0",
            numbers={"torque N m": left},
        )
