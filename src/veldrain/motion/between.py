"""The joints on the way between two links, frames or sensors of a model."""

from __future__ import annotations

from dataclasses import dataclass

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Model
from veldrain.model.pieces import SIMPLE_KINDS, Joint
from veldrain.pose import Pose


@dataclass(frozen=True)
class Piece:
    """A joint of a chain: the link that it is reached from, whether it is gone through from child to parent."""

    joint: Joint
    is_back: bool


def pieces_between(model: Model, base: str, tip: str) -> list[Piece]:
    """The joints from base to tip: up from the base to the link that both hang on, and down to the tip."""
    held_by, climbed, above = _holders(model), way_up(model, base), way_up(model, tip)
    shared = next((link for link in climbed if link in above), None)
    if shared is None:
        raise VeldrainError(f"nothing joins '{base}' and '{tip}'", where=model.name, cure="name links of one tree")
    up = [Piece(held_by[link], True) for link in climbed[: climbed.index(shared)]]
    down = [Piece(held_by[link], False) for link in reversed(above[: above.index(shared)])]
    for piece in (*up, *down):
        if piece.joint.kind not in ("fixed", *SIMPLE_KINDS):
            raise VeldrainError(
                f"a {piece.joint.kind} joint between '{base}' and '{tip}'",
                where=f"{model.name}/{piece.joint.name}",
                cure="take a chain of joints with one coordinate each",
            )
    return [*up, *down]


def _holders(model: Model) -> dict[str, Joint]:
    """The joint that holds each link."""
    return {joint.child: joint for joint in model.joints.values()}


def way_up(model: Model, link: str) -> list[str]:
    """A link, what it hangs on, and so on to the root."""
    held_by, found = _holders(model), [link]
    while found[-1] in held_by:
        found.append(held_by[found[-1]].parent)
    return found


def place_of(model: Model, name: str) -> tuple[str, Pose]:
    """The link that a link, frame or sensor is fixed to, and its pose in it."""
    if name in model.links:
        return name, Pose()
    if name in model.frames:
        return model.frames[name].link, model.frames[name].pose
    sensor, _, inner = name.rpartition("/") if name.endswith("/optical") else (name, "", "")
    if sensor in model.sensors:
        mounted = model.sensors[sensor]
        optical = mounted.sensor.optical
        if not inner:
            return mounted.link, mounted.pose
        if optical is not None:
            return mounted.link, mounted.pose @ optical
    raise unknown("link, frame or sensor", name, [*model.links, *model.frames, *model.sensors], model.name)
