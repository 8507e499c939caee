"""What acts between two points of links: closed loops, mimic joints, ropes, springs, and links that are coupled.

A closed loop and a mimic joint are rows that always hold. They come first, and are eliminated from all that
follows: with E their rows and A = J_E·M⁻¹·J_Eᵀ, every other row r gets the answer B_r − B_E·A⁻¹·(J_E·B_r), so
that no later impulse can open a loop (the Schur complement; R. Featherstone, Rigid Body Dynamics Algorithms,
Springer 2008, chapter 8). After each step the positions are brought back onto the loop by Newton's method with the
same matrix, so that gaps do not grow.

Links that are coupled in mid-trial may be of two trees, whose answers such an elimination would join to one. Their six
rows are therefore solved with all others, between no bounds: what they open in a step is undone in the next one.
"""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel
from veldrain.physics.drift import bend, point_bend, spin_bend
from veldrain.physics.plant import (
    APART,
    CLOSED_BALL,
    CLOSED_PRISMATIC,
    CLOSED_REVOLUTE,
    COUPLED,
    MIMIC,
    SPRING,
    STATUS_FINE,
    STATUS_FULL,
    UNFORCED,
)
from veldrain.physics.responses import respond
from veldrain.physics.rows import (
    add_direction,
    apply_row,
    common_part,
    open_row,
    row_product,
    row_velocity,
    set_limit,
    solve_closed,
)
from veldrain.physics.spatial import add, cross, dot, minus, norm, put, scaled, triple, turned

SLACK = 1e-9  # of A's largest entry is added to its diagonal: a plane four-bar closed by a hinge has rows too many
CLOSE_ENOUGH = 1e-10  # m or rad


@kernel
def end_point(nodes, node, at):
    """World place of a point of a node."""
    if node < 0:
        return triple(at)
    n = nodes[node]
    return add(triple(n.pos), turned(n.rot, triple(at)))


@kernel
def end_axis(nodes, node, turn, k):
    """World direction of axis k of an end of a loop."""
    axis = (turn[0, k], turn[1, k], turn[2, k])
    return axis if node < 0 else turned(nodes[node].rot, axis)


@kernel
def aim(loop, nodes, k):
    """Direction of row k of a loop, whether it is of turning, and by how much it is open.

    Where two axes u of a and w of b are to be square to each other, u·w changes by (u × w)·(ω_a − ω_b).
    """
    kind = loop.kind
    gap = minus(end_point(nodes, loop.node_a, loop.at_a), end_point(nodes, loop.node_b, loop.at_b))
    slides = kind == CLOSED_PRISMATIC  # along z of b
    linear = 2 if slides else 3
    if k < linear:
        direction = (1.0 if k == 0 else 0.0, 1.0 if k == 1 else 0.0, 1.0 if k == 2 else 0.0)
        if slides:
            direction = end_axis(nodes, loop.node_b, loop.turn_b, k)
        return direction, False, dot(gap, direction)
    j = k - linear
    if kind == CLOSED_REVOLUTE:  # x and y of a stay square to z of b
        one, other = j, 2
    else:
        one, other = (j + 1) % 3, (j + 2) % 3
    u = end_axis(nodes, loop.node_a, loop.turn_a, one)
    w = end_axis(nodes, loop.node_b, loop.turn_b, other)
    return cross(u, w), True, dot(u, w)


@kernel
def is_closed(loop):
    """True for what always holds; ropes, springs and what is coupled do not."""
    return loop.kind == MIMIC or loop.kind <= CLOSED_BALL


@kernel
def opening(loop, nodes, q, k):
    """How far row k of a loop is open (m or rad)."""
    if loop.kind == MIMIC:  # its ratio and offset are kept as stiffness and length
        return q[nodes[loop.node_a].coord] - loop.stiffness * q[nodes[loop.node_b].coord] - loop.length
    return aim(loop, nodes, k)[2]


@entry
def all_openings(nodes, loops, q, out):
    """Fill ``out`` with the opening of each row that always holds."""
    row = 0
    for k in range(len(loops)):
        if is_closed(loops[k]):
            for j in range(loops[k].rows):
                out[row] = opening(loops[k], nodes, q, j)
                row += 1


@kernel
def add_mimic(count, trees, nodes, loop, rows, J, B):
    """The row of a mimic joint: velocity of the follower less ratio times the leader's."""
    follower, leader = nodes[loop.node_a], nodes[loop.node_b]
    tree = trees[follower.tree]
    r = open_row(count, trees, follower.tree, -1, rows, J, B)
    if r < 0:
        return False
    at = rows[r].at_a
    nothing = (0.0, 0.0, 0.0, 0.0, 0.0, 0.0)
    J[at + follower.dof - tree.dof] += 1.0
    J[at + leader.dof - tree.dof] -= loop.stiffness
    respond(tree, nodes, loop.node_a, nothing, 1.0, B[at : at + tree.dofs])
    respond(tree, nodes, loop.node_b, nothing, -loop.stiffness, B[at : at + tree.dofs])
    return True


@kernel
def add_closed(count, trees, nodes, loop, rows, J, B, closed):
    """All rows of a closed loop; False without room."""
    put(loop.point, end_point(nodes, loop.node_a, loop.at_a))
    for k in range(loop.rows):
        along, turning, _ = aim(loop, nodes, k)
        put(loop.direction[k], along)
        loop.turning[k] = 1.0 if turning else 0.0
        if not add_direction(
            count, trees, nodes, loop.node_a, loop.node_b, triple(loop.point), along, turning, rows, J, B, closed
        ):
            return False
    return True


@kernel
def build_closed(count, trees, nodes, loops, speeds, rows, J, B, closed):
    """Rows that always hold, the factor of their matrix, and bare velocities that keep them."""
    count.equals = 0
    for k in range(len(loops)):
        loop = loops[k]
        loop.row = count.rows
        if loop.kind == MIMIC:
            if not add_mimic(count, trees, nodes, loop, rows, J, B):
                return STATUS_FULL
        elif is_closed(loop) and not add_closed(count, trees, nodes, loop, rows, J, B, closed):
            return STATUS_FULL
    size = count.rows
    if size == 0:
        return STATUS_FINE
    largest = 0.0
    for r in range(size):
        largest = max(largest, row_product(rows[r], rows[r], J, B))
    for r in range(size):
        for k in range(r + 1):
            s = row_product(rows[r], rows[k], J, B) if rows[r].dof_a == rows[k].dof_a else 0.0
            if r == k:
                s += SLACK * largest
            for j in range(k):
                s -= closed[r, j] * closed[k, j]
            closed[r, k] = 1.0 / math.sqrt(s) if r == k else s * closed[k, k]
    v, impulses = speeds[UNFORCED], closed[len(closed) - 1]
    for r in range(size):
        impulses[r] = -row_velocity(rows[r], J, v)
    solve_closed(closed, size, impulses)
    for r in range(size):
        apply_row(rows[r], B, impulses[r], v)
    count.equals = size
    return STATUS_FINE


@kernel
def close_positions(count, nodes, loops, q, move, rows, B, closed):
    """Fill ``move`` (D,) with what would close all loops, by one Newton step; gives the largest opening."""
    size, x = count.equals, closed[len(closed) - 2]
    most = 0.0
    for k in range(len(loops)):
        loop = loops[k]
        if is_closed(loop):
            for j in range(loop.rows):
                x[loop.row + j] = -opening(loop, nodes, q, j)
                most = max(most, abs(x[loop.row + j]))
    for k in range(len(move)):
        move[k] = 0.0
    if most > CLOSE_ENOUGH:
        solve_closed(closed, size, x)
        for e in range(size):
            apply_row(rows[e], B, x[e], move)
    return most


@kernel
def build_links(count, trees, nodes, loops, limits, rows, J, B, closed, h):
    """Rows of ropes that could be taut in this step, of springs (taken at its end, as motors are), and of couplings."""
    for k in range(len(loops)):
        loop = loops[k]
        if is_closed(loop) or loop.kind == APART:
            continue
        loop.row = count.rows
        if loop.kind == COUPLED:
            if not add_coupled(count, trees, nodes, loops, k, limits, rows, J, B, closed, h):
                return STATUS_FULL
            continue
        put(loop.point, end_point(nodes, loop.node_a, loop.at_a))
        gap = minus(triple(loop.point), end_point(nodes, loop.node_b, loop.at_b))
        length = math.sqrt(dot(gap, gap))
        along = scaled(gap, 1.0 / length) if length > 1e-12 else (0.0, 0.0, 1.0)
        put(loop.direction[0], along)
        if not add_direction(
            count, trees, nodes, loop.node_a, loop.node_b, triple(loop.point), along, False, rows, J, B, closed
        ):
            return STATUS_FULL
        left = loop.length - length
        low, high, target, soft = -math.inf, 0.0, left / h, 0.0
        if loop.kind == SPRING:
            gain = loop.damping + h * loop.stiffness
            high, target, soft = math.inf, loop.stiffness * left / gain, 1.0 / (h * gain)
        set_limit(count, -1, k, low, high, target, soft, loop.impulse[0], limits, rows, J, B)
    return STATUS_FINE


@kernel
def add_coupled(count, trees, nodes, loops, k, limits, rows, J, B, closed, h):
    """The six rows of two links that move as one; False without room."""
    loop = loops[k]
    first = count.rows
    # In a step both go straight or along their arcs (see ``drift``): they are to part by as much as they come together.
    bend(nodes)
    p = end_point(nodes, loop.node_a, loop.at_a)
    parting = minus(point_bend(trees, nodes, loop.node_a, p), point_bend(trees, nodes, loop.node_b, p))
    twisting = minus(spin_bend(nodes, loop.node_a), spin_bend(nodes, loop.node_b))
    if not add_closed(count, trees, nodes, loop, rows, J, B, closed):
        return False
    last = count.rows
    for j in range(loop.rows):
        count.rows = first + j + 1  # a limit is of the row added last
        target = -0.5 * h * dot(triple(loop.direction[j]), twisting if loop.turning[j] > 0.0 else parting)
        set_limit(count, -1, k, -math.inf, math.inf, target, 0.0, loop.impulse[j], limits, rows, J, B)
        limit = limits[count.limits - 1]
        limit.positions = 1
        limit.target_shift = target - aim(loop, nodes, j)[2] / h
    count.rows = last
    return True


@kernel
def keep_loops(count, loops, limits, contacts, rows, J, B, closed, h):
    """Impulses and forces of all loops in this step.

    Of closed ones: those that held the bare motion, less what all other impulses would have opened.
    """
    size = count.equals
    total, change = closed[len(closed) - 1], closed[len(closed) - 2]
    for e in range(size):
        change[e] = 0.0
        for k in range(count.limits):
            change[e] += share(rows[e], rows[limits[k].row], J, B) * limits[k].impulse
        for k in range(count.contacts):
            c = contacts[k]
            for j in range(c.rows):
                change[e] += share(rows[e], rows[c.row + j], J, B) * c.impulse[j]
    solve_closed(closed, size, change)
    for k in range(count.limits):
        if limits[k].loop >= 0:
            loop = loops[limits[k].loop]
            loop.impulse[limits[k].row - loop.row] = limits[k].impulse
    for k in range(len(loops)):
        loop = loops[k]
        put(loop.force, (0.0, 0.0, 0.0))
        put(loop.moment, (0.0, 0.0, 0.0))
        for j in range(loop.rows):
            if is_closed(loop):
                loop.impulse[j] = total[loop.row + j] - change[loop.row + j]
            if loop.kind != MIMIC:
                part = scaled(triple(loop.direction[j]), loop.impulse[j] / h)
                row = loop.moment if loop.turning[j] > 0.0 else loop.force
                put(row, add(triple(row), part))
        if loop.kind == COUPLED and (
            norm(triple(loop.force)) > loop.most_force or norm(triple(loop.moment)) > loop.most_moment
        ):
            loop.kind, loop.rows, loop.broke = APART, 0, count.step + 1


@kernel
def any_broke(count, loops):
    """True where something coupled broke in the last step."""
    found = False
    for k in range(len(loops)):
        found = found or (loops[k].broke > 0 and loops[k].broke == count.step)
    return found


@kernel
def share(closing, row, J, B):
    """J_E·M⁻¹·J_rᵀ: how fast an impulse of 1 on a row would open a loop."""
    at, end = common_part(closing, row)
    here, there = B[closing.at_a : closing.at_a + end - at], J[at:end]
    s = 0.0
    for k in range(len(there)):
        s += here[k] * there[k]
    return s
