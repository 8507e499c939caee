"""How the expectations of a trial stand: decided or not yet, and by how much."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from veldrain.errors import told_at
from veldrain.scenario.conditions import Watching
from veldrain.scenario.scenario import Expectation


@dataclass
class Verdict:
    """How an expectation stands: decided at a time, or not yet; and by how much it held or failed at its nearest."""

    expectation: Expectation
    look_on: Watching
    passed: bool | None = None
    time: float | None = None
    margin: float | None = None
    nearest: float | None = None

    def __post_init__(self) -> None:
        condition = self.expectation.condition
        with told_at(self.expectation.name):
            self._holds, self._margin = condition.bind(self.look_on), condition.margin(self.look_on)

    def look(self, now: float) -> None:
        """Judge what can be judged at a time."""
        e, events = self.expectation, self.look_on.events
        if e.at_the_end is not None or (e.since is not None and e.since not in events):
            return
        is_over = e.until is not None and e.until in events and events[e.until] >= events.get(e.since or "", 0.0)
        if self.passed is not None:
            if not (self.passed or is_over or e.eventually is not None):
                self._measure(now)  # by how much it fails at worst
            return
        if is_over:
            self.passed, self.time = e.eventually is None, now
            return
        self._measure(now)
        holds = self._holds()
        if e.eventually is not None:
            late = e.within is not None and now > e.within + 1e-12
            if holds or late:
                self.passed, self.time = holds and not late, now
        elif holds == (e.never is not None):
            self.passed, self.time = False, now

    def _measure(self, now: float) -> None:
        """Keep the margin if this is the nearest that it has come, to failing or, of what is to happen, to holding."""
        if self._margin is None:
            return
        margin = self._margin() * (-1.0 if self.expectation.never is not None else 1.0)
        seeks = self.expectation.eventually is not None or self.expectation.at_the_end is not None
        if math.isfinite(margin) and (self.margin is None or (margin > self.margin if seeks else margin < self.margin)):
            self.margin, self.nearest = margin, now

    def summary(self, whole: bool) -> dict[str, Any]:
        """The verdict; None where the trial was not whole, or its time never came, and nothing was decided."""
        e, passed = self.expectation, self.passed
        if e.at_the_end is not None and whole and passed is None:
            self.margin = None
            self._measure(self.look_on.simulation.time)
            self.passed, self.time = passed, _ = self._holds(), self.look_on.simulation.time
        elif passed is None and whole and (e.since is None or e.since in self.look_on.events):
            passed = e.eventually is None
        found: dict[str, Any] = {"passed": passed, "time": self.time}
        if e.eventually is not None and passed:  # it held by a hair, as it began to: what counts is when
            spare = {} if e.within is None or self.time is None else {"margin": e.within - self.time, "unit": "s"}
            return found | spare | ({"nearest": self.time} if spare else {})
        if self.margin is not None:
            found |= {"margin": self.margin, "nearest": self.nearest, "unit": e.condition.unit()}
        return found
