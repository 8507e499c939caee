"""One solver for contacts, joint stops and joint friction: projected Gauss–Seidel on the new velocities.

Contact: normal impulse λₙ ≥ 0, normal velocity vₙ ≥ target, λₙ·(vₙ − target) = 0 (Signorini); friction
|λₜ| ≤ µ·λₙ in the round cone, and where it slides λₜ is on the cone's edge and against the sliding (Coulomb).
Each contact in turn takes the normal impulse that its normal velocity asks for, then both friction impulses
together, exactly: those that lose most energy in the disc of radius µ·λₙ (J. J. Moreau, "Unilateral contact and
dry friction in finite freedom dynamics", 1988), which is a trust-region problem in two dimensions. A fixed
point of the sweep satisfies all of it, and impulses kept from the last step make a body at rest start there,
so that nothing creeps.
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import NEW, SHIFT, UNFORCED
from veldrain.physics.rows import apply_row, apply_three, row_velocity, three_velocities

SWEEPS = 100
ENOUGH = 1e-8  # m/s (rad/s): a sweep that changes no velocity by more is the last
RELAXATION = 1.2  # of normal impulses: bodies on many contacts settle in half the sweeps


@kernel
def into_disc(x, y, radius):
    """The point of the disc nearest to (x, y)."""
    length = math.sqrt(x * x + y * y)
    if length <= radius:
        return x, y
    return x * radius / length, y * radius / length


@kernel
def sweep_joints(count, joint_rows, rows, B, v):
    """One pass over stops and joint friction; gives the largest change of velocity."""
    most = 0.0
    for j in range(count.joint_rows):
        joint, row = joint_rows[j], rows[j]
        answer = B[row.at_a + joint.dof - row.dof_a]
        wanted = joint.impulse - (v[joint.dof] - joint.target) / answer
        new = min(max(wanted, joint.low), joint.high)
        change = new - joint.impulse
        if change != 0.0:
            joint.impulse = new
            apply_row(row, B, change, v)
            most = max(most, abs(change) * answer)
    return most


@kernel
def sweep_contact(c, rows, J, B, v):
    """One contact: its normal, then its friction, then its rolling; gives the largest change of velocity."""
    x, m, row = c.impulse, c.mobility, rows[c.row]
    vn, v1, v2 = three_velocities(row, J, v)
    normal = max(0.0, x[0] - RELAXATION * (vn - c.target) / m[0])
    dn = normal - x[0]
    fx = v1 + m[1] * dn - m[3] * x[1] - m[4] * x[2]
    fy = v2 + m[2] * dn - m[4] * x[1] - m[5] * x[2]
    a, b = least_in_disc(m[3], m[4], m[5], m[6], fx, fy, c.surface[0] * normal)
    da, db = a - x[1], b - x[2]
    x[0], x[1], x[2] = normal, a, b
    if dn != 0.0 or da != 0.0 or db != 0.0:
        apply_three(row, B, dn, da, db, v)
    most = max(abs(dn) * m[0], max(abs(da), abs(db)) * m[6])
    if c.surface[2] > 0.0:
        # Rolling: a moment against the turning, no larger than its arm times the normal force.
        first, second = rows[c.row + 3], rows[c.row + 4]
        a, b = x[3] - row_velocity(first, J, v) / m[7], x[4] - row_velocity(second, J, v) / m[7]
        a, b = into_disc(a, b, c.surface[2] * normal)
        most = max(most, m[7] * max(abs(a - x[3]), abs(b - x[4])))
        apply_row(first, B, a - x[3], v)
        apply_row(second, B, b - x[4], v)
        x[3], x[4] = a, b
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
def solve_velocities(count, speeds, contacts, joint_rows, rows, J, B):
    """The impulses of all rows, from those kept, and the velocities that they give."""
    v = speeds[NEW]
    for k in range(len(v)):
        v[k] = speeds[UNFORCED, k]
    if count.rows == 0:
        return
    for k in range(count.contacts):
        c = contacts[k]
        for j in range(5 if c.surface[2] > 0.0 else 3):
            if c.impulse[j] != 0.0:
                apply_row(rows[c.row + j], B, c.impulse[j], v)
    for _ in range(SWEEPS):
        most = sweep_joints(count, joint_rows, rows, B, v)
        for k in range(count.contacts):
            most = max(most, sweep_contact(contacts[k], rows, J, B, v))
        if most < ENOUGH:
            break


@kernel
def solve_positions(count, speeds, contacts, rows, J, B):
    """What positions move beyond the new velocities: to undo overlap, and after a bounce.

    It moves positions only, so that no energy comes from undoing an overlap.
    """
    new, shift = speeds[NEW], speeds[SHIFT]
    for k in range(len(shift)):
        shift[k] = 0.0
    needed = False
    for k in range(count.contacts):
        c = contacts[k]
        c.shift = 0.0
        needed = needed or c.bounce == 1 or c.target_shift > 0.0
    if not needed:
        return
    for _ in range(SWEEPS):
        most = 0.0
        for k in range(count.contacts):
            c = contacts[k]
            row = rows[c.row]
            moving = row_velocity(row, J, new) + row_velocity(row, J, shift)
            wanted = c.shift - (moving - c.target_shift) / c.mobility[0]
            if c.bounce == 0:
                wanted = max(0.0, wanted)
            change = wanted - c.shift
            if change != 0.0:
                c.shift = wanted
                apply_row(row, B, change, shift)
                most = max(most, abs(change) * c.mobility[0])
        if most < 1e-6:
            break
