"""Lidars, radar and proximity sensors against closed forms and their data sheets."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np

import veldrain as vd
from tests.test_sensing import rig


def measured(sensor: Any, world: vd.World | None = None, pose: vd.Pose | None = None, **place: Any) -> Any:
    """What a sensor that is held still measures first."""
    sim = rig(sensor, pose, world, fixed=True, **place)
    sim.advance(sensor.first_sample)
    return sim["rig"].read("eye")


def wall(x: float, look: vd.Look | None = None, tilt: float = 0.0) -> vd.World:
    part = vd.Part(vd.Box((0.2, 40, 40)), look=look)
    turned = vd.Pose((x, 0, 0), rpy=(0, tilt, 0)) @ vd.Pose((0.1, 0, 0))
    return vd.World().obstacle("wall", part, pose=turned)


class SpinningLidars(unittest.TestCase):
    def test_range_to_a_tilted_plane(self) -> None:
        """Each range is d·n_x over the beam's part along the normal."""
        tilt, lidar = (
            0.3,
            vd.SpinningLidar(elevations=[-0.2, 0, 0.1], azimuths=36, field_of_view="90 deg", max_range=30),
        )
        cloud = measured(lidar, wall(5.0, tilt=tilt))
        normal = np.array((math.cos(tilt), 0, -math.sin(tilt)))
        ways = lidar.directions.reshape(36, 3, 3).transpose(1, 0, 2)
        np.testing.assert_allclose(cloud.ranges, 5 * normal[0] / (ways @ normal), rtol=1e-12)
        np.testing.assert_allclose(cloud.points, cloud.ranges[..., None] * ways, rtol=1e-12)
        np.testing.assert_allclose(cloud.intensities, 0.5 * (ways @ normal), rtol=1e-12)

    def test_pattern_while_the_robot_moves(self) -> None:
        """Each beam goes out at its own time: of a sensor that spins and drives, wall by wall, as worked out by hand."""
        speed, spin, lidar = 1.7, 2.0, vd.SpinningLidar(elevations=[0.0], azimuths=400, max_range=50)
        w = vd.World(gravity=(0, 0, 0))
        for name, at, size in (
            ("ahead", (10, 0), (0.2, 60, 4)),
            ("behind", (-10, 0), (0.2, 60, 4)),
            ("left", (0, 10), (60, 0.2, 4)),
            ("right", (0, -10), (60, 0.2, 4)),
        ):
            w.obstacle(name, vd.Box(size), pose=vd.Pose((*at, 0)))
        sim = rig(lidar, world=w)
        sim["rig"].move_to(vd.Pose(), velocity=(speed, 0, 0), spin=(0, 0, spin))
        sim.advance("0.1 s")
        cloud = sim["rig"].read("eye")
        times = 0.1 + cloud.times
        np.testing.assert_allclose(times, np.arange(400) / 400 * 0.1, atol=1e-12)
        x, angle = speed * times, lidar.angles + spin * times
        c, s = np.cos(angle), np.sin(angle)
        expected = np.minimum((9.9 - np.sign(c) * x) / abs(c), 9.9 / abs(s))
        np.testing.assert_allclose(cloud.ranges[0], expected, atol=1e-9)
        # Switched off, all beams start from where the sensor is at the end.
        sim = rig(
            vd.SpinningLidar(elevations=[0.0], azimuths=400, max_range=50, motion_distortion=False, first=0.1),
            world=_again(w),
        )
        sim["rig"].move_to(vd.Pose(), velocity=(speed, 0, 0), spin=(0, 0, spin))
        sim.advance("0.1 s")
        c, s = np.cos(lidar.angles + spin * 0.1), np.sin(lidar.angles + spin * 0.1)
        still = np.minimum((9.9 - np.sign(c) * speed * 0.1) / abs(c), 9.9 / abs(s))
        np.testing.assert_allclose(sim["rig"].read("eye").ranges[0], still, atol=1e-9)
        self.assertGreater(abs(still - expected).max(), 0.1)

    def test_a_turn_broken_off(self) -> None:
        """After going back in the middle of a turn the next one is whole; a turn cannot be over before it has begun."""
        lidar = vd.SpinningLidar(elevations=[0.0], azimuths=100, max_range=50)
        sim = rig(lidar, world=wall(5.0).obstacle("post", vd.Cylinder(0.3, 3), pose=vd.Pose((0, 3, 0))), fixed=True)
        start = sim.snapshot()
        sim.advance("0.1 s")
        whole = sim["rig"].read("eye").ranges
        sim.advance("0.14 s")
        sim.restore(start)
        sim.advance("0.1 s")
        np.testing.assert_array_equal(sim["rig"].read("eye").ranges, whole)
        with self.assertRaisesRegex(
            vd.VeldrainError, "rig/eye: its first reading is over before it has begun; write first: 0.1 s"
        ):
            rig(vd.Lidar(first=0.05))

    def test_message(self) -> None:
        lidar = vd.SpinningLidar(channels=4, azimuths=10, max_range=30)
        cloud = measured(lidar, wall(5.0))
        m = lidar.messages(cloud)[""].fields
        kind = np.dtype(
            {
                "names": [f.name for f in m.fields],
                "offsets": [f.offset for f in m.fields],
                "formats": [{7: "f4", 4: "u2"}[f.datatype] for f in m.fields],
                "itemsize": m.point_step,
            }
        )
        table = m.data.view(kind).reshape(m.height, m.width)
        self.assertEqual((m.height, m.width, m.row_step), (4, 10, 10 * m.point_step))
        np.testing.assert_allclose(np.stack([table[k] for k in "xyz"], -1), cloud.points, rtol=1e-6)
        self.assertEqual(table["ring"][:, 0].tolist(), [0, 1, 2, 3])
        np.testing.assert_allclose(table["time"][0], np.arange(10) * 0.01, atol=1e-7)
        self.assertTrue(np.isinf(cloud.ranges).any() and not m.is_dense)


def _again(w: vd.World) -> vd.World:
    made = vd.World(w.gravity)
    for o in w.obstacles.values():
        made.obstacle(o.name, o.part, pose=o.pose)
    return made


class DataSheets(unittest.TestCase):
    def lidar(self, **more: Any) -> vd.Lidar:
        return vd.Lidar(
            **{"beams": 2000, "field_of_view": "20 deg", "max_range": 20, "motion_distortion": False} | more
        )

    def test_reach_goes_with_reflectance(self) -> None:
        """An echo as ρ·cos i/r²: what is four times as dark is seen half as far, and fog takes e^(−2σr) more."""
        fog = vd.Air(visibility=3.912 / 0.05)
        for reflectance, reach_at, reach, air, limit in (
            (0.8, 0.1, 10, vd.Air(), 10.0),  # bright: up to where it reaches at all
            (0.1, 0.4, 20, vd.Air(), 10.0),
            (0.025, 0.1, 10, vd.Air(), 5.0),
            (0.1, 0.1, 10, fog, 7.0347),  # r²·e^(2σr) = 100 at σ = 0.05
        ):
            for share in (0.99, 1.01):
                with self.subTest(reflectance=reflectance, reach=reach, share=share):
                    lidar = self.lidar(beams=3, field_of_view="1 deg", max_range=reach, reference_reflectivity=reach_at)
                    w = wall(limit * share, vd.Look(reflectance=reflectance)).weather(air)
                    self.assertEqual(bool(np.isfinite(measured(lidar, w).ranges[1])), share < 1)

    def test_noise_dropouts_and_steps(self) -> None:
        w = wall(4.0)
        exact = measured(self.lidar(), w).ranges
        for words, deviation in (
            ({"noise": "2 cm"}, 0.02),
            ({"relative_noise": 0.01}, 0.04),
            ({"noise": "3 cm", "relative_noise": 0.01}, 0.05),
        ):
            with self.subTest(words):
                errors = measured(self.lidar(**words), wall(4.0)).ranges - exact
                self.assertAlmostEqual(errors.std(), deviation, delta=0.06 * deviation)
                self.assertLess(abs(errors.mean()), 0.1 * deviation)
        lost = np.isinf(measured(self.lidar(dropouts=0.2), wall(4.0)).ranges).mean()
        self.assertAlmostEqual(lost, 0.2, delta=0.035)
        stepped = measured(self.lidar(resolution="5 cm"), wall(4.0)).ranges / 0.05
        np.testing.assert_allclose(stepped, np.round(stepped), atol=1e-9)
        spoilt = {"noise": 1, "dropouts": 0.5, "resolution": 1}
        np.testing.assert_array_equal(measured(self.lidar(**spoilt, exact=True), wall(4.0)).ranges, exact)

    def test_a_wide_beam_meets_what_is_beside_it(self) -> None:
        """A beam of 2 degrees at 5 m is 17 cm wide: a post 6 cm beside its middle is its first echo, the wall its last."""
        w = wall(8.0).obstacle("post", vd.Cylinder(0.02, 9), pose=vd.Pose((5, 0.06, 0)))
        for divergence, takes, expected in (
            (0.0, "first", 8.0),
            ("2 deg", "first", 5.0),
            ("2 deg", "last", 8.0),
            ("2 deg", "strongest", 8.0),
        ):
            with self.subTest(divergence=divergence, takes=takes):
                lidar = vd.Lidar(
                    beams=3,
                    field_of_view="40 deg",
                    max_range=20,
                    divergence=divergence,
                    returns=takes,
                    motion_distortion=False,
                )
                found = measured(lidar, _again(w)).ranges[1]
                self.assertAlmostEqual(found, expected, delta=0.04)

    def test_rain_makes_ghosts(self) -> None:
        """Of beams over a way r a share k·(1 − e^(−2σr)) ends on drops, σ from 1.076·R^0.67 dB/km."""
        rain, way = 100.0, 15.0
        w = wall(way).weather(vd.Air(rain=rain))
        found = measured(self.lidar(beams=40000, rain_false_returns=1.0), w).ranges
        decibels = 1.076 * rain**0.67 / 1000  # in a metre
        share = 1 - 10 ** (-2 * decibels * way / 10)
        self.assertAlmostEqual((found < way - 1e-9).mean(), share, delta=0.005)
        self.assertAlmostEqual(vd.Air(rain=30).rain_extinction, 0.0024, delta=0.0001)
        self.assertTrue((measured(self.lidar(rain_false_returns=0.5), wall(way)).ranges >= way - 1e-9).all())

    def test_bad_sheets(self) -> None:
        for words, make in (
            ("min_range is 5 m and max_range 2 m", lambda: vd.SpinningLidar(min_range=5, max_range=2)),
            ("argument 'reech'", lambda: vd.Lidar(reech=3)),
            ("channels is 0; give a whole number, 1 or more", lambda: vd.SpinningLidar(channels=0)),
            ("no returns 'loudest'", lambda: vd.Lidar(returns="loudest")),
            ("dropouts is 1.5; give 0 to 1", lambda: vd.Lidar(dropouts=1.5)),
            ("field_of_view is 200°", lambda: vd.Ultrasonic(field_of_view="200 deg")),
            ("two raw values for one distance", lambda: vd.Infrared(calibration=[(0.1, 1), ("10 cm", 2)])),
            ("field_of_view is 400°; give a value above 0, up to 360°", lambda: vd.Radar(field_of_view="400 deg")),
            ("min_range is 9 m", lambda: vd.Radar(min_range=9, max_range=5)),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                make()


class Radars(unittest.TestCase):
    def passing(self, radar: vd.Radar, at: tuple[float, float, float], velocity: tuple[float, float, float]) -> Any:
        w = vd.World(gravity=(0, 0, 0)).body("ball", vd.Sphere(0.5), mass=1, pose=vd.Pose(at), velocity=velocity)
        sim = rig(radar, world=w, fixed=True)
        return sim["rig"].read("eye")

    def test_a_passing_body(self) -> None:
        """Range rate v·u, range to the near side, section 8/3·π·R² of a ball that scatters evenly."""
        radar = vd.Radar(
            field_of_view="120 deg",
            vertical_field_of_view="40 deg",
            azimuth_resolution="20 deg",
            range_resolution=1,
            velocity_resolution=5,
            max_range=90,
            exact=True,
        )
        for at, velocity in (((16, 0, 0), (-3, 0, 0)), ((12, 8, 0), (0, -4, 0)), ((12, 8, 0), (2.5, 0, 0))):
            with self.subTest(at=at, velocity=velocity):
                seen = self.passing(radar, at, velocity)
                away = np.linalg.norm(at)
                self.assertAlmostEqual(
                    float(seen.radial_velocities @ seen.cross_sections / seen.cross_sections.sum()),
                    np.dot(at, velocity) / away,
                    delta=0.03,
                )
                self.assertAlmostEqual(float(seen.cross_sections.sum()), 8 / 3 * math.pi * 0.25, delta=0.15)
                self.assertAlmostEqual(float(seen.ranges.min()), away - 0.4, delta=0.12)
                self.assertAlmostEqual(
                    float(seen.azimuths @ seen.cross_sections / seen.cross_sections.sum()),
                    math.atan2(at[1], at[0]),
                    delta=0.02,
                )

    def test_half_are_found_at_the_reach_of_the_sheet(self) -> None:
        """A target of the sheet's section at the sheet's reach is found every other time, at 0.6 of it nearly always."""
        for share, low, high in ((1.0, 0.4, 0.6), (0.6, 0.85, 1.0)):
            section = 8 / 3 * math.pi * 0.25
            radar = vd.Radar(
                field_of_view="30 deg",
                vertical_field_of_view="30 deg",
                azimuth_resolution="30 deg",
                range_resolution=9,
                max_range=15,
                cross_section=section,
            )
            m = vd.Model("rig").link("box", mass=1).mount("eye", radar, on="box", pose=vd.Pose(rpy=(0.0, 0.0, 0.2)))
            w = vd.World().place(m, fixed=True)
            way = vd.Pose(yaw=0.2).apply((15 * share, 0.5, 0))
            sim = vd.Simulation(w.obstacle("ball", vd.Sphere(0.5), pose=vd.Pose(way)), step=0.05)
            found = []
            sim.on_sample = lambda _, reading, found=found: found.append(len(reading.ranges))  # type: ignore[misc]
            sim.advance("20 s")
            with self.subTest(share=share):
                self.assertTrue(low < np.mean(np.array(found) > 0) < high, np.mean(np.array(found) > 0))

    def test_clutter(self) -> None:
        found = [len(self.passing(vd.Radar(false_detections=6.0), (-9, 0, 0), (k, 0, 0)).ranges) for k in range(3)]
        self.assertEqual(len(set(found)), 1)  # drawn from its own stream alone
        self.assertTrue(1 <= found[0] <= 14)


class Proximity(unittest.TestCase):
    def test_ultrasound_hears_what_faces_it(self) -> None:
        """The nearest point of a wall; a wall tilted by more than the steepest angle sends the sound away."""
        sensor = vd.Ultrasonic(field_of_view="20 deg", max_range=5, max_incidence="25 deg", rays=400)
        for tilt, expected in (
            (0.0, 2.0),
            (0.2, 2 * math.cos(0.2) / math.cos(0.2 - math.radians(10))),
            (0.8, math.inf),
        ):
            with self.subTest(tilt=tilt):
                self.assertAlmostEqual(measured(sensor, wall(2.0, tilt=-tilt)).range, expected, delta=0.004)
        self.assertEqual(measured(vd.Ultrasonic(min_range=2.5, max_range=5), wall(2.0)).range, math.inf)

    def test_a_response_curve(self) -> None:
        curve = [("10 cm", 2.3), ("20 cm", 1.3), ("40 cm", 0.75), ("80 cm", 0.4)]
        for at, raw in ((0.2, 1.3), (0.3, 1.025), (0.6, 0.575)):
            reading = measured(vd.Infrared(calibration=curve, rays=1), wall(at))
            with self.subTest(at=at):
                self.assertAlmostEqual(reading.range, at, places=9)
                self.assertAlmostEqual(reading.raw, raw, places=9)
        self.assertAlmostEqual(measured(vd.Infrared(calibration=curve), vd.World()).raw, 0.4)

    def test_infrared_between_bright_and_dark(self) -> None:
        """Half the spot on a near bright post, half on the wall behind: the mean goes by ρ/r²."""
        w = wall(0.6, vd.Look(reflectance=0.1))
        w.obstacle("post", vd.Part(vd.Box((0.1, 1, 1)), look=vd.Look(reflectance=0.8)), pose=vd.Pose((0.35, 0.5, 0)))
        reading = measured(vd.Infrared(field_of_view="2 deg", rays=900), w)
        near, far = 0.8 / 0.3**2, 0.1 / 0.6**2
        self.assertAlmostEqual(reading.range, (near * 0.3 + far * 0.6) / (near + far), delta=0.004)
