"""Scenes drawn elsewhere, as GLB, glTF or OBJ: each named node is a thing with its look."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.files import read_bytes
from veldrain.model.colours import hex_of
from veldrain.model.looks import GREY, Look
from veldrain.model.mesh_files import MOST, same_folder
from veldrain.model.meshes import Collide, Mesh
from veldrain.model.shapes import Part, Role

KINDS = ("glb", "gltf", "obj")
Z_UP = np.array([[1.0, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [0, 0, 0, 1]])  # glTF has y up


WAYS = ("triangles", "hull", "nothing")


def parts_of(path: Path, collide: str, without: Sequence[str], scale: float, where: str) -> Iterator[tuple[str, Part]]:
    """Each node as a thing: its name, as far as names allow, and its part; but for those left out.

    Raises:
        VeldrainError: an unknown way to collide, no node of a name that is left out, or what ``nodes_of`` raises.
    """
    if collide not in WAYS:
        raise unknown("way to collide", collide, WAYS, where)
    found: list[str] = []
    for node, mesh, look in nodes_of(path, "hull" if collide == "hull" else "triangles", scale):
        found.append(node)
        if node not in without:
            role: Role = "visual" if collide == "nothing" else "both"
            yield re.sub("[^A-Za-z0-9_.-]+", "_", node), Part(mesh, role=role, look=look)
    for node in set(without) - set(found):
        raise unknown("node", node, found, where)


def nodes_of(path: Path, collide: Collide, scale: float) -> Iterator[tuple[str, Mesh, Look]]:
    """Name, mesh in the scene's own axes with z up, and look of each node that has triangles.

    Raises:
        VeldrainError: no such file, of a kind that is not read, broken, or without triangles.
    """
    kind = path.suffix.lower().lstrip(".")
    if kind not in KINDS:
        raise VeldrainError(f"a scene of kind '{path.suffix}'", where=str(path), cure=f"use {', '.join(KINDS)}")
    content = read_bytes(path, "name a GLB, glTF or OBJ file", int(MOST))
    import trimesh  # takes a while

    try:
        resolver: Any = same_folder(path.parent)
        scene: Any = trimesh.load(io.BytesIO(content), file_type=kind, force="scene", resolver=resolver, process=False)
        found = [(name, *scene.graph[name]) for name in scene.graph.nodes_geometry]
    except Exception as error:  # whatever the reader of a broken file stumbles over
        said = " ".join(str(error).split())[:120] or type(error).__name__
        raise VeldrainError(f"not a scene that can be read ({said})", where=str(path), cure="export it anew") from error
    turn = Z_UP if kind != "obj" else np.eye(4)
    count = 0
    for name, transform, geometry in found:
        drawn = scene.geometry[geometry]
        triangles = np.asarray(getattr(drawn, "faces", np.zeros((0, 3))), np.int64)
        if len(triangles) == 0:
            continue
        at = turn @ np.asarray(transform, float)
        corners = (np.asarray(drawn.vertices, float) @ at[:3, :3].T + at[:3, 3]) * scale
        if np.linalg.det(at[:3, :3]) < 0:  # mirrored: corners turn the other way
            triangles = triangles[:, ::-1]
        uv = np.asarray(getattr(drawn.visual, "uv", None) if hasattr(drawn, "visual") else None, float)
        fits = uv.shape == (len(corners), 2) and np.isfinite(uv).all()
        count += 1
        yield (
            name,
            Mesh.of(corners, triangles, collide=collide, name=name, uv=uv[triangles] if fits else None),
            _look(drawn),
        )
    if not count:
        raise VeldrainError("a scene without triangles", where=str(path), cure="export its meshes as triangles")


def _look(drawn: Any) -> Look:
    material = getattr(drawn.visual, "material", None)
    colour, image = getattr(material, "main_color", None), getattr(material, "baseColorTexture", None)
    image = getattr(material, "image", None) if image is None else image
    words: dict[str, Any] = {"colour": GREY}
    if colour is not None:
        red, green, blue = (float(v) / 255.0 for v in colour[:3])
        words["colour"] = hex_of((red, green, blue, 1.0))
    if image is not None:
        words["image"] = np.asarray(image.convert("RGB"))
    return Look(**words)
