"""How kernels are compiled, and where the compiled code is kept between runs.

Compiled code goes to the user's cache folder, under a digest of all kernel sources: Numba by itself notices
a change only in the file of the function called from Python, not in the files of the kernels that it calls.
The folder can be deleted at any time; the next run compiles again.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import numba
import platformdirs

njit: Any = numba.njit  # its own types leave out the options for what is not called from outside
F = TypeVar("F", bound=Callable[..., Any])

# Kernels divide without a check and may fuse a multiplication with an addition; nothing else of IEEE 754
# is given up, since a value that is not finite must be seen. They allocate nothing, so that views of arrays need no
# reference counts: without those a step takes a third of the time.
_OPTIONS: dict[str, Any] = {"error_model": "numpy", "fastmath": {"contract", "reassoc"}, "nogil": True, "_nrt": False}


@cache
def cache_folder() -> Path:
    """Where the compiled kernels of this installation are kept, by Numba version and kernel sources."""
    package = Path(__file__).resolve().parent.parent
    digest = hashlib.sha256(f"{numba.__version__} {package}".encode())
    for source in sorted([*package.glob("physics/*.py"), *package.glob("sensing/*.py")]):
        content = source.read_bytes()
        if b"physics.kernel import" in content:
            # Numba itself goes by a file's place and time, so these count as well as what is in it.
            digest.update(f"{source.stat().st_mtime_ns}".encode() + content)
    return Path(platformdirs.user_cache_dir("veldrain")) / "kernels" / digest.hexdigest()[:16]


def is_compiled(name: str = "") -> bool:
    """True where an earlier run has left compiled kernels (of a module and function, such as ``painting.paint``)."""
    return any(cache_folder().rglob(f"{name}*.nbi"))


def kernel(function: F) -> F:
    """A function compiled on first use, to be called from other kernels only.

    It goes without the wrappers that Python and C would call, which take a third of the time to compile.
    """
    return njit(no_cpython_wrapper=True, no_cfunc_wrapper=True, **_OPTIONS)(function)


def inlined(function: F) -> F:
    """A kernel that becomes part of each that calls it, whatever its size: a view's arrays are many to hand on."""
    return njit(no_cpython_wrapper=True, no_cfunc_wrapper=True, forceinline=True, **_OPTIONS)(function)


def entry(function: F, has_vectors: bool = False) -> F:
    """A kernel that Python calls: its compiled code is kept between runs.

    Most have nothing for LLVM's vectorisers, which take a third of the time to compile to find that out.
    """
    with _settings(CACHE_DIR=str(cache_folder())):  # read when the cache of this one function is set up
        dispatcher: Any = njit(cache=True, no_cfunc_wrapper=True, **_OPTIONS)(function)
    if has_vectors:
        return dispatcher
    compile_it = dispatcher.compile

    def compile_without_vectors(signature: Any) -> Any:
        with _settings(LOOP_VECTORIZE=0, SLP_VECTORIZE=0):
            return compile_it(signature)

    dispatcher.compile = compile_without_vectors
    return dispatcher


def vector_entry(function: Any) -> Any:
    """The same for a kernel that gains by several numbers in one instruction."""
    return entry(function, has_vectors=True)


@contextmanager
def _settings(**wanted: Any) -> Iterator[None]:
    """Other settings of Numba for a while."""
    config: Any = numba.config
    before = {name: getattr(config, name) for name in wanted}
    try:
        for name, value in wanted.items():
            setattr(config, name, value)
        yield
    finally:
        for name, value in before.items():
            setattr(config, name, value)
