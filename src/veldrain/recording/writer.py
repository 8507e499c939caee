"""Streams to one MCAP file."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from functools import cached_property
from io import BytesIO
from pathlib import Path
from typing import Any, BinaryIO

from mcap.writer import CompressionType, Writer

from veldrain.errors import VeldrainError
from veldrain.model import Message
from veldrain.recording.batches import Batch, Sample, Source
from veldrain.recording.interrupts import whole
from veldrain.recording.messages import definition, to_bytes
from veldrain.recording.sinks import Sink

METADATA = "veldrain"
PLANNED = "veldrain/planned"  # the same without an outcome, at the start: what a file that was cut short still tells
MEDIA = {".yaml": "application/yaml", ".urdf": "application/xml", ".glb": "model/gltf-binary", ".png": "image/png"}
LATCHED = (  # of a topic whose last message late readers are given too, as ROS 2 bags note it
    "- history: 1\n  depth: 1\n  reliability: 1\n  durability: 1\n  deadline: {sec: 2147483647, nsec: 4294967295}\n"
    "  lifespan: {sec: 2147483647, nsec: 4294967295}\n  liveliness: 1\n"
    "  liveliness_lease_duration: {sec: 2147483647, nsec: 4294967295}\n  avoid_ros_namespace_conventions: false\n"
)
LARGE = 64 << 10  # bytes of a stream in a chunk's time, from which it has chunks of its own
MOST_WAITING = 32 << 20  # bytes that wait for the end of a chunk
CHUNK_TIME = 10**9  # ns of simulated time: all before is on the disk, and can be read from a file that was cut


class RecordingError(VeldrainError):
    """A recording cannot be written any further."""


class Recorder(Sink):
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
        self._waiting: dict[str, list[tuple[int, int, bytes]]] = {}  # stamp, order and bytes
        self._order = self._size = 0
        self._batches: dict[Source, Batch] = {}
        self.has_begun = False
        self.data = b""  # of a recording in memory, once it is at its end

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

    def begin(self, about: Mapping[str, Any], attached: Mapping[str, bytes] | None = None) -> None:
        with self._writing():
            self._writer.add_metadata(PLANNED, _as_text(about))
            for name, data in (attached or {}).items():
                kind = MEDIA.get(Path(name).suffix, "application/octet-stream")
                self._writer.add_attachment(0, 0, name, kind, data)

    def write(self, stream: str, stamp: int, message: Message, latched: bool = False) -> None:
        self._put(stream, stamp, message.type, to_bytes(message.type, message.fields), latched)

    def take(self, sample: Sample) -> None:
        source = sample.source
        if not source.stacks:
            super().take(sample)
        elif source in self._batches:
            self._make_room(sample.stamp)
            batch = self._batches[source]
            batch.add(sample.stamp, self._order, sample.values)
            self._order += batch.width
            self._size += batch.size
        else:
            encoded = {stream: to_bytes(message.type, message.fields) for stream, message in sample.messages.items()}
            for stream, message in sample.messages.items():
                self._put(stream, sample.stamp, message.type, encoded[stream])
            self._batches[source] = Batch(sample, encoded)

    def _make_room(self, stamp: int) -> None:
        """Close the chunk where a message of this stamp begins another."""
        if stamp >= self._chunk_end or self._size > MOST_WAITING:
            self._chunk_end = stamp - stamp % CHUNK_TIME + CHUNK_TIME
            self._close_chunk()

    def _put(self, stream: str, stamp: int, kind: str, data: bytes, latched: bool = False) -> None:
        """Let one message wait for the end of its chunk."""
        self._make_room(stamp)
        if stream not in self._channels:
            self._waiting[stream] = []
            with self._writing():
                if kind not in self._schemas:
                    self._schemas[kind] = self._writer.register_schema(kind, "ros2msg", definition(kind))
                quality = {"offered_qos_profiles": LATCHED} if latched else {}
                self._channels[stream] = self._writer.register_channel(stream, "cdr", self._schemas[kind], quality)
        self._waiting[stream].append((stamp, self._order, data))
        self._order += 1
        self._size += len(data)

    def _close_chunk(self) -> None:
        """Write out what waits, and give it to the system: mcap has no public word for it.

        A stream of many bytes has chunks of its own, so that the others are read without it.
        """
        for batch in self._batches.values():
            encoded = list(batch.encoded())
            with whole():
                for stream, rows in encoded:
                    self._waiting[stream] += rows
                batch.clear()
        sizes = {stream: sum(len(data) for *_, data in rows) for stream, rows in self._waiting.items()}
        large = [stream for stream, size in sizes.items() if size > LARGE]
        rest = [(row, s) for s, rows in self._waiting.items() if s not in large for row in rows]
        groups = [[(row, stream) for row in sorted(self._waiting[stream])] for stream in large]
        with self._writing():
            for group in (sorted(rest, key=lambda pair: pair[0][1]), *groups):
                for (stamp, _, data), stream in group:
                    self._writer.add_message(self._channels[stream], log_time=stamp, publish_time=stamp, data=data)
                self._writer._Writer__finalize_chunk()  # type: ignore[attr-defined]
            self._out.flush()
        for rows in self._waiting.values():
            rows.clear()
        self._size = 0

    def end(self, about: Mapping[str, Any]) -> None:
        self.data = self.finish(about)

    def finish(self, metadata: Mapping[str, Any]) -> bytes:
        """Close the file with what describes the trial; gives the bytes of a recording in memory."""
        self._close_chunk()
        with self._writing():
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


def _as_text(metadata: Mapping[str, Any]) -> dict[str, str]:
    return {k: json.dumps(v, sort_keys=True) for k, v in metadata.items()}
