"""Controllers held against what their robots can do: paths within limits, motors as quick as they are asked to be."""

from __future__ import annotations

import copy
import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from veldrain.control import Fly, FollowTrajectory, GoTo, Walk
from veldrain.control.driving import Driver
from veldrain.model import Joint, Model, Motor
from veldrain.motion.attitude import FASTER
from veldrain.motion.legs import Leg
from veldrain.pose import Array, Pose
from veldrain.review.finding import Finding
from veldrain.review.look import figure
from veldrain.scenario import Tell
from veldrain.scenario.trial import Trial
from veldrain.simulation import engine_of

STATEMENTS = {
    "path-beyond-limits": "A path stays within what its joints and motors can do: positions, speeds and efforts.",
    "path-starts-elsewhere": "A path begins where its joints are: otherwise they jump to its start.",
    "gains-too-low": "Motors are as quick as what they are asked to follow: a path, or the attitude of a flyer.",
    "path-through-things": "The straight way of a robot that goes to a place is free.",
    "legs-out-of-reach": "At what a walker is told, its feet stay within reach of its legs.",
}

PLACES, MOST_PLACES = 0.1, 1000  # m along a straight way, and how many of them
SAMPLES = 200  # of a path
NEAR = 1e-3  # m out of reach that no leg minds
JUMP = {True: 5e-3, False: math.radians(2.0)}  # m where a joint slides, rad where it turns
LAGS = {True: 5e-3, False: math.radians(3.0)}  # the same, of what motors may stay behind a path
# Of a rotor's time constant times the rate at which attitude is held: up to the first a flyer is steady, and above the
# second the demo's multirotor turns over in wind (scripts/rotor_lag).
STEADY, FALLS = 0.95, 1.2


def what_does_not_follow(trial: Trial, driver: Driver) -> Iterator[Finding]:
    """Findings for a controller that asks for what its robot cannot do, at the start of a trial."""
    controller = driver.controller
    if isinstance(controller, FollowTrajectory):
        yield from _of_path(trial, driver, controller)
    elif isinstance(controller, Fly):
        yield from _of_flyer(driver, controller)
    elif isinstance(controller, GoTo):
        yield from _of_way(trial, driver, controller)
    elif isinstance(controller, Walk):
        yield from _of_walker(trial, driver, controller)


@dataclass(frozen=True)
class _Along:
    """A path, sampled: times (n,), positions, velocities and accelerations (n, joints)."""

    controller: FollowTrajectory
    model: Model
    who: str
    times: Array
    rows: tuple[Array, Array, Array]

    def joints(self) -> Iterator[tuple[int, Joint, Motor]]:
        """Number, joint and motor of each joint that has one coordinate."""
        for k, name in enumerate(self.controller.joints):
            if name in self.model.joints:  # not a coordinate of a planar joint
                yield k, self.model.joints[name], self.model.motors[name]

    def told(self, rule: str, joint: Joint, at: int, problem: str, cure: str) -> Finding:
        """A warning about a joint at a sample."""
        share = 100 * self.times[at] / self.controller.path.duration
        return Finding(rule, "warning", f"{self.who}/{joint.name}", f"at {share:.0f} % of its path {problem}", cure)


def _of_path(trial: Trial, driver: Driver, controller: FollowTrajectory) -> Iterator[Finding]:
    path = controller.path
    times = np.unique(np.concatenate([np.linspace(0.0, path.duration, SAMPLES, endpoint=False), path.knots[:-1]]))
    along = _Along(controller, driver.body.model, driver.robot, times, path.at(times))
    beyond = list(_positions(along))
    yield from beyond
    yield from _speeds(along)
    yield from _jumps(trial, along)
    if not beyond:  # there are no efforts outside of the limits
        yield from _efforts(trial, along)


def _positions(along: _Along) -> Iterator[Finding]:
    """Positions beyond the joints' limits."""
    for k, joint, _ in along.joints():
        q = along.rows[0][:, k]
        if joint.limits is not None:
            low, high = joint.limits
            over = np.maximum(low - q, q - high)
            at = int(over.argmax())
            if over[at] > 1e-6:
                unit = "m" if joint.is_linear else "rad"
                yield along.told(
                    "path-beyond-limits",
                    joint,
                    at,
                    f"asks for {q[at]:.4g} {unit}, beyond its limits of {low:.4g} to {high:.4g} {unit}",
                    "plan it within the joint's limits (chain.low, chain.high)",
                )


def _speeds(along: _Along) -> Iterator[Finding]:
    """Speeds that the motors do not give."""
    for k, joint, motor in along.joints():
        v, top = np.abs(along.rows[1][:, k]), min(motor.speed, motor.free_speed or math.inf)
        at = int(v.argmax())
        if v[at] > top * (1 + 1e-6):
            yield along.told(
                "path-beyond-limits",
                joint,
                at,
                f"asks for {_rate(joint, v[at])}, and its motor gives {_rate(joint, top)} at most",
                f"plan it with speed={figure(top)}, or scale={figure(0.99 * top / v[at])}",
            )


def _jumps(trial: Trial, along: _Along) -> Iterator[Finding]:
    """A start that is not where its joints are."""
    robot = trial.simulation[along.who]
    now = dict(zip(robot.joints, robot.positions.tolist(), strict=True))
    for k, joint, motor in along.joints():
        jump = abs(float(along.rows[0][0, k]) - now[joint.name])
        if motor.mode == "position" and jump > JUMP[joint.is_linear]:
            yield along.told(
                "path-starts-elsewhere",
                joint,
                0,
                f"it asks for {_place(joint, along.rows[0][0, k])}, and the joint starts at "
                f"{_place(joint, now[joint.name])}: it jumps there",
                "begin the path at the start posture, or place the robot with joints= where the path begins",
            )


def _efforts(trial: Trial, along: _Along) -> Iterator[Finding]:
    """Efforts that its motors cannot give, and what soft motors stay behind."""
    sim, where = trial.simulation, along.who
    robot, before = sim[where], sim.snapshot()
    columns = [robot.joints.index(name) for name in along.controller.joints]
    start, free = robot.positions, len(robot.inertia_matrix()) - len(robot.joints)
    asked, still = np.zeros_like(along.rows[0]), np.zeros_like(along.rows[0])
    try:
        for n in range(len(along.times)):
            q, v, a = start.copy(), np.zeros(len(start)), np.zeros(free + len(start))
            q[columns] = along.rows[0][n]
            robot.positions, robot.velocities = q.tolist(), v.tolist()
            still[n] = robot.inverse_dynamics(a)[free:][columns]
            v[columns], a[free + np.array(columns)] = along.rows[1][n], along.rows[2][n]
            robot.velocities = v.tolist()
            asked[n] = robot.inverse_dynamics(a)[free:][columns]
    finally:
        sim.restore(before)
    for k, joint, motor in along.joints():
        at = int(np.abs(asked[:, k]).argmax())
        unit = "N" if joint.is_linear else "N·m"
        most = abs(float(asked[at, k]))
        if most > motor.limit * (1 + 1e-6):
            yield along.told(
                "path-beyond-limits",
                joint,
                at,
                f"asks for {most:.3g} {unit}, and its motor gives {motor.limit:.3g} {unit} at most",
                "plan it with a lower acceleration, or take weight off",
            )
            continue
        pull = np.abs(asked[:, k] - still[:, k])  # what moving asks for, beside the weight
        at = int(pull.argmax())
        lag = float(pull[at]) / motor.stiffness if motor.mode == "position" else 0.0
        if lag > LAGS[joint.is_linear]:
            stiffness = float(pull[at]) / (0.2 * LAGS[joint.is_linear])
            yield along.told(
                "gains-too-low",
                joint,
                at,
                f"moving asks for {pull[at]:.3g} {unit}, for which its motor stays {_place(joint, lag)} behind",
                f"write stiffness: {figure(stiffness)} (see inspect --gains), or plan a lower acceleration",
            )


def _of_way(trial: Trial, driver: Driver, pilot: GoTo) -> Iterator[Finding]:
    """What stands on the straight way to a goal: such a pilot minds nothing. It is where odometry begins."""
    sim, before, robot = trial.simulation, trial.simulation.snapshot(), driver.robot
    engine, start = engine_of(sim), sim[robot].pose()
    own = engine.geoms_of(robot)
    world = trial.scenario.world
    things = [name for name in (*world.obstacles, *world.bodies) if not world.is_of_roads(name)]
    goal = np.array((*pilot.goal, 0.0))
    way = start.rotation.apply(goal) if pilot.pose == "odometry" else goal - start.position
    way[2] = 0.0
    yaw = math.atan2(way[1], way[0])
    met = {name for name in things if engine.clearance(own, engine.geoms_of(name)) <= 0.0}
    try:
        places = min(MOST_PLACES, math.ceil(float(np.linalg.norm(way)) / PLACES))
        for k in range(1, places + 1):
            at = start.position + way * k / places
            sim[robot].move_to(Pose(tuple(at), yaw=yaw))
            for name in things:
                if name not in met and engine.clearance(own, engine.geoms_of(name)) <= 0.0:
                    far = float(np.linalg.norm(way)) * k / places
                    text = f"the straight way to its goal {pilot.goal} meets {name} after {far:.3g} m"
                    cure = "see the goal and its unit, or plan a way around it: FollowRoute"
                    yield Finding("path-through-things", "warning", driver.title, text, cure)
                    return
    finally:
        sim.restore(before)


def _of_flyer(driver: Driver, fly: Fly) -> Iterator[Finding]:
    """Rotors that come to their speed more slowly than attitude is to be held."""
    model, asked = driver.body.model, 2.0 * math.pi * FASTER * fly.bandwidth  # rad/s
    for joint in model.rotors:
        motor = model.motors.get(joint)
        if motor is None or motor.mode != "velocity" or motor.damping <= 0:
            continue
        axis, blades = np.asarray(model.joints[joint].axis), model.links[model.joints[joint].child].mass_properties
        time = (float(axis @ blades.inertia @ axis) + motor.inertia) / motor.damping + motor.lag
        if time * asked > STEADY:
            yield Finding(
                "gains-too-low",
                "error" if time * asked > FALLS else "warning",
                f"{driver.robot}/{joint}",
                f"the rotor follows its command in {1e3 * time:.3g} ms, and attitude is to be held at "
                f"{asked / 2 / math.pi:.3g} Hz: it sways, or turns over",
                f"write bandwidth: {figure(0.8 * fly.bandwidth / (time * asked))} Hz, "
                "or give its motor more damping or less lag",
            )


def _of_walker(trial: Trial, driver: Driver, walk: Walk) -> Iterator[Finding]:
    """Feet that get out of reach at the fastest that the timeline tells."""
    model = driver.body.model
    told = _fastest(trial, driver)
    stand = model.bent(model.postures[walk.stance]) if walk.stance else {}
    for name in walk.feet:
        leg = Leg(model, name)
        q = [stand.get(j, m) for j, m in zip(leg.joints, leg.chain.middle, strict=True)]
        rest = leg.chain.forward(q).position
        up = np.array((0.0, 0.0, told["height"]))
        too_high = leg.nearest(rest - up, rest, near=q)[1]
        rate = np.array((told["forward"], told["sideways"])) + told["turning"] * np.abs(rest[1::-1])
        x, y = 0.5 * walk.duty * walk.stride_time * rate
        steps = [np.array((a, b, 0.0)) for a in (-x, x) for b in (-y, y)]
        left = 0.0 if too_high > 0.0 else max(leg.nearest(rest - up + s, rest - up, near=q)[1] for s in steps)
        if max(too_high, left) < NEAR:
            continue
        problem = (
            f"at the height that it is told, {100 * too_high:.2g} cm of the way down to the ground are out of reach"
            if too_high > NEAR
            else f"at what it is told it steps {100 * math.hypot(x, y):.3g} cm from where it stands, "
            f"and {100 * left:.2g} cm of that are out of reach"
        )
        share = 100 * (1.0 - left / max(math.hypot(x, y), NEAR))
        cure = "tell a lower height" if too_high > NEAR else f"tell it {share:.0f} % of that, or a shorter stride_time"
        yield Finding("legs-out-of-reach", "warning", f"{driver.robot}/{name}", problem, cure)
        return


def _fastest(trial: Trial, driver: Driver) -> dict[str, float]:
    """The largest of each that the timeline tells a walker, m/s and rad/s; height as the highest, m."""
    most = dict.fromkeys(driver.inputs.kinds, 0.0)
    for entry in trial.scenario.timeline:
        if isinstance(entry.action, Tell) and entry.action.controller.partition("/")[0] == driver.robot:
            inputs = copy.copy(driver.inputs)
            inputs.tell(**{name: v for name, v in entry.action.inputs.items() if name in most})
            for name, value in inputs.values.items():
                most[name] = max(most[name], value if name == "height" else abs(value))
    return most


def _rate(joint: Joint, value: float) -> str:
    return f"{value:.3g} m/s" if joint.is_linear else f"{value:.3g} rad/s"


def _place(joint: Joint, value: float) -> str:
    return f"{1e3 * value:.3g} mm" if joint.is_linear else f"{math.degrees(value):.3g}°"
