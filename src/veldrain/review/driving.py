"""Rules about drives: sides, axes and track of wheels, what pulls a vehicle, and what must not turn with a wheel."""

from __future__ import annotations

import math

import numpy as np

from veldrain.model import Joint
from veldrain.model.volumes import bounds_of
from veldrain.pose import Array
from veldrain.review.look import RobotLook, figure, mm
from veldrain.review.rules import Found, found, rule
from veldrain.sensing import Gnss, Imu, Magnetometer, Odometer

WIDE = 0.1  # share by which an odometer's track may be narrower than the wheels, and wider on two wheels
SLIPPING = 2.0  # times the wheels' track: what skid-steered robots take at most
BORNE = 0.15  # of the weight
LEAST_PULL = 0.3  # m/s²: a slope of 2° asks for more


def _at(robot: RobotLook, link: str) -> Array:
    """Where a link is in its robot's frame."""
    return np.asarray((robot.placed.pose.inverse() @ robot.poses[link]).position)


def _way(robot: RobotLook, joint: Joint) -> Array:
    """A joint's axis in its robot's frame."""
    world = robot.poses[joint.child].rotation.apply(joint.axis)
    return np.asarray(robot.placed.pose.rotation.inv().apply(world))


@rule("odometer-sides", "warning", "drives")
def odometer_sides(robot: RobotLook) -> Found:
    """An odometer's left wheels are on the left.

    With its sides swapped it turns the wrong way: the map it makes is mirrored.
    """
    for name, sensor in _odometers(robot):
        left, right = (_mean_y(robot, joints) for joints in (sensor.left, sensor.right))
        if left is not None and right is not None and left < right - 1e-3:
            yield found(
                "odometer-sides",
                robot,
                name,
                f"its left wheels are at y {mm(left)} and its right ones at y {mm(right)}: left is where y is larger",
                f"write left: {list(sensor.right)}, right: {list(sensor.left)}",
                kind="sensor",
            )


@rule("odometer-track", "warning", "drives")
def odometer_track(robot: RobotLook) -> Found:
    """An odometer's track is that of its wheels.

    With a wrong track every turn comes out too large or too small by the same share. Skid-steered robots take more than
    their wheels are apart, up to twice as much.
    """
    for name, sensor in _odometers(robot):
        left, right = (_mean_y(robot, joints) for joints in (sensor.left, sensor.right))
        if left is None or right is None or abs(left - right) < 1e-6:
            continue
        track, slips = abs(left - right), len(sensor.left) > 1 or len(sensor.right) > 1
        most = SLIPPING if slips else 1 + WIDE
        if not (1 - WIDE) * track <= sensor.track <= most * track:
            yield found(
                "odometer-track",
                robot,
                name,
                f"it takes a track of {mm(sensor.track)}, and its wheels are {mm(track)} apart",
                f"write track: {figure(track)} m" + (", or up to twice that where they slip" if slips else ""),
                kind="sensor",
                numbers={"track m": track},
            )


@rule("odometer-backward", "warning", "drives")
def odometer_backward(robot: RobotLook) -> Found:
    """An odometer counts up where its robot goes forward.

    Wheels whose axes point to the right turn backward as they roll forward: its position goes the other way.
    """
    for name, sensor in _odometers(robot):
        joints = [robot.model.joints[j] for j in (*sensor.left, *sensor.right) if j in robot.model.joints]
        ahead = [float(np.cross(_way(robot, joint), (0.0, 0.0, 1.0))[0]) for joint in joints]
        if ahead and max(ahead) < -0.5:
            yield found(
                "odometer-backward",
                robot,
                name,
                f"its wheels ({', '.join(j.name for j in joints)}) turn about axes that point to the right: going"
                " forward it counts backward",
                "turn the axes of these joints round: [0, 1, 0] where y is to the left",
                kind="sensor",
            )


def _odometers(robot: RobotLook) -> list[tuple[str, Odometer]]:
    return [(s.name, s.sensor) for s in robot.model.sensors.values() if isinstance(s.sensor, Odometer)]


def _mean_y(robot: RobotLook, joints: tuple[str, ...]) -> float | None:
    held = [robot.model.joints[j].child for j in joints if j in robot.model.joints]
    return float(np.mean([_at(robot, link)[1] for link in held])) if held else None


@rule("one-axis-reversed", "warning", "drives")
def one_axis_reversed(robot: RobotLook) -> Found:
    """Driven wheels that are side by side turn the same way for the same command.

    One axis that points the other way drives its wheel backwards: the vehicle turns on the spot, or fights itself.
    """
    driven = [joint for joint in robot.wheels.values() if joint.name in robot.model.motors]
    for joint in _against_the_rest(robot, driven):
        row = [round(-float(x), 6) + 0.0 for x in joint.axis]
        yield found(
            "one-axis-reversed",
            robot,
            joint.name,
            "its axis points the other way than those of the other driven wheels: what drives them forward drives"
            " this one backward",
            f"write axis: {row}, or command it the other way round",
            kind="joint",
        )


@rule("one-steering-reversed", "warning", "drives")
def one_steering_reversed(robot: RobotLook) -> Found:
    """Joints that steer turn the same way for the same command.

    With one axis pointing down the wheels toe in or out instead of steering.
    """
    steering = {}
    for wheel in robot.wheels.values():
        joint = robot.moving.get(wheel.parent)
        if joint and joint.kind == "revolute" and abs(_way(robot, joint)[2]) > 0.7:
            steering[joint.name] = joint
    for joint in _against_the_rest(robot, list(steering.values()), down=True):
        row = [round(-float(x), 6) + 0.0 for x in joint.axis]
        yield found(
            "one-steering-reversed",
            robot,
            joint.name,
            "its axis points down and those of the other steered wheels up: one command steers them apart",
            f"write axis: {row}, or command it the other way round",
            kind="joint",
        )


def _against_the_rest(robot: RobotLook, joints: list[Joint], down: bool = False) -> list[Joint]:
    """Joints whose axes point against those of most others that lie along the same line."""
    ways = [_way(robot, joint) for joint in joints]
    if len(joints) < 2 or any(abs(way @ ways[0]) < 0.9 for way in ways):
        return []
    signs = np.sign([way @ ways[0] for way in ways])
    if down:
        rest = 1.0 if (signs * np.sign(ways[0][2]) > 0).any() else 0.0
        return [j for j, way in zip(joints, ways, strict=True) if rest and way[2] < 0]
    total = signs.sum()
    # Two wheels that disagree: one forward turns about +y, so that the one about −y is the odd one.
    usual = np.sign(total) if total else np.sign(ways[0][1]) or 1.0
    odd = [j for j, sign in zip(joints, signs, strict=True) if sign != usual]
    mirrored = total == 0 and len(joints) > 2  # a side of its own: meant so by who drew it
    return [] if mirrored else odd


@rule("turns-with-the-wheel", "error", "drives")
def turns_with_the_wheel(robot: RobotLook) -> Found:
    """What measures the motion of a vehicle is not mounted on what rolls.

    On a wheel an inertial unit turns with it: its gyro reads the wheel's speed, its accelerometer gravity going round.
    """
    for mounted in robot.model.sensors.values():
        rolling = next((link for link in robot.wheels if mounted.link in robot.below(link)), None)
        if rolling and isinstance(mounted.sensor, Imu | Magnetometer | Gnss):
            yield found(
                "turns-with-the-wheel",
                robot,
                mounted.name,
                f"is on {mounted.link}, which rolls: it measures the wheel's turning and not the vehicle's motion",
                f"mount it on {robot.wheels[rolling].parent}",
                kind="sensor",
            )


@rule("little-on-the-driven", "warning", "drives", world=True)
def little_on_the_driven(robot: RobotLook) -> Found:
    """The driven wheels bear a good part of the weight.

    What hardly stands on them spins them: castors or a stand carry the rest.
    """
    driven = [link for link, joint in robot.wheels.items() if joint.name in robot.model.motors]
    forces = robot.look.settled if driven and robot.is_free and not robot.model.rotors else None
    if forces is None:
        return
    own, whole, on_driven = f"{robot.name}/", 0.0, 0.0
    rollers = [r for r in robot.rollers if robot.moving[robot.moving[r].parent].name in robot.model.motors]
    carriers = {robot.path(link) for link in (*driven, *rollers)}
    for (a, b), force in zip(forces.sides, forces.force, strict=True):
        side, other, up = (a, b, 1.0) if str(a).startswith(own) else (b, a, -1.0)
        if str(side).startswith(own) and not str(other).startswith(own):
            borne = up * float(force @ robot.look.up)
            whole += borne
            on_driven += borne if side in carriers else 0.0
    weight = robot.body(list(robot.links)).mass * float(np.linalg.norm(robot.look.world.gravity))
    if 0.5 * weight < whole < 2.0 * weight and on_driven < BORNE * whole:
        yield found(
            "little-on-the-driven",
            robot,
            "",
            f"its driven wheels bear {figure(on_driven)} N of {figure(whole)} N: they spin",
            "move its centre of mass toward them, or lift what else it stands on",
            numbers={"share": on_driven / whole},
        )


@rule("weak-drive", "warning", "drives", world=True)
def weak_drive(robot: RobotLook) -> Found:
    """The motors of the wheels can drive the vehicle's mass.

    With less pull than a slope of two degrees asks for it stands still on the first unevenness.
    """
    driven = {link: joint for link, joint in robot.wheels.items() if joint.name in robot.model.motors}
    mass = robot.body(list(robot.links)).mass
    if not driven or mass <= 0 or not robot.is_free or not robot.look.has_gravity:
        return
    pull = 0.0
    for link, joint in driven.items():
        shapes = robot.touched(link) or robot.seen(link)
        motor = robot.model.motors[joint.name]
        if not shapes or not math.isfinite(motor.limit):
            return
        low, high = bounds_of(shapes)
        pull += (motor.limit - joint.friction) / (float((high - low).max()) / 2)
    if pull / mass < LEAST_PULL:
        needed = LEAST_PULL * mass / pull if pull > 0 else math.inf
        yield found(
            "weak-drive",
            robot,
            "",
            f"its driven wheels pull with {figure(max(pull, 0.0))} N together, which is {figure(max(pull, 0.0) / mass)}"
            f" m/s² for its {figure(mass)} kg",
            f"give the motors {figure(needed)} times their limit, or look at the masses and at joint friction"
            if math.isfinite(needed)
            else "let the motors give more than the joints' friction",
            numbers={"pull N": pull},
        )
