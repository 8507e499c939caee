"""Sensors: one module a family, each what it is beside how it measures."""

from veldrain.sensing.camera import Camera, Image
from veldrain.sensing.encoders import Currents, Encoders, JointReading, MotorCurrent, Odometer, Travel
from veldrain.sensing.imu import Imu, Inertial
from veldrain.sensing.lidar import Cloud, Lidar, Scan, SpinningLidar
from veldrain.sensing.outdoors import Barometer, Field, Fix, Gnss, Magnetometer, Pressure
from veldrain.sensing.proximity import Infrared, Nearness, Ultrasonic
from veldrain.sensing.radar import Detections, Radar
from veldrain.sensing.timing import Failure
from veldrain.sensing.touch import EndSwitch, FootPressure, ForceTorque, Touch
from veldrain.sensing.truth import Frames, Gap, Motion, Relative, TrueClearance, TrueFrames, TruePose, TrueRelative

__all__ = [
    "Barometer",
    "Camera",
    "Cloud",
    "Currents",
    "Detections",
    "Encoders",
    "EndSwitch",
    "Failure",
    "Field",
    "Fix",
    "FootPressure",
    "ForceTorque",
    "Frames",
    "Gap",
    "Gnss",
    "Image",
    "Imu",
    "Inertial",
    "Infrared",
    "JointReading",
    "Lidar",
    "Magnetometer",
    "Motion",
    "MotorCurrent",
    "Nearness",
    "Odometer",
    "Pressure",
    "Radar",
    "Relative",
    "Scan",
    "SpinningLidar",
    "Touch",
    "Travel",
    "TrueClearance",
    "TrueFrames",
    "TruePose",
    "TrueRelative",
    "Ultrasonic",
]
