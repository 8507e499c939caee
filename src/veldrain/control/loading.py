"""Controllers named in a file: ``module:Name`` or ``file.py:Name``, with their arguments."""

from __future__ import annotations

import copy
import hashlib
import importlib
import importlib.util
import inspect
import sys
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from veldrain.control.contract import Controller
from veldrain.errors import VeldrainError, unknown


def load_named(name: str, folder: Path | None, where: str) -> Any:
    """What ``module:Name`` or ``file.py:Name`` stands for; a file is looked for in the folder.

    Raises:
        VeldrainError: the module or file does not load, or has no such name.
    """
    module_name, _, attribute = name.partition(":")
    if not module_name or not attribute:
        raise VeldrainError(f"'{name}' is not a name", where=where, cure="write 'module:Name' or 'file.py:Name'")
    try:
        module = (
            load_file(Path(folder or ".") / module_name)
            if module_name.endswith(".py")
            else importlib.import_module(module_name)
        )
    except (Exception, SystemExit) as error:  # whatever the user's own file raises while it loads
        raise VeldrainError(
            f"cannot load '{module_name}' ({type(error).__name__}: {error})",
            where=where,
            cure="see that it imports by itself",
        ) from error
    try:
        return getattr(module, attribute)
    except AttributeError:
        raise VeldrainError(f"'{module_name}' has no '{attribute}'", where=where, cure="see its spelling") from None


def name_of_file(path: Path) -> str:
    """The module name of a file, the same in every process."""
    return f"veldrain_file_{path.stem}_{hashlib.sha256(str(path.resolve()).encode()).hexdigest()[:16]}"


def loaded_files() -> list[Path]:
    """The files that were loaded as modules: what a worker has to load before it can read what comes from them."""
    return [Path(str(m.__file__)) for name, m in list(sys.modules.items()) if name.startswith("veldrain_file_")]


def load_file(path: Path) -> Any:
    path = path.resolve()
    if not path.is_file():
        raise FileNotFoundError(f"no file {path}")
    name = name_of_file(path)
    if name not in sys.modules:
        spec = importlib.util.spec_from_file_location(name, path)
        assert spec and spec.loader  # a .py file always has both
        module = importlib.util.module_from_spec(spec)
        sys.modules[name] = module
        try:
            spec.loader.exec_module(module)
        except BaseException:
            del sys.modules[name]
            raise
    return sys.modules[name]


def call_named(kind: Any, arguments: dict[str, Any], name: str, where: str) -> Any:
    """What a class or function makes of its arguments.

    Raises:
        VeldrainError: it has no such argument (with the nearest that it has), or it cannot be made.
    """
    known = inspect.signature(kind).parameters
    if not any(p.kind is p.VAR_KEYWORD for p in known.values()):
        for word in arguments:
            if word not in known:
                raise unknown("argument", word, known, ": ".join(w for w in (where, name) if w))
    try:
        return kind(**arguments)
    except VeldrainError as error:
        raise error.at(where) if where else error from error
    except (Exception, SystemExit) as error:  # whatever a user's own constructor raises
        raise VeldrainError(
            f"{name} cannot be made ({type(error).__name__}: {error})", where=where, cure="see its arguments"
        ) from error


@dataclass(frozen=True)
class NamedController:
    """A controller by its name and arguments, made anew for every trial, in whichever process runs it."""

    use: str
    arguments: dict[str, Any] = field(default_factory=dict)
    folder: str = ""
    where: str = ""

    def make(self) -> Controller:
        """The controller."""
        kind = load_named(self.use, Path(self.folder) if self.folder else None, self.where)
        return call_named(kind, self.arguments, self.use, self.where)  # type: ignore[no-any-return]


def fresh(controller: Any, where: str) -> Controller:
    """A controller for one trial: made from its name, or a copy of the one that was given.

    Raises:
        VeldrainError: it has no period or no update.
    """
    made = controller.make() if isinstance(controller, NamedController) else copy.deepcopy(controller)
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
