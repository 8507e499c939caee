"""Kernels of a chain of joints: where its tip is, how it moves, and the joint positions that bring it somewhere.

A chain of n joints is ``turn`` (n + 1, 3, 3) and ``place`` (n + 1, 3), the pose of each joint in what moves with the
one before (the last: of the tip), ``axis`` (n, 3) in it, and ``slides`` (n,). Lengths in m, angles in rad, all results
in the axes of the chain's base.

Inverse kinematics is the Levenberg-Marquardt step Δq = (JᵀJ + λ·I)⁻¹·Jᵀe with a damping that goes with the square of
the error that is left (T. Sugihara, "Solvability-unconcerned inverse kinematics by the Levenberg-Marquardt method",
IEEE Transactions on Robotics 27(5), 2011), λ = μ·|e|²; μ falls after a step that helps and grows after one that does
not. Joints that would leave their limits are put onto them, and the others solved for what is left.
"""

from __future__ import annotations

import math

from veldrain.kernel import entry, kernel

MOST_STEPS = 80  # from one start
POLISH = 4  # steps after the tolerance is met
LONGEST = 0.7  # rad or m: of one joint in one step
STALLED = 1e-7  # share of the error that a step has to take away
PULL = 0.05  # weight of the posture to stay near, beside the pose's error


@kernel
def turn_about(axis, angle, R, out):
    """out = R · rotation by an angle about a unit axis (Rodrigues)."""
    c, s = math.cos(angle), math.sin(angle)
    x, y, z = axis[0], axis[1], axis[2]
    t = 1.0 - c
    for k in range(3):
        a, b, d = R[k, 0], R[k, 1], R[k, 2]
        out[k, 0] = a * (t * x * x + c) + b * (t * x * y + s * z) + d * (t * x * z - s * y)
        out[k, 1] = a * (t * x * y - s * z) + b * (t * y * y + c) + d * (t * y * z + s * x)
        out[k, 2] = a * (t * x * z + s * y) + b * (t * y * z - s * x) + d * (t * z * z + c)


@kernel
def follow(q, turn, place, axis, slides, frames, points, ways, work):
    """Axes (n + 1, 3, 3) and origins (n + 1, 3) of what moves with each joint (the last: of the tip), and the joints'
    axes ``ways`` (n, 3)."""
    n = len(q)
    for k in range(n + 1):
        for i in range(3):
            if k == 0:
                points[0, i] = place[0, i]
                for j in range(3):
                    work[i, j] = turn[0, i, j]
            else:
                R = frames[k - 1]
                points[k, i] = points[k - 1, i] + R[i, 0] * place[k, 0] + R[i, 1] * place[k, 1] + R[i, 2] * place[k, 2]
                for j in range(3):
                    work[i, j] = R[i, 0] * turn[k, 0, j] + R[i, 1] * turn[k, 1, j] + R[i, 2] * turn[k, 2, j]
        if k == n:
            for i in range(3):
                for j in range(3):
                    frames[n, i, j] = work[i, j]
            return
        for i in range(3):
            ways[k, i] = work[i, 0] * axis[k, 0] + work[i, 1] * axis[k, 1] + work[i, 2] * axis[k, 2]
        if slides[k]:
            for i in range(3):
                points[k, i] += q[k] * ways[k, i]
                for j in range(3):
                    frames[k, i, j] = work[i, j]
        else:
            turn_about(axis[k], q[k], work, frames[k])


@kernel
def fill_jacobian(slides, points, ways, at, J):
    """J (6, n): velocity of a point that moves with the tip, then its spin."""
    for k in range(len(slides)):
        a = ways[k]
        if slides[k]:
            for i in range(3):
                J[i, k], J[3 + i, k] = a[i], 0.0
        else:
            x, y, z = at[0] - points[k, 0], at[1] - points[k, 1], at[2] - points[k, 2]
            J[0, k], J[1, k], J[2, k] = a[1] * z - a[2] * y, a[2] * x - a[0] * z, a[0] * y - a[1] * x
            for i in range(3):
                J[3 + i, k] = a[i]


@kernel
def turn_between(R, goal, free, out):
    """The rotation vector that turns axes R to the goal's; free: an axis of the tip about which any turn will do."""
    if free[0] != 0.0 or free[1] != 0.0 or free[2] != 0.0:
        a0 = R[0, 0] * free[0] + R[0, 1] * free[1] + R[0, 2] * free[2]
        a1 = R[1, 0] * free[0] + R[1, 1] * free[1] + R[1, 2] * free[2]
        a2 = R[2, 0] * free[0] + R[2, 1] * free[1] + R[2, 2] * free[2]
        b0 = goal[0, 0] * free[0] + goal[0, 1] * free[1] + goal[0, 2] * free[2]
        b1 = goal[1, 0] * free[0] + goal[1, 1] * free[1] + goal[1, 2] * free[2]
        b2 = goal[2, 0] * free[0] + goal[2, 1] * free[1] + goal[2, 2] * free[2]
        x, y, z = a1 * b2 - a2 * b1, a2 * b0 - a0 * b2, a0 * b1 - a1 * b0
        s, c = math.sqrt(x * x + y * y + z * z), a0 * b0 + a1 * b1 + a2 * b2
        if s < 1e-12 and c < 0.0:  # opposite: about any axis across
            k = 0 if abs(a0) < 0.7 else 1
            x, y, z = (0.0, a2, -a1) if k == 0 else (-a2, 0.0, a0)
            s = math.sqrt(x * x + y * y + z * z)
            angle = math.pi
        else:
            angle = math.atan2(s, c)
        size = angle / s if s > 1e-12 else 1.0
        out[0], out[1], out[2] = size * x, size * y, size * z
        return
    # goal · Rᵀ, of which the antisymmetric part is sin(angle) · axis
    x = y = z = trace = 0.0
    for j in range(3):
        x += goal[2, j] * R[1, j] - goal[1, j] * R[2, j]
        y += goal[0, j] * R[2, j] - goal[2, j] * R[0, j]
        z += goal[1, j] * R[0, j] - goal[0, j] * R[1, j]
        trace += goal[0, j] * R[0, j] + goal[1, j] * R[1, j] + goal[2, j] * R[2, j]
    s, c = 0.5 * math.sqrt(x * x + y * y + z * z), 0.5 * (trace - 1.0)
    if s < 1e-9 and c < 0.0:  # half a turn: the axis is a column of goal · Rᵀ + I
        best = -1.0
        for k in range(3):
            col0 = col1 = col2 = 0.0
            for j in range(3):
                col0 += goal[0, j] * R[k, j]
                col1 += goal[1, j] * R[k, j]
                col2 += goal[2, j] * R[k, j]
            col0 += 1.0 if k == 0 else 0.0
            col1 += 1.0 if k == 1 else 0.0
            col2 += 1.0 if k == 2 else 0.0
            size = math.sqrt(col0 * col0 + col1 * col1 + col2 * col2)
            if size > best:
                best = size
                out[0], out[1], out[2] = math.pi * col0 / size, math.pi * col1 / size, math.pi * col2 / size
        return
    size = 0.5 * (math.atan2(s, c) / s if s > 1e-12 else 1.0)
    out[0], out[1], out[2] = size * x, size * y, size * z


@kernel
def solve_damped(H, g, lam, held, L, x):
    """x of (H + λ·I)·x = g by Cholesky, for the joints that are not held."""
    n = len(g)
    for r in range(n):
        for k in range(r + 1):
            s = 0.0 if held[r] or held[k] else H[r, k]
            if r == k:
                s = 1.0 if held[r] else s + lam
            for j in range(k):
                s -= L[r, j] * L[k, j]
            L[r, k] = math.sqrt(max(s, 1e-300)) if r == k else s / L[k, k]
    for r in range(n):
        s = 0.0 if held[r] else g[r]
        for k in range(r):
            s -= L[r, k] * x[k]
        x[r] = s / L[r, r]
    for r in range(n - 1, -1, -1):
        s = x[r]
        for k in range(r + 1, n):
            s -= L[k, r] * x[k]
        x[r] = s / L[r, r]


@kernel
def bounded_step(H, g, lam, q, low, high, held, rest, L, dq):
    """The damped step inside of the limits: what would leave them goes onto them, the others take what is left."""
    n = len(q)
    for k in range(n):
        held[k] = 0
        dq[k] = 0.0
        rest[k] = g[k]
    x = L[n]  # a row to work in
    for _ in range(n + 1):
        solve_damped(H, rest, lam, held, L, x)
        longest = 0.0
        for k in range(n):
            if not held[k]:
                longest = max(longest, abs(x[k]))
        size = LONGEST / longest if longest > LONGEST else 1.0
        more = False
        for k in range(n):
            if held[k]:
                continue
            new = q[k] + size * x[k]
            if new < low[k] or new > high[k]:
                held[k] = 1
                dq[k] = (low[k] if new < low[k] else high[k]) - q[k]
                more = True
        if not more:
            for k in range(n):
                if not held[k]:
                    dq[k] = size * x[k]
            return
        for k in range(n):
            rest[k] = g[k]
            for j in range(n):
                if held[j]:
                    rest[k] -= H[k, j] * dq[j]


@kernel
def error_of(frames, points, goal, at, free, weights, e):
    """What is left to the goal, weighted (6,); gives its position and its direction."""
    n = len(points) - 1
    turn_between(frames[n], goal, free, e[3:6])
    far = turned = 0.0
    for i in range(3):
        e[i] = at[i] - points[n, i]
        far += e[i] * e[i]
        turned += e[3 + i] * e[3 + i]
        e[i] *= weights[0]
        e[3 + i] *= weights[1]
    return math.sqrt(far), math.sqrt(turned)


@kernel
def cost_of(e, q, near, pull):
    """Square of the error, and of the way to the posture to stay near."""
    total = 0.0
    for i in range(6):
        total += e[i] * e[i]
    if pull > 0.0:
        for k in range(len(q)):
            total += pull * pull * (q[k] - near[k]) ** 2
    return total


@kernel
def descend(q, goal, at, chain, low, high, free, weights, tolerance, near, pull, room):
    """Go down from q to the goal; gives the position and direction that are left."""
    turn, place, axis, slides = chain
    frames, points, ways, work, J, H, L, g, dq, held, rest, e, trial = room
    n = len(q)
    mu, polished = 1.0, 0
    follow(q, turn, place, axis, slides, frames, points, ways, work)
    far, turned = error_of(frames, points, goal, at, free, weights, e)
    cost = cost_of(e, q, near, pull)
    for _ in range(MOST_STEPS):
        if pull == 0.0 and far <= tolerance[0] and turned <= tolerance[1]:
            polished += 1
            if polished > POLISH or cost < 1e-26:
                break
        fill_jacobian(slides, points, ways, points[n], J)
        is_free = free[0] != 0.0 or free[1] != 0.0 or free[2] != 0.0
        if is_free:  # turns about the free axis do not count
            R = frames[n]
            a0 = R[0, 0] * free[0] + R[0, 1] * free[1] + R[0, 2] * free[2]
            a1 = R[1, 0] * free[0] + R[1, 1] * free[1] + R[1, 2] * free[2]
            a2 = R[2, 0] * free[0] + R[2, 1] * free[1] + R[2, 2] * free[2]
            for k in range(n):
                along = a0 * J[3, k] + a1 * J[4, k] + a2 * J[5, k]
                J[3, k] -= along * a0
                J[4, k] -= along * a1
                J[5, k] -= along * a2
        for k in range(n):
            for i in range(3):
                J[i, k] *= weights[0]
                J[3 + i, k] *= weights[1]
        for k in range(n):
            s = 0.0
            for i in range(6):
                s += J[i, k] * e[i]
            g[k] = s + pull * pull * (near[k] - q[k])
            for j in range(k + 1):
                s = 0.0
                for i in range(6):
                    s += J[i, k] * J[i, j]
                H[k, j] = s
                H[j, k] = s
            H[k, k] += pull * pull
        helped = False
        new_cost = cost
        for _ in range(8):
            bounded_step(H, g, mu * cost + 1e-12, q, low, high, held, rest, L, dq)
            for k in range(n):
                trial[k] = q[k] + dq[k]
            follow(trial, turn, place, axis, slides, frames, points, ways, work)
            far, turned = error_of(frames, points, goal, at, free, weights, e)
            new_cost = cost_of(e, trial, near, pull)
            if new_cost < cost:
                helped = True
                break
            mu = max(mu, 1e-9) * 8.0
        if not helped:
            follow(q, turn, place, axis, slides, frames, points, ways, work)
            far, turned = error_of(frames, points, goal, at, free, weights, e)
            break
        stalled = new_cost > cost * (1.0 - STALLED)
        for k in range(n):
            q[k] = trial[k]
        cost = new_cost
        mu = max(mu * 0.25, 1e-9)
        if stalled:
            break
    return far, turned


@entry
def reach(q, goal, at, chain, low, high, free, weights, tolerance, near, has_near, starts, room, best):
    """Bring q (n,) to a goal from the first of ``starts`` (m, n) that gets there.

    Fills q with the best that was found and ``best`` with its errors (m, rad); gives how many starts it took.
    """
    n = len(q)
    best[0], best[1] = math.inf, math.inf
    least = math.inf
    trial = starts[0]
    for m in range(len(starts)):
        trial = starts[m]
        if has_near:
            descend(trial, goal, at, chain, low, high, free, weights, tolerance, near, PULL, room)
        far, turned = descend(trial, goal, at, chain, low, high, free, weights, tolerance, near, 0.0, room)
        size = (weights[0] * far) ** 2 + (weights[1] * turned) ** 2
        there = far <= tolerance[0] and turned <= tolerance[1]
        if there or size < least:
            least = size
            best[0], best[1] = far, turned
            for k in range(n):
                q[k] = trial[k]
        if there:
            return m + 1
    return len(starts)


@entry
def follow_many(q, chain, frames, points, ways, work, all_frames, all_points):
    """Axes (m, 3, 3) and positions (m, 3) of the tip at joint positions (m, n)."""
    turn, place, axis, slides = chain
    n = q.shape[1]
    for m in range(len(q)):
        follow(q[m], turn, place, axis, slides, frames, points, ways, work)
        for i in range(3):
            all_points[m, i] = points[n, i]
            for j in range(3):
                all_frames[m, i, j] = frames[n, i, j]


@entry
def jacobians(q, chain, frames, points, ways, work, all_of_them):
    """Jacobians (m, 6, n) of the tip at joint positions (m, n)."""
    turn, place, axis, slides = chain
    n = q.shape[1]
    for m in range(len(q)):
        follow(q[m], turn, place, axis, slides, frames, points, ways, work)
        fill_jacobian(slides, points, ways, points[n], all_of_them[m])


@entry
def dynamics(q, chain, masses, centres, inertias, pull, frames, points, ways, work, J, all_inertias, all_loads):
    """Inertia matrices (m, n, n) of what moves with the joints, and the efforts (m, n) that hold it against a pull.

    Of what moves with joint k: ``masses`` (n,), ``centres`` (n, 3) and ``inertias`` (n, 3, 3) about them, in its axes.
    M = Σ m·Jᵥᵀ·Jᵥ + J_ωᵀ·R·I·Rᵀ·J_ω, and the efforts are −Σ m·Jᵥᵀ·g.
    """
    turn, place, axis, slides = chain
    n = q.shape[1]
    for m in range(len(q)):
        follow(q[m], turn, place, axis, slides, frames, points, ways, work)
        M, load = all_inertias[m], all_loads[m]
        for a in range(n):
            load[a] = 0.0
            for b in range(n):
                M[a, b] = 0.0
        for k in range(n):
            R = frames[k]
            c = work[0]
            for i in range(3):
                c[i] = points[k, i] + R[i, 0] * centres[k, 0] + R[i, 1] * centres[k, 1] + R[i, 2] * centres[k, 2]
            fill_jacobian(slides[: k + 1], points, ways, c, J)
            for a in range(k + 1):
                # the spin of joint a in the body's axes, times its inertia
                w = work[1]
                u = work[2]
                for i in range(3):
                    w[i] = R[0, i] * J[3, a] + R[1, i] * J[4, a] + R[2, i] * J[5, a]
                for i in range(3):
                    u[i] = inertias[k, i, 0] * w[0] + inertias[k, i, 1] * w[1] + inertias[k, i, 2] * w[2]
                load[a] -= masses[k] * (pull[0] * J[0, a] + pull[1] * J[1, a] + pull[2] * J[2, a])
                for b in range(a + 1):
                    s = masses[k] * (J[0, a] * J[0, b] + J[1, a] * J[1, b] + J[2, a] * J[2, b])
                    for i in range(3):
                        s += u[i] * (R[0, i] * J[3, b] + R[1, i] * J[4, b] + R[2, i] * J[5, b])
                    M[a, b] += s
                    if a != b:
                        M[b, a] += s
