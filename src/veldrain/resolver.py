"""Names in files: ``module:Name`` or ``file.py:Name``, for sensors, controllers, metrics, actions and conditions alike.

A file becomes a module whose name is the same in every process, so that what comes from it can travel to a worker.

What files name is code. One gate is before all of it: out of data none runs, out of a world, scenario or study file
what lies below its folder, and all else where that is told (docs/trust.md).
"""

from __future__ import annotations

import hashlib
import importlib
import importlib.util
import inspect
import os
import re
import sys
import sysconfig
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import Any, Literal, get_args

from veldrain.errors import CodeRefusedError, VeldrainError, unknown

Code = Literal["data", "none", "python", "beside", "all"]
_ALLOWED: ContextVar[Code] = ContextVar("allowed", default="beside")
OFFERED = ("veldrain", "veldrain.control", "veldrain.sensing", "veldrain.model", "veldrain.motion")
INTERPRETERS = re.compile(r"(python|ruby|perl|lua|node|julia|bash|sh)[\d.]*")
_started: set[tuple[str, ...]] = set()  # programs that this process was allowed to start


@contextmanager
def code_from_files(allowed: Code) -> Iterator[None]:
    """What code may run that world, scenario and study files name, for as long as this lasts.

    Args:
        allowed: ``none``; ``python``: Python below the file's folder; ``beside``: that, and programs there, as it is
            where nothing is said; ``all``. ``data`` is ``none``, and what would need code is left out and told. What
            the calling program has loaded itself is its own, but for these two.

    >>> with code_from_files("none"):
    ...     world = load_world("foreign.world.yaml")  # doctest: +SKIP
    """
    if allowed not in get_args(Code):
        raise unknown("word for code", allowed, get_args(Code), "code_from_files")
    before = _ALLOWED.set(allowed)
    try:
        yield
    finally:
        _ALLOWED.reset(before)


def allowed_code() -> Code:
    """What code may run now."""
    return _ALLOWED.get()


def _refused(name: str, where: str, what: str = "is code outside of the file's folder") -> CodeRefusedError:
    """The error of code that does not run."""
    if _ALLOWED.get() == "data":
        return CodeRefusedError(f"'{name}' is code, and a recording is data", where=where, cure="name its own file")
    if _ALLOWED.get() == "none":
        cure = "read it, and run it without --no-code if you know it"
        return CodeRefusedError(f"'{name}' is code, and none may run", where=where, cure=cure)
    cure = "run it with --trust if you know it; in Python: with veldrain.code_from_files('all')"
    return CodeRefusedError(f"'{name}' {what}", where=where, cure=cure)


def _let_file(path: Path, name: str, folder: Path | None, where: str) -> None:
    """See that a file may run.

    Raises:
        VeldrainError: no code may, or it lies elsewhere and this process has not loaded it.
    """
    allowed = _ALLOWED.get()
    place = path.resolve()
    is_ours = place == _file_of(sys.modules["__main__"]) or name_of_file(place) in sys.modules
    is_beside = place.is_relative_to((folder or Path()).resolve())
    if allowed in ("data", "none") or not (allowed == "all" or is_ours or is_beside):
        raise _refused(name, where)


def _let_module(name: str, module_name: str, attribute: str, folder: Path | None, where: str) -> None:
    """See that something of a module may be used, which is not imported for that.

    Raises:
        VeldrainError: no code may run, or it is neither ours, nor in the folder, nor of the calling program.
    """
    allowed = _ALLOWED.get()
    if allowed == "all":
        return
    if module_name.partition(".")[0] == "veldrain":
        is_demo = module_name.startswith("veldrain.demo")
        found = getattr(importlib.import_module(module_name), attribute, None) if module_name in OFFERED else None
        if not is_demo and not isinstance(found, type) and attribute != "load_robot":
            raise _refused(name, where, "is nothing that Veldrain offers to files")
        return
    if allowed in ("data", "none"):
        raise _refused(name, where)
    if (loaded := sys.modules.get(module_name)) is not None:
        file = _file_of(loaded)
        installed = [
            Path(sysconfig.get_path(word)).resolve() for word in ("stdlib", "platstdlib", "purelib", "platlib")
        ]
        mine = file is not None and not any(file.is_relative_to(place) for place in installed)
        if mine or module_name == "__main__":
            return
    try:
        spec = importlib.util.find_spec(module_name.partition(".")[0])  # of a parent: else it would be imported
    except (ImportError, ValueError):
        spec = None
    file = Path(spec.origin).resolve() if spec and spec.origin and spec.has_location else None
    if spec is None:
        return  # that there is none is told better by importing it
    if file is None or not file.is_relative_to((folder or Path()).resolve()):
        raise _refused(name, where)


def _file_of(module: Any) -> Path | None:
    file = getattr(module, "__file__", None)
    return Path(file).resolve() if file else None


def let_program(words: Sequence[str], folder: Path, name: str, where: str) -> None:
    """See that a program may be started: one below the folder, or an interpreter with a script there.

    Raises:
        VeldrainError: none may, or it lies elsewhere.
    """
    allowed = _ALLOWED.get()
    if allowed in ("data", "none", "python"):
        raise _refused(name, where, "is a program, and is not started here")
    if allowed == "all" or not words:
        return
    by_interpreter = "/" not in words[0] and len(words) > 1 and INTERPRETERS.fullmatch(words[0]) is not None
    script = words[0] if "/" in words[0] else words[1] if by_interpreter else "-"
    place = (folder / script).resolve()
    known = (str(place), *words[1:])
    if known in _started:
        return
    if script.startswith("-") or not place.is_relative_to(folder.resolve()):
        raise _refused(name, where, "is a program outside of the file's folder")
    _started.add(known)


def load_named(name: str, folder: Path | None, where: str) -> Any:
    """What ``module:Name`` or ``file.py:Name`` stands for; a file is looked for in the folder.

    Raises:
        VeldrainError: it may not run, the module or file does not load, or has no such name.
    """
    module_name, _, attribute = name.partition(":")
    if not module_name or not attribute:
        raise VeldrainError(f"'{name}' is not a name", where=where, cure="write 'module:Name' or 'file.py:Name'")
    if module_name.endswith(".py"):
        _let_file(Path(folder or ".") / module_name, name, folder, where)
    else:
        _let_module(name, module_name, attribute, folder, where)
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
    # Of ours by the module that offers it to files, not by the one that it happens to lie in.
    offered = (name for name in OFFERED if kind.__module__.startswith(f"{name}."))
    shown = (name for name in offered if getattr(importlib.import_module(name), kind.__qualname__, None) is kind)
    return f"{next(shown, kind.__module__)}:{kind.__qualname__}"


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
