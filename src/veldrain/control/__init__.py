"""What a controller is, and the controllers that ship."""

from veldrain.control.centre_line import CentreLine
from veldrain.control.contract import Controller, MotorHandle, Motors, Senses

__all__ = ["CentreLine", "Controller", "MotorHandle", "Motors", "Senses"]
