"""Rules about what is seen and what is touched of a link."""

from __future__ import annotations

import numpy as np

from veldrain.model import Box, Cylinder, Mesh, Part, Shape, Sphere
from veldrain.model.volumes import bounds_of
from veldrain.pose import Pose
from veldrain.review.fixing import flow, part_words
from veldrain.review.look import RobotLook, figure, mm, model_change
from veldrain.review.rules import Found, found, rule
from veldrain.review.solids import closed, hull_volume, overlap, round_axis, round_fit

ALIKE = 0.5  # intersection over union
HOLLOW = 0.3  # share of the hull that is empty


@rule("round-as-box", "error", "shapes")
def round_as_box(robot: RobotLook) -> Found:
    """What looks round rolls as something round.

    A wheel whose collision shape is its bounding box has four corners: the vehicle jumps along, and its odometry is
    wrong. It happens when a model is exported with boxes for everything.
    """
    for name, link in robot.links.items():
        if not _boxes_only(robot, name):
            continue
        looks = next((p for p in link.parts if p.role == "visual" and round_axis(p) is not None), None)
        if looks is None:
            continue
        shape, pose = _round(looks)
        low, high = bounds_of(robot.touched(name))
        box = " × ".join(mm(edge) for edge in high - low)
        kind = type(shape).__name__.lower()
        sizes = f"radius {mm(shape.radius)}" + (f", length {mm(shape.length)}" if isinstance(shape, Cylinder) else "")
        part = Part(shape, pose, role="collision")
        words = part_words(part)
        yield found(
            "round-as-box",
            robot,
            name,
            f"looks like a {kind} ({sizes}) and collides as a box of {box}: it will bump instead of roll",
            f"let it collide as {flow(words)}",
            numbers={"radius m": shape.radius},
            fix=model_change(robot, {"links": {name: {"parts": [words]}}}),
            severity=None if name in robot.moving and robot.moving[name].kind != "fixed" else "warning",
        )


@rule("unlike-its-looks", "warning", "shapes")
def unlike_its_looks(robot: RobotLook) -> Found:
    """What is touched of a link is about what is seen of it.

    Sensors see one and contacts feel the other: a gripper closes on air, a lidar sees a gap that is none.
    """
    for name, link in robot.links.items():
        if all(p.role == "both" for p in link.parts) or name in robot.out_of_size:
            continue
        seen, touched = robot.seen(name), robot.touched(name)
        if not seen or not touched or not closed(seen) or not closed(touched):
            continue
        shared, looks, feels = overlap(seen, touched)
        if shared < ALIKE:
            yield found(
                "unlike-its-looks",
                robot,
                name,
                f"what is seen and what is touched share {100 * shared:.0f} % of their volume together"
                f" ({_litres(looks)} seen, {_litres(feels)} touched)",
                "fit the collision shape to the visual: mesh: {…, collide: box | cylinder | parts}",
                numbers={"shared": shared, "seen m3": looks, "touched m3": feels},
            )


@rule("hollow-filled", "warning", "shapes")
def hollow_filled(robot: RobotLook) -> Found:
    """A hollow mesh does not collide as its hull.

    The hull of a tube is a rod: a piston in it cannot move, and what stands in a trough lies on top of it.
    """
    for name, link in robot.links.items():
        for part in link.parts:
            shape = part.shape
            empty = _empty_share(part)
            if empty > HOLLOW and isinstance(shape, Mesh):
                yield found(
                    "hollow-filled",
                    robot,
                    name,
                    f"{100 * empty:.0f} % of the hull that {shape.source.rpartition('/')[2]} collides as is empty",
                    "write collide: parts for convex parts that follow the hollow, or shapes of your own",
                    numbers={"empty share": empty},
                )


def _empty_share(part: Part) -> float:
    """Share of what a part collides as that is empty in it; 0 where it collides as it is."""
    shape = part.shape
    if part.role == "visual" or not isinstance(shape, Mesh) or shape.collide != "hull" or not shape.is_closed:
        return 0.0
    return float(1 - shape.volume / max(hull_volume(shape), 1e-12))


def is_filled(robot: RobotLook, link: str) -> bool:
    """True for a link with a hollow that its hull fills."""
    return any(_empty_share(part) > HOLLOW for part in robot.links[link].parts)


@rule("nothing-to-touch", "note", "shapes")
def nothing_to_touch(robot: RobotLook) -> Found:
    """What can be seen can be touched.

    A visual without a collision shape passes through everything. Blades of rotors are better so.
    """
    blades = {robot.model.joints[joint].child for joint in robot.model.rotors}
    if len(robot.links) > 1 and not any(map(robot.touched, robot.links)) and any(map(robot.seen, robot.links)):
        problem = f"none of its {len(robot.links)} links can be touched: it passes through everything"
        yield found("nothing-to-touch", robot, "", problem, "leave role= out, or add collision shapes")
        return
    for name in robot.links:
        if name not in blades and robot.seen(name) and not robot.touched(name):
            yield found(
                "nothing-to-touch",
                robot,
                name,
                "is seen and cannot be touched: it passes through everything",
                "leave role= out, or add a collision shape",
            )


def _boxes_only(robot: RobotLook, name: str) -> bool:
    """True where all that is touched has corners like a box: boxes, or meshes whose hull fills its box."""
    touched = robot.touched(name)
    return bool(touched) and all(isinstance(s, Box) or (isinstance(s, Mesh) and _is_box(s)) for s, _ in touched)


def _is_box(mesh: Mesh) -> bool:
    edges = np.ptp(mesh.corners, axis=0)
    return hull_volume(mesh) > 0.98 * float(np.prod(edges))


def _round(part: Part) -> tuple[Cylinder | Sphere, Pose]:
    """The cylinder or sphere that a round part is, with its pose in the link."""
    shape: Shape = part.shape
    if isinstance(shape, Mesh):
        fit = round_fit(shape)
        assert fit is not None
        shape, pose = fit[0], part.pose @ fit[1]
    else:
        pose = part.pose
    assert isinstance(shape, Cylinder | Sphere)
    return shape, pose


def _litres(volume: float) -> str:
    return f"{figure(1e3 * volume)} litres" if volume > 1e-4 else f"{figure(1e6 * volume)} cm³"
