"""Streams to one MCAP file."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import cached_property
from io import BytesIO
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from mcap.writer import CompressionType, Writer

from veldrain.errors import VeldrainError
from veldrain.physics.tapping import Felt
from veldrain.pose import Array
from veldrain.recording.interrupts import whole
from veldrain.recording.messages import Fields, definition, header, stamped, to_bytes
from veldrain.sampling import Reading, Samples
from veldrain.sensing.parts import CONTACTS, contact

METADATA = "veldrain"
PLANNED = "veldrain/planned"  # the same without an outcome, at the start: what a file that was cut short still tells
CHUNK_TIME = 10**9  # ns of simulated time: all before is on the disk, and can be read from a file that was cut


class RecordingError(VeldrainError):
    """A recording cannot be written any further."""


class Recorder:
    """Writes streams to a file, or to memory for no file.

    The file is called ``….part`` until it is finished, so that a file under its own name is whole. All stamps
    are simulated time: the same trial gives the same bytes. A chunk is closed at every simulated second, so that a
    process that is killed loses one second at most.
    """

    def __init__(self, path: Path | None = None) -> None:
        self.path = path = path.absolute() if path else None  # a controller may go to another folder
        self._part = path.with_name(path.name + ".part") if path else None
        self._schemas: dict[str, int] = {}
        self._channels: dict[str, int] = {}
        self._chunk_end = CHUNK_TIME
        self.has_begun = False

    @cached_property
    def _out(self) -> BinaryIO:
        if self._part is None:
            return BytesIO()
        try:
            self._part.parent.mkdir(parents=True, exist_ok=True)
            return self._part.open("wb")
        except OSError as error:
            raise VeldrainError(
                f"cannot be written ({error.strerror})", where=str(self.path), cure="name another file"
            ) from error

    @cached_property
    def _writer(self) -> Writer:
        """Opened by the first record, so that a mistake found before the start leaves no file."""
        writer = Writer(self._out, compression=CompressionType.ZSTD, enable_data_crcs=True)
        writer.start(profile="ros2", library="veldrain")
        self.has_begun = True
        return writer

    @contextmanager
    def _writing(self) -> Iterator[None]:
        """What is written in here is written whole; what the disk refuses is told in one line."""
        try:
            with whole():
                yield
        except OSError as error:
            raise RecordingError(
                f"cannot be written any further ({error.strerror or error})",
                where=str(self.path),
                cure=f"make room; what was recorded until then is in {self._part}",
            ) from error

    def begin(self, metadata: dict[str, Any]) -> None:
        """Note what is going to be recorded."""
        with self._writing():
            self._writer.add_metadata(PLANNED, _as_text(metadata))

    def add(self, stream: str, message: str, stamp: int, fields: Fields) -> None:
        """Write one message at a simulated time in ns."""
        data = to_bytes(message, fields)
        with self._writing():
            if stamp >= self._chunk_end:
                self._chunk_end = stamp - stamp % CHUNK_TIME + CHUNK_TIME
                self._close_chunk()
            if stream not in self._channels:
                if message not in self._schemas:
                    self._schemas[message] = self._writer.register_schema(message, "ros2msg", definition(message))
                self._channels[stream] = self._writer.register_channel(stream, "cdr", self._schemas[message])
            self._writer.add_message(self._channels[stream], log_time=stamp, publish_time=stamp, data=data)

    def _close_chunk(self) -> None:
        """Write out what there is, and give it to the system: mcap has no public word for it."""
        self._writer._Writer__finalize_chunk()  # type: ignore[attr-defined]
        self._out.flush()

    def sample(self, samples: Samples, reading: Reading) -> None:
        """Write one reading of a sensor."""
        sensor, frame = samples.sensor, samples.sensor.frame(samples.stream)
        # A header's stamp is the time of the first beam or row.
        stamp = reading.stamp - round(sensor.age(reading.data) * 1e9)
        for name, message in sensor.messages(reading.data).items():
            stream = f"{samples.stream}/{name}" if name else samples.stream
            self.add(stream, message.type, reading.stamp, stamped(message.fields, stamp, frame))

    def commands(self, stream: str, stamp: int, mode: dict[str, str], values: dict[str, float]) -> None:
        """Write the commands that hold from now on: each in the field of its motor's mode, nan elsewhere."""
        row = {
            field: np.array([values[j] if mode[j] == field else np.nan for j in values])
            for field in ("position", "velocity", "effort")
        }
        self.add(
            stream, "sensor_msgs/msg/JointState", stamp, Fields(header=header(stamp, ""), name=list(values), **row)
        )

    def state(self, stamp: int, coordinates: Array) -> None:
        """Write the coordinates of everything that moves, from which pictures are made."""
        row = Fields(label="coordinates", size=len(coordinates), stride=len(coordinates))
        self.add(
            "scenario/state",
            "std_msgs/msg/Float64MultiArray",
            stamp,
            Fields(layout=Fields(dim=[row], data_offset=0), data=coordinates.copy()),
        )

    def contacts(self, stamp: int, felt: Felt) -> None:
        """Write the contacts of the world since the last time, world axes."""
        rows = [
            contact(a, b, at, normal, force, float(gap))
            for (a, b), at, normal, force, gap in zip(
                felt.sides, felt.point, felt.normal, felt.force, felt.gap, strict=True
            )
        ]
        self.add("scenario/contacts", CONTACTS, stamp, Fields(header=header(stamp, "world"), contacts=rows))

    def event(self, stamp: int, text: str) -> None:
        """Write what the scenario did."""
        self.add("scenario/events", "std_msgs/msg/String", stamp, Fields(data=text))

    def finish(self, metadata: dict[str, Any]) -> bytes:
        """Close the file with what describes the trial; gives the bytes of a recording in memory."""
        with self._writing():
            self._close_chunk()
            self._writer.add_metadata(METADATA, _as_text(metadata))
            self._writer.finish()  # type: ignore[no-untyped-call]
            data = self._out.getvalue() if isinstance(self._out, BytesIO) else b""
            self._out.close()
            if self.path and self._part:
                self._part.replace(self.path)
        return data

    def abandon(self) -> None:
        """Leave the file as it is, under its name of a part."""
        if self.has_begun:
            with suppress(OSError):  # the disk may be full still
                self._out.close()


def _as_text(metadata: dict[str, Any]) -> dict[str, str]:
    return {k: json.dumps(v, sort_keys=True) for k, v in metadata.items()}
