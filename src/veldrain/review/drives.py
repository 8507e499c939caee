"""Drives held against the models that they drive."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from veldrain.control import AckermannDrive, DifferentialDrive
from veldrain.control.driving import Driver
from veldrain.model import Cylinder, Model, Sphere
from veldrain.review.finding import Finding

OFF = 0.03  # share of a length: what is less is taken for rounding


def drive_fits(driver: Driver) -> Iterator[Finding]:
    """Findings for a drive whose wheels, radius or track are not those of the model."""
    drive, model = driver.controller, driver.body.model
    poses = model.poses()
    where = f"{driver.robot}: {type(drive).__name__}"
    if isinstance(drive, AckermannDrive):
        left, right = (poses[model.joints[j].child].position[1] for j in drive.steered)
        if left < right:
            text, cure = "its left steered wheel is not on the left of its right one", "exchange them; y is to the left"
            yield Finding("drive-does-not-fit", "warning", where, text, cure)
        return
    if not isinstance(drive, DifferentialDrive):
        return
    sides = {
        side: [poses[model.joints[j].child].position[1] for j in joints if j in model.joints]
        for side, joints in (("left", drive.left), ("right", drive.right))
    }
    if min(sides["left"]) < max(sides["right"]):
        cure = "exchange left and right; y is to the left"
        middle = 0.5 * (max(map(max, sides.values())) + min(map(min, sides.values())))
        odd = {
            side: [j for j, y in zip(joints, sides[side], strict=True) if (y > middle) != (side == "left")]
            for side, joints in (("left", drive.left), ("right", drive.right))
        }
        if len(odd["left"]) < len(drive.left) or len(odd["right"]) < len(drive.right):  # a few of them
            cure = "; ".join(
                f"{', '.join(joints)} {'is' if len(joints) == 1 else 'are'} on the {other}"
                for (side, joints), other in zip(odd.items(), ("right", "left"), strict=True)
                if joints
            )
        yield Finding(
            "drive-does-not-fit", "warning", where, "its left wheels are not on the left of its right ones", cure
        )
        return
    track = float(np.mean(sides["left"]) - np.mean(sides["right"]))
    for word, says, is_so in (
        ("track", drive.track, track),
        ("radius", drive.radius, radius_of(model, (*drive.left, *drive.right)) or drive.radius),
    ):
        if abs(says - is_so) > OFF * is_so:
            yield Finding(
                "drive-does-not-fit",
                "warning",
                where,
                f"its {word} is {says:.3g} m, and the model's is {is_so:.3g} m",
                f"write {word}: {is_so:.4g} m" + ("; wider wheels slip: see SkidSteer" if word == "track" else ""),
            )


def radius_of(model: Model, joints: tuple[str, ...]) -> float:
    """The radius (m) of the wheels on some joints, the largest round shape of each; 0: none is round."""
    sizes = [
        shape.radius
        for j in joints
        for part in model.links[model.joints[j].child].parts
        if isinstance(shape := part.shape, Cylinder | Sphere)
    ]
    return max(sizes, default=0.0)
