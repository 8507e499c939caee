"""What is led along a route, step by step: how far it goes, where it then is, and what its joints do.

Along the route the speed goes toward what is told, within limits of acceleration, and never above what the route's
pieces allow (see ``motion.routes``). A gap to what is ahead is kept by the intelligent driver model (M. Treiber,
A. Hennecke, D. Helbing, Phys. Rev. E 62(2), 2000, equations 3 and 4)::

    v̇ = a·(1 − (v/v₀)⁴ − (s*/gap)²),   s* = s₀ + v·T + v·Δv/(2·√(a·b))

Beside the route the offset d is a polynomial of the way l that was gone since a change of it began. With d' = dd/dl the
heading is that of the route plus φ = asin d', and of the route passes ds = dl·cos φ/(1 − κ·d), so that the own speed is
what it is told to be at any offset. A joint is at offset + gain·(rate·l + swing·sin(wave·l + phase) + atan(base·κ)).
"""

from __future__ import annotations

import math

from veldrain.kernel import inlined, kernel
from veldrain.physics.responses import point_velocity
from veldrain.physics.spatial import add, dot, put, triple
from veldrain.physics.waiting import way_to_stop

# Nodes and weights of Gauss–Legendre quadrature over [0, 1]: two for what turns by less than LITTLE, where they leave
# 3e-12 of a length, then four for pieces that turn by a quarter of a radian at most.
TWO = (0.2113248654051871, 0.7886751345948129)
FOUR, WEIGHTS = (0.06943184420297371, 0.33000947820757187), (0.17392742256872692, 0.32607257743127307)
C2, C3, C4, C5, C6, C7, C8, C9 = (1.0 / math.factorial(n) for n in range(2, 10))  # of the series
LITTLE = 0.01  # rad
HARDEST = 9.0  # m/s²: no car on dry ground brakes harder
SIDEWAYS = 0.5  # most of d': 30° off the route
MOST_PIECES = 200  # looked at for one that is minded, in a step


@kernel
def small_turn(a):
    """Cosine and sine of an angle of a quarter of a radian at most, by their series."""
    b = a * a
    cosine = 1.0 - b * (C2 - b * (C4 - b * (C6 - b * C8)))
    return cosine, a * (1.0 - b * (C3 - b * (C5 - b * (C7 - b * C9))))


@kernel
def turn_at(share, length, k, c):
    """Cosine and sine of the turn at a share of a length."""
    at = share * length
    return small_turn(at * (k + 0.5 * c * at))


@kernel
def chord(length, k, c):
    """How far along its first heading, and left of it, a piece of curve gets."""
    if length * (abs(k) + abs(c) * length) < LITTLE:
        one, two = turn_at(TWO[0], length, k, c), turn_at(TWO[1], length, k, c)
        return 0.5 * length * (one[0] + two[0]), 0.5 * length * (one[1] + two[1])
    one, two = turn_at(FOUR[0], length, k, c), turn_at(FOUR[1], length, k, c)
    three, four = turn_at(1.0 - FOUR[1], length, k, c), turn_at(1.0 - FOUR[0], length, k, c)
    along = WEIGHTS[0] * (one[0] + four[0]) + WEIGHTS[1] * (two[0] + three[0])
    return length * along, length * (WEIGHTS[0] * (one[1] + four[1]) + WEIGHTS[1] * (two[1] + three[1]))


@kernel
def curve_point(x, y, cosine, sine, k, c, length, u):
    """x, y, cosine and sine of the heading, and curvature at u along a piece; beyond its end it goes on straight."""
    inside = min(max(u, 0.0), length)
    bend = 0.0
    if k != 0.0 or c != 0.0:
        along, across = chord(inside, k, c)
        x += along * cosine - across * sine
        y += along * sine + across * cosine
        turn = turn_at(1.0, inside, k, c)
        cosine, sine = cosine * turn[0] - sine * turn[1], sine * turn[0] + cosine * turn[1]
        bend = k + c * inside
    else:
        x += inside * cosine
        y += inside * sine
    beyond = u - inside
    return x + beyond * cosine, y + beyond * sine, cosine, sine, bend if beyond == 0.0 else 0.0


@kernel
def offset_of(led):
    """Offset d of something led, d' and d''."""
    u, w = min(led.shifted, led.span), led.way
    d = w[0] + u * (w[1] + u * (w[2] + u * (w[3] + u * (w[4] + u * w[5]))))
    if led.shifted >= led.span:
        return d, 0.0, 0.0
    first = w[1] + u * (2.0 * w[2] + u * (3.0 * w[3] + u * (4.0 * w[4] + u * 5.0 * w[5])))
    second = 2.0 * w[2] + u * (6.0 * w[3] + u * (12.0 * w[4] + u * 20.0 * w[5]))
    return d, min(max(first, -SIDEWAYS), SIDEWAYS), second


@inlined
def route_point(led, pieces):
    """x, y, cosine and sine of the heading, and curvature of its route where it is."""
    if led.free == 1:
        o = led.own
        return curve_point(o[0], o[1], math.cos(o[2]), math.sin(o[2]), o[3], o[4], o[5], led.s)
    p = pieces[led.piece]
    return curve_point(p.x, p.y, p.cosine, p.sine, p.k, p.c, p.length, led.s - p.s)


@kernel
def bend_ahead(led, pieces, way):
    """Curvature of its route a little ahead, as of the piece that it is in."""
    if led.free == 1:
        o = led.own
        return o[3] + o[4] * (led.s + way) if led.s + way < o[5] else 0.0
    p = pieces[led.piece]
    return p.k + p.c * min(led.s - p.s + way, p.length)


@inlined
def lift_of(led, pieces, lifts, d):
    """Height, pitch and roll where it is: cubics along the piece, even between two offsets."""
    if led.free == 1:
        return led.own[6], led.own[7], led.own[8]
    p = pieces[led.piece]
    u = min(max((led.s - p.s) / p.length, 0.0), 1.0)
    row = led.lift + (led.piece - led.first) * led.columns
    if led.columns == 1:
        here = lifts[row]
        return cubic(here[0], u), cubic(here[1], u), cubic(here[2], u)
    side = min(max((d - led.side) / led.spread, 0.0), led.columns - 1.0)
    left = min(int(side), led.columns - 2)
    share = side - left
    here, there = lifts[row + left], lifts[row + left + 1]
    z = cubic(here[0], u) * (1.0 - share) + cubic(there[0], u) * share
    pitch = cubic(here[1], u) * (1.0 - share) + cubic(there[1], u) * share
    roll = cubic(here[2], u) * (1.0 - share) + cubic(there[2], u) * share
    return z, pitch, roll


@kernel
def cubic(c, u):
    """A cubic with coefficients from the constant on."""
    return c[0] + u * (c[1] + u * (c[2] + u * c[3]))


@inlined
def place_led(led, pieces, lifts, moves, centre, row):
    """Write where something led is into a row of its tree; ``centre``: its mass centre."""
    x, y, cosine, sine, curvature = route_point(led, pieces)
    d, slope, bend = offset_of(led)
    z, pitch, roll = lift_of(led, pieces, lifts, d)
    x -= d * sine
    y += d * cosine
    if slope != 0.0 or bend != 0.0:
        lean = math.sqrt(1.0 - slope * slope)
        curvature = curvature * lean / (1.0 - curvature * d) + bend / lean
        cosine, sine = cosine * lean - sine * slope, sine * lean + cosine * slope
    else:
        curvature = curvature / (1.0 - curvature * d)
    if led.turns == 0:
        cosine, sine = math.cos(led.turn), math.sin(led.turn)
    if cosine > 0.0:  # of half the heading, by the larger of the two
        ch = math.sqrt(0.5 + 0.5 * cosine)
        sh = 0.5 * sine / ch
    else:
        sh = math.copysign(math.sqrt(0.5 - 0.5 * cosine), sine)
        ch = 0.5 * sine / sh
    cp, sp, cr, sr = 1.0, 0.0, 1.0, 0.0
    if led.upright == 0 and (pitch != 0.0 or roll != 0.0):
        cp, sp, cr, sr = math.cos(pitch / 2.0), math.sin(pitch / 2.0), math.cos(roll / 2.0), math.sin(roll / 2.0)
    qx, qy = ch * cp * sr - sh * sp * cr, ch * sp * cr + sh * cp * sr
    qz, qw = sh * cp * cr - ch * sp * sr, ch * cp * cr + sh * sp * sr
    at = add((x, y, z), turned_by(qx, qy, qz, qw, (centre[0], centre[1], centre[2] + led.tall)))
    put(row[0:3], at)
    row[3], row[4], row[5], row[6] = qx, qy, qz, qw
    for m in range(led.first_move, led.end_move):
        move = moves[m]
        turn = move.rate * led.travel
        if move.swing != 0.0:
            turn += move.swing * math.sin(move.wave * led.travel + move.phase)
        if move.base != 0.0:
            turn += math.atan(move.base * curvature)
        row[7 + move.dof] = move.offset + move.gain * turn


@inlined
def turned_by(x, y, z, w, v):
    """A vector turned by a unit quaternion."""
    tx, ty, tz = 2.0 * (y * v[2] - z * v[1]), 2.0 * (z * v[0] - x * v[2]), 2.0 * (x * v[1] - y * v[0])
    return (v[0] + w * tx + y * tz - z * ty, v[1] + w * ty + z * tx - x * tz, v[2] + w * tz + x * ty - y * tx)


@kernel
def look_ahead(trees, nodes, pieces, led, mind):
    """The gap to one that is minded, and its speed along the route; inf where it is not ahead."""
    n = nodes[mind.node]
    count = led.end - led.first
    u, across, k = 0.0, 0.0, mind.piece
    for _ in range(min(MOST_PIECES, 2 * count)):
        p = pieces[led.first + k]
        c, s = p.cosine, p.sine
        dx, dy = n.pos[0] - p.x, n.pos[1] - p.y
        u, across = dx * c + dy * s, dy * c - dx * s
        if p.k != 0.0 or p.c != 0.0:  # the foot on the circle that the piece is near to
            bend = p.k + 0.5 * p.c * p.length
            if abs(bend) > 1e-9:
                radius = 1.0 / bend
                u = math.atan2(u, math.copysign(1.0, radius) * (radius - across)) * abs(radius)
                across = radius - math.copysign(math.hypot(dx * c + dy * s, radius - across), radius)
        if u > p.length and (k < count - 1 or led.closed == 1):
            k = (k + 1) % count
        elif u < 0.0 and (k > 0 or led.closed == 1):
            k = (k - 1) % count
        else:
            break
    mind.piece = k
    p = pieces[led.first + k]
    ahead = p.s + u - led.s
    if led.closed == 1:
        ahead -= led.length * math.floor(ahead / led.length)
    d, _, _ = offset_of(led)
    if ahead <= 0.0 or abs(across - d) > led.wide + mind.wide:
        return math.inf, 0.0
    v = point_velocity(trees, nodes, mind.node, triple(n.pos))
    heading = p.heading + min(max(u, 0.0), p.length) * p.k
    return ahead - led.ahead - mind.rear, dot(v, (math.cos(heading), math.sin(heading), 0.0))


@kernel
def free_push(led, v, up, down):
    """The model's acceleration where nothing is ahead."""
    share = (v / led.goal) ** 2 if v <= led.goal else (led.goal / v) ** 2
    return up * (1.0 - share * share) if v <= led.goal else -down * (1.0 - share * share)


@inlined
def next_speed(trees, nodes, pieces, minds, led, to_line, step, h):
    """Its speed after the step; to_line: how far it is to the line at which it waits."""
    v, goal = led.speed, led.goal
    if step < led.begin:
        return 0.0
    if led.free == 0 and led.end_mind > led.first_mind and goal > 1e-6:
        push, kept = free_push(led, v, led.up, led.down), free_push(led, v, led.gap_up, led.gap_down)
        for m in range(led.first_mind, led.end_mind):
            gap, other = look_ahead(trees, nodes, pieces, led, minds[m])
            if gap < math.inf:
                wanted = v * led.gap_time + v * (v - other) / (2.0 * math.sqrt(led.gap_up * led.gap_down))
                wanted = led.gap_rest + max(0.0, wanted)
                share = wanted / max(gap, 0.1)
                push = min(push, kept - led.gap_up * share * share)
        new = max(0.0, v + h * max(push, -HARDEST))
    elif v < goal:
        new = min(v + h * led.up, goal)
    else:
        new = max(v - h * led.down, goal, 0.0)
    if led.free == 0:
        p = pieces[led.piece]
        square = p.square + p.slope * min(led.s - p.s + 0.5 * h * (v + new), p.length)
        new = min(new, math.sqrt(max(square, 0.0)))
    rest = min(led.halt - led.s, to_line)
    if rest < math.inf:
        # v⁺² = 2·b·(what is left after the step), and the step takes (v + v⁺)·h/2.
        left, brake = max(rest - 0.5 * h * v, 0.0), 0.5 * h * led.down
        allowed = math.sqrt(brake * brake + 2.0 * led.down * left) - brake
        new = min(new, max(allowed, v - h * led.down, 0.0))
    return new


@inlined
def go_on(pieces, led, new, h):
    """One step along the route, at the end of which it has a new speed."""
    v = led.speed
    way = 0.5 * (v + new) * h
    d, slope, _ = offset_of(led)
    curvature = bend_ahead(led, pieces, 0.5 * way)  # what holds in the middle of the step
    led.speed = new
    led.travel += way
    led.shifted = min(led.shifted + way, led.span)
    led.s += way * math.sqrt(1.0 - slope * slope) / max(1.0 - curvature * d, 0.05)
    if led.free == 1:
        return
    if led.closed == 1 and led.s >= led.length:
        led.s -= led.length
        led.halt -= led.length
        led.piece = led.first
    if led.stops == 1 and led.closed == 0 and led.s >= led.length:
        led.s, led.speed = led.length, 0.0
    while led.piece + 1 < led.end and led.s >= pieces[led.piece + 1].s:
        led.piece += 1


@kernel
def lead(a, count, h):
    """Take all that follows a route to where it is at the end of the coming step; a: the plant."""
    for k in range(len(a.led)):
        led = a.led[k]
        tree = a.trees[led.tree]
        if led.base != count.step:  # a step is taken anew where its arrays were too small
            led.base = count.step
            rows = a.script[tree.script : tree.script + 2 * tree.width]
            for j in range(tree.width):
                rows[j] = rows[tree.width + j]
            # The arrays one by one: the plant as a whole is many numbers to hand on.
            to_line = way_to_stop(a.led, a.lights, a.lines, led, count.step * h) if led.free == 0 else math.inf
            new = next_speed(a.trees, a.nodes, a.pieces, a.minds, led, to_line, count.step, h)
            go_on(a.pieces, led, new, h)
            centre = triple(a.nodes[tree.first].centre)
            place_led(led, a.pieces, a.lifts, a.moves, centre, rows[tree.width :])
        tree.base = led.base
