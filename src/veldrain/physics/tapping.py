"""Taps by name: where sensors have something gathered at every step, see ``taps``."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from veldrain.model import MassProperties
from veldrain.physics import plant as p
from veldrain.physics.builder import LinkPlace
from veldrain.physics.host import Engine
from veldrain.pose import Array

PLACES = 64  # where a tally can be touched between two readings
_KINDS = ("inertials", "loads", "load_geoms", "load_links", "hanging", "tallies", "tally_geoms", "felt", "drives")
GATHERED = ("inertials", "loads", "hanging", "tallies", "felt", "drives")


@dataclass(frozen=True)
class Felt:
    """Contacts gathered over a time, a row each place where two shapes touched.

    Attributes:
        sides: names of both (n, 2); forces are on the first.
        point: mean place (n, 3), m, weighted by force; normal (n, 3) from the second to the first, likewise.
        force: mean over the time (n, 3), N; moment: mean of the moment about the world's origin (n, 3), N·m.
        gap: least (n,), m.
        lost: contacts that found no room.
    """

    sides: Any
    point: Array
    normal: Array
    force: Array
    moment: Array
    gap: Array
    lost: int


_NO_ROWS = np.zeros((0, 3))
_NOTHING = Felt(np.empty((0, 2), object), _NO_ROWS, _NO_ROWS, _NO_ROWS, _NO_ROWS, np.zeros(0), 0)


class Taps:
    """All taps of an engine."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine

    def clear(self) -> None:
        """Remove all of them."""
        a = self._engine.plant
        self._engine.plant = a._replace(**{name: getattr(a, name)[:0] for name in _KINDS})

    def snapshot(self) -> dict[str, Any]:
        """A copy of what was gathered."""
        return {name: getattr(self._engine.plant, name).copy() for name in GATHERED}

    def restore(self, gathered: Mapping[str, Any]) -> None:
        """Take over what was gathered by the same taps; those that were not there begin anew."""
        for name, old in gathered.items():
            now = getattr(self._engine.plant, name)
            now[: len(old)] = old[: len(now)]

    @contextmanager
    def aside(self) -> Iterator[Callable[[], list[NDArray[Any]]]]:
        """Taps that are added in here are removed at its end; what comes with it gives their rows."""
        a = self._engine.plant
        sizes = {name: len(getattr(a, name)) for name in _KINDS}
        try:
            yield lambda: [getattr(self._engine.plant, name)[size:].copy() for name, size in sizes.items()]
        finally:
            a = self._engine.plant
            self._engine.plant = a._replace(**{name: getattr(a, name)[:size] for name, size in sizes.items()})

    def _add(self, kind: str, rows: Any) -> int:
        a = self._engine.plant
        before = getattr(a, kind)
        self._engine.plant = a._replace(**{kind: np.concatenate([before, rows])})
        return len(before)

    def inertial(self, place: LinkPlace, follows: float, most_force: float, most_rate: float) -> Inertials:
        """Specific force and rate at a place on a node, in its axes; see ``plant.INERTIAL``."""
        row = np.zeros(1, p.INERTIAL)
        row["node"], row["place"], row["turn"] = place.node, place.pose.position, place.pose.matrix
        row["follows"], row["most_force"], row["most_rate"] = follows, most_force, most_rate
        found = Inertials(self._engine, self._add("inertials", row))
        self._engine.refresh()
        return found

    def load(self, place: LinkPlace, links: Sequence[str], bodies: Sequence[tuple[LinkPlace, MassProperties]]) -> Loads:
        """The reaction that holds some links, about a place and in its axes."""
        engine = self._engine
        rows = np.zeros(len(bodies), p.HANGING)
        for row, (at, body) in zip(rows, bodies, strict=True):
            R = at.pose.matrix
            row["node"], row["mass"], row["centre"] = at.node, body.mass, at.pose.apply(body.com)
            row["inertia"] = R @ body.inertia @ R.T
        first = self._add("hanging", rows)
        load = np.zeros(1, p.LOAD)
        load["node"], load["first"], load["end"] = place.node, first, first + len(rows)
        load["place"], load["turn"] = place.pose.position, place.pose.matrix
        names = engine.compiled.link_names
        self._add("load_geoms", np.array([[n in links for n in engine.compiled.geom_names]], np.int64))
        self._add("load_links", np.array([[n in links for n in names]], np.int64))
        found = Loads(engine, self._add("loads", load))
        engine.refresh()
        return found

    def tally(self, geoms: p.Ints) -> Tallies:
        """The contacts of shapes (1 in an array of all shapes)."""
        row = np.zeros(1, p.TALLY)
        row["first"] = self._add("felt", np.zeros(PLACES, p.FELT))
        row["end"] = row["first"] + PLACES
        self._add("tally_geoms", geoms[None])
        return Tallies(self._engine, self._add("tallies", row))

    def tally_of_all(self) -> Tallies:
        """The contacts of the world."""
        return self.tally(np.ones(len(self._engine.plant.geoms), np.int64))

    def has_touched(self, watch: int) -> bool:
        """True where the pair of a watch has touched since it was last asked about or since the start."""
        found = bool(self._engine.plant.watch_step[watch] >= 0)
        self._engine.plant.watch_step[watch] = -1
        return found

    def drive(self, dof: int) -> Drives:
        """The mean effort of a motor."""
        row = np.zeros(1, p.DRIVE)
        row["dof"] = dof
        return Drives(self._engine, self._add("drives", row))


@dataclass(frozen=True)
class Inertials:
    """Reads and empties one tap of motion."""

    engine: Engine
    row: int

    def take(self) -> tuple[Array, Array] | None:
        """Specific force and rate (3,) each, their mean since the last call; None: no step."""
        tap = self.engine.plant.inertials[self.row]
        steps = int(tap["steps"])
        if steps == 0:
            return None
        found = tap["force"] / steps, tap["rate"] / steps
        tap["steps"], tap["force"], tap["rate"] = 0, 0.0, 0.0
        return found


@dataclass(frozen=True)
class Loads:
    """Reads and empties one tap of a reaction."""

    engine: Engine
    row: int

    def take(self) -> tuple[Array, Array] | None:
        """Mean force (N) and torque (N·m) since the last call; None: no step."""
        tap = self.engine.plant.loads[self.row]
        if tap["steps"] == 0:
            return None
        time = tap["steps"] * self.engine.step
        found = tap["force"] / time, tap["torque"] / time
        tap["steps"], tap["force"], tap["torque"] = 0, 0.0, 0.0
        return found


@dataclass(frozen=True)
class Tallies:
    """Reads and empties one tally of contacts."""

    engine: Engine
    row: int

    def take(self) -> Felt:
        """What touched since the last call."""
        a, engine = self.engine.plant, self.engine
        tally = a.tallies[self.row]
        first, count, lost = int(tally["first"]), int(tally["count"]), int(tally["lost"])
        if count == 0 and lost == 0:
            tally["steps"], tally["pressed"] = 0, 0.0
            return _NOTHING
        rows = a.felt[first : first + count]
        if count > 1:
            rows = rows[np.argsort(rows["key"], kind="stable")]
        time, weight = max(int(tally["steps"]), 1) * engine.step, rows["weight"][:, None]
        found = Felt(
            engine.sides_of(rows["key"]),
            rows["point"] / weight,
            rows["normal"] / weight,
            rows["impulse"] / time,
            rows["moment"] / time,
            rows["gap"].copy(),
            lost,
        )
        tally["count"], tally["steps"], tally["lost"], tally["pressed"] = 0, 0, 0, 0.0
        return found


@dataclass(frozen=True)
class Drives:
    """Reads and empties one tap of a motor."""

    engine: Engine
    row: int

    def take(self) -> float | None:
        """Mean effort since the last call; None: no step."""
        tap = self.engine.plant.drives[self.row]
        if tap["steps"] == 0:
            return None
        found = float(tap["sum"] / tap["steps"])
        tap["steps"], tap["sum"] = 0, 0.0
        return found
