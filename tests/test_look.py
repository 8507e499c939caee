"""Pictures without a screen: what is drawn where, from Python and from the command line."""

from __future__ import annotations

import re
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image as Pillow

import veldrain as vd
from tests.helpers import DEMO, called, cart_scenario
from veldrain.recording import Recorder
from veldrain.report.layers import LAYERS
from veldrain.report.panels import arranged
from veldrain.report.picture import View, pictured
from veldrain.report.staging import staged
from veldrain.report.viewpoint import SIDES, corners_of, looking
from veldrain.sensing.painting import Painter
from veldrain.simulation import engine_of
from veldrain.units import quantity


def crates() -> vd.World:
    w = vd.World().ground().obstacle("red", vd.Part(vd.Box((1, 1, 1)), colour="red"), pose=vd.Pose((2, 0, 0.5)))
    return w.obstacle("blue", vd.Part(vd.Box((1, 1, 1)), colour="blue"), pose=vd.Pose((-2, 1, 0.5)))


def share(pixels: np.ndarray, channel: int) -> float:
    """Share of pixels in which a channel is far above the others."""
    others = np.delete(pixels.astype(int), channel, axis=2).max(axis=2)
    return float((pixels[..., channel] > others + 60).mean())


def middle_of(pixels: np.ndarray, channel: int) -> np.ndarray:
    """Column and row of the middle of what has a colour."""
    others = np.delete(pixels.astype(int), channel, axis=2).max(axis=2)
    v, u = np.nonzero(pixels[..., channel] > others + 60)
    return np.array((u.mean(), v.mean()))


class Views(unittest.TestCase):
    def test_everything_is_in_the_picture(self) -> None:
        """From the viewpoint that is chosen all corners of all things are inside the picture, and fill it."""
        size = (300, 200)
        for name, world in (
            ("two", crates()),
            ("yard", vd.load_world(DEMO / "worlds" / "yard.world.yaml")),
            ("flat", vd.World().obstacle("sheet", vd.Box((4, 3, 0.01)))),
        ):
            with self.subTest(name):
                scene = engine_of(vd.Simulation(world)).scene
                view = looking(scene, Painter(scene, world), size)
                u, v = view.project(corners_of(scene)).T
                self.assertTrue(u.min() >= 0 and v.min() >= 0 and u.max() < 300 and v.max() < 200)
                self.assertGreater(max(np.ptp(u) / 300, np.ptp(v) / 200), 0.85)

    def test_sides(self) -> None:
        """From above x points up and y left; from the front y points right; lengths are true."""
        pixels = {side: vd.look(crates(), size=(400, 300), side=side) for side in SIDES}
        red, blue = middle_of(pixels["top"], 0), middle_of(pixels["top"], 2)
        self.assertLess(red[1], blue[1])
        self.assertGreater(red[0], blue[0])
        self.assertAlmostEqual((blue[1] - red[1]) / (red[0] - blue[0]), 4.0, delta=0.1)
        self.assertLess(middle_of(pixels["right"], 2)[0], middle_of(pixels["right"], 0)[0])
        self.assertGreater(middle_of(pixels["left"], 2)[0], middle_of(pixels["left"], 0)[0])

    def test_eye_and_at(self) -> None:
        pixels = vd.look(crates(), size=(200, 200), look_from=("6 m", 0, 0.5), look_at=(2, 0, 0.5))
        np.testing.assert_allclose(middle_of(pixels, 0), (100, 100), atol=2)

    def test_panels_fill_their_places(self) -> None:
        """Cameras' pictures have their shape, nothing overlaps, and all of the picture is used."""
        for shapes in (
            [None],
            [4 / 3],
            [None, 4 / 3],
            [None, 4 / 3, 4 / 3, 4 / 3],
            [4 / 3] * 4,
            [0.5, None, 2, 2, None],
            [None] + [4 / 3] * 12,
            [1] * 7 + [None] * 2,
        ):
            with self.subTest(shapes=shapes):
                used = np.zeros((800, 1280), int)
                for shape, (x, y, w, h) in zip(shapes, arranged((1280, 800), shapes), strict=True):
                    used[y : y + h, x : x + w] += 1
                    if shape and len(shapes) == 4 and None in shapes:
                        self.assertAlmostEqual(w / h, shape, delta=0.02)
                self.assertTrue((used == 1).all())

    def test_what_is_left_out(self) -> None:
        """By name, or because it stands between the eye and a robot: nothing else, and it is told."""
        w = crates().place(vd.Model("rover").link("hull", vd.Part(vd.Box((1, 1, 1)), colour="green"), mass=1))
        for words, red, green, told in (
            ({}, True, False, ""),
            ({"cutaway": True}, False, True, "cut away: red"),
            ({"hide": ["red"]}, False, True, "left out: red"),
            ({"hide": ["red", "rover"], "cutaway": True}, False, False, "left out: red, rover"),
        ):
            with self.subTest(words=words):
                how = View(size=(640, 400), look_from=(6, 0, 0.5), look_at=(0, 0, 0.5), **words)
                made = pictured(staged(w), how)
                found = share(made.pixels, 0) > 0.01, share(made.pixels, 1) > 0.01
                self.assertEqual(found, (red, green))
                self.assertEqual("".join(line.strip() for line in made.told[1:]), told)
        stage, hide = staged(w), ["red", "blue", "rover"]
        plain, named = (pictured(stage, View(size=(640, 400), hide=hide, layers=some)) for some in ([], ["names"]))
        self.assertTrue((plain.pixels == named.pixels).all())  # a name goes with its thing
        stands = vd.World().ground().obstacle("dock", vd.Box((4, 4, 1)), pose=vd.Pose((0, 0, 0.5)))
        stands.place(vd.Model("rover").link("hull", vd.Box((1, 1, 1)), mass=1), pose=vd.Pose((0, 0, 1.499)))
        told = pictured(staged(stands), View(size=(160, 100), look_from=(3, 0, 3), cutaway=True)).told
        self.assertEqual(len(told), 1, "what it stands on is not in its way")
        with self.assertRaisesRegex(vd.VeldrainError, "a camera sees all that is there"):
            View(through="rover/eye", hide=["red"])
        with self.assertRaisesRegex(vd.VeldrainError, "no thing 'bleu'; did you mean 'blue'"):
            vd.look(w, hide=["bleu"])

    def test_edges_and_grid(self) -> None:
        """Edges are smooth: between a thing and what is behind it there are colours in between; the ground has lines."""
        pixels = vd.look(crates(), size=(400, 300)).astype(int)
        others = np.delete(pixels, 0, axis=2).max(axis=2)
        redness = pixels[..., 0] - others
        self.assertGreater(int(((redness > 25) & (redness < 60)).sum()), 60)
        ground = vd.look(crates(), size=(400, 300), side="top")[140:160, 150:210].mean(axis=2)
        self.assertGreater(float(np.ptp(ground)), 4)

    def test_through_a_camera(self) -> None:
        """What a camera sees is what it measures."""
        m = vd.Model("rig").link("box", mass=1).mount("eye", vd.Camera(size=(64, 48)), on="box")
        sim = vd.Simulation(crates().place(m, pose=vd.Pose((-1, 0, 1)), fixed=True))
        np.testing.assert_array_equal(vd.look(sim, through="rig/eye", size=(64, 48)), sim["rig"].read("eye").pixels)
        panels = vd.look(sim, panels=["around", "top", "rig/eye"], size=(400, 300))
        self.assertEqual(panels.shape, (300, 400, 3))
        wide = 400 * 4 // 10  # the camera's picture is as wide as its height asks for, in the middle below
        self.assertTrue((panels[250, [2, 397]] == 255).all())
        self.assertLess(int(panels[250, 200 - wide // 2 : 200 + wide // 2].min()), 200)

    def test_mistakes(self) -> None:
        for words, how in (
            ("no layer 'beamz'.*'beams'", {"layers": ["beamz"]}),
            ("no side 'tip'.*'top'", {"side": "tip"}),
            ("no camera's stream 'rig/eye'", {"through": "rig/eye"}),
            ("more than one way to look", {"side": "top", "look_from": (1, 1, 1)}),
            ("a size of", {"size": (4, 4)}),
            ("not an? length|cannot read", {"look_from": ("1 kg", 0, 0)}),
            ("cannot be written", {"out": "/dev/null/x.png"}),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                vd.look(crates(), **{"size": (80, 60)} | how)  # type: ignore[arg-type]
        with self.assertRaisesRegex(vd.VeldrainError, "int cannot be drawn"):
            vd.look(3)


class Layers(unittest.TestCase):
    def stage(self) -> Any:
        m = vd.Model("arm").link("base", vd.Part(vd.Box((0.4, 0.4, 0.2))), mass=5)
        shell = vd.Part(vd.Sphere(0.3), vd.Pose((0.4, 0, 0)), role="collision")
        m.link("fore", vd.Part(vd.Box((0.8, 0.1, 0.1)), vd.Pose((0.4, 0, 0)), role="visual"), shell, mass=2)
        m.joint("bend", "base", "fore", "revolute", vd.Pose((0, 0, 0.3)), axis=(0, 1, 0)).motor(
            "bend", "position", 2e3, 90
        )
        m.frame("tip", "fore", vd.Pose((0.8, 0, 0)))
        m.mount("scan", vd.Lidar(beams=30, max_range=5), on="base", pose=vd.Pose((0.3, 0, 0)))
        m.mount("eye", vd.Camera(size=(8, 6)), on="fore", pose=vd.Pose((0.8, 0, 0)))
        w = vd.World().ground().obstacle("wall", vd.Box((0.1, 3, 1)), pose=vd.Pose((2, 0, 0.5)))
        w.patch("silt", (1, 1, 0.2), pose=vd.Pose((0.5, 0.5, 0)), surface=vd.Surface(friction=0.2))
        return staged(w.place(m, pose=vd.Pose((0, 0, 0.1))), time=0.2)

    def test_each_draws_and_tells(self) -> None:
        stage = self.stage()
        plain = pictured(stage, View(size=(320, 240))).pixels
        told = {
            "collision": "collision shapes",
            "joints": "1 turning joint",
            "frames": "  x",
            "masses": "2 ellipsoids",
            "contacts": "contact forces, the longest",
            "patches": "patches of another surface",
            "beams": "arm/scan: .* of 30 beams hit",
            "fields": "arm/eye: field of view",
            "trails": "no trails",
            "names": "around: arm, wall",
        }
        self.assertEqual(set(told), {"collision", *LAYERS})
        for layer, words in told.items():
            with self.subTest(layer):
                made = pictured(stage, View(size=(320, 240), layers=[layer]))
                self.assertRegex("\n".join(made.told), words)
                self.assertTrue((made.pixels != plain).any())

    def test_contacts_of_a_recording_are_those_of_its_time(self) -> None:
        """A box at rest: its weight; before it lands nothing; without them recorded, how to have them."""
        world = vd.World().ground().body("box", vd.Box((1, 1, 1)), mass=2, pose=vd.Pose((0, 0, 0.9)))
        for kept, time, told in (
            ("10 ms", "0.9 s", r"contact forces, the longest [\d.]+ N"),
            ("10 ms", "0.1 s", "no contact forces$"),
            (False, "0.9 s", "record it with record_contacts"),
        ):
            with self.subTest(kept=kept, time=time):
                recording = vd.run(vd.Scenario(world, "1 s", record_contacts=kept))
                stage = staged(recording, quantity(time, "time"))
                made = pictured(stage, View(size=(160, 100), layers=["contacts"]))
                self.assertRegex("\n".join(made.told), told)
                if "longest" in told:
                    _, forces = stage.contacts()
                    np.testing.assert_allclose(forces.sum(axis=0), (0, 0, 2 * 9.81), atol=0.1)

    def test_beams_on_the_ground_are_not_on_things(self) -> None:
        """Two cones of beams down from 1 m: those that come to x = 0.2 m above the plane meet a step there."""
        m = vd.Model("post").link("top", vd.Box((0.01, 0.01, 0.01)), mass=1)
        m.mount(
            "scan",
            vd.SpinningLidar(elevations=["-45 deg", "-30 deg"], azimuths=18),
            on="top",
            pose=vd.Pose((0, 0, -0.01)),
        )
        w = vd.World().ground().obstacle("step", vd.Box((2, 8, 0.4)), pose=vd.Pose((1.2, 0, 0.2)))
        made = pictured(staged(w.place(m, pose=vd.Pose((0, 0, 1)), fixed=True)), View(size=(64, 48), layers=["beams"]))
        things, beams, ground = map(int, re.findall(r"\d+", made.told[-1]))
        self.assertEqual((beams, things + ground), (36, 36))
        way = next(iter(m.sensors.values())).sensor.directions
        self.assertEqual(things, int((way[:, 0] / -way[:, 2] > 0.2).sum()))

    def test_trails_of_all_that_moves(self) -> None:
        """A body that falls beside a robot that does: each has its trail, in a colour of its own."""
        w = (
            vd.World()
            .body("a/ball", vd.Sphere("10 cm"), mass=1)
            .place(vd.Model("rover").link("hull", vd.Box((1, 1, 1)), mass=1), pose=vd.Pose((2, 0, 0)))
        )
        made = pictured(staged(vd.run(vd.Scenario(w, "0.5 s"))), View(size=(160, 100), layers=["trails"]))
        for name in ("a/ball", "rover"):
            self.assertRegex("\n".join(made.told), rf"  {name}: path length 1.2\d? m")

    def test_a_mark_is_where_the_thing_is(self) -> None:
        """The axis of a joint goes through its place; collision shapes lie over the picture where they are."""
        stage = self.stage()
        for layer, point in (
            ("joints", stage.simulation["arm"].pose("fore").position),
            ("collision", stage.simulation["arm"].pose("fore").apply((0.4, 0, 0))),
        ):
            with self.subTest(layer):
                plain, drawn = (
                    pictured(stage, View(size=(640, 480), layers=some, side="front")).pixels.astype(int)
                    for some in ([], [layer])
                )
                scene = engine_of(stage.simulation).scene
                view = looking(scene, Painter(scene, stage.simulation.world), (640, 480), side="front")
                u, v = view.project(point)[0].round().astype(int)
                near = np.abs(drawn - plain)[v - 6 : v + 7, u - 6 : u + 7].max(axis=2)
                self.assertGreater(int((near > 20).sum()), 8)

    def test_a_model_by_itself(self) -> None:
        """A robot file stands on the ground on its lowest point, and is drawn in a posture that was asked for."""
        stage = staged(DEMO / "robots" / "sampling_arm.urdf")
        scene = engine_of(stage.simulation).scene
        scene.follow()
        self.assertAlmostEqual(float(corners_of(scene)[:, 2].min()), 0.0, places=6)
        self.assertIn("sampling_arm", pictured(stage, View(size=(100, 80))).told[0])


class Recordings(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = tempfile.TemporaryDirectory()
        cls.path = Path(cls.folder.name)
        for name in ("culvert.world.yaml", "culvert.scenario.yaml"):
            shutil.copy(DEMO / name, cls.path)
        scenario = vd.load_scenario(cls.path / "culvert.scenario.yaml")
        scenario.duration = 2.0
        (cls.path / "trials").mkdir()
        cls.recording = vd.run(scenario, seed=2, record=cls.path / "trials" / "one.mcap")
        cls.pose = cls.recording["crawler/truth"]

    @classmethod
    def tearDownClass(cls) -> None:
        cls.folder.cleanup()

    def test_at_a_time(self) -> None:
        """The robot stands where its true pose was recorded."""
        for time in (0.5, 1.7):
            stage = staged(self.path / "trials" / "one.mcap", time)
            row = self.pose.iloc[int((self.pose["time"] - time).abs().argmin())]
            found = stage.simulation["crawler"].pose().position
            np.testing.assert_allclose(found, row[["x", "y", "z"]].to_numpy(float), atol=1e-9)
        trail = stage.trails()["crawler"]
        self.assertEqual(len(trail), 35)
        np.testing.assert_allclose(trail[-1][:2], found[:2], atol=0.01)  # of its centre of mass

    def test_mistakes(self) -> None:
        file = self.path / "trials" / "one.mcap"
        with self.assertRaisesRegex(vd.VeldrainError, "there is no 9 s in it; give 0 to 2 s"):
            vd.look(file, time=9)
        with self.assertRaisesRegex(vd.VeldrainError, "the recording does not know where drift/1, drift/2.* is"):
            vd.look(file, world=DEMO / "worlds" / "sluice.world.yaml")
        recorder = Recorder()
        recorder.begin({})
        vd.Trial(cart_scenario(duration=0.2), sinks=[recorder]).run()
        with self.assertRaisesRegex(vd.VeldrainError, "holds no world; name the world's file"):
            vd.look(vd.Recording(recorder.finish({})))

    def test_movies(self) -> None:
        """As many pictures as there is time for, and of the size that was asked for."""
        import av

        for name in ("m.gif", "m.mp4"):
            with self.subTest(name):
                out = self.path / name
                done = called(
                    "look",
                    self.path / "trials" / "one.mcap",
                    "--movie",
                    out,
                    "--rate",
                    "5",
                    "--size",
                    "160x100",
                    "--from",
                    "top",
                    "--quiet",
                )
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                if name == "m.gif":
                    with Pillow.open(out) as movie:
                        self.assertEqual((movie.size, movie.n_frames), ((160, 100), 11))  # type: ignore[attr-defined]
                else:
                    with av.open(str(out)) as movie:
                        frames = [f.to_ndarray(format="rgb24") for f in movie.decode(video=0)]
                    self.assertEqual((len(frames), frames[0].shape), (11, (100, 160, 3)))
                    self.assertGreater(np.abs(frames[0].astype(int) - frames[-1]).mean(), 0.1)


class CommandLine(unittest.TestCase):
    def test_a_picture(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "yard.png"
            done = called(
                "look",
                DEMO / "worlds" / "yard.world.yaml",
                "--layer",
                "names",
                "--panel",
                "around",
                "--panel",
                "top",
                "--size",
                "400x200",
                "--out",
                out,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertRegex(
                done.stdout, r"around: .*crates.*, from \(.*\) m\ntop: .*from top, parallel\nWritten: .*400 × 200"
            )
            with Pillow.open(out) as picture:
                self.assertEqual(picture.size, (400, 200))
            again = called("look", DEMO / "worlds" / "yard.world.yaml", "--out", out)
            self.assertEqual((again.returncode, again.stderr.count("\n")), (2, 1))
            self.assertIn("is there already", again.stderr)

    def test_mistakes(self) -> None:
        world = DEMO / "worlds" / "floor.world.yaml"
        for words, told in (
            ((world, "--look-from", "1,2"), "--look-from: cannot read '1,2'; write it like 2,-1.5,1"),
            ((world, "--size", "big"), "write it like 1280x800"),
            ((world, "--movie", "x.mp4"), "has no course to show; give a recording"),
            ((world, "--movie", "x.mov"), "a movie of kind '.mov'"),
            ((world, "--time", "3 kg"), "not a time"),
            (("nowhere.yaml",), "no such file"),
            ((DEMO / "worlds" / "floor.world.yaml", "--through", "rover/eye"), "no camera's stream 'rover/eye'"),
        ):
            with self.subTest(told), tempfile.TemporaryDirectory() as folder:
                done = called("look", *words, cwd=Path(folder))
                self.assertEqual((done.returncode, done.stderr.count("\n")), (2, 1), done.stderr)
                self.assertIn(told, done.stderr)
                self.assertEqual(list(Path(folder).iterdir()), [])
