"""OpenStreetMap XML in: its ways as roads on a plane about the middle of the extract; what is guessed is noted.

Places go to the plane by the radii of curvature of the WGS 84 ellipsoid in its middle (NIMA TR8350.2, section 3):
x points east, y north. An extract of some kilometres keeps its lengths to a millionth.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Mapping
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.files import read_bytes
from veldrain.motion.curves import Curve
from veldrain.motion.roads.building import crossing, road_through
from veldrain.motion.roads.network import Roads
from veldrain.pose import Array
from veldrain.xml import parse_xml

MOST_FILE = 50 << 20
AXIS, FLATTENING = 6378137.0, 1 / 298.257223563
# By kind of way: lanes in each direction, width of a lane (m), most speed (km/h) where nothing is said.
KINDS = {
    "motorway": (2, 3.75, 130), "motorway_link": (1, 3.75, 80), "trunk": (2, 3.5, 100), "trunk_link": (1, 3.5, 80),
    "primary": (1, 3.5, 80), "primary_link": (1, 3.5, 60), "secondary": (1, 3.25, 80), "secondary_link": (1, 3.25, 60),
    "tertiary": (1, 3.0, 60), "tertiary_link": (1, 3.0, 50), "unclassified": (1, 2.75, 60),
    "residential": (1, 2.75, 50),
    "living_street": (1, 2.5, 15), "service": (1, 2.5, 30), "track": (1, 2.0, 30), "road": (1, 2.75, 50),
}  # fmt: skip
RADII = (40.0, 20.0, 12.0, 8.0, 5.0, 3.0, 1.5, 0.5)  # m of corners, the first that fits
MOST_ACROSS = 200e3  # m: a flat map is 0.1 % off at its rim
SHORTEST = 2.0  # m of a road between two crossings
# Tags of roads that are read, and those that say nothing about how one drives; all others are noted.
WAYS = "lanes lanes:forward lanes:backward width maxspeed oneway junction name layer bridge tunnel sidewalk"
READ = frozenset(["highway", *WAYS.split()])
ASIDE = re.compile(
    r"(source|note|fixme|ref|name|alt_name|old_name|loc_name|int_ref|created_by|wikidata|wikipedia)(:.*)?|tiger:.*|addr:.*|.*:(url|date)"
)


def read_street_map(path: str | Path) -> Roads:
    """The roads of an extract.

    Raises:
        VeldrainError: what is wrong in it, with file and line; or no way of it is a road.
    """
    where = Path(path)
    root = parse_xml(read_bytes(where, "name an OpenStreetMap XML file", MOST_FILE), where)
    if root.tag != "osm":
        raise VeldrainError(f"is a file of <{root.tag}>", where=f"{where}:{root.sourceline}", cure="name one of <osm>")
    return _Reader(root, where).roads()


class _Reader:
    """Reads one extract."""

    def __init__(self, root: Any, path: Path) -> None:
        self.root, self.path = root, path
        self.guessed: Counter[str] = Counter()

    def roads(self) -> Roads:
        places = self.places()
        ways = [(e, self.tags(e), self.nodes(e, places)) for e in self.root.iter("way")]
        ways = [(e, tags, nodes) for e, tags, nodes in ways if tags.get("highway") in KINDS and len(nodes) > 1]
        if not ways:
            raise VeldrainError("has no way that is a road", where=str(self.path), cure="see its highway= tags")
        uses = Counter(node for _, _, nodes in ways for node in nodes)
        uses.update(node for _, _, nodes in ways for node in (nodes[0], nodes[-1]))  # an end counts twice
        made = Roads(self.path.stem)
        made.where = str(self.path)
        arms: dict[str, list[str]] = {}
        for element, tags, nodes in ways:
            cuts = [0, *(k for k in range(1, len(nodes) - 1) if uses[nodes[k]] > 1), len(nodes) - 1]
            shared = [uses[nodes[k]] > 2 or 0 < k < len(nodes) - 1 for k in cuts]
            for n, (first, last) in enumerate(pairwise(cuts)):
                id = str(element.get("id", "")) + (f".{n + 1}" if len(cuts) > 2 else "")
                line = np.array([places[node] for node in nodes[first : last + 1]])
                if self.add(made, id, line, tags, shared[n], shared[n + 1]):
                    for k, word in ((first, "start"), (last, "end")):
                        arms.setdefault(nodes[k], []).append(f"{id}:{word}")
        for node, ends in arms.items():
            if len(ends) > 1 and (left_out := crossing(made, f"node{node}", ends, is_strict=False)):
                self.guessed["turns at crossings without room left out"] += left_out
        made.notes += [f"{self.path.name}: {what} ({count} times)" for what, count in sorted(self.guessed.items())]
        other = Counter(tags["highway"] for e in self.root.iter("way") if (tags := self.tags(e)).get("highway"))
        left = {kind: n for kind, n in other.items() if kind not in KINDS}
        kinds = (self.tags(e).get("type") for e in self.root.iter("relation"))
        if rules := sum(kind == "restriction" for kind in kinds):
            left["rules of who may turn where"] = rules
        left |= self.unread(ways, uses)
        if left:
            made.notes.append(f"{self.path.name}: not used: " + ", ".join(f"{n} {kind}" for kind, n in left.items()))
        made.notes.append(f"{self.path.name}: traffic keeps to the right: extracts do not say")
        return made

    def unread(self, ways: list[tuple[Any, dict[str, str], list[str]]], uses: Mapping[str, int]) -> dict[str, int]:
        """Tags of roads, and of nodes on them, that are not read, and how often."""
        found = Counter(f"{k}=" for _, tags, _ in ways for k in tags if k not in READ and not ASIDE.fullmatch(k))
        for e in self.root.iter("node"):
            if str(e.get("id")) in uses:
                found.update(
                    f"{k}={v}" if k in ("highway", "barrier", "crossing", "traffic_calming") else f"{k}="
                    for k, v in self.tags(e).items()
                    if not ASIDE.fullmatch(k)
                )
        return dict(found.most_common())

    def places(self) -> dict[str, tuple[float, float]]:
        """x and y of nodes."""
        found: dict[str, tuple[float, float]] = {}
        for e in self.root.iter("node"):
            try:
                lat, lon = float(e.get("lat")), float(e.get("lon"))
            except (TypeError, ValueError):
                lat = lon = math.nan
            if not (abs(lat) < 89 and abs(lon) <= 180):
                raise VeldrainError(
                    "a node without a place", where=f"{self.path}:{e.sourceline}", cure="give lat= and lon= in degrees"
                )
            found[str(e.get("id"))] = lat, lon
        if not found:
            raise VeldrainError("has no node", where=str(self.path), cure="name an extract with ways and nodes")
        lats, lons = np.radians(np.array(list(found.values()))).T
        lat0, lon0 = (lats.min() + lats.max()) / 2, (lons.min() + lons.max()) / 2
        e2 = FLATTENING * (2 - FLATTENING)
        root = 1 - e2 * math.sin(lat0) ** 2
        north, east = AXIS * (1 - e2) / root**1.5, AXIS / math.sqrt(root) * math.cos(lat0)
        across = max(north * float(np.ptp(lats)), east * float(np.ptp(lons)))
        if across > MOST_ACROSS:
            raise VeldrainError(
                f"its nodes lie {across / 1e3:.0f} km apart",
                where=str(self.path),
                cure=f"name an extract of at most {MOST_ACROSS / 1e3:g} km: it is laid flat",
            )
        at = zip((east * (lons - lon0)).tolist(), (north * (lats - lat0)).tolist(), strict=True)
        return dict(zip(found, at, strict=True))

    def tags(self, element: Any) -> dict[str, str]:
        return {str(e.get("k")): str(e.get("v")) for e in element.iter("tag")}

    def nodes(self, element: Any, places: Mapping[str, Any]) -> list[str]:
        """Its nodes that have a place: extracts are cut at their rim."""
        found = [str(e.get("ref")) for e in element.iter("nd")]
        known = [node for node in found if node in places]
        if len(known) < len(found):
            self.guessed["nodes that are not in the extract left out"] += len(found) - len(known)
        return [node for k, node in enumerate(known) if k == 0 or places[node] != places[known[k - 1]]]

    def add(self, made: Roads, id: str, line: Array, tags: dict[str, str], at_start: bool, at_end: bool) -> bool:
        """One road; False where it is too short to be one."""
        left, right, width = self.lanes(tags)
        room = 1.5 * width * max(left + right, 2) + 3.0
        length = float(np.hypot(*np.diff(line, axis=0).T).sum())
        cut = min(room, 0.4 * length)
        line = trimmed(line, cut if at_start else 0.0, cut if at_end else 0.0)
        if len(line) < 2 or np.hypot(*np.diff(line, axis=0).T).sum() < SHORTEST:
            self.guessed["stretches between crossings too short to be roads left out"] += 1
            return False
        if tags.get("layer", "0") != "0" or tags.get("bridge", "no") != "no" or tags.get("tunnel", "no") != "no":
            self.guessed["bridges and tunnels laid on level ground, through what they cross"] += 1
        walk = 1.5 if tags.get("sidewalk") in ("both", "yes") else 0.0
        speed = self.speed(tags)
        points = line.tolist()
        road = road_through(id, points, self.radius(line), (left, right), width, 0.0, walk, speed, 0.0, "RHT")
        road.name = tags.get("name", id)
        made.add(road)
        return True

    def radius(self, line: Array) -> float | None:
        """The first radius whose corners fit, None for two points or where none does."""
        for radius in RADII if len(line) > 2 else ():
            try:
                Curve.rounded(line, radius)
            except VeldrainError:
                continue
            self.guessed["radii of corners guessed"] += 1
            return radius
        return None

    def lanes(self, tags: dict[str, str]) -> tuple[int, int, float]:
        """Lanes on the left and right, and their width."""
        each, wide, _ = KINDS[tags["highway"]]
        goes_without_saying = tags["highway"].startswith("motorway") or tags.get("junction") in (
            "roundabout",
            "circular",
        )
        is_oneway = tags.get("oneway") in ("yes", "true", "1") or (goes_without_saying and "oneway" not in tags)
        back = tags.get("oneway") == "-1"
        count = _number(tags.get("lanes"))
        if count is None or not 1 <= count <= 12:
            self.guessed["lanes guessed from the kind of way"] += 1
            count = each if is_oneway or back else 2 * each
        total = int(count)
        if is_oneway or back:
            left, right = (total, 0) if back else (0, total)
        else:
            ahead, back_too = _number(tags.get("lanes:forward")), _number(tags.get("lanes:backward"))
            if ahead is None and back_too is not None:
                ahead = total - back_too
            right = int(ahead) if ahead is not None and 0 < ahead <= total else (total + 1) // 2
            left = max(total - right, 1)
            if total == 1:  # both ways use the same lane: each has half of it to itself
                self.guessed["two-way roads of one lane laid as half a lane for each way"] += 1
                wide /= 2
        size = _number(tags.get("width"))
        if size is None or not 1.5 <= size / total <= 6.0:
            self.guessed["widths guessed from the kind of way"] += 1
            return left, right, wide
        return left, right, size / (left + right)

    def speed(self, tags: dict[str, str]) -> float:
        told = tags.get("maxspeed", "")
        value = _number(told)
        if value is None or value <= 0:
            self.guessed["speed limits guessed from the kind of way"] += 1
            return KINDS[tags["highway"]][2] / 3.6
        return value * (0.44704 if "mph" in told else 1 / 3.6)


def _number(text: str | None) -> float | None:
    """The number that a tag begins with."""
    found = re.match(r"\s*(\d+(?:\.\d+)?)", text or "")
    return float(found[1]) if found else None


def trimmed(line: Array, start: float, end: float) -> Array:
    """A polyline (n, 2) without so much of its start and end."""
    s = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(line, axis=0).T))])
    low, high = start, s[-1] - end
    inner = (s > low + 0.5) & (s < high - 0.5)
    keep = np.concatenate([[low], s[inner], [high]])
    return np.column_stack([np.interp(keep, s, line[:, k]) for k in range(2)])
