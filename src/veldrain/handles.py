"""A robot or body in a simulation, by name: read, set, command and push."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import ArrayLike

from veldrain.errors import VeldrainError
from veldrain.physics.builder import LinkPlace, Robot
from veldrain.physics.engine import Engine
from veldrain.physics.joints import Joints
from veldrain.physics.mechanics import Mechanics
from veldrain.physics.plant import Ints
from veldrain.pose import Array, Pose
from veldrain.sampling import Reading, Samples
from veldrain.units import Quantity, triple

if TYPE_CHECKING:
    import pandas as pd

NOWHERE = (0.0, 0.0, 0.0)


def numbers(values: Sequence[Quantity], kind: str, where: str) -> Sequence[float]:
    """Three quantities in SI units; plain floats are taken as they are, for calls at every step."""
    if isinstance(values, tuple | list) and len(values) == 3:
        a, b, c = values
        if type(a) is type(b) is type(c) is float and math.isfinite(a + b + c):
            return a, b, c
    return triple(values, kind, where)


class Home(Protocol):
    """What a handle needs of its simulation."""

    def contacts(self) -> pd.DataFrame:
        """The contacts of the last step."""

    def attach(
        self,
        thing: str,
        to: str,
        *,
        pose: Pose | None = None,
        most_force: Quantity = math.inf,
        most_torque: Quantity = math.inf,
    ) -> None:
        """Let two move as one."""

    def samples_of(self, stream: str) -> Samples:
        """One sensor."""


class RobotInMotion:
    """A placed robot or body in a simulation."""

    def __init__(self, simulation: Home, engine: Engine, robot: Robot) -> None:
        self._sim, self._engine, self._robot = simulation, engine, robot
        self.name = robot.name
        self._joints = Joints(engine, robot)
        self._mechanics = Mechanics(engine, robot)
        self._places: dict[str | None, LinkPlace] = {}
        self._pushed: dict[str | None, tuple[LinkPlace, int]] = {}
        self._groups: dict[tuple[str, ...], tuple[Ints, Array, Array]] = {}

    @property
    def joints(self) -> tuple[str, ...]:
        """Names of the movable joints, in the order of the arrays below."""
        return self._joints.names

    @property
    def positions(self) -> Array:
        """Joint positions (rad, or m where they slide; a ball joint's are its rotation vector); can be assigned."""
        return self._joints.positions()

    @positions.setter
    def positions(self, values: Sequence[float]) -> None:
        self._joints.set_positions(self._row(values, "positions"))

    @property
    def velocities(self) -> Array:
        """Joint velocities (rad/s, or m/s when prismatic); can be assigned."""
        return self._joints.velocities()

    @velocities.setter
    def velocities(self, values: Sequence[float]) -> None:
        self._joints.set_velocities(self._row(values, "velocities"))

    @property
    def efforts(self) -> Array:
        """Efforts of the motors in the last step (N·m, or N when prismatic)."""
        return self._joints.efforts()

    def _row(self, values: Sequence[float], what: str) -> Array:
        row = np.asarray(values, float)
        if row.shape != (len(self.joints),) or not np.isfinite(row).all():
            raise VeldrainError(
                f"{what} must be {len(self.joints)} finite numbers, one for each of: {', '.join(self.joints)}",
                where=self.name,
            )
        return row

    def pose(self, link: str | None = None) -> Pose:
        """Pose of a link, frame, sensor or optical frame (``eye/optical``) in the world; None: of the root."""
        return self._engine.pose_at(self._place(link))

    def poses(self, links: Sequence[str] | None = None) -> tuple[Array, Array]:
        """Positions (n, 3), m, and axes (n, 3, 3), as columns, of links or frames in the world; None: of all links."""
        model = self._robot.model
        names = tuple(links if links is not None else model.links if model else (self.name,))
        if names not in self._groups:
            places = [self._place(name if model else None) for name in names]
            at, axes = (np.array([place.arrays[k] for place in places]) for k in range(2))
            self._groups[names] = np.array([place.node for place in places], np.int64), at, axes
        return self._engine.poses_at(*self._groups[names])

    def _place(self, link: str | None) -> LinkPlace:
        if link not in self._places:
            self._places[link] = self._engine.place_of(self._path(link))
        return self._places[link]

    def velocity(self, link: str | None = None) -> tuple[Array, Array]:
        """Linear velocity (3,) of a link's origin and its angular velocity (3,), world axes, m/s and rad/s."""
        return self._engine.velocity_at(self._place(link))

    def move_to(
        self, pose: Pose, velocity: Sequence[Quantity] = (0.0, 0.0, 0.0), spin: Sequence[Quantity] = (0.0, 0.0, 0.0)
    ) -> None:
        """Put the root of a free robot or body somewhere else, with a velocity (m/s) and spin (rad/s), world axes.

        Raises:
            VeldrainError: it does not move freely.
        """
        self._engine.move_to(
            self._robot,
            pose,
            np.array(triple(velocity, "speed", self.name)),
            np.array(triple(spin, "angular speed", self.name)),
        )

    def attach(self, thing: str, to: str | None = None, **words: Any) -> None:
        """Attach a thing of the world to a link or frame of this robot, None: its root; see ``Simulation.attach``."""
        held = self._path(to)
        self._sim.attach(thing, held, **words)
        self._engine.couplings.tell(f"{held} takes hold of {thing}")

    def release(self, thing: str) -> None:
        """Let go of a thing; nothing happens where this robot does not hold it."""
        for held, to in self._engine.couplings.release(thing, self.name):
            self._engine.couplings.tell(f"{to} lets go of {held}")

    def holds(self, thing: str) -> bool:
        """True while a thing is attached to this robot."""
        return self._engine.couplings.is_attached(thing, self.name)

    def inertia_matrix(self) -> Array:
        """Inertia (n, n) that the joints feel at their positions, reflected inertias included (kg·m², kg·m, kg).

        Rows are in the order of ``joints``. Of a robot that moves freely six more come first: the velocity of its
        root link's origin and its spin, world axes. Closed loops are taken as open.
        """
        return self._mechanics.inertia()

    def inverse_dynamics(self, accelerations: ArrayLike) -> Array:
        """Efforts (n,) that give accelerations (n,), in the order of ``inertia_matrix``.

        They overcome inertia, gravity, joint damping and joint springs at the present state, nothing being touched;
        zeros ask for what holds it still against gravity and velocity products.

        >>> efforts = sim["arm"].inverse_dynamics(np.zeros(7))  # doctest: +SKIP
        """
        return self._mechanics.efforts(accelerations)

    def jacobian(self, link: str | None = None, at: Sequence[Quantity] = (0.0, 0.0, 0.0)) -> Array:
        """Jacobian (6, n): velocity of a point of a link or frame, then its spin, world axes, per joint velocity.

        Columns are in the order of ``inertia_matrix``; ``at`` is in the link's frame, m.
        """
        place = self._engine.place_of(self._path(link))
        return self._mechanics.jacobian(place, np.array(triple(at, "length", self.name)))

    def reaction(self, joint: str) -> tuple[Array, Array]:
        """Force (3,) in N and torque (3,) in N·m of the parent on the child through a joint, over the last step.

        Both are in world axes, the torque about the joint's origin; fixed joints have them too, and what a motor
        gives is part of the torque about its axis.
        """
        return self._mechanics.reaction(joint)

    def contacts(self) -> pd.DataFrame:
        """The rows of ``Simulation.contacts`` that this robot has a part in."""
        found = self._sim.contacts()
        own = [
            any(name == self.name or name.startswith(f"{self.name}/") for name in pair)
            for pair in zip(found["link_a"], found["link_b"], strict=True)
        ]
        return found[own].reset_index(drop=True)

    def _path(self, link: str | None) -> str:
        return self.name if link is None else f"{self.name}/{link}"

    def command(
        self,
        joint: str,
        effort: Quantity | None = None,
        velocity: Quantity | None = None,
        position: Quantity | None = None,
    ) -> None:
        """Command a motor; what is given holds until it is given again.

        A position motor takes a velocity and an effort with its position, a velocity motor an effort with its velocity:
        its effort is stiffness·(position − q) + damping·(velocity − q̇) + effort, so that it follows a moving
        command without lag, and carries a known load without sag.

        Raises:
            VeldrainError: an unknown joint, no motor there, or a command that its mode does not take.

        >>> sim["arm"].command("elbow", position="30 deg", velocity="10 deg/s")  # doctest: +SKIP
        """
        asked = (("position", position), ("velocity", velocity), ("effort", effort))
        self._joints.command(joint, {what: value for what, value in asked if value is not None})

    def command_all(self, joints: Sequence[str], **rows: ArrayLike) -> None:
        """Command several motors at once, which takes a tenth of the time of one after the other.

        Args:
            joints: their names.
            rows: of ``effort``, ``velocity`` and ``position`` (n,), SI units, as far as ``command`` takes them.

        >>> sim["arm"].command_all(["shoulder", "elbow"], position=[0.1, 0.2])  # doctest: +SKIP
        """
        told = {what: np.ascontiguousarray(row, float) for what, row in rows.items()}
        for what, row in told.items():
            if row.shape != (len(joints),):
                raise VeldrainError(
                    f"{what} of shape {row.shape} for {len(joints)} joints", where=self.name, cure="give a number each"
                )
        if joints:
            self._joints.command_all(tuple(joints), told)

    def brake(self, *joints: str) -> None:
        """Let the brakes of motors hold their joints until they are commanded again; without names all that have one.

        Before its first command, and while it is dead, a motor's brake holds by itself.

        Raises:
            VeldrainError: no such joint, or one whose motor has no brake.

        >>> sim["lift"].brake("mast")  # doctest: +SKIP
        """
        self._joints.brake(joints or self._joints.with_brakes())

    def commands(self) -> dict[str, dict[str, float]]:
        """The commands that hold now by joint: position, velocity and effort as far as they were given, SI units."""
        return self._joints.commands()

    def push(
        self,
        force: Sequence[Quantity],
        torque: Sequence[Quantity] = (0.0, 0.0, 0.0),
        link: str | None = None,
        at: Sequence[Quantity] | None = None,
    ) -> None:
        """Push a link during the coming step only.

        Args:
            force: N, world axes.
            torque: N·m, world axes.
            link: name of the link; None: the root.
            at: point of the link's frame where the force acts, m; None: its origin.
        """
        if link not in self._pushed:
            self._pushed[link] = self._engine.pushes.link(self._path(link))
        told = (numbers(force, "force", self.name), numbers(torque, "torque", self.name))
        self._engine.pushes.push(
            *self._pushed[link], *told, numbers(NOWHERE if at is None else at, "length", self.name), 1
        )

    def read(self, sensor: str) -> Reading | None:
        """The latest reading of a sensor, with its stamp; None before the first."""
        return self._sim.samples_of(f"{self.name}/{sensor}").latest
