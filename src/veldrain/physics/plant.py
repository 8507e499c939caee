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

# Kinds of node, by the joint that holds it. A ball joint is a row of three nodes, of which the last has the mass.
TURNING, SLIDING, FREE, BALL = 0, 1, 2, 3
# Kinds of shape. A MESH is a set of triangles, each of which meets others as a HULL of one face; a FIELD of heights is
# for rays only.
PLANE, BOX, SPHERE, CYLINDER, CAPSULE, CONE, ELLIPSOID, HULL, MESH, FIELD = range(10)
# Kinds of closed loops, and what else acts between two points. Two links that are COUPLED move as one until they are
# released, or it breaks: then they are APART, and the row waits.
CLOSED_FIXED, CLOSED_REVOLUTE, CLOSED_PRISMATIC, CLOSED_BALL, ROPE, SPRING, MIMIC, COUPLED, APART = range(9)
# Modes of a motor.
NO_MOTOR, EFFORT, VELOCITY, POSITION = 0, 1, 2, 3
# Rows of Plant.speeds.
NOW, UNFORCED, NEW, SHIFT, PULL, RATE = 0, 1, 2, 3, 4, 5
# Why a step cannot be smooth; the largest number is told.
ROUGH_NOT, ROUGH_PATH, ROUGH_STOP, ROUGH_FRICTION, ROUGH_LINKS, ROUGH_CONTACT, ROUGH_AIR, ROUGH_SPEED = range(8)
# How an advance ended.
STATUS_FINE, STATUS_FULL, STATUS_NOT_FINITE = 0, 1, 2


def _record(integers: str, numbers: str, **arrays: int | tuple[int, ...]) -> np.dtype[Any]:
    fields: list[tuple[Any, ...]] = [(name, np.int64) for name in integers.split()]
    fields += [(name, np.float64) for name in numbers.split()]
    fields += [(name, np.float64, shape) for name, shape in arrays.items()]
    return np.dtype(fields)


COUNTS = _record(
    # axis: along which near pairs are looked for. eased: when least effort is looked for next, see ``effort``.
    # surge: the first step that made energy, see ``surges``. wanted: s, a step that would do where this one is too
    # coarse; 0: it is not.
    "step contacts kept equals limits rows room sweeps axis rough eased_contacts eased_rests eased_next "
    "shared_contacts shared_rests shared_next "
    "surges surge_step surge_pair surge_dof",
    "surge surge_energy wanted",
)

TREE = _record(
    # Nodes first to end − 1; dofs from dof on. lone: a free body by itself. A led root moves as rows of Plant.script
    # say: rows of them, width numbers each, the first at number script for step base; script is −1 of what is not led.
    # whole: 1 where all that hangs on it is led too.
    "first end dof dofs lone script rows width base whole",
    "swing",  # rad²/s²: of soft contacts on it, the sum of what each would swing with, squared
    ref=3,  # reference point of spatial vectors
    root=(6, 6),  # of a free root: Cholesky factor of its articulated inertia; of a lone one: 3 × 3 inverse inertia
)
NODE = _record(
    # A FREE node has six dofs (spin, velocity of its mass centre) and seven coordinates (mass centre,
    # quaternion x, y, z, w). The three nodes of a BALL share a quaternion and have one of the child's axes each;
    # others have one dof and one coordinate.
    "tree parent kind dof coord axis",
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
    pull=6,  # xx, yy, zz, xy, xz, yz: see trees.pull_on
    acc=6,  # acceleration
)
DOF = _record(
    # coord −1: of a FREE or BALL node; bound: which line the motor's effort is on, see ``motors``; told: 1 once it was
    # commanded; locked: 1 where low and high hold it where it is.
    "coord node mode bound told locked",
    # inertia: reflected by the motor. spring, rest: of the joint's own spring. rub, stop: impulses of the joint's
    # friction and stop in the last step.
    "damping friction low high spring rest inertia stiffness gain limit command "
    # pace, assist: velocity and effort given beside the command. held: the command as a lagging motor has it, and the
    # share by which it follows in a step. stall, free_speed: of a DC motor.
    # wound: of a velocity motor's integral part; slack: how far it is ahead in the play of its gear.
    "pace assist held follows top_speed stall free_speed play integral wound slack brake "
    "effort offset slope rub stop",
)
GEOM = _record(
    # Of a HULL its corners and faces, of a MESH its triangles (as faces) and the root of its tree of boxes.
    # Of a MESH that is a height field (rows above 0) the first of its heights in first_face, see ``grounds``.
    # stiff: neither a contact nor a push moves it: it is fixed in the world, or led.
    "kind node first_corner first_face end_face branch stiff rows columns",
    "core spacing",  # core: how far the core that normals come from lies inside the shape
    size=3,  # box: half edges; ellipsoid: half axes; hull: see CORNER; others: radius, half length
    place=3,
    turn=(3, 3),
    surface=6,  # friction, restitution, rolling, spinning, compliance (m/N), damping (N·s/m)
    belt=3,  # velocity of its surface, in its own axes
    pos=3,
    rot=(3, 3),
    box=6,  # around it, along the world axes: low, high
)
MOST_CORNERS = 12  # of a face
NEAR = 6  # neighbours and faces of a corner in one row
# Of a hull, whose size is the radius of a ball inside it and of one around it, and how often a side of the cube of
# directions is divided. Rows are counted from the hull's first one.
CORNER = np.dtype(
    [
        ("at", np.float64, 3),
        ("start", np.int64),  # row k says which corner lies near the farthest one in cell k of the cube of directions
        ("more", np.int64),  # the row with more neighbours and faces; −1: there is none
        ("near", np.int32, NEAR),  # corners across an edge; −1: no more
        ("faces", np.int32, NEAR),  # faces that it is a corner of; −1: no more
    ]
)
FACE = _record(
    "corners",
    "",
    normal=3,
    lean=3,  # of a triangle: least cosine between its normal and a contact's on each side; 1 on inner sides
    at=(MOST_CORNERS, 3),
)
TRIANGLE = _record("", "", normal=3, lean=3, at=(3, 3))  # of a mesh; as a FACE has them
BRANCH = _record("first end skip", "", box=6)  # of a tree of boxes: triangles of a leaf; where to go on without it
# What follows a route, see ``leading``.
LED = _record(
    # base: the step that its row is of; its pieces of curve and where it is in them; begin: when it sets off; free: it
    # has left its route; closed, stops, turns: of the route; minds, moves, lines: its rows of these; lift,
    # columns: of lifts.
    "tree base first end piece begin free closed stops turns upright lift columns first_mind end_mind first_move "
    "end_move first_line end_line",
    # along the route; speed, and what is told of it; halt: where it is to stand; travel: its own way so far; shifted,
    # span: how far it is in a change of its offset; turn: a heading that is kept; ahead, wide: its front and half
    # width; tall: how high its root stands; side, spread: first offset of lifts and their distance; gap to others,
    # and how it speeds up and brakes for one: as its route says, whatever up and down are told for now.
    "s length speed goal up down halt travel shifted span turn ahead wide tall side spread gap_time gap_rest "
    "gap_up gap_down",
    way=6,  # polynomial of its offset over the way that it has gone since the change began
    own=9,  # where it left its route: x, y, heading, curvature, its change, length; z, pitch and roll
)
# A piece of a curve: see motion.curves. square, slope: of the most speed, squared, and how it changes along it.
PIECE = _record("", "s length x y heading cosine sine k c square slope")
MOVE = _record("dof", "offset rate swing wave phase base gain")  # what a joint of something led does, see ``leading``
# A traffic light. forced: the colour that it was switched to for a while, −1: none; kept: from then on; until: when in
# its cycle each phase ends.
LIGHT = _record("forced kept phases", "begin total", until=16, colours=16)
# A line of something led: its light, or (−1) whom it gives way to and on which route; s: along its own; where they
# would meet: in and out along its own and the other's.
LINE = _record("light other route", "s own_in own_out other_in other_out margin")
MIND = _record("node piece", "rear wide")  # whom something led keeps a gap to: where it is in the other's pieces
PATCH = _record("", "", size=3, place=3, turn=(3, 3), surface=6)  # size: half edges
PUSH = _record("node link until", "", force=3, torque=3, point=3)  # world axes; the point is in the node
AIR = _record("", "density", wind=3)  # steady wind, world axes
GUST = _record("", "rate phase", size=3)  # one wave of the wind: rad/s, rad, m/s along the world's axes
# What the air does to a node: a rotor (dof of its joint), thrust along z; or drag (dof −1). It acts through a push.
BLOWN = _record("push node dof", "thrust torque", place=3, turn=(3, 3), area=3)
LOOP = _record(
    # What acts between points of two nodes (−1: the world); of a MIMIC node_a follows node_b. row: first row.
    # broke: the step in which what is COUPLED broke apart.
    "kind node_a node_b link_a link_b row rows broke",
    # length, stiffness, damping: of a rope or spring; a MIMIC's offset and ratio are length and stiffness. most_force,
    # most_moment: from which on what is COUPLED breaks.
    "length stiffness damping most_force most_moment",
    at_a=3,
    turn_a=(3, 3),
    at_b=3,
    turn_b=(3, 3),
    impulse=6,
    direction=(6, 3),  # of each row
    turning=6,  # 1: the row is of turning
    point=3,  # where it acts
    force=3,  # on a in the last step, and the moment about the point
    moment=3,
)
CONTACT = _record(
    # key: shape a · shapes + shape b; row, rows: its first row, and how many; free: see effort; sticks: see drift
    "key node_a node_b bounce row rows free sticks",
    # target: wanted normal velocity; target_shift: the same for positions; shift: its impulse; soft: what the
    # normal velocity gives way for an impulse of 1.
    "gap target target_shift shift soft",
    point=3,
    frame=(3, 3),  # rows: normal from b to a, two tangents
    surface=6,
    belt=2,  # along the tangents: what the surfaces' own velocities add to the sliding
    impulse=6,  # normal, two of friction, two of rolling, spinning
    mobility=9,  # see rows.contact_mobility
    wrong=3,  # see solver: what is wrong, and the direction of search
    pull=3,
    ease=3,  # see effort
    slope=2,  # friction that slides, per normal impulse
    away=3,
    drift=2,  # see drift
)
# A contact of the last step; rigid: neither side can give way.
KEPT = _record("key used rigid", "gap", point=3, normal=3, impulse=3, moment=3)
# A row between two bounds; shift, target_shift: as of a contact.
# What sensors gather at every step (see ``taps``): sums since the last sample, in the sensor's axes.
INERTIAL = _record(
    "node begun steps",
    "follows most_force most_rate",  # follows: share that a first-order low pass goes on in a step, 1: none
    place=3,
    turn=(3, 3),
    before=3,  # velocity, in the axes, and axes at the start of the step
    axes=(3, 3),
    smooth=(2, 3),  # of the low pass: force and rate
    force=3,
    rate=3,
)
LOAD = _record(
    "node first end steps", "", place=3, turn=(3, 3), axes=(3, 3), point=3, force=3, torque=3, sum_force=3, sum_torque=3
)
HANGING = _record("node", "mass", centre=3, inertia=(3, 3), before=3, spun=3)  # a link below the joint of a load
TALLY = _record("first count end lost steps", "pressed")  # its rows of FELT; lost: contacts without room
# A place where two shapes touch: point and normal are times weight; last: where it was in the last step.
FELT = _record("key", "weight gap", impulse=3, point=3, normal=3, moment=3, last=3)
DRIVE = _record("dof steps", "sum")
LIMIT = _record(
    # positions: 1 where it also moves positions, to undo what is wrong with them.
    "dof row positions loop free",
    "low high target target_shift soft mobility impulse shift wrong pull ease away",
)
ROW = _record("dof_a dofs_a at_a dof_b dofs_b at_b", "")  # of each side: its dofs and their place in J and B


class Plant(NamedTuple):
    """All arrays of a world in motion, in the order in which ``advance`` takes them."""

    counts: Records  # (1,) COUNTS
    gravity: Array  # (3,)
    trees: Records  # (T,)
    nodes: Records  # (N,)
    dofs: Records  # (D,)
    q: Array  # (Q,) coordinates
    speeds: Array  # (5, D) now; after the step if nothing held; after the step; what moves positions only; pull
    geoms: Records  # (G,)
    probe: Records  # (1,) GEOM: a triangle of a mesh while it meets another shape
    corners: Records  # (V,) CORNER of hulls, in the shape; the first three are the triangle's
    faces: Records  # (F,) of hulls, in the shape; the first is the triangle, the second that of a field
    triangles: Records  # (M,) of meshes, in the shape
    heights: Array  # of height fields, about the middle of the least and the greatest
    branches: Records  # trees of boxes over the triangles of meshes, depth first
    loops: Records  # (L,)
    script: Array  # (numbers,) rows of what is led: mass centre, quaternion and joints, step by step
    led: Records
    pieces: Records
    lifts: Array  # (rows, 3, 4) cubics of height, pitch and roll over the length of a piece, for each of its columns
    moves: Records
    minds: Records
    lights: Records
    lines: Records
    patches: Records  # (P,)
    skipped: Ints  # (K,) keys of pairs that never touch, sorted
    watched: Ints  # keys of pairs of stiff shapes that are looked at all the same: someone watches them
    pushes: Records  # (16 and one for each of what is blown,)
    air: Records  # (1,) AIR
    gusts: Records  # (waves,)
    blown: Records  # (rotors and links with drag,)
    watch_sides: Ints  # (W, 2, G) 1: the shape belongs to that side of the watch
    watch_step: Ints  # (W,) step of the first touch since it was last cleared, −1: none
    order: Ints  # (movers,) shapes that move, by the low end of their box
    still: Ints  # shapes fixed in the world, in the order of the tree of boxes over them
    boxes: Records  # BRANCH: that tree
    pairs: Ints  # (near pairs,) keys
    poly: Array  # (6, 24, 3) polygons while they are clipped
    chosen: Ints  # (4,) which points of a pair are kept
    contacts: Records  # (C,)
    kept: Records  # (C,)
    limits: Records  # (3 D + L,)
    rows: Records  # (R,)
    J: Array  # (room,)
    B: Array  # (room,) M⁻¹·Jᵀ
    closed: Array  # (E + 2, E) factor of the rows of closed loops on each other, and two rows to work in
    stages: Array  # (8, max(Q, D)) of rk4
    room: Array  # (3, 3) to work in
    inertials: Records
    loads: Records
    load_geoms: Ints  # (loads, G) 1: the shape hangs on the joint
    load_links: Ints  # (loads, links)
    hanging: Records
    tallies: Records
    tally_geoms: Ints  # (tallies, G) 1: contacts of the shape count
    felt: Records
    drives: Records


# What decides what happens next: to copy these is to take a snapshot.
STATE = (
    "counts", "gravity", "trees", "dofs", "q", "speeds", "nodes", "geoms", "patches", "pushes", "air", "loops",
    "watch_step", "order", "kept", "script", "led", "minds",
    "lights", "lines",
)  # fmt: skip


def with_room(plant: Plant, contacts: int, pairs: int, room: int) -> Plant:
    """The plant with room for so many contacts, near pairs and numbers in the rows; kept contacts stay."""
    kept = np.zeros(contacts, KEPT)
    kept[: len(plant.kept)] = plant.kept
    return plant._replace(
        pairs=np.zeros(pairs, np.int64),
        contacts=np.zeros(contacts, CONTACT),
        kept=kept,
        rows=np.zeros(6 * contacts + len(plant.limits) + plant.closed.shape[1], ROW),
        J=np.zeros(room),
        B=np.zeros(room),
    )
