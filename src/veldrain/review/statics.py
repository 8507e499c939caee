"""A robot alone, its root held and its shapes taken off, as the engine solves it: what its motors carry and move."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Joint, Model, Placed, World
from veldrain.model.pieces import SIMPLE_KINDS
from veldrain.physics import plant as p
from veldrain.physics.engine import Engine
from veldrain.physics.mechanics import Mechanics
from veldrain.physics.overlaps import bend

FIRM = 1e9  # times its inertia over the square of a step, so stiff that a joint stays where it is
NAME = "it"
NEAR = 0.1  # of a step: it is there
GLANCE = 0.05  # s between looks at it
DOUBLINGS = 6
SETTLED = 3  # looks in which it stays there


class Held:
    """A robot alone in a posture, its motors strong enough to stay there; loops, springs and joints that follow act.

    Each step is the engine's own, of one time step from rest: a load is the effort with which a motor keeps its joint
    where it is, without friction and without its stops; an inertia is what its joint feels while other motors hold.

    Args:
        placed: the robot where it is placed.
        gravity: of the world, m/s².
        step: of the simulation, s.

    Raises:
        VeldrainError: it cannot be built, or a loop cannot be closed.
    """

    def __init__(self, placed: Placed, gravity: tuple[float, float, float], step: float) -> None:
        self.model, self.step = placed.model, step
        self.motors = [name for name, m in self.model.motors.items() if self.model.joints[m.joint].kind in SIMPLE_KINDS]
        self._placed, self._gravity = placed, gravity
        world = World(gravity=gravity, draft=True)
        world.place(shapeless(self.model), NAME, pose=placed.pose, fixed=True, joints=placed.joints)
        self.engine = Engine(world, step)
        self._start = self.engine.snapshot()
        robot = self.engine.compiled.robots[NAME]
        self.dofs = dict(robot.joints)
        self.positions = {name: float(self._q(dof)) for name, dof in self.dofs.items()}
        self._masses = np.diag(Mechanics(self.engine, robot).inertia())

    def _q(self, dof: int) -> float:
        coord = int(self.engine.plant.dofs["coord"][dof])
        return float(self.engine.plant.q[coord]) if coord >= 0 else math.nan

    def _stiffened(self, joints: Mapping[str, float] | None = None) -> p.Ints:
        """The motors' degrees of freedom, stiff, endlessly strong and told to stay."""
        self.engine.restore(self._start)
        if joints:
            bend(self.engine, NAME, self.model.bent(dict(self._placed.joints) | dict(joints)))
        dofs = self.engine.plant.dofs
        own = np.array([self.dofs[name] for name in self.motors], np.int64)
        at = {dof: k for k, dof in enumerate(self.dofs.values())}
        dofs["friction"][:] = dofs["brake"][:] = 0.0
        for word, value in (("mode", p.POSITION), ("gain", 0.0), ("limit", math.inf), ("top_speed", math.inf)):
            dofs[word][own] = value
        for word, value in (("stall", 0.0), ("play", 0.0), ("follows", 1.0), ("told", 1)):
            dofs[word][own] = value
        for word in ("pace", "assist", "bound"):
            dofs[word][own] = 0
        led = [self.dofs[name] for name, joint in self.model.joints.items() if joint.mimic]
        moved = np.array([*own, *led], np.int64)
        dofs["low"][moved], dofs["high"][moved], dofs["locked"][moved] = -math.inf, math.inf, 0
        dofs["stiffness"][own] = FIRM * self._masses[[at[dof] for dof in own]] / self.step**2
        dofs["command"][own] = [self._q(dof) for dof in own]
        return own

    @cached_property
    def loads(self) -> dict[str, float]:
        """Effort (N·m or N) with which each motor keeps its joint where it is; those of a model without motors: {}."""
        return self.loads_at({})

    def loads_at(self, joints: Mapping[str, float]) -> dict[str, float]:
        """The same in another posture of a robot without loops, which some of its joints (rad or m) make."""
        if not self.motors:
            return {}
        own = self._stiffened(joints)
        self.engine.advance(1)
        return dict(zip(self.motors, self.engine.plant.dofs["effort"][own].tolist(), strict=True))

    @cached_property
    def inertias(self) -> dict[str, float]:
        """Inertia (kg·m² or kg) that each motor's joint feels, with all that moves along, other motors being held."""
        found = {}
        for name, load in self.loads.items():
            dof = self.dofs[name]
            more = self._masses[list(self.dofs).index(name)]  # for 1 rad/s² where nothing else moves along
            ahead, back = (self._speed(dof, load + effort) for effort in (more, -more))
            found[name] = 2.0 * more * self.step / (ahead - back) if ahead > back else math.inf
        return {name: float(felt) for name, felt in found.items()}

    def _speed(self, dof: int, effort: float) -> float:
        """Speed of a joint after a step with an effort on it, other motors being held."""
        self._stiffened()
        dofs = self.engine.plant.dofs
        dofs["mode"][dof], dofs["command"][dof] = p.EFFORT, effort
        self.engine.advance(1)
        return float(self.engine.plant.speeds[p.NOW, dof])

    def way_of(self, joint: Joint) -> float:
        """A small step of a joint: a tenth of its range, and not more than it takes to see it (rad or m)."""
        low, high = joint.limits or (-math.inf, math.inf)
        return min(0.1 * (high - low), 0.2 if not joint.is_linear else 0.02 if math.isinf(high - low) else math.inf)

    def late(self, joints: Sequence[str], patience: float) -> dict[str, float]:
        """Of position motors that are told a small step, those that are not there in time (s), each tried alone.

        With the share of that time in which its motor gave all that it can.
        """
        together = self._stepped(joints, patience)
        return {name: self._stepped([name], patience).get(name, 0.0) for name in together if together[name] > 0.0}

    def limit_that_does(self, joint: str, least: float, patience: float) -> float:
        """The first of some limits, each twice the one before, with which a motor follows its small step in time."""
        for limit in (least * 2**k for k in range(DOUBLINGS)):
            if not self._stepped([joint], patience, limit):
                return float(limit)
        return math.inf

    def _stepped(self, joints: Sequence[str], patience: float, limit: float | None = None) -> dict[str, float]:
        loads = self.loads
        self.engine.restore(self._start)
        dofs, plant = self.engine.plant.dofs, self.engine.plant
        if limit is not None:  # the others hold
            dofs["limit"][[self.dofs[name] for name in self.motors]] = math.inf
            dofs["limit"][[self.dofs[name] for name in joints]] = limit
        goals, near = {}, {}
        for name in joints:
            joint, dof, at = self.model.joints[name], self.dofs[name], self.positions[name]
            low, high = joint.limits or (-math.inf, math.inf)
            way = self.way_of(joint) * (1.0 if high - at >= at - low else -1.0)
            stiffness = dofs["stiffness"][dof]
            dofs["command"][dof] = dofs["held"][dof] = at + way
            dofs["told"][dof] = 1
            # Its load, and a spring of its own on the way, keep it a little away from there.
            goals[name] = at + way - (loads[name] + joint.stiffness * way) / (stiffness + joint.stiffness)
            near[name] = NEAR * abs(way) + 0.5 * dofs["play"][dof] + joint.friction / stiffness
        chunk = max(1, round(GLANCE / self.step))
        forced, waiting = dict.fromkeys(joints, 0), dict.fromkeys(joints, 0)
        looks = round(patience / (chunk * self.step))
        for _ in range(looks):
            try:
                self.engine.advance(chunk)
            except VeldrainError:
                return {}
            for name in joints:
                dof = self.dofs[name]
                forced[name] += abs(dofs["effort"][dof]) >= dofs["limit"][dof] * (1 - 1e-9)
                left, moves = plant.q[dofs["coord"][dof]] - goals[name], plant.speeds[p.NOW, dof] * GLANCE
                there = abs(left) <= near[name] and abs(moves) <= 0.25 * near[name]  # and does not pass by
                waiting[name] = waiting[name] + 1 if there else 0
            if all(waiting[name] >= SETTLED for name in joints):
                break
        return {name: forced[name] / looks for name in joints if waiting[name] < SETTLED}


def shapeless(model: Model) -> Model:
    """A copy that touches nothing and measures nothing, as heavy as it is."""
    made = model.copy(NAME)
    made.sensors.clear()
    made.links.update({name: replace(link, parts=()) for name, link in model.links.items()})
    return made


@dataclass(frozen=True)
class Posture:
    """A posture that a robot is meant to take: what it is called, and its joints (rad or m)."""

    name: str
    joints: Mapping[str, float]
    is_named: bool


def postures_of(model: Model, start: Mapping[str, float]) -> list[Posture]:
    """Those that are named, and each motor's joint at the ends of its limits, the others at their start.

    None of a robot with loops: which postures close them is not known here.
    """
    found = [] if model.loops else [Posture(f"in posture '{name}'", at, True) for name, at in model.postures.items()]
    if not model.loops:
        for motor in model.motors.values():
            joint = model.joints[motor.joint]
            is_sprung = joint.stiffness > 0 or motor.mode == "effort"  # which nobody holds at its ends
            if joint.limits and joint.kind in SIMPLE_KINDS and math.isfinite(motor.limit) and not is_sprung:
                found += [
                    Posture(f"with {joint.name} at {joint.told(at)}", {joint.name: at}, False) for at in joint.limits
                ]
    return [posture for posture in found if dict(start) | dict(posture.joints) != dict(start)]
