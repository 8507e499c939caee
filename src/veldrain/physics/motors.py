"""Motors and joint damping as an effort a − b·v⁺, linear in the joint's velocity at the end of the step.

Velocity mode: a = damping·command, b = damping. Position mode, with q⁺ = q + h·v⁺: a = stiffness·(command − q),
b = damping + h·stiffness. A motor at its limit gives the limit, b = 0; which motors are at it is found by
solving, looking, and solving again until nothing changes.
"""

from __future__ import annotations

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import EFFORT, NO_MOTOR, VELOCITY


@kernel
def motor_line(dof, q, h):
    """a and b of one motor, its limit left aside (but for a commanded effort)."""
    if dof.mode == NO_MOTOR:
        return 0.0, 0.0
    if dof.mode == EFFORT:
        return min(max(dof.command, -dof.limit), dof.limit), 0.0
    if dof.mode == VELOCITY:
        return dof.gain * dof.command, dof.gain
    return dof.stiffness * (dof.command - q[dof.coord]), dof.gain + h * dof.stiffness


@kernel
def set_motors(dofs, q, h):
    """Offset and slope of every degree of freedom, joint springs included, for the motors now held at their limits."""
    for k in range(len(dofs)):
        dof = dofs[k]
        a, b = motor_line(dof, q, h)
        if dof.saturated != 0:
            a, b = dof.saturated * dof.limit, 0.0
        if dof.spring > 0.0:
            a += dof.spring * (dof.rest - q[dof.coord])
            b += h * dof.spring
        dof.offset = a
        dof.slope = b + dof.damping


@kernel
def check_motors(dofs, q, v, h, may_release):
    """Efforts at the new velocities; True when a motor has to go to its limit, or to leave it."""
    changed = False
    for k in range(len(dofs)):
        dof = dofs[k]
        if dof.mode == NO_MOTOR:
            continue
        a, b = motor_line(dof, q, h)
        effort = a - b * v[k]
        dof.effort = effort if dof.saturated == 0 else dof.saturated * dof.limit
        if dof.saturated != 0 and dof.saturated * effort < dof.limit and may_release:
            dof.saturated = 0
            changed = True
        elif dof.saturated == 0 and abs(effort) > dof.limit:
            dof.saturated = 1 if effort > 0.0 else -1
            changed = True
    return changed
