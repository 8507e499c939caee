"""Rules about what sensors can measure where they are: their ranges, cones, wheels, light."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np

from veldrain.model import GROUND, HeightField
from veldrain.model.volumes import bounds_of
from veldrain.pose import Pose
from veldrain.review.look import Look, RobotLook, figure, mm
from veldrain.review.rules import Found, found, rule
from veldrain.review.sensors import cast_from, looking
from veldrain.sensing import (
    Camera,
    Encoders,
    FootForce,
    ForceTorque,
    Gnss,
    Imu,
    Infrared,
    Lidar,
    Magnetometer,
    MotorCurrent,
    Odometer,
    Radar,
    SpinningLidar,
    Touch,
    Ultrasonic,
)
from veldrain.sensing.outdoors import open_sky

OFF = 0.1  # share by which an odometer's wheels may be wrong
APART = 1.0  # m between beams where they reach
GRAINY = 1.0  # rad/s or m/s: a step of a speed
DARK, BRIGHT = 0.01, 4.0  # of white: what a grey card gives


def _of_kind(robot: RobotLook, *kinds: type) -> Iterator[tuple[str, str, Any]]:
    """Names of sensors of some kinds, their links, and they themselves."""
    for mounted in robot.model.sensors.values():
        if isinstance(mounted.sensor, kinds):
            yield mounted.name, mounted.link, mounted.sensor


@rule("clips-at-rest", "error", "sensors")
def clips_at_rest(robot: RobotLook) -> Found:
    """A sensor's range holds what it has to measure at rest.

    Accelerometers that end below gravity, load cells below the weight that hangs on them: they read their end all the
    time, and nothing else.
    """
    gravity = float(np.linalg.norm(robot.look.world.gravity))
    for name, link, sensor in _of_kind(robot, Imu, Magnetometer, ForceTorque, FootForce, MotorCurrent):
        told = "", 0.0, math.inf, ""
        if isinstance(sensor, Imu):
            told = "the weight of its proof mass", gravity, sensor.accel_full_scale, "m/s²"
        elif isinstance(sensor, Magnetometer):
            told = "the earth's field", sensor.field_strength, sensor.full_scale, "T"
        elif isinstance(sensor, ForceTorque):
            told = (
                "the weight that hangs on it",
                gravity * robot.body(robot.below(link)).mass,
                sensor.force_full_scale,
                "N",
            )
        elif isinstance(sensor, FootForce):
            feet = len(list(_of_kind(robot, FootForce)))
            told = (
                "its share of the weight",
                gravity * robot.body(list(robot.links)).mass / feet,
                sensor.full_scale,
                "N",
            )
        elif isinstance(sensor, MotorCurrent):
            limits = [m.limit for j, m in robot.model.motors.items() if not sensor.joints or j in sensor.joints]
            most = (
                max((x for x in limits if math.isfinite(x)), default=0.0) / sensor.torque_constant
                + sensor.no_load_current
            )
            told = "the current at the motors' limit", most, sensor.full_scale, "A"
        what, needed, most, unit = told
        if needed > most:
            yield found(
                "clips-at-rest",
                robot,
                name,
                f"it reads up to {figure(most)} {unit}, and {what} is {figure(needed)} {unit}",
                "write a larger range, or look at its unit",
                kind="sensor",
                severity="warning" if isinstance(sensor, MotorCurrent) else None,
                numbers={"most": most, "needed": needed},
            )


@rule("range-hangs-on-the-step", "note", "sensors")
def range_hangs_on_the_step(robot: RobotLook) -> Found:
    """An accelerometer whose range ends has a low pass of more than a step before its end.

    A hard impact lasts a step, whatever the step is: cut off there, it reads half as much at half the step. Behind a
    low pass it is spread over that first, as in a real part.
    """
    step = robot.look.step
    for name, _, imu in _of_kind(robot, Imu):
        fast = 1.0 / (2.0 * math.pi * step)
        if math.isfinite(imu.accel_full_scale) and not (imu.bandwidth or math.inf) < fast:
            yield found(
                "range-hangs-on-the-step",
                robot,
                name,
                f"its range ends at {figure(imu.accel_full_scale)} m/s² without a low pass before: what a hard impact "
                f"reads hangs on the step of {figure(1e3 * step)} ms",
                f"write its bandwidth, below {figure(fast)} Hz, or a smaller step",
                kind="sensor",
                numbers={"step": step},
            )


@rule("touches-nothing", "error", "sensors")
def touches_nothing(robot: RobotLook) -> Found:
    """What is to feel a touch is on a link that can be touched.

    On a link that is only seen no contact ever happens: the sensor reads zero for good.
    """
    for name, link, sensor in _of_kind(robot, Touch, FootForce):
        if not robot.touched(link):
            yield found(
                "touches-nothing",
                robot,
                name,
                f"{link} has no shape that can be touched, so that this {type(sensor).__name__} feels nothing",
                "mount it on a link with a collision shape",
                kind="sensor",
            )


@rule("weighs-nothing", "warning", "sensors")
def weighs_nothing(robot: RobotLook) -> Found:
    """A force sensor carries something that has a mass.

    It feels what is beyond it: a plate without mass weighs nothing, and its touches are felt by nobody.
    """
    for name, link, _ in _of_kind(robot, ForceTorque):
        if robot.links[link].mass_properties.mass <= 0 and robot.body(robot.below(link)).mass <= 0:
            yield found(
                "weighs-nothing",
                robot,
                name,
                f"{link}, which hangs on it, has no mass",
                f"write mass: for {link}, or density:",
                kind="sensor",
            )


@rule("wrong-wheels", "warning", "sensors")
def wrong_wheels(robot: RobotLook) -> Found:
    """An odometer's wheels are as large as those of the robot.

    A wrong radius makes every distance too long or too short by the same share.
    """
    for name, _, sensor in _of_kind(robot, Odometer):
        for joint in (*sensor.left, *sensor.right):
            held = robot.model.joints.get(joint)
            shapes = robot.touched(held.child) or robot.seen(held.child) if held else []
            if not held or not shapes:
                continue
            low, high = bounds_of(shapes)
            across = np.delete(high - low, int(np.abs(held.axis).argmax()))
            radius = float(across.max()) / 2
            if abs(radius / sensor.wheel_radius - 1) > OFF:
                yield found(
                    "wrong-wheels",
                    robot,
                    name,
                    f"it takes wheels of {mm(sensor.wheel_radius)} radius, and {held.child} has {mm(radius)}",
                    f"write wheel_radius: {figure(radius)} m",
                    kind="sensor",
                    numbers={"radius m": radius},
                )
                break


@rule("curve-too-short", "warning", "sensors")
def curve_too_short(robot: RobotLook) -> Found:
    """A calibration curve goes from the nearest distance to the farthest.

    Beyond its points the raw value stays where it is, and distances can no longer be told apart.
    """
    for name, _, sensor in _of_kind(robot, Ultrasonic, Infrared):
        if not sensor.calibration:
            continue
        first, last = sensor.calibration[0][0], sensor.calibration[-1][0]
        if first > sensor.min_range + 1e-9 or last < sensor.max_range:
            yield found(
                "curve-too-short",
                robot,
                name,
                f"its curve goes from {mm(first)} to {mm(last)}, and it measures from"
                f" {mm(sensor.min_range)} to {mm(sensor.max_range)}",
                "add points to its curve, or write min_range and max_range",
                kind="sensor",
            )


@rule("meets-the-ground", "warning", "sensors", world=True)
def meets_the_ground(robot: RobotLook) -> Found:
    """A sensor with one reading for a wide cone does not have the ground in it.

    It reports the ground before it, at the same distance for ever, as an obstacle.
    """
    for mounted, pose, directions, sight in looking(robot):
        if not isinstance(mounted.sensor, Ultrasonic | Infrared | Radar) or mounted.sensor.aim() == "down":
            continue
        distances, names = cast_from(robot, pose, directions, sight.max_range)
        ground = np.array([n == GROUND for n in names])
        if ground.mean() > 0.1:
            near = float(distances[ground].min())
            yield found(
                "meets-the-ground",
                robot,
                mounted.name,
                f"{figure(100 * float(ground.mean()))} % of its cone ends on the ground, from {mm(near)} on",
                "mount it higher, tilt it up or narrow its cone; or write looks: down where it is to see the ground",
                kind="sensor",
                numbers={"near m": near},
            )


@rule("beams-apart", "note", "sensors")
def beams_apart(robot: RobotLook) -> Found:
    """Beams are close to each other as far as they reach.

    What is thinner than the way between two beams can be missed by both.
    """
    for name, _, sensor in _of_kind(robot, Lidar, SpinningLidar):
        step = sensor.field_of_view / sensor.firings
        if step * sensor.max_range > APART:
            yield found(
                "beams-apart",
                robot,
                name,
                f"its beams are {figure(math.degrees(step))}° apart: {figure(step * sensor.max_range)} m at its"
                f" max_range of {figure(sensor.max_range)} m",
                "take more beams, or a shorter max_range",
                kind="sensor",
                numbers={"apart m": step * sensor.max_range},
            )


@rule("grainy-speed", "note", "sensors")
def grainy_speed(robot: RobotLook) -> Found:
    """Encoders have counts enough for the speed that is made of them.

    A speed counted over one period goes in steps of a count a period: a derivative gain turns them into blows.
    """
    for name, _, sensor in _of_kind(robot, Encoders):
        counts = sensor.counts_per_revolution
        step = 2 * math.pi / counts / sensor.period if counts else 0.0
        if step > GRAINY:
            yield found(
                "grainy-speed",
                robot,
                name,
                f"{counts} counts per revolution every {1e3 * sensor.period:g} ms: its speed goes in steps of"
                f" {figure(step)} rad/s",
                "take more counts, a longer period, or smooth the speed",
                kind="sensor",
                numbers={"step rad/s": step},
            )


@rule("no-fix", "warning", "sensors", world=True)
def no_fix(robot: RobotLook) -> Found:
    """A satellite receiver sees as much of the sky as it needs.

    Under a roof it has no position from the start, and a controller waits for ever.
    """
    for name, link, sensor in _of_kind(robot, Gnss):
        pose = robot.poses[link] @ robot.model.sensors[name].pose
        free = float(np.isinf(cast_from(robot, pose, open_sky(), 1e3)[0]).mean())
        if free < sensor.open_sky:
            yield found(
                "no-fix",
                robot,
                name,
                f"{100 * free:.0f} % of the sky is free over it at the start, and it needs"
                f" {100 * sensor.open_sky:.0f} %",
                "mount it higher, or write open_sky: lower",
                kind="sensor",
                numbers={"free": free},
            )


@rule("wrong-exposure", "warning", "sensors", world=True)
def wrong_exposure(robot: RobotLook) -> Found:
    """A camera's exposure fits the light.

    A picture that is all black or all white shows nothing, and no gain brings it back.
    """
    world = robot.look.world
    day = world.sun.lux * max(math.sin(world.sun.elevation), 0.0) + world.sky.lux
    for name, _, sensor in _of_kind(robot, Camera):
        if sensor.output not in ("rgb", "grey"):
            continue
        if day == 0 and not any(lamp.candela > 0 for lamp in world.lamps):
            yield found(
                "wrong-exposure",
                robot,
                name,
                "there is no light in this world: its pictures are black",
                "add a sun, a sky or lamps",
                kind="sensor",
            )
        elif not world.lamps:
            card = 0.5 * day / math.pi
            time, gain = sensor.automatic(card) if sensor.exposure is None else (sensor.exposure, 1.0)
            share = card * gain / sensor.white(time)
            if sensor.exposure is None and share < DARK:
                yield found(
                    "wrong-exposure",
                    robot,
                    name,
                    f"a grey card in this world's light of {figure(day)} lx is {figure(share)} of white, with the"
                    f" longest exposure of {1e3 * time:.3g} ms and the largest gain of {figure(gain)}",
                    "add light, or write max_gain: or max_exposure: above that, where the camera has it",
                    kind="sensor",
                    numbers={"share": share},
                )
            elif sensor.exposure is not None and not DARK < share < BRIGHT:
                right = time * 0.3 / share
                yield found(
                    "wrong-exposure",
                    robot,
                    name,
                    f"a grey card in this world's light of {figure(day)} lx is {figure(share)} of white at"
                    f" {1e3 * time:.3g} ms",
                    f"write exposure: {1e3 * right:.2g} ms, or leave it out",
                    kind="sensor",
                    numbers={"share": share},
                )


@rule("holes-in-the-ground", "note", "world", world=True)
def holes_in_the_ground(look: Look) -> Found:
    """A height field has heights everywhere.

    Where a height is missing there is no ground, and what goes there falls.
    """
    for o in look.world.obstacles.values():
        shape = o.part.shape
        if isinstance(shape, HeightField) and shape.holes:
            spots = np.argwhere(np.isnan(shape.heights))
            middle = (np.array(shape.heights.shape) - 1) / 2
            at = (o.pose @ o.part.pose @ Pose((*((spots[0] - middle) * shape.spacing), 0))).position
            yield found(
                "holes-in-the-ground",
                look,
                o.name,
                f"{shape.holes} of its {shape.heights.size} heights are missing, the first at x {at[0]:.2f} m,"
                f" y {at[1]:.2f} m: no ground there",
                "give heights, if no hole is meant",
                numbers={"holes": float(shape.holes)},
            )
