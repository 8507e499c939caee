"""One step after another, without Python in between.

A step: near pairs and contacts; motors, velocities without constraints, rows, solver, until motors and limits
agree; then positions (semi-implicit Euler: the new velocities move the positions).
"""

from __future__ import annotations

import math

from veldrain.physics.collision import find_contacts, place_geoms
from veldrain.physics.kernel import entry, kernel
from veldrain.physics.motors import check_motors, set_motors
from veldrain.physics.plant import FREE, STATUS_FINE, STATUS_FULL, STATUS_NOT_FINITE
from veldrain.physics.rows import build_contacts, build_joints, keep_contacts
from veldrain.physics.solver import solve_positions, solve_velocities
from veldrain.physics.spatial import turn_quaternion
from veldrain.physics.trees import load_trees, move_trees, solve_trees


@kernel
def solve_step(plant, state, work, h):  # type: ignore[no-untyped-def]
    """New velocities in work.v_new that agree with all motors' limits."""
    for attempt in range(len(plant.dof_damping) + 4):
        set_motors(plant, state, work, h)
        load_trees(plant, state, work)
        solve_trees(plant, state, work, h)
        work.counts[1], work.counts[2], work.counts[3] = 0, 0, 0
        if build_joints(plant, state, work, h) != STATUS_FINE:
            return STATUS_FULL
        if build_contacts(plant, state, work, h) != STATUS_FINE:
            return STATUS_FULL
        solve_velocities(work)
        if not check_motors(plant, state, work, h, attempt < 3):
            break
    return STATUS_FINE


@kernel
def move_coordinates(plant, state, work, h):  # type: ignore[no-untyped-def]
    """Take over the new velocities and move the coordinates with them."""
    for k in range(len(state.v)):
        state.acceleration[k] = (work.v_new[k] - state.v[k]) / h
        state.v[k] = work.v_new[k]
    for i in range(len(plant.node_kind)):
        dof, at = plant.node_dof[i], plant.node_coord[i]
        if plant.node_kind[i] == FREE:
            for k in range(3):
                state.q[at + k] += h * (state.v[dof + 3 + k] + work.shift[dof + 3 + k])
            turn = (
                h * (state.v[dof] + work.shift[dof]),
                h * (state.v[dof + 1] + work.shift[dof + 1]),
                h * (state.v[dof + 2] + work.shift[dof + 2]),
            )
            turn_quaternion(state.q, at + 3, turn)
        else:
            state.q[at] += h * (state.v[dof] + work.shift[dof])


@kernel
def watch_touches(state):  # type: ignore[no-untyped-def]
    """Note the step of the first touch of every watched pair."""
    G = state.watch_a.shape[1]
    for c in range(state.contact_count[0]):
        n, f = state.contact_normal[c], state.contact_impulse[c]
        if n[0] * f[0] + n[1] * f[1] + n[2] * f[2] <= 0.0:
            continue
        a, b = state.contact_key[c] // G, state.contact_key[c] % G
        for w in range(len(state.watch_step)):
            one, other = state.watch_a[w], state.watch_b[w]
            if state.watch_step[w] < 0 and (one[a] * other[b] == 1 or one[b] * other[a] == 1):
                state.watch_step[w] = state.step[0]


@kernel
def node_accelerations(plant, state, work):  # type: ignore[no-untyped-def]
    """Spatial accelerations of all nodes over the last step, in work.acc."""
    for i in range(len(plant.node_kind)):
        dof, acc = plant.node_dof[i], work.acc[i]
        if plant.node_kind[i] == FREE:
            a, v = state.acceleration, state.v
            acc[0], acc[1], acc[2] = a[dof], a[dof + 1], a[dof + 2]
            acc[3] = a[dof + 3] - (v[dof + 1] * v[dof + 5] - v[dof + 2] * v[dof + 4])
            acc[4] = a[dof + 4] - (v[dof + 2] * v[dof + 3] - v[dof] * v[dof + 5])
            acc[5] = a[dof + 5] - (v[dof] * v[dof + 4] - v[dof + 1] * v[dof + 3])
            continue
        p = plant.node_parent[i]
        for k in range(6):
            base = work.acc[p, k] if p >= 0 else 0.0
            acc[k] = base + work.bias[i, k] + work.S[i, k] * state.acceleration[dof]


@kernel
def refresh_all(plant, state, work):  # type: ignore[no-untyped-def]
    """Everything that follows from the state: poses, velocities, accelerations."""
    move_trees(plant, state, work)
    place_geoms(plant, work)
    node_accelerations(plant, state, work)


@entry
def refresh(plant, state, work):  # type: ignore[no-untyped-def]
    """Call after the state was changed from outside."""
    refresh_all(plant, state, work)


@entry
def advance(plant, state, work, h, steps):  # type: ignore[no-untyped-def]
    """Take so many steps of h seconds.

    Gives a status and a degree of freedom: STATUS_FULL when the work arrays have to grow (nothing of the
    step that did not fit has happened), STATUS_NOT_FINITE when a velocity is no longer a number; the state is
    then the one before that step.
    """
    for _ in range(steps):
        if find_contacts(plant, state, work, h) != STATUS_FINE:
            return STATUS_FULL, 0
        if solve_step(plant, state, work, h) != STATUS_FINE:
            return STATUS_FULL, 0
        for k in range(len(work.v_new)):
            if not math.isfinite(work.v_new[k]):
                return STATUS_NOT_FINITE, k
        solve_positions(work, h)
        keep_contacts(work, state)
        move_coordinates(plant, state, work, h)
        state.step[0] += 1
        watch_touches(state)
        move_trees(plant, state, work)
        place_geoms(plant, work)
    node_accelerations(plant, state, work)
    return STATUS_FINE, 0
