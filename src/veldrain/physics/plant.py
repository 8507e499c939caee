"""The arrays that the engine works on. What they hold is said here, once, for all kernels.

Most are arrays of records, so that a kernel takes few arguments and reads like the mechanics it does. A node
is a link with all that is fixed to it; its frame has z along the joint's axis. Node −1 is the world. A
tree's nodes stand in a row, parents first. Spatial vectors: see ``spatial``.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from veldrain.pose import Array

Ints = NDArray[np.int64]
Records = NDArray[np.void]

# Kinds of node, by the joint that holds it.
TURNING, SLIDING, FREE = 0, 1, 2
# Kinds of shape.
PLANE, BOX, SPHERE, CYLINDER, CAPSULE = 0, 1, 2, 3, 4
# Modes of a motor.
NO_MOTOR, EFFORT, VELOCITY, POSITION = 0, 1, 2, 3
# Rows of Plant.speeds.
NOW, UNFORCED, NEW, SHIFT = 0, 1, 2, 3
# How an advance ended.
STATUS_FINE, STATUS_FULL, STATUS_NOT_FINITE = 0, 1, 2


def _record(integers: str, numbers: str, **arrays: int | tuple[int, ...]) -> np.dtype[Any]:
    fields: list[tuple[Any, ...]] = [(name, np.int64) for name in integers.split()]
    fields += [(name, np.float64) for name in numbers.split()]
    fields += [(name, np.float64, shape) for name, shape in arrays.items()]
    return np.dtype(fields)


COUNTS = _record("step contacts kept joint_rows rows room", "")

TREE = _record(
    "first end dof dofs",  # nodes first to end − 1; dofs from dof on
    "",
    ref=3,  # reference point of spatial vectors
    root=(6, 6),  # Cholesky factor of a free root's articulated inertia
)
NODE = _record(
    # A FREE node has six dofs (spin, velocity of its mass centre) and seven coordinates (mass centre,
    # quaternion x, y, z, w); others have one of each.
    "tree parent kind dof coord",
    "mass Dinv u",
    place=3,  # the joint's place and axes in the parent
    turn=(3, 3),
    centre=3,  # mass centre and inertia about it, in the node
    inertia=(3, 3),
    pos=3,  # from here on: what the state gives, in the world
    rot=(3, 3),
    com=3,
    S=6,  # motion subspace of a one-dof joint
    twist=6,  # velocity
    bias=6,  # acceleration from the velocity product
    IA=(6, 6),  # articulated inertia
    pA=6,  # articulated bias force
    U=6,
    acc=6,  # acceleration
)
DOF = _record(
    "coord mode saturated",  # coord −1: of a FREE node. saturated: sign of the limit that the motor sits on
    "damping friction low high stiffness gain limit command effort acceleration offset slope",
)
GEOM = _record(
    "kind node touch seen",
    "core",  # how far the core that normals come from lies inside the shape
    size=3,  # box: half edges; others: radius, half length, 0
    place=3,
    turn=(3, 3),
    surface=3,  # friction, restitution, rolling
    pos=3,
    rot=(3, 3),
    box=6,  # around it, along the world axes: low, high
)
PATCH = _record("", "", size=3, place=3, turn=(3, 3), surface=3)  # size: half edges
PUSH = _record("node until", "", force=3, torque=3, point=3)  # world axes; the point is in the node
CONTACT = _record(
    "key node_a node_b bounce row",  # key: shape a · shapes + shape b; row: the first of its rows
    "gap target target_shift shift",  # wanted normal velocity and the same for positions; shift: its impulse
    point=3,
    frame=(3, 3),  # rows: normal from b to a, two tangents
    surface=3,
    impulse=5,  # normal, two of friction, two of rolling
    mobility=8,  # see rows.contact_mobility
)
KEPT = _record("key used", "gap", point=3, normal=3, impulse=3, moment=3)  # a contact of the last step
JOINT_ROW = _record("dof", "low high target impulse")
ROW = _record("dof_a dofs_a at_a dof_b dofs_b at_b", "")  # of each side: its dofs and their place in J and B


class Plant(NamedTuple):
    """All arrays of a world in motion, in the order in which ``advance`` takes them."""

    counts: Records  # (1,) COUNTS
    gravity: Array  # (3,)
    trees: Records  # (T,)
    nodes: Records  # (N,)
    dofs: Records  # (D,)
    q: Array  # (Q,) coordinates
    speeds: Array  # (4, D) now; after the step if nothing held; after the step; what moves positions only
    geoms: Records  # (G,)
    patches: Records  # (P,)
    skipped: Ints  # (K,) keys of pairs that never touch, sorted
    pushes: Records  # (16,)
    watch_sides: Ints  # (W, 2, G) 1: the shape belongs to that side of the watch
    watch_step: Ints  # (W,) step of the first touch since it was last cleared, −1: none
    order: Ints  # (G,) shapes by the low end of their box
    pairs: Ints  # (near pairs,) keys
    poly: Array  # (6, 24, 3) polygons while they are clipped
    chosen: Ints  # (4,) which points of a pair are kept
    contacts: Records  # (C,)
    kept: Records  # (C,)
    joint_rows: Records  # (2 D,)
    rows: Records  # (R,)
    J: Array  # (room,)
    B: Array  # (room,) M⁻¹·Jᵀ


# What decides what happens next: to copy these is to take a snapshot.
STATE = ("counts", "dofs", "q", "speeds", "pushes", "watch_step", "order", "kept")


def with_room(plant: Plant, contacts: int, pairs: int, room: int) -> Plant:
    """The plant with room for so many contacts, near pairs and numbers in the rows; kept contacts stay."""
    kept = np.zeros(contacts, KEPT)
    kept[: len(plant.kept)] = plant.kept
    return plant._replace(
        pairs=np.zeros(pairs, np.int64),
        contacts=np.zeros(contacts, CONTACT),
        kept=kept,
        rows=np.zeros(5 * contacts + 2 * len(plant.dofs), ROW),
        J=np.zeros(room),
        B=np.zeros(room),
    )
