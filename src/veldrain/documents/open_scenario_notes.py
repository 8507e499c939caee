"""What ASAM OpenSCENARIO XML says in attributes, and is read as something near, or not at all: a note each."""

from __future__ import annotations

import math
from typing import Any

from veldrain.documents.open_scenario_file import ScenarioFile

# Where an attribute has one of these values (none: whatever it says), what is said of it.
_CHANGED: tuple[tuple[str, str, tuple[str, ...], str], ...] = (
    (".//SpeedActionDynamics", "dynamicsShape", ("sinusoidal", "cubic"), "is read as an even change of speed"),
    (".//LaneChangeActionDynamics", "dynamicsShape", ("linear", "sinusoidal", "cubic", "step"), "is read as a quintic"),
    (".//Event", "priority", ("skip",), "is not used: what is told later holds"),
    (".//TimeHeadwayCondition", "alongRoute", ("true", "1"), "is not used: the way is that of its curvature"),
    (".//TimeToCollisionCondition", "alongRoute", ("true", "1"), "is not used: the way is that of its curvature"),
    (".//TimeHeadwayCondition", "coordinateSystem", ("trajectory",), "is not used"),
    (".//TimeToCollisionCondition", "coordinateSystem", ("trajectory",), "is not used"),
    (".//LongitudinalDistanceAction", "freespace", ("false", "0"), "is not used: the gap is that between the boxes"),
    (".//LongitudinalDistanceAction", "continuous", ("false", "0"), "is not used: the gap is kept from then on"),
    (".//LongitudinalDistanceAction/DynamicConstraints", "", (), "is not used: the route's own limits hold"),
    (".//Weather", "cloudState", (), "is not used"),
    (".//Precipitation", "intensity", (), "is not used, being a share: write precipitationIntensity, in mm/h"),
    (".//Sun", "intensity", (), "is not used, being a share: write illuminance, in lx"),
)


def note_changes(file: ScenarioFile) -> None:
    """Note all that is read as something near, or not at all."""
    for path, attribute, values, said in _CHANGED:
        for element in file.root.iterfind(path):
            told = element.get(attribute) if attribute else ""
            if told is not None and (not values or told in values):
                file.unused(element, f"{attribute}={told!r} {said}".replace("'", '"') if attribute else said)
    for vehicle in file.root.iter("Vehicle"):
        _note_limits(file, vehicle)


def _note_limits(file: ScenarioFile, vehicle: Any) -> None:
    """Note what a Performance says, where an entity is told to be faster, or to speed up as it could not."""
    performance, thing = vehicle.find("Performance"), vehicle.getparent()
    if performance is None or thing is None:
        return
    name = thing.get("name", "")
    groups = [
        g for g in file.root.iter("ManeuverGroup") if any(e.get("entityRef") == name for e in g.iter("EntityRef"))
    ]
    own = [p for p in file.root.iter("Private") if p.get("entityRef") == name]
    told = [
        (file.number(action.find(".//AbsoluteTargetSpeed"), "value", 0.0), action.find("SpeedActionDynamics"))
        for part in (*own, *groups)
        for action in part.iter("SpeedAction")
        if action.find(".//AbsoluteTargetSpeed") is not None
    ]
    most = file.number(performance, "maxSpeed", math.inf)
    if (fastest := max((v for v, _ in told), default=0.0)) > most:
        file.unused(performance, f"is not used: '{name}' is told {fastest:g} m/s, and its maxSpeed is {most:g} m/s")
    rates = [file.number(d, "value", 0.0) for _, d in told if d is not None and d.get("dynamicsDimension") == "rate"]
    least = min(file.number(performance, word, math.inf) for word in ("maxAcceleration", "maxDeceleration"))
    if max(rates, default=0.0) > least:
        file.unused(performance, f"is not used: '{name}' is told a rate of {max(rates):g} m/s², above {least:g} m/s²")
