"""Constraints as rows: what each contact, joint stop and joint friction acts on, and how the plant answers.

A row r has a Jacobian J_r and an answer B_r = M⁻¹·J_rᵀ, each kept only for the one or two trees it acts on.
M is the joint-space inertia including the terms of damping and motors (see ``trees``).
"""

from __future__ import annotations

import math

from veldrain.physics.kernel import kernel
from veldrain.physics.plant import STATUS_FINE, STATUS_FULL
from veldrain.physics.spatial import across, add, cross, dot, minus, scaled, triple
from veldrain.physics.trees import local_point, project, respond

SLOW = 1e-3  # impacts slower than this (m/s), or than gravity makes in two steps, do not bounce
RECOVER = 0.2  # share of an overlap taken back in a step
RECOVER_SPEED = 1.0  # m/s, at most
TOLERATED = 1e-7  # m of overlap that is left alone


@kernel
def open_row(plant, work, tree_a, tree_b):  # type: ignore[no-untyped-def]
    """Room for the next row that acts on two trees (−1: none, equal: one); its number, −1 without room."""
    r, at = work.counts[2], work.counts[3]
    seg = work.seg[r] if r < len(work.seg) else work.seg[0]
    if tree_b == tree_a:
        tree_b = -1
    size_a = plant.tree_dof[tree_a + 1] - plant.tree_dof[tree_a] if tree_a >= 0 else 0
    size_b = plant.tree_dof[tree_b + 1] - plant.tree_dof[tree_b] if tree_b >= 0 else 0
    if r >= len(work.seg) or at + size_a + size_b > len(work.J):
        return -1
    seg[0], seg[1], seg[2] = plant.tree_dof[max(tree_a, 0)], size_a, at
    seg[3], seg[4], seg[5] = plant.tree_dof[max(tree_b, 0)], size_b, at + size_a
    for k in range(at, at + size_a + size_b):
        work.J[k] = 0.0
        work.B[k] = 0.0
    work.counts[2], work.counts[3] = r + 1, at + size_a + size_b
    return r


@kernel
def row_velocity(work, r, v):  # type: ignore[no-untyped-def]
    """J_r·v."""
    seg = work.seg[r]
    s = 0.0
    for k in range(seg[1]):
        s += work.J[seg[2] + k] * v[seg[0] + k]
    for k in range(seg[4]):
        s += work.J[seg[5] + k] * v[seg[3] + k]
    return s


@kernel
def apply_row(work, r, impulse, v):  # type: ignore[no-untyped-def]
    """v += B_r · impulse."""
    seg = work.seg[r]
    for k in range(seg[1]):
        v[seg[0] + k] += work.B[seg[2] + k] * impulse
    for k in range(seg[4]):
        v[seg[3] + k] += work.B[seg[5] + k] * impulse


@kernel
def row_product(work, r, s):  # type: ignore[no-untyped-def]
    """J_r·B_s of two rows on the same trees."""
    a, b = work.seg[r], work.seg[s]
    total = 0.0
    for k in range(a[1] + a[4]):
        total += work.J[a[2] + k] * work.B[b[2] + k]
    return total


@kernel
def add_side(plant, work, r, tree, node, wrench, sign):  # type: ignore[no-untyped-def]
    """Add one side of a row: a wrench (moment about the tree's reference, force) on a node."""
    if node < 0:
        return
    seg = work.seg[r]
    at, size = seg[2], seg[1]
    if plant.tree_dof[tree] != seg[0] or size == 0:
        at, size = seg[5], seg[4]
    project(plant, work, tree, node, wrench, sign, work.J[at : at + size])
    signed = (
        sign * wrench[0],
        sign * wrench[1],
        sign * wrench[2],
        sign * wrench[3],
        sign * wrench[4],
        sign * wrench[5],
    )
    respond(plant, work, tree, node, signed, 0.0, work.B[at : at + size])


@kernel
def add_direction(plant, work, c, direction, turning):  # type: ignore[no-untyped-def]
    """A row for the relative velocity (or, turning, spin) of contact c along a direction; −1 without room."""
    node_a, node_b = work.c_node[c, 0], work.c_node[c, 1]
    tree_a = plant.node_tree[node_a] if node_a >= 0 else -1
    tree_b = plant.node_tree[node_b] if node_b >= 0 else -1
    r = open_row(plant, work, tree_a, tree_b)
    if r < 0:
        return -1
    point = triple(work.c_point[c])
    for side in range(2):
        node, tree, sign = (node_a, tree_a, 1.0) if side == 0 else (node_b, tree_b, -1.0)
        if node < 0:
            continue
        if turning:
            wrench = (direction[0], direction[1], direction[2], 0.0, 0.0, 0.0)
        else:
            m = cross(minus(point, triple(work.ref[tree])), direction)
            wrench = (m[0], m[1], m[2], direction[0], direction[1], direction[2])
        add_side(plant, work, r, tree, node, wrench, sign)
    return r


@kernel
def build_contacts(plant, state, work, h):  # type: ignore[no-untyped-def]
    """Rows, gains and targets of all contacts, and the impulses of the last step to start from."""
    for c in range(state.contact_count[0]):
        work.used[c] = 0
    for c in range(work.counts[0]):
        work.c_row[c] = work.counts[2]
        for k in range(3):
            if add_direction(plant, work, c, triple(work.c_frame[c, k]), False) < 0:
                return STATUS_FULL
        if work.c_surface[c, 2] > 0.0:
            for k in range(1, 3):
                if add_direction(plant, work, c, triple(work.c_frame[c, k]), True) < 0:
                    return STATUS_FULL
        contact_gains(work, c)
        contact_targets(state, work, c, h)
        recall(state, work, c)
    return STATUS_FINE


@kernel
def contact_gains(work, c):  # type: ignore[no-untyped-def]
    """Inverse diagonals: 0 normal; 1–3 friction's 2 × 2 inverse; 4 inverse of its larger eigenvalue; 5, 6 rolling."""
    r, gain = work.c_row[c], work.c_gain[c]
    gain[0] = 1.0 / row_product(work, r, r)
    a, b, d = row_product(work, r + 1, r + 1), row_product(work, r + 1, r + 2), row_product(work, r + 2, r + 2)
    det = a * d - b * b
    gain[1], gain[2], gain[3] = d / det, -b / det, a / det
    gain[4] = 1.0 / (0.5 * (a + d) + math.sqrt(0.25 * (a - d) * (a - d) + b * b))
    if work.c_surface[c, 2] > 0.0:
        a, b, d = row_product(work, r + 3, r + 3), row_product(work, r + 3, r + 4), row_product(work, r + 4, r + 4)
        gain[5] = 1.0 / (0.5 * (a + d) + math.sqrt(0.25 * (a - d) * (a - d) + b * b))


@kernel
def contact_targets(state, work, c, h):  # type: ignore[no-untyped-def]
    """Least normal velocity after the step, and the same for the positions.

    Without bounce the gap may close in the step, no more. With it the step is split at the moment of impact:
    the speed then, V = −(v + a·t), comes back as e·V and goes on under the same acceleration a, and the
    positions move by −gap + e·V·(h − t).
    """
    r, gap = work.c_row[c], work.c_gap[c]
    before, free = row_velocity(work, r, state.v), row_velocity(work, r, work.v_free)
    a = (free - before) / h
    target = work.c_target[c]
    work.c_bounce[c] = 0
    open_gap = max(gap, 0.0)
    e = work.c_surface[c, 1]
    if e > 0.0 and -before > max(SLOW, 2.0 * abs(a) * h) and open_gap + h * before < 0.0:
        t = open_gap / -before
        left = h - t
        up = -e * (before + a * t)
        work.c_bounce[c] = 1
        target[0] = max(up + a * left, 0.0)
        target[1] = (-open_gap + (up + 0.5 * a * left) * left) / h
        return
    target[0] = -open_gap / h
    target[1] = target[0]
    if gap < -TOLERATED:
        target[1] = min(-RECOVER * gap / h, RECOVER_SPEED)


@kernel
def recall(state, work, c):  # type: ignore[no-untyped-def]
    """Start a contact from the impulse that the nearest contact of the same pair had in the last step."""
    start = work.c_lambda[c]
    for k in range(5):
        start[k] = 0.0
    if work.c_bounce[c] == 1:
        return
    key = work.c_key[c]
    low, high = 0, state.contact_count[0]
    end = high
    while low < high:
        middle = (low + high) // 2
        if state.contact_key[middle] < key:
            low = middle + 1
        else:
            high = middle
    best, near = -1, 4e-4  # contacts move less than 2 cm in a step
    while low < end and state.contact_key[low] == key:
        d = minus(triple(state.contact_point[low]), triple(work.c_point[c]))
        if dot(d, d) < near and work.used[low] == 0:
            best, near = low, dot(d, d)
        low += 1
    if best < 0:
        return
    work.used[best] = 1
    impulse, moment = triple(state.contact_impulse[best]), triple(state.contact_rolling[best])
    for k in range(3):
        start[k] = dot(impulse, triple(work.c_frame[c, k]))
    start[0] = max(start[0], 0.0)
    if work.c_surface[c, 2] > 0.0:
        start[3], start[4] = dot(moment, triple(work.c_frame[c, 1])), dot(moment, triple(work.c_frame[c, 2]))


@kernel
def build_joints(plant, state, work, h):  # type: ignore[no-untyped-def]
    """Rows for joint stops that could be met in this step, and for joint friction."""
    work.counts[1] = 0
    for i in range(len(plant.node_kind)):
        dof = plant.node_dof[i]
        if plant.dof_coord[dof] < 0:
            continue
        q, reach = state.q[plant.dof_coord[dof]], h * 2.0 * abs(work.v_free[dof]) + 1e-6
        if plant.dof_friction[dof] > 0.0:
            most = h * plant.dof_friction[dof]
            if not add_joint(plant, work, i, dof, -most, most, 0.0):
                return STATUS_FULL
        below, above = q - plant.dof_low[dof], plant.dof_high[dof] - q
        if below < reach:
            target = -below / h if below > 0.0 else -RECOVER * below / h
            if not add_joint(plant, work, i, dof, 0.0, math.inf, target):
                return STATUS_FULL
        elif above < reach:
            target = above / h if above > 0.0 else RECOVER * above / h
            if not add_joint(plant, work, i, dof, -math.inf, 0.0, target):
                return STATUS_FULL
    return STATUS_FINE


@kernel
def add_joint(plant, work, node, dof, low, high, target):  # type: ignore[no-untyped-def]
    """One row on a joint; the joint rows come first and are numbered as they are added."""
    tree = plant.node_tree[node]
    r = open_row(plant, work, tree, -1)
    if r < 0:
        return False
    j = work.counts[1]
    work.j_dof[j] = dof
    bound = work.j_bound[j]
    bound[0], bound[1], bound[2], bound[3] = low, high, target, 0.0
    seg = work.seg[r]
    work.J[seg[2] + dof - plant.tree_dof[tree]] = 1.0
    nothing = (0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
    respond(plant, work, tree, node, nothing, 1.0, work.B[seg[2] : seg[2] + seg[1]])
    work.counts[1] = j + 1
    return True


@kernel
def keep_contacts(work, state):  # type: ignore[no-untyped-def]
    """Remember the contacts of this step, for the next one and for whoever asks."""
    state.contact_count[0] = work.counts[0]
    for c in range(work.counts[0]):
        state.contact_key[c], state.contact_gap[c] = work.c_key[c], work.c_gap[c]
        lam = work.c_lambda[c]
        n, t1, t2 = triple(work.c_frame[c, 0]), triple(work.c_frame[c, 1]), triple(work.c_frame[c, 2])
        impulse = add(add(scaled(n, lam[0]), scaled(t1, lam[1])), scaled(t2, lam[2]))
        moment = add(scaled(t1, lam[3]), scaled(t2, lam[4]))
        for k in range(3):
            state.contact_point[c, k] = work.c_point[c, k]
            state.contact_normal[c, k] = n[k]
            state.contact_impulse[c, k] = impulse[k]
            state.contact_rolling[c, k] = moment[k]
