"""How legs bear a body: what each foot carries, and the efforts of its leg's joints for that."""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel

HANDOVER = 0.02, 0.1  # of a stride, least and most: so long a foot takes its load over, and gives it up again


@kernel
def readiness(stride, foot, moves):
    """What part of a load a foot takes: 0 in its swing, 1 in its stance, and in between as it comes and goes."""
    if not foot.stands or not (foot.feels or foot.blind):
        return 0.0
    if not moves:
        return 1.0
    phase = stride.phase + foot.offset
    phase -= math.floor(phase)
    takes = min(max(stride.duty - 0.5, HANDOVER[0]), HANDOVER[1])
    return min(max(min(phase, stride.duty - phase) / takes, 0.0), 1.0)


@kernel
def press(leg, foot, q, load, out):
    """Efforts of a leg whose foot presses down with a load: Jᵀ f, of the three axes where they are."""
    R, across = leg.axes, leg["from"]
    dx, dy, dz = foot[0] - across[0], foot[1] - across[1], foot[2] - across[2]
    x = R[0, 0] * dx + R[0, 1] * dy + R[0, 2] * dz
    y = R[1, 0] * dx + R[1, 1] * dy + R[1, 2] * dz
    z = R[2, 0] * dx + R[2, 1] * dy + R[2, 2] * dz
    fx, fy, fz = -load * R[0, 2], -load * R[1, 2], -load * R[2, 2]
    out[0] = x * fy - y * fx
    # In the plane that the first angle turns; about y, a force (fx, fz) at (x, z) turns by z fx − x fz.
    c, s = math.cos(q[0]), math.sin(q[0])
    x, fx = c * x + s * y, c * fx + s * fy
    thigh = leg.thigh_rest - q[1]
    knee_x, knee_z = leg.hip[0] + leg.thigh * math.cos(thigh), leg.hip[1] + leg.thigh * math.sin(thigh)
    out[1] = (z - leg.hip[1]) * fx - (x - leg.hip[0]) * fz
    out[2] = leg.sign * ((z - knee_z) * fx - (x - knee_x) * fz)


@entry
def bear(stride, feet, legs, at, q, centre, weight, moves, out):
    """Efforts (n, 3) of the legs' joints, by which feet at (n, 3) carry a weight (N) whose centre is at (2,)."""
    n = len(feet)
    s0 = sx = sy = sxx = sxy = syy = 0.0
    for k in range(n):
        r = readiness(stride, feet[k], moves)
        x, y = at[k, 0] - centre[0], at[k, 1] - centre[1]
        s0, sx, sy = s0 + r, sx + r * x, sy + r * y
        sxx, sxy, syy = sxx + r * x * x, sxy + r * x * y, syy + r * y * y
    # Loads r (u + v x + w y) whose sum is the weight and that do not tip about the centre. Feet that stand in one line
    # cannot help tipping across it: a touch on the diagonal leaves that to the balance of the gait.
    little = 1e-3 * (sxx + syy) + 1e-12
    sxx, syy = sxx + little, syy + little
    d = sxx * syy - sxy * sxy
    px, py = (sx * syy - sy * sxy) / d, (sy * sxx - sx * sxy) / d
    whole = s0 - sx * px - sy * py
    u = weight / whole if whole > 1e-9 else 0.0
    for k in range(n):
        x, y = at[k, 0] - centre[0], at[k, 1] - centre[1]
        load = max(readiness(stride, feet[k], moves) * u * (1.0 - px * x - py * y), 0.0)
        press(legs[k], at[k], q[k], min(load, weight), out[k])
