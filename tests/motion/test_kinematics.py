"""Chains, legs and gains against closed forms and against the engine."""

from __future__ import annotations

import json
import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

import veldrain as vd
from tests.helpers import called
from tests.motion.arms import leg, sampling_arm, seven_joints, two_bars

G = 9.81


def postures(chain: vd.Chain, count: int, seed: int = 1) -> np.ndarray:
    low, high = (np.where(np.isfinite(x), x, s * math.pi) for x, s in ((chain.low, -1), (chain.high, 1)))
    return np.random.default_rng(seed).uniform(low, high, (count, len(chain.joints)))


class Chains(unittest.TestCase):
    def test_two_bars_by_hand(self) -> None:
        a, b = 0.5, 0.4
        chain = vd.Chain(two_bars(a, b), "tip")
        self.assertEqual((chain.base, chain.joints), ("base", ("q1", "q2")))
        for q1, q2 in postures(chain, 20):
            s, s12, c, c12 = math.sin(q1), math.sin(q1 + q2), math.cos(q1), math.cos(q1 + q2)
            pose = chain.forward((q1, q2))
            np.testing.assert_allclose(pose.position, (a * c + b * c12, 0, a * s + b * s12), atol=1e-12)
            J = chain.jacobian((q1, q2))
            np.testing.assert_allclose(J[0], (-a * s - b * s12, -b * s12), atol=1e-12)
            np.testing.assert_allclose(J[2], (a * c + b * c12, b * c12), atol=1e-12)
            np.testing.assert_allclose(J[4], (-1, -1), atol=1e-12)
            # Rods of m and length l: ml²/3 about their ends (with what keeps them from being lines).
            cross = 1.0 * a * b / 2 * math.cos(q2)
            M = np.array(((2 * a**2 / 3 + a**2 + b**2 / 3 + 2 * cross, b**2 / 3 + cross), (b**2 / 3 + cross, b**2 / 3)))
            np.testing.assert_allclose(chain.inertia((q1, q2)), M, atol=1e-7)
            holds = np.array((2 * a / 2 * c + 1 * (a * c + b / 2 * c12), b / 2 * c12)) * G
            np.testing.assert_allclose(chain.gravity((q1, q2)), holds, atol=1e-9)

    def test_many_at_once_are_those_one_by_one(self) -> None:
        chain = vd.Chain(sampling_arm(), "tool")
        rows = postures(chain, 7)
        at, axes = chain.forward(rows)
        for k, q in enumerate(rows):
            pose = chain.forward(q)
            np.testing.assert_array_equal(pose.position, at[k])
            np.testing.assert_allclose(pose.matrix, axes[k], atol=1e-15)
            np.testing.assert_array_equal(chain.jacobian(q), chain.jacobian(rows)[k])
            np.testing.assert_array_equal(chain.inertia(q), chain.inertia(rows)[k])
            np.testing.assert_array_equal(chain.gravity(q), chain.gravity(rows)[k])

    def test_the_same_as_the_engine(self) -> None:
        for make, tip in ((sampling_arm, "tool"), (seven_joints, "tool")):
            model = make()
            chain = vd.Chain(model, tip)
            robot = vd.Simulation(vd.World().place(model, "arm", fixed=True))["arm"]
            own = [robot.joints.index(j) for j in chain.joints]
            for q in postures(chain, 5):
                all_of_them = robot.positions
                all_of_them[own] = q
                robot.positions = all_of_them
                with self.subTest(model=model.name):
                    np.testing.assert_allclose(chain.forward(q).position, robot.pose(tip).position, atol=1e-12)
                    np.testing.assert_allclose(chain.jacobian(q), robot.jacobian(tip)[:, own], atol=1e-10)
                    np.testing.assert_allclose(
                        chain.inertia(q), robot.inertia_matrix()[np.ix_(own, own)], rtol=1e-9, atol=1e-10
                    )
                    still = robot.inverse_dynamics(np.zeros(len(robot.joints)))[own]
                    np.testing.assert_allclose(chain.gravity(q), still, atol=1e-8)

    def test_backwards_and_across_branches(self) -> None:
        model = sampling_arm()
        there, back = vd.Chain(model, "tool"), vd.Chain(model, "base", "tool")
        for q in postures(there, 5):
            both = there.forward(q) @ back.forward(q[::-1])
            np.testing.assert_allclose(both.position, 0, atol=1e-12)
            np.testing.assert_allclose(both.matrix, np.eye(3), atol=1e-12)
        m = vd.Model("y").link("hub", mass=1).link("a", mass=1).link("b", mass=1)
        m.joint("ja", "hub", "a", "continuous", vd.Pose((1, 0, 0))).joint(
            "jb", "hub", "b", "prismatic", vd.Pose((0, 1, 0))
        )
        across = vd.Chain(m, "b", "a")
        self.assertEqual(across.joints, ("ja", "jb"))
        np.testing.assert_allclose(across.forward((0, 0.5)).position, (-1, 1, 0.5), atol=1e-15)
        np.testing.assert_allclose(across.forward((math.pi / 2, 0)).position, (1, 1, 0), atol=1e-12)

    def test_mimic_joints_move_along(self) -> None:
        m = vd.Model("m").link("a", mass=1).link("b", mass=1).link("c", mass=1)
        m.joint("one", "a", "b", "continuous").joint(
            "two", "b", "c", "continuous", vd.Pose((1, 0, 0)), mimic=("one", 2, 0.1)
        )
        chain = vd.Chain(m.frame("tip", on="c", pose=vd.Pose((1, 0, 0))), "tip")
        q = 0.3
        np.testing.assert_allclose(
            chain.forward([q]).position[:2], (math.cos(q) + math.cos(3 * q + 0.1), math.sin(q) + math.sin(3 * q + 0.1))
        )
        step = (chain.forward([q + 1e-6]).position - chain.forward([q - 1e-6]).position) / 2e-6
        np.testing.assert_allclose(chain.jacobian([q])[:3, 0], step, atol=1e-9)

    def test_inverse_of_random_poses(self) -> None:
        for make in (sampling_arm, seven_joints):
            chain = vd.Chain(make(), "tool")
            for q in postures(chain, 150):
                pose = chain.forward(q)
                found = chain.inverse(pose)
                with self.subTest(arm=make.__name__):
                    self.assertTrue(found.reached, found.why)
                    self.assertTrue((found.q >= chain.low - 1e-9).all() and (found.q <= chain.high + 1e-9).all())
                    back = chain.forward(found.q)
                    self.assertLess(np.linalg.norm(back.position - pose.position), 1e-4)
                    self.assertLess((back.rotation.inv() * pose.rotation).magnitude(), math.radians(0.1))

    def test_two_bars_inverse_by_the_law_of_cosines(self) -> None:
        a, b, x, z = 0.5, 0.4, 0.5, 0.3
        chain = vd.Chain(two_bars(a, b), "tip")
        bend = math.acos((x * x + z * z - a * a - b * b) / (2 * a * b))
        for q2 in (bend, -bend):
            q1 = math.atan2(z, x) - math.atan2(b * math.sin(q2), a + b * math.cos(q2))
            found = chain.inverse((x, 0, z), start=(q1 + 0.1, q2 - 0.1), tolerance=("1 nm", None))
            np.testing.assert_allclose(found.q, (q1, q2), atol=1e-8)

    def test_says_why_not(self) -> None:
        bars, arm = vd.Chain(two_bars(), "tip"), vd.Chain(sampling_arm(), "tool")
        q = np.array([0, 0.3, 0.9, 0, 0.5, 0])
        turned = vd.Pose(arm.forward(q).position * (1.22, 1, 1), rpy=(0, -1.6, 0))
        cases = [
            (bars, (1.4, 0, 0), (0.1, 0.1), "out of reach by 500 mm.*singular"),
            (arm, turned, q, "within reach, but not in this direction|out of reach"),
        ]
        for chain, pose, start, why in cases:
            with self.subTest(why):
                found = chain.inverse(pose, start=start)
                self.assertFalse(found.reached)
                self.assertRegex(found.why, why)
        narrow = two_bars().change_joint("q2", limits=(0.5, 3.0))
        found = vd.Chain(narrow, "tip").inverse((0.89, 0, 0))
        self.assertIn("q2 at its lower limit", found.why)
        self.assertAlmostEqual(found.q[1], 0.5)

    def test_a_posture_to_stay_near_and_a_free_axis(self) -> None:
        chain = vd.Chain(seven_joints(), "tool")
        q = np.array([0.2, 0.5, -0.4, 0.9, 0.3, -0.6, 0.1])
        pose, near = chain.forward(q), q + 0.15
        plain, held = chain.inverse(pose, start=np.zeros(7)), chain.inverse(pose, start=np.zeros(7), near=near)
        self.assertTrue(plain.reached and held.reached)
        self.assertLess(np.linalg.norm(held.q - near), 0.9 * np.linalg.norm(plain.q - near))
        self.assertLess(np.linalg.norm(held.q - near), np.linalg.norm(q - near))  # nearer than the one we know
        turned = pose @ vd.Pose(yaw=2.0)
        loose = chain.inverse(turned, start=q, free_axis=(0, 0, 1))
        self.assertTrue(loose.reached)
        self.assertLess(np.abs(loose.q - q).max(), 1e-6)  # where it is will do
        along = chain.forward(loose.q).matrix[:, 2]
        np.testing.assert_allclose(along, turned.matrix[:, 2], atol=2e-3)

    def test_bad_input_says_what_and_where(self) -> None:
        arm = sampling_arm()
        chain = vd.Chain(arm, "tool")
        ball = vd.Model("b").link("a", mass=1).link("c", mass=1).joint("j", "a", "c", "ball")
        follower = two_bars().change_joint("q2", mimic=("q1", 1.0, 0.0))
        cases = [
            (lambda: vd.Chain(arm, "tooll"), "tooll.*tool"),
            (lambda: vd.Chain(arm, "base"), "no joint moves"),
            (lambda: vd.Chain(ball, "c"), "a ball joint between"),
            (lambda: vd.Chain(follower, "tip", "one"), "follows 'q1', which is not on the chain"),
            (lambda: vd.Chain(follower, "tip").inverse((0.5, 0, 0)), "follows another"),
            (lambda: chain.forward([0, 0]), r"shape \(2,\).*one for each of: turn, shoulder"),
            (lambda: chain.jacobian([math.nan] * 6), "finite"),
            (lambda: chain.inverse((0.5, 0, 0.5), tolerance=(0, None)), "tolerance of zero"),
            (lambda: chain.inverse((0.5, 0, 0.5), free_axis=(0, 0, 0)), "no axis"),
            (lambda: chain.inside([9, 0, 0, 0, 0, 0], "goal"), "goal/turn: 515.7° is outside"),
        ]
        for act, words in cases:
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


class Legs(unittest.TestCase):
    def test_closed_form_there_and_back(self) -> None:
        for first, hip, knee in (((1, 0, 0), 1, 1), ((1, 0, 0), 1, -1), ((1, 0, 0), -1, 1), ((0, 0, 1), 1, 1)):
            found = vd.Leg(leg(first, hip, knee), "foot")
            for q in np.random.default_rng(0).uniform(-1.9, 1.9, (60, 3)):
                foot = found.chain.forward(q).position
                answers = found.all_angles(foot)
                with self.subTest(first=first, hip=hip, knee=knee):
                    self.assertIn(len(answers), (2, 4))
                    for answer in answers:
                        np.testing.assert_allclose(found.chain.forward(answer).position, foot, atol=1e-12)
                    np.testing.assert_allclose(found.angles(foot, near=q), q, atol=1e-9)

    def test_out_of_reach_by_how_much(self) -> None:
        found = vd.Leg(leg(), "foot")
        q = np.array((0.1, 0.4, 0.0))
        q[2] = 0.0  # stretched: thigh and shank are not quite in a line, so go down along the foot's own way
        hip = found.chain.forward((0.1, 0.4, 0.0)).position
        low = hip * (1, 1, 1) + (0, 0, -0.3)
        off = found.out_of_reach(low)
        self.assertGreater(off, 0.2)
        with self.assertRaisesRegex(vd.VeldrainError, f"leg to foot.*out of reach by {1e3 * off:.3g} mm"):
            found.angles(low)
        q, left = found.nearest(low, hip)
        self.assertLess(left, np.linalg.norm(low - hip))

    def test_says_that_it_is_no_such_leg(self) -> None:
        skew = leg().change_joint("k", axis=(0, 1, 0.2))
        tilted = leg((1, 1, 0))
        for model, foot, words in (
            (skew, "foot", "second and third axis are not parallel"),
            (tilted, "foot", "first axis is not square"),
            (sampling_arm(), "tool", "its joints are turn, shoulder"),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, f"no closed form.*{words}"):
                vd.Leg(model, foot)


class Gains(unittest.TestCase):
    def test_inertia_frequency_and_sag_of_a_pendulum(self) -> None:
        m = vd.Model("p").link("base", mass=1).link("bar", mass=2, com=(0.3, 0, 0), inertia=0.01 * np.eye(3))
        m.joint("swing", "base", "bar", "revolute", axis=(0, 1, 0), limits=(-2, 2))
        m.motor("swing", "position", stiffness=80, damping=4, inertia=0.05)
        row = vd.suggest_gains(m, "3 Hz", 0.7).loc["swing"]
        J = 2 * 0.3**2 + 0.01 + 0.05
        w = 2 * math.pi * 3
        self.assertAlmostEqual(row["inertia"], J)
        self.assertAlmostEqual(row["frequency"], math.sqrt(80 / J) / (2 * math.pi))
        self.assertAlmostEqual(row["ratio"], 4 / (2 * math.sqrt(80 * J)))
        self.assertAlmostEqual(row["sag"], -2 * G * 0.3 / 80)  # it takes an effort against +y to hold it up
        self.assertAlmostEqual(row["stiffness"], J * w**2)
        self.assertAlmostEqual(row["damping"], 2 * 0.7 * J * w)

    def test_a_model_without_motors_is_told_gains_for_each_joint(self) -> None:
        m = vd.Model("p").link("base", mass=1).link("bar", mass=2, com=(0.3, 0, 0), inertia=0.01 * np.eye(3))
        m.link("wheel", mass=1, inertia=0.02 * np.eye(3)).link("tail", mass=1, inertia=0.01 * np.eye(3))
        m.joint("swing", "base", "bar", "revolute", axis=(0, 1, 0), limits=(-2, 2))
        m.joint("roll", "base", "wheel", "continuous")
        m.joint("wag", "base", "tail", "revolute", limits=(-2, 2), mimic=("swing", 1.0, 0.0))
        found, w = vd.suggest_gains(m, "3 Hz"), 2 * math.pi * 3
        self.assertEqual(list(found.index), ["swing", "roll"])
        J = 2 * 0.3**2 + 0.01
        for joint, stiffness, damping in (("swing", J * w**2, 2 * J * w), ("roll", 0.0, 0.02 * w)):
            row = found.loc[joint]
            self.assertEqual(row["mode"], "none")
            np.testing.assert_allclose(row[["stiffness", "damping"]].astype(float), (stiffness, damping), atol=1e-12)
        self.assertEqual(list(vd.suggest_gains(m.motor("roll", "velocity", damping=1)).index), ["roll"])

    def test_a_wheel_moves_the_vehicle_that_stands_on_it(self) -> None:
        """J = J_wheel + m·r²/2 of two driven wheels; with D a cart comes to its speed as 1 − e^(−t·D/J)."""
        m = vd.Model("cart").link("deck", vd.Part(vd.Box((0.4, 0.2, 0.05)), role="visual"), mass=20)
        m.link("caster", vd.Part(vd.Sphere(0.05)), mass=1, surface=vd.Surface(friction=0))
        m.joint("pin", "deck", "caster", "fixed", vd.Pose((-0.15, 0, -0.05)))
        for side, y in (("left", 0.15), ("right", -0.15)):
            m.link(side, vd.Part(vd.Cylinder(0.1, 0.03), vd.Pose(rpy=(math.pi / 2, 0, 0))), mass=1)
            m.joint(f"{side}_roll", "deck", side, "continuous", vd.Pose((0.05, y, 0)), axis=(0, 1, 0))
        J = 0.5 * 1 * 0.1**2 + 23 * 0.1**2 / 2
        bare = vd.suggest_gains(m, "0.5 Hz")
        np.testing.assert_allclose(bare["inertia"], J)
        damping = float(bare.loc["left_roll", "damping"])
        for side in ("left", "right"):
            m.motor(f"{side}_roll", "velocity", damping=damping)
        sim = vd.Simulation(vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.1))))
        sim.advance("0.2 s")
        for side in ("left", "right"):
            sim["cart"].command(f"{side}_roll", velocity=2.0)
        sim.advance("0.3 s")
        speed = float(np.linalg.norm(sim["cart"].velocity()[0]))
        self.assertAlmostEqual(speed, 0.2 * (1 - math.exp(-0.3 * 2 * math.pi * 0.5)), delta=0.003)

    def test_at_the_command_line(self) -> None:
        """Before a robot has motors, after it has one, and where nothing could have any."""
        bar = vd.Model("crane").link("post", mass=5).link("boom", mass=1, com=(0.2, 0, 0), inertia=0.01 * np.eye(3))
        bare = vd.Model("stone").link("stone", mass=1, inertia=0.01 * np.eye(3))
        bar.joint("lift", "post", "boom", "revolute", axis=(0, 1, 0), limits=(-1, 1))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "crane.urdf"
            vd.save_robot(bar, path)
            done = called("inspect", path, "--gains")
            stiff, damped = 0.05 * (10 * math.pi) ** 2, 2 * 0.05 * 10 * math.pi  # at 5 Hz, ζ = 1
            self.assertRegex(
                done.stdout, rf"lift +none +0.05 +kg·m² +– +– +– +° +{stiff:.4g} +{damped:.4g}\nNo motor yet"
            )
            world = vd.World().place(bar.motor("lift", "position", stiffness=stiff, damping=damped), fixed=True)
            vd.save_world(world, Path(folder) / "crane.world.yaml")
            done = called("inspect", Path(folder) / "crane.world.yaml", "--gains", "--test", "--json")
            (row,) = json.loads(done.stdout)["crane"]
            self.assertEqual((row["mode"], row["Hz now"], row["ratio now"]), ("position", 5.0, 1.0))
            self.assertAlmostEqual(row["sag"], -math.degrees(0.2 * G / stiff), delta=0.01)
            self.assertLess(row["overshoot %"], 1.0)  # what it sags by before is none
            self.assertAlmostEqual(row["rise ms"], 1e3 * 3.358 / (10 * math.pi), delta=3)
            vd.save_robot(bare, path)
            done = called("inspect", path, "--gains")
            self.assertEqual((done.returncode, done.stdout), (2, ""))
            self.assertRegex(done.stderr, "crane.urdf: no robot in it has a joint for a motor; name one that has\n$")

    def test_step_response_of_the_suggested_gains(self) -> None:
        m = vd.Model("p").link("base", mass=1).link("wheel", mass=2, inertia=0.1 * np.eye(3))
        m.joint("turn", "base", "wheel", "revolute", limits=(-2, 2)).motor("turn", "position", stiffness=1, damping=1)
        for ratio, overshoot in ((0.5, math.exp(-math.pi * 0.5 / math.sqrt(0.75))), (1.0, 0.0)):
            row = vd.suggest_gains(m, "2 Hz", ratio).loc["turn"]
            m.change_motor("turn", stiffness=row["stiffness"], damping=row["damping"])
            found = vd.step_response(m, "turn", duration="4 s", step="0.1 ms")
            with self.subTest(ratio):
                self.assertAlmostEqual(found.overshoot, overshoot, delta=0.002)
                self.assertAlmostEqual(found.rest_error, 0.0, delta=1e-4)
        # critically damped: the rise from 10 to 90 % takes 3.358/ω
        self.assertAlmostEqual(found.rise, 3.358 / (4 * math.pi), delta=0.003)
        # a motor as soft as the weight that hangs on it does not get where it is told: it overshoots where it ends
        rod, mass, long, ratio = vd.Model("rod").link("base", mass=5), 2.0, 0.6, 0.2
        rod.link("bar", vd.Part(vd.Box((0.04, 0.04, long)), pose=vd.Pose((0, 0, -long / 2))), mass=mass)
        inertia = mass * (long**2 + 0.04**2) / 12 + mass * (long / 2) ** 2
        stiff, pull = 10.0, mass * G * long / 2
        damping = 2 * ratio * math.sqrt((stiff + pull) * inertia)
        rod.joint("j", "base", "bar", "revolute", axis=(0, 1, 0), limits=(-3, 3))
        soft = vd.step_response(
            rod.motor("j", mode="position", stiffness=stiff, damping=damping), "j", 0.02, duration="6 s"
        )
        self.assertAlmostEqual(soft.overshoot, math.exp(-math.pi * ratio / math.sqrt(1 - ratio**2)), delta=0.01)
        with self.assertRaisesRegex(vd.VeldrainError, "a speed of 9e\\+09, beyond the .* of joint '"):
            chain = vd.Chain(sampling_arm(), "tool")
            vd.Trajectory.through(
                [np.zeros(len(chain.joints)), 0.1 + np.zeros(len(chain.joints))],
                speed=9e9,
                acceleration=9,
                joints=chain,
            )
        self.assertAlmostEqual(soft.rest_error, 0.02 * pull / (stiff + pull), delta=1e-4)
        for act, words in (
            (lambda: vd.step_response(m, "turnn"), "turn"),
            (lambda: vd.step_response(m, "turn", 9.0), "leaves its limits"),
            (lambda: vd.suggest_gains(m, 0), "above zero"),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


if __name__ == "__main__":
    unittest.main()
