"""One run at a time writes to a folder of results."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from veldrain.errors import VeldrainError

LOCK = ".lock"


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Nobody else writes to a folder of results meanwhile.

    Raises:
        VeldrainError: somebody does, or it cannot be written to.
    """
    from filelock import FileLock, Timeout

    try:
        folder.mkdir(parents=True, exist_ok=True)
        lock = FileLock(folder / LOCK)
        lock.acquire(timeout=0)
    except Timeout:
        raise VeldrainError(
            "is being written to by another run", where=str(folder), cure="wait for it, or name another folder"
        ) from None
    except OSError as error:
        raise VeldrainError(
            f"cannot be written to ({error.strerror or error})", where=str(folder), cure="name another folder"
        ) from error
    try:
        yield
    finally:
        lock.release()
