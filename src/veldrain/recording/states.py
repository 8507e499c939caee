"""States as bytes: data alone, so that reading one runs nobody's code.

What is written: numbers, texts, rows, tables, arrays, random streams, and objects of this library by their class and
attributes. What a program of its own makes (a function, an open file, an object of a class from elsewhere) is refused
by name. Reading makes rows, data sheets and objects of the packages in ``PLACES`` alone, calls none of their functions
but a sheet's own checks, and takes no more memory than ``MOST``.
"""

from __future__ import annotations

import importlib
import io
import json
import math
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.sheet import Sheet

OURS = "veldrain."
PLACES = ("scenario", "control", "motion", "sensing", "physics", "model", "sampling", "simulation", "pose", "sheet")
NEVER = ("veldrain.control.program",)  # starts what its attributes name
MOST = 1 << 27  # bytes of a state


def to_bytes(state: Any, known: Mapping[int, str] | None = None) -> bytes:
    """A state as bytes; ``known``: names of objects, by their id, that the reader has itself.

    Raises:
        VeldrainError: something in it cannot be written; says where it is.
    """
    writer = _Writer(known or {})
    tree = writer.told(state, "state")
    held = io.BytesIO()
    np.savez(held, *writer.arrays)
    return zlib.compress(json.dumps(tree).encode() + b"\0" + held.getvalue(), 1)


def from_bytes(data: bytes, known: Mapping[str, Any] | None = None) -> Any:
    """The state that bytes hold; ``known``: the objects that the writer left to the reader, by name.

    Raises:
        VeldrainError: they hold no state.
    """
    try:
        unpacking = zlib.decompressobj()
        whole = unpacking.decompress(data, MOST + 1)
        if len(whole) > MOST:
            raise ValueError(f"more than {MOST >> 20} MB")
        head, _, rest = whole.partition(b"\0")
        return _Reader(known or {}, list(_arrays(rest))).made(json.loads(head))
    except _WRONG as error:
        said = "nested too deeply" if isinstance(error, RecursionError) else f"{type(error).__name__}: {error}"
        raise VeldrainError(f"no state ({said})", where="states", cure="record it anew with this version") from error


_WRONG = (
    ValueError, LookupError, TypeError, AttributeError, ImportError, ArithmeticError, RecursionError, MemoryError,
    zlib.error, OSError, zipfile.BadZipFile, NotImplementedError,
)  # fmt: skip


def _arrays(data: bytes) -> Iterator[np.ndarray]:
    """The arrays of a state, none larger than the bytes that it has."""
    with zipfile.ZipFile(io.BytesIO(data)) as held:
        for k in range(len(held.namelist())):
            place = held.getinfo(f"arr_{k}.npy")
            if place.file_size > len(data):  # they are stored as they are
                raise ValueError(f"an array that unpacks to {place.file_size} bytes")
            content = io.BytesIO(held.read(place))
            if np.lib.format.read_magic(content) != (1, 0):
                raise ValueError("an array of another version")
            shape, _, kind = np.lib.format.read_array_header_1_0(content)
            if math.prod(shape) * kind.itemsize > place.file_size:
                raise ValueError(f"an array of {shape} in {place.file_size} bytes")
            content.seek(0)
            yield np.lib.format.read_array(content, allow_pickle=False)


class _Writer:
    """Turns a state into what JSON has words for, and arrays; what is shared is written once."""

    def __init__(self, known: Mapping[int, str]) -> None:
        self.known, self.arrays = known, list[Any]()
        self._seen: dict[int, int] = {}
        self._alive: list[Any] = []  # so that no id is used twice

    def told(self, value: Any, where: str) -> Any:
        """What is written of a value."""
        if id(value) in self.known:
            return {"known": self.known[id(value)]}
        if id(value) in self._seen:
            return {"again": self._seen[id(value)]}
        if isinstance(value, np.ndarray | np.random.Generator) or (_is_ours(type(value)) and not _is_plain(value)):
            self._seen[id(value)] = len(self._alive)
            self._alive.append(value)
        return self._anew(value, where)

    def _anew(self, value: Any, where: str) -> Any:
        from scipy.interpolate import PPoly
        from scipy.spatial.transform import Rotation

        def inner(part: Any, name: object) -> Any:
            return self.told(part, f"{where}/{name}")

        if value is None or isinstance(value, bool | str) or type(value) in (int, float):
            return value
        if isinstance(value, np.ndarray | np.generic):
            if value.dtype.hasobject:
                raise VeldrainError("an array of objects", where=where, cure="keep numbers or texts")
            self.arrays.append(np.asarray(value))
            return {"array": len(self.arrays) - 1, "scalar": isinstance(value, np.generic)}
        if isinstance(value, np.random.Generator):
            return {"random": inner(value.bit_generator.state, "random")}
        if isinstance(value, bytes):
            return {"bytes": value.hex()}
        if isinstance(value, tuple) and hasattr(value, "_fields") and _is_ours(type(value)):
            return {"row": _name(type(value)), "of": [inner(v, k) for k, v in enumerate(value)]}
        for kind, word in ((tuple, "tuple"), (list, "list"), (set, "set"), (frozenset, "frozenset")):
            if type(value) is kind:
                parts = sorted(value) if word.endswith("set") else value
                return {word: [inner(v, k) for k, v in enumerate(parts)]}
        if isinstance(value, Mapping) and not _is_ours(type(value)):
            return {"table": [[inner(k, "key"), inner(v, k)] for k, v in value.items()]}
        if isinstance(value, Sheet) and _is_plain(value):
            return {"sheet": _name(type(value)), "of": inner(dict(value.given), "given")}
        if isinstance(value, Rotation):
            return {"rotation": inner(value.as_quat(), "quaternion")}
        if isinstance(value, PPoly):
            return {"polynomial": [inner(value.c, "c"), inner(value.x, "x")]}
        if _is_ours(type(value)):
            return {"object": _name(type(value)), "of": inner(_attributes(value), type(value).__name__)}
        raise VeldrainError(
            f"{type(value).__name__} of {type(value).__module__} cannot be written",
            where=where,
            cure="keep numbers, texts, rows, tables, arrays and random streams as attributes",
        )


def _attributes(thing: Any) -> dict[str, Any]:
    """All that an object keeps, in slots too."""
    slots = [s for kind in type(thing).__mro__ for s in getattr(kind, "__slots__", ()) if s != "__dict__"]
    return {name: getattr(thing, name) for name in slots if hasattr(thing, name)} | dict(getattr(thing, "__dict__", {}))


def _is_plain(value: Any) -> bool:
    """True for a row, and for a data sheet that keeps nothing beside its fields: they are never changed."""
    if isinstance(value, tuple):
        return True
    return isinstance(value, Sheet) and _is_ours(type(value)) and not vars(value).keys() - {*value.fields(), "_given"}


def _is_ours(kind: type) -> bool:
    return kind.__module__.startswith(OURS) and "<locals>" not in kind.__qualname__


def _name(kind: type) -> str:
    return f"{kind.__module__}:{kind.__qualname__}"


def _class(name: str) -> Any:
    module, _, path = str(name).partition(":")
    if not module.startswith(OURS):
        raise ValueError(f"a class of '{module}'")
    if module.split(".")[1] not in PLACES or module in NEVER:
        raise ValueError(f"'{name}' is no class of ours that states keep")
    kind: Any = importlib.import_module(module)
    for part in path.split("."):
        kind = getattr(kind, part)
    if not isinstance(kind, type) or kind.__module__ != module:
        raise ValueError(f"'{name}' is no class of ours")
    return kind


class _Reader:
    """Makes a state from what was written; objects come in the order in which they were numbered."""

    def __init__(self, known: Mapping[str, Any], arrays: list[Any]) -> None:
        self.known, self.arrays, self._seen = known, arrays, list[Any]()

    def made(self, tree: Any) -> Any:
        """The value that was written."""
        from scipy.interpolate import PPoly
        from scipy.spatial.transform import Rotation

        if not isinstance(tree, dict):
            return tree
        inner = self.made
        word = next(iter(tree))
        told = tree[word]
        if word == "known":
            return self.known[told]
        if word == "again":
            return self._seen[told]
        if word == "array":
            found = self.arrays[told]
            if tree["scalar"]:
                return found[()]
            self._seen.append(found)
            return found
        if word == "random":
            random = np.random.default_rng(0)
            self._seen.append(random)
            random.bit_generator.state = inner(told)
            return random
        if word == "rotation":
            return Rotation(inner(told), normalize=False)  # to the last digit
        if word == "polynomial":
            return PPoly(*(inner(part) for part in told))
        if word == "bytes":
            return bytes.fromhex(told)
        if word in ("tuple", "list", "set", "frozenset"):
            kind = {"tuple": tuple, "list": list, "set": set, "frozenset": frozenset}[word]
            return kind(inner(part) for part in told)
        if word == "table":
            return {inner(key): inner(value) for key, value in told}
        kind = _class(told)
        if word == "row" and issubclass(kind, tuple) and hasattr(kind, "_fields"):
            return kind._make(inner(part) for part in tree["of"])
        if word == "sheet" and issubclass(kind, Sheet):
            return kind(**inner(tree["of"]))
        if word != "object":
            raise ValueError(f"'{told}' is no {word}")
        made = object.__new__(kind)
        self._seen.append(made)
        of = inner(tree["of"])
        held = getattr(made, "__dict__", None)
        for name, value in of.items():
            if held is None:
                object.__setattr__(made, name, value)  # a slot
            else:
                held[name] = value
        return made
