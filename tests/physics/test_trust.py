"""What clearance calls free makes no contact, for every pair of kinds; and what sensors gather against closed forms."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh
from llvmlite.binding import Linkage
from numba.core.caching import NullCache
from scipy.spatial import ConvexHull
from scipy.spatial.transform import Rotation

import veldrain as vd
from veldrain.kernel import entry, kernel
from veldrain.simulation import engine_of

G = 9.81


def egg() -> vd.Mesh:
    """A hull of many faces."""
    points = trimesh.creation.icosphere(subdivisions=1, radius=0.06).vertices * [1, 0.7, 0.5]
    hull = trimesh.convex.convex_hull(points[ConvexHull(points).vertices])
    return vd.Mesh.of(hull.vertices, hull.faces, collide="hull", name="egg")


def meshes() -> dict[str, vd.Shape]:
    ring = trimesh.creation.annulus(r_min=0.03, r_max=0.08, height=0.04, sections=40)
    ball = trimesh.creation.icosphere(subdivisions=2, radius=0.08)
    heights = np.random.default_rng(2).uniform(0, 0.02, (9, 9))
    return {
        "ring": vd.Mesh.of(ring.vertices, ring.faces, collide="triangles", name="ring"),
        "ball": vd.Mesh.of(ball.vertices, ball.faces, collide="triangles", name="ball"),
        "field": vd.HeightField(heights, 0.05),
    }


SHAPES: dict[str, vd.Shape] = {
    "box": vd.Box((0.1, 0.06, 0.04)),
    "sphere": vd.Sphere(0.04),
    "cylinder": vd.Cylinder(0.03, 0.1),
    "capsule": vd.Capsule(0.02, 0.08),
    "cone": vd.Cone(0.04, 0.09),
    "ellipsoid": vd.Ellipsoid((0.05, 0.03, 0.02)),
    "hull": egg(),
}


class Free(unittest.TestCase):
    def test_no_contact_where_there_is_clearance(self) -> None:
        """Random poses, brought near along a line until little is between: gaps are no less than the clearance."""
        random, near, tried = np.random.default_rng(0), 0, 0
        for one, shape in SHAPES.items():
            for other, fixed in {**SHAPES, **meshes()}.items():
                w = vd.World(gravity=(0, 0, 0)).body("a", shape, mass=1).obstacle("b", fixed)
                sim = vd.Simulation(w)
                a, b = (engine_of(sim).geoms_of(name) for name in "ab")
                with self.subTest(one=one, other=other):
                    for _ in range(12):
                        turn, way = Rotation.random(random_state=random.integers(1 << 30)), random.normal(size=3)
                        low, high = 0.0, 0.3
                        wanted = 10 ** random.uniform(-5, -2.5)
                        for _ in range(14):
                            middle = (low + high) / 2
                            sim["a"].move_to(vd.Pose(middle * way / np.linalg.norm(way), rotation=turn))
                            low, high = (low, middle) if engine_of(sim).clearance(a, b) > wanted else (middle, high)
                        sim["a"].move_to(vd.Pose(high * way / np.linalg.norm(way), rotation=turn))
                        free = engine_of(sim).clearance(a, b)
                        sim.advance("1 ms")
                        found = engine_of(sim).forces()
                        tried += 1
                        near += free < 1e-3
                        if free > 2e-6 and len(found.gap):
                            self.assertGreater(found.gap.min(), free - 2e-6)
                            self.assertEqual(np.abs(found.force).max(), 0.0)
        self.assertGreater(near / tried, 0.3)  # the sweep comes near enough to mean something


class Compiled(unittest.TestCase):
    def test_a_kernel_shares_no_code_by_name(self) -> None:
        """Of parts that entries share, each has its own: what runs does not hang on what was loaded first."""

        @kernel
        def part(x):  # type: ignore[no-untyped-def]
            return x * 1.5 if x > 0 else part(x + 2.0)

        def whole(x):  # type: ignore[no-untyped-def]
            return part(x) + part(-x)

        made: Any = entry(whole)
        made._cache = NullCache()
        self.assertEqual(made(1.0), 3.0)
        (compiled,) = made.overloads.values()
        functions = [f for f in compiled.library._final_module.functions if not f.is_declaration]
        self.assertTrue(functions)
        self.assertEqual([f.name for f in functions if f.linkage == Linkage.linkonce_odr], [])


class Gathered(unittest.TestCase):
    def test_force_and_current_between_two_samples(self) -> None:
        """A push of 3 ms between two samples of 20 ms: force · time is in the readings, to the last."""
        m = vd.Model("rig").link("frame", vd.Box((0.1, 0.1, 0.1)), mass=3)
        m.link("head", vd.Box((0.1, 0.1, 0.1)), mass=2).joint("neck", "frame", "head", "fixed", vd.Pose((0.3, 0, 0)))
        m.mount("cell", vd.ForceTorque(period="20 ms"), on="head", pose=vd.Pose((0, 0, 0.1)))
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m))
        sim.advance("4 ms")
        sim.push("rig/frame", (30, 0, 0), lasting="3 ms")
        sim.advance("16 ms")
        read = sim["rig"].read("cell")
        mean = 30 * 2 / 5 * 3 / 20  # the head's share of it
        np.testing.assert_allclose(read.force, (mean, 0, 0), atol=1e-9)
        np.testing.assert_allclose(read.torque, (0, -0.1 * mean, 0), atol=1e-9)

    def test_a_swinging_arm_pulls_on_its_joint(self) -> None:
        """m·ω²·r and the weight, in the turning axes, as the mean over the sample."""
        m = vd.Model("arm").link("base").link("rod", vd.Sphere(0.02), mass=1.5, com=(0.4, 0, 0))
        m.joint("spin", "base", "rod", "continuous", axis=(0, 0, 1))
        m.mount("cell", vd.ForceTorque(period="10 ms"), on="rod")
        sim = vd.Simulation(vd.World().place(m, fixed=True))
        sim["arm"].velocities = [5.0]
        sim.advance("50 ms")
        read = sim["arm"].read("cell")
        np.testing.assert_allclose(read.force, (-1.5 * 25 * 0.4, 0, 1.5 * G), rtol=1e-4, atol=1e-6)

    def test_an_impact_is_in_every_skin(self) -> None:
        """Of a drop of any height the mean force over time at rest again is the weight."""
        for height in (0.05, 0.5, 0.77):
            m = vd.Model("d").link("case", vd.Box((0.06, 0.06, 0.02)), mass=0.1)
            m.mount("skin", vd.Touch(period="20 ms"), on="case").mount("sole", vd.FootForce(period="20 ms"), on="case")
            sim = vd.Simulation(vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.01 + height))))
            skin, sole = [], []
            for _ in range(50):
                sim.advance("20 ms")
                skin.append(sim["d"].read("skin").force[2])
                sole.append(sim["d"].read("sole").force)
            with self.subTest(height=height):
                np.testing.assert_allclose((np.mean(skin), np.mean(sole)), 0.1 * G, rtol=1e-9)

    def test_full_scale_is_cut_at_each_step_and_ends_as_a_signed_number_does(self) -> None:
        sheet = {"accel_full_scale": 2 * G, "accel_resolution": 4 * G / 65536, "period": "10 ms"}
        m = vd.Model("d").link("case", vd.Sphere(0.05), mass=0.1).mount("imu", vd.Imu(**sheet), on="case")  # type: ignore[arg-type]
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m))
        for force, count in ((0.1 * 30 * G, 32767), (-0.1 * 30 * G, -32768)):
            sim.push("d/case", (0, 0, force), lasting="20 ms")
            sim.advance("20 ms")
            self.assertEqual(round(sim["d"].read("imu").linear_acceleration[2] / (4 * G / 65536)), count)
        sim.push("d/case", (0, 0, 0.1 * 30 * G), lasting="5 ms")  # 30 g for half of the time: cut to 2 g, then averaged
        sim.advance("10 ms")
        self.assertAlmostEqual(sim["d"].read("imu").linear_acceleration[2], G, delta=0.01)

    def test_motor_current_is_a_mean(self) -> None:
        m = vd.Model("m").link("base").link("disc", vd.Cylinder(0.1, 0.02), mass=1)
        m.joint("axle", "base", "disc", "continuous").motor("axle", "effort")
        m.mount("amps", vd.MotorCurrent(["axle"], torque_constant=0.5, period="10 ms", first="10 ms"), on="base")
        sim = vd.Simulation(vd.World().place(m, fixed=True))
        sim["m"].command("axle", effort=2.0)
        sim.advance("5 ms")
        sim["m"].command("axle", effort=0.0)
        sim.advance("5 ms")
        self.assertAlmostEqual(sim["m"].read("amps").current[0], 2.0 / 0.5 / 2)

    def test_beams_of_a_full_turn(self) -> None:
        bearings = vd.Lidar(beams=8, field_of_view="360 deg").angles
        np.testing.assert_allclose(np.diff(bearings), np.pi / 4)
        self.assertEqual(bearings[0], -np.pi)
