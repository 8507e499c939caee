"""What motion costs: inverse kinematics, planning, drives, walking and flying."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable, Iterator

import numpy as np

import veldrain as vd
from veldrain.demo import robot
from veldrain.demo.walkers import bank_walker, four_legged
from veldrain.motion.filtering import Errors, PoseFilter
from veldrain.scenario.trial import Trial
from veldrain.starting import template

Figure = tuple[str, float, str, str]


def seconds(act: Callable[[], object]) -> float:
    """How long one call takes."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def seven_joints() -> vd.Model:
    """An arm of seven joints."""
    m = vd.Model("seven").link("b0", mass=4)
    for k in range(1, 8):
        m.link(f"b{k}", vd.Capsule(0.04, 0.08), mass=1.5)
        axis = (0, 0, 1) if k % 2 else (0, 1, 0)
        m.joint(f"j{k}", f"b{k - 1}", f"b{k}", "revolute", vd.Pose((0, 0, 0.17)), axis, limits=(-2.6, 2.6))
    return m.frame("tool", on="b7", pose=vd.Pose((0, 0, 0.1)))


def inverse(count: int) -> Iterator[Figure]:
    """Random reachable poses, all from one start."""
    for name, model in (("sampling arm", robot("sampling_arm")), ("7-joint arm", seven_joints())):
        chain = vd.Chain(model, "tool")
        found = np.random.default_rng(0).uniform(chain.low, chain.high, (count, len(chain.joints)))
        chain.inverse(chain.forward(found[0]))
        times, reached = [], 0
        for q in found:
            pose, begun = chain.forward(q), time.perf_counter()
            answer = chain.inverse(pose)
            times.append(time.perf_counter() - begun)
            back = chain.forward(answer.q)
            near = np.linalg.norm(back.position - pose.position) < 1e-4
            turned = (back.rotation.inv() * pose.rotation).magnitude() < np.radians(0.1)
            inside = (answer.q >= chain.low - 1e-9).all() and (answer.q <= chain.high + 1e-9).all()
            reached += bool(near and turned and inside)
        yield f"inverse of {count} poses, {name}, reached", 100 * reached / count, "%", "≥ 99.5"
        yield f"inverse of a pose, {name}", 1e3 * statistics.median(times), "ms", "≤ 0.3"


def planning(seeds: int) -> Iterator[Figure]:
    """The sampling arm over a wall between two jars."""
    world = vd.World().ground().place(robot("sampling_arm"), "arm", fixed=True)
    world.obstacle("wall", vd.Box((0.6, 0.05, 0.5)), pose=vd.Pose((0.5, 0, 0.25)))
    for name, y in (("jar_a", 0.62), ("jar_b", -0.62)):
        world.obstacle(name, vd.Cylinder(0.04, 0.12), pose=vd.Pose((0.5, y, 0.06)))
    a, b = np.array([0.9, 0.9, 0.9, 0, 0.8, 0]), np.array([-0.9, 0.9, 0.9, 0, 0.8, 0])
    vd.plan(world, "arm", start=a, goal=b)
    times, solved = [], 0
    for seed in range(seeds):
        begun = time.perf_counter()
        try:
            vd.plan(world, "arm", start=a, goal=b, margin="1 cm", seed=seed)
            solved += 1
        except vd.NoPath:
            pass  # counted by what is missing
        times.append(time.perf_counter() - begun)
    yield f"paths over a wall, of {seeds} seeds solved", 100 * solved / seeds, "%", "100"
    yield "a path over a wall", statistics.median(times), "s", "≤ 1"


def update_time(repeats: int) -> Iterator[Figure]:
    """A tick of a shipped drive."""
    drive = vd.DifferentialDrive(["left"], ["right"], 0.08, 0.34, acceleration=1)
    trial = Trial(vd.Scenario(template("cart"), 1, controllers={"cart": drive}))
    driver = trial.drivers[0]
    driver.tell(forward=0.3, turning=0.2)
    found = []
    for _ in range(repeats):
        begun = time.perf_counter()
        for _ in range(2000):
            driver.controller.update(0.5, driver.senses, driver.motors)
        found.append((time.perf_counter() - begun) / 2000)
    yield "update of a differential drive", 1e6 * statistics.median(found), "µs", "≤ 30"


def coupled(repeats: int) -> Iterator[Figure]:
    """A row of crates on the ground, each free or attached to the next; and what an estimate of a pose takes."""
    found: dict[str, list[float]] = {"free": [], "attached": []}
    for name, times in found.items():
        world = vd.World().ground()
        for k in range(6):
            world.body(f"crate{k}", vd.Box((0.2, 0.2, 0.2)), mass="2 kg", pose=vd.Pose((0.3 * k, 0, 0.1)))
        sim = vd.Simulation(world)
        for k in range(5 if name == "attached" else 0):
            sim.attach(f"crate{k}", to=f"crate{k + 1}", pose=vd.Pose((-0.3, 0, 0)))
        sim.advance("0.2 s")
        times += [seconds(lambda sim=sim: sim.advance("0.5 s")) / 500 for _ in range(repeats)]  # type: ignore[misc]
    free, held = (statistics.median(times) for times in found.values())
    yield "a step of six crates on the ground", 1e6 * free, "µs", ""
    yield "the same, each attached to the next, by that of free ones", held / free, "×", ""
    estimate = PoseFilter((0.0, 0.0, 0.0), Errors())
    times = [seconds(lambda: [estimate.go(0.5, 0.1, 0.02) for _ in range(1000)]) / 1000 for _ in range(repeats)]
    yield "a step of an estimated pose", 1e6 * statistics.median(times), "µs", ""


def real_time(name: str, make: Callable[[], Trial], repeats: int) -> Figure:
    """How much faster than real time a trial without recording goes."""
    found = []
    for _ in range(repeats):
        trial = make()
        trial.advance("1 s")
        begun = time.perf_counter()
        trial.advance("3 s")
        found.append(3.0 / (time.perf_counter() - begun))
    return f"real-time factor, {name}", statistics.median(found), "×", "≥ 20"


def walking(model: vd.Model, gait: str) -> Trial:
    """A walker on flat ground."""
    feet = [frame for frame in model.frames if frame.endswith("_foot")]
    poses = model.poses(model.postures["stand"])
    low = min((poses[frame.link] @ frame.pose).position[2] for frame in model.frames.values())
    world = vd.World().ground(surface=vd.Surface(friction=0.8))
    world.place(model, "walker", pose=vd.Pose((0, 0, 0.025 - low)), posture="stand")
    walk = vd.Walk(feet, gait=gait, stance="stand", stride_time=0.6)
    scenario = vd.Scenario(world, 10, controllers={"walker": walk})
    scenario.at("0.5 s").tell("walker", forward=0.25)
    return Trial(scenario)


def flying() -> Trial:
    """A flyer in wind."""
    world = template("flyer").weather(vd.Air(wind=(4, 3, 0), gusts=0.5))
    fly = vd.Fly([(0, 0, 2), (3, 0, 2)], pose="truth")
    return Trial(vd.Scenario(world, 10, controllers={"flyer": fly}, truth=["flyer"]))


def motion(repeats: int) -> Iterator[Figure]:
    """All of it."""
    yield from inverse(10_000 if repeats > 1 else 500)
    yield from planning(50 if repeats > 1 else 5)
    yield from update_time(repeats)
    yield from coupled(repeats)
    yield real_time("a four-legged walker (Walk)", lambda: walking(four_legged(), "trot"), repeats)
    yield real_time("a six-legged walker (Walk)", lambda: walking(bank_walker(), "tripod"), repeats)
    yield real_time("a flyer (Fly)", flying, repeats)
