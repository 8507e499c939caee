"""The demo setting: robots, worlds and walking machines to start from."""

from __future__ import annotations

from pathlib import Path

from veldrain.documents import load_world
from veldrain.errors import unknown
from veldrain.formats import load_robot
from veldrain.model import Model, World

_HERE = Path(__file__).parent


def robot(name: str) -> Model:
    """A robot by its name, such as ``sampling_arm``."""
    return load_robot(_file(name, "robots", ".urdf"))


def world(name: str) -> World:
    """A world by its name, such as ``floor``, or ``culvert`` with the crawler in it."""
    return load_world(_file(name, "worlds", ".world.yaml"))


def _file(name: str, folder: str, ending: str) -> Path:
    found = [*sorted((_HERE / folder).glob(f"*{ending}")), *sorted(_HERE.glob(f"*{ending}"))]
    known = {path.name.removesuffix(ending): path for path in found}
    if name not in known:
        raise unknown(f"demo {folder.removesuffix('s')}", name, known)
    return known[name]
