"""How a controller was made: what tells it from another of its class, before it has done anything."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from typing import Any


def as_it_began(controller: Any) -> dict[str, Any]:
    """What tells a controller from another before its start: its class, and what of its attributes is plain."""
    found: dict[str, Any] = {"": f"{type(controller).__module__}:{type(controller).__qualname__}"}
    held = getattr(controller, "__dict__", {})
    return found | {name: copy.copy(value) for name, value in held.items() if _is_plain(value)}


def _is_plain(value: Any) -> bool:
    if isinstance(value, (list, tuple)):
        return all(map(_is_plain, value))
    return value is None or isinstance(value, (bool, int, float, str))


def differences_in(mine: Mapping[str, Any], theirs: Mapping[str, Any]) -> str:
    """How two controllers were made otherwise, in words; "" where they were not."""
    if mine.get("") != theirs.get(""):
        return f"{theirs.get('')} was recorded, {mine.get('')} goes on"
    both = [name for name in mine if name in theirs and _listed(mine[name]) != _listed(theirs[name])]
    return ", ".join(f"{name} {theirs[name]} was recorded, {mine[name]} goes on" for name in both)


def _listed(value: Any) -> Any:
    return [_listed(part) for part in value] if isinstance(value, (list, tuple)) else value
