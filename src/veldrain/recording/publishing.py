"""What a simulation publishes: samples, frames, joint states, commands, contacts, events, robot descriptions."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from typing import Any, Protocol

import numpy as np

from veldrain.formats.urdf_out import description_of
from veldrain.model import Fields, Message, Sensor, World
from veldrain.physics.frames import FrameTree
from veldrain.physics.tapping import Felt
from veldrain.pose import Array, quaternions_of
from veldrain.recording.batches import Sample, Source
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
        self._sources: dict[Hashable, Source] = {}  # by streams and what stays the same in their messages
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

    def _put(self, sample: Sample) -> None:
        for sink in self.sinks:
            sink.take(sample)

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
            joints = Fields(position=position, velocity=velocity, effort=effort)
            self._give((f"{robot}/joint_states",), tuple(names), _joint_state, joints)
        if self._track:
            tree = self._sim.frames
            at, turns = tree.positions_and_quaternions()
            for stream, path in self._track.items():
                k = tree.names.index(path)
                self._give((stream,), "world", _pose, Fields(at=at[k], turn=turns[k]))

    def _frames(self, stream: str, which: Any, latched: bool = False) -> None:
        kept = np.flatnonzero(which)
        if not len(kept) or not self.is_taken(stream):
            return
        tree = self._sim.frames
        names = tuple((tree.parents[k] or "world", tree.names[k]) for k in kept.tolist())
        at, axes = tree.in_parents(kept)
        values = Fields(at=at, axes=axes)
        if latched:
            self.write(stream, _transforms(names, self._sim.stamp, values), latched)
        else:
            self._give((stream,), names, _transforms, values)

    def _give(
        self, streams: tuple[str, ...], about: Hashable, make: Callable[[Any, int, Any], Message], values: Any
    ) -> None:
        """Give values of now to all sinks, with what makes a message of them and of what stays the same."""
        if (streams, about) not in self._sources:
            (stream,) = streams
            self._sources[streams, about] = Source(streams, lambda stamp, given: {stream: make(about, stamp, given)})
        self._put(Sample(self._sources[streams, about], self._sim.stamp, values))

    def sample(self, samples: Samples, reading: Reading) -> None:
        """One reading of a sensor."""
        key = samples.stream, id(samples.sensor)  # which its source keeps: it may go on with another sheet
        if key not in self._sources:
            self._sources[key] = source_of(samples.stream, samples.sensor)
        source = self._sources[key]
        if any(self.is_taken(name, reading.stamp) for name in source.streams):
            self._put(Sample(source, reading.stamp, reading.data))

    def commands(self, stream: str, told: Mapping[str, Mapping[str, float]]) -> None:
        """The commands that hold from now on, by joint: nan where none is."""
        row = {
            field: np.array([told[joint].get(field, np.nan) for joint in told])
            for field in ("position", "velocity", "effort")
        }
        self._give((stream,), tuple(told), _joint_state, Fields(**row))

    def number(self, stream: str, value: float) -> None:
        """One number of now."""
        self._give((stream,), "", _number, Fields(data=value))

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


def source_of(stream: str, sensor: Sensor) -> Source:
    """What makes the messages of a sensor's readings."""
    names, frame = {name: f"{stream}/{name}" for name in sensor.companions} | {"": stream}, sensor.frame(stream)

    def make(stamp: int, reading: Any) -> dict[str, Message]:
        # A header's stamp is the time of the first beam or row.
        began, found = stamp - round(sensor.age(reading) * 1e9), {}
        for name, message in sensor.messages(reading).items():
            stamped(message.fields, began, frame)
            found[names.get(name) or f"{stream}/{name}"] = message
        return found

    # Of a class that has its messages from one above it, what that one says of them counts.
    writes = next(kind for kind in type(sensor).__mro__ if "messages" in vars(kind))
    return Source(tuple(names.values()), make, vars(writes).get("stacks", False))


def _joint_state(names: tuple[str, ...], stamp: int, values: Fields) -> Message:
    return Message("sensor_msgs/msg/JointState", Fields(header=header(stamp, ""), name=list(names), **vars(values)))


def _pose(frame: str, stamp: int, values: Fields) -> Message:
    pose = Fields(position=xyz(values.at), orientation=xyzw(values.turn))
    return Message("geometry_msgs/msg/PoseStamped", Fields(header=header(stamp, frame), pose=pose))


def _number(about: str, stamp: int, values: Fields) -> Message:
    return Message("std_msgs/msg/Float64", Fields(data=values.data))


def _transforms(names: tuple[tuple[str, str], ...], stamp: int, values: Fields) -> Message:
    """Frames on their parents: ``at`` (k, 3) and ``axes`` (k, 3, 3)."""
    rows = [
        Fields(
            header=header(stamp, parent),
            child_frame_id=name,
            transform=Fields(translation=xyz(at), rotation=xyzw(turn)),
        )
        for (parent, name), at, turn in zip(names, values.at, _turns(values.axes), strict=True)
    ]
    return Message("tf2_msgs/msg/TFMessage", Fields(transforms=rows))


def _turns(axes: Array) -> Array:
    """Quaternions (k, 4) of axes (k, 3, 3); of many samples both have an axis more at the end."""
    found = quaternions_of(np.moveaxis(axes, (1, 2), (-2, -1)).reshape(-1, 3, 3))
    return np.moveaxis(found.reshape(len(axes), *axes.shape[3:], 4), -1, 1)
