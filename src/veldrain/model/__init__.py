"""What a world is made of: pure data, no engine."""

from veldrain.model.inertia import MassProperties
from veldrain.model.model import Frame, Joint, Link, Model, Motor, Mounted
from veldrain.model.sensor import Mount, Sensor
from veldrain.model.shapes import Box, Capsule, Cylinder, Part, Shape, Sphere, Surface
from veldrain.model.world import GROUND, Body, Obstacle, Patch, Placed, World

__all__ = [
    "GROUND",
    "Body",
    "Box",
    "Capsule",
    "Cylinder",
    "Frame",
    "Joint",
    "Link",
    "MassProperties",
    "Model",
    "Motor",
    "Mount",
    "Mounted",
    "Obstacle",
    "Part",
    "Patch",
    "Placed",
    "Sensor",
    "Shape",
    "Sphere",
    "Surface",
    "World",
]
