"""Constraints as rows: what each contact, joint stop and joint friction acts on, and how the plant answers.

A row r has a Jacobian J_r and an answer B_r = M⁻¹·J_rᵀ, each kept only for the one or two trees it acts on.
M is the joint-space inertia including the terms of damping and motors (see ``trees``).
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import NOW, STATUS_FINE, STATUS_FULL, UNFORCED
from veldrain.physics.spatial import add, cross, dot, minus, put, scaled, triple
from veldrain.physics.trees import project, respond

SLOW = 1e-3  # impacts slower than this (m/s), or than gravity makes in two steps, do not bounce
RECOVER = 0.2  # share of an overlap taken back in a step
RECOVER_SPEED = 1.0  # m/s, at most
TOLERATED = 1e-7  # m of overlap that is left alone


@kernel
def open_row(count, trees, tree_a, tree_b, rows, J, B):
    """Room for the next row that acts on two trees (−1: none, equal: one); its number, −1 without room."""
    if tree_b == tree_a:
        tree_b = -1
    size_a = trees[tree_a].dofs if tree_a >= 0 else 0
    size_b = trees[tree_b].dofs if tree_b >= 0 else 0
    start = count.room
    if count.rows == len(rows) or start + size_a + size_b > len(J):
        return -1
    row = rows[count.rows]
    row.dof_a, row.dofs_a, row.at_a = trees[max(tree_a, 0)].dof, size_a, start
    row.dof_b, row.dofs_b, row.at_b = trees[max(tree_b, 0)].dof, size_b, start + size_a
    for k in range(start, start + size_a + size_b):
        J[k] = 0.0
        B[k] = 0.0
    count.rows += 1
    count.room += size_a + size_b
    return count.rows - 1


@kernel
def row_velocity(row, J, v):
    """J_r·v."""
    # Slices first: an index that starts at zero is not checked for being negative, which halves the time.
    s = 0.0
    here, there = J[row.at_a : row.at_b], v[row.dof_a : row.dof_a + row.dofs_a]
    for k in range(len(here)):
        s += here[k] * there[k]
    if row.dofs_b > 0:
        here, there = J[row.at_b : row.at_b + row.dofs_b], v[row.dof_b : row.dof_b + row.dofs_b]
        for k in range(len(here)):
            s += here[k] * there[k]
    return s


@kernel
def apply_row(row, B, impulse, v):
    """v += B_r · impulse."""
    here, there = B[row.at_a : row.at_b], v[row.dof_a : row.dof_a + row.dofs_a]
    for k in range(len(here)):
        there[k] += here[k] * impulse
    if row.dofs_b > 0:
        here, there = B[row.at_b : row.at_b + row.dofs_b], v[row.dof_b : row.dof_b + row.dofs_b]
        for k in range(len(here)):
            there[k] += here[k] * impulse


@kernel
def three_velocities(row, J, v):
    """J·v of a row and of the two after it, which act on the same dofs: one pass for a contact's three."""
    x, y, z = 0.0, 0.0, 0.0
    size = row.dofs_a + row.dofs_b
    first, second, third = J[row.at_a :], J[row.at_a + size :], J[row.at_a + 2 * size :]
    there = v[row.dof_a : row.dof_a + row.dofs_a]
    for k in range(len(there)):
        x += first[k] * there[k]
        y += second[k] * there[k]
        z += third[k] * there[k]
    if row.dofs_b > 0:
        first, second, third = J[row.at_b :], J[row.at_b + size :], J[row.at_b + 2 * size :]
        there = v[row.dof_b : row.dof_b + row.dofs_b]
        for k in range(len(there)):
            x += first[k] * there[k]
            y += second[k] * there[k]
            z += third[k] * there[k]
    return x, y, z


@kernel
def apply_three(row, B, x, y, z, v):
    """v += B·impulses of a row and of the two after it."""
    size = row.dofs_a + row.dofs_b
    first, second, third = B[row.at_a :], B[row.at_a + size :], B[row.at_a + 2 * size :]
    there = v[row.dof_a : row.dof_a + row.dofs_a]
    for k in range(len(there)):
        there[k] += first[k] * x + second[k] * y + third[k] * z
    if row.dofs_b > 0:
        first, second, third = B[row.at_b :], B[row.at_b + size :], B[row.at_b + 2 * size :]
        there = v[row.dof_b : row.dof_b + row.dofs_b]
        for k in range(len(there)):
            there[k] += first[k] * x + second[k] * y + third[k] * z


@kernel
def row_product(one, other, J, B):
    """J_r·B_s of two rows on the same trees."""
    size = one.dofs_a + one.dofs_b
    here, there = J[one.at_a : one.at_a + size], B[other.at_a : other.at_a + size]
    total = 0.0
    for k in range(size):
        total += here[k] * there[k]
    return total


@kernel
def add_side(tree, nodes, node, row, wrench, sign, J, B):
    """Add one side of a row: a wrench (moment about the tree's reference, force) on a node."""
    at = row.at_a if row.dof_a == tree.dof and row.dofs_a > 0 else row.at_b
    end = at + tree.dofs
    project(tree, nodes, node, wrench, sign, J[at:end])
    x0, x1, x2, x3, x4, x5 = wrench
    signed = (sign * x0, sign * x1, sign * x2, sign * x3, sign * x4, sign * x5)
    respond(tree, nodes, node, signed, 0.0, B[at:end])


@kernel
def add_direction(count, trees, nodes, c, direction, turning, rows, J, B):
    """A row for the relative velocity (or, turning, spin) of a contact along a direction; False without room."""
    tree_a = nodes[c.node_a].tree if c.node_a >= 0 else -1
    tree_b = nodes[c.node_b].tree if c.node_b >= 0 else -1
    r = open_row(count, trees, tree_a, tree_b, rows, J, B)
    if r < 0:
        return False
    x, y, z = direction
    for side in range(2):
        node, tree, sign = (c.node_a, tree_a, 1.0) if side == 0 else (c.node_b, tree_b, -1.0)
        if node < 0:
            continue
        if turning:
            wrench = (x, y, z, 0.0, 0.0, 0.0)
        else:
            m = cross(minus(triple(c.point), triple(trees[tree].ref)), direction)
            wrench = (m[0], m[1], m[2], x, y, z)
        add_side(trees[tree], nodes, node, rows[r], wrench, sign, J, B)
    return True


@kernel
def build_contacts(count, trees, nodes, speeds, contacts, kept, rows, J, B, h):
    """Rows, gains and targets of all contacts, and the impulses of the last step to start from."""
    for k in range(count.kept):
        kept[k].used = 0
    for k in range(count.contacts):
        c = contacts[k]
        c.row = count.rows
        for axis in range(3):
            if not add_direction(count, trees, nodes, c, triple(c.frame[axis]), False, rows, J, B):
                return STATUS_FULL
        if c.surface[2] > 0.0:
            for axis in range(1, 3):
                if not add_direction(count, trees, nodes, c, triple(c.frame[axis]), True, rows, J, B):
                    return STATUS_FULL
        contact_mobility(c, rows, J, B)
        before, free = (
            row_velocity(rows[c.row], J, speeds[NOW]),
            row_velocity(rows[c.row], J, speeds[UNFORCED]),
        )
        contact_targets(c, before, free, h)
        recall(c, kept, count.kept)
    return STATUS_FINE


@kernel
def contact_mobility(c, rows, J, B):
    """What impulses of 1 do to the contact's own velocities.

    0–2: the normal impulse to the normal and both tangents; 3–5: friction's block xx, xy, yy; 6: its larger
    eigenvalue; 7: the larger of rolling's diagonal, twice, which is above its larger eigenvalue.
    """
    r, m = c.row, c.mobility
    n, t1, t2 = rows[r], rows[r + 1], rows[r + 2]
    m[0], m[1], m[2] = row_product(n, n, J, B), row_product(t1, n, J, B), row_product(t2, n, J, B)
    m[3], m[4], m[5] = row_product(t1, t1, J, B), row_product(t1, t2, J, B), row_product(t2, t2, J, B)
    m[6] = 0.5 * (m[3] + m[5]) + math.sqrt(0.25 * (m[3] - m[5]) ** 2 + m[4] * m[4])
    if c.surface[2] > 0.0:
        m[7] = row_product(rows[r + 3], rows[r + 3], J, B) + row_product(rows[r + 4], rows[r + 4], J, B)


@kernel
def contact_targets(c, before, free, h):
    """Least normal velocity after the step, and the same for the positions.

    Without bounce the gap may close in the step, no more. With it the step is split at the moment of impact t:
    the speed V then comes back as e·V and goes on under the same acceleration a, and the positions move by
    −gap + e·V·(h − t) + a·(h − t)²/2. Velocities of a semi-implicit step belong to half a step before its
    positions (it is the leapfrog written otherwise), so that v + a·h/2 is the speed at the start of the step.
    """
    a = (free - before) / h
    c.bounce = 0
    open_gap = max(c.gap, 0.0)
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
def recall(c, kept, end):
    """Start a contact from the impulse that the nearest contact of the same pair had in the last step."""
    for k in range(5):
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
    if c.surface[2] > 0.0:
        for k in range(1, 3):
            c.impulse[2 + k] = dot(triple(old.moment), triple(c.frame[k]))


@kernel
def build_joints(count, trees, nodes, dofs, q, v, joint_rows, rows, J, B, h):
    """Rows for joint stops that could be met in this step, and for joint friction."""
    for i in range(len(nodes)):
        n = nodes[i]
        dof = dofs[n.dof]
        if dof.coord < 0:
            continue
        reach = h * 2.0 * abs(v[n.dof]) + 1e-6
        most = h * dof.friction
        if most > 0.0 and not add_joint(count, trees, nodes, i, -most, most, 0.0, joint_rows, rows, J, B):
            return STATUS_FULL
        below, above = q[dof.coord] - dof.low, dof.high - q[dof.coord]
        if below < reach:
            target = -below / h if below > 0.0 else -RECOVER * below / h
            if not add_joint(count, trees, nodes, i, 0.0, math.inf, target, joint_rows, rows, J, B):
                return STATUS_FULL
        if above < reach:
            target = above / h if above > 0.0 else RECOVER * above / h
            if not add_joint(count, trees, nodes, i, -math.inf, 0.0, target, joint_rows, rows, J, B):
                return STATUS_FULL
    return STATUS_FINE


@kernel
def add_joint(count, trees, nodes, node, low, high, target, joint_rows, rows, J, B):
    """One row on a joint; the joint rows come first and are numbered as they are added."""
    n = nodes[node]
    tree = trees[n.tree]
    r = open_row(count, trees, n.tree, -1, rows, J, B)
    if r < 0:
        return False
    joint = joint_rows[count.joint_rows]
    joint.dof, joint.low, joint.high, joint.target, joint.impulse = n.dof, low, high, target, 0.0
    at = rows[r].at_a
    J[at + n.dof - tree.dof] = 1.0
    respond(tree, nodes, node, (0.0, 0.0, 0.0, 0.0, 0.0, 0.0), 1.0, B[at : at + tree.dofs])
    count.joint_rows += 1
    return True


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
        put(old.moment, add(scaled(t1, x[3]), scaled(t2, x[4])))
