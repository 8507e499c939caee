"""All records of an MCAP file, checked and bounded: what is spoilt, cut short or blown up is told, never read.

Chunks carry a checksum each, the records between them one in common, the summary one of its own (the MCAP
specification). A file without its end is read to its last whole chunk.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field, replace
from io import SEEK_END, BytesIO
from typing import BinaryIO

import lz4.frame
import zstandard
from mcap.exceptions import EndOfFile
from mcap.records import Attachment, Channel, Chunk, DataEnd, Footer, McapRecord, Message, Metadata, Schema
from mcap.stream_reader import StreamReader, breakup_chunk
from mcap.writer import MCAP0_MAGIC

MOST_UNPACKED = 64 << 20  # bytes of a chunk, or MOST_RATIO times what it was packed to, if that is more
MOST_RATIO = 50


@dataclass
class Scan:
    """What a file holds.

    Attributes:
        kinds: message type by stream; "" without a schema.
        stamps, raw: of each stream, ns and bytes, in the order in which they were written.
        metadata: by name.
        attachments: bytes of the files that are in it, by name.
        is_cut: True where the file has no end.
    """

    kinds: dict[str, str] = field(default_factory=dict)
    stamps: dict[str, list[int]] = field(default_factory=dict)
    raw: dict[str, list[bytes]] = field(default_factory=dict)
    metadata: dict[str, dict[str, str]] = field(default_factory=dict)
    attachments: dict[str, bytes] = field(default_factory=dict)
    is_cut: bool = False
    schemas: dict[int, str] = field(default_factory=dict)
    topics: dict[int, str] = field(default_factory=dict)

    def take(self, record: McapRecord) -> None:
        """Take over one record."""
        if isinstance(record, Message):
            topic = self.topics[record.channel_id]
            self.stamps[topic].append(record.log_time)
            self.raw[topic].append(record.data)
        elif isinstance(record, Schema):
            self.schemas[record.id] = record.name
        elif isinstance(record, Channel):
            kind = "" if record.schema_id == 0 else self.schemas[record.schema_id]
            if self.kinds.setdefault(record.topic, kind) != kind:
                raise ValueError(
                    f"stream {record.topic} has messages of two types, {self.kinds[record.topic]} and {kind}"
                )
            self.topics[record.id] = record.topic
            self.stamps.setdefault(record.topic, [])
            self.raw.setdefault(record.topic, [])
        elif isinstance(record, Attachment):
            self.attachments[record.name] = record.data
        elif isinstance(record, Metadata):
            self.metadata[record.name] = record.metadata


def scan(file: BinaryIO) -> Scan:
    """Read a file.

    Raises:
        Exception: of many kinds, for what is no MCAP file or is spoilt.
    """
    size, whole = file.seek(0, SEEK_END), whole_records(file)
    found, has_end, footer = Scan(is_cut=whole is not None), False, None
    file.seek(0)
    source = file if whole is None else BytesIO(file.read(whole))
    records = StreamReader(source, emit_chunks=True, validate_crcs=True, record_size_limit=size).records
    try:
        for record in records:
            has_end = has_end or isinstance(record, DataEnd)
            footer = record if isinstance(record, Footer) else footer
            if isinstance(record, Chunk):
                for inner in breakup_chunk(unpacked(record), validate_crc=True):
                    found.take(inner)
            elif not has_end or isinstance(record, Schema | Channel):  # of channels without messages there is no more
                found.take(record)
    except EndOfFile:
        if not found.is_cut or not (found.kinds or found.metadata):
            raise
    if footer is not None and footer.summary_crc:
        file.seek(footer.summary_start)
        # The sum goes over the summary and the footer up to itself; 4 bytes of it and 8 of magic come after.
        summary = file.read(size - 12 - footer.summary_start)
        if zlib.crc32(summary) != footer.summary_crc:
            raise ValueError("the checksum of its summary is wrong")
    for topic, stamps in found.stamps.items():
        order = sorted(range(len(stamps)), key=stamps.__getitem__)
        found.stamps[topic] = [stamps[k] for k in order]
        found.raw[topic] = [found.raw[topic][k] for k in order]
    return found


def whole_records(file: BinaryIO) -> int | None:
    """Bytes up to the end of the last whole record of a file that was cut; None where it has an end as it should."""
    size = file.seek(0, SEEK_END)
    file.seek(max(size - len(MCAP0_MAGIC), 0))
    if size < 2 * len(MCAP0_MAGIC) or file.read() == MCAP0_MAGIC:
        return None
    at = len(MCAP0_MAGIC)
    while at + 9 <= size:
        file.seek(at + 1)
        end = at + 9 + int.from_bytes(file.read(8), "little")
        if end > size:
            break
        at = end
    return at


def unpacked(chunk: Chunk) -> Chunk:
    """A chunk without compression; what unpacks to more than it may is not unpacked."""
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
    return replace(chunk, compression="", data=data)
