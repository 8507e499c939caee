"""Xacro files, expanded by the xacro package with its reach kept to the robot file's folders."""

from __future__ import annotations

import ast
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from threading import Lock
from typing import Any

from veldrain.errors import VeldrainError
from veldrain.files import read_bytes
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
            parse_xml(read_bytes(Path(filename), "name a xacro file"), Path(filename))
        return parse(inp, filename)

    def full_name_checked(name: str) -> str:
        return str(folders.find(full_name(str(name)), str(xacro.filestack[-1])))

    def find_package(package: str) -> str:
        folder = folders.folder_of(package)
        if folder is None:
            raise VeldrainError(f"no package '{package}'", where="$(find)", cure="name its folder in search=")
        return str(folder)

    def eval_bounded(expression: str, *names: Any) -> Any:
        _see_bounds(expression)
        value = evaluate(expression, *names)
        if isinstance(value, (str, list, tuple, dict)) and len(value) > MOST_LONG:
            raise VeldrainError(f"an expression that gives {len(value)} characters or items", where=expression[:40])
        if isinstance(value, int) and abs(value) > 1 << 64:
            raise VeldrainError("an expression that gives a number of more than 64 bits", where=expression[:40])
        return value

    evaluate = xacro.safe_eval
    xacro.parse, xacro.abs_filename_spec, substitution_args._eval_find = parse_checked, full_name_checked, find_package
    xacro.safe_eval = eval_bounded
    try:
        yield
    finally:
        xacro.parse, xacro.abs_filename_spec, substitution_args._eval_find = parse, full_name, find
        xacro.safe_eval = evaluate


MOST_LONG = 100_000  # characters of an expression's result
_GROWS = (ast.Pow, ast.LShift)


def _see_bounds(expression: str) -> None:
    """Refuse an expression that could take for ever, or more memory than there is.

    Raises:
        VeldrainError: a power or shift by more than a small number, a text or list that is multiplied, a loop, a range.
    """
    try:
        tree = ast.parse(expression.strip(), mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return  # xacro says what is wrong with it
    for node in ast.walk(tree):
        if isinstance(node, ast.BinOp) and isinstance(node.op, _GROWS):
            by = node.right.value if isinstance(node.right, ast.Constant) else None
            if not (isinstance(by, (int, float)) and abs(by) <= 16):
                raise VeldrainError(f"a power by more than a small number: '{expression[:60]}'", where="xacro")
        if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mult):
            for side in (node.left, node.right):
                is_text = isinstance(side, ast.Constant) and isinstance(side.value, (str, bytes))
                if is_text or isinstance(side, (ast.List, ast.Tuple)):
                    raise VeldrainError(f"a text or list that is multiplied: '{expression[:60]}'", where="xacro")
        if isinstance(node, (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp, ast.Lambda)):
            raise VeldrainError(f"a loop in an expression: '{expression[:60]}'", where="xacro")
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("range", "pow"):
            raise VeldrainError(f"{node.func.id}() in an expression: '{expression[:60]}'", where="xacro")
