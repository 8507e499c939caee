"""Clouds and scans as files of points: PLY (G. Turk, 1994) and PCD (version 0.7)."""

from __future__ import annotations

from pathlib import Path
from typing import IO, ClassVar

import numpy as np

from veldrain.recording.exporting.base import Choices, Export
from veldrain.recording.exporting.pictures import TIMES
from veldrain.recording.reading import Streams
from veldrain.recording.tables import CLOUD, SCAN

PLY_NAMES = {"f4": "float", "f8": "double", "u1": "uchar", "i1": "char", "u2": "ushort", "i2": "short"}
PLY_NAMES |= {"u4": "uint", "i4": "int"}
WIDTH = 12  # digits that are kept free for the count of points


def records(cloud: dict[str, np.ndarray], time: float | None = None) -> np.ndarray:
    """The points of a cloud as records: x, y, z (m) in 32 bits, and what else they have."""
    more = {name: values for name, values in cloud.items() if name != "xyz" and values.ndim == 1}
    kinds = {name: f"<{_kind(values.dtype)}" for name, values in more.items()}
    clock = [] if time is None else [("stamp", "<f8")]
    found = np.empty(len(cloud["xyz"]), [(axis, "<f4") for axis in "xyz"] + list(kinds.items()) + clock)
    for k, axis in enumerate("xyz"):
        found[axis] = cloud["xyz"][:, k]
    for name, values in more.items():
        found[name] = values
    if time is not None:
        found["stamp"] = time
    return found


def _kind(dtype: np.dtype) -> str:
    """The kind of number that such files have for another."""
    code = dtype.str[1:]
    return code if code in PLY_NAMES else "u1" if code == "b1" else "f8"


class Ply(Export):
    """A folder a stream with a file a cloud and ``times.csv``; with a frame one file of all points, with stamps (s)."""

    word = "ply"

    def fits(self, message: str) -> bool:
        return message in (CLOUD, SCAN)

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        if choices.frame is not None:
            self._together(log, stream, path.with_name(f"{path.name}.{self.word}"), choices.frame)
            return
        path.mkdir(exist_ok=True)
        with (path / TIMES).open("w", encoding="utf-8") as times:
            times.write("file,time\n")
            for k, (time, cloud) in enumerate(log.clouds(stream)):
                name = f"{k:06d}.{self.word}"
                points = records(cloud)
                with (path / name).open("wb") as file:
                    file.write(self.head(points.dtype, len(points)))
                    file.write(points.tobytes())
                times.write(f"{name},{time!r}\n")

    def _together(self, log: Streams, stream: str, path: Path, frame: str) -> None:
        """One file; its head is written again when the points are counted."""
        count, kind = 0, records({"xyz": np.zeros((0, 3))}, 0.0).dtype
        with path.open("w+b") as file:
            for time, cloud in log.clouds(stream, frame):
                points = records(cloud, time)
                if not count:
                    kind = points.dtype
                    self._begin(file, kind, 0)
                file.write(points.astype(kind, copy=False).tobytes())
                count += len(points)
            self._begin(file, kind, count)

    def _begin(self, file: IO[bytes], kind: np.dtype, count: int) -> None:
        file.seek(0)
        file.write(self.head(kind, count))

    def head(self, kind: np.dtype, count: int) -> bytes:
        """The head of a file, as long for any count."""
        names = [f"property {PLY_NAMES[kind[name].str[1:]]} {name}" for name in kind.names or ()]
        lines = [
            "ply",
            "format binary_little_endian 1.0",
            f"element vertex {count:0{WIDTH}d}",
            *names,
            "end_header",
            "",
        ]
        return "\n".join(lines).encode()


class Pcd(Ply):
    """The same as PCD."""

    word: ClassVar[str] = "pcd"

    def head(self, kind: np.dtype, count: int) -> bytes:
        names = kind.names or ()
        lines = {
            "VERSION": "0.7",
            "FIELDS": " ".join(names),
            "SIZE": " ".join(str(kind[name].itemsize) for name in names),
            "TYPE": " ".join(kind[name].kind.upper() for name in names),
            "COUNT": " ".join("1" for _ in names),
            "WIDTH": f"{count:0{WIDTH}d}",
            "HEIGHT": "1",
            "VIEWPOINT": "0 0 0 1 0 0 0",
            "POINTS": f"{count:0{WIDTH}d}",
            "DATA": "binary",
        }
        return "".join(f"{word} {value}\n" for word, value in lines.items()).encode()
