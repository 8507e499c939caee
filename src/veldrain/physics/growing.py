"""A tree of boxes over triangles: halved at the median along the longest side, depth first."""

from __future__ import annotations

from veldrain.kernel import entry, kernel


@kernel
def divide(order, start, stop, middle, keys, axis):
    """Bring the rows with the least keys before ``middle`` (C. A. R. Hoare, "Find", CACM 4(7), 1961)."""
    low, high = start, stop - 1
    while low < high:
        pivot = keys[order[(low + high) // 2], axis]
        i, j = low, high
        while i <= j:
            while keys[order[i], axis] < pivot:
                i += 1
            while keys[order[j], axis] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                i += 1
                j -= 1
        if middle <= j:
            high = j
        elif middle >= i:
            low = i
        else:
            return


@entry
def grow_tree(middles, low, high, leaf, order, branches, stack):
    """Fill branches over triangles with middles, low and high corners (n, 3); gives how many there are.

    ``order`` (n,) becomes the order of the triangles; ``stack`` (64, 3) is room to work in. In a leaf first and end are
    the rows of order; skip is the next branch that is not below.
    """
    count, depth = 0, 1
    stack[0, 0], stack[0, 1], stack[0, 2] = 0, len(order), 0
    while depth > 0:
        depth -= 1
        start, stop, level = stack[depth, 0], stack[depth, 1], stack[depth, 2]
        branch = branches[count]
        count += 1
        for k in range(3):
            branch.box[k], branch.box[3 + k] = low[order[start], k], high[order[start], k]
        axis, widest = 0, -1.0
        for k in range(3):
            least, most = middles[order[start], k], middles[order[start], k]
            for row in order[start:stop]:
                branch.box[k] = min(branch.box[k], low[row, k])
                branch.box[3 + k] = max(branch.box[3 + k], high[row, k])
                least, most = min(least, middles[row, k]), max(most, middles[row, k])
            if most - least > widest:
                axis, widest = k, most - least
        branch.first, branch.end, branch.skip = 0, 0, level  # the level for now
        if stop - start <= leaf:
            branch.first, branch.end = start, stop
            continue
        middle = start + (stop - start) // 2
        divide(order, start, stop, middle, middles, axis)
        stack[depth, 0], stack[depth, 1], stack[depth, 2] = middle, stop, level + 1
        stack[depth + 1, 0], stack[depth + 1, 1], stack[depth + 1, 2] = start, middle, level + 1
        depth += 2
    for k in range(64):
        stack[k, 0] = count  # by level: the next branch there
    for k in range(count - 1, -1, -1):
        level = branches[k].skip
        branches[k].skip = stack[level, 0]
        for deeper in range(level, 64):
            stack[deeper, 0] = k
    return count
