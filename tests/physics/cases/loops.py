"""Closed loops against the kinematics of their linkages."""

from __future__ import annotations

import math

import numpy as np

import veldrain as vd
from tests.physics.cases import Case, Curve

Y = (0, 1, 0)
CRANK, COUPLER, ROCKER, BASE = 0.1, 0.3, 0.25, 0.3
ROD = 0.35


def bar(length: float) -> vd.Part:
    return vd.Part(vd.Box((length, 0.02, 0.02)), pose=vd.Pose((length / 2, 0, 0)))


def four_bar(*base: vd.Part, limit: float = math.inf) -> vd.Model:
    m = vd.Model("linkage").link("base", *base, mass=1)
    for name, length in (("crank", CRANK), ("coupler", COUPLER), ("rocker", ROCKER)):
        m.link(name, bar(length), mass=0.5)
    m.joint("drive", "base", "crank", kind="continuous", axis=Y)
    m.joint("knee", "crank", "coupler", kind="continuous", pose=vd.Pose((CRANK, 0, 0)), axis=Y)
    m.joint("swing", "base", "rocker", kind="continuous", pose=vd.Pose((BASE, 0, 0)), axis=Y)
    m.close("pin", "coupler", "rocker", "revolute", vd.Pose((COUPLER, 0, 0)), vd.Pose((ROCKER, 0, 0)), axis=Y)
    return m.motor("drive", "velocity", damping=50, limit=limit)


def slider_crank() -> vd.Model:
    m = vd.Model("linkage").link("base", mass=1).link("crank", bar(CRANK), mass=0.5).link("rod", bar(ROD), mass=0.5)
    m.link("piston", vd.Box((0.05, 0.05, 0.05)), mass=0.4)
    m.joint("drive", "base", "crank", kind="continuous", axis=Y)
    m.joint("knee", "crank", "rod", kind="continuous", pose=vd.Pose((CRANK, 0, 0)), axis=Y)
    m.joint("pin", "rod", "piston", kind="continuous", pose=vd.Pose((ROD, 0, 0)), axis=Y)
    m.close("guide", "piston", "base", "prismatic", axis=(1, 0, 0))
    return m.motor("drive", "velocity", damping=50)


def rocker_angle(theta: float) -> float:
    """The four-bar's rocker by the law of cosines; angles about y, so that they turn from x to −z."""
    x, z = CRANK * math.cos(theta) - BASE, -CRANK * math.sin(theta)
    reach = math.hypot(x, z)
    inner = math.acos((reach**2 + ROCKER**2 - COUPLER**2) / (2 * reach * ROCKER))
    return math.atan2(-z, x) + inner


def piston_place(theta: float) -> float:
    return CRANK * math.cos(theta) + math.sqrt(ROD**2 - (CRANK * math.sin(theta)) ** 2)


def turning(model: vd.Model) -> vd.Simulation:
    sim = vd.Simulation(vd.World().place(model, fixed=True, joints={"drive": 0.3}))
    sim["linkage"].command("drive", velocity=8)
    return sim


def rocker() -> tuple[float, Curve]:
    sim, curve = turning(four_bar()), Curve("crank, degrees", "rocker, rad")
    side = -1.0 if math.remainder(sim["linkage"].positions[2] - rocker_angle(0.3), 2 * math.pi) > 1e-6 else 1.0
    for _ in range(200):
        sim.advance(0.005)
        theta, ours = float(sim["linkage"].positions[0]), float(sim["linkage"].positions[2])
        exact = rocker_angle(theta) if side > 0 else -rocker_angle(-theta)
        curve.add(math.degrees(theta), ours, ours - math.remainder(ours - exact, 2 * math.pi))
    return curve.worst(), curve


def piston() -> tuple[float, Curve]:
    sim, curve = turning(slider_crank()), Curve("crank, degrees", "piston, m")
    for _ in range(200):
        sim.advance(0.005)
        theta = float(sim["linkage"].positions[0])
        curve.add(math.degrees(theta), sim["linkage"].pose("piston").position[0], piston_place(theta))
    return curve.worst(), curve


def gap(which: str) -> float:
    sim = turning(four_bar() if which == "four-bar" else slider_crank())
    r, worst = sim["linkage"], 0.0
    for _ in range(1500):
        sim.advance(0.04)
        if which == "four-bar":
            apart = r.pose("coupler").apply((COUPLER, 0, 0)) - r.pose("rocker").apply((ROCKER, 0, 0))
        else:
            apart = r.pose("piston").position * (0, 1, 1)
        worst = max(worst, float(np.linalg.norm(apart)))
    return worst


CASES = [
    Case("loops", "four-bar: rocker over crank", "law of cosines", 1e-6, "rad", rocker),
    Case("loops", "slider-crank: piston over crank", "r·cos θ + √(l² − r²·sin²θ)", 1e-6, "m", piston),
    Case("loops", "four-bar: gap in 60 s", "none", 1e-6, "m", lambda: gap("four-bar")),
    Case("loops", "slider-crank: gap in 60 s", "none", 1e-6, "m", lambda: gap("slider-crank")),
]
