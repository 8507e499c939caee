"""A controller that is a program of its own, in any language: one line of JSON each way a tick (docs/programs.md)."""

from __future__ import annotations

import base64
import json
import math
import os
import select
import shlex
import shutil
import signal
import subprocess
import time
import weakref
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import is_dataclass
from pathlib import Path
from typing import Any, Self

import numpy as np

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, InputValues, MotorHandle
from veldrain.errors import VeldrainError
from veldrain.model import Fields, Message
from veldrain.sampling import Reading
from veldrain.sheet import Made, Number, Text
from veldrain.units import SI_UNITS

PROTOCOL = "program/1"
COMPACT = json.JSONEncoder(separators=(",", ":"))
PREFIX = "program:"
MOST_LINE = 4 << 20  # bytes of an answer
MOST_SAID = 1 << 20  # bytes of standard error that are kept
MOST_ASKED = 1e9  # of a motor, SI units: a finite number can end a trial too
MOST_NUMBERS = 10_000  # of an array that is written as numbers
UNITS = {
    "position": "m, or rad and m by joint", "velocity": "rad/s or m/s by joint", "effort": "N*m or N by joint",
    "ranges": "m", "range": "m", "angles": "rad", "points": "m", "times": "s", "linear_acceleration": "m/s^2",
    "angular_velocity": "rad/s", "linear_velocity": "m/s", "x": "m", "y": "m", "yaw": "rad", "vx": "m/s", "vy": "m/s",
    "wz": "rad/s", "rpy": "rad", "latitude": "rad", "longitude": "rad", "altitude": "m", "magnetic_field": "T",
    "fluid_pressure": "Pa", "azimuths": "rad", "elevations": "rad", "radial_velocities": "m/s",
    "cross_sections": "m^2", "force": "N", "torque": "N*m", "forces": "N", "current": "A", "load": "N",
    "slip_angle": "rad", "exposure": "s", "gain": "1",
}  # fmt: skip


def _table(value: Any, where: str) -> dict[str, Any]:
    if not isinstance(value, Mapping):
        raise VeldrainError(f"{value!r} is no table", where=where, cure="give names and values")
    return dict(value)


class Program(SheetController):
    """A program that is started with the trial and told the readings, and that answers with commands, line by line.

    It runs in lockstep: simulated time waits for its answer. In a file it is ``use: "program:./wall_follower"``. What
    it writes to its standard error is recorded as the stream ``<robot>/stderr``.

    >>> Program("./wall_follower --gain 2", period="50 ms").limit
    5.0
    """

    period: Number = Number("period", default=0.05, above=0.0, doc="time between updates, or their rate")
    command: Text = Text(kw_only=False, doc="the program and its arguments, as in a shell")
    folder: Text = Text(default="", doc="where it is started; its path is looked for from there")
    limit: Number = Number("time", default=5.0, above=0.0, doc="longest that an answer may take on the clock")
    kinds: Made[Mapping[str, str], dict[str, str]] = Made(
        _table, default={}, doc="what it can be told: kinds of quantity by input, such as ``{forward: speed}``"
    )
    parameters: Made[Mapping[str, Any], dict[str, Any]] = Made(_table, default={}, doc="told to it at its start")

    inputs: InputValues

    def start(self, body: Body, random: Any, log: Any) -> None:
        self._robot, self._log, self._said, self._last = body.robot, log, 0, dict[str, int]()
        self._rest = self._half = b""
        self._open, self._words = True, self._found()
        self.inputs = InputValues(self.kinds, self._where)
        model = body.model
        units = {True: {"position": "m", "velocity": "m/s", "effort": "N"}, False: dict[str, str]()}
        units[False] = {"position": "rad", "velocity": "rad/s", "effort": "N*m"}
        slides = {joint.name for joint in model.joints.values() if joint.kind == "prismatic"}
        self._hello = {
            "veldrain": PROTOCOL,
            "robot": body.robot,
            "period": self.period,
            "seed": int(random.integers(2**31)),
            "parameters": self.parameters,
            "sensors": {
                m.name: {"sensor": type(m.sensor).__name__, "message": getattr(m.sensor, "message", "")}
                for m in model.sensors.values()
            },
            "motors": {
                joint: {"mode": motor.mode, "unit": units[joint in slides][motor.mode]}
                for joint, motor in model.motors.items()
            },
            "inputs": {name: SI_UNITS.get(kind, "") for name, kind in self.kinds.items()},
            "units": UNITS,
        }

    def _begin(self) -> None:
        """Start the program: at the first update, so that a mistake elsewhere in the trial leaves none behind."""
        try:
            self._process = (
                subprocess.Popen(  # a session of its own: Ctrl-C is ours, and all that it starts ends with it
                    self._words,
                    cwd=self.folder or None,
                    stdin=-1,
                    stdout=-1,
                    stderr=-1,
                    start_new_session=True,
                    bufsize=0,
                )
            )
        except OSError as error:
            raise VeldrainError(
                f"cannot be started ({error.strerror})", where=self._where, cure="see that it runs by itself"
            ) from error
        ends = (self._process.stdin, self._process.stdout, self._process.stderr)
        self._in, self._out, self._err = (end.fileno() for end in ends if end is not None)
        os.set_blocking(self._in, False)
        os.set_blocking(self._err, False)
        self._end = weakref.finalize(self, _end, self._process)
        answer = self._asked(self._hello, "its start")
        if answer.get("veldrain") != PROTOCOL:
            self._fail(f"answered {answer!r} to the first line", f'let it answer {{"veldrain": "{PROTOCOL}"}}')

    @property
    def _where(self) -> str:
        return f"{PREFIX}{self.command}"

    def _found(self) -> list[str]:
        """The words of its command, the program's path whole."""
        try:
            words = shlex.split(self.command)
        except ValueError as error:
            raise VeldrainError(f"cannot be read ({error})", where=self._where, cure="see its quotes") from error
        if words and "/" in words[0]:
            words[0] = str(Path(self.folder or ".", words[0]).resolve())
        if not words or shutil.which(words[0]) is None:
            raise VeldrainError(
                "is no program that may be run", where=self._where, cure="build it, or name it from the file's folder"
            )
        return words

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Mapping[str, MotorHandle]) -> None:
        if "_process" not in vars(self):
            self._begin()
        new = {}
        for name in senses:
            reading = senses[name]
            if reading is not None and self._last.get(name) != reading.stamp:
                self._last[name] = reading.stamp
                new[name] = {"time": reading.time} | _plain_fields(reading.data)
        answer = self._asked({"time": now, "inputs": self.inputs.values, "readings": new}, f"{now:g} s")
        for word in answer:
            if word not in ("motors", "log"):
                self._fail(f"answered with '{word}' at {now:g} s", "answer with motors and log")
        for joint, told in self._table_of(answer, "motors", now).items():
            if not isinstance(told, dict) or not told or not set(told) <= {"position", "velocity", "effort"}:
                self._fail(f"commands {told!r} of '{joint}' at {now:g} s", 'write such as {"left": {"velocity": 3.0}}')
            motors[joint].command(**{word: self._number(value, f"{joint}.{word}", now) for word, value in told.items()})
        for name, value in self._table_of(answer, "log", now).items():
            self._log(name, self._number(value, f"log {name}", now))

    def _table_of(self, answer: dict[str, Any], word: str, now: float) -> dict[str, Any]:
        found = answer.get(word, {})
        if not isinstance(found, dict):
            self._fail(f"answered {word}: {found!r} at {now:g} s", "write names and values")
        return dict(found)

    def _number(self, value: Any, what: str, now: float) -> float:
        if isinstance(value, bool) or not isinstance(value, int | float):
            self._fail(f"answered {what} = {value!r} at {now:g} s", "write a number")
        if not what.startswith("log ") and abs(value) > MOST_ASKED:
            self._fail(f"answered {what} = {value!r} at {now:g} s", "write a number that a motor can follow")
        return float(value)

    def _asked(self, line: dict[str, Any], when: str) -> dict[str, Any]:
        """Its answer to a line."""
        data = self._sent(_line(line))
        deadline = time.monotonic() + self.limit
        while b"\n" not in self._rest:
            ins = [self._out, self._err] if self._open else [self._out]
            left = max(deadline - time.monotonic(), 0.0)
            ready, able, _ = select.select(ins, [self._in] if data else [], [], left)
            if not ready and not able:
                self._fail(f"is silent for {self.limit:g} s after {when}", "let it answer each line at once")
            if able:
                data = self._sent(data)
            if self._err in ready:
                self._hear()
            if self._out in ready:
                answer = os.read(self._out, 65536)
                self._rest += answer
                if not answer:
                    self._ended(when)
                if len(self._rest) > MOST_LINE:
                    self._fail(f"answers {when} with over {MOST_LINE} bytes", "answer with one line")
        text, _, self._rest = self._rest.partition(b"\n")
        self._hear()
        if self._rest:
            self._fail(f"answered twice at {when}", "answer each line with one line")
        try:
            found = json.loads(text)
        except ValueError as error:
            self._fail(f"answered {text[:80]!r} at {when}, which is no JSON ({error})", "write one object a line")
        if not isinstance(found, dict):
            self._fail(f"answered {text[:80]!r} at {when}, which is no object", "write one object a line")
        return found  # type: ignore[no-any-return]

    def _sent(self, data: bytes) -> bytes:
        """Send as much as its input takes now; what is left."""
        try:
            return data[os.write(self._in, data) :]
        except BlockingIOError:
            return data
        except BrokenPipeError:
            return b""  # it has ended; what it said last is still read

    def _hear(self) -> None:
        """Record the lines that it has written to its standard error until now."""
        while self._open:
            try:
                said = os.read(self._err, 65536)
            except BlockingIOError:
                break
            self._open = bool(said)
            self._half += said[: max(MOST_SAID - self._said, 0)]
            if self._said <= MOST_SAID < self._said + len(said):
                self._half += f"\n… over {MOST_SAID} bytes: no more is kept\n".encode()
            self._said += len(said)
        lines, _, self._half = self._half.rpartition(b"\n") if self._open else (self._half, b"", b"")
        if lines:
            text = lines.decode(errors="replace").rstrip("\n")
            self._log("stderr", Message("std_msgs/msg/String", Fields(data=text)))

    def _ended(self, when: str) -> None:
        self._hear()
        with suppress(subprocess.TimeoutExpired):
            self._process.wait(1.0)
        status = self._process.poll()
        how = (
            f"by signal {signal.Signals(-status).name}"
            if status is not None and status < 0
            else f"with status {status}"
        )
        self._fail(f"ended {how} at {when}", f"see what it said in the stream {self._robot}/stderr")

    def _fail(self, problem: str, cure: str) -> None:
        self.close()
        raise VeldrainError(problem, where=self._where, cure=cure)

    def close(self) -> None:
        """End the program, and all that it has started."""
        if end := vars(self).get("_end"):
            end()

    def __deepcopy__(self, memo: Any) -> Self:
        if "_process" in vars(self):
            raise VeldrainError(
                "is at work, and a program cannot be copied", where=self._where, cure="take no snapshots"
            )
        return super().__deepcopy__(memo)


def _end(process: subprocess.Popen[bytes]) -> None:
    """Close its input, which tells it to end; after half a second, end it with all that it has started."""
    for stream in (process.stdin, process.stdout, process.stderr):
        with suppress(OSError):
            stream.close()  # type: ignore[union-attr]
    with suppress(subprocess.TimeoutExpired):
        process.wait(0.5)
    with suppress(ProcessLookupError, PermissionError):
        os.killpg(process.pid, signal.SIGKILL)
    process.wait()


def _line(message: dict[str, Any]) -> bytes:
    """A line of JSON, with null for what is not finite."""
    text = COMPACT.encode(message)
    if "NaN" in text or "Infinity" in text:  # seldom: to look at each number takes longer than to write it
        text = COMPACT.encode(_finite(message))
    return text.encode() + b"\n"


def _finite(value: Any) -> Any:
    if isinstance(value, dict):
        return {name: _finite(part) for name, part in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(part) for part in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def _plain_fields(data: Any) -> dict[str, Any]:
    return {name: _plain(value) for name, value in vars(data).items()}


def _plain(value: Any) -> Any:
    """A value as JSON has it; the bytes of a large array in base64."""
    if isinstance(value, np.ndarray):
        if value.size > MOST_NUMBERS:
            data = base64.b64encode(np.ascontiguousarray(value).tobytes()).decode()
            return {"base64": data, "dtype": value.dtype.str, "shape": list(value.shape)}
        return value.tolist()
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    return _plain_fields(value) if is_dataclass(value) else value
