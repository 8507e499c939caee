"""A controller that drives nothing: it estimates where its robot is, for a recording that judges it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from veldrain.control.base import SheetController
from veldrain.control.contract import Body
from veldrain.errors import VeldrainError
from veldrain.model import Fields, Message
from veldrain.motion.filtering import YAW, Errors, PoseFilter, X, Y
from veldrain.recording.messages import header
from veldrain.sampling import Reading
from veldrain.sensing import Gnss, Imu, Odometer
from veldrain.sheet import Maybe, Number, Row, Text


class EstimatePose(SheetController):
    """Estimates the pose of a robot on the ground by its odometer, its gyro and satellite fixes.

    An extended Kalman filter (``veldrain.motion.filtering``): wheels and gyro carry it on, each fix corrects it, and
    the gyro's bias, the radius of the wheels and the slow error of the fixes are estimated along. What it expects of
    their errors is what the data sheets of the robot's sensors say. Its pose is recorded as Odometry with its
    covariance, as the stream ``<robot>/<name>``; it commands no motor, so that it goes beside the controller that
    drives. ``vd.consistency`` judges it against the truth.

    >>> EstimatePose(imu="imu", gnss="gnss").name
    'estimate'
    """

    odometer: Text = Text(default="odometer", doc="name of the wheel odometry")
    imu: Maybe[str, str] = Maybe(Text(), default=None, doc="name of the IMU; None: the wheels alone tell how it turns")
    gnss: Maybe[str, str] = Maybe(Text(), default=None, doc="name of the satellite receiver; None: nothing corrects it")
    name: Text = Text(default="estimate", doc="of its stream, below the robot's name")
    place: Row = Row("length", "length", "angle", default=(0.0, 0.0, 0.0), doc="x, y and yaw where it begins")
    place_errors: Row = Row(
        "length", "length", "angle", default=(0.0, 0.0, 0.0), doc="standard deviations of what it is told of that"
    )
    period: Number = Number("period", default=0.02, above=0.0, doc="time between updates, or their rate")

    def start(self, body: Body, random: np.random.Generator, log: Any) -> None:
        """Take over what the sensors' data sheets say of their errors."""
        where, sheets = f"{body.robot}: EstimatePose", body.model.sensors
        told: dict[str, Any] = {"start": self.place_errors}
        for name, kind in ((self.odometer, Odometer), (self.imu, Imu), (self.gnss, Gnss)):
            if name is not None:
                body.see_sensor(name, (kind,), where)
        wheels: Any = sheets[self.odometer].sensor
        lasting = math.hypot(wheels.lasting_slip or 0.0, wheels.radius_error)
        radius = lasting / math.sqrt(len(wheels.left) + len(wheels.right))
        told |= {"slip": wheels.slip, "radius": radius, "bias": math.hypot(radius, wheels.track_error)}
        if self.imu is not None:
            gyro: Any = sheets[self.imu].sensor
            told |= {"gyro": gyro.gyro_noise, "gyro_period": gyro.period}
            told |= {"bias": gyro.gyro_bias, "walk": gyro.gyro_bias_random_walk}
        self._arm = 0.0, 0.0
        if self.gnss is not None:
            mounted = sheets[self.gnss]
            receiver: Any = mounted.sensor
            if not receiver.noise > 0:
                raise VeldrainError(
                    "has no noise, so that there is nothing to weigh it by",
                    where=f"{body.robot}/{self.gnss}",
                    cure="write noise: 1 m, or what its data sheet says",
                )
            told |= {"fix": receiver.noise, "drift": receiver.drift, "correlation_time": receiver.correlation_time}
            at = (body.model.poses(body.model.bent({}))[mounted.link] @ mounted.pose).position
            self._arm = float(at[0]), float(at[1])
        self._filter = PoseFilter((self.place[0], self.place[1], self.place[2]), Errors(**told))
        self._log, self._robot = log, body.robot
        self._seen: dict[str, int] = {}
        self._rates: list[float] = []

    def _new(self, senses: Mapping[str, Reading | None], name: str | None) -> Reading | None:
        """A reading that was not used yet."""
        reading = senses[name] if name is not None else None
        if reading is None or name is None or self._seen.get(name) == reading.stamp:
            return None
        self._seen[name] = reading.stamp
        return reading

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Any) -> None:
        if gyro := self._new(senses, self.imu):
            self._rates.append(float(gyro.data.angular_velocity[2]))
        before = self._seen.get(self.odometer)
        if wheels := self._new(senses, self.odometer):
            time = (wheels.stamp - (wheels.stamp if before is None else before)) / 1e9
            rate = sum(self._rates) / len(self._rates) if self._rates else wheels.data.wz
            turned = float(wheels.data.twist_covariance[2, 2]) * time**2
            self._filter.go(wheels.data.vx, rate, time, bool(self._rates), turned)
            self._rates.clear()
        fix = self._new(senses, self.gnss)
        if fix and math.isfinite(fix.data.position[0]):
            self._filter.see(fix.data.position, self._arm)
        self._log(self.name, self._message(round(now * 1e9)))

    def _message(self, stamp: int) -> Message:
        x, y, yaw = (float(self._filter.state[k]) for k in (X, Y, YAW))
        covariance = np.zeros((6, 6))
        covariance[np.ix_((0, 1, 5), (0, 1, 5))] = self._filter.covariance[:3, :3]
        turn = Fields(x=0.0, y=0.0, z=math.sin(yaw / 2), w=math.cos(yaw / 2))
        pose = Fields(pose=Fields(position=Fields(x=x, y=y, z=0.0), orientation=turn), covariance=covariance.ravel())
        still = Fields(linear=Fields(x=0.0, y=0.0, z=0.0), angular=Fields(x=0.0, y=0.0, z=0.0))
        fields = Fields(
            header=header(stamp, "world"),
            child_frame_id=self._robot,
            pose=pose,
            twist=Fields(twist=still, covariance=np.zeros(36)),
        )
        return Message("nav_msgs/msg/Odometry", fields)
