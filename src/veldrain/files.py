"""Files that people name: only such as are files, and no larger than they can be meant to be."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from veldrain.errors import VeldrainError

MOST = 1 << 30  # bytes of a mesh; of a text see ``read_text``
MOST_TEXT = 20 << 20


def read_bytes(path: Path, cure: str, most: int = MOST) -> bytes:
    """What is in a file.

    Raises:
        VeldrainError: it is not there, is a folder or device, is too large, or cannot be read.
    """
    try:
        if not path.exists():
            raise VeldrainError("no such file", where=str(path), cure=cure)
        if not path.is_file():
            raise VeldrainError("is a folder or a device, not a file", where=str(path), cure=cure)
        size = path.stat().st_size
        if size > most:
            raise VeldrainError(
                f"has {size / 1e6:.0f} MB, more than the {most / 1e6:.0f} MB that are read", where=str(path), cure=cure
            )
        return path.read_bytes()
    except (OSError, ValueError) as error:  # also names that are too long, or hold what no name can
        said = getattr(error, "strerror", None) or error
        raise VeldrainError(f"cannot be read ({said})", where=str(path)[:200], cure=cure) from error


def read_text(path: Path, cure: str) -> str:
    """The same as text in UTF-8."""
    try:
        return read_bytes(path, cure, MOST_TEXT).decode("utf-8")
    except UnicodeDecodeError as error:
        raise VeldrainError(
            f"is no text in UTF-8 ({error.reason} at byte {error.start})", where=str(path), cure=cure
        ) from error


def write_text(path: Path, text: str) -> None:
    """Write a text, its folder being made where there is none; see ``write_bytes``."""
    write_bytes(path, text.encode("utf-8"))


def write_bytes(path: Path, data: bytes) -> None:
    """Write a file, its folder being made where there is none.

    Raises:
        VeldrainError: it cannot be written.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    except OSError as error:
        raise VeldrainError(
            f"cannot be written ({error.strerror})", where=str(path), cure="name another file"
        ) from error


@contextmanager
def new_folder(path: str | Path) -> Iterator[Path]:
    """A folder that is there whole or not at all: what is written to the one that is given comes to be at the path.

    Raises:
        VeldrainError: there is something already, or it cannot be written.
    """
    target = Path(path)
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise VeldrainError("holds something already", where=str(target), cure="name a new folder")
    part = target.with_name(f"{target.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    try:
        part.mkdir(parents=True)
        yield part
        if target.exists():
            target.rmdir()
        part.replace(target)
    except OSError as error:
        raise VeldrainError(
            f"cannot be written ({error.strerror or error})",
            where=str(target),
            cure="make room, or name another folder",
        ) from error
    finally:
        shutil.rmtree(part, ignore_errors=True)
