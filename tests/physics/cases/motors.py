"""Motors on a drum of 0.1 kg·m² against first- and second-order systems."""

from __future__ import annotations

import math

import numpy as np

import veldrain as vd
from tests.physics.cases import Case, Curve, G


def drum(mode: str, **gains: object) -> vd.Simulation:
    m = vd.Model("drum").link("post").link("disc", mass=1, inertia=np.diag([0.06, 0.06, 0.1]), com=(0, 0, 0))
    m.joint("turn", "post", "disc", kind="continuous").motor("turn", mode, **gains)  # type: ignore[arg-type]
    return vd.Simulation(vd.World().place(m, fixed=True))


def step_response() -> tuple[float, Curve]:
    """A step of 1 rad at ω₀ = 10 rad/s, ζ = 0.5."""
    sim, w = drum("position", stiffness=10.0, damping=1.0), 10 * math.sqrt(0.75)
    sim["drum"].command("turn", position=1.0)
    curve = Curve("time, s", "angle, rad")
    for _ in range(60):
        sim.advance(0.02)
        t = sim.time
        curve.add(t, sim["drum"].positions[0], 1 - math.exp(-5 * t) * (math.cos(w * t) + 5 / w * math.sin(w * t)))
    return 100 * curve.worst(), curve


def run_up() -> float:
    """A velocity motor: 6·(1 − e^(−t·damping/I))."""
    sim, worst = drum("velocity", damping=0.5), 0.0
    sim["drum"].command("turn", velocity=6.0)
    for _ in range(50):
        sim.advance(0.02)
        worst = max(worst, abs(sim["drum"].velocities[0] / 6 - (1 - math.exp(-5 * sim.time))))
    return 100 * worst


def over_limit() -> float:
    """The most by which the torque goes over its limit of 2 N·m, in three modes."""
    worst = -math.inf
    for mode, gains, command in (
        ("velocity", {"damping": 50.0}, {"velocity": 20.0}),
        ("position", {"stiffness": 1e6, "damping": 10.0}, {"position": 3.0}),
        ("effort", {}, {"effort": 9.0}),
    ):
        sim = drum(mode, limit="2 N*m", **gains)
        sim["drum"].command("turn", **command)
        for _ in range(300):
            sim.advance(1e-3)
            worst = max(worst, abs(sim["drum"].efforts[0]) - 2)
    return max(worst, 0.0)


def stiff_sag() -> float:
    """1e6 N·m/rad at 1 ms holds a weight, and sags by load over stiffness."""
    m = vd.Model("arm").link("post").link("bob", mass=2, com=(0, 0, -0.5), inertia=np.eye(3) * 1e-9)
    m.joint("pivot", "post", "bob", kind="revolute", axis=(0, 1, 0))
    m.motor("pivot", "position", stiffness=1e6, damping=100.0)
    sim = vd.Simulation(vd.World().place(m, fixed=True, joints={"pivot": math.pi / 2}))
    sim["arm"].command("pivot", position="90 deg")
    sim.advance(1)
    return abs(sim["arm"].positions[0] - math.pi / 2 + 2 * G * 0.5 / 1e6)


def reflected() -> float:
    """A rotor's reflected inertia joins the drum's: a = T/(I + J)."""
    sim = drum("effort", inertia=0.3)
    sim["drum"].command("turn", effort=2.0)
    sim.advance(1)
    return 100 * abs(sim["drum"].velocities[0] / 5 - 1)


CASES = [
    Case("motors", "position motor: step response", "second order, ω₀ = 10 rad/s, ζ = 0.5", 1.0, "%", step_response),
    Case("motors", "velocity motor: run up", "first order, 0.2 s", 1.0, "%", run_up),
    Case("motors", "torque over its limit", "none", 1e-9, "N·m", over_limit),
    Case("motors", "sag at 1e6 N·m/rad and 1 ms", "load over stiffness", 1e-7, "rad", stiff_sag),
    Case("motors", "acceleration with reflected inertia", "T/(I + J)", 1e-6, "%", reflected),
]
