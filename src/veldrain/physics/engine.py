"""The engine with its arrays: advance, read and set by name, snapshots."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.model import World
from veldrain.physics import plant as p
from veldrain.physics.clearances import between
from veldrain.physics.compiling import LinkPlace, compile_world
from veldrain.physics.rays import cast_rays
from veldrain.physics.stepping import advance, refresh
from veldrain.pose import Array, Pose


class NotFiniteError(VeldrainError):
    """A velocity is no longer a number: the state is the one before that step."""


@dataclass(frozen=True)
class Snapshot:
    """A copy of a state; restoring it continues to the same bits."""

    arrays: tuple[np.ndarray, ...]


class Engine:
    """A world in motion, without sensors and without names of streams.

    Args:
        world: the world; it is compiled here, and later changes to it are not seen.
        step: length of a step in s.
        watches: pairs of name paths whose first touch is noted.
    """

    def __init__(self, world: World, step: float, watches: Sequence[tuple[str, str]] = ()) -> None:
        self.step = step
        self.compiled = compile_world(world)
        self.plant = self.compiled.plant
        self.names = list(world.names())
        geoms = len(self.plant.geom_kind)
        self._room = [64, 256, 64 * 5 * 12 + 1000]  # contacts, near pairs, numbers in the rows
        self.state = p.new_state(len(self.compiled.v), self.compiled.q, len(watches), geoms, self._room[0])
        self.state.v[:] = self.compiled.v
        for w, (a, b) in enumerate(watches):
            self.state.watch_a[w], self.state.watch_b[w] = self.geoms_of(a), self.geoms_of(b)
        self.work = p.new_work(self.plant, *self._room)
        self.refresh()

    def refresh(self) -> None:
        """Bring poses and velocities up to date with a state that was changed from outside."""
        refresh(self.plant, self.state, self.work)

    @property
    def steps(self) -> int:
        """Steps since the start."""
        return int(self.state.step[0])

    def advance(self, steps: int) -> None:
        """Take so many steps.

        Raises:
            NotFiniteError: a velocity is no longer finite; names the time and the joint.
        """
        goal = self.steps + steps
        while self.steps < goal:
            status, dof = advance(self.plant, self.state, self.work, self.step, goal - self.steps)
            if status == p.STATUS_FULL:
                self._grow()
            elif status == p.STATUS_NOT_FINITE:
                raise NotFiniteError(
                    f"the velocity is no longer finite at {self.steps * self.step:.6g} s",
                    where=self.compiled.dof_names[dof],
                    cure="look for a huge effort, a huge push or a very small mass there",
                )

    def _grow(self) -> None:
        """Twice the room: the contacts kept from the last step move over."""
        self._room = [2 * r for r in self._room]
        old = self.state
        contacts = [name for name in p.State._fields if name.startswith("contact_") and name != "contact_count"]
        grown = {name: _widened(getattr(old, name), self._room[0]) for name in contacts}
        self.state = old._replace(**grown)
        work = p.new_work(self.plant, *self._room)
        work.order[:] = self.work.order
        self.work = work
        self.refresh()

    def place_of(self, path: str) -> LinkPlace:
        """Where a link, frame, body or obstacle is fixed; a robot's name stands for its root link."""
        if path in self.compiled.robots:
            path = self.compiled.robots[path].root
        try:
            return self.compiled.links[path]
        except KeyError:
            raise unknown("link, frame or thing", path, [*self.compiled.links, *self.compiled.robots]) from None

    def node_pose(self, node: int) -> Pose:
        """Pose of a node in the world."""
        if node < 0:
            return Pose()
        from scipy.spatial.transform import Rotation

        return Pose(self.work.pos[node], rotation=Rotation.from_matrix(self.work.rot[node]))

    def pose(self, path: str) -> Pose:
        """Pose of a link, frame, body or obstacle in the world."""
        place = self.place_of(path)
        return self.node_pose(place.node) @ place.pose

    def position(self, place: LinkPlace) -> Array:
        """Position (3,) in the world; cheaper than the pose."""
        if place.node < 0:
            return place.pose.position
        return self.work.pos[place.node] + self.work.rot[place.node] @ place.pose.position

    def motion(self, place: LinkPlace) -> tuple[Array, Array, Array]:
        """Linear velocity, angular velocity and linear acceleration of a place's origin, world axes."""
        if place.node < 0:
            return np.zeros(3), np.zeros(3), np.zeros(3)
        twist, acc = self.work.twist[place.node], self.work.acc[place.node]
        arm = self.position(place) - self.work.ref[self.plant.node_tree[place.node]]
        w = twist[:3]
        velocity = twist[3:] + _cross(w, arm)
        return velocity, w.copy(), acc[3:] + _cross(acc[:3], arm) + _cross(w, velocity)

    def geoms_of(self, path: str) -> p.Ints:
        """1 for each shape of a thing: of a link, of a whole robot, or of all whose names start with ``path/``."""
        found = [name == path or name.startswith(f"{path}/") for name in self.compiled.geom_names]
        if not any(found):
            raise unknown("thing with shapes", path, {n for g in self.compiled.geom_names for n in _prefixes(g)})
        return np.array(found, np.int64)

    def clearance(self, geoms_a: p.Ints, geoms_b: p.Ints) -> float:
        """Least gap (m) between the touchable shapes of two sides; negative where they overlap."""
        return float(between(self.plant, self.work, geoms_a, geoms_b))

    def cast(self, origins: Array, directions: Array, reach: float) -> tuple[Array, p.Ints, Array]:
        """Distances (n,), shapes (n,) (−1: nothing) and normals (n, 3) along rays of unit directions (n, 3)."""
        distances, geoms = np.empty(len(origins)), np.empty(len(origins), np.int64)
        normals = np.empty((len(origins), 3))
        cast_rays(self.plant, self.work, origins, directions, reach, distances, geoms, normals)
        return distances, geoms, normals

    def push(self, place: LinkPlace, force: Array, torque: Array, point: Array, until: int) -> None:
        """Push a place's node with a force at a point of the place's frame and a torque, up to a step."""
        if place.node < 0:
            raise VeldrainError("a push on what is fixed in the world", cure="push a link that moves")
        free = np.flatnonzero(self.state.push_until <= self.steps)
        if len(free) == 0:
            raise VeldrainError(f"more than {len(self.state.push_until)} pushes at once", cure="add their forces")
        k = free[0]
        self.state.push_node[k] = place.node
        self.state.push_load[k] = (*force, *torque, *place.pose.apply(point))
        self.state.push_until[k] = until

    def snapshot(self) -> Snapshot:
        """A copy of the state."""
        return Snapshot(tuple(a.copy() for a in (*self.state, self.work.order)))

    def restore(self, snapshot: Snapshot) -> None:
        """Go back to a snapshot."""
        *arrays, order = snapshot.arrays
        while len(self.state.contact_key) < len(arrays[p.State._fields.index("contact_key")]):
            self._grow()
        for own, kept in zip(self.state, arrays, strict=True):
            if own.shape == kept.shape:
                own[...] = kept
            else:  # kept before the arrays grew
                own[: len(kept)] = kept
        self.work.order[:] = order
        self.refresh()

    def energy(self) -> tuple[float, float]:
        """Kinetic and potential energy in J; the latter is 0 with all mass at the world's origin."""
        kinetic = potential = 0.0
        gravity = self.plant.gravity
        for i, m in enumerate(self.plant.node_mass):
            twist = self.work.twist[i]
            w = twist[:3]
            com = self.work.com[i]
            v = twist[3:] + np.cross(w, com - self.work.ref[self.plant.node_tree[i]])
            spin = self.work.rot[i].T @ w
            kinetic += 0.5 * m * (v @ v) + 0.5 * spin @ self.plant.node_inertia[i] @ spin
            potential -= m * float(gravity @ com)
        return float(kinetic), float(potential)


def _widened(array: np.ndarray, length: int) -> np.ndarray:
    wide = np.zeros((length, *array.shape[1:]), array.dtype)
    wide[: len(array)] = array
    return wide


def _cross(a: Array, b: Array) -> Array:
    """a × b; numpy.cross takes ten times as long for one pair."""
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


def _prefixes(path: str) -> list[str]:
    parts = path.split("/")
    return ["/".join(parts[: k + 1]) for k in range(len(parts))]
