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
from veldrain.review.statics import Posture, postures_of

SAG = {True: 5e-3, False: math.radians(2.0)}  # m where it slides, rad where it turns
CREEP = {True: 1e-3, False: math.radians(0.2)}  # m/s where it slides, rad/s where it turns
PATIENCE = 5.0  # s for a small step
RINGS = 0.1  # of critical damping
FEW = 12  # motors of a robot whose cures are tried
SPARE = 1.5  # times what holding asks for
SETTLES = 0.5  # s in which an integral part takes over a load
SLOW = 1.0  # s
TAKEN = 0.7  # of the speed that a velocity motor is told
MANY = 3  # joints of one robot that are told in one line


def motors_of(robot: RobotLook, mode: str | None = None) -> Iterator[tuple[Motor, Joint]]:
    """Motors with their joints, where the joint has one coordinate."""
    for motor in robot.model.motors.values():
        joint = robot.model.joints.get(motor.joint)
        if joint and joint.kind in SIMPLE_KINDS and mode in (None, motor.mode):
            yield motor, joint


def effort_of(joint: Joint, value: float) -> str:
    """An effort with its unit."""
    return f"{figure(value)} N" if joint.is_linear else f"{figure(value)} N·m"


def held_alone(robot: RobotLook, joint: Joint) -> bool:
    """True where what hangs on a joint is held by the joint alone: not standing on anything.

    Of what has no base that is heavy beside the rest, as a snake, nobody knows what it lies on.
    """
    if not robot.is_free and not robot.look.is_bare:
        return True
    if robot.look.is_bare:
        root = robot.body(robot.group(robot.model.root())).mass
        return root > 0.3 * robot.body(list(robot.links)).mass or root == 0.0
    forces = robot.look.settled
    if forces is None:
        return False
    below = {robot.path(link) for link in robot.below(joint.child)}
    return not any(side in below for pair in forces.sides for side in pair)


@rule("holds-no-weight", "error", "motors")
def holds_no_weight(robot: RobotLook) -> Found:
    """A motor can hold its joint against gravity: at the start, and in the postures it is to take.

    With less effort than the weight asks, an arm sinks to its stop whatever the controller does. Loops, springs,
    counterweights and joints that follow others carry their share: the engine solves for it.
    """
    if robot.held is None:
        return
    at_start = Posture("at the start", {}, True)
    most: dict[str, tuple[float, Posture]] = {}  # of all postures: the effort, and where
    for posture in (at_start, *postures_of(robot.model, robot.at_start)):
        loads = robot.held.loads_at(posture.joints)
        for _, joint in motors_of(robot):
            asked = abs(loads[joint.name]) if held_alone(robot, joint) else 0.0
            if asked > most.get(joint.name, (0.0,))[0]:
                most[joint.name] = asked, posture
    for motor, joint in motors_of(robot):
        worst, where = most.get(joint.name, (0.0, at_start))
        if not worst > motor.limit > 0:
            continue
        begun = abs(robot.held.loads[joint.name])
        if begun > motor.limit:
            asked, where = begun, at_start
        else:
            asked = worst
        yield found(
            "holds-no-weight",
            robot,
            joint.name,
            f"its motor gives {effort_of(joint, motor.limit)} at most, and the weight on it {where.name} asks for"
            f" {effort_of(joint, asked)}",
            _stronger(robot, motor, joint, worst) + ", or take weight off",
            kind="motor",
            severity=None if where is at_start else "warning" if where.is_named else "note",
            numbers={"limit": motor.limit, "asked": asked},
        )


def _stronger(robot: RobotLook, motor: Motor, joint: Joint, asked: float) -> str:
    """A limit that holds in every posture and has something left to move with, and the stiffness that goes with it."""
    assert robot.held
    limit = SPARE * asked
    if motor.mode != "position":
        return f"write limit: {effort_of(joint, limit)}"
    load, stiff = abs(robot.held.loads[joint.name]), motor.stiffness + joint.stiffness
    few = len(robot.held.motors) <= FEW  # each try is some seconds of simulated time
    better = max(limit, robot.held.limit_that_does(joint.name, limit, PATIENCE)) if few else limit
    cure = f"write limit: {effort_of(joint, better if math.isfinite(better) else limit)}"
    if load / stiff > SAG[joint.is_linear]:
        cure += f", and {_stiffer(robot, motor, joint, load)}"
    return cure


def _stiffer(robot: RobotLook, motor: Motor, joint: Joint, weight: float) -> str:
    """A stiffness that gives way by 1 mm or half a degree, and the damping that it needs, where it has less."""
    assert robot.held
    better = weight / (1e-3 if joint.is_linear else math.radians(0.5)) - joint.stiffness
    critical = 2.0 * math.sqrt((better + joint.stiffness) * robot.held.inertias[joint.name])
    allowed, unit = ("1 mm", "N/m") if joint.is_linear else ("0.5°", "N·m/rad")
    told = f"stiffness: {figure(better)} {unit} for {allowed}"
    is_damped = not RINGS * critical > motor.damping + joint.damping
    return told if is_damped else f"{told} with damping: {0.7 * critical - joint.damping:.2g}"


def sag_of(robot: RobotLook, motor: Motor, joint: Joint) -> float:
    """How far (rad or m) a position motor gives way at the start; 0 where it is not held by it alone, or not at all."""
    weight = abs(robot.held.loads[joint.name]) if robot.held and held_alone(robot, joint) else 0.0
    sag = weight / (motor.stiffness + joint.stiffness)
    return sag if sag > SAG[joint.is_linear] and weight <= motor.limit else 0.0


@rule("sags", "warning", "motors")
def sags(robot: RobotLook) -> Found:
    """A position motor is stiff enough to hold the start posture.

    It gives way by weight over stiffness, and stays there: the arm hangs below where it is told to be. A spring of the
    joint's own helps it.
    """
    for motor, joint in motors_of(robot, "position"):
        own = motor.stiffness + joint.stiffness
        if sag := sag_of(robot, motor, joint):
            weight = sag * own
            told = f"{1e3 * sag:.3g} mm" if joint.is_linear else f"{math.degrees(sag):.3g}°"
            unit = "N/m" if joint.is_linear else "N·m/rad"
            yield found(
                "sags",
                robot,
                joint.name,
                f"the weight on it at the start, {effort_of(joint, weight)}, bends its {own:.3g} {unit} by {told}",
                f"write {_stiffer(robot, motor, joint, weight)}, or add inverse_dynamics",
                kind="motor",
                numbers={"sag": sag, "weight": weight},
            )


@rule("gives-way", "warning", "motors")
def gives_way(robot: RobotLook) -> Found:
    """A velocity motor without an integral part or a brake carries no weight.

    It is told 0 and turns all the same, by load over damping: a lift sinks, a cart rolls down its slope.
    """
    pulled = _pulled(robot)
    for motor, joint in motors_of(robot, "velocity"):
        if motor.integral or motor.brake:
            continue
        load = abs(pulled.get(joint.name, 0.0))
        if not load and robot.held and joint.child not in robot.wheels and held_alone(robot, joint):
            load = abs(robot.held.loads[joint.name])
        pace = max(0.0, load - joint.friction) / (motor.damping + joint.damping)
        if pace > CREEP[joint.is_linear] and load <= motor.limit:
            told = f"{1e3 * pace:.3g} mm/s" if joint.is_linear else f"{math.degrees(pace):.3g} °/s"
            unit = "N/m" if joint.is_linear else "N·m/rad"
            yield found(
                "gives-way",
                robot,
                joint.name,
                f"the load on it at the start, {effort_of(joint, load)}, moves it at {told} while it is told 0",
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


@rule("held-by-damping", "warning", "joints")
def held_by_damping(robot: RobotLook) -> Found:
    """A joint's damping leaves its motor the speed that it is told.

    A velocity motor's gain works against the joint's own damping: with as much of both it gets half as fast.
    """
    for motor, joint in motors_of(robot):
        top = min(motor.speed, joint.speed)
        share = motor.damping / (motor.damping + joint.damping) if joint.damping > 0 else 1.0
        needed = joint.damping * top if math.isfinite(top) else 0.0
        unit, per = ("N·s/m", "m/s") if joint.is_linear else ("N·m·s/rad", "rad/s")
        if motor.mode == "velocity" and share < TAKEN and not motor.integral:
            problem = (
                f"told 1 {per} it gets {figure(share)} {per}: its damping of {joint.damping:g} {unit} takes the rest"
            )
        elif motor.mode == "position" and motor.stiffness > 0 and joint.damping / motor.stiffness > SLOW:
            time = joint.damping / motor.stiffness
            problem = f"its damping of {joint.damping:g} {unit} lets it creep: {time:.2g} s over its stiffness"
        elif needed > motor.limit > 0:
            most = effort_of(joint, motor.limit)
            problem = f"at its {top:.3g} {per} its damping takes {effort_of(joint, needed)}, and its motor gives {most}"
        else:
            continue
        yield found(
            "held-by-damping",
            robot,
            joint.name,
            problem,
            "look at the unit of the joint's damping, or give a stronger motor",
            kind="joint",
            numbers={"damping": joint.damping},
        )


@rule("stiffness-unused", "warning", "motors")
def stiffness_unused(robot: RobotLook) -> Found:
    """Only a position motor has stiffness.

    A velocity or effort motor has no place to hold to: the figure is not used.
    """
    for motor, joint in motors_of(robot):
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
    meant = [
        joint
        for joint in robot.model.joints.values()
        if joint.kind in SIMPLE_KINDS
        and not (joint.name in motors or joint.mimic or joint.stiffness or robot.model.loops)
    ]
    given = [joint for joint in meant if 0 < joint.effort < math.inf]
    if len(given) > MANY and not motors:  # a robot file as it came
        names = f"{given[0].name}, {given[1].name}, … {given[-1].name}"
        problem = f"an effort is given for {len(given)} of its joints ({names}), and no motor"
        yield found(
            "undriven", robot, "", problem, "write defaults: [{joints: '*', motor: {mode: …, …}}] for all of them"
        )
        given = []
    for joint in given:
        yield found(
            "undriven",
            robot,
            joint.name,
            f"an effort of {effort_of(joint, joint.effort)} is given for it, and no motor",
            f"write motors: {{{joint.name}: {{mode: …, …}}}}, or defaults: with motor: for all",
            kind="joint",
            numbers={"effort": joint.effort},
        )
    for joint in meant:
        is_given = 0 < joint.effort < math.inf
        if not is_given and joint.child in robot.wheels and _is_odd_one(robot, joint.child, driven):
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
