"""The arrays that the engine works on. What they hold is said here, once, for all kernels.

Sizes: T trees, N nodes (moving bodies, a tree's nodes in a row, parents first), D degrees of freedom, Q
coordinates, G shapes, P patches, W watches, C contacts, R rows of the solver. A node is a link with all that
is fixed to it; its frame has z along the joint's axis. Node −1 is the world.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from veldrain.pose import Array

Ints = NDArray[np.int64]

# Kinds of node, by the joint that holds it.
TURNING, SLIDING, FREE = 0, 1, 2
# Kinds of shape.
PLANE, BOX, SPHERE, CYLINDER, CAPSULE = 0, 1, 2, 3, 4
# Modes of a motor.
NO_MOTOR, EFFORT, VELOCITY, POSITION = 0, 1, 2, 3


class Plant(NamedTuple):
    """What does not change during a trial."""

    gravity: Array  # (3,)
    tree_node: Ints  # (T + 1,) first node of each tree
    tree_dof: Ints  # (T + 1,) first degree of freedom of each tree
    node_tree: Ints  # (N,)
    node_parent: Ints  # (N,) −1: the world
    node_kind: Ints  # (N,)
    node_dof: Ints  # (N,) first degree of freedom; a FREE node has six: spin, then velocity of its mass centre
    node_coord: Ints  # (N,) first coordinate; a FREE node has seven: mass centre, then quaternion x, y, z, w
    node_place: Array  # (N, 3) joint's place in the parent
    node_turn: Array  # (N, 3, 3) joint's axes in the parent, z along the joint's axis
    node_mass: Array  # (N,)
    node_com: Array  # (N, 3)
    node_inertia: Array  # (N, 3, 3) about the mass centre
    dof_damping: Array  # (D,)
    dof_friction: Array  # (D,)
    dof_low: Array  # (D,) lower limit of the coordinate, −inf: none
    dof_high: Array  # (D,)
    dof_coord: Ints  # (D,) coordinate of a degree of freedom (of a joint)
    motor_mode: Ints  # (D,)
    motor_gain: Array  # (D, 3) stiffness, damping, largest effort
    geom_kind: Ints  # (G,)
    geom_node: Ints  # (G,)
    geom_size: Array  # (G, 3) box: half edges; others: radius, half length, 0; plane: nothing
    geom_place: Array  # (G, 3) in the node
    geom_turn: Array  # (G, 3, 3)
    geom_surface: Array  # (G, 3) friction, restitution, rolling
    geom_touch: Ints  # (G,) 1: takes part in contact
    geom_seen: Ints  # (G,) 1: seen by rays
    geom_core: Array  # (G,) how far the core that normals come from lies inside the shape
    skipped: Ints  # (K,) pairs a·G + b, a < b, that never touch; sorted
    patch_size: Array  # (P, 3) half edges
    patch_place: Array  # (P, 3)
    patch_turn: Array  # (P, 3, 3)
    patch_surface: Array  # (P, 3)


class State(NamedTuple):
    """All that decides what happens next: to copy it is to take a snapshot."""

    step: Ints  # (1,) steps since the start
    q: Array  # (Q,) coordinates
    v: Array  # (D,) velocities
    acceleration: Array  # (D,) over the last step
    effort: Array  # (D,) of the motors in the last step
    command: Array  # (D,) commanded effort, velocity or position
    saturated: Ints  # (D,) sign of the limit that a motor sat on in the last step, 0: none
    push_node: Ints  # (16,)
    push_load: Array  # (16, 9) force, torque (world axes), point (in the node)
    push_until: Ints  # (16,) step from which it acts no longer
    contact_count: Ints  # (1,)
    contact_key: Ints  # (C,) geom a · G + geom b, sorted
    contact_point: Array  # (C, 3)
    contact_normal: Array  # (C, 3) from b to a
    contact_gap: Array  # (C,)
    contact_impulse: Array  # (C, 3) on a, world axes, of the last step
    contact_rolling: Array  # (C, 3) moment impulse on a
    watch_a: Ints  # (W, G) 1: the shape belongs to the watch's first side
    watch_b: Ints  # (W, G)
    watch_step: Ints  # (W,) step of the first touch since it was last cleared, −1: none


class Work(NamedTuple):
    """Room to compute in: derived from the state at each step."""

    ref: Array  # (T, 3) reference point of each tree
    pos: Array  # (N, 3) node frames in the world
    rot: Array  # (N, 3, 3)
    com: Array  # (N, 3) mass centres in the world
    S: Array  # (N, 6) motion subspace of one-dof joints
    twist: Array  # (N, 6) velocity
    bias: Array  # (N, 6) acceleration that the velocity product gives
    IA: Array  # (N, 6, 6) articulated inertia
    pA: Array  # (N, 6) articulated bias force
    U: Array  # (N, 6)
    Dinv: Array  # (N,)
    u: Array  # (N,)
    acc: Array  # (N, 6)
    root: Array  # (T, 6, 6) Cholesky factor of a free root's articulated inertia; a lone body's inverse inertia
    v_free: Array  # (D,) velocity after the step without constraints
    v_new: Array  # (D,)
    shift: Array  # (D,) velocity that only moves positions
    offset: Array  # (D,) effort of motor and damping at the old state
    slope: Array  # (D,) how the effort falls with the new velocity
    gpos: Array  # (G, 3)
    grot: Array  # (G, 3, 3)
    gbox: Array  # (G, 6) bounding box: low, high
    order: Ints  # (G,) shapes by the low end of their box
    pairs: Ints  # (pairs,) a·G + b
    poly: Array  # (6, 24, 3) polygons while they are clipped
    used: Ints  # (C,) 1: the contact of the last step has been taken over
    chosen: Ints  # (4,) which points of a pair are kept
    c_key: Ints  # (C,)
    c_node: Ints  # (C, 2)
    c_point: Array  # (C, 3)
    c_frame: Array  # (C, 3, 3) rows: normal, two tangents
    c_gap: Array  # (C,)
    c_surface: Array  # (C, 3)
    c_lambda: Array  # (C, 5) normal, two of friction, two of rolling
    c_lambda_shift: Array  # (C,) normal impulses that move positions only
    c_target: Array  # (C, 2) wanted normal velocity, and the same for the positions
    c_bounce: Ints  # (C,)
    c_row: Ints  # (C,) first row
    c_gain: Array  # (C, 8) inverse diagonals of the contact's rows
    j_dof: Ints  # (J,) dof of a joint row
    j_bound: Array  # (J, 4) lowest and highest impulse, target velocity, impulse
    seg: Ints  # (R, 6) for each side: first dof, number of dofs, place in J and B
    J: Array  # (room,)
    B: Array  # (room,) inverse inertia times Jᵀ
    counts: Ints  # (4,) contacts, joint rows, rows, room used


STATUS_FINE, STATUS_FULL, STATUS_NOT_FINITE = 0, 1, 2


def new_state(dofs: int, q: Array, watches: int, geoms: int, contacts: int) -> State:
    """A state at rest at the coordinates q, with room for so many contacts."""
    return State(
        step=np.zeros(1, np.int64),
        q=q.copy(),
        v=np.zeros(dofs),
        acceleration=np.zeros(dofs),
        effort=np.zeros(dofs),
        command=np.zeros(dofs),
        saturated=np.zeros(dofs, np.int64),
        push_node=np.zeros(16, np.int64),
        push_load=np.zeros((16, 9)),
        push_until=np.zeros(16, np.int64),
        contact_count=np.zeros(1, np.int64),
        contact_key=np.zeros(contacts, np.int64),
        contact_point=np.zeros((contacts, 3)),
        contact_normal=np.zeros((contacts, 3)),
        contact_gap=np.zeros(contacts),
        contact_impulse=np.zeros((contacts, 3)),
        contact_rolling=np.zeros((contacts, 3)),
        watch_a=np.zeros((watches, geoms), np.int64),
        watch_b=np.zeros((watches, geoms), np.int64),
        watch_step=np.full(watches, -1, np.int64),
    )


def new_work(plant: Plant, contacts: int, pairs: int, room: int) -> Work:
    """Room for so many contacts, pairs of near shapes, and numbers in the rows' Jacobians."""
    T, N, D, G = len(plant.tree_node) - 1, len(plant.node_kind), len(plant.dof_damping), len(plant.geom_kind)
    rows = 5 * contacts + 2 * D
    return Work(
        ref=np.zeros((T, 3)),
        pos=np.zeros((N, 3)),
        rot=np.zeros((N, 3, 3)),
        com=np.zeros((N, 3)),
        S=np.zeros((N, 6)),
        twist=np.zeros((N, 6)),
        bias=np.zeros((N, 6)),
        IA=np.zeros((N, 6, 6)),
        pA=np.zeros((N, 6)),
        U=np.zeros((N, 6)),
        Dinv=np.zeros(N),
        u=np.zeros(N),
        acc=np.zeros((N, 6)),
        root=np.zeros((T, 6, 6)),
        v_free=np.zeros(D),
        v_new=np.zeros(D),
        shift=np.zeros(D),
        offset=np.zeros(D),
        slope=np.zeros(D),
        gpos=plant.geom_place.copy(),
        grot=plant.geom_turn.copy(),
        gbox=np.zeros((G, 6)),
        order=np.arange(G),
        pairs=np.zeros(pairs, np.int64),
        poly=np.zeros((6, 24, 3)),
        used=np.zeros(contacts, np.int64),
        chosen=np.zeros(4, np.int64),
        c_key=np.zeros(contacts, np.int64),
        c_node=np.zeros((contacts, 2), np.int64),
        c_point=np.zeros((contacts, 3)),
        c_frame=np.zeros((contacts, 3, 3)),
        c_gap=np.zeros(contacts),
        c_surface=np.zeros((contacts, 3)),
        c_lambda=np.zeros((contacts, 5)),
        c_lambda_shift=np.zeros(contacts),
        c_target=np.zeros((contacts, 2)),
        c_bounce=np.zeros(contacts, np.int64),
        c_row=np.zeros(contacts, np.int64),
        c_gain=np.zeros((contacts, 8)),
        j_dof=np.zeros(2 * D, np.int64),
        j_bound=np.zeros((2 * D, 4)),
        seg=np.zeros((rows, 6), np.int64),
        J=np.zeros(room),
        B=np.zeros(room),
        counts=np.zeros(4, np.int64),
    )
