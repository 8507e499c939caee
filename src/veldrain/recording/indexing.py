"""What an MCAP file holds, and where: read from its summary, so that one stream is read without the others.

Chunks carry a checksum each, the records between them one in common, the summary one of its own (the MCAP
specification). Each is checked where it is read: the common one when a file of up to ``CHECKED_WHOLE`` bytes is opened.
A file without its end, or without an index, is gone through once, a chunk at a time, up to its last whole record.
What is spoilt, or would unpack to more than it may, is told and never read.
"""

from __future__ import annotations

import zlib
from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass, field
from io import SEEK_END, BytesIO
from pathlib import Path
from typing import BinaryIO

import lz4.frame
import numpy as np
import zstandard
from mcap.data_stream import ReadDataStream
from mcap.opcode import Opcode
from mcap.records import (
    Attachment,
    AttachmentIndex,
    Channel,
    Chunk,
    ChunkIndex,
    Footer,
    McapRecord,
    Metadata,
    MetadataIndex,
    Schema,
    Statistics,
)
from mcap.stream_reader import StreamReader
from mcap.writer import MCAP0_MAGIC

MOST_UNPACKED = 64 << 20  # bytes of a chunk, or MOST_RATIO times what it was packed to, if that is more
MOST_RATIO = 50
CHECKED_WHOLE = 256 << 20  # bytes of a file that is gone over as a whole when it is opened
KEPT = 4  # chunks that stay unpacked
HEAD = 9  # bytes of a record before its content: opcode and length
FOOTER = HEAD + 20 + len(MCAP0_MAGIC)  # bytes from the footer to the end of the file

Entries = tuple[np.ndarray, np.ndarray]  # stamps (ns) and offsets of messages in a chunk's data


@dataclass
class Place:
    """A chunk: where its record is, when its first and last message are, and where each channel's are listed.

    ``entries`` are known of chunks that were gone through; ``plain`` are messages that lie in the file itself.
    """

    start: int
    first: int
    last: int
    listed: dict[int, int] = field(default_factory=dict)
    entries: dict[int, Entries] = field(default_factory=dict)
    plain: int = 0  # bytes


@dataclass
class Index:
    """What a file holds.

    Attributes:
        kinds: message type by stream; "" without a schema.
        definitions: of message types: how they are written (``ros2msg``, …), and the text.
        channels: numbers of each stream's channels.
        chunks: in the order of their first messages.
        metadata: by name.
        attached: where files are that lie in it, by name: offset and length of the record.
        is_cut: True where the file has no end.
    """

    kinds: dict[str, str] = field(default_factory=dict)
    definitions: dict[str, tuple[str, str]] = field(default_factory=dict)
    latched: set[str] = field(default_factory=set)
    channels: dict[str, list[int]] = field(default_factory=dict)
    chunks: list[Place] = field(default_factory=list)
    metadata: dict[str, dict[str, str]] = field(default_factory=dict)
    attached: dict[str, tuple[int, int]] = field(default_factory=dict)
    is_cut: bool = False
    schemas: dict[int, str] = field(default_factory=dict)

    def take(self, record: McapRecord | None) -> None:
        """Take over what a record says of streams and their types."""
        if isinstance(record, Schema):
            self.schemas[record.id] = record.name
            self.definitions[record.name] = record.encoding, record.data.decode("utf-8", "replace")
        elif isinstance(record, Channel):
            kind = "" if record.schema_id == 0 else self.schemas[record.schema_id]
            if self.kinds.setdefault(record.topic, kind) != kind:
                raise ValueError(
                    f"stream {record.topic} has messages of two types, {self.kinds[record.topic]} and {kind}"
                )
            if "durability: 1" in record.metadata.get("offered_qos_profiles", ""):
                self.latched.add(record.topic)
            known = self.channels.setdefault(record.topic, [])
            if record.id not in known:
                known.append(record.id)
        elif isinstance(record, Metadata):
            self.metadata[record.name] = record.metadata


class McapFile:
    """An MCAP file, or the bytes of one: its index, and the messages of one stream at a time.

    Raises:
        Exception: of many kinds, for what is no MCAP file or is spoilt.
    """

    def __init__(self, path: Path | None, data: bytes = b"") -> None:
        self._path, self._data = path, data
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        with self.open() as file:
            self.index = _index_of(file)
        self.index.chunks.sort(key=lambda place: (place.first, place.start))

    def open(self) -> BinaryIO:
        return self._path.open("rb") if self._path else BytesIO(self._data)

    def attachments(self) -> dict[str, bytes]:
        """Files that lie in it, by name."""
        with self.open() as file:
            found = {}
            for name, (offset, _) in self.index.attached.items():
                content = _content_at(file, offset, Opcode.ATTACHMENT)
                told = int.from_bytes(content[-4:], "little")
                if told and told != zlib.crc32(content[:-4]):
                    raise ValueError(f"the checksum of '{name}' is wrong")
                found[name] = Attachment.read(ReadDataStream(BytesIO(content))).data
            return found

    def stamps(self, stream: str) -> np.ndarray:
        """Stamps (ns) of a stream's messages, in order."""
        with self.open() as file:
            found = [self._entries(file, place, n)[0] for place, n in self._places(stream)]
        return np.sort(np.concatenate(found)) if found else np.zeros(0, np.int64)

    def batches(self, stream: str, start: int, end: int) -> Iterator[tuple[np.ndarray, list[bytes]]]:
        """Stamps (ns) and bytes of the messages from a time up to another, a batch at a time, in order."""
        with self.open() as file:
            waiting: list[tuple[int, bytes]] = []
            places = [(p, n) for p, n in self._places(stream) if p.first <= end and p.last >= start]
            for k, (place, number) in enumerate(places):
                stamps, offsets = self._entries(file, place, number)
                inside = (stamps >= start) & (stamps <= end)
                data = self._unpacked(file, place) if inside.any() else b""
                waiting += [
                    (int(t), _message(data, int(at), number))
                    for t, at in zip(stamps[inside], offsets[inside], strict=True)
                ]
                until = places[k + 1][0].first if k + 1 < len(places) else None
                waiting.sort(key=lambda pair: pair[0])
                ready = [pair for pair in waiting if until is None or pair[0] < until]
                waiting = waiting[len(ready) :]
                if ready:
                    yield np.array([t for t, _ in ready], np.int64), [raw for _, raw in ready]

    def _places(self, stream: str) -> list[tuple[Place, int]]:
        numbers = self.index.channels.get(stream, ())
        return [(p, n) for p in self.index.chunks for n in numbers if n in p.listed or n in p.entries]

    def _entries(self, file: BinaryIO, place: Place, number: int) -> Entries:
        """Stamps and offsets of a channel's messages in a chunk."""
        if number not in place.entries:
            content = _content_at(file, place.listed[number], Opcode.MESSAGE_INDEX)
            if int.from_bytes(content[:2], "little") != number or len(content) % 16 != 6:
                raise ValueError("an index leads to that of another stream")
            rows = np.frombuffer(content[6:], "<i8").reshape(-1, 2)
            place.entries[number] = rows[:, 0], rows[:, 1]
        return place.entries[number]

    def _unpacked(self, file: BinaryIO, place: Place) -> bytes:
        """The data of a chunk, checked."""
        if place.start not in self._kept:
            if place.plain:
                file.seek(place.start)
                data = file.read(place.plain)
            else:
                data = unpacked(Chunk.read(ReadDataStream(BytesIO(_content_at(file, place.start, Opcode.CHUNK)))))
            self._kept[place.start] = data
            while len(self._kept) > KEPT:
                self._kept.popitem(last=False)
        self._kept.move_to_end(place.start)
        return self._kept[place.start]


def _message(data: bytes, at: int, number: int) -> bytes:
    """The bytes of a message whose record is at a place of a chunk's data."""
    end = at + HEAD + int.from_bytes(data[at + 1 : at + HEAD], "little")
    if (
        at < 0
        or end > len(data)
        or data[at] != Opcode.MESSAGE
        or int.from_bytes(data[at + HEAD : at + HEAD + 2], "little") != number
    ):
        raise ValueError("an index leads to what is no message of its stream")
    return data[at + HEAD + 22 : end]


def _records(data: BinaryIO, limit: int) -> Iterator[McapRecord]:
    return StreamReader(data, skip_magic=True, emit_chunks=True, record_size_limit=limit).records


def _content_at(file: BinaryIO, offset: int, opcode: int) -> bytes:
    """The content of the record of a kind at an offset; bounded by the size of the file."""
    size = file.seek(0, SEEK_END)
    if not 0 < offset <= size - HEAD:
        raise ValueError(f"an index leads to byte {offset} of {size}")
    file.seek(offset)
    head = file.read(HEAD)
    length = int.from_bytes(head[1:], "little")
    if offset + HEAD + length > size:
        raise ValueError(f"a record of {length} bytes in a file of {size}")
    if head[0] != opcode:
        raise ValueError(f"an index leads to a record of kind {head[0]}, not {int(opcode)}")
    return file.read(length)


def _index_of(file: BinaryIO) -> Index:
    size, whole = file.seek(0, SEEK_END), whole_records(file)
    if whole is None:
        file.seek(max(size - FOOTER, 0))
        footer = next(_records(file, size), None) if size >= FOOTER + len(MCAP0_MAGIC) else None
        if not isinstance(footer, Footer):
            raise ValueError("it has no footer")
        file.seek(0)
        if file.read(len(MCAP0_MAGIC)) != MCAP0_MAGIC:
            raise ValueError("it does not begin as an MCAP file")
        if size <= CHECKED_WHOLE or not footer.summary_start:
            _check_data(file, size)
        found = _from_summary(file, footer, size) if footer.summary_start else None
        if found is not None:
            return found
    found = _gone_through(file, size if whole is None else whole)
    found.is_cut = whole is not None
    if found.is_cut and not (found.kinds or found.metadata):
        raise ValueError("there is nothing in it")
    return found


def _check_data(file: BinaryIO, size: int) -> None:
    """Compare the checksum of all up to the end of the data, where the file has one."""
    at = len(MCAP0_MAGIC)
    file.seek(0)
    total = zlib.crc32(file.read(at))
    while at + HEAD <= size:
        head = file.read(HEAD)
        length = int.from_bytes(head[1:], "little")
        if at + HEAD + length > size:
            raise ValueError("a record goes beyond the end of the file")
        content = file.read(length)
        if head[0] == Opcode.DATA_END:
            told = int.from_bytes(content[:4], "little")
            if told and told != total:
                raise ValueError("the checksum of its data is wrong")
            return
        total = zlib.crc32(content, zlib.crc32(head, total))
        at += HEAD + length
    raise ValueError("its data have no end")


def _from_summary(file: BinaryIO, footer: Footer, size: int) -> Index | None:
    """The index out of the summary; None where it does not list all chunks."""
    if not len(MCAP0_MAGIC) <= footer.summary_start <= size - FOOTER:
        raise ValueError("its summary is not in the file")
    file.seek(footer.summary_start)
    # The checksum goes over the summary and the footer up to itself; 4 bytes of it and 8 of magic come after.
    summary = file.read(size - 12 - footer.summary_start)
    if footer.summary_crc and zlib.crc32(summary) != footer.summary_crc:
        raise ValueError("the checksum of its summary is wrong")
    found, channels = Index(), set()
    counted: Statistics | None = None
    records = summary[: len(summary) - HEAD - 16]
    stated = BytesIO(records)
    while stated.tell() < len(records):
        at = stated.tell()
        record = next(_records(stated, size))
        if stated.tell() <= at:
            raise ValueError("its summary cannot be read")
        found.take(record)
        if isinstance(record, Channel):
            channels.add(record.id)
        if isinstance(record, ChunkIndex):
            at_chunk = dict(record.message_index_offsets)
            found.chunks.append(
                Place(record.chunk_start_offset, record.message_start_time, record.message_end_time, at_chunk)
            )
        elif isinstance(record, AttachmentIndex):
            found.attached[record.name] = record.offset, record.length
        elif isinstance(record, MetadataIndex):
            content = _content_at(file, record.offset, Opcode.METADATA)
            found.take(Metadata.read(ReadDataStream(BytesIO(content))))
        elif isinstance(record, Statistics):
            counted = record
    # A file may leave any part of its summary out; then it is gone through.
    if counted is None or not all(place.listed and set(place.listed) <= channels for place in found.chunks):
        return None
    counts = (counted.chunk_count, counted.channel_count, counted.attachment_count, counted.metadata_count)
    listed = (len(found.chunks), len(channels), len(found.attached), len(found.metadata))
    return found if counts == listed and bool(found.chunks) == bool(counted.message_count) else None


def _gone_through(file: BinaryIO, end: int) -> Index:
    """The index of a file that has none: each chunk is unpacked once."""
    found, at = Index(), len(MCAP0_MAGIC)
    file.seek(0)
    if file.read(at) != MCAP0_MAGIC:
        raise ValueError("it does not begin as an MCAP file")
    while at + HEAD <= end:
        file.seek(at)
        head = file.read(HEAD)
        length = int.from_bytes(head[1:], "little")
        if at + HEAD + length > end:
            break
        if head[0] == Opcode.DATA_END:  # what comes after repeats what was there
            break
        content = file.read(length)
        if head[0] == Opcode.CHUNK:
            _list(found, Place(at, 0, 0), unpacked(Chunk.read(ReadDataStream(BytesIO(content)))))
        elif head[0] == Opcode.MESSAGE:
            _list(found, Place(at, 0, 0, plain=HEAD + length), head + content)
        elif head[0] == Opcode.ATTACHMENT:
            found.attached[Attachment.read(ReadDataStream(BytesIO(content))).name] = at, HEAD + length
        elif head[0] != Opcode.MESSAGE_INDEX:
            found.take(next(_records(BytesIO(head + content), end), None))
        at += HEAD + length
    return found


def _list(found: Index, place: Place, data: bytes) -> None:
    """Note which messages are in a chunk."""
    at, rows = 0, dict[int, list[tuple[int, int]]]()
    known = {n for numbers in found.channels.values() for n in numbers}
    while at + HEAD <= len(data):
        end = at + HEAD + int.from_bytes(data[at + 1 : at + HEAD], "little")
        if end > len(data):
            raise ValueError("a record goes beyond the end of its chunk")
        if data[at] == Opcode.MESSAGE:
            number = int.from_bytes(data[at + HEAD : at + HEAD + 2], "little")
            if number not in known:
                raise ValueError(f"a message of channel {number}, which was not told")
            rows.setdefault(number, []).append((int.from_bytes(data[at + HEAD + 6 : at + HEAD + 14], "little"), at))
        else:
            found.take(next(_records(BytesIO(data[at:end]), len(data))))
            known = {n for numbers in found.channels.values() for n in numbers}
        at = end
    for number, listed in rows.items():
        table = np.array(listed, np.int64)
        place.entries[number] = table[:, 0], table[:, 1]
    if rows:
        place.first = min(int(stamps.min()) for stamps, _ in place.entries.values())
        place.last = max(int(stamps.max()) for stamps, _ in place.entries.values())
        found.chunks.append(place)


def whole_records(file: BinaryIO) -> int | None:
    """Bytes up to the end of the last whole record of a file that was cut; None where it has an end as it should."""
    size = file.seek(0, SEEK_END)
    file.seek(max(size - len(MCAP0_MAGIC), 0))
    if size < 2 * len(MCAP0_MAGIC):
        raise ValueError(f"it has {size} bytes")
    if file.read() == MCAP0_MAGIC:
        return None
    at = len(MCAP0_MAGIC)
    while at + HEAD <= size:
        file.seek(at + 1)
        end = at + HEAD + int.from_bytes(file.read(8), "little")
        if end > size:
            break
        at = end
    return at


def unpacked(chunk: Chunk) -> bytes:
    """A chunk's data, checked; what unpacks to more than it may is not unpacked."""
    size, most = chunk.uncompressed_size, max(MOST_UNPACKED, MOST_RATIO * len(chunk.data))
    if size > most:
        raise ValueError(f"a chunk of {len(chunk.data)} bytes says that it unpacks to {size}")
    if chunk.compression == "zstd":
        with zstandard.ZstdDecompressor().stream_reader(chunk.data) as reader:
            data = reader.read(size + 1)
    elif chunk.compression == "lz4":
        data = lz4.frame.LZ4FrameDecompressor().decompress(chunk.data, max_length=size + 1)
    elif chunk.compression:
        raise ValueError(f"chunks are packed with {chunk.compression!r}, which is not known here")
    else:
        data = chunk.data
    if len(data) != size:
        raise ValueError(f"a chunk unpacks to {len(data)} bytes and says {size}")
    if chunk.uncompressed_crc and zlib.crc32(data) != chunk.uncompressed_crc:
        raise ValueError("the checksum of a chunk is wrong")
    return data
