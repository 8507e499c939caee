"""Rules about rotors."""

from __future__ import annotations

import math

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.motion.rotors import RotorMixer
from veldrain.review.look import RobotLook, mm, model_change
from veldrain.review.rules import Found, found, rule

LITTLE = 1.5  # times its weight: less leaves hardly anything to steer with
ASIDE = 0.1  # of the longest arm
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
    if mixer is None or _turned_over(robot):
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
            _which_way(mixer) + "half of the rotors turn the other way: a negative thrust lifts with a speed below 0",
            numbers={"torque N m": left},
        )


def _which_way(mixer: RotorMixer) -> str:
    """The one rotor that has to turn the other way so that neighbours do, around the hull; "" where it is not one."""
    poses = mixer.arms
    order = np.argsort(np.arctan2(poses[:, 1], poses[:, 0]))
    ways = np.sign(mixer.thrust)[order]
    alternate = np.where(np.arange(len(ways)) % 2 == 0, 1.0, -1.0)
    for wanted in (alternate, -alternate):
        odd = np.flatnonzero(ways != wanted)
        if len(odd) == 1:
            return f"turn {mixer.joints[order[odd[0]]]} the other way: "
    return ""


@rule("rotor-turned-over", "error", "rotors")
def rotor_turned_over(robot: RobotLook) -> Found:
    """All rotors of a flyer push the same way.

    One whose axis points down pulls it over at the first command, however well its attitude is held.
    """
    for joint in _turned_over(robot):
        row = [round(-float(x), 6) + 0.0 for x in robot.model.joints[joint].axis]
        yield found(
            "rotor-turned-over",
            robot,
            joint,
            f"the axis of rotor {joint} points against those of the others: it pushes down where they lift",
            f"write axis: {row} for {joint}",
            kind="joint",
            fix=model_change(robot, {"joints": {joint: {"axis": row}}}),
        )


def _turned_over(robot: RobotLook) -> list[str]:
    rotors = [joint for joint in robot.model.rotors if joint in robot.model.joints]
    if len(rotors) < 4 or not robot.is_free:
        return []
    ways = [robot.poses[robot.model.joints[j].child].rotation.apply(robot.model.joints[j].axis) for j in rotors]
    usual = np.median(ways, axis=0)
    odd = [joint for joint, way in zip(rotors, ways, strict=True) if float(way @ usual) < -0.5]
    return odd if len(odd) < len(rotors) / 2 else []


@rule("lifts-to-one-side", "warning", "rotors")
def lifts_to_one_side(robot: RobotLook) -> Found:
    """With all rotors alike the lift goes through the centre of mass.

    Otherwise some of them work hard at hover, and there is little left to steer with.
    """
    mixer = _mixer(robot)
    if mixer is None or _turned_over(robot):
        return
    share = np.abs(mixer.thrust) / np.abs(mixer.thrust).sum()
    off, reach = share @ mixer.arms[:, :2], float(np.linalg.norm(mixer.arms[:, :2], axis=1).max())
    far = float(np.linalg.norm(off))
    if far > ASIDE * reach:
        # The one that has none across from it.
        alone = [min(float(np.linalg.norm(a[:2] + b[:2])) for b in mixer.arms) for a in mixer.arms]
        odd = mixer.joints[int(np.argmax(alone))]
        yield found(
            "lifts-to-one-side",
            robot,
            "",
            f"with all rotors alike it lifts {mm(far)} beside its centre of mass",
            f"look at the places of the rotors, of {odd} first, and at what is heavy on one side",
            numbers={"off m": far},
        )
