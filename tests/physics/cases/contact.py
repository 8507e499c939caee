"""Sliding, rolling, impact, stacks and wheels."""

from __future__ import annotations

import itertools
import math
from functools import partial

import numpy as np
from scipy.spatial.transform import Rotation

import veldrain as vd
from tests.physics.cases import Case, Curve, G
from veldrain.model import Shape

CUBE = vd.Box((0.2, 0.2, 0.2))
ACROSS = Rotation.from_euler("x", 90, degrees=True)


def on_slope(
    angle: float,
    friction: float,
    shape: Shape,
    height: float,
    inertia: np.ndarray | None = None,
    turn: Rotation | None = None,
) -> vd.Simulation:
    """A body of 2 kg on an incline: gravity leans instead of the ground, which is the same and easier to read."""
    surface = vd.Surface(friction=friction)
    w = vd.World(gravity=(G * math.sin(angle), 0, -G * math.cos(angle))).ground(surface=surface)
    m = vd.Model("body").link("body", shape, mass=2, inertia=inertia, surface=surface)
    return vd.Simulation(w.place(m, pose=vd.Pose((0, 0, height), rotation=turn)))


# Sliding


def stopping(heading: float, mass: float = 1.0) -> float:
    surface = vd.Surface(friction=0.5)
    velocity = (2 * math.cos(heading), 2 * math.sin(heading), 0)
    w = vd.World().ground(surface=surface)
    w.body(
        "block", vd.Box((0.3, 0.3, 0.05)), mass=mass, pose=vd.Pose((0, 0, 0.025)), surface=surface, velocity=velocity
    )
    sim = vd.Simulation(w)
    sim.advance(0.6)
    return float(np.linalg.norm(sim["block"].pose().position[:2]))


STOP = 2**2 / (2 * 0.5 * G)


def stopping_distance() -> tuple[float, Curve]:
    curve = Curve("heading, degrees", "stopping distance, m")
    for k in range(16):
        curve.add(22.5 * k, stopping(k * math.pi / 8), STOP)
    return 100 * curve.worst() / STOP, curve


def stopping_spread() -> float:
    found = [stopping(k * math.pi / 8) for k in range(16)]
    return 100 * (max(found) / min(found) - 1)


def creep() -> float:
    angle = math.radians(20)
    sim = on_slope(angle, 1.05 * math.tan(angle), CUBE, 0.1)
    sim.advance(0.5)
    start = sim["body"].pose().position
    sim.advance(60)
    return 1e3 * float(np.linalg.norm(sim["body"].pose().position - start))


def sliding_down() -> float:
    angle = math.radians(20)
    sim = on_slope(angle, 0.3, CUBE, 0.1)
    sim.advance(1)
    exact = G * (math.sin(angle) - 0.3 * math.cos(angle))
    return 100 * abs(sim["body"].velocity()[0][0] / exact - 1)


# Rolling: shape, k = I/(m·r²), inertia

ROUND = {
    "ball": (vd.Sphere(0.1), 0.4, None, None),
    "solid cylinder": (vd.Cylinder(0.1, 0.2), 0.5, None, ACROSS),
    "hoop": (vd.Cylinder(0.1, 0.02), 1.0, 2 * np.diag([0.0051, 0.0051, 0.01]), ACROSS),
}


def rolling_down(name: str) -> tuple[float, Curve]:
    shape, k, inertia, turn = ROUND[name]
    curve = Curve("incline, degrees", f"acceleration of a {name}, m/s²")
    for degrees in (5, 15, 25):
        sim = on_slope(math.radians(degrees), 0.9, shape, 0.1, inertia, turn)
        sim.advance(1)
        curve.add(degrees, sim["body"].velocity()[0][0], G * math.sin(math.radians(degrees)) / (1 + k))
    return 100 * max(abs(a / b - 1) for a, b in zip(curve.ours, curve.exact, strict=True)), curve


def slipping_starts(name: str) -> float:
    """Bisection for the slope at which it starts to slip, against tan θ = µ·(1 + k)/k."""
    shape, k, inertia, turn = ROUND[name]
    exact, low, high = 0.1 * (1 + k) / k, 0.9, 1.12
    for _ in range(8):
        middle = 0.5 * (low + high)
        sim = on_slope(math.atan(middle * exact), 0.1, shape, 0.1, inertia, turn)
        sim.advance(1)
        linear, angular = sim["body"].velocity()
        slips = linear[0] - 0.1 * angular[1] > 1e-3
        low, high = (low, middle) if slips else (middle, high)
    return 100 * abs(low - 1)


# Impact


def bounce(e: float) -> tuple[float, Curve]:
    w = vd.World().ground()
    w.body("ball", vd.Sphere(0.05), mass=1, pose=vd.Pose((0, 0, 1.05)), surface=vd.Surface(restitution=e))
    sim = vd.Simulation(w)
    tops, before = [1.0], 0.0
    while sim.time < 3 and tops[-1] > 0.02:
        sim.advance(1e-3)
        speed = sim["ball"].velocity()[0][2]
        if before > 0 >= speed:
            tops.append(float(sim["ball"].pose().position[2]) - 0.05)
        before = speed
    curve = Curve("bounce", f"height over the one before, e = {e}")
    for k, (high, low) in enumerate(itertools.pairwise(tops)):
        curve.add(k + 1, low / high, e * e)
    return 100 * curve.worst() / (e * e), curve


def dead_ball() -> float:
    w = vd.World().ground()
    sim = vd.Simulation(
        w.body("ball", vd.Sphere(0.05), mass=1, pose=vd.Pose((0, 0, 1.05)), surface=vd.Surface(restitution=0))
    )
    sim.advance(0.5)
    highest = 0.0
    for _ in range(300):
        sim.advance(1e-3)
        highest = max(highest, float(sim["ball"].pose().position[2]) - 0.05)
    return 1e3 * highest


def swarm(e: float, friction: float) -> vd.Simulation:
    """Boxes, balls, cones and others thrown at one point without gravity."""
    random = np.random.default_rng(2)
    w = vd.World(gravity=(0, 0, 0))
    shapes = (CUBE, vd.Sphere(0.12), vd.Cone(0.12, 0.25), vd.Cylinder(0.1, 0.2), vd.Ellipsoid((0.1, 0.12, 0.16)))
    for k in range(15):
        place = random.normal(size=3)
        place *= (0.6 + 0.1 * k) / np.linalg.norm(place)
        w.body(
            f"b{k}",
            shapes[k % 5],
            mass=1 + k % 4,
            pose=vd.Pose(place, rotation=Rotation.random(random_state=random)),
            surface=vd.Surface(friction, e),
            velocity=-place,
            spin=random.normal(size=3),
        )
    return vd.Simulation(w)


def momentum_of_swarm() -> float:
    sim = swarm(0.5, 0.4)
    before = sim.momentum()[0]
    sim.advance(2)
    return float(np.abs(sim.momentum()[0] - before).max() / (15 * 2.5))


def energy_of_swarm(e: float) -> tuple[float, Curve]:
    """Largest growth within a step, as a share of the energy at the start."""
    sim = swarm(e, 0.4)
    curve = Curve("time, s", "energy, share of the start")
    start = before = sim.energy()[0]
    worst = 0.0
    for _ in range(1500):
        sim.advance(1e-3)
        now = sim.energy()[0]
        worst, before = max(worst, now - before), now
        curve.add(sim.time, now / start, 1.0)
    return worst / start, curve


# Stacks


def stack(*masses: float) -> tuple[float, Curve]:
    w = vd.World().ground()
    for k, mass in enumerate(masses):
        w.body(f"box{k}", CUBE, mass=mass, pose=vd.Pose((0, 0, 0.1 + 0.2 * k)))
    sim = vd.Simulation(w)
    curve = Curve("time, s", "largest drift of a box, mm")
    for _ in range(60):
        sim.advance(1)
        drifts = [np.linalg.norm(sim[f"box{k}"].pose().position - (0, 0, 0.1 + 0.2 * k)) for k in range(len(masses))]
        curve.add(sim.time, 1e3 * max(drifts), 0.0)
    return curve.worst(), curve


# Wheels


def driven_wheel() -> tuple[float, Curve]:
    """Rolling: F = T/r·m·r²/(m·r² + I); above µ·N it slips and F = µ·N."""
    curve = Curve("torque, N·m", "force along the ground, N")
    for torque in (0.5, 1.0, 2.0, 4.0, 6.0):
        grippy = vd.Surface(friction=0.9)
        w = vd.World().ground(surface=grippy)
        w.body("wheel", vd.Cylinder(0.1, 0.2), mass=2, pose=vd.Pose((0, 0, 0.1), rotation=ACROSS), surface=grippy)
        sim = vd.Simulation(w)
        sim.push("wheel", (0, 0, 0), torque=(0, torque, 0), lasting=0.2)
        sim.advance(0.2)
        curve.add(torque, 2 * sim["wheel"].velocity()[0][0] / 0.2, min(torque / 0.1 * 2 / 3, 0.9 * 2 * G))
    return 100 * max(abs(a / b - 1) for a, b in zip(curve.ours, curve.exact, strict=True)), curve


def skid_steer() -> vd.Simulation:
    """Four ball-shaped wheels at (±a, ±b), the sides driven against each other."""
    grippy = vd.Surface(friction=0.6)
    m = vd.Model("crawler").link("hull", mass=18, inertia=np.diag([0.4, 0.6, 0.8]), com=(0, 0, 0))
    for k, (x, y) in enumerate(itertools.product((0.2, -0.2), (0.15, -0.15))):
        m.link(f"wheel{k}", vd.Sphere(0.1), mass=0.5, surface=grippy)
        m.joint(f"axle{k}", "hull", f"wheel{k}", kind="continuous", pose=vd.Pose((x, y, 0)), axis=(0, 1, 0))
        m.motor(f"axle{k}", "velocity", damping=200)
    sim = vd.Simulation(vd.World().ground(surface=grippy).place(m, pose=vd.Pose((0, 0, 0.1))))
    for k in range(4):
        sim["crawler"].command(f"axle{k}", velocity=-2.0 if k % 2 == 0 else 2.0)
    sim.advance(3)
    return sim


def skid_turning() -> float:
    """The rate: friction's moments of driving and of scrubbing balance at v·b/(a² + b²)."""
    exact = 0.2 * 0.15 / (0.2**2 + 0.15**2)
    return 100 * abs(skid_steer()["crawler"].velocity()[1][2] / exact - 1)


def skid_torque() -> float:
    """The motors' mean torque: µ·N·r·a/√(a² + b²), N a quarter of the weight."""
    exact = 0.6 * 20 * G / 4 * 0.1 * 0.2 / math.hypot(0.2, 0.15)
    return 100 * abs(float(np.abs(skid_steer()["crawler"].efforts).mean()) / exact - 1)


CASES = [
    Case("sliding", "stopping distance from 2 m/s, 16 headings", "v²/(2·µ·g)", 0.5, "%", stopping_distance),
    Case("sliding", "the same, spread over the headings", "round friction cone", 0.5, "%", stopping_spread),
    Case(
        "sliding", "the same, twice the mass", "v²/(2·µ·g)", 0.5, "%", lambda: 100 * abs(stopping(0.3, 2.0) / STOP - 1)
    ),
    Case("sliding", "creep in 60 s, µ 5 % above tan θ", "Coulomb: none", 0.01, "mm", creep),
    Case("sliding", "acceleration down 20°, µ = 0.3", "g·(sin θ − µ·cos θ)", 0.5, "%", sliding_down),
    *(
        Case("rolling", f"acceleration of a {n}", "g·sin θ/(1 + I/(m·r²))", 0.5, "%", partial(rolling_down, n))
        for n in ROUND
    ),
    *(
        Case("rolling", f"slope where a {n} slips", "tan θ = µ·(1 + m·r²/I)", 2.0, "%", partial(slipping_starts, n))
        for n in ROUND
    ),
    *(
        Case("impact", f"heights of a ball, e = {e}", "e² times the last", 1.0, "%", partial(bounce, e))
        for e in (0.3, 0.6, 0.9)
    ),
    Case("impact", "height of a ball after impact, e = 0", "none", 1e-3, "mm", dead_ball),
    Case("impact", "15 bodies collide: momentum", "conserved, relative to Σm·1 m/s", 1e-10, "", momentum_of_swarm),
    *(
        Case(
            "energy",
            f"15 bodies collide, e = {e}, µ = 0.4: growth in a step",
            "never grows",
            1e-9,
            "",
            partial(energy_of_swarm, e),
        )
        for e in (1.0, 0.5)
    ),
    Case("stacks", "ten boxes, drift in 60 s", "none", 1.0, "mm", partial(stack, *[1.0] * 10)),
    Case("stacks", "1000 kg on 1 kg, drift in 60 s", "none", 1.0, "mm", partial(stack, 1.0, 1000.0)),
    Case("wheels", "force of a driven wheel", "T/r·m·r²/(m·r² + I), at most µ·N", 0.5, "%", driven_wheel),
    Case("wheels", "skid-steer turning in place: rate", "v·b/(a² + b²), quasi-static", 1.0, "%", skid_turning),
    Case("wheels", "skid-steer turning in place: motor torque", "µ·N·r·a/√(a² + b²)", 1.0, "%", skid_torque),
]
