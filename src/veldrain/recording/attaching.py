"""The files that a recording holds: its world in words, its robots as URDF, and what is seen of them as GLB."""

from __future__ import annotations

from veldrain.formats.glb_out import glb_of
from veldrain.formats.urdf_out import description_of
from veldrain.model import World
from veldrain.recording.world_words import Files, as_yaml, world_words

WORLD = "world.yaml"


def attachments_of(world: World) -> dict[str, bytes]:
    """Files by name: ``world.yaml`` and what it needs, ``<robot>.urdf`` and ``scene.glb``.

    Raises:
        VeldrainError: the world has what files have no words for.
    """
    files = Files(None)
    text = as_yaml(world_words(world, files))
    found = {WORLD: text.encode()} | files.beside
    found |= {f"{name}.urdf": description_of(placed.model).encode() for name, placed in world.placed.items()}
    return found | {"scene.glb": glb_of(world)}
