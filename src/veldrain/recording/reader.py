"""Recordings of trials, and any other MCAP file."""

from __future__ import annotations

import json
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.recording.indexing import McapFile
from veldrain.recording.log import Log
from veldrain.recording.reading import FIRST, LAST, Batch
from veldrain.recording.writer import METADATA, PLANNED

if TYPE_CHECKING:
    from rosbags.typesys.store import Typestore


class Recording(Log):
    """A recorded trial, or another MCAP file. A stream is read when it is asked for, without the others.

    Args:
        source: path of an MCAP file, or the bytes of one.

    Raises:
        VeldrainError: no such file, or not an MCAP file; one whose checksums are wrong. A file that was cut short is
            read up to its last whole chunk, see ``cut``.
    """

    def __init__(self, source: str | Path | bytes) -> None:
        self.path = None if isinstance(source, bytes) else Path(source)
        self._bytes = source if isinstance(source, bytes) else b""
        if self.path and not self.path.is_file():
            raise VeldrainError("no such file", where=str(self.path), cure="name an MCAP file")

    @cached_property
    def _file(self) -> McapFile:
        """What is in the file, and where."""
        return self._told(lambda: McapFile(self.path, self._bytes))  # type: ignore[no-any-return]

    def _told(self, read: Any) -> Any:
        """What comes of reading; what is wrong with the file is told in one line."""
        try:
            return read()
        except OSError as error:
            raise VeldrainError(f"cannot be read ({error.strerror})", where=self.where) from error
        except VeldrainError:
            raise
        except Exception as error:  # the library raises many kinds for what is spoilt
            raise VeldrainError(
                f"not an MCAP file, or a spoilt one ({type(error).__name__}: {error})".replace("\n", " "),
                where=self.where,
                cure="name a file as it was recorded",
            ) from error

    @cached_property
    def messages(self) -> dict[str, str]:
        return dict(sorted(self._file.index.kinds.items()))

    @cached_property
    def types(self) -> Typestore:
        from veldrain.recording.messages import typestore_with

        return self._told(lambda: typestore_with(self._file.index.definitions))  # type: ignore[no-any-return]

    def stamps(self, stream: str) -> np.ndarray:
        return self._told(lambda: self._file.stamps(stream))  # type: ignore[no-any-return]

    def batches(self, stream: str, start: int = FIRST, end: int = LAST) -> Iterator[Batch]:
        rows = self._told(lambda: self._file.batches(stream, start, end))
        while True:
            batch = self._told(lambda: next(rows, None))
            if batch is None:
                return
            yield batch

    @cached_property
    def attachments(self) -> dict[str, bytes]:
        """Files that are in the recording, by name: its world among them, as ``world.yaml``."""
        return self._told(self._file.attachments)  # type: ignore[no-any-return]

    @cached_property
    def metadata(self) -> dict[str, Any]:
        """What describes the trial: seed, controllers, drawn values, version, outcome."""
        found = self._file.index.metadata
        try:
            about = {k: json.loads(v) for k, v in found.get(METADATA, found.get(PLANNED, {})).items()}
        except ValueError as error:
            raise VeldrainError(f"what describes the trial cannot be read ({error})", where=self.where) from error
        if self.cut_at is not None and "outcome" not in about and about:
            about["outcome"] = {
                "passed": False,
                "failed": True,
                "reason": self.cut,
                "time": self.cut_at,
                "expectations": {},
                "notices": [],
            }
        return about

    @cached_property
    def cut_at(self) -> float | None:
        """Time (s) up to which a file that was cut short can be read; None: it is whole."""
        if not self._file.index.is_cut:
            return None
        return max((place.last for place in self._file.index.chunks), default=0) / 1e9

    @property
    def cut(self) -> str:
        """What to say of a file that was cut short; "": it is whole."""
        if self.cut_at is None:
            return ""
        planned = self._file.index.metadata.get(PLANNED, {}).get("duration")
        return f"cut short: readable to {self.cut_at:.4g} s" + (f" of {float(planned):g} s" if planned else "")

    @property
    def outcome(self) -> dict[str, Any]:
        """How the trial ended: passed, reason, time, and each expectation's verdict."""
        return dict(self.metadata.get("outcome", {}))

    def __repr__(self) -> str:
        return f"Recording({str(self.path) if self.path else 'in memory'}: {', '.join(self.messages)})"
