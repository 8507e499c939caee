"""Streams of pictures: as a picture each, or as a movie."""

from __future__ import annotations

from pathlib import Path
from typing import Any, ClassVar

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.recording.exporting.base import Choices, Export
from veldrain.recording.reading import Streams
from veldrain.recording.tables import IMAGE, PACKED_IMAGE
from veldrain.recording.video import Mp4Writer

TIMES = "times.csv"


class Png(Export):
    """A folder a stream: ``000000.png``, …, and ``times.csv``. Depths are in mm, 16 bits, 0 where there is nothing."""

    word = "png"
    ending: ClassVar[str] = "png"
    options: ClassVar[dict[str, Any]] = {"compress_level": 1}

    def fits(self, message: str) -> bool:
        return message in (IMAGE, PACKED_IMAGE)

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        from PIL import Image

        path.mkdir(exist_ok=True)
        with (path / TIMES).open("w", encoding="utf-8") as times:
            times.write("file,time\n")
            for k, (stamp, pixels) in enumerate(log.pictures(stream)):
                name = f"{k:06d}.{self.ending}"
                Image.fromarray(self.pixels(pixels, stream)).save(path / name, **self.options)
                times.write(f"{name},{stamp / 1e9!r}\n")

    def pixels(self, pixels: np.ndarray, stream: str) -> np.ndarray:
        """A picture as such a file has it."""
        if pixels.dtype.kind != "f":
            return pixels
        depth = np.where(np.isfinite(pixels), pixels, 0.0) * 1000.0
        return np.clip(np.rint(depth), 0, 65535).astype(np.uint16)


class Jpeg(Png):
    """The same as JPEG, of pictures of 8 bits; some of what they show is lost."""

    word = "jpeg"
    ending: ClassVar[str] = "jpg"
    options: ClassVar[dict[str, Any]] = {"quality": 92}

    def pixels(self, pixels: np.ndarray, stream: str) -> np.ndarray:
        if pixels.dtype != np.uint8:
            raise VeldrainError("has pictures of more than 8 bits", where=stream, cure="write them as png")
        return pixels[..., :3] if pixels.ndim == 3 else pixels


class Mp4(Export):
    """A movie a stream, at its rate; depths go from black (near) to white (the farthest of the picture)."""

    word = "mp4"

    def fits(self, message: str) -> bool:
        return message in (IMAGE, PACKED_IMAGE)

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        writer = None
        for _, pixels in log.pictures(stream):
            shown = _as_colours(pixels)
            shown = shown[: shown.shape[0] // 2 * 2, : shown.shape[1] // 2 * 2]
            if writer is None:
                rate = log.streams[stream].rate or 10.0
                writer = Mp4Writer(path.with_name(f"{path.name}.mp4"), (shown.shape[1], shown.shape[0]), rate)
            writer.add(shown)
        if writer:
            writer.close()


def _as_colours(pixels: np.ndarray) -> np.ndarray:
    if pixels.dtype != np.uint8:
        known = np.isfinite(pixels)
        top = float(pixels[known].max()) if known.any() else 1.0
        pixels = (255 * np.where(known, pixels, top) / (top or 1.0)).astype(np.uint8)
    return np.stack([pixels] * 3, axis=-1) if pixels.ndim == 2 else pixels[..., :3]
