"""The ray engine: meshes, height fields, many shapes, far-away rays, threads."""

from __future__ import annotations

import math
import os
import unittest
from typing import Any
from unittest import mock

import numpy as np

import veldrain as vd
from tests.physics.test_contact import prism


def bumpy(side: int = 40) -> vd.Mesh:
    """A ball with dents, of 2·side² triangles or so."""
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, side, endpoint=False), np.linspace(0, np.pi, side + 1), indexing="ij")
    r = 1 + 0.15 * np.sin(5 * u) * np.sin(v) ** 2
    at = np.stack([r * np.sin(v) * np.cos(u), r * np.sin(v) * np.sin(u), r * np.cos(v)], axis=-1).reshape(-1, 3)
    k = np.arange(side * (side + 1)).reshape(side, side + 1)
    a, b, c, d = k[:, :-1], np.roll(k, -1, 0)[:, :-1], np.roll(k, -1, 0)[:, 1:], k[:, 1:]
    triangles = np.concatenate([np.stack(t, -1).reshape(-1, 3) for t in ((a, c, b), (a, d, c))])
    return vd.Mesh.of(at, triangles, collide="triangles")


def nearest_by_hand(mesh: vd.Mesh, starts: np.ndarray, ways: np.ndarray) -> np.ndarray:
    """Distances by Möller and Trumbore's equations over all triangles: no hierarchy."""
    a, b, c = mesh.corners[mesh.triangles].transpose(1, 0, 2)
    u, w, found = b - a, c - a, []
    for o, d in zip(starts, ways, strict=True):
        p = np.cross(d, w)
        det = np.einsum("ij,ij->i", u, p)
        with np.errstate(divide="ignore", invalid="ignore"):
            s = o - a
            x = np.einsum("ij,ij->i", s, p) / det
            q = np.cross(s, u)
            y, t = q @ d / det, np.einsum("ij,ij->i", w, q) / det
            hit = (x >= 0) & (y >= 0) & (x + y <= 1) & (t >= 0)
        found.append(t[hit].min(initial=math.inf))
    return np.array(found)


def rays(count: int, reach: float, aim: float, seed: int = 1) -> tuple[np.ndarray, np.ndarray]:
    random = np.random.default_rng(seed)
    starts = random.normal(size=(count, 3))
    starts *= reach / np.linalg.norm(starts, axis=1, keepdims=True)
    ways = random.uniform(-aim, aim, (count, 3)) - starts
    return starts, ways / np.linalg.norm(ways, axis=1, keepdims=True)


class Meshes(unittest.TestCase):
    def test_against_all_triangles(self) -> None:
        """The hierarchy meets what looking at every triangle meets, from near, from far and inside, moved and turned."""
        mesh = bumpy()
        pose = vd.Pose((40, -30, 20), rpy=(0.3, -0.8, 2.0))
        sim = vd.Simulation(vd.World().obstacle("ball", mesh, pose=pose))
        for name, reach, aim in (("near", 1.6, 1.0), ("far", 3e4, 1.0), ("inside", 0.2, 3.0)):
            with self.subTest(name):
                starts, ways = rays(150, reach, aim)
                expected = nearest_by_hand(mesh, starts, ways)
                found = sim.cast(pose.apply(starts), pose.rotation.apply(ways), reach=1e9)[0]
                self.assertGreater(np.isfinite(expected).sum(), 75)
                np.testing.assert_array_equal(np.isfinite(found), np.isfinite(expected))
                np.testing.assert_allclose(found, expected, atol=1e-9 * max(1, reach))

    def test_no_ray_slips_between_triangles(self) -> None:
        """From inside of a closed mesh every ray ends, those through its very edges and corners too."""
        mesh = bumpy(12)
        sim = vd.Simulation(vd.World().obstacle("ball", mesh))
        a, b, c = mesh.corners[mesh.triangles].transpose(1, 0, 2)
        aims = np.concatenate([a, (a + b) / 2, (b + c) / 2, (a + b + c) / 3])
        self.assertTrue(np.isfinite(sim.cast(np.zeros((len(aims), 3)), aims, reach=9)[0]).all())

    def test_thin_and_far_from_the_origin(self) -> None:
        """A sheet of a tenth of a millimetre, kilometres away from the world's origin, is not lost in rounding."""
        w = vd.World().obstacle("sheet", vd.Box((1e-4, 2, 2)), pose=vd.Pose((5000, 4000, 100)))
        w.obstacle("post", vd.Sphere(0.1), pose=vd.Pose((-5000, 0, 0)))
        starts = np.array([(4990.0, 4000.0, 100.0), (0.0, 4000.0, 100.0)])
        found = vd.Simulation(w).cast(starts, [(1, 0, 0)] * 2, reach=1e5)[0]
        np.testing.assert_allclose(found, [10 - 5e-5, 5000 - 5e-5], atol=1e-9)


class Fields(unittest.TestCase):
    @staticmethod
    def field(holes: bool = False) -> vd.HeightField:
        z = np.random.default_rng(5).uniform(0, 1, (30, 20))
        if holes:
            z[10:14, 5:9] = np.nan
        return vd.HeightField(z, 0.5)

    def test_walked_as_its_triangles(self) -> None:
        """Cell by cell gives what the same triangles give as a mesh, for steep and for grazing rays."""
        for holes in (False, True):
            field = self.field(holes)
            mesh = vd.Mesh.of(field.corners, field.triangles, collide="triangles")
            pose = vd.Pose((3, 2, -1), rpy=(0.1, -0.2, 0.5))
            sims = [vd.Simulation(vd.World().obstacle("dunes", shape, pose=pose)) for shape in (field, mesh)]
            for seed, tilt in ((1, 1.0), (2, 0.05)):
                with self.subTest(holes=holes, tilt=tilt):
                    random = np.random.default_rng(seed)
                    starts = random.uniform((-8, -6, 0.0), (8, 6, 3), (400, 3))
                    ways = random.normal(size=(400, 3)) * (1, 1, tilt)
                    (one, _, n), (other, _, m) = (
                        s.cast(pose.apply(starts), pose.rotation.apply(ways), 50) for s in sims
                    )
                    self.assertGreater(np.isfinite(one).sum(), 60)
                    np.testing.assert_allclose(one, other, atol=1e-9)
                    np.testing.assert_allclose(n, m, atol=1e-9)

    def test_a_hole_is_no_ground(self) -> None:
        sim = vd.Simulation(vd.World().obstacle("dunes", self.field(holes=True)))
        x, y = (12 - 14.5) * 0.5, (7 - 9.5) * 0.5
        found = sim.cast([(x, y, 5), (x + 3, y, 5)], [(0, 0, -1)] * 2, reach=9)[0]
        self.assertTrue(math.isinf(found[0]) and math.isfinite(found[1]))


class Scenes(unittest.TestCase):
    @staticmethod
    def crowd(moving: bool) -> vd.World:
        """Sixty shapes of all kinds."""
        random = np.random.default_rng(3)
        corners, triangles = prism(0.3, 0.4)
        kinds: list[Any] = [
            vd.Box((0.3, 0.4, 0.5)),
            vd.Sphere(0.25),
            vd.Cylinder(0.2, 0.5),
            vd.Cone(0.25, 0.5),
            vd.Capsule(0.15, 0.3),
            vd.Ellipsoid((0.2, 0.3, 0.1)),
            vd.Mesh.of(corners, triangles),
        ]
        w = vd.World(gravity=(0, 0, 0)).ground(height=-5)
        for k in range(60):
            pose = vd.Pose(random.uniform(-4, 4, 3), rpy=random.uniform(-3, 3, 3))
            if moving:
                w.body(
                    f"thing{k}",
                    kinds[k % 7],
                    mass=1,
                    pose=pose,
                    velocity=random.normal(size=3),
                    spin=random.normal(size=3),
                )
            else:
                w.obstacle(f"thing{k}", kinds[k % 7], pose=pose)
        return w

    def test_the_nearest_of_many(self) -> None:
        """What rays meet among many shapes is the nearest of what they meet of each alone."""
        w = self.crowd(moving=False)
        starts, ways = rays(300, 6, 4)
        alone = [vd.Simulation(vd.World().ground(height=-5)).cast(starts, ways, 30)[0]]
        for o in w.obstacles.values():
            alone.append(vd.Simulation(vd.World().obstacle(o.name, o.part, pose=o.pose)).cast(starts, ways, 30)[0])
        found, names, _ = vd.Simulation(w).cast(starts, ways, 30)
        np.testing.assert_allclose(found, np.min(alone, axis=0), atol=1e-9)
        which = np.argmin(alone, axis=0)
        hit = np.isfinite(found)
        self.assertEqual(
            [n for n, h in zip(names, hit, strict=True) if h],
            [["ground", *w.obstacles][k] for k, h in zip(which, hit, strict=True) if h],
        )

    def test_refitted_as_built_anew(self) -> None:
        """After motion the hierarchy gives what one made at these places gives."""
        sim = vd.Simulation(self.crowd(moving=True))
        starts, ways = rays(300, 8, 4)
        sim.cast(starts, ways, 30)
        sim.advance("0.5 s")
        again = vd.World().ground(height=-5)
        for name, body in sim.world.bodies.items():
            again.obstacle(name, body.part, pose=sim[name].pose())
        np.testing.assert_allclose(
            sim.cast(starts, ways, 30)[0], vd.Simulation(again).cast(starts, ways, 30)[0], atol=1e-9
        )

    def test_as_many_threads_as_you_like(self) -> None:
        sim = vd.Simulation(self.crowd(moving=False))
        starts, ways = rays(6000, 6, 4)
        found = []
        for threads in ("1", "2", "5"):
            with mock.patch.dict(os.environ, VELDRAIN_THREADS=threads):
                found.append(sim.cast(starts, ways, 30))
        for distances, names, normals in found[1:]:
            self.assertEqual(distances.tobytes() + normals.tobytes(), found[0][0].tobytes() + found[0][2].tobytes())
            self.assertEqual(names, found[0][1])

    def test_what_is_seen_and_what_is_touched(self) -> None:
        """A mesh is seen as its triangles and touched as its hull; a ghost is seen only, a guard touched only."""
        corners, triangles = prism(1.0, 1.0)
        w = vd.World().obstacle("block", vd.Mesh.of(corners, triangles))
        w.obstacle("ghost", vd.Part(vd.Sphere(0.2), role="visual"), pose=vd.Pose((3, 0, 0)))
        w.obstacle("guard", vd.Part(vd.Sphere(0.2), role="collision"), pose=vd.Pose((0, 3, 0)))
        sim = vd.Simulation(w)
        starts, ways = [(5, 0, 0), (0, 5, 0)], [(-1, 0, 0), (0, -1, 0)]
        self.assertEqual(sim.cast(starts, ways, 9, sees="visual")[1], ["ghost", "block"])
        self.assertEqual(sim.cast(starts, ways, 9, sees="collision")[1], ["block", "guard"])
        with self.assertRaisesRegex(vd.VeldrainError, "kind of shapes to see 'both'"):
            sim.cast(starts, ways, 9, sees="both")
