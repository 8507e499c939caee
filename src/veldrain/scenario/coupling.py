"""Things that are attached and released in mid-trial: the actions, the condition and the measure."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.pose import Pose, as_pose
from veldrain.scenario.actions import Action, Trial
from veldrain.scenario.conditions import Condition, Measure, Watching
from veldrain.sheet import Made, Maybe, Number, Text
from veldrain.simulation import Simulation, engine_of


class Attach(Action):
    """Attach a link, frame, body or robot to another, or to an obstacle: from then on they move as one.

    What they do at that moment meets as in a collision without a bounce. Their shapes pass each other for as long.

    >>> str(Attach("crate", to="arm/tool", most_force="80 N"))
    'attach crate to arm/tool, up to 80 N'
    """

    thing: Text = Text(kw_only=False, doc="its name path; it moves")
    to: Text = Text(kw_only=False, doc="name path of what it is attached to")
    pose: Maybe[Any, Pose] = Maybe(
        Made(as_pose), default=None, doc="of the thing in the frame of ``to``: it is drawn there; None: as it is then"
    )
    most_force: Number = Number("force", default=math.inf, above=0.0, doc="beyond which it breaks")
    most_torque: Number = Number("torque", default=math.inf, above=0.0, doc="beyond which it breaks")

    def bind(self, trial: Trial) -> Callable[[], None]:
        couplings = engine_of(trial.simulation).couplings
        couplings.prepare(self.thing, self.to)

        def act() -> None:
            try:
                couplings.attach(self.thing, self.to, self.pose, self.most_force, self.most_torque)
            except VeldrainError as error:  # as things lie by then it cannot be; the trial goes on without
                trial.publisher.event(f"not attached: {error.problem}")
                trial.simulation.notice(f"attach {self.thing}", str(error))

        return act

    def __str__(self) -> str:
        ends = [f"{self.most_force:g} N"] if self.most_force < math.inf else []
        ends += [f"{self.most_torque:g} N·m"] if self.most_torque < math.inf else []
        return f"attach {self.thing} to {self.to}" + (f", up to {' and '.join(ends)}" if ends else "")


class Release(Action):
    """Release a thing from another, or from all that it is attached to; nothing happens where it is not attached.

    >>> str(Release("crate"))
    'release crate'
    """

    thing: Text = Text(kw_only=False, doc="its name path; a robot's name stands for all of its links")
    of: Maybe[str, str] = Maybe(Text(), default=None, doc="name path of what it is attached to; None: all")

    def bind(self, trial: Trial) -> Callable[[], None]:
        engine = engine_of(trial.simulation)
        for path in (self.thing, *([self.of] if self.of else [])):
            engine.place_of(path)

        def act() -> None:
            engine.couplings.release(self.thing, self.of)

        return act

    def __str__(self) -> str:
        return f"release {self.thing}" + (f" from {self.of}" if self.of else "")


@dataclass(frozen=True)
class Attached(Condition, word="attached"):
    """A thing is attached to another, by an action or by a controller.

    >>> attached("crate", "arm/tool")
    Attached(a='crate', b='arm/tool')
    """

    a: str
    b: str

    def bind(self, look: Watching) -> Callable[[], bool]:
        engine = engine_of(look.simulation)
        engine.place_of(self.a), engine.place_of(self.b)
        return lambda: engine.couplings.is_attached(self.a, self.b)


@dataclass(frozen=True)
class AttachedForce(Measure, word="attached_force"):
    """The force between two that are attached, N; 0 where they are not.

    >>> (attached_force("crate", "arm/tool") > 50).unit()
    'N'
    """

    a: str
    b: str
    quantity: ClassVar[str] = "force"
    span: ClassVar[tuple[float, float]] = (0.0, math.inf)

    def bind(self, simulation: Simulation) -> Callable[[], float]:
        engine = engine_of(simulation)
        engine.place_of(self.a), engine.place_of(self.b)
        return lambda: sum(float(np.linalg.norm(one.force)) for one in engine.couplings.now(self.a, self.b))


def attached(a: str, b: str) -> Attached:
    """Holds while a thing is attached to another; a robot's name stands for all of its links.

    >>> attached("crate", "arm/tool")
    Attached(a='crate', b='arm/tool')
    """
    return Attached(a, b)


def attached_force(a: str, b: str) -> AttachedForce:
    """The force (N) between two that are attached; 0 where they are not.

    >>> attached_force("crate", "arm/tool") < "50 N"
    Compared(measure=AttachedForce(a='crate', b='arm/tool'), below=True, bound=50.0)
    """
    return AttachedForce(a, b)
