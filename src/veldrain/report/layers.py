"""What can be drawn over a picture, one function a layer; each tells what it drew."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator

import numpy as np

from veldrain.model import Mounted, Placed, Sight
from veldrain.pose import Array, Pose
from veldrain.report.canvas import AXES, BLUE, GREEN, INK, RED, Canvas
from veldrain.report.staging import Stage
from veldrain.simulation import engine_of

VIOLET, TEAL, AMBER = "#8a2f86", "#127a86", "#c47a00"
INKS = (AMBER, TEAL, VIOLET, BLUE, GREEN, RED)
MOST_BEAMS = 260
Notes = list[tuple[str | None, str]]


def _robots(stage: Stage) -> Iterator[tuple[str, Placed]]:
    yield from stage.simulation.world.placed.items()


def _pose(stage: Stage, path: str) -> Pose:
    return engine_of(stage.simulation).pose(path)


def _sensors(stage: Stage) -> Iterator[tuple[str, Mounted, Pose]]:
    for robot, placed in _robots(stage):
        for mounted in placed.model.sensors.values():
            yield f"{robot}/{mounted.name}", mounted, _pose(stage, f"{robot}/{mounted.link}") @ mounted.pose


def _sights(stage: Stage) -> Iterator[tuple[str, Mounted, Pose, Sight, str]]:
    """Sensors that look along rays, each with its colour in all layers."""
    seeing = [(path, m, pose, sight) for path, m, pose in _sensors(stage) if (sight := m.sensor.sight()) is not None]
    for k, (path, mounted, pose, sight) in enumerate(seeing):
        yield path, mounted, pose, sight, INKS[k % len(INKS)]


def joints(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """Axes of joints that move: turning and sliding."""
    drawn = {"turning": 0, "sliding": 0}
    for robot, placed in _robots(stage):
        for joint in placed.model.joints.values():
            if joint.kind not in ("revolute", "continuous", "prismatic"):
                continue
            kind = "sliding" if joint.kind == "prismatic" else "turning"
            colour = TEAL if kind == "sliding" else VIOLET
            pose = _pose(stage, f"{robot}/{joint.parent}") @ joint.pose
            axis = pose.rotation.apply(np.array(joint.axis) / np.linalg.norm(joint.axis))
            canvas.arrow(pose.position - 0.5 * size * axis, pose.position + size * axis, colour)
            canvas.dots(pose.position[None], colour, 3)
            if names:
                canvas.label(pose.position + 0.8 * size * axis, joint.name, colour, 11)
            drawn[kind] += 1
    return [
        (colour, f"{n} {kind} joint{'s' if n > 1 else ''}")
        for (kind, n), colour in zip(drawn.items(), (VIOLET, TEAL), strict=True)
        if n
    ]


def frames(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """Axes x, y, z of links and named frames, with their names."""
    paths = [
        (f"{robot}/{name}", name)
        for robot, placed in _robots(stage)
        for name in (*placed.model.links, *placed.model.frames)
    ]
    paths += [(name, name) for name in stage.simulation.world.frames]
    for path, name in paths:
        pose = _pose(stage, path)
        for axis, colour in zip(pose.matrix.T, AXES, strict=True):
            canvas.arrow(pose.position, pose.position + 0.7 * size * axis, colour, 1.8, 6)
        canvas.label(pose.position, name, INK, 11)
    return [(colour, axis) for axis, colour in zip("xyz", AXES, strict=True)] if paths else []


def masses(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """Centres of mass, and the ellipsoids that have the same mass and inertia."""
    all_of_it: list[tuple[float, Array]] = []
    angles = np.linspace(0, 2 * np.pi, 49)
    rings = [np.roll(np.stack([np.cos(angles), np.sin(angles), 0 * angles], axis=1), k, axis=1) for k in range(3)]
    whole = []
    for robot, placed in _robots(stage):
        own = []
        for name, link in placed.model.links.items():
            body = link.mass_properties
            if body.mass <= 0:
                continue
            pose = _pose(stage, f"{robot}/{name}")
            moments, turn = np.linalg.eigh(body.inertia)
            half = np.sqrt(np.maximum(2.5 / body.mass * (moments.sum() - 2 * moments), 0.0))
            at = pose.apply(body.com)
            for ring in rings:
                canvas.line(at + pose.rotation.apply((ring * half) @ turn.T), BLUE, 1.2)
            own.append((body.mass, at))
        if own:
            mass = sum(m for m, _ in own)
            centre = np.sum([m * at for m, at in own], axis=0) / mass
            canvas.mass_mark(centre, 9)
            canvas.label(centre, f"{robot} {mass:.3g} kg", INK, 12)
            whole.append(robot)
        all_of_it += own
    return [(BLUE, f"{len(all_of_it)} ellipsoids of inertia"), (INK, "centre of mass of each robot")] if whole else []


def contacts(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """Points of contact, and the forces there."""
    found = stage.contacts()
    if found is None:
        return [(RED, "no contact forces: the recording keeps none; record it with record_contacts")]
    points, forces = found
    strength = np.linalg.norm(forces, axis=1)
    if not (strength > 0).any():
        return [(RED, "no contact forces" + ("" if len(stage.times) else ": let time pass first"))]
    most = float(strength.max())
    for point, force in zip(points[strength > 0], forces[strength > 0], strict=True):
        canvas.arrow(point, point + 2.5 * size * force / most, RED)
    canvas.dots(points[strength > 0], RED, 3)
    return [(RED, f"{int((strength > 0).sum())} contact forces, the longest {most:.3g} N")]


def patches(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """The outlines of patches, where ground feels like another surface."""
    world = stage.simulation.world
    for patch in world.patches.values():
        a, b, c = np.array(patch.size) / 2
        for height in (-c, c):
            corners = [(-a, -b, height), (a, -b, height), (a, b, height), (-a, b, height), (-a, -b, height)]
            canvas.line([patch.pose.apply(corner) for corner in corners], AMBER, 1.8)
        canvas.label(patch.pose.apply((a, b, c)), patch.name, AMBER, 12)
    return [(AMBER, "patches of another surface")] if world.patches else []


def beams(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """Beams of sensors that measure ranges, to where they end."""
    notes: Notes = []
    for path, _, pose, sight, colour in _sights(stage):
        if sight.is_picture:
            continue
        every = max(1, math.ceil(len(sight.directions) / MOST_BEAMS))
        ways = np.ascontiguousarray(pose.rotation.apply(sight.directions[::every]))
        scene = engine_of(stage.simulation).scene_of(sight.sees)
        met, sights, _ = scene.cast(np.tile(pose.position, (len(ways), 1)), ways, sight.max_range)
        hit = np.isfinite(met)
        ground = hit & np.append([stage.is_ground(s) for s in scene.sights], False)[sights]
        ends = pose.position + np.where(hit, met, min(sight.max_range, 4 * size))[:, None] * ways
        for end, is_thing in zip(ends, hit & ~ground, strict=True):
            canvas.line([pose.position, end], colour + ("70" if is_thing else "28"), 0.8)
        canvas.dots(ends[ground], colour + "70", 1.0)
        canvas.dots(ends[hit & ~ground], colour, 2.2)
        where = f", {ground.sum()} the ground" if ground.any() else ""
        where += f" (one in {every} is drawn)" if every > 1 else ""
        notes.append((colour, f"{path}: {(hit & ~ground).sum()} of {len(ways)} beams hit things{where}"))
    return notes


def fields(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """Fields of view, as far as is near enough to be drawn."""
    notes: Notes = []
    for path, mounted, pose, sight, colour in _sights(stage):
        lines = mounted.sensor.outline()
        if not lines:
            continue
        far = min(sight.max_range, 6 * size)
        for ways in lines:
            canvas.line(pose.position + far * pose.rotation.apply(ways), colour, 1.6)
        corners = lines[0][:: max(1, (len(lines[0]) - 1) // 4)]
        for way in corners:
            canvas.line([pose.position, pose.position + far * pose.rotation.apply(way)], colour + "c0", 1.4)
        notes.append((colour, f"{path}: field of view to {far:.2g} m"))
    return notes


def trails(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """The way that things have come."""
    notes: Notes = []
    movers = [*engine_of(stage.simulation).compiled.robots]
    for name, path in stage.trails().items():
        owner = next(k for k, mover in enumerate(movers) if name == mover or name.startswith(f"{mover}/"))
        colour = INKS[owner % len(INKS)]
        canvas.line(path, colour, 2.2)
        canvas.dots(path[:1], colour, 4)
        length = float(np.linalg.norm(np.diff(path, axis=0), axis=1).sum())
        notes.append((colour, f"{name}: path length {length:.3g} m"))
    return notes or [(None, "no path yet" if len(stage.times) else "no trails: draw a recording")]


def things(stage: Stage, canvas: Canvas, size: float, names: bool) -> Notes:
    """Names of robots, bodies and obstacles; of what is called a/b only a, of what is strewn about one."""
    world, scene = stage.simulation.world, canvas.scene
    places: dict[str, list[Array]] = {}
    for path in (*world.placed, *world.bodies, *world.obstacles):
        rows = [k for k, n in enumerate(scene.names) if n == path or n.startswith(f"{path}/")]
        if rows:
            top = scene.view.high[rows].max(axis=0)
            middle = (scene.view.low[rows].min(axis=0) + top) / 2
            places.setdefault(path.split("/")[0], []).append(np.array((middle[0], middle[1], top[2])))
    for name, spots in places.items():
        middle = np.mean(spots, axis=0)
        nearest = min(spots, key=lambda spot: float(np.linalg.norm(spot - middle)))
        canvas.label(nearest, name, INK, 13)
    return []


LAYERS: dict[str, Callable[[Stage, Canvas, float, bool], Notes]] = {
    "fields": fields,
    "beams": beams,
    "trails": trails,
    "masses": masses,
    "joints": joints,
    "contacts": contacts,
    "patches": patches,
    "frames": frames,
    "names": things,
}
