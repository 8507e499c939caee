"""Pictures as a movie."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError


class Mp4Writer:
    """H.264 in MP4, by PyAV."""

    def __init__(self, path: Path, size: tuple[int, int], frames: float) -> None:
        try:
            import av
        except ImportError as error:
            raise VeldrainError(
                "MP4 needs another package", where=str(path), cure="pip install 'veldrain[movie]', or name a .gif file"
            ) from error
        from fractions import Fraction

        self._av = av
        try:
            self._out = av.open(str(path), "w")
        except OSError as error:
            raise VeldrainError(
                f"cannot be written ({error.strerror})", where=str(path), cure="name another file"
            ) from error
        self._stream = self._out.add_stream("libx264", rate=Fraction(frames).limit_denominator(1000))
        self._stream.width, self._stream.height = size
        self._stream.pix_fmt, self._stream.options = "yuv420p", {"crf": "20"}

    def add(self, pixels: NDArray[np.uint8]) -> None:
        frame = self._av.VideoFrame.from_ndarray(np.ascontiguousarray(pixels), format="rgb24")
        self._out.mux(self._stream.encode(frame))

    def close(self) -> None:
        self._out.mux(self._stream.encode())
        self._out.close()
