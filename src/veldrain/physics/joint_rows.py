"""The rows of joints: stops that could be met in this step, and Coulomb friction."""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import NO_MOTOR, STATUS_FINE, STATUS_FULL
from veldrain.physics.responses import respond
from veldrain.physics.rows import hold_closed, open_row, set_limit

STOP, FRICTION = -1, -2  # in place of a loop's number


@kernel
def build_joints(count, trees, nodes, dofs, q, v, limits, rows, J, B, closed, h):
    """Rows for joint stops that could be met in this step, and for joint friction."""
    for k in range(len(dofs)):
        dof = dofs[k]
        most = h * (dof.friction + (dof.brake if dof.told == 0 or dof.mode == NO_MOTOR else 0.0))
        if most > 0.0 and not add_joint(
            count, trees, nodes, dof.node, k, FRICTION, -most, most, 0.0, dof.rub, limits, rows, J, B, closed
        ):
            return STATUS_FULL
        if dof.coord < 0:
            continue
        reach = h * 2.0 * abs(v[k]) + 1e-6
        below, above = q[dof.coord] - dof.low, dof.high - q[dof.coord]
        if below < reach and not add_joint(
            count, trees, nodes, dof.node, k, STOP, 0.0, math.inf, -below / h, dof.stop, limits, rows, J, B, closed
        ):
            return STATUS_FULL
        if above < reach and not add_joint(
            count, trees, nodes, dof.node, k, STOP, -math.inf, 0.0, above / h, dof.stop, limits, rows, J, B, closed
        ):
            return STATUS_FULL
    return STATUS_FINE


@kernel
def add_joint(count, trees, nodes, node, dof, kind, low, high, target, before, limits, rows, J, B, closed):
    """One row on a joint, starting from its impulse of the last step; False without room."""
    tree = trees[nodes[node].tree]
    r = open_row(count, trees, nodes[node].tree, -1, rows, J, B)
    if r < 0:
        return False
    at = rows[r].at_a
    J[at + dof - tree.dof] = 1.0
    respond(tree, nodes, node, (0.0, 0.0, 0.0, 0.0, 0.0, 0.0), 1.0, B[at : at + tree.dofs])
    if count.equals > 0:
        hold_closed(count.equals, rows[r], rows, J, B, closed)
    set_limit(count, dof, kind, low, high, target, 0.0, before, limits, rows, J, B)
    return True


@kernel
def keep_joints(count, dofs, limits):
    """Remember the impulses of stops and friction, for the next step and for whoever asks."""
    for k in range(len(dofs)):
        dofs[k].rub, dofs[k].stop = 0.0, 0.0
    for k in range(count.limits):
        limit = limits[k]
        if limit.loop == FRICTION:
            dofs[limit.dof].rub = limit.impulse
        elif limit.loop == STOP:
            dofs[limit.dof].stop = limit.impulse
