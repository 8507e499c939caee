"""Files that people name: only such as are files, and no larger than they can be meant to be."""

from __future__ import annotations

import shutil
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from itertools import count
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError

MOST = 1 << 30  # bytes of a mesh; of a text see ``read_text``
MOST_TEXT = 20 << 20
MOST_NAME = 120  # letters of a file's name
RESERVED = {"CON", "PRN", "AUX", "NUL", *(f"{word}{k}" for word in ("COM", "LPT") for k in range(10))}
FORMULA = ("=", "+", "-", "@", "\t", "\r")  # what a cell begins with that is calculated


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
    with whole_file(path) as part:
        part.write_bytes(data)


@contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """A file that is there whole or not at all: what is written to the one that is given comes to be at the path.

    Raises:
        VeldrainError: it cannot be written.
    """
    target = path.resolve()  # of a link, what it leads to
    part = target.with_name(f".{target.stem[:100]}.part{target.suffix}")
    if target.exists() and not target.is_file():  # a device or a pipe
        part = target
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        yield part
        if part != target:
            part.replace(target)
    except OSError as error:
        said = error.strerror or error
        raise VeldrainError(f"cannot be written ({said})", where=str(path), cure="name another file") from error
    finally:
        if part != target:
            with suppress(OSError):  # its folder is none
                part.unlink(missing_ok=True)


def file_names(names: Iterable[str], taken: Iterable[str] = (), endings: Sequence[str] = ()) -> dict[str, str]:
    """The file that each name has: one to one, in one folder, on every system; plain names are as they are.

    ``/`` becomes a point, and what no file name may hold a low line; of names that are one then, also where small and
    large letters are one, those that come later get a number.

    Args:
        names: of streams and the like.
        taken: file names that are somebody else's.
        endings: what files of these names end with, such as ``csv``.

    >>> file_names(["cart/imu", "cart.imu", ".."])
    {'cart/imu': 'cart.imu', 'cart.imu': 'cart.imu~2', '..': '_'}
    """
    found: dict[str, str] = {}
    known = {name.casefold() for name in taken}
    for name in dict.fromkeys(names):
        plain = "".join(
            c if c.isprintable() and c not in '<>:"|?*\\' else "_" for c in name.strip("/").replace("/", ".")
        )
        plain = plain[:MOST_NAME].strip(". ") or "_"
        if plain.partition(".")[0].upper() in RESERVED:
            plain = f"_{plain}"
        free = (plain if k == 1 else f"{plain}~{k}" for k in count(1))
        for one in free:
            mine = {one.casefold(), *(f"{one}.{ending}".casefold() for ending in endings)}
            if not mine & known:
                break
        found[name] = one
        known |= mine
    return found


def write_csv(table: Any, file: Any, header: bool = True) -> None:
    """Write a table to a path or an open file as CSV; a text that a spreadsheet would calculate stays a text."""
    texts = [name for name in table.columns if table[name].dtype.kind == "O"]
    if texts:
        table = table.assign(**{name: table[name].map(_as_text) for name in texts})
    if any(str(name).startswith(FORMULA) for name in table.columns):
        table = table.rename(columns=_as_text)
    table.to_csv(file, index=False, header=header)


def _as_text(value: Any) -> Any:
    return f"'{value}" if isinstance(value, str) and value.startswith(FORMULA) else value


@contextmanager
def new_folder(path: str | Path) -> Iterator[Path]:
    """A folder that is there whole or not at all: what is written to the one that is given comes to be at the path.

    Raises:
        VeldrainError: there is something already, or it cannot be written.
    """
    target = Path(path).resolve()  # of a link, what it leads to
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise VeldrainError("holds something already", where=str(target), cure="name a new folder")
    part = target.with_name(f".{target.name[:100]}.part")
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
