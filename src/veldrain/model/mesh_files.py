"""Mesh files in: STL, OBJ, PLY, glTF and DAE, read by trimesh, kept by content in the user's cache folder.

Nothing outside the file is read but the buffers of a glTF file, and those only from its own folder.
"""

from __future__ import annotations

import hashlib
import io
import logging
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.pose import Array

KINDS = ("stl", "obj", "ply", "glb", "gltf", "dae")
MOST = 200e6  # bytes of a file
_VERSION = 3  # of what is kept
# What trimesh logs of a broken file is in our error; without a handler of the user's it would be printed.
logging.getLogger("trimesh").addHandler(logging.NullHandler())


def read_mesh(path: Path) -> tuple[Array, NDArray[np.int64], float, Array]:
    """Corners (n, 3), triangles (m, 3), the length (m) of the file's unit where it states one (else 1), and the texture
    coordinates of the triangles' corners (m, 3, 2), or (0, 3, 2).

    Raises:
        VeldrainError: no such file, of a kind that is not read, too large, broken, or without faces.
    """
    where = str(path)
    kind = path.suffix.lower().lstrip(".")
    if kind not in KINDS:
        raise VeldrainError(f"a mesh file of kind '{path.suffix}'", where=where, cure=f"use {', '.join(KINDS)}")
    try:
        size = path.stat().st_size
        if size > MOST:
            raise VeldrainError(
                f"a mesh of {size / 1e6:.0f} MB",
                where=where,
                cure=f"reduce its triangles: {MOST / 1e6:.0f} MB are the most, and some 1 MB is enough to look good",
            )
        content = path.read_bytes()
    except OSError as error:
        missing = isinstance(error, FileNotFoundError)
        raise VeldrainError(
            "no such mesh file" if missing else f"cannot be read ({error.strerror})",
            where=where,
            cure="give the path of a file",
        ) from error
    if kind == "gltf":  # its buffers are files of their own, which its content does not tell
        return _parsed(content, kind, path)
    kept = _folder() / f"{hashlib.sha256(content).hexdigest()[:32]}-{kind}-{_VERSION}.npz"
    if kept.is_file():
        try:
            with np.load(kept) as arrays:
                return arrays["corners"], arrays["triangles"], float(arrays["unit"]), arrays["uv"]
        except Exception:  # a broken file there is one to make anew
            kept.unlink(missing_ok=True)
    corners, triangles, unit, uv = _parsed(content, kind, path)
    _keep(kept, corners=corners, triangles=triangles, unit=unit, uv=uv)
    return corners, triangles, unit, uv


def _folder() -> Path:
    from platformdirs import user_cache_path

    return user_cache_path("veldrain") / "meshes"


def _keep(path: Path, **arrays: Any) -> None:
    """Write whole or not at all; a cache that cannot be written costs time only."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=path.parent, suffix=".part", delete=False) as file:
            np.savez(file, **arrays)
        Path(file.name).replace(path)
    except OSError:
        return


def kept_parts(key: bytes, make: Any) -> list[Array]:
    """Convex parts by the content of what they were made from."""
    kept = _folder() / f"{hashlib.sha256(key).hexdigest()[:32]}-parts-{_VERSION}.npz"
    if kept.is_file():
        with np.load(kept) as arrays:
            return [arrays[name] for name in arrays.files]
    parts = make()
    _keep(kept, **{f"part{k:03}": corners for k, corners in enumerate(parts)})
    return list(parts)


class _SameFolder:
    """Hands a glTF file its buffers, from its own folder alone."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.resolve()

    def get(self, name: str) -> bytes:
        path = (self.folder / name).resolve()
        if self.folder not in path.parents:
            raise ValueError(f"'{name}' leads out of the file's folder")
        return path.read_bytes()

    __getitem__ = get


def same_folder(folder: Path) -> Any:
    """What hands a scene the files that it needs, from its own folder alone."""
    return _SameFolder(folder)


def _parsed(content: bytes, kind: str, path: Path) -> tuple[Array, NDArray[np.int64], float, Array]:
    import trimesh  # takes a while

    unit = _unit_of_dae(content, path) if kind == "dae" else 1.0
    try:
        resolver: Any = _SameFolder(path.parent) if kind == "gltf" else None
        mesh: Any = trimesh.load(io.BytesIO(content), file_type=kind, force="mesh", resolver=resolver, process=False)
        corners, triangles = np.array(mesh.vertices, float), np.array(mesh.faces, np.int64)
    except Exception as error:  # whatever the reader of a broken file stumbles over
        said = " ".join(str(error).split())[:120] or type(error).__name__
        raise VeldrainError(f"not a mesh that can be read ({said})", where=str(path), cure="export it anew") from error
    if len(triangles) == 0:
        raise VeldrainError("a mesh with no faces", where=str(path), cure="export it as triangles")
    if not is_mesh(corners, triangles):
        raise VeldrainError(
            "not a mesh: a corner is no point, or a face names one that there is not",
            where=str(path),
            cure="export it anew",
        )
    uv = np.asarray(getattr(mesh.visual, "uv", None) if hasattr(mesh, "visual") else None, float)
    fits = uv.shape == (len(corners), 2) and np.isfinite(uv).all()
    return *joined(corners, triangles), unit, uv[triangles] if fits else np.zeros((0, 3, 2))


def is_mesh(corners: Array, triangles: NDArray[np.int64]) -> bool:
    """True for points (n, 3) and triangles (m, 3) of them, one at least."""
    fits = corners.ndim == triangles.ndim == 2 and corners.shape[1] == triangles.shape[1] == 3 and len(triangles) > 0
    return bool(fits and triangles.min() >= 0 and triangles.max() < len(corners) and np.isfinite(corners).all())


def joined(corners: Array, triangles: NDArray[np.int64]) -> tuple[Array, NDArray[np.int64]]:
    """The mesh with corners at one place made one, in their order: STL files name each anew for every triangle."""
    order = np.lexsort(corners.T)  # stable: of corners at one place the first comes first
    at = corners[order]
    new = np.ones(len(order), bool)
    new[1:] = (at[1:] != at[:-1]).any(axis=1)
    firsts = order[new]
    rank = np.empty(len(firsts), np.int64)
    rank[np.argsort(firsts)] = np.arange(len(firsts))
    number = np.empty(len(order), np.int64)
    number[order] = rank[np.cumsum(new) - 1]
    return corners[np.sort(firsts)], number[triangles]


def _unit_of_dae(content: bytes, path: Path) -> float:
    from veldrain.xml import parse_xml

    unit = parse_xml(content, path).find("{*}asset/{*}unit")
    try:
        metres = float(unit.get("meter", 1.0)) if unit is not None else 1.0
    except ValueError:
        metres = np.nan
    if not 0 < metres < np.inf:
        raise VeldrainError("its unit is no length", where=str(path), cure="see <unit meter=…>")
    return metres
