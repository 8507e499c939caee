"""A trial that somebody drives while it runs: wishes come in from outside, and all that is done is written down.

What is done is done by actions of a timeline, each at a whole step, so that the scenario with that timeline repeats the
drive to the same bytes. Nothing here knows of browsers: ``serving`` brings wishes from one, the command line from keys.
"""

from __future__ import annotations

import queue
import time
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from veldrain.control import ByHand, Drive
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Message
from veldrain.pose import Array
from veldrain.recording import Sink
from veldrain.recording.batches import Sample
from veldrain.scenario import Fail, Finish, Push, Say, Scenario, Tell, Trial, Weather
from veldrain.scenario.actions import Action

PERIOD = 0.04  # s of the clock between two updates
MOST_BEHIND = 0.5  # s that a slow machine tries to catch up with

Wish = Callable[["Driven"], None]


class Latest(Sink):
    """Keeps the last message of each stream."""

    wants_files = False

    def __init__(self) -> None:
        self._told: dict[str, tuple[int, Message] | Sample] = {}

    def write(self, stream: str, stamp: int, message: Message, latched: bool = False) -> None:
        self._told[stream] = stamp, message

    def take(self, sample: Sample) -> None:
        self._told.update(dict.fromkeys(sample.source.streams, sample))  # a message once somebody asks for it

    def streams(self) -> list[str]:
        """Names of those that have said something."""
        return sorted(self._told)

    def message(self, stream: str) -> tuple[int, Message] | None:
        """Stamp and message; None where none came yet."""
        told = self._told.get(stream)
        if not isinstance(told, Sample):
            return told
        return (told.stamp, told.messages[stream]) if stream in told.messages else None


class Cockpit:
    """Where wishes arrive, and what is seen of the trial.

    Args:
        scenario: what is driven; it is not changed.
        robot: name of the robot; None: the only one with motors.
        speed: simulated seconds in a second of the clock.

    Raises:
        VeldrainError: no such robot, or none that has motors.
    """

    def __init__(self, scenario: Scenario, robot: str | None = None, speed: float = 1.0) -> None:
        movable = [name for name, placed in scenario.world.placed.items() if placed.model.motors and not placed.is_led]
        if robot is None and len(movable) != 1:
            raise VeldrainError(
                f"it is not said which of {', '.join(movable) or 'no robots with motors'} is driven",
                where="drive",
                cure="name it with --robot" if movable else "give a robot a motor",
            )
        self.robot = robot or movable[0]
        if self.robot not in movable:
            raise unknown("robot with motors", self.robot, movable, "drive")
        self.scenario = scenario
        self.speed, self.is_paused, self.wants_again = speed, False, False
        self.latest = Latest()
        self.wishes: queue.SimpleQueue[Wish] = queue.SimpleQueue()
        self.pushed = self.stops = 0  # how often it was
        self.problems: list[str] = []
        self.postures: dict[str, dict[str, float]] = {}
        self.marks: list[tuple[float, str]] = []
        self.now: tuple[float, Array, Array] | None = None  # time, positions (n, 3), quaternions (n, 4) of all frames
        self.trial: Driven | None = None

    def begin(self, scenario: Scenario, seed: int, **words: Any) -> Driven:
        """The trial; for ``scenario.carrying``."""
        self.marks, self.pushed = [], 0
        self.trial = Driven(self, scenario, seed, words.pop("sinks", ()), **words)
        return self.trial

    def wish(self, act: Wish) -> None:
        """Let something be done between two steps, in the thread of the trial."""
        self.wishes.put(act)

    def do(self, action: Action) -> None:
        """Let an action be done at the next step."""
        self.wish(lambda trial: trial.acted(action))

    def tell(self, inputs: Mapping[str, float]) -> None:
        """Set inputs of the robot's controller; those that stay the same are not told again."""

        def act(trial: Driven) -> None:
            changed = {name: value for name, value in inputs.items() if trial.told.get(name) != value}
            if changed:
                trial.acted(Tell(trial.driver_name, changed))
                trial.told |= changed

        self.wish(act)

    def stop(self, why: str) -> None:
        """Let nothing be told any more: all motions to 0. Motors that hold a position keep it."""

        def act(trial: Driven) -> None:
            if any(trial.told.get(name) for name in trial.motions):
                trial.acted(Say(why))
                zeros = {name: 0.0 for name in trial.motions if trial.told.get(name)}
                trial.acted(Tell(trial.driver_name, zeros))
                trial.told |= zeros
                self.stops += 1

        self.wish(act)

    def end(self, again: bool = False) -> None:
        """End the trial; ``again``: and begin another."""
        self.wants_again = again
        self.do(Finish("set back" if again else "ended by hand"))
        self.is_paused = False

    def push(self, link: str, force: list[float], at: list[float]) -> None:
        """Push a link at a point of its frame for a fifth of a second."""
        self.pushed += 1
        self.do(Push(link, force=tuple(force), at=tuple(at), lasting=0.2, name=f"by hand {self.pushed}"))

    def mark(self, text: str) -> None:
        """Note a moment."""
        self.do(Say(text))

    def keep_posture(self, name: str) -> None:
        """Keep where the robot's joints are, under a name."""

        def act(trial: Driven) -> None:
            joints = trial.simulation[self.robot]
            at = zip(joints.joints, joints.positions.tolist(), strict=True)
            self.postures[name] = {joint: round(value, 4) for joint, value in at}
            trial.acted(Say(f"posture {name}"))

        self.wish(act)

    def fail(self, stream: str, kind: str) -> None:
        """Let a sensor fail from now on."""
        self.do(Fail(stream, kind))

    def weather(self, words: Mapping[str, str]) -> None:
        """Turn the weather."""
        self.do(Weather(**words))


class Driven(Trial):
    """A trial that runs by the clock, and takes the wishes of a cockpit on its way."""

    def __init__(self, cockpit: Cockpit, scenario: Scenario, seed: int, sinks: Any, **words: Any) -> None:
        super().__init__(scenario, seed, sinks=[*sinks, cockpit.latest], **words)
        self.cockpit = cockpit
        driver = next(d for d in self.drivers if d.robot == cockpit.robot and d.inputs.kinds)
        self.driver_name = f"{driver.robot}/{driver.name}" if driver.name else driver.robot
        goes_sideways = not isinstance(drive := driver.controller, Drive) or any(drive.wheels(sideways=1.0).values())
        self.kinds = {n: kind for n, kind in driver.inputs.kinds.items() if goes_sideways or n != "sideways"}
        speeds = ("speed", "angular speed", "force", "torque")
        self.motions = [name for name, kind in self.kinds.items() if kind in speeds]
        # By hand motors hold where they are: from the first word on each is told something.
        joints = self.simulation[cockpit.robot]
        by_hand = isinstance(driver.controller, ByHand)
        places = dict(zip(joints.joints, joints.positions.tolist(), strict=True)) if by_hand else {}
        self.told: dict[str, float] = {
            name: round(places.get(name, 0.0), 6) if kind in ("angle", "length") else 0.0
            for name, kind in self.kinds.items()
        }
        if any(self.told.values()):
            self.do(Tell(self.driver_name, dict(self.told)))

    def acted(self, action: Action) -> None:
        """Do an action; what is wrong with it is told, and the trial goes on."""
        try:
            self.cockpit.marks.append((self.do(action), str(action)))
        except VeldrainError as error:
            self.cockpit.problems.append(str(error))

    def run(self) -> dict[str, Any]:
        """Go on by the clock until somebody ends it, or its time is up."""
        cockpit, sim = self.cockpit, self.simulation
        self._go(sim.steps)
        self.show()
        due = time.monotonic()
        while self.reason is None and sim.steps < self.end:
            while not cockpit.wishes.empty():
                cockpit.wishes.get()(self)
            due += PERIOD
            if not cockpit.is_paused:
                chunk = max(1, round(PERIOD * cockpit.speed / sim.step))
                self.advance(min(chunk, self.end - sim.steps) * sim.step)
                self.show()
            wait = due - time.monotonic()
            if wait > 0:
                time.sleep(wait)
            elif -wait > MOST_BEHIND:
                due = time.monotonic()
        return super().run()

    def show(self) -> None:
        """Leave where everything is now to who watches."""
        at, turns = self.simulation.frames.positions_and_quaternions()
        self.cockpit.now = self.simulation.time, np.asarray(at), np.asarray(turns)
