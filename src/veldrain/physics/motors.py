"""Motors and joint damping as an effort a − b·v⁺, linear in the joint's velocity at the end of the step.

What a motor's mode asks for is its law. Velocity mode: a = damping·command + effort, b = damping; an integral part
adds gain·(wound + h·(command − v⁺)). Position mode, with q⁺ = q + h·v⁺: a = stiffness·(command − q) +
damping·velocity + effort, b = damping + h·stiffness. With gear play a position motor gives nothing while its command
is within half of it, and counts from its edge on beyond; a velocity motor crosses it at the speed that it is told.

What it can give bounds that, on both sides: a speed limit (a steep line through zero at that speed), a DC motor's
line from its stall torque to its free speed, and its largest effort. Which line each motor is on is found by solving,
looking, and solving again until nothing changes: all lines fall with the velocity, so that there is one answer.
"""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel
from veldrain.physics.plant import EFFORT, NO_MOTOR, POSITION, VELOCITY

LAW, LIMIT, STALL, SPEED = 0, 1, 2, 3  # the lines; their sign is the side
EXCESS = 1e-3  # of a speed limit: where the motor gives its largest effort against going faster
FIRM = 1e6  # N·m or N: the same for a motor without a largest effort


@kernel
def followed(dof):
    """The command as a lagging motor has it in the coming step."""
    if dof.follows == 1.0:
        return dof.command
    return dof.held + dof.follows * (dof.command - dof.held)


@kernel
def law(dof, q, h):
    """a and b of what one motor's mode asks for."""
    if dof.mode == EFFORT:
        return min(max(dof.command, -dof.limit), dof.limit), 0.0
    if dof.mode == VELOCITY:
        wanted = followed(dof)
        if abs(dof.slack) < 0.5 * dof.play:
            return 0.0, 0.0
        slope = dof.gain + h * dof.integral
        return slope * wanted + dof.integral * dof.wound + dof.assist, slope
    away = followed(dof) - q[dof.coord]
    if dof.play > 0.0:
        free = 0.5 * dof.play
        if abs(away) <= free:
            return 0.0, 0.0
        away -= math.copysign(free, away)
    return dof.stiffness * away + dof.gain * dof.pace + dof.assist, dof.gain + h * dof.stiffness


@kernel
def line(dof, bound, q, h):
    """a and b of one of a motor's lines."""
    side = 1.0 if bound > 0 else -1.0
    if abs(bound) == LIMIT:
        return side * dof.limit, 0.0
    if abs(bound) == STALL:
        return side * dof.stall, dof.stall / dof.free_speed
    if abs(bound) == SPEED:
        steep = (dof.limit if dof.limit < math.inf else FIRM) / (EXCESS * dof.top_speed)
        return side * steep * dof.top_speed, steep
    return law(dof, q, h)


@kernel
def bound_at(dof, q, v, h):
    """The line that a motor's effort is on at a velocity."""
    a, b = law(dof, q, h)
    effort, found = a - b * v, LAW
    if dof.stall > 0.0:
        slope = dof.stall / dof.free_speed
        if effort > dof.stall - slope * v:
            effort, found = dof.stall - slope * v, STALL
        elif effort < -dof.stall - slope * v:
            effort, found = -dof.stall - slope * v, -STALL
    if dof.top_speed < math.inf:
        a, b = line(dof, SPEED, q, h)
        if effort > a - b * v:
            effort, found = a - b * v, SPEED
        elif effort < -a - b * v:
            effort, found = -a - b * v, -SPEED
    side = 1 if effort > dof.limit else -1 if effort < -dof.limit else 0
    if side == 0 or (found == -side * SPEED and dof.bound != found and dof.bound != side * LIMIT):
        return found  # a speed line is steep: it is tried before the limit that is beyond it
    return side * LIMIT


@kernel
def follow_commands(dofs, v, h):
    """Bring on what motors remember, at the end of a step: lagging commands, integral parts, where play is."""
    for k in range(len(dofs)):
        dof = dofs[k]
        dof.held = followed(dof)
        if dof.mode != VELOCITY:
            dof.wound = dof.slack = 0.0
            continue
        gained, half = h * (dof.held - v[k]), 0.5 * dof.play
        if abs(dof.slack) < half:
            dof.slack = min(max(dof.slack + gained, -half), half)
            continue
        if dof.integral > 0.0 and dof.bound == LAW:
            dof.wound += gained
        if dof.slack * dof.effort < 0.0:  # at an edge of its play a gear only pushes: it leaves the edge
            dof.slack *= 0.999


@kernel
def set_motors(dofs, q, h):
    """Offset and slope of every degree of freedom, joint springs included, on the lines that motors are now on."""
    for k in range(len(dofs)):
        dof = dofs[k]
        a, b = 0.0, 0.0
        if dof.mode != NO_MOTOR:
            a, b = line(dof, dof.bound, q, h)
        if dof.spring > 0.0:
            a += dof.spring * (dof.rest - q[dof.coord])
            b += h * dof.spring
        dof.offset = a
        dof.slope = b + dof.damping


@kernel
def check_motors(dofs, q, v, h, may_release):
    """Efforts at the new velocities; True when a motor has to go to another of its lines."""
    changed = False
    for k in range(len(dofs)):
        dof = dofs[k]
        if dof.mode == NO_MOTOR:
            continue
        a, b = line(dof, dof.bound, q, h)
        dof.effort = a - b * v[k]
        found = bound_at(dof, q, v[k], h)
        if found != dof.bound and (may_release or dof.bound == LAW):
            dof.bound = found
            changed = True
    return changed


@entry
def command_motors(dofs, numbers, mode, main, pace, assist):
    """Give motors of one mode what drives them, and what is given beside it (rows of no numbers: nothing).

    False, and nothing is given, where one has another mode, or is told what it cannot follow as it is.
    """
    for k in range(len(numbers)):
        dof, asked = dofs[numbers[k]], main[k]
        fits = dof.mode == mode and math.isfinite(asked)
        if mode == POSITION:
            fits = fits and dof.low - 1e-9 <= asked <= dof.high + 1e-9
        elif mode == VELOCITY:
            fits = fits and abs(asked) <= dof.top_speed * (1.0 + 1e-9)
        fits = fits and (len(pace) == 0 or math.isfinite(pace[k])) and (len(assist) == 0 or math.isfinite(assist[k]))
        if not fits:
            return False
    for k in range(len(numbers)):
        dof = dofs[numbers[k]]
        dof.command, dof.told = main[k], 1
        if len(pace) > 0:
            dof.pace = pace[k]
        if len(assist) > 0:
            dof.assist = assist[k]
    return True
