"""Controllers named in a file, with their arguments."""

from __future__ import annotations

import copy
import hashlib
import importlib
import inspect
import shlex
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import partial
from inspect import isclass
from pathlib import Path
from typing import Any

from veldrain.control.contract import Controller
from veldrain.control.program import PREFIX, Program
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Knob
from veldrain.model.knobs import entry, sheet_knobs
from veldrain.resolver import allowed_code, call_named, code_from_files, let_program, load_named
from veldrain.sheet import Sheet


@dataclass(frozen=True)
class NamedController:
    """A controller by its name and arguments, made anew for every trial, in whichever process runs it."""

    use: str
    arguments: dict[str, Any] = field(default_factory=dict)
    folder: str = ""
    where: str = ""
    is_told: bool = False  # by who runs it, not by a file: it runs wherever it lies

    def load(self) -> Any:
        """What makes it.

        Raises:
            VeldrainError: there is none of that name, or it is code that may not run here.
        """
        if self.is_told and allowed_code() in ("python", "beside"):
            with code_from_files("all"):
                return self._loaded()
        return self._loaded()

    def _loaded(self) -> Any:
        """The class or function that makes it: one that ships by its name alone, or ``program:`` and its command."""
        if self.use.startswith(PREFIX):
            return partial(Program, self.use.removeprefix(PREFIX), folder=self._started_in)
        if not self.use.isidentifier():
            return load_named(self.use, Path(self.folder or "."), self.where)
        shipped = importlib.import_module("veldrain.control")
        known = [
            name for name in shipped.__all__ if isclass(kind := getattr(shipped, name)) and hasattr(kind, "update")
        ]
        if self.use not in known:
            raise unknown("controller", self.use, [n for n in known if n != "Controller"], self.where)
        return getattr(shipped, self.use)

    def make(self) -> Controller:
        """The controller."""
        kind, arguments = self.load(), self.arguments
        if self.use.startswith(PREFIX):
            self._let_start(self.use.removeprefix(PREFIX))
            arguments = {word: value for word, value in arguments.items() if word != "folder"}
        elif isclass(kind) and issubclass(kind, Program):
            self._let_start(str(arguments.get("command", "")))
        return call_named(kind, arguments, self.use, self.where)  # type: ignore[no-any-return]

    def _let_start(self, command: str) -> None:
        """See that its program may be started."""
        if self.is_told and allowed_code() in ("python", "beside"):
            return
        with suppress(ValueError):  # quotes that do not match: the program's own start tells it
            folder = Path(self.folder or ".")
            words = shlex.split(command)
            if words and "/" in words[0]:  # looked for from where it is started
                words[0] = str(Path(self._started_in, words[0]).resolve())
            let_program(words, folder, f"{PREFIX}{command}", self.where)

    @property
    def _started_in(self) -> str:
        return str(Path(self.folder or ".") / str(self.arguments.get("folder", "")))

    def digest(self) -> str:
        """A digest of a program's file, which is no source that Python knows; "" for others."""
        path = Path(self._started_in, *self.use.removeprefix(PREFIX).split()[:1])
        is_program = self.use.startswith(PREFIX) and path.is_file()
        return hashlib.sha256(path.read_bytes()).hexdigest()[:16] if is_program else ""


def argument_knobs(path: str, table: dict[str, Any], key: str) -> Iterator[Knob]:
    """The numbers that a controller, an entry of a table, was made with."""
    controller = table[key]
    if isinstance(controller, Sheet):
        yield from sheet_knobs(path, *entry(table, key))
        return
    named = controller if isinstance(controller, NamedController) else None
    kind = named.load() if named else type(controller)
    for name, parameter in inspect.signature(kind).parameters.items():
        value = named.arguments.get(name, parameter.default) if named else vars(controller).get(name)
        if isinstance(value, bool) or not isinstance(value, int | float):
            continue

        def put(number: float, name: str = name) -> None:
            if named:
                table[key] = replace(named, arguments={**table[key].arguments, name: number})
            else:
                table[key] = copy.copy(table[key])
                setattr(table[key], name, number)

        def get(name: str = name, default: Any = value) -> float:
            now = table[key]
            return float(now.arguments.get(name, default) if named else vars(now)[name])

        yield Knob(f"{path}.{name}", "ratio", get, put)


def each_of(by_robot: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """Controllers by robot, one or several by name each: a title and the controller of each of them."""
    for robot, given in by_robot.items():
        if isinstance(given, Mapping):
            yield from ((f"{robot}, {name}", controller) for name, controller in given.items())
        else:
            yield robot, given


def _copied(controller: Any, where: str) -> Any:
    try:
        return copy.deepcopy(controller)
    except Exception as error:  # a lock, an open file: whatever says that there is only one of it
        raise VeldrainError(
            f"cannot be copied ({type(error).__name__}: {error}), and each trial has one of its own",
            where=where,
            cure="open what cannot be copied in its start",
        ) from error


def fresh(controller: Any, where: str) -> Controller:
    """A controller for one trial: made from its name, or a copy of the one that was given.

    Raises:
        VeldrainError: it has no period or no update, or cannot be copied.
    """
    made = controller.make() if isinstance(controller, NamedController) else _copied(controller, where)
    missing = [word for word in ("period", "update") if not hasattr(made, word)]
    if missing:
        raise VeldrainError(
            f"{type(made).__name__} is not a controller: it has no {' and no '.join(missing)}",
            where=where,
            cure="see veldrain.control.Controller",
        )
    update = getattr(type(made), "update", None) or made.update
    if inspect.isgeneratorfunction(update) or inspect.iscoroutinefunction(update) or inspect.isasyncgenfunction(update):
        raise VeldrainError(
            f"update of {type(made).__name__} is a generator or coroutine: calling it does nothing",
            where=where,
            cure="write a plain function without yield and async",
        )
    return made
