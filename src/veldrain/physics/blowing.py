"""What the air does to things that move: rotors, drag, wind and gusts.

A rotor's thrust is k·ω·|ω| along its joint's axis, and the air holds it back with the torque c·ω·|ω| (momentum theory
of a rotor at hover gives both as squares of its speed: J. G. Leishman, "Principles of Helicopter Aerodynamics", 2006,
chapter 2). ω is the joint's velocity; what the rotor's own motion through the air changes is left out.

The drag of a link is −½·ρ·A·|v|·v along each of its axes, v the velocity of its point through the air and A the drag
area (drag coefficient times area) seen along that axis.

Gusts are a sum of waves Σ size·cos(rate·t + phase), see ``gusts``: a function of time alone.
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel
from veldrain.physics.plant import NOW
from veldrain.physics.spatial import add, cross, minus, norm, put, scaled, triple, turned, turned_back


@kernel
def wind_at(air, gusts, time):
    """Velocity of the air, world axes."""
    wind = triple(air.wind)
    for k in range(len(gusts)):
        gust = gusts[k]
        wind = add(wind, scaled(triple(gust.size), math.cos(gust.rate * time + gust.phase)))
    return wind


@kernel
def held_back(k, mass, h):
    """The damping k as at the end of the step: it stops what is light, and never throws it back."""
    return k / (1.0 + h * k / mass) if mass > 0.0 else k


@kernel
def blow(a, count, h):
    """Set the pushes of rotors and of drag for the coming step."""
    if len(a.blown) == 0:
        return
    air, now = a.air[0], a.speeds[NOW]
    wind = wind_at(air, a.gusts, count.step * h)
    for k in range(len(a.blown)):
        b = a.blown[k]
        n, push = a.nodes[b.node], a.pushes[b.push]
        if b.dof >= 0:
            squared = now[b.dof] * abs(now[b.dof])
            axis = turned(n.rot, (b.turn[0, 2], b.turn[1, 2], b.turn[2, 2]))
            put(push.force, scaled(axis, b.thrust * squared))
            put(push.torque, scaled(axis, -b.torque * squared))
            continue
        arm = turned(n.rot, triple(b.place))
        point = add(triple(n.pos), arm)
        spin = triple(n.twist)
        moved = add(triple(n.twist[3:6]), cross(spin, minus(point, triple(a.trees[n.tree].ref))))
        through = turned_back(b.turn, turned_back(n.rot, minus(moved, wind)))
        size = 0.5 * air.density * norm(through)
        x, y = held_back(size * b.area[0], n.mass, h), held_back(size * b.area[1], n.mass, h)
        z = held_back(size * b.area[2], n.mass, h)
        force = (-x * through[0], -y * through[1], -z * through[2])
        put(push.force, turned(n.rot, turned(b.turn, force)))
