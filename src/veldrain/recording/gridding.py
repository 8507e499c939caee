"""Beams through the cells of a grid."""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel


@kernel
def cell_at(x, y, seen):
    """Number of a cell of a grid (rows, columns) by its place in cells; −1 beside the grid."""
    column, row = math.floor(x), math.floor(y)
    if 0 <= row < seen.shape[0] and 0 <= column < seen.shape[1]:
        return row * seen.shape[1] + column
    return -1


@entry
def count_beams(origins, ends, missed, low, cell, band, number, seen, odds, hit, passed, most):
    """Count the beams of one scan: a cell in which one ends gains ``hit``, one that beams pass gains ``passed``, once.

    No cell gets beyond ± ``most``.

    origins, ends (n, 3): in m; missed (n,): 1 where nothing was met up to the end; low (2,): corner of the grid; band
    (2,): heights between which something counts; number: of the scan, from 1 on; seen, odds (rows, columns).
    Cells are passed in order (J. Amanatides, A. Woo, "A fast voxel traversal algorithm", Eurographics 1987).
    """
    flat, values = seen.reshape(seen.size), odds.reshape(odds.size)
    for k in range(len(ends)):
        if missed[k] == 0 and band[0] <= ends[k, 2] <= band[1]:
            at = cell_at((ends[k, 0] - low[0]) / cell, (ends[k, 1] - low[1]) / cell, seen)
            if at >= 0 and flat[at] != 2 * number + 1:
                flat[at] = 2 * number + 1
                values[at] = min(values[at] + hit, most)
    for k in range(len(ends)):
        x, y = (origins[k, 0] - low[0]) / cell, (origins[k, 1] - low[1]) / cell
        dx, dy = (ends[k, 0] - origins[k, 0]) / cell, (ends[k, 1] - origins[k, 1]) / cell
        column, row = math.floor(x), math.floor(y)
        crossings = abs(math.floor(x + dx) - column) + abs(math.floor(y + dy) - row)
        right, up = (1 if dx > 0.0 else -1), (1 if dy > 0.0 else -1)
        # Shares of the way at which the next column and the next row begin.
        next_x = (column + max(right, 0) - x) / dx if dx != 0.0 else math.inf
        next_y = (row + max(up, 0) - y) / dy if dy != 0.0 else math.inf
        share = 0.0
        for _ in range(int(crossings) + (1 if missed[k] == 1 else 0)):  # but for the cell in which it ends
            height = origins[k, 2] + share * (ends[k, 2] - origins[k, 2])
            if band[0] <= height <= band[1] and 0 <= row < seen.shape[0] and 0 <= column < seen.shape[1]:
                at = row * seen.shape[1] + column
                if flat[at] < 2 * number:
                    flat[at] = 2 * number
                    values[at] = max(values[at] + passed, -most)
            if next_x < next_y:
                share = next_x
                column += right
                next_x += abs(1.0 / dx)
            else:
                share = next_y
                row += up
                next_y += abs(1.0 / dy) if dy != 0.0 else math.inf
