"""A model while it is being described: its tables, its names, the mistakes of a draft. Pure data."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any, Literal, TypeVar

from veldrain.errors import VeldrainError
from veldrain.model.drawing import shown_in_notebook
from veldrain.model.pieces import (
    Defaults,
    Drag,
    Fault,
    Frame,
    Joint,
    Link,
    Loop,
    Motor,
    Mounted,
    Rotor,
    Spring,
    Suppressed,
)

_Named = TypeVar("_Named")


class Draft:
    """The tables of a model. Use it as ``Model``.

    Args:
        name: of the model, and of robots made from it where they are given none.
        draft: True keeps mistakes that can be read past in ``faults`` instead of raising them: for ``check``.
    """

    def __init__(self, name: str, draft: bool = False) -> None:
        self.name = checked_name(name, "model")
        self.draft = draft
        self.faults: list[Fault] = []
        self.notes: list[str] = []
        self.where: dict[str, str] = {}  # file and line by "link hull", "joint lift", …
        self.links: dict[str, Link] = {}
        self.joints: dict[str, Joint] = {}
        self.motors: dict[str, Motor] = {}
        self.loops: dict[str, Loop] = {}
        self.springs: dict[str, Spring] = {}
        self.rotors: dict[str, Rotor] = {}
        self.drags: dict[str, Drag] = {}
        self.apart: list[tuple[str, str]] = []
        self.frames: dict[str, Frame] = {}
        self.sensors: dict[str, Mounted] = {}
        self.postures: dict[str, dict[str, float]] = {}
        self.suppressed: list[Suppressed] = []
        self._defaults: list[Defaults] = []
        self._given: dict[str, set[str]] = {}  # what "joint lift" or "motor lift" were given themselves

    @contextmanager
    def _reading_past(self, rule: str, fix: Mapping[str, Any] | None = None, is_sure: bool = False) -> Iterator[None]:
        """In a draft, a mistake in here becomes a fault, and what was to be done is left undone."""
        try:
            yield
        except VeldrainError as error:
            if not self.draft:
                raise
            self.faults.append(Fault(rule, error, fix=fix or {}, is_sure=is_sure))

    def _default_values(self, name: str, kind: str, which: Literal["values", "motor"]) -> dict[str, Any]:
        fitting = [getattr(d, which) for d in self._defaults if d.fit(name, kind)]
        return {key: value for values in fitting for key, value in values.items()}

    def settle(self) -> None:
        """Raise the first mistake of a draft that is grave and was not changed away; the others become notes.

        Raises:
            VeldrainError: that mistake, with its line.
        """
        grave = [fault.error for fault in self.faults if fault.is_grave]
        if grave:
            line = self.line_of(grave[0].where)
            raise grave[0].at(line) if line else grave[0]
        self.notes += [str(fault.error) for fault in self.faults]
        self.faults, self.draft = [], False

    def line_of(self, path: str) -> str:
        """File and line of what a name path (``robot/link``) stands for, where a file was read; else nothing."""
        _, _, name = path.partition("/")
        kinds = ("link", "joint", "motor", "sensor", "frame")
        return next((self.where[f"{kind} {name}"] for kind in kinds if f"{kind} {name}" in self.where), "")

    def roots(self) -> list[str]:
        """Names of the links that no joint holds."""
        return [name for name in self.links if all(j.child != name for j in self.joints.values())]

    def root(self) -> str:
        """Name of the one link that no joint holds.

        Raises:
            VeldrainError: no link at all, or several roots.
        """
        roots = self.roots()
        if len(roots) != 1:
            raise VeldrainError(
                f"{len(roots)} links are held by no joint ({', '.join(roots) or 'there is no link'})",
                where=self.name,
                cure="a model has one root: join the others to it",
            )
        return roots[0]

    def ancestors(self, link: str) -> list[str]:
        """The links from this one up to the root, itself first."""
        holding = {j.child: j.parent for j in self.joints.values()}
        chain = [link]
        while chain[-1] in holding:
            chain.append(holding[chain[-1]])
        return chain

    def _add(self, table: dict[str, _Named], name: str, thing: _Named, what: str) -> None:
        checked_name(name, f"{self.name}: {what}")
        if name in table:
            raise VeldrainError(f"a second {what} '{name}'", where=self.name, cure="give it another name")
        table[name] = thing

    def _repr_png_(self) -> bytes:
        """How it looks, for notebooks."""
        return shown_in_notebook(self)

    def __repr__(self) -> str:
        def count(table: Mapping[str, Any], what: str) -> str:
            return f"{len(table)} {what}{'' if len(table) == 1 else 's'}"

        parts = (count(self.links, "link"), count(self.joints, "joint"), count(self.sensors, "sensor"))
        return f"Model('{self.name}': {', '.join(parts)})"


def checked_name(name: str, where: str) -> str:
    is_path = isinstance(name, str) and name.isprintable() and all(name.split("/")) and len(name) <= 200
    if not is_path or any(c.isspace() or c == "." for c in name):
        raise VeldrainError(f"{name!r} is not a name", where=where, cure="use letters, digits, _ and -")
    return name
