"""A study on its way to another process: its classes may be of a notebook or a main script, its files not be there."""

from __future__ import annotations

import hashlib
import pickle
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError
from veldrain.resolver import load_source, loaded_files
from veldrain.study.sources import own_modules

Packed = tuple[str, bytes]
_read: dict[str, Any] = {}  # the study that was read last in this process, by name


def packed(study: Any, far: bool = False) -> Packed:
    """A name for a study, and its bytes; ``far``: with the user's own modules, which are not where it goes.

    Raises:
        VeldrainError: something in it cannot travel; says what.
    """
    import cloudpickle  # classes and functions of a main module travel by value

    mine = [m for m in own_modules() if m.__name__ != "__main__"] if far else []
    try:
        for module in mine:
            cloudpickle.register_pickle_by_value(module)
        inner = cloudpickle.dumps(study)
    except (pickle.PicklingError, TypeError, AttributeError, VeldrainError) as error:
        raise VeldrainError(
            f"cannot be sent to a worker ({error})", where="study", cure="run it with workers=1, or keep that out of it"
        ) from error
    finally:
        for module in mine:
            cloudpickle.unregister_pickle_by_value(module)
    texts = [(str(path), path.read_text(encoding="utf-8")) for path in loaded_files() if path.is_file()]
    data = pickle.dumps((texts, inner))
    return hashlib.sha256(data).hexdigest(), data


def unpacked(packed: Packed) -> Any:
    """The study, read once in a process."""
    name, data = packed
    if name not in _read:
        texts, inner = pickle.loads(data)
        for path, text in texts:  # classes of a user's file are found by the name that it has as a module
            load_source(Path(path), text)
        _read.clear()
        _read[name] = pickle.loads(inner)
    return _read[name]


@contextmanager
def main_left_alone() -> Iterator[None]:
    """Processes that start in here do not run the main script again: it may have no guard."""
    main = sys.modules.get("__main__")
    kept: dict[str, Any] = {name: vars(main)[name] for name in ("__file__", "__spec__") if main and name in vars(main)}
    try:
        if main is not None:
            with suppress(AttributeError):
                del main.__file__
            main.__spec__ = None
        yield
    finally:
        if main is not None:
            vars(main).update(kept)
