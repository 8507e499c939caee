"""Where several pictures lie in one, so that cameras' pictures fill their places and the others have what is left."""

from __future__ import annotations

import math
from collections.abc import Sequence

Place = tuple[int, int, int, int]  # left, top, width, height in pixels
TALLEST, LEAST = 1.4, 0.6  # of a row of cameras, of another: so many times its even share
FREE = 0.4  # share of a row that is left to pictures of any shape


def arranged(size: tuple[int, int], shapes: Sequence[float | None]) -> list[Place]:
    """Places for pictures of given shapes, row by row.

    Args:
        size: width and height in pixels of all of it.
        shapes: width over height of each picture; None: any.

    >>> arranged((1280, 800), [None, 4 / 3])
    [(0, 0, 512, 800), (512, 0, 768, 800)]
    """
    wide, tall = size
    columns = math.ceil(math.sqrt(len(shapes)))
    rows = [shapes[k : k + columns] for k in range(0, len(shapes), columns)]
    even, free = tall / len(rows), sum(None in row for row in rows)
    if free < len(rows):  # rows of cameras alone are as tall as fills their width
        most = min(TALLEST * even, (tall - LEAST * even * free) / (len(rows) - free))
    heights = [0.0 if None in row else min(wide / sum(shape or 0.0 for shape in row), most) for row in rows]
    filled = sum(heights)
    heights = [height or (tall - filled) / free for height in heights] if free else [h * tall / filled for h in heights]
    places: list[Place] = []
    top = 0.0
    for row, height in zip(rows, heights, strict=True):
        own = [height * shape if shape else 0.0 for shape in row]
        anyhow = row.count(None)
        squeezed = min(1.0, (1.0 - FREE) * wide / max(sum(own), 1e-9)) if anyhow else wide / sum(own)
        widths = [squeezed * w if w else 0.0 for w in own]
        rest = (wide - sum(widths)) / max(anyhow, 1)
        edge = 0.0
        for w in widths:
            x, y = round(edge), round(top)
            edge += w or rest
            places.append((x, y, round(edge) - x, round(top + height) - y))
        top += height
    return places
