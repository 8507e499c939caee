"""From a world of named things to the engine's arrays, and the tables that lead back to the names."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError
from veldrain.model import GROUND, Box, Capsule, Cylinder, MassProperties, Model, Part, Placed, Shape, Sphere, Surface, World
from veldrain.model.inertia import combined
from veldrain.model.model import Joint, Motor
from veldrain.physics import plant as p
from veldrain.pose import Array, Pose

DEEPEST_CORE = 1e-3  # m
_MODES = {"effort": p.EFFORT, "velocity": p.VELOCITY, "position": p.POSITION}


@dataclass(frozen=True)
class LinkPlace:
    """Where a link is: fixed in a node (−1: the world), at a pose."""

    node: int
    pose: Pose


@dataclass
class Robot:
    """The tables of one placed model or body."""

    name: str
    root: str
    joints: dict[str, int] = field(default_factory=dict)  # degree of freedom by joint
    linear: set[str] = field(default_factory=set)


@dataclass
class Compiled:
    """A plant with its start and its names."""

    plant: p.Plant
    q: Array
    v: Array
    links: dict[str, LinkPlace]  # links, frames, bodies and obstacles by name path
    robots: dict[str, Robot]
    geom_names: list[str]
    dof_names: list[str]


class _Builder:
    """Collects rows for the plant's arrays."""

    def __init__(self) -> None:
        self.tree_node, self.tree_dof = [0], [0]
        self.nodes: list[tuple[int, int, int, int, int, Pose]] = []  # tree, parent, kind, dof, coord, joint pose
        self.bodies: list[MassProperties] = []
        self.dofs: list[tuple[float, float, float, float, int, int, tuple[float, float, float]]] = []
        self.dof_names: list[str] = []
        self.geoms: list[tuple[int, int, Array, Pose, Surface, bool, bool, float]] = []
        self.geom_names: list[str] = []
        self.skipped: set[tuple[int, int]] = set()
        self.q: list[float] = []
        self.v: list[float] = []
        self.links: dict[str, LinkPlace] = {}
        self.robots: dict[str, Robot] = {}

    def add_part(self, name: str, node: int, pose: Pose, part: Part, surface: Surface) -> int:
        """One shape on a node; its number."""
        kind, size = _kind_and_size(part.shape)
        least = float(min(size[size > 0]))
        core = min(0.1 * least, DEEPEST_CORE)
        touch, seen = part.role != "visual", part.role != "collision"
        self.geoms.append((kind, node, size, pose @ part.pose, part.surface or surface, touch, seen, core))
        self.geom_names.append(name)
        return len(self.geoms) - 1

    def add_free(self, name: str, pose: Pose, body: MassProperties, v: tuple[float, ...]) -> int:
        """A node that moves freely, in a tree of its own; its number."""
        if body.mass <= 0:
            raise VeldrainError("moves freely and has no mass", where=name, cure="give mass=")
        at = pose.apply(body.com)
        node = self._add_node(name, -1, p.FREE, Pose(), body, opens_tree=True)
        self.q += [*at, *pose.rotation.as_quat()]
        self.v += v
        for axis in ("spin x", "spin y", "spin z", "x", "y", "z"):
            self.dofs.append((0.0, 0.0, -np.inf, np.inf, -1, p.NO_MOTOR, (0.0, 0.0, 0.0)))
            self.dof_names.append(f"{name} ({axis})")
        return node

    def add_joint(
        self, name: str, joint: Joint, motor: Motor | None, parent: int, pose: Pose, body: MassProperties, q: float
    ) -> int:
        """A node held by a joint with one degree of freedom; its number."""
        kind = p.SLIDING if joint.kind == "prismatic" else p.TURNING
        coord = len(self.q)
        node = self._add_node(name, parent, kind, pose, body, opens_tree=parent < 0)
        low, high = joint.limits or (-np.inf, np.inf)
        mode = _MODES[motor.mode] if motor else p.NO_MOTOR
        gains = (motor.stiffness, motor.damping, motor.limit) if motor else (0.0, 0.0, 0.0)
        self.dofs.append((joint.damping, joint.friction, low, high, coord, mode, gains))
        self.dof_names.append(name)
        self.q.append(q)
        self.v.append(0.0)
        return node

    def _add_node(self, name: str, parent: int, kind: int, pose: Pose, body: MassProperties, opens_tree: bool) -> int:
        dof, coord = len(self.v), len(self.q)
        if opens_tree and self.nodes:
            self.tree_node.append(len(self.nodes))
            self.tree_dof.append(dof)
        self.nodes.append((len(self.tree_node) - 1, parent, kind, dof, coord, pose))
        self.bodies.append(body)
        return len(self.nodes) - 1

    def plant(self, world: World) -> p.Plant:
        """The arrays."""

        def ints(values: list[int]) -> p.Ints:
            return np.array(values, np.int64)

        def stack(values: list[Array], *shape: int) -> Array:
            return np.array(values, float).reshape(len(values), *shape)

        tree, parent, kind, dof, coord, pose = zip(*self.nodes, strict=True) if self.nodes else ([],) * 6
        damping, friction, low, high, dof_coord, mode, gains = zip(*self.dofs, strict=True) if self.dofs else ([],) * 7
        g_kind, g_node, g_size, g_pose, g_surface, touch, seen, core = (
            zip(*self.geoms, strict=True) if self.geoms else ([],) * 8
        )
        patches = list(world.patches.values())
        closes = bool(self.nodes)
        return p.Plant(
            gravity=np.array(world.gravity),
            tree_node=ints([*self.tree_node, len(self.nodes)] if closes else [0]),
            tree_dof=ints([*self.tree_dof, len(self.v)] if closes else [0]),
            node_tree=ints(list(tree)),
            node_parent=ints(list(parent)),
            node_kind=ints(list(kind)),
            node_dof=ints(list(dof)),
            node_coord=ints(list(coord)),
            node_place=stack([x.position for x in pose], 3),
            node_turn=stack([x.matrix for x in pose], 3, 3),
            node_mass=np.array([b.mass for b in self.bodies], float),
            node_com=stack([b.com for b in self.bodies], 3),
            node_inertia=stack([b.inertia for b in self.bodies], 3, 3),
            dof_damping=np.array(damping, float),
            dof_friction=np.array(friction, float),
            dof_low=np.array(low, float),
            dof_high=np.array(high, float),
            dof_coord=ints(list(dof_coord)),
            motor_mode=ints(list(mode)),
            motor_gain=stack(list(gains), 3),
            geom_kind=ints(list(g_kind)),
            geom_node=ints(list(g_node)),
            geom_size=stack(list(g_size), 3),
            geom_place=stack([x.position for x in g_pose], 3),
            geom_turn=stack([x.matrix for x in g_pose], 3, 3),
            geom_surface=stack([np.array([s.friction, s.restitution, s.rolling]) for s in g_surface], 3),
            geom_touch=ints([int(t) for t in touch]),
            geom_seen=ints([int(s) for s in seen]),
            geom_core=np.array(core, float),
            skipped=np.sort(ints([a * len(self.geoms) + b for a, b in self.skipped])),
            patch_size=stack([np.array(x.size) / 2 for x in patches], 3),
            patch_place=stack([x.pose.position for x in patches], 3),
            patch_turn=stack([x.pose.matrix for x in patches], 3, 3),
            patch_surface=stack(
                [np.array([x.surface.friction, x.surface.restitution, x.surface.rolling]) for x in patches], 3
            ),
        )


def _kind_and_size(shape: Shape) -> tuple[int, Array]:
    if isinstance(shape, Box):
        return p.BOX, np.array(shape.size) / 2
    if isinstance(shape, Sphere):
        return p.SPHERE, np.array([shape.radius, 0.0, 0.0])
    if isinstance(shape, Cylinder | Capsule):
        kind = p.CYLINDER if isinstance(shape, Cylinder) else p.CAPSULE
        return kind, np.array([shape.radius, shape.length / 2, 0.0])
    raise VeldrainError(f"the engine has no shape {type(shape).__name__}", cure="use Box, Sphere, Cylinder or Capsule")


def compile_world(world: World) -> Compiled:
    """The plant of a world, with the names of all its parts.

    Raises:
        VeldrainError: a link that moves and has no mass.
    """
    b = _Builder()
    if world.floor:
        level = Pose((0, 0, world.floor.height))
        b.geoms.append((p.PLANE, -1, np.zeros(3), level, world.floor.surface, True, True, 0.0))
        b.geom_names.append(GROUND)
        b.links[GROUND] = LinkPlace(-1, level)
    for obstacle in world.obstacles.values():
        b.add_part(obstacle.name, -1, obstacle.pose, obstacle.part, obstacle.surface)
        b.links[obstacle.name] = LinkPlace(-1, obstacle.pose)
    for name, pose in world.frames.items():
        b.links[name] = LinkPlace(-1, pose)
    for body in world.bodies.values():
        arm = body.pose.rotation.apply(body.mass_properties.com)
        v_com = np.array(body.velocity) + np.cross(body.spin, arm)
        node = b.add_free(body.name, body.pose, body.mass_properties, (*body.spin, *v_com))
        b.add_part(body.name, node, Pose(), body.part, body.surface)
        b.links[body.name] = LinkPlace(node, Pose())
        b.robots[body.name] = Robot(body.name, body.name)
    for placed in world.placed.values():
        _add_robot(b, placed)
    return Compiled(
        b.plant(world), np.array(b.q), np.array(b.v), b.links, b.robots, b.geom_names, b.dof_names
    )


def _add_robot(b: _Builder, placed: Placed) -> None:
    model, name = placed.model, placed.name
    robot = b.robots[name] = Robot(name, f"{name}/{model.root()}")
    children: dict[str, list[Joint]] = {}
    for joint in model.joints.values():
        children.setdefault(joint.parent, []).append(joint)
    geoms_of: dict[int, list[int]] = {}
    afloat: list[tuple[Joint, Pose]] = []  # each starts a tree of its own, once the tree it leaves is whole

    def rigid(link: str, pose: Pose) -> list[tuple[str, Pose]]:
        """The links that are fixed to this one, itself first, with their poses in its frame."""
        found = [(link, pose)]
        for joint in children.get(link, []):
            if joint.kind == "fixed":
                found += rigid(joint.child, pose @ joint.pose)
        return found

    def mass_of(group: list[tuple[str, Pose]]) -> MassProperties:
        return combined([model.links[link].mass_properties.moved(pose) for link, pose in group])

    def settle(group: list[tuple[str, Pose]], node: int, world_pose: Pose) -> None:
        """Give a node its links, and go on to the joints that leave it."""
        for link, pose in group:
            _add_link(b, model, name, link, node, pose, geoms_of)
        for link, pose in group:
            for joint in children.get(link, []):
                if joint.kind != "fixed":
                    hang(joint, node, pose, world_pose)

    def hang(joint: Joint, node: int, link_pose: Pose, world_pose: Pose) -> None:
        where = f"{name}/{joint.name}"
        if joint.kind == "floating":
            afloat.append((joint, world_pose @ link_pose @ joint.pose))
            return
        turn = Pose(rotation=_z_to(joint.axis))
        group = rigid(joint.child, turn.inverse())
        body = mass_of(group)
        if body.mass <= 0:
            raise VeldrainError("moves and has no mass", where=f"{name}/{joint.child}", cure="give mass=")
        q = placed.joints.get(joint.name, 0.0)
        in_parent = link_pose @ joint.pose @ turn
        new = b.add_joint(where, joint, model.motors.get(joint.name), node, in_parent, body, q)
        robot.joints[joint.name] = len(b.v) - 1
        if joint.is_linear:
            robot.linear.add(joint.name)
        moved = Pose((0, 0, q)) if joint.is_linear else Pose(yaw=q)
        settle(group, new, world_pose @ in_parent @ moved)

    group = rigid(model.root(), Pose())
    if placed.fixed:
        settle([(link, placed.pose @ pose) for link, pose in group], -1, Pose())
    else:
        node = b.add_free(name, placed.pose, mass_of(group), (0.0,) * 6)
        settle(group, node, placed.pose)
    for joint, start in afloat:
        group = rigid(joint.child, Pose())
        settle(group, b.add_free(f"{name}/{joint.child}", start, mass_of(group), (0.0,) * 6), start)
    # Links joined by a joint do not collide: their shapes meet at the joint by design.
    for i, (_, parent, kind, *_rest) in enumerate(b.nodes):
        if kind != p.FREE and i in geoms_of:
            for a in geoms_of[i]:
                b.skipped.update((min(a, c), max(a, c)) for c in geoms_of.get(parent, []))


def _add_link(
    b: _Builder, model: Model, robot: str, link: str, node: int, pose: Pose, geoms_of: dict[int, list[int]]
) -> None:
    described = model.links[link]
    path = f"{robot}/{link}"
    b.links[path] = LinkPlace(node, pose)
    for part in described.parts:
        geom = b.add_part(path, node, pose, part, described.surface)
        geoms_of.setdefault(node, []).append(geom)
    for frame in model.frames.values():
        if frame.link == link:
            b.links[f"{robot}/{frame.name}"] = LinkPlace(node, pose @ frame.pose)


def _z_to(axis: tuple[float, float, float]) -> Rotation:
    """A rotation that takes z to the axis; none for z itself."""
    if axis == (0.0, 0.0, 1.0):
        return Rotation.identity()
    if axis == (0.0, 0.0, -1.0):
        return Rotation.from_rotvec([np.pi, 0.0, 0.0])
    turn = np.cross((0.0, 0.0, 1.0), axis)
    sine = np.linalg.norm(turn)
    return Rotation.from_rotvec(turn / sine * np.arctan2(sine, axis[2]))
