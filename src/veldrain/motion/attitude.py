"""The kernel of a flyer: from where it is and should be to lift and torques.

An acceleration is asked for, ω²·e + 2·ω·ė + integral + feed-forward; with gravity it gives the direction of lift, and
with the heading a whole attitude R_d. The torque is J·(−ω_a²·e_R − 2·ω_a·Ω) + Ω × J·Ω with e_R = ½·(R_dᵀR − RᵀR_d)^∨
(T. Lee, M. Leok, N. H. McClamroch, "Geometric tracking control of a quadrotor UAV on SE(3)", CDC 2010).
"""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel

G = 9.81
FASTER = 5.0  # times the bandwidth of position: that of roll and pitch
SLOWER = 0.4  # times that: of turning about z
LEAST, MOST = -0.6 * G, 1.5 * G  # m/s² up and down


@kernel
def normalise(row):
    """Make a row a unit vector."""
    size = math.sqrt(row[0] * row[0] + row[1] * row[1] + row[2] * row[2])
    for k in range(3):
        row[k] /= size


@kernel
def cross_rows(a, b, out):
    """out = a × b."""
    out[0], out[1], out[2] = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


@entry
def lift_and_torque(
    off, slow, push, turn, spin, heading, bandwidth, integral, tilt, period, taken_up, mass, J, room, out
):
    """Fill ``out`` with lift (N) and torques (N·m), and go on with ``taken_up`` (3,), m/s².

    off (3,), slow (3,): what is missing of position (m) and velocity (m/s); push (3,): acceleration to feed forward;
    turn (3, 3), spin (3,): attitude, and rates in its axes; bandwidth, integral: Hz; J (3, 3): inertia; room (4, 3).
    """
    w = 2.0 * math.pi * bandwidth
    most = 0.5 * G * math.tan(tilt)
    asked, x, y, z = room[0], room[1], room[2], room[3]
    for k in range(3):
        grown = taken_up[k] + period * integral * 2.0 * math.pi * w * w * off[k]
        taken_up[k] = min(max(grown, -most), most)
        asked[k] = push[k] + w * w * off[k] + 2.0 * w * slow[k] + taken_up[k]
    asked[2] = min(max(asked[2], LEAST), MOST) + G
    level = math.sqrt(asked[0] * asked[0] + asked[1] * asked[1])
    limit = asked[2] * math.tan(tilt)
    if level > limit:
        asked[0] *= limit / level
        asked[1] *= limit / level
    for k in range(3):
        z[k] = asked[k]
    normalise(z)
    x[0], x[1], x[2] = math.cos(heading), math.sin(heading), 0.0
    cross_rows(z, x, y)
    normalise(y)
    cross_rows(y, z, x)
    out[0] = mass * (asked[0] * turn[0, 2] + asked[1] * turn[1, 2] + asked[2] * turn[2, 2])
    # between = R_dᵀ·R; its rows are those of x, y, z times R.
    wrong = asked
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        one, other = room[1 + j], room[1 + i]
        a = one[0] * turn[0, i] + one[1] * turn[1, i] + one[2] * turn[2, i]
        b = other[0] * turn[0, j] + other[1] * turn[1, j] + other[2] * turn[2, j]
        wrong[k] = 0.5 * (a - b)
    for k in range(3):
        rate = FASTER * w * (SLOWER if k == 2 else 1.0)
        wrong[k] = -rate * rate * wrong[k] - 2.0 * rate * spin[k]
    held = x  # no longer needed: J·Ω
    for k in range(3):
        held[k] = J[k, 0] * spin[0] + J[k, 1] * spin[1] + J[k, 2] * spin[2]
    cross_rows(spin, held, y)
    for k in range(3):
        out[1 + k] = J[k, 0] * wrong[0] + J[k, 1] * wrong[1] + J[k, 2] * wrong[2] + y[k]


@entry
def rotor_speeds(load, asks, without_turning, thrust, top, out):
    """Rotor speeds (n,) for lift and torques (4,); where they cannot give all, turning about z is given up first."""
    matrix, holds = asks, False
    for _ in range(2):
        holds = True
        for k in range(len(out)):
            u = 0.0
            for j in range(4):
                u += matrix[k, j] * load[j]
            out[k] = u
            side = 1.0 if thrust[k] > 0.0 else -1.0
            holds = holds and 0.0 <= side * u <= top[k] * top[k]
        if holds:
            break
        matrix = without_turning
    for k in range(len(out)):
        side = 1.0 if thrust[k] > 0.0 else -1.0
        out[k] = side * math.sqrt(min(max(side * out[k], 0.0), top[k] * top[k]))
