"""Rules about motors and their gains."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from veldrain.model import Cylinder, Joint, Motor, Sphere
from veldrain.model.pieces import SIMPLE_KINDS
from veldrain.pose import Array
from veldrain.review.look import RobotLook, figure
from veldrain.review.rules import Found, found, rule

SAG = {True: 5e-3, False: math.radians(2.0)}  # m where it slides, rad where it turns
CREEP = {True: 1e-3, False: math.radians(0.2)}  # m/s where it slides, rad/s where it turns
SETTLES = 0.5  # s in which an integral part takes over a load
SLOW = 1.0  # s
STIFF = 0.5  # of frequency · step


def _motors(robot: RobotLook, mode: str | None = None) -> Iterator[tuple[Motor, Joint]]:
    """Motors with their joints, where the joint has one coordinate."""
    for motor in robot.model.motors.values():
        joint = robot.model.joints.get(motor.joint)
        if joint and joint.kind in SIMPLE_KINDS and mode in (None, motor.mode):
            yield motor, joint


def _of(joint: Joint, value: float) -> str:
    """An effort with its unit."""
    return f"{value:.3g} N" if joint.is_linear else f"{value:.3g} N·m"


def _stands(robot: RobotLook, joint: Joint) -> bool:
    """True where what hangs on a joint is held by the joint alone: not standing on anything."""
    if not robot.is_free:
        return True
    forces = robot.look.first_forces
    if forces is None:
        return False
    below = {robot.path(link) for link in robot.below(joint.child)}
    return not any(side in below for pair in forces.sides for side in pair)


@rule("holds-no-weight", "error", "motors")
def holds_no_weight(robot: RobotLook) -> Found:
    """A motor can hold its joint at the start posture against gravity.

    With less effort than the weight asks, an arm sinks to its stop whatever the controller does.
    """
    for motor, joint in _motors(robot):
        asked = abs(robot.weight_at(joint.name)) if _stands(robot, joint) else 0.0
        if asked > motor.limit > 0:
            yield found(
                "holds-no-weight",
                robot,
                joint.name,
                f"its motor gives {_of(joint, motor.limit)} at most, and the weight on it at the start asks for"
                f" {_of(joint, asked)}",
                f"write limit: above {_of(joint, asked)}, or take weight off",
                kind="motor",
                numbers={"limit": motor.limit, "asked": asked},
            )


@rule("sags", "warning", "motors")
def sags(robot: RobotLook) -> Found:
    """A position motor is stiff enough to hold the start posture.

    It gives way by weight over stiffness, and stays there: the arm hangs below where it is told to be.
    """
    for motor, joint in _motors(robot, "position"):
        if not _stands(robot, joint):
            continue
        weight = abs(robot.weight_at(joint.name))
        sag = weight / motor.stiffness
        if sag > SAG[joint.is_linear] and weight <= motor.limit:
            told = f"{1e3 * sag:.3g} mm" if joint.is_linear else f"{math.degrees(sag):.3g}°"
            allowed, unit = ("1 mm", "N/m") if joint.is_linear else ("0.5°", "N·m/rad")
            better = weight / (1e-3 if joint.is_linear else math.radians(0.5))
            yield found(
                "sags",
                robot,
                joint.name,
                f"the weight on it at the start, {_of(joint, weight)}, bends its {motor.stiffness:.3g} {unit} by"
                f" {told}",
                f"write stiffness: {figure(better)} {unit} for {allowed}, or add inverse_dynamics",
                kind="motor",
                numbers={"sag": sag, "weight": weight},
            )


@rule("gives-way", "warning", "motors")
def gives_way(robot: RobotLook) -> Found:
    """A velocity motor without an integral part or a brake carries no weight.

    It is told 0 and turns all the same, by load over damping: a lift sinks, a cart rolls down its slope.
    """
    pulled = _pulled(robot)
    for motor, joint in _motors(robot, "velocity"):
        if motor.integral or motor.brake:
            continue
        load = abs(pulled.get(joint.name, 0.0))
        if not load and joint.child not in robot.wheels and _stands(robot, joint):
            load = abs(robot.weight_at(joint.name))
        pace = max(0.0, load - joint.friction) / (motor.damping + joint.damping)
        if pace > CREEP[joint.is_linear] and load <= motor.limit:
            told = f"{1e3 * pace:.3g} mm/s" if joint.is_linear else f"{math.degrees(pace):.3g} °/s"
            unit = "N/m" if joint.is_linear else "N·m/rad"
            yield found(
                "gives-way",
                robot,
                joint.name,
                f"the load on it at the start, {_of(joint, load)}, moves it at {told} while it is told 0",
                f"write integral: {figure(motor.damping / SETTLES)} {unit}, or brake: {figure(1.5 * load)}"
                f" {unit.split('/')[0]} for when it is told nothing",
                kind="motor",
                numbers={"load": load, "creep": pace},
            )


def _pulled(robot: RobotLook) -> dict[str, float]:
    """Effort (N·m) of each driven wheel against what pulls a vehicle down a slope, shared alike."""
    if not robot.is_free:
        return {}
    turn, weight = robot.placed.pose.rotation, np.array(robot.look.world.gravity)
    mass = robot.body(list(robot.links)).mass
    arms = {}
    for link, joint in robot.wheels.items():
        radii = [s.radius for part in robot.links[link].parts if isinstance(s := part.shape, Cylinder | Sphere)]
        if radii and joint.name in robot.model.motors:
            ahead = np.cross(robot.poses[link].rotation.apply(joint.axis), turn.apply((0.0, 0.0, 1.0)))
            arms[joint.name] = float(weight @ ahead) * max(radii)
    return {name: mass * arm / len(arms) for name, arm in arms.items()}


@rule("mostly-damping", "warning", "motors")
def mostly_damping(robot: RobotLook) -> Found:
    """A position motor's damping leaves its stiffness something to do.

    Damping over stiffness is the time it takes to come near; gains copied from a joint of another size make it creep.
    """
    for motor, joint in _motors(robot, "position"):
        time = motor.damping / motor.stiffness
        inertia = robot.inertia_at(joint.name)
        ratio = motor.damping / (2 * math.sqrt(motor.stiffness * inertia)) if inertia > 0 else math.nan
        if time > SLOW or (ratio > 20 and time > 0.2):
            best = 2 * math.sqrt(motor.stiffness * inertia)
            yield found(
                "mostly-damping",
                robot,
                joint.name,
                f"damping over stiffness is {time:.2g} s: it creeps ({figure(ratio)} times critical damping)",
                f"write damping: {best:.2g} for a quick arrival without overshoot",
                kind="motor",
                numbers={"time s": time, "ratio": ratio},
            )


@rule("stiff-for-the-step", "note", "motors")
def stiff_for_the_step(robot: RobotLook) -> Found:
    """A motor's stiffness suits the step.

    The engine takes them implicitly, so that they stay stable at any step; but what is faster than a few steps is
    damped away, and a controller elsewhere with these gains would not be stable.
    """
    h = robot.look.step
    for motor, joint in _motors(robot, "position"):
        inertia = robot.inertia_at(joint.name)
        if not inertia > 0:
            continue
        frequency = math.sqrt(motor.stiffness / inertia)
        if frequency * h > STIFF:
            most = inertia * (STIFF / h) ** 2
            yield found(
                "stiff-for-the-step",
                robot,
                joint.name,
                f"it answers in {1e3 / frequency:.2g} ms, the step is {1e3 * h:.3g} ms: taken implicitly, it stays"
                " stable and is damped more than it says",
                f"stiffness up to {figure(most)} is resolved here, or take steps of {1e3 * STIFF / frequency:.1g} ms",
                kind="motor",
                numbers={"time s": 1 / frequency, "most": most},
            )


@rule("stiffness-unused", "warning", "motors")
def stiffness_unused(robot: RobotLook) -> Found:
    """Only a position motor has stiffness.

    A velocity or effort motor has no place to hold to: the figure is not used.
    """
    for motor, joint in _motors(robot):
        if motor.mode != "position" and motor.stiffness > 0:
            yield found(
                "stiffness-unused",
                robot,
                joint.name,
                f"a motor in {motor.mode} mode with stiffness {motor.stiffness:g}, which is not used",
                "write mode: position, or leave stiffness out",
                kind="motor",
            )


@rule("undriven", "warning", "motors")
def undriven(robot: RobotLook) -> Found:
    """A joint that is meant to be driven has a motor.

    Joints from URDF have effort limits and no motors: nothing holds them until they get one.
    """
    motors = robot.model.motors
    driven = [robot.poses[link].position for link, joint in robot.wheels.items() if joint.name in motors]
    for joint in robot.model.joints.values():
        if (
            joint.kind not in SIMPLE_KINDS
            or joint.name in motors
            or joint.mimic
            or joint.stiffness
            or robot.model.loops
        ):
            continue
        if 0 < joint.effort < math.inf:
            yield found(
                "undriven",
                robot,
                joint.name,
                f"an effort of {_of(joint, joint.effort)} is given for it, and no motor",
                f"write motors: {{{joint.name}: {{mode: …, …}}}}, or defaults: with motor: for all",
                kind="joint",
                numbers={"effort": joint.effort},
            )
        elif joint.child in robot.wheels and _is_odd_one(robot, joint.child, driven):
            yield found(
                "undriven",
                robot,
                joint.name,
                "the wheel across from it is driven, and this one is not",
                f"write motors: {{{joint.name}: …}} for it",
                kind="joint",
                severity="note",
            )


def _is_odd_one(robot: RobotLook, link: str, driven: list[Array]) -> bool:
    """True where the wheel across, which has this one's place mirrored, is driven; other wheels may roll along."""
    back = robot.placed.pose.inverse()
    here = back.apply(robot.poses[link].position)
    mirrored = here * np.array((1.0, -1.0, 1.0))
    near = 0.2 * abs(here[1]) + 1e-3
    return any(float(np.linalg.norm(back.apply(at) - mirrored)) < near for at in driven)
