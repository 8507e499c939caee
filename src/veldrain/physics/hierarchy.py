"""Bounding-volume hierarchies: boxes within boxes, so that a ray looks at few of many things.

A node has several sides. ``boxes`` (n, 6, sides) holds their low and high corners; ``sides`` says what is there: a
node's number, or −1 − (16·first + count) for a leaf with the items order[first : first + count]. Boxes are numbers of
single precision, wider than what they hold by more than what that loses where a ray starts not far from them.
Nodes stand before those below them, so that boxes of moved items are brought up to date from the last node to the
first.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from veldrain.kernel import entry, kernel
from veldrain.pose import Array

BINS = 16
WIDE = 4  # sides of a node
LOST = 4e-6  # share of a length that single precision may lose on the way
DEPTH = 64  # of any hierarchy: with the median as a last resort none is deeper


@dataclass(frozen=True)
class Hierarchy:
    """The arrays of one hierarchy, and the order of its items."""

    boxes: NDArray[np.float32]
    sides: NDArray[np.int32]
    order: NDArray[np.int64]


def grown(low: Array, high: Array, leaf: int = 4) -> Hierarchy:
    """A hierarchy over items with low and high corners (n, 3), up to ``leaf`` (at most 15) of them in a leaf."""
    count = len(low)
    order = np.arange(count)
    pairs, ends = np.empty((max(count, 1), 12)), np.empty((max(count, 1), 2), np.int64)
    stack = np.empty((2 * DEPTH, 4), np.int64)
    used = _grow(low, high, leaf, order, pairs, ends, stack, np.empty((BINS + 1, 14)))
    boxes, sides = np.empty((used, 6, WIDE), np.float32), np.full((used, WIDE), -1, np.int32)
    slack = LOST * float(max(np.abs(low).max(initial=0.0), np.abs(high).max(initial=0.0)))
    used = _widen(pairs, ends, boxes, sides, np.empty((WIDE * DEPTH, 2), np.int64), slack)
    boxes, sides = boxes[:used].copy(), sides[:used].copy()
    return Hierarchy(boxes, sides, order)


@kernel
def spread(box, low, high):
    """Make a box hold another."""
    for k in range(3):
        box[k] = min(box[k], low[k])
        box[3 + k] = max(box[3 + k], high[k])


@kernel
def nothing(box):
    """Make a box hold nothing."""
    for k in range(3):
        box[k], box[3 + k] = math.inf, -math.inf


@kernel
def half_area(box):
    """Half the area of a box; 0 for one that holds nothing."""
    x, y, z = box[3] - box[0], box[4] - box[1], box[5] - box[2]
    return x * y + y * z + z * x if x >= 0.0 else 0.0


@kernel
def best_cut(low, high, order, first, last, span, bins):
    """Axis and bin of the cut with the least expected cost, and that cost in areas times items.

    I. Wald, "On fast construction of SAH-based bounding volume hierarchies", IEEE RT 2007: items are sorted into bins
    by their middles; a cut between bins costs area·items on both sides.
    """
    axis, cut, least = -1, 0, math.inf
    for k in range(3):
        width = span[3 + k] - span[k]
        if width <= 0.0:
            continue
        for b in range(BINS):
            nothing(bins[b, :6])
            bins[b, 12] = 0.0
        for item in order[first:last]:
            b = bin_of(low[item], high[item], span, k)
            spread(bins[b, :6], low[item], high[item])
            bins[b, 12] += 1.0
        # From the right: area·items of all bins from b on.
        nothing(bins[BINS - 1, 6:12])
        spread(bins[BINS - 1, 6:12], bins[BINS - 1, :3], bins[BINS - 1, 3:6])
        bins[BINS - 1, 13] = bins[BINS - 1, 12]
        for b in range(BINS - 2, -1, -1):
            for r in range(6):
                bins[b, 6 + r] = bins[b + 1, 6 + r]
            spread(bins[b, 6:12], bins[b, :3], bins[b, 3:6])
            bins[b, 13] = bins[b + 1, 13] + bins[b, 12]
        count = 0.0
        for b in range(1, BINS):
            if b > 1:
                spread(bins[0, :6], bins[b - 1, :3], bins[b - 1, 3:6])
            count += bins[b - 1, 12]
            cost = half_area(bins[0, :6]) * count + half_area(bins[b, 6:12]) * bins[b, 13]
            if count > 0.0 and bins[b, 13] > 0.0 and cost < least:
                axis, cut, least = k, b, cost
    return axis, cut, least


@kernel
def bin_of(low, high, span, k):
    """The bin of an item along an axis, by its middle."""
    middle = 0.5 * (low[k] + high[k])
    return min(int(BINS * (middle - span[k]) / (span[3 + k] - span[k])), BINS - 1)


@entry
def _grow(low, high, leaf, order, boxes, sides, stack, bins):
    """Fill boxes and sides and bring order into theirs; gives how many nodes there are."""
    span, box = bins[BINS, :6], bins[BINS, 6:12]
    used, depth = 1, 1
    nothing(boxes[0, :6])
    nothing(boxes[0, 6:])
    sides[0, 0], sides[0, 1] = -1, -1
    stack[0, 0], stack[0, 1], stack[0, 2], stack[0, 3] = 0, len(order), -1, 0
    while depth > 0:
        depth -= 1
        first, last, place, level = stack[depth, 0], stack[depth, 1], stack[depth, 2], stack[depth, 3]
        nothing(box)
        nothing(span)
        for item in order[first:last]:
            spread(box, low[item], high[item])
            for k in range(3):
                middle = 0.5 * (low[item, k] + high[item, k])
                span[k], span[3 + k] = min(span[k], middle), max(span[3 + k], middle)
        count = last - first
        axis, cut, cost = -1, 0, math.inf
        if count > 1 and level < DEPTH // 2:
            axis, cut, cost = best_cut(low, high, order, first, last, span, bins)
        # To look at a node costs about as much as two items.
        is_leaf = count <= 1 or (count <= leaf and cost + 2.0 * half_area(box) >= half_area(box) * count)
        node = used
        if place < 0:
            node = 0
        elif is_leaf:
            node = -1 - (16 * first + count)
        if place >= 0:
            for k in range(6):
                boxes[place // 2, 6 * (place % 2) + k] = box[k]
            sides[place // 2, place % 2] = node
        elif is_leaf:
            for k in range(6):
                boxes[0, k] = box[k]
            sides[0, 0] = -1 - (16 * first + count)
        if is_leaf:
            continue
        if place >= 0:
            used += 1
        middle = first + count // 2
        if axis >= 0:
            i, j = first, last - 1
            while i <= j:
                item = order[i]
                if bin_of(low[item], high[item], span, axis) < cut:
                    i += 1
                else:
                    order[i], order[j] = order[j], item
                    j -= 1
            middle = i
        for side in range(2):
            stack[depth, 0], stack[depth, 1] = (first, middle) if side == 1 else (middle, last)
            stack[depth, 2], stack[depth, 3] = 2 * node + (1 - side), level + 1
            depth += 1
    return used


@entry
def _widen(pairs, ends, boxes, sides, stack, slack):
    """Fill wide nodes from nodes of two sides: what is largest is opened until a node is full; gives how many."""
    used, depth = 1, 1
    stack[0, 0], stack[0, 1] = 0, 0  # a node of two sides, and the wide node that it becomes
    while depth > 0:
        depth -= 1
        source, node = stack[depth, 0], stack[depth, 1]
        count = 2
        for side in range(2):
            set_side(boxes, sides, node, side, pairs, ends, source, side, slack)
        while count < WIDE:
            largest, which = -1.0, -1
            for k in range(count):
                if sides[node, k] > 0:
                    x = boxes[node, 3, k] - boxes[node, 0, k]
                    y = boxes[node, 4, k] - boxes[node, 1, k]
                    z = boxes[node, 5, k] - boxes[node, 2, k]
                    if x * y + y * z + z * x > largest:
                        largest, which = x * y + y * z + z * x, k
            if which < 0:
                break
            opened = sides[node, which]
            set_side(boxes, sides, node, which, pairs, ends, opened, 0, slack)
            set_side(boxes, sides, node, count, pairs, ends, opened, 1, slack)
            count += 1
        for k in range(count, WIDE):
            sides[node, k] = -1
            for r in range(3):
                boxes[node, r, k], boxes[node, 3 + r, k] = math.inf, -math.inf
        for k in range(count):
            if sides[node, k] > 0:
                stack[depth, 0], stack[depth, 1] = sides[node, k], used
                sides[node, k] = used
                used += 1
                depth += 1
    return used


@kernel
def set_side(boxes, sides, node, k, pairs, ends, source, side, slack):
    """Copy a side of a node of two sides to side k of a wide one."""
    sides[node, k] = ends[source, side]
    for r in range(3):
        boxes[node, r, k] = pairs[source, 6 * side + r] - slack
        boxes[node, 3 + r, k] = pairs[source, 6 * side + 3 + r] + slack


@kernel
def slack_of(low, high):
    """What boxes are wider by: more than single precision loses at the farthest corner."""
    far = 0.0
    for k in range(len(low)):
        for r in range(3):
            far = max(far, max(abs(low[k, r]), abs(high[k, r])))
    return LOST * far


@kernel
def refit(boxes, sides, order, low, high):
    """Bring all boxes up to date with the items' corners."""
    slack = slack_of(low, high)
    for node in range(len(sides) - 1, -1, -1):
        for side in range(WIDE):
            below = sides[node, side]
            for r in range(3):
                least, most = math.inf, -math.inf
                if below > 0:
                    for k in range(WIDE):
                        least, most = min(least, boxes[below, r, k]), max(most, boxes[below, 3 + r, k])
                else:
                    first = (-1 - below) // 16
                    for item in order[first : first + (-1 - below) % 16]:
                        least, most = min(least, low[item, r] - slack), max(most, high[item, r] + slack)
                boxes[node, r, side], boxes[node, 3 + r, side] = least, most
