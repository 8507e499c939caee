"""Rules about what belongs together: joints that follow, wheels on axes, left and right, mass within shapes."""

from __future__ import annotations

import math

import numpy as np

from veldrain.model import Joint
from veldrain.model.volumes import bounds_of
from veldrain.pose import Array
from veldrain.review.look import RobotLook, mm, model_change
from veldrain.review.rules import Found, found, rule
from veldrain.review.solids import round_axis

MEETS = 0.01  # share of a range by which limits of joints that follow may differ
OFF_AXIS = 0.02  # of a wheel's radius
NOT_ALIKE = 0.25  # of a wheel's radius: what is farther off is meant so
SLIPS = (1e-1, 1e-2, 1e-3)  # factors of a length in dm, cm and mm
AT_GROUND = 0.05  # of a wheel's radius


@rule("mimic-stops", "warning", "joints")
def mimic_stops(robot: RobotLook) -> Found:
    """A joint that follows another can go where that takes it.

    Where its own limits end first both stop there: told 3 cm, a gripper stays at 0.
    """
    for joint in robot.model.joints.values():
        leader = robot.model.joints.get(joint.mimic[0]) if joint.mimic else None
        if not joint.mimic or not leader or not leader.limits or not joint.limits:
            continue
        low, high = joint.limits
        _, ratio, offset = joint.mimic
        ends = sorted(offset + ratio * at for at in leader.limits)
        slack = MEETS * (ends[1] - ends[0]) + 1e-9
        if low - slack <= ends[0] and ends[1] <= high + slack:
            continue
        turned = sorted(offset - ratio * at for at in leader.limits)
        if low - slack <= turned[0] and turned[1] <= high + slack:
            cure = f"write mimic: [{leader.name}, {-ratio:g}, {offset:g}], or turn its axis round"
        else:
            cure = f"write limits: [{ends[0]:.4g}, {ends[1]:.4g}] for it, or look at the ratio in its mimic"
        yield found(
            "mimic-stops",
            robot,
            joint.name,
            f"follows {leader.name} from {joint.told(ends[0])} to {joint.told(ends[1])}, and its limits are"
            f" {joint.told(low)} and {joint.told(high)}: both stop there",
            cure,
            kind="joint",
        )


@rule("mimic-uneven", "warning", "joints")
def mimic_uneven(robot: RobotLook) -> Found:
    """Two jaws of one gripper go equally far.

    Where both slide, with the same limits, and one follows the other by half, it closes beside the middle.
    """
    for joint in robot.model.joints.values():
        leader = robot.model.joints.get(joint.mimic[0]) if joint.mimic else None
        if not joint.mimic or not leader or leader.parent != joint.parent or not (joint.is_linear and leader.is_linear):
            continue
        opposite = float(_axis(robot, joint) @ _axis(robot, leader)) < -0.9
        if opposite and joint.limits == leader.limits and abs(abs(joint.mimic[1]) - 1.0) > MEETS:
            yield found(
                "mimic-uneven",
                robot,
                joint.name,
                f"goes {joint.mimic[1]:g} times as far as {leader.name}, across from it and with the same limits",
                f"write mimic: [{leader.name}, {math.copysign(1.0, joint.mimic[1]):g}, {joint.mimic[2]:g}]",
                kind="joint",
            )


def _axis(robot: RobotLook, joint: Joint) -> Array:
    return np.asarray(robot.poses[joint.child].rotation.apply(joint.axis))


@rule("com-outside", "warning", "mass")
def com_outside(robot: RobotLook) -> Found:
    """A link's centre of mass is where its shapes are.

    One that was written in millimetres is metres away: the robot tips, and its motors carry a lever that is not there.
    """
    for name, off in robot.com_outside.items():
        link, (low, high) = robot.links[name], bounds_of(robot.touched(name) or robot.seen(name))
        com = np.array(link.mass_properties.com)
        grown = 0.25 * (high - low)
        within = [s for s in SLIPS if ((low - grown <= s * com) & (s * com <= high + grown)).all()]
        scale = min(within, key=lambda s: float(np.linalg.norm(s * com - 0.5 * (low + high))), default=0.0)
        row = [round(float(x), 6) + 0.0 for x in scale * com]
        as_unit = f" ([{', '.join(f'{x:g} mm' for x in com)}])" if scale == 1e-3 else ""
        yield found(
            "com-outside",
            robot,
            name,
            f"its centre of mass is {mm(off)} outside of its shapes, at {[round(float(x), 4) for x in com]} m",
            f"write com: {row}{as_unit}, or leave it out" if scale else "leave com out to have it from the shapes",
        )


@rule("wheel-off-its-axis", "warning", "joints")
def wheel_off_its_axis(robot: RobotLook) -> Found:
    """A wheel's shape sits on the axis that it turns about.

    One that was drawn beside it goes up and down with each turn, and so does its vehicle.
    """
    for link, joint in robot.wheels.items():
        rounds = [part for part in robot.links[link].parts if (a := round_axis(part)) is not None and a.any()]
        if not rounds or len({tuple(np.round(part.pose.position, 6)) for part in rounds}) > 1:
            continue
        axis, at = np.array(joint.axis), rounds[0].pose.position
        if abs(axis @ np.asarray(round_axis(rounds[0]))) < 0.9:
            continue  # another rule says so
        on_axis = float(at @ axis) * axis
        off, radius = float(np.linalg.norm(at - on_axis)), robot.radius(link)
        if off > OFF_AXIS * radius:
            row = [round(float(x), 6) + 0.0 for x in on_axis]
            yield found(
                "wheel-off-its-axis",
                robot,
                link,
                f"its shape is {mm(off)} beside the axis of {joint.name}: it goes up and down by {mm(2 * off)} a turn",
                f"write xyz: {row} in the pose of its shape, or move the joint",
                numbers={"off m": off},
            )


@rule("not-mirrored", "warning", "joints")
def not_mirrored(robot: RobotLook) -> Found:
    """Wheels on the left are across from those on the right.

    One that is a few centimetres off its place makes the vehicle stand and turn unlike what was drawn.
    """
    back = robot.placed.pose.inverse()
    at = {link: np.asarray(back.apply(robot.poses[link].position)) for link in robot.wheels}
    mirror = np.array((1.0, -1.0, 0.0))  # a wheel that is too high is told by another rule

    def across(link: str, near: float) -> list[str]:
        return [o for o in at if o != link and float(np.linalg.norm((at[o] - mirror * at[link])[:2])) <= near]

    sided = [link for link in at if abs(at[link][1]) > NOT_ALIKE * robot.radius(link)]
    odd = [link for link in sided if not across(link, 0.02 * robot.radius(link))]
    if len(odd) != 2 or len(sided) < 4:
        return  # it has no sides, or more than one wheel is off: meant so
    one, other = sorted(odd, key=lambda link: -at[link][1])
    apart = (mirror * at[one] - at[other]) * np.abs(mirror)
    far = float(np.linalg.norm(apart))
    if other in across(one, NOT_ALIKE * robot.radius(one)) or far < NOT_ALIKE * 2 * robot.radius(one):
        joint = robot.moving[other]
        place = (
            joint.pose.position + robot.placed.pose.rotation.apply(apart)
            if joint.parent == robot.model.root()
            else None
        )
        row = None if place is None else [round(float(x), 4) + 0.0 for x in place]
        yield found(
            "not-mirrored",
            robot,
            other,
            f"is {mm(far)} off the place across from {one}, where the other wheels are mirrored",
            f"write xyz: {row} in the pose of {joint.name}" if row else f"look at the place of {joint.name}",
            numbers={"off m": far},
        )


@rule("rolls-nowhere", "warning", "joints", world=True)
def rolls_nowhere(robot: RobotLook) -> Found:
    """What stands on driven wheels is not held in the world.

    A vehicle that was placed with fixed: true spins its wheels and stays where it is.
    """
    floor = robot.look.world.floor
    driven = [link for link, joint in robot.rolling.items() if joint.name in robot.model.motors]
    if not robot.placed.fixed or floor is None or len(driven) < 2:
        return
    gaps = []
    for link in driven:
        low, _ = bounds_of([(s, robot.poses[link] @ p) for s, p in robot.touched(link)] or robot.seen(link))
        gaps.append(abs(float(low[2]) - floor.height) / robot.radius(link))
    if max(gaps) < AT_GROUND:
        yield found(
            "rolls-nowhere",
            robot,
            "",
            f"stands on the ground with driven wheels ({', '.join(sorted(driven))}), and its root is fixed",
            "leave fixed: out where it is placed",
        )


@rule("far-too-far", "warning", "joints")
def far_too_far(robot: RobotLook) -> Found:
    """A slide's limits are of a size with the robot.

    A plain number is in metres: limits of 0 to 400 that were meant in millimetres let a slide leave for good.
    """
    shapes = [
        (shape, robot.poses[link] @ pose)
        for link in robot.links
        for shape, pose in robot.touched(link) or robot.seen(link)
    ]
    if not shapes:
        return
    low, high = bounds_of(shapes)
    size = float(np.linalg.norm(high - low))
    for joint in robot.model.joints.values():
        if joint.kind != "prismatic" or not joint.limits:
            continue
        way = joint.limits[1] - joint.limits[0]
        if way > 20.0 * size and math.isfinite(way):
            a, b = joint.limits
            yield found(
                "far-too-far",
                robot,
                joint.name,
                f"its limits of {a:g} to {b:g} m are {way / size:.0f} times as far as the robot is large",
                f"write '{a:g} mm' and '{b:g} mm' for millimetres",
                kind="joint",
                fix=model_change(robot, {"joints": {joint.name: {"limits": [a / 1e3, b / 1e3]}}}),
            )
