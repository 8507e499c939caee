"""Walking on legs of three joints."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, Motors
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Fields, Message, Model, Sphere
from veldrain.model.inertia import MassProperties, combined
from veldrain.motion.bearing import bear
from veldrain.motion.gaits import GAITS, Gait
from veldrain.motion.legs import Leg
from veldrain.motion.three_joints import leg_angles
from veldrain.pose import Array
from veldrain.sampling import Reading
from veldrain.sensing import FootForce, Imu, Touch, TruePose
from veldrain.sheet import Choice, Made, Maybe, Names, Number, Text
from veldrain.units import Quantity


def _sensors(value: Any, where: str) -> dict[str, str]:
    if not isinstance(value, Mapping):
        raise VeldrainError(f"{value!r} is no table", where=where, cure="give the name of a sensor for each foot")
    return dict(value)


UNEVEN = 0.2  # of a leg's length, between feet in a stance
STEADY = 1.0  # s: the angles of the gyro are held to gravity so slowly
LEVELS = 1.0, 0.1  # 1/s: how fast it becomes level, standing and walking: what walking shakes is not believed
LEVEL = 0.03  # rad: level enough to walk
MOST = 0.4  # rad that it leans to become level
MOMENTS = 40  # of a stride, for its centre of mass
HELD = 0.5  # of what is told: so much more or less is asked at most to reach it
FALLEN = 1.0  # rad
PATIENCE = 5.0  # s: then it walks as it is


def _whole(model: Model, at: Mapping[str, float]) -> MassProperties:
    """The mass properties of a robot in a posture."""
    poses = model.poses(at)
    return combined([link.mass_properties.moved(poses[name]) for name, link in model.links.items()])


def _rolling(model: Model, leg: Leg, q: Array) -> Array:
    """How far a foot that is a sphere goes over the ground (2, 3) as its leg's joints turn, m per rad, about a stance.

    A sphere of radius r that turns by φ rolls by φ × r ẑ; the point that is led lies beside its middle by d, and goes
    φ × (r ẑ + d).
    """
    held = {model.joints[leg.joints[2]].child}
    for joint in model.joints.values():  # rigid with the shank
        held |= {joint.child} if joint.kind == "fixed" and joint.parent in held else set()
    poses, foot = model.poses(dict(zip(leg.joints, q.tolist(), strict=True))), leg.chain.forward(q).position
    spheres = [
        ((poses[name] @ part.pose).position, part.shape.radius)
        for name in held
        for part in model.links[name].parts
        if isinstance(part.shape, Sphere) and part.role != "visual"
    ]
    if not spheres:
        return np.zeros((2, 3))
    middle, radius = min(spheres, key=lambda sphere: float(sphere[0][2]) - sphere[1])
    arm = np.array([0.0, 0.0, radius]) + foot - middle
    return np.cross(leg.chain.jacobian(q)[3:].T, arm).T[:2]


Velocity = tuple[float, float, float]  # forward and sideways, m/s, and turning, rad/s


class Walk(SheetController):
    """Walks on any number of legs of three joints, in a gait, as it is told.

    Each foot follows its place in the gait (see ``veldrain.motion.legs``), each leg is bent in closed form, and its
    position motors are told angles and speeds. With a sensor that feels the ground at each foot, feet that land early
    stay where they are, and those that meet no ground at the end of their swing are let down until they do. With an IMU
    the body is kept level: before it walks it stands until it is. Its legs' motors are given the efforts that carry its
    weight, about the centre of mass that it has on average over a stride, and feet that are spheres roll.

    With a ``pose`` it holds the speeds that it is told, and records ``told`` and ``reached``. Falls, which it sees with
    either, are told as events and in the outcome.

    Inputs: ``forward`` and ``sideways`` (m/s), ``turning`` (rad/s), ``height`` (m, added to the standing height),
    ``lean`` and ``tilt`` (rad, roll and pitch of the body over its feet).

    >>> Walk(["front_left", "front_right", "rear_left", "rear_right"], gait="trot").gait
    'trot'
    """

    inputs: ClassVar[Any] = {
        "forward": "speed",
        "sideways": "speed",
        "turning": "angular speed",
        "height": "length",
        "lean": "angle",
        "tilt": "angle",
    }

    period: Number = Number("period", default=0.01, above=0.0, doc="time between updates, or their rate")
    feet: Names = Names(kw_only=False, doc="links, frames or sensors at the ends of the legs")
    gait: Choice = Choice(*GAITS, default="crawl", doc="in which order feet are lifted")
    stance: Maybe[str, str] = Maybe(
        Text(), default=None, doc="name of the posture that it stands in; None: the middle of the joints' limits"
    )
    stride_time: Number = Number("time", default=1.0, above=0.0, doc="of a whole stride")
    swing_height: Number = Number("length", default=0.05, above=0.0, doc="of a foot over the ground")
    duty_factor: Maybe[Quantity, float] = Maybe(
        Number("ratio", least=0.5, most=0.95),
        default=None,
        doc="share of a stride that a foot is on the ground; None: 0.55 in a trot or tripod, more in a crawl",
    )
    contact: Maybe[Any, dict[str, str]] = Maybe(
        Made(_sensors), default=None, doc="sensor that feels the ground (FootForce or Touch) by foot"
    )
    imu: Maybe[str, str] = Maybe(Text(), default=None, doc="name of the IMU that keeps it level; None: it is not")
    pose: Maybe[str, str] = Maybe(
        Text(),
        default=None,
        doc="name of the sensor that gives its pose and velocity, by which it holds its speed; None: as the gait goes",
    )
    shift: Number = Number(
        "ratio",
        default=0.0,
        least=0.0,
        most=1.0,
        doc="how far the body goes over the feet that stand: 1 is all the way",
    )
    acceleration: Number = Number("acceleration", default=0.5, above=0.0, doc="largest, of what it is told")
    reach_down: Number = Number("length", default=0.06, least=0.0, doc="how far feet are let down to find the ground")

    def start(self, body: Body, random: Any, log: Any) -> None:
        model = body.model
        if twice := [foot for k, foot in enumerate(self.feet) if foot in self.feet[:k]]:
            raise VeldrainError(f"foot '{twice[0]}' is named twice", where="Walk", cure="name each foot once")
        self._legs = [Leg(model, foot) for foot in self.feet]
        if len(self._legs) < 4:
            raise VeldrainError(f"{len(self._legs)} legs", where="Walk", cure="walk on four or more")
        self._names = tuple(joint for leg in self._legs for joint in leg.joints)
        for joint in self._names:
            body.motor(joint, "position", "Walk")
        if self.stance is not None and self.stance not in model.postures:
            raise unknown("posture", self.stance, model.postures, "Walk")
        at = model.bent(model.postures[self.stance]) if self.stance else {}
        self._q = np.array(
            [
                [at[j] if self.stance else m for j, m in zip(leg.joints, leg.chain.middle, strict=True)]
                for leg in self._legs
            ]
        )
        self._rows = np.concatenate([leg.row for leg in self._legs])
        self._answers_room, self._angles_room = np.zeros((len(self._legs), 4, 3)), self._q.copy()
        rest = np.array([leg.chain.forward(q).position for leg, q in zip(self._legs, self._q, strict=True)])
        self._see_that_it_stands(rest, model)
        ways = self.stride_time, self.swing_height, self.duty_factor, self.shift, self.reach_down
        self._centre = self._centre_of_a_stride(Gait(rest, self.gait, *ways), model)
        self._gait, self._feet = Gait(rest, self.gait, *ways, self._centre), rest.copy()
        for foot in self.contact or {}:
            if foot not in self.feet:
                raise unknown("foot", foot, self.feet, "Walk: contact")
        for name in (self.contact or {}).values():
            body.see_sensor(name, (FootForce, Touch), "Walk: contact")
        if self.imu is not None:
            body.see_sensor(self.imu, (Imu,), "Walk: imu")
        self._efforts = np.zeros_like(self._q)
        self._weight = math.hypot(*body.gravity) * _whole(model, {}).mass
        if self.pose is not None:
            body.see_sensor(self.pose, (TruePose,), "Walk: pose")
        self._reached, self._hold, self._has_fallen, self._due = np.zeros(3), np.zeros(3), False, 0.0
        self._body = body
        self._rolls = np.array([_rolling(model, leg, q) for leg, q in zip(self._legs, self._q, strict=True)])
        self._stance = self._q.copy()
        self._sensed = [(self.contact or {}).get(foot) for foot in self.feet]
        self._velocity = (0.0, 0.0, 0.0)
        self._level, self._angles = [0.0, 0.0], [0.0, 0.0]
        self._walks, self._waited = False, 0.0
        self._gait.feet["blind"] = [name is None for name in self._sensed]
        self._log = log

    def _at(self, q: Array) -> dict[str, float]:
        return dict(zip(self._names, q.ravel().tolist(), strict=True))

    def _see_that_it_stands(self, rest: Array, model: Model) -> None:
        """Refuse a stance that cannot be one: feet at unlike heights, or the centre of mass beside all of them."""
        where = f"Walk: stance {self.stance or '(the middle of the joints’ limits)'}"
        cure = "name a posture that it stands in: stance=" if self.stance is None else "see the joints of that posture"
        length = max(leg.thigh + leg.shank for leg in self._legs)
        if np.ptp(rest[:, 2]) > UNEVEN * length:
            raise VeldrainError(f"its feet are {np.ptp(rest[:, 2]):.3g} m apart in height", where=where, cure=cure)
        com = _whole(model, self._at(self._q)).com
        low, high = rest[:, :2].min(axis=0), rest[:, :2].max(axis=0)
        if ((com[:2] < low) | (com[:2] > high)).any():
            x, y = com[:2]
            raise VeldrainError(
                f"the centre of mass is at ({x:.3f}, {y:.3f}) m of the root, beside all feet", where=where, cure=cure
            )

    def _centre_of_a_stride(self, gait: Gait, model: Model) -> Array:
        """Where the centre of mass is on average as it steps on the spot: that of a lifted leg is elsewhere."""
        feet, angles, found = gait.feet["rest"].copy(), self._q.copy(), []
        for _ in range(MOMENTS):
            gait.step(self.stride_time / MOMENTS, (0.0, 0.0, 0.0), True, 0.0, (0.0, 0.0), (0.0, 0.0), feet)
            leg_angles(self._rows, feet, self._q, self._answers_room, angles)  # type: ignore[no-untyped-call]
            found.append(_whole(model, self._at(angles)).com[:2])
        return np.asarray(np.mean(found, axis=0))

    @property
    def joints(self) -> tuple[str, ...]:
        """Names of the joints that it commands; known once it has started."""
        return tuple(vars(self).get("_names", ()))

    @property
    def duty(self) -> float:
        """The share of a stride that a foot is on the ground; known once it has started."""
        return float(self._gait.stride["duty"][0])

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Motors) -> None:
        told, most = self.inputs, self.acceleration * self.period
        asked = (told.forward, told.sideways, told.turning) if self._may_walk() else (0.0, 0.0, 0.0)
        asked = self._held(now, asked, senses)
        forward, sideways, turning = (
            v + min(max(a - v, -most * k), most * k) for v, a, k in zip(self._velocity, asked, (1, 1, 4), strict=True)
        )
        self._velocity = forward, sideways, turning
        moves = any(abs(v) > 1e-6 for v in (*self._velocity, *asked))
        self._feel(senses)
        self._keep_level(senses, LEVELS[moves])
        lean, feet = (told.lean, told.tilt), self._feet
        self._gait.step(self.period, self._velocity, moves, told.height, lean, self._level, feet)
        feet[:, :2] += np.einsum("nij,nj->ni", self._rolls, self._q - self._stance)
        angles = self._angles_room
        reached = leg_angles(self._rows, feet, self._q, self._answers_room, angles)  # type: ignore[no-untyped-call]
        if not reached:
            found = [
                leg.nearest(foot, rest, near=q)
                for leg, foot, rest, q in zip(self._legs, feet, self._gait.feet["rest"], self._q, strict=True)
            ]
            angles[:] = [q for q, _ in found]
            self._log("out_of_reach", max(left for _, left in found))
        rates = (angles - self._q) / self.period
        stride, efforts = self._gait.stride[0], self._efforts
        bear(  # type: ignore[no-untyped-call]
            stride, self._gait.feet, self._rows, feet, angles, self._centre, self._weight, moves, efforts
        )
        motors.command(self._names, position=angles.ravel(), velocity=rates.ravel(), effort=efforts.ravel())
        self._q[:] = angles

    def _may_walk(self) -> bool:
        """With an IMU it first becomes level, standing, as long as that takes: walking shakes the IMU."""
        asked = self.inputs.forward, self.inputs.sideways, self.inputs.turning
        if self.imu is None or not any(asked):
            self._walks, self._waited = self.imu is None, 0.0
        elif not self._walks:
            self._waited += self.period
            asked_lean = self.inputs.lean, self.inputs.tilt
            off = max(abs(a - to) for a, to in zip(self._angles, asked_lean, strict=True))
            self._walks = (off < LEVEL and self._waited > STEADY) or self._waited > PATIENCE
        return self._walks

    def _held(self, now: float, asked: Velocity, senses: Mapping[str, Reading | None]) -> Velocity:
        """What is asked, and more or less of it by what was reached over the last stride; both are recorded."""
        reading = senses[self.pose] if self.pose else None
        if reading is None:
            return asked
        motion = reading.data
        x, y = (float(v) for v in motion.orientation[:2])
        self._see_falls(math.acos(min(max(1.0 - 2.0 * (x * x + y * y), -1.0), 1.0)))
        found = np.array([*motion.linear_velocity[:2], motion.angular_velocity[2]])
        self._reached += (found - self._reached) * min(self.period / self.stride_time, 1.0)
        goal = np.array(asked)
        most = HELD * np.abs(goal)
        more = self._hold + (goal - self._reached) * self.period / self.stride_time
        self._hold = np.minimum(np.maximum(more, -most), most)
        if now >= self._due - 1e-9:
            self._due = now + max(0.1, self.period)
            for name, (x, y, w) in (("told", asked), ("reached", self._reached.tolist())):
                linear, angular = Fields(x=x, y=y, z=0.0), Fields(x=0.0, y=0.0, z=w)
                self._log(name, Message("geometry_msgs/msg/Twist", Fields(linear=linear, angular=angular)))
        forward, sideways, turning = (goal + self._hold).tolist()
        return forward, sideways, turning

    def _see_falls(self, tilt: float) -> None:
        if tilt > FALLEN and not self._has_fallen:
            self._body.notice("fallen")
        self._has_fallen = tilt > FALLEN

    def _feel(self, senses: Mapping[str, Reading | None]) -> None:
        """Which feet feel the ground, so far as they have a sensor that does."""
        for k, name in enumerate(self._sensed):
            reading = senses[name] if name else None
            if reading is not None:
                force = getattr(reading.data, "force", None)
                self._gait.feet["feels"][k] = (
                    bool(reading.data.pressed) if force is None else float(np.linalg.norm(force)) > 2.0
                )

    def _keep_level(self, senses: Mapping[str, Reading | None], gain: float) -> None:
        """Lean against the IMU's roll and pitch: the gyro's, held to gravity, which it feels on average."""
        reading = senses[self.imu] if self.imu else None
        if reading is None:
            return
        x, y, z = map(float, reading.linear_acceleration)
        felt = math.atan2(y, z), math.atan2(-x, math.hypot(y, z))
        rates, asked = reading.angular_velocity, (self.inputs.lean, self.inputs.tilt)
        for k in range(2):
            angle = self._angles[k] + self.period * (float(rates[k]) + (felt[k] - self._angles[k]) / STEADY)
            level = self._level[k] - gain * self.period * (angle - asked[k])
            self._angles[k], self._level[k] = angle, min(max(level, -MOST), MOST)
        self._see_falls(max(map(abs, self._angles)))
