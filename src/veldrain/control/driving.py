"""Controllers at work in a trial: their ticks, inputs, senses, motors, own streams and commands."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from veldrain import randomness
from veldrain.control.contract import Body, Controller, Inputs, Motors, Senses
from veldrain.control.loading import fresh
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Fields, Message
from veldrain.recording.publishing import Publisher
from veldrain.simulation import Simulation


class Log:
    """Publishes numbers of a controller's own, each as the stream ``<robot>/<name>``."""

    def __init__(self, robot: str, publisher: Publisher) -> None:
        self._robot, self._publisher = robot, publisher

    def __call__(self, name: str, value: float) -> None:
        fields = Fields(data=float(value))
        self._publisher.write(f"{self._robot}/{name}", Message("std_msgs/msg/Float64", fields))

    def __deepcopy__(self, memo: dict[Any, Any]) -> Log:
        return memo.get("log", self)  # type: ignore[no-any-return]  # a copy logs where its trial does


class ControllerFailedError(VeldrainError):
    """A controller raised; the trial cannot go on."""


@dataclass(frozen=True)
class DriverState:
    """A copy of a controller, and the step of its next tick."""

    controller: Any
    due: int


class Driver:
    """One controller at work.

    Args:
        simulation: where.
        robot: name of the robot that it drives.
        name: of the controller, where the robot has several; "": it is the one.
        controller: the controller, or its name.
        granted: True where it may read truth sensors.
        owners: which controller has commanded each motor of the robot so far, shared by all of its controllers.
    """

    def __init__(
        self,
        simulation: Simulation,
        robot: str,
        name: str,
        controller: Any,
        granted: bool,
        owners: dict[str, str],
        publisher: Publisher,
    ) -> None:
        if robot not in simulation.world.placed:
            raise unknown("robot", robot, simulation.world.placed, "controllers")
        self.robot, self.name, self._sim, self._publisher = robot, name, simulation, publisher
        self.title = f"controller '{name}' of {robot}" if name else f"controller of {robot}"
        self.controller: Controller = fresh(controller, self.title)
        self.period = simulation.steps_of(self.controller.period, f"{self.title}: period")
        self.due = simulation.steps
        model = simulation.world.placed[robot].model
        self.motors = Motors(simulation[robot], list(model.motors), name or robot, owners)
        self.senses = Senses(robot, simulation.streams, granted)
        self.log = Log(robot, publisher)
        kinds = vars(type(self.controller)).get("inputs", getattr(type(self.controller), "inputs", None))
        if isinstance(kinds, Mapping):
            self.controller.inputs = Inputs(kinds, self.title)  # type: ignore[attr-defined]
        start = getattr(self.controller, "start", None)
        if callable(start):
            random = randomness.stream(simulation.seed, f"{robot}/controller{f'/{name}' if name else ''}")
            self._guarded(lambda: start(Body(robot, model), random, self.log))

    def tick(self) -> None:
        """Let the controller update, and publish its commands."""
        self._guarded(lambda: self.controller.update(self._sim.time, self.senses.at(self._sim.steps), self.motors))
        self.due += self.period
        self.publish()

    def _guarded(self, act: Any) -> None:
        try:
            act()
        except KeyboardInterrupt:
            raise
        except BaseException as error:  # whatever a user's controller raises ends the trial, not the study
            if not isinstance(error, Exception | SystemExit | GeneratorExit):
                raise  # a limit that is over
            kind = "" if isinstance(error, VeldrainError) else f"{type(error).__name__}: "
            raise ControllerFailedError(f"the {self.title} raised at {self._sim.time:g} s: {kind}{error}") from error

    def publish(self) -> None:
        """Publish the commands that hold now."""
        if told := self._sim[self.robot].commands():
            self._publisher.commands(f"{self.robot}/commands", told)

    def snapshot(self) -> DriverState:
        """A copy of what it keeps."""
        return DriverState(copy.deepcopy(self.controller), self.due)

    def restore(self, state: DriverState) -> None:
        """Go back to a copy."""
        mine: Any = {"log": self.log, "motors": self.motors, "senses": self.senses}
        self.controller, self.due = copy.deepcopy(state.controller, mine), state.due
