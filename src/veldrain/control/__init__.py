"""What a controller is, and the controllers that ship."""

from veldrain.control.centre_line import CentreLine
from veldrain.control.contract import Controller, MotorHandle, Motors, Senses
from veldrain.control.loading import NamedController, call_named, fresh, load_named

__all__ = [
    "CentreLine",
    "Controller",
    "MotorHandle",
    "Motors",
    "NamedController",
    "Senses",
    "call_named",
    "fresh",
    "load_named",
]
