"""Models that several tests of motion use."""

from __future__ import annotations

import numpy as np

import veldrain as vd
from tests.helpers import DEMO


def sampling_arm() -> vd.Model:
    return vd.load_robot(DEMO / "robots" / "sampling_arm.urdf")


def seven_joints() -> vd.Model:
    """An arm of seven joints, redundant."""
    m = vd.Model("seven").link("b0", vd.Cylinder(0.08, 0.1), mass=4)
    axes = [(0, 0, 1), (0, 1, 0), (0, 0, 1), (0, 1, 0), (0, 0, 1), (0, 1, 0), (0, 0, 1)]
    rises = [0.2, 0.15, 0.2, 0.2, 0.18, 0.18, 0.08]
    for k, (axis, rise) in enumerate(zip(axes, rises, strict=True), start=1):
        m.link(f"b{k}", vd.Part(vd.Capsule(0.04, 0.08), pose=vd.Pose((0, 0, 0.06))), mass=1.5)
        m.joint(f"j{k}", f"b{k - 1}", f"b{k}", "revolute", vd.Pose((0, 0, rise)), axis, limits=(-2.8 + 0.1 * k, 2.7))
    return m.frame("tool", on="b7", pose=vd.Pose((0, 0, 0.1)))


def two_bars(a: float = 0.5, b: float = 0.4) -> vd.Model:
    """A planar arm of two bars of 2 kg and 1 kg, each a thin rod along x."""
    m = vd.Model("bars").link("base", mass=1)
    for k, (name, length, mass) in enumerate((("one", a, 2.0), ("two", b, 1.0))):
        rod = mass * length**2 / 12
        m.link(name, mass=mass, com=(length / 2, 0, 0), inertia=np.diag((1e-6, rod, rod)) + 1e-9 * np.eye(3))
        parent, at = ("base", 0.0) if k == 0 else ("one", a)
        m.joint(f"q{k + 1}", parent, name, "revolute", vd.Pose((at, 0, 0)), (0, -1, 0), limits=(-3.1, 3.1))
    return m.frame("tip", on="two", pose=vd.Pose((b, 0, 0)))


def leg(first: tuple[int, int, int] = (1, 0, 0), hip: int = 1, knee: int = 1) -> vd.Model:
    m = vd.Model("leg").link("body", vd.Box((0.4, 0.3, 0.1)), mass=5)
    m.link("roll", mass=0.2).link("thigh", mass=0.3).link("shank", mass=0.2)
    m.joint("a", "body", "roll", "revolute", vd.Pose((0.2, 0.1, 0), yaw=0.3), first, limits=(-2, 2))
    m.joint("h", "roll", "thigh", "revolute", vd.Pose((0.02, 0.05, -0.01)), (0, hip, 0), limits=(-2.5, 2.5))
    m.joint("k", "thigh", "shank", "revolute", vd.Pose((0.01, 0.01, -0.2)), (0, knee, 0), limits=(-2.7, 2.7))
    return m.frame("foot", on="shank", pose=vd.Pose((0.03, 0, -0.22)))
