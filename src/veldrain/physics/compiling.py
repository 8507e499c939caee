"""From a world of named things to the engine's arrays, and the tables that lead back to the names."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from veldrain.model import GROUND, World
from veldrain.physics import plant as p
from veldrain.physics.builder import Builder, LinkPlace, Robot
from veldrain.physics.robots import RobotBuilder
from veldrain.physics.scene import Sight
from veldrain.pose import Pose


@dataclass
class Compiled:
    """A plant with its start and its names."""

    plant: p.Plant
    links: dict[str, LinkPlace]  # links, frames, bodies and obstacles by name path
    link_names: list[str]  # by number, as loops and pushes have them
    robots: dict[str, Robot]
    geom_names: list[str]
    dof_names: list[str]
    loop_names: list[str]
    sights: list[Sight]
    mounts: dict[str, LinkPlace]  # sensors, and their optical frames, by name path


def compile_world(world: World, step: float, watches: int = 0) -> Compiled:
    """The plant of a world for steps of a length (s), with the names of all its parts and room for so many watches.

    Raises:
        VeldrainError: a link that moves and has no mass, a loop without a way to close, a mesh that cannot move.
    """
    b = Builder(step)
    if world.floor:
        level = Pose((0, 0, world.floor.height))
        b.add_geom(GROUND, -1, {"kind": p.PLANE}, level, world.floor.surface)
        b.sights += [Sight(GROUND, -1, level, None, None, is_touched) for is_touched in (False, True)]
        b.links[GROUND] = LinkPlace(-1, level)
    for obstacle in world.obstacles.values():
        b.add_part(obstacle.name, -1, obstacle.pose, obstacle.part, obstacle.surface)
        b.links[obstacle.name] = LinkPlace(-1, obstacle.pose)
    for name, pose in world.frames.items():
        b.links[name] = LinkPlace(-1, pose)
    for body in world.bodies.values():
        arm = body.pose.matrix @ body.mass_properties.com
        v_com = np.array(body.velocity) + np.cross(body.spin, arm)
        node = b.add_free(body.name, body.pose, body.mass_properties, (*body.spin, *v_com))
        b.add_part(body.name, node, Pose(), body.part, body.surface)
        b.links[body.name] = LinkPlace(node, Pose())
        b.robots[body.name] = Robot(body.name, body.name, node=node, end=node + 1)
    for placed in world.placed.values():
        RobotBuilder(b, placed).build()
    b.keep_apart(world.apart)
    for placed in world.placed.values():
        if placed.course and placed.course.passes:
            _let_through(b, placed.name)
    names = list(b.links)
    plant = b.plant(world, watches)
    tables = b.links, names, b.robots, b.geom_names, b.dof_names, b.loop_names
    return Compiled(plant, *tables, b.sights, b.mounts)


def _let_through(b: Builder, name: str) -> None:
    """Switch off all pairs of something that passes through everything."""
    own = {k for k, geom in enumerate(b.geom_names) if geom.startswith(f"{name}/")}
    b.skipped.update((min(x, y), max(x, y)) for x in own for y in range(len(b.geoms)) if y != x)
