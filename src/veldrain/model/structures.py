"""What is built into a world from several shapes: walls, stairs, ramps, pipes, channels, rows, things strewn about."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.model.meshes import Mesh
from veldrain.model.shapes import Box, Shape
from veldrain.model.volumes import bounds
from veldrain.pose import Pose
from veldrain.randomness import checked_seed
from veldrain.units import Quantity, quantities, quantity, triple, worded

Piece = tuple[Shape, Pose]
Ints = NDArray[np.int64]


class Built:
    """Something that is built from shapes; a new kind is a new class with its own ``pieces``."""

    kinds: ClassVar[dict[str, type[Built]]] = {}  # by the word that files know them by

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        Built.kinds[worded(cls.__name__)] = cls

    def pieces(self) -> Iterator[Piece]:
        """Its shapes, with their poses in its frame."""
        raise NotImplementedError


def _above_zero(kind: str, **sizes: Quantity) -> list[float]:
    found = [quantity(size, "length", f"{kind} {name}") for name, size in sizes.items()]
    for name, size in zip(sizes, found, strict=True):
        if not 0 < size < np.inf:
            raise VeldrainError(f"{name} is {size:g} m", where=kind, cure="give a length above zero")
    return found


def _count(kind: str, count: int) -> int:
    if not isinstance(count, int) or count < 1:
        raise VeldrainError(f"{count!r} of them", where=kind, cure="give a whole number above zero")
    return count


class Wall(Built):
    """A wall along a line through points of the ground, its foot at z = 0.

    Args:
        points: (n, 2), two or more, m.
        height: m.
        thickness: m, half of it on each side of the line.
        closed: True leads it from the last point back to the first.

    >>> len(list(Wall([(0, 0), ("4 m", 0), (4, 3)], height="2 m").pieces()))
    2
    """

    def __init__(
        self,
        points: Sequence[Sequence[Quantity]],
        height: Quantity = 1.0,
        thickness: Quantity = 0.1,
        closed: bool = False,
    ) -> None:
        self.points = np.array([quantities(point, "length", "wall", 2) for point in points])
        self.height, self.thickness = _above_zero("wall", height=height, thickness=thickness)
        if len(self.points) < 2:
            raise VeldrainError(f"{len(self.points)} points", where="wall", cure="give two or more")
        if closed:
            self.points = np.vstack([self.points, self.points[:1]])
        if (np.linalg.norm(np.diff(self.points, axis=0), axis=1) == 0).any():
            raise VeldrainError("two points at one place", where="wall", cure="leave one out")

    def pieces(self) -> Iterator[Piece]:
        for start, end in zip(self.points, self.points[1:], strict=False):
            length = float(np.linalg.norm(end - start)) + self.thickness  # so that corners are filled
            middle, way = (start + end) / 2, end - start
            yield (
                Box((length, self.thickness, self.height)),
                Pose((*middle, self.height / 2), yaw=float(np.arctan2(way[1], way[0]))),
            )


class Stairs(Built):
    """Stairs that climb along x from the origin.

    Args:
        steps: how many.
        rise: of a step, m.
        tread: depth of a step, m.
        width: along y, m.

    >>> [shape.size[2] for shape, _ in Stairs(steps=2, rise="20 cm").pieces()]
    [0.2, 0.4]
    """

    def __init__(self, steps: int, rise: Quantity = 0.17, tread: Quantity = 0.29, width: Quantity = 1.0) -> None:
        self.steps = _count("stairs", steps)
        self.rise, self.tread, self.width = _above_zero("stairs", rise=rise, tread=tread, width=width)

    def pieces(self) -> Iterator[Piece]:
        for k in range(self.steps):
            top = (k + 1) * self.rise
            yield Box((self.tread, self.width, top)), Pose(((k + 0.5) * self.tread, 0, top / 2))


class Ramp(Built):
    """A wedge that rises along x from the origin.

    >>> round(next(Ramp(length=2, rise="50 cm", width=1).pieces())[0].volume, 3)
    0.5
    """

    def __init__(self, length: Quantity, rise: Quantity, width: Quantity = 1.0) -> None:
        self.length, self.rise, self.width = _above_zero("ramp", length=length, rise=rise, width=width)

    def pieces(self) -> Iterator[Piece]:
        a, b, c = self.length, self.width / 2, self.rise
        corners = [(0, -b, 0), (0, b, 0), (a, -b, 0), (a, b, 0), (a, -b, c), (a, b, c)]
        triangles = [(0, 1, 3), (0, 3, 2), (0, 4, 5), (0, 5, 1), (2, 3, 5), (2, 5, 4), (0, 2, 4), (1, 5, 3)]
        yield Mesh.of(corners, triangles, name="ramp"), Pose()


class Pipe(Built):
    """A round pipe along x, open at both ends, its axis at z = 0 and its middle at the origin; robots can go inside.

    Args:
        radius: inside, m.
        length: m.
        thickness: of its wall, m.
        sides: of the polygon that stands for the circle; its corners are on the circle.

    >>> abs(next(Pipe(radius=0.5, length=2, thickness=0.1).pieces())[0].volume / (3.14159 * 0.11 * 2) - 1) < 0.01
    True
    """

    def __init__(self, radius: Quantity, length: Quantity, thickness: Quantity = 0.02, sides: int = 48) -> None:
        self.radius, self.length, self.thickness = _above_zero(
            "pipe", radius=radius, length=length, thickness=thickness
        )
        self.sides = _count("pipe", sides)
        if self.sides < 3:
            raise VeldrainError(f"{sides} sides", where="pipe", cure="give three or more")

    def pieces(self) -> Iterator[Piece]:
        n, around = self.sides, np.arange(self.sides) * 2 * np.pi / self.sides
        ring = np.stack([np.zeros(n), np.cos(around), np.sin(around)], axis=1)
        ends = np.array((self.length / 2, 0, 0))
        # Rings: inside and outside at the near end, then at the far end.
        radii = (self.radius, self.radius + self.thickness)
        corners = np.vstack([ring * r + side * ends for side in (-1, 1) for r in radii])
        k = np.arange(n)
        j = (k + 1) % n
        near_in, near_out, far_in, far_out = (np.stack([k, j], axis=1) + at * n for at in range(4))

        def band(a: Ints, b: Ints) -> Ints:
            return np.vstack(
                [np.stack([a[:, 0], a[:, 1], b[:, 1]], axis=1), np.stack([a[:, 0], b[:, 1], b[:, 0]], axis=1)]
            )

        triangles = np.vstack(
            [
                band(far_out, near_out)[:, ::-1],
                band(far_in, near_in),
                band(near_out, near_in)[:, ::-1],
                band(far_out, far_in),
            ]
        )
        yield Mesh.of(corners, triangles, collide="triangles", name="pipe"), Pose()


class Channel(Built):
    """An open channel along x: a floor with its top at z = 0, and a wall on each side; its middle at the origin.

    >>> len(list(Channel(width="1.4 m", depth="80 cm", length=12).pieces()))
    3
    """

    def __init__(self, width: Quantity, depth: Quantity, length: Quantity, thickness: Quantity = 0.1) -> None:
        self.width, self.depth, self.length, self.thickness = _above_zero(
            "channel", width=width, depth=depth, length=length, thickness=thickness
        )

    def pieces(self) -> Iterator[Piece]:
        t = self.thickness
        yield Box((self.length, self.width + 2 * t, t)), Pose((0, 0, -t / 2))
        for side in (1, -1):
            yield Box((self.length, t, self.depth)), Pose((0, side * (self.width + t) / 2, self.depth / 2))


class Maze(Built):
    """Walls from a drawing in characters: ``#`` is wall, all else is free. The first row lies at the largest y.

    The middle of the lower left cell is at the origin, x goes along a row; cells in a row are one wall.

    >>> maze = Maze(["####", "#..#", "####"], cell="80 cm")
    >>> maze.at(1, 1), len(list(maze.pieces()))
    ((0.8, 0.8), 4)
    """

    def __init__(self, rows: Sequence[str], cell: Quantity = 1.0, height: Quantity = 0.8) -> None:
        self.rows = [str(row) for row in rows]
        self.cell, self.height = quantity(cell, "length", "maze"), quantity(height, "length", "maze")
        if not any("#" in row for row in self.rows) or not (self.cell > 0 and self.height > 0):
            raise VeldrainError(
                "a maze without walls", where="maze", cure="draw walls as #, and give lengths above zero"
            )

    def at(self, column: int, row: int) -> tuple[float, float]:
        """Middle of a cell (m), by its column and its row in the drawing, both from 0."""
        return column * self.cell, (len(self.rows) - 1 - row) * self.cell

    def pieces(self) -> Iterator[Piece]:
        for row, text in enumerate(self.rows):
            column = 0
            while column < len(text):
                count = len(text[column:]) - len(text[column:].lstrip("#"))
                if count:
                    x, y = self.at(column, row)
                    box = Box((count * self.cell, self.cell, self.height))
                    yield box, Pose((x + (count - 1) / 2 * self.cell, y, self.height / 2))
                column += count or 1


class Row(Built):
    """A shape again and again, each a step from the one before.

    >>> [pose.position.tolist() for _, pose in Row(Box((0.1, 0.1, 1)), count=2, step=("3 m", 0, 0)).pieces()]
    [[0.0, 0.0, 0.0], [3.0, 0.0, 0.0]]
    """

    def __init__(self, shape: Shape, count: int, step: Sequence[Quantity], pose: Pose | None = None) -> None:
        self.shape, self.count, self.step = shape, _count("row", count), triple(step, "length", "row")
        self.pose = pose or Pose()

    def pieces(self) -> Iterator[Piece]:
        for k in range(self.count):
            yield self.shape, Pose(k * np.array(self.step)) @ self.pose


class Scatter(Built):
    """Shapes strewn over a rectangle about the origin, standing on z = 0, each turned its own way; none overlap.

    Args:
        shapes: taken in turn.
        count: how many in all.
        size: edges of the rectangle, m.
        seed: of where they lie: the same seed, the same places.
        gap: between them, m, seen from above.

    Raises:
        VeldrainError: there is no room for so many.

    >>> stones = Scatter([Box((0.2, 0.1, 0.1))], count=9, size=(4, 4), seed=3)
    >>> len(list(stones.pieces())), list(stones.pieces())[0][1] == list(stones.pieces())[0][1]
    (9, True)
    """

    def __init__(
        self, shapes: Sequence[Shape], count: int, size: Sequence[Quantity], seed: int = 0, gap: Quantity = 0.0
    ) -> None:
        self.shapes, self.count, self.seed = list(shapes), _count("scatter", count), checked_seed(seed)
        self.size, self.gap = quantities(size, "length", "scatter", 2), quantity(gap, "length", "scatter")
        if not self.shapes:
            raise VeldrainError("no shapes", where="scatter", cure="give one or more")

    def pieces(self) -> Iterator[Piece]:
        random = np.random.default_rng(self.seed)
        taken: list[tuple[float, float, float]] = []
        for k in range(self.count):
            shape = self.shapes[k % len(self.shapes)]
            low, high = bounds(shape, Pose())
            reach = float(np.linalg.norm(np.maximum(np.abs(low[:2]), np.abs(high[:2]))))
            for _ in range(2000):
                x, y = (random.uniform(-0.5, 0.5) * edge for edge in self.size)
                if all(np.hypot(x - a, y - b) > reach + r + self.gap for a, b, r in taken):
                    break
            else:
                edges = " × ".join(f"{edge:g}" for edge in self.size)
                raise VeldrainError(
                    f"no room for more than {k} of {self.count} on {edges} m",
                    where="scatter",
                    cure="give fewer, or a larger size",
                )
            taken.append((x, y, reach))
            yield shape, Pose((x, y, -low[2]), yaw=random.uniform(-np.pi, np.pi))
