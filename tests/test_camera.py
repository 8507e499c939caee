"""Cameras: where things appear, what they look like, and what the pictures' messages say."""

from __future__ import annotations

import io
import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from PIL import Image as Pillow
from scipy.spatial.transform import Rotation

import veldrain as vd
from tests.test_sensing import rig

NIGHT = (vd.Sun(lux=0), vd.Sky(lux=0))
FISHEYE = {"fisheye": True, "field_of_view": "190 deg", "distortion": (0.03, -0.008)}
BENT = {"field_of_view": "80 deg", "distortion": (-0.25, 0.08, 0.001, -0.0015, 0.01)}


def seen(camera: vd.Camera, world: vd.World | None = None, pose: vd.Pose | None = None, **place: Any) -> Any:
    return rig(camera, pose, world, fixed=True, **place)["rig"].read("eye")


class Projection(unittest.TestCase):
    def test_small_lamps_appear_where_they_are_projected(self) -> None:
        """The bright spot of a small ball is within a tenth of a pixel of the projection of its middle."""
        for words in ({"field_of_view": "70 deg"}, {"focal_length": 300.0}, BENT, FISHEYE):
            camera = vd.Camera(size=(321, 241), antialiasing=12, exposure=1e-3, output="grey", **words)
            pose = vd.Pose((0.5, -0.3, 0.2), rpy=(0.1, 0.2, -0.4))
            points = np.array([(3, 0.3, 0.2), (2.5, -1.1, 0.6), (4, 1.8, -1.4), (2, 0.1, -0.5)])
            # Near the ball's middle its light is even: the middle of its light is that of its outline.
            for at in points:
                with self.subTest(words, at=at):
                    w = vd.World().light(vd.Sun(lux=0), vd.Sky(lux=5e4, colour="black", horizon="black"))
                    part = vd.Part(vd.Sphere(0.03), look=vd.Look("white"))
                    w.light(vd.Lamp(tuple(pose.position), 4000))
                    w.obstacle("ball", part, pose=vd.Pose(pose.apply(at)))
                    light = seen(camera, w, pose).pixels.astype(float)
                    v, u = np.indices(light.shape)
                    middle = np.array(((u * light).sum(), (v * light).sum())) / light.sum()
                    expected = camera.project(at[None])[0]
                    self.assertLess(np.abs(middle - expected).max(), 0.1)

    def test_as_opencv_projects(self) -> None:
        """Our lenses are those of calibration: the same points at the same pixels."""
        random = np.random.default_rng(2)
        points = np.column_stack([random.uniform(1, 5, 50), random.uniform(-0.7, 0.7, (50, 2))])
        optical = points[:, [1, 2, 0]] * (-1, -1, 1)
        for words in (BENT, FISHEYE):
            camera = vd.Camera(**words)
            k = np.array([*camera.lens.distortion, *[0.0] * 5][: 4 if camera.lens.fisheye else 5])
            project = cv2.fisheye.projectPoints if camera.lens.fisheye else cv2.projectPoints
            rows = optical[:, None] if camera.lens.fisheye else optical
            expected = project(rows, np.zeros(3), np.zeros(3), camera.matrix, k)[0].reshape(-1, 2)
            with self.subTest(words):
                np.testing.assert_allclose(camera.project(points), expected, atol=1e-6)

    def test_rays_go_back_to_their_pixels(self) -> None:
        for words in ({"field_of_view": "100 deg"}, BENT, FISHEYE):
            camera = vd.Camera(size=(64, 48), **words)
            u, v = np.meshgrid(np.arange(64.0), np.arange(48.0))
            with self.subTest(words):
                found = camera.project(3 * camera.lens.rays)
                np.testing.assert_allclose(found, np.column_stack([u.ravel(), v.ravel()]), atol=1e-6)


class Depth(unittest.TestCase):
    def test_against_rays(self) -> None:
        """Each pixel is the distance of a ray through its middle, along the camera's axis."""
        w = vd.World().ground(height=-1).obstacle("ball", vd.Sphere(0.7), pose=vd.Pose((4, 0.5, 0)))
        w.obstacle("box", vd.Box((1, 1, 1)), pose=vd.Pose((5, -1.5, 0), yaw=0.4))
        camera = vd.Camera(size=(80, 60), field_of_view="90 deg", output="depth", far=20)
        sim = rig(camera, vd.Pose((0, 0, 0.2), rpy=(0.1, 0.05, 0)), w, fixed=True)
        image = sim["rig"].read("eye")
        mount = vd.Pose((0, 0, 0.2), rpy=(0.1, 0.05, 0))
        met = sim.cast(np.tile(mount.position, (4800, 1)), mount.rotation.apply(camera.lens.rays), 1e3)[0]
        expected = met * camera.lens.rays[:, 0]
        expected[expected > 20] = math.inf
        self.assertEqual(image.pixels.dtype, np.float32)
        np.testing.assert_allclose(image.pixels.ravel(), expected.astype(np.float32), rtol=1e-6)
        self.assertTrue(np.isinf(image.pixels).any())

    def test_near_far_and_noise(self) -> None:
        w = vd.World().obstacle("pane", vd.Box((0.01, 9, 9)), pose=vd.Pose((0.5, 0, 0)))
        w.obstacle("wall", vd.Box((0.2, 99, 99)), pose=vd.Pose((3.1, 0, 0)))
        words: dict[str, Any] = {"size": (60, 40), "output": "depth"}
        np.testing.assert_allclose(seen(vd.Camera(**words, near=1), w).pixels, 3.0, rtol=1e-6)
        again = vd.World().obstacle("wall", vd.Box((0.2, 99, 99)), pose=vd.Pose((3.1, 0, 0)))
        noisy = seen(vd.Camera(**words, depth_noise=0.01), again).pixels
        self.assertAlmostEqual(float(noisy.std()), 0.01 * 9, delta=0.006)


class Light(unittest.TestCase):
    def plate(self, *lights: Any, air: vd.Air | None = None, **words: Any) -> Any:
        """A white plate that fills the picture, 5 m ahead."""
        w = vd.World().light(*NIGHT, *lights).weather(air or vd.Air())
        w.obstacle("plate", vd.Part(vd.Box((0.1, 99, 99)), look=vd.Look("white")), pose=vd.Pose((5.05, 0, 0)))
        return seen(vd.Camera(size=(50, 50), field_of_view="2 deg", output="grey", **words), w)

    @staticmethod
    def level(pixels: np.ndarray) -> float:
        """Mean light, of white."""
        x = pixels / 255
        return float(np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4).mean())

    def test_exposure(self) -> None:
        """E lx on white is L = E/π cd/m²; white is 4·N²·78/(π·t·S)."""
        for lux, time in ((10e3, 1 / 500), (10e3, 1 / 1000), (2000, 1 / 500)):
            with self.subTest(lux=lux, time=time):
                sun = vd.Sun(elevation="30 deg", azimuth="180 deg", lux=lux)
                camera = vd.Camera(f_number=4, iso=100)
                expected = lux * math.cos(math.radians(30)) / math.pi / camera.white(time)
                found = self.level(
                    self.plate(vd.Sun("30 deg", "180 deg", lux=lux, colour="white"), exposure=time, f_number=4).pixels
                )
                self.assertAlmostEqual(found, expected, delta=0.01 * expected + 0.002, msg=str(sun))
        image = self.plate(vd.Sun("30 deg", "180 deg", lux=123.0))
        self.assertAlmostEqual(self.level(image.pixels), 0.18, delta=0.003)
        for lux, time, gain in ((300.0, 0.04, 1.0), (3.0, 0.04, 4.0), (3.0, None, 16.0), (0.1, 0.04, 16.0)):
            with self.subTest("an automatic exposure has its limits", lux=lux, time=time):
                words = {} if time is None else {"max_exposure": time, "max_gain": gain}
                image = self.plate(vd.Sun("30 deg", "180 deg", lux=lux, colour="white"), **words)
                camera = vd.Camera(**words)
                wanted = 0.18 * camera.white(1.0) / (lux * math.cos(math.radians(30)) / math.pi)
                limit = camera.max_exposure or camera.period
                self.assertAlmostEqual(image.exposure, min(limit, wanted), delta=0.01 * image.exposure)
                self.assertAlmostEqual(image.gain, max(1.0, min(gain, wanted / limit)), delta=0.01 * image.gain)
                level = 0.18 * min(1.0, limit * gain / wanted)
                self.assertAlmostEqual(self.level(image.pixels), level, delta=0.003)
        with self.assertRaisesRegex(vd.VeldrainError, "max_exposure is 0.2 s and period 0.1 s"):
            vd.Camera(max_exposure="200 ms")

    def test_lamps_fade_with_the_square_and_cast_shadows(self) -> None:
        """I cd at 5 m, square on, are I/25 lx; behind a screen there is none."""
        lamp = vd.Lamp((0.0, 0, 0), candela=2000)
        expected = 2000 / 25 / math.pi / vd.Camera().white(0.02)
        self.assertAlmostEqual(self.level(self.plate(lamp, exposure=0.02).pixels), expected, delta=0.01 * expected)
        w = vd.World().light(*NIGHT, lamp)
        w.obstacle("plate", vd.Part(vd.Box((0.1, 99, 99)), look=vd.Look("white")), pose=vd.Pose((5.05, 0, 0)))
        w.obstacle("screen", vd.Box((0.1, 1, 1)), pose=vd.Pose((2.5, 0, 0)))
        found = seen(vd.Camera(size=(50, 50), field_of_view="2 deg", output="grey", exposure=0.02, near=4), w).pixels
        self.assertEqual(int(found.max()), 0)

    def test_fog(self) -> None:
        """Of black and white plates the difference left after r is e^(−σr), σ = 3.912/visibility."""
        levels = []
        for colour in ("white", "black"):
            w = (
                vd.World()
                .light(vd.Sun("30 deg", "180 deg", lux=2e4, colour="white"), vd.Sky(1000))
                .weather(vd.Air(visibility=50))
            )
            w.obstacle("plate", vd.Part(vd.Box((0.1, 99, 99)), look=vd.Look(colour)), pose=vd.Pose((20.05, 0, 0)))
            levels.append(
                self.level(seen(vd.Camera(size=(9, 9), field_of_view="1 deg", output="grey", exposure=1e-3), w).pixels)
            )
        clear = (2e4 * math.cos(math.radians(30)) + 500) / math.pi / vd.Camera().white(1e-3)
        self.assertAlmostEqual((levels[0] - levels[1]) / clear, math.exp(-3.912 / 50 * 20), delta=0.005)

    def test_noise_of_counted_electrons(self) -> None:
        """At a share s of white, n = s·well electrons: their deviation is √(n + read²)."""
        sun, camera = vd.Sun("30 deg", "180 deg", lux=10e3, colour="white"), vd.Camera(f_number=4)
        time = 1 / 500
        share = 10e3 * math.cos(math.radians(30)) / math.pi / camera.white(time)
        quiet = self.plate(sun, exposure=time, f_number=4).pixels
        noisy = self.plate(sun, exposure=time, f_number=4, full_well=2000.0, read_noise=10.0).pixels
        slope = 255 * 1.055 / 2.4 * share ** (1 / 2.4 - 1)
        expected = slope * math.sqrt(share * 2000 + 100) / 2000
        self.assertEqual(quiet.std(), 0.0)
        self.assertAlmostEqual(float(noisy.std()), expected, delta=0.08 * expected)
        exact = self.plate(sun, exposure=time, f_number=4, full_well=2000.0, exact=True).pixels
        np.testing.assert_array_equal(exact, quiet)


class Looks(unittest.TestCase):
    def test_textures_stand_upright(self) -> None:
        """The quarters of a picture, as a camera sees them: on a box's sides, on its top, on the ground and on a mesh."""
        quarters = np.zeros((8, 8, 3), np.uint8)
        quarters[:4, :4], quarters[:4, 4:] = (255, 0, 0), (0, 255, 0)  # upper left red, upper right green
        quarters[4:, :4], quarters[4:, 4:] = (0, 0, 255), (255, 255, 255)  # lower left blue, lower right white
        look = vd.Look(image=quarters, tile=2)
        box, corners = vd.Part(vd.Box((2, 2, 2)), look=look), [(0, -1, -1), (0, 1, -1), (0, 1, 1), (0, -1, 1)]
        uv = [[(1, 0), (1, 1), (0, 1)], [(1, 0), (0, 1), (0, 0)]]
        panel = vd.Mesh.of(corners, [(0, 3, 2), (0, 2, 1)], collide="triangles", uv=uv)
        down = vd.Pose((0, 0, 4), rpy=(0, math.pi / 2, 0))
        cases = [
            ("side", box, vd.Pose((3, 0, 0), yaw=0.0), vd.Pose()),
            ("other side", box, vd.Pose((3, 0, 0), yaw=1.5708), vd.Pose()),
            ("top", box, vd.Pose(), down),
            ("mesh", vd.Part(panel, look=look), vd.Pose((2, 0, 0)), vd.Pose()),
        ]
        camera = vd.Camera(size=(40, 40), field_of_view="40 deg", antialiasing=1)
        worlds = [
            (n, vd.World().light(vd.Sun(lux=0)).obstacle("thing", part, pose=at), eye) for n, part, at, eye in cases
        ]
        over_a_tile = vd.Pose((1, -1, 4), rpy=(0, math.pi / 2, 0))  # the first tile's middle is there
        worlds.append(("ground", vd.World().light(vd.Sun(lux=0)).ground(look=look), over_a_tile))
        for name, w, eye in worlds:
            with self.subTest(name):
                pixels = seen(camera, w, eye).pixels
                found = [tuple((pixels[v, u] > 100).tolist()) for v, u in ((15, 15), (15, 24), (24, 15), (24, 24))]
                self.assertEqual(found, [(True, False, False), (False, True, False), (False, False, True), (True,) * 3])

    def test_checker(self) -> None:
        look = vd.Look("white", checker="black", tile=1)
        w = vd.World().light(vd.Sun(lux=0)).ground(look=look)
        pixels = seen(
            vd.Camera(size=(40, 40), field_of_view="28 deg", output="grey"),
            w,
            vd.Pose((0, 0, 4), rpy=(0, math.pi / 2, 0)),
        ).pixels
        self.assertEqual(pixels[10, 10] > 128, pixels[30, 30] > 128)
        self.assertNotEqual(pixels[10, 10] > 128, pixels[10, 30] > 128)

    def test_a_printed_marker_is_found_where_it_is(self) -> None:
        """OpenCV's detector finds a square marker in our picture, and its pose within 2 mm and 0.5 degrees at 0.6 m."""
        side, cells = 0.1, 8  # the marker has six cells a side, and a white cell around it
        drawn = cv2.aruco.generateImageMarker(cv2.aruco.getPredefinedDictionary(cv2.aruco.DICT_4X4_50), 7, 600)
        printed = np.full((800, 800), 255, np.uint8)
        printed[100:700, 100:700] = drawn
        plate = side * cells / 6
        camera = vd.Camera(
            size=(1280, 960), field_of_view="45 deg", output="grey", antialiasing=4, exposure=3e-4, linear=True
        )
        detector = cv2.aruco.ArucoDetector(cv2.aruco.getPredefinedDictionary(cv2.aruco.DICT_4X4_50))
        params = detector.getDetectorParameters()
        params.cornerRefinementMethod = cv2.aruco.CORNER_REFINE_SUBPIX
        detector.setDetectorParameters(params)
        for yaw, pitch in ((0.0, 0.0), (0.5, 0.2), (-0.6, -0.3)):
            with self.subTest(yaw=yaw, pitch=pitch):
                at = vd.Pose((0.6, 0.02, -0.03), rpy=(0.15, pitch, yaw))
                part = vd.Part(vd.Box((0.002, plate, plate)), vd.Pose((0.001, 0, 0)), look=vd.Look(image=printed))
                w = vd.World().light(vd.Sun("30 deg", "180 deg")).obstacle("marker", part, pose=at)
                corners, ids, _ = detector.detectMarkers(seen(camera, w).pixels)
                self.assertEqual(ids.ravel().tolist(), [7])
                h = side / 2
                square = np.array([(-h, h, 0), (h, h, 0), (h, -h, 0), (-h, -h, 0)])
                _, turn, shift = cv2.solvePnP(
                    square, corners[0][0], camera.matrix, np.zeros(5), flags=cv2.SOLVEPNP_IPPE_SQUARE
                )
                found = shift.ravel()[[2, 0, 1]] * (1, -1, -1)
                self.assertLess(np.linalg.norm(found - at.position), 2e-3)
                # The marker's axes as OpenCV has them: right, up, and towards the eye.
                optical = Rotation.from_matrix(at.matrix @ np.array([(0, 0, -1), (-1, 0, 0), (0, 1, 0)], float))
                ours = camera.optical.rotation.inv() * optical
                wrong = (Rotation.from_rotvec(turn.ravel()).inv() * ours).magnitude()
                self.assertLess(math.degrees(wrong), 0.5)


class Pictures(unittest.TestCase):
    def test_labels_and_boxes(self) -> None:
        """Which link is where; the box around a ball is that of its outline."""
        w = vd.World().ground(height=-1).obstacle("ball", vd.Sphere(0.5), pose=vd.Pose((5, 0, 0)))
        camera = vd.Camera(size=(200, 100), field_of_view="60 deg", output="labels")
        image = seen(camera, w)
        boxes = dict(image.boxes)
        half = camera.focal_length * 0.5 / math.sqrt(25 - 0.25)
        for found, expected in zip(boxes["ball"], (99.5 - half, 49.5 - half, 99.5 + half, 49.5 + half), strict=True):
            self.assertAlmostEqual(found, expected, delta=1)
        number = image.names.index("ball") + 1
        self.assertAlmostEqual((image.pixels == number).sum(), math.pi * half**2, delta=0.05 * math.pi * half**2)
        told = json.loads(camera.messages(image)["boxes"].fields.data)
        self.assertEqual(told["labels"]["ball"], number)

    def test_rolling_shutter(self) -> None:
        """Rows are read one after another: an upright edge leans by the turn during the readout."""
        w = vd.World(gravity=(0, 0, 0)).light(vd.Sun(lux=0))
        w.obstacle("post", vd.Part(vd.Box((0.1, 20, 40)), look=vd.Look("black")), pose=vd.Pose((10, 10, 0)))
        edges = []
        for readout in (0.0, 0.05):
            camera = vd.Camera(
                size=(200, 101),
                field_of_view="60 deg",
                output="grey",
                rolling_shutter=readout,
                first=0.1,
                antialiasing=4,
            )
            sim = rig(camera, world=_copied(w))
            sim["rig"].move_to(vd.Pose(), spin=(0, 0, 1.0))
            sim.advance("0.1 s")
            pixels = sim["rig"].read("eye").pixels.astype(float)
            edges.append((pixels < pixels.max() / 2).sum(axis=1))
        self.assertEqual(np.ptp(edges[0]), 0)
        ends = [
            math.tan(0.1 - 0.05 * (1 - k)) * vd.Camera(size=(200, 101), field_of_view="60 deg").focal_length
            for k in (1 / 101, 1)
        ]
        self.assertAlmostEqual(float(edges[1][-1] - edges[1][0]), ends[1] - ends[0], delta=1.5)

    def test_messages(self) -> None:
        for gives, coding, encoding in (
            ("rgb", "raw", "rgb8"),
            ("grey", "raw", "mono8"),
            ("depth", "raw", "32FC1"),
            ("rgb", "png", "rgb8; png compressed"),
            ("grey", "jpeg", "mono8; jpeg compressed"),
        ):
            with self.subTest(gives=gives, coding=coding):
                camera = vd.Camera(size=(32, 24), output=gives, encoding=coding)
                image = seen(camera, vd.World().ground(height=-1))
                m = camera.messages(image)[""].fields
                if coding == "raw":
                    self.assertEqual((m.encoding, m.width, m.height), (encoding, 32, 24))
                    self.assertEqual(m.data.tobytes(), image.pixels.tobytes())
                    self.assertEqual(m.step, image.pixels.nbytes // 24)
                else:
                    self.assertEqual(m.format, encoding)
                    again = np.asarray(Pillow.open(io.BytesIO(m.data.tobytes())))
                    self.assertLess(np.abs(again.astype(int) - image.pixels).max(), 12 if coding == "jpeg" else 1)
        info = vd.Camera(**BENT).messages(image)["camera_info"].fields
        self.assertEqual((info.distortion_model, info.d[0], info.k[2]), ("plumb_bob", -0.25, 319.5))

    def test_recorded_with_its_companions(self) -> None:
        m = vd.Model("rig").link("box", vd.Box((0.1, 0.1, 0.1)), mass=1)
        m.mount("eye", vd.Camera(size=(16, 12), output="labels", period=0.1), on="box", pose=vd.Pose((0.1, 0, 0)))
        m.mount("cloud", vd.SpinningLidar(channels=2, azimuths=8), on="box", pose=vd.Pose((0, 0, 0.2)))
        m.mount("frames", vd.TrueFrames(), on="box")
        w = vd.World().ground(height=-1).place(m, fixed=True)
        recording = vd.run(vd.Scenario(w, 0.5))
        self.assertEqual(recording.messages["rig/eye/camera_info"], "sensor_msgs/msg/CameraInfo")
        self.assertEqual(recording.streams["rig/eye/boxes"].count, recording.streams["rig/eye"].count)
        self.assertEqual(recording["rig/cloud"]["time"].unique().tolist(), [0.1, 0.2, 0.3, 0.4, 0.5])
        frames = recording["rig/frames"]
        self.assertIn("rig/eye", frames.query("child_frame_id == 'rig/eye/optical'")["frame_id"].tolist())

    def test_bad_data_sheets(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            text = Path(folder) / "note.png"
            text.write_text("not a picture")
            for words, make in (
                (
                    "field_of_view is 180° of a pinhole; give less than 180°, or fisheye",
                    lambda: vd.Camera(field_of_view="180 deg"),
                ),
                (r"a size of \(0, 480\) pixels", lambda: vd.Camera(size=(0, 480))),
                ("near is 5 m and far 2 m", lambda: vd.Camera(near=5, far=2)),
                ("field_of_view and focal_length; give one", lambda: vd.Camera(field_of_view=1, focal_length=300)),
                ("folds the picture over", lambda: vd.Camera(field_of_view="120 deg", distortion=(-0.9,)).lens.rays),
                ("no output 'colour'", lambda: vd.Camera(output="colour")),
                ("depth cannot be encoded", lambda: vd.Camera(output="depth", encoding="png")),
                ("is not an image; give a PNG", lambda: vd.Look(image=text)),
                ("no such image", lambda: vd.Look(image="nowhere.png")),
                ("is not an image", lambda: vd.Look(image=np.zeros((3, 3)))),
                (
                    "a picture on a Sphere",
                    lambda: vd.Part(vd.Sphere(1), look=vd.Look(image=np.zeros((2, 2, 3), np.uint8))),
                ),
                ("no colour 'beigish'", lambda: vd.Look("beigish")),
                ("visibility is 0 m", lambda: vd.Air(visibility=0)),
                ("lux is -1", lambda: vd.Sun(lux=-1)),
                (
                    "no link 'rigg/box'",
                    lambda: seen(vd.Camera(), vd.World().light(vd.Lamp((0, 0, 0), link="rigg/box"))),
                ),
            ):
                with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                    make()


def _copied(w: vd.World) -> vd.World:
    made = vd.World(w.gravity).light(w.sun, w.sky)
    for o in w.obstacles.values():
        made.obstacle(o.name, o.part, pose=o.pose)
    return made
