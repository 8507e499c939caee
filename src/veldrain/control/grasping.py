"""A body that a robot holds, as a part of the robot: for planning with what is in the hand."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from dataclasses import replace

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Part, World
from veldrain.physics.engine import Engine


def holding(world: World, engine: Engine, robot: str, body: str, grasped_by: Sequence[str]) -> World:
    """The world in which a body is a link of a robot, as it lies in the hand in a state.

    Args:
        world: the world.
        engine: its state.
        robot: name of the robot.
        body: name of a body, or of a robot of one link.
        grasped_by: links of the robot: it goes along with the first, and may touch all of them.

    Raises:
        VeldrainError: no such body or link, or a body that is fixed, led or of several links.
    """
    where = f"plan {robot}: carrying"
    loose = {**world.bodies, **{name: placed for name, placed in world.placed.items() if name != robot}}
    if body not in loose:
        raise unknown("body", body, loose, where)
    model = world.placed[robot].model.copy()
    if not grasped_by:
        raise VeldrainError("which links hold it is not said", where=where, cure="give grasped_by=['hand', …]")
    for link in grasped_by:
        if link not in model.links:
            raise unknown("link", link, model.links, f"plan {robot}: grasped_by")
    if body in world.bodies:
        parts: Sequence[Part] = [world.bodies[body].part]
    else:
        placed = world.placed[body]
        if placed.fixed or placed.is_led or len(placed.model.links) > 1:
            raise VeldrainError(f"'{body}' is fixed, led, or of several links", where=where, cure="name a free body")
        parts = placed.model.links[placed.model.root()].parts
    lies = engine.pose(f"{robot}/{grasped_by[0]}").inverse() @ engine.pose(body)
    held = next(
        name for name in (body, *(f"{body}{k}" for k in range(len(model.links) + 1))) if name not in model.links
    )
    model.link(held, *parts, mass=1e-3).joint(f"holds-{held}", grasped_by[0], held, "fixed", lies)
    for link in grasped_by:
        model.no_contact(link, held)
    made = copy.copy(world)
    made.bodies = {name: one for name, one in world.bodies.items() if name != body}
    others = {name: placed for name, placed in world.placed.items() if name != body}
    made.placed = others | {robot: replace(world.placed[robot], model=model)}
    made.apart = [pair for pair in world.apart if body not in {side.partition("/")[0] for side in pair}]
    return made
