"""ASAM OpenDRIVE in (1.4 to 1.7, XML): roads and junctions; what is not used is noted with its line."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.files import read_bytes
from veldrain.motion.roads.geometry import NUMBERS, Geometry
from veldrain.motion.roads.network import Roads
from veldrain.motion.roads.profiles import Profile
from veldrain.motion.roads.road import Connection, Junction, Lane, Link, Mark, Repeat, Road, Section, Sign, Thing
from veldrain.xml import XmlReader, parse_xml

MOST_FILE = 50 << 20
# A slip of the pen in one number must not ask for more memory than there is.
LONGEST = 1e5  # m, of a road and of a piece of it
MOST_TURN = 1e4  # rad, of an arc or spiral
MOST_COPIES = 10_000  # of a repeat
SPEED_UNITS = {"m/s": 1.0, "km/h": 1 / 3.6, "mph": 0.44704, "": 1.0}
# By element, the children and attributes that are read; all others are noted.
READ = {
    "OpenDRIVE": "header road junction",
    "header": "geoReference revMajor revMinor name north south east west version date vendor",
    "road": "link type planView elevationProfile lateralProfile lanes objects signals name length id junction rule",
    "link": "predecessor successor",
    "type": "speed s type country",
    "planView": "geometry",
    "geometry": "line arc spiral poly3 paramPoly3 s x y hdg length",
    "elevationProfile": "elevation",
    "lateralProfile": "superelevation",
    "lanes": "laneOffset laneSection",
    "laneSection": "left center right s singleSide",
    "lane": "link width border roadMark speed height id type level",
    "roadMark": "sOffset type width color",
    "objects": "object",
    "object": "repeat outline outlines id type s t zOffset hdg length width height radius name",
    "outlines": "outline",
    "outline": "cornerLocal cornerRoad",
    "repeat": "s length distance tStart tEnd zOffsetStart zOffsetEnd heightStart heightEnd widthStart widthEnd",
    "signals": "signal",
    "signal": "id s t zOffset type subtype country value unit name orientation dynamic hOffset height width text",
    "junction": "connection id name",
    "connection": "laneLink id incomingRoad connectingRoad contactPoint",
}
WORDS = {element: frozenset(words.split()) for element, words in READ.items()}


def read_open_drive(path: str | Path) -> Roads:
    """The roads of a file.

    Raises:
        VeldrainError: what is wrong in it, with file and line.
    """
    where = Path(path)
    root = parse_xml(read_bytes(where, "name an OpenDRIVE file", MOST_FILE), where)
    return _Reader(root, where).roads()


class _Reader(XmlReader):
    """Reads one file."""

    def __init__(self, root: Any, path: Path) -> None:
        super().__init__(root, path)
        self.unused: dict[str, list[int]] = {}

    def roads(self) -> Roads:
        if _name(self.root) != "OpenDRIVE":
            raise VeldrainError(
                f"is a file of <{_name(self.root)}>", where=self.at(self.root), cure="name one of <OpenDRIVE>"
            )
        self.look_at(self.root)
        named = [header.get("name", "") for header in self.root if _name(header) == "header"]
        made = Roads(next((name for name in named if re.fullmatch(r"[\w.-]+", name)), self.path.stem))
        made.where = str(self.path)
        for element in self.children(self.root, "road"):
            road = self.road(element)
            if road.id in made.roads:
                raise VeldrainError(f"a second road '{road.id}'", where=self.at(element), cure="give it another id")
            made.roads[road.id] = road
        for element in self.children(self.root, "junction"):
            junction = self.junction(element)
            made.junctions[junction.id] = junction
        if not made.roads:
            raise VeldrainError("has no road", where=self.at(self.root), cure="name a file with roads")
        for what, lines in self.unused.items():
            shown = ", ".join(str(line) for line in lines[:3])
            made.notes.append(
                f"{self.path.name}:{lines[0]}: {what} is not used"
                + (f" ({len(lines)} times, lines {shown}{', …' if len(lines) > 3 else ''})" if len(lines) > 1 else "")
            )
        return made

    def look_at(self, element: Any) -> None:
        """Note what of an element is not read."""
        name = _name(element)
        known = WORDS.get(name)
        if known is None:
            return
        for child in element:
            if (inner := _name(child)) not in known:
                self.unused.setdefault(f"<{inner}> in <{name}>", []).append(child.sourceline)
        for word in element.attrib:
            if word not in known:
                self.unused.setdefault(f"{word}= of <{name}>", []).append(element.sourceline)

    def children(self, element: Any, name: str) -> Iterator[Any]:
        if element is None:
            return
        for child in element.iterchildren("{*}" + name):
            self.look_at(child)
            yield child

    def child(self, element: Any, name: str) -> Any:
        return next(self.children(element, name), None)

    def whole(self, element: Any, word: str) -> int:
        number = self.number(element, word)
        if number != int(number):
            raise VeldrainError(f"{word}={number:g} is no whole number", where=self.at(element), cure="give one")
        return int(number)

    def number(self, element: Any, word: str, default: float | None = None) -> float:
        number = super().number(element, word, default)
        if word in ("s", "sOffset", "length") and abs(number) > LONGEST:
            raise VeldrainError(
                f"{word}={number:g}", where=self.at(element), cure=f"give one within {LONGEST / 1e3:g} km of a road"
            )
        return number

    def length(self, element: Any) -> float:
        length = self.number(element, "length")
        if not length > 0:
            raise VeldrainError(f"length={length:g}", where=self.at(element), cure="give a length above zero")
        return length

    def numbers(self, element: Any, words: str) -> tuple[float, ...]:
        return tuple(self.number(element, word) for word in words.split())

    def profile(self, parent: Any, name: str, start: str = "s") -> Profile:
        return Profile.of(self.numbers(e, f"{start} a b c d") for e in self.children(parent, name))

    def road(self, element: Any) -> Road:
        lanes = self.child(element, "lanes")
        length = self.length(element)
        geometry = [self.geometry(e) for e in self.children(self.child(element, "planView"), "geometry")]
        sections = [self.section(e) for e in self.children(lanes, "laneSection")]
        for what, found in (("planView with geometry", geometry), ("lanes with a laneSection", sections)):
            if not found:
                raise VeldrainError(f"road has no {what}", where=self.at(element), cure=f"add <{what.split()[0]}>")
        link = self.child(element, "link")
        return Road(
            self.text(element, "id"),
            sorted(geometry, key=lambda g: g.s),
            sorted(sections, key=lambda section: section.s),
            name=element.get("name", ""),
            junction=element.get("junction", "-1"),
            rule=self.rule(element),
            length=length,
            elevation=self.profile(self.child(element, "elevationProfile"), "elevation"),
            banking=self.profile(self.child(element, "lateralProfile"), "superelevation"),
            lane_offset=self.profile(lanes, "laneOffset"),
            before=self.link(self.child(link, "predecessor")),
            after=self.link(self.child(link, "successor")),
            types=tuple(self.type(e) for e in self.children(element, "type")),
            things=[self.thing(e) for e in self.children(self.child(element, "objects"), "object")],
            signs=[self.sign(e) for e in self.children(self.child(element, "signals"), "signal")],
            line=element.sourceline,
        )

    def rule(self, element: Any) -> str:
        rule = element.get("rule", "RHT")
        if rule not in ("RHT", "LHT"):
            raise unknown("rule", rule, ("RHT", "LHT"), self.at(element))
        return str(rule)

    def type(self, element: Any) -> tuple[float, str, float | None]:
        speed = self.child(element, "speed")
        most = None if speed is None else self.speed(speed)
        return self.number(element, "s"), self.text(element, "type"), most

    def speed(self, element: Any) -> float | None:
        value = self.text(element, "max")
        if value in ("no limit", "undefined"):
            return None
        unit = element.get("unit", "m/s")
        if unit not in SPEED_UNITS:
            raise unknown("unit", unit, [u for u in SPEED_UNITS if u], self.at(element))
        return self.number(element, "max") * SPEED_UNITS[unit]

    def geometry(self, element: Any) -> Geometry:
        s, x, y, heading = self.numbers(element, "s x y hdg")
        length = self.length(element)
        kinds = [child for child in element if _name(child) in NUMBERS]
        if len(kinds) != 1:
            raise VeldrainError(
                f"{len(kinds)} shapes of a geometry", where=self.at(element), cure=f"give one of {', '.join(NUMBERS)}"
            )
        kind = _name(kinds[0])
        numbers = tuple(self.number(kinds[0], word) for word in NUMBERS[kind])
        sharpest = max((abs(v) for v in numbers[:2] if kind in ("arc", "spiral")), default=0.0)
        if sharpest > 100.0 or sharpest * length > MOST_TURN:
            raise VeldrainError(
                f"curvature {sharpest:g} over {length:g} m", where=self.at(kinds[0]), cure="curvature is in 1/m"
            )
        normalized = kind == "paramPoly3" and kinds[0].get("pRange", "arcLength") == "normalized"
        made = Geometry(s, x, y, heading, length, kind, numbers, normalized)
        with np.errstate(all="ignore"):
            whole = np.isfinite([row for v in made.curve.at(np.array([0.0, length])) for row in v]).all()
        if not whole:
            raise VeldrainError("a line of no length", where=self.at(kinds[0]), cure="see its numbers")
        return made

    def link(self, element: Any) -> Link | None:
        if element is None:
            return None
        kind = self.text(element, "elementType", "road")
        if kind not in ("road", "junction"):
            raise unknown("elementType", kind, ("road", "junction"), self.at(element))
        contact = element.get("contactPoint", "" if kind == "junction" else "start")
        return Link(kind, self.text(element, "elementId"), contact)

    def section(self, element: Any) -> Section:
        lanes: dict[int, Lane] = {}
        for side in ("left", "center", "right"):
            for e in self.children(self.child(element, side), "lane"):
                lane = self.lane(e, self.number(element, "s"))
                if (lane.number > 0) - (lane.number < 0) != {"left": 1, "center": 0, "right": -1}[side]:
                    raise VeldrainError(
                        f"lane {lane.number} on the {side}", where=self.at(e), cure="left is above zero"
                    )
                lanes[lane.number] = lane
        for sign in (1, -1):
            own = sorted(abs(n) for n in lanes if n * sign > 0)
            if own != list(range(1, len(own) + 1)):
                raise VeldrainError(
                    f"lanes {[sign * n for n in own]}", where=self.at(element), cure="number them from 1 on"
                )
        return Section(self.number(element, "s"), lanes)

    def lane(self, element: Any, start: float) -> Lane:
        link = self.child(element, "link")
        ends = [self.child(link, word) for word in ("predecessor", "successor")]
        before, after = (None if end is None else self.whole(end, "id") for end in ends)
        borders = self.profile(element, "border", "sOffset")
        widths = self.profile(element, "width", "sOffset")
        return Lane(
            self.whole(element, "id"),
            self.text(element, "type", "none"),
            widths,
            borders if borders.rows and not widths.rows else None,
            element.get("level", "false") in ("true", "1"),
            tuple(self.mark(e) for e in self.children(element, "roadMark")),
            before,
            after,
            tuple(
                (start + self.number(e, "sOffset"), most)
                for e in self.children(element, "speed")
                if (most := self.speed(e)) is not None
            ),
            tuple(
                (self.number(e, "sOffset"), self.number(e, "inner"), self.number(e, "outer"))
                for e in self.children(element, "height")
            ),
        )

    def mark(self, element: Any) -> Mark:
        return Mark(
            self.number(element, "sOffset", 0.0),
            self.text(element, "type", "none"),
            self.number(element, "width", 0.12),
            element.get("color", "standard"),
        )

    def thing(self, element: Any) -> Thing:
        def size(word: str) -> float:
            return max(self.number(element, word, 0.0), 0.0)

        outlines = [element, self.child(element, "outlines")]
        outline = next((o for parent in outlines for o in self.children(parent, "outline")), None)
        return Thing(
            self.text(element, "id", ""),
            self.text(element, "type", "none"),
            s=self.number(element, "s"),
            t=self.number(element, "t"),
            z=self.number(element, "zOffset", 0.0),
            heading=self.number(element, "hdg", 0.0),
            length=size("length"),
            width=size("width"),
            height=size("height"),
            radius=size("radius"),
            name=element.get("name", ""),
            repeats=tuple(self.repeat(e) for e in self.children(element, "repeat")),
            outline=self.corners(outline, "cornerLocal", "u v z height"),
            along_road=self.corners(outline, "cornerRoad", "s t dz height"),
        )

    def corners(self, element: Any, name: str, words: str) -> tuple[tuple[float, float, float, float], ...]:
        """Corners of an outline, if it has one: in the thing's own axes, or along the road."""
        return tuple(self.numbers(e, words) for e in self.children(element, name))  # type: ignore[misc]

    def repeat(self, element: Any) -> Repeat:
        def pair(word: str) -> tuple[float, float]:
            first = self.number(element, f"{word}Start", 0.0)
            return first, self.number(element, f"{word}End", first)

        s, length, distance = self.numbers(element, "s length distance")
        if min(length, distance) < 0 or length > MOST_COPIES * (distance or LONGEST):
            raise VeldrainError(
                f"a repeat over {length:g} m, one every {distance:g} m",
                where=self.at(element),
                cure=f"give at most {MOST_COPIES} of them",
            )
        return Repeat(s, length, distance, pair("t"), pair("zOffset"), pair("height"), pair("width"))

    def sign(self, element: Any) -> Sign:
        value = element.get("value")
        return Sign(
            self.text(element, "id", ""),
            s=self.number(element, "s"),
            t=self.number(element, "t"),
            z=self.number(element, "zOffset", 0.0),
            type=element.get("type", ""),
            subtype=element.get("subtype", ""),
            country=element.get("country", ""),
            value=None if value is None else self.number(element, "value"),
            unit=element.get("unit", ""),
            name=element.get("name", ""),
            orientation=element.get("orientation", "+"),
            dynamic=element.get("dynamic", "no") == "yes",
            heading=self.number(element, "hOffset", 0.0),
            height=self.number(element, "height", 0.0),
            width=self.number(element, "width", 0.0),
            text=element.get("text", ""),
        )

    def junction(self, element: Any) -> Junction:
        connections = []
        for e in self.children(element, "connection"):
            lanes = tuple((self.whole(k, "from"), self.whole(k, "to")) for k in self.children(e, "laneLink"))
            words = (self.text(e, "id", ""), self.text(e, "incomingRoad"), self.text(e, "connectingRoad"))
            connections.append(Connection(*words, self.text(e, "contactPoint", "start"), lanes))
        return Junction(self.text(element, "id"), connections, element.get("name", ""), element.sourceline)


def _name(element: Any) -> str:
    """An element's name without its namespace."""
    return str(element.tag).rpartition("}")[2]
