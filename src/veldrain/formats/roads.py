"""Road files, all behind one load and one save function."""

from __future__ import annotations

from pathlib import Path

from veldrain.errors import VeldrainError
from veldrain.formats.open_drive_in import read_open_drive
from veldrain.formats.open_drive_out import open_drive_of
from veldrain.motion.roads import Roads


def load_roads(path: str | Path) -> Roads:
    """The roads of a file: ASAM OpenDRIVE (``.xodr``, 1.4 to 1.7).

    What was not used of it is in ``notes``, a line each.

    Raises:
        VeldrainError: what is wrong in it, with file and line.

    >>> load_roads("harbour.xodr").lane("12", lane=-1).route(speed="30 km/h")  # doctest: +SKIP
    """
    return read_open_drive(path)


def save_roads(roads: Roads, path: str | Path) -> None:
    """Write roads as ASAM OpenDRIVE 1.7, which ``load_roads`` reads back equal.

    Raises:
        VeldrainError: it cannot be written.
    """
    target = Path(path)
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(open_drive_of(roads))
    except OSError as error:
        raise VeldrainError(
            f"cannot be written ({error.strerror})", where=str(path), cure="name another file"
        ) from error
