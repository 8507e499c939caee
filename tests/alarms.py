"""Healthy things, and faults planted in them: what the check finds, what it misses, and what it tells falsely.

``tests/healthy/*.yaml`` hold things by name: ``world``, ``scenario``, ``study`` as files hold them; ``may``: findings that
it may have, by rule, with the reason; ``faults``: by name, ``change`` (values by dotted path), and the ``rule`` that
finds it with words of its ``cure``. A name with a dot in front is there for others to refer to.
"""

from __future__ import annotations

import io
import shutil
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from ruamel.yaml import YAML

import veldrain as vd
from veldrain.review import RULES

HEALTHY = Path(__file__).parent / "healthy"
KINDS = ("world", "scenario", "study")


@dataclass(frozen=True, eq=False)
class Planted:
    """A fault: its name, what it changes, the thing with it, the rule that should find it, words of the right cure."""

    name: str
    change: Mapping[str, Any]
    words: Mapping[str, Any]
    rule: str
    cure: str


@dataclass(frozen=True)
class Thing:
    """A healthy thing, the rules that may find something in it, and the faults that can be planted in it."""

    name: str
    words: Mapping[str, Any]
    may: Mapping[str, str]
    planted: list[Planted] = field(default_factory=list)


@dataclass
class Shares:
    """The corpus, looked at: what is told of each healthy thing falsely, and the verdict on each planted fault."""

    false: dict[str, list[vd.Finding]] = field(default_factory=dict)
    verdicts: dict[str, str] = field(default_factory=dict)

    def count(self, verdict: str) -> int:
        """How many faults have a verdict."""
        return list(self.verdicts.values()).count(verdict)


def things() -> Iterator[Thing]:
    """All of the corpus."""
    for path in sorted(HEALTHY.glob("*.yaml")):
        for name, words in YAML(typ="safe").load(path.read_text(encoding="utf-8")).items():
            if name.startswith("."):
                continue
            own = {kind: words[kind] for kind in KINDS if kind in words}
            faults = words.get("faults", {}).items()
            planted = [
                Planted(f"{name}: {what}", f["change"], changed(own, f["change"]), f["rule"], f["cure"])
                for what, f in faults
            ]
            yield Thing(name, own, words.get("may", {}), planted)


def changed(words: Mapping[str, Any], changes: Mapping[str, Any]) -> dict[str, Any]:
    """Words with others in their place, each by its dotted path; a number is a place in a list."""
    made: Any = _apart(words)
    for path, value in changes.items():
        at: Any = made
        *way, last = path.split(".")
        for word in way:
            at = at[int(word)] if isinstance(at, list) else at.setdefault(word, {})
        if isinstance(at, list):
            at[int(last)] = value
        else:
            at[last] = value
    return dict(made)


def _apart(words: Any) -> Any:
    """A copy in which no two places are one object, as anchors make them."""
    if isinstance(words, Mapping):
        return {key: _apart(value) for key, value in words.items()}
    return [_apart(value) for value in words] if isinstance(words, list) else words


def written(words: Mapping[str, Any], folder: Path) -> Path:
    """The files of a thing; the last is that of the whole."""
    shutil.copy(HEALTHY / "controllers.py", folder)
    beside: dict[str, str] = {}
    path = folder
    for kind in KINDS:
        if kind in words:
            path = folder / f"thing.{kind}.yaml"
            text = io.StringIO()
            YAML(typ="safe").dump({"veldrain": f"{kind}/1"} | beside | _apart(words[kind]), text)
            path.write_text(text.getvalue(), encoding="utf-8")
            beside = {kind: path.name}
    return path


@cache
def found(fault: Planted) -> list[vd.Finding]:
    """What the rule that should find a fault tells of the thing with it."""
    return found_in(fault.words, fault.rule).of(fault.rule)


def found_in(words: Mapping[str, Any], rule: str = "") -> vd.Findings:
    """What the check finds in a thing; for a rule of worlds its world alone is looked at, with the scenario's step."""
    step = words.get("scenario", {}).get("step")
    with TemporaryDirectory() as folder:
        if rule in RULES:
            return vd.check(written({"world": words["world"]}, Path(folder)), step=step)
        return vd.check(written(words, Path(folder)))


def false_alarms(thing: Thing) -> list[vd.Finding]:
    """What the check tells of a healthy thing, and may not."""
    return [f for f in found_in(thing.words) if f.rule not in thing.may]


def verdict(fault: Planted) -> str:
    """``found`` with the right cure, ``wrong cure`` or ``missed``."""
    told = found(fault)
    if not told:
        return "missed"
    return "found" if any(fault.cure in f"{f.problem} {f.cure}" for f in told) else "wrong cure"


def shares() -> Shares:
    """The whole corpus, looked at."""
    made = Shares()
    for thing in things():
        made.false[thing.name] = false_alarms(thing)
        made.verdicts |= {fault.name: verdict(fault) for fault in thing.planted}
    return made
