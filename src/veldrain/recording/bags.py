"""ROS 2 bag folders: ``metadata.yaml`` beside SQLite or MCAP files."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.recording.joining import JoinedLog
from veldrain.recording.log import Log
from veldrain.recording.reader import Recording
from veldrain.recording.reading import FIRST, LAST, Batch

if TYPE_CHECKING:
    from rosbags.typesys.store import Typestore

MOST_BYTES = 256 << 20  # of a message
BATCH = 500  # messages


class SqliteLog(Log):
    """One ``.db3`` file of a bag."""

    def __init__(self, path: str | Path) -> None:
        self.path = self._file = Path(path)
        if not self.path.is_file():
            raise VeldrainError("no such file", where=str(path), cure="name a .db3 file of a bag")

    def _asked(self, question: str, *values: Any) -> Iterator[tuple[Any, ...]]:
        """Rows of the file, which is opened for reading alone."""
        try:
            with sqlite3.connect(f"{self._file.resolve().as_uri()}?mode=ro", uri=True) as file:
                yield from file.execute(question, values)
        except (sqlite3.Error, ValueError, TypeError, OverflowError) as error:  # also texts that are none
            raise VeldrainError(
                f"not a ROS 2 bag, or a spoilt one ({error})", where=self.where, cure="name one as it was recorded"
            ) from error

    @cached_property
    def _topics(self) -> dict[str, tuple[str, list[int]]]:
        """Type and numbers of each topic."""
        found: dict[str, tuple[str, list[int]]] = {}
        for number, name, kind, form in self._asked("select id, name, type, serialization_format from topics"):
            if form != "cdr":
                raise VeldrainError(f"has messages as '{form}'", where=f"{self.path}: {name}", cure="convert it to cdr")
            if found.setdefault(name, (kind, []))[0] != kind:
                raise VeldrainError("has messages of two types", where=f"{self.path}: {name}", cure="split the bag")
            found[name][1].append(number)
        return dict(sorted(found.items()))

    @property
    def messages(self) -> dict[str, str]:
        return {name: kind for name, (kind, _) in self._topics.items()}

    @cached_property
    def types(self) -> Typestore:
        from veldrain.recording.messages import typestore_with

        tables = {name for (name,) in self._asked("select name from sqlite_master where type = 'table'")}
        if "message_definitions" not in tables:
            return typestore_with({})
        rows = self._asked("select topic_type, encoding, encoded_message_definition from message_definitions")
        return typestore_with({kind: (encoding, text) for kind, encoding, text in rows})

    def _of(self, stream: str) -> str:
        numbers = self._topics[stream][1] if stream in self._topics else []
        return f"topic_id in ({', '.join(str(int(n)) for n in numbers)})"

    def stamps(self, stream: str) -> np.ndarray:
        rows = self._asked(f"select timestamp from messages where {self._of(stream)} order by timestamp")
        return np.array([stamp for (stamp,) in rows], np.int64)

    def batches(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[Batch]:
        question = f"select timestamp, data from messages where {self._of(stream)} and timestamp between ? and ?"
        stamps, raw = list[int](), list[bytes]()
        for stamp, data in self._asked(f"{question} order by timestamp, id", start, end):
            if not isinstance(data, bytes) or len(data) > MOST_BYTES:
                raise VeldrainError("has a message that is none", where=f"{self.path}: {stream}", cure="record it anew")
            stamps.append(stamp)
            raw.append(data)
            if len(raw) == BATCH:
                yield np.array(stamps, np.int64), raw
                stamps, raw = [], []
        if raw:
            yield np.array(stamps, np.int64), raw

    def __repr__(self) -> str:
        return f"SqliteLog({self.path}: {', '.join(self.messages)})"


def open_bag(folder: Path) -> Log:
    """A bag folder.

    Raises:
        VeldrainError: no bag, or one that is packed.
    """
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    about = folder / "metadata.yaml"
    try:
        told = YAML(typ="safe").load(about.read_text(encoding="utf-8"))["rosbag2_bagfile_information"]
        names, packed = list(told["relative_file_paths"]), told.get("compression_format") or ""
    except OSError as error:
        raise VeldrainError(
            f"has no metadata.yaml ({error.strerror})", where=str(folder), cure="name the folder of a ROS 2 bag"
        ) from error
    except (YAMLError, KeyError, TypeError, AttributeError) as error:
        raise VeldrainError(
            f"is no description of a bag ({type(error).__name__})", where=str(about), cure="write it anew"
        ) from error
    if packed:
        raise VeldrainError(f"is packed with {packed}", where=str(folder), cure="unpack it, or record it without")
    logs: list[Log] = []
    for name in names:
        path = folder / Path(str(name)).name  # never outside of the folder
        logs.append(SqliteLog(path) if path.suffix == ".db3" else Recording(path))
    if not logs:
        raise VeldrainError("names no files", where=str(about), cure="record it anew")
    return logs[0] if len(logs) == 1 else JoinedLog(logs)
