"""Which recordings of a study are kept. One that is not is made again from its row, to the same bytes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError, unknown

Policy = str | Sequence[Any]
WORDS = ("all", "failed", "none")


@dataclass(frozen=True)
class Keeping:
    """A policy: ``all``, ``failed``, ``none``, ``("worst", metric, count)`` or ``("first", count)`` trials.

    >>> Keeping.of(("worst", "gap", 10)).count
    10
    """

    word: str
    metric: str = ""
    count: int = 0

    @classmethod
    def of(cls, policy: Policy | Keeping) -> Keeping:
        """A policy from its words.

        Raises:
            VeldrainError: it is none.
        """
        if isinstance(policy, Keeping):
            return policy
        words: list[Any] = [policy] if isinstance(policy, str) else list(policy)
        if len(words) == 1 and words[0] in WORDS:
            return cls(words[0])
        if words[:1] == ["worst"] and len(words) == 3 and isinstance(words[1], str) and _is_count(words[2]):
            return cls("worst", words[1], words[2])
        if words[:1] == ["first"] and len(words) == 2 and _is_count(words[1]):
            return cls("first", count=words[1])
        if isinstance(policy, str) and policy not in WORDS:
            raise unknown("way to keep recordings", policy, WORDS, "keep")
        raise VeldrainError(
            f"{policy!r} keeps nothing",
            where="keep",
            cure='give all, failed, none, ("worst", metric, 10) or ("first", 10)',
        )

    def record(self, path: Path, number: int) -> Path | None:
        """Where a trial is recorded while it runs; None: it is not."""
        return path if self.word == "all" or (self.word == "first" and number < self.count) else None

    def record_failed(self, path: Path) -> Path | None:
        """Where a trial that does not pass is recorded; None: it is not."""
        return path if self.word == "failed" else None


def _is_count(value: Any) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and value > 0


def path_of(folder: Path, controller: str, number: int) -> Path:
    """Where the recording of a trial is, or would be."""
    return folder / "trials" / controller / f"{number:03d}.mcap"
