"""What a rule is, and the list of all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from veldrain.review.finding import Finding, Severity
from veldrain.review.look import Look, RobotLook

Found = Iterator[Finding]


@dataclass(frozen=True)
class Rule:
    """One rule: its name, its severity, what it looks at, and the function that looks."""

    name: str
    severity: Severity
    family: str
    act: Callable[..., Found]
    each_robot: bool
    needs_world: bool
    drawn: bool

    @property
    def statement(self) -> str:
        """What the rule says, in one line."""
        return (self.act.__doc__ or "").strip().splitlines()[0]

    @property
    def reason(self) -> str:
        """Why it matters."""
        return "\n".join(line.strip() for line in (self.act.__doc__ or "").strip().splitlines()[2:])

    def apply(self, look: Look) -> Found:
        """All that it finds."""
        if self.needs_world and look.is_bare:
            return
        if self.each_robot:
            for robot in look.robots:
                yield from self.act(robot)
        else:
            yield from self.act(look)


RULES: dict[str, Rule] = {}
# Rules that the readers of files and the models themselves keep: a mistake of theirs is a fault of a draft.
FAULTS = {
    "no-mass": "A mass is above zero.",
    "impossible-inertia": "Principal moments are positive, and none is above the sum of the other two.",
    "limits": "Limits have the lower first, and are given to joints that can have them.",
    "axis": "An axis has a direction.",
    "axis-length": "An axis is a unit vector.",
    "mimic": "A joint that follows another names one that has a single coordinate.",
    "tree": "Joints name links that there are, every link is held once, and no ring is closed by joints.",
    "start-outside-limits": "A joint starts within its limits.",
    "not-on-a-link": "Sensors and frames are on a link that there is.",
    "one-name": "No two sensors have one name.",
    "gains": "A motor that is told positions or velocities has gains.",
    "motor-on-fixed": "A motor is on a joint that moves.",
    "file": "The file can be read.",
}


def rule(
    name: str, severity: Severity, family: str, *, world: bool = False, drawn: bool = False
) -> Callable[[Callable[..., Found]], Any]:
    """Register a function as a rule; its first argument's name says what it looks at: ``robot`` or ``look``.

    ``drawn``: it is of plain numbers, cheap to look at anew for what a study draws.
    """

    def register(act: Callable[..., Found]) -> Callable[..., Found]:
        each_robot = act.__code__.co_varnames[0] == "robot"
        RULES[name] = Rule(name, severity, family, act, each_robot, world, drawn)
        return act

    return register


def found(
    rule: str,
    robot: RobotLook | Look,
    name: str,
    problem: str,
    cure: str,
    *,
    kind: str = "link",
    severity: Severity | None = None,
    numbers: dict[str, float] | None = None,
    fix: dict[str, Any] | None = None,
) -> Finding:
    """A finding about a part of a robot (``kind``: link, joint, motor, sensor) or about a thing of a world."""
    if isinstance(robot, RobotLook):
        path, line = robot.path(name) if name else robot.name, robot.lines(kind, name)
    else:
        path, line = name, robot.line_of(name)
    grave = severity or (RULES[rule].severity if rule in RULES else "error")
    return Finding(rule, grave, path, problem, cure, line, numbers or {}, fix or {})
