"""What must not make energy, force or motion out of nothing; and what must not hang on the step."""

from __future__ import annotations

import math
from functools import partial

import numpy as np
import trimesh

import veldrain as vd
from tests.physics.cases import Case, Curve, G

CUBE = vd.Box((0.2, 0.2, 0.2))
FLAT = vd.Pose(rpy=("90 deg", 0, 0))


# Overlap


def leg() -> vd.Model:
    """A trunk with a hip and a thigh that start inside it."""
    m = vd.Model("dog").link("trunk", vd.Box((0.5, 0.34, 0.12)), mass=12).link("hip", vd.Sphere(0.03), mass=0.5)
    m.link("thigh", vd.Part(vd.Capsule(0.02, 0.18), vd.Pose((0, 0, -0.11))), mass=0.5)
    m.joint("roll", "trunk", "hip", "revolute", vd.Pose((0.22, 0.12, 0)), axis=(1, 0, 0), limits=(-0.8, 0.8))
    return m.joint("pitch", "hip", "thigh", "revolute", vd.Pose((0, 0.06, 0)), axis=(0, 1, 0), limits=(-0.8, 0.8))


def tangle(seed: int) -> vd.Model:
    """Four links of any shapes, joined in any way, inside each other."""
    random = np.random.default_rng(seed)
    shapes = (vd.Sphere(0.05), vd.Capsule(0.03, 0.15), vd.Box((0.1, 0.08, 0.12)), vd.Cylinder(0.04, 0.1))
    m = vd.Model("tangle").link("l0", vd.Box((0.3, 0.2, 0.1)), mass=5)
    for k in range(1, 4):
        m.link(f"l{k}", shapes[random.integers(4)], mass=float(random.uniform(0.2, 3)))
        kind = "prismatic" if random.integers(5) == 0 else "revolute"
        m.joint(
            f"j{k}",
            f"l{random.integers(k)}",
            f"l{k}",
            kind,
            vd.Pose(random.uniform(-0.08, 0.08, 3)),
            axis=tuple(random.normal(size=3)),
            limits=(-0.8, 0.8),
        )
    return m


def overlap_energy(*models: vd.Model) -> float:
    """The most kinetic energy (J), and 1e6 for a joint beyond its limits."""
    most = 0.0
    for model in models:
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(model), step="2 ms")
        for _ in range(150):
            sim.advance("2 ms")
            most = max(most, sim.energy()[0])
            most = max(most, 1e6 * (np.abs(sim[model.name].positions).max() > 0.8 + 1e-6))
    return float(most)


def rod_in_hole(shape: vd.Shape) -> float:
    """How far (mm) a rod on a slide is thrown by a plate whose hole it stands in, free of it."""
    ring = trimesh.creation.annulus(r_min=0.012, r_max=0.06, height=0.01, sections=48)
    w = vd.World(gravity=(0, 0, 0)).obstacle(
        "plate", vd.Mesh.of(ring.vertices, ring.faces, collide="triangles", name="plate")
    )
    m = vd.Model("pin").link("rail", mass=1).link("pin", shape, mass=0.5)
    m.joint("x", "rail", "pin", "prismatic", axis=(0, 0, 1), limits=(-0.5, 0.5))
    sim = vd.Simulation(w.place(m, fixed=True, joints={"x": 0.05}))
    sim.advance("0.2 s")
    return 1e3 * abs(float(sim["pin"].positions[0]) - 0.05)


# Rest


def share_of_corners(spin: float) -> float:
    """Largest difference of a box's corners from a quarter of its weight, friction included (%); however it came there."""
    w = vd.World().ground().body("box", vd.Box((0.3, 0.2, 0.1)), mass=2, pose=vd.Pose((0, 0, 0.06)), spin=(0, 0, spin))
    sim = vd.Simulation(w)
    sim.advance("0.5 s")
    found = sim.contacts()
    quarter = 2 * G / 4
    if len(found) != 4:
        return 100.0
    return float(
        100 * max(np.abs(found["normal_force"] / quarter - 1).max(), (found["friction_force"] / quarter).max())
    )


def cart(casters: bool) -> vd.Simulation:
    m = vd.Model("cart").link("hull", vd.Box((0.8, 0.5, 0.1)), mass=45)
    places = ((0, 0.3), (0, -0.3)) if casters else ((0.3, 0.3), (0.3, -0.3), (-0.3, 0.3), (-0.3, -0.3))
    for k, (x, y) in enumerate(places):
        m.link(f"w{k}", vd.Part(vd.Cylinder(0.1, 0.05), FLAT), mass=1.5)
        m.joint(f"j{k}", "hull", f"w{k}", "continuous", vd.Pose((x, y, 0)), axis=(0, 1, 0))
    for k, x in enumerate((0.3, -0.3) if casters else ()):
        m.link(f"c{k}", vd.Sphere(0.03), mass=0.1, surface=vd.Surface(friction=0))
        m.joint(f"k{k}", "hull", f"c{k}", "fixed", vd.Pose((x, 0, -0.07)))
    sim = vd.Simulation(vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.105))))
    sim.advance("0.5 s")
    return sim


def cart_sideways() -> float:
    """Largest sideways force of a cart at rest, in percent of the force on its contact."""
    found = cart(casters=False).contacts()
    return float(100 * (found["friction_force"] / found["normal_force"]).max())


def weight_on_wheels() -> float:
    """Difference from the least-squares share of six equal contacts (%)."""
    found = cart(casters=True).contacts()
    return float(100 * np.abs(found["normal_force"] / found["normal_force"].mean() - 1).max())


def held_between_fingers(step: str) -> float:
    """How fast (µm/s) a block sinks between two fingers, one of which follows the other."""
    m = vd.Model("grip").link("palm", mass=1)
    for side, sign in (("left", 1), ("right", -1)):
        m.link(side, vd.Box((0.02, 0.04, 0.06)), mass=0.08)
        m.joint(
            side,
            "palm",
            side,
            "prismatic",
            vd.Pose((sign * 0.05, 0, 0)),
            axis=(-sign, 0, 0),
            limits=(0, 0.03),
            damping=10,
            mimic=None if side == "left" else ("left", 1.0, 0.0),
        )
    m.motor("left", "position", stiffness=4000, damping=120, limit=80)
    w = vd.World().place(m, fixed=True, pose=vd.Pose((0, 0, 1)))
    w.body(
        "block", vd.Box((0.04, 0.04, 0.04)), mass=0.15, pose=vd.Pose((0.001, 0, 1)), surface=vd.Surface(friction=0.7)
    )
    sim = vd.Simulation(w, step=step)
    sim["grip"].command("left", position=0.03)
    sim.advance("0.4 s")
    start = sim["block"].pose().position
    sim.advance("5 s")
    return float(np.linalg.norm(sim["block"].pose().position - start)) / 5 * 1e6


def carried_around(step: str) -> float:
    """How fast (µm/s) a block creeps on a turntable that carries it around."""
    m = vd.Model("table").link("foot").link("plate", vd.Cylinder(0.5, 0.04), mass=40)
    m.joint("axle", "foot", "plate", "continuous").motor("axle", "velocity", damping=500)
    w = vd.World().place(m, fixed=True).body("block", vd.Box((0.1, 0.1, 0.1)), mass=1, pose=vd.Pose((0.4, 0, 0.07)))
    sim = vd.Simulation(w, step=step)
    sim["table"].command("axle", velocity=1.0)
    sim.advance("1 s")

    def on_plate() -> np.ndarray:
        return (sim["table"].pose("plate").inverse() @ sim["block"].pose()).position

    start = on_plate()
    sim.advance("5 s")
    return float(np.linalg.norm(on_plate() - start)) / 5 * 1e6


# Fast spin and heavy stacks


def spinning_rod() -> float:
    """Growth (%) of the kinetic energy of a thin rod that spins two radians in a step and meets a wall."""
    w = vd.World(gravity=(0, 0, 0)).obstacle("wall", vd.Box((0.001, 10, 10)), pose=vd.Pose((1, 0, 0)))
    w.body("rod", vd.Box((0.01, 0.01, 0.5)), mass=0.1, pose=vd.Pose(), velocity=(50, 0, 0), spin=(0, 2000, 0))
    sim = vd.Simulation(w)
    start, most = sim.energy()[0], 0.0
    for _ in range(200):
        sim.advance("1 ms")
        most = max(most, sim.energy()[0])
    return 100 * (most / start - 1)


def heavy_stack(ratio: float) -> float:
    """Growth of the energy (J) of three boxes, the top one heavier, in 2 s."""
    w = vd.World().ground()
    for k in range(3):
        w.body(f"b{k}", CUBE, mass=ratio if k == 2 else 1, pose=vd.Pose((0, 0, 0.1 + 0.2 * k)))
    sim = vd.Simulation(w)
    start, most = sum(sim.energy()), -math.inf
    for _ in range(40):
        sim.advance("50 ms")
        most = max(most, sum(sim.energy()))
    return most - start


# Soft contact


def rebound(step: float, mass: float = 0.085, k: float = 8000.0, c: float = 4.0) -> float:
    """Height (m) that a ball comes back to, dropped on a mat from 0.3 m."""
    w = vd.World(gravity=(0, 0, -G)).ground(surface=vd.Surface(stiffness=k, damping=c))
    sim = vd.Simulation(w.body("ball", vd.Sphere(0.05), mass=mass, pose=vd.Pose((0, 0, 0.35))), step=step)
    sim.advance(0.26)
    top = 0.0
    while sim["ball"].velocity()[0][2] >= 0 or sim["ball"].pose().position[2] < 0.05:
        sim.advance(max(step, 1e-3))
        top = max(top, sim["ball"].pose().position[2] - 0.05)
    return top


def exact_rebound(mass: float = 0.085, k: float = 8000.0, c: float = 4.0) -> float:
    """The same by fine steps of the equation of the spring and damper that pushes only."""
    h, x, v, low = 1e-6, 0.0, -math.sqrt(2 * G * 0.3), True
    while low:
        force = max(0.0, -k * x - c * v)
        v += h * (force / mass - G)
        x += h * v
        low = x < 0.0 and (force > 0.0 or v < 0.0)
    return v * v / (2 * G) + x


def rebounds() -> tuple[float, Curve]:
    exact, curve = exact_rebound(), Curve("step, ms", "rebound, m")
    for step in (1e-3, 5e-4, 2e-4, 1e-4, 5e-5):
        curve.add(1e3 * step, rebound(step), exact)
    return 100 * curve.worst() / exact, curve


# Sensors that gather


def mean_force(height: float, **imu: object) -> float:
    """Difference (%) of the mean specific force from g, from rest over a drop with bounces to rest again."""
    m = vd.Model("d").link("case", vd.Box((0.065, 0.065, 0.025)), mass=0.085)
    m.mount("imu", vd.Imu(period="10 ms", **imu), on="case")  # type: ignore[arg-type]
    w = vd.World().ground(surface=vd.Surface(restitution=0.5)).place(m, pose=vd.Pose((0, 0, 0.0125 + height)))
    sim = vd.Simulation(w)
    read = []
    for _ in range(300):
        sim.advance("10 ms")
        read.append(sim["d"].read("imu").linear_acceleration[2])
    return 100 * abs(float(np.mean(read)) / G - 1)


NOTHING = "none: nothing gives any"
CASES = [
    Case(
        "overlap",
        "a leg that starts inside its trunk: kinetic energy",
        NOTHING,
        1e-6,
        "J",
        partial(overlap_energy, leg()),
    ),
    Case(
        "overlap",
        "eighteen tangles of overlapping links: kinetic energy",
        NOTHING,
        1.0,
        "J",
        lambda: overlap_energy(*(tangle(k) for k in range(18))),
    ),
    *(
        Case("overlap", f"a {name} in a hole of a plate: thrown by", NOTHING, 1e-6, "mm", partial(rod_in_hole, shape))
        for name, shape in (
            ("rod", vd.Cylinder(0.01, 0.3)),
            ("capsule", vd.Capsule(0.01, 0.3)),
            ("square rod", vd.Box((0.015, 0.015, 0.3))),
        )
    ),
    *(
        Case(
            "rest",
            f"corners of a box, {how}",
            "a quarter of the weight each, no friction",
            1.0,
            "%",
            partial(share_of_corners, spin),
        )
        for how, spin in (("dropped", 0.0), ("dropped turning", 2.0))
    ),
    Case("rest", "a cart on four wheels: sideways force", NOTHING, 1.0, "%", cart_sideways),
    Case(
        "rest", "a cart on two wheels and two casters: share of the weight", "least squares", 1.0, "%", weight_on_wheels
    ),
    *(
        Case(
            "rest",
            f"a block between two fingers sinks, {step}",
            "Coulomb: not at all",
            0.1,
            "µm/s",
            partial(held_between_fingers, step),
        )
        for step in ("2 ms", "1 ms", "0.5 ms")
    ),
    *(
        Case(
            "rest",
            f"a block carried around at 1 rad/s creeps, {step}",
            "Coulomb: not at all",
            1.0,
            "µm/s",
            partial(carried_around, step),
        )
        for step in ("2 ms", "1 ms")
    ),
    Case("fast", "a rod at 2000 rad/s meets a wall: growth of energy", "never grows", 1e-3, "%", spinning_rod),
    *(
        Case(
            "fast",
            f"a stack with {ratio:g} times the mass on top: growth of energy",
            "never grows",
            1.0,
            "J",
            partial(heavy_stack, ratio),
        )
        for ratio in (1e3, 1e4, 1e5)
    ),
    Case("soft", "rebound from a mat, steps from 0.05 to 1 ms", "spring and damper", 5.0, "%", rebounds),
    *(
        Case(
            "gathered",
            f"mean specific force over a drop from {h} m{', 100 Hz' if imu else ''}",
            "g: Δv = 0",
            1.0,
            "%",
            partial(mean_force, h, **imu),
        )
        for h in (0.1, 0.3, 1.0)
        for imu in ({}, {"bandwidth": "100 Hz"})
    ),
]
