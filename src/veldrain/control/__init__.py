"""What a controller is, and the controllers that ship."""

from veldrain.control.centre_line import CentreLine
from veldrain.control.contract import Body, Controller, InputValues, MotorHandle, Motors, Senses
from veldrain.control.loading import NamedController, fresh
from veldrain.control.playing import FollowTrajectory, Inputs, Play, Script
from veldrain.control.trying import try_controller
from veldrain.control.wheels import AckermannDrive, DifferentialDrive, Drive, OmniDrive, SkidSteer

__all__ = [
    "AckermannDrive",
    "Body",
    "CentreLine",
    "Controller",
    "DifferentialDrive",
    "Drive",
    "FollowTrajectory",
    "InputValues",
    "Inputs",
    "MotorHandle",
    "Motors",
    "NamedController",
    "OmniDrive",
    "Play",
    "Script",
    "Senses",
    "SkidSteer",
    "fresh",
    "try_controller",
]
