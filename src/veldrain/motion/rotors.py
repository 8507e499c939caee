"""What rotors can do to the body that carries them: thrust and torques from their speeds, and back."""

from __future__ import annotations

import math

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model import Model
from veldrain.motion.attitude import ROTOR, rotor_speeds
from veldrain.pose import Array


class RotorMixer:
    """The rotors of a model, in the axes of its root link, about its centre of mass.

    A rotor at r with its axis a, turned at ω, gives the force k·u·a and the torque r × k·u·a − c·u·a with
    u = ω·|ω|: the air holds the blades back, and the motor's frame feels it.

    Args:
        model: a model with rotors on its root link.

    Attributes:
        joints: names of the rotors' joints.
        mass: of the whole, kg.
        inertia: (3, 3) of the whole about its centre of mass, kg·m².
        arms: (n, 3) from its centre of mass to each rotor, m.
        thrust: (n,) k of each rotor; torque: (n,) c.

    Raises:
        VeldrainError: fewer than four rotors, or rotors that cannot lift and turn it all ways.
    """

    def __init__(self, model: Model) -> None:
        self.joints = tuple(model.rotors)
        where = f"{model.name}: rotors"
        if len(self.joints) < 4:
            raise VeldrainError(f"{len(self.joints)} rotors", where=where, cure="a flyer needs four or more")
        poses, whole = model.poses(), model.total()
        self.mass, self.inertia, self.centre = whole.mass, whole.inertia, whole.com
        self.thrust = np.array([model.rotors[j].thrust for j in self.joints])
        self.torque = np.array([model.rotors[j].torque for j in self.joints])
        columns, arms = [], []
        for joint, k, c in zip(self.joints, self.thrust, self.torque, strict=True):
            place = poses[model.joints[joint].child]
            axis, arm = place.rotation.apply(model.joints[joint].axis), place.position - self.centre
            arms.append(arm)
            columns.append([k * axis[2], *(np.cross(arm, k * axis) - c * axis)])
        self.arms = np.array(arms)
        self._does = np.array(columns).T  # (4, n): lift and three torques for u = 1 each
        # Scaled, so that lift and torques count alike.
        if (
            np.linalg.matrix_rank(self._does / np.abs(self._does).max(axis=1, initial=1e-300, keepdims=True), tol=1e-6)
            < 4
        ):
            raise VeldrainError(
                "cannot lift and turn it all ways",
                where=where,
                cure="place them around it, and let half turn the other way",
            )
        motors = [model.motors.get(j) for j in self.joints]
        self.top = np.array(
            [_top_speed(m.speed, m.limit, c) if m else 0.0 for m, c in zip(motors, self.torque, strict=True)]
        )
        if (self.top <= 0).any():
            bare = self.joints[int(np.argmin(self.top))]
            raise VeldrainError(
                "has no motor that turns it", where=f"{model.name}/{bare}", cure="give it a velocity motor"
            )
        self.rows = np.zeros(len(self.joints), ROTOR)  # as kernels take it
        self.rows["asks"] = np.linalg.pinv(self._does)
        self.rows["level"] = self.rows["asks"] * (1.0, 1.0, 1.0, 0.0)
        self.rows["thrust"], self.rows["torque"], self.rows["top"] = self.thrust, self.torque, self.top

    def speeds(self, lift: float, torque: Array) -> Array:
        """Rotor speeds (n,), rad/s, for a lift (N, along z) and torques (3,), N·m; none turns backwards or too fast.

        Where the rotors cannot give all, turning about z is given up first.
        """
        found = np.zeros(len(self.joints))
        rotor_speeds(self.rows, np.array((lift, *torque)), found)
        return found

    def does(self, speeds: Array) -> Array:
        """Lift (N) and torques (N·m) at rotor speeds (n,): (4,)."""
        return np.asarray(self._does @ (speeds * np.abs(speeds)))

    @property
    def hover(self) -> float:
        """Speed (rad/s) of each rotor that holds it, all alike: √(m·g/Σ|k|)."""
        return math.sqrt(self.mass * 9.81 / float(np.abs(self.thrust).sum()))

    @property
    def most_lift(self) -> float:
        """Largest thrust of all rotors, N."""
        return float((np.abs(self.thrust) * self.top**2).sum())


def _top_speed(speed: float, limit: float, drag: float) -> float:
    """What a motor's speed limit, or its largest effort against the air, allows."""
    held = math.sqrt(limit / drag) if drag > 0 and math.isfinite(limit) else math.inf
    top = min(speed, held)
    return top if math.isfinite(top) else 1e4
