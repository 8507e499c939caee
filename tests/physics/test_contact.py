"""Contact, friction, rolling and impact against closed forms; shapes against each other."""

from __future__ import annotations

import itertools
import math
import unittest

import numpy as np
from scipy.spatial.transform import Rotation

import veldrain as vd
from veldrain.model import Shape

G = 9.81
CUBE = vd.Box((0.2, 0.2, 0.2))


def slope(shape: Shape, angle: float, friction: float, height: float, turn: Rotation | None = None) -> vd.Simulation:
    """A body on an incline about y: gravity leans instead of the ground, which is the same and easier to read."""
    surface = vd.Surface(friction=friction)
    w = vd.World(gravity=(G * math.sin(angle), 0, -G * math.cos(angle))).ground(surface=surface)
    w.body("body", shape, mass=2, pose=vd.Pose((0, 0, height), rotation=turn), surface=surface)
    return vd.Simulation(w)


class Sliding(unittest.TestCase):
    def stopping(self, heading: float, mass: float = 1.0, friction: float = 0.5) -> float:
        surface = vd.Surface(friction=friction)
        w = vd.World().ground(surface=surface)
        velocity = (2 * math.cos(heading), 2 * math.sin(heading), 0)
        w.body(
            "block",
            vd.Box((0.3, 0.3, 0.05)),
            mass=mass,
            pose=vd.Pose((0, 0, 0.025)),
            velocity=velocity,
            surface=surface,
        )
        sim = vd.Simulation(w)
        sim.advance(1.5)
        self.assertLess(np.linalg.norm(sim["block"].velocity()[0]), 1e-9)
        return float(np.linalg.norm(sim["block"].pose().position[:2]))

    def test_stopping_distance_in_all_directions(self) -> None:
        """v²/(2µg) within 0.5 %, whatever the direction and the mass: the friction cone is round."""
        found = [self.stopping(k * math.pi / 8) for k in range(16)] + [self.stopping(0.3, mass=2.0)]
        exact = 2**2 / (2 * 0.5 * G)
        self.assertLess(max(abs(d / exact - 1) for d in found), 0.005)
        self.assertLess(max(found) / min(found) - 1, 0.005)

    def test_slope(self) -> None:
        """tan 20° = 0.364: with friction 0.4 it stays to a hundredth of a millimetre, with 0.3 it slides."""
        angle = math.radians(20)
        sim = slope(CUBE, angle, 0.4, 0.1)
        sim.advance(10)
        self.assertLess(np.linalg.norm(sim["body"].pose().position - (0, 0, 0.1)), 1e-5)
        sim = slope(CUBE, angle, 0.3, 0.1)
        sim.advance(1)
        exact = G * (math.sin(angle) - 0.3 * math.cos(angle))
        self.assertAlmostEqual(sim["body"].velocity()[0][0] / exact, 1.0, delta=0.005)

    def test_friction_of_a_pair_is_the_geometric_mean(self) -> None:
        w = vd.World().ground(surface=vd.Surface(friction=0.9))
        w.body(
            "block",
            CUBE,
            mass=1,
            pose=vd.Pose((0, 0, 0.1)),
            velocity=(1, 0, 0),
            surface=vd.Surface(friction=0.4),
        )
        sim = vd.Simulation(w)
        sim.advance(0.1)
        found = sim.contacts()
        self.assertAlmostEqual(found["friction_force"].sum() / found["normal_force"].sum(), 0.6, places=9)
        self.assertAlmostEqual(found["normal_force"].sum(), G, places=4)
        self.assertEqual(set(found["link_a"]), {"block"})
        self.assertEqual(set(found["link_b"]), {"ground"})

    def test_patch_changes_the_grip_inside_it_only(self) -> None:
        w = vd.World().ground(surface=vd.Surface(friction=1))
        w.patch("ice", (1, 9, 0.1), pose=vd.Pose((1.5, 0, 0)), surface=vd.Surface(friction=0))
        w.body(
            "puck",
            vd.Box((0.02, 0.02, 0.02)),
            mass=1,
            pose=vd.Pose((0.6, 0, 0.01)),
            velocity=(3, 0, 0),
            surface=vd.Surface(1),
        )
        sim = vd.Simulation(w)
        speeds = {}
        while sim.time < 1.5:
            sim.advance(0.01)
            speeds[round(float(sim["puck"].pose().position[0]), 1)] = float(sim["puck"].velocity()[0][0])
        entry = math.sqrt(9 - 2 * G * 0.4)
        self.assertAlmostEqual(speeds[1.5], entry, delta=0.05)
        self.assertAlmostEqual(speeds[1.1], speeds[1.9], delta=1e-6)  # nothing is lost on the ice
        self.assertAlmostEqual(sim["puck"].pose().position[0], 2 + entry**2 / (2 * G), delta=0.05)


class Rolling(unittest.TestCase):
    def test_down_an_incline(self) -> None:
        """a = g·sin θ/(1 + k), k = I/(m·r²): 2/5 for a ball, 1/2 for a cylinder."""
        across = Rotation.from_euler("x", 90, degrees=True)
        for shape, k, turn in ((vd.Sphere(0.1), 0.4, None), (vd.Cylinder(0.1, 0.2), 0.5, across)):
            with self.subTest(shape=shape):
                angle = math.radians(15)
                sim = slope(shape, angle, 0.8, 0.1, turn)
                sim.advance(1)
                linear, angular = sim["body"].velocity()
                exact = G * math.sin(angle) / (1 + k)
                self.assertAlmostEqual(linear[0] / exact, 1.0, delta=0.005)
                self.assertAlmostEqual(angular[1] * 0.1, linear[0], places=6)
                self.assertLess(abs(sim["body"].pose().position[2] - 0.1), 1e-6)

    def test_change_to_slipping(self) -> None:
        """A ball slips above tan θ = 3.5·µ."""
        for factor, slips in ((0.98, False), (1.02, True)):
            with self.subTest(factor=factor):
                sim = slope(vd.Sphere(0.1), math.atan(3.5 * 0.1 * factor), 0.1, 0.1)
                sim.advance(1)
                linear, angular = sim["body"].velocity()
                self.assertEqual(linear[0] - 0.1 * angular[1] > 0.01, slips)

    def test_rolling_resistance(self) -> None:
        """A moment k·N against the rolling: a = −g·(k/r)/(1 + 2/5) for a ball on level ground."""
        surface = vd.Surface(friction=0.8, rolling="5 mm")
        w = vd.World().ground(surface=surface)
        w.body(
            "ball",
            vd.Sphere(0.1),
            mass=3,
            pose=vd.Pose((0, 0, 0.1)),
            velocity=(1, 0, 0),
            spin=(0, 10, 0),
            surface=surface,
        )
        sim = vd.Simulation(w)
        sim.advance(1)
        self.assertAlmostEqual(1 - sim["ball"].velocity()[0][0], G * 0.05 / 1.4, delta=0.002)
        sim.advance(4)
        self.assertLess(np.linalg.norm(sim["ball"].velocity()[1]), 1e-6)

    def test_driven_wheel(self) -> None:
        """A wheel of 2 kg, r = 0.1 m, under a torque: rolls below the grip, and slips above it at µ·N."""
        for torque, slips in ((1.0, False), (4.0, True)):
            with self.subTest(torque=torque):
                grippy = vd.Surface(friction=1.0)
                lying = vd.Pose((0, 0, 0.1), rpy=("90 deg", 0, 0))
                w = (
                    vd.World()
                    .ground(surface=grippy)
                    .body("wheel", vd.Cylinder(0.1, 0.2), mass=2, pose=lying, surface=grippy)
                )
                sim = vd.Simulation(w)
                sim.push("wheel", (0, 0, 0), torque=(0, torque, 0), lasting=0.2)
                sim.advance(0.2)
                force = 2 * sim["wheel"].velocity()[0][0] / 0.2
                # Rolling: torque = I·a/r + r·F with F = m·a; slipping: F = µ·N.
                self.assertAlmostEqual(force, 2 * G if slips else torque / 0.1 * 2 / 3, delta=0.05)


class Impact(unittest.TestCase):
    def test_heights_of_a_bouncing_ball(self) -> None:
        """Each top is e² times the last; e = 0 does not bounce."""
        for e in (0.0, 0.3, 0.6, 0.9):
            with self.subTest(e=e):
                w = vd.World().ground()
                w.body(
                    "ball",
                    vd.Sphere(0.05),
                    mass=1,
                    pose=vd.Pose((0, 0, 1.05)),
                    surface=vd.Surface(restitution=e),
                )
                sim = vd.Simulation(w)
                tops, before = [1.0], 0.0
                while sim.time < 2.5:
                    sim.advance(1e-3)
                    speed = sim["ball"].velocity()[0][2]
                    if before > 0 >= speed and sim["ball"].pose().position[2] > 0.06:
                        tops.append(float(sim["ball"].pose().position[2]) - 0.05)
                    before = speed
                self.assertEqual(len(tops) > 1, e > 0)
                for high, low in itertools.pairwise(tops[:4]):
                    if low > 0.01:
                        self.assertAlmostEqual(low / high, e * e, delta=0.01 * e * e + 1e-3)
                if e == 0:
                    self.assertAlmostEqual(sim["ball"].pose().position[2], 0.05, places=9)

    def test_momentum_and_energy_of_colliding_bodies(self) -> None:
        """Five spheres thrown at each other without gravity: momentum to rounding, energy never grows."""
        for e in (0.0, 0.5, 1.0):
            with self.subTest(e=e):
                random = np.random.default_rng(2)
                w = vd.World(gravity=(0, 0, 0))
                places = np.array([(0, 0, 0), (1, 0, 0), (-1, 0.1, 0), (0, 1, 0.05), (0.1, -1, 0)])
                for k, place in enumerate(places):
                    v = -1.5 * place + random.normal(0, 0.05, 3)
                    w.body(
                        f"b{k}",
                        vd.Sphere(0.15),
                        mass=1 + k,
                        pose=vd.Pose(place),
                        velocity=v,
                        surface=vd.Surface(0, e),
                    )
                sim = vd.Simulation(w)
                masses = 1 + np.arange(5)

                def momentum(sim: vd.Simulation = sim, masses: np.ndarray = masses) -> np.ndarray:
                    return sum(m * sim[f"b{k}"].velocity()[0] for k, m in enumerate(masses))

                start, energy = momentum(), sim.energy()[0]
                touched = False
                for _ in range(100):
                    sim.advance(0.01)
                    touched = touched or len(sim.contacts()) > 0
                    self.assertLessEqual(sim.energy()[0], energy * (1 + 1e-9))
                    energy = sim.energy()[0]
                self.assertTrue(touched)
                np.testing.assert_allclose(momentum(), start, rtol=1e-10, atol=1e-10)

    def test_nothing_passes_through_a_thin_wall(self) -> None:
        """A 5 cm probe at 30 m/s moves 3 cm a step; the wall is 1 cm."""
        for offset in np.linspace(0, 0.03, 7):
            with self.subTest(offset=offset):
                w = vd.World(gravity=(0, 0, 0)).obstacle("wall", vd.Box((0.01, 2, 2)), pose=vd.Pose((1, 0, 0)))
                w.body("probe", vd.Sphere(0.025), mass=0.2, pose=vd.Pose((offset, 0.1, 0)), velocity=(30, 0, 0))
                sim = vd.Simulation(w)
                sim.advance(0.1)
                self.assertLessEqual(sim["probe"].pose().position[0], 1 - 0.005 - 0.025 + 1e-6)


class Resting(unittest.TestCase):
    def test_every_shape_on_ground_and_on_a_table(self) -> None:
        """Each shape in its stable poses rests where geometry says, carries its weight, and stays."""
        flat, lying = Rotation.identity(), Rotation.from_euler("x", 90, degrees=True)
        cases = [
            (CUBE, 0.1, flat, 4), (vd.Sphere(0.1), 0.1, flat, 1), (vd.Cylinder(0.1, 0.3), 0.15, flat, 4),
            (vd.Cylinder(0.1, 0.3), 0.1, lying, 2), (vd.Capsule(0.1, 0.3), 0.1, lying, 2),
        ]  # fmt: skip
        for (shape, height, turn, points), table in itertools.product(cases, (0.0, 0.5)):
            with self.subTest(shape=shape, table=table):
                w = vd.World()
                if table:
                    w.obstacle("table", vd.Box((2, 2, 0.2)), pose=vd.Pose((0.3, 0.2, table - 0.1)))
                else:
                    w.ground()
                w.body("body", shape, mass=2, pose=vd.Pose((0, 0, table + height + 0.01), rotation=turn))
                sim = vd.Simulation(w)
                sim.advance(1)
                settled = sim["body"].pose()
                self.assertAlmostEqual(settled.position[2], table + height, delta=1e-5)
                sim.advance(3)
                self.assertLess(np.linalg.norm(sim["body"].pose().position - settled.position), 1e-5)
                self.assertLess(np.linalg.norm(sim["body"].velocity()), 1e-4)
                contacts = sim.contacts()
                self.assertEqual(len(contacts), points)
                self.assertAlmostEqual(contacts["normal_force"].sum(), 2 * G, delta=1e-3)

    def test_stacks(self) -> None:
        """Six boxes, and a box of 20 kg on one of 1 kg, stand still."""
        for masses in ([1.0] * 6, [1.0, 20.0]):
            with self.subTest(masses=masses):
                w = vd.World().ground()
                for k, mass in enumerate(masses):
                    w.body(f"box{k}", CUBE, mass=mass, pose=vd.Pose((0, 0, 0.1 + 0.2 * k)))
                sim = vd.Simulation(w)
                sim.advance(4)
                for k in range(len(masses)):
                    drift = sim[f"box{k}"].pose().position - (0, 0, 0.1 + 0.2 * k)
                    self.assertLess(np.linalg.norm(drift), 1e-3)

    def test_overlap_is_undone_without_a_jump(self) -> None:
        """A box that starts 3 cm in the ground comes up, and no higher."""
        w = vd.World().ground().body("box", CUBE, mass=1, pose=vd.Pose((0, 0, 0.07)))
        sim = vd.Simulation(w)
        highest = 0.0
        for _ in range(100):
            sim.advance(0.01)
            highest = max(highest, float(sim["box"].pose().position[2]))
        self.assertAlmostEqual(sim["box"].pose().position[2], 0.1, delta=1e-5)
        self.assertLess(highest, 0.1 + 1e-4)

    def test_box_tips_over_its_edge(self) -> None:
        """Held back at its foot, a box tips when the push at its top has more moment than its weight."""
        for force, tips in ((0.9, False), (1.1, True)):
            with self.subTest(force=force):
                w = (
                    vd.World()
                    .ground(surface=vd.Surface(1))
                    .obstacle("kerb", vd.Box((0.1, 1, 0.02)), pose=vd.Pose((0.15, 0, 0.01)))
                )
                w.body("box", CUBE, mass=2, pose=vd.Pose((0, 0, 0.1)), surface=vd.Surface(friction=0))
                sim = vd.Simulation(w)
                # Over the kerb's top edge, 2 cm up: the push's arm is 18 cm, the weight's 10 cm.
                sim.push("box", (force * 2 * G * 0.1 / 0.18, 0, 0), at=(0, 0, 0.1), lasting=0.4)
                sim.advance(0.4)
                self.assertEqual(abs(sim["box"].pose().rpy[1]) > 0.02, tips)


class Geometry(unittest.TestCase):
    def test_clearance_against_closed_forms(self) -> None:
        """Gaps between turned shapes, far apart and close."""
        turned = Rotation.from_euler("xyz", (0.3, -0.4, 0.9))
        corner = 0.1 * math.sqrt(3)
        to_corner = Rotation.align_vectors([[0, 0, 1.0]], [np.ones(3) / math.sqrt(3)])[0]
        cases = [
            (vd.Sphere(0.1), None, vd.Sphere(0.2), (1, 1, 0), None, math.sqrt(2) - 0.3),
            (vd.Sphere(0.1), turned, CUBE, (0.9, 0, 0), None, 0.7),
            (CUBE, None, CUBE, (0.5, 0.6, 0), None, math.hypot(0.3, 0.4)),
            (CUBE, to_corner, vd.Box((4, 4, 0.2)), (0, 0, 1), None, 0.9 - corner),
            (vd.Cylinder(0.1, 0.4), None, CUBE, (0, 0.7, 0), None, 0.5),
            (vd.Cylinder(0.1, 0.4), None, vd.Sphere(0.1), (0.4, 0, 0.6), None, math.hypot(0.3, 0.4) - 0.1),
            (
                vd.Capsule(0.1, 0.4),
                None,
                vd.Capsule(0.1, 0.4),
                (0.3, 0, 0.7),
                None,
                math.hypot(0.3, 0.3) - 0.2,
            ),
            (
                vd.Cylinder(0.1, 0.4),
                None,
                vd.Cylinder(0.1, 0.4),
                (0, 1, 0),
                Rotation.from_euler("x", math.pi / 2),
                0.7,
            ),
        ]
        for one, turn_a, other, place, turn_b, exact in cases:
            with self.subTest(one=one, other=other):
                w = vd.World().obstacle("a", one, pose=vd.Pose(rotation=turn_a))
                w.body("b", other, mass=1, pose=vd.Pose(place, rotation=turn_b))
                engine = vd.Simulation(w).engine
                self.assertAlmostEqual(engine.clearance(engine.geoms_of("a"), engine.geoms_of("b")), exact, places=7)

    def test_dropped_shapes_do_not_sink_or_fly(self) -> None:
        """A heap of every shape in wild poses comes to rest above the ground, with less energy than before."""
        random = np.random.default_rng(8)
        shapes = [
            CUBE,
            vd.Sphere(0.1),
            vd.Cylinder(0.1, 0.2),
            vd.Capsule(0.07, 0.15),
            vd.Box((0.4, 0.1, 0.1)),
        ]
        w = vd.World().ground()
        for k in range(15):
            place = (0.12 * random.normal(), 0.12 * random.normal(), 0.3 + 0.3 * k)
            w.body(
                f"b{k}",
                shapes[k % 5],
                mass=random.uniform(0.5, 3),
                pose=vd.Pose(place, rotation=Rotation.random(random_state=random)),
            )
        sim = vd.Simulation(w)
        energy = sum(sim.energy())
        for _ in range(25):
            sim.advance(0.1)
            now = sum(sim.energy())
            self.assertLess(now, energy + 0.02)
            energy = now
        heights = [float(sim[f"b{k}"].pose().position[2]) for k in range(15)]
        self.assertGreater(min(heights), 0.045)
        self.assertLess(max(heights), 1.0)
        self.assertGreater(sim.contacts()["gap"].min(), -2e-3)

    def test_links_joined_by_a_joint_do_not_collide_and_others_do(self) -> None:
        m = vd.Model("chain").link("a", CUBE, mass=1).link("b", CUBE, mass=1).link("c", CUBE, mass=1)
        m.joint("ab", "a", "b", kind="revolute", pose=vd.Pose((0.15, 0, 0)), axis=(0, 1, 0))
        m.joint("bc", "b", "c", kind="prismatic", pose=vd.Pose((-0.15, 0, 0.15)), axis=(0, 0, 1))
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m))
        sim.advance(1e-3)
        met = {tuple(sorted(pair)) for pair in sim.contacts()[["link_a", "link_b"]].itertuples(index=False)}
        self.assertEqual(met, {("chain/a", "chain/c")})


if __name__ == "__main__":
    unittest.main()
