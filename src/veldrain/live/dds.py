"""Messages over DDS (OMG Data Distribution Service 1.4), as ROS 2 peers name and type them.

A topic ``crawler/imu`` is ``rt/crawler/imu`` there, its type ``sensor_msgs::msg::dds_::Imu_``. Messages go as the bytes
that a recording holds (plain CDR), so that nothing is lost between the two.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any

from rosbags.interfaces import Nodetype

from veldrain.errors import VeldrainError
from veldrain.recording.decoding import fields_of
from veldrain.recording.messages import typestore

try:
    from cyclonedds.builtin import BuiltinDataReader, BuiltinTopicDcpsPublication
    from cyclonedds.core import DDSException, Policy, Qos
    from cyclonedds.domain import Domain, DomainParticipant
    from cyclonedds.idl import make_idl_struct, types
    from cyclonedds.pub import DataWriter
    from cyclonedds.sub import DataReader
    from cyclonedds.topic import Topic
    from cyclonedds.util import duration
except ImportError as error:
    raise VeldrainError("a live link needs cyclonedds", where="live", cure="pip install 'veldrain[live]'") from error

LOOPBACK = "127.0.0.1"
MACHINE = "machine"  # in place of an interface: this machine, with the programs on it as they come
MOST_DOMAIN = 232  # RTPS 2.3, section 9.6.1.1: what the port numbers have room for
LEASE = "1s"  # from which a peer that was killed counts as gone
MOST_BYTES = 64 << 20  # of a message from outside
_NUMBERS = {
    "bool": bool, "octet": types.byte, "byte": types.byte, "char": types.uint8, "uint8": types.uint8,
    "int8": types.int8, "uint16": types.uint16, "int16": types.int16, "uint32": types.uint32, "int32": types.int32,
    "uint64": types.uint64, "int64": types.int64, "float32": types.float32, "float64": types.float64, "string": str,
}  # fmt: skip


def topic_name(stream: str) -> str:
    """The DDS topic of a stream."""
    return f"rt/{stream.strip('/')}"


def type_name(message: str) -> str:
    """The DDS type of a message type.

    >>> type_name("sensor_msgs/msg/Imu")
    'sensor_msgs::msg::dds_::Imu_'
    """
    package, kind, name = message.split("/")
    return f"{package}::{kind}::dds_::{name}_"


def message_of(name: str) -> str:
    """The message type of a DDS type; "" for one that ROS 2 would not call so."""
    parts = name.split("::")
    is_ours = len(parts) == 4 and parts[2] == "dds_" and parts[3].endswith("_")
    return f"{parts[0]}/{parts[1]}/{parts[3][:-1]}" if is_ours else ""


@dataclass
class Sample:
    """The bytes of a message."""

    raw: bytes


@cache
def type_of(message: str) -> Any:
    """The DDS type of a message type; its samples are bytes as they go over the wire.

    Raises:
        VeldrainError: no such message type.
    """
    if message not in typestore().fielddefs:
        raise VeldrainError(f"no message type '{message}'", where="live", cure="give one such as sensor_msgs/msg/Imu")
    made: Any = make_idl_struct(message.rpartition("/")[2] + "_", type_name(message), _fields(message))
    made.serialize = lambda sample, buffer=None, endianness=None, use_version_2=None: sample.raw
    made.deserialize = classmethod(lambda kind, data, has_header=True, use_version_2=None: Sample(bytes(data)))
    return made


@cache
def _struct(message: str) -> Any:
    return make_idl_struct(message.rpartition("/")[2] + "_", type_name(message), _fields(message))


def _fields(message: str) -> dict[str, Any]:
    return {name: _kind(kind) for name, kind in fields_of(typestore(), message)}


def _kind(kind: Any) -> Any:
    node, inner = kind
    several: Any = types.array if node == Nodetype.ARRAY else types.sequence
    if node == Nodetype.BASE:
        return _NUMBERS[inner[0]]
    if node == Nodetype.NAME:
        return _struct(inner)
    return several[_kind(inner[0]), inner[1]] if node == Nodetype.ARRAY else several[_kind(inner[0])]


def quality(latched: bool = False, depth: int = 10, reliable: bool = True) -> Qos:
    """Reliable and for late readers too, or as sensors are published: the newest counts."""
    return Qos(
        Policy.Reliability.Reliable(duration(seconds=1)) if reliable else Policy.Reliability.BestEffort,
        Policy.Durability.TransientLocal if latched else Policy.Durability.Volatile,
        Policy.History.KeepLast(1 if latched else depth) if depth else Policy.History.KeepAll,
        Policy.DataRepresentation(use_cdrv0_representation=True, use_xcdrv2_representation=False),
    )


class Bus:
    """One participant in a domain.

    Args:
        domain: its number, 0 to 232.
        interface: address or name of a network interface; ``machine`` unless said: this machine alone.

    Raises:
        VeldrainError: no such domain or interface.
    """

    _domains: dict[int, tuple[str, Any]] = {}  # noqa: RUF012  # of this process: a domain is configured once

    def __init__(self, domain: int, interface: str = MACHINE) -> None:
        if isinstance(domain, bool) or not isinstance(domain, int) or not 0 <= domain <= MOST_DOMAIN:
            raise VeldrainError(f"domain is {domain!r}", where="live", cure=f"give a number from 0 to {MOST_DOMAIN}")
        if not interface or any(c in interface for c in "<>&\"'"):
            raise VeldrainError(f"interface is {interface!r}", where="live", cure="give an address or a name")
        before = Bus._domains.get(domain, (interface, None))[0]
        if before != interface:
            raise VeldrainError(
                f"domain {domain} is on {before} already", where="live", cure="give that, or another domain"
            )
        try:
            if domain not in Bus._domains:
                Bus._domains[domain] = interface, Domain(domain, _configuration(interface))
            self._participant = DomainParticipant(domain)
        except DDSException as error:
            raise VeldrainError(
                f"domain {domain} cannot be joined on {interface} ({error})", where="live", cure="see its address"
            ) from error
        self._topics: dict[tuple[str, str], Any] = {}
        self._found: Any = None

    def _topic(self, stream: str, message: str) -> Any:
        key = stream.strip("/"), message
        if key not in self._topics:
            try:
                self._topics[key] = Topic(self._participant, topic_name(stream), type_of(message))
            except DDSException as error:
                raise VeldrainError(f"no topic ({error})", where=stream, cure="see its name") from error
        return self._topics[key]

    def writer(self, stream: str, message: str, qos: Qos) -> Writer:
        """What publishes a stream."""
        return Writer(DataWriter(self._participant, self._topic(stream, message), qos=qos), type_of(message))

    def reader(self, stream: str, message: str, qos: Qos) -> Reader:
        """What takes a stream."""
        return Reader(DataReader(self._participant, self._topic(stream, message), qos=qos))

    def publications(self) -> dict[str, str]:
        """Message types by stream of what others publish, as far as they are known by now."""
        return {stream: message for stream, kinds in self.published().items() for message, _ in kinds if message}

    def published(self) -> dict[str, set[tuple[str, bool]]]:
        """By stream what others have published it as by now: message type ("": none that ROS 2 would call so), and
        whether reliably."""
        if self._found is None:
            self._found = BuiltinDataReader(self._participant, BuiltinTopicDcpsPublication)
            self._seen: dict[str, set[tuple[str, bool]]] = {}
        for sample in self._found.take_iter(timeout=1):
            if sample.topic_name.startswith("rt/") and sample.participant_key != self._participant.guid:
                # One that goes away says no quality any more.
                reliable = sample.qos is None or sample.qos[Policy.Reliability] != Policy.Reliability.BestEffort
                self._seen.setdefault(sample.topic_name[3:], set()).add((message_of(sample.type_name), reliable))
        return self._seen


class Writer:
    """Publishes bytes."""

    def __init__(self, writer: Any, kind: Any) -> None:
        self._writer, self._kind = writer, kind

    def write(self, raw: bytes) -> None:
        """Send one message."""
        sample = self._kind.__new__(self._kind)
        sample.raw = raw
        self._writer.write(sample)

    @property
    def readers(self) -> int:
        """How many are there to read."""
        return len(self._writer.get_matched_subscriptions())


class Reader:
    """Takes bytes."""

    def __init__(self, reader: Any) -> None:
        self._reader = reader
        self.too_large = 0  # messages that were left for that

    def take(self) -> Iterator[bytes]:
        """The messages that have come since the last time."""
        for sample in self._reader.take(1000):
            if isinstance(sample, Sample):
                if len(sample.raw) <= MOST_BYTES:
                    yield sample.raw
                else:
                    self.too_large += 1

    @property
    def writers(self) -> int:
        """How many there are that publish it."""
        return len(self._reader.get_matched_publications())


def _configuration(interface: str) -> str:
    """Cyclone's own words for one interface: of the machine itself, the loopback alone, or one that is named.

    Programs of others announce themselves by multicast on the machine's own interface, and say its address. To meet
    them there, with their defaults, multicast goes that way with a time to live of 0: no wire carries it.
    """
    alone, more = "", ""
    if interface == MACHINE:
        where, alone = 'autodetermine="true"', "<MulticastTimeToLive>0</MulticastTimeToLive>"
    else:
        where = f'address="{interface}"' if interface[0].isdigit() or ":" in interface else f'name="{interface}"'
    if interface == LOOPBACK:
        alone = "<AllowMulticast>false</AllowMulticast>"
        more = (
            "<ParticipantIndex>auto</ParticipantIndex><MaxAutoParticipantIndex>99</MaxAutoParticipantIndex>"
            f'<Peers><Peer address="{LOOPBACK}"/></Peers>'
        )
    return (
        f"<CycloneDDS><Domain><General><Interfaces><NetworkInterface {where}/></Interfaces>{alone}"
        f"<MaxMessageSize>65500B</MaxMessageSize></General><Discovery>{more}<LeaseDuration>{LEASE}</LeaseDuration>"
        "</Discovery></Domain></CycloneDDS>"
    )
