"""What a robot does that is commanded over a live link."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, Protocol

import numpy as np

from veldrain.control.contract import Body, MotorHandle
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Fields, Message
from veldrain.motion.trajectories import Trajectory
from veldrain.physics.joints import TAKEN

MOST_TOLD = 1e6  # of an input or command, SI units: a finite number can end a trial too
JOINTS, PATH = "sensor_msgs/msg/JointState", "trajectory_msgs/msg/JointTrajectory"
TWIST, GOAL = "geometry_msgs/msg/Twist", "geometry_msgs/msg/PoseStamped"
STAMPED = "geometry_msgs/msg/TwistStamped"
TOLD = {"joint_commands": JOINTS, "joint_trajectory": PATH, "cmd_vel": TWIST, "goal_pose": GOAL}


class Commands(Protocol):
    """What a listener needs of its link."""

    notices: dict[str, str]
    watchdog: float

    def tick(self, now: float) -> None:
        """Keep pace with the clock."""

    def told(self, stream: str) -> list[Any]:
        """The messages that came on a topic since the last time."""

    def commanders(self, stream: str) -> int:
        """How many publish a topic."""

    def is_timely(self, stream: str, message: Any, now: float) -> bool:
        """Whether a message is to be followed, by its stamp."""

    def notice(self, key: str, text: str) -> None:
        """Tell something once."""


class Listener:
    """The controller that does what a link is told for one robot; see ``Link``."""

    def __init__(self, link: Commands, paces: bool, period: float) -> None:
        self.link, self.paces, self.period = link, paces, period

    def start(self, body: Body, random: Any, log: Any) -> None:
        self._body, self._robot, self._modes = body, body.robot, {j: m.mode for j, m in body.model.motors.items()}
        self._told: float | None = None
        self._path: tuple[float, Trajectory] | None = None
        self._mine: set[str] = set()  # joints that were commanded over the link
        self._spoken: set[str] = set()  # topics that somebody commanded
        self._inputs: set[str] = set()
        self._left: dict[str, int] = {}  # messages of a topic that were not followed
        self._stopped, self._log, self._logged = False, log, 0

    def update(self, now: float, senses: Any, motors: Mapping[str, MotorHandle]) -> None:
        if self.paces:
            self.link.tick(now)
            for text in list(self.link.notices.values())[self._logged :]:
                self._log("live", Message("std_msgs/msg/String", Fields(data=text)))
            self._logged = len(self.link.notices)
        quiet = True
        for word in TOLD:
            stream = f"{self._robot}/{word}"
            messages, writers = self.link.told(stream), self.link.commanders(stream)
            if messages:
                self._spoken.add(stream)
            if writers > 1:
                self.link.notice(f"two {stream}", f"{stream}: {writers} publish it; the robot stands until one is left")
                self._stop(motors, now)
                return
            if stream in self._spoken and not writers and not messages:
                self.link.notice(f"gone {stream}", f"{stream}: who commanded it has vanished at {now:g} s")
                self._spoken.discard(stream)
                self._stop(motors, now)
            for message in [m for m in messages[-1:] if self.link.is_timely(stream, m, now)]:
                quiet = not self._taken(stream, getattr(self, f"_{word}"), message, motors, now) and quiet
        if not quiet:
            self._told, self._stopped = now, False
        if self._path is not None:
            if not self._taken(f"{self._robot}/joint_trajectory", self._follow, motors, now):
                self._stop(motors, now)
        elif self._told is not None and now - self._told > self.link.watchdog - 1e-9 and not self._stopped:
            self.link.notice(
                f"watchdog {self._robot}",
                f"{self._robot}: told nothing for {self.link.watchdog:g} s at {now:g} s: it stops",
            )
            self._stop(motors, now)

    def _taken(self, stream: str, act: Any, *given: Any) -> bool:
        """Do what a message says; what is wrong with it is told, and the message left."""
        try:
            act(*given)
            return True
        except (VeldrainError, ValueError, IndexError, TypeError, AttributeError) as error:
            self._left[stream] = self._left.get(stream, 0) + 1
            many = f" ({self._left[stream]} in all)" if self._left[stream] > 1 else ""
            said = " ".join(str(error).split())
            self.link.notices[f"left {stream}"] = f"{stream}: a message was left: {said}{many}"
            return False

    def _joint_commands(self, message: Any, motors: Mapping[str, MotorHandle], now: float) -> None:
        self._path = None
        wanted: dict[str, dict[str, float]] = {}
        for k, name in enumerate(message.name):
            joint = name.removeprefix(f"{self._robot}/")
            if joint in wanted:
                raise VeldrainError("is named twice", where=joint, cure="name each joint once")
            if joint not in self._modes:
                raise unknown("motor", joint, self._modes, self._robot)
            given = {word: getattr(message, word) for word in TAKEN[self._modes[joint]]}
            told = {word: float(values[k]) for word, values in given.items() if len(values) == len(message.name)}
            told = {word: value for word, value in told.items() if not math.isnan(value)}
            if not told or not all(abs(value) <= MOST_TOLD for value in told.values()):
                raise VeldrainError(
                    f"says {told} of a {self._modes[joint]} motor",
                    where=joint,
                    cure="give numbers that a motor can follow",
                )
            wanted[joint] = told
        for joint, told in wanted.items():
            motors[joint].command(**told)
            self._mine.add(joint)

    def _joint_trajectory(self, message: Any, motors: Mapping[str, MotorHandle], now: float) -> None:
        joints = [name.removeprefix(f"{self._robot}/") for name in message.joint_names]
        for joint in joints:
            if joint not in self._modes:
                raise unknown("motor", joint, self._modes, self._robot)
        times = [p.time_from_start.sec + p.time_from_start.nanosec / 1e9 for p in message.points]
        positions = np.array([p.positions for p in message.points], float)
        has_speeds = all(len(p.velocities) == len(joints) for p in message.points)
        speeds = np.array([p.velocities for p in message.points], float) if has_speeds else None
        self._path = now, Trajectory.of(times, positions, speeds, joints)

    def _follow(self, motors: Mapping[str, MotorHandle], now: float) -> None:
        if self._path is None:
            return
        begin, path = self._path
        position, velocity, _ = path.at(min(now - begin + self.period, path.duration))
        for k, joint in enumerate(path.joints):
            if self._modes[joint] == "position":
                motors[joint].command(position=float(position[k]), velocity=float(velocity[k]))
            elif self._modes[joint] == "velocity":
                motors[joint].command(velocity=float(velocity[k]))
            self._mine.add(joint)
        if now - begin >= path.duration:
            self._path, self._told, self._stopped = None, None, True

    def _cmd_vel(self, message: Any, motors: Mapping[str, MotorHandle], now: float) -> None:
        message = getattr(message, "twist", message)  # a TwistStamped
        told = {"forward": message.linear.x, "sideways": message.linear.y, "turning": message.angular.z}
        self._tell(told, ("forward",))

    def _goal_pose(self, message: Any, motors: Mapping[str, MotorHandle], now: float) -> None:
        q = message.pose.orientation
        yaw = math.atan2(2 * (q.w * q.z + q.x * q.y), 1 - 2 * (q.y**2 + q.z**2))
        self._tell({"x": message.pose.position.x, "y": message.pose.position.y, "yaw": yaw}, ("x", "y"))

    def _tell(self, told: dict[str, float], needed: tuple[str, ...]) -> None:
        """Tell the one controller that has such inputs."""
        fits = {name: kinds for name, kinds in self._body.inputs().items() if set(needed) <= set(kinds)}
        if len(fits) != 1:
            raise VeldrainError(
                f"{len(fits)} of its controllers have the inputs {', '.join(needed)}",
                where=self._robot,
                cure="drive it with one that has them, such as DifferentialDrive",
            )
        ((name, kinds),) = fits.items()
        for word, value in told.items():
            if not abs(value) <= MOST_TOLD:
                raise VeldrainError(
                    f"says {value:g} of '{word}'", where=name or self._robot, cure="say a number of its size"
                )
        self._body.tell(name, **{word: float(value) for word, value in told.items() if word in kinds})
        self._inputs.add(name)

    def _stop(self, motors: Mapping[str, MotorHandle], now: float) -> None:
        """Motors that the link has commanded stand, or are without effort; inputs are zero. Positions hold."""
        self._stopped, self._path = True, None
        for joint in self._mine:
            if self._modes[joint] == "velocity":
                motors[joint].command(velocity=0.0)
            elif self._modes[joint] == "effort":
                motors[joint].command(effort=0.0)
        for name in self._inputs:
            kinds = self._body.inputs()[name]
            still = [word for word, kind in kinds.items() if kind in ("speed", "angular speed")]
            self._body.tell(name, **dict.fromkeys(still, 0.0))
