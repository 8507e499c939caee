"""Momentum and energy of all that moves in an engine."""

from __future__ import annotations

import numpy as np

from veldrain.physics import plant as p
from veldrain.physics.builder import LinkPlace
from veldrain.physics.engine import Engine
from veldrain.pose import Array, Pose


def momentum(engine: Engine) -> tuple[Array, Array]:
    """Linear momentum (3,), N·s, and angular momentum about the world's origin (3,), N·m·s, of all that moves."""
    linear, angular = np.zeros(3), np.zeros(3)
    for node in engine.plant.nodes:
        w = node["twist"][:3]
        v = node["twist"][3:] + np.cross(w, node["com"] - engine.plant.trees[node["tree"]]["ref"])
        R = node["rot"]
        linear += node["mass"] * v
        angular += np.cross(node["com"], node["mass"] * v) + R @ node["inertia"] @ R.T @ w
    return linear, angular


def energy(engine: Engine) -> tuple[float, float]:
    """Kinetic and potential energy in J, springs included; all mass at the world's origin has no potential."""
    kinetic = potential = 0.0
    for node in engine.plant.nodes:
        w = node["twist"][:3]
        v = node["twist"][3:] + np.cross(w, node["com"] - engine.plant.trees[node["tree"]]["ref"])
        spin = node["rot"].T @ w
        kinetic += 0.5 * node["mass"] * (v @ v) + 0.5 * spin @ node["inertia"] @ spin
        potential -= node["mass"] * (engine.plant.gravity @ node["com"])
    dofs, v, q = engine.plant.dofs, engine.plant.speeds[p.NOW], engine.plant.q
    kinetic += 0.5 * dofs["inertia"] @ v**2
    potential += 0.5 * sum(d["spring"] * (q[d["coord"]] - d["rest"]) ** 2 for d in dofs if d["spring"] > 0)
    for spring in engine.plant.loops[engine.plant.loops["kind"] == p.SPRING]:
        ends = [engine.position(LinkPlace(int(spring[f"node_{s}"]), Pose(spring[f"at_{s}"]))) for s in "ab"]
        stretch = np.linalg.norm(ends[0] - ends[1]) - spring["length"]
        potential += 0.5 * spring["stiffness"] * stretch**2
    return float(kinetic), float(potential)
