"""Scenarios on roads: the ready ones, measures of traffic, boxes, exchange with OpenSCENARIO, joints and things held."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np

import veldrain as vd
from tests.helpers import called
from veldrain.demo import roads as demo

ACTED = [(0, 0), (300, 0)]


def follows(start: float = 40, duration: float = 5) -> vd.Scenario:
    """A car with truth sensors that follows a lorry, and a van hidden behind it, on a straight and a curve."""
    roads = vd.Roads("net").road("a", [(0, 0), (200, 0), (300, 80)], radius=80)
    m = vd.Model("ego").link("body", vd.Part(vd.Box((4, 1.8, 1.4)), pose=vd.Pose((0, 0, 0.7))), mass=1000)
    m.mount("traffic", vd.TrueTraffic(["lorry", "van"]), on="body")
    m.mount("boxes", vd.TrueBoxes(["lorry", "van"]), on="body", pose=vd.Pose((2.1, 0, 1)))
    lane = roads.lane("a")
    w = vd.World().ground(height=-0.2).roads(roads).actor("ego", m, route=lane.route(speed=15))
    w.actor("lorry", vd.Box((8, 2.5, 3)), route=lane.route(speed=10), start=start)
    w.actor("van", vd.Box((5, 2, 2)), route=lane.route(speed=10), start=52)
    return vd.Scenario(w, duration)


class Measures(unittest.TestCase):
    def test_gaps_and_times_against_closed_forms(self) -> None:
        r = vd.run(follows())
        gap = r["ego/traffic/gap"]
        expected = 40 - 4 - 2 - 5 * gap["time"]
        for name, values in (
            ("gap", expected),
            ("time_gap", expected / 15),
            ("time_to_collision", expected / 5),
            ("needed_deceleration", 25 / (2 * expected)),
            ("lane_offset", 0 * expected),
        ):
            with self.subTest(name):
                np.testing.assert_allclose(r[f"ego/traffic/{name}"]["data"], values, atol=1e-6)
        rows = r["ego/boxes"]
        lorry, van = (rows[rows["id"] == k] for k in (0, 1))
        np.testing.assert_allclose(lorry["x"], 40 - 2.1 - 5 * lorry["time"], atol=1e-4)
        np.testing.assert_allclose(lorry["vx"], -5, atol=1e-4)
        self.assertEqual((lorry["visible"].min(), van["visible"].max()), (1.0, 0.0))
        self.assertEqual(set(r["ego/boxes/names"]["data"]), {"lorry van"})

    def test_every_crash_needs_the_same_braking(self) -> None:
        """5 m/s onto the lorry, ended before it is reached, wherever the last sample falls; 25 m/s² is beyond all."""
        for start in (12.0, 12.03, 12.07):
            needed = vd.run(follows(start, (start - 6) / 5 - 2e-3))["ego/traffic/needed_deceleration"]["data"]
            self.assertEqual((needed.max(), needed[np.isfinite(needed)].max() <= 20), (math.inf, True))

    def test_conditions_say_what_the_truth_says(self) -> None:
        """6.8 s − t to a collision, (34 − 5·t)/15 s of gap; none at all once the lorry is on another lane."""
        for condition, when in (
            (vd.time_to_collision("ego", "lorry") < "4.5 s", 2.3),
            (vd.time_gap("ego", "lorry") < "1.7 s", 1.7),
        ):
            for aside in (False, True):
                s = follows()
                if aside:
                    s.at(0.2).shift("lorry", 3.5, within="1 s")
                s.when(condition).say("near")
                said = vd.run(s, warn=False)["scenario/events"]
                times = said[said["data"].str.contains("near")]["time"].tolist()
                with self.subTest(condition, aside=aside):
                    self.assertEqual(len(times), 0 if aside else 1)
                    self.assertTrue(aside or when - 1e-6 <= times[0] <= when + 0.0211, times)

    def test_who_is_beside_is_not_ahead(self) -> None:
        s = follows()
        s.at(0.5).shift("lorry", 3.5, within="1 s").at(0.5).shift("van", 3.5, within="1 s")
        r = vd.run(s)
        self.assertTrue(np.isinf(r["ego/traffic/gap"]["data"].iloc[-1]))


class Ready(unittest.TestCase):
    def test_worlds_have_no_problems(self) -> None:
        for roads in (demo.dike_road(), demo.long_straight(), demo.roundabout()):
            with self.subTest(roads.name):
                self.assertEqual(list(roads.problems()), [])
        self.assertGreater(len(demo.parking_place().obstacles), 40)
        ring = demo.roundabout()
        route = ring.lane("west", lane=1).route(speed=5, via=["ring3", "ring4", "east"])
        self.assertLess(route.curve.jumps(), 1e-9)

    def test_the_car_keeps_its_gap_and_fails_beyond_the_edge(self) -> None:
        for scenario, passes in (
            (demo.lorry_brakes(), True),
            (demo.cut_in(), True),
            (demo.cut_in(gap="3 m", slower="35 km/h"), False),
            (demo.cyclist_behind_van(gap="22 m"), False),
            (demo.cyclist_behind_van(gap="35 m"), True),
            (demo.pedestrian_in_rain(gap="22 m"), False),
            (demo.pedestrian_in_rain(gap="40 m"), True),
        ):
            with self.subTest(str(scenario.timeline[-1].action)):
                outcome = vd.run(scenario, warn=False).outcome
                self.assertEqual((outcome["passed"], outcome["failed"]), (passes, False))
        culvert = vd.run(demo.stalled_crawler(), warn=False)
        self.assertEqual(culvert.outcome["reason"], "rammed the stalled one")


class Studied(unittest.TestCase):
    def test_a_study_of_actors_and_its_margins(self) -> None:
        from veldrain import demo as files

        study = vd.load_study(Path(files.__path__[0]) / "cut_in.study.yaml")
        study.trials, study.scenario.duration = 1, 6.0
        with tempfile.TemporaryDirectory() as folder:
            table = study.run(Path(folder) / "out").trials
            self.assertEqual(list(table["controller"]), ["narrow", "wide"])
            self.assertTrue((table["time to spare"] < 20).all() and (table["least gap"] > 0).all())
            self.assertAlmostEqual(table["other.start"].iloc[0], table["other.start"].iloc[1], 12)
            spare = vd.Margin("m", expectation="a second to spare")
            recording = vd.Recording(next(Path(folder).glob("out/trials/narrow/*.mcap")))
            self.assertAlmostEqual(spare.of(recording), table["time to spare"].iloc[0], 9)

    def test_every_ready_study_reads_and_finds_what_it_varies(self) -> None:
        """The lorry's whole: on ice both fail, on dry asphalt none, and the page says where."""
        from veldrain import demo as files

        folder = Path(files.__path__[0])
        varied = {
            "cyclist_behind_van": "sets_off.below",
            "lorry_brakes": "brake.at",
            "pedestrian_in_rain": "sets_off.speed",
            "stalled_crawler": "lidar_dies.at",
        }
        for name, path in varied.items():
            with self.subTest(name):
                study = vd.load_study(folder / f"{name}.study.yaml")
                self.assertIn(path, study.vary)
                # One with its draws, which are tried for seconds; the others as they are at nominal.
                checked = study if name == "stalled_crawler" else study.scenario
                self.assertEqual([str(f) for f in vd.check(checked) if f.severity == "error"], [])
                drawn = study.drawn({path: 2.5})
                self.assertEqual(next(k.get() for k in drawn.knobs() if k.path == path), 2.5)
        study = vd.load_study(folder / "lorry_brakes.study.yaml")
        study.scenario.duration = 8.0
        slippery = {"straight/asphalt.friction": vd.one_of(0.0, 0.7)}
        study = vd.Study(study.scenario, study.controllers, vary=slippery, trials=10, metrics=study.metrics)
        with tempfile.TemporaryDirectory() as out:
            text = (folder / "lorry_brakes.study.yaml").read_text()
            for old, new, wrong in (
                ("roads:lorry_brakes", "roads:lorry_breaks", "lorry_breaks"),
                ("roads:lorry_brakes", "roads:lorry", "Model is no scenario"),
                (
                    '{use: "veldrain.demo.roads:lorry_brakes"}',
                    '{use: "veldrain.demo.roads:lorry_brakes", with: {gp: 1}}',
                    "gap",
                ),
            ):
                path_of = Path(out) / "s.study.yaml"
                path_of.write_text(text.replace(old, new))
                with self.subTest(wrong), self.assertRaisesRegex(vd.VeldrainError, rf"s.study.yaml:5.*{wrong}"):
                    vd.load_study(path_of)
            result = study.run(Path(out) / "found")
            edges = [edge for edge in result.edges() if edge.is_clear]
            self.assertEqual(
                {(edge.controller, edge.fails) for edge in edges}, {(n, "below") for n in study.controllers}
            )
            self.assertTrue(all(edge.edge == 0.35 and edge.failed_beyond == 0 for edge in edges))
            said = called("compare", str(result.folder)).stdout
            self.assertIn("short gap fails where straight/asphalt.friction is below 0.35", said)
            self.assertIn("Where it fails", (result.folder / "report.html").read_text())


class Sensed(unittest.TestCase):
    def test_coverage_against_circles_and_wedges(self) -> None:
        m = vd.Model("post").link("base", vd.Cylinder(0.2, 1.0), mass=5)
        m.mount(
            "scan", vd.Lidar(beams=360, field_of_view="180 deg", max_range=10), on="base", pose=vd.Pose((0.3, 0, 0))
        )
        found = vd.coverage(m, heights=["0.5 m", "1.5 m"], reach="12 m")
        table = found.table().set_index(["height", "sensor"])
        self.assertAlmostEqual(table.loc[(0.5, "scan"), "area"], math.pi * 100 / 2, delta=4)  # half a circle
        self.assertLess(table.loc[(1.5, "all"), "area"], 1.0)  # its plane is a metre lower
        x, y = np.meshgrid(found.x, found.y)
        self.assertFalse(found.seen[0, 0][(x < 0)].any())
        self.assertTrue(found.blind(2.0)[0][(x < -0.5) & (np.hypot(x, y) < 2)].all())
        self.assertLess(len(repr(found)), 200)
        with self.assertRaisesRegex(vd.VeldrainError, "no sensor that looks"):
            vd.coverage(vd.Model("post").link("base", vd.Sphere(1), mass=1))

    def test_coverage_of_a_camera_and_between_the_beams_of_a_lidar(self) -> None:
        """A camera 1 m high, 30° down and 90° wide sees |y| ≤ x·cos 30° + sin 30° of the ground, an object of 30 cm also
        where half of it is beyond; a lidar's beams 1° up and down pass it by where they are farther off than that."""
        m = vd.Model("post").link("base", vd.Cylinder(0.05, 0.1), mass=5)
        down = vd.Pose((0, 0, 0.95), rpy=(0, "30 deg", 0))
        m.mount("eye", vd.Camera(size=(640, 480), field_of_view="90 deg"), on="base", pose=down)
        m.mount(
            "lidar", vd.SpinningLidar(channels=16, azimuths=900, max_range=30), on="base", pose=vd.Pose((0, 0, 1.95))
        )
        table = vd.coverage(m, heights=[0, "2 m"], reach="20 m").table().set_index(["height", "sensor"])
        near = 1 / math.tan(math.radians(30 + math.degrees(math.atan(0.75))))
        seen = math.cos(math.pi / 6) * (20**2 - near**2) + 2 * math.sin(math.pi / 6) * (20 - near)
        edges = 2 * 0.15 * (20 - near) / math.cos(math.atan(math.cos(math.pi / 6)))
        self.assertAlmostEqual(table.loc[(0, "eye"), "area"], seen + edges, delta=3)
        self.assertAlmostEqual(table.loc[(2, "lidar"), "farthest"], 0.15 / math.radians(1), delta=0.3)

    def test_detections_are_matched_against_boxes(self) -> None:
        m = vd.Model("ego").link("body", vd.Part(vd.Box((4, 1.8, 0.8)), pose=vd.Pose((0, 0, 0.7))), mass=1000)
        m.mount("radar", vd.Radar(period="0.2 s", max_range=80), on="body", pose=vd.Pose((2.1, 0, 0.8)))
        spinning = vd.SpinningLidar(period="0.2 s", channels=16, azimuths=720, max_range=60)
        m.mount("lidar", spinning, on="body", pose=vd.Pose((0, 0, 1.5)))
        m.mount("boxes", vd.TrueBoxes(["lorry"], period="0.2 s"), on="body", pose=vd.Pose((2.1, 0, 0.8)))
        for name, yaw in (("eye", 0.0), ("back", math.pi)):
            eye = vd.Camera(period="0.2 s", size=(160, 90), field_of_view="60 deg", output="labels", encoding="png")
            m.mount(name, eye, on="body", pose=vd.Pose((0, 0, 1.6), yaw=yaw))
        w = vd.World().ground().actor("ego", m, route=vd.Route([(0, 0), (100, 40)], speed=5))
        w.actor("lorry", vd.Box((8, 2.5, 3)), route=vd.Route([(0, 0), (100, 40)], speed=5), start=25)
        w.obstacle("post", vd.Cylinder(0.3, 3), pose=vd.Pose((30, -8, 1.5)))
        with tempfile.TemporaryDirectory() as folder:
            r = vd.run(vd.Scenario(w, "2 s"), record=Path(folder) / "a.mcap")
            boxes = vd.true_boxes(r, "ego/boxes")
            at = r["tf"].query("child_frame_id == 'lorry/body'").set_index("time")["x"]
            stamps = boxes["time"].round(3)
            np.testing.assert_allclose(boxes["x"], np.interp(stamps, at.index, at), atol=0.05)
            np.testing.assert_allclose(boxes["yaw"], math.atan2(40, 100), atol=1e-3)
            for stream in ("ego/radar", "ego/lidar"):
                with self.subTest(stream):
                    matched = vd.match(r, stream, "ego/boxes")
                    near = matched.by_range([0, 60]).iloc[0]
                    self.assertEqual((near["boxes"], near["hits"] >= 10), (11, True))  # a lidar looks back: none at 0 s
                    self.assertGreater(near["on none"], 0)  # the post, and what of itself is seen
                    aside = vd.match(r, stream, "ego/boxes", sensor=vd.Radar(max_range=80, field_of_view="4 deg"))
                    beyond = vd.match(r, stream, "ego/boxes", sensor=vd.Radar(max_range=10))
                    self.assertEqual((aside.truth["in_view"].sum(), beyond.truth["in_view"].sum()), (11, 0))
                    self.assertEqual(beyond.by_range([0, 60])["boxes"].sum(), 0)
                    self.assertLess(matched.truth["error"].max(), 0.5)
            for stream, share in (("ego/eye/boxes", 1.0), ("ego/back/boxes", 0.0)):
                with self.subTest(stream):
                    matched = vd.match(r, stream, "ego/boxes")
                    near = matched.by_range([0, 60]).iloc[0]
                    self.assertEqual((near["boxes"], near["share"]), (11, share))
                    named = matched.detections[matched.detections["name"] == "lorry"]
                    self.assertEqual(
                        (len(named), set(named["label"])), (11 * share, {"lorry/body"} if share else set())
                    )
                    self.assertTrue(
                        (named["range"].to_numpy() == matched.truth["range"].to_numpy()[: len(named)]).all()
                    )
            cloud, kept = r.points("ego/radar", frame="world"), vd.detections(r, "ego/radar")
            self.assertTrue((cloud[cloud["ground"] == 1]["z"] < 0.05).all())
            self.assertEqual((len(kept), len(kept) > 20), ((cloud["ground"] == 0).sum(), True))
            self.assertLess(len(kept), len(cloud))
            with self.assertRaisesRegex(vd.VeldrainError, "Imu has no field of view"):
                vd.match(r, "ego/radar", "ego/boxes", sensor=vd.Imu())
            for name in ("above.png", "above.gif"):
                vd.birds_eye(r, Path(folder) / name, follow="ego", rate=2)
                self.assertGreater((Path(folder) / name).stat().st_size, 10_000)
            with self.assertRaisesRegex(vd.VeldrainError, "no robot 'egg'"):
                vd.birds_eye(r, follow="egg")

    def test_pictures_from_above_show_what_is_there(self) -> None:
        """Lanes, the car and the lorry in their places by colour; a movie of its length; and what cannot be drawn."""
        scenario = demo.lorry_brakes(gap="20 m")
        scenario.duration = 1.0
        from matplotlib.colors import to_rgb
        from matplotlib.patches import Polygon

        with tempfile.TemporaryDirectory() as folder:
            recording = vd.run(scenario, record=Path(folder) / "a.mcap", warn=False)
            panel = vd.birds_eye(recording, follow="car", time="0.5 s", span="40 m").axes[0]
            shapes = [patch.get_xy() for patch in panel.patches if isinstance(patch, Polygon)]
            at = recording["tf"].query("child_frame_id == 'lorry/body'").set_index("time")
            lorry = np.interp(0.5, at.index, at["x"])
            boxes = [xy for xy in shapes if np.ptp(xy[:, 0]) < 20]
            self.assertTrue(any(abs(xy[:-1, 0].mean() - lorry) < 0.3 and np.ptp(xy[:, 0]) > 8 for xy in boxes))
            lanes = [xy for xy in shapes if np.ptp(xy[:, 0]) > 500]
            self.assertGreaterEqual(len(lanes), 4)
            low, high = panel.get_xlim()
            car = np.interp(0.5, *recording["car/pose"][["time", "x"]].to_numpy().T)
            self.assertTrue(low < car < high and high - low < 100)
            movie = Path(folder) / "above.mp4"
            vd.birds_eye(recording, movie, follow="car", rate=5)
            import av

            with av.open(str(movie)) as opened:
                self.assertEqual(len(list(opened.decode(video=0))), 6)
            for words, wrong in (
                ({"follow": "car", "sensors": ["car/rader"]}, "did you mean 'car/radar'"),
                ({"follow": "lory"}, "did you mean 'lorry'"),
                ({"follow": "car", "out": movie, "rate": 5}, "is there already"),
            ):
                with self.subTest(wrong), self.assertRaisesRegex(vd.VeldrainError, wrong):
                    vd.birds_eye(recording, **words)
        found = vd.coverage(demo.service_car(), heights=["0.5 m", "1 m"], reach="20 m")
        with tempfile.TemporaryDirectory() as folder:
            figure = vd.plot(found, Path(folder) / "c.png")
            self.assertGreater((Path(folder) / "c.png").stat().st_size, 10_000)
        panels = [ax for ax in figure.axes if "blind" in ax.get_title()]
        self.assertEqual(len(panels), 2)
        table = found.table("5 m")
        for panel, height in zip(panels, (0.5, 1.0), strict=True):
            row = table[(table["height"] == height) & (table["sensor"] == "all")].iloc[0]
            self.assertIn(f"{row['blind']:.1f} m² blind within 5 m", panel.get_title())
            red = np.asarray(panel.images[1].get_array().filled(0.0))
            cell = (found.x[1] - found.x[0]) * (found.y[1] - found.y[0])
            self.assertAlmostEqual(np.nansum(red) * cell, row["blind"], delta=1.5)
        self.assertEqual(to_rgb("#c8553d"), panels[0].images[1].cmap(1.0)[:3])
        world = (
            vd.World().ground().place(demo.service_car(), "a").place(demo.service_car(), "b", pose=vd.Pose((9, 0, 0)))
        )
        for robot, wrong in ((None, "2 robots look; name one: a, b"), ("c", "no robot 'c'")):
            with self.subTest(wrong), self.assertRaisesRegex(vd.VeldrainError, wrong):
                vd.coverage(world, robot=robot)

    def test_boxes_of_a_camera_are_where_its_matrix_puts_them(self) -> None:
        """A box of 2 m, 10 m ahead: its pixels are f·(±1 m)/9 m beside the middle."""
        m = vd.Model("post").link("base", vd.Box((0.1, 0.1, 1)), mass=5)
        eye = vd.Camera(size=(320, 240), field_of_view="60 deg", output="labels", period="0.1 s")
        m.mount("eye", eye, on="base", pose=vd.Pose((0.1, 0, 0)))
        world = vd.World().ground().place(m, "post", pose=vd.Pose((0, 0, 2)), fixed=True)
        world.obstacle("crate", vd.Box((2, 2, 2)), pose=vd.Pose((10.1, 0, 2)))
        found = vd.detections(vd.run(vd.Scenario(world, 0.3)), "post/eye/boxes").query("name == 'crate'")
        half = eye.matrix[0, 0] / 9.0
        self.assertEqual(len(found), 4)
        for column, expected in (
            ("left", 160 - half),
            ("right", 160 + half),
            ("top", 120 - half),
            ("bottom", 120 + half),
        ):
            np.testing.assert_allclose(found[column], expected, atol=1.1)


class Held(unittest.TestCase):
    def test_joints_lock_and_go_free_and_things_come_and_go(self) -> None:
        m = vd.Model("arm").link("base").link("rod", vd.Box((0.05, 0.05, 1)), mass=1, com=(0, 0, -0.5))
        m.joint("hinge", "base", "rod", kind="continuous", axis=(0, 1, 0))
        m.motor("hinge", mode="position", stiffness=200, damping=20)
        w = vd.World().ground(height=-3).place(m, fixed=True, joints={"hinge": 0.5})
        w.body("crate", vd.Box((1, 1, 1)), mass=5, pose=vd.Pose((3, 0, -2.5)))
        s = vd.Scenario(w, "6 s")
        s.at("1 s").free("arm/hinge", lasting="2 s").at("1.5 s").lock("arm/hinge", lasting="1 s")
        s.at("1 s").remove("crate").at("4 s").put("crate", vd.Pose((3, 0, -1)))
        trial, held, away = vd.Trial(s), {}, {}
        for k in range(1, 13):
            trial.advance(0.5)
            held[k / 2] = float(trial.simulation["arm"].positions[0])
            away[k / 2] = float(trial.simulation["crate"].pose().position[2])
        self.assertAlmostEqual(held[1.0], 0.4885, 3)  # it sags on its motor's stiffness
        self.assertLess(held[1.5], 0.0)  # it swings
        self.assertAlmostEqual(held[2.5], held[1.5], 9)
        self.assertNotAlmostEqual(held[3.0], held[2.5], 2)
        self.assertAlmostEqual(held[6.0], held[1.0], 3)
        self.assertEqual((away[1.0], away[3.5], round(away[6.0], 3)), (-1000.0, -1000.0, -2.5))
        for at in (1.7, 3.5):
            one, other = vd.Trial(s), vd.Trial(s)
            one.advance(at)
            other.restore(one.snapshot())
            self.assertEqual(one.run(), other.run())
            self.assertEqual(float(one.simulation["arm"].positions[0]), float(other.simulation["arm"].positions[0]))
        for said, act in (
            ("no joint 'arm/hunge'", lambda: s.at(0).lock("arm/hunge")),
            ("does not move freely", lambda: s.at(0).remove("arm")),
        ):
            other = vd.Scenario(w, "1 s")
            other.timeline = act().timeline[-1:]
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                vd.run(other)

    def test_pictures_are_recorded_and_disturb_nothing(self) -> None:
        w = vd.World().ground().actor("car", vd.Box((4, 1.8, 1.4)), route=vd.Route(ACTED, speed=10))
        plain = vd.run(vd.Scenario(w, "2 s"))["tf"]
        s = vd.Scenario(w, "2 s").at("0.5 s").picture(side="top", size=[320, 200])
        s.at("1 s").picture(look_from=(0, -9, 4), look_at=(10, 0, 0))
        r = vd.run(s)
        self.assertEqual([r.image("scenario/pictures", k).shape for k in (0, 1)], [(200, 320, 3), (400, 640, 3)])
        self.assertGreater(r.image("scenario/pictures", 1).std(), 5)
        self.assertTrue(plain.equals(r["tf"]))
        with self.assertRaisesRegex(vd.VeldrainError, "no side 'below'"):
            vd.run(vd.Scenario(w, "2 s").at(0).picture(side="below"))

    def test_actions_change_nothing_before_their_time(self) -> None:
        def table(acts: bool) -> np.ndarray:
            w = vd.World().ground().actor("car", vd.Box((4, 1.8, 1.4)), route=vd.Route(ACTED, speed=10))
            w.body("crate", vd.Box((1, 1, 1)), mass=50, pose=vd.Pose((30, 0, 0.5)))
            s = vd.Scenario(w, "4 s")
            if acts:
                s.at("2 s").shift("car", 1.0).at("2 s").stop("car").at("2 s").remove("crate").at("2 s").leave("car")
            r = vd.run(s)["tf"]
            return np.asarray(r[r["time"] <= 2.0][["x", "y", "z"]])

        np.testing.assert_array_equal(table(True), table(False))


if __name__ == "__main__":
    unittest.main()
