"""From findings to a world file that mends what the check is sure of."""

from __future__ import annotations

import io
import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.documents.source import kind_of_file, laid_over
from veldrain.errors import VeldrainError
from veldrain.formats import is_robot_file, load_robot
from veldrain.model import Mesh, Part
from veldrain.pose import Pose
from veldrain.review.finding import Finding, Findings
from veldrain.units import worded


def tidy(value: float) -> float:
    """A number with the digits that matter: a micrometre, a microradian."""
    return round(float(value), 6) + 0.0


def pose_words(pose: Pose) -> dict[str, Any]:
    """A pose as a file says it."""
    words: dict[str, Any] = {}
    if np.abs(pose.position).max() > 1e-6:
        words["xyz"] = [tidy(x) for x in pose.position]
    angles = np.degrees(pose.rpy)
    if np.abs(angles).max() > 1e-4:
        words["rpy"] = [f"{tidy(a):g} deg" if abs(a) > 1e-4 else 0 for a in angles]
    return words


def part_words(part: Part) -> dict[str, Any]:
    """A part as a file says it."""
    shape, words = part.shape, dict[str, Any]()
    if isinstance(shape, Mesh):
        mesh: dict[str, Any] = {"file": str(shape.path or shape.source)}
        scale = [tidy(s / shape.file_unit) for s in shape.scale]
        if scale != [1.0, 1.0, 1.0]:
            mesh["scale"] = scale[0] if len(set(scale)) == 1 else scale
        words["mesh"] = mesh | ({"collide": shape.collide} if shape.collide != "hull" else {})
    else:
        sizes = {n: [tidy(x) for x in v] if isinstance(v, tuple) else tidy(v) for n, v in shape.sizes.items()}
        words[worded(type(shape).__name__)] = next(iter(sizes.values())) if len(sizes) == 1 else sizes
    if pose_words(part.pose):
        words["pose"] = pose_words(part.pose)
    if part.role != "both":
        words["role"] = part.role
    if part.colour:
        words["colour"] = part.colour
    if part.look:
        words["look"] = {word: value for word, value in part.look.given.items() if word != "image"}
        if part.look.source not in ("", "array"):  # a picture in memory has no file to name
            words["look"]["image"] = part.look.source
    return words


def flow(words: Any) -> str:
    """Words as a file may say them in one line.

    >>> flow({"cylinder": {"radius": 0.09}, "pose": {"rpy": ["90 deg", 0, 0]}})
    '{cylinder: {radius: 0.09}, pose: {rpy: [90 deg, 0, 0]}}'
    """
    if isinstance(words, Mapping):
        return "{" + ", ".join(f"{key}: {flow(value)}" for key, value in words.items()) + "}"
    if isinstance(words, list):
        return "[" + ", ".join(flow(value) for value in words) + "]"
    return "null" if words is None else str(words)


def overlay(findings: Findings, start: Mapping[str, Any], folder: Path) -> str:
    """A world file that says what is mended: a start (``base:``, or a model's file), and the fixes laid over it.

    Paths of meshes are written as seen from the folder that the file is to stand in.
    """
    from ruamel.yaml import YAML

    words: Any = dict(start)
    mended = sure(findings)
    for finding in mended:
        words = laid_over(words, finding.fix)
    yaml, out = YAML(), io.StringIO()
    yaml.default_flow_style = None
    yaml.width = 110
    yaml.dump(_from(folder, {"veldrain": "world/1"} | words), out)
    told = [f"# {f.path}: {f.problem}" for f in mended]
    return (
        "\n".join(
            ["# Corrections that veldrain check is sure of. Read them, edit them, keep what is right.", *told, ""]
        )
        + out.getvalue()
    )


def _from(folder: Path, value: Any, key: str = "") -> Any:
    """Plain data with the paths of files as seen from a folder."""
    if isinstance(value, Mapping):
        return {str(k): _from(folder, v, str(k)) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_from(folder, v, key) for v in value]
    if key in ("file", "base", "search"):
        return os.path.relpath(value, folder)
    return value.item() if isinstance(value, np.generic) else value


def start_of(file: Path, findings: Findings, search: Sequence[Path] = ()) -> dict[str, Any]:
    """What a file of corrections starts from: ``base:`` a world file, or a robot file by itself on level ground."""
    if not is_robot_file(file.name):
        if kind_of_file(file) != "world":
            raise VeldrainError(
                "corrections are of a world file or a robot file",
                where=str(file),
                cure="give the world's file to --fix",
            )
        return {"base": str(file.resolve())}
    name = load_robot(file, search=search, draft=True).name
    model: dict[str, Any] = {"file": str(file.resolve())}
    if search:
        model["search"] = [str(folder.resolve()) for folder in search]
    return {"ground": {}, "models": {name: model}, "place": {name: {"model": name}}}


def sure(findings: Findings) -> list[Finding]:
    """The findings that have a fix."""
    return [f for f in findings if f.fix]
