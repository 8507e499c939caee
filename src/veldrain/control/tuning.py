"""What a motor answers to a step of its command, measured in a simulation of the model by itself."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Model, World
from veldrain.motion.gains import suggest_gains
from veldrain.simulation import Simulation
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

BAND = 0.02  # of the way: where an answer has settled
NOTHING = 1e-6  # of a step: who goes no farther does not move


def gains_table(
    model: Model, joints: Mapping[str, Quantity], bandwidth: Quantity, damping: float, test: bool
) -> list[dict[str, Any]]:
    """A row a motor as it is printed: units in the names, angles in degrees; None for what does not apply."""
    rows = []
    for joint, row in suggest_gains(model, bandwidth, damping, joints=joints).iterrows():
        linear = model.coordinates()[str(joint)][1]
        angle = 1000.0 if linear else math.degrees(1.0)
        line: dict[str, Any] = {"joint": str(joint), "mode": row["mode"], "moves": _round(row["inertia"])}
        line["moves in"] = "kg" if linear else "kg·m²"
        line |= {"Hz now": _round(row["frequency"]), "ratio now": _round(row["ratio"])}
        line |= {"sag": _round(row["sag"] * angle), "sag in": "mm" if linear else "°"}
        line |= {"stiffness": _round(row["stiffness"]) or None, "damping": _round(row["damping"])}
        if test:
            line |= _answer(model, str(joint), joints, angle)
        rows.append(line)
    return rows


def _answer(model: Model, joint: str, joints: Mapping[str, Quantity], angle: float) -> dict[str, Any]:
    names = ("rise ms", "overshoot %", "settles ms", "rest error")
    if joint not in model.motors or model.motors[joint].mode == "effort":
        return dict.fromkeys(names)
    found = step_response(model, joint, joints=joints)
    values = 1e3 * found.rise, 100 * found.overshoot, 1e3 * found.settling, found.rest_error * angle
    return dict(zip(names, (_round(v) for v in values), strict=True))


def _round(value: float) -> float | None:
    return (float(f"{value:.4g}") if abs(value) > 1e-9 else 0.0) if math.isfinite(value) else None


@dataclass(frozen=True)
class StepResponse:
    """The answer of a joint to a step.

    Attributes:
        joint: its name.
        rise: from 10 to 90 % of the way to where it ends, s; nan: it did not move.
        overshoot: beyond where it ends, as a share of the way there.
        settling: until it stays within 2 % of that way, s.
        rest_error: what is left at the end, rad or m (rad/s or m/s of a velocity motor).
        frame: time, command, value and effort.
    """

    joint: str
    rise: float
    overshoot: float
    settling: float
    rest_error: float
    frame: pd.DataFrame


def step_response(
    model: Model,
    joint: str,
    size: Quantity | None = None,
    *,
    duration: Quantity = "2 s",
    joints: Mapping[str, Quantity] | None = None,
    gravity: bool = True,
    step: Quantity = "1 ms",
) -> StepResponse:
    """Let a motor answer to a step of its command; the root stands still, all other motors hold.

    Under gravity it first comes to rest, for as long as the answer is looked at: what it sags by is part of the error
    at rest, and not of how it gets there.

    Args:
        model: the model.
        joint: of a position or velocity motor.
        size: of the step: rad or m, of a velocity motor rad/s or m/s. None: 0.1 rad or 5 cm (a second), where there
            is room.
        duration: s.
        joints: where the joints begin; 0 where not given.
        gravity: False leaves it out.
        step: of the engine, s.

    Raises:
        VeldrainError: no such joint, no position or velocity motor, or a step beyond its limits.
    """
    import pandas as pd

    if joint not in model.motors:
        raise unknown("joint with a motor", joint, model.motors, model.name)
    motor, linear = model.motors[joint], model.coordinates()[joint][1]
    if motor.mode == "effort":
        raise VeldrainError("its motor takes an effort", where=f"{model.name}/{joint}", cure="give it mode 'position'")
    kinds = {("position", False): "angle", ("position", True): "length", ("velocity", False): "angular speed"}
    kind = kinds.get((motor.mode, linear), "speed")
    pull = (0.0, 0.0, -9.81) if gravity else (0.0, 0.0, 0.0)
    world = World(gravity=pull).place(model, "model", fixed=True, joints=dict(joints or {}))
    sim = Simulation(world, step)
    robot = sim["model"]
    k = robot.joints.index(joint)
    start = float(robot.positions[k]) if motor.mode == "position" else 0.0
    limits = model.joints[joint].limits if joint in model.joints and motor.mode == "position" else None
    if size is not None:
        much = quantity(size, kind, f"step_response: {joint}")
    else:  # where there is room
        low, high = limits or (-math.inf, math.inf)
        up = high - start >= start - low
        room = 0.5 * (high - start if up else start - low)
        much = math.copysign(min(0.05 if linear else 0.1, room), 1.0 if up else -1.0)
    if not much:
        raise VeldrainError("a step of nothing", where=f"{model.name}/{joint}", cure="give a size")
    if limits and not limits[0] <= start + much <= limits[1]:
        raise VeldrainError(
            f"a step of {much:g} from {start:g} leaves its limits",
            where=f"{model.name}/{joint}",
            cure="give another size",
        )
    count = sim.steps_of(duration, "step_response: duration")

    def value() -> float:
        return float(robot.positions[k] if motor.mode == "position" else robot.velocities[k])

    if gravity:
        robot.command(joint, **{motor.mode: start})
        sim.advance(count * sim.step)
    begun, rested = sim.time, value()
    robot.command(joint, **{motor.mode: start + much})
    rows = []
    for _ in range(count):
        sim.advance(sim.step)
        rows.append((sim.time - begun, start + much, value(), float(robot.efforts[k])))
    frame = pd.DataFrame(rows, columns=["time", "command", "value", "effort"])
    # Against where it ends, which a soft motor that carries a weight does not have where it was commanded.
    way = float(frame["value"].iloc[-1]) - rested
    share = (frame["value"].to_numpy() - rested) / (way if abs(way) > NOTHING * abs(much) else math.nan)
    time = frame["time"].to_numpy()

    def first(level: float) -> float:
        over = np.flatnonzero(share >= level)
        return float(time[over[0]]) if len(over) else float("nan")

    outside = np.flatnonzero(~(np.abs(share - 1.0) <= BAND))
    settling = (
        0.0 if not len(outside) else float("nan") if outside[-1] == len(time) - 1 else float(time[outside[-1] + 1])
    )
    rest = start + much - float(frame["value"].iloc[-1])
    overshoot = max(0.0, float(share.max()) - 1.0) if np.isfinite(share).all() else math.nan
    return StepResponse(joint, first(0.9) - first(0.1), overshoot, settling, rest, frame)
