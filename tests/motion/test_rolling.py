"""Wheels with rollers: their outline against the circle that it stands for, and four of them that go any way."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd

CORNERS = {"front_left": (1, 1), "front_right": (1, -1), "rear_left": (-1, 1), "rear_right": (-1, -1)}
RADIUS, TRACK, BASE = 0.1, 0.4, 0.5
FILE = """veldrain: world/1
ground: {}
models:
  base:
    links: {deck: {parts: [{box: [0.6, 0.3, 0.1]}], mass: 20}}
    roller_wheels:
"""


def platform(**more: Any) -> vd.Model:
    m = vd.Model("base").link("deck", vd.Box((0.6, 0.3, 0.1)), mass=20)
    for name, (x, y) in CORNERS.items():
        place = vd.Pose((x * BASE / 2, y * TRACK / 2, 0))
        m.roller_wheel(name, "deck", radius=RADIUS, mass=1.5, pose=place, angle=-x * y * math.pi / 4, **more)
        m.motor(name, "velocity", damping=5, limit=20)
    return m


class Outline(unittest.TestCase):
    def heights(self, angle: float, rollers: int) -> Any:
        """How high (m) the wheel's middle is over the ground, turn by turn: from its rollers' own lowest points."""
        m = vd.Model("w").link("hub", mass=1)
        m.roller_wheel("roll", "hub", radius=RADIUS, mass=1, angle=angle, rollers=rollers)
        found = []
        for turn in np.linspace(0.0, 2 * math.pi / rollers, 61):
            poses = m.poses({"roll": turn})
            low = []
            for k in range(rollers):
                link = f"roll_roller_{k + 1}"
                half = np.array(m.links[link].parts[0].shape.half_axes)  # type: ignore[attr-defined]
                # The support of an ellipsoid along n is |diag(half)·Rᵀn|.
                down = poses[link].matrix.T @ (0, 0, -1.0)
                low.append(poses[link].position[2] - np.linalg.norm(half * down))
            found.append(-min(low))
        return np.array(found)

    def test_it_is_round(self) -> None:
        """Each roller has the wheel's radius below its middle, and the wheel falls by a little between two."""
        for degrees, rollers, most in (
            (45, 10, 0.009),
            (45, 12, 0.006),
            (45, 18, 0.002),
            (0, 12, 0.01),
            (-30, 12, 0.01),
        ):
            heights = self.heights(math.radians(degrees), rollers)
            with self.subTest(degrees=degrees, rollers=rollers):
                self.assertAlmostEqual(heights.max(), RADIUS, delta=1e-5 * RADIUS)
                self.assertAlmostEqual(heights[0], RADIUS, delta=1e-12)
                self.assertLess(np.ptp(heights), most * RADIUS)

    def test_mass_and_names(self) -> None:
        m = platform()
        self.assertAlmostEqual(m.total().mass, 20 + 4 * 1.5)
        self.assertEqual(len(m.joints), 4 * 13)
        self.assertEqual(len(list(vd.check(vd.World().ground().place(m, pose=vd.Pose((0, 0, RADIUS)))))), 0)

    def test_bad_input(self) -> None:
        m = vd.Model("m").link("deck", mass=5)
        for words, told in (
            ("7 rollers leave gaps; give 8 or more", {"rollers": 7}),
            ("roller_radius of a tenth to a third", {"roller_radius": "8 cm"}),
            ("between −80 and 80 degrees", {"angle": "90 deg"}),
            ("did you mean 'deck'", {"on": "dekc"}),
            ("mass", {"mass": 0}),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                m.copy().roller_wheel("w", **({"on": "deck", "radius": 0.1, "mass": 1} | told))  # type: ignore[arg-type]


class Driven(unittest.TestCase):
    def test_it_goes_as_it_is_told(self) -> None:
        """Forward, sideways, on the spot, askew and all at once, within 4 %: rubber rollers slip a little."""
        world = vd.World().ground().place(platform(), pose=vd.Pose((0, 0, RADIUS)))
        drive = vd.OmniDrive(list(CORNERS), radius=RADIUS, track=TRACK, wheelbase=BASE)
        for told in ((0.3, 0, 0), (0, 0.3, 0), (0, 0, 0.5), (0.2, -0.2, 0), (0.2, 0.1, 0.3)):
            scenario = vd.Scenario(world, "2 s", controllers={"base": drive})
            scenario.at(0).tell("base", **dict(zip(("forward", "sideways", "turning"), told, strict=True)))
            trial = vd.Trial(scenario)
            trial.advance("0.5 s")
            robot, found = trial.simulation["base"], []
            for _ in range(75):
                trial.advance("20 ms")
                linear, spin = robot.velocity()
                found.append([*robot.pose().rotation.inv().apply(linear)[:2], spin[2]])
            with self.subTest(told):
                np.testing.assert_allclose(np.mean(found, axis=0), told, atol=0.04 * np.linalg.norm(told))
                self.assertEqual(trial.simulation.notices, [])

    def test_it_is_held_against_a_push(self) -> None:
        """Locked wheels at ±45° hold a platform whichever way it is pushed; wheels across let it go sideways."""
        for angle, slides in ((None, False), (0.0, True)):
            m = platform()
            if angle is not None:
                m = vd.Model("base").link("deck", vd.Box((0.6, 0.3, 0.1)), mass=20)
                for name, (x, y) in CORNERS.items():
                    at = vd.Pose((x * BASE / 2, y * TRACK / 2, 0))
                    m.roller_wheel(name, "deck", radius=RADIUS, mass=1.5, pose=at, angle=angle)
                    m.motor(name, "velocity", damping=50, limit=50)
            sim = vd.Simulation(vd.World().ground().place(m, pose=vd.Pose((0, 0, RADIUS))))
            sim.advance("0.2 s")
            start = sim["base"].pose().position[1]
            sim.push("base/deck", force=(0, "20 N", 0), lasting="1 s")
            sim.advance("1 s")
            with self.subTest(angle=angle):
                self.assertEqual(abs(sim["base"].pose().position[1] - start) > 0.1, slides)


class InFiles(unittest.TestCase):
    def test_the_same_model(self) -> None:
        lines = "".join(
            f"      {name}: {{on: deck, radius: 10 cm, mass: 1.5, angle: {-45 * x * y} deg, "
            f"pose: {{xyz: [{x * BASE / 2}, {y * TRACK / 2}, 0]}}}}\n"
            for name, (x, y) in CORNERS.items()
        )
        motors = "    motors: {front_left: {mode: velocity, damping: 5}}\n"
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "base.world.yaml"
            path.write_text(FILE + lines + motors + "place: {base: {model: base, pose: {xyz: [0, 0, 0.1]}}}\n")
            read = vd.load_world(path).placed["base"].model
            path.write_text(FILE + lines.replace("mass: 1.5", "mass: 1.5, rollers: 6") + motors)
            with self.assertRaisesRegex(vd.VeldrainError, r"base.world.yaml:7.* 6 rollers leave gaps"):
                vd.load_world(path)
        made = platform()
        self.assertEqual(list(read.joints), list(made.joints))
        for name, joint in made.joints.items():
            self.assertLess(np.abs(read.joints[name].pose.position - joint.pose.position).max(), 1e-12, name)


if __name__ == "__main__":
    unittest.main()
