"""Actions on joints and on what is there: a joint is locked or goes free, a thing is taken away."""

from __future__ import annotations

from collections.abc import Callable

from veldrain.errors import told_at
from veldrain.scenario.actions import Action, Trial
from veldrain.sheet import Maybe, Number, Text
from veldrain.simulation import engine_of
from veldrain.units import Quantity


class Lock(Action):
    """Lock a joint where it is, as a jammed gear does; of locks that overlap, it goes on to the end of the last.

    >>> str(Lock("arm/elbow", lasting="2 s"))
    'lock arm/elbow for 2 s'
    """

    joint: Text = Text(kw_only=False, doc="its name path, ``robot/joint``")
    lasting: Maybe[Quantity, float] = Maybe(Number("time", above=0.0), default=None, doc="how long; None: to the end")

    def bind(self, trial: Trial) -> Callable[[], None]:
        joints = engine_of(trial.simulation).holds
        joints.check(self.joint)
        with told_at(f"lock {self.joint}"):
            return trial.held_for(
                self.lasting, f"lock {self.joint}", lambda: joints.lock(self.joint), lambda: joints.unlock(self.joint)
            )

    def __str__(self) -> str:
        return f"lock {self.joint}" + ("" if self.lasting is None else f" for {self.lasting:g} s")


class Free(Action):
    """Let a joint go free: its motor is dead, as without current; when it wakes, it does as it was told last.

    >>> str(Free("arm/elbow"))
    'arm/elbow goes free'
    """

    joint: Text = Text(kw_only=False, doc="its name path, ``robot/joint``")
    lasting: Maybe[Quantity, float] = Maybe(Number("time", above=0.0), default=None, doc="how long; None: to the end")

    def bind(self, trial: Trial) -> Callable[[], None]:
        joints = engine_of(trial.simulation).holds
        joints.check(self.joint, motor=True)
        with told_at(f"free {self.joint}"):
            return trial.held_for(
                self.lasting, f"free {self.joint}", lambda: joints.free(self.joint), lambda: joints.wake(self.joint)
            )

    def __str__(self) -> str:
        return f"{self.joint} goes free" + ("" if self.lasting is None else f" for {self.lasting:g} s")


class Remove(Action):
    """Take a free robot or body away: it waits 1 km below the origin, at rest, until it is put somewhere again.

    >>> str(Remove("crate"))
    'remove crate'
    """

    thing: Text = Text(kw_only=False, doc="name of the robot or body")

    def bind(self, trial: Trial) -> Callable[[], None]:
        holds = engine_of(trial.simulation).holds
        holds.check_free(self.thing)
        return lambda: holds.remove(self.thing)

    def __str__(self) -> str:
        return f"remove {self.thing}"
