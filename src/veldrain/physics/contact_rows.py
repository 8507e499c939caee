"""The rows of contacts: along the normal, across it, and against rolling and spinning; and what they are to reach."""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import NEW, NOW, STATUS_FINE, STATUS_FULL, UNFORCED
from veldrain.physics.rows import RECOVER, add_direction, gentle, row_product, row_velocity
from veldrain.physics.spatial import add, dot, minus, put, scaled, triple

SLOW = 1e-3  # impacts slower than this (m/s), or than gravity makes in two steps, do not bounce
TOLERATED = 1e-7  # m of gap or overlap that counts as touching
TINY = 1e-15  # 1/kg: what is below does not move
STEADY = 3.5  # rad²: below 4 the map of a step without damping stays bounded
LEAST_DRAG = 1e-6  # share of the speed that a spring takes away in a step


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
    add_swings(count, trees, nodes, contacts)
    for k in range(count.contacts):
        c = contacts[k]
        before, free = row_velocity(rows[c.row], J, speeds[NOW]), row_velocity(rows[c.row], J, speeds[UNFORCED])
        if c.surface[4] > 0.0 and c.mobility[0] > TINY:
            soften(c, before, (free - before) / h, h, swing_of(c, trees, nodes))
            recall(c, kept, count.kept)
            continue
        contact_targets(c, rows[c.row], B, before, free, h)
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
def add_swings(count, trees, nodes, contacts):
    """Sum up, tree by tree, the squares of what soft contacts would swing with: no swing of the tree is faster."""
    for t in range(len(trees)):
        trees[t].swing = 0.0
    for k in range(count.contacts):
        c = contacts[k]
        if c.surface[4] > 0.0:
            for node in (c.node_a, c.node_b):
                if node >= 0:
                    trees[nodes[node].tree].swing += c.mobility[0] / c.surface[4]


@kernel
def swing_of(c, trees, nodes):
    """The faster of the swings of a contact's two sides, rad²/s²."""
    one = trees[nodes[c.node_a].tree].swing if c.node_a >= 0 else 0.0
    other = trees[nodes[c.node_b].tree].swing if c.node_b >= 0 else 0.0
    return max(one, other)


@kernel
def soften(c, before, a, h, swing):
    """Make a contact a spring (k) and damper (c) that pushes only: a row with v⁺ + soft·λ ≥ target.

    The impulse is that of the spring, h·k·overlap, between two halves of the damper's exact decay e^{−c·m·h/2}, m being
    the contact's mobility (G. Strang, "On the construction and comparison of difference schemes", SIAM J. Numer. Anal.
    5(3), 1968): a spring alone keeps its energy, a damper takes what it should at any step, a weight sinks in by W/k.
    The overlap is its mean over h around the start of the step, so that touching and letting go need not fall on
    a step. Where swings are too fast for the step, h²·Σk·m > STEADY, the spring is taken at the end of the step, which
    is stable and loses energy; the check foretells it.
    """
    k, damping, m = 1.0 / c.surface[4], c.surface[5], c.mobility[0]
    c.bounce, c.target_shift = 0, -math.inf
    decay = damping * m * h
    if h * h * swing > STEADY or decay > 1.0:
        gain = h * k + (damping if c.gap <= 0.0 else 0.0)
        c.soft, c.target = 1.0 / (h * gain), -k * c.gap / gain
        return
    reach = 0.5 * h * abs(before + 0.5 * a * h)
    overlap, share = max(-c.gap, 0.0), 1.0 if c.gap < 0.0 else 0.0
    if abs(c.gap) < reach:
        overlap, share = (reach - c.gap) ** 2 / (4.0 * reach), (reach - c.gap) / (2.0 * reach)
    half = math.exp(0.5 * decay)
    drag = max(share * (half - 1.0) / m, LEAST_DRAG / m)
    c.soft, c.target = 1.0 / drag, (h * k * overlap - share * (1.0 - 1.0 / half) / m * before) / drag


@kernel
def contact_targets(c, row, B, before, free, h):
    """Least normal velocity after the step, and the same for the positions.

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
        c.target_shift = gentle(row, B, c.mobility[0], -RECOVER * c.gap / h)


@kernel
def weaken_bounces(count, speeds, contacts, rows, J, B, h):
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
            contact_targets(c, rows[c.row], B, before, bare, h)
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
        old.key, old.gap, old.rigid = c.key, c.gap, 1 if c.mobility[0] == 1.0 and c.target == -math.inf else 0
        n, t1, t2, x = triple(c.frame[0]), triple(c.frame[1]), triple(c.frame[2]), c.impulse
        put(old.point, triple(c.point))
        put(old.normal, n)
        put(old.impulse, add(add(scaled(n, x[0]), scaled(t1, x[1])), scaled(t2, x[2])))
        put(old.moment, add(add(scaled(t1, x[3]), scaled(t2, x[4])), scaled(n, x[5])))
