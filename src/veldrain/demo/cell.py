"""The sampling cell: an arm with a gripper, a jar with a printed label, a pedestal, and a camera beside the arm."""

from __future__ import annotations

from typing import Any

import numpy as np

from veldrain.demo import robot
from veldrain.model import Box, Cylinder, Look, Model, Part, Sun, Surface, World
from veldrain.pose import Pose
from veldrain.sensing import Camera, Encoders, TruePose

JAR_HEIGHT, JAR_RADIUS, LABEL = 0.12, 0.035, 0.048  # m; the label's side
PEDESTAL = np.array((0.38, -0.42, 0.1))  # middle of its top, m
EYE = Camera(size=(1280, 960), field_of_view="32 deg", output="grey", antialiasing=2, linear=True, period="20 s")


def sampling_arm() -> Model:
    """The arm with its gripper, stiff servos, encoders, and a camera on its plinth that looks down beside it.

    Frame ``grip`` is between the fingers. The camera is ``eye``, the encoders ``angles``.
    """
    m = robot("sampling_arm")
    m.attach(robot("gripper"), on="flange", name="gripper", pose=Pose((0, 0, 0.03)))
    for joint, stiffness, damping, limit in (
        ("shoulder", 20e3, 400, 160),
        ("elbow", 8e3, 150, 60),
        ("nod", 1e3, 15, 15),
        ("turn", 15e3, 400, 60),
    ):
        m.change_motor(joint, stiffness=stiffness, damping=damping, limit=limit)
    m.no_contact("wrist", "gripper/palm").frame("grip", on="flange", pose=Pose((0, 0, 0.135)))
    m.mount("eye", EYE, on="base", pose=Pose((0.45, 0.05, 1.0), rpy=(0, "90 deg", 0)))
    return m.mount("angles", Encoders(), on="base")


def jar(label: Any = None) -> Model:
    """A jar of 300 g; ``label``: an image for the plate on its lid."""
    plate = Part(Box((LABEL, LABEL, 0.001)), pose=Pose((0, 0, JAR_HEIGHT / 2 + 5e-4)), role="visual")
    if label is not None:
        plate = Part(plate.shape, plate.pose, role="visual", look=Look(image=label))
    body = Part(Cylinder(JAR_RADIUS, JAR_HEIGHT), colour="steelblue")
    grip = Surface(friction=0.6, torsional=0.002)
    return Model("jar").link("glass", body, plate, mass=0.3, surface=grip).mount("truth", TruePose(), on="glass")


def sampling_cell(x: float, y: float, yaw: float = 0.0, label: Any = None) -> World:
    """The cell with its jar at a place on the floor (m) and turned (rad)."""
    world = World().ground().light(Sun("55 deg", "160 deg"))
    stone = Part(Cylinder(0.09, PEDESTAL[2]), colour="#b9b2a4")
    world.obstacle("pedestal", stone, pose=Pose((*PEDESTAL[:2], PEDESTAL[2] / 2)))
    world.place(sampling_arm(), "arm", fixed=True, posture="stowed")
    return world.place(jar(label), "jar", pose=Pose((x, y, JAR_HEIGHT / 2), yaw=yaw))
