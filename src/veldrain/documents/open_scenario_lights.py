"""Traffic lights in OpenSCENARIO: controllers with phases over the signals of the roads, in and out."""

from __future__ import annotations

import copy
from collections.abc import Iterator
from typing import Any

import numpy as np

from veldrain.documents.open_scenario_file import ScenarioFile
from veldrain.errors import VeldrainError
from veldrain.motion import Roads
from veldrain.motion.roads.lights import TrafficLight
from veldrain.motion.roads.road import Road, Sign
from veldrain.scenario import Condition, Switch, shows
from veldrain.xml import add

LIGHT = "1000001"  # the usual type of a traffic light in OpenDRIVE
LAMPS = "red", "amber", "green"  # in the order of the lamps of a state such as "off;off;on"
ASIDE = 0.5  # m between the border of a road and a light beside it


class LightsIn:
    """The traffic lights of a file, which become those of its roads.

    Args:
        file: the file.
        roads: its roads; None: it has none.
    """

    def __init__(self, file: ScenarioFile, roads: Roads | None) -> None:
        self._file, self._roads = file, roads
        self._signs = {sign.id: (road, sign) for road in (roads.roads.values() if roads else ()) for sign in road.signs}
        controllers = {e.get("name", ""): e for e in file.root.iterfind("RoadNetwork/TrafficSignals/*")}
        for controller in controllers.values():
            self._add(controller, self._delay(controller, controllers))

    def _delay(self, controller: Any, others: dict[str, Any]) -> float:
        """When it begins its first phase, s: after that of another."""
        delay, known = 0.0, set[str]()
        while controller is not None and (name := controller.get("name", "")) not in known:
            known.add(name)
            delay += self._file.number(controller, "delay", 0.0)
            controller = others.get(controller.get("reference", ""))
        return delay

    def _add(self, controller: Any, delay: float) -> None:
        phases = list(controller.iterfind("Phase"))
        names = dict.fromkeys(e.get("trafficSignalId", "") for e in controller.iter("TrafficSignalState"))
        for identity in names:
            cycle: list[tuple[str, float]] = []
            for phase in phases:
                states = {e.get("trafficSignalId", ""): e for e in phase.iterfind("TrafficSignalState")}
                before = cycle[-1][0] if cycle else "green"  # a phase that does not name it leaves it as it is
                colour = (self.colour(states[identity]) or "green") if identity in states else before
                cycle.append((colour, self._file.number(phase, "duration")))
            if self._roads is None or identity not in self._signs:
                self._file.unused(controller, f"is for the signal '{identity}', which the roads have not")
                continue
            road, sign = self._signs[identity]
            total = sum(lasting for _, lasting in cycle)
            lane = -1 if (sign.orientation != "-") == (road.rule == "RHT") else 1
            begin = -delay % total if total > 0 else 0.0
            name = _name(identity)
            try:
                self._roads.light(name, road.id, at=min(sign.s, road.curve.length), cycle=cycle, lane=lane, begin=begin)
            except VeldrainError as error:
                raise error.at(self._file.at(controller)) from error

    def colour(self, element: Any) -> str | None:
        """The colour of a state, such as ``red``, ``yellow`` or ``off;off;on``; None, and noted: none that is known."""
        state = element.get("state", "").lower()
        lamps = state.split(";")
        if len(lamps) == len(LAMPS) and set(lamps) <= {"on", "off"} and "on" in lamps:
            return LAMPS[lamps.index("on")]
        found = [colour for colour in LAMPS if colour in state.replace("yellow", "amber")]
        if found:
            return found[0]
        self._file.unused(element, f"'{state}' is no colour: it is read as green")
        return None

    def condition(self, element: Any) -> Condition | None:
        """What a TrafficSignalCondition says; None for a light that is not there."""
        name = self.name(element)
        return shows(name, self.colour(element) or "green") if name else None

    def action(self, element: Any) -> Switch | None:
        """What a TrafficSignalStateAction says."""
        name = self.name(element)
        return Switch(name, to=self.colour(element) or "green") if name else None

    def name(self, element: Any) -> str:
        """The light that an element names; "": none that is there."""
        name = _name(element.get("name", ""))
        return f"{self._roads.name}/{name}" if self._roads is not None and name in self._roads.lights else ""


def _name(identity: str) -> str:
    """What a light is called whose signal is called so."""
    return "".join(c if c.isalnum() or c in "_-" else "_" for c in identity)


def with_signs(roads: Roads) -> Roads:
    """The roads with a sign for each of their lights that has none."""
    made = copy.deepcopy(roads)
    known = {sign.id for road in made.roads.values() for sign in road.signs}
    for name, light in made.lights.items():
        if name not in known:
            road = made.roads[light.road]
            orientation = "+" if (light.lane < 0) == (road.rule == "RHT") else "-"
            side = _border(road, light)
            road.signs.append(Sign(name, light.at, side, type=LIGHT, name=name, orientation=orientation, dynamic=True))
    return made


def _border(road: Road, light: TrafficLight) -> float:
    """How far left of the road's line a light stands beside it, m."""
    borders = road.borders(road.section_at(light.at), np.array([light.at])).values()
    offsets = [float(side[0]) for pair in borders for side in pair]
    return min(offsets) - ASIDE if light.lane < 0 else max(offsets) + ASIDE


def write_controllers(network: Any, roads: Roads) -> Iterator[str]:
    """Write a controller for each light; gives what has no words."""
    signals = add(network, "TrafficSignals") if roads.lights else None
    for name, light in roads.lights.items():
        made = add(signals, "TrafficSignalController", name=name, delay=0.0)
        for k, (colour, lasting) in enumerate(begun(light)):
            phase = add(made, "Phase", name=f"{colour} {k + 1}", duration=lasting)
            add(phase, "TrafficSignalState", trafficSignalId=name, state=colour)
    yield from (f"line {name}, at which one gives way" for name in roads.give_ways)


def begun(light: TrafficLight) -> list[tuple[str, float]]:
    """The cycle of a light from where it is at the start: first what is left of its phase, last what was before."""
    ends = np.cumsum([lasting for _, lasting in light.cycle])
    into = light.begin % float(ends[-1])
    k = int(np.searchsorted(ends - 1e-9, into, side="right")) % len(ends)
    rest = float(ends[k]) - into
    rows = [(light.cycle[k][0], rest), *light.cycle[k + 1 :], *light.cycle[:k]]
    before = light.cycle[k][1] - rest
    return rows if before < 1e-9 else [*rows, (light.cycle[k][0], before)]
