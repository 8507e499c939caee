"""What sensors gather at every step between two samples: means, filters, and what has been touched.

A sample of a single step misses the impact between two samples, so these are summed inside the engine's loop. The
specific force is a change of velocity less gravity, so that its mean over a time is exact: Δv/t − g. The reaction of a
joint is what the momentum of all that hangs on it asks for, less what else acts on it (Newton, Euler).
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import MESH, MIMIC, PLANE
from veldrain.physics.responses import point_velocity
from veldrain.physics.spatial import add, cross, dot, minus, multiply, norm, put, scaled, triple, turned, turned_back

SAME_PLACE = 0.02  # m


@kernel
def clipped(a, most):
    """Each of three numbers, at most so large."""
    return (min(max(a[0], -most), most), min(max(a[1], -most), most), min(max(a[2], -most), most))


@kernel
def passed(smooth, a, follows, is_first):
    """A value after a first-order low pass that keeps its state in ``smooth``; the value itself for none (1)."""
    if not is_first:
        a = add(triple(smooth), scaled(minus(a, triple(smooth)), follows))
    put(smooth, a)
    return a


@kernel
def place_tap(trees, nodes, tap, fresh):
    """Velocity of a tap's point and its axes (in ``fresh``) now."""
    n = nodes[tap.node]
    multiply(n.rot, tap.turn, fresh)
    point = add(triple(n.pos), turned(n.rot, triple(tap.place)))
    return point_velocity(trees, nodes, tap.node, point)


@kernel
def begin_taps(a):
    """Take the present velocities as those that the coming step starts from."""
    for k in range(len(a.inertials)):
        tap = a.inertials[k]
        v = place_tap(a.trees, a.nodes, tap, a.room)
        put(tap.before, turned_back(a.room, v))
        for r in range(3):
            put(tap.axes[r], triple(a.room[r]))
    for k in range(len(a.loads)):
        multiply(a.nodes[a.loads[k].node].rot, a.loads[k].turn, a.room)
        for r in range(3):
            put(a.loads[k].axes[r], triple(a.room[r]))
    for k in range(len(a.hanging)):
        body = a.hanging[k]
        n = a.nodes[body.node]
        com = add(triple(n.pos), turned(n.rot, triple(body.centre)))
        put(body.before, point_velocity(a.trees, a.nodes, body.node, com))
        put(body.spun, spun(n, body))


@kernel
def spun(n, body):
    """Spin momentum of a link about its mass centre, world axes."""
    w = turned_back(n.rot, triple(n.twist))
    return turned(n.rot, turned(body.inertia, w))


@kernel
def tap_inertials(a, h):
    """Specific force and rate in each tap's axes.

    With the velocity u in the turning axes the acceleration is u̇ + ω × u: exact for whatever turns steadily.
    """
    fresh = a.room
    for k in range(len(a.inertials)):
        tap = a.inertials[k]
        v = place_tap(a.trees, a.nodes, tap, fresh)
        u, before, g = turned_back(fresh, v), triple(tap.before), triple(a.gravity)
        rate = turned_back(fresh, triple(a.nodes[tap.node].twist))
        force = add(scaled(minus(u, before), 1.0 / h), cross(rate, scaled(add(u, before), 0.5)))
        force = minus(force, between(tap.axes, fresh, g))
        first = tap.begun == 0
        # A part's range ends behind its low pass: a hard impact is spread over that, whatever the step.
        felt = clipped(passed(tap.smooth[0], force, tap.follows, first), tap.most_force)
        turning = clipped(passed(tap.smooth[1], rate, tap.follows, first), tap.most_rate)
        put(tap.force, add(triple(tap.force), felt))
        put(tap.rate, add(triple(tap.rate), turning))
        put(tap.before, u)
        for r in range(3):
            put(tap.axes[r], triple(fresh[r]))
        tap.begun = 1
        tap.steps += 1


@kernel
def between(before, after, a):
    """A world vector in axes midway between those before and after a step."""
    return scaled(add(turned_back(before, a), turned_back(after, a)), 0.5)


@kernel
def add_load(tap, force, at, moment, sign):
    """Add what acts on the hanging links to a load, about the tap's point (in ``point``)."""
    total = add(moment, cross(minus(at, triple(tap.point)), force))
    put(tap.sum_force, add(triple(tap.sum_force), scaled(force, sign)))
    put(tap.sum_torque, add(triple(tap.sum_torque), scaled(total, sign)))


@kernel
def tap_loads(a, count, h):
    """Reactions in the joints of the load taps over this step (N·s and N·m·s), in the taps' axes."""
    nothing, G = (0.0, 0.0, 0.0), len(a.geoms)
    for k in range(len(a.loads)):
        tap = a.loads[k]
        put(tap.sum_force, nothing)
        put(tap.sum_torque, nothing)
        n = a.nodes[tap.node]
        put(tap.point, add(triple(n.pos), turned(n.rot, triple(tap.place))))
        for b in range(tap.first, tap.end):
            body = a.hanging[b]
            held = a.nodes[body.node]
            com = add(triple(held.pos), turned(held.rot, triple(body.centre)))
            v, spin = point_velocity(a.trees, a.nodes, body.node, com), spun(held, body)
            change = minus(scaled(minus(v, triple(body.before)), body.mass), scaled(triple(a.gravity), h * body.mass))
            add_load(tap, change, com, minus(spin, triple(body.spun)), 1.0)
            put(body.before, v)
            put(body.spun, spin)
        for c in range(count.kept):
            kept = a.kept[c]
            for side in range(2):
                if a.load_geoms[k, kept.key // G if side == 0 else kept.key % G] == 1:
                    # A plane or a mesh is always the second of a pair, whatever its number.
                    sign = side_sign(a.geoms, kept.key, side)
                    add_load(tap, triple(kept.impulse), triple(kept.point), triple(kept.moment), -sign)
        for j in range(len(a.loops)):
            loop = a.loops[j]
            if loop.kind != MIMIC:
                for link, sign in ((loop.link_a, -1.0), (loop.link_b, 1.0)):
                    if a.load_links[k, link] == 1:
                        add_load(
                            tap, scaled(triple(loop.force), h), triple(loop.point), scaled(triple(loop.moment), h), sign
                        )
        for j in range(len(a.pushes)):
            push = a.pushes[j]
            if count.step <= push.until and a.load_links[k, push.link] == 1:
                pushed = a.nodes[push.node]
                at = add(triple(pushed.pos), turned(pushed.rot, triple(push.point)))
                add_load(tap, scaled(triple(push.force), h), at, scaled(triple(push.torque), h), -1.0)
        fresh = a.room
        multiply(n.rot, tap.turn, fresh)
        put(tap.force, add(triple(tap.force), between(tap.axes, fresh, triple(tap.sum_force))))
        put(tap.torque, add(triple(tap.torque), between(tap.axes, fresh, triple(tap.sum_torque))))
        for r in range(3):
            put(tap.axes[r], triple(fresh[r]))
        tap.steps += 1


@kernel
def side_sign(geoms, key, side):
    """+1 where a kept force acts on the shape with the lower (side 0) or higher number of its pair, else −1."""
    first = geoms[key // len(geoms)].kind
    swapped = first in (PLANE, MESH)
    return 1.0 if (side == 0) != swapped else -1.0


@kernel
def is_far(one, other):
    """True for places that are of two contacts: those of one move less in a step."""
    d = minus(triple(one), triple(other))
    return dot(d, d) > SAME_PLACE * SAME_PLACE


@kernel
def tap_touches(a, count):
    """Add this step's contacts to the tallies: impulse, and place and normal weighted by it, by pair and place."""
    G = len(a.geoms)
    for t in range(len(a.tallies)):
        tally = a.tallies[t]
        for c in range(count.kept):
            kept = a.kept[c]
            low, high = kept.key // G, kept.key % G
            if a.tally_geoms[t, low] == 0 and a.tally_geoms[t, high] == 0:
                continue
            size = norm(triple(kept.impulse))
            if size == 0.0:
                continue
            k, end = tally.first, tally.first + tally.count
            while k < end and (a.felt[k].key != kept.key or is_far(a.felt[k].last, kept.point)):
                k += 1
            if k == end:
                if end == tally.end:
                    tally.lost += 1
                    continue
                row = a.felt[k]
                tally.count += 1
                row.key, row.weight, row.gap = kept.key, 0.0, math.inf
                for j in range(3):
                    row.impulse[j], row.point[j], row.normal[j], row.moment[j] = 0.0, 0.0, 0.0, 0.0
            row = a.felt[k]
            put(row.last, triple(kept.point))
            row.weight += size
            row.gap = min(row.gap, kept.gap)
            put(row.impulse, add(triple(row.impulse), triple(kept.impulse)))
            put(row.point, add(triple(row.point), scaled(triple(kept.point), size)))
            put(row.normal, add(triple(row.normal), scaled(triple(kept.normal), size)))
            put(
                row.moment,
                add(triple(row.moment), add(triple(kept.moment), cross(triple(kept.point), triple(kept.impulse)))),
            )
            tally.pressed += dot(triple(kept.normal), triple(kept.impulse))
        tally.steps += 1


@kernel
def tap_step(a, count, h):
    """Let all taps gather what this step was."""
    if len(a.inertials) > 0:
        tap_inertials(a, h)
    if len(a.loads) > 0:
        tap_loads(a, count, h)
    if len(a.tallies) > 0:
        tap_touches(a, count)
    for k in range(len(a.drives)):
        tap = a.drives[k]
        tap.sum += a.dofs[tap.dof].effort
        tap.steps += 1
