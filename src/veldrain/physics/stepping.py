"""One step after another, without Python in between.

A step: near pairs and contacts; motors, velocities without constraints, rows, solver, until motors and limits
agree; then positions (semi-implicit Euler: the new velocities move the positions).
"""

from __future__ import annotations

import math

from veldrain.physics.collision import find_contacts, place_geoms
from veldrain.physics.kernel import entry, kernel
from veldrain.physics.motors import check_motors, set_motors
from veldrain.physics.plant import FREE, NEW, NOW, SHIFT, STATUS_FINE, STATUS_FULL, STATUS_NOT_FINITE
from veldrain.physics.rows import build_contacts, build_joints, keep_contacts
from veldrain.physics.solver import solve_positions, solve_velocities
from veldrain.physics.spatial import dot, triple, turn_quaternion
from veldrain.physics.trees import load_trees, move_trees, node_accelerations, solve_trees


@kernel
def solve_step(count, gravity, trees, nodes, dofs, q, speeds, pushes, contacts, kept, joint_rows, rows, J, B, h):
    """New velocities that agree with all motors' limits."""
    for attempt in range(len(dofs) + 4):
        set_motors(dofs, q, h)
        load_trees(trees, nodes, pushes, count.step, gravity)
        solve_trees(trees, nodes, dofs, speeds, h)
        count.joint_rows, count.rows, count.room = 0, 0, 0
        if build_joints(count, trees, nodes, dofs, q, speeds[NOW], joint_rows, rows, J, B, h) != STATUS_FINE:
            return STATUS_FULL
        if build_contacts(count, trees, nodes, speeds, contacts, kept, rows, J, B, h) != STATUS_FINE:
            return STATUS_FULL
        solve_velocities(count, speeds, contacts, joint_rows, rows, J, B)
        if not check_motors(dofs, q, speeds[NEW], h, attempt < 3):
            break
    return STATUS_FINE


@kernel
def move_coordinates(nodes, dofs, q, speeds, h):
    """Take over the new velocities and move the coordinates with them."""
    now, new, shift = speeds[NOW], speeds[NEW], speeds[SHIFT]
    for k in range(len(dofs)):
        dofs[k].acceleration = (new[k] - now[k]) / h
        now[k] = new[k]
    for i in range(len(nodes)):
        n = nodes[i]
        d, at = n.dof, n.coord
        if n.kind == FREE:
            for k in range(3):
                q[at + k] += h * (now[d + 3 + k] + shift[d + 3 + k])
            turn = (h * (now[d] + shift[d]), h * (now[d + 1] + shift[d + 1]), h * (now[d + 2] + shift[d + 2]))
            turn_quaternion(q, at + 3, turn)
        else:
            q[at] += h * (now[d] + shift[d])


@kernel
def watch_touches(count, kept, watch_sides, watch_step):
    """Note the step of the first touch of every watched pair."""
    G = watch_sides.shape[2]
    for k in range(count.kept):
        if dot(triple(kept[k].normal), triple(kept[k].impulse)) <= 0.0:
            continue
        a, b = kept[k].key // G, kept[k].key % G
        for w in range(len(watch_step)):
            sides = watch_sides[w]
            if watch_step[w] < 0 and (sides[0, a] * sides[1, b] == 1 or sides[0, b] * sides[1, a] == 1):
                watch_step[w] = count.step


@kernel
def first_not_finite(v):
    """Number of the first velocity that is not finite, −1: all are."""
    for k in range(len(v)):
        if not math.isfinite(v[k]):
            return k
    return -1


@entry
def refresh(trees, nodes, dofs, q, speeds, geoms):
    """All that follows from the state; to be called after the state was changed from outside."""
    move_trees(trees, nodes, q, speeds[NOW])
    place_geoms(nodes, geoms)
    node_accelerations(nodes, dofs, speeds[NOW])


@entry
def advance(counts, gravity, trees, nodes, dofs, q, speeds, geoms, patches, skipped, pushes, watch_sides, watch_step,
            order, pairs, poly, chosen, contacts, kept, joint_rows, rows, J, B, h, steps):  # fmt: skip
    """Take so many steps of h seconds; the arrays are those of ``plant.Plant``, in its order.

    Gives a status and a degree of freedom: STATUS_FULL when arrays have to grow (nothing of the step that
    did not fit has happened), STATUS_NOT_FINITE when a velocity is no longer a number; the state is then the
    one before that step.
    """
    count = counts[0]
    for _ in range(steps):
        if (
            find_contacts(counts, trees, nodes, geoms, patches, skipped, order, pairs, poly, chosen, contacts, h)
            != STATUS_FINE
        ):
            return STATUS_FULL, 0
        if (
            solve_step(
                count,
                gravity,
                trees,
                nodes,
                dofs,
                q,
                speeds,
                pushes,
                contacts,
                kept,
                joint_rows,
                rows,
                J,
                B,
                h,
            )
            != STATUS_FINE
        ):
            return STATUS_FULL, 0
        broken = first_not_finite(speeds[NEW])
        if broken >= 0:
            return STATUS_NOT_FINITE, broken
        solve_positions(count, speeds, contacts, rows, J, B)
        keep_contacts(count, contacts, kept)
        move_coordinates(nodes, dofs, q, speeds, h)
        count.step += 1
        watch_touches(count, kept, watch_sides, watch_step)
        move_trees(trees, nodes, q, speeds[NOW])
        place_geoms(nodes, geoms)
    node_accelerations(nodes, dofs, speeds[NOW])
    return STATUS_FINE, 0
