"""Sensors: one module a family, each what it is beside how it measures."""

from veldrain.sensing.airspeed import Airspeed
from veldrain.sensing.camera import Camera
from veldrain.sensing.encoders import Encoders, MotorCurrent, Odometer
from veldrain.sensing.flow import OpticalFlow
from veldrain.sensing.imu import Imu
from veldrain.sensing.lidar import Lidar, SpinningLidar
from veldrain.sensing.outdoors import Barometer, Gnss, Magnetometer
from veldrain.sensing.proximity import Infrared, Ultrasonic
from veldrain.sensing.radar import Radar
from veldrain.sensing.slip import TrueSlip
from veldrain.sensing.touch import FootForce, ForceTorque, LimitSwitch, Touch
from veldrain.sensing.traffic import TrueBoxes, TrueTraffic
from veldrain.sensing.truth import TrueClearance, TrueFrames, TruePose, TrueRelative

__all__ = [
    "Airspeed",
    "Barometer",
    "Camera",
    "Encoders",
    "FootForce",
    "ForceTorque",
    "Gnss",
    "Imu",
    "Infrared",
    "Lidar",
    "LimitSwitch",
    "Magnetometer",
    "MotorCurrent",
    "Odometer",
    "OpticalFlow",
    "Radar",
    "SpinningLidar",
    "Touch",
    "TrueBoxes",
    "TrueClearance",
    "TrueFrames",
    "TruePose",
    "TrueRelative",
    "TrueSlip",
    "TrueTraffic",
    "Ultrasonic",
]
