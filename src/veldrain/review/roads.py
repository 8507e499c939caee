"""Rules about roads, and about what is led along routes."""

from __future__ import annotations

import math
from collections.abc import Iterator
from itertools import combinations
from typing import Any

import numpy as np

from veldrain.model import Placed
from veldrain.model.leading import Course
from veldrain.motion import Roads, Route
from veldrain.motion.roads.lights import Line
from veldrain.physics.engine import Engine
from veldrain.pose import Array
from veldrain.review.look import Look
from veldrain.review.rules import Found, found, rule

GRIP = 0.9  # of tyres on dry asphalt
EACH = 1.0  # m between the places of a route that are looked at
APART = 4.0  # m between the places of a route whose road is looked up
CROSSING = 40.0  # m beyond stop lines in which ways may cross
GREENS_FOR = 600.0  # s of lights that are looked at
PERSON = 1.2  # m: what is shorter is no vehicle, and may leave the road


def _actors(look: Look) -> Iterator[tuple[Placed, Course, Route]]:
    """All that follow routes."""
    for placed in look.world.placed.values():
        if placed.course is not None and isinstance(placed.course.leader, Route):
            yield placed, placed.course, placed.course.leader


def _networks(look: Look) -> Iterator[tuple[str, Roads]]:
    """All roads, by name."""
    return ((name, roads) for name, roads in look.world.networks.items() if isinstance(roads, Roads))


def _scenery(look: Look, engine: Engine) -> list[str]:
    """Fixed things with shapes, but for the ground and roads."""
    shapes = dict.fromkeys(engine.compiled.geom_names)
    return [name for name in look.world.obstacles if name in shapes and not look.world.is_of_roads(name)]


@rule("roads-do-not-join", "error", "roads", world=True)
def roads_do_not_join(look: Look) -> Found:
    """Roads go on where they say that they do.

    Told are gaps, kinks, links to nothing, and lanes that end where the road goes on: a car that follows its lane jumps
    at a gap, and turns at once at a kink.
    """
    for name, roads in _networks(look):
        for place, problem, cure in roads.problems():
            yield found("roads-do-not-join", look, name, f"{place}: {problem}", cure)


@rule("route-through-things", "error", "roads", world=True)
def route_through_things(look: Look) -> Found:
    """A route leads around what stands there.

    What is led goes through walls: nothing stops it, and sensors see it come out of them.
    """
    engine = look.engine
    if engine is None:
        return
    scenery = set(_scenery(look, engine))
    for placed, course, route in _actors(look):
        if course.passes or not scenery:
            continue
        low, high = engine.actors.ways.bounds(placed.name)
        s = np.arange(course.start, route.length + 1e-9, EACH)
        if len(s) < 2:
            continue
        ways = _track(engine, placed.name, route, s, course.offset, (low, high))
        hit = _first_hit(engine, ways, scenery)
        if hit is not None:
            number, name = hit
            yield found(
                "route-through-things",
                look,
                placed.name,
                f"its route leads through {name}, {s[number]:.3g} m along it",
                "lead it around, or let it pass: passes: true",
            )


def _track(
    engine: Engine, name: str, route: Route, s: Array, offset: float, box: tuple[Array, Array]
) -> list[tuple[Array, Array]]:
    """Starts and ends (n, 3) of the lines that its sides and its middle go along."""
    low, high = box
    x, y, heading, _ = route.curve.at(s)
    z = route.heights(s)[0] if not route.follows_ground else engine.actors.ways.ground(name, x, y)
    up = (high[2] - low[2]) * 0.5 + (0.0 if route.stands else low[2])
    found = []
    for side in (low[1] * 0.9, 0.0, high[1] * 0.9):
        left = offset + side
        at = np.stack([x - left * np.sin(heading), y + left * np.cos(heading), z + up], axis=1)
        found.append((at[:-1], at[1:]))
    return found


def _first_hit(engine: Engine, ways: list[tuple[Array, Array]], names: set[str]) -> tuple[int, str] | None:
    """The first place at which a line meets one of some things."""
    best: tuple[int, str] | None = None
    scene = engine.actors.ways.still
    for starts, ends in ways:
        steps = ends - starts
        lengths = np.linalg.norm(steps, axis=1)
        far, sights, _ = scene.cast(np.ascontiguousarray(starts), steps / lengths[:, None], float(lengths.max()))
        for k in np.flatnonzero((far <= lengths) & (sights >= 0)):
            name = scene.names[sights[k]]
            if name in names and (best is None or k < best[0]):
                best = int(k), name
                break
    return best


def _on_roads(look: Look) -> list[tuple[Placed, Route, Array, list[Any]]]:
    """Vehicles, their routes, places along them, and what roads are there; None: none is. Looked up once."""
    if look.on_roads is None:
        look.on_roads = list(_looked_up(look))
    found: list[tuple[Placed, Route, Array, list[Any]]] = look.on_roads
    return found


def _looked_up(look: Look) -> Iterator[tuple[Placed, Route, Array, list[Any]]]:
    known: dict[tuple[float, float], Any] = {}  # many follow one lane
    for placed, course, route in _actors(look):
        if not look.world.networks or look.engine is None:
            continue
        low, high = look.engine.actors.ways.bounds(placed.name)
        if max(high[0] - low[0], high[1] - low[1]) < PERSON:
            continue
        s = np.arange(math.ceil(course.start / APART) * APART, route.length, APART)
        x, y = route.curve.to_xy(s, np.full(len(s), course.offset))
        places = list(zip(np.round(x, 6).tolist(), np.round(y, 6).tolist(), strict=True))
        for at in places:
            if at not in known:
                spots = (spot for n in look.world.networks.values() if (spot := n.at(*at)) is not None)
                known[at] = next(spots, None)
        yield placed, route, s, [known[at] for at in places]


@rule("route-leaves-the-road", "warning", "roads", world=True)
def route_leaves_the_road(look: Look) -> Found:
    """A vehicle's route that follows a road stays on it.

    One point that is a few metres off leads it over the verge.
    """
    for placed, _, s, spots in _on_roads(look):
        on = np.array([spot is not None for spot in spots])
        if on.any() and on.mean() > 0.75 and not on.all():
            at = float(s[int(np.argmin(on))])
            share = f"{100 * (1 - on.mean()):.0f} % of it is beside"
            yield found(
                "route-leaves-the-road",
                look,
                placed.name,
                f"its route leaves the road {at:.3g} m along it; {share}",
                "move its points, or take the lane's own route: {road: …, lane: …}",
            )


@rule("too-fast-for-its-curve", "warning", "roads", world=True)
def too_fast_for_its_curve(look: Look) -> Found:
    """A vehicle's speed is one that tyres hold in its route's curves.

    What is led takes any curve at any speed; what is driven would slide off at more than about 9 m/s² sideways.
    """
    for placed, course, route in _actors(look):
        s = np.linspace(0.0, route.length, max(2, math.ceil(route.length / EACH) + 1))
        v = np.minimum(route.speeds(s), route.top_speed)
        _, _, _, bend = route.curve.at(s)
        pull = v**2 * np.abs(bend)
        worst = int(pull.argmax())
        if pull[worst] > GRIP * 9.81 and not course.upright:
            yield found(
                "too-fast-for-its-curve",
                look,
                placed.name,
                f"{v[worst]:.3g} m/s in a curve of {1 / abs(bend[worst]):.3g} m, {s[worst]:.3g} m along its route,"
                f" takes {pull[worst]:.2g} m/s² sideways",
                f"slow it down to {math.sqrt(GRIP * 9.81 / abs(bend[worst])):.2g} m/s there: sideways: 4 m/s^2",
                numbers={"sideways m/s^2": float(pull[worst])},
            )


@rule("nobody-sees-it", "warning", "roads", world=True)
def nobody_sees_it(look: Look) -> Found:
    """What is led can be seen.

    Shapes of the role ``collision`` are touched, and no camera, lidar or radar sees them.
    """
    for placed, _, _ in _actors(look):
        parts = [part for link in placed.model.links.values() for part in link.parts]
        if parts and all(part.role == "collision" for part in parts):
            yield found("nobody-sees-it", look, placed.name, "has no shape that is seen", "give it one of role: both")


@rule("against-traffic", "warning", "roads", world=True)
def against_traffic(look: Look) -> Found:
    """A vehicle drives in the direction of its lane.

    Points in the wrong order, or a lane on the other side, lead it towards all others.
    """
    for placed, route, s, spots in _on_roads(look):
        turns = route.curve.at(s)[2]
        against = [
            spot
            for turn, spot in zip(turns, spots, strict=True)
            if spot is not None and math.cos(spot.heading - turn) < -0.5
        ]
        if len(against) > 0.75 * max(len(s), 1):
            yield found(
                "against-traffic",
                look,
                placed.name,
                f"drives against its lanes, along road {against[0].road}",
                "turn its points round, or take the lane's own route: {road: …, lane: …}",
            )


@rule("gap-to-nobody", "note", "roads", world=True)
def gap_to_nobody(look: Look) -> Found:
    """Who keeps a gap has the other on its way.

    One that is never ahead on the own route, within both widths, is not minded.
    """
    engine, ways = look.engine, {placed.name: (course, route) for placed, course, route in _actors(look)}
    for name, (course, route) in ways.items() if engine is not None else ():
        for other in course.keeps.to if course.keeps is not None else ():
            if other not in ways or engine is None:
                continue
            o_course, o_route = ways[other]
            s = np.arange(0.0, o_route.length, EACH)
            x, y = o_route.curve.to_xy(s, np.full(len(s), o_course.offset))
            at, left = route.curve.to_st(x, y)
            boxes = [engine.actors.ways.bounds(one) for one in (name, other)]
            wide = sum(float(high[1] - low[1]) / 2 for low, high in boxes)
            if not ((np.abs(left - course.offset) <= wide) & ((at > course.start) | route.closed)).any():
                yield found(
                    "gap-to-nobody",
                    look,
                    name,
                    f"keeps a gap to {other}, whose route is never ahead on its own",
                    "let it mind another, or let one of them change its lane",
                )


@rule("greens-cross", "warning", "roads", world=True)
def greens_cross(look: Look) -> Found:
    """Two lights whose ways cross are not green at once.

    Told is where the straight ways beyond two stop lines cross within 40 m, at more than 45°.
    """
    for name, roads in _networks(look):
        for (a, one), (b, other) in combinations(roads.lights.items(), 2):
            if any(_cross(p, q) for p in one.places(roads) for q in other.places(roads)):
                times = np.arange(0.0, GREENS_FOR, 0.1)
                both = times[(one.numbers(times) == 0) & (other.numbers(times) == 0)]
                if len(both):
                    yield found(
                        "greens-cross",
                        look,
                        f"{name}/{a}",
                        f"is green while {b} is, whose way crosses its own: first at {both[0]:.4g} s",
                        "give one of them another cycle or begin",
                    )


def _cross(one: tuple[float, ...], other: tuple[float, ...]) -> bool:
    """True where straight ways from two places with headings cross soon."""
    (x, y, turn, _), (other_x, other_y, other_turn, _) = one, other
    sine = math.sin(other_turn - turn)
    if abs(sine) < math.sqrt(0.5):
        return False
    dx, dy = other_x - x, other_y - y
    ways = [(dx * math.sin(h) - dy * math.cos(h)) / sine for h in (other_turn, turn)]
    return all(0.0 < way < CROSSING for way in ways)


@rule("line-met-by-nobody", "note", "roads", world=True)
def line_met_by_nobody(look: Look) -> Found:
    """The route of some actor meets each light and each line at which one gives way.

    One that stands on the other side of its road, or beyond all routes, is obeyed by nobody, and nothing else shows it.
    """
    ways = [(course.offset, route) for _, course, route in _actors(look)]
    for name, roads in _networks(look) if ways else ():
        lines: dict[str, Line] = {**roads.lights, **roads.give_ways}
        for line, sheet in lines.items():
            if all(sheet.met(roads, route, offset) is None for offset, route in ways):
                yield found(
                    "line-met-by-nobody",
                    look,
                    f"{name}/{line}",
                    f"no actor's route meets its line, at {sheet.at:.4g} m of road {sheet.road}",
                    "see its road, at and lane (its direction)",
                )
