"""Rules about the gains of position motors against what they move."""

from __future__ import annotations

import math
from collections.abc import Iterator

from veldrain.model import Joint, Motor
from veldrain.review.look import RobotLook, figure
from veldrain.review.motors import PATIENCE, RINGS, SLOW, effort_of, held_alone, motors_of, sag_of
from veldrain.review.rules import Found, found, rule

STIFF = 0.5  # of frequency · step
SLOWEST = 5.0  # s that a motor takes for a swing
WHOLE_RANGE = 100.0  # s from one limit to the other
FORCED = 0.3  # share of the time in which a motor gives all that it can
OWN = 30.0  # times what it moves: a rotor's inertia behind a large gear has ten


def moved_by(robot: RobotLook) -> Iterator[tuple[Motor, Joint, float]]:
    """Position motors, their joints and the inertia that they feel; not where a link's inertia is told as wrong."""
    for motor, joint in motors_of(robot, "position"):
        inertia = robot.held.inertias[joint.name] if robot.held else 0.0
        if 0.0 < inertia < math.inf and not robot.of_odd_inertia & set(robot.below(joint.child)):
            yield motor, joint, inertia


@rule("mostly-damping", "warning", "motors")
def mostly_damping(robot: RobotLook) -> Found:
    """A position motor's damping leaves its stiffness something to do.

    Damping over stiffness is the time it takes to come near; gains copied from a joint of another size make it creep.
    """
    for motor, joint, inertia in moved_by(robot):
        time = motor.damping / motor.stiffness
        ratio = motor.damping / (2 * math.sqrt(motor.stiffness * inertia))
        swing = 2 * math.pi * math.sqrt(inertia / motor.stiffness)
        if swing > SLOW and sag_of(robot, motor, joint):
            continue  # its stiffness is told by that
        if time > SLOW or (ratio > 20 and time > 0.2):
            stiff, damped = motor.damping**2 / (4 * inertia), 2 * math.sqrt(motor.stiffness * inertia)
            # The one that is off: with a swing of a second or more it is the stiffness.
            cure = f"write stiffness: {figure(stiff)}" if swing > SLOW else f"write damping: {damped:.2g}"
            yield found(
                "mostly-damping",
                robot,
                joint.name,
                f"damping over stiffness is {time:.2g} s: it creeps ({figure(ratio)} times critical damping)",
                f"{cure} for a quick arrival without overshoot",
                kind="motor",
                numbers={"time s": time, "ratio": ratio},
            )


@rule("rings", "warning", "motors")
def rings(robot: RobotLook) -> Found:
    """A position motor's damping ends its swings.

    With less than a tenth of critical damping it overshoots by three quarters of each step, and swings many times.
    Overshoot: exp(−π ζ / √(1 − ζ²)) (Ogata, Modern Control Engineering, second-order systems).
    """
    for motor, joint, inertia in moved_by(robot):
        if not held_alone(robot, joint) or 2 * math.pi * math.sqrt(inertia / motor.stiffness) > SLOWEST:
            continue
        stiffness = motor.stiffness + joint.stiffness
        ratio = (motor.damping + joint.damping) / (2 * math.sqrt(stiffness * inertia))
        frequency = math.sqrt(stiffness / inertia)
        if ratio < RINGS and frequency * robot.look.step < STIFF and not joint.friction:
            over = math.exp(-math.pi * ratio / math.sqrt(1 - ratio**2))
            yield found(
                "rings",
                robot,
                joint.name,
                f"its damping is {figure(ratio)} of critical: it overshoots by {100 * over:.0f} % of a step, and swings"
                f" on with {frequency / (2 * math.pi):.2g} Hz",
                f"write damping: {1.4 * math.sqrt(stiffness * inertia) - joint.damping:.2g} for 0.7 of critical",
                kind="motor",
                numbers={"ratio": ratio, "overshoot": over},
            )


@rule("slow-motor", "warning", "motors")
def slow_motor(robot: RobotLook) -> Found:
    """A position motor is stiff enough to bring its load along, and fast enough for its range.

    A soft one on a joint without weight does not sag: it swings for ages around what is commanded.
    """
    for motor, joint, inertia in moved_by(robot):
        time = 2 * math.pi * math.sqrt(inertia / motor.stiffness)
        if time > SLOWEST and not sag_of(robot, motor, joint):
            quick = inertia * (2 * math.pi) ** 2
            yield found(
                "slow-motor",
                robot,
                joint.name,
                f"a swing of its load takes {figure(time)} s with a stiffness of {motor.stiffness:g}",
                f"write stiffness: {figure(quick)} for a swing of 1 s",
                kind="motor",
                numbers={"time s": time},
            )
        elif joint.limits and (joint.limits[1] - joint.limits[0]) / motor.speed > WHOLE_RANGE:
            whole = (joint.limits[1] - joint.limits[0]) / motor.speed
            unit = "m/s" if joint.is_linear else "rad/s"
            yield found(
                "slow-motor",
                robot,
                joint.name,
                f"its speed of {motor.speed:g} {unit} takes it from one limit to the other in {figure(whole)} s",
                f"write speed: with its unit, '{motor.speed:g} {'m/min' if joint.is_linear else 'rpm'}' if it was so",
                kind="motor",
                severity="note",
                numbers={"time s": whole},
            )


@rule("step-not-followed", "warning", "motors")
def step_not_followed(robot: RobotLook) -> Found:
    """A position motor that is told a small step gets there in a few seconds.

    Tried in the engine, the root held: one whose limit is small for its load and its gains swings from end to end
    of what it can give, and never comes to rest.
    """
    if robot.held is None:
        return
    tried = [
        (motor, joint)
        for motor, joint, _ in moved_by(robot)
        if abs(robot.held.loads[joint.name]) < motor.limit and held_alone(robot, joint)
    ]
    late = robot.held.late([joint.name for _, joint in tried], PATIENCE)
    for motor, joint in tried:
        share = late.get(joint.name, 0.0)
        if share > FORCED:
            way, inertia = robot.held.way_of(joint), robot.held.inertias[joint.name]
            asked = abs(robot.held.loads[joint.name]) + 4.0 * way * inertia  # there and at rest in a second
            told = f"{1e3 * way:.3g} mm" if joint.is_linear else f"{math.degrees(way):.3g}°"
            better = robot.held.limit_that_does(joint.name, asked, PATIENCE) if asked > motor.limit else 0.0
            if motor.limit < better < math.inf:
                why = f"its limit of {effort_of(joint, motor.limit)} holds it back for {100 * share:.0f} % of the time"
                cure = f"write limit: {effort_of(joint, better)}, with which it is, or less stiffness"
            elif joint.damping > motor.damping:
                why = f"its joint's damping of {joint.damping:g} takes what the motor gives"
                cure = "look at the unit of the joint's damping"
            else:
                why, cure = (
                    "something stops it",
                    "see the limits of the joints that follow it, and what its loops allow",
                )
            yield found(
                "step-not-followed",
                robot,
                joint.name,
                f"told to move by {told} it is not there after {PATIENCE:g} s: {why}",
                cure,
                kind="motor",
                numbers={"limit": motor.limit, "asked": asked},
            )


@rule("rotor-inertia", "warning", "motors")
def rotor_inertia(robot: RobotLook) -> Found:
    """A motor's own inertia is not all that it moves.

    Of the rotor it counts by the square of the gear ratio: given in kg·cm² as if it were kg·m², or reflected twice, the
    motor is busy with itself.
    """
    for motor, joint in motors_of(robot):
        inertia, own = robot.held.inertias[joint.name] if robot.held else math.inf, motor.inertia * motor.gear_ratio**2
        is_wheel = joint.child in robot.wheels and not robot.placed.fixed  # it moves the whole vehicle
        if not is_wheel and OWN * (inertia - own) < own < math.inf:
            yield found(
                "rotor-inertia",
                robot,
                joint.name,
                f"its rotor's inertia is {figure(own)} on the joint, and what it moves has {figure(inertia - own)}",
                f"look at its unit and its gear_ratio: {motor.inertia:g} kg·cm² are {motor.inertia * 1e-4:g} kg·m²",
                kind="motor",
                numbers={"rotor": own, "moved": inertia - own},
            )


@rule("stiff-for-the-step", "note", "motors")
def stiff_for_the_step(robot: RobotLook) -> Found:
    """A motor's stiffness suits the step.

    The engine takes them implicitly, so that they stay stable at any step; but what is faster than a few steps is
    damped away, and a controller elsewhere with these gains would not be stable.
    """
    h = robot.look.step
    for motor, joint, inertia in moved_by(robot):
        frequency = math.sqrt(motor.stiffness / inertia)
        if frequency * h > STIFF:
            most = inertia * (STIFF / h) ** 2
            yield found(
                "stiff-for-the-step",
                robot,
                joint.name,
                f"it answers in {1e3 / frequency:.2g} ms, the step is {1e3 * h:.3g} ms: taken implicitly, it stays"
                " stable and is damped more than it says",
                f"stiffness up to {figure(most)} is resolved here, or take steps of {1e3 * STIFF / frequency:.1g} ms",
                kind="motor",
                numbers={"time s": 1 / frequency, "most": most},
            )
