"""How kernels are compiled, and where the compiled code is kept between runs.

Compiled code goes to the user's cache folder, under a digest of all kernel sources: Numba by itself notices
a change only in the file of the function called from Python, not in the files of the kernels that it calls.
The folder can be deleted at any time; the next run compiles again.

A wheel can bring compiled code along, made for the common processors of its platform (``scripts/wheel``). It is used
where Numba, Python and the processor fit, and anything else is compiled as without it.
"""

from __future__ import annotations

import atexit
import hashlib
import importlib
import logging
import os
import pickle
import platform
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import llvmlite.binding as llvm
import numba
import platformdirs
from numba.core.caching import CompileResultCacheImpl, FunctionCache, IndexDataCacheFile
from numba.core.codegen import CPUCodeLibrary
from numba.core.compiler_lock import global_compiler_lock
from numba.core.cpu import CPUContext

log = logging.getLogger(__name__)
DIGEST = hashlib.sha256().digest_size
njit: Any = numba.njit  # its own types leave out the options for what is not called from outside
F = TypeVar("F", bound=Callable[..., Any])

# Kernels divide without a check and may fuse a multiplication with an addition; nothing else of IEEE 754
# is given up, since a value that is not finite must be seen. They allocate nothing, so that views of arrays need no
# reference counts: without those a step takes a third of the time.
_OPTIONS: dict[str, Any] = {"error_model": "numpy", "fastmath": {"contract", "reassoc"}, "nogil": True, "_nrt": False}


# What is compiled anew together; kernels of different rooms never call each other.
ROOMS = {"engine": ("physics", "sensing"), "motion": ("motion",), "maps": ("recording",)}


SHIPS = "VELDRAIN_SHIPS_KERNELS"  # environment of a process that makes a wheel's kernels

# The common processors that a wheel's kernels are for, and the features that x86-64-v3 asks for
# (System V Application Binary Interface, AMD64 supplement, section 3.1.1).
COMMON = {"x86_64": "x86-64-v3", "amd64": "x86-64-v3", "aarch64": "generic", "arm64": "generic"}
_ASKED = {"x86-64-v3": {"avx", "avx2", "bmi", "bmi2", "f16c", "fma", "lzcnt", "movbe", "xsave", "popcnt", "sse4.2"}}


def _sources(room: str) -> list[Path]:
    package = Path(__file__).resolve().parent
    found = sorted(path for folder in ROOMS[room] for path in package.glob(f"{folder}/*.py"))
    return [path for path in found if b"veldrain.kernel import" in path.read_bytes()]


@cache
def cache_folder(room: str) -> Path:
    """Where the compiled kernels of this installation are kept, by Numba version and the sources of a room."""
    digest = hashlib.sha256(f"4 {numba.__version__} {Path(__file__).resolve().parent}".encode())
    for source in _sources(room):  # Numba itself goes by a file's place and time, so these count as well
        digest.update(f"{source.stat().st_mtime_ns}".encode() + source.read_bytes())
    wanted = kernels_folder() / digest.hexdigest()[:16]
    try:
        wanted.mkdir(parents=True, exist_ok=True)
        tempfile.TemporaryFile(dir=wanted).close()
    except OSError as error:
        # Numba by itself would write into the installed package.
        other = Path(tempfile.mkdtemp(prefix="veldrain-kernels-"))
        atexit.register(shutil.rmtree, other, ignore_errors=True)
        _tell_unkept(str(error.strerror))
        return other
    return wanted


@cache
def _tell_unkept(why: str) -> None:
    log.warning("compiled code cannot be kept in %s (%s): it is compiled anew each time", kernels_folder(), why)


def kernels_folder() -> Path:
    """Where the compiled kernels of all installations are kept."""
    return Path(platformdirs.user_cache_dir("veldrain")) / "kernels"


@cache
def shipped_folder(room: str = "engine") -> Path:
    """Where a wheel's compiled kernels are, by all that they depend on but the place of the installation."""
    digest = hashlib.sha256(f"4 {numba.__version__} {sys.version_info[:2]} {common_processor()}".encode())
    for source in _sources(room):
        digest.update(source.read_bytes())
    return Path(__file__).resolve().parent / "kernels" / digest.hexdigest()[:16]


@cache
def common_processor() -> str:
    """The common processor that this machine's can do all of; "" for one that cannot, or that is of another kind."""
    common = COMMON.get(platform.machine().lower(), "")
    able = {name for name, is_there in llvm.get_host_cpu_features().items() if is_there}
    return common if _ASKED.get(common, set()) <= able else ""


def is_compiled(name: str = "") -> bool:
    """True where kernels are there (of a module and function, such as ``painting.paint``), from an earlier run or
    the wheel."""
    folders = [place(room) for room in ROOMS for place in (cache_folder, shipped_folder)]
    return any(any(folder.rglob(f"{name}*.nbc")) for folder in folders)


def kept_kernels(room: str) -> int:
    """How many kernels of a room are compiled and kept, by this process or another."""
    return sum(1 for _ in cache_folder(room).rglob("*.nbc"))


class _Whole(IndexDataCacheFile):
    """Files of compiled code with a digest at their ends: what was cut or spoilt is compiled anew, not run."""

    def _dump(self, value: Any) -> bytes:
        data: bytes = super()._dump(value)
        return data + hashlib.sha256(data).digest()

    def _load_index(self) -> dict[Any, str]:
        try:
            with Path(self._index_path).open("rb") as file:
                version, data = pickle.load(file), file.read()
        except FileNotFoundError:
            return {}
        except (EOFError, pickle.UnpicklingError, ValueError, LookupError):
            version, data = self._version, b""
        if version != self._version:
            return {}
        if not self._is_whole(data, self._index_name):
            return {}
        stamp, found = pickle.loads(data)
        return found if stamp == self._source_stamp else {}

    def _load_data(self, name: str) -> Any:
        data = Path(self._data_path(name)).read_bytes()
        if not self._is_whole(data, name):
            raise OSError("spoilt")  # Numba then compiles it
        return pickle.loads(data)

    def _is_whole(self, data: bytes, name: str) -> bool:
        is_it = _has_digest(data)
        if not is_it:
            _tell_spoilt(self._cache_path)
        return is_it


def _has_digest(data: bytes) -> bool:
    return len(data) > DIGEST and hashlib.sha256(data[:-DIGEST]).digest() == data[-DIGEST:]


@cache
def _tell_spoilt(folder: str) -> None:
    log.warning("compiled code in %s is cut or spoilt: it is compiled anew", folder)


def kept_files() -> tuple[int, int, int]:
    """How many files of compiled code are kept that are whole, how many that are spoilt, and their bytes."""
    files = [path for room in ROOMS for path in cache_folder(room).rglob("*.nb[ic]")]
    held = [path.read_bytes() for path in files]
    whole = sum(map(_has_digest, held))
    return whole, len(held) - whole, sum(map(len, held))


# Whole kernels, by the names of their machine code: module, name and types.
_offered: dict[str, tuple[str, str, Any]] = {}


class _Alone(CompileResultCacheImpl):
    """Keeps machine code, and which whole kernels it calls: those are loaded before it.

    Of code to be linked, a third of the loading, there is none: Numba only asks which names are there, of functions
    and of their surroundings.
    """

    def reduce(self, compiled: Any) -> Any:
        calls = {f.name: _offered[f.name] for f in compiled.library._final_module.functions if f.name in _offered}
        about = compiled.fndesc
        calls.pop(about.llvm_func_name, None)
        (name, kind, (machine_code, _)), *others = super().reduce(compiled)
        names = {
            about.llvm_func_name,
            about.llvm_cpython_wrapper_name,
            about.env_name,
            *(e.env_name for e in others[-1]),
        }
        known = llvm.parse_assembly("\n".join(f'@"{known}" = global i64 0' for known in sorted(names)))
        return calls, ((name, kind, (machine_code, known.as_bitcode())), *others)

    def rebuild(self, context: Any, kept: Any) -> Any:
        calls, compiled = kept
        for name, (module, function, types) in calls.items():
            getattr(importlib.import_module(module), function).compile(types)
            if name not in _offered:  # it was compiled anew, under another name
                return None
        return super().rebuild(context, compiled)


class KernelCache(FunctionCache):
    """Compiled code of one function: out of the wheel, else out of the user's folder.

    Args:
        function: the kernel.
        room: its room.
        is_linked: it becomes part of the kernels that call it.
    """

    def __init__(self, function: Callable[..., Any], room: str, is_linked: bool) -> None:
        self._impl_class = CompileResultCacheImpl if is_linked else _Alone
        with _settings(CACHE_DIR=str(cache_folder(room))):
            super().__init__(function)
        self._room = room
        self._cache_file = _Whole(self._cache_path, self._impl.filename_base, self._impl.locator.get_source_stamp())
        self._shipped = _Whole(str(shipped_folder(room)), self._impl.filename_base, "")

    def load_overload(self, signature: Any, context: Any) -> Any:
        """As Numba's own, which first gets all ready for compiling: half a second that kept code has no need of."""
        with self._guard_against_spurious_io_errors():
            return self._load_overload(signature, context)
        return None

    def _common_key(self, signature: Any, codegen: Any) -> Any:
        """As Numba's own key, for a common processor in the place of this one."""
        signature, (triple, *_), code = self._index_key(signature, codegen)
        return signature, (triple, common_processor()), code

    def _load_overload(self, signature: Any, context: Any) -> Any:
        found = self._shipped.load(self._common_key(signature, context.codegen()))
        return super()._load_overload(signature, context) if found is None else self._impl.rebuild(context, found)

    def _save_overload(self, signature: Any, compiled: Any) -> None:
        super()._save_overload(signature, compiled)
        if SHIPS in os.environ:  # of the whole process, told by NUMBA_CPU_NAME, it is for the common processor
            shipped_folder(self._room).mkdir(parents=True, exist_ok=True)
            self._shipped.save(self._common_key(signature, compiled.codegen), self._impl.reduce(compiled))


def kernel(function: F) -> F:
    """A function compiled on first use, to be called from other kernels only.

    It goes without the wrappers that Python and C would call, which take a third of the time to compile.
    """
    return _part(njit(no_cpython_wrapper=True, no_cfunc_wrapper=True, **_OPTIONS)(function))


def inlined(function: F) -> F:
    """A kernel that becomes part of each that calls it, whatever its size: a view's arrays are many to hand on."""
    return _part(njit(no_cpython_wrapper=True, no_cfunc_wrapper=True, forceinline=True, **_OPTIONS)(function))


def _part(dispatcher: Any) -> Any:
    """A kernel that stays as it is until what calls it is optimised, and made into machine code, as a whole.

    By itself Numba does both for each kernel together with all that it calls: for a small one, over and over.
    """
    compile_it = dispatcher.compile

    def compile_part(signature: Any) -> Any:
        with global_compiler_lock, _replaced(_PARTS):
            return compile_it(signature)

    dispatcher.compile = compile_part
    return dispatcher


def _close(library: Any) -> None:
    library._finalize_dynamic_globals()
    library._finalized = True


class Compiling:
    """Whether a kernel is compiled now, which must not be broken into, and how long all that took (s)."""

    depth = 0
    seconds = 0.0


@contextmanager
def _told_of() -> Iterator[None]:
    begun = time.monotonic()
    Compiling.depth += 1
    try:
        yield
    finally:
        Compiling.depth -= 1
        if Compiling.depth == 0:
            Compiling.seconds += time.monotonic() - begun


def _close_for_callers(context: Any, library: Any, description: Any, environment: Any) -> Any:
    library._ensure_finalized()
    return [].append  # some built-in function, another each time: Numba's key for what nobody calls from Python


_PARTS: list[tuple[Any, str, Any]] = [
    (CPUCodeLibrary, "_optimize_final_module", lambda library: None),
    (CPUCodeLibrary, "_finalize_final_module", _close),
    (CPUContext, "get_executable", _close_for_callers),
]
_optimize = CPUCodeLibrary._optimize_final_module


def _optimize_alone(library: Any) -> None:
    """Optimise what is compiled as a whole, and keep the kernels that became part of it to itself.

    Numba lets all code that is loaded share them by name, each optimised with its own surroundings: which one runs,
    and with it the last bit, would hang on what a process has compiled or loaded first.
    """
    _optimize(library)
    for function in library._final_module.functions:
        if not function.is_declaration and function.linkage == llvm.Linkage.linkonce_odr:
            function.linkage = "internal"


_WHOLES = [(owner, name, getattr(owner, name)) for owner, name, _ in _PARTS]
_WHOLES[0] = (CPUCodeLibrary, "_optimize_final_module", _optimize_alone)


def entry(function: F, has_vectors: bool = False, is_linked: bool = False, is_whole: bool = False, **options: Any) -> F:
    """A kernel that Python calls: its compiled code is kept between runs.

    Most have nothing for LLVM's vectorisers, which take a third of the time to compile to find that out.
    """
    folder = function.__module__.split(".")[1]
    room = next((room for room, folders in ROOMS.items() if folder in folders), "engine")
    dispatcher: Any = njit(no_cfunc_wrapper=True, **options, **_OPTIONS)(function)
    dispatcher._cache = KernelCache(function, room, is_linked)
    compile_it = dispatcher.compile

    def compile_whole(signature: Any) -> Any:
        other = elsewhere.get(dispatcher)
        while other is not None and other.poll() is None and not is_compiled(_place(function)):
            time.sleep(0.05)
        vectors = {} if has_vectors else {"LOOP_VECTORIZE": 0, "SLP_VECTORIZE": 0}
        with _told_of(), global_compiler_lock, _replaced(_WHOLES), _settings(**vectors):
            found = compile_it(signature)
        if is_whole:
            _offer(function, dispatcher)
        return found

    dispatcher.compile = compile_whole
    return dispatcher


def _offer(function: Callable[..., Any], dispatcher: Any) -> None:
    """Let other kernels call what was compiled as it is: linked into each of them, it would be optimised in each."""
    for compiled in dispatcher.overloads.values():
        _offered[compiled.fndesc.llvm_func_name] = function.__module__, function.__qualname__, compiled.signature.args
        compiled.library._get_module_for_linking = lambda: llvm.parse_assembly("")


class Direct:
    """An entry called again and again with the same first argument, whose types are looked at once.

    Numba looks at the types of all arrays in each call: of an engine's, that takes five times as long as the call. Rows
    and tuples of arrays never change their types, so that this is done anew only where another one comes.

    Args:
        dispatcher: the entry; its other arguments are numbers.
    """

    def __init__(self, dispatcher: Any) -> None:
        self._dispatcher, self._known = dispatcher, None
        self._call: Callable[..., Any] = dispatcher

    def __call__(self, first: Any, *numbers: float) -> Any:
        if first is self._known:
            return self._call(first, *numbers)
        found = self._dispatcher(first, *numbers)
        compiled = list(self._dispatcher.overloads.values())
        if len(compiled) == 1:
            self._known, self._call = first, compiled[0].entry_point
        return found


def shared(function: F) -> F:
    """A large kernel within entries, whose compiled code is kept as theirs: two entries, or processes, share it."""
    return entry(function, is_linked=True, no_cpython_wrapper=True)


def whole(function: F) -> F:
    """A kernel that others call as it is.

    It is optimised once and not in each of them; a call with a plant's arrays takes half a microsecond.
    """
    return entry(function, is_whole=True, no_cpython_wrapper=True)


# Shared kernels that another process compiles at the moment, and this one waits for.
elsewhere: dict[Any, subprocess.Popen[bytes]] = {}


def _place(function: Callable[..., Any]) -> str:
    return f"{function.__module__.rpartition('.')[2]}.{function.__qualname__}-"


def vector_entry(function: Any) -> Any:
    """The same for a kernel that gains by several numbers in one instruction."""
    return entry(function, has_vectors=True)


def _settings(**wanted: Any) -> AbstractContextManager[None]:
    """Other settings of Numba for a while."""
    return _replaced([(numba.config, name, value) for name, value in wanted.items()])


@contextmanager
def _replaced(wanted: list[tuple[Any, str, Any]]) -> Iterator[None]:
    """Other attributes for a while: rows of owner, name and value."""
    before = [(owner, name, getattr(owner, name)) for owner, name, _ in wanted]
    try:
        for owner, name, value in wanted:
            setattr(owner, name, value)
        yield
    finally:
        for owner, name, value in before:
            setattr(owner, name, value)
