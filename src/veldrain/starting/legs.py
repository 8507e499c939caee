"""What stands on legs: the stance of a walker that has none yet, and motors that carry it there."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Model
from veldrain.model.volumes import bounds_of, touched
from veldrain.motion import Leg
from veldrain.pose import Array, Pose

BENT = (0.85, 0.8, 0.75, 0.7)  # of a straight leg's length: how far below its hip a foot is tried
GIVES = 0.01  # rad that a joint gives way under the weight
LEVER = 0.25  # of the leg's length at least: the lever of the weight on its joints
RATIO = 0.7  # damping ratio
SPARE = 3.0  # times the effort that standing takes
GRAVITY = 9.81


@dataclass
class Stance:
    """Where a walker stands: its feet, those of them that are frames of their own, joint positions, and motors."""

    feet: list[str]
    joints: dict[str, float]
    frames: dict[str, Any] = field(default_factory=dict)
    motors: dict[str, dict[str, Any]] = field(default_factory=dict)


def stance_of(model: Model) -> Stance | None:
    """A stance for a model on four legs of three joints or more; None where it is none."""
    ends = [n for n in model.links if not any(j.parent == n for j in model.joints.values())]
    held, frames = model.copy(model.name), {}
    legs: list[Leg] = []
    for end in ends:
        try:
            legs.append(Leg(held, end))
        except VeldrainError:  # the last link may be the shank, with its foot at its lower end
            tip = _tip(model, end)
            if tip is None:
                continue
            frame = f"{end}_tip"
            held.frame(frame, on=end, pose=Pose(tip))
            try:
                legs.append(Leg(held, frame))
            except VeldrainError:
                continue
            frames[frame] = {"on": end, "pose": {"xyz": [round(float(x), 6) for x in tip]}}
    if len(legs) < 4:
        return None
    for bent in BENT:
        joints: dict[str, float] = {}
        for leg in legs:
            angles = _bent(leg, bent)
            if angles is None:
                break
            joints |= {j: round(float(q), 4) for j, q in zip(leg.joints, angles, strict=True)}
        else:
            found = Stance([leg.foot for leg in legs], joints, frames)
            found.motors = _motors(held, legs)
            return found
    return None


def _tip(model: Model, link: str) -> Array | None:
    """The lowest point of what is touched of a link, in its frame."""
    shapes = [piece for part in model.links[link].parts for piece in touched(part)]
    if not shapes:
        return None
    low, high = bounds_of(shapes)
    return np.array(((low[0] + high[0]) / 2, (low[1] + high[1]) / 2, low[2]))


def _bent(leg: Leg, bent: float) -> Array | None:
    """Joint positions with the foot so far below the hip, of its length, knee bent; None: out of reach."""
    straight = leg.chain.forward(np.zeros(3)).position
    length, hip = leg.thigh + leg.shank, leg.hip
    out = straight[:2] - hip[:2] if np.linalg.norm(straight[:2] - hip[:2]) > 0.5 * length else hip[:2]
    out = 0.4 * length * out / max(float(np.linalg.norm(out)), 1e-9)
    for over in (straight[:2], hip[:2] + out):  # as a leg that hangs, or one that reaches out
        foot = np.array((*over, hip[2] - bent * length))
        try:
            return leg.angles(foot)
        except VeldrainError:
            continue
    return None


def _motors(model: Model, legs: list[Leg]) -> dict[str, dict[str, Any]]:
    """Motors that carry the whole robot on half of its feet."""
    mass = sum(link.mass_properties.mass for link in model.links.values())
    share, found = 2 * mass / len(legs), dict[str, dict[str, Any]]()
    for leg in legs:
        lever = LEVER * (leg.thigh + leg.shank)
        effort = share * GRAVITY * lever
        stiffness = effort / GIVES
        damping = 2 * RATIO * math.sqrt(stiffness * share * lever**2)
        for joint in leg.joints:
            given = model.joints[joint].effort
            gains = {"stiffness": float(f"{stiffness:.2g}"), "damping": float(f"{damping:.2g}")}
            found[joint] = {"mode": "position", **gains}
            if not (math.isfinite(given) and given > 0):
                found[joint]["limit"] = f"{SPARE * effort:.2g} N*m"
    return found
