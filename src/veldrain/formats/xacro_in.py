"""Xacro files, expanded by the xacro package with its reach kept to the robot file's folders."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from threading import Lock
from typing import Any

from veldrain.errors import VeldrainError
from veldrain.files import read_bytes
from veldrain.formats.expressions import evaluate
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
        raise VeldrainError(
            "a xacro file needs the xacro package", where=str(file), cure="pip install 'veldrain[xacro]'"
        ) from error
    with _ONE_AT_A_TIME, _kept_in(xacro, folders, arguments):
        try:
            made = xacro.process_file(str(file), mappings={k: str(v) for k, v in arguments.items()})
            return bytes(made.toprettyxml(indent=" ", encoding="utf-8"))
        except VeldrainError:
            raise
        except Exception as error:  # xacro raises whatever the file's expressions do
            said = " ".join(re.sub(r"<class '[\w.]+'>: ", "", str(error)).split()) or type(error).__name__
            inside = " of ".join(str(f) for f in reversed(xacro.filestack or []) if f)
            raise VeldrainError(
                f"xacro: {said}", where=inside or str(file), cure="see its macros and arguments"
            ) from error


@contextmanager
def _kept_in(xacro: Any, folders: Folders, arguments: Mapping[str, str]) -> Iterator[None]:
    """Files that it includes are looked up and looked over as those of any robot file are; packages are ours.

    Its expressions are evaluated by ours, which know no Python, and the environment is not read.
    """
    from xacro import substitution_args

    parse, full_name = xacro.parse, xacro.abs_filename_spec

    def parse_checked(inp: Any, filename: str | None = None) -> Any:
        if inp is None and filename is not None:
            parse_xml(read_bytes(Path(filename), "name a xacro file"), Path(filename))
        return parse(inp, filename)

    def full_name_checked(name: str) -> str:
        return str(folders.find(full_name(str(name)), str(xacro.filestack[-1])))

    def find_package(package: str) -> str:
        folder = folders.folder_of(package)
        if folder is None:
            raise VeldrainError(f"no package '{package}'", where="$(find)", cure="name its folder in search=")
        return str(folder)

    own = xacro.create_global_symbols()["xacro"]

    def value_of(expression: str, names: Any) -> Any:
        told = {name: own[name] for name in ("arg", "load_yaml", "abs_filename", "dotify")}
        told |= dict.fromkeys(("message", "warning", "error", "print_location"), lambda *_, **__: "")
        return evaluate(expression, names, told | {"fatal": own["fatal"]})

    def substituted(expression: str, context: Mapping[str, Any]) -> str:
        given = {k: substitution_args.convert_value(v, "auto") for k, v in context.get("arg", {}).items()}
        functions: dict[str, Any] = {"arg": given.__getitem__, "find": find_package}
        return str(evaluate(expression, given, functions | {"dirname": lambda: str(folders.own)}))

    def from_arguments(resolved: str, told: str, words: Sequence[str], context: Any) -> str:
        """``env`` and ``optenv``: out of the arguments, never out of the environment."""
        command, (name, *default) = told.split()[0], words
        if name not in arguments and command == "env":
            raise VeldrainError(
                f"$(env {name}) would read the environment", where=str(xacro.filestack[-1]),
                cure=f"give it as an argument: {name}: …",
            )  # fmt: skip
        return resolved.replace(f"$({told})", str(arguments.get(name, " ".join(default))))

    changed = [
        (xacro, "parse", parse_checked), (xacro, "safe_eval", value_of),
        (xacro, "abs_filename_spec", full_name_checked),
        (substitution_args, "_eval_find", find_package), (substitution_args, "_eval", substituted),
        (substitution_args, "_env", from_arguments), (substitution_args, "_optenv", from_arguments),
    ]  # fmt: skip
    before = [(module, name, getattr(module, name)) for module, name, _ in changed]
    try:
        for module, name, act in changed:
            setattr(module, name, act)
        yield
    finally:
        for module, name, act in before:
            setattr(module, name, act)
