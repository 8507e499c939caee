"""Studies: pairing, resuming, the example beside the files, and the statistics against worked numbers."""

from __future__ import annotations

import importlib.util
import json
import math
import multiprocessing
import os
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from scipy import stats

import veldrain as vd
from tests.helpers import DEMO, EXAMPLES, Faulty, Hold, cart, cart_scenario
from veldrain.control import NamedController
from veldrain.model.knobs import knob_of, world_knobs
from veldrain.report.page import write_page
from veldrain.study import Result
from veldrain.study.locking import locked
from veldrain.study.store import STORE


def small(trials: int = 3, seed: int = 4, **controllers: object) -> vd.Study:
    scenario = cart_scenario(duration=0.6)
    scenario.at(0.2).push("cart/car", force=(1, 0, 0), name="nudge")
    return vd.Study(
        scenario,
        controllers or {"slow": Hold(gain=10), "fast": Hold(gain=40)},
        vary={"cart/slide.position": vd.uniform("-10 cm", "10 cm"), "nudge.force_x": vd.normal(0, "2 N")},
        trials=trials,
        metrics=[
            vd.Metric("last place", "cart/encoders", "position.slide", "last", unit="m", better="higher"),
            vd.Metric("effort, RMS", "cart/encoders", "effort.*", "rms", unit="N"),
        ],
        seed=seed,
    )


def crawler(scenario: vd.Scenario) -> vd.Model:
    return scenario.world.placed["crawler"].model


class Pairing(unittest.TestCase):
    def test_draws(self) -> None:
        """A trial's draws depend on the seed, the quantity and the trial's number, and on nothing else."""
        one, more = small(), small(trials=9, only=Hold())
        self.assertEqual([one.draw(k) for k in range(3)], [more.draw(k) for k in range(3)])
        self.assertNotEqual(one.draw(0), one.draw(1))
        self.assertNotEqual(one.draw(0), small(seed=5).draw(0))
        fewer = vd.Study(one.scenario, {"h": Hold()}, vary={"nudge.force_x": vd.normal(0, "2 N")}, seed=4)
        self.assertEqual(fewer.draw(2)["nudge.force_x"], one.draw(2)["nudge.force_x"])

    def test_distributions(self) -> None:
        scenario = cart_scenario()
        draws = {
            "post.x": vd.uniform("10 cm", 0.3),
            "post.yaw": vd.normal("90 deg", "5 deg"),
            "post.friction": vd.one_of(0.2, "40 %"),
        }
        study = vd.Study(scenario, {"h": Hold()}, vary=draws)
        drawn = pd.DataFrame([study.draw(k) for k in range(800)])
        self.assertGreater(stats.kstest(drawn["post.x"], "uniform", (0.1, 0.2)).pvalue, 1e-3)
        self.assertGreater(stats.kstest(drawn["post.yaw"], "norm", (math.pi / 2, math.radians(5))).pvalue, 1e-3)
        self.assertEqual(set(drawn["post.friction"]), {0.2, 0.4})

    def test_every_quantity_goes_to_its_place(self) -> None:
        scenario = vd.load_scenario(DEMO / "culvert.scenario.yaml")
        for path, value, read in (
            ("crawler.y", 0.1, lambda s: s.world.placed["crawler"].pose.position[1]),
            ("crawler.yaw", 0.2, lambda s: s.world.placed["crawler"].pose.yaw),
            ("crawler/front_left.position", 0.3, lambda s: s.world.placed["crawler"].joints["front_left"]),
            ("stone/drum.z", 0.4, lambda s: s.world.obstacles["stone/drum"].pose.position[2]),
            ("silt.friction", 0.5, lambda s: s.world.patches["silt"].surface.friction),
            ("ground.restitution", 0.6, lambda s: s.world.floor.surface.restitution),
            ("shove.force_y", 7.0, lambda s: s.pushes()["shove"].force[1]),
            ("shove.lasting", 0.8, lambda s: s.pushes()["shove"].lasting),
            ("gravity.z", -3.7, lambda s: s.world.gravity[2]),
            ("air.rain", 8.0, lambda s: s.world.air.rain),
            ("sun.elevation", 0.3, lambda s: s.world.sun.elevation),
            ("outlet.x", 9.0, lambda s: s.world.frames["outlet"].position[0]),
            ("crawler/hull.mass", 25.0, lambda s: crawler(s).links["hull"].mass_properties.mass),
            ("crawler/rear_left_wheel.friction", 0.4, lambda s: crawler(s).links["rear_left_wheel"].surface.friction),
            ("crawler/front_left.damping", 0.3, lambda s: crawler(s).joints["front_left"].damping),
            ("crawler/front_left.motor.limit", 3.0, lambda s: crawler(s).motors["front_left"].limit),
            ("crawler/scan.max_range", 5.0, lambda s: crawler(s).sensors["scan"].sensor.max_range),
            ("crawler/scan.pitch", 0.1, lambda s: crawler(s).sensors["scan"].pose.rpy[1]),
            ("controller.gain", 3.5, lambda s: s.controllers["crawler"].make().gain),
        ):
            with self.subTest(path=path):
                knob = knob_of(scenario.knobs(), path)
                knob.set(value)
                self.assertAlmostEqual(read(scenario), value)
                self.assertAlmostEqual(knob.get(), value)
        with self.assertRaisesRegex(
            vd.VeldrainError, "did you mean 'crawler/scan.noise'.*veldrain inspect FILE --knobs"
        ):
            knob_of(scenario.knobs(), "crawler/scan.nois")

    def test_every_knob_takes_the_value_that_it_has(self) -> None:
        scenario = vd.load_scenario(DEMO / "culvert.scenario.yaml")
        knobs = list(scenario.knobs())
        self.assertEqual(len({knob.path for knob in knobs}), len(knobs))
        for knob in knobs:
            value = knob.get()
            if value is not None:
                knob.set(value)
                self.assertAlmostEqual(knob.get(), value, msg=knob.path)

    def test_what_no_quantity_can_be_is_refused_by_its_path(self) -> None:
        route = vd.Route([(0, 0), (20, 0)], speed=2)
        w = vd.World().ground().body("crate", vd.Box((1, 1, 1)), mass=1, pose=vd.Pose((0, 5, 0.5)))
        w.actor("van", vd.Box((2, 1, 1)), route=route).place(cart(), "cart", pose=vd.Pose((0, 9, 0)), fixed=True)
        for path, values in {
            "crate.mass": (0.0, -3.0, math.inf, math.nan),
            "crate.velocity_x": (math.inf, math.nan, 1e300),
            "gravity.z": (math.inf, math.nan),
            "ground.height": (math.inf,),
            "van.begin": (-1.0, math.inf),
            "van.offset": (math.inf, math.nan),
            "cart/slide.position": (math.inf,),
            "cart/slide.damping": (math.inf, -1.0),
            "cart/slide.rest_position": (math.inf,),
        }.items():
            for value in values:
                with self.subTest(path, value=value):
                    knob = knob_of(world_knobs(w), path)
                    before = knob.get()
                    with self.assertRaisesRegex(vd.VeldrainError, path.rpartition(".")[0].replace(".", r"\.")):
                        knob.set(value)
                    self.assertEqual(knob_of(world_knobs(w), path).get(), before)

    def test_a_controllers_gain_is_varied_with_each_controller(self) -> None:
        scenario = cart_scenario()
        study = vd.Study(scenario, {"h": Hold(gain=9)}, vary={"controller.gain": vd.uniform(1, 2)})
        drawn = study.draw(3)
        self.assertEqual(study.drawn(drawn, "h").controllers["cart"].gain, drawn["controller.gain"])
        with self.assertRaisesRegex(vd.VeldrainError, "no quantity 'controller.gian'.*did you mean 'controller.gain'"):
            vd.Study(scenario, {"h": Hold()}, vary={"controller.gian": vd.uniform(1, 2)})

    def test_a_joint_and_a_link_of_one_name_are_told_apart(self) -> None:
        """Both have a damping and a friction: neither is set for the other in silence."""
        m = vd.Model("arm").link("base", vd.Box((0.1, 0.1, 0.1)), mass=1).link("boom", vd.Box((0.1, 0.1, 0.1)), mass=1)
        m.joint("boom", "base", "boom", "revolute", pose=vd.Pose((0, 0, 0.3)), limits=(-1, 1), friction=0.2)
        w = vd.World().ground().place(m, "arm", fixed=True, pose=vd.Pose((0, 0, 1)))
        for path, joint, link in (("arm/boom.joint.friction", 0.5, 0.8), ("arm/boom.link.friction", 0.5, 0.3)):
            knob_of(world_knobs(w), path).set(0.5 if ".joint" in path else 0.3)
            model = w.placed["arm"].model
            self.assertEqual((model.joints["boom"].friction, model.links["boom"].surface.friction), (joint, link))
        knob_of(world_knobs(w), "arm/boom.mass").set(2.0)  # a joint has none
        with self.assertRaisesRegex(vd.VeldrainError, "of 2 things.*boom.joint.friction or arm/boom.link.friction"):
            knob_of(world_knobs(w), "arm/boom.friction")

    def test_two_robots_of_one_model_are_changed_one_by_one(self) -> None:
        m = cart()
        w = vd.World().place(m, "one", fixed=True).place(m, "two", pose=vd.Pose((0, 3, 0)), fixed=True)
        knob_of(world_knobs(w), "two/scan.noise").set(0.5)
        noises = [w.placed[name].model.sensors["scan"].sensor.noise for name in ("one", "two")]
        self.assertEqual(noises, [0.01, 0.5])

    def test_mistakes(self) -> None:
        scenario = cart_scenario()
        for words, act in (
            (
                "did you mean 'post.friction'",
                lambda: vd.Study(scenario, {"h": Hold()}, vary={"post.frction": vd.uniform(0, 1)}),
            ),
            (
                "'3 kg' is not a length",
                lambda: vd.Study(scenario, {"h": Hold()}, vary={"post.x": vd.uniform(0, "3 kg")}),
            ),
            ("the lower value first", lambda: vd.Study(scenario, {"h": Hold()}, vary={"post.x": vd.uniform(2, 1)})),
            ("0 trials", lambda: vd.Study(scenario, {"h": Hold()}, trials=0)),
            ("no controllers", lambda: vd.Study(scenario, {})),
            ("no period and no update", lambda: vd.Study(scenario, {"h": 3})),
            ("no statistic 'middle'", lambda: vd.Metric("m", "s", "c", "middle")),
            ("this name is taken", lambda: vd.Study(scenario, {"h": Hold()}, metrics=[vd.FinishTime("time", "x")])),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


class Running(unittest.TestCase):
    def test_workers_give_the_same_bytes(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            results = {w: small().run(Path(folder) / str(w), workers=w) for w in (1, 2)}
            with ThreadPoolExecutor(2) as pool:
                results[3] = small().run(Path(folder) / "3", executor=pool)
            for name in (f"trials/{c}/{n:03d}.mcap" for c in ("slow", "fast") for n in range(3)):
                self.assertEqual(len({(r.folder / name).read_bytes() for r in results.values()}), 1, name)
            trials = results[1].trials
            for other in (2, 3):
                pd.testing.assert_frame_equal(trials, results[other].trials)
            self.assertEqual(list(trials["controller"]), ["slow"] * 3 + ["fast"] * 3)
            drawn = trials.pivot(index="trial", columns="controller", values="nudge.force_x")
            np.testing.assert_array_equal(drawn["slow"], drawn["fast"])

    def test_an_interrupted_study_is_completed(self) -> None:
        """After an interruption only what is missing is run, and the result is that of an undisturbed run."""
        with tempfile.TemporaryDirectory() as folder:
            place, whole = Path(folder) / "a", small().run(Path(folder) / "b")

            def stop(done: int, total: int, last: str) -> None:
                if done == 3:
                    raise KeyboardInterrupt

            with self.assertRaises(KeyboardInterrupt):
                small().run(place, progress=stop)
            rows = {p: p.stat().st_mtime_ns for p in place.glob("trials/*/*.mcap")}
            self.assertEqual(len(rows), 3)
            told: list[tuple[int, int]] = []
            result = small().run(place, progress=lambda done, total, last: told.append((done, total)))
            self.assertEqual(told, [(3, 6), (4, 6), (5, 6), (6, 6)])
            self.assertEqual({p: p.stat().st_mtime_ns for p in rows}, rows)
            self.assertEqual(len(small(trials=5).run(place).trials), 10)  # more trials can be added
            self.assertEqual(list(place.rglob("*.part")), [])
            pd.testing.assert_frame_equal(result.trials, whole.trials)

    def test_what_would_go_wrong_is_told_before_anything_is_written(self) -> None:
        odd = type("Odd", (Hold,), {"period": 0.0105})()
        lost = small(trials=1)
        lost.metrics = [vd.Metric("m", "cart/encodres", "x", "mean")]
        for words, study in (
            ("period: 0.0105 s is not a whole number", small(odd=odd)),
            ("did you mean 'cart/encoders'", lost),
        ):
            with self.subTest(words=words), tempfile.TemporaryDirectory() as folder:
                with self.assertRaisesRegex(vd.VeldrainError, words):
                    study.run(Path(folder) / "out")
                self.assertEqual(list(Path(folder).iterdir()), [])

    def test_a_folder_that_holds_something_else(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            small(trials=1).run(folder)
            with self.assertRaisesRegex(vd.VeldrainError, r"results of another study \(seed differ\)"):
                small(trials=1, seed=5).run(folder)
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "letter.txt").write_text("dear")
            with self.assertRaisesRegex(vd.VeldrainError, "is not empty"):
                small().run(folder)
            with self.assertRaisesRegex(vd.VeldrainError, "holds no study"):
                vd.Result(folder)

    def test_a_controller_that_raises_does_not_stop_the_study(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            result = small(trials=2, good=Hold(), bad=Faulty()).run(folder)
            failed = result.trials.set_index("controller")["failed"]
            self.assertTrue(failed["bad"].all() and not failed["good"].any())
            self.assertIn("lost the plot", result.trials["reason"].iloc[-1])
            passes = {p.controller: p.passed for p in result.compare("good").passes}
            self.assertEqual(passes, {"good": 2, "bad": 0})

    def test_metrics_read_what_is_there(self) -> None:
        recording = vd.run(cart_scenario(duration=0.3))
        table = recording["cart/encoders"]["effort.slide"].to_numpy()
        for statistic, exact in (
            ("mean", table.mean()),
            ("rms", math.sqrt((table**2).mean())),
            ("max abs", abs(table).max()),
            ("min", table.min()),
            ("max", table.max()),
            ("last", table[-1]),
        ):
            self.assertAlmostEqual(vd.Metric("m", "cart/encoders", "effort.slide", statistic).of(recording), exact)
        self.assertEqual(vd.FinishTime("t", "never").of(recording), math.inf)
        with self.assertRaisesRegex(vd.VeldrainError, "did you mean 'effort.slide'"):
            vd.Metric("m", "cart/encoders", "effort.slid", "mean").of(recording)


class TheExample(unittest.TestCase):
    def test_one_controller_with_two_sets_of_quantities(self) -> None:
        """What is changed with a controller is that of its trials alone, and its page and terminal say so."""
        scenario = cart_scenario(duration=0.6)
        path = "cart/slide.damping"
        self.assertNotIn("cart/slide.motor.damping", [k.path for k in scenario.knobs()])  # nothing in mode effort
        way = vd.Metric("way", "cart/encoders", "position.slide", "last", unit="m")
        words: dict[str, Any] = {"controllers": {"a": Hold(), "b": Hold(), "c": Hold()}, "trials": 6, "metrics": [way]}
        study = vd.Study(scenario, changes={"b": {path: "40 N*s/m"}, "c": {}}, **words)
        plain = vd.Study(scenario, **words)
        self.assertNotEqual(study.sources()["b"], plain.sources()["b"])
        self.assertEqual(study.sources()["c"], plain.sources()["c"])
        with tempfile.TemporaryDirectory() as folder:
            result = study.run(folder)
            ways = {name: rows["way"].to_list() for name, rows in result.trials.groupby("controller")}
            self.assertEqual(ways["a"], ways["c"])
            self.assertTrue(all(b < a for a, b in zip(ways["a"], ways["b"], strict=True)))
            page = write_page(result, result.compare("a"), Path(folder) / "page.html").read_text()
            self.assertIn(f"With b: {path} = 40.0 N*s/m", page)
            done = subprocess.run(
                [sys.executable, "-m", "veldrain", "compare", folder], capture_output=True, text=True, check=True
            )
            self.assertIn(f"With b: {path} = 40.0 N*s/m", done.stdout)
            other = vd.Study(scenario, changes={"b": {path: "50 N*s/m"}}, **words)
            other.run(folder)  # b alone is run anew
            self.assertEqual(Result(Path(folder)).about["changes"], {"b": {path: [50.0, "N*s/m"]}})
        drawn = {"vary": {path: vd.uniform(1, 2)}, "changes": {"b": {path: 3}}}
        for told, wrong in (
            ("no controller 'd'", {"changes": {"d": {path: 3}}}),
            ("no quantity .*damqing'.*did you mean", {"changes": {"b": {path[:-4] + "qing": 3}}}),
            ("'3 kg' is not a linear damping", {"changes": {"b": {path: "3 kg"}}}),
            ("drawn, and set with a controller as well", drawn),
        ):
            with self.subTest(told), self.assertRaisesRegex(vd.VeldrainError, told):
                vd.Study(scenario, **words, **wrong)

    def test_python_and_files_are_one(self) -> None:
        """The study built in Python draws the same values and gives the same recording as the one from files."""
        spec = importlib.util.spec_from_file_location("culvert_study", EXAMPLES / "culvert_study.py")
        assert spec and spec.loader
        example = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(example)
        built, read = example.study(), vd.load_study(DEMO / "culvert.study.yaml")
        self.assertEqual((built.trials, built.seed), (read.trials, read.seed))
        self.assertEqual([built.draw(k) for k in range(8)], [read.draw(k) for k in range(8)])
        self.assertEqual(built.metrics, read.metrics)
        tables = []
        for study in (built, read):
            study.scenario.duration, study.trials = 2.0, 1
            with tempfile.TemporaryDirectory() as folder:
                tables.append(study.run(folder).trials)
        pd.testing.assert_frame_equal(tables[0], tables[1])


DRIVE = """
import time, helper
class Drive:
    period = 0.01
    def update(self, now, senses, motors):
        motors["slide"].effort = helper.EFFORT
class Hangs(Drive):
    def update(self, now, senses, motors):
        while now > 0.1:
            time.sleep(0.01)
"""


class Sources(unittest.TestCase):
    """What a folder holds is what the sources say now, and nothing that goes wrong takes more than its own trial."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (self.folder / "drive.py").write_text(DRIVE)
        (self.folder / "helper.py").write_text("EFFORT = 1.0\n")

    def study(self, *metrics: object, **options: Any) -> vd.Study:
        for name in [n for n in sys.modules if n.startswith("veldrain_file_") or n == "helper"]:
            del sys.modules[name]  # as another process would find it
        named = {k: NamedController(f"drive.py:{k}", folder=str(self.folder)) for k in options.pop("drives", ["Drive"])}
        sys.path.insert(0, str(self.folder))
        self.addCleanup(sys.path.remove, str(self.folder))
        found = metrics or (vd.Metric("place", "cart/truth", "x", "last", unit="m"),)
        return vd.Study(cart_scenario(duration=0.3), named, trials=2, metrics=found, **options)

    def test_an_edited_controller_is_run_anew(self) -> None:
        """Also one whose helper was edited; another controller's trials stay as they are."""
        out = self.folder / "out"
        first = self.study(drives=["Drive"]).run(out).trials
        stamp = {p: p.stat().st_mtime_ns for p in out.glob("trials/*/*.mcap")}
        self.assertEqual(self.study().run(out).trials["place"].tolist(), first["place"].tolist())
        self.assertEqual({p: p.stat().st_mtime_ns for p in stamp}, stamp)
        (self.folder / "helper.py").write_text("EFFORT = 9.0\n")
        told: list[str] = []
        again = self.study().run(out, progress=lambda *words: told.append(words[2])).trials
        self.assertGreater(again["place"].min(), first["place"].max() + 0.05)
        self.assertIn("controller 'Drive' has changed since: its 2 trials are run anew", told)
        self.assertFalse((self.folder / "__pycache__").exists())  # Python would take what it keeps there for the edit

    def test_metrics_and_controllers_that_come_later_run_nothing_again(self) -> None:
        out = self.folder / "out"
        self.study().run(out)
        stamp = {p: p.stat().st_mtime_ns for p in out.glob("trials/*/*.mcap")}
        fast = vd.Metric("fastest", "cart/truth", "vx", "max")
        more = self.study(fast, drives=["Drive", "Hangs"], limit="2 s").run(out).trials
        self.assertEqual({p: p.stat().st_mtime_ns for p in stamp}, stamp)
        self.assertTrue((more.set_index("controller").loc["Drive", "fastest"] > 0).all())
        hung = more[more["controller"] == "Hangs"]
        self.assertTrue(hung["failed"].all() and hung["reason"].str.contains("limit of 2 s is over").all())

    def test_names_that_are_none(self) -> None:
        for name, metric in (
            ("../evil", "m"),
            ("a/b", "m"),
            (".", "m"),
            ("a\nb", "m"),
            ("", "m"),
            ("a", "x\ty"),
            ("a", "cart/slide.position"),
            ("a", "passed"),
        ):
            with self.subTest(name=name, metric=metric), self.assertRaises(vd.VeldrainError):
                vd.Study(
                    cart_scenario(),
                    {name: Hold()},
                    vary={"cart/slide.position": vd.uniform(0, 0.1)},
                    metrics=[vd.Metric(metric, "cart/truth", "x", "last")],
                )

        with self.assertRaisesRegex(vd.VeldrainError, "controllers: 'Calm' and 'calm' are one folder on some systems"):
            vd.Study(cart_scenario(), {"Calm": Hold(), "calm": Hold()}, metrics=[])

    def test_told_before_the_first_step(self) -> None:
        at, scenario = vd.Metric("m", "cart/truth", "q", "last"), cart_scenario()
        scenario.at(0.1).push("post", force=(1, 0, 0))
        for pattern, study in (
            ("no column 'q'", self.study(at)),
            ("no reason to finish 'gone'", self.study(vd.FinishTime("t", "gone"))),
            ("cannot be pushed: it is fixed", vd.Study(scenario, {"h": Hold()})),
            (
                "starts cart .*inside post",
                vd.Study(cart_scenario(), {"h": Hold()}, vary={"cart.x": vd.uniform(0.0, 0.95)}),
            ),
            (
                "starts cart behind post",
                vd.Study(cart_scenario(), {"h": Hold()}, vary={"cart.x": vd.uniform(1.5, 1.6)}),
            ),
        ):
            with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                study.run(self.folder / "none")
        self.assertFalse((self.folder / "none").exists())

    def test_a_junk_row_a_lock_and_a_dead_worker(self) -> None:
        out = self.folder / "out"
        study = small(trials=2)
        study.run(out)
        with sqlite3.connect(out / STORE) as base:
            base.execute("UPDATE trials SET row = '{\"controller\":' WHERE controller = 'slow' AND trial = 0")
        with self.assertRaisesRegex(vd.VeldrainError, "row that cannot be read"):
            _ = vd.Result(out).trials
        with sqlite3.connect(out / STORE) as base:
            base.execute("UPDATE trials SET made = '{}' WHERE controller = 'slow' AND trial = 0")
        self.assertEqual(len(study.run(out).trials), 4)
        with locked(out), self.assertRaisesRegex(vd.VeldrainError, "being written to by another run"):
            study.run(out)
        with tempfile.TemporaryDirectory() as folder:
            with self.assertRaisesRegex(vd.VeldrainError, "a worker process died"):
                small(trials=2, dies=Dies()).run(folder, workers=2)
            self.assertEqual(len(small(trials=2, dies=Hold()).run(folder).trials), 2)

    def test_worlds_of_all_shapes_and_of_none(self) -> None:
        """Pages of worlds with a mesh, a height field, a cone, an ellipsoid, a capsule, and with nothing at all."""
        for shapes in (
            [
                vd.HeightField(np.zeros((3, 3)), 0.1),
                vd.Cone(0.1, 0.2),
                vd.Ellipsoid((0.1, 0.2, 0.3)),
                vd.Capsule(0.1, 0.2),
            ],
            [],
        ):
            scenario = vd.Scenario(vd.World().place(cart(), fixed=True), 0.2, controllers={"cart": Hold()})
            for k, shape in enumerate(shapes):
                scenario.world.obstacle(f"o{k}", shape, pose=vd.Pose((3, k, 0)))
            with self.subTest(shapes=len(shapes)), tempfile.TemporaryDirectory() as folder:
                result = vd.Study(scenario, {"a": Hold(), "b": Hold(gain=9)}, trials=1).run(folder)
                page = write_page(result, result.compare(), Path(folder) / "page.html").read_text()
                self.assertIn("Each trial&#39;s true path", page)


class Dies(Hold):
    """Takes its process along."""

    def update(self, now: float, senses: Any, motors: Any) -> None:
        if multiprocessing.parent_process() is not None:
            os._exit(9)
        super().update(now, senses, motors)


class Files(unittest.TestCase):
    def test_a_row_is_plain_json(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            result = small(trials=1).run(folder)
            with sqlite3.connect(result.folder / STORE) as base:
                (text,) = base.execute("SELECT row FROM trials WHERE controller = 'slow'").fetchone()
            self.assertEqual(result.recording("slow", 0).metadata["drawn"], json.loads(text)["drawn"])
            self.assertEqual(result.trials["file"].iloc[0], "trials/slow/000.mcap")


if __name__ == "__main__":
    unittest.main()
