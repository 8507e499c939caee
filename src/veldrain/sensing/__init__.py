"""Sensors: one module a family, each what it is beside how it measures."""

from veldrain.sensing.encoders import Encoders, JointReading
from veldrain.sensing.imu import Imu, Inertial
from veldrain.sensing.lidar import Lidar, Scan
from veldrain.sensing.touch import EndSwitch, FootPressure, ForceTorque, Touch
from veldrain.sensing.truth import Gap, Motion, TrueClearance, TruePose

__all__ = [
    "Encoders",
    "EndSwitch",
    "FootPressure",
    "ForceTorque",
    "Gap",
    "Imu",
    "Inertial",
    "JointReading",
    "Lidar",
    "Motion",
    "Scan",
    "Touch",
    "TrueClearance",
    "TruePose",
]
