"""``check --installation``: versions, kept code, locale and disk, and what to do where one of them is not well."""

from __future__ import annotations

import importlib.metadata
import locale
import platform
import shutil
import sys
import tempfile
from pathlib import Path

from veldrain.cli.output import grid, out, say

LEAST_FREE = 1e9  # bytes on a disk


def installation() -> bool:
    """Print how the installation is; False where something is to be done."""
    from veldrain.kernel import cache_folder, is_compiled, kept_files, kernels_folder

    folder = kernels_folder()
    whole, spoilt, size = kept_files()
    is_kept = cache_folder("engine").is_relative_to(folder)
    table = grid("what", "how it is", "what to do", left=3)
    bad = 0

    def row(what: str, how: str, cure: str = "") -> None:
        nonlocal bad
        bad += bool(cure)
        table.add_row(what, how, cure)

    versions = {name: importlib.metadata.version(name) for name in ("veldrain", "numba", "numpy", "scipy", "pandas")}
    row("versions", f"Python {platform.python_version()}, " + ", ".join(f"{k} {v}" for k, v in versions.items()))
    row("machine", f"{platform.system()} {platform.machine()}")
    how = "kept" if is_kept else "not kept: it is compiled anew each time"
    row("compiled code", how, "" if is_kept else f"make {folder} a folder that can be written, or set XDG_CACHE_HOME")
    row("  of this version", "compiled" if is_compiled() else "not compiled yet: the first run does it")
    row("  whole", f"{whole} files, {size / 1e6:.0f} MB", f"{spoilt} spoilt: delete {folder}" if spoilt else "")
    encoding = sys.stdout.encoding or ""
    well = encoding.lower().replace("-", "") == "utf8"
    cure = "set PYTHONUTF8=1 or a UTF-8 locale, such as LANG=C.UTF-8"
    row("terminal", f"{encoding}, locale {locale.setlocale(locale.LC_CTYPE)}", "" if well else cure)
    for name, place in (("disk here", Path.cwd()), ("disk of temporary files", Path(tempfile.gettempdir()))):
        free = shutil.disk_usage(place).free
        row(name, f"{free / 1e9:.1f} GB free in {place}", "make room" if free < LEAST_FREE else "")
    out.print(table)
    say("")
    say(f"{bad} things to do." if bad else "All is well.")
    return not bad
