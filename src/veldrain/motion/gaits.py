"""Gaits: where each foot of a walking body is at every moment of a step.

A foot stands for its share of a stride (the duty factor), and goes backwards under the body with the ground. It swings
for the rest, along a cubic that leaves and lands as fast as the ground goes there, under an arc of swing height.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.kernel import entry, kernel
from veldrain.pose import Array

GAITS = ("crawl", "trot", "tripod")
AHEAD = 0.2  # of a stride: so much before a foot is lifted the body begins to go over the others
NEARLY = 0.02  # m from where the body should be: it goes on at full pace
WAIT = 0.06  # s in its stance before a foot that feels nothing is let down
LET_DOWN = 0.15  # m/s

FOOT = np.dtype(
    [(name, np.float64, 3) for name in ("rest", "at", "lifted")]  # in the body's axes, m
    + [("offset", np.float64), ("lower", np.float64), ("since", np.float64)]  # lower: let down by, m
    + [
        (name, np.bool_) for name in ("stands", "blind", "feels", "found", "early")
    ]  # blind: it has no sensor that feels
)
STRIDE = np.dtype(
    [("moved", np.float64, 2), ("centre", np.float64, 2)]  # the body over its feet; the centre of mass, m
    + [(name, np.float64) for name in ("phase", "duty", "stride_time", "swing_height", "reach_down", "shift")]
)


def gait_offsets(gait: str, feet: Array) -> tuple[Array, float]:
    """When each foot is lifted, as shares of a stride, and the share of it that a foot is on the ground.

    ``crawl``: one after the other, from the rear to the front, side by side; ``trot``: those across from each other
    together; ``tripod``: three at a time, for six legs.

    Args:
        gait: one of ``GAITS``.
        feet: (n, 2) where they stand in the body: x forward, y to the left.
    """
    n = len(feet)
    side = np.where(feet[:, 1] > 0, 0, 1)
    rank = np.zeros(n, int)  # along its side, from the front
    for s in (0, 1):
        on = np.flatnonzero(side == s)
        rank[on[np.argsort(-feet[on, 0])]] = np.arange(len(on))
    if gait == "tripod" or gait == "trot":
        if gait == "tripod" and n != 6:
            raise VeldrainError(f"a tripod gait of {n} legs", where="gait", cure="use crawl or trot")
        return ((rank + side) % 2) * 0.5, 0.55
    each = 1.0 / n
    order = np.lexsort((side, -rank))  # rear to front, left before right
    offsets = np.zeros(n)
    if n == 4:  # rear, front of one side, then of the other: the body stays over three feet
        order = np.lexsort((-rank, side))
    offsets[order] = np.arange(n) * each
    return (1.0 - offsets) % 1.0, 1.0 - 0.9 * each


class Gait:
    """Feet of a walking body, in the body's axes: stepped on from tick to tick.

    Args:
        rest: (n, 3) where the feet stand by default.
        gait: crawl, trot or tripod.
        stride_time: of a whole stride, s.
        swing_height: of a foot over the ground, m.
        duty_factor: the share of a stride that a foot is on the ground. None: that of the gait.
        shift: how far the body goes over the feet that stand: 1 is all the way.
        reach_down: how far feet are let down to find the ground, m.
        centre: x and y of the centre of mass: walking, the feet are about it. None: about their middle.

    Attributes:
        feet: a row of ``FOOT`` each.
    """

    def __init__(
        self,
        rest: Array,
        gait: str,
        stride_time: float,
        swing_height: float,
        duty_factor: float | None = None,
        shift: float = 0.0,
        reach_down: float = 0.0,
        centre: Array | None = None,
    ) -> None:
        self.feet, self.stride = np.zeros(len(rest), FOOT), np.zeros(1, STRIDE)
        offsets, duty = gait_offsets(gait, rest[:, :2])
        for name, values in (("rest", rest), ("at", rest), ("lifted", rest), ("offset", offsets)):
            self.feet[name] = values
        for name in ("stands", "blind", "found"):
            self.feet[name] = True
        row = self.stride[0]
        row["duty"], row["stride_time"], row["swing_height"] = duty_factor or duty, stride_time, swing_height
        row["shift"], row["reach_down"] = shift, reach_down
        row["centre"] = rest[:, :2].mean(axis=0) if centre is None else centre

    def step(
        self,
        time: float,
        velocity: tuple[float, float, float],
        moves: bool,
        height: float,
        lean: Sequence[float],
        level: Sequence[float],
        out: Array,
    ) -> None:
        """Go on by a time (s) at a velocity (m/s forward, m/s sideways, rad/s), and say where the feet are.

        Which feet feel the ground is in ``feet["feels"]``; those that are ``blind`` never do.

        Args:
            time: s.
            velocity: of the body.
            moves: False lets it stand, all feet on the ground, once they are down.
            height: of the body, added to the standing height, m.
            lean: roll and pitch of the body over its feet, rad.
            level: roll and pitch that keep it level on a slope, rad: it goes to where it stands upright over its feet.
            out: (n, 3) is filled with the feet in the axes of the body as it leans, m.
        """
        vx, vy, w = velocity
        a, b, c, d = *lean, *level
        walk_on(self.stride[0], self.feet, time, vx, vy, w, moves, height, a, b, c, d, out)


@kernel
def stays(foot, phase, duty, ahead):
    """True for a foot that stands now and a share of a stride ahead."""
    at = phase + foot.offset + ahead
    return foot.stands and at - math.floor(at) < duty


@kernel
def shift_body(stride, feet, time, moves):
    """Bring the centre of mass over the feet that stay; how far it is from there, m."""
    x = y = middle_x = middle_y = 0.0
    count = 0
    for foot in feet:
        count += stays(foot, stride.phase, stride.duty, AHEAD)
    for foot in feet:
        if count == 0 or stays(foot, stride.phase, stride.duty, AHEAD):
            x += foot["at"][0]
            y += foot["at"][1]
        middle_x += foot.rest[0]
        middle_y += foot.rest[1]
    n = len(feet)
    held = n if count == 0 else count
    x, y = stride.shift * (x / held - middle_x / n), stride.shift * (y / held - middle_y / n)
    if moves:
        x, y = x + middle_x / n - stride.centre[0], y + middle_y / n - stride.centre[1]
    follows = min(1.0, 6.0 * time / stride.stride_time)
    stride.moved[0] += (x - stride.moved[0]) * follows
    stride.moved[1] += (y - stride.moved[1]) * follows
    return math.hypot(x - stride.moved[0], y - stride.moved[1])


@kernel
def swing(stride, foot, share, vx, vy, w):
    """Put a foot where it is at a share of its swing."""
    # It lands half a stance ahead of where it stands by default, and as fast as the ground goes there.
    rest, lifted, at = foot.rest, foot.lifted, foot["at"]
    smooth = share * share * (3.0 - 2.0 * share)
    leads = (share * (1.0 - share) ** 2 - share * share * (1.0 - share)) * (1.0 - stride.duty) * stride.stride_time
    for k in range(2):
        rate = vx - w * rest[1] if k == 0 else vy + w * rest[0]
        goal = rest[k] + 0.5 * stride.duty * stride.stride_time * rate
        at[k] = lifted[k] + smooth * (goal - lifted[k]) - leads * rate
    arc = 16.0 * (share * (1.0 - share)) ** 2  # it leaves and lands without a hit
    at[2] = lifted[2] + smooth * (rest[2] - lifted[2]) + stride.swing_height * arc


@kernel
def step_feet(stride, feet, time, vx, vy, w, moves):
    """Let all feet go on by a time."""
    all_stand = True
    for foot in feet:
        all_stand = all_stand and foot.stands
    if moves or not all_stand:
        stride.phase += time / stride.stride_time
        stride.phase -= math.floor(stride.phase)
    for n in range(len(feet)):
        foot = feet[n]
        phase = stride.phase + foot.offset
        phase -= math.floor(phase)
        share = (phase - stride.duty) / (1.0 - stride.duty)
        is_swinging = phase >= stride.duty and not (foot.stands and not moves)
        was_early = foot.early
        # One that has landed early, on something higher, stays where it is; all others come to the end of their swing.
        foot.early = is_swinging and not foot.stands and (foot.early or (share > 0.5 and foot.feels))
        if not is_swinging and not foot.stands and not was_early:
            swing(stride, foot, 1.0, vx, vy, w)
        if not is_swinging or foot.early:
            if not is_swinging:
                foot.stands = True
            x, y = foot["at"][0], foot["at"][1]
            foot["at"][0] = x - time * (vx - w * y)  # the ground goes backwards under the body
            foot["at"][1] = y - time * (vy + w * x)
            continue
        if foot.stands:
            foot.stands = False
            for k in range(3):
                foot.lifted[k] = foot["at"][k]
        swing(stride, foot, share, vx, vy, w)


@kernel
def find_ground(stride, feet, time, moves):
    """Let feet down that have come to their stance and felt no ground yet."""
    for n in range(len(feet)):
        foot = feet[n]
        if not foot.stands:
            foot.found, foot.since = False, 0.0
        elif foot.feels or foot.blind:
            foot.found = True
        foot.since += time
        if foot.stands and not foot.found and foot.since > WAIT and moves:
            foot.lower = max(foot.lower - LET_DOWN * time, -stride.reach_down)
        else:  # with time, all feet come back to their height
            foot.lower *= max(0.0, 1.0 - time / stride.stride_time)


@kernel
def across(roll, pitch, x, y, z):
    """A vector in the axes of a body that is rolled and pitched."""
    cr, sr, cp, sp = math.cos(roll), math.sin(roll), math.cos(pitch), math.sin(pitch)
    return cp * x - sp * z, sp * sr * x + cr * y + cp * sr * z, sp * cr * x - sr * y + cp * cr * z


@entry
def walk_on(stride, feet, time, vx, vy, w, moves, height, roll, pitch, level_roll, level_pitch, out):
    """One step of a gait, see ``Gait.step``."""
    behind = shift_body(stride, feet, time, moves)
    # No foot is lifted before the body has come over the others.
    pace = min(max(1.0 - (behind - NEARLY) / NEARLY, 0.0), 1.0) if moves else 1.0
    step_feet(stride, feet, pace * time, vx, vy, w, moves)
    find_ground(stride, feet, time, moves)
    x = y = z = 0.0
    for foot in feet:
        x += foot.rest[0] / len(feet)
        y += foot.rest[1] / len(feet)
        z += foot.rest[2] / len(feet)
    upright = across(level_roll, level_pitch, x, y, z)
    for n in range(len(feet)):
        at = feet[n]["at"]
        down = at[2] - height + feet[n].lower  # the body goes one way, and its feet the other
        found = across(roll + level_roll, pitch + level_pitch, at[0] - stride.moved[0], at[1] - stride.moved[1], down)
        out[n, 0], out[n, 1], out[n, 2] = found[0] + x - upright[0], found[1] + y - upright[1], found[2]
