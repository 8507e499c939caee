"""What a world is made of: pure data, no engine."""

from veldrain.model.inertia import MassProperties
from veldrain.model.knobs import Knob
from veldrain.model.leading import Gap, Leader, Rolls, Steers, Swings
from veldrain.model.lights import Air, Lamp, Sky, Sun, Surroundings
from veldrain.model.looks import Look
from veldrain.model.meshes import HeightField, Mesh
from veldrain.model.model import Model
from veldrain.model.pieces import Frame, Joint, Link, Loop, Motor, Mounted, Spring
from veldrain.model.sensor import Failure, Fields, Measuring, Message, Mount, Sensor, Sight, Struck, Touches
from veldrain.model.shapes import Box, Capsule, Cone, Cylinder, Ellipsoid, Part, Shape, Sphere, Surface
from veldrain.model.structures import Channel, Maze, Pipe, Ramp, Row, Scatter, Stairs, Wall
from veldrain.model.things import Body, Obstacle, Patch, Placed
from veldrain.model.world import GROUND, World

__all__ = [
    "GROUND",
    "Air",
    "Body",
    "Box",
    "Capsule",
    "Channel",
    "Cone",
    "Cylinder",
    "Ellipsoid",
    "Failure",
    "Fields",
    "Frame",
    "Gap",
    "HeightField",
    "Joint",
    "Knob",
    "Lamp",
    "Leader",
    "Link",
    "Look",
    "Loop",
    "MassProperties",
    "Maze",
    "Measuring",
    "Mesh",
    "Message",
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
    "Rolls",
    "Row",
    "Scatter",
    "Sensor",
    "Shape",
    "Sight",
    "Sky",
    "Sphere",
    "Spring",
    "Stairs",
    "Steers",
    "Struck",
    "Sun",
    "Surface",
    "Surroundings",
    "Swings",
    "Touches",
    "Wall",
    "World",
]
