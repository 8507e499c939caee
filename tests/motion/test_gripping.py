"""A gripper as one controller: widths reached, forces told by the motors, what is held and what slips."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

import veldrain as vd

MASS, FRICTION = 0.3, 0.5


def hand(mimic: bool = True, turning: bool = False) -> vd.Model:
    """Two fingers that point down; they slide on one motor or on two, or turn about axes 10 cm above their tips."""
    m = vd.Model("hand").link("palm", vd.Box((0.06, 0.12, 0.04)), mass=1)
    for side, s in (("left", 1), ("right", -1)):
        surface = vd.Surface(friction=FRICTION)
        m.link(side, vd.Part(vd.Box((0.02, 0.01, 0.1)), pose=vd.Pose((0, 0, 0.05))), mass=0.1, surface=surface)
        follows = ("left_joint", 1.0, 0.0) if mimic and s < 0 else None
        words: dict[str, Any] = {"pose": vd.Pose((0, 0.045 * s, 0.02)), "mimic": follows, "limits": (0, 0.4)}
        if turning:
            m.joint(f"{side}_joint", "palm", side, kind="revolute", axis=(s, 0, 0), **words)
        else:
            m.joint(f"{side}_joint", "palm", side, kind="prismatic", axis=(0, -s, 0), **words)
        m.frame(f"{side}_tip", side, vd.Pose((0, 0, 0.1)))
        if follows is None:
            m.motor(f"{side}_joint", "position", stiffness=200 if turning else 4000, damping=4 if turning else 120)
    return m.mount("encoders", vd.Encoders(), on="palm")


def grips(model: vd.Model, table: bool = True, duration: float = 2.0, **words: Any) -> vd.Scenario:
    """A peg of 5 cm between the fingers, on a table that is taken away after a second; told to close at 0.2 s."""
    world = vd.World().ground().place(model, "hand", pose=vd.Pose((0, 0, 0.6), rpy=(math.pi, 0, 0)), fixed=True)
    surface = vd.Surface(friction=FRICTION)
    world.body("peg", vd.Cylinder(0.025, 0.1), mass=MASS, pose=vd.Pose((0, 0, 0.48)), surface=surface)
    world.body("table", vd.Box((0.2, 0.2, 0.43)), mass=9, pose=vd.Pose((0, 0, 0.215)))
    fingers = tuple(joint for joint in ("left_joint", "right_joint") if joint in model.motors)
    words = {"tips": ("left_tip", "right_tip"), "pads": "1 cm", "force": "10 N"} | words
    scenario = vd.Scenario(world, duration, controllers={"hand": vd.Grip(fingers, **words)})
    scenario.at("0.2 s").tell("hand", width=0.0)
    scenario.when(vd.signal("hand/holds") > 0.5).say("holds")
    return scenario if table else scenario.at("1 s").remove("table")


def at(recording: vd.Recording, stream: str, column: str, time: float) -> float:
    rows = recording[stream]
    return float(rows[column].iloc[int(np.searchsorted(rows["time"], time))])


class Gripping(unittest.TestCase):
    def test_it_pinches_as_told(self) -> None:
        """F on each side: the effort g·F of each motor with g = ∂w/∂q, of sliding and of turning fingers."""
        for name, model, slope in (
            ("one motor", hand(), 2.0),
            ("two motors", hand(mimic=False), 1.0),
            ("turning", hand(turning=True), 0.2),
        ):
            with self.subTest(name):
                recording = vd.run(grips(model))
                self.assertLess(recording.outcome["events"]["holds"], 1.0)
                self.assertAlmostEqual(at(recording, "hand/width", "data", 1.5), 0.05, delta=0.003)
                effort = at(recording, "hand/joint_states", "effort.left_joint", 1.5)
                self.assertAlmostEqual(abs(effort), slope * 10, delta=0.05 * slope * 10)

    def test_widths_are_reached_and_nothing_is_held(self) -> None:
        scenario = grips(hand(), duration=3.0)
        scenario.at("0.7 s").tell("hand", force="12 N")  # leaves the width
        scenario.at("1 s").tell("hand", width="7 cm").at("2 s").tell("hand", width="6 cm", force="30 N")
        recording = vd.run(scenario)
        for time, width, holds in ((0.1, 0.08, 0), (0.9, 0.05, 1), (1.9, 0.07, 0), (2.9, 0.06, 0)):
            self.assertAlmostEqual(at(recording, "hand/width", "data", time), width, delta=5e-4)
            self.assertEqual(at(recording, "hand/holds", "data", time), holds)

    def test_what_is_held_by_friction(self) -> None:
        """Coulomb: it stays while 2·µ·F carries it; what has slipped out is not held any more."""
        least = MASS * 9.81 / (2 * FRICTION)
        for share, stays in ((1.15, True), (0.85, False)):
            with self.subTest(share):
                recording = vd.run(grips(hand(), table=False, force=share * least), warn=False)
                frames = recording.frames
                self.assertEqual(frames.path("peg")[-1, 2] > 0.47, stays)
                self.assertEqual(at(recording, "hand/holds", "data", 1.95), float(stays))

    def test_refused(self) -> None:
        for words, told in (
            ({"tips": ("left_tip",)}, "1 tips"),
            ({"tips": ("left_tip", "rigth_tip")}, "did you mean 'right_tip'"),
            ({"encoders": "encodrs"}, "did you mean 'encoders'"),
            ({"force": 0}, "force"),
        ):
            with self.subTest(told), self.assertRaisesRegex(vd.VeldrainError, told):
                vd.Trial(grips(hand(), **words))
        led = vd.Grip("right_joint", tips=("left", "right"))
        with self.assertRaisesRegex(vd.VeldrainError, "needs a position motor"):
            vd.Trial(vd.Scenario(vd.World().place(hand(), "hand"), 1, controllers={"hand": led}))


if __name__ == "__main__":
    unittest.main()
