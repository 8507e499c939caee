"""ROS 2 bag folders, with SQLite or MCAP files and their metadata.yaml."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

from rosbags.interfaces import Qos, QosDurability, QosHistory, QosLiveliness, QosReliability, QosTime
from rosbags.rosbag2 import StoragePlugin, Writer, WriterError

from veldrain.errors import VeldrainError
from veldrain.recording.exporting.base import Choices, Export
from veldrain.recording.messages import latched_streams
from veldrain.recording.reading import Streams

_LONG = QosTime(2147483647, 4294967295)


class Bag(Export):
    """A bag of all streams, in SQLite. Topics begin with a slash."""

    word = "bag"
    is_whole = True
    storage: ClassVar[StoragePlugin] = StoragePlugin.SQLITE3

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        latched = latched_streams(log.messages)
        try:
            with Writer(path, version=9, storage_plugin=self.storage) as bag:
                links = {
                    name: bag.add_connection(
                        f"/{name.strip('/')}",
                        message,
                        typestore=log.types,
                        offered_qos_profiles=[_latched()] if name in latched else [],
                    )
                    for name, message in log.messages.items()
                    if message in log.types.fielddefs
                }
                for name, link in links.items():
                    for stamps, raw in log.batches(name):
                        for stamp, data in zip(stamps.tolist(), raw, strict=True):
                            bag.write(link, stamp, data)
        except WriterError as error:
            raise VeldrainError(f"cannot be written ({error})", where=str(path), cure="name a new folder") from error


def _latched() -> Qos:
    return Qos(
        QosHistory.KEEP_LAST, 1, QosReliability.RELIABLE, QosDurability.TRANSIENT_LOCAL,
        _LONG, _LONG, QosLiveliness.AUTOMATIC, _LONG, False,
    )  # fmt: skip


class BagMcap(Bag):
    """The same with an MCAP file."""

    word = "bag-mcap"
    storage = StoragePlugin.MCAP
