"""A live link: a sink that publishes a trial's streams over DDS, and a source of commands and inputs."""

from __future__ import annotations

import math
import time
from collections.abc import Mapping
from typing import Any

from veldrain.errors import VeldrainError, unknown
from veldrain.live.dds import MACHINE, Bus, Reader, Writer, quality
from veldrain.live.listener import JOINTS, STAMPED, TOLD, TWIST, Listener
from veldrain.model import Fields, Message
from veldrain.recording.messages import latched_streams, to_bytes, typestore
from veldrain.recording.sinks import Sink
from veldrain.scenario import Scenario
from veldrain.units import Quantity, quantity

CLOCK = "clock"
NEWEST = ("sensor_msgs/msg/Image", "sensor_msgs/msg/PointCloud2", "sensor_msgs/msg/CompressedImage")  # best effort
STALL = 0.1  # s behind it from which it is not caught up with, but gone on from
OTHER_CLOCK = 60.0  # s between a stamp and the time of the trial from which it is of another clock
LOOKS = 0.2  # s on the wall between two looks at who publishes what
LATE = 0.002  # s behind the clock on the wall from which a tick is late


class Link(Sink):
    """Streams of a trial over DDS for programs beside it, and what they command.

    All streams are published as ROS 2 peers name and type them, and ``/clock``. Of each robot it takes
    ``<robot>/joint_commands`` (JointState: position, velocity or effort by each motor's mode),
    ``<robot>/joint_trajectory``, ``<robot>/cmd_vel`` (Twist or TwistStamped: told to the controller that has the inputs
    forward, sideways or turning) and ``<robot>/goal_pose`` (PoseStamped: inputs x, y and yaw). A robot that is told
    nothing for ``watchdog`` stops; so it does when who commands it vanishes, or a second one joins. Each is told, in
    ``notices``, as is what comes with another type or another reliability, and what could not be used. Of several
    messages that came between two ticks the newest counts. Without ``listening`` it is a sink alone: it publishes as
    fast as the trial goes, and without ``/clock``.

    Args:
        domain: number of the DDS domain.
        interface: address or name of the network interface. ``machine`` unless said: programs on this machine with
            the defaults of DDS; ``127.0.0.1``: those that are told to use the loopback.
        speed: seconds of the trial in a second on the clock; None: as fast as it goes.
        lockstep: True: simulated time waits, at each period, for one message on every topic that somebody commands.
            With the stamps of ``/clock`` in their headers the trial is then the same every time.
        period: between two looks at what has come, s, and between two times on ``/clock``.
        oldest: commands whose stamp is older than this (s of simulated time) are left; None: none is.
        watchdog: from which silence on a robot stops, s of simulated time.
        wait: how long (s on the clock) peers are waited for: at the start, and in lockstep for each answer.
        names: other names of topics, by ours: ``{"crawler/imu": "imu/data", "crawler/cmd_vel": "cmd_vel"}``.

    >>> link = Link(domain=7, speed=1)  # doctest: +SKIP
    >>> vd.run(link.listening(scenario), record="out/run.mcap", sinks=[link])  # doctest: +SKIP
    """

    def __init__(
        self,
        domain: int = 0,
        *,
        interface: str = MACHINE,
        speed: float | None = 1.0,
        lockstep: bool = False,
        period: Quantity = 0.01,
        watchdog: Quantity = 0.5,
        oldest: Quantity | None = None,
        wait: Quantity = 5.0,
        names: Mapping[str, str] | None = None,
    ) -> None:
        if speed is not None and not (math.isfinite(speed) and speed > 0):
            raise VeldrainError(f"speed is {speed}", where="live", cure="give a number above zero, or None")
        self.speed, self.lockstep = None if lockstep else speed, lockstep
        self.period = quantity(period, "period", "live: period")
        self.watchdog = quantity(watchdog, "time", "live: watchdog")
        self.oldest = None if oldest is None else quantity(oldest, "time", "live: oldest")
        self.wait = quantity(wait, "time", "live: wait")
        self._names = dict(names or {})
        self.notices: dict[str, str] = {}
        self._bus = Bus(domain, interface)
        self._writers: dict[str, Writer] = {}
        self._readers: dict[str, list[tuple[str, Reader]]] = {}  # by stream: each message type that is taken
        self._counts: dict[tuple[str, str], int] = {}  # by what is told of it, and stream
        self._looked = 0.0
        self._waiting: dict[str, list[Any]] = {}
        self._commanded: set[str] = set()
        self._reset()
        self._paces = False
        self._clock = self._writer(CLOCK, "rosgraph_msgs/msg/Clock")

    def _reset(self) -> None:
        """As before a trial."""
        self._begun = self._late = self._ticks = self._worst = self._stalled = 0.0
        self._counts.clear()
        self._last = -1
        self._waiting.clear()
        self._commanded.clear()

    def __deepcopy__(self, memo: Any) -> Link:
        return self  # copies of what listens to it listen to it

    def listening(self, scenario: Scenario) -> Scenario:
        """The scenario with every robot that has motors listening to this link, beside its own controllers.

        Without one it is paced and published all the same.
        """
        robots = [name for name, placed in scenario.world.placed.items() if placed.model.motors]
        self._paces = not robots
        controllers: dict[str, Any] = dict(scenario.controllers)
        for robot in robots:
            own = controllers.get(robot, {})
            mine = own if isinstance(own, dict) else {"": own}
            controllers[robot] = mine | {"live": Listener(self, paces=robot == robots[0], period=self.period)}
            for word, message in TOLD.items():
                self._listen(f"{robot}/{word}", message)
        for name in self._names:
            robot, _, word = name.rpartition("/")
            if word in TOLD and robot not in robots:
                raise unknown("robot", robot, robots, "live: names")
        return scenario.driven_by(controllers)

    def _topic(self, stream: str) -> str:
        return self._names.get(stream, stream).strip("/")

    def _writer(self, stream: str, message: str) -> Writer:
        if stream not in self._writers:
            latched = bool(latched_streams({stream: message}))
            qos = quality(latched, depth=0 if self.lockstep else 10, reliable=self.lockstep or message not in NEWEST)
            self._writers[stream] = self._bus.writer(self._topic(stream), message, qos)
        return self._writers[stream]

    def _listen(self, stream: str, message: str) -> None:
        if stream in self._readers:
            return
        # What is told again and again may be lost once, so that who speaks best effort is heard too.
        again = message in (TWIST, JOINTS) and not self.lockstep
        told = quality(depth=0 if self.lockstep else 10, reliable=not again)
        kinds = (TWIST, STAMPED) if message == TWIST else (message,)
        self._readers[stream] = [(kind, self._bus.reader(self._topic(stream), kind, told)) for kind in kinds]

    def _look_around(self) -> None:
        """Tell what others publish on topics that are listened to, and is not heard."""
        if time.monotonic() - self._looked < LOOKS:
            return
        self._looked = time.monotonic()
        published = self._bus.published()
        for stream, readers in self._readers.items():
            wanted = [kind for kind, _ in readers]
            for message, reliable in published.get(self._topic(stream), ()):
                if message not in wanted:
                    short = " or ".join(kind.rpartition("/")[2] for kind in wanted)
                    said = message.rpartition("/")[2] or "a type that is no ROS 2 message"
                    self.notice(f"type {stream}", f"{stream}: {said} is published there, and {short} is wanted")
                elif not reliable and (self.lockstep or wanted[0] not in (TWIST, JOINTS)):
                    self.notice(
                        f"quality {stream}", f"{stream}: is published best effort, and is heard if it is reliable alone"
                    )

    def _count(self, what: str, stream: str, more: int = 1) -> int:
        """How often that has been by now."""
        key = what, stream
        self._counts[key] = self._counts.get(key, 0) + more
        return self._counts[key]

    def topics(self) -> list[str]:
        """The topics that it takes commands on, as others call them."""
        return [self._topic(stream) for stream in self._readers]

    def notice(self, key: str, text: str) -> None:
        """Note something once."""
        self.notices.setdefault(key, text)

    # As a sink.

    def begin(self, about: Mapping[str, Any], attached: Mapping[str, bytes]) -> None:
        self._reset()
        if self.lockstep:
            self._await_peer()

    def write(self, stream: str, stamp: int, message: Message, latched: bool = False) -> None:
        if self._paces:
            self.tick(stamp / 1e9)
        self._writer(stream, message.type).write(to_bytes(message.type, message.fields))

    def end(self, about: Mapping[str, Any]) -> None:
        for (what, stream), count in self._counts.items():
            if what == "passed":
                self.notice(f"passed {stream}", f"{stream}: {count} messages were passed over, since a newer one came")
        for stream, readers in self._readers.items():
            if large := sum(reader.too_large for _, reader in readers):
                self.notice(f"large {stream}", f"{stream}: {large} messages of more than 64 MB were left")
        if self._stalled:
            self.notice(
                "stalled", f"the trial fell behind the clock by {self._stalled:.2f} s in all, and went on from there"
            )
        if self._late:
            share = 100 * self._late / max(self._ticks, 1)
            self.notice(
                "late",
                f"{self._late:.0f} of {self._ticks:.0f} ticks ({share:.0f} %) were late, at most {self._worst:.3f} s",
            )

    def _await_peer(self) -> None:
        """Wait until somebody commands something."""
        deadline = time.monotonic() + self.wait
        while not any(self.commanders(stream) for stream in self._readers):
            self._look_around()
            if time.monotonic() > deadline:
                raise VeldrainError(
                    f"nobody commands a robot after {self.wait:g} s",
                    where="live: lockstep",
                    cure=f"start who publishes one of {', '.join(self._topic(name) for name in self._readers)}",
                )
            time.sleep(0.01)
        time.sleep(0.2)  # what it reads is matched a little later than what it writes

    # As a source.

    def tick(self, now: float) -> None:
        """Publish the time, keep pace with the clock on the wall, and take what has come."""
        stamp = round(now * 1e9)
        if stamp <= self._last:
            return
        self._last = stamp
        clock = Fields(clock=Fields(sec=stamp // 10**9, nanosec=stamp % 10**9))
        self._clock.write(to_bytes("rosgraph_msgs/msg/Clock", clock))
        if self.speed is not None:
            self._begun = self._begun or time.monotonic() - now / self.speed
            ahead = self._begun + now / self.speed - time.monotonic()
            self._ticks += 1
            if ahead > 0:
                time.sleep(ahead)
            elif ahead < -LATE:
                self._late += 1
                self._worst = max(self._worst, -ahead)
                if ahead < -STALL:  # a sprint would pass by what a peer says at its own pace
                    self._begun -= ahead
                    self._stalled -= ahead
        if self._readers:
            self._look_around()
        self._take()
        if self.lockstep:
            self._await_answers(stamp)

    def _take(self) -> None:
        for stream, message, reader in ((s, m, r) for s, readers in self._readers.items() for m, r in readers):
            came = list(reader.take())
            if len(came) > 1 and not self.lockstep:
                self._count("passed", stream, len(came) - 1)
                came = came[-1:]
            for raw in came:
                try:
                    self._waiting.setdefault(stream, []).append(typestore().deserialize_cdr(raw, message))
                except Exception as error:  # the library raises many kinds for bytes that are no such message
                    many = self._count("bad", stream)
                    said = f"{many} messages that are" if many > 1 else "a message that is"
                    self.notices[f"bad {stream}"] = (
                        f"{stream}: {said} no {message} {'were' if many > 1 else 'was'} left ({type(error).__name__})"
                    )

    def _await_answers(self, stamp: int) -> None:
        """Wait for one message on each topic that is commanded; those with a stamp must have this one."""
        deadline = time.monotonic() + self.wait
        while True:
            self._take()
            lacking = []
            for stream in self._readers:
                if self.commanders(stream) or stream in self._commanded:
                    self._commanded.add(stream)
                    if not any(_stamp(m) in (None, 0, stamp) for m in self._waiting.get(stream, ())):
                        lacking.append(stream)
            if not lacking:
                return
            if time.monotonic() > deadline:
                raise VeldrainError(
                    f"no answer to {stamp / 1e9:g} s on {lacking[0]} within {self.wait:g} s",
                    where="live: lockstep",
                    cure="see who commands it; each answer needs the stamp of what it answers, or none",
                )
            time.sleep(1e-4)

    def told(self, stream: str) -> list[Any]:
        """The messages that came on a topic since the last time."""
        return self._waiting.pop(stream, [])

    def commanders(self, stream: str) -> int:
        """How many publish a topic."""
        return sum(reader.writers for _, reader in self._readers.get(stream, ()))

    def is_timely(self, stream: str, message: Any, now: float) -> bool:
        """Whether a message is to be followed, by its stamp; what is odd about that is told."""
        stamp = _stamp(message)
        if not stamp:  # none, or 0: not said
            return True
        age = now - stamp / 1e9
        if abs(age) > OTHER_CLOCK:
            self.notice(
                f"clock {stream}",
                f"{stream}: its stamp is {stamp / 1e9:.1f} s where the trial is at {now:g} s: it is of another clock"
                " than /clock",
            )
        if self.oldest is None or -OTHER_CLOCK <= age <= self.oldest:
            return True
        many = self._count("old", stream)
        self.notices[f"old {stream}"] = (
            f"{stream}: {many} commands were left whose stamps were older than {self.oldest:g} s, or of another clock"
        )
        return False


def _stamp(message: Any) -> int | None:
    """The stamp (ns) of a message's header; None without one."""
    header = getattr(message, "header", None)
    return None if header is None else header.stamp.sec * 10**9 + header.stamp.nanosec
