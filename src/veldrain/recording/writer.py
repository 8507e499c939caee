"""Streams to one MCAP file."""

from __future__ import annotations

import json
from functools import cached_property
from io import BytesIO
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from mcap.writer import CompressionType, Writer

from veldrain.errors import VeldrainError
from veldrain.pose import Array
from veldrain.recording.messages import Fields, definition, header, to_bytes
from veldrain.sampling import Reading, Samples

METADATA = "veldrain"


class Recorder:
    """Writes streams to a file, or to memory for no file.

    The file is called ``….part`` until it is finished, so that a file under its own name is whole. All stamps
    are simulated time: the same trial gives the same bytes.
    """

    def __init__(self, path: Path | None = None) -> None:
        self.path = path
        self._part = path.with_name(path.name + ".part") if path else None
        self._schemas: dict[str, int] = {}
        self._channels: dict[str, int] = {}

    @cached_property
    def _out(self) -> BinaryIO:
        if self._part is None:
            return BytesIO()
        try:
            self._part.parent.mkdir(parents=True, exist_ok=True)
            return self._part.open("wb")
        except OSError as error:
            raise VeldrainError(f"cannot be written ({error.strerror})", where=str(self.path),
                                cure="name another file") from error  # fmt: skip

    @cached_property
    def _writer(self) -> Writer:
        """Opened by the first message, so that a mistake found before the start leaves no file."""
        writer = Writer(self._out, compression=CompressionType.ZSTD)
        writer.start(profile="ros2", library="veldrain")
        return writer

    def add(self, stream: str, message: str, stamp: int, fields: Fields) -> None:
        """Write one message at a simulated time in ns."""
        if stream not in self._channels:
            if message not in self._schemas:
                self._schemas[message] = self._writer.register_schema(message, "ros2msg", definition(message))
            self._channels[stream] = self._writer.register_channel(stream, "cdr", self._schemas[message])
        data = to_bytes(message, fields)
        self._writer.add_message(self._channels[stream], log_time=stamp, publish_time=stamp, data=data)

    def sample(self, samples: Samples, reading: Reading) -> None:
        """Write one reading of a sensor."""
        fields = samples.sensor.to_message(reading.data)
        is_pose = hasattr(fields, "child_frame_id")
        if is_pose:
            fields.child_frame_id = samples.stream
        sensor: Any = samples.sensor
        frame = f"{samples.stream}/optical" if hasattr(sensor, "optical") else samples.stream
        if is_pose:  # what is not the truth is counted from where it started
            frame = "world" if sensor.truth else f"{samples.stream}/start"
        # A header's stamp is the time of the first beam or row.
        stamp = reading.stamp - round(getattr(reading.data, "age", 0.0) * 1e9)
        fields.header = header(stamp, getattr(fields, "frame_id", frame))
        for transform in getattr(fields, "transforms", ()):
            transform.header = header(stamp, transform.frame_id)
        self.add(samples.stream, sensor.message, reading.stamp, fields)
        if hasattr(sensor, "companions"):
            for name, more in sensor.to_companions(reading.data).items():
                more.header = header(stamp, frame)
                self.add(f"{samples.stream}/{name}", sensor.companions[name], reading.stamp, more)

    def commands(self, stream: str, stamp: int, mode: dict[str, str], values: dict[str, float]) -> None:
        """Write the commands that hold from now on: each in the field of its motor's mode, nan elsewhere."""
        row = {
            field: np.array([values[j] if mode[j] == field else np.nan for j in values])
            for field in ("position", "velocity", "effort")
        }
        self.add(
            stream,
            "sensor_msgs/msg/JointState",
            stamp,
            Fields(header=header(stamp, ""), name=list(values), **row),
        )

    def state(self, stamp: int, coordinates: Array) -> None:
        """Write the coordinates of everything that moves, from which pictures are made."""
        row = Fields(label="coordinates", size=len(coordinates), stride=len(coordinates))
        self.add("scenario/state", "std_msgs/msg/Float64MultiArray", stamp,
                 Fields(layout=Fields(dim=[row], data_offset=0), data=coordinates.copy()))  # fmt: skip

    def event(self, stamp: int, text: str) -> None:
        """Write what the scenario did."""
        self.add("scenario/events", "std_msgs/msg/String", stamp, Fields(data=text))

    def finish(self, metadata: dict[str, Any]) -> bytes:
        """Close the file with what describes the trial; gives the bytes of a recording in memory."""
        self._writer.add_metadata(METADATA, {k: json.dumps(v, sort_keys=True) for k, v in metadata.items()})
        self._writer.finish()  # type: ignore[no-untyped-call]
        data = self._out.getvalue() if isinstance(self._out, BytesIO) else b""
        self._out.close()
        if self.path and self._part:
            self._part.replace(self.path)
        return data
