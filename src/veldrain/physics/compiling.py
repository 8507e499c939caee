"""From a world of named things to the engine's arrays, and the tables that lead back to the names."""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError
from veldrain.model import GROUND, MassProperties, Mesh, Model, Part, Placed, Shape, Spring, Surface, World
from veldrain.model.inertia import combined
from veldrain.model.pieces import Joint, Loop
from veldrain.motion.routes import Route
from veldrain.physics import plant as p
from veldrain.physics.kinds import code_of
from veldrain.physics.scene import Sight
from veldrain.physics.solids import Solids
from veldrain.pose import Array, Pose, z_to

DEEPEST_CORE = 1e-3  # m
BLOCK = 1024  # steps for which a leader is asked at once
_MODES = {"effort": p.EFFORT, "velocity": p.VELOCITY, "position": p.POSITION}


@dataclass(frozen=True)
class LinkPlace:
    """Where a link is: fixed in a node (−1: the world), at a pose."""

    node: int
    pose: Pose

    @cached_property
    def offset(self) -> tuple[float, float, float]:
        """Position of the pose, as plain numbers."""
        x, y, z = self.pose.position.tolist()
        return x, y, z

    @cached_property
    def arrays(self) -> tuple[Array, Array]:
        """Position (3,) and axes (3, 3) of the pose."""
        return self.pose.position, self.pose.matrix


@dataclass
class Robot:
    """The tables of one placed model or body."""

    name: str
    root: str
    model: Model | None = None
    node: int = -1  # of the root
    end: int = -1  # first node after the robot's
    joints: dict[str, int] = field(default_factory=dict)  # degree of freedom by coordinate
    linear: set[str] = field(default_factory=set)
    balls: dict[str, int] = field(default_factory=dict)  # place of the quaternion by joint
    given: set[str] = field(default_factory=set)  # coordinates whose start is given


@dataclass
class Compiled:
    """A plant with its start and its names."""

    plant: p.Plant
    links: dict[str, LinkPlace]  # links, frames, bodies and obstacles by name path
    link_names: list[str]  # by number, as loops and pushes have them
    robots: dict[str, Robot]
    geom_names: list[str]
    dof_names: list[str]
    loop_names: list[str]
    sights: list[Sight]
    mounts: dict[str, LinkPlace]  # sensors, and their optical frames, by name path


_LOOPS = {
    "fixed": p.CLOSED_FIXED,
    "revolute": p.CLOSED_REVOLUTE,
    "prismatic": p.CLOSED_PRISMATIC,
    "ball": p.CLOSED_BALL,
    "rope": p.ROPE,
}
_ROWS = {p.CLOSED_FIXED: 6, p.CLOSED_REVOLUTE: 5, p.CLOSED_PRISMATIC: 5, p.CLOSED_BALL: 3}


class _Builder:
    """Collects rows for the plant's arrays."""

    def __init__(self, step: float) -> None:
        self.step = step
        self.sights: list[Sight] = []
        self.trees: list[dict[str, int]] = []
        self.nodes: list[dict[str, int]] = []
        self.poses: list[Pose] = []  # of each node's joint in the parent
        self.bodies: list[MassProperties] = []
        self.dofs: list[dict[str, float]] = []
        self.dof_names: list[str] = []
        self.geoms: list[dict[str, Any]] = []
        self.geom_names: list[str] = []
        self.solids = Solids()
        self.loops: list[dict[str, Any]] = []
        self.loop_names: list[str] = []
        self.numbers = 0  # of the rows of what is led
        self.blown: list[dict[str, Any]] = []  # and the number of the link that each pushes
        self.skipped: set[tuple[int, int]] = set()
        self.q: list[float] = []
        self.v: list[float] = []
        self.links: dict[str, LinkPlace] = {}
        self.mounts: dict[str, LinkPlace] = {}
        self.robots: dict[str, Robot] = {}

    def add_part(self, name: str, node: int, pose: Pose, part: Part, surface: Surface) -> list[int]:
        """A part on a node; the numbers of its shapes.

        A mesh is seen as its triangles and touched as what stands for it.
        """
        surface = part.surface or surface
        place = pose @ part.pose
        if part.role != "collision":
            self.sights.append(Sight(name, node, place, part.shape, part, is_touched=False))
        if part.role == "visual":
            return []
        made = []
        for shape, turn in part.shape.touched:
            fields, at = _shape_fields(shape, place @ turn, self.solids)
            made.append(self.add_shape(name, node, fields, at, surface))
            self.sights.append(Sight(name, node, place @ turn, shape, part, is_touched=True))
        return made

    def add_shape(self, name: str, node: int, fields: dict[str, Any], pose: Pose, surface: Surface) -> int:
        """One shape on a node; its number."""
        if fields["kind"] == p.MESH and node >= 0:
            raise VeldrainError(
                "a mesh of exact triangles on something that moves",
                where=name,
                cure="use collide='hull', or simpler shapes",
            )
        least = float(min(s for s in fields["size"] if s > 0)) if fields["kind"] != p.MESH else 0.0
        if fields["kind"] == p.HULL:
            least = fields["size"][0]
        self.add_geom(name, node, fields, pose, surface, core=min(0.1 * least, DEEPEST_CORE))
        return len(self.geoms) - 1

    def add_geom(self, name: str, node: int, fields: dict[str, Any], pose: Pose, surface: Surface, **more: Any) -> None:
        """One row of shapes."""
        place = {"place": pose.position, "turn": pose.matrix, "pos": pose.position, "rot": pose.matrix}
        feel = {"surface": _row(surface), "belt": surface.belt}
        self.geoms.append({"node": node} | fields | place | feel | more)
        self.geom_names.append(name)

    def add_free(self, name: str, pose: Pose, body: MassProperties, v: tuple[float, ...], is_led: bool = False) -> int:
        """A node that moves freely, in a tree of its own; its number."""
        if body.mass <= 0 and not is_led:
            raise VeldrainError("moves freely and has no mass", where=name, cure="give mass=")
        node = self._add_node(-1, p.FREE, Pose(), body, opens_tree=True)
        self.q += [*pose.apply(body.com), *pose.rotation.as_quat()]
        self.v += v
        for axis in ("spin x", "spin y", "spin z", "x", "y", "z"):
            self.dofs.append({"coord": -1, "node": node, "low": -np.inf, "high": np.inf})
            self.dof_names.append(f"{name} ({axis})")
        return node

    def lead(self, node: int, rows: int, whole: bool) -> None:
        """Give the tree of a free root, which is the last one, so many rows to be led by; whole: with its joints."""
        joints = len(self.v) - self.nodes[node]["dof"] - 6
        self.trees[-1] |= {"script": self.numbers, "rows": rows, "width": 7 + joints, "whole": int(whole)}
        for dof in self.dofs[len(self.dofs) - joints :]:  # nothing else moves or holds them
            coord, at = dof["coord"], dof["node"]
            dof.clear()
            dof |= {"coord": coord, "node": at, "low": -np.inf, "high": np.inf, "follows": 1.0}
        self.numbers += rows * (7 + joints)

    def add_joint(
        self,
        joint: Joint,
        model: Model,
        parent: int,
        pose: Pose,
        body: MassProperties,
        robot: Robot,
        start: dict[str, float],
        given: Container[str],
        opens_tree: bool,
    ) -> tuple[int, Pose]:
        """The nodes of a joint; gives the last one, and its pose in the parent at the start."""
        nothing = MassProperties(0.0, np.zeros(3), np.zeros((3, 3)))
        turned = pose
        quaternion = len(self.q)
        rows = _nodes_of(joint)
        for k, (name, (kind, turn)) in enumerate(zip(joint.coordinates, rows, strict=True)):
            last = k == len(rows) - 1
            q = start.get(name, 0.0)
            coord = quaternion if kind == p.BALL else len(self.q)
            node = self._add_node(
                parent,
                kind,
                turned @ turn if k == 0 else turn,
                body if last else nothing,
                opens_tree and k == 0,
                axis=k,
                coord=coord,
            )
            low, high = joint.limits or (-np.inf, np.inf)
            linear = joint.coordinates[name]
            if joint.kind == "planar" and not linear:
                dof: dict[str, float] = {}
            else:
                dof = {"damping": joint.damping, "friction": joint.friction}
            dof |= {"coord": coord if kind != p.BALL else -1, "node": node, "low": low, "high": high}
            dof |= {"spring": joint.stiffness, "rest": joint.rest_position, "follows": 1.0}
            motor = model.motors.get(name)
            if motor:
                dof |= {"mode": _MODES[motor.mode], "stiffness": motor.stiffness, "gain": motor.damping}
                dof |= {"limit": motor.limit, "inertia": motor.inertia, "top_speed": motor.speed, "play": motor.play}
                dof |= {"stall": motor.stall, "free_speed": motor.free_speed}
                if motor.lag:  # exact for a command that holds over a step
                    dof["follows"] = -np.expm1(-self.step / motor.lag)
            self.dofs.append(dof)
            self.dof_names.append(f"{robot.name}/{name}")
            robot.joints[name] = len(self.v)
            if linear:
                robot.linear.add(name)
            if name in given:
                robot.given.add(name)
            self.v.append(0.0)
            if kind != p.BALL:
                self.q.append(q)
                moved = Pose((0, 0, q)) if kind == p.SLIDING else Pose(yaw=q)
            else:
                moved = Pose()
            pose = pose @ turn @ moved
            parent, turned = node, Pose()
        if joint.kind == "ball":
            turn_vector = [start.get(name, 0.0) for name in joint.coordinates]
            self.q += Rotation.from_rotvec(turn_vector).as_quat().tolist()
            robot.balls[joint.name] = quaternion
            pose = pose @ Pose(rotation=Rotation.from_rotvec(turn_vector))
        return parent, pose

    def _add_node(
        self, parent: int, kind: int, pose: Pose, body: MassProperties, opens_tree: bool, axis: int = 0, coord: int = -1
    ) -> int:
        dof = len(self.v)
        if opens_tree:
            self.trees.append({"first": len(self.nodes), "dof": dof, "script": -1})
        self.nodes.append(
            {
                "tree": len(self.trees) - 1,
                "parent": parent,
                "kind": kind,
                "dof": dof,
                "axis": axis,
                "coord": len(self.q) if coord < 0 else coord,
            }
        )
        self.poses.append(pose)
        self.bodies.append(body)
        return len(self.nodes) - 1

    def add_loop(self, name: str, a: LinkPlace, b: LinkPlace, **fields: Any) -> None:
        """What acts between frames of two links (``LinkPlace`` with the frame's pose)."""
        if a.node == b.node:
            raise VeldrainError("both ends are fixed to each other already", where=name, cure="leave it out")
        one_tree = min(a.node, b.node) < 0 or self.nodes[a.node]["tree"] == self.nodes[b.node]["tree"]
        if fields["kind"] in _ROWS and not one_tree:
            raise VeldrainError("a loop between links that float apart", where=name, cure="use a rope or a spring")
        if a.node < 0:
            a, b = b, a
            fields["link_a"], fields["link_b"] = fields["link_b"], fields["link_a"]
        self.loops.append(
            {
                "node_a": a.node,
                "node_b": b.node,
                "at_a": a.pose.position,
                "turn_a": a.pose.matrix,
                "at_b": b.pose.position,
                "turn_b": b.pose.matrix,
                "rows": _ROWS.get(fields["kind"], 1),
            }
            | fields
        )
        self.loop_names.append(name)

    def plant(self, world: World, watches: int) -> p.Plant:
        """The arrays, with room for a handful of contacts."""
        nodes = _records(p.NODE, self.nodes)
        for n, pose, body in zip(nodes, self.poses, self.bodies, strict=True):
            n["place"], n["turn"] = pose.position, pose.matrix
            n["mass"], n["centre"], n["inertia"] = body.mass, body.com, body.inertia
        trees = _records(p.TREE, self.trees)
        trees["end"] = [*trees["first"][1:], len(nodes)] if len(trees) else []
        trees["dofs"] = np.diff([*trees["dof"], len(self.v)]) if len(trees) else []
        alone = trees["end"] - trees["first"] == 1
        trees["lone"] = alone & (trees["script"] < 0) & (nodes["kind"][trees["first"]] == p.FREE)
        led = np.array([t["first"] for t in self.trees if t["script"] >= 0], np.int64)
        dofs, geoms, loops = _records(p.DOF, self.dofs), _records(p.GEOM, self.geoms), _records(p.LOOP, self.loops)
        held = geoms["node"]
        geoms["stiff"] = (held < 0) | np.isin(held, led)
        for tree in trees[trees["whole"] == 1]:
            geoms["stiff"] |= (held >= tree["first"]) & (held < tree["end"])
        probe = np.zeros(1, p.GEOM)
        probe["kind"], probe["end_corner"], probe["end_face"], probe["size"] = p.HULL, 3, 1, 1.0
        probe["rot"] = np.eye(3)
        closed = int(sum(loop["rows"] for loop in self.loops if loop["kind"] in (*_ROWS, p.MIMIC)))
        patches = np.zeros(len(world.patches), p.PATCH)
        for row, patch in zip(patches, world.patches.values(), strict=True):
            row["size"], row["surface"] = np.array(patch.size) / 2, _row(patch.surface)
            row["place"], row["turn"] = patch.pose.position, patch.pose.matrix
        speeds = np.zeros((5, len(self.v)))
        speeds[p.NOW] = self.v
        bare = p.Plant(
            counts=np.zeros(1, p.COUNTS),
            gravity=np.array(world.gravity),
            trees=trees,
            nodes=nodes,
            dofs=dofs,
            q=np.array(self.q, float),
            speeds=speeds,
            geoms=geoms,
            probe=probe,
            **self.solids.arrays(),
            loops=loops,
            script=np.zeros(self.numbers),
            led=np.zeros(0, p.LED),
            pieces=np.zeros(0, p.PIECE),
            lifts=np.zeros((0, 3, 4)),
            moves=np.zeros(0, p.MOVE),
            minds=np.zeros(0, p.MIND),
            patches=patches,
            skipped=np.array(sorted(a * len(geoms) + b for a, b in self.skipped), np.int64),
            watched=np.zeros(0, np.int64),
            pushes=self._pushes(),
            air=np.zeros(1, p.AIR),
            gusts=np.zeros(0, p.GUST),
            blown=_records(p.BLOWN, [{k: v for k, v in row.items() if k != "link"} for row in self.blown]),
            watch_sides=np.zeros((watches, 2, len(geoms)), np.int64),
            watch_step=np.full(watches, -1, np.int64),
            order=np.flatnonzero(geoms["node"] >= 0),
            still=np.zeros(0, np.int64),
            boxes=np.zeros(0, p.BRANCH),
            pairs=np.zeros(0, np.int64),
            poly=np.zeros((6, 24, 3)),
            chosen=np.zeros(4, np.int64),
            contacts=np.zeros(0, p.CONTACT),
            kept=np.zeros(0, p.KEPT),
            limits=np.zeros(3 * len(dofs) + len(loops), p.LIMIT),
            rows=np.zeros(0, p.ROW),
            J=np.zeros(0),
            B=np.zeros(0),
            closed=np.zeros((closed + 2, closed)),
            stages=np.zeros((8, max(len(self.q), len(self.v)))),
            room=np.zeros((3, 3)),
            inertials=np.zeros(0, p.INERTIAL),
            loads=np.zeros(0, p.LOAD),
            load_geoms=np.zeros((0, len(geoms)), np.int64),
            load_links=np.zeros((0, len(self.links)), np.int64),
            hanging=np.zeros(0, p.HANGING),
            tallies=np.zeros(0, p.TALLY),
            tally_geoms=np.zeros((0, len(geoms)), np.int64),
            felt=np.zeros(0, p.FELT),
            drives=np.zeros(0, p.DRIVE),
        )
        return p.with_room(bare, contacts=32, pairs=64, room=4096)

    def _pushes(self) -> p.Records:
        """Room for pushes from outside, and a push that never ends for each of what is blown."""
        pushes = np.zeros(16 + len(self.blown), p.PUSH)
        for k, row in enumerate(self.blown):
            row["push"] = 16 + k
            own = pushes[16 + k]
            own["node"], own["link"], own["until"] = row["node"], row["link"], np.iinfo(np.int64).max
            own["point"] = row.get("place", np.zeros(3))
        return pushes


def _records(kind: np.dtype[Any], rows: list[dict[str, Any]]) -> p.Records:
    made = np.zeros(len(rows), kind)
    for record, fields in zip(made, rows, strict=True):
        for name, value in fields.items():
            record[name] = value
    return made


def _row(surface: Surface) -> tuple[float, ...]:
    compliance = 1.0 / surface.stiffness  # 0: hard
    return surface.friction, surface.restitution, surface.rolling, surface.torsional, compliance, surface.damping


def _shape_fields(shape: Shape, pose: Pose, solids: Solids) -> tuple[dict[str, Any], Pose]:
    """Fields of GEOM for a shape, and the pose of its origin."""
    if isinstance(shape, Mesh):
        fields, origin = solids.add(shape)
        return fields, pose @ Pose(origin)
    code, size = code_of(shape)
    return {"kind": code, "size": size}, pose


def compile_world(world: World, step: float, watches: int = 0) -> Compiled:
    """The plant of a world for steps of a length (s), with the names of all its parts and room for so many watches.

    Raises:
        VeldrainError: a link that moves and has no mass, a loop without a way to close, a mesh that cannot move.
    """
    b = _Builder(step)
    if world.floor:
        level = Pose((0, 0, world.floor.height))
        b.add_geom(GROUND, -1, {"kind": p.PLANE}, level, world.floor.surface)
        b.sights += [Sight(GROUND, -1, level, None, None, is_touched) for is_touched in (False, True)]
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
        b.robots[body.name] = Robot(body.name, body.name, node=node, end=node + 1)
    for placed in world.placed.values():
        _RobotBuilder(b, placed).build()
    _keep_apart(b, [(x, y) for x, y in world.apart])
    for placed in world.placed.values():
        if placed.course and placed.course.passes:
            _let_through(b, placed.name)
    names = list(b.links)
    plant = b.plant(world, watches)
    tables = b.links, names, b.robots, b.geom_names, b.dof_names, b.loop_names
    return Compiled(plant, *tables, b.sights, b.mounts)


def _keep_apart(b: _Builder, pairs: list[tuple[str, str]]) -> None:
    """Switch off the pairs of shapes whose names start with those of a pair."""
    for one, other in pairs:
        sides = [
            [k for k, name in enumerate(b.geom_names) if name == side or name.startswith(f"{side}/")]
            for side in (one, other)
        ]
        b.skipped.update((min(x, y), max(x, y)) for x in sides[0] for y in sides[1])


def _let_through(b: _Builder, name: str) -> None:
    """Switch off all pairs of something that passes through everything."""
    own = {k for k, geom in enumerate(b.geom_names) if geom.startswith(f"{name}/")}
    b.skipped.update((min(x, y), max(x, y)) for x in own for y in range(len(b.geoms)) if y != x)


class _RobotBuilder:
    """One placed model, link by link from its root."""

    def __init__(self, b: _Builder, placed: Placed) -> None:
        self.b, self.placed, self.model, self.name = b, placed, placed.model, placed.name
        self.robot = b.robots[self.name] = Robot(self.name, f"{self.name}/{self.model.root()}", self.model)
        self.children: dict[str, list[Joint]] = {}
        for joint in self.model.joints.values():
            self.children.setdefault(joint.parent, []).append(joint)
        self.has_loops = bool(self.model.loops) or any(j.mimic for j in self.model.joints.values())
        self.start = dict(placed.joints)
        for joint in self.model.joints.values():  # a leader comes before its follower
            if joint.mimic:
                leader, ratio, offset = joint.mimic
                self.start.setdefault(joint.name, ratio * self.start.get(leader, 0.0) + offset)
        self.geoms_of: dict[int, list[int]] = {}
        self.joined: list[tuple[int, int]] = []  # nodes whose links do not collide
        self.afloat: list[tuple[Joint, Pose]] = []  # each starts a tree of its own, once the tree it leaves is whole

    def build(self) -> None:
        b, placed, model = self.b, self.placed, self.model
        self.robot.node = len(b.nodes)
        group = self.rigid(model.root(), Pose())
        if placed.fixed:
            self.settle([(link, placed.pose @ pose) for link, pose in group], -1, Pose())
        else:
            motion = (0.0, 0.0, 0.0, *placed.velocity)
            node = b.add_free(self.name, placed.pose, self.mass_of(group), motion, placed.is_led)
            if placed.path:
                b.lead(node, BLOCK + 1, whole=not any(j.kind != "fixed" for j in model.joints.values()))
            self.settle(group, node, placed.pose)
            if placed.course:
                b.lead(node, 2 if isinstance(placed.course.leader, Route) else BLOCK + 1, whole=True)
        for joint, start in self.afloat:
            group = self.rigid(joint.child, Pose())
            node = b.add_free(f"{self.name}/{joint.child}", start, self.mass_of(group), (0.0,) * 6)
            self.settle(group, node, start)
        self.robot.end = len(b.nodes)
        if not placed.course:  # what is led with its joints is moved by nothing else
            self.close_loops()
            self.blow()
        for parent, child in self.joined:
            for one in self.geoms_of.get(child, []):
                b.skipped.update((min(one, c), max(one, c)) for c in self.geoms_of.get(parent, []))
        _keep_apart(b, [(f"{self.name}/{x}", f"{self.name}/{y}") for x, y in model.apart])

    def rigid(self, link: str, pose: Pose) -> list[tuple[str, Pose]]:
        """The links that are fixed to this one, itself first, with their poses in its frame."""
        found = [(link, pose)]
        for joint in self.children.get(link, []):
            if joint.kind == "fixed":
                found += self.rigid(joint.child, pose @ joint.pose)
        return found

    def mass_of(self, group: list[tuple[str, Pose]]) -> MassProperties:
        return combined([self.model.links[link].mass_properties.moved(pose) for link, pose in group])

    def settle(self, group: list[tuple[str, Pose]], node: int, world_pose: Pose) -> None:
        """Give a node its links, and go on to the joints that leave it."""
        for link, pose in group:
            self.add_link(link, node, pose)
        for link, pose in group:
            for joint in self.children.get(link, []):
                if joint.kind != "fixed":
                    self.hang(joint, node, pose, world_pose)

    def hang(self, joint: Joint, node: int, link_pose: Pose, world_pose: Pose) -> None:
        """The joint and all that hangs on it."""
        if joint.kind == "floating":
            self.afloat.append((joint, world_pose @ link_pose @ joint.pose))
            return
        turn = Pose(rotation=z_to(joint.axis)) if joint.kind != "ball" else Pose()
        group = self.rigid(joint.child, turn.inverse())
        body = self.mass_of(group)
        if body.mass <= 0 and not self.placed.course:
            raise VeldrainError("moves and has no mass", where=f"{self.name}/{joint.child}", cure="give mass=")
        # What loops hold together is one tree, though it stands on a fixed base with several feet.
        opens_tree = node < 0 and not (self.has_loops and len(self.b.nodes) > self.robot.node)
        new, moved = self.b.add_joint(
            joint,
            self.model,
            node,
            link_pose @ joint.pose @ turn,
            body,
            self.robot,
            self.start,
            self.placed.joints,
            opens_tree,
        )
        if not joint.collide:
            self.joined.append((node, new))
        self.settle(group, new, world_pose @ moved)

    def add_link(self, link: str, node: int, pose: Pose) -> None:
        """A link on its node: its shapes and frames."""
        path, described = f"{self.name}/{link}", self.model.links[link]
        self.b.links[path] = LinkPlace(node, pose)
        for part in described.parts:
            self.geoms_of.setdefault(node, []).extend(self.b.add_part(path, node, pose, part, described.surface))
        for frame in self.model.frames.values():
            if frame.link == link:
                self.b.links[f"{self.name}/{frame.name}"] = LinkPlace(node, pose @ frame.pose)
        for sensor in self.model.sensors.values():
            if sensor.link == link:
                path, optical = f"{self.name}/{sensor.name}", sensor.sensor.optical
                self.b.mounts[path] = LinkPlace(node, pose @ sensor.pose)
                if optical is not None:
                    self.b.mounts[f"{path}/optical"] = LinkPlace(node, pose @ sensor.pose @ optical)

    def close_loops(self) -> None:
        """Closed loops, ropes, springs and mimic joints."""
        b, model = self.b, self.model
        numbers = {name: k for k, name in enumerate(b.links)}

        def place(link: str, pose: Pose) -> LinkPlace:
            found = b.links[f"{self.name}/{link}"]
            return LinkPlace(found.node, found.pose @ pose)

        def ends(thing: Loop | Spring) -> dict[str, Any]:
            return {"link_a": numbers[f"{self.name}/{thing.link_a}"], "link_b": numbers[f"{self.name}/{thing.link_b}"]}

        for loop in model.loops.values():
            turn = Pose(rotation=z_to(loop.axis))
            sides = place(loop.link_a, loop.pose_a @ turn), place(loop.link_b, loop.pose_b @ turn)
            b.add_loop(f"{self.name}/{loop.name}", *sides, kind=_LOOPS[loop.kind], length=loop.length, **ends(loop))
            if loop.kind != "rope":
                self.joined.append((sides[0].node, sides[1].node))
        for spring in model.springs.values():
            sides = place(spring.link_a, Pose(spring.at_a)), place(spring.link_b, Pose(spring.at_b))
            b.add_loop(
                f"{self.name}/{spring.name}",
                *sides,
                kind=p.SPRING,
                length=spring.rest_length,
                stiffness=spring.stiffness,
                damping=spring.damping,
                **ends(spring),
            )
        for joint in model.joints.values():
            if joint.mimic:
                leader, ratio, offset = joint.mimic
                follower, led_by = (int(b.dofs[self.robot.joints[j]]["node"]) for j in (joint.name, leader))
                sides = LinkPlace(follower, Pose()), LinkPlace(led_by, Pose())
                if b.nodes[sides[0].node]["tree"] != b.nodes[sides[1].node]["tree"]:
                    raise VeldrainError(
                        f"follows '{leader}', which is on a part that floats apart",
                        where=f"{self.name}/{joint.name}",
                        cure="leave mimic= out",
                    )
                b.add_loop(f"{self.name}/{joint.name}", *sides, kind=p.MIMIC, stiffness=ratio, length=offset)

    def blow(self) -> None:
        """Rotors, and links that the air holds back."""
        b, model = self.b, self.model
        numbers = {name: k for k, name in enumerate(b.links)}
        for rotor in model.rotors.values():
            dof = self.robot.joints[rotor.joint]
            link = numbers[f"{self.name}/{model.joints[rotor.joint].child}"]
            row = {"node": int(b.dofs[dof]["node"]), "dof": dof, "link": link, "turn": np.eye(3)}
            b.blown.append(row | {"thrust": rotor.thrust, "torque": rotor.torque})
        for drag in model.drags.values():
            path = f"{self.name}/{drag.link}"
            place = b.links[path]
            if place.node >= 0:
                at = place.pose.apply(drag.at)
                row = {"node": place.node, "dof": -1, "link": numbers[path], "area": drag.area}
                b.blown.append(row | {"place": at, "turn": place.pose.matrix})


def _nodes_of(joint: Joint) -> list[tuple[int, Pose]]:
    """Kinds of a joint's nodes, each with its pose in the one before, z along its own axis."""
    if joint.kind == "planar":
        to_x, to_y = Rotation.from_euler("y", np.pi / 2), Rotation.from_euler("x", -np.pi / 2)
        return [
            (p.SLIDING, Pose(rotation=to_x)),
            (p.SLIDING, Pose(rotation=to_x.inv() * to_y)),
            (p.TURNING, Pose(rotation=to_y.inv())),
        ]
    if joint.kind == "ball":
        return [(p.BALL, Pose())] * 3
    return [(p.SLIDING if joint.kind == "prismatic" else p.TURNING, Pose())]
