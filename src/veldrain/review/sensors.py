"""Rules about sensors: where they sit, what they see, when they measure."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from veldrain.model import Mounted, Sight
from veldrain.model.grids import Grid
from veldrain.model.inertia import combined
from veldrain.model.volumes import bounds, bounds_of, filled
from veldrain.pose import Array, Pose
from veldrain.review.look import RobotLook, figure, mm
from veldrain.review.rules import Found, found, rule
from veldrain.sensing import Lidar

FAR = 1e3  # m
HEAVY = 0.15  # of the robot's mass
LEVEL = 0.99  # cosine of a lidar's axis with up, from which on its plane is level
GLIMPSE = 0.03  # of a picture: a wrist camera sees the tips of its fingers
CLOSED = 0.95  # of a travel
SKYWARD = 0.7  # cosine of where it looks with up
STEP_OVER = 0.02  # m: what is lower is rolled or stepped over


def looking(robot: RobotLook) -> list[tuple[Mounted, Pose, Array, Sight]]:
    """Sensors that look, their poses in the world, the directions there, and what they look along."""
    found_here = []
    for mounted in robot.model.sensors.values():
        sight = mounted.sensor.sight()
        if sight is not None and robot.look.engine:
            pose = robot.poses[mounted.link] @ mounted.pose
            found_here.append((mounted, pose, sight.directions @ pose.matrix.T, sight))
    return found_here


def cast_from(robot: RobotLook, pose: Pose, directions: Array, reach: float) -> tuple[Array, NDArray[np.object_]]:
    """Distances and names of what is met; ``""`` for nothing."""
    engine = robot.look.engine
    assert engine
    origins = np.repeat(pose.position[None], len(directions), axis=0)
    distances, sights, _ = engine.scene.cast(origins, np.ascontiguousarray(directions), reach)
    names = np.array([*engine.scene.names, ""], object)
    return distances, names[sights]


@rule("inside-a-solid", "error", "sensors")
def inside_a_solid(robot: RobotLook) -> Found:
    """A sensor that looks is not inside of something solid.

    It sees the inside of its own housing, at a few centimetres, all around.
    """
    for mounted, pose, _, _ in looking(robot):
        for link in robot.links:
            if link in robot.out_of_size:
                continue
            at = robot.poses[link].inverse() @ pose
            for shape, place in robot.seen(link):
                low, high = bounds(shape, place)
                point = Grid(at.position - 5e-7, np.full(3, 1e-6), (1, 1, 1))
                if (at.position < low).any() or (at.position > high).any() or not filled([(shape, place)], point).any():
                    continue
                out = float(high[2] - at.position[2])
                yield found(
                    "inside-a-solid",
                    robot,
                    mounted.name,
                    f"sits inside of {link} ({type(shape).__name__.lower()}), {mm(out)} below its top",
                    f"mount it {mm(out + 0.01)} higher, or outside of the shape",
                    kind="sensor",
                    numbers={"depth m": out},
                )


@rule("sees-itself", "warning", "sensors")
def sees_itself(robot: RobotLook) -> Found:
    """A sensor does not look into its own robot.

    Beams that end on the robot are obstacles to a controller, and the rest of the field is blind.
    """
    for mounted, pose, directions, sight in looking(robot):
        distances, names = cast_from(robot, pose, directions, sight.max_range)
        own = np.array([str(n).startswith(f"{robot.name}/") for n in names])
        if own.any():
            share = float(own.mean())
            if sight.is_picture and share < GLIMPSE:
                continue
            which = sorted({str(n).partition("/")[2] for n in names[own]})
            near = float(distances[own].min())
            yield found(
                "sees-itself",
                robot,
                mounted.name,
                f"{figure(100 * share)} % of its beams end on {', '.join(which)}, from {mm(near)} on",
                "mount it higher or farther out, or narrow its field",
                kind="sensor",
                numbers={"share": share},
                severity="error" if share > 0.5 else None,
            )


@rule("near-plane", "warning", "sensors")
def near_plane(robot: RobotLook) -> Found:
    """A camera's near plane does not cut its own housing.

    What is nearer is not drawn: the camera looks through its own robot, as no real one does.
    """
    for mounted, pose, directions, sight in looking(robot):
        near = sight.near
        if near <= 0:
            continue
        ahead = sight.directions[:, 0]
        distances, names = cast_from(robot, pose, directions, FAR)
        cut = np.array([str(n).startswith(f"{robot.name}/") for n in names]) & (distances * ahead < near)
        if cut.any():
            links = ", ".join(sorted({str(n).partition("/")[2] for n in names[cut]}))
            yield found(
                "near-plane",
                robot,
                mounted.name,
                f"its near plane, at {mm(near)}, cuts {links} in {figure(100 * cut.mean())} % of its field",
                "write near: smaller, or mount it farther out",
                kind="sensor",
                numbers={"share": float(cut.mean())},
            )


@rule("sees-nothing", "warning", "sensors", world=True)
def sees_nothing(robot: RobotLook) -> Found:
    """A sensor that looks has something to see within its range.

    A planar lidar above every obstacle, or with a max_range shorter than the way to the nearest, reports free space.
    """
    look = robot.look
    for mounted, pose, directions, sight in looking(robot):
        distances, names = cast_from(robot, pose, directions, FAR)
        if all(str(n).startswith(f"{robot.name}/") for n in names):
            continue  # it sees itself alone, and another rule says so
        others = np.array([bool(n) and not str(n).startswith(f"{robot.name}/") for n in names])
        if others.any():
            nearest = float(distances[others].min())
            if nearest > sight.max_range:
                yield found(
                    "sees-nothing",
                    robot,
                    mounted.name,
                    f"the nearest thing in its field is {mm(nearest)} away, and it reaches {mm(sight.max_range)}",
                    "start nearer, or write a longer max_range",
                    kind="sensor",
                    numbers={"nearest m": nearest},
                )
            continue
        heights = [
            (o.name, *bounds(o.part.shape, o.pose @ o.part.pose))
            for o in look.world.obstacles.values()
            if o.part.role != "collision"
        ]
        here = pose.position[:2]
        near = [
            (n, low[2], high[2])
            for n, low, high in heights
            if (low[:2] < here + sight.max_range).all() and (high[:2] > here - sight.max_range).all()
        ]
        rise = float(pose.matrix[:, 0] @ look.up)
        if near and rise > SKYWARD and mounted.sensor.aim() != "up":
            yield found(
                "sees-nothing",
                robot,
                mounted.name,
                "none of its beams meets anything: it looks at the sky",
                "x is ahead, y to its left and z up in the pose of every sensor, of a camera too: write rpy: [0, 0, 0],"
                " or looks: up",
                kind="sensor",
            )
        elif near:
            top, bottom = max(high for _, _, high in near), min(low for _, low, _ in near)
            away = pose.position[2] - (top + bottom) / 2
            yield found(
                "sees-nothing",
                robot,
                mounted.name,
                f"none of its beams meets anything: it looks from a height of {mm(pose.position[2])}, and the obstacles"
                f" around reach from {mm(bottom)} to {mm(top)}",
                f"mount it {mm(abs(away))} {'lower' if away > 0 else 'higher'}, or look at its pose",
                kind="sensor",
                numbers={"height m": float(pose.position[2]), "top m": float(top)},
            )


@rule("under-the-beams", "note", "sensors", world=True)
def under_the_beams(robot: RobotLook) -> Found:
    """A planar lidar sees each obstacle that the robot can run into.

    It misses what is lower or hangs higher than its plane, also beside taller things that it sees.
    """
    planes = [
        (m.name, pose.position[2], s.max_range)
        for m, pose, _, s in looking(robot)
        if isinstance(m.sensor, Lidar) and pose.matrix[2, 2] > LEVEL
    ]
    others = [m for m, *_ in looking(robot) if not isinstance(m.sensor, Lidar)]
    if not planes or others or not robot.is_free:
        return
    shapes = [(s, robot.poses[link] @ p) for link in robot.links for s, p in robot.touched(link)]
    if not shapes:
        return
    bottom, top = (float(corner[2]) for corner in bounds_of(shapes))
    things: dict[str, tuple[Array, Array]] = {}
    for o in robot.look.world.obstacles.values():
        if o.part.role != "visual":
            low, high = bounds(o.part.shape, o.pose @ o.part.pose)
            thing = o.name.rpartition("/")[0] or o.name
            before = things.get(thing, (low, high))
            things[thing] = np.minimum(low, before[0]), np.maximum(high, before[1])
    if not any(low[2] < height < high[2] for low, high in things.values() for _, height, _ in planes):
        return  # it sees nothing at all, and another rule says so
    for thing, (low, high) in things.items():
        in_the_way = high[2] > bottom + STEP_OVER and low[2] < top
        missed = all(not low[2] < height < high[2] for _, height, _ in planes)
        if in_the_way and missed:
            name, height, _ = planes[0]
            where = "below" if high[2] <= height else "above"
            yield found(
                "under-the-beams",
                robot,
                name,
                f"{thing}, from {mm(float(low[2]))} to {mm(float(high[2]))}, lies {where} its plane at"
                f" {mm(float(height))}: the robot runs into it unseen",
                f"mount it {'lower' if where == 'below' else 'higher'}, or add a sensor for such things",
                kind="sensor",
                numbers={"height m": float(height)},
            )


@rule("heavy-sensor", "note", "sensors")
def heavy_sensor(robot: RobotLook) -> Found:
    """What carries a sensor is light beside the robot.

    A heavy head on a mast moves the centre of mass: the robot drives and tips unlike the one it stands for.
    """
    if not robot.model.motors:
        return  # it stays where it is
    whole = robot.body(list(robot.links))
    for link in sorted({s.link for s in robot.model.sensors.values()}):
        joint = robot.moving.get(link)
        if joint is None or joint.kind != "fixed" or len(robot.below(link)) > 1:
            continue
        own = robot.links[link].mass_properties.moved(robot.poses[link])
        share = own.mass / whole.mass if whole.mass else 0.0
        if share > HEAVY:
            rest = combined([robot.links[n].mass_properties.moved(robot.poses[n]) for n in robot.links if n != link])
            shift = float(np.linalg.norm(whole.com - rest.com))
            yield found(
                "heavy-sensor",
                robot,
                link,
                f"carries a sensor and has {100 * share:.0f} % of the robot's mass ({own.mass:.3g} of {whole.mass:.3g}"
                f" kg): it moves the centre of mass by {mm(shift)}",
                "look at its mass",
                numbers={"share": share, "shift m": shift},
            )


@rule("never-closes", "warning", "sensors")
def never_closes(robot: RobotLook) -> Found:
    """A switch at the end of a travel is within the joint's limits.

    One that the joint never comes to leaves the drive running into its stop.
    """
    for mounted in robot.model.sensors.values():
        name, at = mounted.sensor.switch() or ("", 0.0)
        joint = robot.model.joints.get(name)
        if joint and joint.limits and not joint.limits[0] <= at <= joint.limits[1]:
            low, high = (joint.told(limit) for limit in joint.limits)
            yield found(
                "never-closes",
                robot,
                mounted.name,
                f"it switches at {joint.told(at)}, and {joint.name} goes from {low} to {high}",
                "write at: within these limits",
                kind="sensor",
                numbers={"at": float(at)},
            )


@rule("always-closed", "warning", "sensors")
def always_closed(robot: RobotLook) -> Found:
    """A switch is open on most of a travel.

    One that closes from the wrong end of it, or the wrong way round, is closed all the way.
    """
    for mounted in robot.model.sensors.values():
        name, at = mounted.sensor.switch() or ("", 0.0)
        joint = robot.model.joints.get(name)
        if joint and joint.limits and joint.limits[0] <= at <= joint.limits[1]:
            low, high = joint.limits
            above = mounted.sensor.closes_above()
            closed = (high - at if above else at - low) / (high - low) if high > low else 0.0
            if closed > CLOSED:
                way = "above: false" if above else "above: true"
                yield found(
                    "always-closed",
                    robot,
                    mounted.name,
                    f"is closed on {100 * closed:.0f} % of the way of {name}, from {joint.told(at)}"
                    f" {'up' if above else 'down'}",
                    f"write {way}, or at: near the other end",
                    kind="sensor",
                )


@rule("uneven-period", "error", "sensors")
def uneven_period(robot: RobotLook) -> Found:
    """A sensor's times are whole numbers of steps.

    A sample falls on a step; any other time would have to be rounded in silence.
    """
    step = robot.look.step
    for mounted in robot.model.sensors.values():
        sensor = mounted.sensor
        for word, time in (("period", sensor.period), ("latency", sensor.latency), ("first", sensor.first_sample)):
            steps = time / step
            if abs(steps - round(steps)) * step > 1e-9 * max(time, step) or (word == "period" and round(steps) < 1):
                low = max(math.floor(steps), 1 if word == "period" else 0)
                near = " or ".join(f"{1e3 * n * step:g} ms" for n in (low, low + 1))
                yield found(
                    "uneven-period",
                    robot,
                    mounted.name,
                    f"its {word} of {1e3 * time:g} ms is {steps:.4g} steps of {1e3 * step:g} ms",
                    f"write {near}",
                    kind="sensor",
                    numbers={"steps": steps},
                )
                break  # its first sample is late by as much
