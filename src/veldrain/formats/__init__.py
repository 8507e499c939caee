"""Robot and road files in and out: one module per open format."""

from veldrain.formats.roads import load_roads, save_roads
from veldrain.formats.robots import is_robot_file, load_robot, save_robot

__all__ = ["is_robot_file", "load_roads", "load_robot", "save_roads", "save_robot"]
