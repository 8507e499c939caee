"""Rules about where a sensor that looks is pointed."""

from __future__ import annotations

import math

import numpy as np

from veldrain.model import GROUND
from veldrain.pose import Array
from veldrain.review.look import RobotLook, figure
from veldrain.review.rules import Found, found, rule
from veldrain.review.sensors import cast_from, looking
from veldrain.sensing import Camera, Lidar

WAYS = {"down": -1.0, "level": 0.0, "up": 1.0}  # of +x along up
ASKEW = math.radians(45.0)  # from where it is said to look
OVER = -0.7  # cosine of its z with up
TILTED = math.radians(10.0)
MOSTLY = 0.3  # of its beams


def _rise(robot: RobotLook, ahead: Array) -> float:
    """Angle (rad) of a direction over the horizon."""
    return math.asin(float(np.clip(ahead @ robot.look.up, -1.0, 1.0)))


@rule("looks-elsewhere", "warning", "sensors")
def looks_elsewhere(robot: RobotLook) -> Found:
    """A sensor looks where its sheet says that it does.

    ``looks: down`` says that a camera sees the ground on purpose; one that looks at the sky then has a wrong pose.
    """
    for mounted, pose, _, _ in looking(robot):
        word = mounted.sensor.aim()
        rise = _rise(robot, pose.matrix[:, 0])
        if word in WAYS and abs(rise - math.asin(WAYS[word])) > ASKEW:
            turn = {"down": "[0, 90 deg, 0]", "level": "[0, 0, 0]", "up": "[0, -90 deg, 0]"}[word]
            yield found(
                "looks-elsewhere",
                robot,
                mounted.name,
                f"its x axis, along which it looks, is {math.degrees(rise):.0f}° over the horizon; its sheet has looks:"
                f" {word}",
                f"write rpy: {turn} in its pose, or another word",
                kind="sensor",
            )


@rule("upside-down", "note", "sensors")
def upside_down(robot: RobotLook) -> Found:
    """A camera or a lidar that looks ahead has its z axis up.

    Mounted upside down, left is where right should be: pictures stand on their head, scans are mirrored.
    """
    for mounted, pose, _, _ in looking(robot):
        ahead, up = pose.matrix[:, 0], pose.matrix[:, 2]
        is_over = float(up @ robot.look.up) < OVER and abs(_rise(robot, ahead)) < ASKEW
        if is_over and isinstance(mounted.sensor, Camera | Lidar):
            yield found(
                "upside-down",
                robot,
                mounted.name,
                "its z axis points down while it looks ahead: left and right, above and below are exchanged",
                "take the half turn out of its rpy, or suppress this where it is mounted so",
                kind="sensor",
            )


@rule("beams-on-the-ground", "warning", "sensors", world=True)
def beams_on_the_ground(robot: RobotLook) -> Found:
    """A lidar that scans around has its plane level.

    Tilted, half of its beams end on the ground a few metres ahead, and look like a wall.
    """
    for mounted, pose, directions, sight in looking(robot):
        tilt = math.acos(float(np.clip(abs(pose.matrix[:, 2] @ robot.look.up), 0.0, 1.0)))
        if not isinstance(mounted.sensor, Lidar) or mounted.sensor.aim() != "anywhere" or tilt < TILTED:
            continue
        _, names = cast_from(robot, pose, directions, sight.max_range)
        share = float(np.mean([name == GROUND for name in names]))
        if share > MOSTLY:
            yield found(
                "beams-on-the-ground",
                robot,
                mounted.name,
                f"its plane is tilted by {math.degrees(tilt):.0f}°, and {figure(100 * share)} % of its beams end on the"
                " ground",
                "write rpy: [0, 0, 0] in its pose, or looks: down where it scans the ground on purpose",
                kind="sensor",
                numbers={"share": share},
            )
