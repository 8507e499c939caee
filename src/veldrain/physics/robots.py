"""A placed model in the plant: its links, joints, loops and what the air does to it, link by link from its root."""

from __future__ import annotations

from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import MassProperties, Placed, Spring
from veldrain.model.inertia import combined
from veldrain.model.pieces import Joint, Loop
from veldrain.motion.routes import Route
from veldrain.physics import plant as p
from veldrain.physics.builder import Builder, LinkPlace, Robot
from veldrain.pose import Pose, z_to

BLOCK = 1024  # steps for which a leader is asked at once
_LOOPS = {
    "fixed": p.CLOSED_FIXED,
    "revolute": p.CLOSED_REVOLUTE,
    "prismatic": p.CLOSED_PRISMATIC,
    "ball": p.CLOSED_BALL,
    "rope": p.ROPE,
}


class RobotBuilder:
    """One placed model, link by link from its root."""

    def __init__(self, b: Builder, placed: Placed) -> None:
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
        b.keep_apart([(f"{self.name}/{x}", f"{self.name}/{y}") for x, y in model.apart])

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
        turn = z_to(joint.axis) if joint.kind != "ball" else Pose()
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
            turn = z_to(loop.axis)
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
