"""What makes a row of a study: digests by which an old one is told from a new one."""

from __future__ import annotations

from typing import Any

from veldrain.study.contracts import Study
from veldrain.study.sources import digest, plain
from veldrain.study.store import Key


def made_of(study: Study, about: dict[str, Any], key: Key) -> dict[str, str]:
    """The digests of all that makes a row."""
    prints = about["fingerprints"]
    common = {word: prints[word] for word in ("version", "world", "scenario")}
    values = digest([plain(study.draw(key[1])), study.seed_of(key[1])])
    return common | {"controller": about["sources"][key[0]], "values": values}
