"""Sensors of touch and load, against weights and levers."""

from __future__ import annotations

import math
import unittest

import numpy as np

import veldrain as vd

G = 9.81


def stand(**sensors: object) -> vd.Model:
    """A table of 6 kg on four feet of 0.5 kg, the load a little off its middle."""
    m = vd.Model("table").link("top", vd.Box((0.8, 0.6, 0.04)), mass=6, com=(0.1, 0, 0))
    for name, x, y in (("fl", 0.3, 0.2), ("fr", 0.3, -0.2), ("rl", -0.3, 0.2), ("rr", -0.3, -0.2)):
        m.link(name, vd.Sphere(0.03), mass=0.5).joint(f"{name}_leg", "top", name, "fixed", vd.Pose((x, y, -0.4)))
        m.mount(f"{name}_load", vd.FootForce(), on=name)
    for name, sensor in sensors.items():
        m.mount(name, sensor, on="fl")  # type: ignore[arg-type]
    return m


class Contacts(unittest.TestCase):
    def test_feet_carry_the_weight(self) -> None:
        """In all m g, and front to rear as the lever of the centre of mass says."""
        sim = vd.Simulation(vd.World().ground().place(stand(), pose=vd.Pose((0, 0, 0.43))))
        sim.advance("1 s")
        front, rear = (sum(sim["table"].read(f"{f}_load").force for f in pair) for pair in (("fl", "fr"), ("rl", "rr")))
        self.assertAlmostEqual(front + rear, 8 * G, 3)
        centre = 6 * 0.1 / 8
        self.assertAlmostEqual(front, 8 * G * (0.3 + centre) / 0.6, 2)

    def test_touch_says_with_whom_where_and_how(self) -> None:
        m = vd.Model("finger").link("hand", mass=1).link("tip", vd.Box((0.1, 0.1, 0.1)), mass=2)
        m.joint("press", "hand", "tip", "prismatic", axis=(0, 0, 1), limits=(-1, 1)).motor("press", limit=100)
        m.mount("skin", vd.Touch(), on="tip", pose=vd.Pose((0, 0, -0.05), rpy=(math.pi, 0, 0)))  # looks down
        w = vd.World().obstacle("bench", vd.Box((1, 1, 0.1)), pose=vd.Pose((0, 0, -0.05)))
        sim = vd.Simulation(w.place(m, fixed=True, pose=vd.Pose((0, 0, 0.2)), joints={"press": 0.0}))
        sim["finger"].command("press", effort=-5)
        sim.advance("50 ms")
        self.assertEqual(
            (sim["finger"].read("skin").others, sim["finger"].read("skin").force.tolist()), ((), [0, 0, 0])
        )
        sim.advance("1 s")
        felt = sim["finger"].read("skin")
        self.assertEqual(set(felt.others), {"bench"})
        np.testing.assert_allclose(felt.force, (0, 0, -(2 * G + 5)), atol=1e-3)  # up, seen by a sensor that looks down
        np.testing.assert_allclose(felt.forces.sum(axis=0), felt.force, atol=1e-9)
        np.testing.assert_allclose(felt.normals, np.tile((0, 0, -1), (len(felt.others), 1)), atol=1e-9)
        np.testing.assert_allclose(np.abs(felt.points[:, :2]), 0.05, atol=1e-6)
        np.testing.assert_allclose(felt.torque, np.cross(felt.points, felt.forces).sum(axis=0))

    def test_limits_and_thresholds(self) -> None:
        for sensor, name, pattern in (
            (vd.FootForce(full_scale="5 N"), "force", 5.0),
            (vd.Touch(threshold="90 N"), "others", ()),
        ):
            sim = vd.Simulation(vd.World().ground().place(stand(extra=sensor), pose=vd.Pose((0, 0, 0.43))))
            sim.advance("0.2 s")
            self.assertEqual(getattr(sim["table"].read("extra"), name), pattern)
        with self.assertRaisesRegex(vd.VeldrainError, "full_scale is 0 N"):
            vd.FootForce(full_scale=0)


class Loads(unittest.TestCase):
    def test_a_weight_on_an_arm(self) -> None:
        """At the wall: force m g, torque m g l; in the axes and about the origin of the mount."""
        for pose, torque in (
            (vd.Pose(), (0, -3 * G * 0.4, 0)),
            (vd.Pose((0.4, 0, 0)), (0, 0, 0)),
            (vd.Pose(yaw=math.pi / 2), (-3 * G * 0.4, 0, 0)),
        ):
            m = (
                vd.Model("bracket")
                .link("wall", mass=1)
                .link("arm", vd.Part(vd.Sphere(0.05), vd.Pose((0.4, 0, 0))), mass=3)
            )
            m.joint("bolt", "wall", "arm", "fixed").mount("cell", vd.ForceTorque(), on="arm", pose=pose)
            sim = vd.Simulation(vd.World().place(m, fixed=True, pose=vd.Pose((0, 0, 1))))
            sim.advance("50 ms")
            with self.subTest(pose=pose):
                np.testing.assert_allclose(sim["bracket"].read("cell").force, (0, 0, 3 * G), atol=1e-6)
                np.testing.assert_allclose(sim["bracket"].read("cell").torque, torque, atol=1e-6)

    def test_noise_and_range(self) -> None:
        m = (
            vd.Model("bracket")
            .link("wall", mass=1)
            .link("arm", vd.Sphere(0.05), mass=3)
            .joint("bolt", "wall", "arm", "fixed")
        )
        m.mount("cell", vd.ForceTorque(period="1 ms", force_noise="2 N", torque_noise="0.1 N*m"), on="arm")
        m.mount("small", vd.ForceTorque(force_full_scale="10 N"), on="arm")
        sim = vd.Simulation(vd.World().place(m, fixed=True), seed=3)
        rows = []
        for _ in range(2000):
            sim.advance("1 ms")
            rows.append([*sim["bracket"].read("cell").force, *sim["bracket"].read("cell").torque])
        np.testing.assert_allclose(np.std(rows, axis=0), [2, 2, 2, 0.1, 0.1, 0.1], rtol=0.06)
        np.testing.assert_allclose(np.mean(rows, axis=0)[:3], (0, 0, 3 * G), atol=0.2)
        self.assertEqual(sim["bracket"].read("small").force[2], 10)
        m.mount("worn", vd.ForceTorque(force_bias="3 N", force_drift=8), on="arm")
        bare = vd.World().place(m, fixed=True)
        read = []
        for seed in range(80):
            sim = vd.Simulation(bare, seed=seed)
            sim.advance("0.2 s")
            read.append(sim["bracket"].read("worn").force - (0, 0, 3 * G))
        self.assertAlmostEqual(float(np.std(read)), math.sqrt(3**2 + 8**2 * 0.2), delta=0.6)

    def test_needs_a_joint(self) -> None:
        m = vd.Model("post").link("post", vd.Sphere(0.1), mass=1).mount("cell", vd.ForceTorque(), on="post")
        with self.assertRaisesRegex(vd.VeldrainError, "post/cell: no joint holds link 'post'"):
            vd.Simulation(vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.1))))


class Switches(unittest.TestCase):
    def test_closes_at_its_travel_and_opens_past_its_hysteresis(self) -> None:
        m = vd.Model("gate").link("frame", mass=9).link("blade", vd.Box((0.1, 0.5, 0.4)), mass=5)
        m.joint("lift", "frame", "blade", "prismatic", axis=(0, 0, 1), limits=(0, 1)).motor(
            "lift", "velocity", damping=1e5
        )
        m.mount("top", vd.LimitSwitch("lift", at=0.5, hysteresis=0.1, period="1 ms"), on="frame")
        m.mount("bottom", vd.LimitSwitch("lift", at=0.05, above=False, period="1 ms"), on="frame")
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m, fixed=True))
        changes = []
        for speed in (0.5, -0.5):
            sim["gate"].command("lift", velocity=speed)
            for _ in range(1400):
                before = [sim["gate"].read(n).closed for n in ("top", "bottom")]
                sim.advance("1 ms")
                after = [sim["gate"].read(n).closed for n in ("top", "bottom")]
                changes += [
                    (n, b, sim["gate"].positions[0])
                    for n, a, b in zip(("top", "bottom"), before, after, strict=True)
                    if a != b
                ]
        self.assertEqual([c[:2] for c in changes], [("bottom", False), ("top", True), ("top", False), ("bottom", True)])
        np.testing.assert_allclose([c[2] for c in changes], (0.05, 0.5, 0.4, 0.05), atol=6e-4)

    def test_streams_and_mistakes(self) -> None:
        m = stand(skin=vd.Touch(), cell=vd.ForceTorque())
        world = vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.43)))
        recording = vd.run(vd.Scenario(world, "0.2 s"), seed=1)
        self.assertAlmostEqual(
            float(recording["table/skin"]["wrench.force.z"].iloc[-1]),
            float(recording["table/fl_load"]["data"].iloc[-1]),
            6,
        )
        self.assertEqual(recording.streams["table/cell"].message, "geometry_msgs/msg/WrenchStamped")
        hinge = vd.Model("m").link("a", mass=1).mount("top", vd.LimitSwitch("lif", 0.1), on="a")
        with self.assertRaisesRegex(vd.VeldrainError, "m/top.*no movable joint 'lif'"):
            vd.Simulation(vd.World().place(hinge, fixed=True))


if __name__ == "__main__":
    unittest.main()
