"""Names in files: ``module:Name`` or ``file.py:Name``, for sensors, controllers, metrics, actions and conditions alike.

A file becomes a module whose name is the same in every process, so that what comes from it can travel to a worker.
"""

from __future__ import annotations

import hashlib
import importlib
import importlib.util
import inspect
import os
import sys
from pathlib import Path
from typing import Any

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


def name_of(kind: type, folder: Path | None = None) -> str:
    """The name by which a file in a folder calls a class: the inverse of ``load_named``.

    Raises:
        VeldrainError: it has none that another process could load.
    """
    module = sys.modules.get(kind.__module__)
    file = getattr(module, "__file__", None)
    if "<locals>" in kind.__qualname__ or module is None or (kind.__module__ == "__main__" and not file):
        raise VeldrainError(
            f"{kind.__qualname__} cannot be named in a file: it is made inside of a function",
            cure="move it to the top of a module",
        )
    if kind.__module__ == "__main__" or kind.__module__.startswith("veldrain_file_"):
        return f"{Path(os.path.relpath(str(file), folder or Path())).as_posix()}:{kind.__qualname__}"
    return f"{kind.__module__}:{kind.__qualname__}"


def name_of_file(path: Path) -> str:
    """The module name of a file, the same in every process."""
    return f"veldrain_file_{path.stem}_{hashlib.sha256(str(path.resolve()).encode()).hexdigest()[:16]}"


def loaded_files() -> list[Path]:
    """The files that were loaded as modules: what a worker has to load before it can read what comes from them."""
    return [Path(str(m.__file__)) for name, m in list(sys.modules.items()) if name.startswith("veldrain_file_")]


def load_file(path: Path) -> Any:
    """The module of a file, loaded once."""
    path = path.resolve()
    if (name := name_of_file(path)) in sys.modules:
        return sys.modules[name]
    if not path.is_file():
        raise FileNotFoundError(f"no file {path}")
    # Python takes compiled code that it kept for a file of the same second and size: an edit of a script's would be
    # run as it was before. None is kept of a user's files, nor of what they import, and their folder stays clean.
    kept, sys.dont_write_bytecode = sys.dont_write_bytecode, True
    try:
        return load_source(path, path.read_text(encoding="utf-8"))
    finally:
        sys.dont_write_bytecode = kept


def load_source(path: Path, text: str) -> Any:
    """The module of a file with this text, loaded once; the file itself need not be there."""
    name = name_of_file(path)
    if name not in sys.modules:
        spec = importlib.util.spec_from_file_location(name, path)
        assert spec  # a .py file always has one
        module = importlib.util.module_from_spec(spec)
        sys.modules[name] = module
        try:
            exec(compile(text, str(path), "exec"), vars(module))
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
