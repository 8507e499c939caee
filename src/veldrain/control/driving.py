"""Controllers at work in a trial: their ticks, inputs, senses, motors, own streams and commands."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from veldrain import randomness
from veldrain.control.beginning import as_it_began
from veldrain.control.contract import Body, Controller, InputValues, Motors, Senses, claim
from veldrain.control.loading import fresh
from veldrain.errors import VeldrainError, unknown
from veldrain.model import Fields, Message
from veldrain.recording.publishing import Publisher
from veldrain.simulation import Simulation
from veldrain.units import Quantity

NEVER = 2**62  # a step that does not come


class Log:
    """Publishes numbers of a controller's own, each as the stream ``<robot>/<name>``."""

    def __init__(self, robot: str, publisher: Publisher) -> None:
        self._robot, self._publisher = robot, publisher
        self._known: set[str] = set()

    def _see_name(self, name: object) -> None:
        stream = f"{self._robot}/{name}"
        if not isinstance(name, str) or not name.strip() or not name.isprintable():
            raise VeldrainError(f"logs under {name!r}, which is no name", where=self._robot, cure="give a short text")
        if stream in self._publisher.own_streams():
            raise VeldrainError(f"logs under '{name}': stream '{stream}' is there already", cure="give another name")
        self._known.add(name)

    def __call__(self, name: str, value: float | Message) -> None:
        """Publish a value.

        Raises:
            VeldrainError: the name is no text, or that of a stream which is somebody else's.
        """
        if name not in self._known:
            self._see_name(name)
        if not isinstance(value, Message):
            self._publisher.signals[f"{self._robot}/{name}"] = float(value)
        if not self._publisher.sinks:
            return
        message = value if isinstance(value, Message) else Message("std_msgs/msg/Float64", Fields(data=float(value)))
        self._publisher.write(f"{self._robot}/{name}", message)

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
        others: the robot's controllers by name, shared by all of them; it adds itself.
    """

    def __init__(
        self,
        simulation: Simulation,
        robot: str,
        name: str,
        controller: Any,
        granted: bool,
        owners: dict[str, str],
        others: dict[str, Driver],
        publisher: Publisher,
    ) -> None:
        if robot not in simulation.world.placed:
            raise unknown("robot", robot, simulation.world.placed, "controllers")
        self.robot, self.name, self._sim, self._publisher = robot, name, simulation, publisher
        self.title = f"controller '{name}' of {robot}" if name else f"controller of {robot}"
        self.controller: Controller = fresh(controller, self.title)
        self.began = as_it_began(self.controller)
        self.period = simulation.steps_of(self.controller.period, f"{self.title}: period")
        self.due = simulation.steps
        model = simulation.world.placed[robot].model
        self.motors = Motors(simulation[robot], list(model.motors), name or robot, owners)
        self.senses = Senses(robot, simulation.streams, granted, model)
        self.log = Log(robot, publisher)
        others[name] = self
        self.body = Body(
            robot,
            model,
            lambda other, **inputs: self._other(others, other).tell(**inputs),
            lambda: {other: d.inputs.kinds for other, d in others.items() if d is not self},
            simulation.world.route_on,
            simulation.world.gravity,
            self._tell,
        )
        own = getattr(self.controller, "joints", ())
        for joint in own if isinstance(own, tuple | list) else ():
            if joint in model.motors:
                claim(owners, joint, name or robot, robot)
        kinds = vars(type(self.controller)).get("inputs", getattr(type(self.controller), "inputs", None))
        if isinstance(kinds, Mapping):
            self.controller.inputs = InputValues(kinds, self.title)  # type: ignore[attr-defined]
        start = getattr(self.controller, "start", None)
        if callable(start):
            random = randomness.stream(simulation.seed, f"{robot}/controller{f'/{name}' if name else ''}")
            try:
                start(self.body, random, self.log)
            except VeldrainError as error:
                raise VeldrainError(error.problem, where=error.where or self.title, cure=error.cure) from error
            except (Exception, SystemExit, GeneratorExit) as error:  # a limit that is over goes through
                raise ControllerFailedError(
                    f"the {self.title} raised at its start: {type(error).__name__}: {error}"
                ) from error

    def _tell(self, text: str) -> None:
        self._publisher.event(f"{self.robot}: {text}")
        self._sim.notice(f"{self.title}: {text}", f"{self.robot}: {text} (first at {self._sim.time:.4g} s)")

    def _other(self, others: Mapping[str, Driver], name: str) -> Driver:
        if name not in others or others[name] is self:
            raise unknown("other controller", name, [n for n in others if others[n] is not self], self.title)
        return others[name]

    @property
    def inputs(self) -> InputValues:
        """What it can be told; nothing for a controller without inputs."""
        found = getattr(self.controller, "inputs", None)
        return found if isinstance(found, InputValues) else InputValues({}, self.title)

    def tell(self, **inputs: Quantity) -> None:
        """Tell it, and publish what it was told.

        Raises:
            VeldrainError: no such input, or a value of another kind.
        """
        self.inputs.tell(self._sim.time, **inputs)
        values = self.inputs.values
        if self.input_streams() == [self._input_stream]:
            linear = Fields(x=values["forward"], y=values.get("sideways", 0.0), z=0.0)
            angular = Fields(x=0.0, y=0.0, z=values.get("turning", 0.0))
            self._publisher.write(
                self._input_stream, Message("geometry_msgs/msg/Twist", Fields(linear=linear, angular=angular))
            )
            return
        for name in inputs:
            message = Message("std_msgs/msg/Float64", Fields(data=float(values[name])))
            self._publisher.write(f"{self._input_stream}/{name}", message)

    @property
    def _input_stream(self) -> str:
        return "/".join(part for part in (self.robot, self.name, "inputs") if part)

    def input_streams(self) -> list[str]:
        """Names of the streams of what it is told: one Twist for a motion, else a number each."""
        kinds = self.inputs.kinds
        if "forward" in kinds and set(kinds) <= {"forward", "sideways", "turning"}:
            return [self._input_stream]
        return [f"{self._input_stream}/{name}" for name in kinds]

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

    def pause(self, steps: int | None) -> None:
        """Let it miss its updates for some steps; None: all that are to come."""
        now = self._sim.steps
        end = NEVER if steps is None else now + steps
        self.due = max(self.due, now) if end <= self.due else end + (self.due - end) % self.period

    def close(self) -> None:
        """Let the controller give back what it holds."""
        if callable(close := getattr(self.controller, "close", None)):
            self._guarded(close)

    def publish(self) -> None:
        """Publish the commands that hold now."""
        stream = f"{self.robot}/commands"
        if self._publisher.is_taken(stream) and (told := self._sim[self.robot].commands()):
            self._publisher.commands(stream, told)

    def snapshot(self) -> DriverState:
        """A copy of what it keeps."""
        return DriverState(copy.deepcopy(self.controller), self.due)

    def known(self) -> dict[str, Any]:
        """What a controller may keep of its trial, by a name: a written state leaves it out."""
        who = self.title
        mine = {"body": self.body, "log": self.log, "motors": self.motors, "senses": self.senses}
        return {f"{who}: {word}": thing for word, thing in (mine | {"model": self.body.model}).items()}

    def written(self) -> dict[str, Any]:
        """What is written of it: its next tick, and what its controller keeps."""
        return {
            "who": [self.robot, self.name],
            "began": self.began,
            "due": self.due,
            "keeps": dict(vars(self.controller)),
        }

    def read(self, written: Mapping[str, Any]) -> DriverState:
        """The state that was written."""
        made = copy.copy(self.controller)
        vars(made).clear()
        vars(made).update(written["keeps"])
        return DriverState(made, written["due"])

    def begin_now(self, inputs: Any, is_over: bool) -> None:
        """Come in where another left; ``is_over``: what is due now has been done already, and so it ticks at once.

        Args:
            inputs: what the other was last told, which is told again where it has such inputs too.
        """
        if isinstance(inputs, InputValues) and inputs.told is not None:
            known = {name: value for name, value in inputs.values.items() if name in self.inputs.kinds}
            self.inputs.tell(inputs.told, **known)
        self.due = self._sim.steps
        if is_over:
            self.tick()

    def restore(self, state: DriverState) -> None:
        """Go back to a copy."""
        mine: Any = {"body": self.body, "log": self.log, "motors": self.motors, "senses": self.senses}
        self.controller, self.due = copy.deepcopy(state.controller, mine), state.due
