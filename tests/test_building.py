"""What is built into worlds: met by rays and bodies where geometry says it is, and the same from files."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image

import veldrain as vd
from tests.helpers import DEMO
from veldrain.simulation import engine_of
from veldrain.study.study import plain

DOWN, AHEAD = (0, 0, -1), (1, 0, 0)


def heights(world: vd.World, *points: tuple[float, float]) -> list[float]:
    """Heights of what is met from above."""
    sim = vd.Simulation(world)
    return (10 - sim.cast([(x, y, 10.0) for x, y in points], [DOWN] * len(points), 20)[0]).tolist()


class Shapes(unittest.TestCase):
    def test_wall(self) -> None:
        """A closed yard of 4 × 3 m: from inside, walls are half a thickness nearer; corners have no gap."""
        w = vd.World().build(
            "yard", vd.Wall([(0, 0), (4, 0), (4, 3), (0, 3)], height=2, thickness="20 cm", closed=True)
        )
        sim = vd.Simulation(w)
        around = np.linspace(0, 2 * math.pi, 721)
        rays = np.stack([np.cos(around), np.sin(around), np.zeros_like(around)], axis=1)
        distances, names, _ = sim.cast(np.tile((2.0, 1.5, 1.0), (721, 1)), rays, 9)
        np.testing.assert_allclose(
            distances, np.minimum(1.9 / np.maximum(abs(rays[:, 0]), 1e-9), 1.4 / np.maximum(abs(rays[:, 1]), 1e-9))
        )
        self.assertEqual(set(names), {f"yard/{k}" for k in (1, 2, 3, 4)})
        self.assertAlmostEqual(heights(w, (4.05, 3.05))[0], 2)

    def test_stairs_ramp_channel_and_row(self) -> None:
        w = vd.World().build("steps", vd.Stairs(steps=3, rise=0.2, tread=0.3, width=1))
        np.testing.assert_allclose(heights(w, (0.1, 0), (0.5, 0.4), (0.8, -0.4), (1.0, 0))[:3], (0.2, 0.4, 0.6))
        w = vd.World().build("ramp", vd.Ramp(length=2, rise=0.5), pose=vd.Pose((1, 0, 0), yaw=math.pi / 2))
        np.testing.assert_allclose(heights(w, (1, 0.5), (1.3, 1.5)), (0.125, 0.375), atol=1e-12)
        w = vd.World().build("ditch", vd.Channel(width=1.4, depth=0.8, length=6), pose=vd.Pose((0, 0, -0.5)))
        np.testing.assert_allclose(heights(w, (0, 0), (2, 0.69), (0, 0.71), (-2.9, -0.75)), (-0.5, -0.5, 0.3, 0.3))
        w = vd.World().build("posts", vd.Row(vd.Box((0.1, 0.1, 1)), 3, ("2 m", 0, 0.5), vd.Pose((0, 0, 0.5))))
        np.testing.assert_allclose(heights(w, (0, 0), (2, 0), (4, 0)), (1, 1.5, 2))

    def test_pipe(self) -> None:
        """Rays inside meet its wall at its radius, and a ball comes to rest at its bottom."""
        w = vd.World().build("drain", vd.Pipe(radius=0.5, length=4, thickness=0.05, sides=96), pose=vd.Pose((0, 0, 1)))
        w.body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((0, 0.25, 0.8)), surface=vd.Surface(rolling=0.002))
        sim = vd.Simulation(w)
        around = np.linspace(0.01, 6.2, 100)
        rays = np.stack([np.zeros(100), np.cos(around), np.sin(around)], axis=1)
        flat = 0.5 * math.cos(math.pi / 96)
        inside, _, normals = sim.cast(np.tile((1.5, 0.0, 1.0), (100, 1)), rays, 3)
        self.assertTrue((inside <= 0.5 + 1e-9).all() and (inside >= flat - 1e-9).all())
        self.assertLess(np.einsum("ij,ij->i", normals, rays).max(), -0.99)
        self.assertEqual(sim.cast((-5, 0, 1), AHEAD, 20)[0][0], math.inf)  # open at both ends
        sim.advance("8 s")
        np.testing.assert_allclose(sim["ball"].pose().position[1:], (0, 0.6), atol=0.02)

    def test_strewn(self) -> None:
        shapes = [vd.Box((0.3, 0.2, 0.1)), vd.Cylinder(0.1, 0.2), vd.Sphere(0.08)]
        places = [list(vd.Scatter(shapes, 30, (4, 3), seed=seed, gap=0.05).pieces()) for seed in (1, 1, 2)]
        self.assertEqual(places[0], places[1])
        self.assertNotEqual(places[0], places[2])
        w = vd.World().ground().build("stones", vd.Scatter(shapes, 30, (4, 3), seed=1, gap=0.05), mass="1 kg")
        self.assertEqual(len(w.bodies), 30)
        self.assertEqual([str(f) for f in vd.check(w)], [])  # none overlaps, all stand on the ground
        sim = vd.Simulation(w)
        engine = engine_of(sim)
        gaps = [
            engine.clearance(engine.geoms_of(f"stones/{a}"), engine.geoms_of(f"stones/{b}"))
            for a in range(1, 31)
            for b in range(1, a)
        ]
        self.assertGreater(min(gaps), 0.049)

    def test_refused(self) -> None:
        for pattern, act in (
            ("1 points", lambda: vd.Wall([(0, 0)])),
            ("two points at one place", lambda: vd.Wall([(0, 0), (0, 0)])),
            ("thickness is -1", lambda: vd.Wall([(0, 0), (1, 0)], thickness=-1)),
            ("2.5 of them", lambda: vd.Stairs(2.5)),
            ("rise is 0 m", lambda: vd.Ramp(1, 0)),
            ("2 sides", lambda: vd.Pipe(1, 1, sides=2)),
            ("no room for more than", lambda: list(vd.Scatter([vd.Sphere(0.5)], 50, (2, 2)).pieces())),
            ("no shapes", lambda: vd.Scatter([], 5, (2, 2))),
            ("a second thing", lambda: vd.World().build("a", vd.Stairs(1)).build("a", vd.Stairs(1))),
            ("nothing but holes", lambda: vd.HeightField(np.full((3, 3), np.nan), 1)),
            ("no such image", lambda: vd.HeightField.of_image("gone.png", 1)),
            ("is not an image", lambda: vd.HeightField.of_image(__file__, 1)),
            (
                "0.5 × 2 m with heights 1 m apart",
                lambda: vd.HeightField.of_function(lambda x, y: x, (0.5, 2), spacing=1),
            ),
        ):
            with self.subTest(pattern=pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                act()


class Heights(unittest.TestCase):
    def test_of_a_function(self) -> None:
        """Dunes: met from above to within what a straight line between grid points leaves, h²/8 · |f''|."""
        dunes = vd.HeightField.of_function(lambda x, y: 0.2 * np.sin(2 * x) + 0.1 * y, (6, 4), spacing=0.05)
        points = np.random.default_rng(2).uniform((-2.9, -1.9), (2.9, 1.9), (200, 2))
        met = heights(vd.World().obstacle("dunes", dunes), *map(tuple, points))
        np.testing.assert_allclose(
            met, 0.2 * np.sin(2 * points[:, 0]) + 0.1 * points[:, 1], atol=0.05**2 / 8 * 0.8 * 1.1
        )

    def test_of_a_picture(self) -> None:
        """White is high; the picture's top is ahead, its left is left."""
        with tempfile.TemporaryDirectory() as folder:
            for mode, full in (("L", 255), ("I;16", 65535)):
                levels = np.zeros((5, 9), np.uint8 if mode == "L" else np.uint16)
                levels[0, 0] = full
                Image.fromarray(levels).save(Path(folder) / "map.png")
                field = vd.HeightField.of_image(Path(folder) / "map.png", height="2 m", spacing=0.5)
                met = heights(vd.World().obstacle("map", field), (0.999, 1.999), (-0.99, 1.99), (0.99, -1.99))
                np.testing.assert_allclose(met, (2, 0, 0), atol=0.02)

    def test_rough(self) -> None:
        """Deviation as asked, and correlated by e^(−d²/l²)."""
        field = vd.HeightField.rough((20, 20), height=0.05, length=0.5, spacing=0.05, seed=4)
        z = field.corners[:, 2].reshape(401, 401)
        self.assertAlmostEqual(z.std(), 0.05, 6)
        self.assertAlmostEqual(z.mean(), 0, 9)
        for away in (4, 10, 16):
            correlation = float(np.mean(z[away:] * z[:-away]) / z.var())
            self.assertAlmostEqual(correlation, math.exp(-((away * 0.05 / 0.5) ** 2)), delta=0.06)
        again, other = (vd.HeightField.rough((2, 2), 0.05, length=0.5, seed=s) for s in (4, 5))
        self.assertEqual(again, vd.HeightField.rough((2, 2), 0.05, length=0.5, seed=4))
        self.assertNotEqual(again, other)

    def test_holes(self) -> None:
        """Where there is no height there is no ground: rays pass, and what stands there falls."""
        z = np.zeros((9, 9))
        z[3:6, 3:6] = np.nan
        field = vd.HeightField(z, 0.5)
        self.assertEqual(field.holes, 9)
        w = vd.World().obstacle("dike", field)
        for name, x in (("stays", -1.7), ("falls", 0.0)):
            w.body(name, vd.Sphere(0.1), mass=1, pose=vd.Pose((x, 0, 0.1)))
        sim = vd.Simulation(w)
        self.assertAlmostEqual(sim.cast((0, 0, 5), DOWN, 20)[0][0], 4.8)  # the ball in the hole, and nothing else
        sim.advance("0.5 s")
        self.assertAlmostEqual(sim["stays"].pose().position[2], 0.1, 4)
        self.assertAlmostEqual(sim["falls"].pose().position[2], 0.1 - 9.81 * 0.125, 2)


TEXT = """\
veldrain: world/1
surfaces:
  concrete: {friction: 0.8}
  mud: {friction: 0.3, rolling: 4 mm}
ground: {surface: mud}
build:
  wall: {wall: {points: [[0, 0], [4 m, 0], [4, 3]], height: 2 m, closed: true}, surface: concrete, colour: red}
  steps: {stairs: {steps: 4, width: 2 m}, pose: {xyz: [8, 0, 0]}}
  ramp: {ramp: {length: 2, rise: 40 cm}, pose: {xyz: [-4, 0, 0]}}
  drain: {pipe: {radius: 50 cm, length: 4 m, sides: 12}, pose: {xyz: [0, 8, 0.6]}}
  ditch: {channel: {width: 1, depth: 50 cm, length: 5}, pose: {xyz: [0, -9, 1]}}
  posts: {row: {cylinder: {radius: 5 cm, length: 1 m}, pose: {xyz: [0, 0, 50 cm]}, count: 5, step: [2 m, 0, 0]}, pose: {xyz: [0, -4, 0]}}
  stones: {scatter: {shapes: [{box: [20 cm, 15 cm, 10 cm]}, {sphere: 8 cm}], count: 9, size: [4, 4], seed: 3}, pose: {xyz: [0, 14, 0]}, mass: 2 kg}
obstacles:
  dike: {height_field: {rough: {size: [3, 2], height: 3 cm, length: 40 cm, seed: 5}}, pose: {xyz: [-10, 0, 0.1]}, surface: concrete}
  gap: {height_field: {heights: [[0, 0, 0], [0, 0, .nan]], spacing: 1 m}, pose: {xyz: [-20, 0, 0.1]}}
"""


def by_hand() -> vd.World:
    w = vd.World().surface("concrete", vd.Surface(0.8)).surface("mud", vd.Surface(0.3, rolling=0.004))
    concrete = w.surfaces["concrete"]
    w.ground(w.surfaces["mud"])
    w.obstacle(
        "dike", vd.HeightField.rough((3, 2), 0.03, length=0.4, seed=5), pose=vd.Pose((-10, 0, 0.1)), surface=concrete
    )
    w.obstacle("gap", vd.HeightField([[0, 0, 0], [0, 0, math.nan]], 1), pose=vd.Pose((-20, 0, 0.1)))
    w.build("wall", vd.Wall([(0, 0), (4, 0), (4, 3)], height=2, closed=True), surface=concrete, colour="red")
    w.build("steps", vd.Stairs(4, width=2), pose=vd.Pose((8, 0, 0))).build(
        "ramp", vd.Ramp(2, 0.4), pose=vd.Pose((-4, 0, 0))
    )
    w.build("drain", vd.Pipe(0.5, 4, sides=12), pose=vd.Pose((0, 8, 0.6))).build(
        "ditch", vd.Channel(1, 0.5, 5), pose=vd.Pose((0, -9, 1))
    )
    w.build("posts", vd.Row(vd.Cylinder(0.05, 1), 5, (2, 0, 0), vd.Pose((0, 0, 0.5))), pose=vd.Pose((0, -4, 0)))
    stones = vd.Scatter([vd.Box((0.2, 0.15, 0.1)), vd.Sphere(0.08)], 9, (4, 4), seed=3)
    return w.build("stones", stones, pose=vd.Pose((0, 14, 0)), mass=2)


class Files(unittest.TestCase):
    def test_the_same_as_in_python(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "all.world.yaml"
            path.write_text(TEXT, encoding="utf-8")
            self.assertEqual(plain(vd.load_world(path)), plain(by_hand()))
            for old, new, pattern in (
                ("surface: mud", "surface: mdu", r"all\.world\.yaml:5: no surface 'mdu'; did you mean 'mud'"),
                ("rise: 40 cm", "rise: 0", r"all\.world\.yaml:9: ramp: rise is 0 m"),
                (
                    "{stairs: {steps: 4, width: 2 m}",
                    "{stars: {steps: 4}",
                    r"all\.world\.yaml:8: unknown word 'stars'; did you mean 'stairs'",
                ),
                (
                    "count: 9, size: [4, 4]",
                    "count: 900, size: [4, 4]",
                    r"all\.world\.yaml:13: scatter: no room for more than",
                ),
            ):
                with self.subTest(new=new):
                    path.write_text(TEXT.replace(old, new), encoding="utf-8")
                    with self.assertRaisesRegex(vd.VeldrainError, pattern):
                        vd.load_world(path)

    def test_worlds_that_ship(self) -> None:
        for path in sorted((DEMO / "worlds").glob("*.yaml")):
            with self.subTest(path=path.name):
                self.assertEqual([str(f) for f in vd.check(path)], [])
                world = vd.load_world(path)
                world.body("probe", vd.Sphere(0.1), mass=1, pose=vd.Pose((0, 0, 3)))
                sim = vd.Simulation(world)
                sim.advance("3 s")
                self.assertGreater(sim["probe"].pose().position[2], 0.0)


if __name__ == "__main__":
    unittest.main()
