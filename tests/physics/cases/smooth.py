"""Smooth mechanisms against the textbook equations, integrated by ``scipy.integrate.solve_ivp``."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from scipy.integrate import solve_ivp
from scipy.spatial.transform import Rotation

import veldrain as vd
from tests.physics.cases import Case, Curve, G

L = 0.5
TOP_SPIN, TOP_TILT, TOP_I1, TOP_I3, TOP_ARM = 8.0, 0.4, 0.006, 0.01, 0.01  # inertias about the tip
BOX_INERTIA, BOX_SPIN = np.array([0.02, 0.035, 0.05]), (0.3, 2.0, 0.1)


@dataclass(frozen=True)
class Mechanism:
    """A mechanism in our words and in the textbook's."""

    world: Callable[[], vd.World]
    start: Callable[[vd.Simulation], None]
    read: Callable[[vd.Simulation], Sequence[float]]
    rates: Callable[[float, np.ndarray], Sequence[float]]
    y0: Sequence[float]
    count: int = 1  # how many of y are compared


def hanging(count: int, kind: str, names: Sequence[str] = ()) -> vd.Model:
    """Point masses of 1 kg on massless arms of 0.5 m."""
    m = vd.Model("m").link("post")
    for k in range(count):
        m.link(f"bob{k}", mass=1, com=(0, 0, -L), inertia=np.eye(3) * 1e-12)
        at = vd.Pose((0, 0, -L)) if k else vd.Pose()
        m.joint(f"j{k}", f"bob{k - 1}" if k else "post", f"bob{k}", kind=kind, pose=at, axis=(0, 1, 0))
    return m


def fixed(model: vd.Model, **joints: float) -> vd.World:
    return vd.World().place(model, fixed=True, joints={k.replace("__", "/"): v for k, v in joints.items()})


def pendulum() -> Mechanism:
    return Mechanism(
        lambda: fixed(hanging(1, "continuous"), j0=1.0),
        lambda sim: None,
        lambda sim: sim["m"].positions,
        lambda _, y: (y[1], -G / L * math.sin(y[0])),
        (1.0, 0.0),
    )


def double_pendulum() -> Mechanism:
    """Absolute angles p, q: 2·p̈ + c·q̈ + s·q̇² = −2·g/l·sin p, c·p̈ + q̈ − s·ṗ² = −g/l·sin q."""

    def rates(_: float, y: np.ndarray) -> Sequence[float]:
        p, q, u, w = y
        c, s = math.cos(p - q), math.sin(p - q)
        right = (-2 * G / L * math.sin(p) - s * w * w, -G / L * math.sin(q) + s * u * u)
        return (u, w, *np.linalg.solve([[2, c], [c, 1]], right))

    return Mechanism(
        lambda: fixed(hanging(2, "continuous"), j0=0.5, j1=-0.8),
        lambda sim: None,
        lambda sim: np.cumsum(sim["m"].positions),
        rates,
        (0.5, -0.3, 0.0, 0.0),
        2,
    )


def spherical_pendulum() -> Mechanism:
    """θ̈ = φ̇²·sin θ·cos θ − g/l·sin θ with φ̇ = p/sin²θ; θ from straight down."""
    tilt, turn = 0.8, 3.0
    p = turn * math.sin(tilt) ** 2

    def rates(_: float, y: np.ndarray) -> Sequence[float]:
        s = math.sin(y[0])
        return (y[1], (p / s**2) ** 2 * s * math.cos(y[0]) - G / L * s, p / s**2)

    def start(sim: vd.Simulation) -> None:
        # In the bob's axes; straight up is seen from the tilted bob.
        sim["m"].velocities = Rotation.from_euler("y", tilt).inv().apply((0, 0, turn))

    def read(sim: vd.Simulation) -> Sequence[float]:
        return (math.acos(sim["m"].pose("bob0").matrix[2, 2]),)

    return Mechanism(lambda: fixed(hanging(1, "ball"), j0__y=tilt), start, read, rates, (tilt, 0.0, 0.0))


def top() -> Mechanism:
    """Lagrange's top (H. Goldstein, Classical Mechanics, 2nd ed., section 5-7): θ, θ̇, φ."""
    m = vd.Model("m").link("post")
    about_com = np.diag([TOP_I1 - TOP_ARM**2, TOP_I1 - TOP_ARM**2, TOP_I3])
    m.link("top", mass=1, com=(0, 0, TOP_ARM), inertia=about_com).joint("tip", "post", "top", kind="ball")
    p_psi = TOP_I3 * TOP_SPIN
    p_phi = p_psi * math.cos(TOP_TILT)

    def rates(_: float, y: np.ndarray) -> Sequence[float]:
        c, s = math.cos(y[0]), math.sin(y[0])
        a = p_phi - p_psi * c
        turning = a / (TOP_I1 * s**2)
        return (y[1], (G * TOP_ARM * s + a * (p_phi * c - p_psi) / (TOP_I1 * s**3)) / TOP_I1, turning)

    def start(sim: vd.Simulation) -> None:
        sim["m"].velocities = (0, 0, TOP_SPIN)

    def read(sim: vd.Simulation) -> Sequence[float]:
        x, y, z = sim["m"].pose("top").matrix[:, 2]
        phi = math.atan2(y, x) + math.pi / 2  # the tilt is about x, so that the axis starts towards −y
        return (math.acos(z), phi)

    return Mechanism(lambda: fixed(m, tip__x=TOP_TILT), start, read, rates, (TOP_TILT, 0.0, 0.0), 1)


def free_body() -> Mechanism:
    """Euler's equations in the body's axes."""
    model = vd.Model("m").link("body", mass=1, com=(0, 0, 0), inertia=np.diag(BOX_INERTIA))

    def rates(_: float, w: np.ndarray) -> Sequence[float]:
        return np.cross(BOX_INERTIA * w, w) / BOX_INERTIA  # type: ignore[return-value]

    def read(sim: vd.Simulation) -> Sequence[float]:
        return sim["m"].pose().matrix.T @ sim["m"].velocity()[1]

    return Mechanism(
        lambda: vd.World(gravity=(0, 0, 0)).place(model),
        lambda sim: sim["m"].move_to(vd.Pose(), spin=BOX_SPIN),
        read,
        rates,
        BOX_SPIN,
        3,
    )


MECHANISMS = {
    "pendulum": pendulum,
    "double pendulum": double_pendulum,
    "spherical pendulum": spherical_pendulum,
    "spinning top": top,
    "free asymmetric body": free_body,
}


def error(name: str, integrator: str, step: float, seconds: float) -> float:
    """Largest error of the compared coordinates after so many seconds."""
    mechanism = MECHANISMS[name]()
    exact = solve_ivp(mechanism.rates, (0, seconds), mechanism.y0, "DOP853", rtol=1e-13, atol=1e-13)
    sim = vd.Simulation(mechanism.world(), step=step, integrator=integrator)
    mechanism.start(sim)
    sim.advance(seconds)
    ours = np.asarray(mechanism.read(sim))[: mechanism.count]
    return float(np.abs(ours - exact.y[: mechanism.count, -1]).max())


def order(name: str, integrator: str, steps: Sequence[float], exact: float) -> tuple[float, Curve]:
    """The order of the error over halved steps, against the one it should have."""
    curve = Curve("step, ms", f"error of the {name} after 2 s, rad")
    errors = [error(name, integrator, step, 2.0) for step in steps]
    for step, e in zip(steps, errors, strict=True):
        curve.add(1e3 * step, e, errors[0] * (step / steps[0]) ** exact)
    slopes = np.diff(np.log(errors)) / np.diff(np.log(steps))
    return float(np.abs(slopes - exact).max()), curve


def nutation() -> tuple[float, Curve]:
    """The top's tilt and turning over 5 s at rk4, against Lagrange's equations."""
    mechanism = top()
    times = np.arange(1, 101) * 0.05
    exact = solve_ivp(mechanism.rates, (0, 5), mechanism.y0, "DOP853", rtol=1e-13, atol=1e-13, t_eval=times)
    sim = vd.Simulation(mechanism.world(), integrator="rk4")
    mechanism.start(sim)
    curve = Curve("time, s", "tilt of a spinning top, rad")
    worst = 0.0
    for k, time in enumerate(times):
        sim.advance(0.05)
        tilt, turn = mechanism.read(sim)
        curve.add(time, tilt, exact.y[0, k])
        worst = max(worst, abs(math.remainder(turn - exact.y[2, k], 2 * math.pi)))
    return max(worst, curve.worst()), curve


def kept(what: str, integrator: str) -> float:
    """Relative change of energy or angular momentum of the free body in 60 s."""
    mechanism = free_body()
    sim = vd.Simulation(mechanism.world(), integrator=integrator)
    mechanism.start(sim)
    energy, momentum = sim.energy()[0], sim.momentum()[1]
    sim.advance(60)
    if what == "energy":
        return 100 * abs(sim.energy()[0] / energy - 1)
    return 100 * float(np.linalg.norm(sim.momentum()[1] - momentum) / np.linalg.norm(momentum))


def chain() -> tuple[float, Curve]:
    """30 links of 10 cm, the last 10⁴ times as heavy as the first; a gain over the energy it could fall by."""
    m, masses = vd.Model("chain").link("post"), np.geomspace(1e-3, 10, 30)
    for k, mass in enumerate(masses):
        m.link(f"l{k}", mass=mass, com=(0, 0, -0.05), inertia=np.eye(3) * mass * 1e-3)
        at = vd.Pose((0, 0, -0.1)) if k else vd.Pose()
        m.joint(
            f"j{k}",
            f"l{k - 1}" if k else "post",
            f"l{k}",
            kind="continuous",
            pose=at,
            axis=((0, 1, 0), (1, 0, 0))[k % 2],
        )
    sim = vd.Simulation(fixed(m, j0=0.8, j1=0.3))
    start = sum(sim.energy())
    scale = G * float(masses @ (0.1 * np.arange(30) + 0.05))
    curve = Curve("time, s", "energy of a 30-link chain over its depth's")
    for _ in range(120):
        sim.advance(0.5)
        curve.add(sim.time, (sum(sim.energy()) - start) / scale, 0.0)
    return 100 * max(curve.ours), curve


CASES = [
    Case(
        "order",
        "rk4 is of fourth order",
        "error ∝ h⁴",
        0.3,
        "",
        partial(order, "pendulum", "rk4", (1e-2, 5e-3, 2.5e-3), 4.0),
    ),
    Case(
        "order",
        "semi-implicit is of first order",
        "error ∝ h",
        0.2,
        "",
        partial(order, "pendulum", "semi-implicit", (2e-3, 1e-3, 5e-4), 1.0),
    ),
    *(
        Case(
            "smooth",
            f"{name}: rk4 after 10 s",
            "solve_ivp of the textbook's equations",
            1e-8,
            "rad",
            partial(error, name, "rk4", 1e-3, 10.0),
        )
        for name in MECHANISMS
    ),
    Case("smooth", "spinning top: precession and nutation, rk4", "Lagrange's top, solve_ivp", 1e-7, "rad", nutation),
    *(
        Case(
            "smooth",
            f"{name}: semi-implicit after 1 s",
            "solve_ivp of the textbook's equations",
            2e-2,
            "rad",
            partial(error, name, "semi-implicit", 1e-3, 1.0),
        )
        for name in MECHANISMS
    ),
    Case(
        "smooth",
        "free asymmetric body: energy, 60 s",
        "conserved (semi-implicit)",
        0.1,
        "%",
        partial(kept, "energy", "semi-implicit"),
    ),
    Case(
        "smooth",
        "free asymmetric body: angular momentum, 60 s",
        "conserved (semi-implicit)",
        1e-9,
        "%",
        partial(kept, "momentum", "semi-implicit"),
    ),
    Case("chain", "30 links, masses 1 : 10⁴, 60 s: energy gained", "none gained", 1.0, "%", chain),
]
