"""What a world is made of: pure data, no engine."""

from veldrain.model.inertia import MassProperties
from veldrain.model.meshes import HeightField, Mesh
from veldrain.model.model import Model
from veldrain.model.pieces import Frame, Joint, Link, Loop, Motor, Mounted, Spring
from veldrain.model.sensor import Mount, Sensor
from veldrain.model.shapes import Box, Capsule, Cone, Cylinder, Ellipsoid, Part, Shape, Sphere, Surface
from veldrain.model.structures import Channel, Pipe, Ramp, Row, Stairs, Strewn, Wall
from veldrain.model.world import GROUND, Body, Obstacle, Patch, Placed, World

__all__ = [
    "GROUND",
    "Body",
    "Box",
    "Capsule",
    "Channel",
    "Cone",
    "Cylinder",
    "Ellipsoid",
    "Frame",
    "HeightField",
    "Joint",
    "Link",
    "Loop",
    "MassProperties",
    "Mesh",
    "Model",
    "Motor",
    "Mount",
    "Mounted",
    "Obstacle",
    "Part",
    "Patch",
    "Pipe",
    "Placed",
    "Ramp",
    "Row",
    "Sensor",
    "Shape",
    "Sphere",
    "Spring",
    "Stairs",
    "Strewn",
    "Surface",
    "Wall",
    "World",
]
