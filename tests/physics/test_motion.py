"""Free motion, trees, motors and joints against closed forms and textbook equations."""

from __future__ import annotations

import math
import unittest

import numpy as np
from scipy.spatial.transform import Rotation

import veldrain as vd
from veldrain.simulation import engine_of

G = 9.81
NO_GRAVITY = (0.0, 0.0, 0.0)


def placed(
    model: vd.Model, step: float = 1e-3, gravity: tuple[float, float, float] = (0, 0, -G), **joints: float
) -> vd.Simulation:
    return vd.Simulation(vd.World(gravity=gravity).place(model, fixed=True, joints=joints), step=step)


class FreeFlight(unittest.TestCase):
    def test_ballistic_path(self) -> None:
        """Semi-implicit Euler: z = v·t − g·t·(t + h)/2 to rounding, first order away from the parabola."""
        for step in (1e-3, 5e-4):
            with self.subTest(step=step):
                w = vd.World().body("ball", vd.Sphere(0.1), mass=2, velocity=(3, 0, 5))
                sim = vd.Simulation(w, step=step)
                sim.advance(1)
                x, _, z = sim["ball"].pose().position
                self.assertAlmostEqual(x, 3.0, places=9)
                self.assertAlmostEqual(z, 5.0 - G * (1 + step) / 2, places=9)

    def test_frame_away_from_mass_centre(self) -> None:
        """A body whose frame is not at its mass centre still flies about the centre."""
        m = vd.Model("stick").link("stick", vd.Part(vd.Box((1, 0.1, 0.1)), pose=vd.Pose((0.5, 0, 0))), mass=1)
        sim = vd.Simulation(vd.World(gravity=NO_GRAVITY).place(m))
        sim["stick"].push(torque=(0, 0, 100), force=(0, 0, 0))
        sim.advance(1e-3)
        spin = 0.1 / m.links["stick"].mass_properties.inertia[2, 2]
        np.testing.assert_allclose(sim["stick"].velocity()[1], (0, 0, spin), atol=1e-9)
        ahead = sim["stick"].pose().matrix @ (0.5, 0, 0)  # to the mass centre, which stays where it is
        np.testing.assert_allclose(sim["stick"].velocity()[0], np.cross((0, 0, -spin), ahead), atol=1e-9)


class Trees(unittest.TestCase):
    def test_fixed_links_are_one_body(self) -> None:
        """A boom of two fixed halves moves as a boom of one piece, and both report where they are."""
        whole = (
            vd.Model("boom").link("post").link("arm", vd.Part(vd.Box((1, 0.1, 0.1)), pose=vd.Pose((0.5, 0, 0))), mass=2)
        )
        whole.joint("pivot", "post", "arm", kind="revolute", axis=(0, 1, 0))
        half = vd.Part(vd.Box((0.5, 0.1, 0.1)), pose=vd.Pose((0.25, 0, 0)))
        halves = vd.Model("boom").link("post").link("inner", half, mass=1).link("outer", half, mass=1)
        halves.joint("pivot", "post", "inner", kind="revolute", axis=(0, 1, 0))
        halves.joint("weld", "inner", "outer", kind="fixed", pose=vd.Pose((0.5, 0, 0)))
        angles = []
        for model in (whole, halves):
            sim = placed(model)
            sim.advance(0.5)
            angles.append(sim["boom"].positions[0])
        self.assertAlmostEqual(angles[0], angles[1], places=12)
        expected = Rotation.from_euler("y", angles[1]).apply((0.5, 0, 0))
        np.testing.assert_allclose(sim["boom"].pose("outer").position, expected, atol=1e-12)

    def test_axis_in_any_direction(self) -> None:
        """A joint's pose and axis mean what URDF says: the child turns about the axis in the joint's frame."""
        for axis in ((1, 0, 0), (0, -1, 0), (0, 0, -1), (1, 2, -3)):
            with self.subTest(axis=axis):
                m = vd.Model("m").link("a").link("b", vd.Box((0.1, 0.1, 0.1)), mass=1)
                at = vd.Pose((0.1, 0.2, 0.3), rpy=(0.4, -0.5, 0.6))
                m.joint("j", "a", "b", kind="revolute", pose=at, axis=axis)
                sim = placed(m, j=0.7)
                unit = np.array(axis) / np.linalg.norm(axis)
                expected = at @ vd.Pose(rotation=Rotation.from_rotvec(0.7 * unit))
                np.testing.assert_allclose(sim["m"].pose("b").matrix, expected.matrix, atol=1e-12)
                np.testing.assert_allclose(sim["m"].pose("b").position, expected.position, atol=1e-12)

    def test_free_robot_conserves_momentum(self) -> None:
        """A free hull whose wheel is driven turns the other way; nothing from outside, so nothing in all."""
        m = vd.Model("hull").link("hull", vd.Box((0.5, 0.3, 0.2)), mass=5)
        m.link("wheel", vd.Part(vd.Cylinder(0.2, 0.05)), mass=2)
        m.joint("spin", "hull", "wheel", kind="continuous", pose=vd.Pose((0, 0, 0.3))).motor("spin", "effort")
        sim = vd.Simulation(vd.World(gravity=NO_GRAVITY).place(m))
        sim["hull"].command("spin", effort="0.5 N*m")
        sim.advance(1)
        hull, wheel = sim["hull"].velocity("hull")[1][2], sim["hull"].velocity("wheel")[1][2]
        turning = 5 * (0.5**2 + 0.3**2) / 12 * hull + 2 * 0.2**2 / 2 * wheel
        self.assertAlmostEqual(turning, 0.0, places=9)
        self.assertGreater(wheel - hull, 5.0)
        self.assertAlmostEqual(2 * 0.2**2 / 2 * wheel, 0.5 * 1.0, places=6)

    def test_floating_joint_starts_a_tree_of_its_own(self) -> None:
        m = vd.Model("drone").link("dock", vd.Box((0.2, 0.2, 0.1)), mass=1)
        m.link("probe", vd.Sphere(0.05), mass=0.3).link("fin", vd.Box((0.1, 0.01, 0.1)), mass=0.1)
        m.joint("free", "dock", "probe", kind="floating", pose=vd.Pose((0, 0, 1)))
        m.joint("hinge", "dock", "fin", kind="revolute", pose=vd.Pose((0.5, 0, 0)))
        sim = vd.Simulation(vd.World().place(m, fixed=True))
        sim.advance(0.2)
        self.assertAlmostEqual(sim["drone"].pose("probe").position[2], 1 - G * 0.2 * 0.201 / 2, places=9)
        np.testing.assert_allclose(sim["drone"].pose("dock").position, 0)


class Joints(unittest.TestCase):
    def slider(self, **joint: object) -> vd.Simulation:
        m = vd.Model("rail").link("post").link("cart", vd.Box((0.1, 0.1, 0.1)), mass=2)
        m.joint("slide", "post", "cart", kind="prismatic", axis=(1, 0, 0), **joint)  # type: ignore[arg-type]
        return vd.Simulation(vd.World().place(m.motor("slide"), fixed=True))

    def test_damping_decays_as_it_should(self) -> None:
        """m·v̇ = −c·v taken at the end of the step: v = v₀·(1 + c·h/m)⁻ⁿ."""
        sim = self.slider(damping=5.0)
        sim["rail"].velocities = [1.0]
        sim.advance(0.4)
        self.assertAlmostEqual(sim["rail"].velocities[0], (1 + 5e-3 / 2) ** -400, places=9)
        self.assertAlmostEqual(sim["rail"].velocities[0], math.exp(-1), delta=1e-3)

    def test_friction_holds_and_slides(self) -> None:
        """Coulomb friction of 10 N: 9.9 N do not move the cart, 14 N accelerate it by (14 − 10)/2."""
        for force, speed in ((9.9, 0.0), (-9.9, 0.0), (14.0, 2.0), (-14.0, -2.0)):
            with self.subTest(force=force):
                sim = self.slider(friction=10.0)
                sim["rail"].command("slide", effort=force)
                sim.advance(1)
                self.assertAlmostEqual(sim["rail"].velocities[0], speed, places=6)
                if speed == 0.0:
                    self.assertLess(abs(sim["rail"].positions[0]), 1e-9)

    def test_stop_holds_without_bounce(self) -> None:
        sim = self.slider(limits=(-0.2, 0.3))
        for force, stop in ((40.0, 0.3), (-40.0, -0.2)):
            with self.subTest(force=force):
                sim["rail"].command("slide", effort=force)
                sim.advance(2)
                self.assertAlmostEqual(sim["rail"].positions[0], stop, places=6)
                self.assertAlmostEqual(sim["rail"].velocities[0], 0.0, places=6)
        sim["rail"].command("slide", effort=0.0)
        sim["rail"].velocities = [1.0]
        sim.advance(0.4)  # 40 cm to go, 50 are there: it is under way, and no stop pulls at it
        self.assertAlmostEqual(sim["rail"].positions[0], 0.2, places=6)

    def test_state_can_be_set(self) -> None:
        sim = self.slider()
        sim["rail"].positions = [0.25]
        self.assertAlmostEqual(sim["rail"].pose("cart").position[0], 0.25)
        for bad in ([1, 2], [math.nan]):
            with self.assertRaisesRegex(vd.VeldrainError, "1 finite numbers"):
                sim["rail"].positions = bad


class Motors(unittest.TestCase):
    def drum(self, mode: str, **gains: object) -> vd.Simulation:
        """A disc of 0.1 kg·m² on a vertical axis."""
        m = vd.Model("drum").link("post").link("disc", mass=1, inertia=np.diag([0.06, 0.06, 0.1]), com=(0, 0, 0))
        m.joint("turn", "post", "disc", kind="continuous").motor("turn", mode, **gains)  # type: ignore[arg-type]
        return vd.Simulation(vd.World().place(m, fixed=True))

    def test_wrong_commands(self) -> None:
        sim = self.drum("velocity", damping=1)
        for words, command in (
            ("a command of effort to a motor in velocity mode", {"effort": 1}),
            ("position and velocity", {"velocity": 1, "position": 1}),
            ("a command of nothing", {}),
            ("'3 m' is not an angular speed", {"velocity": "3 m"}),
            ("is not a number", {"velocity": math.nan}),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(vd.VeldrainError, words):
                sim["drum"].command("turn", **command)  # type: ignore[arg-type]
        with self.assertRaisesRegex(vd.VeldrainError, "did you mean 'turn'"):
            sim["drum"].command("trun", velocity=1)


class Bookkeeping(unittest.TestCase):
    def pile(self) -> vd.Simulation:
        w = vd.World().ground()
        for k in range(4):
            w.body(
                f"box{k}",
                vd.Box((0.2, 0.2, 0.2)),
                mass=1,
                pose=vd.Pose((0.03 * k, 0.02 * k, 0.2 + 0.25 * k), yaw=0.2 * k),
            )
        return vd.Simulation(w)

    def test_snapshot_continues_to_the_same_bits(self) -> None:
        sim = self.pile()
        sim.advance(0.35)
        snapshot = sim.snapshot()
        states = []
        for _ in range(2):
            sim.advance(0.5)
            states.append(engine_of(sim).plant.q.tobytes() + engine_of(sim).plant.speeds.tobytes())
            sim.restore(snapshot)
        self.assertEqual(states[0], states[1])
        self.assertAlmostEqual(sim.time, 0.35)

    def test_one_advance_or_many(self) -> None:
        one, many = self.pile(), self.pile()
        one.advance(0.6)
        for _ in range(60):
            many.advance(0.01)
        self.assertEqual(engine_of(one).plant.q.tobytes(), engine_of(many).plant.q.tobytes())

    def test_reset(self) -> None:
        sim = self.pile()
        sim.advance(0.5)
        first = engine_of(sim).plant.q.tobytes()
        sim.reset()
        self.assertEqual(sim.time, 0)
        sim.advance(0.5)
        self.assertEqual(first, engine_of(sim).plant.q.tobytes())

    def test_room_grows_with_the_contacts(self) -> None:
        """Far more contacts than there is room for at first; the result is that of a run that had the room."""
        w = vd.World().ground()
        for k in range(36):
            w.body(f"box{k}", vd.Box((0.2, 0.2, 0.2)), mass=1, pose=vd.Pose((0.3 * (k % 6), 0.3 * (k // 6), 0.1003)))
        sim = vd.Simulation(w)
        before = len(engine_of(sim).plant.contacts)
        sim.advance(0.1)
        self.assertEqual(len(sim.contacts()), 36 * 4)
        self.assertGreater(len(engine_of(sim).plant.contacts), before)
        again = vd.Simulation(w)
        engine_of(again).plant = engine_of(sim).plant._replace(
            **{
                n: getattr(engine_of(again).plant, n)
                for n in ("counts", "trees", "nodes", "dofs", "q", "speeds", "geoms", "order")
            }
        )
        again.advance(0.1)
        self.assertEqual(engine_of(sim).plant.q.tobytes(), engine_of(again).plant.q.tobytes())

    def test_not_finite_names_time_and_joint(self) -> None:
        m = vd.Model("drum").link("post").link("disc", mass=1e-9, inertia=np.eye(3) * 1e-9, com=(0, 0, 0))
        m.joint("turn", "post", "disc", kind="continuous").motor("turn")
        sim = vd.Simulation(vd.World().place(m, fixed=True))
        sim.advance(0.01)
        sim["drum"].command("turn", effort=1e308)
        with self.assertRaisesRegex(vd.VeldrainError, r"drum/turn: the velocity is no longer finite at 0.01 s"):
            sim.advance(1)
        self.assertTrue(np.isfinite(sim["drum"].positions).all())

    def test_times_that_are_no_whole_steps(self) -> None:
        sim = self.pile()
        with self.assertRaisesRegex(
            vd.VeldrainError, r"0.0015 s is not a whole number of steps of 1 ms; use 1 ms or 2 ms"
        ):
            sim.advance(0.0015)

    def test_unknown_names(self) -> None:
        sim = self.pile()
        for act in (lambda: sim["boxx0"], lambda: sim.push("box9", (0, 0, 1)), lambda: sim["box0"].read("eye")):
            with self.assertRaisesRegex(vd.VeldrainError, "^no "):
                act()
        with self.assertRaisesRegex(vd.VeldrainError, "fixed in the world"):
            sim.push("ground", (0, 0, 1))


class Pushes(unittest.TestCase):
    def test_what_they_give_adds_up_however_they_are_told(self) -> None:
        """Of a cube of side 1 m and 1 kg (J = 1/6 kg·m²): v = Σ F·t/m, ω = Σ (M + r × F)·t/J."""
        w = vd.World(gravity=(0, 0, 0)).body("cube", vd.Box((1, 1, 1)), mass=1.0)
        for many in (1, 40):  # more than there are rows for at first
            sim = vd.Simulation(w)
            cube = sim["cube"]
            for _ in range(many):
                cube.push((0.0, 1.0, 0.0))
                cube.push(np.array((0, 1, 0)), at=np.array((0.1, 0, 0)), torque=(0, 0, "20 mN*m"))
                sim.push("cube", (0, "1 N", 0), at=[0, 0, "10 cm"], lasting="2 ms")
            sim.advance("1 ms")
            v, spin = cube.velocity()
            with self.subTest(many):
                np.testing.assert_allclose(v, (0, many * 3e-3, 0), atol=1e-12)
                np.testing.assert_allclose(spin, (-many * 6e-4, 0, many * 7.2e-4), atol=1e-7 * many**2)
                sim.advance("5 ms")
                np.testing.assert_allclose(cube.velocity()[0], (0, many * 4e-3, 0), atol=1e-12)
        for told in ((1, 0), "up", 5, (1, math.nan, 0), (1, 0, "3 kg")):
            with self.subTest(told), self.assertRaisesRegex(vd.VeldrainError, "^cube: "):
                cube.push(told)  # type: ignore[arg-type]


if __name__ == "__main__":
    unittest.main()
