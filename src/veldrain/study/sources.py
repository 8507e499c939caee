"""What decides what something does, followed as far as it can be: source files, code, closures, attributes, data files.

``Follower.plain`` turns an object into plain data that tells it from any other, for a digest. What of an object cannot
be followed is listed by name, so that it can be told: it is never taken to be unchanged.
"""

from __future__ import annotations

import functools
import hashlib
import inspect
import json
import sys
import sysconfig
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from types import CodeType, FunctionType, MethodType, ModuleType
from typing import Any

import numpy as np

from veldrain.control import NamedController
from veldrain.control.program import PREFIX
from veldrain.model import Mesh
from veldrain.pose import Pose
from veldrain.sheet import Sheet

_LIBRARIES = tuple(Path(p).resolve() for p in {*sysconfig.get_paths().values(), sys.prefix, sys.base_prefix})
# What tells how something was described, not what it is.
_HOW_IT_CAME_ABOUT = ("folder", "where", "draft", "faults", "notes", "suppressed", "_given", "_defaults")
_OF_A_CLASS = {"__module__", "__doc__", "__dict__", "__weakref__", "__qualname__", "__annotations__", "__slots__"}
_OF_A_CLASS |= {"__firstlineno__", "__static_attributes__", "__abstractmethods__", "_abc_impl", "__parameters__"}
_READERS = {"open", "load", "loadtxt", "genfromtxt", "fromfile", "read_text", "read_bytes", "read_csv", "urlopen"}
_LARGEST = 1 << 30  # bytes of a data file


def digest(data: Any) -> str:
    """A short digest of plain data."""
    return hashlib.sha256(json.dumps(data, sort_keys=True).encode()).hexdigest()[:32]


def plain(thing: Any) -> Any:
    """An object as plain data that tells it from any other: for a digest, not for reading back."""
    return Follower().plain(thing)


class Follower:
    """Follows objects to all that decides what they do.

    Args:
        folder: where files that are named are looked for, beside the folder that one is in.
    """

    def __init__(self, folder: str | Path = "") -> None:
        self._missed: list[str] = []
        self._reads: list[str] = []  # functions that read files, which matters where none was found
        self._folders = [Path(), *([Path(folder)] if folder else [])]
        self._under_way: dict[int, int] = {}  # place by id, of what is being followed
        self._files: dict[Path, str] = {}
        self._done: dict[int, tuple[Any, str]] = {}  # functions and classes, kept alive, with their digests

    @property
    def missed(self) -> list[str]:
        """What could not be followed, by name."""
        return list(dict.fromkeys([*self._missed, *([] if self._files else self._reads)]))

    def plain(self, thing: Any, title: str = "") -> Any:
        """An object as plain data; ``title``: what to call it where it cannot be followed."""
        if thing is None or isinstance(thing, (bool, int, float)):
            return repr(thing) if isinstance(thing, float) else thing
        if isinstance(thing, str):
            return [thing, self._content(found)] if (found := self._file(thing)) else thing
        if isinstance(thing, (bytes, bytearray)):
            return hashlib.sha256(thing).hexdigest()
        if id(thing) in self._under_way:
            return {"again": self._under_way[id(thing)]}
        if id(thing) in self._done:
            return self._done[id(thing)][1]
        self._under_way[id(thing)] = len(self._under_way)
        try:
            found = self._followed(thing, title)
        finally:
            del self._under_way[id(thing)]
        if isinstance(thing, (type, FunctionType)):  # many use the same ones
            self._done[id(thing)] = thing, found if isinstance(found, str) else digest(found)
            return self._done[id(thing)][1]
        return found

    def _followed(self, thing: Any, title: str) -> Any:
        from scipy.spatial.transform import Rotation

        if isinstance(thing, NamedController):
            return self._named(thing)
        if isinstance(thing, type):
            return self._class(thing)
        if isinstance(thing, functools.partial):
            return ["partial", self.plain(thing.func), self.plain(thing.args), self.plain(thing.keywords)]
        if isinstance(thing, MethodType):
            return [self.plain(thing.__func__), self.plain(thing.__self__)]
        if isinstance(thing, FunctionType):
            return self._function(thing)
        if isinstance(thing, ModuleType):
            return [thing.__name__, self.source(thing)]
        if inspect.isroutine(thing):
            return f"{getattr(thing, '__module__', '')}:{thing.__qualname__}"
        if isinstance(thing, Sheet):
            more = {k: v for k, v in _attributes(thing).items() if k not in thing.values and not k.startswith("_")}
            return [self.plain(type(thing)), self._table(thing.values), self._table(more)]
        if isinstance(thing, Mesh):
            numbers = hashlib.sha256(thing.corners.tobytes() + thing.triangles.tobytes()).hexdigest()
            return [type(thing).__name__, numbers, thing.collide, thing.fit]
        if isinstance(thing, np.ndarray):
            return [repr(x) for x in thing.ravel().tolist()] if thing.size < 1000 else _hashed(thing)
        if isinstance(thing, np.generic):
            return repr(thing.item())
        if isinstance(thing, Pose):
            return [self.plain(thing.position), self.plain(thing.rotation)]
        if isinstance(thing, Rotation):
            return self.plain(thing.as_quat(canonical=True))
        if isinstance(thing, Mapping):
            return self._table(thing)
        if isinstance(thing, (set, frozenset)):
            return sorted(json.dumps(self.plain(v), sort_keys=True) for v in thing)
        if isinstance(thing, Sequence):
            return [self.plain(v) for v in thing]
        if isinstance(thing, Path):
            return [thing.name, self._content(found)] if (found := self._file(str(thing))) else thing.name
        return self._object(thing, title)

    def _table(self, table: Mapping[Any, Any]) -> dict[str, Any]:
        return {str(k): self.plain(v, str(k)) for k, v in table.items()}

    def _named(self, named: NamedController) -> Any:
        self._folders.append(Path(named.folder or "."))
        try:
            if named.use.startswith(PREFIX):  # its folder may be another tomorrow
                self._missed.append(f"what {named.use} reads beside its own file")
                return [named.use, self.plain(named.arguments), named.digest()]
            return [named.use, self.plain(named.arguments), self.plain(named.load())]
        finally:
            self._folders.pop()

    def _class(self, kind: type) -> Any:
        """A class by its files, code and attributes, those of the user's own classes that it is below included."""
        title = f"{kind.__module__}:{kind.__qualname__}"
        if not _is_own(kind.__module__):
            return title
        own = [c for c in kind.__mro__ if _is_own(c.__module__)]
        found = [{k: self.plain(v, k) for k, v in _of_class(c)} for c in own]
        return [kind.__qualname__, self.source(sys.modules.get(kind.__module__)), found]

    def _function(self, thing: FunctionType) -> Any:
        """A function by its code, its defaults, what it encloses, and the names of its module that it uses."""
        if not _is_own(thing.__module__ or ""):
            return f"{thing.__module__}:{thing.__qualname__}"
        codes = list(_codes(thing.__code__))
        used = {name for code in codes for name in code.co_names if name in thing.__globals__}
        held = [self._cell(cell) for cell in thing.__closure__ or ()]
        beside = Path(thing.__code__.co_filename).parent
        files = [
            self._content(found)
            for code in codes
            for text in code.co_consts
            if isinstance(text, str) and (found := self._file(text, beside))
        ]
        reads = _READERS & {name for code in codes for name in code.co_names}
        if reads and not files:
            self._reads.append(f"files that {thing.__qualname__} reads ({', '.join(sorted(reads))})")
        return {
            "name": thing.__qualname__,
            "source": self.source(sys.modules.get(thing.__module__ or "")),
            "code": [self._code(code) for code in codes],
            "defaults": [self.plain(thing.__defaults__), self.plain(thing.__kwdefaults__)],
            "encloses": held,
            "uses": {name: self.plain(thing.__globals__[name], name) for name in sorted(used)},
            "files": files,
        }

    def _cell(self, cell: Any) -> Any:
        try:
            return self.plain(cell.cell_contents)
        except ValueError:  # not filled yet
            return None

    def _code(self, code: CodeType) -> Any:
        fixed = [_fixed(c) for c in code.co_consts if not isinstance(c, CodeType)]
        return [hashlib.sha256(code.co_code).hexdigest()[:16], fixed, code.co_names, code.co_varnames]

    def _object(self, thing: Any, title: str) -> Any:
        slots = [s for kind in type(thing).__mro__ for s in _slots(kind)]
        fields = {s: getattr(thing, s) for s in slots if hasattr(thing, s)}
        fields |= _attributes(thing)
        kind = self.plain(type(thing))
        if fields:
            return {"": kind} | {k: self.plain(v, k) for k, v in fields.items() if k not in _HOW_IT_CAME_ABOUT}
        try:
            _, *state = thing.__reduce_ex__(4)
        except Exception:  # whatever an object says that cannot be taken apart
            self._miss(thing, title)
            return [kind]
        return [kind, *(self.plain(part if isinstance(part, (Sequence, Mapping)) else None) for part in state[:2])]

    def _miss(self, thing: Any, title: str) -> None:
        kind = type(thing)
        self._missed.append(f"{title + ', ' if title else ''}a {kind.__module__}.{kind.__qualname__}")

    def _file(self, text: str, *more: Path) -> Path | None:
        """The data file that a text names; None where it names none."""
        if not text or len(text) > 500 or not set("./\\") & set(text) or not text.isprintable():
            return None
        for folder in (*self._folders, *more):
            try:
                if (path := folder / text).is_file():
                    return path.resolve()
            except OSError:  # no name of a file here
                continue
        return None

    def _content(self, path: Path) -> str:
        """A digest of what is in a file."""
        if path not in self._files:
            try:
                if path.stat().st_size > _LARGEST:
                    raise OSError(f"more than {_LARGEST >> 30} GB")
                with path.open("rb") as file:
                    self._files[path] = hashlib.file_digest(file, "sha256").hexdigest()[:16]
            except OSError as error:
                self._missed.append(f"{path.name} ({error})")
                self._files[path] = "unread"
        return self._files[path]

    def source(self, module: ModuleType | None) -> list[list[str]]:
        """Names and digests of the file of a module and of all files of the user's that it draws on; none of libraries.

        A version stands for what comes with Python, with an installed library, or with Veldrain itself.
        """
        files: dict[Path, str] = {}
        self._collect(module, files)
        return sorted([path.name, content] for path, content in files.items())

    def _collect(self, module: ModuleType | None, files: dict[Path, str]) -> None:
        path = _own_file(module)
        if module is None or path is None or path in files:
            return
        try:
            files[path] = hashlib.sha256(path.read_bytes()).hexdigest()[:16]
        except OSError:
            files[path] = ""
        for value in list(vars(module).values()):
            used = value if isinstance(value, ModuleType) else sys.modules.get(getattr(value, "__module__", None) or "")
            if isinstance(used, ModuleType) and used is not module:
                self._collect(used, files)


def _attributes(thing: Any) -> dict[str, Any]:
    """What an object keeps but for what it has only worked out from the rest."""
    cached = {
        name
        for kind in type(thing).__mro__
        for name, v in vars(kind).items()
        if isinstance(v, functools.cached_property)
    }
    return {name: value for name, value in getattr(thing, "__dict__", {}).items() if name not in cached}


def _of_class(kind: type) -> Iterator[tuple[str, Any]]:
    """What a class says itself, what Python adds left out."""
    for name, value in vars(kind).items():
        if name in _OF_A_CLASS or (inspect.isdatadescriptor(value) and not isinstance(value, property)):
            continue
        if isinstance(value, property):
            yield name, [part for part in (value.fget, value.fset) if part]
        elif isinstance(value, (staticmethod, classmethod)):
            yield name, value.__func__
        else:
            yield name, value


def _codes(code: CodeType) -> Iterator[CodeType]:
    """A function's code and that of the functions in it."""
    yield code
    for inner in code.co_consts:
        if isinstance(inner, CodeType):
            yield from _codes(inner)


def _fixed(value: Any) -> str:
    """A constant of a function; a set has no order that two processes share."""
    return str(sorted(map(repr, value))) if isinstance(value, frozenset) else repr(value)


def _slots(kind: type) -> Sequence[str]:
    told = vars(kind).get("__slots__", ())
    return [s for s in ((told,) if isinstance(told, str) else told) if s not in ("__dict__", "__weakref__")]


def _hashed(values: np.ndarray) -> Any:
    if values.dtype.hasobject:
        return [repr(x) for x in values.ravel().tolist()]
    return [values.shape, values.dtype.str, hashlib.sha256(np.ascontiguousarray(values).tobytes()).hexdigest()]


@functools.cache
def _is_own(module: str) -> bool:
    """True for a module of the user's own, also one without a file: a notebook, or what is typed."""
    found = sys.modules.get(module)
    if found is None or module.partition(".")[0] in ("veldrain", "builtins"):
        return found is None and module.partition(".")[0] not in ("veldrain", "builtins")
    if not getattr(found, "__file__", None):
        return module == "__main__" or getattr(found, "__spec__", None) is None
    return _own_file(found) is not None


def own_modules() -> list[ModuleType]:
    """The modules that are the user's own: what is only on this machine."""
    return [module for module in list(sys.modules.values()) if _own_file(module) is not None]


def _own_file(module: ModuleType | None) -> Path | None:
    """The source file of a module that is the user's own."""
    found = getattr(module, "__file__", None)
    if module is None or not found or module.__name__.partition(".")[0] == "veldrain":
        return None
    path = Path(found).resolve()
    is_library = any(folder in path.parents for folder in _LIBRARIES) or "site-packages" in path.parts
    return None if is_library or path.suffix != ".py" else path
