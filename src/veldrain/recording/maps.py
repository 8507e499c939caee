"""Maps out of scans and clouds: which cells of a grid are occupied, and how high the ground is."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.files import write_bytes, write_text
from veldrain.model import Fields, HeightField, Message, World
from veldrain.model.volumes import touched
from veldrain.pose import Array, Pose
from veldrain.recording.gridding import count_beams
from veldrain.recording.messages import header
from veldrain.recording.world_words import as_yaml
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    from veldrain.recording.reading import Streams

# Log odds that a beam's end and a beam's passing add to a cell, and where they end (S. Thrun, W. Burgard, D. Fox,
# "Probabilistic Robotics", MIT Press 2005, chapter 9).
HIT, PASSED, MOST = 0.85, -0.4, 4.0
OCCUPIED, FREE = 0.65, 0.196  # probabilities from which on, and up to which, a cell counts as such
MOST_CELLS = 40_000_000
GREYS = 205, 0, 254  # of the picture: unknown, occupied, free


@dataclass(frozen=True)
class MapComparison:
    """How a map is beside another, over the cells that both know.

    Attributes:
        cells: how many both know.
        agree: share of them of which both say the same.
        missed: share of the other's occupied cells that have no occupied one here, within the reach asked for.
        invented: share of the occupied cells here that have none there.
    """

    cells: int
    agree: float
    missed: float
    invented: float


class OccupancyMap:
    """Which cells of a level grid are occupied.

    Attributes:
        probability: (rows, columns) that a cell is occupied; nan: it was never seen. Rows go along y, columns along x.
        cell: edge of a cell, m.
        corner: (2,) x and y of the grid's low corner, m.
        frame: that it is in.
    """

    def __init__(self, probability: Array, cell: float, corner: Array, frame: str = "world") -> None:
        self.probability, self.cell, self.frame = np.asarray(probability, float), float(cell), frame
        self.corner = np.asarray(corner, float)

    @property
    def occupied(self) -> np.ndarray:
        """True where a cell is occupied."""
        return np.asarray(np.nan_to_num(self.probability) > OCCUPIED)

    @property
    def free(self) -> np.ndarray:
        """True where a cell is free."""
        return np.asarray(np.nan_to_num(self.probability, nan=1.0) < FREE)

    def at(self, x: float, y: float) -> float:
        """The probability that a place is occupied; nan: it is unknown, or beside the map."""
        column, row = np.floor((np.array((x, y)) - self.corner) / self.cell).astype(int).tolist()
        rows, columns = self.probability.shape
        return float(self.probability[row, column]) if 0 <= row < rows and 0 <= column < columns else float("nan")

    def save(self, path: str | Path) -> list[Path]:
        """Write it as a grey picture (PNG) with a YAML file beside it, as ROS navigation reads maps.

        >>> grid.save("yard.png")  # doctest: +SKIP
        """
        from PIL import Image

        picture = Path(path).with_suffix(".png")
        grey = np.full(self.probability.shape, GREYS[0], np.uint8)
        grey[self.occupied], grey[self.free] = GREYS[1], GREYS[2]
        out = io.BytesIO()
        Image.fromarray(grey[::-1]).save(out, "png")  # the first row of a picture is its upper one
        words: dict[str, Any] = {"image": picture.name, "resolution": self.cell, "origin": [*self.corner.tolist(), 0.0]}
        words |= {"negate": 0, "occupied_thresh": OCCUPIED, "free_thresh": FREE, "mode": "trinary"}
        write_bytes(picture, out.getvalue())
        write_text(picture.with_suffix(".yaml"), as_yaml(words))
        return [picture, picture.with_suffix(".yaml")]

    def message(self, time: Quantity = 0.0) -> Message:
        """The same as ``nav_msgs/msg/OccupancyGrid``: 0 to 100, −1 where it is unknown."""
        rows, columns = self.probability.shape
        stamp = round(quantity(time, "time", "map") * 1e9)
        x, y = self.corner.tolist()
        origin = Fields(position=Fields(x=x, y=y, z=0.0), orientation=Fields(x=0.0, y=0.0, z=0.0, w=1.0))
        about = Fields(
            map_load_time=Fields(sec=0, nanosec=0), resolution=self.cell, width=columns, height=rows, origin=origin
        )
        known = np.isfinite(self.probability)
        data = np.where(known, np.round(100 * np.nan_to_num(self.probability)), -1).astype(np.int8).ravel()
        return Message("nav_msgs/msg/OccupancyGrid", Fields(header=header(stamp, self.frame), info=about, data=data))

    def compare(self, other: OccupancyMap, within: int = 1) -> MapComparison:
        """How it is beside another map of the same cells: the truth, or that of another run.

        Args:
            other: with cells of the same size.
            within: how many cells what is occupied may lie beside it there.

        Raises:
            VeldrainError: cells of another size, or nothing that both know.
        """
        if abs(self.cell - other.cell) > 1e-9 * self.cell:
            raise VeldrainError(
                f"cells of {self.cell:g} and of {other.cell:g} m", where="compare", cure="make both with the same cell"
            )
        shift = np.rint((other.corner - self.corner) / self.cell).astype(int)[::-1]  # rows, columns
        sizes = np.array([self.probability.shape, other.probability.shape])
        low, high = np.maximum(shift, 0), np.minimum(sizes[0], shift + sizes[1])
        if (high <= low).any():
            raise VeldrainError("the maps do not meet", where="compare", cure="compare maps of one place")
        mine = tuple(slice(a, b) for a, b in zip(low, high, strict=True))
        theirs = tuple(slice(a, b) for a, b in zip(low - shift, high - shift, strict=True))
        known = (self.occupied | self.free)[mine] & (other.occupied | other.free)[theirs]
        here, there = self.occupied[mine], other.occupied[theirs]
        if not known.any():
            raise VeldrainError("there is no cell that both know", where="compare", cure="compare maps of one place")

        def share(some: np.ndarray, near: np.ndarray) -> float:
            some = some & known
            return float(1.0 - _grown(near, within)[some].mean()) if some.any() else 0.0

        return MapComparison(
            int(known.sum()), float((here == there)[known].mean()), share(there, here), share(here, there)
        )


def load_map(path: str | Path) -> OccupancyMap:
    """A map out of its YAML file with the picture beside it.

    Raises:
        VeldrainError: no such file, or not a map.
    """
    from PIL import Image
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    target = Path(path)
    try:
        words = YAML(typ="safe").load(target.read_text(encoding="utf-8"))
        with Image.open(target.parent / Path(words["image"]).name) as picture:
            grey = np.asarray(picture.convert("L"))[::-1] / 255.0
        cell, corner = float(words["resolution"]), [float(x) for x in words["origin"][:2]]
        high, low = float(words["occupied_thresh"]), float(words["free_thresh"])
        found = grey if words["negate"] else 1.0 - grey
    except (OSError, UnicodeDecodeError, YAMLError, KeyError, TypeError, ValueError) as error:
        raise VeldrainError(
            f"is no map ({type(error).__name__}: {error})".replace("\n", " "),
            where=str(target),
            cure="name a YAML file with image, resolution, origin and thresholds, its picture beside it",
        ) from error
    if not (0 < cell < np.inf and np.isfinite(corner).all()):
        raise VeldrainError(f"cells of {cell:g} m at {corner}", where=str(target), cure="give finite numbers")
    known = np.where(found > high, 1.0, np.where(found < low, 0.0, np.nan))
    return OccupancyMap(known, cell, np.array(corner))


def occupancy(
    thing: Streams | World,
    stream: str = "",
    *,
    cell: Quantity = 0.05,
    frame: str = "world",
    heights: tuple[Quantity, Quantity] = (0.05, 2.0),
    start: Quantity | None = None,
    end: Quantity | None = None,
    like: OccupancyMap | None = None,
) -> OccupancyMap:
    """The map that scans or clouds of a log make, or the true one of a world.

    Each scan is put where its frame was, beam by beam. A cell in which a beam ends gets likelier, one that beams pass
    through less so; each counts once a scan.

    Args:
        thing: a recording or another log; or a world, as it begins: what can be touched, without its robots and bodies.
        stream: of the log: LaserScan or PointCloud2 messages.
        cell: edge of a cell, m.
        frame: that the map is in: ``"world"``, or that of a robot's own odometry.
        heights: only what lies between counts, m in that frame: the ground does not.
        start, end: only scans from and up to these times, s.
        like: a map of the cells that are wanted; for a world it is needed.

    Raises:
        VeldrainError: no points in this stream, no such frame, or a grid that is too large.

    >>> grid = occupancy(recording, "crawler/scan", cell="10 cm")  # doctest: +SKIP
    >>> grid.compare(occupancy(world, like=grid)).agree  # doctest: +SKIP
    """
    band = np.array([quantity(h, "length", "occupancy: heights") for h in heights])
    if not band[0] < band[1]:
        raise VeldrainError(f"heights of {band[0]:g} to {band[1]:g} m", where="occupancy", cure="give the lower first")
    size = like.cell if like else quantity(cell, "length", "occupancy: cell")
    if not 0 < size < np.inf:
        raise VeldrainError(f"a cell of {size:g} m", where="occupancy", cure="give a length above zero")
    if isinstance(thing, World):
        if like is None:
            raise VeldrainError("which cells are wanted is not said", where="occupancy", cure="give like= a map")
        return _of_world(thing, like, band)
    if like is None:
        low, high = _reach(thing, stream, frame, start, end)
        corner = np.floor(low / size) * size - size
        columns, rows = (np.ceil((high - corner) / size) + 1).tolist()
        if rows * columns > MOST_CELLS:
            raise VeldrainError(
                f"{columns:.0f} × {rows:.0f} cells of {size:g} m", where="occupancy", cure="give larger cells, or like="
            )
        shape = int(rows), int(columns)
    else:
        corner, shape = like.corner, like.probability.shape
    seen, odds = np.zeros(shape, np.int64), np.zeros(shape)
    for number, (_, origins, ends, missed) in enumerate(thing.beams(stream, frame, start, end), 1):
        count_beams(  # type: ignore[no-untyped-call]
            origins, ends, missed.astype(np.int64), corner, size, band, number, seen, odds, HIT, PASSED, MOST
        )
    return OccupancyMap(np.where(seen > 0, 1.0 / (1.0 + np.exp(-odds)), np.nan), size, corner, frame)


def _reach(
    log: Streams, stream: str, frame: str, start: Quantity | None, end: Quantity | None, only_met: bool = False
) -> tuple[Array, Array]:
    """The low and the high corner (2,) of where all beams lie, or only of what they have met."""
    low, high = np.full(2, np.inf), np.full(2, -np.inf)
    for _, origins, ends, missed in log.beams(stream, frame, start, end):
        points = ends[~missed] if only_met else np.concatenate([origins, ends])
        if len(points):
            low, high = np.minimum(low, points[:, :2].min(axis=0)), np.maximum(high, points[:, :2].max(axis=0))
    if not np.isfinite(low).all():
        raise VeldrainError(f"stream '{stream}' has no points then", where=log.where, cure="name another time")
    return low, high


def _of_world(world: World, like: OccupancyMap, band: Array) -> OccupancyMap:
    """A cell is occupied where any of nine times five places in it is inside of an obstacle."""
    rows, columns = like.probability.shape
    x, y = (like.corner[k] + (np.arange(3 * n) + 0.5) * like.cell / 3 for k, n in enumerate((columns, rows)))
    places = np.stack([side.ravel() for side in np.meshgrid(x, y)], axis=1)
    full = np.zeros(len(places), bool)
    for obstacle in world.obstacles.values():
        for shape, pose in touched(obstacle.part):
            where = obstacle.pose @ pose
            low, high = shape.bounds(where)
            near = np.flatnonzero(((places >= low[:2]) & (places <= high[:2])).all(axis=1))
            for height in np.linspace(max(band[0], low[2]), min(band[1], high[2]), 5):
                at = np.column_stack([places[near], np.full(len(near), height)])
                full[near] |= shape.holds((at - where.position) @ where.matrix)
    cells = full.reshape(rows, 3, columns, 3).any(axis=(1, 3))
    return OccupancyMap(cells.astype(float), like.cell, like.corner, like.frame)


def _grown(cells: np.ndarray, by: int) -> np.ndarray:
    """True in cells, and in those up to so many beside them."""
    found = cells.copy()
    for _ in range(by):
        wide = np.pad(found, 1)
        rows = wide[:-2] | wide[1:-1] | wide[2:]
        found = rows[:, :-2] | rows[:, 1:-1] | rows[:, 2:]
    return found


class HeightMap:
    """How high the ground is over the cells of a level grid.

    Attributes:
        heights: (rows, columns) in m, nan where nothing was met; rows go along x, columns along y, as of a
            ``HeightField``.
        counts: (rows, columns) points in each cell.
        cell: edge of a cell, m.
        corner: (2,) x and y of the grid's low corner, m.
    """

    def __init__(self, heights: Array, counts: np.ndarray, cell: float, corner: Array) -> None:
        self.heights, self.counts, self.cell, self.corner = heights, counts, cell, corner

    def ground(self) -> tuple[HeightField, Pose]:
        """A ground that a world can have as an obstacle, and its pose; cells without a height are holes.

        Raises:
            VeldrainError: less than 2 × 2 heights.
        """
        middle = self.corner + (np.array(self.heights.shape)) * self.cell / 2
        return HeightField(self.heights, self.cell), Pose((*middle, 0.0))

    def save(self, path: str | Path) -> list[Path]:
        """Write it as a grey picture of 16 bits (PNG) with a YAML file beside it, which says what its greys are."""
        from PIL import Image

        picture, known = Path(path).with_suffix(".png"), np.isfinite(self.heights)
        low, high = float(np.nanmin(self.heights)), float(np.nanmax(self.heights))
        step = max(high - low, 1e-9) / 65534
        grey = np.where(known, 1 + np.round((np.nan_to_num(self.heights, nan=low) - low) / step), 0).astype(np.uint16)
        out = io.BytesIO()
        Image.fromarray(grey.T[::-1]).save(out, "png")
        words: dict[str, Any] = {"image": picture.name, "resolution": self.cell, "origin": [*self.corner.tolist(), 0.0]}
        words |= {"height": f"{low!r} + {step!r} * (grey - 1)", "unknown": 0}
        write_bytes(picture, out.getvalue())
        write_text(picture.with_suffix(".yaml"), as_yaml(words))
        return [picture, picture.with_suffix(".yaml")]


def height_map(
    log: Streams,
    stream: str,
    *,
    cell: Quantity = 0.1,
    frame: str = "world",
    start: Quantity | None = None,
    end: Quantity | None = None,
) -> HeightMap:
    """The mean height of what the beams of clouds or scans have met, cell by cell.

    Args:
        log: a recording or another log.
        stream: PointCloud2 or LaserScan messages.
        cell: edge of a cell, m.
        frame: that the map is in.
        start, end: only clouds from and up to these times, s.

    Raises:
        VeldrainError: no points in this stream, no such frame, or a grid that is too large.

    >>> height_map(recording, "crawler/cloud", cell="20 cm").heights  # doctest: +SKIP
    """
    size = quantity(cell, "length", "height_map: cell")
    if not 0 < size < np.inf:
        raise VeldrainError(f"a cell of {size:g} m", where="height_map", cure="give a length above zero")
    low, high = _reach(log, stream, frame, start, end, only_met=True)
    corner = np.floor(low / size) * size
    rows, columns = (np.floor((high - corner) / size) + 1).astype(int).tolist()
    if rows * columns > MOST_CELLS:
        raise VeldrainError(f"{rows} × {columns} cells of {size:g} m", where="height_map", cure="give larger cells")
    counts, sums = np.zeros(rows * columns, np.int64), np.zeros(rows * columns)
    for _, _, ends, missed in log.beams(stream, frame, start, end):
        met = ends[~missed]
        place = np.floor((met[:, :2] - corner) / size).astype(int) @ (columns, 1)
        counts += np.bincount(place, minlength=len(counts))
        sums += np.bincount(place, met[:, 2], len(sums))
    counts, sums = counts.reshape(rows, columns), sums.reshape(rows, columns)
    return HeightMap(np.where(counts > 0, sums / np.maximum(counts, 1), np.nan), counts, size, corner)
