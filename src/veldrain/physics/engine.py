"""The engine with its arrays: advance, read and set by name, snapshots."""

from __future__ import annotations

import logging
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError, told_at, unknown
from veldrain.kernel import Direct
from veldrain.model import Air, World
from veldrain.model.world import prefixes
from veldrain.physics import plant as p
from veldrain.physics.actors import Actors
from veldrain.physics.builder import LinkPlace, Robot
from veldrain.physics.clearances import clearance
from veldrain.physics.closing import close_loops
from veldrain.physics.compiling import Compiled, compile_world
from veldrain.physics.couplings import Couplings
from veldrain.physics.gusts import waves_of
from veldrain.physics.holding import Holds
from veldrain.physics.pushing import Pushes
from veldrain.physics.scene import Scene
from veldrain.physics.standing import with_boxes
from veldrain.physics.states import Forces, Snapshot
from veldrain.physics.stepping import advance, advance_smooth, refresh
from veldrain.physics.tapping import Taps
from veldrain.physics.telling import deepest, shown
from veldrain.pose import Array, Pose

INTEGRATORS = ("semi-implicit", "rk4")
SCENES = ("visual", "collision")
log = logging.getLogger(__name__)


class NotFiniteError(VeldrainError):
    """A velocity is no longer a number: the state is the one before that step."""


class Engine:
    """A world in motion, without sensors and without names of streams.

    Args:
        world: the world; it is compiled here, and later changes to it are not seen.
        step: length of a step in s.
        watches: pairs of name paths whose first touch is noted.
        integrator: ``semi-implicit``, or ``rk4`` for mechanisms that nothing touches.
    """

    plant: p.Plant
    compiled: Compiled

    def __init__(
        self, world: World, step: float, watches: Sequence[tuple[str, str]] = (), integrator: str = "semi-implicit"
    ) -> None:
        if integrator not in INTEGRATORS:
            raise unknown("integrator", integrator, INTEGRATORS)
        self.step = step
        self._notices: dict[str, str] = {}  # what a reader of the results has to know, each told once
        self.taps, self.pushes = Taps(self), Pushes(self)
        self._floor, self._placed = world.floor, world.placed
        self.compiled = compile_world(world, step, len(watches))
        self.plant = with_boxes(self.compiled.plant)
        self.refresh()
        self.actors = Actors(self, world.placed, world.networks)
        self._advance = Direct(advance_smooth if integrator == "rk4" else advance)
        nodes = self.plant.nodes
        # Views of single fields: these arrays never move, and a view costs a tenth of looking the field up.
        self._steps = self.plant.counts["step"]
        self._pos, self._rot, self._twist, self._acc = (nodes["pos"], nodes["rot"], nodes["twist"], nodes["acc"])
        self._tree, self._ref = nodes["tree"], self.plant.trees["ref"]
        for w, sides in enumerate(watches):
            with told_at(f"touching {' and '.join(sides)}"):
                for side, path in enumerate(sides):
                    self.plant.watch_sides[w, side, self.geoms_of(path)] = 1
            self._watch_stiff(*self.plant.watch_sides[w])
        self.refresh()
        if len(self.plant.loops):
            close_loops(self.plant, self.compiled)
        self.hold_still()
        self.holds, self.couplings = Holds(self), Couplings(self)

    def _watch_stiff(self, one: p.Ints, other: p.Ints) -> None:
        """Let pairs be met that nothing can part, two that are led or one that is led into a wall: they are watched."""
        stiff, moves = self.plant.geoms["stiff"] == 1, self.plant.geoms["node"] >= 0
        a, b = (np.flatnonzero(stiff & (side == 1)) for side in (one, other))
        x, y = (side.ravel() for side in np.meshgrid(a, b))
        x, y = x[moves[x] | moves[y]], y[moves[x] | moves[y]]
        keys = np.minimum(x, y) * len(one) + np.maximum(x, y)
        self.plant = self.plant._replace(watched=np.union1d(self.plant.watched, keys))

    def hold_still(self) -> None:
        """Let motors that were told nothing hold where they are: position motors at their positions."""
        dofs = self.plant.dofs
        waiting = (dofs["told"] == 0) & (dofs["mode"] == p.POSITION) & (dofs["coord"] >= 0)
        dofs["command"][waiting] = dofs["held"][waiting] = self.plant.q[dofs["coord"][waiting]]

    def refresh(self) -> None:
        """Bring poses and velocities up to date with a state that was changed from outside."""
        refresh(self.plant)

    def take_poses(self, other: Engine) -> None:
        """Put all that is in another engine too where it is there."""
        mine, theirs = self.plant, other.plant
        at = {name: k for k, name in enumerate(self.compiled.dof_names)}
        for name, dof in zip(other.compiled.dof_names, theirs.dofs, strict=True):
            if name in at:
                to, source = mine.nodes[mine.dofs["node"][at[name]]]["coord"], theirs.nodes[dof["node"]]
                count = {p.FREE: 7, p.BALL: 4}.get(int(source["kind"]), 1)
                mine.q[to : to + count] = theirs.q[source["coord"] : source["coord"] + count]
        self.refresh()

    def set_air(self, air: Air, random: np.random.Generator) -> None:
        """Let the air of a world blow from now on; its gusts are drawn."""
        row = self.plant.air[0]
        row["wind"], row["density"] = air.wind, air.density
        self.plant = self.plant._replace(gusts=waves_of(air, random))

    def wind(self) -> Array:
        """Velocity (3,) of the air now, with its gusts."""
        gusts = self.plant.gusts
        waves = np.cos(gusts["rate"] * self.steps * self.step + gusts["phase"])
        return np.asarray(self.plant.air["wind"][0] + waves @ gusts["size"])

    def show(self, poses: Mapping[str, Pose], step: int) -> None:
        """Put links where they were at a step, for pictures: poses in the world by name; those not named stay."""
        nodes = self.plant.nodes
        for name, place in self.compiled.links.items():
            if place.node >= 0 and name in poses:
                pose = poses[name] @ place.pose.inverse()
                nodes["pos"][place.node], nodes["rot"][place.node] = pose.position, pose.matrix
        self._steps[0] = step

    @property
    def steps(self) -> int:
        """Steps since the start."""
        return self._steps.item(0)

    def advance(self, steps: int) -> None:
        """Take so many steps.

        Raises:
            NotFiniteError: a velocity is no longer finite; names the time and the joint.
        """
        now = self.steps
        goal = now + steps
        while now < goal:
            self.actors.fill(now)
            status, dof = self._advance(self.plant, self.step, self.actors.room(goal - now, now))
            now = self.steps
            if status == p.STATUS_FINE:
                if self.couplings.pairs:
                    self.couplings.see_what_broke()
                continue
            if status == p.STATUS_NOT_FINITE:
                deep = deepest(self)
                raise NotFiniteError(
                    f"the velocity is no longer finite at {self.steps * self.step:.6g} s{deep and ': ' + deep}",
                    where=self.compiled.dof_names[dof],
                    cure="move them apart, or switch the pair off with no_contact"
                    if deep
                    else "look for a huge effort, a huge push or a very small mass there",
                )
            self._grow()
        for about, text in shown(self):
            self.notice(about, text)

    def notice(self, about: str, text: str) -> None:
        """Tell something about the results, once for each subject: in the log and in ``notices``."""
        if about not in self._notices:
            self._notices[about] = text
            log.warning(text)

    @property
    def told_notices(self) -> dict[str, str]:
        """The same by what they are about."""
        return dict(self._notices)

    @property
    def notices(self) -> list[str]:
        """What a reader of the results has to know."""
        return list(self._notices.values())

    def sides_of(self, keys: NDArray[np.int64]) -> NDArray[Any]:
        """Names (n, 2) of both sides of pairs by their keys; forces are on the first."""
        names, is_flat = self.sides
        found = np.empty((len(keys), 2), object)
        for k, key in enumerate(keys.tolist()):
            one, other = divmod(key, len(names))
            # A plane or a mesh is always the second of a pair.
            found[k] = (names[other], names[one]) if is_flat[one] else (names[one], names[other])
        return found

    @cached_property
    def sides(self) -> tuple[list[str], list[bool]]:
        """Names of all shapes, and which are planes or meshes."""
        kinds = self.plant.geoms["kind"]
        return self.compiled.geom_names, ((kinds == p.PLANE) | (kinds == p.MESH)).tolist()

    def _grow(self) -> None:
        a = self.plant
        self.plant = p.with_room(a, 2 * len(a.contacts), 2 * len(a.pairs), 2 * len(a.J))

    def place_of(self, path: str) -> LinkPlace:
        """Where a link, frame, sensor, body or obstacle is fixed; a robot's name stands for its root link."""
        if path in self.compiled.robots:
            path = self.compiled.robots[path].root
        found = self.compiled.links.get(path) or self.compiled.mounts.get(path)
        if found is None:
            known = [*self.compiled.links, *self.compiled.mounts, *self.compiled.robots]
            raise unknown("link, frame, sensor or thing", path, known)
        return found

    def is_fixed(self, path: str) -> bool:
        """True for a link, frame or thing that is fixed in the world."""
        return (path in self.compiled.robots or self.has_place(path)) and self.place_of(path).node < 0

    def has_place(self, path: str) -> bool:
        """True for the name path of a link, frame, sensor, body or obstacle."""
        return path in self.compiled.links or path in self.compiled.mounts

    def node_pose(self, node: int) -> Pose:
        """Pose of a node in the world."""

        if node < 0:
            return Pose()
        found = self.plant.nodes[node]
        return Pose.of(found["pos"].copy(), found["rot"].copy())

    def pose(self, path: str) -> Pose:
        """Pose of a link, frame, body or obstacle in the world."""
        return self.pose_at(self.place_of(path))

    def pose_at(self, place: LinkPlace) -> Pose:
        """Pose of a place in the world."""
        if place.node < 0:
            return place.pose
        at, turn = place.arrays
        rot = self._rot[place.node]
        return Pose.of(self._pos[place.node] + rot @ at, rot @ turn)

    def poses_at(self, nodes: p.Ints, at: Array, axes: Array) -> tuple[Array, Array]:
        """Positions (n, 3) and axes (n, 3, 3) of places in the world, by their nodes and their poses in them."""
        moves = nodes >= 0
        if not len(self._pos):
            return at.copy(), axes.copy()
        held = np.maximum(nodes, 0)
        rot = self._rot[held]
        found = self._pos[held] + np.einsum("nij,nj->ni", rot, at)
        return np.where(moves[:, None], found, at), np.where(moves[:, None, None], rot @ axes, axes)

    def velocity_at(self, place: LinkPlace) -> tuple[Array, Array]:
        """Linear velocity of a place's origin, and angular velocity, world axes."""
        if place.node < 0:
            return np.zeros(3), np.zeros(3)
        # Plain floats: for one vector they take a third of the time of arrays.
        x, y, z = (self.position(place) - self._ref[self._tree[place.node]]).tolist()
        wx, wy, wz, vx, vy, vz = self._twist[place.node].tolist()
        return np.array((vx + wy * z - wz * y, vy + wz * x - wx * z, vz + wx * y - wy * x)), np.array((wx, wy, wz))

    def position(self, place: LinkPlace) -> Array:
        """Position (3,) in the world; cheaper than the pose."""
        if place.node < 0:
            return place.pose.position
        return self._pos[place.node] + self._rot[place.node] @ place.pose.position

    def spot(self, place: LinkPlace) -> tuple[float, float, float]:
        """Position of a place's origin as plain numbers: a tenth of the time of arrays."""
        if place.node < 0:
            return place.offset
        x, y, z = self._pos[place.node].tolist()
        a, b, c = place.offset
        if a or b or c:
            (r0, r1, r2), (r3, r4, r5), (r6, r7, r8) = self._rot[place.node].tolist()
            x, y, z = x + r0 * a + r1 * b + r2 * c, y + r3 * a + r4 * b + r5 * c, z + r6 * a + r7 * b + r8 * c
        return x, y, z

    def moving(self, place: LinkPlace) -> tuple[float, float, float, float, float, float]:
        """Position and velocity of a place's origin, likewise."""
        x, y, z = self.spot(place)
        if place.node < 0:
            return x, y, z, 0.0, 0.0, 0.0
        p, q, r = self._ref[self._tree[place.node]].tolist()
        p, q, r = x - p, y - q, z - r
        wx, wy, wz, vx, vy, vz = self._twist[place.node].tolist()
        return x, y, z, vx + wy * r - wz * q, vy + wz * p - wx * r, vz + wx * q - wy * p

    def axes(self, place: LinkPlace) -> Array:
        """Axes (3, 3) of a place in the world, as columns."""
        return place.pose.matrix if place.node < 0 else self._rot[place.node] @ place.pose.matrix

    @property
    def gravity(self) -> Array:
        """Of the world now (3,), m/s²."""
        return self.plant.gravity

    def turn_of(self, node: int) -> Array:
        """Axes (3, 3) of a node that moves, as columns: they follow it."""
        return np.asarray(self.plant.nodes["rot"][node])

    def direction(self, place: LinkPlace, way: Array) -> Array:
        """A direction (3,) of the node of a place in the world."""
        return way if place.node < 0 else self._rot[place.node] @ way

    def velocities(self, nodes: p.Ints, points: Array) -> Array:
        """Velocities (n, 3) of points (n, 3) of nodes (n,), world axes; those of the world (−1) stand still."""
        found, moves = np.zeros((len(nodes), 3)), np.flatnonzero(nodes >= 0)  # most of what rays meet stands still
        if len(moves):
            nodes = nodes[moves]
            held = self._twist[nodes]
            found[moves] = held[:, 3:] + np.cross(held[:, :3], points[moves] - self._ref[self._tree[nodes]])
        return found

    def motion(self, place: LinkPlace) -> tuple[Array, Array, Array]:
        """Linear velocity, angular velocity and linear acceleration of a place's origin, world axes."""
        if place.node < 0:
            return np.zeros(3), np.zeros(3), np.zeros(3)
        # Plain floats: for one vector they take a third of the time of arrays.
        x, y, z = (self.position(place) - self._ref[self._tree[place.node]]).tolist()
        wx, wy, wz, vx, vy, vz = self._twist[place.node].tolist()
        bx, by, bz, ax, ay, az = self._acc[place.node].tolist()
        vx, vy, vz = vx + wy * z - wz * y, vy + wz * x - wx * z, vz + wx * y - wy * x
        ax, ay, az = ax + by * z - bz * y, ay + bz * x - bx * z, az + bx * y - by * x
        ax, ay, az = ax + wy * vz - wz * vy, ay + wz * vx - wx * vz, az + wx * vy - wy * vx
        return np.array((vx, vy, vz)), np.array((wx, wy, wz)), np.array((ax, ay, az))

    def geoms_of(self, path: str) -> p.Ints:
        """Numbers of the shapes of a thing: of a link, of a whole robot, or of all whose names start with ``path/``."""
        names = enumerate(self.compiled.geom_names)
        found = [k for k, name in names if name == path or name.startswith(f"{path}/")]
        if not found:
            if any(path in prefixes(s.name) for s in self.compiled.sights):
                raise VeldrainError("has no shape that can be touched", where=path, cure="give it one, of role 'both'")
            raise unknown("thing with shapes", path, {n for g in self.compiled.geom_names for n in prefixes(g)})
        return np.array(found, np.int64)

    def clearance(self, geoms_a: p.Ints, geoms_b: p.Ints) -> float:
        """Least gap (m) between the touchable shapes of two sides, by their numbers; negative where they overlap."""
        a = self.plant
        return float(clearance(a.geoms, a.probe, a.poly, a.corners, a.faces, a.triangles, a.heights, geoms_a, geoms_b))

    @cached_property
    def scene(self) -> Scene:
        """What can be seen, for rays."""
        return self._scene(is_touched=False)

    @cached_property
    def touchable(self) -> Scene:
        """What can be touched, for rays."""
        return self._scene(is_touched=True)

    def _scene(self, is_touched: bool) -> Scene:
        look = self._floor.look if self._floor else None
        return Scene(
            [s for s in self.compiled.sights if s.is_touched == is_touched],
            self.plant.nodes,
            look,
            {name: (place.node, place.pose) for name, place in self.compiled.links.items()},
        )

    def scene_of(self, sees: str) -> Scene:
        """The scene of what can be seen (``visual``) or touched (``collision``)."""
        if sees not in SCENES:
            raise unknown("kind of shapes to see", sees, SCENES)
        return self.scene if sees == "visual" else self.touchable

    def move_to(self, robot: Robot, pose: Pose, velocity: Array, spin: Array) -> None:
        """Put the root of a free robot somewhere, with a velocity of its origin and a spin."""
        node = self.plant.nodes[self.free_node(robot)]
        arm = pose.matrix @ node["centre"]
        at, dof = int(node["coord"]), int(node["dof"])
        self.holds.bring_back(robot.name)
        self.let_go(robot.name)
        self.plant.q[at : at + 7] = [*(pose.position + arm), *pose.quaternion]
        self.plant.speeds[p.NOW, dof : dof + 6] = [*spin, *(velocity + np.cross(spin, arm))]
        self.refresh()

    def is_away(self, path: str) -> bool:
        """True for a thing, or a part of one, that was taken away and not put back."""
        return self.holds.is_away(path.partition("/")[0])

    def let_go(self, name: str) -> None:
        """Release a thing that is put elsewhere, and say so."""
        for thing, to in self.couplings.release(name):
            self.notice(f"let go {thing} {to}", f"{thing} is no longer attached to {to}: {name} was put elsewhere")

    def free_node(self, robot: Robot) -> int:
        """The node of a free robot's root.

        Raises:
            VeldrainError: it does not move freely.
        """
        place = self.compiled.links[robot.root]
        led = {name for name, placed in self._placed.items() if placed.is_led}
        if place.node < 0 or robot.name in led:
            raise VeldrainError("does not move freely", where=robot.name, cure="place it without fixed= and path=")
        return place.node

    def whereabouts(self) -> tuple[Array, Array, Array]:
        """Copies of all coordinates, speeds and poses, as they lie in the plant: to tell two states apart."""
        return self.plant.q.copy(), self.plant.speeds.copy(), self.plant.nodes["pos"].copy()

    def snapshot(self) -> Snapshot:
        """A copy of the state."""
        arrays = {name: getattr(self.plant, name).copy() for name in p.STATE}
        told = tuple(self._notices.items())
        return Snapshot(arrays, self.names, self.taps.snapshot(), told, self.steps, tuple(self.couplings.pairs))

    @cached_property
    def names(self) -> tuple[str, ...]:
        """Names of all links, joints and shapes: a snapshot of another world has others."""
        found = self.compiled
        return (*found.link_names, *found.dof_names, *found.geom_names)

    def restore(self, snapshot: Snapshot) -> None:
        """Go back to a snapshot.

        Raises:
            VeldrainError: it is none, or of another world.
        """
        if not isinstance(snapshot, Snapshot):
            raise VeldrainError(f"{type(snapshot).__name__} is not a snapshot", cure="give what snapshot() gave")
        if snapshot.names != self.names:
            other = sorted(set(snapshot.names) ^ set(self.names))
            differs = ", ".join(other[:3]) or "its things in another order"
            raise VeldrainError(
                f"a snapshot of another world ({differs})", cure="restore it in a simulation of its own world"
            )
        pushes = snapshot.arrays["pushes"]
        if len(self.plant.pushes) < len(pushes):
            self.plant = self.plant._replace(pushes=np.zeros(len(pushes), p.PUSH))
        self.plant.pushes["until"] = 0
        while len(self.plant.kept) < len(snapshot.arrays["kept"]):
            self._grow()
        if self.couplings.pairs or snapshot.couplings:
            self.couplings.make_room_for(snapshot.couplings)
        for name, old in snapshot.arrays.items():
            now = getattr(self.plant, name)
            now[: len(old)] = old[: len(now)]  # another simulation of the same world may watch fewer pairs
        self.refresh()
        self.actors.forget()
        self.couplings.go_on()
        self.taps.restore(snapshot.taps)
        self._notices = dict(snapshot.notices)

    def forces(self) -> Forces:
        """What acted between things in the last step."""
        a = self.plant
        kept = a.kept[: int(a.counts["kept"][0])]
        sides, h = self.sides_of(kept["key"]), self.step
        return Forces(sides, kept["point"], kept["normal"], kept["gap"], kept["impulse"] / h, kept["moment"] / h)
