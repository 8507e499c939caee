"""The one error that Veldrain raises for what its user can mend."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager


def printable(text: str) -> str:
    """A text in one line, with a mark for each character that cannot be seen: none reaches a terminal's controls.

    >>> printable("red \\x1b[31m or\\nnot")
    'red �[31m or not'
    """
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else "\N{REPLACEMENT CHARACTER}" for c in " ".join(text.split()))


class VeldrainError(Exception):
    """What is wrong, where, and what to do: one line, meant to be read by an engineer.

    Args:
        problem: what is wrong, in the user's own words and numbers.
        where: a file and line, or the name path of the thing.
        cure: what to do about it.

    >>> str(VeldrainError("mass is -3 kg", where="crawler/hull", cure="give a positive mass"))
    'crawler/hull: mass is -3 kg; give a positive mass'
    """

    def __init__(self, problem: str, *, where: str = "", cure: str = "") -> None:
        # One line each, whatever a library's own words are.
        problem, where, cure = map(printable, (problem, where, cure))
        self.problem, self.where, self.cure = problem, where, cure
        super().__init__(problem, where, cure)

    def __str__(self) -> str:
        start = f"{self.where}: " if self.where else ""
        end = f"; {self.cure}" if self.cure else ""
        return f"{start}{self.problem}{end}"

    def __reduce__(self) -> tuple[object, ...]:  # keyword arguments do not survive the default pickling
        return _rebuilt, (type(self), self.problem, self.where, self.cure)

    def at(self, where: str) -> VeldrainError:
        """The same error with a place put before the one it has."""
        return type(self)(self.problem, where=": ".join(p for p in (where, self.where) if p), cure=self.cure)


class CodeRefusedError(VeldrainError):
    """Code that a file names and that may not run here."""


def _rebuilt(kind: type[VeldrainError], problem: str, where: str, cure: str) -> VeldrainError:
    return kind(problem, where=where, cure=cure)


@contextmanager
def told_at(where: str) -> Iterator[None]:
    """Errors in here name the place they come from too, such as file and line; "" where there is none to name."""
    try:
        yield
    except VeldrainError as error:
        raise (error.at(where) if where else error) from error


def checked_title(name: object, what: str, is_file: bool = False) -> str:
    """A name that a person gave, if it is one.

    Args:
        name: the name.
        what: it is of, for the error.
        is_file: True where a file or folder is called so.

    Raises:
        VeldrainError: no text, empty, too long, with characters that cannot be seen, or not fit for a file.
    """
    cure = "give a short name of letters, digits, spaces, - and _"
    if not isinstance(name, str):
        raise VeldrainError(f"{name!r} is not a name", where=what, cure=cure)
    if not name.strip() or name != name.strip() or not name.isprintable() or len(name) > 120:
        raise VeldrainError(f"{name!r} is no good as a name", where=what, cure=cure)
    if is_file and (name.startswith(".") or name.endswith(".") or set(name) & set("/\\:")):
        raise VeldrainError(f"{name!r} is no good as a name: a folder is called so", where=what, cure=cure)
    return name


def unknown(what: str, word: object, known: Iterable[object], where: str = "") -> VeldrainError:
    """The error for a word that is not known, with the nearest one that is; in files, words may be numbers.

    >>> str(unknown("joint", "swnig", ["swing", "lift"]))
    "no joint 'swnig'; did you mean 'swing'? Known: lift, swing"
    """
    known = sorted(set(map(str, known)))
    near = difflib.get_close_matches(str(word), known, n=1, cutoff=0.5)
    hint = f"did you mean '{near[0]}'? " if near else ""
    listed = ", ".join(known[:12]) + (", …" if len(known) > 12 else "")
    return VeldrainError(f"no {what} '{word}'", where=where, cure=f"{hint}Known: {listed or 'none'}")
