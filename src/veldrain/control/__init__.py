"""What a controller is, and the controllers that ship."""

from veldrain.control.centre_line import CentreLine
from veldrain.control.contract import Body, Controller, Inputs, MotorHandle, Motors, Senses
from veldrain.control.loading import NamedController, fresh
from veldrain.control.trying import try_controller

__all__ = [
    "Body",
    "CentreLine",
    "Controller",
    "Inputs",
    "MotorHandle",
    "Motors",
    "NamedController",
    "Senses",
    "fresh",
    "try_controller",
]
