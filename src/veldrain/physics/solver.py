"""One solver for contacts, joint stops and joint friction: projected Gauss–Seidel on the new velocities.

Contact: normal impulse λₙ ≥ 0, normal velocity vₙ ≥ target, λₙ·(vₙ − target) = 0 (Signorini); friction
|λₜ| ≤ µ·λₙ in the round cone, and where it slides λₜ is on the cone's edge and against the sliding (Coulomb).
Each contact takes its normal row, then both friction rows together: the impulse that would stop the sliding,
brought back into the disc of radius µ·λₙ (J. J. Moreau's projection form of Coulomb's law, 1988). A fixed
point of the sweep satisfies all of it exactly, and impulses kept from the last step make a body at rest start
there, so that nothing creeps.
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.rows import apply_row, row_velocity

SWEEPS = 80
ENOUGH = 1e-9  # m/s (rad/s): a sweep that changes no velocity by more is the last


@kernel
def start_from_kept(work):  # type: ignore[no-untyped-def]
    """The new velocities with the impulses kept from the last step."""
    for k in range(len(work.v_free)):
        work.v_new[k] = work.v_free[k]
    for c in range(work.counts[0]):
        for k in range(5 if work.c_surface[c, 2] > 0.0 else 3):
            if work.c_lambda[c, k] != 0.0:
                apply_row(work, work.c_row[c] + k, work.c_lambda[c, k], work.v_new)


@kernel
def sweep_joints(work, v):  # type: ignore[no-untyped-def]
    """One pass over stops and joint friction; gives the largest change of velocity."""
    most = 0.0
    for j in range(work.counts[1]):
        bound, dof = work.j_bound[j], work.j_dof[j]
        answer = work.B[work.seg[j, 2] + dof - work.seg[j, 0]]
        wanted = bound[3] - (v[dof] - bound[2]) / answer
        new = min(max(wanted, bound[0]), bound[1])
        change = new - bound[3]
        if change != 0.0:
            bound[3] = new
            apply_row(work, j, change, v)
            most = max(most, abs(change) * answer)
    return most


@kernel
def sweep_contact(work, c, v):  # type: ignore[no-untyped-def]
    """One contact: its normal, then its friction, then its rolling; gives the largest change of velocity."""
    lam, gain, surface, r = work.c_lambda[c], work.c_gain[c], work.c_surface[c], work.c_row[c]
    new = max(0.0, lam[0] - gain[0] * (row_velocity(work, r, v) - work.c_target[c, 0]))
    change = new - lam[0]
    most = abs(change) / gain[0]
    if change != 0.0:
        lam[0] = new
        apply_row(work, r, change, v)
    most = max(most, sweep_friction(work, lam, gain, surface[0] * new, r, v))
    if surface[2] > 0.0:
        # Rolling: a moment against the turning, no larger than its arm times the normal force.
        x = lam[3] - gain[5] * row_velocity(work, r + 3, v)
        y = lam[4] - gain[5] * row_velocity(work, r + 4, v)
        x, y = into_disc(x, y, surface[2] * new)
        most = max(most, replace(work, lam, 3, x, r + 3, v) / gain[5])
        most = max(most, replace(work, lam, 4, y, r + 4, v) / gain[5])
    return most


@kernel
def sweep_friction(work, lam, gain, radius, r, v):  # type: ignore[no-untyped-def]
    """Friction of one contact: the impulse that stops it if the disc allows, else on the disc's edge."""
    if radius == 0.0 and lam[1] == 0.0 and lam[2] == 0.0:
        return 0.0
    v1, v2 = row_velocity(work, r + 1, v), row_velocity(work, r + 2, v)
    x = lam[1] - gain[1] * v1 - gain[2] * v2
    y = lam[2] - gain[2] * v1 - gain[3] * v2
    if x * x + y * y > radius * radius:
        x, y = into_disc(lam[1] - gain[4] * v1, lam[2] - gain[4] * v2, radius)
    most = replace(work, lam, 1, x, r + 1, v)
    return max(most, replace(work, lam, 2, y, r + 2, v)) / gain[4]


@kernel
def into_disc(x, y, radius):  # type: ignore[no-untyped-def]
    """The point of the disc nearest to (x, y)."""
    length = math.sqrt(x * x + y * y)
    if length <= radius:
        return x, y
    return x * radius / length, y * radius / length


@kernel
def replace(work, lam, k, new, r, v):  # type: ignore[no-untyped-def]
    """Put a new impulse in place of the old one; gives the size of the change."""
    change = new - lam[k]
    if change != 0.0:
        lam[k] = new
        apply_row(work, r, change, v)
    return abs(change)


@kernel
def solve_velocities(work):  # type: ignore[no-untyped-def]
    """The impulses of all rows, and the velocities they give, in work.v_new."""
    start_from_kept(work)
    if work.counts[2] == 0:
        return
    for _ in range(SWEEPS):
        most = sweep_joints(work, work.v_new)
        for c in range(work.counts[0]):
            most = max(most, sweep_contact(work, c, work.v_new))
        if most < ENOUGH:
            break


@kernel
def solve_positions(work, h):  # type: ignore[no-untyped-def]
    """What positions move beyond the new velocities, in work.shift: to undo overlap, and after a bounce.

    It moves positions only, so that no energy comes from undoing an overlap.
    """
    for k in range(len(work.shift)):
        work.shift[k] = 0.0
    needed = False
    for c in range(work.counts[0]):
        work.c_lambda_shift[c] = 0.0
        if work.c_bounce[c] == 1 or work.c_target[c, 1] > 0.0:
            needed = True
    if not needed:
        return
    for _ in range(SWEEPS):
        most = 0.0
        for c in range(work.counts[0]):
            r, gain, old = work.c_row[c], work.c_gain[c, 0], work.c_lambda_shift[c]
            moving = row_velocity(work, r, work.v_new) + row_velocity(work, r, work.shift)
            new = old - gain * (moving - work.c_target[c, 1])
            if work.c_bounce[c] == 0:
                new = max(0.0, new)
            if new != old:
                work.c_lambda_shift[c] = new
                apply_row(work, r, new - old, work.shift)
                most = max(most, abs(new - old) / gain)
        if most < 1e-6:
            break
