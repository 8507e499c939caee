"""Controllers that follow what is known beforehand: a trajectory, a recording, a table of inputs, a script."""

from __future__ import annotations

import copy
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, MotorHandle
from veldrain.errors import VeldrainError, unknown
from veldrain.motion.trajectories import Trajectory
from veldrain.physics.joints import TAKEN
from veldrain.sampling import Reading
from veldrain.sheet import Choice, Flag, Made, Maybe, Number, Text
from veldrain.units import quantity

Motors = Mapping[str, MotorHandle]
Senses = Mapping[str, Reading | None]


def follow(motor: MotorHandle, mode: str, position: float, velocity: float) -> None:
    """Let a motor follow a moving command: position and velocity, or the velocity alone."""
    if mode == "position":
        motor.command(position=position, velocity=velocity)
    else:
        motor.velocity = velocity


def _path_of(value: Any, where: str) -> Trajectory:
    if isinstance(value, Trajectory):
        return value
    if isinstance(value, str | Path):
        import pandas as pd

        try:
            table = pd.read_csv(value)
        except OSError as error:
            raise VeldrainError(
                "no such file", where=str(value), cure="give a CSV as Trajectory.to_frame has it"
            ) from error
        columns = [str(column) for column in table]
        names = [c.removesuffix(".position") for c in columns if c.endswith(".position")]
        if "time" not in table or not names:
            raise VeldrainError(
                "is no trajectory", where=str(value), cure="give the columns time and <joint>.position, and velocity"
            )
        rates = [f"{name}.velocity" for name in names]
        given = table[rates].to_numpy() if set(rates) <= set(table) else None
        return Trajectory.of(table["time"], table[[f"{n}.position" for n in names]].to_numpy(), given, names)
    raise VeldrainError(
        f"{type(value).__name__} is no trajectory", where=where, cure="give a Trajectory, or a CSV of one"
    )


def _as_given(value: Any, where: str) -> Any:
    return value


def _table(value: Any, where: str) -> dict[str, Any]:
    if not isinstance(value, Mapping):
        raise VeldrainError(f"{value!r} is no table", where=where, cure="give names and values")
    return dict(value)


class FollowTrajectory(SheetController):
    """Follows a trajectory with the motors of its joints: with velocities, so that stiff motors do not lag.

    Position motors are told position and velocity, velocity motors the velocity. ``lookahead`` commands where the path
    will be one period later: what is told now holds until then.

    >>> path = Trajectory.through([[0.0], [1.0]], speed=1, acceleration=2, joints=["elbow"])
    >>> FollowTrajectory(path, begin="1 s").begin
    1.0
    """

    period: Number = Number("period", default=0.005, above=0.0, doc="time between updates, or their rate")
    path: Made[Any, Trajectory] = Made(_path_of, kw_only=False, doc="a Trajectory, or a CSV as its ``to_frame`` has it")
    begin: Number = Number("time", default=0.0, least=0.0, doc="when it starts")
    lookahead: Flag = Flag(default=True, doc="command where the path is at the next update")

    @property
    def joints(self) -> tuple[str, ...]:
        """Names of the joints whose motors it commands."""
        return self.path.joints

    def start(self, body: Body, random: Any, log: Any) -> None:
        self._modes = {}
        for joint in self.joints:
            motor = body.model.motors.get(joint)
            if motor is None or motor.mode == "effort":
                body.motor(joint, "position", "FollowTrajectory")  # tells what is wrong
            else:
                self._modes[joint] = motor.mode

    def update(self, now: float, senses: Senses, motors: Motors) -> None:
        position, velocity, _ = self.path.at(now - self.begin + (self.period if self.lookahead else 0.0))
        for k, (joint, mode) in enumerate(self._modes.items()):
            follow(motors[joint], mode, float(position[k]), float(velocity[k]))


class Play(SheetController):
    """Plays commands or joint states out of a recording, on the same joints or on others.

    >>> Play("out/run.mcap", "crawler/commands", begin="2 s").stream  # doctest: +SKIP
    'crawler/commands'
    """

    period: Number = Number("period", default=0.005, above=0.0, doc="time between updates, or their rate")
    recording: Made[Any, Any] = Made(_as_given, kw_only=False, doc="a Recording or other log, or the path of one")
    stream: Text = Text(kw_only=False, doc="of it: sensor_msgs/JointState")
    joints_of: Made[Mapping[str, str], dict[str, str]] = Made(
        _table, default={}, doc="our joint for each of the recording's; those not named keep their names"
    )
    begin: Number = Number("time", default=0.0, doc="added to the recording's times")

    def start(self, body: Body, random: Any, log: Any) -> None:
        from veldrain.recording import Log, open_log

        source = self.recording if isinstance(self.recording, Log) else open_log(self.recording)
        table = source[self.stream]
        theirs = list(
            dict.fromkeys(c.partition(".")[2] for c in map(str, table) if c.partition(".")[0] in TAKEN["position"])
        )
        if not theirs:
            raise VeldrainError(
                "has no joint states to play", where=self.stream, cure="name a stream of sensor_msgs/JointState"
            )
        for stray in set(self.joints_of) - set(theirs):
            raise unknown("joint of the recording", stray, theirs, "Play: joints_of")
        self._times, self._names = table["time"].to_numpy(), [self.joints_of.get(name, name) for name in theirs]
        self._values = {
            (ours, word): table[f"{word}.{name}"].to_numpy()
            for ours, name in zip(self._names, theirs, strict=True)
            for word in TAKEN["position"]
            if f"{word}.{name}" in table
        }
        self._modes = {j: m.mode for j, m in body.model.motors.items() if j in self._names}
        if not self._modes:
            raise VeldrainError(
                f"none of its joints ({', '.join(self._names)}) has a motor here",
                where=f"Play: {self.stream}",
                cure="map them with joints_of={theirs: ours}",
            )

    def update(self, now: float, senses: Senses, motors: Motors) -> None:
        k = int(np.searchsorted(self._times, now - self.begin + 1e-9, side="right")) - 1
        if k < 0:
            return
        for joint, mode in self._modes.items():
            for word in TAKEN[mode]:
                value = float(self._values[joint, word][k]) if (joint, word) in self._values else math.nan
                # Efforts of joint states are what motors gave: they are played to effort motors alone.
                if math.isfinite(value) and (word != "effort" or mode == "effort"):
                    setattr(motors[joint], word, value)


class Inputs(SheetController):
    """Tells another controller of the robot what a table says, or what keys and sticks in a file ask for.

    A table has a column ``time`` (s) and a column for each input, in SI units. A file of keys has a line for each key
    that is held, ``w 0.5 2.4`` or ``w 0.5–2.4 s``; ``keys`` says what each asks for; what is held at once is added.
    ``axes`` turn columns of a table from −1 to 1 (those of a gamepad) into inputs, each with ``to``, ``scale``,
    ``dead_zone`` and ``curve`` (the exponent).

    >>> keys = {"w": {"forward": "0.5 m/s"}, "a": {"turning": 0.4}}
    >>> Inputs("drive.keys", to="drive", keys=keys).to  # doctest: +SKIP
    'drive'
    """

    table: Made[Any, Any] = Made(_as_given, kw_only=False, doc="a DataFrame, a CSV, or a file of keys")
    to: Text = Text(kw_only=False, doc="name of the controller that is told")
    between: Choice = Choice("steps", "linear", default="steps", doc="what holds between two rows of a table")
    keys: Maybe[Any, dict[str, Any]] = Maybe(Made(_table), default=None, doc="inputs by key, for a file of keys")
    axes: Maybe[Any, dict[str, Any]] = Maybe(Made(_table), default=None, doc="inputs by column, for a table of sticks")

    def start(self, body: Body, random: Any, log: Any) -> None:
        self._body = body
        if self.keys is not None:
            self._spans = _spans(Path(self.table), self.keys)
            self._columns: dict[str, np.ndarray] = {}
            return
        import pandas as pd

        where = "Inputs" if isinstance(self.table, pd.DataFrame) else str(self.table)
        try:
            table = self.table if isinstance(self.table, pd.DataFrame) else pd.read_csv(self.table)
        except OSError as error:
            raise VeldrainError("no such file", where=where, cure="give a CSV with a column time") from error
        if "time" not in table or len(table) == 0 or (np.diff(table["time"]) <= 0).any():
            raise VeldrainError(
                "has no rows, or no column time that grows", where=where, cure="give time in s, and a column an input"
            )
        self._times, self._spans = table["time"].to_numpy(float), []
        columns = {str(name): table[name].to_numpy(float) for name in table if name != "time"}
        for name, column in columns.items():
            if not np.isfinite(column).all():
                raise VeldrainError(f"column {name} has gaps", where=where, cure="fill them in")
        if self.axes is not None:
            columns = dict(_stick(name, axis, columns, where) for name, axis in self.axes.items())
        self._columns = columns

    def update(self, now: float, senses: Senses, motors: Motors) -> None:
        if self.keys is not None:
            told: dict[str, float] = {name: 0.0 for asked in self._spans for name in asked[2]}
            for first, last, asks in self._spans:
                if first <= now + 1e-9 < last:
                    for name, value in asks.items():
                        told[name] += value
            self._body.tell(self.to, **told)
            return
        if now + 1e-9 < self._times[0]:
            return
        if self.between == "linear":
            told = {name: float(np.interp(now, self._times, column)) for name, column in self._columns.items()}
        else:
            k = int(np.searchsorted(self._times, now + 1e-9, side="right")) - 1
            told = {name: float(column[k]) for name, column in self._columns.items()}
        self._body.tell(self.to, **told)


def _stick(name: str, axis: Any, columns: Mapping[str, Any], where: str) -> tuple[str, Any]:
    """An input made of a stick: nothing in its dead zone, from there on with a curve up to its scale."""
    if name not in columns:
        raise unknown("column", name, columns, where)
    words: dict[str, Any] = {"to": None, "scale": 1.0, "dead_zone": 0.05, "curve": 1.0} | dict(axis)
    if words["to"] is None or set(words) != {"to", "scale", "dead_zone", "curve"}:
        raise VeldrainError(f"axis '{name}' is {axis}", where=where, cure="give to, scale, dead_zone and curve")
    dead, x = float(words["dead_zone"]), columns[name]
    if not 0 <= dead < 1:
        raise VeldrainError(f"dead_zone is {dead:g}", where=f"{where}: {name}", cure="give 0 up to below 1")
    size = np.clip((np.abs(x) - dead) / (1.0 - dead), 0.0, 1.0) ** float(words["curve"])
    return words["to"], np.sign(x) * size * float(words["scale"])


def _spans(path: Path, keys: Mapping[str, Any]) -> list[tuple[float, float, dict[str, float]]]:
    """When each key is held, and what it asks for."""
    asks = {
        key: {
            name: value if isinstance(value, int | float) else _any(value, f"key {key}: {name}")
            for name, value in told.items()
        }
        for key, told in keys.items()
    }
    found = []
    try:
        lines = path.read_text(encoding="utf-8").splitlines()
    except OSError as error:
        raise VeldrainError("no such file", where=str(path), cure="give a file of lines such as 'w 0.5 2.4'") from error
    for number, line in enumerate(lines, start=1):
        words = line.partition("#")[0].replace("–", " ").removesuffix("s").split()
        if not words:
            continue
        where = f"{path}:{number}"
        try:
            key, first, last = words[0], float(words[1]), float(words[2])
        except (IndexError, ValueError) as error:
            raise VeldrainError(
                f"'{line}' is no key press", where=where, cure="write a key and two times in s: w 0.5 2.4"
            ) from error
        if key not in asks:
            raise unknown("key", key, asks, where)
        if not 0 <= first < last:
            raise VeldrainError(
                f"'{line}' ends before it begins", where=where, cure="write when it starts, then when it ends"
            )
        found.append((first, last, asks[key]))
    return found


def _any(value: Any, where: str) -> float:
    """A quantity of speed, angular speed, angle, length or a plain number."""
    for kind in ("speed", "angular speed", "angle", "length", "ratio"):
        try:
            return quantity(value, kind, where)
        except VeldrainError:
            continue
    raise VeldrainError(f"{value!r} is no quantity that an input takes", where=where, cure="write such as '0.5 m/s'")


class Script:
    """A controller written as a course of events: a generator that yields what it waits for.

    Write a class below it with ``script(self)``, which yields ``self.wait("1 s")``, ``self.until(lambda: …)`` or
    ``self.follow(path)``; in between it uses ``self.senses``, ``self.motors``, ``self.body`` and ``self.now``. When it
    ends, motors keep their last commands. A script cannot be copied in its middle: a trial with one takes no snapshot.

    >>> class Wave(Script):
    ...     def script(self):
    ...         self.motors["elbow"].position = 0.5
    ...         yield self.wait("1 s")
    ...         yield self.until(lambda: abs(self.senses["angles"].position[0] - 0.5) < 0.01)
    """

    period = 0.01

    def script(self) -> Iterator[Callable[[], bool]]:
        """The course of events."""
        raise NotImplementedError(f"{type(self).__name__}.script")

    def start(self, body: Body, random: Any, log: Any) -> None:
        """Begin."""
        self.body, self.random, self.log = body, random, log
        self.now = 0.0
        self._course: Any = None
        self._waits: Callable[[], bool] = lambda: True

    def update(self, now: float, senses: Senses, motors: Motors) -> None:
        """Go on with what no longer waits."""
        self.now, self.senses, self.motors = now, senses, motors
        if self._course is None:
            self._course = iter(self.script())
        while self._waits():
            try:
                waits = next(self._course)
            except StopIteration:
                self._waits = lambda: False
                return
            if not callable(waits):
                raise VeldrainError(
                    f"it yields {waits!r}",
                    where=type(self).__name__,
                    cure="yield self.wait(…), self.until(…) or self.follow(…)",
                )
            self._waits = waits

    def wait(self, seconds: float | str) -> Callable[[], bool]:
        """Until a time (s) has passed."""
        end = self.now + quantity(seconds, "time", "wait")
        return lambda: self.now >= end - 1e-9

    def until(self, condition: Callable[[], Any], within: float | str = math.inf) -> Callable[[], bool]:
        """Until a condition holds.

        Raises:
            VeldrainError: it does not within a time (s).
        """
        end = self.now + quantity(within, "time", "until")

        def holds() -> bool:
            if condition():
                return True
            if self.now > end:
                raise VeldrainError(f"what it waits for has not come within {within}", where=type(self).__name__)
            return False

        return holds

    def follow(self, path: Trajectory) -> Callable[[], bool]:
        """Follow a trajectory with the motors of its joints, until its end."""
        begin = self.now
        modes: Sequence[str] = [
            self.body.model.motors[j].mode if j in self.body.model.motors else "" for j in path.joints
        ]
        for joint, mode in zip(path.joints, modes, strict=True):
            if mode not in ("position", "velocity"):
                self.body.motor(joint, "position", type(self).__name__)

        def ended() -> bool:
            if self.now - begin >= path.duration - 1e-9:
                return True
            q, v, _ = path.at(self.now - begin + self.period)
            for k, (joint, mode) in enumerate(zip(path.joints, modes, strict=True)):
                follow(self.motors[joint], mode, float(q[k]), float(v[k]))
            return False

        return ended

    def __deepcopy__(self, memo: dict[Any, Any]) -> Script:
        if getattr(self, "_course", None) is not None:
            raise VeldrainError(
                "is in its middle, and a generator cannot be copied",
                where=type(self).__name__,
                cure="take snapshots before it starts, or write it with update()",
            )
        made = type(self).__new__(type(self))
        memo[id(self)] = made
        vars(made).update({name: copy.deepcopy(value, memo) for name, value in vars(self).items() if name != "_waits"})
        made._waits = lambda: True
        return made
