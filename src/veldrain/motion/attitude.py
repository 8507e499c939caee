"""The kernel of a flyer: from where it is and should be to lift and torques.

An acceleration is asked for, ω²·e + 2·ω·ė + integral + feed-forward; with gravity it gives the direction of lift, and
with the heading a whole attitude R_d. The torque is J·(−ω_a²·e_R − 2·ω_a·Ω) + Ω × J·Ω with e_R = ½·(R_dᵀR − RᵀR_d)^∨
(T. Lee, M. Leok, N. H. McClamroch, "Geometric tracking control of a quadrotor UAV on SE(3)", CDC 2010).
"""

from __future__ import annotations

import math

import numpy as np

from veldrain.kernel import entry, kernel

FASTER = 5.0  # times the bandwidth of position: that of roll and pitch
SLOWER = 0.4  # times that: of turning about z
LEAST, MOST = -0.6, 1.5  # times gravity, up and down


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


FLYER = np.dtype(
    # kg·m²; m/s², of wind and payload; kg, m/s², Hz, Hz, rad, s
    [("inertia", np.float64, (3, 3)), ("taken_up", np.float64, 3)]
    + [(name, np.float64) for name in ("mass", "gravity", "bandwidth", "integral", "tilt", "period")]
)
ROTOR = np.dtype(
    [("asks", np.float64, 4), ("level", np.float64, 4)]  # of lift and torques; without the one about z
    + [(name, np.float64) for name in ("thrust", "torque", "top")]
)


@kernel
def turn_rows(orientation, turn):
    """Fill ``turn`` (3, 3) with the attitude that a quaternion x, y, z, w says."""
    x, y, z, w = orientation[0], orientation[1], orientation[2], orientation[3]
    turn[0, 0], turn[0, 1], turn[0, 2] = 1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)
    turn[1, 0], turn[1, 1], turn[1, 2] = 2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)
    turn[2, 0], turn[2, 1], turn[2, 2] = 2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)


@kernel
def lift_and_torque(flyer, off, slow, push, turn, spin, heading, room, out):
    """Fill ``out`` (4,) with lift (N) and torques (N·m), and go on with what is taken up.

    off (3,), slow (3,): what is missing of position (m) and velocity (m/s); push (3,): acceleration to feed forward;
    turn (3, 3), spin (3,): attitude, and rates in its axes; room (4, 3).
    """
    w = 2.0 * math.pi * flyer.bandwidth
    g = flyer.gravity
    most = 0.5 * g * math.tan(flyer.tilt)
    taken_up, J = flyer.taken_up, flyer.inertia
    asked, x, y, z = room[0], room[1], room[2], room[3]
    for k in range(3):
        grown = taken_up[k] + flyer.period * flyer.integral * 2.0 * math.pi * w * w * off[k]
        taken_up[k] = min(max(grown, -most), most)
        asked[k] = push[k] + w * w * off[k] + 2.0 * w * slow[k] + taken_up[k]
    asked[2] = min(max(asked[2], LEAST * g), MOST * g) + g
    level = math.sqrt(asked[0] * asked[0] + asked[1] * asked[1])
    limit = asked[2] * math.tan(flyer.tilt)
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
    out[0] = flyer.mass * (asked[0] * turn[0, 2] + asked[1] * turn[1, 2] + asked[2] * turn[2, 2])
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


@kernel
def share_out(rotors, load, out):
    """Fill ``out`` (n,) with rotor speeds for lift and torques (4,); turning about z is given up first."""
    is_whole = True
    for attempt in range(2):
        is_whole = attempt == 0
        holds = True
        for k in range(len(rotors)):
            rotor, u = rotors[k], 0.0
            for j in range(4):
                u += (rotor.asks[j] if is_whole else rotor.level[j]) * load[j]
            out[k] = u
            side = 1.0 if rotor.thrust > 0.0 else -1.0
            holds = holds and 0.0 <= side * u <= rotor.top * rotor.top
        if holds:
            break
    for k in range(len(rotors)):
        side = 1.0 if rotors[k].thrust > 0.0 else -1.0
        out[k] = side * math.sqrt(min(max(side * out[k], 0.0), rotors[k].top * rotors[k].top))


@entry
def rotor_speeds(rotors, load, out):
    """Rotor speeds (n,) for lift and torques (4,); where they cannot give all, turning about z is given up first."""
    share_out(rotors, load, out)


@entry
def fly(flyer, rotors, orientation, position, velocity, spin, heading, goal, pace, push, room, load, speeds, efforts):
    """Fill speeds (n,) and efforts (n,) of rotors; how far from the goal it is, m.

    orientation (4,), position (3,): its pose; velocity (3,), spin (3,): in its axes; goal, pace, push (3,): where it
    should be, how fast, and with which acceleration; room (9, 3), load (4,): to work in.
    """
    turn, off, slow = room[:3], room[3], room[4]
    turn_rows(orientation, turn)
    for k in range(3):
        off[k] = goal[k] - position[k]
        slow[k] = pace[k] - turn[k, 0] * velocity[0] - turn[k, 1] * velocity[1] - turn[k, 2] * velocity[2]
    lift_and_torque(flyer, off, slow, push, turn, spin, heading, room[5:9], load)
    share_out(rotors, load, speeds)
    for k in range(len(rotors)):  # the effort beside it is what the air takes, so that no speed is lost to it
        efforts[k] = rotors[k].torque * speeds[k] * abs(speeds[k])
    return math.sqrt(off[0] * off[0] + off[1] * off[1] + off[2] * off[2])
