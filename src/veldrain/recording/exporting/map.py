"""Scans and clouds as a map of what is occupied: PNG with YAML."""

from __future__ import annotations

from pathlib import Path

from veldrain.recording.exporting.base import Choices, Export
from veldrain.recording.reading import Streams
from veldrain.recording.tables import CLOUD, SCAN


class Map(Export):
    """A picture a stream with its YAML file, cells of 5 cm; in the world, or in the frame that is chosen."""

    word = "map"

    def fits(self, message: str) -> bool:
        return message in (CLOUD, SCAN)

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        from veldrain.recording.maps import occupancy  # it loads what compiles

        occupancy(log, stream, frame=choices.frame or "world").save(path.with_name(f"{path.name}.png"))
