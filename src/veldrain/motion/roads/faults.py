"""What is wrong with a network of roads: gaps, kinks, steps, links to nothing, things beyond their road."""

from __future__ import annotations

import math
from collections.abc import Iterator
from itertools import pairwise

import numpy as np

from veldrain.motion.roads.crossfall import lying, placed, steps
from veldrain.motion.roads.road import Connection, Junction, Link, Network, OnLane, Road
from veldrain.pose import Array

GAP, KINK = 0.02, 0.02  # m and rad: what is more is told
STEEPEST = math.pi / 4  # of a bank: what is more was meant in degrees
Told = Iterator[tuple[str, str]]


def problems(roads: Network) -> Iterator[tuple[str, str, str]]:
    """What is wrong with it: the place, what it is, and the cure."""
    for road in roads.roads.values():
        for look in (_line, _profiles, _sections, _things):
            yield from ((f"road {road.id}", *told) for told in look(road))
        for word in ("start", "end"):
            yield from ((f"road {road.id}", *told) for told in _link(roads, road, word))
        yield from ((f"road {road.id}", *told) for told in _lanes(roads, road))
    for junction in roads.junctions.values():
        yield from ((f"junction {junction.id}", *told) for told in _junction(roads, junction))


def _line(road: Road) -> Told:
    for one, other in pairwise(road.geometry):
        x, y, turn, _ = (float(v[0]) for v in one.curve.at(np.array([one.length])))
        gap, kink = math.hypot(x - other.x, y - other.y), math.remainder(turn - other.heading, 2 * math.pi)
        if abs(one.s + one.length - other.s) > GAP:
            yield (
                f"its line has a piece from {other.s:.5g} m on, and the one before ends at {one.s + one.length:.5g} m",
                "mend s",
            )
        if gap > GAP:
            yield f"its line has a gap of {gap:.3g} m at {other.s:.5g} m", "let each piece begin where the last ends"
        elif abs(kink) > KINK:
            yield f"its line turns by {math.degrees(kink):.2g}° at once, at {other.s:.5g} m", "make the headings agree"
    if abs(road.length - road.curve.length) > GAP:
        yield f"is said to be {road.length:.5g} m long, and its line is {road.curve.length:.5g} m", "mend its length"
    for one_s, other_s in pairwise(road.sections):
        if other_s.s <= one_s.s:
            yield f"has a section at {other_s.s:.5g} m after one at {one_s.s:.5g} m", "put them in order"


def _profiles(road: Road) -> Told:
    """Steps along it, within the length that it has."""
    widest = max(_reach(road, k) for k in range(len(road.sections)))
    for what, profile, arm, unit in (
        ("its height", road.elevation, 1.0, "m"),
        ("its bank", road.banking, widest, "rad"),
        ("its lanes' offset", road.lane_offset, 1.0, "m"),
    ):
        for s, jump in steps(profile):
            if abs(jump) * arm > GAP and 0.0 < s < road.curve.length:
                yield f"{what} jumps by {jump:.3g} {unit} at {s:.5g} m", "let each piece begin where the last ends"
    bank = road.banking.at(np.linspace(0.0, road.curve.length, 33)) if road.banking.rows else np.zeros(1)
    if (steepest := float(np.abs(bank).max())) > STEEPEST:
        yield f"banks by {math.degrees(steepest):.3g}°", "give superelevation in rad"


def _reach(road: Road, section: int) -> float:
    s = np.array([road.sections[section].s])
    return max(float(np.abs(side).max()) for pair in road.borders(section, s).values() for side in pair)


def _sections(road: Road) -> Told:
    """Lanes whose widths jump, within a section or to the lane that they go on to."""
    for k, section in enumerate(road.sections):
        for lane in section.lanes.values():
            for at, jump in steps(lane.border or lane.width):
                if abs(jump) > GAP and 0.0 < at < road.end_of(k) - section.s:
                    where = section.s + at
                    yield f"the width of its lane {lane.number} jumps by {jump:.3g} m at {where:.5g} m", "mend its a"
        if k + 1 == len(road.sections):
            continue
        s = np.array([road.end_of(k)])
        here, there = road.borders(k, s), road.borders(k + 1, s)
        for lane in section.lanes.values():
            if lane.number and lane.after in there and road.end_of(k) > section.s:
                gaps = [abs(float(b[0] - a[0])) for a, b in zip(here[lane.number], there[lane.after], strict=True)]
                if max(gaps) > GAP:
                    yield (
                        f"its lane {lane.number} goes on as {lane.after} at {s[0]:.5g} m, {max(gaps):.3g} m aside",
                        "let its borders agree",
                    )


def _things(road: Road) -> Told:
    for kind, placed_things in (("object", road.things), ("signal", road.signs)):
        for one in placed_things:
            along = [one.s, *(end for r in getattr(one, "repeats", ()) for end in (r.s, r.s + r.length))]
            along = along[1:] if len(along) > 1 else along
            worst = min(along) if min(along) < 0 else max(along)
            if not -GAP <= worst <= road.curve.length + GAP:
                yield (
                    f"its {kind} '{one.id}' is at {worst:.5g} m, and it is {road.curve.length:.5g} m long: not laid",
                    "mend its s",
                )


def _ends(road: Road, s: float) -> tuple[float, float, float]:
    x, y, heading, _ = (float(v[0]) for v in road.curve.at(np.array([s])))
    return x, y, heading


def _link(roads: Network, road: Road, word: str) -> Told:
    link, s = (road.before, 0.0) if word == "start" else (road.after, road.curve.length)
    if link is None:
        return
    known = roads.roads if link.kind == "road" else roads.junctions
    if link.to not in known:
        yield f"its {word} goes on to {link.kind} '{link.to}', which is not there", "add it, or take the link out"
    elif link.kind == "road":
        other = roads.roads[link.to]
        end = 0.0 if link.contact == "start" else other.curve.length
        (x, y, turn), (ox, oy, o_turn) = _ends(road, s), _ends(other, end)
        flips = (word == "end") == (link.contact == "end")
        kink = math.remainder(turn - o_turn + (math.pi if flips else 0.0), 2 * math.pi)
        apart = _apart(road, s, other, end)
        step = abs(float(road.elevation.value(s) - other.elevation.value(end)))
        if math.hypot(x - ox, y - oy) > GAP and apart > GAP:
            yield (
                f"its {word} is {math.hypot(x - ox, y - oy):.3g} m from the {link.contact} of road {link.to}",
                "join them",
            )
        elif abs(kink) > KINK:
            yield f"turns by {math.degrees(kink):.2g}° at its {word}, onto road {link.to}", "make their headings agree"
        elif math.hypot(x - ox, y - oy) <= GAP < step:
            yield f"its {word} is {step:.3g} m above or below road {link.to}", "let their heights agree"


def _apart(road: Road, s: float, other: Road, end: float) -> float:
    """The least distance from above of borders of two roads' lanes at their ends: reference lines may lie apart."""
    ends = []
    for one, at in ((road, s), (other, end)):
        here, k = np.array([at]), one.section_at(min(at, one.curve.length - 1e-6))
        sides = one.borders(k, here)
        ends.append(np.concatenate([one.points(here, t) for pair in sides.values() for t in pair])[:, :2])
    return float(np.hypot(*(ends[0][:, None] - ends[1][None]).transpose(2, 0, 1)).min())


def _lanes(roads: Network, road: Road) -> Told:
    for k, section in enumerate(road.sections):
        for lane in section.lanes.values():
            if lane.number == 0:
                continue
            for word, number in (("before", lane.before), ("after", lane.after)):
                lanes = _beyond(roads, road, k, word)
                if number is not None and lanes is not None and number not in lanes:
                    yield (
                        f"lane {lane.number} of section {k} is linked to lane {number} {word} it, which is not there",
                        "link it to one that is",
                    )
            if lane.type != "driving":
                continue
            on = OnLane(roads, road, k, lane)
            last = k == (len(road.sections) - 1 if on.forward else 0)
            link, said = (road.after, lane.after) if on.forward else (road.before, lane.before)
            if (not last or link is not None) and said is None and not (link and link.kind == "junction" and last):
                yield f"lane {lane.number} of section {k} ends where the road goes on", "link it to a lane"
            s = np.linspace(section.s, max(road.end_of(k) - 1e-6, section.s), 9)
            inner, outer = road.borders(k, s)[lane.number]
            if ((outer - inner) * np.sign(lane.number) < -1e-6).any():
                yield f"lane {lane.number} of section {k} has a width below zero", "give it one above"


def _beyond(roads: Network, road: Road, section: int, word: str) -> set[int] | None:
    """The lanes before or after a section's; None: there are none to link to, or it is a junction's matter."""
    k = section + (1 if word == "after" else -1)
    if 0 <= k < len(road.sections):
        return set(road.sections[k].lanes)
    link = road.after if word == "after" else road.before
    if link is None or link.kind != "road" or link.to not in roads.roads:
        return None
    return _entered(roads.roads[link.to], link.contact)


def _entered(road: Road, contact: str) -> set[int]:
    return set(road.sections[-1 if contact == "end" else 0].lanes)


def _junction(roads: Network, junction: Junction) -> Told:
    for c in junction.connections:
        missing = [id for id in (c.incoming, c.connecting) if id not in roads.roads]
        for id in missing:
            yield f"connects road '{id}', which is not there", "add it, or take it out"
        if missing:
            continue
        ends = [word for word, link in _both(roads.roads[c.incoming]) if link and link.to == junction.id]
        if not ends:
            continue
        yield from _connection(roads, c, ends)


def _both(road: Road) -> tuple[tuple[str, Link | None], ...]:
    return ("start", road.before), ("end", road.after)


def _connection(roads: Network, c: Connection, ends: list[str]) -> Told:
    """Lanes that a connection names and that are not there, or do not meet."""
    incoming, connecting = roads.roads[c.incoming], roads.roads[c.connecting]
    there = _entered(connecting, c.contact)
    for first, then in c.lanes:
        if not any(first in _entered(incoming, end) for end in ends):
            yield f"connection {c.id} is from lane {first} of road {c.incoming}, which is not there", "mend its from"
        elif then not in there:
            yield f"connection {c.id} is to lane {then} of road {c.connecting}, which is not there", "mend its to"
        else:
            goal = _middle(connecting, c.contact, then)
            gap = min(
                (_middle(incoming, end, first) - goal for end in ends if first in _entered(incoming, end)),
                key=lambda apart: float(np.linalg.norm(apart)),
            )
            flat, step = float(np.hypot(*gap[:2])), abs(float(gap[2]))
            if flat > GAP:
                yield (
                    f"connection {c.id}: lane {first} of road {c.incoming} ends {flat:.3g} m from where lane {then} of"
                    f" road {c.connecting} has its {c.contact}",
                    "see its contactPoint, and where its road lies",
                )
            elif step > GAP:
                yield (
                    f"connection {c.id}: road {c.connecting} lies {step:.3g} m above or below road {c.incoming}",
                    "let their heights agree",
                )


def _middle(road: Road, end: str, lane: int) -> Array:
    """The middle of a lane at an end of its road."""
    k = len(road.sections) - 1 if end == "end" else 0
    s = np.array([road.curve.length if end == "end" else 0.0])
    inner, outer = road.borders(k, s)[lane]
    return np.asarray(placed(road, s, lying(road, k, lane, s, ((inner + outer) / 2,)))[0])
