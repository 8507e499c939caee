"""Rules about mass, inertia and size."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from veldrain.model import Mesh, Part
from veldrain.model.volumes import touched
from veldrain.review.look import ODD, Look, RobotLook, figure, mm, model_change
from veldrain.review.rules import Found, found, rule
from veldrain.review.solids import extent, solid_volume

DENSEST, LIGHTEST = 23e3, 10.0  # kg/m³: osmium, and a light foam
EMPTIEST = 2.0  # kg/m³ of a body: an empty cardboard box has 10
FAR = 5.0  # times an even spread's inertia: a hollow ball has 1.7, all mass in a rod's ends 3
THIN = 200.0  # kg/m³: what is lighter is hollow, or its mass is wrong
# Of what a data sheet gives, in kg·m².
INERTIAS = {"kg·cm²": 1e-4, "kg·mm²": 1e-6, "g·cm²": 1e-7, "g·mm²": 1e-9, "lb·in²": 2.926e-4, "t·m²": 1e3}
UNITS = {1e-3: "mm", 1e-2: "cm", 0.0254: "in", 1e3: "km", 1e-6: "µm"}


@rule("no-mass", "error", "mass")
def no_mass(robot: RobotLook) -> Found:
    """What moves has a mass.

    A part without mass has no answer to any force: the engine cannot divide by it, and other programs give it some
    mass of their own, so that it shakes.
    """
    roots = [robot.model.root()] if robot.is_free else []
    for link in [*roots, *(j.child for j in robot.model.joints.values() if j.kind != "fixed")]:
        group = robot.group(link)
        if sum(robot.links[one].mass_properties.mass for one in group) <= 0:
            volume = solid_volume(robot.touched(link) or robot.seen(link))
            guess = f", such as {1000 * volume:.2g} kg for a body as dense as water" if volume > 0 else ""
            yield found("no-mass", robot, link, "moves and has no mass", f"give mass= or density={guess}")


@rule("inertia-of-its-shapes", "warning", "mass")
def inertia_of_its_shapes(robot: RobotLook) -> Found:
    """A link's inertia is about what its mass, spread over its shapes, would have.

    Inertia is the figure most often copied from another part or left in other units. Too large, and a motor looks weak;
    too small, and the link spins up in one step.
    """
    for name, link in robot.links.items():
        factor = robot.inertia_factor(name)
        if 1 / FAR <= factor <= FAR:
            continue
        mass, volume = link.mass_properties.mass, solid_volume(robot.seen(name) or robot.touched(name))
        unit = min(INERTIAS, key=lambda u: abs(math.log(factor * INERTIAS[u])))
        hint, cure = "", "leave inertia out to have it made from the shapes"
        fix = model_change(robot, {"links": {name: {"inertia": None}}})
        if 1 / FAR < factor * INERTIAS[unit] < FAR and not 1 / ODD < factor < ODD:
            hint, cure = (
                f"; it looks as if it were in {unit}",
                f"multiply it by {INERTIAS[unit]:g} for {unit}, or {cure}",
            )
        elif volume > 0 and mass / volume < THIN <= factor * mass / volume < DENSEST and factor < ODD:
            cure, fix = f"look at its mass: {figure(mass * round(factor))} kg would fit it, or {cure}", {}
        yield found(
            "inertia-of-its-shapes",
            robot,
            name,
            f"its inertia is {figure(factor)} times that of {mass:.3g} kg spread evenly over its shapes{hint}",
            cure,
            numbers={"factor": factor},
            severity="error" if not 1 / ODD < factor < ODD else None,
            fix=fix,
        )


@rule("mass-for-its-volume", "warning", "mass")
def mass_for_its_volume(look: Look) -> Found:
    """A link or body is no denser than lead and no lighter than foam.

    30 kg in a matchbox is a mass in grams, or a shape in the wrong unit.
    """
    weighed: list[tuple[Look | RobotLook, str, float, float]] = [
        (look, body.name, body.mass_properties.mass, solid_volume(touched(body.part)))
        for body in look.world.bodies.values()
    ]
    for robot in look.robots:
        for name, link in robot.links.items():
            if name not in robot.out_of_size:
                volume = max(solid_volume(robot.seen(name)), solid_volume(robot.touched(name)))
                weighed.append((robot, name, link.mass_properties.mass, volume))
    for owner, name, mass, volume in weighed:
        least = LIGHTEST if isinstance(owner, RobotLook) else EMPTIEST
        if mass <= 0 or volume <= 0 or least <= mass / volume <= DENSEST:
            continue
        litres, density = volume * 1e3, mass / volume
        yield found(
            "mass-for-its-volume",
            owner,
            name,
            f"{mass:.3g} kg in {figure(litres)} litres are {figure(density)} kg/m³"
            f" ({'the densest metal has 22 600' if density > DENSEST else 'light foam has 15'})",
            f"look at its mass and at the unit of its shapes; as dense as water it would have {figure(litres)} kg",
            numbers={"density kg/m3": density},
        )


@rule("size", "error", "mass")
def size(robot: RobotLook) -> Found:
    """Parts and distances are of a size with those beside them.

    A mesh drawn in millimetres and read as metres is a thousand times too large: the robot is lost in its own wheel,
    and all of it overlaps.
    """
    sizes = [extent(part) for link in robot.links.values() for part in link.parts]
    if not sizes:
        return
    usual = float(np.median(sizes))
    for name, k, own, compared in ((n, k, *two) for n, some in robot.out_of_size.items() for k, two in some.items()):
        ratio = own / compared
        scale = min(UNITS, key=lambda s: abs(math.log(ratio * s)))
        part: Part = robot.links[name].parts[k]
        told = f"a scale of {scale:g} ({UNITS[scale]}) would make it {mm(own * scale)}"
        sure = isinstance(part.shape, Mesh) and len(robot.links[name].parts) > 1 and 1 / 3 < ratio * scale < 3
        cure = f"write unit: {UNITS[scale]} for the mesh" if isinstance(part.shape, Mesh) else "look at its unit"
        yield found(
            "size",
            robot,
            name,
            f"{_what(part)} is {mm(own)} across, and what is beside it {mm(compared)}; {told}",
            cure,
            numbers={"size m": own, "scale": scale},
            fix=_scaled_fix(robot, name, k, scale) if sure else None,
        )
    for joint in robot.model.joints.values():
        far = float(np.linalg.norm(joint.pose.position))
        if far > 100 * usual:
            yield found(
                "size",
                robot,
                joint.name,
                f"it sits {mm(far)} from its parent, and parts are {mm(usual)} across",
                f"write its pose in metres: {mm(far / 1e3)} if it was meant in mm",
                kind="joint",
                numbers={"distance m": far},
            )
    if len(sizes) > 1 and (min(sizes) > 30 or max(sizes) < 5e-4):
        scale = 1e-3 if usual > 30 else 1e3
        yield found(
            "size",
            robot,
            "",
            f"its parts are {mm(usual)} across, all of them",
            f"write scale: {scale:g} for the model if its lengths are in another unit",
            severity="warning",
            numbers={"size m": usual, "scale": scale},
        )


def _what(part: Part) -> str:
    shape = part.shape
    return (
        f"its mesh {shape.source.rpartition('/')[2]}"
        if isinstance(shape, Mesh)
        else f"its {type(shape).__name__.lower()}"
    )


def _scaled_fix(robot: RobotLook, name: str, k: int, scale: float) -> dict[str, object]:
    from veldrain.review.fixing import part_words

    parts = list(robot.links[name].parts)
    shape = parts[k].shape
    assert isinstance(shape, Mesh)
    parts[k] = replace(parts[k], shape=shape.scaled(scale))
    return model_change(robot, {"links": {name: {"parts": [part_words(p) for p in parts]}}})
