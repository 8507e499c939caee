"""A program beside a trial, as a ROS 2 peer would be: ``live_peer.py DOMAIN KIND``. Not a test itself.

``lockstep`` answers each encoder reading with the effort that ``Hold`` would give; the other kinds misbehave.
"""

from __future__ import annotations

import sys
import time
from types import SimpleNamespace as Fields

import numpy as np
from cyclonedds.domain import DomainParticipant
from cyclonedds.pub import DataWriter
from cyclonedds.sub import DataReader
from cyclonedds.topic import Topic

from veldrain.live.dds import Bus, Reader, Writer, quality, topic_name, type_of
from veldrain.recording.messages import to_bytes, typestore

JOINTS, TEXT = "sensor_msgs/msg/JointState", "std_msgs/msg/String"


def command(effort: float, stamp: object, joints: list[str]) -> bytes:
    fields = Fields(
        header=Fields(stamp=stamp, frame_id=""),
        name=joints,
        position=np.zeros(0),
        velocity=np.zeros(0),
        effort=np.full(len(joints), effort),
    )
    return to_bytes(JOINTS, fields)


def with_defaults(domain: int) -> tuple[Reader, Writer]:
    """Reader and writer of a participant that nobody has configured, as another program's is."""
    participant, kind = DomainParticipant(domain), type_of(JOINTS)
    topics = [Topic(participant, topic_name(f"cart/{name}"), kind) for name in ("encoders", "joint_commands")]
    reader = Reader(DataReader(participant, topics[0], qos=quality(reliable=False)))
    return reader, Writer(DataWriter(participant, topics[1], qos=quality(reliable=False)), kind)


def main() -> None:
    domain, kind = int(sys.argv[1]), sys.argv[2]
    if kind == "defaults":
        reader, writer = with_defaults(domain)
    else:
        bus = Bus(domain)
        reader = bus.reader("cart/encoders", JOINTS, quality(depth=0))
        writer = bus.writer("cart/joint_commands", TEXT if kind == "text" else JOINTS, quality(depth=0))
    end, count = time.monotonic() + 60, 0
    while time.monotonic() < end:
        for raw in reader.take():
            message = typestore().deserialize_cdr(raw, JOINTS)
            effort = 40.0 * (0.5 - message.position[0]) - 12.0 * message.velocity[0]
            count += 1
            if kind in ("nan", "huge"):
                effort = float("nan") if kind == "nan" else 1e308
            if kind == "old":
                message.header.stamp.sec, message.header.stamp.nanosec = 0, 10_000_000
            if kind == "wall":
                message.header.stamp.sec += 1_700_000_000
            if kind == "stale":
                message.header.stamp.sec += 1
            if kind == "text":
                writer.write(to_bytes(TEXT, Fields(data="go")))
            elif kind == "vanishes" and count > 40:
                return
            elif kind != "silent" or count < 5:
                joints = {"name": ["slyde"], "twice": ["slide", "cart/slide"]}.get(kind, ["slide"])
                for _ in range(3 if kind == "often" else 1):
                    writer.write(command(effort, message.header.stamp, joints))
        time.sleep(1e-4)


if __name__ == "__main__":
    main()
