"""Healthy things, and faults planted in them: what the check finds, what it misses, and what it tells falsely.

``tests/healthy/*.yaml`` hold things by name: ``world``, ``scenario``, ``study`` as files hold them; ``may``: findings that
it may have, by rule, with the reason; ``faults``: by name, ``change`` (values by dotted path), and the ``rule`` that
finds it with words of its ``cure``. A name with a dot in front is there for others to refer to.
"""

from __future__ import annotations

import copy
import io
import shutil
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from ruamel.yaml import YAML

import veldrain as vd

HEALTHY = Path(__file__).parent / "healthy"
KINDS = ("world", "scenario", "study")


@dataclass(frozen=True)
class Planted:
    """A fault: its name, the thing with it, the rule that should find it, and words of the right cure."""

    name: str
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
class Share:
    """What was found in how many: things told falsely, faults found with the right cure, with another, and missed."""

    healthy: int = 0
    false: dict[str, list[vd.Finding]] = field(default_factory=dict)
    counts: Counter[str] = field(default_factory=Counter)
    missed: list[str] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)


def things() -> Iterator[Thing]:
    """All of the corpus."""
    for path in sorted(HEALTHY.glob("*.yaml")):
        for name, words in YAML(typ="safe").load(path.read_text(encoding="utf-8")).items():
            if name.startswith("."):
                continue
            own = {kind: words[kind] for kind in KINDS if kind in words}
            faults = words.get("faults", {}).items()
            planted = [Planted(f"{name}: {what}", changed(own, f["change"]), f["rule"], f["cure"]) for what, f in faults]
            yield Thing(name, own, words.get("may", {}), planted)


def changed(words: Mapping[str, Any], changes: Mapping[str, Any]) -> dict[str, Any]:
    """Words with others in their place, each by its dotted path; a number is a place in a list."""
    made: Any = copy.deepcopy(words, {})
    made = _apart(made)
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


def found_in(words: Mapping[str, Any]) -> vd.Findings:
    """What the check finds in a thing."""
    with TemporaryDirectory() as folder:
        return vd.check(written(words, Path(folder)))


def false_alarms(thing: Thing) -> list[vd.Finding]:
    """What the check tells of a healthy thing, and may not."""
    return [f for f in found_in(thing.words) if f.rule not in thing.may]


def verdict(fault: Planted) -> str:
    """``found``, ``wrong cure`` or ``missed``."""
    found = found_in(fault.words).of(fault.rule)
    if not found:
        return "missed"
    return "found" if any(fault.cure in f.cure or fault.cure in f.problem for f in found) else "wrong cure"


def shares() -> Share:
    """The whole corpus, looked at."""
    share = Share()
    for thing in things():
        share.healthy += 1
        if alarms := false_alarms(thing):
            share.false[thing.name] = alarms
        for fault in thing.planted:
            said = verdict(fault)
            share.counts[said] += 1
            if said != "found":
                (share.missed if said == "missed" else share.wrong).append(fault.name)
    return share
