"""ASAM OpenDRIVE out (1.7, XML): what ``open_drive_in`` reads back equal."""

from __future__ import annotations

from typing import Any

from veldrain.motion.roads.geometry import NUMBERS
from veldrain.motion.roads.network import Roads
from veldrain.motion.roads.profiles import Profile
from veldrain.motion.roads.road import Junction, Lane, Link, Road, Section, Thing
from veldrain.xml import add, written

SIDES = (("left", 1), ("center", 0), ("right", -1))


def open_drive_of(roads: Roads) -> bytes:
    """The bytes of a file of roads."""
    from lxml import etree

    root = etree.Element("OpenDRIVE")
    add(root, "header", revMajor="1", revMinor="7", name=roads.name)
    for road in roads.roads.values():
        _road(root, road)
    for junction in roads.junctions.values():
        _junction(root, junction)
    return written(root)


def _cubics(parent: Any, name: str, profile: Profile, start: str = "s") -> None:
    for s, a, b, c, d in profile.rows:
        add(parent, name, **{start: s}, a=a, b=b, c=c, d=d)


def _road(root: Any, road: Road) -> None:
    e = add(root, "road", name=road.name, length=road.length, id=road.id, junction=road.junction, rule=road.rule)
    if road.before or road.after:
        link = add(e, "link")
        for word, to in (("predecessor", road.before), ("successor", road.after)):
            _link(link, word, to)
    for s, kind, speed in road.types:
        typed = add(e, "type", s=s, type=kind)
        if speed is not None:
            add(typed, "speed", max=speed, unit="m/s")
    plan = add(e, "planView")
    for g in road.geometry:
        piece = add(plan, "geometry", s=g.s, x=g.x, y=g.y, hdg=g.heading, length=g.length)
        words: dict[str, Any] = dict(zip(NUMBERS[g.kind], g.numbers, strict=True))
        if g.kind == "paramPoly3":
            words["pRange"] = "normalized" if g.normalized else "arcLength"
        add(piece, g.kind, **words)
    if road.elevation.rows:
        _cubics(add(e, "elevationProfile"), "elevation", road.elevation)
    if road.banking.rows:
        _cubics(add(e, "lateralProfile"), "superelevation", road.banking)
    lanes = add(e, "lanes")
    _cubics(lanes, "laneOffset", road.lane_offset)
    for section in road.sections:
        _section(lanes, section)
    _beside(e, road)


def _link(parent: Any, word: str, to: Link | None) -> None:
    if to is not None:
        add(parent, word, elementType=to.kind, elementId=to.to, contactPoint=to.contact or None)


def _section(parent: Any, section: Section) -> None:
    e = add(parent, "laneSection", s=section.s)
    for word, sign in SIDES:
        own = [n for n in sorted(section.lanes, reverse=True) if (n > 0) - (n < 0) == sign]
        if own:
            side = add(e, word)
            for number in own:
                _lane(side, section, section.lanes[number])


def _lane(parent: Any, section: Section, lane: Lane) -> None:
    e = add(parent, "lane", id=lane.number, type=lane.type, level="true" if lane.level else "false")
    if lane.before is not None or lane.after is not None:
        link = add(e, "link")
        for word, number in (("predecessor", lane.before), ("successor", lane.after)):
            if number is not None:
                add(link, word, id=number)
    _cubics(e, "width", lane.width, "sOffset")
    if lane.border is not None:
        _cubics(e, "border", lane.border, "sOffset")
    for mark in lane.marks:
        add(e, "roadMark", sOffset=mark.s, type=mark.type, width=mark.width, color=mark.colour)
    for s, most in lane.speeds:
        add(e, "speed", sOffset=s - section.s, max=most, unit="m/s")
    for s, inner, outer in lane.heights:
        add(e, "height", sOffset=s, inner=inner, outer=outer)


def _beside(parent: Any, road: Road) -> None:
    if road.things:
        objects = add(parent, "objects")
        for thing in road.things:
            _thing(objects, thing)
    if road.signs:
        signals = add(parent, "signals")
        for sign in road.signs:
            words = {
                w: v or None for w, v in (("subtype", sign.subtype), ("country", sign.country), ("unit", sign.unit))
            }
            add(
                signals,
                "signal",
                id=sign.id,
                s=sign.s,
                t=sign.t,
                zOffset=sign.z,
                type=sign.type,
                value=sign.value,
                name=sign.name,
                orientation=sign.orientation,
                dynamic="yes" if sign.dynamic else "no",
                hOffset=sign.heading,
                height=sign.height,
                width=sign.width,
                text=sign.text or None,
                **words,
            )


def _thing(parent: Any, thing: Thing) -> None:
    e = add(
        parent,
        "object",
        id=thing.id,
        type=thing.type,
        s=thing.s,
        t=thing.t,
        zOffset=thing.z,
        hdg=thing.heading,
        length=thing.length,
        width=thing.width,
        height=thing.height,
        radius=thing.radius,
        name=thing.name,
    )
    for r in thing.repeats:
        pairs = {"t": r.t, "zOffset": r.z, "height": r.height, "width": r.width}
        words = {
            f"{word}{end}": v for word, pair in pairs.items() for end, v in zip(("Start", "End"), pair, strict=True)
        }
        add(e, "repeat", s=r.s, length=r.length, distance=r.distance, **words)
    if thing.outline or thing.along_road:
        outline = add(add(e, "outlines"), "outline")
        for u, v, z, height in thing.outline:
            add(outline, "cornerLocal", u=u, v=v, z=z, height=height)
        for s, t, dz, height in thing.along_road:
            add(outline, "cornerRoad", s=s, t=t, dz=dz, height=height)


def _junction(root: Any, junction: Junction) -> None:
    e = add(root, "junction", id=junction.id, name=junction.name)
    for c in junction.connections:
        words = {"incomingRoad": c.incoming, "connectingRoad": c.connecting, "contactPoint": c.contact}
        connection = add(e, "connection", id=c.id, **words)
        for first, then in c.lanes:
            add(connection, "laneLink", from_=first, to=then)
