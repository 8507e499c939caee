"""What a robot is made of, as plain data: numbers for programs, and lines that say them for people."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from veldrain.errors import unknown
from veldrain.model import Joint, Mesh, Model, Motor, Part
from veldrain.model.volumes import bounds_of, seen, touched


def contents_of(
    model: Model, name: str | None = None, joints: Mapping[str, float] | None = None, posture: str | None = None
) -> dict[str, Any]:
    """A robot's tree, totals and notes at a posture.

    Args:
        model: the model.
        name: of the robot; None: the model's.
        joints: positions at the start.
        posture: name of a posture to stand in instead.
    """
    if posture is not None and posture not in model.postures:
        raise unknown("posture", posture, model.postures, model.name)
    at = model.bent(model.postures[posture] if posture else joints)

    def link_of(link: str, joint: Joint | None) -> dict[str, Any]:
        described = model.links[link]
        body = described.mass_properties
        held = [j for j in model.joints.values() if j.parent == link]
        own = [m for m in model.motors.values() if joint and m.joint in joint.coordinates]
        return {
            "name": link,
            "says": f"{body.mass:.4g} kg" if body.mass else "no mass",
            "mass_kg": body.mass,
            "com_m": body.com.tolist(),
            "inertia_kg_m2": body.inertia.tolist(),
            "joint": _joint(joint, at) if joint else None,
            "shapes": [_part(part) for part in described.parts],
            "motors": [_motor(m, joint) for m in own if joint],
            "sensors": [
                f"sensor {s.name}: {type(s.sensor).__name__}, every {1e3 * s.sensor.period:.4g} ms"
                for s in model.sensors.values()
                if s.link == link
            ],
            "frames": [f"frame {f.name}" for f in model.frames.values() if f.link == link],
            "children": [link_of(j.child, j) for j in held],
        }

    extra = [f"loop {x.name}: {x.kind} between {x.link_a} and {x.link_b}" for x in model.loops.values()]
    extra += [
        f"spring {x.name}: {x.stiffness:.4g} N/m between {x.link_a} and {x.link_b}" for x in model.springs.values()
    ]
    extra += [
        f"rotor on {x.joint}: thrust {x.thrust:.4g} N·s², torque {x.torque:.4g} N·m·s²" for x in model.rotors.values()
    ]
    extra += [f"drag areas of {x.link}: {', '.join(f'{a:.3g}' for a in x.area)} m²" for x in model.drags.values()]
    if model.apart:
        extra.append("no contact: " + ", ".join(f"{a} – {b}" for a, b in model.apart))
    return {
        "name": name or model.name,
        "links": [link_of(root, None) for root in model.roots()],
        "extra": extra,
        "totals": _totals(model, at, posture),
        "positions": at,
        "notes": model.notes,
    }


def _totals(model: Model, at: Mapping[str, float], posture: str | None) -> dict[str, str]:
    whole = model.total(at)
    poses = model.poses(at)
    shapes = [
        (s, poses[link] @ p)
        for link, described in model.links.items()
        for part in described.parts
        for s, p in (*seen(part), *touched(part))
    ]
    totals = {"mass": f"{whole.mass:.4g} kg"}
    if shapes:
        low, high = bounds_of(shapes)
        totals["size"] = " × ".join(f"{edge:.3g}" for edge in high - low) + " m (x, y, z)"
    centre = ", ".join(f"{x + 0.0:.3g}" for x in np.round(whole.com, 6))
    totals["centre of mass"] = f"({centre}) m in {model.root()}"
    free = len(model.coordinates()) - sum(j.mimic is not None for j in model.joints.values())
    totals["degrees of freedom"] = f"{free}, and 6 more where it is not fixed"
    totals["links, joints"] = f"{len(model.links)}, {len(model.joints)}"
    totals["motors, sensors"] = f"{len(model.motors)}, {len(model.sensors)}"
    totals["posture"] = posture or ("start" if any(at.values()) else "all joints at 0")
    if model.postures:
        totals["postures"] = ", ".join(model.postures)
    return totals


def _joint(joint: Joint, at: Mapping[str, float]) -> dict[str, Any]:
    says: list[str] = [joint.kind]
    if joint.kind not in ("fixed", "floating", "ball"):
        says.append(f"about {_axis(joint)}" if not joint.is_linear else f"along {_axis(joint)}")
    if joint.limits:
        says.append(" to ".join(joint.told(limit) for limit in joint.limits))
    if joint.mimic:
        says.append(f"follows {joint.mimic[0]} × {joint.mimic[1]:g}")
    now = at.get(joint.name, 0.0)
    if now:
        says.append(f"now {joint.told(now)}")
    return {
        "name": joint.name,
        "kind": joint.kind,
        "axis": joint.axis,
        "limits": joint.limits,
        "says": ", ".join(says),
        "position": now,
        "damping": joint.damping,
        "friction": joint.friction,
    }


def _axis(joint: Joint) -> str:
    for letter, unit in zip("xyz", np.eye(3), strict=True):
        if abs(abs(unit @ joint.axis) - 1) < 1e-9:
            return letter if unit @ joint.axis > 0 else f"−{letter}"
    return "(" + ", ".join(f"{x:.3g}" for x in joint.axis) + ")"


def _motor(motor: Motor, joint: Joint) -> str:
    unit = ("N/m", "N·s/m", "N") if joint.is_linear else ("N·m/rad", "N·m·s/rad", "N·m")
    says = [f"{motor.mode} motor"]
    says += [f"{motor.stiffness:.4g} {unit[0]}"] if motor.stiffness else []
    says += [f"{motor.damping:.4g} {unit[1]}"] if motor.damping else []
    says += [f"up to {motor.limit:.4g} {unit[2]}"] if math.isfinite(motor.limit) else []
    pace = "m/s" if joint.is_linear else "rad/s"
    says += [f"at most {motor.speed:.4g} {pace}"] if math.isfinite(motor.speed) else []
    says += [f"stalls at {motor.stall:.4g} {unit[2]}, free at {motor.free_speed:.4g} {pace}"] if motor.stall else []
    says += [f"gear play {joint.told(motor.play)}"] if motor.play else []
    says += [f"lag {1e3 * motor.lag:.4g} ms"] if motor.lag else []
    says += [f"integral {motor.integral:.4g} {unit[0]}"] if motor.integral else []
    says += [f"brake {motor.brake:.4g} {unit[2]}"] if motor.brake else []
    says += [f"{motor.gear_ratio:g}:1"] if motor.gear_ratio != 1 else []
    return ", ".join(says)


def _part(part: Part) -> str:
    role = {"both": "", "visual": "visual: ", "collision": "collision: "}[part.role]
    shape = part.shape
    collides = f", collides as {shape.collides_as}" if isinstance(shape, Mesh) and part.role != "visual" else ""
    return f"{role}{shape.said}{collides}"
