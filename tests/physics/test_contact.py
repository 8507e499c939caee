"""Contact, friction, rolling and impact against closed forms; shapes against each other."""

from __future__ import annotations

import itertools
import math
import unittest

import numpy as np
from scipy.optimize import brentq
from scipy.spatial.transform import Rotation

import veldrain as vd
from veldrain.simulation import engine_of

G = 9.81
CUBE = vd.Box((0.2, 0.2, 0.2))


def prism(side: float = 0.2, height: float = 0.1) -> tuple[np.ndarray, list[tuple[int, int, int]]]:
    """Corners and triangles of a box."""
    corners = np.array(list(itertools.product((-side / 2, side / 2), (-side / 2, side / 2), (-height / 2, height / 2))))
    quads = ((0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3))
    return corners, [t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))]


class Sliding(unittest.TestCase):
    def test_friction_of_a_pair_is_the_geometric_mean(self) -> None:
        w = vd.World().ground(surface=vd.Surface(friction=0.9))
        w.body("block", CUBE, mass=1, pose=vd.Pose((0, 0, 0.1)), velocity=(1, 0, 0), surface=vd.Surface(friction=0.4))
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

    def test_symmetric_things_slide_symmetrically(self) -> None:
        """Six wheels that turn on the spot bear alike, and turn as fast as Coulomb friction on each of them says."""
        half, middle, radius, speed = 0.35, 0.26, 0.1, 2.6
        m = vd.Model("six").link("deck", vd.Box((0.9, 0.4, 0.12)), mass=20)
        for k, x in enumerate((half, 0.0, -half)):
            for side, y in (("l", middle), ("r", -middle)):
                wheel, axle = f"{side}{k}", f"{side}{k}_axle"
                m.link(wheel, vd.Part(vd.Cylinder(radius, 0.01), pose=vd.Pose(rpy=("90 deg", 0, 0))), mass=0.5)
                m.joint(axle, "deck", wheel, kind="continuous", axis=(0, 1, 0), pose=vd.Pose((x, y, -0.03)))
                m.motor(axle, mode="velocity", damping=200, limit=400)
        sim = vd.Simulation(vd.World().ground().place(m, "six", pose=vd.Pose((0, 0, 0.13))))
        six, tally = sim["six"], sim.tally()
        for axle in m.motors:
            six.command(axle, velocity=-speed if axle.startswith("l") else speed)
        sim.advance("1 s")
        tally.take()
        sim.advance("0.2 s")
        loads: dict[str, float] = {}
        found = tally.take()
        for sides, force in zip(found.sides, found.force, strict=True):
            wheel = next(name for name in sides if name != "ground")
            loads[wheel] = loads.get(wheel, 0.0) + abs(float(force[2]))
        np.testing.assert_allclose(list(loads.values()), [23 * G / 6] * 6, rtol=1e-3)

        def moment(rate: float) -> float:  # of friction about the middle, but for its size, of wheels on one side
            found = 0.0
            for x in (half, 0.0, -half):
                along, across = rate * middle - radius * speed, rate * x
                found -= (middle * along + x * across) / math.hypot(along, across)
            return found

        self.assertAlmostEqual(six.velocity()[1][2], brentq(moment, 1e-3, radius * speed / middle - 1e-6), delta=0.004)
        self.assertLess(np.abs(six.velocity()[0]).max(), 1e-5)


class Rolling(unittest.TestCase):
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


class Impact(unittest.TestCase):
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
            (CUBE, 0.1, flat, 4),
            (vd.Sphere(0.1), 0.1, flat, 1),
            (vd.Cylinder(0.1, 0.3), 0.15, flat, 4),
            (vd.Cylinder(0.1, 0.3), 0.1, lying, 2),
            (vd.Capsule(0.1, 0.3), 0.1, lying, 2),
            (vd.Cone(0.1, 0.2), 0.1, flat, 4),
            (vd.Ellipsoid((0.15, 0.12, 0.08)), 0.08, flat, 1),
            (vd.Mesh.of(*prism()), 0.05, flat, 4),
        ]
        floors = ("ground", "table", "hull", "triangles", "heights")
        for (shape, height, turn, points), floor in itertools.product(cases, floors):
            with self.subTest(shape=shape, floor=floor):
                w, table = vd.World(), 0.5
                if floor == "ground":
                    w.ground(height=table)
                elif floor == "table":
                    w.obstacle("table", vd.Box((2, 2, 0.2)), pose=vd.Pose((0.3, 0.2, table - 0.1)))
                elif floor == "heights":
                    w.obstacle("table", vd.HeightField(np.full((11, 11), table), "21 cm"))
                else:
                    mesh = vd.Mesh.of(*prism(2.0, 0.2), collide=floor)
                    w.obstacle("table", mesh, pose=vd.Pose((0.3, 0.2, table - 0.1)))
                w.body("body", shape, mass=2, pose=vd.Pose((0, 0, table + height + 0.01), rotation=turn))
                sim = vd.Simulation(w)
                sim.advance(1)
                settled = sim["body"].pose()
                self.assertAlmostEqual(settled.position[2], table + height, delta=1e-5)
                sim.advance(3)
                self.assertLess(np.linalg.norm(sim["body"].pose().position - settled.position), 1e-5)
                self.assertLess(np.linalg.norm(sim["body"].velocity()), 1e-4)
                contacts = sim.contacts()
                if floor not in ("triangles", "heights"):
                    self.assertEqual(len(contacts), points)
                self.assertAlmostEqual(contacts["normal_force"].sum(), 2 * G, delta=1e-3)

    def test_rolling_over_seams_of_triangles(self) -> None:
        """A ball rolls over a floor of 2000 triangles as over a plane: nothing catches on the seams."""
        w = vd.World().obstacle("floor", vd.HeightField(np.zeros((61, 21)), "7 cm"))
        w.body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((-1.9, 0.013, 0.1)), velocity=(1, 0.1, 0), spin=(-1, 10, 0))
        w.body(
            "puck",
            vd.Box((0.2, 0.2, 0.1)),
            mass=1,
            pose=vd.Pose((-1.9, -0.4, 0.05)),
            surface=vd.Surface(friction=0),
            velocity=(1, 0.1, 0),
        )
        sim = vd.Simulation(w)
        sim.advance(3)
        for name, height in (("ball", 0.1), ("puck", 0.05)):
            np.testing.assert_allclose(sim[name].velocity()[0], (1, 0.1, 0), atol=1e-6)
            self.assertAlmostEqual(sim[name].pose().position[2], height, places=6)

    def test_soft_ground_gives_way(self) -> None:
        """A body sinks by weight over stiffness, and swings in as a spring with a damper does."""
        silt = vd.Surface(stiffness="4 kN/m", damping="80 N*s/m")
        w = vd.World().ground(surface=silt).body("box", CUBE, mass=3, pose=vd.Pose((0, 0, 0.1)))
        sim = vd.Simulation(w)
        decay, k = 80 / 6, 4000 / 3
        rate = math.sqrt(k - decay**2)
        for _ in range(20):
            sim.advance(0.01)
            t = sim.time
            sunk = 3 * G / 4000 * (1 - math.exp(-decay * t) * (math.cos(rate * t) + decay / rate * math.sin(rate * t)))
            self.assertAlmostEqual(sim["box"].pose().position[2], 0.1 - sunk, delta=3e-4)
        sim.advance(3)
        self.assertAlmostEqual(sim["box"].pose().position[2], 0.1 - 3 * G / 4000, places=7)

    def test_belt_carries(self) -> None:
        """A box on a belt slips at µ·g until it has the belt's speed."""
        w = vd.World().obstacle(
            "belt",
            vd.Box((9, 1, 0.2)),
            pose=vd.Pose((0, 0, -0.1), yaw="90 deg"),
            surface=vd.Surface(0.5, belt=("0.8 m/s", 0, 0)),
        )
        w.body("box", CUBE, mass=1, pose=vd.Pose((0, 0, 0.1)), surface=vd.Surface(0.5))
        sim = vd.Simulation(w)
        sim.advance(0.1)
        np.testing.assert_allclose(sim["box"].velocity()[0], (0, 0.5 * G * 0.1, 0), atol=1e-6)
        sim.advance(0.4)
        np.testing.assert_allclose(sim["box"].velocity()[0], (0, 0.8, 0), atol=1e-6)

    def test_spinning_resistance(self) -> None:
        """A moment k·N against turning about the normal: ω falls by k·m·g/I a second."""
        rough = vd.Surface(torsional="4 mm")
        w = (
            vd.World()
            .ground(surface=rough)
            .body("ball", vd.Sphere(0.1), mass=2, pose=vd.Pose((0, 0, 0.1)), surface=rough, spin=(0, 0, 9))
        )
        sim = vd.Simulation(w)
        sim.advance(0.5)
        self.assertAlmostEqual(9 - sim["ball"].velocity()[1][2], 0.5 * 0.004 * G / (0.4 * 0.01), delta=0.02)

    def test_hull_stands_on_its_faces(self) -> None:
        """A wedge dropped in any pose comes to rest on one of its faces, and its weight is carried."""
        corners = np.array([(0, 0, 0), (0.3, 0, 0), (0, 0.2, 0), (0, 0, 0.15)])
        wedge = vd.Mesh.of(corners, [(0, 2, 1), (0, 1, 3), (0, 3, 2), (1, 2, 3)])
        self.assertAlmostEqual(wedge.volume, 0.3 * 0.2 * 0.15 / 6)
        np.testing.assert_allclose(wedge.centre, corners.mean(axis=0))
        random, normals = (
            np.random.default_rng(6),
            np.array([(0, 0, -1), (0, -1, 0), (-1, 0, 0), (1 / 0.3, 5, 1 / 0.15)]),
        )
        normals /= np.linalg.norm(normals, axis=1, keepdims=True)
        for k in range(6):
            with self.subTest(k=k):
                w = vd.World().ground()
                w.body("wedge", wedge, mass=1, pose=vd.Pose((0, 0, 0.4), rotation=Rotation.random(random_state=random)))
                sim = vd.Simulation(w)
                sim.advance(3)
                down = sim["wedge"].pose().rotation.apply(normals)[:, 2].min()
                self.assertAlmostEqual(down, -1.0, places=6)
                self.assertAlmostEqual(sim.contacts()["normal_force"].sum(), G, places=4)

    def test_a_field_is_the_mesh_of_its_triangles(self) -> None:
        """On slopes, edges and holes, from a grid and from a tree of boxes: the same gaps, and the same rest."""
        x = np.linspace(0, 6, 31)
        heights = 0.2 * np.sin(x)[:, None] * np.cos(1.3 * x)[None]
        heights[10:12, 20] = np.nan
        field = vd.HeightField(heights, "20 cm")
        mesh = vd.Mesh.of(field.corners, field.triangles, collide="triangles")
        tilted = vd.Pose((0.1, 0, 0), rpy=(0.05, 0.1, 0.4))
        shapes = {"box": vd.Box((0.5, 0.3, 0.2)), "ball": vd.Sphere(0.15), "rod": vd.Capsule(0.05, 0.5)}
        found: dict[str, list[list[float]]] = {"field": [], "mesh": []}
        for name, ground in (("field", field), ("mesh", mesh)):
            for shape in shapes.values():
                for k, at in enumerate([(0.0, 0.0), (-1.05, 1.0), (2.9, 0.3), (5.0, 0.0)]):
                    world = vd.World().obstacle("hill", ground, pose=tilted, surface=vd.Surface(rolling=0.05))
                    world.body(
                        "it",
                        shape,
                        mass=2,
                        pose=vd.Pose((*at, 0.6), rpy=(0.2, 0.1, 0)),
                        surface=vd.Surface(rolling=0.05),
                    )
                    sim = vd.Simulation(world)
                    engine = engine_of(sim)
                    gap = engine.clearance(engine.geoms_of("it"), engine.geoms_of("hill"))
                    sim.advance("0.6 s" if k < 3 else "1 ms")
                    found[name].append([gap, *sim["it"].pose().position])
        np.testing.assert_allclose(found["field"], found["mesh"], atol=5e-3)
        gaps = {name: np.array(rows)[:, 0] for name, rows in found.items()}
        np.testing.assert_allclose(gaps["field"], gaps["mesh"], atol=1e-9)

    def test_ramp_of_triangles(self) -> None:
        """A box is slowed by a ramp between two levels, a ball that jumps lands on it: none gets below."""
        field = vd.HeightField([[0.0] * 2, [0.0] * 2, [0.1] * 2, [0.1] * 2], 1.0)
        w = vd.World().obstacle("ramp", field)
        w.body(
            "box",
            vd.Box((0.2, 0.2, 0.1)),
            mass=2,
            pose=vd.Pose((-1.2, 0, 0.05)),
            surface=vd.Surface(0.2),
            velocity=(1.5, 0, 0),
        )
        w.body("ball", vd.Sphere(0.05), mass=1, pose=vd.Pose((-1.2, 0.3, 0.5)), velocity=(4, 0, 0))
        sim = vd.Simulation(w)
        sim.advance(0.45)
        self.assertGreater(sim["ball"].pose().position[0], 0.3)
        sim.advance(0.4)
        self.assertLess(sim["box"].velocity()[0][0], 0.6)
        for name, half in (("box", 0.05), ("ball", 0.05)):
            x, _, z = sim[name].pose().position
            self.assertGreater(z, half + np.interp(x, (-0.5, 0.5), (0, 0.1)) - 1e-3)

    def test_pairs_switched_off(self) -> None:
        w = (
            vd.World()
            .ground()
            .body("ghost", CUBE, mass=1, pose=vd.Pose((0, 0, 1)))
            .body("box", CUBE, mass=1, pose=vd.Pose((1, 0, 1)))
        )
        sim = vd.Simulation(w.no_contact("ghost", "ground"))
        sim.advance(1)
        self.assertLess(sim["ghost"].pose().position[2], -3)
        self.assertAlmostEqual(sim["box"].pose().position[2], 0.1, places=5)

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
            (vd.Capsule(0.1, 0.4), None, vd.Capsule(0.1, 0.4), (0.3, 0, 0.7), None, math.hypot(0.3, 0.3) - 0.2),
            (vd.Cylinder(0.1, 0.4), None, vd.Cylinder(0.1, 0.4), (0, 1, 0), Rotation.from_euler("x", math.pi / 2), 0.7),
        ]
        for one, turn_a, other, place, turn_b, exact in cases:
            with self.subTest(one=one, other=other):
                w = vd.World().obstacle("a", one, pose=vd.Pose(rotation=turn_a))
                w.body("b", other, mass=1, pose=vd.Pose(place, rotation=turn_b))
                engine = engine_of(vd.Simulation(w))
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
            vd.Cone(0.1, 0.2),
            vd.Ellipsoid((0.08, 0.1, 0.14)),
            vd.Mesh.of(*prism(0.15)),
        ]
        w = vd.World().ground()
        for k in range(15):
            place = (0.12 * random.normal(), 0.12 * random.normal(), 0.3 + 0.3 * k)
            w.body(
                f"b{k}",
                shapes[k % 8],
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
        self.assertGreater(min(heights), 0.0447)
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
