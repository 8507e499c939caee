"""Xacro files, expanded by the xacro package with its reach kept to the robot file's folders."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from threading import Lock
from typing import Any

from veldrain.errors import VeldrainError
from veldrain.formats.packages import Folders
from veldrain.xml import parse_xml

_ONE_AT_A_TIME = Lock()  # xacro keeps its state in its module


def expanded(file: Path, folders: Folders, arguments: Mapping[str, str]) -> bytes:
    """The URDF that a xacro file makes.

    Raises:
        VeldrainError: xacro is not installed, or what it says of the file.
    """
    try:
        import xacro
    except ImportError as error:
        raise VeldrainError("a xacro file needs the xacro package", where=str(file),
                            cure="pip install 'veldrain[xacro]'") from error  # fmt: skip
    with _ONE_AT_A_TIME, _kept_in(xacro, folders):
        try:
            made = xacro.process_file(str(file), mappings={k: str(v) for k, v in arguments.items()})
            return bytes(made.toprettyxml(indent=" ", encoding="utf-8"))
        except VeldrainError:
            raise
        except Exception as error:  # xacro raises whatever the file's expressions do
            said = " ".join(str(error).split()) or type(error).__name__
            inside = " of ".join(str(f) for f in reversed(xacro.filestack or []) if f)
            raise VeldrainError(
                f"xacro: {said}", where=inside or str(file), cure="see its macros and arguments"
            ) from error


@contextmanager
def _kept_in(xacro: Any, folders: Folders) -> Iterator[None]:
    """Files that it includes are looked up and looked over as those of any robot file are; packages are ours."""
    from xacro import substitution_args

    parse, full_name, find = xacro.parse, xacro.abs_filename_spec, substitution_args._eval_find

    def parse_checked(inp: Any, filename: str | None = None) -> Any:
        if inp is None and filename is not None:
            parse_xml(Path(filename).read_bytes(), Path(filename))
        return parse(inp, filename)

    def full_name_checked(name: str) -> str:
        return str(folders.find(full_name(str(name)), str(xacro.filestack[-1])))

    def find_package(package: str) -> str:
        folder = folders.folder_of(package)
        if folder is None:
            raise VeldrainError(f"no package '{package}'", where="$(find)", cure="name its folder in search=")
        return str(folder)

    xacro.parse, xacro.abs_filename_spec, substitution_args._eval_find = parse_checked, full_name_checked, find_package
    try:
        yield
    finally:
        xacro.parse, xacro.abs_filename_spec, substitution_args._eval_find = parse, full_name, find
