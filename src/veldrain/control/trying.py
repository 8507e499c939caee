"""Try a controller without a simulation: what it commands for given readings."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from veldrain.control.contract import Body, InputValues, MotorHandle, Motors
from veldrain.control.loading import fresh
from veldrain.errors import VeldrainError
from veldrain.model import Model
from veldrain.sampling import Reading

Told = dict[str, dict[str, float]]


class _Taken:
    """Takes commands."""

    name = "robot"

    def __init__(self) -> None:
        self.told: Told = {}
        self.held: set[str] = set()

    def command(self, joint: str, effort: Any = None, velocity: Any = None, position: Any = None) -> None:
        words = {"effort": effort, "velocity": velocity, "position": position}
        self.told[joint] = {word: float(value) for word, value in words.items() if value is not None}

    def command_all(self, joints: Sequence[str], **rows: Any) -> None:
        for k, joint in enumerate(joints):
            self.command(joint, **{word: row[k] for word, row in rows.items()})

    def attach(self, thing: str, to: str | None = None, **words: Any) -> None:
        self.held.add(thing)

    def release(self, thing: str) -> None:
        self.held.discard(thing)

    def holds(self, thing: str) -> bool:
        return thing in self.held


class _AnyMotor(Motors):
    """Motors of any name."""

    def __init__(self, taken: _Taken) -> None:
        super().__init__(taken, [])
        self._taken = taken

    def __getitem__(self, joint: str) -> MotorHandle:
        return MotorHandle(self._taken, joint, "", {})

    def __iter__(self) -> Iterator[str]:
        return iter(self._taken.told)

    def __len__(self) -> int:
        return len(self._taken.told)


class _Senses(dict[str, Any]):
    """Readings by sensor; naming one that was not given is a mistake of the test."""

    def __missing__(self, sensor: str) -> Any:
        raise VeldrainError(
            f"the controller reads '{sensor}', and no reading of it was given",
            where="try_controller",
            cure=f"give readings={{'{sensor}': …}}, or None for one that has not come yet",
        )


def try_controller(
    controller: Any,
    readings: Mapping[str, Any] | Iterable[Mapping[str, Any]],
    *,
    model: Model | None = None,
    seed: int = 0,
    **inputs: Any,
) -> list[Told]:
    """What a controller commands for given readings, tick by tick; it is copied first, and nothing is simulated.

    Args:
        controller: the controller, or its name.
        readings: by sensor, for one tick, or a row of such dictionaries, one a tick: readings as sensors give them (any
            object with their attributes), None for what has not come yet.
        model: of the robot, for controllers that ask their body for it.
        seed: of its random stream.
        inputs: what it is told before the first tick.

    Returns:
        The commands that hold after each tick, by joint: ``{"left": {"velocity": 3.0}}``.

    >>> try_controller(Hold(), {"angle": SimpleNamespace(position=[0.1])})  # doctest: +SKIP
    [{'lift': {'effort': -0.4}}]
    """
    made, taken = fresh(controller, "controller"), _Taken()
    kinds = getattr(type(made), "inputs", None)
    if isinstance(kinds, Mapping):
        made.inputs = InputValues(kinds, "controller")  # type: ignore[attr-defined]
    if inputs:
        getattr(made, "inputs", InputValues({}, "controller")).tell(**inputs)
    if hasattr(made, "start"):
        made.start(Body("robot", model or Model("robot")), np.random.default_rng(seed), lambda name, value: None)
    ticks = [readings] if isinstance(readings, Mapping) else list(readings)
    found = []
    for k, row in enumerate(ticks):
        now = k * made.period
        senses = _Senses(
            {
                name: value if value is None or isinstance(value, Reading) else Reading(round(now * 1e9), value)
                for name, value in row.items()
            }
        )
        made.update(now, senses, _AnyMotor(taken))
        found.append({joint: dict(told) for joint, told in taken.told.items()})
    return found
