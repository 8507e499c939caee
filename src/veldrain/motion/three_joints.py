"""The closed form of a leg of three joints that turn: roll or swing, hip, knee.

In the leg's axes, x across its first and second axis, y along the second and z along the first, the first angle brings
the leg's plane onto the foot. That plane lies beside the first axis by ``side``, and has the foot, which is at (x, y,
z), at (along, z) in it, with along² = x² + y² − side². Thigh and shank are two sides of a triangle there: the law of
cosines gives the knee, and the hip follows. The plane and the knee can each go two ways: there are none to four
answers.
"""

from __future__ import annotations

import math

import numpy as np

from veldrain.kernel import entry, kernel

EVEN = 1e-6  # rad beyond a limit that counts as at it
LEG = np.dtype(
    [("from", np.float64, 3), ("axes", np.float64, (3, 3)), ("hip", np.float64, 2)]  # axes: as rows
    + [("low", np.float64, 3), ("high", np.float64, 3)]
    + [(name, np.float64) for name in ("side", "thigh", "shank", "thigh_rest", "shank_rest", "sign")]
)


@kernel
def wrapped(angle):
    """The same angle from −π to π."""
    return angle - 2.0 * math.pi * math.floor(angle / (2.0 * math.pi) + 0.5)


@kernel
def fill_answers(leg, foot, found):
    """Fill ``found`` (4, 3) with all answers; how many there are."""
    across = leg["from"]
    dx, dy, dz = foot[0] - across[0], foot[1] - across[1], foot[2] - across[2]
    R = leg.axes
    x = R[0, 0] * dx + R[0, 1] * dy + R[0, 2] * dz
    y = R[1, 0] * dx + R[1, 1] * dy + R[1, 2] * dz
    z = R[2, 0] * dx + R[2, 1] * dy + R[2, 2] * dz
    count = 0
    square = x * x + y * y
    if square < leg.side * leg.side or square == 0.0:
        return count
    along, up = math.sqrt(square - leg.side * leg.side), z - leg.hip[1]
    for way in range(2):
        out = along if way == 0 else -along
        # In the plane turned by q the point is (out, side): its direction is that of the point less q.
        first = math.atan2(y, x) - math.atan2(leg.side, out)
        ahead = out - leg.hip[0]
        bend = (ahead * ahead + up * up - leg.thigh**2 - leg.shank**2) / (2.0 * leg.thigh * leg.shank)
        if abs(bend) > 1.0 + 1e-12:
            continue
        inner = math.acos(min(max(bend, -1.0), 1.0))
        for side in range(1 if inner == 0.0 else 2):
            knee = inner if side == 0 else -inner
            lean = math.atan2(leg.shank * math.sin(knee), leg.thigh + leg.shank * math.cos(knee))
            # Turning about y takes x to −z: angles in the plane go the other way.
            found[count, 0] = wrapped(first)
            found[count, 1] = wrapped(leg.thigh_rest - math.atan2(up, ahead) + lean)
            found[count, 2] = wrapped((leg.shank_rest - leg.thigh_rest - knee) * leg.sign)
            count += 1
    return count


@entry
def leg_answers(legs, feet, found, counts):
    """All answers (n, 4, 3) of legs (n,) for feet (n, 3), and how many each has."""
    for k in range(len(legs)):
        counts[k] = fill_answers(legs[k], feet[k], found[k])


@entry
def leg_angles(legs, feet, near, found, q):
    """Fill q (n, 3) with the answers within limits that are nearest to postures (n, 3); False: a leg has none."""
    all_found = True
    for k in range(len(legs)):
        leg, least = legs[k], math.inf
        for m in range(fill_answers(leg, feet[k], found[k])):
            away, is_inside = 0.0, True
            for j in range(3):
                value = found[k, m, j]
                is_inside = is_inside and leg.low[j] - EVEN <= value <= leg.high[j] + EVEN
                away = max(away, abs(value - near[k, j]))
            if is_inside and away < least:
                least = away
                for j in range(3):
                    q[k, j] = min(max(found[k, m, j], leg.low[j]), leg.high[j])
        all_found = all_found and least < math.inf
    return all_found
