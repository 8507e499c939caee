"""Motors and joint damping as an effort a − b·v⁺, linear in the joint's velocity at the end of the step.

Velocity mode: a = damping·command, b = damping. Position mode, with q⁺ = q + h·v⁺: a = stiffness·(command − q),
b = damping + h·stiffness. A motor at its limit gives the limit, b = 0; which motors are at it is found by
solving, looking, and solving again until nothing changes.
"""

from __future__ import annotations

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import EFFORT, NO_MOTOR, VELOCITY


@kernel
def motor_line(plant, state, dof, h):  # type: ignore[no-untyped-def]
    """a and b of one motor, its limit left aside (but for a commanded effort)."""
    mode, gain, command = plant.motor_mode[dof], plant.motor_gain[dof], state.command[dof]
    if mode == NO_MOTOR:
        return 0.0, 0.0
    if mode == EFFORT:
        return min(max(command, -gain[2]), gain[2]), 0.0
    if mode == VELOCITY:
        return gain[1] * command, gain[1]
    return gain[0] * (command - state.q[plant.dof_coord[dof]]), gain[1] + h * gain[0]


@kernel
def set_motors(plant, state, work, h):  # type: ignore[no-untyped-def]
    """Offset and slope of every degree of freedom, for the motors now held to be at their limits."""
    for dof in range(len(plant.dof_damping)):
        a, b = motor_line(plant, state, dof, h)
        if state.saturated[dof] != 0:
            a, b = state.saturated[dof] * plant.motor_gain[dof, 2], 0.0
        work.offset[dof] = a
        work.slope[dof] = b + plant.dof_damping[dof]


@kernel
def check_motors(plant, state, work, h, may_release):  # type: ignore[no-untyped-def]
    """Efforts at the new velocities; True when a motor has to go to its limit, or to leave it."""
    changed = False
    for dof in range(len(plant.dof_damping)):
        if plant.motor_mode[dof] == NO_MOTOR:
            continue
        a, b = motor_line(plant, state, dof, h)
        effort, limit, held = a - b * work.v_new[dof], plant.motor_gain[dof, 2], state.saturated[dof]
        if held != 0 and held * effort < limit and may_release:
            state.saturated[dof] = 0
            changed = True
        elif held == 0 and abs(effort) > limit:
            state.saturated[dof] = 1 if effort > 0.0 else -1
            changed = True
        state.effort[dof] = effort if held == 0 else held * limit
    return changed
