"""Which of the drives that ship a new project's robot has: what is under its own controller."""

from __future__ import annotations

from typing import Any

from veldrain.errors import VeldrainError
from veldrain.model import Cylinder, Joint, Model, Sphere
from veldrain.motion import Leg

UPRIGHT = 0.9  # cosine of an axis
GAITS = {4: "trot", 6: "tripod"}  # by the number of legs: two pairs, two threes


def drive_of(model: Model) -> tuple[str, dict[str, Any]] | None:
    """A name for it, and its words in a scenario file; None where it is neither a walker nor a car."""
    return _walk(model) or _car(model)


def wheels_of(model: Model) -> tuple[str, dict[str, Any]] | None:
    """The same of a robot whose wheels are in a row on each side, and none of which steers."""
    poses = model.poses()
    wheels = []
    for joint in model.joints.values():
        motor = model.motors.get(joint.name)
        if motor is None or motor.mode != "velocity":
            continue
        shapes = [part.shape for part in model.links[joint.child].parts]
        radii = [shape.radius for shape in shapes if isinstance(shape, Cylinder | Sphere)]
        if radii and abs(float(poses[joint.child].rotation.apply(joint.axis)[1])) > UPRIGHT:
            wheels.append((float(poses[joint.child].position[1]), joint.name, float(radii[0])))
    left, right = ([w for w in wheels if w[0] * side > 0] for side in (1, -1))
    if not left or len(left) != len(right):
        return None
    track = sum(w[0] for w in left) / len(left) - sum(w[0] for w in right) / len(right)
    words = {
        "left": [name for _, name, _ in left],
        "right": [name for _, name, _ in right],
        "radius": round(left[0][2], 4),
        "track": round(track, 4),
    }
    return "drive", {"use": "DifferentialDrive" if len(left) == 1 else "SkidSteer", "with": words}


def _walk(model: Model) -> tuple[str, dict[str, Any]] | None:
    if "stand" not in model.postures:
        return None
    legs: dict[tuple[str, ...], str] = {}  # the foot by the joints that move it
    for end in (*model.frames, *model.links):
        try:
            leg = Leg(model, end)
        except VeldrainError:
            continue
        if all(j in model.motors for j in leg.joints):
            legs.setdefault(tuple(leg.joints), end)
    feet = list(legs.values())
    if len(feet) < 4:
        return None
    words = {"feet": feet, "stance": "stand", "gait": GAITS.get(len(feet), "crawl"), "stride_time": "500 ms"}
    return "walk", {"use": "Walk", "with": words}


def _car(model: Model) -> tuple[str, dict[str, Any]] | None:
    poses = model.poses()

    def left_first(mode: str, axis: int) -> list[Joint]:
        joints = [j for j in model.joints.values() if j.name in model.motors and model.motors[j.name].mode == mode]
        joints = [j for j in joints if abs(float(poses[j.child].rotation.apply(j.axis)[axis])) > UPRIGHT]
        return sorted(joints, key=lambda j: (-round(poses[j.child].position[0], 3), -poses[j.child].position[1]))

    steered, driven = left_first("position", 2), left_first("velocity", 1)
    if len(steered) != 2 or len(driven) not in (2, 4):
        return None
    rear = [poses[j.child].position for j in driven[-2:]]
    front = [poses[j.child].position for j in steered]
    radii = [
        shape.radius
        for part in model.links[driven[-1].child].parts
        if isinstance(shape := part.shape, Cylinder | Sphere)
    ]
    if not radii or not front[0][0] > rear[0][0]:
        return None
    words = {
        "steered": [j.name for j in steered],
        "driven": [j.name for j in driven],
        "radius": round(float(radii[0]), 4),
        "track": round(float(rear[0][1] - rear[1][1]), 4),
        "wheelbase": round(float(front[0][0] - rear[0][0]), 4),
    }
    return "drive", {"use": "AckermannDrive", "with": words}
