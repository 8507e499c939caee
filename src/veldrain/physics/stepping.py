"""One step after another, without Python in between.

A step: near pairs and contacts; motors, velocities without constraints, rows, solver, until motors and limits
agree; then positions (semi-implicit Euler: the new velocities move the positions). Smooth mechanisms can ask for
rk4 instead, see ``smooth``.
"""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel, shared, whole
from veldrain.physics.blowing import blow
from veldrain.physics.collision import find_contacts
from veldrain.physics.contact_rows import TOLERATED, build_contacts, keep_contacts, weaken_bounces
from veldrain.physics.drift import aim_drift
from veldrain.physics.effort import ease, is_due, share_out, slides
from veldrain.physics.joint_rows import build_joints, keep_joints
from veldrain.physics.leading import lead
from veldrain.physics.loops import CLOSE_ENOUGH, any_broke, build_closed, build_links, close_positions, keep_loops
from veldrain.physics.motors import check_motors, follow_commands, set_motors
from veldrain.physics.pairing import place_geoms
from veldrain.physics.placing import move_trees
from veldrain.physics.plant import (
    BALL,
    FREE,
    NEW,
    NOW,
    PULL,
    RATE,
    ROUGH_NOT,
    SHIFT,
    STATUS_FINE,
    STATUS_FULL,
    STATUS_NOT_FINITE,
)
from veldrain.physics.responses import node_accelerations
from veldrain.physics.smooth import roughness, smooth_step
from veldrain.physics.solver import SWEEPS, restrain, solve_positions, solve_velocities
from veldrain.physics.spatial import (
    add,
    cross,
    dot,
    matrix_of_quaternion,
    norm,
    put,
    rotated,
    rotation_vector_between,
    scaled,
    triple,
    turn_quaternion,
    turned,
)
from veldrain.physics.surges import LEAST, SHARE, given, grows, kinetic, look_at_steps, note
from veldrain.physics.taps import begin_taps, tap_step
from veldrain.physics.trees import load_trees, script_at, solve_trees, spin_momentum

WEAKENINGS = 8  # how often bounces are halved at most; after that they are left as they are
FINE = 0.02  # rad: a lone body that turns farther in a step is turned in parts
GROWTH = 1e-6  # share of its energy that a lone body's turn may make
SHARINGS = 3  # at most, each followed by a solve
CLOSINGS = 4  # Newton steps that bring positions back onto closed loops


@shared
def build_rows(a, count, h):
    """All rows of the coming step: loops first, then joints, ropes and springs, then contacts."""
    count.equals, count.limits, count.rows, count.room = 0, 0, 0, 0
    trees, nodes, dofs, limits, rows, J, B, closed = (a.trees, a.nodes, a.dofs, a.limits, a.rows, a.J, a.B, a.closed)
    if len(a.loops) > 0 and build_closed(count, trees, nodes, a.loops, a.speeds, rows, J, B, closed) != STATUS_FINE:
        return STATUS_FULL
    if build_joints(count, trees, nodes, dofs, a.q, a.speeds[NOW], limits, rows, J, B, closed, h) != STATUS_FINE:
        return STATUS_FULL
    if len(a.loops) > 0 and build_links(count, trees, nodes, a.loops, limits, rows, J, B, closed, h) != STATUS_FINE:
        return STATUS_FULL
    return build_contacts(count, trees, nodes, a.speeds, a.contacts, a.kept, rows, J, B, closed, h)


@kernel
def solve_step(a, count, h):
    """New velocities that agree with all motors' limits."""
    for attempt in range(len(a.dofs) + 4):
        set_motors(a.dofs, a.q, h)
        load_trees(a.trees, a.nodes, a.pushes, count.step, a.gravity)
        solve_trees(a.trees, a.nodes, a.dofs, a.speeds, a.script, count.step, h, True)
        if build_rows(a, count, h) != STATUS_FINE:
            return STATUS_FULL
        before = count.sweeps
        solved = solve_velocities(count, a.speeds, a.contacts, a.limits, a.rows, a.J, a.B)
        quiet = count.sweeps - before <= SWEEPS
        if solved and slides(count, a.contacts, a.rows, a.J, a.speeds[NEW], h):
            for _ in range(SHARINGS):
                if not share_out(count, a.speeds, a.contacts, a.rows, a.J, a.B, h):
                    break
                solved = solve_velocities(count, a.speeds, a.contacts, a.limits, a.rows, a.J, a.B)
                if not slides(count, a.contacts, a.rows, a.J, a.speeds[NEW], h):
                    break
        for _ in range(WEAKENINGS):
            if not weaken_bounces(count, a.speeds, a.contacts, a.rows, a.J, a.B, h):
                break
            solved = solve_velocities(count, a.speeds, a.contacts, a.limits, a.rows, a.J, a.B)
            quiet = False
        if not solved:
            restrain(count, a.speeds, a.contacts, a.limits, a.rows, a.J, a.B)
        if not check_motors(a.dofs, a.q, a.speeds[NEW], h, attempt < 3):
            break
    if is_due(count, h, quiet):
        ease(count, a.speeds, a.contacts, a.limits, a.rows, a.J, a.B, h)
    if count.contacts > 0:
        look_at_steps(a, count, h, not solved)
    return STATUS_FINE


@kernel
def tumble(tree, n, v, h, extra):
    """The rotation vector of a lone body in a step, and its new spin: its angular momentum L stays as it is.

    The body turns with the spin of the middle, from Euler's equation I·ω̇ = −ω × I·ω; then ω⁺ = I⁺⁻¹·L. What spins
    faster than FINE in a step is turned in parts. Where the digits left would make energy, the spin is cut back to
    what it had. extra: what positions turn beyond that; the spin turns along, so that no energy comes of it.
    """
    w = triple(v)
    L = spin_momentum(n, w)
    moment = cross(L, w)
    turn = scaled(w, h)
    if dot(moment, moment) > 0.0:
        parts = max(1, math.ceil(h * norm(w) / FINE))
        q, still = n.U[0:4], n.acc[0:4]
        for k in range(4):
            q[k] = still[k] = 1.0 if k == 3 else 0.0
        part, spin = h / parts, w
        turn = (0.0, 0.0, 0.0)
        for _ in range(parts):
            back = scaled(turn, -1.0)
            bend = rotated(turned(tree.root, rotated(cross(L, spin), back)), turn)
            little = scaled(add(spin, scaled(bend, 0.5 * part)), part)
            if parts == 1:
                turn = little
            else:
                turn_quaternion(q, 0, little)
                turn = rotation_vector_between(still, q)
            spin = rotated(turned(tree.root, rotated(L, scaled(turn, -1.0))), turn)
        more = dot(L, spin) / dot(L, w)
        put(v, scaled(spin, 1.0 / math.sqrt(more)) if more > 1.0 + GROWTH else spin)
    if dot(extra, extra) > 0.0:
        both = add(extra, turn)
        put(v, rotated(rotated(triple(v), scaled(turn, -1.0)), both))
        return both
    return turn


@kernel
def move_coordinates(trees, nodes, q, move):
    """Move all coordinates by displacements (D,): m and rad, turns as rotation vectors. What is led is left alone."""
    for t in range(len(trees)):
        tree = trees[t]
        first = tree.first
        if tree.script >= 0:
            first = tree.end if tree.whole == 1 else first + 1
        for i in range(first, tree.end):
            n = nodes[i]
            d, at = n.dof, n.coord
            if n.kind == FREE:
                for k in range(3):
                    q[at + k] += move[d + 3 + k]
                turn_quaternion(q, at + 3, triple(move[d : d + 3]))
            elif n.kind == BALL:
                if n.axis == 2:  # the turn is in the child's axes: q ∘ r = (q ∘ r ∘ q⁻¹) ∘ q
                    R = n.IA[0:3, 0:3]
                    matrix_of_quaternion(q, at, R)
                    turn_quaternion(q, at, turned(R, triple(move[d - 2 : d + 1])))
            else:
                q[at] += move[d]


@kernel
def move_step(a, count, h):
    """Take over the new velocities and move the coordinates with them."""
    nodes, q = a.nodes, a.q
    now, new, shift, move, rates = a.speeds[NOW], a.speeds[NEW], a.speeds[SHIFT], a.speeds[PULL], a.speeds[RATE]
    per_second = 1.0 / h
    for k in range(len(now)):
        move[k] = h * (new[k] + shift[k])
    for t in range(len(a.trees)):
        tree = a.trees[t]
        if tree.lone == 1:
            d = tree.dof
            put(
                move[d : d + 3], tumble(tree, nodes[tree.first], new[d : d + 3], h, scaled(triple(shift[d : d + 3]), h))
            )
    for k in range(len(now)):
        rates[k] = (new[k] - now[k]) * per_second
        now[k] = new[k]
    move_coordinates(a.trees, nodes, q, move)
    for t in range(len(a.trees)):
        tree = a.trees[t]
        if tree.script >= 0:
            there = a.script[script_at(tree, count.step + 1) :]
            for k in range(7):
                q[nodes[tree.first].coord + k] = there[k]
            if tree.whole == 1:
                for i in range(tree.first + 1, tree.end):
                    q[nodes[i].coord] = there[7 + nodes[i].dof - tree.dof - 6]
    move_trees(a.trees, nodes, q, now)
    if count.equals > 0:
        for _ in range(CLOSINGS):
            if close_positions(count, nodes, a.loops, q, move, a.rows, a.B, a.closed) <= CLOSE_ENOUGH:
                break
            move_coordinates(a.trees, nodes, q, move)
            move_trees(a.trees, nodes, q, now)
    place_geoms(nodes, a.geoms, a.order)


@shared
def finish_step(a, count, h):
    """All that follows from the new velocities of a semi-implicit step."""
    suspect = grows(a.dofs, a.speeds)
    energy, work = 0.0, 0.0
    if suspect:
        energy, _ = kinetic(a.trees, a.nodes, a.dofs, a.speeds[NOW], a.gravity)
        work = given(a, count, h)
    drifts = count.contacts > 0 and aim_drift(a, count, h)
    solve_positions(count, a.speeds, a.contacts, a.limits, a.rows, a.J, a.B, drifts)
    keep_contacts(count, a.contacts, a.kept)
    keep_joints(count, a.dofs, a.limits)
    if len(a.loops) > 0:
        keep_loops(count, a.loops, a.limits, a.contacts, a.rows, a.J, a.B, a.closed, h)
    move_step(a, count, h)
    if suspect:
        new, power = kinetic(a.trees, a.nodes, a.dofs, a.speeds[NOW], a.gravity)
        gained = new - energy - h * power
        if gained > LEAST and gained > SHARE * new and gained - work - given(a, count, h) > max(LEAST, SHARE * new):
            note(a, count, gained, energy)


@kernel
def finish_smooth(a, count, h):
    """Take over the coordinates and velocities of an rk4 step."""
    now, new, rates = a.speeds[NOW], a.speeds[NEW], a.speeds[RATE]
    for k in range(len(now)):
        rates[k] = (new[k] - now[k]) / h
        now[k] = new[k]
    for k in range(len(a.q)):
        a.q[k] = a.stages[0, k]
    count.kept = 0
    move_trees(a.trees, a.nodes, a.q, now)
    place_geoms(a.nodes, a.geoms, a.order)


@kernel
def watch_touches(count, kept, watch_sides, watch_step):
    """Note the step of the first touch of every watched pair."""
    G = watch_sides.shape[2]
    for k in range(count.kept):
        meets = kept[k].rigid == 1 and kept[k].gap <= TOLERATED  # two that are led, or led and fixed
        if dot(triple(kept[k].normal), triple(kept[k].impulse)) <= 0.0 and not meets:
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


@kernel
def refresh_all(a):
    """All that follows from the state; to be called after the state was changed from outside."""
    move_trees(a.trees, a.nodes, a.q, a.speeds[NOW])
    place_geoms(a.nodes, a.geoms, a.order)
    node_accelerations(a.nodes, a.speeds)
    begin_taps(a)


@entry
def refresh(a):
    """The same, for Python."""
    refresh_all(a)


@shared
def solved_step(a, count, h):
    """One semi-implicit step; a status, and the first velocity that is not finite."""
    blow(a, count, h)
    if solve_step(a, count, h) != STATUS_FINE:
        return STATUS_FULL, 0
    broken = first_not_finite(a.speeds[NEW])
    if broken >= 0:
        move_trees(a.trees, a.nodes, a.q, a.speeds[NOW])
        return STATUS_NOT_FINITE, broken
    finish_step(a, count, h)
    return STATUS_FINE, 0


@kernel
def end_step(a, count, h):
    """What every step ends with."""
    follow_commands(a.dofs, a.speeds[NOW], h)
    count.step += 1
    tap_step(a, count, h)
    watch_touches(count, a.kept, a.watch_sides, a.watch_step)


@whole
def take_steps(a, h, steps):
    """Take so many steps of h seconds with the arrays of a ``plant.Plant``.

    Gives a status and a degree of freedom: STATUS_FULL when arrays have to grow (nothing of the step that
    did not fit has happened), STATUS_NOT_FINITE when a velocity is no longer a number; the state is then the
    one before that step.
    """
    count = a.counts[0]
    for _ in range(steps):
        lead(a, count, h)
        if find_contacts(a, h) != STATUS_FINE:
            return STATUS_FULL, 0
        status, broken = solved_step(a, count, h)
        if status != STATUS_FINE:
            return status, broken
        end_step(a, count, h)
        if len(a.loops) > 0 and any_broke(count, a.loops):
            break  # its shapes have to meet again: see ``couplings``
    node_accelerations(a.nodes, a.speeds)
    return STATUS_FINE, 0


@entry
def advance(a, h, steps):
    """The same, for Python."""
    return take_steps(a, h, steps)


@entry
def advance_smooth(a, h, steps):
    """The same with rk4 where nothing has to be solved for; an entry of its own, so that few have to compile it."""
    count = a.counts[0]
    for _ in range(steps):
        lead(a, count, h)
        if find_contacts(a, h) != STATUS_FINE:
            return STATUS_FULL, 0
        rough = roughness(a, count, h)
        if rough == ROUGH_NOT:
            smooth_step(a, count, h)
            broken = first_not_finite(a.speeds[NEW])
            if broken >= 0:
                move_trees(a.trees, a.nodes, a.q, a.speeds[NOW])
                return STATUS_NOT_FINITE, broken
            finish_smooth(a, count, h)
        else:
            count.rough = max(count.rough, rough)
            status, broken = solved_step(a, count, h)
            if status != STATUS_FINE:
                return status, broken
        end_step(a, count, h)
        if len(a.loops) > 0 and any_broke(count, a.loops):
            break
    node_accelerations(a.nodes, a.speeds)
    return STATUS_FINE, 0
