"""Drives tried by a test step: alone on flat ground, told to go and to turn, and seen to do it."""

from __future__ import annotations

import copy
import math
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from veldrain.control.contract import Body, InputValues, Motors
from veldrain.control.driving import Driver
from veldrain.control.wheels import AckermannDrive, Drive, OmniDrive, SkidSteer
from veldrain.errors import VeldrainError
from veldrain.model import Model, Surface, World
from veldrain.pose import Pose
from veldrain.review.finding import Finding
from veldrain.review.look import figure
from veldrain.simulation import Simulation, engine_of

STATEMENTS = {"moves-otherwise": "A drive moves its robot as it is told: sign, speed and turning, on flat ground."}

OFF = 0.15  # share of what is told
SPIN = 3.0  # rad/s of the wheels that are told to go
ABOVE = 10.0  # m over the ground, to find how low it reaches
SETTLES, LASTS, LONGEST = 0.3, 0.5, 6.0  # s: it comes to rest, it is measured, it gathers way
STEADY = 0.03  # of what is told, from one look to the next
SLOWLY = 0.7  # of the speed that a motor has at most, and of the angle that it steers by at most
TIPPED = 0.4  # rad
GRIP = Surface(friction=0.9)


def moves_as_told(driver: Driver, joints: dict[str, Any], step: float, gravity: Any) -> Iterator[Finding]:
    """A finding for a drive that moves its robot otherwise than it is told."""
    drive, model = driver.controller, driver.body.model.copy("it")
    model.sensors.clear()  # they may name what is not there
    if not isinstance(drive, Drive) or not math.hypot(*gravity) > 0.0:
        return
    motors = [model.motors[joint] for joint in _rolling(drive)]
    tops = (min(motor.speed, motor.free_speed or math.inf) for motor in motors)
    forward = min(SPIN, *(SLOWLY * top for top in tops)) * float(drive.radius)  # type: ignore[attr-defined]
    gravity = (0.0, 0.0, -math.hypot(*gravity))
    where = f"{driver.robot}: {type(drive).__name__}"
    try:
        straight = _tried(drive, model, joints, step, gravity, (forward, 0.0))
        if straight is None:
            return
        found = list(_straight(drive, model, forward, straight))
        if not found and not isinstance(drive, SkidSteer | OmniDrive):  # which must slip, or roll to the side
            turning = forward / _arm(drive)
            curve = _tried(drive, model, joints, step, gravity, _told_turn(drive, forward, turning))
            found = [] if curve is None else list(_turn(drive, model, turning, curve))
    except VeldrainError as error:
        text = f"it was not tried alone on flat ground: {error.problem}"
        yield Finding("not-looked-at", "note", where, text, error.cure or "see that it stands by itself")
        return
    for problem, cure in found:
        yield Finding("moves-otherwise", "warning", where, problem, cure)


def _arm(drive: Drive) -> float:
    if isinstance(drive, AckermannDrive):
        return max(4.0, 1.0 / math.tan(SLOWLY * drive.steering_limit)) * float(drive.wheelbase)
    return float(drive.track)  # type: ignore[attr-defined]


def _told_turn(drive: Drive, forward: float, turning: float) -> tuple[float, float]:
    return (forward if isinstance(drive, AckermannDrive) else 0.0), turning


def _tried(
    drive: Drive, model: Model, joints: dict[str, Any], step: float, gravity: Any, told: tuple[float, float]
) -> tuple[float, float, dict[str, float]] | None:
    """Speed forward, turning, and speeds of wheels where it has gathered way; None: it cannot be seen like this."""
    world = World(gravity=tuple(gravity)).ground(surface=GRIP)
    world.place(model, "it", pose=Pose((0.0, 0.0, ABOVE)), joints=joints)
    engine = engine_of(Simulation(world, step))
    gap = engine.clearance(engine.geoms_of("it"), engine.geoms_of("ground"))
    if not 0.0 < gap < 2 * ABOVE:
        return None
    world = World(gravity=tuple(gravity)).ground(surface=GRIP)
    world.place(model, "it", pose=Pose((0.0, 0.0, ABOVE - gap)), joints=joints)
    sim = Simulation(world, step)
    it, own = sim["it"], copy.deepcopy(drive)
    own.inputs = InputValues(type(drive).inputs, "drive")  # type: ignore[misc]
    motors = Motors(it, list(model.motors))
    ticks = max(1, round(float(own.period) / sim.step))
    ramps = [abs(told[0]) / own.acceleration, abs(told[1]) / own.turning_acceleration]
    if max(ramps) > LONGEST:
        return None
    own.start(Body("it", model, gravity=gravity), np.random.default_rng(0), lambda *_: None)

    def go(seconds: float, forward: float, turning: float) -> None:
        for _ in range(max(1, round(seconds / (ticks * sim.step)))):
            own.inputs.tell(sim.time, forward=forward, turning=turning)  # again and again: it may have a watchdog
            own.update(sim.time, {}, motors)
            sim.advance(ticks * sim.step)

    def measured() -> tuple[float, float]:
        begun, along, turned = sim.time, 0.0, 0.0
        (x, y, _), heading = it.pose().position, _heading(it.pose())
        while sim.time < begun + LASTS - 1e-9:
            go(ticks * sim.step, *told)
            pose = it.pose()
            along += (pose.position[0] - x) * math.cos(heading) + (pose.position[1] - y) * math.sin(heading)
            turned += math.remainder(_heading(pose) - heading, 2 * math.pi)
            (x, y, _), heading = pose.position, _heading(pose)
        return float(along / (sim.time - begun)), turned / (sim.time - begun)

    go(SETTLES, 0.0, 0.0)
    before, settled = it.pose(), sim.time + max(ramps) + LONGEST
    go(max(ramps), *told)
    speed, turning = measured()
    while sim.time < settled:  # heavy ones gather way for long
        last, (speed, turning) = (speed, turning), measured()
        if abs(speed - last[0]) <= STEADY * abs(told[0]) and abs(turning - last[1]) <= STEADY * abs(told[1]) + 1e-9:
            break
    if max(abs(v) for v in (it.pose().rpy[:2] - before.rpy[:2])) > TIPPED:
        return None
    return speed, turning, dict(zip(it.joints, it.velocities.tolist(), strict=True))


def _heading(pose: Pose) -> float:
    return math.atan2(pose.matrix[1, 0], pose.matrix[0, 0])


def _straight(
    drive: Drive, model: Model, forward: float, found: tuple[float, float, dict[str, float]]
) -> Iterator[tuple[str, str]]:
    speed, turning, wheels = found
    told = f"told {figure(forward)} m/s forward it goes at {figure(speed)} m/s"
    backward = [joint for joint in _rolling(drive) if _way(model, joint) < -0.5]
    is_off = abs(turning) > OFF * forward / _arm(drive) or speed < (1.0 - OFF) * forward
    if is_off and 0 < len(backward) < len(_rolling(drive)):
        many = ", ".join(backward)
        yield f"{told}: {many} roll backward where the others roll forward", f"turn the axes of {many} round"
    elif speed < -0.5 * forward:
        yield f"{told}, backward", "turn the axes of its wheels round: those that point to the left roll forward"
    elif speed < (1.0 - OFF) * forward:
        slow = _slow(drive, wheels, forward)
        if slow:
            joint, is_, asked = slow
            yield (
                f"{told}: {joint} turns at {figure(is_)} of {figure(asked)} rad/s",
                f"give its motor more: damping is its gain, now {figure(model.motors[joint].damping)}"
                f" N·m·s/rad; or see the limit, and the friction and damping of the joint",
            )
        else:
            yield f"{told}, though its wheels turn as told", _size(drive, model)
    elif speed > (1.0 + OFF) * forward:
        yield told, _size(drive, model)


def _rolling(drive: Drive) -> tuple[str, ...]:
    """The joints of wheels that drive it."""
    return tuple(drive.driven) if isinstance(drive, AckermannDrive) else drive.joints


def _way(model: Model, joint: str) -> float:
    """How far a turn of a wheel rolls forward: x of its axis × up."""
    j = model.joints[joint]
    axis = model.poses()[j.parent].matrix[:3, :3] @ j.pose.matrix[:3, :3] @ np.asarray(j.axis, float)
    return float(np.cross(axis, (0.0, 0.0, 1.0))[0])


def _slow(drive: Drive, wheels: dict[str, float], forward: float) -> tuple[str, float, float] | None:
    asked = drive.wheels(forward=forward)
    worst = min(_rolling(drive), key=lambda joint: wheels[joint] / asked[joint] if asked[joint] else math.inf)
    return (worst, wheels[worst], asked[worst]) if wheels[worst] < (1.0 - OFF) * asked[worst] else None


def _size(drive: Drive, model: Model) -> str:
    from veldrain.review.drives import radius_of

    found = radius_of(model, _rolling(drive))
    says = float(drive.radius)  # type: ignore[attr-defined]
    if found and abs(found - says) > 0.03 * found:
        return f"write radius: {found:.4g} m, which is the wheels', not {says:.4g} m"
    return "see its radius, and whether its wheels bear its weight"


def _turn(
    drive: Drive, model: Model, turning: float, found: tuple[float, float, dict[str, float]]
) -> Iterator[tuple[str, str]]:
    _, turned, _ = found
    if abs(turned - turning) <= OFF * turning:
        return
    told = f"told to turn at {figure(turning)} rad/s to the left it turns at {figure(turned)} rad/s"
    if isinstance(drive, AckermannDrive):
        base = _wheelbase(drive, model)
        if abs(base - drive.wheelbase) > 0.03 * base:
            yield told, f"write wheelbase: {base:.4g} m, which is the model's, not {drive.wheelbase:.4g} m"
        else:
            yield told, "see that steered names left and right, their axes (up), and that they reach their angles"
    elif turned < -0.5 * turning:
        yield told, "exchange left and right; y is to the left"
    else:
        bear = "see its track and radius, and that its driven wheels bear its weight"
        yield told, f"{bear}; wheels that must slip to turn need SkidSteer and its widening"


def _wheelbase(drive: AckermannDrive, model: Model) -> float:
    """From the steered axle to the driven one that is farthest from it, m."""
    poses = model.poses()

    def ahead(joints: Sequence[str]) -> list[float]:
        return [float((poses[model.joints[j].parent] @ model.joints[j].pose).position[0]) for j in joints]

    front = ahead(drive.steered)
    return max(abs(sum(front) / len(front) - x) for x in ahead(drive.driven))
