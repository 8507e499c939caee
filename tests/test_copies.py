"""Copies of a world do what single simulations do, to the last bit."""

from __future__ import annotations

import unittest
from typing import Any
from unittest import mock

import numpy as np

import veldrain as vd
from tests.helpers import cart


def swing() -> vd.World:
    m = vd.Model("arm").link("base").link("rod", vd.Part(vd.Capsule(0.02, 0.5), pose=vd.Pose((0, 0, 0.25))), mass=1)
    m.joint("hinge", "base", "rod", "revolute", axis=(0, 1, 0), limits=(-2, 2), damping=0.01)
    m.motor("hinge", "position", stiffness="20 N*m/rad", damping="2 N*m*s/rad", limit="30 N*m")
    return vd.World().ground().place(m, "arm", pose=vd.Pose((0, 0, 1)), fixed=True)


def heap() -> vd.World:
    """More contacts at once than there is room for at first."""
    world = vd.World().ground()
    for k in range(27):
        at = (0.21 * (k % 3), 0.21 * (k // 3 % 3), 0.11 + 0.21 * (k // 9))
        world.body(f"box{k}", vd.Box((0.2, 0.2, 0.2)), mass=1, pose=vd.Pose(at))
    return world


def kite() -> vd.World:
    world = vd.World()
    world.air = vd.Air(wind=(3, 0, 0), gusts="2 m/s")
    return world.place(
        vd.Model("kite").link("sail", vd.Box((0.5, 0.5, 0.1)), mass=0.1).drag("sail", (0.1, 0.1, 0.3)), "kite"
    )


class SameAsSingle(unittest.TestCase):
    def single(self, world: vd.World, seed: int, rows: Any, period: str) -> vd.Simulation:
        sim = vd.Simulation(world, seed=seed)
        for row in rows:
            for name in world.placed if len(row) else ():
                sim[name].command_all(sim[name].joints, effort=row) if name == "cart" else sim[name].command_all(
                    sim[name].joints, position=row
                )
            sim.advance(period)
        return sim

    def test_to_the_bit(self) -> None:
        random = np.random.default_rng(3)
        cases = {
            "a cart with all its sensors": (vd.World().ground().place(cart(), "cart", fixed=True), 1, ["imu", "scan"]),
            "an arm over the ground": (swing(), 1, []),
            "a heap that needs more room": (heap(), 0, []),
            "a kite in gusts": (kite(), 0, []),
        }
        for title, (world, motors, streams) in cases.items():
            for threads in "1", "3":
                with self.subTest(title, threads=threads), mock.patch.dict("os.environ", VELDRAIN_THREADS=threads):
                    copies = vd.Copies(world, 20, period="10 ms", seed=5, streams=streams)
                    self.assertEqual((len(copies), len(copies.motors)), (20, motors))
                    told = random.uniform(-1, 1, (20, 20, motors))
                    for rows in told:
                        copies.step(rows if motors else None)
                    for k in (0, 19):
                        sim = self.single(world, 5 + k, told[:, k], "10 ms")
                        other = vd.Simulation(copies.world(k))
                        other.restore(copies.state(k))
                        self.assertEqual(other.digest(), sim.digest())
                        for stream in streams:
                            found, single = copies.read(stream), sim["cart"].read(stream)
                            for word, values in found.items():
                                np.testing.assert_array_equal(values[k], getattr(single, word))
                        sim.advance("50 ms"), other.advance("50 ms")
                        self.assertEqual(other.digest(), sim.digest())

    def test_reset_to_another_start(self) -> None:
        copies = vd.Copies(swing(), 6, period="5 ms")
        copies.step(np.ones(1))
        starts = np.linspace(-1, 1, 2)[:, None]
        copies.reset([1, 4], positions=starts, velocities=[[0.5], [-0.5]])
        np.testing.assert_array_equal(copies.positions[[1, 4]], starts)
        np.testing.assert_array_equal(copies.times, [0.005, 0, 0.005, 0.005, 0, 0.005])
        for _ in range(10):
            copies.step()
        sim = vd.Simulation(swing())
        sim["arm"].positions, sim["arm"].velocities = [-1], [0.5]
        sim.advance("50 ms")
        self.assertEqual(sim["arm"].positions[0], copies.positions[1, 0])
        copies.reset(np.arange(6) < 3)
        self.assertEqual((copies.times == 0).sum(), 3)
        copies.reset()
        self.assertFalse(copies.times.any() or copies.positions.any())

    def test_what_the_steps_show(self) -> None:
        """A step too coarse is told of the first copy that shows it, and leaves the starts of others alone."""
        world = vd.World().ground()
        world.body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((0, 0, 0.12)), spin=(0, 500, 0))
        copies = vd.Copies(world, 2, period="0.1 s", step="5 ms")
        with self.assertLogs("veldrain", "WARNING") as told:
            copies.step()
            copies.step()
        self.assertEqual([line.count("copy 0: the step of 5 ms is too coarse") for line in told.output], [1])
        copies.reset([1], seeds=[7])
        np.testing.assert_allclose(copies.poses("ball")[0][1], (0, 0, 0.12))

    def test_luck(self) -> None:
        """A reset copy has its old luck again, or that of a new seed."""
        copies = vd.Copies(vd.World().place(cart(), "cart", fixed=True), 3, period="10 ms", streams=["cart/imu"])
        copies.step()
        first = copies.read("cart/imu")["angular_velocity"].copy()
        copies.reset([0, 1, 2], seeds=[0, 0, 9])
        copies.step()
        again = copies.read("cart/imu")["angular_velocity"]
        np.testing.assert_array_equal(again[0], first[0])
        np.testing.assert_array_equal(again[0], again[1])
        self.assertFalse((again[2] == first[2]).any())


class WhatIsRead(unittest.TestCase):
    def test_closed_forms(self) -> None:
        """Weights on the ground, and a fall of g·t²/2 with gravity drawn a copy."""
        masses, gravity = np.array([1.0, 2.0, 5.0]), np.array([-1.0, -5.0, -9.81])
        world = vd.World().ground().body("box", vd.Box((1, 1, 1)), mass=1, pose=vd.Pose((0, 0, 0.5), yaw=0.3))
        copies = vd.Copies(world, 3, period="0.5 s", vary={"box.mass": masses, "gravity.z": gravity})
        copies.step()
        np.testing.assert_allclose(copies.forces("box")[:, 2], -masses * gravity, rtol=1e-6)
        np.testing.assert_allclose(
            copies.poses("box")[1][:, 2:], np.tile([np.sin(0.15), np.cos(0.15)], (3, 1)), atol=1e-9
        )
        ball = vd.World().body("ball", vd.Sphere(0.1), mass=1)
        falling = vd.Copies(ball, 3, period="1 s", vary={"gravity.z": gravity})
        falling.step()
        np.testing.assert_allclose(falling.poses("ball")[0][:, 2], gravity / 2, rtol=2e-3)
        np.testing.assert_allclose(falling.twists("ball")[0][:, 2], gravity, rtol=1e-9)
        self.assertEqual(copies.world(2).bodies["box"].mass_properties.mass, 5.0)

    def test_what_cannot_go_on(self) -> None:
        """A copy that is no longer finite stands still and is told; the others go on, and it can be reset."""
        copies = vd.Copies(swing(), 3, period="10 ms")
        copies.reset([1], velocities=[[1e200]])
        with self.assertLogs("veldrain", "WARNING"):
            copies.step()
        np.testing.assert_array_equal(copies.failed, [False, True, False])
        self.assertIn("copy 1 is no longer finite", " ".join(copies.notices))
        copies.step()
        np.testing.assert_allclose(copies.times, [0.02, copies.times[1], 0.02])
        self.assertLess(copies.times[1], 0.01)
        copies.reset([1])
        copies.step()
        self.assertFalse(copies.failed.any())
        self.assertAlmostEqual(copies.times[1], 0.01)


class Refused(unittest.TestCase):
    def test_refused(self) -> None:
        copies = vd.Copies(swing(), 3)
        path = vd.World().body("box", vd.Sphere(0.1), mass=1)
        led = vd.World().place(cart(), "cart", path=[(0, vd.Pose()), (1, vd.Pose((1, 0, 0)))])
        cases: list[tuple[str, Any]] = [
            ("0 copies", lambda: vd.Copies(path, 0)),
            ("GB", lambda: vd.Copies(path, 10**7)),
            ("did you mean 'box.mass'", lambda: vd.Copies(path, 2, vary={"box.mas": [1, 2]})),
            ("values of shape (3,)", lambda: vd.Copies(path, 2, vary={"box.mass": [1, 2, 3]})),
            ("not finite", lambda: vd.Copies(path, 2, vary={"box.mass": [1, np.inf]})),
            ("sensor", lambda: vd.Copies(path, 2, streams=["box/imu"])),
            ("led from Python", lambda: vd.Copies(led, 2)),
            ("not a whole number of steps", lambda: vd.Copies(path, 2, period="1.5 ms")),
            ("commands of shape (2,)", lambda: copies.step([1, 2])),
            ("arm/hinge is not finite", lambda: copies.step([[0], [np.nan], [0]])),
            ("outside of its limits", lambda: copies.reset([0], positions=[[3]])),
            ("positions that are not finite", lambda: copies.reset([0], positions=[[np.nan]])),
            ("velocities of shape (2, 1)", lambda: copies.reset([0], velocities=[[1], [2]])),
            ("says no copies", lambda: copies.reset([3])),
            ("says no copies", lambda: copies.reset([1, 1])),
            ("2 seeds for 1 copies", lambda: copies.reset([1], seeds=[1, 2])),
            ("stream of the copies", lambda: copies.read("imu")),
        ]
        for words, wrong in cases:
            with self.subTest(words), self.assertRaises(vd.VeldrainError) as caught:
                wrong()
            self.assertIn(words, str(caught.exception))
        with self.assertLogs("veldrain", "WARNING") as told:
            copies.step([2.5])
        self.assertIn("arm/hinge: commanded beyond", told.output[0])


if __name__ == "__main__":
    unittest.main()
