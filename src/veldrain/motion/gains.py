"""Gains of motors from what they have to move: inertia, natural frequency, sag, and gains for a bandwidth."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Cylinder, Mesh, Model, Sphere
from veldrain.model.inertia import combined
from veldrain.model.pieces import SIMPLE_KINDS
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

LYING = 0.3  # sine of an axis over the level: a wheel's is less
NO_MOTOR = "none"  # in place of a motor's mode
GRAVITY = np.array((0.0, 0.0, -9.81))


def joint_loads(model: Model, joints: Mapping[str, Quantity] | None = None) -> dict[str, tuple[float, float]]:
    """Inertia (kg·m², or kg) that each joint has to move with all others held, and the effort of gravity on it.

    The root stands still and upright; the inertia of a motor's rotor is included, closed loops are taken as open.
    """
    poses, found = model.poses(joints), {}
    below: dict[str, list[str]] = {}
    for joint in model.joints.values():
        below.setdefault(joint.parent, []).append(joint.child)
    for joint in model.joints.values():
        if joint.kind not in SIMPLE_KINDS:
            continue
        held, waiting = [], [joint.child]
        while waiting:
            held.append(waiting.pop())
            waiting += below.get(held[-1], [])
        body = combined([model.links[name].mass_properties.moved(poses[name]) for name in held])
        axis = poses[joint.child].rotation.apply(joint.axis)
        motor = model.motors.get(joint.name)
        rotor = motor.inertia if motor else 0.0
        if joint.kind == "prismatic":
            found[joint.name] = body.mass + rotor, float(-body.mass * GRAVITY @ axis)
            continue
        arm = body.com - poses[joint.child].position
        across = arm - (arm @ axis) * axis
        inertia = float(axis @ body.inertia @ axis + body.mass * across @ across)
        found[joint.name] = inertia + rotor, float(-np.cross(arm, body.mass * GRAVITY) @ axis)
    return found


def _driven(model: Model) -> dict[str, float]:
    """Inertia (kg·m²) that a vehicle adds to each of its driven wheels: m·r² of all of it, shared alike.

    A wheel is round, turns without end or is told a speed, and is what is lowest where the robot stands upright.
    """
    poses, bottoms, found = model.poses(), dict[str, float](), {}
    for name, link in model.links.items():
        touched = [part for part in link.parts if part.role != "visual"]
        lows = [float(part.shape.bounds(poses[name] @ part.pose)[0][2]) for part in touched]
        bottoms |= {name: min(lows)} if lows else {}
    ground = min(bottoms.values(), default=0.0)
    for joint in model.joints.values():
        motor, child = model.motors.get(joint.name), joint.child
        rolls = joint.kind == "continuous" or (motor and motor.mode == "velocity" and joint.kind == "revolute")
        is_round = any(isinstance(part.shape, Cylinder | Sphere | Mesh) for part in model.links[child].parts)
        level = abs(float(poses[child].rotation.apply(joint.axis)[2])) < LYING
        if not (rolls and is_round and level and child in bottoms) or (model.motors and not motor):
            continue
        radius = float(poses[child].position[2]) - bottoms[child]
        if radius > 0 and bottoms[child] - ground < 0.05 * radius:
            found[joint.name] = radius
    mass = sum(link.mass_properties.mass for link in model.links.values())
    return {name: mass * radius**2 / len(found) for name, radius in found.items()}


def suggest_gains(
    model: Model, bandwidth: Quantity = "5 Hz", damping: float = 1.0, *, joints: Mapping[str, Quantity] | None = None
) -> pd.DataFrame:
    """Stiffness and damping of motors for a bandwidth, and what the gains of now give.

    A motor with the inertia J swings with ω = √(K/J) and the damping ratio ζ = D/(2·√(K·J)), so that K = J·ω² and
    D = 2·ζ·J·ω; for a velocity motor D = J·ω.

    Args:
        model: the model, whose root stands still; but where it stands on wheels, its driven ones move all of it, m·r²
            shared alike.
        bandwidth: natural frequency ω/2π, Hz.
        damping: ratio ζ: 1 does not overshoot, 0.7 overshoots by 5 %.
        joints: the posture to do it at; 0 where not given.

    Returns:
        A row a motor: joint, mode, inertia (kg·m², kg), now: ``frequency`` (Hz), ``ratio`` (ζ), ``sag`` (rad, m: what
        gravity bends it by); and ``stiffness`` and ``damping`` for what is asked. Of a model that has no motors yet a
        row a joint, with the mode ``none``: gains of a position motor, or of a velocity motor where it turns without
        end.

    >>> suggest_gains(model, "4 Hz").loc["elbow", "stiffness"]  # doctest: +SKIP
    """
    import pandas as pd

    hertz = quantity(bandwidth, "frequency", "suggest_gains: bandwidth")
    if not 0 < hertz < math.inf or not 0 < damping < math.inf:
        raise VeldrainError(
            f"a bandwidth of {hertz:g} Hz with damping {damping:g}",
            where="suggest_gains",
            cure="give values above zero",
        )
    omega, rows, driven = 2 * math.pi * hertz, [], _driven(model)
    for name, (inertia, load) in joint_loads(model, joints).items():
        motor, joint = model.motors.get(name), model.joints[name]
        if motor is None and (model.motors or joint.mimic):
            continue
        inertia += driven.get(name, 0.0)
        k, d = (motor.stiffness, motor.damping) if motor else (0.0, 0.0)
        holds = motor.mode == "position" if motor else joint.kind != "continuous"
        is_servo = holds and k > 0
        rows.append(
            (
                name,
                motor.mode if motor else NO_MOTOR,
                inertia,
                math.sqrt(k / inertia) / (2 * math.pi) if is_servo else math.nan,
                d / (2 * math.sqrt(k * inertia)) if is_servo else math.nan,
                load / k if is_servo else math.nan,
                inertia * omega**2 if holds else 0.0,
                2 * damping * inertia * omega if holds else inertia * omega,
            )
        )
    columns = ["joint", "mode", "inertia", "frequency", "ratio", "sag", "stiffness", "damping"]
    return pd.DataFrame(rows, columns=columns).set_index("joint")
