"""The sides that triangles of a mesh share, and how far the surface bends there."""

from __future__ import annotations

import math

from veldrain.kernel import entry
from veldrain.physics.grounds import OUTER


@entry
def set_leans(at, normals, corner, first, order, leans):
    """Set for each side (n, 3) the least cosine between its triangle's normal and a contact's.

    It is 1 where the next triangle lies in the same plane or bends inward, and −1 where there is none. Of several
    triangles with one side the last counts.

    ``at`` (n, 3, 3) are corners and ``corner`` (n, 3) their numbers: those at one place have one number. Room to work
    in, of zeros: ``order`` (3n,) becomes the sides by the corner where they begin, ``first`` (one more than there are
    corners) where each corner's end there.
    """
    for side in range(len(order)):
        first[corner[side // 3, side % 3] + 1] += 1
    for k in range(1, len(first)):
        first[k] += first[k - 1]
    for side in range(len(order)):
        begins = corner[side // 3, side % 3]
        order[first[begins]] = side
        first[begins] += 1  # from here on a corner's sides end where first says
    for side in range(len(order)):
        this, k = side // 3, side % 3
        here, there = corner[this, k], corner[this, (k + 1) % 3]
        other, start = -1, first[there - 1] if there > 0 else 0
        for row in range(first[there] - 1, start - 1, -1):
            found = order[row]
            if corner[found // 3, (found + 1) % 3] == here:
                other = found // 3
                break
        if other < 0:
            leans[this, k] = -1.0
            continue
        u, v, a, b = normals[this], normals[other], at[this, k], at[this, (k + 1) % 3]
        x, y, z = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        across = (u[1] * v[2] - u[2] * v[1]) * x + (u[2] * v[0] - u[0] * v[2]) * y + (u[0] * v[1] - u[1] * v[0]) * z
        bend = across / math.sqrt(x * x + y * y + z * z)
        leans[this, k] = u[0] * v[0] + u[1] * v[1] + u[2] * v[2] - 1e-3 if bend > OUTER else 1.0
