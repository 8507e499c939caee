"""Rules about how a robot stands at the start."""

from __future__ import annotations

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.physics.carrying import asked_of_motors
from veldrain.pose import Array, Pose, z_to
from veldrain.review.look import RobotLook, mm
from veldrain.review.rules import Found, found, rule

AIR = 1e-3  # m between a wheel and the ground
UNEVEN = 0.3  # of a wheel's radius that it may hang over uneven ground
LEANS = 0.02  # rad
HIGH = 5.0  # m from which nothing is dropped on purpose


@rule("tips", "error", "balance", world=True)
def tips(robot: RobotLook) -> Found:
    """The centre of mass is above what the robot stands on.

    Otherwise it falls over before the controller has read its first sensor, and the gains are blamed.
    """
    stand = robot.stand
    if stand is None or len(stand.points) == 0:
        return
    body = robot.body(list(robot.links))
    if body.mass <= 0 or robot.com_outside:  # which a rule of its own says
        return
    flat = z_to(robot.look.up).inverse()
    feet, centre = flat.apply(stand.points)[:, :2], flat.apply(body.com)[:2]
    for link, gap in stand.gaps.items():  # it leans a little, and stands on these too
        at = flat.apply(robot.poses[link].position)[:2]
        if link not in stand.links and gap < LEANS * float(np.linalg.norm(at - feet.mean(axis=0))):
            feet = np.vstack([feet, at])
    outside, way = beyond(feet, centre)
    if outside < 1e-4:
        return
    blamed, moment = "", 0.0
    for link, described in robot.links.items():
        own = flat.apply(robot.poses[link].apply(described.mass_properties.com))[:2]
        lever = described.mass_properties.mass * float((own - centre + outside * way) @ way)
        if lever > moment:
            blamed, moment = link, lever
    mass = robot.links[blamed].mass_properties.mass if blamed else 0.0
    yield found(
        "tips",
        robot,
        "",
        f"its centre of mass is {mm(outside)} outside of what it stands on ({', '.join(sorted(set(stand.links)))}): it"
        f" tips over, by {blamed} most of all ({mass:.3g} kg)",
        f"move {blamed} inward, take mass off it, or widen the stand by {mm(outside)}",
        numbers={"outside m": outside},
    )


def beyond(points: Array, centre: Array) -> tuple[float, Array]:
    """How far (m) a point of the plane is outside of the hull of others, and the direction (2,) in which."""
    from scipy.spatial import ConvexHull, QhullError

    try:
        hull = ConvexHull(points)
    except (QhullError, ValueError):  # fewer than three points, or all on one line
        spread = points - points.mean(axis=0)
        along = np.linalg.svd(spread)[2][0] if len(points) > 1 else np.zeros(2)
        at = np.clip(along @ (centre - points.mean(axis=0)), (spread @ along).min(), (spread @ along).max())
        away = centre - points.mean(axis=0) - at * along
        distance = float(np.linalg.norm(away))
        return distance, away / distance if distance > 0 else away
    distances = hull.equations[:, :2] @ centre + hull.equations[:, 2]
    worst = int(distances.argmax())
    return max(0.0, float(distances[worst])), hull.equations[worst, :2]


@rule("legs-too-weak", "error", "balance", world=True)
def legs_too_weak(robot: RobotLook) -> Found:
    """The motors of the legs can hold the robot as it stands.

    From the feet up, each knee carries the body: with less effort than that it sinks at the first step of the trial.
    """
    stand = robot.stand
    motors = {name: m for name, m in robot.model.motors.items() if m.mode != "effort" and np.isfinite(m.limit)}
    if stand is None or not motors or any(link in robot.wheels for link in stand.links):
        return
    engine = robot.look.trial()
    tree = engine.compiled.robots[robot.name]
    start = engine.pose(robot.name)
    lowered = Pose(start.position - stand.drop * robot.look.up, rotation=start.rotation)
    engine.move_to(tree, lowered, np.zeros(3), np.zeros(3))
    try:
        asked = asked_of_motors(engine, robot.name, list(motors), max(1, round(0.3 / robot.look.step)))
    except VeldrainError:
        return
    weak = sorted(
        (name for name in motors if asked[name] > motors[name].limit), key=lambda name: asked[name] / motors[name].limit
    )
    if weak:
        name = weak[-1]
        joint = robot.model.joints[motors[name].joint]
        unit = "N" if joint.is_linear else "N·m"
        others = f", and so with {', '.join(sorted(weak[:-1]))}" if len(weak) > 1 else ""
        yield found(
            "legs-too-weak",
            robot,
            name,
            f"standing at the start asks for {asked[name]:.3g} {unit} of it, and its motor gives"
            f" {motors[name].limit:.3g}{others}",
            f"write limit: above {asked[name]:.3g} {unit}, or start in a posture with straighter legs",
            kind="motor",
            numbers={"limit": motors[name].limit, "asked": asked[name]},
        )


@rule("in-the-air", "warning", "balance", world=True)
def in_the_air(robot: RobotLook) -> Found:
    """All wheels and feet reach the ground.

    A wheel in the air spins freely and its encoder counts a way that nobody went.
    """
    stand = robot.stand
    if stand is None or len(stand.points) == 0:
        return
    standing = set(stand.links)
    ends = set(stand.gaps) - set(robot.wheels) - robot.rollers
    feet = ends if standing <= ends else set()
    height = float(np.ptp([pose.position @ robot.look.up for pose in robot.poses.values()]))
    for link in sorted((set(robot.wheels) | feet) - standing):
        gap = stand.gaps.get(link, 0.0)
        least = AIR if stand.is_level else UNEVEN * robot.radius(link)
        if gap > least and (link in robot.wheels or gap < 0.3 * height):
            what = "wheel" if link in robot.wheels else "foot"
            yield found(
                "in-the-air",
                robot,
                link,
                f"this {what} does not reach the ground by {mm(gap)} while {', '.join(sorted(standing))} stand on it",
                f"lower it by {mm(gap)}, or make it larger",
                numbers={"gap m": gap},
            )


@rule("drops", "note", "balance", world=True)
def drops(robot: RobotLook) -> Found:
    """A robot starts on the ground, not above it.

    It falls first: the first readings are those of a fall, and a hard landing may break what it carries.
    """
    stand = robot.stand
    if stand is not None and len(stand.points) and stand.drop > 1e-3 and not robot.model.rotors:
        place = robot.placed.pose.position - stand.drop * robot.look.up
        yield found(
            "drops",
            robot,
            "",
            f"starts {mm(stand.drop)} above what is below it, and falls first",
            f"place it {mm(stand.drop)} lower, at z = {place[2]:.4g} m",
            severity="warning" if stand.drop > HIGH else None,
            numbers={"drop m": stand.drop},
        )
