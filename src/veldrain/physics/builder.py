"""Rows for the plant's arrays, collected thing by thing, and the tables that lead from names to them."""

from __future__ import annotations

from collections.abc import Container, Iterable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import MassProperties, Mesh, Model, Part, Shape, Surface, World
from veldrain.model.pieces import Joint
from veldrain.physics import plant as p
from veldrain.physics.kinds import code_of
from veldrain.physics.scene import Sight
from veldrain.physics.solids import Solids
from veldrain.pose import Array, Pose

DEEPEST_CORE = 1e-3  # m
_MODES = {"effort": p.EFFORT, "velocity": p.VELOCITY, "position": p.POSITION}
_ROWS = {p.CLOSED_FIXED: 6, p.CLOSED_REVOLUTE: 5, p.CLOSED_PRISMATIC: 5, p.CLOSED_BALL: 3}


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


class Builder:
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
        self.q += [*pose.apply(body.com), *pose.quaternion]
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
                dof |= {"integral": motor.integral, "brake": motor.brake}
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
            self.q += Pose.turned(turn_vector).quaternion
            robot.balls[joint.name] = quaternion
            pose = pose @ Pose.turned(turn_vector)
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

    def keep_apart(self, pairs: Iterable[tuple[str, str]]) -> None:
        """Switch off the pairs of shapes whose names start with those of a pair."""
        for one, other in pairs:
            sides = [
                [k for k, name in enumerate(self.geom_names) if name == side or name.startswith(f"{side}/")]
                for side in (one, other)
            ]
            self.skipped.update((min(x, y), max(x, y)) for x in sides[0] for y in sides[1])

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
        probe["kind"], probe["end_face"], probe["size"] = p.HULL, 1, (1.0, 1.0, 0.0)
        probe["rot"] = np.eye(3)
        closed = int(sum(loop["rows"] for loop in self.loops if loop["kind"] in (*_ROWS, p.MIMIC)))
        patches = np.zeros(len(world.patches), p.PATCH)
        for row, patch in zip(patches, world.patches.values(), strict=True):
            row["size"], row["surface"] = np.array(patch.size) / 2, _row(patch.surface)
            row["place"], row["turn"] = patch.pose.position, patch.pose.matrix
        speeds = np.zeros((6, len(self.v)))
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
            lights=np.zeros(0, p.LIGHT),
            lines=np.zeros(0, p.LINE),
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


def _nodes_of(joint: Joint) -> list[tuple[int, Pose]]:
    """Kinds of a joint's nodes, each with its pose in the one before, z along its own axis."""
    if joint.kind == "planar":
        to_x, to_y = Pose.turned((0.0, np.pi / 2, 0.0)), Pose.turned((-np.pi / 2, 0.0, 0.0))
        return [(p.SLIDING, to_x), (p.SLIDING, to_x.inverse() @ to_y), (p.TURNING, to_y.inverse())]
    if joint.kind == "ball":
        return [(p.BALL, Pose())] * 3
    return [(p.SLIDING if joint.kind == "prismatic" else p.TURNING, Pose())]
