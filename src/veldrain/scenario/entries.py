"""What happens when in a scenario: an action, and its trigger."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from veldrain.scenario.actions import Action
from veldrain.scenario.conditions import Condition


@dataclass(frozen=True)
class After:
    """A time (s) after each time that an event happens: the name of an action, or its words."""

    event: str
    delay: float


@dataclass(frozen=True)
class Every:
    """Again and again, first after one period (s)."""

    period: float


Trigger = float | Condition | After | Every


@dataclass
class Entry:
    """What happens when: at a time in s, when a condition first holds, after an event, or again and again.

    ``where``: file and line; ``name``: of the event, "" for none of its own.
    """

    trigger: Trigger
    action: Action
    where: str = ""
    name: str = ""

    @property
    def title(self) -> str:
        """Its name, or that of its action; "" for none."""
        return self.name or str(self.action.values.get("name") or "")

    @property
    def names(self) -> list[str]:
        """What its event is called: its name, and its action's words."""
        return [*([self.title] if self.title else []), *self.action.words(), str(self.action)]

    def follows(self, events: Iterable[str]) -> bool:
        """True for what comes after one of these events."""
        return isinstance(self.trigger, After) and self.trigger.event in events
