"""What a simulation publishes: samples, frames, joint states, commands, contacts, events, robot descriptions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import numpy as np

from veldrain.formats.urdf_out import description_of
from veldrain.model import Fields, Message, World
from veldrain.physics.frames import FrameTree
from veldrain.physics.tapping import Felt
from veldrain.pose import quaternion_of
from veldrain.recording.messages import header, stamped
from veldrain.recording.sinks import Sink
from veldrain.sampling import Reading, Samples
from veldrain.sensing.parts import CONTACTS, contact, xyz, xyzw

STATE_PERIOD = 0.05  # s between transforms and joint states


class Moving(Protocol):
    """What is published of a simulation."""

    world: World
    step: float

    @property
    def stamp(self) -> int:
        """Simulated time in ns."""

    @property
    def frames(self) -> FrameTree:
        """All frames of the world."""

    @property
    def streams(self) -> Mapping[str, Samples]:
        """The sensors by the names of their streams."""

    def joint_state(self, robot: str) -> tuple[Sequence[str], Any, Any, Any]:
        """Names, positions, velocities and motor efforts of a robot's joints."""


class Publisher:
    """Turns what happens in a simulation into messages for sinks.

    Args:
        simulation: what is published.
        sinks: where to.
        track: more streams: the pose of a link, frame or thing in the world, by the name of its stream.
    """

    def __init__(self, simulation: Moving, sinks: Sequence[Sink], track: Mapping[str, str] | None = None) -> None:
        self._sim, self.sinks, self._track = simulation, list(sinks), dict(track or {})
        self.every = max(1, round(STATE_PERIOD / simulation.step))  # steps between transforms
        self._robots = [name for name in simulation.world.placed if len(simulation.joint_state(name)[0])]
        self._takes_all = any(type(sink).takes is Sink.takes for sink in self.sinks)
        self._named: dict[str, tuple[dict[str, str], str]] = {}  # streams and frame of each sensor
        self._last = -1
        self.signals: dict[str, float] = {}  # what controllers logged last, by stream

    def streams(self) -> list[str]:
        """Names of the streams that are there whatever happens, but for those of sensors."""
        found = [f"{robot}/joint_states" for robot in self._robots] + list(self._track)
        found += [f"{robot}/robot_description" for robot in self._sim.world.placed]
        moves = self._sim.frames.moves_in_parent
        return [*found, *(["tf"] if moves.any() else []), *(["tf_static"] if not moves.all() else [])]

    def own_streams(self) -> set[str]:
        """The names that no controller may log under: they are those of sensors and of what is always there."""
        sensors = {
            f"{samples.stream}/{name}" if name else samples.stream
            for samples in self._sim.streams.values()
            for name in ("", *samples.sensor.companions)
        }
        return sensors | {*self.streams()} | {f"{robot}/commands" for robot in self._sim.world.placed}

    def write(self, stream: str, message: Message, latched: bool = False, stamp: int | None = None) -> None:
        """Give a message to all sinks."""
        stamp = self._sim.stamp if stamp is None else stamp
        for sink in self.sinks:
            if sink.takes(stream, stamp):
                sink.write(stream, stamp, message, latched)

    def is_taken(self, stream: str, stamp: int | None = None) -> bool:
        """True where a sink takes a message of a stream now: else it is not even made."""
        if self._takes_all:
            return True
        stamp = self._sim.stamp if stamp is None else stamp
        return any(sink.takes(stream, stamp) for sink in self.sinks)

    def begin(self) -> None:
        """What is told once: robot descriptions, fixed frames, and what sensors have measured at the start."""
        for name, robot in self._sim.world.placed.items():
            if self.is_taken(stream := f"{name}/robot_description"):
                text = description_of(robot.model)
                self.write(stream, Message("std_msgs/msg/String", Fields(data=text)), latched=True)
        self._frames("tf_static", ~self._sim.frames.moves_in_parent, latched=True)
        for samples in self._sim.streams.values():
            if samples.latest and samples.latest.stamp == self._sim.stamp:
                self.sample(samples, samples.latest)

    def state(self) -> None:
        """Transforms and joint states now, once for each time."""
        stamp = self._sim.stamp
        if stamp == self._last or not self.sinks:
            return
        self._last = stamp
        self._frames("tf", self._sim.frames.moves_in_parent)
        for robot in self._robots:
            if not self.is_taken(f"{robot}/joint_states"):
                continue
            names, position, velocity, effort = self._sim.joint_state(robot)
            fields = Fields(
                header=header(stamp, ""), name=list(names), position=position, velocity=velocity, effort=effort
            )
            self.write(f"{robot}/joint_states", Message("sensor_msgs/msg/JointState", fields))
        if self._track:
            tree = self._sim.frames
            at, turns = tree.positions_and_quaternions()
            for stream, path in self._track.items():
                k = tree.names.index(path)
                pose = Fields(position=xyz(at[k]), orientation=xyzw(turns[k].tolist()))
                fields = Fields(header=header(stamp, "world"), pose=pose)
                self.write(stream, Message("geometry_msgs/msg/PoseStamped", fields))

    def _frames(self, stream: str, which: Any, latched: bool = False) -> None:
        kept = np.flatnonzero(which)
        if not len(kept) or not self.is_taken(stream):
            return
        rows = []
        for k, at, turned in zip(kept.tolist(), *self._sim.frames.in_parents(kept), strict=True):
            transform = Fields(translation=xyz(at), rotation=xyzw(quaternion_of(turned)))
            frame, name = self._sim.frames.parents[k] or "world", self._sim.frames.names[k]
            rows.append(Fields(header=header(self._sim.stamp, frame), child_frame_id=name, transform=transform))
        self.write(stream, Message("tf2_msgs/msg/TFMessage", Fields(transforms=rows)), latched)

    def sample(self, samples: Samples, reading: Reading) -> None:
        """One reading of a sensor."""
        if samples.stream not in self._named:
            names = {name: f"{samples.stream}/{name}" for name in samples.sensor.companions} | {"": samples.stream}
            self._named[samples.stream] = names, samples.sensor.frame(samples.stream)
        names, frame = self._named[samples.stream]
        if not any(self.is_taken(name, reading.stamp) for name in names.values()):
            return
        # A header's stamp is the time of the first beam or row.
        stamp = reading.stamp - round(samples.sensor.age(reading.data) * 1e9)
        for name, message in samples.sensor.messages(reading.data).items():
            stamped(message.fields, stamp, frame)
            self.write(names.get(name) or f"{samples.stream}/{name}", message, stamp=reading.stamp)

    def commands(self, stream: str, told: Mapping[str, Mapping[str, float]]) -> None:
        """The commands that hold from now on, by joint: nan where none is."""
        row = {
            field: np.array([told[joint].get(field, np.nan) for joint in told])
            for field in ("position", "velocity", "effort")
        }
        fields = Fields(header=header(self._sim.stamp, ""), name=list(told), **row)
        self.write(stream, Message("sensor_msgs/msg/JointState", fields))

    def contacts(self, felt: Felt) -> None:
        """The contacts of the world since the last time, world axes."""
        rows = [
            contact(a, b, at, normal, force, float(gap))
            for (a, b), at, normal, force, gap in zip(
                felt.sides, felt.point, felt.normal, felt.force, felt.gap, strict=True
            )
        ]
        fields = Fields(header=header(self._sim.stamp, "world"), contacts=rows)
        self.write("scenario/contacts", Message(CONTACTS, fields))

    def event(self, text: str) -> None:
        """What the scenario did."""
        self.write("scenario/events", Message("std_msgs/msg/String", Fields(data=text)))
