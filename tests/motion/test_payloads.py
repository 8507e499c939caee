"""A load by the readings of a force-torque sensor in several postures."""

from __future__ import annotations

import unittest

import numpy as np

import veldrain as vd

POSTURES = ((0, 0, 0), (0.7, 0, 0), (0, 0.8, 0), (-0.5, 0.4, 0.3), (0.3, -0.9, 1.2))


class Payloads(unittest.TestCase):
    def test_it_is_what_hangs_there(self) -> None:
        """Closed form with offsets, and readings of a simulated sensor at rest; what is taken off leaves nothing."""
        mass, centre = 1.7, np.array((0.03, -0.02, 0.11))
        offsets = np.array((4.0, -2.0, 7.0)), np.array((0.2, 0.1, -0.3))
        poses = [vd.Pose(rpy=rpy) for rpy in POSTURES]
        weights = [-mass * (p.matrix.T @ (0, 0, -9.81)) for p in poses]
        forces, torques = np.array(weights) + offsets[0], np.cross(centre, weights) + offsets[1]
        found = vd.payload(forces, torques, poses)
        self.assertAlmostEqual(found.mass, mass)
        self.assertLess(found.error, 1e-12)
        for mine, want in ((found.centre, centre), (found.force_offset, offsets[0]), (found.torque_offset, offsets[1])):
            np.testing.assert_allclose(mine, want, atol=1e-12)
        for rest in found.taken_off(forces[3], torques[3], poses[3]):
            np.testing.assert_allclose(rest, 0, atol=1e-12)
        noise = np.random.default_rng(0).standard_normal((2, 5, 3)) * 0.05
        noisy = vd.payload(forces + noise[0], torques + noise[1], poses)
        self.assertAlmostEqual(noisy.mass, mass, delta=0.05)
        self.assertGreater(noisy.error, 0.02)
        read = []
        for pose in poses:
            arm = vd.Model("arm").link("base").link("hand", vd.Box((0.1, 0.1, 0.1)), mass=mass, com=centre)
            arm.joint("wrist", "base", "hand", "revolute", axis=(0, 0, 1), limits=(-1, 1))
            arm.motor("wrist", "position", stiffness=1e5, damping=1e3, limit=1e4).mount(
                "cell", vd.ForceTorque(), on="hand"
            )
            sim = vd.Simulation(vd.World().place(arm, "arm", pose=vd.Pose(rotation=pose.rotation), fixed=True))
            sim.advance("1 s")
            read.append(sim["arm"].read("cell"))
        felt = vd.payload([r.force for r in read], [r.torque for r in read], poses)
        self.assertAlmostEqual(felt.mass, mass, delta=1e-4)
        np.testing.assert_allclose(felt.centre, centre, atol=1e-4)

    def test_mistakes_are_told(self) -> None:
        level, about_x = vd.Pose(), [vd.Pose(rpy=(a, 0, 0)) for a in (0, 0.5, 1)]
        for poses, said in (
            ([level] * 4, "4 postures do not turn the sensor far enough"),
            ([level] * 2, "2 postures do not turn"),
            ([], "0 postures"),
        ):
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                vd.payload(np.zeros((len(poses), 3)), np.zeros((len(poses), 3)), poses)
        with self.assertRaisesRegex(vd.VeldrainError, "forces .3, 3., torques .3, 2."):
            vd.payload(np.zeros((3, 3)), np.zeros((3, 2)), about_x)
        with self.assertRaisesRegex(vd.VeldrainError, "of finite numbers"):
            vd.payload(np.full((3, 3), np.nan), np.zeros((3, 3)), about_x)


if __name__ == "__main__":
    unittest.main()
