"""ROS 2 messages: their definitions, and as CDR bytes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cache
from types import SimpleNamespace
from typing import Any

from rosbags.typesys import Stores, get_types_from_idl, get_types_from_msg, get_typestore
from rosbags.typesys.store import Typestore

from veldrain.errors import VeldrainError
from veldrain.recording.encoding import encoder

Fields = SimpleNamespace  # a message, or a part of one, by the names of its fields


# What no standard message has. Their text is in every file that holds them, so that any reader can read them.
OWN = {
    "veldrain_msgs/msg/Contact": "string link_a\nstring link_b\ngeometry_msgs/Point point\n"
    "geometry_msgs/Vector3 normal\ngeometry_msgs/Vector3 force\nfloat64 gap\n",
    "veldrain_msgs/msg/Contacts": "std_msgs/Header header\nveldrain_msgs/Contact[] contacts\n",
}

MOST_TEXT = 1 << 20  # characters of a definition
PARSERS: dict[str, Callable[[str, str], Any]] = {
    "ros2msg": get_types_from_msg,
    "ros2idl": lambda text, name: get_types_from_idl(text),
}


@cache
def typestore() -> Typestore:
    """The message definitions of a ROS 2 release, and our own."""
    store = get_typestore(Stores.ROS2_HUMBLE)
    for name, text in OWN.items():
        store.register(get_types_from_msg(text, name))
    return store


@cache
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
        if isinstance(value, list) and value and isinstance(value[0], Fields):
            for part in value:
                if "frame_id" in vars(part):
                    stamped(part, stamp, frame)
    return fields


def to_bytes(message: str, fields: Fields) -> bytes:
    """A message as CDR."""
    return _encoder(message)(fields)


@cache
def _encoder(message: str) -> Callable[[Any], bytes]:
    return encoder(typestore(), message)


def latched_streams(messages: Mapping[str, str]) -> set[str]:
    """Those streams of a log whose last message late readers are to have too: fixed frames, robot descriptions."""
    ends = ("tf_static", "robot_description")
    return {name for name in messages if name.rpartition("/")[2] in ends}


def typestore_with(definitions: Mapping[str, tuple[str, str]]) -> Typestore:
    """The message definitions of a ROS 2 release and our own, and over them those that a file holds.

    Args:
        definitions: by type: how it is written, and the text. What is not written as ROS 2 writes messages is left out.
    """
    store: Typestore | None = None
    for name, (encoding, text) in definitions.items():
        if encoding not in PARSERS or not text.strip() or text.encode() == _known_definition(name):
            continue
        if len(text) > MOST_TEXT:
            raise ValueError(f"the definition of '{name}' has {len(text)} characters")
        found = PARSERS[encoding](text, name)
        if store is None:
            store = get_typestore(Stores.ROS2_HUMBLE)
            for own, words in OWN.items():
                store.register(get_types_from_msg(words, own))
        for kind in found:  # another release's: the file's own counts
            store.fielddefs.pop(kind, None)
        store.register(found)
    return store or typestore()


def _known_definition(name: str) -> bytes:
    return definition(name) if name in typestore().types else b""
