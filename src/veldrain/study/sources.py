"""The source behind what a user wrote: a digest that changes with the file it is in, and with the files that uses."""

from __future__ import annotations

import hashlib
import sys
import sysconfig
from pathlib import Path
from types import ModuleType
from typing import Any

_LIBRARIES = tuple(Path(p).resolve() for p in {*sysconfig.get_paths().values(), sys.prefix, sys.base_prefix})


def source_of(kind: Any) -> str:
    """A digest of the file that a class or function is in and of all files of the user's that it draws on.

    "" for what comes with Python, with an installed library, or with Veldrain itself: its version stands for it.
    """
    module = sys.modules.get(getattr(kind, "__module__", "") or "")
    files: dict[str, bytes] = {}
    _collect(module, files)
    digest = hashlib.sha256()
    for name in sorted(files):
        digest.update(name.encode() + b"\\0" + files[name])
    return digest.hexdigest()[:16] if files else ""


def _collect(module: ModuleType | None, files: dict[str, bytes]) -> None:
    path = _own_file(module)
    if module is None or path is None or path.name in files:
        return
    try:
        files[path.name] = path.read_bytes()
    except OSError:
        files[path.name] = b""
    for value in list(vars(module).values()):
        used = value if isinstance(value, ModuleType) else sys.modules.get(getattr(value, "__module__", None) or "")
        if isinstance(used, ModuleType) and used is not module:
            _collect(used, files)


def _own_file(module: ModuleType | None) -> Path | None:
    """The source file of a module that is the user's own."""
    found = getattr(module, "__file__", None)
    if module is None or not found or module.__name__.partition(".")[0] == "veldrain":
        return None
    path = Path(found).resolve()
    is_library = any(folder in path.parents for folder in _LIBRARIES) or "site-packages" in path.parts
    return None if is_library or path.suffix != ".py" else path
