"""Wheels with rollers, which let a vehicle go sideways: made of links and joints as everything else."""

from __future__ import annotations

import math
from itertools import combinations
from typing import Self

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.shapes import Cylinder, Ellipsoid, Part, Surface
from veldrain.model.structure import Structure
from veldrain.pose import Pose
from veldrain.units import Quantity, quantity

HUB = 0.6  # share of a wheel's mass that its hub has
RUBBER = Surface(friction=0.8, stiffness=1e5, damping=300.0)
ENDS = 0.95  # of half a roller: the next one takes over before


class Rolling(Structure):
    """Adds wheels with rollers to a model."""

    def roller_wheel(
        self,
        name: str,
        on: str,
        *,
        radius: Quantity,
        mass: Quantity,
        pose: Pose | None = None,
        angle: Quantity = "45 deg",
        rollers: int = 12,
        roller_radius: Quantity | None = None,
        damping: Quantity = 0.0,
        surface: Surface | None = None,
    ) -> Self:
        """Put a wheel with rollers on a link: what it stands on moves along the rollers' axes only with the wheel.

        The joint ``name`` turns it about the y of its pose; it holds the link ``name_hub``, and that the free links
        ``name_roller_1``, …. A roller is an ellipsoid with the curvature that makes the wheel round: its height changes
        by a few thousandths of the radius from one roller to the next, less with more of them.

        Args:
            name: of the joint.
            on: name of the link that carries it.
            radius: of the wheel, over its rollers, m.
            mass: of the wheel with its rollers, kg.
            pose: of the wheel's middle in the link: y along its axis.
            angle: from the way it rolls to the axis of the roller below, seen from above, counter-clockwise; 0: rollers
                that turn across. Four wheels for ``OmniDrive`` have −45° front left and rear right, 45° the others.
            rollers: how many.
            roller_radius: in their middle, m. None: 0.16 of the wheel's.
            damping: of each roller in its bearing, N·m·s/rad.
            surface: of the rollers. None: rubber, which gives way a little: on hard rollers the wheels with the lowest
                one below would carry nothing.

        Raises:
            VeldrainError: rollers that leave gaps, with how many are needed; a taken name.

        >>> m = Model("cart").link("deck", mass=20)
        >>> m.roller_wheel("front_left", "deck", radius="10 cm", mass=1, angle="-45 deg").joints["front_left"].child
        'front_left_hub'
        """
        where = f"{self.name}/{name}"
        out, kg = quantity(radius, "length", where), quantity(mass, "mass", where)
        across = quantity(angle, "angle", where)
        thick = 0.16 * out if roller_radius is None else quantity(roller_radius, "length", where)
        if not 0.0 < thick < 0.5 * out < math.inf:
            raise VeldrainError(
                f"rollers of {1e3 * thick:.3g} mm in a wheel of {1e3 * out:.3g} mm",
                where=where,
                cure="give a roller_radius of a tenth to a third of the wheel's radius",
            )
        if not abs(across) < 1.4:
            raise VeldrainError(
                f"rollers at {math.degrees(across):.3g}°: their axes lie along the wheel's own",
                where=where,
                cure="give an angle between −80 and 80 degrees",
            )
        # Their axes are on a circle of radius a. At s along one the round wheel has the thickness
        # R − √(a² + s²·cos²) ≈ r − s²·cos²/(2a), and an ellipsoid of half length l has r − r·s²/(2l²).
        middle, slant = out - thick, math.cos(across)
        half = math.sqrt(middle * thick) / slant
        fewest = math.ceil(math.pi / math.atan(ENDS * half * slant / middle))
        if rollers < fewest:
            raise VeldrainError(
                f"{rollers} rollers leave gaps", where=where, cure=f"give {fewest} or more, or a larger roller_radius"
            )
        hub, round_ = f"{name}_hub", HUB * kg * middle**2
        disc = Part(Cylinder(0.7 * middle, half), Pose(rpy=(math.pi / 2, 0.0, 0.0)))
        self.link(hub, disc, mass=HUB * kg, inertia=np.diag((0.25 * round_, 0.5 * round_, 0.25 * round_)))
        self.joint(name, on, hub, "continuous", pose, axis=(0.0, 1.0, 0.0))
        names = [f"{name}_roller_{k + 1}" for k in range(rollers)]
        for k, roller in enumerate(names):
            turned = Pose(rpy=(0.0, 2.0 * math.pi * k / rollers, 0.0))
            place = turned @ Pose((0.0, 0.0, -middle), rpy=(0.0, 0.0, across))
            self.link(
                roller, Ellipsoid((half, thick, thick)), mass=(1.0 - HUB) * kg / rollers, surface=surface or RUBBER
            )
            self.joint(roller, hub, roller, "continuous", place, axis=(1.0, 0.0, 0.0), damping=damping)
            self.no_contact(on, roller)
        for one, other in combinations(names, 2):
            self.no_contact(one, other)
        return self
