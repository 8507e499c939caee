"""Rules about numbers that are rarely meant: degrees for radians, milliseconds for seconds, percent for a share."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np

from veldrain.model import Surface
from veldrain.model.pieces import SIMPLE_KINDS
from veldrain.motion import Route
from veldrain.review.look import Look, RobotLook, figure, mm
from veldrain.review.rules import Found, found, rule
from veldrain.sensing import Barometer, Gnss, Imu, Infrared, Lidar, SpinningLidar, Ultrasonic

MOST_TURNS = 2.0  # of a joint with limits, to each side
STICKIEST = 3.0  # friction of anything on anything: racing tyres have 1.7
STRONGEST = 30.0  # m/s² of gravity: Jupiter has 25
RAREST = 1.5  # s between readings; the weather changes slowly
SLOW_KINDS = {Barometer: 60.0, Gnss: 30.0}
FASTEST = 70.0  # m/s of what is led, 252 km/h
FARTHEST = {Ultrasonic: 20.0, Infrared: 20.0, Lidar: 1000.0, SpinningLidar: 1000.0}  # m
NOISIEST = 0.1  # of a sensor's longest range
SHAKIEST = {"gyro_noise": (0.5, "rad/s"), "accel_noise": (5.0, "m/s²")}  # of an IMU's single reading
SMALLEST, LARGEST = 0.01, 150.0  # m of what is led; LARGEST is some longer than a tram


@rule("unlikely-limits", "warning", "joints", drawn=True)
def unlikely_limits(robot: RobotLook) -> Found:
    """A joint that turns has limits of a few turns at most.

    A plain number is in radians: limits of −150 to 150 that were meant in degrees let an arm go round 24 times, and no
    stop is ever met.
    """
    for joint in robot.model.joints.values():
        if joint.kind == "revolute" and joint.limits and max(map(abs, joint.limits)) > MOST_TURNS * 2 * math.pi:
            low, high = joint.limits
            yield found(
                "unlikely-limits",
                robot,
                joint.name,
                f"its limits of {low:g} to {high:g} rad are {figure((high - low) / (2 * math.pi))} turns",
                f"write '{low:g} deg' and '{high:g} deg' for degrees, or kind: continuous for what turns on and on",
                kind="joint",
                numbers={"turns": (high - low) / (2 * math.pi)},
            )


@rule("held-by-friction", "warning", "joints")
def held_by_friction(robot: RobotLook) -> Found:
    """A motor is stronger than the friction of its joint.

    Where it is not, nothing moves, whatever is commanded.
    """
    for name, motor in robot.model.motors.items():
        joint = robot.model.joints[motor.joint]
        most = min(motor.limit, joint.effort, motor.stall or math.inf)
        if joint.kind in SIMPLE_KINDS and joint.friction >= most > 0:
            unit = "N" if joint.is_linear else "N·m"
            yield found(
                "held-by-friction",
                robot,
                name,
                f"its friction is {figure(joint.friction)} {unit}, and its motor gives {figure(most)}",
                "look at the unit of its friction, or give a stronger motor",
                kind="motor",
                numbers={"friction": joint.friction, "most": most},
            )


@rule("unlikely-range", "warning", "sensors", drawn=True)
def unlikely_range(robot: RobotLook) -> Found:
    """A sensor reaches no farther than those of its kind.

    A plain number is in metres: 30000 that was meant in millimetres is 30 km, and noise that grows with it too.
    """
    for mounted in robot.model.sensors.values():
        most = next((m for kind, m in FARTHEST.items() if isinstance(mounted.sensor, kind)), math.inf)
        reach = mounted.sensor.values.get("max_range", 0.0)
        if reach > most:
            yield found(
                "unlikely-range",
                robot,
                mounted.name,
                f"its max_range is {figure(reach)} m",
                f"write '{reach:g} mm' for millimetres: {mm(reach / 1e3)}",
                kind="sensor",
                numbers={"range m": reach},
            )


@rule("unlikely-noise", "warning", "sensors", drawn=True)
def unlikely_noise(robot: RobotLook) -> Found:
    """Noise is small beside what is measured.

    Centimetres or degrees written as plain numbers drown every reading.
    """
    for mounted in robot.model.sensors.values():
        told = mounted.sensor.values
        bounds: dict[str, tuple[float, str]] = SHAKIEST if isinstance(mounted.sensor, Imu) else {}
        if isinstance(mounted.sensor, tuple(FARTHEST)):
            bounds = {"noise": (NOISIEST * told["max_range"], "m")}
        for word, (most, unit) in bounds.items():
            if told[word] > most:
                yield found(
                    "unlikely-noise",
                    robot,
                    mounted.name,
                    f"its {word} is {figure(told[word])} {unit}, a standard deviation of each reading",
                    "look at its unit: a plain number is SI, and a string names its own",
                    kind="sensor",
                    numbers={word: told[word]},
                )


@rule("rare-readings", "warning", "sensors", drawn=True)
def rare_readings(robot: RobotLook) -> Found:
    """A sensor reads several times in a second or so.

    A plain number is in seconds: a period of 10 that was meant in milliseconds is one reading in 10 s.
    """
    for mounted in robot.model.sensors.values():
        period = mounted.sensor.period
        if period > SLOW_KINDS.get(type(mounted.sensor), RAREST):
            yield found(
                "rare-readings",
                robot,
                mounted.name,
                f"it reads once in {period:g} s",
                f"write '{period:g} ms' for milliseconds, or '{period:g} Hz' for so many a second",
                kind="sensor",
                numbers={"period s": period},
            )


@rule("unlikely-gravity", "warning", "world", drawn=True)
def unlikely_gravity(look: Look) -> Found:
    """Gravity is that of a planet, and points down.

    981 is in cm/s²; a gravity of +9.81 along z throws everything up.
    """
    gravity = np.array(look.world.gravity, float)
    size = float(np.linalg.norm(gravity))
    if size > STRONGEST:
        yield found("unlikely-gravity", look, "gravity", f"gravity is {size:g} m/s²", "write 9.81 m/s² for the earth's")
    elif gravity[2] > -0.5 * size and size > 0 and look.world.floor:
        way = "upward, away from" if gravity[2] > 0.5 * size else "sideways, along"
        told = f"gravity is {size:g} m/s² {way} the ground"
        yield found("unlikely-gravity", look, "gravity", told, f"write [0, 0, {-size:g}]")


def _surfaces(look: Look) -> Iterator[tuple[Look | RobotLook, str, Surface]]:
    """All surfaces of a world, each with whose it is and the name it has there."""
    if look.world.floor:
        yield look, "ground", look.world.floor.surface
    things: list[Any] = [*look.world.obstacles.values(), *look.world.bodies.values(), *look.world.patches.values()]
    for thing in things:
        yield look, thing.name, thing.surface
    for robot in look.robots:
        for name, link in robot.links.items():
            own = {part.surface or link.surface for part in link.parts if part.role != "visual"}
            yield from ((robot, name, surface) for surface in own)


@rule("unlikely-friction", "warning", "world", drawn=True)
def unlikely_friction(look: Look) -> Found:
    """A surface's friction is a share of the force on it.

    80 that was meant in percent holds everything as glue does: nothing ever slips, and vehicles tip instead.
    """
    for owner, name, surface in _surfaces(look):
        if surface.friction > STICKIEST:
            yield found(
                "unlikely-friction",
                owner,
                name,
                f"its friction is {figure(surface.friction)}; rubber on a dry road has about 1",
                f"write '{surface.friction:g} %' or {surface.friction / 100:g} for percent",
                numbers={"friction": surface.friction},
            )


@rule("unlikely-size", "warning", "roads", world=True)
def unlikely_size(look: Look) -> Found:
    """What is led is between a centimetre and 150 m large.

    A plain number is in m: a car of 4300 by 1800 that was meant in mm is as large as a town.
    """
    for placed in look.world.placed.values():
        box = placed.box() if placed.course else None
        large = 0.0 if box is None else float(np.max(box[1] - box[0]))
        if box is not None and not SMALLEST <= large <= LARGEST:
            yield found(
                "unlikely-size",
                look,
                placed.name,
                f"is {figure(large)} m large",
                f"write '{large:g} mm' for mm: {figure(large / 1e3)} m" if large > LARGEST else "look at its unit",
                numbers={"size m": large},
            )


@rule("unlikely-speed", "warning", "roads", world=True, drawn=True)
def unlikely_speed(look: Look) -> Found:
    """What is led goes at the speed of a vehicle.

    A plain number is in m/s: 120 that was meant in km/h is 432 km/h.
    """
    for placed in look.world.placed.values():
        leader = placed.course.leader if placed.course else None
        if isinstance(leader, Route) and leader.top_speed > FASTEST:
            speed = leader.top_speed
            yield found(
                "unlikely-speed",
                look,
                placed.name,
                f"its route is for {figure(speed)} m/s, {figure(3.6 * speed)} km/h",
                f"write '{speed:g} km/h' for km/h: {figure(speed / 3.6)} m/s",
                numbers={"speed m/s": speed},
            )
