"""Road files, all behind one load and one save function."""

from __future__ import annotations

from pathlib import Path

from veldrain.files import write_bytes
from veldrain.formats.open_drive_in import read_open_drive
from veldrain.formats.open_drive_out import open_drive_of
from veldrain.formats.street_map_in import read_street_map
from veldrain.motion.roads import Roads


def load_roads(path: str | Path) -> Roads:
    """The roads of a file: ASAM OpenDRIVE (``.xodr``, 1.4 to 1.7), or an extract of OpenStreetMap (``.osm``).

    What was not used of it, and what was guessed, is in ``notes``, a line each.

    Raises:
        VeldrainError: what is wrong in it, with file and line.

    >>> load_roads("harbour.xodr").lane("12", lane=-1).route(speed="30 km/h")  # doctest: +SKIP
    """
    return read_street_map(path) if str(path).endswith(".osm") else read_open_drive(path)


def save_roads(roads: Roads, path: str | Path) -> list[str]:
    """Write roads as ASAM OpenDRIVE 1.7, which ``load_roads`` reads back equal.

    Returns:
        What has no words there, a line each: the cycles of traffic lights, and lines at which one gives way. A world
        file has them.

    Raises:
        VeldrainError: it cannot be written.
    """
    write_bytes(Path(path), open_drive_of(roads))
    left = [f"the cycle of the light {name}" for name in roads.lights]
    return left + [f"the line {name}, at which one gives way" for name in roads.give_ways]
