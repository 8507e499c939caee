"""Sensors and rays against closed forms; their clocks, noise and messages."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

import veldrain as vd
from tests.physics.test_contact import prism
from veldrain.simulation import engine_of

G = 9.81


def rig(
    sensor: Any, pose: vd.Pose | None = None, world: vd.World | None = None, at: vd.Pose | None = None, **place: Any
) -> vd.Simulation:
    """A sensor called ``eye`` on a small box, called ``rig``, that floats or is fixed."""
    m = (
        vd.Model("rig")
        .link("box", vd.Part(vd.Box((0.1, 0.1, 0.1)), role="collision"), mass=1)
        .mount("eye", sensor, on="box", pose=pose)
    )
    return vd.Simulation((world or vd.World()).place(m, pose=at, **place), seed=3)


class Rays(unittest.TestCase):
    def test_ranges_and_normals(self) -> None:
        """One ray on each shape, from outside and from inside, against the distance worked out by hand."""
        root3 = 1 / math.sqrt(3)
        tilt = vd.Pose((0, 0, -1), rpy=(0, math.radians(30), 0))
        cases: list[tuple[str, Any, vd.Pose, tuple[float, ...], tuple[float, ...], float, tuple[float, ...]]] = [
            ("sphere", vd.Sphere(0.5), vd.Pose((3, 0, 0)), (0, 0.3, 0), (1, 0, 0), 3 - 0.4, (-0.8, 0.6, 0)),
            ("inside a sphere", vd.Sphere(0.5), vd.Pose(), (0.1, 0, 0), (1, 0, 0), 0.4, (1, 0, 0)),
            ("box corner on", vd.Box((2, 2, 2)), vd.Pose((0, 0, 0)), (3, 2, 1.9), (-3, -2, -1.9), 0, ()),
            (
                "tilted plate",
                vd.Box((9, 9, 0.2)),
                tilt,
                (0, 0, 0),
                (0, 0, -1),
                1 - 0.1 / math.cos(math.radians(30)),
                (math.sin(math.radians(30)), 0, math.cos(math.radians(30))),
            ),
            (
                "cylinder side",
                vd.Cylinder(0.5, 2),
                vd.Pose((0, 0, 0)),
                (-2, 0.3, 0.5),
                (1, 0, 0),
                2 - 0.4,
                (-0.8, 0.6, 0),
            ),
            ("cylinder end", vd.Cylinder(0.5, 2), vd.Pose((0, 0, 0)), (0.2, 0.1, 3), (0, 0, -1), 2, (0, 0, 1)),
            ("cylinder missed", vd.Cylinder(0.5, 2), vd.Pose(), (-2, 0.51, 0), (1, 0, 0), math.inf, ()),
            ("capsule end", vd.Capsule(0.5, 2), vd.Pose(), (0, 0, 5), (0, 0, -1), 3.5, (0, 0, 1)),
            ("capsule shoulder", vd.Capsule(0.5, 2), vd.Pose(), (0.3, 0, 5), (0, 0, -1), 3.6, (0.6, 0, 0.8)),
            (
                "along a cylinder",
                vd.Cylinder(0.5, 2),
                vd.Pose(rpy=(0, math.pi / 2, 0)),
                (0, 0, 4),
                (0, 0, -1),
                3.5,
                (0, 0, 1),
            ),
            ("diagonal", vd.Box((2, 2, 2)), vd.Pose(), (2, 2, 2), (-root3, -root3, -root3), math.sqrt(3), ()),
            ("behind", vd.Sphere(0.5), vd.Pose((-3, 0, 0)), (0, 0, 0), (1, 0, 0), math.inf, ()),
        ]
        for name, shape, pose, start, way, distance, normal in cases:
            with self.subTest(name):
                sim = vd.Simulation(vd.World().obstacle("thing", shape, pose=pose))
                distances, names, normals = sim.cast(start, way, reach=10)
                if name == "box corner on":
                    distance = math.sqrt(3**2 + 2**2 + 1.9**2) * (1 - 1 / 3)
                self.assertAlmostEqual(distances[0], distance, places=12)
                self.assertEqual(names[0], "thing" if math.isfinite(distance) else None)
                if normal:
                    np.testing.assert_allclose(normals[0], normal, atol=1e-12)

    def test_many_rays_against_points_on_the_surface(self) -> None:
        """What a ray meets lies on the shape's surface, whatever the shape's pose."""
        random = np.random.default_rng(4)
        corners, triangles = prism(0.6, 0.8)
        for shape in (
            vd.Box((0.4, 0.6, 0.8)),
            vd.Cylinder(0.3, 0.7),
            vd.Capsule(0.25, 0.6),
            vd.Sphere(0.4),
            vd.Cone(0.4, 0.7),
            vd.Ellipsoid((0.3, 0.4, 0.5)),
            vd.Mesh.of(corners, triangles),
            vd.Mesh.of(corners, triangles, collide="triangles"),
        ):
            with self.subTest(shape=shape):
                pose = vd.Pose(random.uniform(-1, 1, 3), rotation=Rotation.random(random_state=random))
                sim = vd.Simulation(
                    vd.World().obstacle("thing", shape, pose=pose).body("probe", vd.Sphere(1e-9), mass=1)
                )
                starts = pose.position + 3 * Rotation.random(300, random_state=random).apply((1, 0, 0))
                ways = pose.position + random.uniform(-0.1, 0.1, (300, 3)) - starts
                distances, names, normals = sim.cast(starts, ways, reach=10)
                self.assertEqual(set(names), {"thing"})
                points = starts + distances[:, None] * ways / np.linalg.norm(ways, axis=1, keepdims=True)
                local = pose.inverse().apply(points)
                np.testing.assert_allclose(self.depth(shape, local), 0, atol=1e-9)
                self.assertLess((normals * ways).sum(1).max(), 0)  # surfaces look at where the ray comes from

    @staticmethod
    def depth(shape: Any, p: np.ndarray) -> np.ndarray:
        """Signed distance of points to a shape."""
        if isinstance(shape, vd.Box):
            return (abs(p) - np.array(shape.size) / 2).max(1)
        if isinstance(shape, vd.Sphere):
            return np.linalg.norm(p, axis=1) - shape.radius
        if isinstance(shape, vd.Mesh):
            return (abs(p) - (0.3, 0.3, 0.4)).max(1)
        if isinstance(shape, vd.Ellipsoid):
            return np.linalg.norm(p / shape.half_axes, axis=1) - 1
        if isinstance(shape, vd.Cone):
            tip = shape.length / 2 - p[:, 2]
            side = (np.hypot(p[:, 0], p[:, 1]) - shape.radius * tip / shape.length) / np.hypot(
                1, shape.radius / shape.length
            )
            return np.maximum(side, tip - shape.length)
        across = np.hypot(p[:, 0], p[:, 1])
        if isinstance(shape, vd.Cylinder):
            return np.maximum(across - shape.radius, abs(p[:, 2]) - shape.length / 2)
        return np.hypot(across, np.maximum(abs(p[:, 2]) - shape.length / 2, 0)) - shape.radius

    def test_visual_parts_are_seen_and_collision_parts_are_not(self) -> None:
        w = vd.World().obstacle("ghost", vd.Part(vd.Sphere(0.5), role="visual"), pose=vd.Pose((2, 0, 0)))
        w.obstacle("unseen", vd.Part(vd.Sphere(0.5), role="collision"), pose=vd.Pose((0, 2, 0)))
        sim = vd.Simulation(w.body("ball", vd.Sphere(0.1), mass=1))
        distances, names, _ = sim.cast(np.zeros((2, 3)) + 0.2, [(1, 0, 0), (0, 1, 0)], reach=9)
        self.assertEqual(names, ["ghost", None])
        self.assertTrue(math.isinf(distances[1]))

    def test_a_ray_needs_a_direction(self) -> None:
        with self.assertRaisesRegex(vd.VeldrainError, "without direction"):
            vd.Simulation(vd.World().ground()).cast((0, 0, 1), (0, 0, 0), reach=1)


class Lidars(unittest.TestCase):
    def test_scan_of_a_corridor(self) -> None:
        """Between two walls each beam's range is its wall's distance over the sine of its bearing."""
        w = vd.World()
        for name, y in (("left", 1.05), ("right", -0.75)):
            w.obstacle(name, vd.Box((60, 0.1, 2)), pose=vd.Pose((0, y, 0)))
        lidar = vd.Lidar(beams=91, field_of_view="180 deg", max_range=25, motion_distortion=False)
        for yaw in (0.0, 0.4):
            with self.subTest(yaw=yaw):
                sim = rig(lidar, vd.Pose((0, 0, 0.2)), w, at=vd.Pose(yaw=yaw), fixed=True) if yaw == 0 else None
                if sim is None:
                    again = vd.World()
                    for o in w.obstacles.values():
                        again.obstacle(o.name, o.part, pose=o.pose)
                    sim = rig(lidar, vd.Pose((0, 0, 0.2)), again, at=vd.Pose(yaw=yaw), fixed=True)
                scan = sim["rig"].read("eye")
                assert scan is not None
                sines = np.sin(lidar.angles + yaw)
                with np.errstate(divide="ignore"):
                    exact = np.where(sines > 0, 1.0, 0.7) / abs(sines)
                exact[exact > 25] = math.inf
                np.testing.assert_allclose(scan.ranges, exact, rtol=1e-9)

    def test_nearest_reach_and_noise(self) -> None:
        w = vd.World().obstacle("wall", vd.Box((0.1, 9, 9)), pose=vd.Pose((2.05, 0, 0)))
        sim = rig(
            vd.Lidar(beams=2000, field_of_view="20 deg", noise="2 cm", max_range=2.03, motion_distortion=False),
            world=w,
            fixed=True,
        )
        scan = sim["rig"].read("eye")
        assert scan is not None
        seen = np.isfinite(scan.ranges)
        errors = (scan.ranges * np.cos(scan.angles) - 2.0)[abs(scan.angles) < 0.05]
        self.assertTrue((scan.ranges[seen] <= 2.03).all() and not seen.all())
        self.assertLess(abs(np.median(errors[np.isfinite(errors)])), 0.004)
        close = rig(
            vd.Lidar(beams=3, min_range="3 m", motion_distortion=False),
            world=vd.World().obstacle("w", vd.Sphere(1), pose=vd.Pose((3, 0, 0))),
            fixed=True,
        )
        self.assertTrue(np.isinf(close["rig"].read("eye").ranges).all())  # type: ignore[union-attr]

    def test_bad_data_sheets(self) -> None:
        for words, make in (
            ("beams is 1", lambda: vd.Lidar(beams=1)),
            ("up to 360°", lambda: vd.Lidar(field_of_view="400 deg")),
            ("min_range is 5 m and max_range 2 m", lambda: vd.Lidar(min_range=5, max_range=2)),
            ("period is 0 s", lambda: vd.Lidar(period=0)),
            ("gyro_noise is -1 rad/s; give 0 or more", lambda: vd.Imu(gyro_noise=-1)),
            ("not an angular speed", lambda: vd.Imu(gyro_noise="1 m/s")),
            ("gyro_noise and gyro_noise_density", lambda: vd.Imu(gyro_noise=1, gyro_noise_density=1)),
            ("bandwidth is 0 Hz; give a value above 0", lambda: vd.Imu(bandwidth=0)),
            ("counts_per_revolution is 0", lambda: vd.Encoders(counts_per_revolution=0)),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(vd.VeldrainError, words):
                make()


class Inertial(unittest.TestCase):
    def test_at_rest_in_free_fall_and_tilted(self) -> None:
        leaning = vd.Pose(rpy=(0.3, -0.5, 0.8))
        for name, fixed, mount, expected in (
            ("at rest", True, None, (0, 0, G)),
            ("in free fall", False, None, (0, 0, 0)),
            ("tilted", True, leaning, leaning.matrix.T @ (0, 0, G)),
        ):
            with self.subTest(name):
                sim = rig(vd.Imu(), mount, fixed=fixed)
                self.assertIsNone(sim["rig"].read("eye"))  # there is no step yet to measure over
                sim.advance(0.1)
                reading = sim["rig"].read("eye")
                assert reading is not None
                np.testing.assert_allclose(reading.linear_acceleration, expected, atol=1e-9)
                np.testing.assert_allclose(reading.angular_velocity, 0, atol=1e-12)

    def test_on_a_turntable(self) -> None:
        """Off the axis by r at a steady ω: ω²·r inward, the rate about the axis; while it speeds up, α·r along."""
        m = vd.Model("table").link("post").link("disc", vd.Cylinder(0.5, 0.05), mass=4)
        m.joint("turn", "post", "disc", kind="continuous").motor("turn", "effort")
        m.mount("eye", vd.Imu(), on="disc", pose=vd.Pose((0.4, 0, 0)))
        sim = vd.Simulation(vd.World().place(m, fixed=True))
        sim["table"].velocities = [3.0]
        sim.advance(0.1)
        steady = sim["table"].read("eye")
        assert steady is not None
        np.testing.assert_allclose(steady.linear_acceleration, (-9 * 0.4, 0, G), atol=1e-6)
        np.testing.assert_allclose(steady.angular_velocity, (0, 0, 3), atol=1e-9)
        sim["table"].command("turn", effort=1.0)
        sim.advance(0.01)
        alpha = 1.0 / (0.5 * 4 * 0.25)
        self.assertAlmostEqual(sim["table"].read("eye").linear_acceleration[1], alpha * 0.4, places=6)  # type: ignore[union-attr]

    def test_noise_and_bias_are_as_asked_for(self) -> None:
        sheet = vd.Imu(period="1 ms", gyro_noise=0.02, gyro_bias=0.5, accel_noise=0.1)
        sim = rig(sheet, fixed=True)
        rates, forces = [], []
        for _ in range(3000):
            sim.advance(1e-3)
            reading = sim["rig"].read("eye")
            assert reading is not None
            rates.append(reading.angular_velocity)
            forces.append(reading.linear_acceleration)
        np.testing.assert_allclose(np.std(rates, axis=0), 0.02, rtol=0.06)
        np.testing.assert_allclose(np.std(forces, axis=0), 0.1, rtol=0.06)
        self.assertTrue((abs(np.mean(rates, axis=0)) > 0.005).any())  # a bias, the same all through the trial

    def test_allan_deviation(self) -> None:
        """White noise of density N gives N/√τ, a bias that walks by K per √s gives K·√(τ/3) (IEEE 952-1997, annex C)."""
        period, N, K = 0.01, 2e-3, 1e-3
        sim = rig(vd.Imu(period=period, gyro_noise_density=N, accel_bias_random_walk=K), fixed=True)
        rows = []
        for _ in range(60_000):
            sim.advance(period)
            reading = sim["rig"].read("eye")
            rows.append((*reading.angular_velocity, *reading.linear_acceleration))  # type: ignore[union-attr]
        angle = np.vstack([np.zeros(6), np.cumsum(rows, axis=0)]) * period
        for tau, rate, force in ((0.1, N / math.sqrt(0.1), K * math.sqrt(0.1 / 3)), (1.0, N, K * math.sqrt(1 / 3))):
            m = round(tau / period)
            second = angle[2 * m :] - 2 * angle[m:-m] + angle[: -2 * m]
            allan = np.sqrt((second**2).mean(axis=0) / 2) / tau
            np.testing.assert_allclose(allan[:3], rate, rtol=0.08)
            np.testing.assert_allclose(allan[3:], force, rtol=0.15)

    def test_ends_steps_and_misaligned_axes(self) -> None:
        sim = rig(vd.Imu(accel_full_scale="4 m/s^2"), fixed=True)
        sim.advance(0.1)
        self.assertEqual(sim["rig"].read("eye").linear_acceleration[2], 4)  # type: ignore[union-attr]
        sim = rig(vd.Imu(accel_resolution=0.25, accel_noise=0.3), fixed=True)
        for _ in range(20):
            sim.advance(0.01)
            steps = sim["rig"].read("eye").linear_acceleration / 0.25  # type: ignore[union-attr]
            np.testing.assert_allclose(steps, np.round(steps), atol=1e-9)
        turns = []
        sim = rig(vd.Imu(misalignment="2 deg"), fixed=True)
        for seed in range(60):
            sim.reset(seed)
            sim.advance(0.01)
            force = sim["rig"].read("eye").linear_acceleration  # type: ignore[union-attr]
            self.assertAlmostEqual(float(np.linalg.norm(force)), G, 9)
            turns.append(np.degrees(force[:2] / G))
        np.testing.assert_allclose(np.std(turns, axis=0), 2, rtol=0.25)

    def test_a_hard_impact_is_no_matter_of_the_step(self) -> None:
        """A drop of 0.5 m that bounces: what an IMU of ±16 g and 100 Hz reads, at 1, 0.5 and 0.25 ms."""
        found = []
        for step in ("1 ms", "0.5 ms", "0.25 ms"):
            m = vd.Model("ball").link("shell", vd.Sphere(0.1), mass=1)
            m.mount("imu", vd.Imu(period="10 ms", accel_full_scale="16 g", bandwidth="100 Hz"), on="shell")
            ground = vd.World().ground(surface=vd.Surface(restitution=0.5))
            scenario = vd.Scenario(ground.place(m, pose=vd.Pose((0, 0, 0.6))), "0.5 s", step=step)
            read = vd.run(scenario)["ball/imu"]["linear_acceleration.z"]
            found.append((read.max(), read.sum() * 0.01))
        # Cut off before a low pass, it would read half as much at half the step.
        np.testing.assert_allclose([most for most, _ in found], found[-1][0], rtol=0.25)
        np.testing.assert_allclose([whole for _, whole in found], found[-1][1], rtol=0.25)
        self.assertTrue(all(0.3 * 16 * G < most <= 16 * G for most, _ in found))

    def test_bandwidth(self) -> None:
        """A step in the rate is followed by 1 − e^(−2π f t)."""
        m = vd.Model("table").link("post").link("disc", vd.Cylinder(0.5, 0.05), mass=4)
        m.joint("turn", "post", "disc", kind="continuous").mount(
            "eye", vd.Imu(period="1 ms", bandwidth="20 Hz"), on="disc"
        )
        sim = vd.Simulation(vd.World().place(m, fixed=True))
        sim.advance(0.05)
        sim["table"].velocities = [2.0]
        for k in range(1, 60):
            sim.advance(1e-3)
            expected = 2 * (1 - math.exp(-2 * math.pi * 20 * k * 1e-3))
            self.assertAlmostEqual(sim["table"].read("eye").angular_velocity[2], expected, 6)  # type: ignore[union-attr]


class Clocks(unittest.TestCase):
    def test_samples_and_stamps(self) -> None:
        sim = rig(vd.TruePose(period="20 ms"), fixed=True)
        stamps = []
        sim.on_sample = lambda samples, reading: stamps.append(reading.stamp)
        sim.advance(0.1)
        self.assertEqual(stamps, [20_000_000 * k for k in range(1, 6)])

    def test_a_restored_sensor_goes_on_with_its_own_noise(self) -> None:
        """A snapshot holds the random streams, biases, turns under way and late readings of all sensors."""
        m = vd.Model("rig").link("box", mass=1)
        sheets = {
            "imu": vd.Imu(gyro_noise=0.1, gyro_bias_random_walk=0.1, latency="5 ms"),
            "scan": vd.Lidar(period="80 ms", beams=16, noise=0.1),
            "fix": vd.Gnss(period="10 ms", drift=1, period_jitter="3 ms", latency_jitter="20 ms"),
        }
        for name, sheet in sheets.items():
            m.mount(name, sheet, on="box", failures=[vd.Failure("dropped", fraction=0.2)])
        sim = vd.Simulation(vd.World().obstacle("wall", vd.Box((1, 9, 9)), pose=vd.Pose((3, 0, 0))).place(m), seed=5)
        found: list[str] = []
        sim.on_sample = lambda samples, reading: found.append(f"{samples.stream} {reading.stamp} {reading.data}")
        sim.advance("0.123 s")
        snapshot, begun = sim.snapshot(), len(found)
        sim.advance("0.2 s")
        expected = found[begun:]
        for _ in range(2):
            found.clear()
            sim.restore(snapshot)
            sim.advance("0.2 s")
            self.assertEqual(found, expected)
        self.assertGreater(len(expected), 20)

    def test_latency(self) -> None:
        """A sample reaches a controller only when its latency is over."""
        sim = rig(vd.Lidar(period="10 ms", beams=2, latency="25 ms", motion_distortion=False), fixed=True)
        samples = sim.samples_of("rig/eye")
        arrived = {}
        for step in range(60):
            reading = samples.arrived(engine_of(sim).steps)
            arrived[step] = reading.time if reading else None
            sim.advance(1e-3)
        self.assertIsNone(arrived[24])
        for step, time in ((25, 0.0), (34, 0.0), (35, 0.01), (59, 0.03)):
            self.assertAlmostEqual(arrived[step], time)

    def test_jitter(self) -> None:
        """Samples are spread evenly about their times, arrivals beyond the latency; on average the period stays."""
        scatter = {"period_jitter": "4 ms", "latency": "2 ms", "latency_jitter": "5 ms"}
        sim = rig(vd.TruePose(period="10 ms", **scatter), fixed=True)
        samples, taken, came = sim.samples_of("rig/eye"), [], {}
        sim.on_sample = lambda samples, reading: taken.append(reading.stamp // 1_000_000)
        for step in range(8000):
            reading = samples.arrived(engine_of(sim).steps)
            if reading:
                came.setdefault(reading.stamp // 1_000_000, step)
            sim.advance(1e-3)
        off = np.array(taken) - 10 * np.arange(1, len(taken) + 1)
        self.assertEqual((off.min(), off.max(), len(taken)), (-4, 4, 800))
        self.assertAlmostEqual(off.std(), math.sqrt((9**2 - 1) / 12), delta=0.2)
        late = np.array([came[stamp] - stamp for stamp in taken if stamp in came])
        self.assertEqual((late.min(), late.max()), (2, 7))
        with self.assertRaisesRegex(vd.VeldrainError, "rig/eye: period_jitter is 0.005 s and period 0.01 s; give less"):
            rig(vd.TruePose(period="10 ms", period_jitter="5 ms"))

    def test_a_period_that_is_no_whole_number_of_steps(self) -> None:
        with self.assertRaisesRegex(vd.VeldrainError, r"rig/eye: period: 0.0333 s .*; use 33 ms or 34 ms"):
            rig(vd.Lidar(period=0.0333))

    def test_one_more_sensor_leaves_the_others_noise_alone(self) -> None:
        scans = []
        for more in (False, True):
            m = vd.Model("rig").link("box", mass=1)
            if more:
                m.mount("imu", vd.Imu(gyro_noise=1), on="box")
            m.mount("eye", vd.Lidar(noise=0.1, motion_distortion=False), on="box")
            w = vd.World().obstacle("wall", vd.Box((0.1, 9, 9)), pose=vd.Pose((2, 0, 0)))
            sim = vd.Simulation(w.place(m, fixed=True), seed=5)
            sim.advance(0.2)
            scans.append(sim["rig"].read("eye").ranges)  # type: ignore[union-attr]
        np.testing.assert_array_equal(*scans)

    def test_seeds(self) -> None:
        def ranges(seed: int) -> np.ndarray:
            w = vd.World().obstacle("wall", vd.Box((0.1, 9, 9)), pose=vd.Pose((2, 0, 0)))
            m = vd.Model("rig").link("box", mass=1).mount("eye", vd.Lidar(noise=0.1, motion_distortion=False), on="box")
            return np.asarray(vd.Simulation(w.place(m, fixed=True), seed=seed)["rig"].read("eye").ranges)  # type: ignore[union-attr]

        np.testing.assert_array_equal(ranges(1), ranges(1))
        self.assertTrue((ranges(1) != ranges(2)).any())


class OtherSensors(unittest.TestCase):
    def test_encoders_count(self) -> None:
        m = vd.Model("drum").link("post").link("disc", mass=1, inertia=np.eye(3) * 0.1, com=(0, 0, 0))
        m.joint("turn", "post", "disc", kind="continuous").motor("turn", "velocity", damping=1e6)
        m.mount("ticks", vd.Encoders(["turn"], period="10 ms", counts_per_revolution=100), on="post").mount(
            "exact", vd.Encoders(), on="post"
        )
        sim = vd.Simulation(vd.World().place(m, fixed=True))
        sim["drum"].command("turn", velocity=1.0)
        sim.advance(0.5)
        ticks, exact = sim["drum"].read("ticks"), sim["drum"].read("exact")
        assert ticks is not None and exact is not None
        tick = 2 * math.pi / 100
        self.assertAlmostEqual(exact.position[0], 0.5, places=3)
        self.assertAlmostEqual(ticks.position[0], round(exact.position[0] / tick) * tick, places=12)
        self.assertIn(round(ticks.velocity[0] * 0.01 / tick), (0, 1))
        self.assertAlmostEqual(exact.velocity[0], 1.0, places=4)
        with self.assertRaisesRegex(vd.VeldrainError, "did you mean 'turn'"):
            vd.Simulation(
                vd.World().place(
                    vd.Model("m")
                    .link("a", mass=1)
                    .link("b", mass=1)
                    .joint("turn", "a", "b", kind="revolute")
                    .mount("e", vd.Encoders(["trun"]), on="a")
                )
            )

    def test_true_pose_and_clearance(self) -> None:
        w = vd.World().obstacle("wall/a", vd.Box((0.1, 9, 9)), pose=vd.Pose((2, 0, 0)))
        at = vd.Pose((1, 2, 3), rpy=(0.1, 0.2, 0.3))
        sim = rig(vd.TruePose(), vd.Pose((0.5, 0, 0)), w, at=at, fixed=True)
        truth = sim["rig"].read("eye")
        assert truth is not None
        np.testing.assert_allclose(truth.position, at.apply((0.5, 0, 0)), atol=1e-12)
        np.testing.assert_allclose(Rotation.from_quat(truth.orientation).as_matrix(), at.matrix, atol=1e-12)
        w = vd.World().obstacle("wall/a", vd.Box((0.1, 9, 9)), pose=vd.Pose((2, 0, 0)))
        gap = rig(vd.TrueClearance("wall"), world=w, fixed=True)["rig"].read("eye")
        self.assertAlmostEqual(gap.range, 2 - 0.05 - 0.05)  # type: ignore[union-attr]
        with self.assertRaisesRegex(vd.VeldrainError, "rig/eye: no thing with shapes 'wal'; did you mean"):
            rig(vd.TrueClearance("wal"), world=vd.World().obstacle("wall", vd.Sphere(1)), fixed=True)


if __name__ == "__main__":
    unittest.main()
