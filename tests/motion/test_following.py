"""The check of what controllers ask of their robots: paths, gains, legs, and trajectories at one time and at many."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

import veldrain as vd
from tests.motion.test_drives import template
from tests.motion.test_moving import walker_on
from veldrain.demo.walkers import four_legged
from veldrain.review.following import STATEMENTS


def boom(stiffness: float = 2000.0, **motor: Any) -> vd.Model:
    """A boom of 2 kg on a joint that lies: 0.4 m out, level at 0."""
    m = vd.Model("boom").link("base", vd.Box((0.2, 0.2, 0.1)), mass=20)
    m.link("arm", vd.Part(vd.Box((0.8, 0.05, 0.05)), vd.Pose((0.4, 0, 0))), mass=2)
    m.joint("lift", "base", "arm", "revolute", pose=vd.Pose((0.15, 0, 0)), axis=(0, -1, 0), limits=(-1.2, 1.2))
    return m.motor("lift", "position", stiffness=stiffness, damping=stiffness / 10, **({"limit": 60} | motor))


def path(*points: float, **limits: float) -> vd.Trajectory:
    rows = [[p] for p in points]
    return vd.Trajectory.through(rows, **({"speed": 1.0, "acceleration": 4.0} | limits), joints=["lift"])


class Paths(unittest.TestCase):
    def found(self, model: vd.Model, way: vd.Trajectory, start: float = 0.0) -> list[str]:
        world = vd.World().place(model, fixed=True, pose=vd.Pose((0, 0, 1)), joints={"lift": start})
        scenario = vd.Scenario(world, "5 s", controllers={"boom": vd.FollowTrajectory(way)})
        return [f"{f.rule}: {f.problem}; {f.cure}" for f in vd.check(scenario) if f.rule in STATEMENTS]

    def test_what_breaks_each_rule(self) -> None:
        # A rod of 2 kg and 0.8 m about its end: 0.427 kg·m², and 7.85 N·m of weight where it is level.
        cases = [
            ("nothing", boom(), path(0.0, 1.0), 0.0, []),
            ("limits", boom(), path(0.0, 1.5), 0.0, ["path-beyond-limits: at 100 % of its path asks for 1.5 rad"]),
            ("speed", boom(speed=0.5), path(0.0, 1.0), 0.0, ["path-beyond-limits: .* asks for 1 rad/s, .* 0.5 rad/s"]),
            ("free speed", boom(stall=60, free_speed=0.8), path(0.0, 1.0), 0.0, ["path-beyond-limits: .*0.8 rad/s"]),
            ("start", boom(), path(0.3, 1.0), 0.0, ["path-starts-elsewhere: .* asks for 17.2°.* starts at 0°"]),
            ("from there", boom(), path(0.3, 1.0), 0.3, []),
            ("effort", boom(limit=9), path(0.0, 1.0), 0.0, ["path-beyond-limits: .* asks for 9.5[0-9] N·m.* 9 N·m"]),
            ("soft", boom(30), path(0.0, 1.0), 0.0, ["gains-too-low: .* asks for 1.7[0-9] N·m, .* 3.2[0-9]° behind"]),
        ]
        for name, model, way, start, wanted in cases:
            found = self.found(model, way, start)
            with self.subTest(name):
                self.assertEqual(len(found), len(wanted), found)
                for line, pattern in zip(found, wanted, strict=True):
                    self.assertRegex(line, pattern)

    def test_the_cure_is_one(self) -> None:
        """What a finding says to write takes it away."""
        soft = self.found(boom(30), path(0.0, 1.0))[0]
        stiffness = float(soft.partition("write stiffness: ")[2].split()[0])
        self.assertEqual(self.found(boom(stiffness), path(0.0, 1.0)), [])
        fast = self.found(boom(speed=0.5), path(0.0, 1.0))[0]
        speed = float(fast.partition("speed=")[2].split(",")[0])
        scale = float(fast.partition("scale=")[2].split(",")[0].rstrip())
        self.assertEqual(self.found(boom(speed=0.5), path(0.0, 1.0, speed=speed)), [])
        self.assertEqual(self.found(boom(speed=0.5), path(0.0, 1.0, scale=scale)), [])

    def test_the_trial_is_as_without_the_check(self) -> None:
        """Looking along a path moves nothing: the first tick finds the robot where it starts."""
        world = vd.World().place(boom(), fixed=True, pose=vd.Pose((0, 0, 1)))
        scenario = vd.Scenario(world, "0.2 s", controllers={"boom": vd.FollowTrajectory(path(0.0, 1.0))})
        before = vd.run(scenario)["boom/joint_states"]
        vd.check(scenario)
        np.testing.assert_array_equal(before.to_numpy(), vd.run(scenario)["boom/joint_states"].to_numpy())


class FlyersAndWalkers(unittest.TestCase):
    def test_a_flyer_with_slow_rotors(self) -> None:
        """With rotors that follow in 55 ms it flies; in 90 ms it turns over in wind, and the check says so."""
        for lag, wanted in ((0.025, 0), (0.06, 4)):
            world = template("flyer").weather(vd.Air(wind=(4, 3, 0), gusts=0.5))
            model = world.placed["flyer"].model
            for joint in list(model.rotors):
                model.change_motor(joint, lag=lag)
            fly = vd.Fly([(0, 0, 2), (2, 0, 2)], pose="truth")
            scenario = vd.Scenario(world, 8, controllers={"flyer": fly}, truth=["flyer"])
            found = [f for f in vd.check(scenario) if f.rule == "gains-too-low"]
            with self.subTest(lag=lag):
                self.assertEqual(len(found), wanted)
                for finding in found:
                    self.assertRegex(finding.problem, r"in 90 ms, .* at 2.25 Hz")
                truth = vd.run(scenario, warn=False)["flyer/truth"]
                tilt = float(np.abs(truth[["roll", "pitch"]].to_numpy()).max())
                self.assertEqual(tilt > 1.0, wanted > 0)

    def test_a_walker_that_is_told_too_much(self) -> None:
        for speed, height, wanted in ((0.25, 0.0, 0), (1.5, 0.0, 1), (0.1, 0.15, 1)):
            scenario = walker_on(four_legged(), 1.0, {"forward": speed, "height": height}, gait="trot")
            found = [f for f in vd.check(scenario) if f.rule == "legs-out-of-reach"]
            with self.subTest(speed=speed, height=height):
                self.assertEqual(len(found), wanted)
                if found:
                    told = (
                        r"steps [\d.]+ cm .* [\d.]+ cm of that are out of reach" if not height else "cm of the way down"
                    )
                    self.assertRegex(found[0].problem, told)


class Postures(unittest.TestCase):
    def test_beyond_limits(self) -> None:
        for value, wanted in ((1.2, []), (1.21, ["write 1.2 rad in the posture, or widen the limits"])):
            found = vd.check(boom().posture("stowed", {"lift": value}))
            with self.subTest(value=value):
                self.assertEqual([f.cure for f in found if f.rule == "posture-beyond-limits"], wanted)


class AtOnce(unittest.TestCase):
    def test_one_time_gives_what_many_give(self) -> None:
        rng = np.random.default_rng(1)
        paths = [
            vd.Trajectory.through(rng.normal(size=(5, 3)), speed=1.0, acceleration=2.0, jerk=jerk, scale=0.7)
            for jerk in (None, 9.0)
        ]
        paths += [vd.Trajectory.of([0.0, 1.0, 2.5], rng.normal(size=(3, 2)))]
        for n, way in enumerate(paths):
            times = np.concatenate([rng.uniform(-0.5, way.duration + 0.5, 200), way.knots])
            many = way.at(times)
            with self.subTest(n):
                for k, time in enumerate(times):
                    for one, rows in zip(way.at(float(time)), many, strict=True):
                        np.testing.assert_allclose(one, rows[k], rtol=0, atol=1e-9)


if __name__ == "__main__":
    unittest.main()
