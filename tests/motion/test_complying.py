"""An arm that gives way as it is told, against springs."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

import veldrain as vd

POSTURE = {"turn": 0.3, "shoulder": 0.6, "elbow": 1.2, "roll": 0.2, "pitch": 0.9, "wrist": 0.1}
PUSHED = (30.0, -20.0, 15.0)


def arm(**motor: Any) -> vd.Model:
    """Six joints of 6 kg, with effort motors."""
    m = vd.Model("arm").link("base", vd.Box((0.2, 0.2, 0.1)))
    before, place = "base", vd.Pose((0, 0, 0.1))
    for name, axis, length, mass in (
        ("turn", (0, 0, 1), 0.15, 2.0),
        ("shoulder", (0, 1, 0), 0.4, 1.5),
        ("elbow", (0, 1, 0), 0.35, 1.0),
        ("roll", (0, 0, 1), 0.05, 0.6),
        ("pitch", (0, 1, 0), 0.05, 0.5),
        ("wrist", (0, 0, 1), 0.05, 0.4),
    ):
        bar = vd.Part(vd.Cylinder(0.03, length), pose=vd.Pose((0, 0, length / 2)), role="visual")
        m.link(f"{name}_bar", bar, mass=mass).joint(
            name, before, f"{name}_bar", "revolute", place, axis, limits=(-3, 3)
        )
        m.motor(name, **({"limit": 150, "inertia": 0.05} | motor))
        before, place = f"{name}_bar", vd.Pose((0, 0, length))
    ball = vd.Part(vd.Sphere("2 cm"), pose=place)
    m.link("finger", ball, mass=0.05).joint("end", before, "finger", "fixed")
    return m.frame("tip", "finger", place).mount("encoders", vd.Encoders(period="1 ms"), on="base")


def trial(world: vd.World, controller: Any, time: str = "3 s") -> vd.Trial:
    return vd.Trial(
        vd.Scenario(world.place(arm(), "arm", fixed=True, joints=POSTURE), time, controllers={"arm": controller})
    )


class Complying(unittest.TestCase):
    STIFFNESS = (800.0, 400.0, 600.0, 40.0, 40.0, 40.0)

    def test_it_gives_way_as_springs_do(self) -> None:
        """Pushed with F it gives way by F/K along each axis; let go, it comes back, and carries its own weight."""
        run = trial(vd.World(), vd.Comply("tip", stiffness=self.STIFFNESS))
        sim = run.simulation
        begin = sim["arm"].pose("tip")
        run.advance("0.5 s")
        np.testing.assert_allclose(sim["arm"].pose("tip").position, begin.position, atol=2e-5)
        run.do(vd.Push("arm/finger", PUSHED, lasting="2 s"))
        run.advance("1.9 s")
        pushed = sim["arm"].pose("tip")
        lever = pushed.matrix @ (0, 0, -0.05)  # from the tip to the finger's origin, where the push acts
        want = np.array(PUSHED) / self.STIFFNESS[:3]
        np.testing.assert_allclose(pushed.position - begin.position, want, atol=4e-4)
        turned = np.cross(lever, PUSHED) / 40.0
        R = pushed.matrix @ begin.matrix.T
        np.testing.assert_allclose((R[2, 1], R[0, 2], R[1, 0]), turned, atol=4e-3)

    def test_against_a_wall_it_pushes_with_stiffness_times_the_way_or_with_the_force_told(self) -> None:
        tip = vd.Chain(arm(), "tip").forward([POSTURE[j] for j in vd.Chain(arm(), "tip").joints]).position
        face = float(tip[0]) + 0.02  # the finger's surface touches it
        for stiffness, told, force in (
            (self.STIFFNESS, {"x": "2 cm"}, 800.0 * 0.02),
            ((0.0, *self.STIFFNESS[1:]), {"force_x": "25 N"}, 25.0),
        ):
            wall = vd.Box((0.1, 1, 1))
            surface = vd.Surface(friction=0.0)
            world = vd.World().obstacle("wall", wall, pose=vd.Pose((face + 0.05, 0, 0.5)), surface=surface)
            run = trial(world, vd.Comply("tip", stiffness=stiffness))
            run.do(vd.Tell("arm", told))
            run.advance("2.5 s")
            felt = run.simulation.contacts()
            with self.subTest(told):
                self.assertAlmostEqual(float(felt["normal_force"].sum()), force, delta=0.02 * force)

    def test_it_comes_to_its_pose_without_swinging(self) -> None:
        """Critically damped along each axis: of a step of 5 cm less than 5 % is overshot, and nothing is left."""
        run = trial(vd.World(), vd.Comply("tip", stiffness=self.STIFFNESS))
        z = [float(run.simulation["arm"].pose("tip").position[2])]
        run.do(vd.Tell("arm", {"z": "5 cm"}))
        for _ in range(250):
            run.advance("10 ms")
            z.append(float(run.simulation["arm"].pose("tip").position[2]))
        self.assertLess(max(z) - z[0], 0.0525)
        self.assertAlmostEqual(z[-1] - z[0], 0.05, delta=1e-4)

    def test_a_goal_that_is_turned(self) -> None:
        chain = vd.Chain(arm(), "tip")
        q = [POSTURE[joint] for joint in chain.joints]
        goal = chain.forward(q) @ vd.Pose((0.02, 0, -0.03), rpy=(0.3, -0.2, 0.4))
        run = trial(vd.World(), vd.Comply("tip", pose=goal, stiffness=self.STIFFNESS))
        run.advance("3 s")
        left = goal.inverse() @ run.simulation["arm"].pose("tip")
        np.testing.assert_allclose(left.position, 0, atol=1e-4)
        self.assertLess(math.acos(min((np.trace(left.matrix) - 1) / 2, 1.0)), 1e-3)

    def test_mistakes_are_told(self) -> None:
        for controller, model, said in (
            (vd.Comply("tap"), arm(), "no .*'tap'.*'tip'"),
            (vd.Comply("tip"), arm(mode="position", stiffness=100), "Comply needs a effort motor"),
            (vd.Comply("tip", encoders="counts"), arm(), "no sensor 'counts'"),
        ):
            world = vd.World().place(model, "arm", fixed=True)
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                vd.Trial(vd.Scenario(world, "1 s", controllers={"arm": controller}))
        light = vd.World().place(arm(inertia=0.0), "arm", fixed=True, joints=POSTURE)
        run = vd.Trial(vd.Scenario(light, "1 s", controllers={"arm": vd.Comply("tip")}))
        run.advance("10 ms")
        self.assertRegex(run.simulation.notices[0], r"is too stiff about \w for what it moves there.*use 0\.\d+ ms")
        with self.assertRaisesRegex(vd.VeldrainError, "is no pose"):
            vd.Comply("tip", pose=3)


if __name__ == "__main__":
    unittest.main()
