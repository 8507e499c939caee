"""ROS 2 messages as CDR bytes, and back to tables."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from operator import attrgetter
from types import SimpleNamespace
from typing import Any

import numpy as np
import pandas as pd
from rosbags.typesys import Stores, get_types_from_msg, get_typestore
from rosbags.typesys.store import Typestore
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError

Fields = SimpleNamespace  # a message, or a part of one, by the names of its fields


# What no standard message has. Their text is in every file that holds them, so that any reader can read them.
OWN = {
    "veldrain_msgs/msg/Contact": "string link_a\nstring link_b\ngeometry_msgs/Point point\n"
    "geometry_msgs/Vector3 normal\ngeometry_msgs/Vector3 force\nfloat64 gap\n",
    "veldrain_msgs/msg/Contacts": "std_msgs/Header header\nveldrain_msgs/Contact[] contacts\n",
}


@cache
def typestore() -> Typestore:
    """The message definitions of a ROS 2 release, and our own."""
    store = get_typestore(Stores.ROS2_HUMBLE)
    for name, text in OWN.items():
        store.register(get_types_from_msg(text, name))
    return store


def definition(message: str) -> bytes:
    """The text of a message's definition with all that it uses, as it is embedded in a file."""
    if message not in typestore().types:
        raise VeldrainError(f"no ROS 2 message '{message}'", cure="use one such as 'sensor_msgs/msg/Imu'")
    return typestore().generate_msgdef(message, ros_version=2)[0].encode()


def header(stamp: int, frame: str) -> Fields:
    """A message's header at a simulated time in ns."""
    return Fields(stamp=Fields(sec=stamp // 10**9, nanosec=stamp % 10**9), frame_id=frame)


def stamped(fields: Fields, stamp: int, frame: str) -> Fields:
    """A message with its header, and those of parts that have a ``frame_id`` of their own."""
    fields.header = header(stamp, vars(fields).get("frame_id", frame))
    for value in vars(fields).values():
        for part in value if isinstance(value, list) else ():
            if isinstance(part, Fields) and "frame_id" in vars(part):
                stamped(part, stamp, frame)
    return fields


def to_bytes(message: str, fields: Fields) -> bytes:
    """A message as CDR."""
    return bytes(typestore().serialize_cdr(fields, message))


# Shorter names for the columns of common messages.
_SHORT = (
    ("pose.pose.position.", ""),
    ("pose.pose.orientation.", "q"),
    ("pose.position.", ""),
    ("pose.orientation.", "q"),
    ("twist.twist.linear.", "v"),
    ("twist.twist.angular.", "w"),
)
_LEFT_OUT = ("covariance", "header")


def to_table(message: str, stamps: Sequence[int], raw: Sequence[bytes]) -> pd.DataFrame:
    """Messages of one type as a table: ``time`` in s, then a column for each field.

    Joint states have a column for each joint, such as ``position.front_left``; odometry has x, y, z, roll,
    pitch, yaw, and vx … wz in the moving axes. Arrays stay arrays.
    """
    messages = [typestore().deserialize_cdr(data, message) for data in raw]
    if message == "veldrain_msgs/msg/Contacts":
        return _contact_table(stamps, messages)
    if message == "sensor_msgs/msg/JointState":
        table = _joint_table(messages)
    else:
        table = pd.DataFrame({name: [get(m) for m in messages] for name, get in _columns(message).items()})
    if {"qx", "qy", "qz", "qw"} <= set(table.columns):
        turns = Rotation.from_quat(table[["qx", "qy", "qz", "qw"]].to_numpy(float))
        angles = turns.as_euler("xyz")
        at = int(table.columns.get_loc("qw")) + 1  # type: ignore[arg-type]
        for k, name in enumerate(("roll", "pitch", "yaw")):
            table.insert(at + k, name, angles[:, k])
    table.insert(0, "time", np.asarray(stamps, np.int64) / 1e9)
    return table


def _joint_table(messages: Sequence[Any]) -> pd.DataFrame:
    """A column for each joint's position, velocity and effort; nan where a message has no such joint or no such field.

    Joints go by name: messages may name others, fewer, or in another order, as several publishers of one stream do.
    """
    columns: dict[str, np.ndarray] = {}
    for field in ("position", "velocity", "effort"):
        for k, message in enumerate(messages):
            values = getattr(message, field)
            if len(values) != len(message.name):  # not given: empty, or of no use
                continue
            for name, value in zip(message.name, values, strict=True):
                column = f"{field}.{name}"
                if column not in columns:
                    columns[column] = np.full(len(messages), np.nan)
                columns[column][k] = value
    return pd.DataFrame(columns, index=range(len(messages)))


def _contact_table(stamps: Sequence[int], messages: Sequence[Any]) -> pd.DataFrame:
    """A row a contact: time, link_a, link_b, x, y, z, nx, ny, nz, fx, fy, fz, gap."""
    rows = [
        (
            stamp / 1e9,
            c.link_a,
            c.link_b,
            *(getattr(part, axis) for part in (c.point, c.normal, c.force) for axis in "xyz"),
            c.gap,
        )
        for stamp, message in zip(stamps, messages, strict=True)
        for c in message.contacts
    ]
    names = ["time", "link_a", "link_b", *(f"{part}{axis}" for part in ("", "n", "f") for axis in "xyz"), "gap"]
    return pd.DataFrame(rows, columns=names)


@cache
def _columns(message: str, path: str = "") -> dict[str, attrgetter[Any]]:
    """What reads each field of a message, nested ones too, by the name of its column."""
    found: dict[str, attrgetter[Any]] = {}
    for field, (kind, inner) in typestore().fielddefs[message][1]:
        here = path + field
        if any(part in here for part in _LEFT_OUT):
            continue
        if kind.name == "NAME":
            found |= _columns(inner, f"{here}.")
            continue
        name = here
        for long, short in _SHORT:
            if here.startswith(long):
                name = short + here.removeprefix(long)
        found[name] = attrgetter(here)
    return found
