"""Near points, contact points and pairs against other ways to find them."""

from __future__ import annotations

import itertools
import math
import unittest

import numpy as np
from scipy.optimize import brentq, minimize
from scipy.spatial.transform import Rotation

import veldrain as vd
from tests.physics.test_mechanisms import octahedron
from veldrain.model import Shape
from veldrain.simulation import engine_of

SHAPES: tuple[Shape, ...] = (
    vd.Box((0.3, 0.2, 0.1)),
    vd.Sphere(0.12),
    vd.Cylinder(0.1, 0.3),
    vd.Capsule(0.08, 0.25),
    vd.Box((0.05, 0.05, 0.6)),
    vd.Cylinder(0.25, 0.04),
    vd.Cone(0.15, 0.25),
    vd.Ellipsoid((0.1, 0.15, 0.2)),
    vd.Mesh.of(*octahedron(0.17)),
)


def nearest_inside(shape: Shape, p: np.ndarray) -> np.ndarray:
    """The point of a shape (its own frame) nearest to p."""
    if isinstance(shape, vd.Box):
        half = np.array(shape.size) / 2
        return np.clip(p, -half, half)
    if isinstance(shape, vd.Sphere):
        length = np.linalg.norm(p)
        return p if length <= shape.radius else p * shape.radius / length
    if isinstance(shape, vd.Ellipsoid):
        squares = np.square(shape.half_axes)
        if (p * p / squares).sum() <= 1:
            return p
        t = brentq(lambda t: (squares * p * p / (t + squares) ** 2).sum() - 1, 0, 0.2 * np.linalg.norm(p))
        return squares * p / (t + squares)
    if isinstance(shape, vd.Mesh):  # an octahedron: |x| + |y| + |z| ≤ s
        size = 0.17
        if np.abs(p).sum() <= size:
            return p
        shift = brentq(lambda t: np.maximum(np.abs(p) - t, 0).sum() - size, 0, np.abs(p).max())
        return np.sign(p) * np.maximum(np.abs(p) - shift, 0)
    if isinstance(shape, vd.Cone):  # in the half plane through the axis: a triangle
        half, across = shape.length / 2, float(np.hypot(p[0], p[1]))
        flat, tip, rim = np.array((across, p[2])), np.array((0, half)), np.array((shape.radius, -half))
        if -half <= p[2] and across * shape.length <= shape.radius * (half - p[2]):
            return p
        share = np.clip((flat - tip) @ (rim - tip) / ((rim - tip) @ (rim - tip)), 0, 1)
        choices = (tip + share * (rim - tip), np.array((min(across, shape.radius), -half)))
        r, z = min(choices, key=lambda c: float(np.linalg.norm(flat - c)))
        return np.array((*(p[:2] * (r / across if across > 0 else 0)), z))
    assert isinstance(shape, vd.Cylinder | vd.Capsule)
    z = np.clip(p[2], -shape.length / 2, shape.length / 2)
    if isinstance(shape, vd.Cylinder):
        across = np.hypot(p[0], p[1])
        scale = min(1.0, shape.radius / across) if across > 0 else 1.0
        return np.array([p[0] * scale, p[1] * scale, z])
    rest = p - (0, 0, z)
    length = np.linalg.norm(rest)
    return p if length <= shape.radius else np.array([0, 0, z]) + rest * shape.radius / length


def distance_by_projections(a: Shape, pose_a: vd.Pose, b: Shape, pose_b: vd.Pose) -> float:
    """Distance of two convex shapes by going to and fro between them, polished by a minimiser."""
    point = pose_b.position
    for _ in range(400):
        on_a = pose_a.apply(nearest_inside(a, pose_a.inverse().apply(point)))
        point = pose_b.apply(nearest_inside(b, pose_b.inverse().apply(on_a)))
    return float(np.linalg.norm(on_a - point))


def pair(a: Shape, pose_a: vd.Pose, b: Shape, pose_b: vd.Pose) -> vd.Simulation:
    return vd.Simulation(vd.World(gravity=(0, 0, 0)).obstacle("a", a, pose=pose_a).body("b", b, mass=1, pose=pose_b))


class Distances(unittest.TestCase):
    def test_every_pair_in_random_poses(self) -> None:
        random = np.random.default_rng(12)
        for a, b in itertools.combinations_with_replacement(SHAPES, 2):
            with self.subTest(a=a, b=b):
                for _ in range(2):
                    pose_a = vd.Pose(random.uniform(-0.1, 0.1, 3), rotation=Rotation.random(random_state=random))
                    away = Rotation.random(random_state=random).apply((random.uniform(0.5, 0.9), 0, 0))
                    pose_b = vd.Pose(away, rotation=Rotation.random(random_state=random))
                    engine = engine_of(pair(a, pose_a, b, pose_b))
                    found = engine.clearance(engine.geoms_of("a"), engine.geoms_of("b"))
                    exact = distance_by_projections(a, pose_a, b, pose_b)
                    if exact > 1e-6:
                        self.assertAlmostEqual(found, exact, delta=2e-3 * exact + 1e-7)  # their way is slow to end
                        self.assertLess(found, exact + 1e-7)  # going to and fro comes from above

    def test_it_does_not_matter_which_comes_first(self) -> None:
        random = np.random.default_rng(13)
        for a, b in itertools.combinations(SHAPES, 2):
            with self.subTest(a=a, b=b):
                pose_a = vd.Pose(rotation=Rotation.random(random_state=random))
                pose_b = vd.Pose((0.6, 0.1, -0.2), rotation=Rotation.random(random_state=random))
                gaps = []
                for sim in (pair(a, pose_a, b, pose_b), pair(b, pose_b, a, pose_a)):
                    engine = engine_of(sim)
                    gaps.append(engine.clearance(engine.geoms_of("a"), engine.geoms_of("b")))
                self.assertAlmostEqual(gaps[0], gaps[1], places=9)

    def test_to_the_ground(self) -> None:
        """The lowest point of a turned shape, by a minimiser over the directions inside the shape."""
        random = np.random.default_rng(14)
        for shape in SHAPES:
            with self.subTest(shape=shape):
                turn = Rotation.random(random_state=random)
                w = vd.World().ground().body("b", shape, mass=1, pose=vd.Pose((0, 0, 1), rotation=turn))
                engine = engine_of(vd.Simulation(w))
                starts = random.normal(0, 1, (8, 3))
                lowest = min(
                    minimize(
                        lambda p, turn=turn, shape=shape: turn.apply(nearest_inside(shape, p))[2],
                        s,
                        method="Nelder-Mead",
                    ).fun
                    for s in starts
                )
                found = engine.clearance(engine.geoms_of("b"), engine.geoms_of("ground"))
                self.assertAlmostEqual(found, 1 + lowest, delta=1e-3)

    def test_hulls_of_many_corners(self) -> None:
        """A corner with 300 edges, 1,500 corners all round, 400 in a face: the lowest corner is exact, whatever way up."""
        random = np.random.default_rng(15)
        ring = np.exp(2j * np.pi * np.arange(300) / 300)
        ball = random.normal(0, 1, (1500, 3))
        flat = np.stack([*np.meshgrid(np.linspace(-0.1, 0.1, 20), np.linspace(-0.1, 0.1, 20)), np.zeros((20, 20))], 2)
        clouds = {
            "cone": np.vstack([np.stack([0.1 * ring.real, 0.1 * ring.imag, 0 * ring.real], 1), (0, 0, 0.2)]),
            "ball": 0.1 * ball / np.linalg.norm(ball, axis=1)[:, None],
            "slab": np.vstack([flat.reshape(-1, 3), flat.reshape(-1, 3) + (0, 0, 0.05)]),
            "tetrahedron": 0.1 * np.vstack([np.eye(3), (0, 0, 0)]),
        }
        for name, corners in clouds.items():
            for turn in (Rotation.identity(), *Rotation.random(4, random_state=random)):
                with self.subTest(name, turn=turn.as_rotvec()):
                    hull = vd.Mesh.of(corners, [(0, 1, 2)]).filled_out()
                    w = vd.World().ground().body("b", hull, mass=1, pose=vd.Pose((0, 0, 1), rotation=turn))
                    engine = engine_of(vd.Simulation(w))
                    found = engine.clearance(engine.geoms_of("b"), engine.geoms_of("ground"))
                    self.assertAlmostEqual(found, 1 + turn.apply(corners)[:, 2].min(), places=9)


class ContactPoints(unittest.TestCase):
    def contacts(self, a: Shape, pose_a: vd.Pose, b: Shape, pose_b: vd.Pose):  # type: ignore[no-untyped-def]
        sim = pair(a, pose_a, b, pose_b)
        sim.advance(1e-3)
        return sim.contacts()

    def test_points_lie_on_both_surfaces_when_they_touch(self) -> None:
        """Pairs brought together to a gap of 0.1 mm: each has a contact there, between its nearest points."""
        random = np.random.default_rng(15)
        for a, b in itertools.combinations_with_replacement(SHAPES, 2):
            with self.subTest(a=a, b=b):
                pose_a = vd.Pose(rotation=Rotation.random(random_state=random))
                turn_b = Rotation.random(random_state=random)
                way = Rotation.random(random_state=random).apply((1, 0, 0))
                near, far = 0.0, 2.0
                for _ in range(50):  # by halving, along a random way
                    middle = 0.5 * (near + far)
                    engine = engine_of(pair(a, pose_a, b, vd.Pose(way * middle, rotation=turn_b)))
                    gap = engine.clearance(engine.geoms_of("a"), engine.geoms_of("b"))
                    near, far = (near, middle) if gap > 1e-4 else (middle, far)
                    if abs(gap - 1e-4) < 1e-8:
                        break
                pose_b = vd.Pose(way * middle, rotation=turn_b)
                found = self.contacts(a, pose_a, b, pose_b)
                self.assertGreaterEqual(len(found), 1)
                # The rim of a cylinder or cone is an octagon between its corners, which shows against an edge.
                rim = any(isinstance(shape, vd.Cylinder | vd.Cone) for shape in (a, b))
                self.assertAlmostEqual(found["gap"].min(), 1e-4, delta=5e-4 if rim else 2e-5)
                best = found.loc[found["gap"].idxmin()]
                point = best[["x", "y", "z"]].to_numpy(float)
                for shape, pose in ((a, pose_a), (b, pose_b)):
                    local = pose.inverse().apply(point)
                    self.assertLess(np.linalg.norm(nearest_inside(shape, local) - local), 1e-3)
                normal = best[["nx", "ny", "nz"]].to_numpy(float)
                self.assertAlmostEqual(np.linalg.norm(normal), 1.0, places=12)

    def test_face_on_face_is_carried_at_its_corners(self) -> None:
        """A small box on a large one, turned: four contacts, at the corners of the small face."""
        for yaw in (0.0, 0.3, 0.8):
            with self.subTest(yaw=yaw):
                top = vd.Pose((0.1, 0.05, 0.6), yaw=yaw)
                found = self.contacts(vd.Box((1, 1, 1)), vd.Pose(), vd.Box((0.2, 0.3, 0.2)), top)
                corners = top.apply([(x, y, -0.1) for x in (-0.1, 0.1) for y in (-0.15, 0.15)])
                points = found[["x", "y", "z"]].to_numpy()
                self.assertEqual(len(points), 4)
                for corner in corners:
                    self.assertLess(np.linalg.norm(points - corner, axis=1).min(), 1e-6)
                np.testing.assert_allclose(np.abs(found["nz"]), 1.0)

    def test_overhang_and_crossed_edges(self) -> None:
        over = self.contacts(vd.Box((1, 1, 1)), vd.Pose(), vd.Box((0.4, 0.2, 0.2)), vd.Pose((0.5, 0, 0.6)))
        self.assertAlmostEqual(over["x"].max(), 0.5, delta=1e-6)  # no farther than the lower box's edge
        self.assertAlmostEqual(over["x"].min(), 0.3, delta=1e-6)
        half = math.sqrt(0.5)
        bar = vd.Box((1, 1, 4))
        low = vd.Pose(rpy=(0, math.pi / 2, 0)) @ vd.Pose(yaw=math.pi / 4)
        high = vd.Pose((0, 0, 2 * half + 1e-5)) @ vd.Pose(rpy=(math.pi / 2, 0, 0)) @ vd.Pose(yaw=math.pi / 4)
        crossed = self.contacts(bar, low, bar, high)
        best = crossed.loc[crossed["gap"].idxmin()]
        np.testing.assert_allclose(best[["x", "y", "z"]].to_numpy(float), (0, 0, half), atol=1e-4)
        self.assertAlmostEqual(abs(best["nz"]), 1.0, places=9)

    def test_wheel_on_a_kerb(self) -> None:
        """A wheel that leans on an edge: two contacts along the edge, the normal from the edge to the axle."""
        height, radius = 0.05, 0.1
        x = -math.sqrt(radius**2 - (radius - height) ** 2) - 1e-5
        wheel = vd.Pose((x, 0, radius), rpy=(math.pi / 2, 0, 0))
        found = self.contacts(vd.Box((1, 1, height)), vd.Pose((0.5, 0, height / 2)), vd.Cylinder(radius, 0.06), wheel)
        self.assertEqual(len(found), 2)
        np.testing.assert_allclose(sorted(found["y"]), (-0.03, 0.03), atol=1e-6)
        sign = 1 if found["link_a"].iloc[0] == "b" else -1
        normal = sign * found[["nx", "ny", "nz"]].to_numpy(float)[0]
        exact = np.array([x, 0, radius - height]) / np.linalg.norm((x, radius - height))
        np.testing.assert_allclose(normal, exact, atol=0.02)  # the core rounds the edge by a millimetre


class Pairs(unittest.TestCase):
    def test_every_near_pair_is_found(self) -> None:
        """The sweep against looking at all pairs, over a cloud of spheres that moves, whichever way it is long."""
        for long in ((0.5, 0.5, 0.5), (0.1, 0.1, 4.0), (0.1, 4.0, 0.1)):
            with self.subTest(long):
                self.see_pairs(np.array(long))

    def see_pairs(self, half: np.ndarray) -> None:
        random = np.random.default_rng(16)
        w = vd.World(gravity=(0, 0, 0))
        for k in range(60):
            v = random.normal(0, 0.5, 3)
            w.body(f"b{k}", vd.Sphere(0.05), mass=1, pose=vd.Pose(random.uniform(-half, half)), velocity=v)
        sim = vd.Simulation(w)
        for _ in range(30):
            before = np.array([sim[f"b{k}"].pose().position for k in range(60)])
            sim.advance(1e-3)
            met = {tuple(sorted(p)) for p in sim.contacts()[["link_a", "link_b"]].itertuples(index=False)}
            for i, j in itertools.combinations(range(60), 2):
                if np.linalg.norm(before[i] - before[j]) < 0.1 + 4e-4:
                    self.assertIn(tuple(sorted((f"b{i}", f"b{j}"))), met)
            sim.advance(0.02)


class Responses(unittest.TestCase):
    def test_impulse_response_is_symmetric(self) -> None:
        """Maxwell and Betti: what an impulse at A does along B is what the same at B does along A."""
        m = vd.Model("arm").link("base", vd.Box((0.2, 0.2, 0.2)), mass=3)
        for k in range(4):
            m.link(f"l{k}", vd.Part(vd.Box((0.1, 0.05, 0.3)), pose=vd.Pose((0, 0, 0.15))), mass=1 + k)
            axis = ((1, 0, 0), (0, 1, 0))[k % 2]
            m.joint(
                f"j{k}",
                f"l{k - 1}" if k else "base",
                f"l{k}",
                kind="revolute",
                pose=vd.Pose((0, 0, 0.3 if k else 0.1)),
                axis=axis,
            )
        start = {"j0": 0.3, "j1": -0.5, "j2": 0.8, "j3": 0.2}

        def answer(push: str, where: np.ndarray, read: str, along: np.ndarray) -> float:
            sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m, joints=start), step=1e-6)
            sim["arm"].push(force=1e3 * where, link=push)
            sim.advance(1e-6)
            return float(sim["arm"].velocity(read)[0] @ along)

        random = np.random.default_rng(17)
        for one, other in (("l3", "base"), ("l1", "l3"), ("l2", "l0")):
            a, b = random.normal(0, 1, 3), random.normal(0, 1, 3)
            there, back = answer(one, a, other, b), answer(other, b, one, a)
            self.assertAlmostEqual(there, back, delta=1e-6 * abs(there) + 1e-10)

    def test_a_round_side_deep_in_an_edge(self) -> None:
        """The gap of an upright cylinder to the edge of a box is its distance less the radius, also where they overlap."""
        for degrees in (45, 60, 75, 88):
            for distance in (0.32, 0.375, 0.395, 0.42):
                out = np.array((math.cos(math.radians(degrees)), math.sin(math.radians(degrees))))
                w = vd.World().obstacle("box", vd.Box((1, 1, 1)), pose=vd.Pose((0, 0, 0.5)))
                at = np.append(np.array((0.5, 0.5)) + distance * out, 0.275)
                w.body("post", vd.Cylinder(0.4, 0.45), mass=1, pose=vd.Pose(at))
                engine = engine_of(vd.Simulation(w))
                gap = engine.clearance(engine.geoms_of("post"), engine.geoms_of("box"))
                with self.subTest(degrees=degrees, distance=distance):
                    self.assertAlmostEqual(gap, distance - 0.4, delta=5e-4)


if __name__ == "__main__":
    unittest.main()
