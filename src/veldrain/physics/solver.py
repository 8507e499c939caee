"""One solver for contacts, joint stops, joint friction, ropes and springs: it works on the new velocities.

Contact: normal impulse λₙ ≥ 0, normal velocity vₙ ≥ target, λₙ·(vₙ − target) = 0 (Signorini); friction
|λₜ| ≤ µ·λₙ in the round cone, and where it slides λₜ is on the cone's edge and against the sliding (Coulomb).

Two ways to go take turns. A *sweep* (projected Gauss–Seidel) takes each contact in turn: the normal impulse that
its normal velocity asks for, then both friction impulses together, exactly: those that lose most energy in the disc
of radius µ·λₙ (J. J. Moreau, "Unilateral contact and dry friction in finite freedom dynamics", 1988), which is a
trust-region problem in two dimensions. Sweeps find out what opens and what slides. A *search* (conjugate
gradients over all rows that do neither, as far as they stay so) then settles what is left at once, which a
sweep hands on from body to body only: high stacks, a heavy body on a light one. (Z. Dostál, "Optimal Quadratic
Programming Algorithms", Springer 2009, chapter 5, takes turns in the same way.) A fixed point satisfies all of
it, and impulses kept from the last step make a body at rest start there, so that nothing creeps.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import NEW, PULL, SHIFT, UNFORCED
from veldrain.physics.rows import (
    RECOVER_SPEED,
    apply_row,
    apply_three,
    gentle,
    limit_velocity,
    row_velocity,
    three_velocities,
)

ROUNDS = 30  # of sweeps and searches in turn, at most
SWEEPS = 3  # of a round
SEARCHES = 80  # of a round: a heavy body on a light one needs many, others stop long before
EFFORT = 25_000  # contacts looked at in a step, about: a pile in motion need not be exact
SHIFTS = 20  # sweeps of positions: what is left of an overlap is taken in the next step
DRIFTS = 4  # sweeps of positions at least where contacts are kept from drifting
ENOUGH = 1e-8  # m/s (rad/s): a sweep that changes no velocity by more is the last
SMALL = 1e-7  # the same where a round of sweeps has not made it smaller: stresses that shift without motion
STIFFEST = 1e-12  # share of its rows' own mobility that a direction of search must move
EDGE = 1.0 - 1e-9  # share of the cone's edge, squared, from which on a contact slides
RELAXATION = 1.2  # of normal impulses: bodies on many contacts settle in half the sweeps


@kernel
def into_disc(x, y, radius):
    """The point of the disc nearest to (x, y)."""
    length = math.sqrt(x * x + y * y)
    if length <= radius:
        return x, y
    return x * radius / length, y * radius / length


@kernel
def sweep_limits(count, limits, rows, J, B, v):
    """One pass over joints, ropes and springs; gives the largest change of velocity."""
    most = 0.0
    for k in range(count.limits):
        limit = limits[k]
        row, x = rows[limit.row], limit.impulse
        away = limit_velocity(limit, row, J, v) + limit.soft * x - limit.target
        new = min(max(x - away / limit.mobility, limit.low), limit.high)
        change = new - x
        if change != 0.0:
            limit.impulse = new
            apply_row(row, B, change, v)
            most = max(most, abs(change) * limit.mobility)
    return most


@kernel
def sweep_contact(c, rows, J, B, v):
    """One contact: its normal, then its friction, rolling and spinning; gives the largest change of velocity."""
    x, m, row = c.impulse, c.mobility, rows[c.row]
    vn, v1, v2 = three_velocities(row, J, v)
    mu, gain = c.surface[0], m[0] + c.soft
    if x[1] * x[1] + x[2] * x[2] >= EDGE * mu * mu * x[0] * x[0]:
        gain += mu * math.sqrt(m[1] * m[1] + m[2] * m[2])  # sliding friction follows, and may push the same way
    relaxation = RELAXATION if c.soft == 0.0 else 1.0
    normal = max(0.0, x[0] - relaxation * (vn + c.soft * x[0] - c.target) / gain)
    dn = normal - x[0]
    fx = v1 + c.belt[0] + m[1] * dn - m[3] * x[1] - m[4] * x[2]
    fy = v2 + c.belt[1] + m[2] * dn - m[4] * x[1] - m[5] * x[2]
    a, b = least_in_disc(m[3], m[4], m[5], m[6], fx, fy, mu * normal)
    da, db = a - x[1], b - x[2]
    x[0], x[1], x[2] = normal, a, b
    if dn != 0.0 or da != 0.0 or db != 0.0:
        apply_three(row, B, dn, da, db, v)
    most = max(abs(dn) * m[0], max(abs(da), abs(db)) * m[6])
    if c.rows == 6:
        # Moments against rolling and spinning, no larger than their arms times the normal force.
        first, second, third = rows[c.row + 3], rows[c.row + 4], rows[c.row + 5]
        a, b = x[3] - row_velocity(first, J, v) / m[7], x[4] - row_velocity(second, J, v) / m[7]
        a, b = into_disc(a, b, c.surface[2] * normal)
        most = max(most, m[7] * max(abs(a - x[3]), abs(b - x[4])))
        apply_row(first, B, a - x[3], v)
        apply_row(second, B, b - x[4], v)
        x[3], x[4] = a, b
        limit = c.surface[3] * normal
        a = min(max(x[5] - row_velocity(third, J, v) / m[8], -limit), limit)
        most = max(most, m[8] * abs(a - x[5]))
        apply_row(third, B, a - x[5], v)
        x[5] = a
    return most


@kernel
def least_in_disc(a, b, d, largest, fx, fy, radius):
    """The λ in a disc with the least ½·λᵀDλ + fᵀλ, D = [[a, b], [b, d]].

    Inside it is −D⁻¹f. On the edge (D + κ)·λ = −f for the κ > 0 that gives |λ| the radius, found by Newton's
    method on 1/|λ| from below (J. J. Moré, D. C. Sorensen, "Computing a trust region step", SIAM J. Sci. Stat.
    Comput. 4(3), 1983).
    """
    if radius <= 0.0:
        return 0.0, 0.0
    det = a * d - b * b
    x, y = (b * fy - d * fx) / det, (b * fx - a * fy) / det
    if x * x + y * y <= radius * radius:
        return x, y
    shift = max(0.0, math.sqrt(fx * fx + fy * fy) / radius - largest)
    length = 0.0
    for _ in range(12):
        p, r = a + shift, d + shift
        det = p * r - b * b
        x, y = (b * fy - r * fx) / det, (b * fx - p * fy) / det
        length = math.sqrt(x * x + y * y)
        if abs(length - radius) < 1e-12 * radius:
            break
        curve = (x * (r * x - b * y) + y * (p * y - b * x)) / det
        shift = max(0.0, shift + (length - radius) / radius * length * length / curve)
    return x * radius / length, y * radius / length


@kernel
def sweep(count, contacts, limits, rows, J, B, v):
    """One pass over everything; gives the largest change of velocity."""
    most = sweep_limits(count, limits, rows, J, B, v)
    for k in range(count.contacts):
        most = max(most, sweep_contact(contacts[k], rows, J, B, v))
    return most


@kernel
def room_in_disc(x, y, px, py, radius, growth):
    """The largest step s for which (x, y) + s·(px, py) stays in the disc of radius + s·growth."""
    a = px * px + py * py - growth * growth
    b = x * px + y * py - radius * growth
    c = min(x * x + y * y - radius * radius, 0.0)
    root = b * b - a * c
    if root < 0.0:  # it never leaves
        return math.inf
    root = math.sqrt(root)
    if a > 0.0:
        return (-b + root) / a
    return -c / (b + root) if b > 0.0 else math.inf


@kernel
def aim_search(count, contacts, limits, rows, J, v, old):
    """Turn the direction of search to what is still wrong in all rows that neither open nor slide.

    old: the measure of the wrong of the search before, 0 at the first. Gives the new measure, 0 where nothing is wrong.
    """
    new, most = 0.0, 0.0
    for k in range(count.limits):
        limit = limits[k]
        free = limit.low < limit.impulse < limit.high
        wrong = limit.target - limit_velocity(limit, rows[limit.row], J, v) - limit.soft * limit.impulse
        if free:
            new += wrong * wrong / limit.mobility
            most = max(most, abs(wrong))
        limit.wrong = wrong / limit.mobility if free else 0.0
    for k in range(count.contacts):
        c = contacts[k]
        x, m, wrong = c.impulse, c.mobility, c.wrong
        wrong[0] = wrong[1] = wrong[2] = 0.0
        if x[0] <= 0.0:
            continue
        vn, v1, v2 = three_velocities(rows[c.row], J, v)
        a = c.target - vn - c.soft * x[0]
        wrong[0] = a / (m[0] + c.soft)
        new += a * wrong[0]
        most = max(most, abs(wrong[0]) * m[0])
        edge = c.surface[0] * x[0]
        if x[1] * x[1] + x[2] * x[2] < EDGE * edge * edge:
            a, b = -v1 - c.belt[0], -v2 - c.belt[1]
            wrong[1], wrong[2] = a / m[3], b / m[5]
            new += a * wrong[1] + b * wrong[2]
            most = max(most, max(abs(a), abs(b)))
    if most < 0.1 * ENOUGH:
        return 0.0
    turn = new / old if new < 4.0 * old else 0.0  # far more wrong than before: begin anew
    for k in range(count.limits):
        limits[k].pull = limits[k].wrong + turn * limits[k].pull
    for k in range(count.contacts):
        c = contacts[k]
        for j in range(3):
            c.pull[j] = c.wrong[j] + turn * c.pull[j]
    return new


@kernel
def search(count, contacts, limits, rows, J, B, v, move, measure):
    """One step along the direction of search, as far as no contact opens or begins to slide; True: it went all the way.

    move: (D,) the velocities that the direction gives.
    """
    for k in range(len(move)):
        move[k] = 0.0
    for k in range(count.limits):
        if limits[k].pull != 0.0:
            apply_row(rows[limits[k].row], B, limits[k].pull, move)
    for k in range(count.contacts):
        p = contacts[k].pull
        if p[0] != 0.0 or p[1] != 0.0 or p[2] != 0.0:
            apply_three(rows[contacts[k].row], B, p[0], p[1], p[2], move)
    curve, scale, most = 0.0, 0.0, math.inf
    for k in range(count.limits):
        limit = limits[k]
        p = limit.pull
        if p != 0.0:
            curve += p * (limit_velocity(limit, rows[limit.row], J, move) + limit.soft * p)
            scale += p * p * limit.mobility
            most = min(most, ((limit.high if p > 0.0 else limit.low) - limit.impulse) / p)
    for k in range(count.contacts):
        c = contacts[k]
        p, x = c.pull, c.impulse
        if p[0] == 0.0 and p[1] == 0.0 and p[2] == 0.0:
            continue
        vn, v1, v2 = three_velocities(rows[c.row], J, move)
        curve += p[0] * (vn + c.soft * p[0]) + p[1] * v1 + p[2] * v2
        scale += p[0] * p[0] * (c.mobility[0] + c.soft) + (p[1] * p[1] + p[2] * p[2]) * c.mobility[6]
        if p[0] < 0.0:
            most = min(most, -x[0] / p[0])
        if p[1] != 0.0 or p[2] != 0.0:
            most = min(most, room_in_disc(x[1], x[2], p[1], p[2], c.surface[0] * x[0], c.surface[0] * p[0]))
    if curve <= STIFFEST * scale:  # stresses that move nothing: there is no way to go
        return False
    whole = measure / curve
    step = min(whole, most)
    for k in range(len(move)):
        v[k] += step * move[k]
    for k in range(count.limits):
        limits[k].impulse += step * limits[k].pull
    for k in range(count.contacts):
        c = contacts[k]
        for j in range(3):
            c.impulse[j] += step * c.pull[j]
        c.impulse[0] = max(c.impulse[0], 0.0)
    return whole <= most


@kernel
def solve_velocities(count, speeds, contacts, limits, rows, J, B):
    """The impulses of all rows, from those kept, and the velocities that they give; False: the work allowed ran out."""
    v = speeds[NEW]
    for k in range(len(v)):
        v[k] = speeds[UNFORCED, k]
    for k in range(count.limits):
        if limits[k].impulse != 0.0:
            apply_row(rows[limits[k].row], B, limits[k].impulse, v)
    for k in range(count.contacts):
        c = contacts[k]
        for j in range(c.rows):
            if c.impulse[j] != 0.0:
                apply_row(rows[c.row + j], B, c.impulse[j], v)
    size = count.limits + count.contacts
    left = max(EFFORT // max(size, 1), SWEEPS)
    most, before = 0.0, math.inf
    for _ in range(ROUNDS):
        for _ in range(SWEEPS):
            count.sweeps += 1
            left -= 1
            most = sweep(count, contacts, limits, rows, J, B, v)
            if most < ENOUGH:
                return True
        if most < SMALL and most > 0.8 * before:
            return True
        before = most
        if left <= 0:
            return False
        measure = 0.0
        for _ in range(SEARCHES):
            measure = aim_search(count, contacts, limits, rows, J, v, measure)
            left -= 1
            if measure <= 0.0 or not search(count, contacts, limits, rows, J, B, v, speeds[PULL], measure):
                break
    return False


@kernel
def restrain(count, speeds, contacts, limits, rows, J, B):
    """Weaken impulses that are not solved to the end as far as they would make energy.

    The work of impulses λ that take velocities from u to v is λ·J(u + v)/2; solved to the end it is never above zero.
    With all of them scaled by s it is s·λ·Ju + s²·λ·J·B·λ/2: least at s = −λ·Ju / λ·J·B·λ.
    """
    v, move = speeds[NEW], speeds[PULL]
    for k in range(len(move)):
        move[k] = 0.0
    for k in range(count.limits):
        if limits[k].soft == 0.0:
            apply_row(rows[limits[k].row], B, limits[k].impulse, move)
    for k in range(count.contacts):
        c = contacts[k]
        if c.soft == 0.0:
            for j in range(c.rows):
                apply_row(rows[c.row + j], B, c.impulse[j], move)
    after, moved = 0.0, 0.0
    for k in range(count.limits):
        limit = limits[k]
        if limit.soft == 0.0:
            after += limit.impulse * row_velocity(rows[limit.row], J, v)
            moved += limit.impulse * row_velocity(rows[limit.row], J, move)
    for k in range(count.contacts):
        c = contacts[k]
        if c.soft == 0.0:
            for j in range(c.rows):
                after += c.impulse[j] * row_velocity(rows[c.row + j], J, v)
                moved += c.impulse[j] * row_velocity(rows[c.row + j], J, move)
            after += c.impulse[1] * c.belt[0] + c.impulse[2] * c.belt[1]
    if after - 0.5 * moved <= 1e-9 * moved:
        return
    keep = min(max((moved - after) / moved, 0.0), 1.0)
    for k in range(len(move)):
        v[k] -= (1.0 - keep) * move[k]
    for k in range(count.limits):
        if limits[k].soft == 0.0:
            limits[k].impulse *= keep
    for k in range(count.contacts):
        c = contacts[k]
        if c.soft == 0.0:
            for j in range(c.rows):
                c.impulse[j] *= keep


@kernel
def undo(row, shifted, target, soft_enough, mobility, low, high, J, B, new, shift):
    """Bring one row of positions to its target, between bounds; gives its impulse and the change of its speed.

    soft_enough: False where nothing holds the row back from being moved at any speed (a bounce).
    """
    wrong = target - row_velocity(row, J, new) - row_velocity(row, J, shift)
    if soft_enough:
        wrong = math.copysign(gentle(row, B, mobility, abs(wrong)), wrong)
    wanted = min(max(shifted + wrong / mobility, low), high)
    change = wanted - shifted
    if change != 0.0:
        apply_row(row, B, change, shift)
    return wanted, abs(change) * mobility


@kernel
def solve_positions(count, speeds, contacts, limits, rows, J, B, drifts):
    """What positions move beyond the new velocities: to undo overlap, at stops and ropes, and after a bounce.

    drifts: True where contacts that stick are to be kept from drifting (see ``drift``).

    It moves positions only, so that no energy comes from undoing an overlap, and slowly (see ``rows.gentle``).
    """
    new, shift = speeds[NEW], speeds[SHIFT]
    for k in range(len(shift)):
        shift[k] = 0.0
    needed, bounces = drifts, False
    for k in range(count.limits):
        limits[k].shift = 0.0
        needed = needed or limits[k].target_shift != limits[k].target
    for k in range(count.contacts):
        c = contacts[k]
        c.shift = 0.0
        bounces = bounces or c.bounce == 1
        needed = needed or c.bounce == 1 or c.target_shift > 0.0
    if not needed:
        return
    for turn in range(SHIFTS):
        most = 0.0
        for k in range(count.limits):
            limit = limits[k]
            if limit.positions == 1:
                limit.shift, changed = undo(
                    rows[limit.row],
                    limit.shift,
                    limit.target_shift,
                    True,
                    limit.mobility,
                    limit.low,
                    limit.high,
                    J,
                    B,
                    new,
                    shift,
                )
                most = max(most, changed)
        for k in range(count.contacts):
            c = contacts[k]
            if c.target_shift == -math.inf:
                continue
            c.shift, changed = undo(
                rows[c.row],
                c.shift,
                c.target_shift,
                c.bounce == 0,
                c.mobility[0],
                0.0 if c.bounce == 0 else -math.inf,
                math.inf,
                J,
                B,
                new,
                shift,
            )
            most = max(most, changed)
            if drifts and c.sticks == 1:
                for j in range(2):
                    row, mobility = rows[c.row + 1 + j], c.mobility[3 + 2 * j]
                    apply_row(row, B, (c.drift[j] - row_velocity(row, J, shift)) / mobility, shift)
        if most < 1e-6 and (not drifts or turn >= DRIFTS):
            break
    if bounces:
        return
    most = 0.0
    for k in range(len(shift)):
        most = max(most, abs(shift[k]))
    if most > RECOVER_SPEED:  # what cannot be undone gently is not undone at once
        for k in range(len(shift)):
            shift[k] *= RECOVER_SPEED / most
