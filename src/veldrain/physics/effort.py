"""The least effort: of all forces that hold things alike, those with the least sum of squares.

Four feet on a floor, or a block between two fingers, can be held in many ways: all impulses λ + p with A·p = 0,
A = J·M⁻¹·Jᵀ, give the same motion. A solver that goes on from the last step keeps whatever stress it came with. From
time to time, while nothing changes, the part that moves nothing is taken out: λ becomes the solution of A·y = A·λ
that conjugate gradients find from y = 0, which is the shortest one (M. R. Hestenes, E. Stiefel, "Methods of conjugate
gradients for solving linear systems", J. Res. NBS 49(6), 1952, section 10), as far as contacts still press and stay
inside their cones. It is unique, and symmetric for what is symmetric.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import NEW, PULL
from veldrain.physics.rows import apply_row, apply_three, limit_velocity, row_velocity, three_velocities
from veldrain.physics.solver import EDGE, room_in_disc
from veldrain.physics.spatial import dot

EVERY = 0.01  # s between looks while stresses are being taken out
MOST_STEPS = 40  # of conjugate gradients
PASSES = 8  # each after the first goes on without the contacts that would open or slide
FEW = 24  # contacts: more that slide are shared out EVERY, others at once
CLOSE = 1e-7  # m/s: a contact that opens more slowly touches, and may share the load
UNEVEN = 1e-3  # share of the largest impulse: a larger change turns the ways that contacts slide
RESTS = 6  # at most 2⁶ times EVERY between two looks at what does not change
FIXED, NORMAL, STICKS, SLIDES = 0, 1, 2, 3  # what of a contact may change; friction that slides goes with its normal


@kernel
def is_due(count, h, quiet):
    """True where stresses are to be looked at after this step."""
    if count.contacts != count.eased_contacts:
        count.eased_contacts, count.eased_rests, count.eased_next = count.contacts, 0, count.step
    return quiet and count.contacts > 1 and count.step >= count.eased_next


@kernel
def slides(count, contacts, rows, J, v, h):
    """True where contacts slide that are to be looked at after this step; they are marked (see ``choose_free``)."""
    if count.contacts != count.shared_contacts:
        wait = round(EVERY / h) if count.contacts > FEW else 0
        count.shared_contacts, count.shared_rests, count.shared_next = count.contacts, 0, count.step + wait
    if count.contacts < 2 or count.step < count.shared_next:
        return False
    found = 0
    for k in range(count.contacts):
        c = contacts[k]
        c.free = FIXED
        if c.soft > 0.0 or c.bounce == 1 or c.target == -math.inf or c.impulse[0] <= 0.0:
            continue
        if c.surface[0] == 0.0:
            c.free = NORMAL
        elif is_inside(c) or creeps(c, rows, J, v):
            c.free = STICKS
        else:
            c.free = SLIDES
            c.slope[0], c.slope[1] = c.impulse[1] / c.impulse[0], c.impulse[2] / c.impulse[0]
            found += 1
    return found > 0


@kernel
def choose_free(count, contacts, limits, rows, J, v):
    """Mark what may change: contacts that press or touch, friction in its cone, joint friction in its bounds."""
    for k in range(count.limits):
        limit = limits[k]
        limit.free = 1 if limit.low < limit.impulse < limit.high and limit.soft == 0.0 else 0
    for k in range(count.contacts):
        c = contacts[k]
        x, mu = c.impulse, c.surface[0]
        c.free = FIXED
        if c.soft > 0.0 or c.bounce == 1 or c.target == -math.inf:
            continue
        if x[0] <= 0.0 and row_velocity(rows[c.row], J, v) - c.target > CLOSE:
            continue
        if mu == 0.0:
            c.free = NORMAL
        elif is_inside(c) or x[0] <= 0.0 or creeps(c, rows, J, v):
            c.free = STICKS


@kernel
def is_inside(c):
    """True where friction is inside its cone."""
    x, edge = c.impulse, c.surface[0] * c.impulse[0]
    return x[1] * x[1] + x[2] * x[2] < EDGE * edge * edge


@kernel
def creeps(c, rows, J, v):
    """True where a contact does not slide, wherever in its cone friction is."""
    _, x, y = three_velocities(rows[c.row], J, v)
    return abs(x + c.belt[0]) + abs(y + c.belt[1]) < CLOSE


@kernel
def move_by(count, contacts, limits, rows, B, way, move):
    """move = velocities from what is in ``pull`` (way 0), or from the impulses of what is free (way 1)."""
    for k in range(len(move)):
        move[k] = 0.0
    for k in range(count.limits):
        limit = limits[k]
        if limit.free == 1:
            apply_row(rows[limit.row], B, limit.pull if way == 0 else limit.impulse, move)
    for k in range(count.contacts):
        c = contacts[k]
        p = c.pull[0:3] if way == 0 else c.impulse[0:3]
        if c.free == STICKS:
            apply_three(rows[c.row], B, p[0], p[1], p[2], move)
        elif c.free == NORMAL:
            apply_row(rows[c.row], B, p[0], move)


@kernel
def shortest(count, contacts, limits, rows, J, B, move):
    """Fill ``ease`` with the shortest impulses that move everything as those of what is free do."""
    move_by(count, contacts, limits, rows, B, 1, move)
    size = 0.0
    for k in range(count.limits):
        limit = limits[k]
        limit.ease, limit.wrong, limit.pull = 0.0, 0.0, 0.0
        if limit.free == 1:
            limit.wrong = limit_velocity(limit, rows[limit.row], J, move)
            limit.pull = limit.wrong
            size += limit.wrong * limit.wrong
    for k in range(count.contacts):
        c = contacts[k]
        for j in range(3):
            c.ease[j], c.wrong[j] = 0.0, 0.0
        if c.free == STICKS:
            c.wrong[0], c.wrong[1], c.wrong[2] = three_velocities(rows[c.row], J, move)
        elif c.free == NORMAL:
            c.wrong[0] = row_velocity(rows[c.row], J, move)
        for j in range(3):
            c.pull[j] = c.wrong[j]
            size += c.wrong[j] * c.wrong[j]
    enough = 1e-18 * size
    for _ in range(MOST_STEPS):
        if size <= enough:
            break
        move_by(count, contacts, limits, rows, B, 0, move)
        curve = 0.0
        for k in range(count.limits):
            if limits[k].free == 1:
                limits[k].away = limit_velocity(limits[k], rows[limits[k].row], J, move)
                curve += limits[k].pull * limits[k].away
        for k in range(count.contacts):
            c = contacts[k]
            away = c.away
            if c.free == STICKS:
                away[0], away[1], away[2] = three_velocities(rows[c.row], J, move)
            elif c.free == NORMAL:
                away[0], away[1], away[2] = row_velocity(rows[c.row], J, move), 0.0, 0.0
            else:
                continue
            curve += c.pull[0] * away[0] + c.pull[1] * away[1] + c.pull[2] * away[2]
        if curve <= 0.0:
            break
        step, new = size / curve, 0.0
        for k in range(count.limits):
            limit = limits[k]
            if limit.free == 1:
                limit.ease += step * limit.pull
                limit.wrong -= step * limit.away
                new += limit.wrong * limit.wrong
        for k in range(count.contacts):
            c = contacts[k]
            if c.free != FIXED:
                for j in range(3):
                    c.ease[j] += step * c.pull[j]
                    c.wrong[j] -= step * c.away[j]
                    new += c.wrong[j] * c.wrong[j]
        turn = new / size
        size = new
        for k in range(count.limits):
            limits[k].pull = limits[k].wrong + turn * limits[k].pull
        for k in range(count.contacts):
            c = contacts[k]
            for j in range(3):
                c.pull[j] = c.wrong[j] + turn * c.pull[j]


@kernel
def put_along(c, rows, B, p, move):
    """Add the velocities of impulses: of three where a contact sticks, else of a normal one and its friction."""
    if c.free == STICKS:
        apply_three(rows[c.row], B, p[0], p[1], p[2], move)
    elif c.free == SLIDES:
        apply_three(rows[c.row], B, p[0], p[0] * c.slope[0], p[0] * c.slope[1], move)
    else:
        apply_row(rows[c.row], B, p[0], move)


@kernel
def share_out(count, speeds, contacts, rows, J, B, h):
    """Give contacts that slide the least effort, friction with each normal; True: it is to be solved again.

    How a body that slides bears on its contacts is open, too: normal velocities alone say what the normal impulses are,
    and turns of wheels then follow from the friction. Of all impulses λ with C·λ as it is, of normal velocities and of
    those of contacts that stick, the least are found by Craig's method (E. J. Craig, "The N-step iteration procedures",
    J. Math. Phys. 34, 1955): λ = Cᵀ·y. What a body does may change by that; the solver goes on from there.
    """
    v, move = speeds[NEW], speeds[PULL]
    size = 0.0
    for k in range(len(move)):
        move[k] = 0.0
    for k in range(count.contacts):
        if contacts[k].free != FIXED:
            put_along(contacts[k], rows, B, contacts[k].impulse[0:3], move)
    for k in range(count.contacts):
        c = contacts[k]
        for j in range(3):
            c.ease[j] = c.wrong[j] = c.pull[j] = 0.0
        if c.free == FIXED:
            continue
        vn, v1, v2 = three_velocities(rows[c.row], J, move)
        c.wrong[0] = vn
        if c.free == STICKS:
            c.wrong[1], c.wrong[2] = v1, v2
        size += dot(c.wrong, c.wrong)
    enough, turn = 1e-14 * size, 0.0
    for _ in range(MOST_STEPS):
        if size <= enough:
            break
        for k in range(len(move)):
            move[k] = 0.0
        for k in range(count.contacts):  # Cᵀ: impulses of what is kept …
            c = contacts[k]
            if c.free == STICKS:
                apply_three(rows[c.row], B, c.wrong[0], c.wrong[1], c.wrong[2], move)
            elif c.free != FIXED:
                apply_row(rows[c.row], B, c.wrong[0], move)
        length = 0.0
        for k in range(count.contacts):  # … and velocities along what may change
            c = contacts[k]
            if c.free == FIXED:
                continue
            vn, v1, v2 = three_velocities(rows[c.row], J, move)
            if c.free == SLIDES:
                vn, v1, v2 = vn + c.slope[0] * v1 + c.slope[1] * v2, 0.0, 0.0
            elif c.free == NORMAL:
                v1, v2 = 0.0, 0.0
            c.pull[0], c.pull[1], c.pull[2] = vn + turn * c.pull[0], v1 + turn * c.pull[1], v2 + turn * c.pull[2]
            length += dot(c.pull, c.pull)
        if length <= 0.0:
            break
        step, new = size / length, 0.0
        for k in range(len(move)):
            move[k] = 0.0
        for k in range(count.contacts):
            if contacts[k].free != FIXED:
                put_along(contacts[k], rows, B, contacts[k].pull, move)
        for k in range(count.contacts):
            c = contacts[k]
            if c.free == FIXED:
                continue
            vn, v1, v2 = three_velocities(rows[c.row], J, move)
            c.wrong[0] -= step * vn
            if c.free == STICKS:
                c.wrong[1] -= step * v1
                c.wrong[2] -= step * v2
            for j in range(3):
                c.ease[j] += step * c.pull[j]
            new += dot(c.wrong, c.wrong)
        turn, size = new / size, new
    share, changed, largest = 1.0, 0.0, 0.0
    for k in range(count.contacts):
        c = contacts[k]
        if c.free == FIXED:
            continue
        x, p, mu = c.impulse, c.pull, c.surface[0]
        for j in range(3):
            p[j] = c.ease[j] - x[j]
        if p[0] < 0.0:
            share = min(share, -x[0] / p[0])
        if c.free == STICKS:
            share = min(share, room_in_disc(x[1], x[2], p[1], p[2], mu * x[0], mu * p[0]))
        changed, largest = max(changed, abs(p[0])), max(largest, x[0])
    share = max(share, 0.0)
    for k in range(len(move)):
        move[k] = 0.0
    for k in range(count.contacts):
        c = contacts[k]
        if c.free == FIXED:
            continue
        x, p = c.impulse, c.pull
        for j in range(3):
            p[j] *= share
        put_along(c, rows, B, p, move)
        if c.free == SLIDES:
            p[1], p[2] = p[0] * c.slope[0], p[0] * c.slope[1]
        elif c.free == NORMAL:
            p[1], p[2] = 0.0, 0.0
        for j in range(3):
            x[j] += p[j]
        x[0] = max(x[0], 0.0)
    for k in range(len(v)):
        v[k] += move[k]
    # Where little changes, it is looked at less and less often.
    most = max(1, round(EVERY / h))
    is_uneven = share * changed > UNEVEN * largest
    count.shared_rests = 0 if is_uneven else min(max(2 * count.shared_rests, 1), most)
    count.shared_next = count.step + (most if count.contacts > FEW else count.shared_rests)
    return is_uneven


@kernel
def how_far(count, contacts, limits):
    """Turn ``ease`` into ``pull``, the way to it, and give the share of it that keeps every contact in its cone.

    A contact that would pull or slide from the start is fixed, and the share is then −1: look again without it.
    """
    share, opens = 1.0, False
    for k in range(count.limits):
        limit = limits[k]
        p = limit.ease - limit.impulse if limit.free == 1 else 0.0
        limit.pull = p
        if p != 0.0:
            share = min(share, ((limit.high if p > 0.0 else limit.low) - limit.impulse) / p)
    for k in range(count.contacts):
        c = contacts[k]
        if c.free == FIXED:
            continue
        x, p, mu = c.impulse, c.pull, c.surface[0]
        for j in range(3):
            p[j] = c.ease[j] - x[j]
        along = x[1] * p[1] + x[2] * p[2]
        if (x[0] <= 0.0 and (p[0] < 0.0 or p[1] * p[1] + p[2] * p[2] > mu * mu * p[0] * p[0])) or (
            c.free == STICKS and x[0] > 0.0 and not is_inside(c) and along > mu * mu * x[0] * p[0]
        ):
            c.free, opens = FIXED, True
        elif p[0] < 0.0:
            share = min(share, -x[0] / p[0])
        if c.free == STICKS and x[0] > 0.0:
            share = min(share, room_in_disc(x[1], x[2], p[1], p[2], mu * x[0], mu * p[0]))
    return -1.0 if opens else max(share, 0.0)


@kernel
def ease(count, speeds, contacts, limits, rows, J, B, h):
    """Take out what moves nothing, and set when to look again."""
    v, move = speeds[NEW], speeds[PULL]
    choose_free(count, contacts, limits, rows, J, v)
    changed = 0.0
    for _ in range(PASSES):
        shortest(count, contacts, limits, rows, J, B, move)
        share = how_far(count, contacts, limits)
        if share < 0.0:
            continue
        for k in range(count.limits):
            limits[k].pull *= share if limits[k].free == 1 else 0.0
            limits[k].impulse += limits[k].pull
        for k in range(count.contacts):
            c = contacts[k]
            if c.free == FIXED:
                continue
            x, p = c.impulse, c.pull
            for j in range(3):
                p[j] *= share
                changed = max(changed, abs(p[j]) / (1e-12 + abs(x[0])))
                x[j] += p[j]
            x[0] = max(x[0], 0.0)
        move_by(count, contacts, limits, rows, B, 0, move)
        for k in range(len(v)):
            v[k] += move[k]
        if share == 1.0:
            break
    count.eased_rests = 0 if changed > 1e-3 else min(count.eased_rests + 1, RESTS)
    count.eased_next = count.step + max(1, round(EVERY / h)) * 2**count.eased_rests
