"""What controllers ask of one robot: inertia matrix, inverse dynamics, Jacobians, reactions in its joints."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from veldrain.errors import VeldrainError, unknown
from veldrain.physics import plant as p
from veldrain.physics.builder import LinkPlace, Robot
from veldrain.physics.engine import Engine
from veldrain.physics.inverse import inertia_matrix, motion_efforts, point_jacobian
from veldrain.pose import Array, Pose


def _cross_matrix(a: Array) -> Array:
    return np.array([[0.0, -a[2], a[1]], [a[2], 0.0, -a[0]], [-a[1], a[0], 0.0]])


class Mechanics:
    """The mechanics of one robot or body in an engine.

    Generalised velocities are those of its joints; of a robot that moves freely six more come first: the velocity of
    its root link's origin and its spin, both in world axes. Links that a floating joint has set free are left out.
    """

    def __init__(self, engine: Engine, robot: Robot) -> None:
        self._engine, self._robot = engine, robot
        nodes = engine.plant.nodes[robot.node : robot.end] if robot.node >= 0 else engine.plant.nodes[:0]
        root = engine.compiled.links[robot.root].node
        self._is_free = root >= 0
        self._root_dof = int(engine.plant.nodes["dof"][root]) if self._is_free else -1
        free = list(range(self._root_dof, self._root_dof + 6)) if self._is_free else []
        self._dofs = np.array([*free, *robot.joints.values()], np.int64)
        self._trees = sorted(set(nodes["tree"].tolist()))

    def _arm(self) -> tuple[Array, Array]:
        """From the root link's origin to the mass centre of its node, and the root's spin."""
        place = self._engine.compiled.links[self._robot.root]
        node = self._engine.plant.nodes[place.node]
        return node["com"] - self._engine.position(place), node["twist"][:3]

    def _own(self) -> Array:
        """Takes our generalised velocities to the engine's: a free root there has spin and mass centre's velocity."""
        T = np.eye(len(self._dofs))
        if self._is_free:
            T[:6, :6] = 0.0
            T[:3, 3:6] = T[3:6, :3] = np.eye(3)
            T[3:6, 3:6] = -_cross_matrix(self._arm()[0])
        return T

    def inertia(self) -> Array:
        """Inertia matrix (n, n)."""
        a, full = self._engine.plant, np.zeros((len(self._engine.plant.dofs),) * 2)
        for t in self._trees:
            first, count = int(a.trees["dof"][t]), int(a.trees["dofs"][t])
            block = np.zeros((count, count))
            inertia_matrix(a.trees, a.nodes, a.dofs, a.gravity, t, block)
            full[first : first + count, first : first + count] = block
        T = self._own()
        return np.asarray(T.T @ full[np.ix_(self._dofs, self._dofs)] @ T)

    def efforts(self, accelerations: ArrayLike) -> Array:
        """Efforts (n,) that give accelerations (n,)."""
        wanted = np.asarray(accelerations, float)
        if wanted.shape != self._dofs.shape:
            raise VeldrainError(f"accelerations must be {len(self._dofs)} numbers", where=self._robot.name)
        a = self._engine.plant
        rates, out = np.zeros(len(a.dofs)), np.zeros(len(a.dofs))
        T = self._own()
        rates[self._dofs] = T @ wanted
        if self._is_free:
            arm, spin = self._arm()
            rates[self._root_dof + 3 : self._root_dof + 6] += np.cross(spin, np.cross(spin, arm))
        for t in self._trees:
            part = slice(int(a.trees["dof"][t]), int(a.trees["dof"][t] + a.trees["dofs"][t]))
            motion_efforts(a.trees, a.nodes, a.dofs, a.q, a.speeds, a.gravity, t, rates[part], out[part])
        return np.asarray(T.T @ out[self._dofs])

    def jacobian(self, place: LinkPlace, at: Array) -> Array:
        """(6, n): velocity of a point of a place (first three rows) and spin of the place, world axes."""
        a, full = self._engine.plant, np.zeros((6, len(self._engine.plant.dofs)))
        if place.node >= 0:
            t = a.trees[a.nodes["tree"][place.node]]
            point = self._engine.position(LinkPlace(place.node, place.pose @ Pose(at)))
            block = np.zeros((6, int(t["dofs"])))
            point_jacobian(a.trees, a.nodes, place.node, point, block)
            full[:, int(t["dof"]) : int(t["dof"] + t["dofs"])] = block
        return np.asarray(full[:, self._dofs] @ self._own())

    def hanging(self, joint: str) -> list[str]:
        """Names of the links that a joint holds, the child first.

        Raises:
            VeldrainError: no such joint, or a floating one.
        """
        robot = self._robot
        joints = robot.model.joints if robot.model else {}
        if joint not in joints or joints[joint].kind == "floating":
            raise unknown("joint", joint, (j for j in joints if joints[j].kind != "floating"), robot.name)
        found = [joints[joint].child]
        for link in found:
            found += [j.child for j in joints.values() if j.parent == link and j.kind != "floating"]
        return found

    def reaction(self, joint: str) -> tuple[Array, Array]:
        """Force and torque of the parent on the child, at the joint's origin: Newton's and Euler's equations of all
        that hangs on it, less what else acted there in the last step."""
        engine, robot = self._engine, self._robot
        hanging = self.hanging(joint)
        assert robot.model is not None
        joints = robot.model.joints
        paths = {f"{robot.name}/{link}" for link in hanging}
        origin = engine.pose(f"{robot.name}/{joints[joint].child}").position
        total, moment = np.zeros(3), np.zeros(3)

        def count(force: Array, at: Array, torque: Array, sign: float) -> None:
            total[:] += sign * force
            moment[:] += sign * (torque + np.cross(at - origin, force))

        for link in hanging:
            body, place = robot.model.links[link].mass_properties, engine.compiled.links[f"{robot.name}/{link}"]
            _, spin, acceleration = engine.motion(LinkPlace(place.node, place.pose @ Pose(body.com)))
            R = engine.node_pose(place.node).matrix @ place.pose.matrix
            world = R @ body.inertia @ R.T
            turning = engine.plant.nodes["acc"][place.node][:3] if place.node >= 0 else np.zeros(3)
            at = engine.position(LinkPlace(place.node, place.pose @ Pose(body.com)))
            count(
                body.mass * (acceleration - engine.plant.gravity),
                at,
                world @ turning + np.cross(spin, world @ spin),
                1.0,
            )
        found = engine.forces()
        for sides, point, force, turn in zip(found.sides, found.point, found.force, found.moment, strict=True):
            for side, sign in zip(sides, (-1.0, 1.0), strict=True):
                if side in paths:
                    count(force, point, turn, sign)
        names = engine.compiled.link_names
        for loop in engine.plant.loops[engine.plant.loops["kind"] != p.MIMIC]:
            for end, sign in (("link_a", -1.0), ("link_b", 1.0)):
                if names[loop[end]] in paths:
                    count(loop["force"], loop["point"], loop["moment"], sign)
        for push in engine.plant.pushes[engine.plant.pushes["until"] >= max(engine.steps, 1)]:
            if names[push["link"]] in paths:
                at = engine.position(LinkPlace(int(push["node"]), Pose(push["point"])))
                count(push["force"], at, push["torque"], -1.0)
        return total, moment

    def warm_up(self) -> None:
        """Compile what this module calls, or load it."""
        self.inertia()
        self.efforts(np.zeros(len(self._dofs)))
        self.jacobian(self._engine.compiled.links[self._robot.root], np.zeros(3))
