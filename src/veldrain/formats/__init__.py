"""Robot files in and out: one module per open format."""

from veldrain.formats.robots import is_robot_file, load_robot, save_robot

__all__ = ["is_robot_file", "load_robot", "save_robot"]
