"""A program beside a trial, as a ROS 2 peer would be: ``live_peer.py DOMAIN KIND``. Not a test itself.

``lockstep`` answers each encoder reading with the effort that ``Hold`` would give; the other kinds misbehave.
"""

from __future__ import annotations

import sys
import time
from types import SimpleNamespace as Fields

import numpy as np

from veldrain.live.dds import Bus, quality
from veldrain.recording.messages import to_bytes, typestore

JOINTS = "sensor_msgs/msg/JointState"


def command(effort: float, stamp: object, joint: str = "slide") -> bytes:
    fields = Fields(
        header=Fields(stamp=stamp, frame_id=""),
        name=[joint],
        position=np.zeros(0),
        velocity=np.zeros(0),
        effort=np.array([effort]),
    )
    return to_bytes(JOINTS, fields)


def main() -> None:
    domain, kind = int(sys.argv[1]), sys.argv[2]
    bus = Bus(domain)
    reader = bus.reader("cart/encoders", JOINTS, quality(depth=0))
    writer = bus.writer("cart/joint_commands", JOINTS, quality(depth=0))
    end, count = time.monotonic() + 60, 0
    while time.monotonic() < end:
        for raw in reader.take():
            message = typestore().deserialize_cdr(raw, JOINTS)
            effort = 40.0 * (0.5 - message.position[0]) - 12.0 * message.velocity[0]
            count += 1
            if kind in ("nan", "huge"):
                effort = float("nan") if kind == "nan" else 1e308
            if kind == "stale":
                message.header.stamp.sec += 1
            if kind == "bytes":
                writer.write(b"\0\1\0\0" + b"\xff" * 24)
            elif kind == "vanishes" and count > 40:
                return
            elif kind != "silent" or count < 5:
                writer.write(command(effort, message.header.stamp, "slyde" if kind == "name" else "slide"))
        time.sleep(1e-4)


if __name__ == "__main__":
    main()
