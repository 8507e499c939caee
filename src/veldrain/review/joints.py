"""Rules about what holds links together, and about axes and limits."""

from __future__ import annotations

import numpy as np

from veldrain.review.look import RobotLook, figure, model_change
from veldrain.review.rules import Found, found, rule
from veldrain.review.solids import round_axis


@rule("wheel-axis", "error", "joints")
def wheel_axis(robot: RobotLook) -> Found:
    """A wheel turns about the axis of its cylinder.

    Otherwise it tumbles like a coin: an axis in the parent's frame was written for one in the joint's, or y for z.
    """
    for link, joint in robot.wheels.items():
        axes = [a for part in robot.links[link].parts if (a := round_axis(part)) is not None and a.any()]
        if not axes:
            continue
        own = np.array(joint.axis)
        angle = float(np.degrees(np.arccos(np.clip(max(abs(own @ a) for a in axes), 0, 1))))
        if angle > 10:
            best = max(axes, key=lambda a: abs(own @ a))
            best = best * np.sign(best[np.argmax(np.abs(best))])
            row = [round(float(x), 6) + 0.0 for x in best]
            yield found(
                "wheel-axis",
                robot,
                joint.name,
                f"turns {link} about an axis {angle:.0f}° from that of its cylinder: it tumbles instead of rolling",
                f"write axis: {row}",
                kind="joint",
                numbers={"angle deg": angle},
                fix=model_change(robot, {"joints": {joint.name: {"axis": row}}}),
            )


@rule("steering-axis", "warning", "joints")
def steering_axis(robot: RobotLook) -> Found:
    """A joint that steers a wheel turns it about an upright axis.

    With the axis along the wheel's own the wheel is rolled a little further and the vehicle goes straight on.
    """
    for link, wheel in robot.wheels.items():
        knuckle = wheel.parent
        steering = robot.moving.get(knuckle)
        if steering is None or steering.kind != "revolute" or len(robot.below(knuckle)) > 3:
            continue
        if np.linalg.norm(wheel.pose.position) > 0.5 * robot.radius(link):
            continue  # it swings the wheel up and down
        axis = robot.poses[knuckle].rotation.apply(steering.axis)
        upright = float(np.degrees(np.arccos(np.clip(abs(axis @ robot.look.up), 0, 1))))
        if upright > 45:
            up = robot.poses[knuckle].rotation.inv().apply(robot.look.up)
            row = [round(float(x), 6) + 0.0 for x in up]
            yield found(
                "steering-axis",
                robot,
                steering.name,
                f"carries the wheel {link} and turns about an axis {upright:.0f}° from upright: it does not steer it",
                f"write axis: {row} if it is to steer",
                kind="joint",
                numbers={"angle deg": upright},
            )


@rule("no-limits", "note", "joints")
def no_limits(robot: RobotLook) -> Found:
    """A joint that turns to and fro, or slides, has limits.

    Without them an arm folds into itself and a slide leaves its rail.
    """
    faulty = {f.error.where.rpartition("/")[2] for f in robot.model.faults if f.rule == "limits"}
    for joint in robot.model.joints.values():
        if joint.kind not in ("revolute", "prismatic") or joint.limits or joint.mimic or joint.name in faulty:
            continue
        if joint.child in robot.wheels:
            continue
        slides = joint.kind == "prismatic"
        yield found(
            "no-limits",
            robot,
            joint.name,
            f"a {joint.kind} joint without limits",
            "write limits: [least, most]" + ("" if slides else ", or kind: continuous where it turns without end"),
            kind="joint",
            severity="warning" if slides else None,
        )


@rule("rests-on-its-stop", "warning", "joints", world=True)
def rests_on_its_stop(robot: RobotLook) -> Found:
    """A spring carries what it is there to carry.

    A strut that is too soft lies on its stop as soon as the vehicle stands: every bump goes through to the hull.
    """
    after = robot.look.after_a_while
    if after is None:
        return
    now = after.compiled.robots[robot.name].joints if robot.name in after.compiled.robots else {}
    for joint in robot.model.joints.values():
        if joint.name not in now or joint.stiffness <= 0 or not joint.limits or joint.name in robot.model.motors:
            continue
        (low, high), begun = joint.limits, robot.at_start[joint.name]
        at = float(after.plant.q[after.plant.dofs["coord"][now[joint.name]]])
        near, stop = 0.01 * (high - low), low if at - low < high - at else high
        if abs(at - stop) < near and abs(begun - stop) > 5 * near and low < joint.rest_position < high:
            unit = "N/m" if joint.is_linear else "N·m/rad"
            yield found(
                "rests-on-its-stop",
                robot,
                joint.name,
                f"it starts at {joint.told(begun)} and soon lies on its stop at {joint.told(stop)}: its spring of"
                f" {figure(joint.stiffness)} {unit} does not carry what is on it",
                "write a larger stiffness, or a rest_position further away from that stop",
                kind="joint",
            )


@rule("no-range", "warning", "joints")
def no_range(robot: RobotLook) -> Found:
    """A joint's limits leave it room to move.

    Limits of 0 and 0 are what URDF gives a joint whose lower and upper limit are left out.
    """
    for joint in robot.model.joints.values():
        if joint.limits and joint.limits[1] - joint.limits[0] < 1e-9:
            yield found(
                "no-range",
                robot,
                joint.name,
                f"its limits are {joint.limits[0]:g} and {joint.limits[1]:g}: it cannot move",
                "write limits: [least, most], or kind: fixed",
                kind="joint",
            )


@rule("no-effort", "error", "joints")
def no_effort(robot: RobotLook) -> Found:
    """What a joint may give and how fast it may go is above zero.

    Zeros are what drawing programs export for limits that nobody filled in; a motor then gives nothing.
    """
    for joint in robot.model.joints.values():
        motor = robot.model.motors.get(joint.name)
        given = {"largest effort": joint.effort, "largest speed": joint.speed}
        given |= {"motor's limit": motor.limit} if motor else {}
        zeros = [word for word, value in given.items() if value == 0]
        if zeros:
            told = f"its {' and '.join(zeros)} {'is' if len(zeros) == 1 else 'are'} 0"
            idle = motor is not None and motor.limit == 0
            yield found(
                "no-effort",
                robot,
                joint.name,
                told + (": its motor gives nothing" if idle else ""),
                "write what the data sheet says (effort:, speed:), or leave it out",
                kind="joint",
                severity=None if idle else "warning",
            )


@rule("endless-position", "warning", "joints")
def endless_position(robot: RobotLook) -> Found:
    """A position motor is on a joint with limits.

    On a joint that turns without end, 359° and −1° are one place and two commands: it turns once around instead.
    """
    for motor in robot.model.motors.values():
        joint = robot.model.joints.get(motor.joint)
        if joint and joint.kind == "continuous" and motor.mode == "position":
            yield found(
                "endless-position",
                robot,
                joint.name,
                "a position motor on a joint that turns without end",
                "write kind: revolute and limits:, or mode: velocity",
                kind="joint",
            )


@rule("held-by-nothing", "error", "structure")
def held_by_nothing(robot: RobotLook) -> Found:
    """One link holds all others.

    A link that no joint holds falls off; with two roots it is not said where the robot is.
    """
    roots = robot.model.roots()
    if len(roots) <= 1:
        if not roots:
            yield found(
                "held-by-nothing",
                robot,
                "",
                "every link hangs on another: there is no root",
                "take one joint out, or close the ring with a loop",
            )
        return
    held = {root: len(robot.below(root)) for root in roots}
    main = max(roots, key=lambda root: held[root])
    for root in roots:
        if root != main:
            with_it = f" with {held[root] - 1} more links" if held[root] > 1 else ""
            yield found(
                "held-by-nothing",
                robot,
                root,
                f"no joint holds it{with_it}: it would fall off {main}",
                f"join it to a link of {main}",
                numbers={"links": held[root]},
            )


@rule("posture-beyond-limits", "warning", "joints")
def posture_beyond_limits(robot: RobotLook) -> Found:
    """A named posture is within the limits of its joints.

    What is told to go there stops at the limit: an arm that is stowed for the road still stands out.
    """
    for posture, joints in robot.model.postures.items():
        for name, value in joints.items():
            joint = robot.model.joints.get(name)
            if joint is None or joint.limits is None or joint.limits[0] - 1e-6 <= value <= joint.limits[1] + 1e-6:
                continue
            low, high = joint.limits
            unit = "m" if joint.is_linear else "rad"
            yield found(
                "posture-beyond-limits",
                robot,
                name,
                f"is at {value:.4g} {unit} in posture '{posture}', beyond its limits of {low:.4g} to {high:.4g} {unit}",
                f"write {min(max(value, low), high):.4g} {unit} in the posture, or widen the limits",
                kind="joint",
            )
