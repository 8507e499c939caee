"""Rules about the step against what is fast in a world."""

from __future__ import annotations

import math
from collections.abc import Iterator

from veldrain.model import Surface
from veldrain.review.look import Look, RobotLook
from veldrain.review.rules import Found, found, rule

RESOLVED = 0.5  # frequency · step up to which an oscillation is followed
STABLE_RK4 = 2.8  # and up to which rk4 does not grow


@rule("fast-for-the-step", "warning", "step")
def fast_for_the_step(look: Look) -> Found:
    """The fastest spring or soft contact takes several steps to swing.

    Springs are taken implicitly: what swings within a few steps stays stable and is damped away. With rk4 joint springs
    are explicit, and one that is too stiff grows.
    """
    modes = [*_springs(look), *_soft_contacts(look)]
    if not modes:
        return
    frequency, owner, name, what, kind = max(modes, key=lambda mode: mode[0])
    turns = frequency * look.step
    if turns <= RESOLVED:
        return
    grows = look.integrator == "rk4" and turns > STABLE_RK4 and kind == "joint"
    most = 10 ** math.floor(math.log10(RESOLVED / frequency))
    yield found(
        "fast-for-the-step",
        owner,
        name,
        f"{what} swings in {2e3 * math.pi / frequency:.2g} ms, and the step is {1e3 * look.step:g} ms: "
        + ("with rk4 it grows without bound" if grows else "it stays stable and is damped away"),
        f"take a step of {1e3 * most:g} ms, or a softer spring",
        kind=kind,
        severity="error" if grows else None,
        numbers={"frequency rad/s": frequency},
    )


@rule("coarse-step", "warning", "step", world=True)
def coarse_step(look: Look) -> Found:
    """The step is short enough for what touches.

    Of contacts that are stiffer than the step resolves a part stays unsolved: things jitter, sink or creep.
    """
    wanted = look.wanted_step
    if wanted > 0.0:
        yield found(
            "coarse-step",
            look,
            "step",
            f"the step of {1e3 * look.step:g} ms is too coarse for what touches here",
            f"write step: {1e3 * wanted:.2g} ms",
            numbers={"wanted s": wanted},
        )


def _springs(look: Look) -> Iterator[tuple[float, RobotLook, str, str, str]]:
    for robot in look.robots:
        for joint in robot.model.joints.values():
            inertia = robot.inertia_at(joint.name) if joint.stiffness > 0 else 0.0
            if inertia > 0:
                yield math.sqrt(joint.stiffness / inertia), robot, joint.name, "its spring", "joint"
        for spring in robot.model.springs.values():
            masses = [robot.body(robot.group(link)).mass for link in (spring.link_a, spring.link_b)]
            held = [
                m
                for m, link in zip(masses, (spring.link_a, spring.link_b), strict=True)
                if m > 0 and (robot.is_free or robot.model.root() not in robot.group(link))
            ]
            if held and spring.stiffness > 0:
                yield (
                    math.sqrt(spring.stiffness * sum(1 / m for m in held)),
                    robot,
                    spring.name,
                    "this spring",
                    "spring",
                )


def _soft_contacts(look: Look) -> Iterator[tuple[float, RobotLook | Look, str, str, str]]:
    """Soft surfaces under the lightest thing that moves."""
    moving: list[tuple[float, RobotLook | Look, str, Surface]] = []
    for robot in look.robots:
        for name, link in robot.links.items():
            if robot.touched(name) and robot.body(robot.group(name)).mass > 0:
                carrier = robot.moving[name].parent if name in robot.rollers else name  # a roller bears with its wheel
                moving.append((robot.mass_at(carrier), robot, name, link.surface))
    moving += [(b.mass_properties.mass, look, b.name, b.surface) for b in look.world.bodies.values()]
    grounds = [("ground", look.world.floor.surface)] if look.world.floor else []
    grounds += [(o.name, o.surface) for o in look.world.obstacles.values()]
    for mass, owner, name, surface in moving:
        for under, other in grounds:
            soft = 1 / surface.stiffness + 1 / other.stiffness
            if soft > 0:
                yield 1 / math.sqrt(mass * soft), owner, name, f"on {under}, its soft contact", "link"
