"""What the check says: findings, and the list of them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from veldrain.errors import VeldrainError

Severity = Literal["error", "warning", "note"]
SEVERITIES = ("error", "warning", "note")


@dataclass(frozen=True)
class Finding:
    """One thing the check says.

    Attributes:
        rule: which rule found it.
        severity: ``error``: it will not do what is meant; ``warning``: probably wrong; ``note``: worth knowing.
        path: name path of the thing.
        problem: what is wrong, in numbers.
        cure: what to do.
        line: file and line of the thing, where a file was read.
        numbers: the figures of the problem, by name with unit.
        fix: words of a world file that mend it, where the check is sure.
    """

    rule: str
    severity: Severity
    path: str
    problem: str
    cure: str
    line: str = ""
    numbers: Mapping[str, float] = field(default_factory=dict)
    fix: Mapping[str, Any] = field(default_factory=dict)

    def __str__(self) -> str:
        place = ": ".join(p for p in (self.line, self.path) if p)
        return f"{place}: {self.problem} [{self.rule}]; {self.cure}"


@dataclass(frozen=True)
class Silenced:
    """A finding that was accepted, with the reason."""

    finding: Finding
    because: str


class Findings(Sequence[Finding]):
    """All that the check says of a thing, the grave first.

    >>> from veldrain.model import World
    >>> from veldrain.review import check
    >>> check(World().ground()).errors
    []
    """

    def __init__(self, found: Sequence[Finding], silenced: Sequence[Silenced] = ()) -> None:
        self._found = sorted(found, key=lambda f: (SEVERITIES.index(f.severity), f.path, f.rule))
        self.silenced = list(silenced)

    @property
    def errors(self) -> list[Finding]:
        """Those of severity ``error``."""
        return [f for f in self._found if f.severity == "error"]

    def of(self, rule: str) -> list[Finding]:
        """Those of one rule."""
        return [f for f in self._found if f.rule == rule]

    def as_data(self) -> dict[str, Any]:
        """Everything as plain data, as ``--json`` prints it."""
        return {
            "findings": [asdict(f) for f in self._found],
            "silenced": [{"because": s.because, **asdict(s.finding)} for s in self.silenced],
            "errors": len(self.errors),
        }

    def __getitem__(self, k: Any) -> Any:
        return self._found[k]

    def __len__(self) -> int:
        return len(self._found)

    def __iter__(self) -> Iterator[Finding]:
        return iter(self._found)

    def __repr__(self) -> str:
        counts = [sum(f.severity == s for f in self._found) for s in SEVERITIES]
        return f"Findings({', '.join(f'{n} {s}s' for n, s in zip(counts, SEVERITIES, strict=True))})"


def mistake(rule: str, error: VeldrainError, line: str = "") -> Finding:
    """An error as a finding, at the file and line that it names, or at another."""
    place, _, rest = error.where.partition(": ")
    is_file = ".yaml:" in place or ".yml:" in place
    return Finding(
        rule,
        "error",
        rest if is_file else error.where,
        error.problem,
        error.cure or "mend it",
        line or (place if is_file else ""),
    )
