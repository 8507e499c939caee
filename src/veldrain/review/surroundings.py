"""Rules about the world around the robots."""

from __future__ import annotations

import numpy as np

from veldrain.model import Surface
from veldrain.model.volumes import bounds_of, touched
from veldrain.pose import Array
from veldrain.review.look import Look, mm
from veldrain.review.rules import Found, found, rule
from veldrain.review.solids import Solids

ICE = 0.005  # friction on which nothing gets along
SUNK = 0.3  # of a wheel's radius


@rule("nothing-below", "error", "world", world=True)
def nothing_below(look: Look) -> Found:
    """What moves freely has something below it.

    Without a ground it falls for ever: sensors read nothing, and after some seconds it is metres deep.
    """
    if not look.has_gravity or (look.world.floor and look.up[2] < 0.5):  # a rule of its own minds gravity's way
        return
    floors = [
        _box([(s, o.pose @ p) for s, p in touched(o.part)]) for o in look.world.obstacles.values() if touched(o.part)
    ]
    boxes: dict[str, tuple[Array, Array]] = {}
    for robot in look.robots:
        shapes = [(s, robot.poses[link] @ p) for link in robot.links for s, p in robot.touched(link)]
        here = robot.placed.pose.position
        if robot.is_free:
            boxes[robot.name] = _box(shapes) if shapes else (here, here)
        elif shapes:
            floors.append(_box(shapes))
    for body in look.world.bodies.values():
        boxes[body.name] = _box([(s, body.pose @ p) for s, p in touched(body.part)])
    for name, (low, high) in boxes.items():
        floor = look.world.floor
        if floor and look.up[2] > 0.5:
            if high[2] < floor.height:
                deep = mm(floor.height - low[2])
                yield found(
                    "nothing-below",
                    look,
                    name,
                    f"is {deep} below the ground: it falls for ever",
                    f"lift it by {mm(floor.height - low[2])}",
                )
            continue
        side = [k for k in range(3) if abs(look.up[k]) < 0.9]
        others = [*floors, *(box for other, box in boxes.items() if other != name)]
        below = [
            (a, b)
            for a, b in others
            if (a[side] < high[side]).all()
            and (b[side] > low[side]).all()
            and (a + b) @ look.up < (low + high) @ look.up
        ]
        if not below:
            yield found(
                "nothing-below",
                look,
                name,
                "moves freely and has nothing below it: it falls for ever",
                "lay ground: {}, or place it with fixed: true",
            )


def _box(shapes: Solids) -> tuple[Array, Array]:
    return bounds_of(shapes) if shapes else (np.zeros(3), np.zeros(3))


@rule("sinks-in", "warning", "world", world=True)
def sinks_in(look: Look) -> Found:
    """A soft ground carries what stands on it.

    A stiffness without its prefix lets a cart sink to its axles: 200 N/m for 200 kN/m.
    """
    floor = look.world.floor
    for robot in look.robots if floor else ():
        stand, mass = robot.stand, robot.body(list(robot.links)).mass
        if floor is None or stand is None or not len(stand.points):
            continue
        soft = max(1 / floor.surface.stiffness + 1 / robot.links[link].surface.stiffness for link in stand.links)
        deep = mass * float(np.linalg.norm(look.world.gravity)) * soft / len(stand.points)
        size = min(robot.radius(link) for link in stand.links)
        if deep > SUNK * size:
            better = deep / (0.05 * size) / soft
            yield found(
                "sinks-in",
                robot,
                "",
                f"its {mass:.3g} kg sink {mm(deep)} into the ground, on a stiffness of {1 / soft:.3g} N/m",
                f"write a stiffness of {better:.2g} N/m for {mm(0.05 * size)}, or look at its unit",
                numbers={"deep m": deep},
            )


@rule("no-gravity", "warning", "world", world=True)
def no_gravity(look: Look) -> Found:
    """There is gravity where there is a ground.

    Without it nothing stands: wheels have no grip, and a touch sends things off.
    """
    world = look.world
    if not look.has_gravity and world.floor and (world.bodies or any(robot.is_free for robot in look.robots)):
        yield found(
            "no-gravity",
            look,
            "gravity",
            "gravity is 0 and there is a ground",
            "leave gravity out for 9.81 m/s² downward",
        )


@rule("no-grip", "error", "world", world=True)
def no_grip(look: Look) -> Found:
    """A wheel and what it rolls on have friction.

    A friction of 0 on either side is ice: the wheel spins and nothing moves.
    """
    grounds: dict[str, Surface] = {"ground": look.world.floor.surface} if look.world.floor else {}
    grounds |= {patch.name: patch.surface for patch in look.world.patches.values()}
    for name, surface in grounds.items():
        if surface.friction < ICE and any(robot.wheels for robot in look.robots):
            yield found(
                "no-grip",
                look,
                name,
                f"its friction is {surface.friction:g}: wheels have no grip on it",
                "write surface: {friction: 0.7}, or what it is like",
                severity="warning" if name != "ground" else None,
            )
    for obstacle in look.world.obstacles.values():
        if any(obstacle.surface.belt) and obstacle.surface.friction < ICE:
            yield found(
                "no-grip",
                look,
                obstacle.name,
                f"its friction is {obstacle.surface.friction:g}: its belt takes nothing along",
                "write friction: 0.8 for the belt",
            )
    for robot in look.robots:
        for link in robot.wheels:
            for part in robot.links[link].parts:
                if part.role != "visual" and (part.surface or robot.links[link].surface).friction == 0:
                    yield found(
                        "no-grip",
                        robot,
                        link,
                        "the friction of this wheel is 0: it has no grip on anything",
                        "write surface: {friction: 0.9}",
                    )


@rule("cannot-be-touched", "warning", "world", world=True)
def cannot_be_touched(look: Look) -> Found:
    """An obstacle that is seen can be touched.

    Robots pass through what has a visual shape only, as if it were smoke.
    """
    for o in look.world.obstacles.values():
        if o.part.role == "visual" and not look.world.is_of_roads(o.name):  # marks of roads
            yield found(
                "cannot-be-touched",
                look,
                o.name,
                "is seen and cannot be touched: robots pass through it",
                "leave role: visual out",
            )


@rule("cannot-be-seen", "warning", "world", world=True)
def cannot_be_seen(look: Look) -> Found:
    """An obstacle that can be touched is seen by what looks.

    A lidar misses what has no visual shape, and the robot runs into it.
    """
    looking = [
        f"{robot.name}/{s.name}"
        for robot in look.robots
        for s in robot.model.sensors.values()
        if s.sensor.sight() is not None
    ]
    for o in look.world.obstacles.values():
        if o.part.role == "collision" and looking:
            yield found(
                "cannot-be-seen",
                look,
                o.name,
                f"can be touched and not be seen by {', '.join(looking)}",
                "leave role: collision out",
            )
