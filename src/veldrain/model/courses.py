"""What of a model can be led, and what each of its joints then does."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from veldrain.errors import VeldrainError, unknown
from veldrain.model.leading import Moves, Rolls, Steers, Swings
from veldrain.model.meshes import Mesh
from veldrain.model.model import Model
from veldrain.model.shapes import Part, Shape
from veldrain.units import Quantity

HOLLOW = 150.0  # kg/m³


def model_to_lead(name: str, shape: Shape | Part | Model, draft: bool) -> Model:
    """The model of an actor; one that is a shape is as heavy as a car of its size, which only the check looks at.

    Raises:
        VeldrainError: a model with loops, springs or joints of several coordinates, or with mistakes if not a draft.
    """
    if not isinstance(shape, Model):
        part = shape if isinstance(shape, Part) else Part(shape)
        is_solid = part.role != "visual" and not isinstance(part.shape, Mesh)
        how: dict[str, Any] = {"density": HOLLOW} if is_solid else {"mass": 100.0}
        return Model(name).link("body", part, **how)
    if not draft:
        shape.settle()
        shape.root()
    odd = [j.name for j in shape.joints.values() if j.kind in ("planar", "ball", "floating")]
    if odd or shape.loops or shape.springs:
        raise VeldrainError(
            "its model cannot be led: only revolute, continuous, prismatic and fixed joints can, without loops",
            where=f"{name}/{(odd or [*shape.loops, *shape.springs])[0]}",
            cure="lead a simpler model",
        )
    return shape


def joints_to_lead(
    name: str, model: Model, told: Mapping[str, Quantity | Moves]
) -> tuple[dict[str, Moves], dict[str, float]]:
    """The joints of an actor that do something, and the positions of those that stay where they are.

    Raises:
        VeldrainError: an unknown joint, or a position of the wrong kind.
    """
    for joint in told:
        if joint not in model.coordinates():
            raise unknown("joint", joint, model.coordinates(), name)
    moves = {joint: how for joint, how in told.items() if isinstance(how, Rolls | Swings | Steers)}
    stays = {joint: at for joint, at in told.items() if not isinstance(at, Rolls | Swings | Steers)}
    return moves, model.positions(stays, name)
