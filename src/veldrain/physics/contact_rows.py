"""The rows of contacts: along the normal, across it, and against rolling and spinning; and what they are to reach."""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import NEW, NOW, STATUS_FINE, STATUS_FULL, UNFORCED
from veldrain.physics.rows import RECOVER, add_direction, row_product, row_velocity
from veldrain.physics.spatial import add, dot, minus, put, scaled, triple

SLOW = 1e-3  # impacts slower than this (m/s), or than gravity makes in two steps, do not bounce
RECOVER_SPEED = 1.0  # m/s, at most
TOLERATED = 1e-7  # m of gap or overlap that counts as touching
TINY = 1e-15  # 1/kg: what is below does not move


@kernel
def build_contacts(count, trees, nodes, speeds, contacts, kept, rows, J, B, closed, h):
    """Rows, gains and targets of all contacts, and the impulses of the last step to start from."""
    for k in range(count.kept):
        kept[k].used = 0
    for k in range(count.contacts):
        c = contacts[k]
        c.row, c.rows = count.rows, 6 if c.surface[2] > 0.0 or c.surface[3] > 0.0 else 3
        for j in range(c.rows):  # the three directions; then turning about both tangents, and about the normal
            axis, turning = (j, False) if j < 3 else ((j + 1) % 3, True)
            along = triple(c.frame[axis])
            if not add_direction(
                count, trees, nodes, c.node_a, c.node_b, triple(c.point), along, turning, rows, J, B, closed
            ):
                return STATUS_FULL
        contact_mobility(c, rows, J, B)
        before, free = row_velocity(rows[c.row], J, speeds[NOW]), row_velocity(rows[c.row], J, speeds[UNFORCED])
        contact_targets(c, before, free, h)
        recall(c, kept, count.kept)
    return STATUS_FINE


@kernel
def contact_mobility(c, rows, J, B):
    """What impulses of 1 do to the contact's own velocities.

    0–2: the normal impulse to the normal and both tangents; 3–5: friction's block xx, xy, yy; 6: its larger
    eigenvalue; 7: the sum of rolling's diagonal, which is above its larger eigenvalue; 8: spinning.
    """
    r, m = c.row, c.mobility
    n, t1, t2 = rows[r], rows[r + 1], rows[r + 2]
    m[0], m[1], m[2] = row_product(n, n, J, B), row_product(t1, n, J, B), row_product(t2, n, J, B)
    m[3], m[4], m[5] = row_product(t1, t1, J, B), row_product(t1, t2, J, B), row_product(t2, t2, J, B)
    ridge = TINY + 1e-10 * (m[3] + m[5])  # one direction may be held by a joint
    m[3], m[5] = m[3] + ridge, m[5] + ridge
    m[6] = 0.5 * (m[3] + m[5]) + math.sqrt(0.25 * (m[3] - m[5]) ** 2 + m[4] * m[4])
    if c.rows == 6:
        m[7] = TINY + row_product(rows[r + 3], rows[r + 3], J, B) + row_product(rows[r + 4], rows[r + 4], J, B)
        m[8] = TINY + row_product(rows[r + 5], rows[r + 5], J, B)


@kernel
def contact_targets(c, before, free, h):
    """Least normal velocity after the step, and the same for the positions.

    A soft contact is a spring and damper taken at the end of the step: with stiffness k and damping c the
    impulse is −h·k·(gap + h·v⁺) − h·c·v⁺, which is a row with v⁺ + soft·λ ≥ target.

    Without bounce the gap may close in the step, no more. With it the step is split at the moment of impact t:
    the speed V then comes back as e·V and goes on under the same acceleration a, and the positions move by
    −gap + e·V·(h − t) + a·(h − t)²/2. Velocities of a semi-implicit step belong to half a step before its
    positions (it is the leapfrog written otherwise), so that v + a·h/2 is the speed at the start of the step.
    """
    a = (free - before) / h
    c.bounce, c.soft = 0, 0.0
    if c.mobility[0] <= TINY:  # held by joints on both sides: nothing gives way
        c.mobility[0], c.target, c.target_shift = 1.0, -math.inf, -math.inf
        return
    if c.surface[4] > 0.0:
        damping = c.surface[5] if c.gap <= 0.0 else 0.0
        gain = damping * c.surface[4] + h  # times the stiffness
        c.soft, c.target, c.target_shift = c.surface[4] / (h * gain), -c.gap / gain, -math.inf
        return
    open_gap = max(c.gap - TOLERATED, 0.0)
    e = c.surface[1]
    start = before + 0.5 * a * h
    if e > 0.0 and -before > max(SLOW, 2.0 * abs(a) * h) and open_gap + h * start < 0.0:
        t = open_gap / -(start + 0.5 * a * open_gap / -start)
        left = h - t
        up = -e * (start + a * t)
        c.bounce = 1
        c.target = max(up + a * (left - 0.5 * h), 0.0)
        c.target_shift = (-open_gap + (up + 0.5 * a * left) * left) / h
        return
    c.target = -open_gap / h
    c.target_shift = c.target
    if c.gap < -TOLERATED:
        c.target_shift = min(-RECOVER * c.gap / h, RECOVER_SPEED)


@kernel
def weaken_bounces(count, speeds, contacts, rows, J, h):
    """Halve the restitution of all bounces if the contacts would give more energy than they take; False: they don't.

    Newton's restitution can do that where friction reverses in the impact (T. R. Kane, D. A. Levinson, Dynamics:
    Theory and Applications, McGraw-Hill 1985). The work of an impulse is λ·(v⁻ + v⁺)/2.
    """
    bounces = 0
    for k in range(count.contacts):
        bounces += contacts[k].bounce
    if bounces == 0:
        return False
    work, scale = 0.0, 0.0
    free, new = speeds[UNFORCED], speeds[NEW]
    for k in range(count.contacts):
        c = contacts[k]
        for j in range(c.rows):
            if c.impulse[j] != 0.0:
                row = rows[c.row + j]
                part = 0.5 * c.impulse[j] * (row_velocity(row, J, free) + row_velocity(row, J, new))
                work += part
                scale += abs(part)
    if work <= 1e-9 * scale:
        return False
    for k in range(count.contacts):
        c = contacts[k]
        if c.bounce == 1:
            c.surface[1] *= 0.5
            before, bare = row_velocity(rows[c.row], J, speeds[NOW]), row_velocity(rows[c.row], J, free)
            contact_targets(c, before, bare, h)
    return True


@kernel
def recall(c, kept, end):
    """Start a contact from the impulse that the nearest contact of the same pair had in the last step."""
    for k in range(6):
        c.impulse[k] = 0.0
    if c.bounce == 1:
        return
    low, high = 0, end
    while low < high:
        middle = (low + high) // 2
        if kept[middle].key < c.key:
            low = middle + 1
        else:
            high = middle
    best, near = -1, 4e-4  # contacts move less than 2 cm in a step
    while low < end and kept[low].key == c.key:
        d = minus(triple(kept[low].point), triple(c.point))
        if dot(d, d) < near and kept[low].used == 0:
            best, near = low, dot(d, d)
        low += 1
    if best < 0:
        return
    old = kept[best]
    old.used = 1
    for k in range(3):
        c.impulse[k] = dot(triple(old.impulse), triple(c.frame[k]))
    c.impulse[0] = max(c.impulse[0], 0.0)
    if c.rows == 6:
        for k in range(3):
            c.impulse[3 + k] = dot(triple(old.moment), triple(c.frame[(k + 1) % 3]))


@kernel
def keep_contacts(count, contacts, kept):
    """Remember the contacts of this step, for the next one and for whoever asks."""
    count.kept = count.contacts
    for k in range(count.contacts):
        c, old = contacts[k], kept[k]
        old.key, old.gap = c.key, c.gap
        n, t1, t2, x = triple(c.frame[0]), triple(c.frame[1]), triple(c.frame[2]), c.impulse
        put(old.point, triple(c.point))
        put(old.normal, n)
        put(old.impulse, add(add(scaled(n, x[0]), scaled(t1, x[1])), scaled(t2, x[2])))
        put(old.moment, add(add(scaled(t1, x[3]), scaled(t2, x[4])), scaled(n, x[5])))
