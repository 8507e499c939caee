"""What a robot's sensors cover: where an object of a size and height would be met by a beam, seen from above."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Model, Mounted, World
from veldrain.model.volumes import bounds_of
from veldrain.physics.engine import Engine
from veldrain.pose import Array, Pose
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd
    from scipy.spatial import cKDTree

MOST_CELLS = 400  # along an edge of the grid
FARTHEST = 200.0  # m that are looked at


@dataclass(frozen=True)
class Coverage:
    """Which places around a robot its sensors cover, at rest, with nothing around it but itself.

    Attributes:
        robot: its name.
        sensors: names (n,).
        heights: above what it stands on (k,), m.
        x, y: middles of the cells (nx,) and (ny,), m, in the robot's axes.
        seen: (n, k, ny, nx) True where a sensor covers a place.
        footprint: least and greatest x and y of the robot, m.
    """

    robot: str
    sensors: tuple[str, ...]
    heights: tuple[float, ...]
    x: Array = field(repr=False)
    y: Array = field(repr=False)
    seen: NDArray[np.bool_] = field(repr=False)
    footprint: tuple[float, float, float, float]

    def blind(self, within: Quantity = 5.0) -> NDArray[np.bool_]:
        """(k, ny, nx) True where no sensor covers a place that is so near (m) to the robot's outline, outside of it."""
        low_x, high_x, low_y, high_y = self.footprint
        away = np.hypot(*np.meshgrid(_beyond(self.x, low_x, high_x), _beyond(self.y, low_y, high_y)))
        near = (away > 0) & (away <= quantity(within, "length", "coverage"))
        return np.asarray(~self.seen.any(axis=0) & near)

    def table(self, within: Quantity = 5.0) -> pd.DataFrame:
        """A row for each height and sensor, and one for ``all``: area covered (m²), farthest (m), and the blind area
        near the robot (m²) of all together."""
        import pandas as pd

        cell = float(self.x[1] - self.x[0]) * float(self.y[1] - self.y[0])
        away = np.hypot(*np.meshgrid(self.x, self.y))
        dark = self.blind(within)
        rows = []
        for k, height in enumerate(self.heights):
            for name, seen in (*zip(self.sensors, self.seen[:, k], strict=True), ("all", self.seen[:, k].any(axis=0))):
                area, farthest = cell * seen.sum(), away[seen].max(initial=0.0)
                blind = cell * dark[k].sum() if name == "all" else math.nan
                rows.append({"height": height, "sensor": name, "area": area, "farthest": farthest, "blind": blind})
        return pd.DataFrame(rows)


def coverage(
    thing: Model | World,
    robot: str | None = None,
    *,
    heights: Sequence[Quantity] = (0.5,),
    size: Quantity = 0.3,
    reach: Quantity | None = None,
) -> Coverage:
    """What the sensors of a robot cover, its own body included: what it hides is not covered.

    A place is covered at a height where a beam of a sensor meets an object of a size there: within the sensor's range,
    and with no part of the robot in between. Far off, an object can be between two beams of a lidar.

    Args:
        thing: a model, or a world with the robot.
        robot: its name in the world; None: the only one that has sensors that look.
        heights: above what it stands on, m.
        size: of the object, m.
        reach: how far around it is looked, m; None: as far as the sensors reach, 200 m at most.

    Raises:
        VeldrainError: no robot of that name, or none of its sensors looks at anything.

    >>> coverage(model, heights=["20 cm", "1 m"]).table()  # doctest: +SKIP
    """
    from scipy.spatial import cKDTree

    model, name = _chosen(thing, robot)
    looking = {m.name: m for m in model.sensors.values() if m.sensor.sight() is not None and not m.sensor.truth}
    if not looking:
        raise VeldrainError("has no sensor that looks at anything", where=name, cure="mount a lidar, radar or camera")
    engine = Engine(World().place(model, name, fixed=True), 1e-3)
    low, high = _bounds(engine)
    ranges = {s: _range(m) for s, m in looking.items()}
    far = min(max(ranges.values()), FARTHEST) if reach is None else quantity(reach, "length", "coverage")
    count = min(MOST_CELLS, max(40, 2 * math.ceil(far / 0.25)))
    x = (np.arange(count) + 0.5) / count * 2 * far - far
    levels = [quantity(h, "length", "coverage") for h in heights]
    half = quantity(size, "length", "coverage") / 2
    seen = np.zeros((len(looking), len(levels), count, count), bool)
    for n, (sensor, mounted) in enumerate(looking.items()):
        pose, tree = engine.pose(f"{name}/{sensor}"), cKDTree(mounted.sensor.looks_along())
        for k, height in enumerate(levels):
            seen[n, k] = _covered(engine, mounted, tree, pose, x, float(low[2]) + height, half, ranges[sensor])
    footprint = float(low[0]), float(high[0]), float(low[1]), float(high[1])
    return Coverage(name, tuple(looking), tuple(levels), x, x.copy(), seen, footprint)


def _chosen(thing: Model | World, robot: str | None) -> tuple[Model, str]:
    if isinstance(thing, Model):
        return thing, thing.name
    looking = [n for n, p in thing.placed.items() if any(m.sensor.sight() for m in p.model.sensors.values())]
    if robot is None and len(looking) == 1:
        robot = looking[0]
    if robot not in thing.placed:
        if robot is None:
            raise VeldrainError(f"{len(looking)} robots look", where="coverage", cure=f"name one: {', '.join(looking)}")
        raise unknown("robot", robot, thing.placed, "coverage")
    return thing.placed[robot].model, robot


def _bounds(engine: Engine) -> tuple[Array, Array]:
    shapes = [(s.shape, engine.node_pose(s.node) @ s.pose) for s in engine.compiled.sights if s.shape is not None]
    return bounds_of(shapes) if shapes else (np.zeros(3), np.zeros(3))


def _range(mounted: Mounted) -> float:
    """How far a sensor reaches by its sheet, or else as far as it looks."""
    sight = mounted.sensor.sight()
    assert sight is not None
    return float(mounted.sensor.values.get("max_range", sight.max_range))


def _covered(
    engine: Engine, mounted: Mounted, tree: cKDTree, pose: Pose, x: Array, z: float, half: float, reach: float
) -> NDArray[np.bool_]:
    """Where on a grid a sensor would meet an object."""
    sight = mounted.sensor.sight()
    assert sight is not None
    apart = 0.0  # beams of what looks all over its field are no farther apart than this
    if tree.n > 1 and not mounted.sensor.has_gaps:
        apart = 0.75 * float(np.asarray(tree.query(tree.data, k=2)[0])[:, 1].max())
    grid = np.stack([*np.meshgrid(x, x), np.full((len(x), len(x)), z)], axis=-1).reshape(-1, 3)
    ways = pose.inverse().apply(grid)
    far = np.maximum(np.linalg.norm(ways, axis=1), 1e-9)
    off, _ = tree.query(ways / far[:, None], distance_upper_bound=1.0)
    met = (far <= min(reach, FARTHEST * 2)) & (far >= sight.near) & (off <= np.maximum(half / far, apart))
    rows = np.flatnonzero(met)
    lines = pose.rotation.apply(ways[rows] / far[rows, None])
    starts = np.tile(pose.position, (len(rows), 1))
    if len(rows):
        free, _, _ = engine.scene_of(sight.sees).cast(starts, lines, float(far[rows].max()))
        met[rows] = free >= far[rows] - half
    return np.asarray(met.reshape(len(x), len(x)), bool)


def _beyond(values: Array, low: float, high: float) -> Array:
    """How far values are outside of an interval."""
    return np.maximum(np.maximum(low - values, values - high), 0.0)
