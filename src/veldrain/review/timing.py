"""Controllers against what they read: sensors that are there, and readings that are fresh enough for their ticks."""

from __future__ import annotations

import ast
import difflib
import inspect
import textwrap
from collections.abc import Iterator, Mapping
from typing import Any

from veldrain.control.contract import Senses
from veldrain.control.driving import Driver
from veldrain.review.finding import Finding
from veldrain.scenario.trial import Trial
from veldrain.sensing import Encoders, ForceTorque, Imu, MotorCurrent, Odometer

STATEMENTS = {
    "stale-reading": "What a controller steers by is new every few ticks, and not long past.",
    "reads-what-is-not-there": "Sensors and motors that a controller's source names are there.",
    "rare-ticks": "A controller ticks many times in a trial.",
}

FEEDBACK = (Imu, Encoders, Odometer, ForceTorque, MotorCurrent)  # what loops are closed over
TICKS = 10  # of a controller between two readings
LATE = 0.2  # s from what was measured to what is read
FEWEST = 5  # ticks in a trial


class Asked(Mapping[str, Any]):
    """The senses of a controller, and which of them it has asked for."""

    def __init__(self, senses: Senses) -> None:
        self._senses, self.names = senses, set[str]()

    def at(self, step: int) -> Asked:
        """As of its senses."""
        self._senses.at(step)
        return self

    def __getitem__(self, sensor: str) -> Any:
        self.names.add(sensor)
        return self._senses[sensor]

    def __getattr__(self, name: str) -> Any:  # between
        if name.startswith("_"):
            raise AttributeError(name)
        return getattr(self._senses, name)

    def __iter__(self) -> Iterator[str]:
        return iter(self._senses)

    def __len__(self) -> int:
        return len(self._senses)


def reads_too_late(trial: Trial, driver: Driver, names: set[str]) -> Iterator[Finding]:
    """Findings for sensors that a controller has read and that are slow beside its ticks."""
    tick = driver.period * trial.simulation.step
    for name in sorted(names):
        samples = trial.simulation.streams.get(f"{driver.robot}/{name}")
        if samples is None or not isinstance(samples.sensor, FEEDBACK):
            continue
        period, latency = samples.sensor.period, samples.sensor.latency
        old = f"it is up to {1e3 * (period + latency):.3g} ms old where it is read, each {1e3 * tick:.3g} ms"
        where = f"{driver.robot}/{name}"
        if period > TICKS * tick:
            problem = f"is new every {period / tick:.0f} ticks of the {driver.title}: {old}"
            cure = f"write its period: {1e3 * tick:.3g} ms, or let the controller tick more slowly"
        elif latency > 2 * tick and latency + period > LATE:
            problem = f"reaches the {driver.title} {latency / tick:.0f} ticks late: {old}"
            cure = "look at the unit of its latency; a loop that is closed over it swings"
        else:
            continue
        yield Finding("stale-reading", "warning", where, problem, cure, driver.body.model.line_of(where))


def rare_ticks(trial: Trial, driver: Driver) -> Iterator[Finding]:
    """A finding for a controller that ticks a few times in the whole trial."""
    period, whole = driver.period * trial.simulation.step, trial.scenario.duration
    if period >= 1.0 and whole / period < FEWEST:
        problem = f"ticks every {period:g} s: {int(whole / period)} times in a trial of {whole:g} s"
        yield Finding(
            "rare-ticks", "warning", driver.title, problem, f"write period = {period / 1e3:g} for {period:g} ms"
        )


def reads_what_is_not_there(driver: Driver) -> Iterator[Finding]:
    """Findings for names of sensors and motors in a controller's source that the robot has not."""
    kind = type(driver.controller)
    if kind.__module__.startswith("veldrain."):
        return  # its names are arguments, and tried
    try:
        tree = ast.parse(textwrap.dedent(inspect.getsource(kind)))
    except (OSError, TypeError, SyntaxError):
        return  # typed into a shell, or built at run time
    known = {"senses": set(driver.body.model.sensors), "motors": set(driver.body.model.motors)}
    told = set()
    for node in ast.walk(tree):
        if not isinstance(node, ast.Subscript) or not isinstance(node.value, ast.Name):
            continue
        table, key = known.get(node.value.id), node.slice
        if table is None or not isinstance(key, ast.Constant) or not isinstance(key.value, str):
            continue
        if key.value in table or (node.value.id, key.value) in told:
            continue
        told.add((node.value.id, key.value))
        what = "sensor" if node.value.id == "senses" else "motor"
        near = difflib.get_close_matches(key.value, table, n=1, cutoff=0.6)
        cure = f"did you mean '{near[0]}'? " if near else ""
        yield Finding(
            "reads-what-is-not-there",
            "warning",
            driver.title,
            f"its source asks for the {what} '{key.value}', and {driver.robot} has none of that name",
            f"{cure}Known: {', '.join(sorted(table)) or 'none'}",
        )
