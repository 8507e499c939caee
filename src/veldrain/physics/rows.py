"""Constraints as rows: what each of them acts on, and how the plant answers.

A row r has a Jacobian J_r and an answer B_r = M⁻¹·J_rᵀ, each kept only for the one or two trees it acts on.
M is the joint-space inertia including the terms of damping and motors (see ``trees``). Rows that always hold
(closed loops, mimic joints) come first and are eliminated from the answers of all others: see ``loops``.
"""

from __future__ import annotations

from veldrain.kernel import kernel
from veldrain.physics.responses import project, respond
from veldrain.physics.spatial import cross, minus, put, scaled, triple, turned

RECOVER = 0.2  # share of an overlap, or of what a stop or rope is beyond its end, taken back in a step
RECOVER_SPEED = 1.0  # m/s or rad/s: no degree of freedom is moved faster to undo it


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
    x0, x1, x2, x3, x4, x5 = wrench
    signed = (sign * x0, sign * x1, sign * x2, sign * x3, sign * x4, sign * x5)
    if tree.lone == 1:
        j, b = J[at:end], B[at:end]
        j[0], j[1], j[2], j[3], j[4], j[5] = signed
        put(b, turned(tree.root, triple(j)))
        put(b[3:6], scaled(triple(j[3:6]), 1.0 / nodes[node].mass))
        return
    project(tree, nodes, node, wrench, sign, J[at:end])
    respond(tree, nodes, node, signed, 0.0, B[at:end])


@kernel
def add_direction(count, trees, nodes, node_a, node_b, point, direction, turning, rows, J, B, closed):
    """A row for the velocity of a against b at a point (turning: their spin) along a direction; False: no room."""
    tree_a = nodes[node_a].tree if node_a >= 0 else -1
    tree_b = nodes[node_b].tree if node_b >= 0 else -1
    r = open_row(count, trees, tree_a, tree_b, rows, J, B)
    if r < 0:
        return False
    x, y, z = direction
    for side in range(2):
        node, tree, sign = (node_a, tree_a, 1.0) if side == 0 else (node_b, tree_b, -1.0)
        if node < 0:
            continue
        if turning:
            wrench = (x, y, z, 0.0, 0.0, 0.0)
        else:
            m = cross(minus(point, triple(trees[tree].ref)), direction)
            wrench = (m[0], m[1], m[2], x, y, z)
        add_side(trees[tree], nodes, node, rows[r], wrench, sign, J, B)
    if count.equals > 0:
        hold_closed(count.equals, rows[r], rows, J, B, closed)
    return True


@kernel
def solve_closed(closed, size, x):
    """Solve in place with the factor of the rows that always hold."""
    for r in range(size):
        s = x[r]
        for k in range(r):
            s -= closed[r, k] * x[k]
        x[r] = s * closed[r, r]
    for r in range(size - 1, -1, -1):
        s = x[r]
        for k in range(r + 1, size):
            s -= closed[k, r] * x[k]
        x[r] = s * closed[r, r]


@kernel
def common_part(closing, row):
    """Where the numbers of a row stand that belong to the tree of another row, which acts on one tree."""
    if row.dofs_a > 0 and row.dof_a == closing.dof_a:
        return row.at_a, row.at_a + row.dofs_a
    if row.dofs_b > 0 and row.dof_b == closing.dof_a:
        return row.at_b, row.at_b + row.dofs_b
    return 0, 0


@kernel
def hold_closed(size, row, rows, J, B, closed):
    """Eliminate the rows that always hold from the answer of another."""
    share = closed[len(closed) - 2]
    for e in range(size):
        at, end = common_part(rows[e], row)
        here, there = J[rows[e].at_a : rows[e].at_a + end - at], B[at:end]
        s = 0.0
        for k in range(len(there)):
            s += here[k] * there[k]
        share[e] = s
    solve_closed(closed, size, share)
    for e in range(size):
        at, end = common_part(rows[e], row)
        here, there = B[rows[e].at_a : rows[e].at_a + end - at], B[at:end]
        for k in range(len(there)):
            there[k] -= here[k] * share[e]


@kernel
def gentle(row, B, mobility, wanted):
    """The speed at which a row may be moved without a velocity, at most ``wanted``: see RECOVER_SPEED.

    A row that acts close to a joint's axis turns the joint far for little: it is undone slowly, or never.
    """
    most = 0.0
    for k in range(row.at_a, row.at_a + row.dofs_a + row.dofs_b):
        most = max(most, abs(B[k]))
    return min(wanted, RECOVER_SPEED * mobility / most) if most > 0.0 else 0.0


@kernel
def set_limit(count, dof, loop, low, high, target, soft, impulse, limits, rows, J, B):
    """Make the row added last one between two bounds: soft·impulse is added to its velocity.

    What lies beyond its end already comes back by its position alone, with no velocity: ``target_shift``.
    """
    limit, row = limits[count.limits], rows[count.rows - 1]
    limit.dof, limit.row, limit.loop = dof, count.rows - 1, loop
    limit.low, limit.high, limit.target, limit.soft = low, high, target, soft
    limit.mobility = row_product(row, row, J, B) + soft
    limit.target_shift = target
    limit.positions = 1 if low == 0.0 or high == 0.0 else 0  # a stop or a rope
    sign = 1.0 if low == 0.0 else -1.0  # of a stop or rope, which push one way
    if limit.positions == 1 and sign * target > 0.0:
        limit.target = 0.0
        limit.target_shift = sign * gentle(row, B, limit.mobility, RECOVER * sign * target)
    limit.impulse = min(max(impulse, low), high)
    count.limits += 1


@kernel
def limit_velocity(limit, row, J, v):
    """Velocity of a row between bounds; most are of a single joint."""
    return v[limit.dof] if limit.dof >= 0 else row_velocity(row, J, v)
