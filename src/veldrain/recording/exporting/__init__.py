"""Recordings as files of other kinds: one module for those of a sort."""

from veldrain.recording.exporting import bag, map, pictures, points, scene, tables
from veldrain.recording.exporting.base import Choices, Export, export

__all__ = ["Choices", "Export", "bag", "export", "map", "pictures", "points", "scene", "tables"]
