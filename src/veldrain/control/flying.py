"""Flying a multirotor: position, attitude, and the speeds of its rotors."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, Motors
from veldrain.errors import VeldrainError
from veldrain.motion.attitude import FLYER, fly
from veldrain.motion.rotors import RotorMixer
from veldrain.motion.trajectories import Trajectory
from veldrain.pose import Array
from veldrain.sampling import Reading
from veldrain.sensing import TruePose
from veldrain.sheet import Made, Number, Text
from veldrain.units import triple


def _points(value: Any, where: str) -> tuple[tuple[float, float, float], ...]:
    return tuple(triple(point, "length", where) for point in value)


class Fly(SheetController):
    """Flies a multirotor through waypoints, and as it is told.

    From the pose that a sensor gives it: the error of position asks for an acceleration (with an integral that takes up
    wind and payload), the acceleration for a lift and a tilt, the error of attitude for torques, and these for rotor
    speeds by the rotors' own places (T. Lee, M. Leok, N. H. McClamroch, "Geometric tracking control of a quadrotor UAV
    on SE(3)", CDC 2010). Lines between waypoints are flown under the limits, with a stop in each.

    Inputs, in its own level axes: ``forward``, ``sideways``, ``up`` (m/s) and ``turning`` (rad/s); what is told is
    added to where it holds.

    >>> Fly(waypoints=[(0, 0, 2), (4, 0, 2)], speed="1.5 m/s").speed
    1.5
    """

    inputs: ClassVar[Any] = {"forward": "speed", "sideways": "speed", "up": "speed", "turning": "angular speed"}

    period: Number = Number("period", default=0.005, above=0.0, doc="time between updates, or their rate")
    waypoints: Made[Any, tuple[tuple[float, float, float], ...]] = Made(
        _points,
        default=(),
        kw_only=False,
        doc="points in the world that it goes to in turn; none: it holds where it is",
    )
    pose: Text = Text(default="pose", doc="name of the sensor that gives its pose and velocity, of its root link")
    speed: Number = Number("speed", default=2.0, above=0.0, doc="largest")
    acceleration: Number = Number("acceleration", default=1.5, above=0.0, doc="largest that it plans with")
    tilt: Number = Number("angle", default="25 deg", above=0.0, most=1.2, doc="largest")
    begin: Number = Number("time", default=0.0, least=0.0, doc="when it starts for the first waypoint")
    bandwidth: Number = Number("frequency", default=0.45, above=0.0, doc="of position; attitude is five times as fast")
    integral: Number = Number("frequency", default=0.12, least=0.0, doc="rate at which wind and payload are taken up")

    def start(self, body: Body, random: Any, log: Any) -> None:
        self._mixer, self._log = RotorMixer(body.model), log
        body.see_sensor(self.pose, (TruePose,), "Fly: pose")
        for joint in self._mixer.joints:
            body.motor(joint, "velocity", "Fly")
        self._hold: Array | None = None
        self._heading = 0.0
        self._line: tuple[float, Array, Array, Trajectory] | None = None
        self._next, self._row = 0, np.zeros(1, FLYER)
        row = self._row[0]
        row["gravity"] = math.dist(body.gravity, (0.0, 0.0, 0.0))
        row["mass"], row["inertia"], row["period"] = self._mixer.mass, self._mixer.inertia, self.period
        row["bandwidth"], row["integral"], row["tilt"] = self.bandwidth, self.integral, self.tilt
        self._room, self._load = np.zeros((9, 3)), np.zeros(4)
        self._speeds, self._efforts = np.zeros((2, len(self._mixer.joints)))

    @property
    def joints(self) -> tuple[str, ...]:
        """Names of the joints whose motors it commands; known once it has started."""
        mixer = vars(self).get("_mixer")
        return mixer.joints if mixer else ()

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Motors) -> None:
        reading = senses[self.pose]
        if reading is None:
            return
        motion = reading.data
        orientation, position, velocity, spin = (  # a sensor of one's own may give lists
            np.ascontiguousarray(row, float)
            for row in (motion.orientation, motion.position, motion.linear_velocity, motion.angular_velocity)
        )
        if self._hold is None:
            self._hold = position.copy()
            x, y, z, w = orientation.tolist()
            self._heading = math.atan2(2 * (x * y + z * w), 1 - 2 * (y * y + z * z))
        off = fly(  # type: ignore[no-untyped-call]
            self._row[0],
            self._mixer.rows,
            orientation,
            position,
            velocity,
            spin,
            self._heading,
            *self._reference(now),
            self._room,
            self._load,
            self._speeds,
            self._efforts,
        )
        motors.command(self._mixer.joints, velocity=self._speeds, effort=self._efforts)
        self._log("off_course", off)

    def _reference(self, now: float) -> tuple[Array, Array, Array]:
        """Where it should be, how fast, and with which acceleration."""
        assert self._hold is not None
        told, pace, size = self.inputs, np.zeros(3), 0.0
        if told.forward or told.sideways or told.up:
            c, s = math.cos(self._heading), math.sin(self._heading)
            pace[:] = c * told.forward - s * told.sideways, s * told.forward + c * told.sideways, told.up
            size = float(np.linalg.norm(pace))
            pace *= min(1.0, self.speed / size)
            self._hold = self._hold + pace * self.period
        self._heading += told.turning * self.period
        if self._line is None and self._next < len(self.waypoints) and now >= self.begin and not size:
            goal = np.array(self.waypoints[self._next])
            self._next += 1
            way = float(np.linalg.norm(goal - self._hold))
            if way > 1e-6:
                share = Trajectory.through(
                    [[0.0], [1.0]],
                    speed=self.speed / way,
                    acceleration=self.acceleration / way,
                    jerk=4 * self.acceleration / way,
                )
                self._line = now, self._hold, goal, share
        if self._line is None:
            return self._hold, pace, np.zeros(3)
        begun, a, b, share = self._line
        along, rate, growth = share.at(now - begun)
        line = b - a
        self._hold = a + along * line
        if now - begun >= share.duration:
            self._line = None
        return self._hold, rate * line, growth * line

    def check(self) -> None:
        if self.tilt >= math.pi / 2:
            raise VeldrainError(f"a tilt of {math.degrees(self.tilt):g}°", where="Fly", cure="give less than 70°")
