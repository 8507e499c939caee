"""A world, scenario or study on a page of text: who is there, who drives whom, what happens when, what is measured."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from textwrap import shorten
from typing import Any

from veldrain.control import NamedController
from veldrain.control.loading import each_of, fresh
from veldrain.errors import VeldrainError
from veldrain.model import World
from veldrain.motion import Roads
from veldrain.scenario import Condition, Scenario
from veldrain.scenario.entries import After, Every, Trigger
from veldrain.sheet import Sheet
from veldrain.study import FinishTime, Margin, Metric, Study

Rows = list[tuple[str, str]]
WIDEST = 70  # letters of what a controller was made with
MANY = 12  # obstacles and actors of which not each has a row


class Overview:
    """What a thing is, in sections of rows: a name, and what is to be said of it. ``str`` gives the page.

    Attributes:
        sections: rows by heading, in the order of the page.
    """

    def __init__(self, sections: Mapping[str, Rows]) -> None:
        self.sections = {heading: rows for heading, rows in sections.items() if rows}

    def __str__(self) -> str:
        lines = []
        for heading, rows in self.sections.items():
            wide = max(len(name) for name, _ in rows)
            lines += [heading, *(f"  {name:<{wide}}  {said}".rstrip() for name, said in rows), ""]
        return "\n".join(lines[:-1])


def overview(thing: World | Scenario | Study) -> Overview:
    """A page of text on a world, a scenario or a study.

    Raises:
        VeldrainError: it is none of these.

    >>> print(overview(World().ground().obstacle("wall", Box((1, 1, 1)))))
    World
      ground  at z 0 m, friction 0.8
      wall    box 1 × 1 × 1 m at (0, 0, 0)
    """
    if isinstance(thing, World):
        return Overview(dict(_of_world(thing)))
    if isinstance(thing, Scenario):
        return Overview(dict(_of_scenario(thing, {"": thing.controllers})))
    if isinstance(thing, Study):
        found = dict(_of_scenario(thing.scenario, thing.controllers))
        return Overview(found | dict(_of_study(thing)))
    raise VeldrainError(f"{type(thing).__name__} has no overview", cure="give a World, a Scenario or a Study")


def _of_world(world: World) -> Iterator[tuple[str, Rows]]:
    rows: Rows = []
    if world.floor:
        rows.append(("ground", f"at z {world.floor.height:g} m, friction {world.floor.surface.friction:g}"))
    for name, roads in world.networks.items():
        rows.append((name, "roads"))
        if isinstance(roads, Roads):
            for light, sheet in roads.lights.items():
                cycle = ", ".join(f"{colour} {lasting:g} s" for colour, lasting in sheet.cycle)
                rows.append((f"{name}/{light}", f"traffic light at {sheet.at:g} m of road {sheet.road}: {cycle}"))
            rows += [
                (f"{name}/{line}", f"gives way at {sheet.at:g} m of road {sheet.road}")
                for line, sheet in roads.give_ways.items()
            ]
    rows += _few(
        {o.name: f"{o.part.shape.said} at {_at(o.pose.position)}" for o in world.obstacles.values()}, "obstacles"
    )
    rows += [(name, f"region of {_surface(patch.surface)}") for name, patch in world.patches.items()]
    rows += _few(
        {
            b.name: f"{b.part.shape.said}, {b.mass_properties.mass:.4g} kg, at {_at(b.pose.position)}"
            for b in world.bodies.values()
        },
        "bodies",
    )
    if world.air.wind != (0.0, 0.0, 0.0):
        rows.append(("wind", f"{_at(world.air.wind)} m/s"))
    yield "World", rows
    robots: Rows = []
    for name, placed in world.placed.items():
        said = f"{placed.model.total().mass:.4g} kg, {len(placed.model.coordinates())} joints"
        course = placed.course
        if placed.fixed:
            said += ", fixed"
        if course is not None:
            said += f", follows a {type(course.leader).__name__.lower()}"
            said += f", sets off at {course.begin:g} s" if course.begin else ""
            said += f", keeps its gap to {', '.join(course.keeps.to)}" if course.keeps and course.keeps.to else ""
        elif placed.path:
            said += f", led along a path of {placed.path[-1][0]:g} s"
        robots.append((name, f"{said}, at {_at(placed.pose.position)}"))
    yield "Robots and actors", robots if len(robots) <= 3 * MANY else _few(dict(robots), "actors")
    yield (
        "Sensors",
        [
            (
                f"{name}/{mounted.name}",
                f"{type(mounted.sensor).__name__} on {mounted.link}, every {1e3 * mounted.sensor.period:.4g} ms"
                + (f", {1e3 * mounted.sensor.latency:.4g} ms late" if mounted.sensor.latency else "")
                + (", truth" if mounted.sensor.truth else ""),
            )
            for name, placed in world.placed.items()
            for mounted in placed.model.sensors.values()
        ],
    )


def _of_scenario(scenario: Scenario, drivers: Mapping[str, Mapping[str, Any]]) -> Iterator[tuple[str, Rows]]:
    yield from _of_world(scenario.world)
    yield (
        "Who drives",
        [
            (f"{name or title}", f"{title + ' by ' if name else ''}{_controller(given)}")
            for name, by_robot in drivers.items()
            for title, given in each_of(by_robot)
        ],
    )
    yield (
        "What happens",
        [
            (_trigger(entry.trigger), f"{entry.action}" + (f"  ({entry.name})" if entry.name else ""))
            for entry in scenario.timeline
        ]
        + [(f"at {scenario.duration:g} s", "the end")],
    )
    yield (
        "What is expected",
        [(e.name, " ".join(part for part in (_way(e), _since(e)) if part)) for e in scenario.expectations.values()],
    )
    logged = [(f"scenario/{name}", str(measure)) for name, measure in scenario.measures.items()]
    chosen = scenario.record.words
    kept = [("kept", "; ".join(f"{word} {told}" for word, told in chosen.items()))] if chosen else []
    yield "Recorded besides", logged + kept
    looks = f"{1e3 * scenario.step:g} ms ({scenario.integrator}), conditions every {1e3 * scenario.check_period:g} ms"
    yield "Steps", [("step", looks)]


def _of_study(study: Study) -> Iterator[tuple[str, Rows]]:
    yield (
        "What is varied",
        [(factor.name, str(factor.draw)) for factor in study.factors]
        + [(name, "as its table says") for name in (study.units if not study.factors else ())]
        + [
            (f"{name}: {path}", f"{value:.4g} {unit}".rstrip())
            for name, told in study.changes.items()
            for path, (value, unit) in told.items()
        ],
    )
    yield "What is measured", [(metric.name, _metric(metric)) for metric in study.metrics]
    pairs = f"{study.trials} of each of {len(study.controllers)} controllers, the same draws for all"
    yield "Trials", [("trials", pairs), ("seed", str(study.seed)), ("recordings", str(study.keep))]


def _few(rows: Mapping[str, str], what: str) -> Rows:
    """Rows of few things; of many their number, and the first by the name that they share."""
    if len(rows) <= MANY:
        return list(rows.items())
    groups: dict[str, int] = {}
    for name in rows:
        groups[name.partition("/")[0]] = groups.get(name.partition("/")[0], 0) + 1
    first = [f"{name} ({count})" if count > 1 else name for name, count in list(groups.items())[:MANY]]
    return [(what, f"{len(rows)}: {', '.join(first)}" + (", …" if len(groups) > MANY else ""))]


def _at(position: Any) -> str:
    return "(" + ", ".join(f"{float(x) + 0.0:.4g}" for x in position) + ")"


def _surface(surface: Any) -> str:
    return f"friction {surface.friction:g}"


def _controller(given: Any) -> str:
    """A controller by its name, how often it ticks, and what it can be told."""
    name = given.use if isinstance(given, NamedController) else type(given).__name__
    told = given.arguments if isinstance(given, NamedController) else given.given if isinstance(given, Sheet) else {}
    says = shorten(", ".join(f"{word}: {value}" for word, value in told.items()), WIDEST, placeholder=" …")
    name = f"{name} ({says})" if told else name
    try:
        made = fresh(given, name)
    except VeldrainError as error:  # a program or file that must not be started here
        return f"{name}: {error.problem}"
    inputs = getattr(type(made), "inputs", None)
    hears = f", can be told {', '.join(inputs)}" if isinstance(inputs, Mapping) and inputs else ""
    return f"{name}, every {1e3 * made.period:.4g} ms{hears}"


def _trigger(trigger: Trigger) -> str:
    if isinstance(trigger, Condition):
        return f"when {trigger}"
    if isinstance(trigger, After):
        return f"{trigger.delay:g} s after '{trigger.event}'" if trigger.delay else f"after '{trigger.event}'"
    if isinstance(trigger, Every):
        return f"every {trigger.period:g} s"
    return f"at {trigger:g} s"


def _way(expectation: Any) -> str:
    way = next(w for w in ("never", "always", "eventually", "at_the_end") if vars(expectation)[w] is not None)
    limit = f", within {expectation.within:g} s" if expectation.within is not None else ""
    return f"{way.replace('_', ' ')}: {expectation.condition}{limit}"


def _since(expectation: Any) -> str:
    words = [f"{word} '{vars(expectation)[word]}'" for word in ("since", "until") if vars(expectation)[word]]
    return f"({', '.join(words)})" if words else ""


def _metric(metric: Any) -> str:
    if isinstance(metric, Metric):
        said = f"{metric.statistic} of {metric.stream} {metric.column}"
    elif isinstance(metric, FinishTime):
        said = f"time until '{metric.reason}'"
    elif isinstance(metric, Margin):
        said = f"margin of '{metric.expectation}'"
    else:
        said = type(metric).__name__
    unit = f" in {metric.unit}" if metric.unit else ""
    matters = f", {metric.matters} matters" if metric.matters else ""
    return f"{said}{unit}, {metric.better} is better{matters}"
