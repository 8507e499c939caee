"""When something happens in ASAM OpenSCENARIO XML: its triggers and conditions as those of a scenario."""

from __future__ import annotations

import math
import operator
from collections.abc import Callable, Collection, Iterator, Mapping
from functools import reduce
from typing import Any

import numpy as np

from veldrain.documents.open_scenario_file import ScenarioFile
from veldrain.documents.open_scenario_lights import LightsIn
from veldrain.documents.open_scenario_places import Places
from veldrain.errors import unknown
from veldrain.scenario import (
    Condition,
    clearance,
    distance,
    elapsed,
    inside,
    speed,
    speed_difference,
    time_gap,
    time_to_collision,
    touching,
)
from veldrain.scenario.actions import Say
from veldrain.scenario.entries import After, Entry

BEGIN = "the storyboard begins"
STRAIGHT = ("euclidianDistance", "cartesianDistance")  # of distances, the kind that is read
RING = 64  # corners of what stands for a circle on the ground
STANDS = 0.01  # m/s: what is slower stands still
STARTS = ("startTransition", "runningState")
ENDS = ("endTransition", "completeState")

Trigger = float | Condition | After


class Times:
    """Reads triggers.

    Args:
        file: that is read.
        places: reads its positions.
        names: of all entities.
        members: entities by the names of what holds several.
        lasts: how long the actions of each event take, s, by its name.
        lights: the traffic lights.

    Attributes:
        marks: entries to be added: events that others are counted from.
    """

    def __init__(
        self,
        file: ScenarioFile,
        places: Places,
        names: Collection[str],
        members: Mapping[str, list[str]],
        lasts: Mapping[str, float],
        lights: LightsIn,
    ) -> None:
        self._lights = lights
        self._file, self._places, self._names, self._members = file, places, names, members
        self._lasts = lasts
        self.marks: list[Entry] = []
        self._measures: dict[str, Callable[[Any, str], Any]] = {
            "SpeedCondition": lambda e, one: speed(one),
            "RelativeSpeedCondition": lambda e, one: speed_difference(one, self.entity(e)),
            "TimeHeadwayCondition": lambda e, one: time_gap(one, self.entity(e), **self._counted(e)),
            "TimeToCollisionCondition": self._collision_time,
            "RelativeDistanceCondition": self._distance,
        }
        self._others: dict[str, Callable[[Any, str], Condition | None]] = {
            "CollisionCondition": self._collision,
            "StandStillCondition": lambda e, one: (speed(one) < STANDS).held(self._file.number(e, "duration")),
            "DistanceCondition": lambda e, one: self._near(e, one, self._file.number(e, "value")),
            "ReachPositionCondition": lambda e, one: self._near(e, one, self._file.number(e, "tolerance")),
        }

    def entity(self, element: Any) -> str:
        """The entity that an element names."""
        return self._file.entity(element, self._names)

    def mark(self, title: str, trigger: Trigger, element: Any = None) -> str:
        """An event that says that something has happened; gives its name."""
        known = {entry.name: entry for entry in self.marks}
        while title in known and known[title].trigger != trigger:
            title += "'"
        if title not in known:
            self.marks.append(Entry(trigger, Say(title), "" if element is None else self._file.at(element), title))
        return title

    def begun(self, title: str, trigger: Trigger, element: Any) -> Condition:
        """Holds from when something has happened on."""
        return elapsed(self.mark(title, trigger, element)) > -1.0

    def passed(self, seconds: float) -> Condition:
        """Holds from a time on."""
        return elapsed(self.mark(BEGIN, 0.0)) > seconds

    def triggers(self, element: Any) -> Iterator[Trigger]:
        """Each group of conditions as a time, a condition, or an event that it follows."""
        for group in element.iterfind("ConditionGroup") if element is not None else ():
            found = []
            for one in group.iterfind("Condition"):
                found.append(self._condition(one))
                if found[-1] is None:
                    kind = next(iter(one.xpath("ByValueCondition/* | .//EntityCondition/*")), one)
                    self._file.unused(kind, "is not read as it stands, or never holds: its group is left out")
            parts = [part for part in found if part is not None]
            if parts and len(parts) == len(found):
                yield self.joined(parts)

    def joined(self, parts: list[Trigger]) -> Trigger:
        """What holds where all hold."""
        times = [part for part in parts if isinstance(part, float)]
        rest = [part for part in parts if not isinstance(part, float)]
        if not rest:
            return max(times)
        if len(rest) == 1 and max(times, default=0.0) <= 0.0:
            return rest[0]
        late = [self.passed(max(times))] if max(times, default=0.0) > 0.0 else []
        whole = [elapsed(part.event) > part.delay if isinstance(part, After) else part for part in rest]
        return reduce(operator.and_, [*whole, *late])

    def _condition(self, element: Any) -> Trigger | None:
        found = self._undelayed(element)
        edge, delay = element.get("conditionEdge", "none"), self._file.number(element, "delay", 0.0)
        title = f"{element.get('name') or 'a condition'} holds"
        if isinstance(found, Condition) and edge == "rising":  # it has not held before
            found = self.begun(f"{element.get('name') or 'a condition'} does not hold yet", ~found, element) & found
        if isinstance(found, Condition) and edge.startswith(("falling", "risingOr")):
            if edge != "falling":
                return None
            found = self.begun(title, found, element) & ~found
            title = f"{element.get('name') or 'a condition'} no longer holds"
        if delay > 0.0 and isinstance(found, Condition):
            return After(self.mark(title, found, element), delay)
        if isinstance(found, After):
            return After(found.event, found.delay + delay)
        return found if found is None or isinstance(found, Condition) else found + delay

    def _undelayed(self, element: Any) -> Trigger | None:
        own = next(iter(element.iterchildren("ByValueCondition", "ByEntityCondition")), None)
        if own is None or len(own) == 0:
            return None
        if own.tag == "ByEntityCondition":
            return self._of_entities(own)
        kind = own[0]
        if kind.tag == "SimulationTimeCondition":
            seconds, rule = self._file.number(kind, "value"), kind.get("rule", "greaterThan")
            if rule.startswith("less"):
                return ~self.passed(seconds)
            return None if rule.startswith("not") else seconds
        if kind.tag == "ParameterCondition":  # parameters stay what they are
            name, value = self._file.text(kind, "parameterRef").lstrip("$"), self._file.text(kind, "value")
            if name not in self._file.parameters:
                raise unknown("parameter", name, self._file.parameters, self._file.at(kind))
            return 0.0 if _holds(self._file.parameters[name], kind.get("rule", "equalTo"), value) else None
        if kind.tag == "StoryboardElementStateCondition":
            return self._after(kind)
        return self._lights.condition(kind) if kind.tag == "TrafficSignalCondition" else None

    def _after(self, element: Any) -> After | None:
        """After an event, or a part of the story: its first event, or the end of its last."""
        kind, name = element.get("storyboardElementType"), self._file.text(element, "storyboardElementRef")
        state = element.get("state")
        tag = {"event": "Event", "action": "Action", "maneuver": "Maneuver", "maneuverGroup": "ManeuverGroup"}.get(
            kind, (kind or "").capitalize()
        )
        parts = [e for e in self._file.root.iter(tag) if e.get("name") == name.rpartition("::")[2]] if tag else []
        if not parts or state not in (*STARTS, *ENDS):
            return None
        part = parts[0].getparent() if tag == "Action" else parts[0]
        events = [part] if part.tag == "Event" else list(part.iter("Event"))
        if not events:
            return None
        event = events[0 if state in STARTS else -1].get("name", "")
        if tag not in ("Event", "Action") and len(events) > 1:
            side = "the start of its first" if state in STARTS else "the end of its last"
            self._file.unused(element, f"is read as {side} event, '{event}'")
        return After(event, 0.0 if state in STARTS else self._lasts.get(event, 0.0))

    def _of_entities(self, element: Any) -> Condition | None:
        """A condition on one of several entities, or on all of them."""
        who, what = element.find("TriggeringEntities"), element.find("EntityCondition")
        named = [] if who is None else list(who.iterfind("EntityRef"))
        if not named or what is None or len(what) != 1:
            return None
        names = [n for e in named for n in self._members.get(e.get("entityRef", ""), None) or [self.entity(e)]]
        found = [one for name in names if (one := self._of_entity(name, what[0])) is not None]
        if len(found) < len(names):
            return None
        join = operator.and_ if who.get("triggeringEntitiesRule") == "all" else operator.or_
        return reduce(join, found)

    def _of_entity(self, name: str, element: Any) -> Condition | None:
        if element.tag in self._others:
            return self._others[element.tag](element, name)
        make = self._measures.get(element.tag)
        measure = None if make is None else make(element, name)
        rule = element.get("rule", "")
        if measure is None or not rule.startswith(("less", "greater")):
            return None
        value = self._file.number(element, "value")
        return measure < value if rule.startswith("less") else measure > value  # type: ignore[no-any-return]

    def _collision(self, element: Any, name: str) -> Condition | None:
        other = element.find("EntityRef")
        return None if other is None else touching(name, self.entity(other))

    def _collision_time(self, element: Any, name: str) -> Any:
        target = element.find("TimeToCollisionConditionTarget/EntityRef")
        return None if target is None else time_to_collision(name, self.entity(target), **self._counted(element))

    def _counted(self, element: Any) -> dict[str, bool]:
        """Along the road whatever the lane, unless it counts in lanes; and between origins unless it says freespace."""
        return {
            "beside": element.get("coordinateSystem") != "lane",
            "origins": not self._file.flag(element, "freespace"),
        }

    def _distance(self, element: Any, name: str) -> Any:
        if element.get("relativeDistanceType", STRAIGHT[0]) not in STRAIGHT:
            return None
        return (clearance if self._file.flag(element, "freespace") else distance)(name, self.entity(element))

    def _near(self, element: Any, name: str, radius: float) -> Condition | None:
        """Nearer to a place than so much, seen from above, or farther away."""
        rule = element.get("rule", "lessThan")
        if element.find("Position") is None or not rule.startswith(("less", "greater")) or radius <= 0.0:
            return None
        if self._file.flag(element, "freespace"):
            self._file.unused(element, "counts from the origin of an entity, not from its box")
        x, y, _ = self._places.pose(element.find("Position")).position
        turns = [2.0 * math.pi * k / RING for k in range(RING)]
        ring = [(x + radius * math.cos(a), y + radius * math.sin(a)) for a in turns]
        near = inside(name, np.round(ring, 6).tolist())
        return near if rule.startswith("less") else ~near


def _holds(one: str, rule: str, other: str) -> bool:
    """Whether two values compare as a rule says: as numbers where both are."""
    try:
        a: Any = float(one)
        b: Any = float(other)
    except ValueError:
        a, b = one, other
    rules = {
        "equalTo": a == b,
        "notEqualTo": a != b,
        "lessThan": a < b,
        "lessOrEqual": a <= b,
        "greaterThan": a > b,
        "greaterOrEqual": a >= b,
    }
    return bool(rules.get(rule, False))
