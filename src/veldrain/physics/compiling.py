"""From a world of named things to the engine's arrays, and the tables that lead back to the names."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError
from veldrain.model import (
    GROUND,
    Box,
    Capsule,
    Cylinder,
    MassProperties,
    Model,
    Part,
    Placed,
    Shape,
    Sphere,
    Surface,
    World,
)
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
        self.dofs: list[dict[str, float]] = []
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
            self.dofs.append({"coord": -1, "low": -np.inf, "high": np.inf})
            self.dof_names.append(f"{name} ({axis})")
        return node

    def add_joint(
        self,
        name: str,
        joint: Joint,
        motor: Motor | None,
        parent: int,
        pose: Pose,
        body: MassProperties,
        q: float,
    ) -> int:
        """A node held by a joint with one degree of freedom; its number."""
        kind = p.SLIDING if joint.kind == "prismatic" else p.TURNING
        coord = len(self.q)
        node = self._add_node(name, parent, kind, pose, body, opens_tree=parent < 0)
        low, high = joint.limits or (-np.inf, np.inf)
        dof = {"coord": coord, "damping": joint.damping, "friction": joint.friction, "low": low, "high": high}
        if motor:
            dof |= {"mode": _MODES[motor.mode], "stiffness": motor.stiffness, "gain": motor.damping}
            dof |= {"limit": motor.limit}
        self.dofs.append(dof)
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

    def plant(self, world: World, watches: int) -> p.Plant:
        """The arrays, with room for a handful of contacts."""
        node = np.zeros(len(self.nodes), p.NODE)
        for n, (tree, parent, kind, dof, coord, pose), body in zip(node, self.nodes, self.bodies, strict=True):
            n["tree"], n["parent"], n["kind"], n["dof"], n["coord"] = tree, parent, kind, dof, coord
            n["place"], n["turn"] = pose.position, pose.matrix
            n["mass"], n["centre"], n["inertia"] = body.mass, body.com, body.inertia
        trees = np.zeros(len(self.tree_node), p.TREE)
        trees["first"], trees["end"] = self.tree_node, [*self.tree_node[1:], len(self.nodes)]
        trees["dof"], trees["dofs"] = self.tree_dof, np.diff([*self.tree_dof, len(self.v)])
        dofs = np.zeros(len(self.v), p.DOF)
        for d, described in zip(dofs, self.dofs, strict=True):
            for field_name, value in described.items():
                d[field_name] = value
        geoms = np.zeros(len(self.geoms), p.GEOM)
        for g, (kind, at, size, pose, surface, touch, seen, core) in zip(geoms, self.geoms, strict=True):
            g["kind"], g["node"], g["size"], g["touch"], g["seen"], g["core"] = (
                kind,
                at,
                size,
                touch,
                seen,
                core,
            )
            g["place"], g["turn"], g["surface"] = pose.position, pose.matrix, _row(surface)
        geoms["pos"], geoms["rot"] = geoms["place"], geoms["turn"]
        patches = np.zeros(len(world.patches), p.PATCH)
        for row, patch in zip(patches, world.patches.values(), strict=True):
            row["size"], row["surface"] = np.array(patch.size) / 2, _row(patch.surface)
            row["place"], row["turn"] = patch.pose.position, patch.pose.matrix
        speeds = np.zeros((4, len(self.v)))
        speeds[p.NOW] = self.v
        bare = p.Plant(
            counts=np.zeros(1, p.COUNTS),
            gravity=np.array(world.gravity),
            trees=trees if self.nodes else trees[:0],
            nodes=node,
            dofs=dofs,
            q=np.array(self.q, float),
            speeds=speeds,
            geoms=geoms,
            patches=patches,
            skipped=np.array(sorted(a * len(geoms) + b for a, b in self.skipped), np.int64),
            pushes=np.zeros(16, p.PUSH),
            watch_sides=np.zeros((watches, 2, len(geoms)), np.int64),
            watch_step=np.full(watches, -1, np.int64),
            order=np.arange(len(geoms)),
            pairs=np.zeros(0, np.int64),
            poly=np.zeros((6, 24, 3)),
            chosen=np.zeros(4, np.int64),
            contacts=np.zeros(0, p.CONTACT),
            kept=np.zeros(0, p.KEPT),
            joint_rows=np.zeros(3 * len(dofs), p.JOINT_ROW),
            rows=np.zeros(0, p.ROW),
            J=np.zeros(0),
            B=np.zeros(0),
        )
        return p.with_room(bare, contacts=32, pairs=64, room=4096)


def _row(surface: Surface) -> tuple[float, float, float]:
    return surface.friction, surface.restitution, surface.rolling


def _kind_and_size(shape: Shape) -> tuple[int, Array]:
    if isinstance(shape, Box):
        return p.BOX, np.array(shape.size) / 2
    if isinstance(shape, Sphere):
        return p.SPHERE, np.array([shape.radius, 0.0, 0.0])
    if isinstance(shape, Cylinder | Capsule):
        kind = p.CYLINDER if isinstance(shape, Cylinder) else p.CAPSULE
        return kind, np.array([shape.radius, shape.length / 2, 0.0])
    raise VeldrainError(f"the engine has no shape {type(shape).__name__}", cure="use Box, Sphere, Cylinder or Capsule")


def compile_world(world: World, watches: int = 0) -> Compiled:
    """The plant of a world, with the names of all its parts and room for so many watches.

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
    return Compiled(b.plant(world, watches), b.links, b.robots, b.geom_names, b.dof_names)


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
