"""Rows that know what made them: edits of every sort are noticed, old rows are never mixed with new ones."""

from __future__ import annotations

import functools
import math
import multiprocessing
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pandas as pd

import veldrain as vd
from tests.helpers import Hold, called, cart, cart_scenario
from veldrain.study.sources import Follower, plain
from veldrain.study.store import STORE

PLACE = vd.Metric("place", "cart/truth", "x", "last", unit="m")


class Law(Hold):
    """Pulls by a law of its own."""

    force = 1.0

    def __init__(self, law: Any = None, weights: str = "", **more: Any) -> None:
        self.law, self.weights, self.more = law, weights, more

    def update(self, now: float, senses: Any, motors: Any) -> None:
        motors["slide"].effort = self.law(now) if self.law else self.force


class Stays:
    """Can be copied, and cannot travel."""

    def __deepcopy__(self, memo: Any) -> Any:
        return self

    def __reduce__(self) -> Any:
        raise TypeError("stays where it is")


def constant(now: float, force: float = 1.0) -> float:
    return force


def enclosed(force: float) -> Any:
    return lambda now: force


class Slotted:
    __slots__ = ("force",)

    def __init__(self, force: float) -> None:
        self.force = force

    def __call__(self, now: float) -> float:
        return self.force


class Steady(vd.Study):
    """Draws the same for each trial."""

    shift = 0.0

    def draw(self, trial: int) -> dict[str, float]:
        return dict.fromkeys(super().draw(trial), 0.01 * trial + self.shift)


class Rows(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def study(self, trials: int = 2, metrics: Any = (PLACE,), kind: Any = vd.Study, **controllers: Any) -> vd.Study:
        vary = {"cart/slide.position": vd.uniform("-5 cm", "5 cm")}
        found: vd.Study = kind(cart_scenario(duration=0.2), controllers, vary=vary, trials=trials, metrics=metrics)
        return found

    def places(self, result: vd.Result) -> dict[str, list[float]]:
        return {str(c): rows["place"].tolist() for c, rows in result.trials.groupby("controller")}

    def test_old_rows_are_never_mixed_with_new_ones(self) -> None:
        """A controller that is edited, with fewer trials than before, left out for a run, with a metric redefined."""
        one, two = Law(enclosed(2.0)), Law(enclosed(20.0))
        fresh = self.places(self.study(6, base=Law(), new=two).run(self.folder / "fresh", keep="none"))
        out = self.folder / "out"
        self.study(6, base=Law(), new=one).run(out, keep="none")
        fewer = self.study(3, base=Law(), new=two).run(out, keep="none")
        self.assertEqual(self.places(fewer), {name: rows[:3] for name, rows in fresh.items()})
        self.assertEqual(self.places(self.study(6, base=Law(), new=two).run(out, keep="none")), fresh)
        self.study(6, base=Law(), new=one).run(out, keep="none")
        self.study(6, base=Law()).run(out, keep="none")
        fast = vd.Metric("fast", "cart/truth", "vx", "max")
        self.study(6, (PLACE, fast), base=Law()).run(out, keep="none")
        back = self.study(6, (PLACE, fast), base=Law(), new=two).run(out, keep="none")
        self.assertEqual(self.places(back), fresh)
        self.assertTrue(back.trials["fast"].notna().all())
        other = vd.Metric("place", "cart/truth", "vx", "max")
        again = self.study(3, (other,), base=Law(), new=two).run(out, keep="none")
        self.assertEqual(again.trials["place"].tolist(), back.trials[back.trials["trial"] < 3]["fast"].tolist())

    def test_edits_of_every_sort_are_noticed(self) -> None:
        weights = self.folder / "w.npy"

        def net(force: float) -> Law:
            np.save(weights, np.array([force]))
            return Law(functools.partial(loaded, str(weights)), weights=str(weights))

        def tuned(force: float) -> Law:
            Law.force = force
            self.addCleanup(setattr, Law, "force", 1.0)
            return Law()

        def typed(force: float) -> Any:
            space: dict[str, Any] = {"__name__": "typed_in_a_cell", "Hold": Hold}
            code = (
                "class Cell(Hold):\n    def update(self, now, senses, motors):\n        motors['slide'].effort = %r\n"
            )
            exec(code % force, space)
            return space["Cell"]()

        for title, make in (
            ("partial", lambda f: Law(functools.partial(constant, force=f))),
            ("closure", lambda f: Law(enclosed(f))),
            ("slots", lambda f: Law(Slotted(f))),
            ("a file of one name", net),
            ("a class attribute", tuned),
            ("a class typed in a cell", typed),
        ):
            with self.subTest(title):
                before, after = (plain(make(force)) for force in (2.0, 20.0))
                self.assertNotEqual(before, after)
                self.assertEqual(plain(make(20.0)), after)

    def test_two_files_of_one_name_both_count(self) -> None:
        for name, text in (("pk_a", "GAIN = 1\n"), ("pk_b", "GAIN = 2\n")):
            (self.folder / name).mkdir()
            (self.folder / name / "__init__.py").write_text(text)
        (self.folder / "user_of_two.py").write_text(
            "import pk_a, pk_b\ndef law(now):\n    return pk_a.GAIN * pk_b.GAIN\n"
        )
        told = []
        for text in ("GAIN = 2\n", "GAIN = 3\n"):
            (self.folder / "pk_b" / "__init__.py").write_text(text)
            code = "import user_of_two; from veldrain.study.sources import plain; print(plain(user_of_two.law))"
            done = subprocess.run(
                [sys.executable, "-B", "-c", code], cwd=self.folder, capture_output=True, text=True, check=True
            )
            told.append(done.stdout)
        self.assertNotEqual(*told)

    def test_what_cannot_be_followed_is_said(self) -> None:
        import threading

        follower = Follower()
        follower.plain(Law(lock=threading.Lock()))
        self.assertRegex(" ".join(follower.missed), "lock.* a _thread.lock")
        follower = Follower()
        follower.plain(loaded)
        self.assertRegex(" ".join(follower.missed), r"files that loaded reads \(load\)")
        result = self.study(base=Law(functools.partial(loaded, "/nowhere/w.npy"))).run(self.folder / "out", keep="none")
        self.assertRegex(" ".join(result.caveats), "not followed: base: files that loaded reads")

    def test_a_study_that_draws_otherwise_is_run_anew(self) -> None:
        out = self.folder / "out"
        first = self.study(kind=Steady, base=Law()).run(out, keep="none").trials
        other = type("Shifted", (Steady,), {"shift": 0.03})
        again = self.study(kind=other, base=Law()).run(out, keep="none").trials
        np.testing.assert_allclose(again["cart/slide.position"] - first["cart/slide.position"], 0.03)
        self.assertFalse((again["place"] == first["place"]).any())

    def test_killed_while_a_later_metric_is_measured(self) -> None:
        out = self.folder / "out"
        self.study(4, base=Law()).run(out)
        fast = vd.Metric("fast", "cart/truth", "vx", "max")
        found = self.study(4, (PLACE, fast), base=Law()).run(out).trials
        with sqlite3.connect(out / STORE) as base:
            base.execute("DELETE FROM measures WHERE metric = 'fast' AND trial > 1")
        cut = vd.Result(out)
        self.assertEqual(cut.trials["fast"].notna().tolist(), [True, True, False, False])
        self.assertIn("'fast' is not measured yet in 2 trials", " ".join(cut.caveats))
        stamps = {p: p.stat().st_mtime_ns for p in out.glob("trials/*/*.mcap")}
        pd.testing.assert_frame_equal(self.study(4, (PLACE, fast), base=Law()).run(out).trials, found)
        self.assertEqual({p: p.stat().st_mtime_ns for p in stamps}, stamps)  # measured from what was recorded

    def test_recordings_are_kept_by_policy_and_made_again(self) -> None:
        """What is made again is the same to the byte as what was kept; of what has changed it is refused."""
        kept = {}
        for title, keep in (
            ("all", "all"),
            ("none", "none"),
            ("first", ("first", 1)),
            ("worst", ("worst", "place", 1)),
        ):
            study = self.study(3, base=Law(enclosed(3.0)), new=Law(enclosed(9.0)))
            result = study.run(self.folder / title, keep=keep)
            kept[title] = {p.relative_to(result.folder).as_posix() for p in result.folder.glob("trials/*/*.mcap")}
            if title != "all":
                whole = vd.Recording(self.folder / "all" / "trials" / "new" / "002.mcap")
                made = result.recording("new", 2)
                self.assertEqual(made.raw("cart/truth"), whole.raw("cart/truth"))
        self.assertEqual([len(kept[word]) for word in ("all", "none", "first", "worst")], [6, 0, 2, 2])
        all_of_them = self.study(3, base=Law(enclosed(3.0)), new=Law(enclosed(9.5)))
        less = all_of_them.run(self.folder / "all", keep="none")  # an edited controller's recordings go with its rows
        self.assertEqual({p.parent.name for p in less.folder.glob("trials/*/*.mcap")}, {"base"})
        self.assertEqual([p.name for p in less.folder.glob("study.sqlite*")], ["study.sqlite"])
        lost = vd.Result(self.folder / "none")
        with self.assertRaisesRegex(vd.VeldrainError, "was not kept"):
            lost.recording("new", 0)
        lost.study = self.study(3, base=Law(enclosed(3.0)), new=Law(enclosed(8.0)))
        with self.assertRaisesRegex(vd.VeldrainError, "cannot be made as it was: controller 'new' differ"):
            lost.recording("new", 0)
        for words in (("keep", "some"), ("keep", ("worst", "place")), ("metric 'plaice'", ("worst", "plaice", 2))):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words[0]):
                study.run(self.folder / "none", keep=words[1])

    def test_a_failed_trial_is_kept_and_tells_which_expectation(self) -> None:
        scenario = cart_scenario(duration=0.3)
        scenario.expect("stays", never=vd.speed("cart/car") > "0.5 m/s").expect(
            "arrives", eventually=vd.speed("cart/car") > 9
        )
        study = vd.Study(scenario, {"slow": Law(enclosed(1.0)), "fast": Law(enclosed(9.0))}, trials=2)
        result = study.run(self.folder / "out", keep="failed")
        self.assertEqual(len(list(result.folder.glob("trials/*/*.mcap"))), 4)
        table = result.failures
        self.assertEqual(table.loc["stays"].tolist(), ["0 of 2", "2 of 2"])
        self.assertEqual(table.loc["arrives"].tolist(), ["2 of 2", "2 of 2"])
        fast = result.trials[result.trials["controller"] == "fast"].iloc[0]
        self.assertLess(fast["stays: margin"], 0)
        self.assertGreater(fast["stays: when"], 0)

    def test_results_that_are_taken_away(self) -> None:
        """A folder that is deleted or renamed while its study runs is told in a line, and not made anew."""
        for act in (shutil.rmtree, lambda folder: folder.rename(folder.with_name("other"))):
            with self.subTest(act), tempfile.TemporaryDirectory() as name:
                folder = Path(name) / "out"

                def tell(done: int, total: int, text: str, folder: Path = folder, act: Any = act) -> None:
                    if done == 3:
                        act(folder)

                with self.assertRaisesRegex(vd.VeldrainError, "out: is gone: it was deleted or renamed"):
                    self.study(40, a=Law()).run(folder, progress=tell)
                self.assertFalse(folder.exists())

    def test_executors_and_notebooks(self) -> None:
        """Workers of a script without a guard, and a class that only the main module has; an executor of one's own."""
        (self.folder / "script.py").write_text(SCRIPT)
        done = subprocess.run([sys.executable, "script.py"], cwd=self.folder, capture_output=True, text=True)
        self.assertEqual((done.stdout, done.stderr), ("6\n", ""))
        with ThreadPoolExecutor(2) as pool:
            threads = self.study(3, base=Law()).run(self.folder / "threads", executor=pool)
        alone = self.study(3, base=Law()).run(self.folder / "alone")
        pd.testing.assert_frame_equal(threads.trials, alone.trials)
        for name in ("000", "001", "002"):
            parts = [(r.folder / "trials" / "base" / f"{name}.mcap").read_bytes() for r in (threads, alone)]
            self.assertEqual(*parts)
        with self.assertRaisesRegex(vd.VeldrainError, "cannot be sent to a worker"):
            self.study(3, base=Law(stays=Stays())).run(self.folder / "stays", workers=2)
        with self.assertRaisesRegex(vd.VeldrainError, "cannot be copied"):
            self.study(3, base=Law(lock=multiprocessing.Lock()))

    def test_results_from_elsewhere(self) -> None:
        """A store is data: one that is no store, or names what is no controller, is refused in a line."""
        out = self.study(base=Law()).run(self.folder / "out", keep="none").folder
        with sqlite3.connect(out / STORE) as base:
            base.execute("UPDATE about SET value = '[\"../../evil\"]' WHERE word = 'controllers'")
        with self.assertRaisesRegex(vd.VeldrainError, "no good as a name"):
            vd.Result(out)
        (out / STORE).write_bytes(b"rows" * 500)
        with self.assertRaisesRegex(vd.VeldrainError, "no store of a study"):
            vd.Result(out)
        (out / STORE).unlink()
        (out / "study.json").write_text("{}")
        self.assertEqual(called("compare", out).returncode, 2)


SCRIPT = """
import veldrain as vd
from veldrain.model import World
class Mine:
    period = 0.01
    def update(self, now, senses, motors): motors["slide"].effort = 2.0
m = vd.Model("cart").link("rail").link("car", vd.Box((0.2, 0.1, 0.1)), mass=2)
m.joint("slide", "rail", "car", kind="prismatic", axis=(1, 0, 0)).motor("slide", limit="50 N")
scenario = vd.Scenario(vd.World().place(m, fixed=True), "0.1 s", controllers={"cart": Mine()})
study = vd.Study(scenario, {"a": Mine(), "b": Mine()}, trials=3)
print(len(study.run("out", workers=2, keep="none").trials))
"""


def loaded(path: str, now: float = 0.0) -> float:
    return float(np.load(path)[0])


class Metrics(unittest.TestCase):
    def table(self, values: list[float]) -> dict[str, pd.DataFrame]:
        return {
            "s": pd.DataFrame(
                {"time": [0.1 * k for k in range(len(values))], "v": values, "rows": [[v, 2 * v] for v in values]}
            )
        }

    def test_statistics_against_worked_numbers(self) -> None:
        inf, nan = math.inf, math.nan
        ramp = [0.0, 1.0, 2.0, 3.0, 2.0, 2.0]
        for statistic, words, values, exact in (
            ("median", {}, ramp, 2.0), ("std", {}, [1.0, 3.0], 1.0), ("first", {}, ramp, 0.0), ("count", {}, [1.0, nan], 1.0),
            ("integral", {}, ramp, 0.9), ("percentile", {"percent": 100}, ramp, 3.0), ("at", {"at": "250 ms"}, ramp, 2.0),
            ("at", {"at": 9}, ramp, nan), ("time above", {"level": 1.5}, ramp, 0.3), ("time below", {"level": 1.5}, ramp, 0.2),
            ("time until", {"level": 2}, ramp, 0.2), ("time until", {"level": 9}, ramp, inf), ("overshoot", {}, ramp, 1.0),
            ("overshoot", {"target": 2.5}, ramp, 0.5), ("settling time", {"band": 0.5}, ramp, 0.4),
            ("settling time", {"band": 0.5, "target": 9}, ramp, inf), ("max", {}, [1, 1.4, inf], inf), ("max", {}, [1, nan], nan),
            ("mean", {}, [1, inf], inf), ("last", {}, [2, 5, nan], nan), ("max", {"missing": "skip"}, [1, nan], 1.0),
            ("max", {"until": "250 ms"}, ramp, 2.0), ("min", {"since": 0.2}, ramp, 2.0), ("mean", {"since": 9}, ramp, nan),
        ):  # fmt: skip
            with self.subTest(statistic, **words):
                found = vd.Metric("m", "s", "v", statistic, **words).of(self.table(values))
                np.testing.assert_allclose(found, exact, atol=1e-12)
        self.assertEqual(vd.Metric("m", "s", "rows", "max").of(self.table(ramp)), 6.0)
        self.assertEqual(vd.Metric("m", "s", "rows[0]", "max").of(self.table(ramp)), 3.0)
        for words, cure in (
            ({"statistic": "percentile"}, "give percent"),
            ({"statistic": "max", "level": 1}, "has no level"),
        ):
            with self.subTest(cure), self.assertRaisesRegex(vd.VeldrainError, cure):
                vd.Metric("m", "s", "v", **words)

    def test_units_are_converted_or_refused(self) -> None:
        """A column's unit is known: mm are a thousand times m, s are refused, and what is left out is the column's."""
        scenario = cart_scenario(duration=0.2)
        scenario.log("gap", vd.clearance("cart/car", "post"))
        scenario.at("0.1 s", name="late").say("late")
        metrics = [
            vd.Metric("m", "cart/truth", "x", "max"),
            vd.Metric("mm", "cart/truth", "x", "max", unit="mm", matters="1 cm"),
            vd.Metric("slide", "cart/encoders", "position.slide", "max", unit="cm"),
            vd.Metric("area", "cart/truth", "x", "integral", unit="mm*s"),
            vd.Metric("gap", "scenario/gap", "data", "min", unit="cm", since="late"),
            vd.Metric("turn", "cart/imu", "angular_velocity.z", "max abs", unit="deg/s"),
        ]
        with tempfile.TemporaryDirectory() as folder:
            result = vd.Study(scenario, {"h": Hold()}, trials=1, metrics=metrics).run(folder)
            row, recording = result.trials.iloc[0], result.recording("h", 0)
            self.assertAlmostEqual(row["mm"], 1000 * row["m"])
            self.assertAlmostEqual(row["slide"], 100 * recording["cart/encoders"]["position.slide"].max())
            self.assertAlmostEqual(row["turn"], np.degrees(recording["cart/imu"]["angular_velocity.z"].abs().max()))
            late = recording["scenario/gap"]["data"][recording["scenario/gap"]["time"] >= 0.1]
            self.assertAlmostEqual(row["gap"], 100 * late.min())
            self.assertEqual([unit for _, unit, _ in result.metrics], ["m", "mm", "cm", "mm*s", "cm", "deg/s"])
            self.assertEqual(result.matters["mm"], 10.0)
            self.assertEqual(
                result.add_metric(vd.Metric("top", "cart/truth", "vx", "max", unit="km/h")).metrics[-1][1], "km/h"
            )
        for metric, words in (
            (vd.Metric("m", "cart/truth", "x", "max", unit="s"), "its unit is s, and what it reads is in m"),
            (vd.Metric("m", "cart/truth", "yaw", "max", unit="%"), "its unit is %"),
            (vd.Metric("m", "cart/truth", "x", "time above", level="3 kg"), "'3 kg' is not in m"),
            (vd.Metric("m", "cart/truth", "x", "max", since="lat"), "did you mean 'late'"),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                vd.Study(scenario, {"h": Hold()}, trials=1, metrics=[metric]).rehearse()

    def test_what_a_scenario_logs(self) -> None:
        """A measure as a stream at each look, in files as in Python; when events first happened is part of the outcome."""
        scenario = cart_scenario(duration=0.3)
        scenario.log("gap", vd.clearance("cart/car", "post")).log("tilt", vd.tilt("cart/car"))
        scenario.every("100 ms", name="beat").say("beat")
        recording = vd.run(scenario)
        gap, truth = recording["scenario/gap"], recording["cart/truth"]
        self.assertEqual(len(gap), 31)
        # The post's near face is at 0.95 m, the car's front 0.1 m ahead of its middle.
        at = np.interp(gap["time"], truth["time"], truth["x"])
        np.testing.assert_allclose(gap["data"], 0.95 - 0.1 - at, atol=2e-3)
        self.assertEqual(recording.outcome["events"]["beat"], 0.1)
        with tempfile.TemporaryDirectory() as folder:
            plainly = vd.Scenario(vd.World().place(cart(), fixed=True), "0.1 s").log("high", vd.height("cart/car"))
            vd.save_world(plainly.world, Path(folder) / "w.world.yaml")
            (Path(folder) / "s.yaml").write_text(
                "veldrain: scenario/1\nworld: w.world.yaml\nduration: 0.1 s\nlog: {high: {height: cart/car}}\n"
            )
            self.assertEqual(vd.load_scenario(Path(folder) / "s.yaml").measures, plainly.measures)
            (Path(folder) / "s.yaml").write_text(
                "veldrain: scenario/1\nworld: w.world.yaml\nduration: 0.1 s\nlog: {high: {height: cart/car, below: 1 m}}\n"
            )
            with self.assertRaisesRegex(vd.VeldrainError, r"s\.yaml:4: .*without a bound"):
                vd.load_scenario(Path(folder) / "s.yaml")
        for words, act in (
            ("no measure", lambda: scenario.log("x", vd.tilt("cart") < 1)),
            ("is there already", lambda: scenario.log("events", vd.tilt("cart"))),
            ("no good as a name", lambda: scenario.log("a/b", vd.tilt("cart"))),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()  # type: ignore[no-untyped-call]

    def test_what_always_or_never_holds(self) -> None:
        """Conditions that cannot be otherwise, alone, joined and turned round."""
        never, always, open_ = vd.speed("a") < 0, vd.tilt("a") < 4, vd.speed("a") < 1
        for condition, impossible, certain in (
            (never, True, False), (always, False, True), (open_, False, False), (~never, False, True), (~always, True, False),
            (never & open_, True, False), (always | open_, False, True), (always & ~never, False, True), (open_ & ~open_, False, False),
        ):  # fmt: skip
            with self.subTest(str(condition)):
                self.assertEqual((bool(condition.impossible(1.0)), bool(condition.certain())), (impossible, certain))
        self.assertEqual(len(list((never & (open_ | ~always)).parts())), 6)

    def test_what_a_controller_logs_is_a_stream(self) -> None:
        need = vd.Metric("need", "cart/need", "data", "max")
        study = vd.Study(cart_scenario(duration=0.2), {"a": Logs(), "b": Hold()}, trials=2, metrics=[need])
        with tempfile.TemporaryDirectory() as folder:
            result = study.run(folder, keep="none")
            self.assertEqual(result.trials["need"].tolist()[:2], [1.0, 1.0])
            self.assertTrue(result.trials["need"][2:].isna().all())
            self.assertRegex(" ".join(result.notices), "'need' has no value: no stream 'cart/need'")
        with self.assertRaisesRegex(vd.VeldrainError, "did you mean 'cart/need'"):
            vd.Study(study.scenario, {"a": Logs()}, metrics=[vd.Metric("n", "cart/neeed", "data", "max")]).rehearse()


class Logs(Hold):
    def start(self, body: Any, random: Any, log: Any) -> None:
        self.log = log

    def update(self, now: float, senses: Any, motors: Any) -> None:
        self.log("need", 1.0)


class Designs(unittest.TestCase):
    VARY: ClassVar[Any] = {
        "cart/slide.position": vd.uniform(0.0, "10 cm"),
        ("post.friction", "ground.friction"): vd.uniform(0.2, 0.8),
    }

    def study(self, **words: Any) -> vd.Study:
        return vd.Study(cart_scenario(duration=0.1), {"h": Hold()}, **{"vary": self.VARY} | words)

    def test_rows(self) -> None:
        grid = self.study(
            vary={"cart/slide.position": vd.uniform(0, 1), "cart/car.mass": vd.one_of(1, 2)},
            design=vd.Grid({"cart/slide.position": 3}, repeats=2),
        )
        self.assertEqual(grid.trials, 12)
        rows = [tuple(grid.draw(k).values()) for k in range(6)]
        self.assertEqual(rows, [(0, 1), (0, 2), (0.5, 1), (0.5, 2), (1, 1), (1, 2)])
        self.assertEqual(grid.draw(0), grid.draw(6))
        self.assertNotEqual(grid.seed_of(0), grid.seed_of(6))
        filling = self.study(design=vd.SpaceFilling(16))
        points = np.array([[filling.draw(k)[p] for p in ("cart/slide.position", "ground.friction")] for k in range(16)])
        for column, span in zip(points.T, ((0, 0.1), (0.2, 0.8)), strict=True):  # one in each sixteenth
            parts = np.floor(16 * (column - span[0]) / (span[1] - span[0]))
            self.assertEqual(sorted(parts), list(range(16)))
        table = self.study(vary={}, design=vd.Table([{"cart/car.mass": "2 kg"}, {"cart/car.mass": 3}]))
        self.assertEqual([table.draw(k) for k in range(table.trials)], [{"cart/car.mass": 2.0}, {"cart/car.mass": 3.0}])
        one = self.study(vary={"cart/car.mass": vd.uniform(1, 3), "post.x": vd.uniform(1, 2)}, design=vd.OneAtATime(2))
        self.assertEqual([one.draw(k)["cart/car.mass"] for k in range(one.trials)], [2, 1, 3, 2, 2])
        self.assertEqual(self.study().draw(3)["post.friction"], self.study().draw(3)["ground.friction"])

    def test_distributions(self) -> None:
        from scipy import stats

        angles = ("cart.roll", "cart.pitch", "cart.yaw")
        vary: dict[Any, Any] = {
            "cart/car.mass": vd.log_uniform(0.1, 10),
            "cart/slide.damping": vd.triangular(1, 2, 5),
            "cart/slide.position": vd.truncated_normal(0, 1, low=-0.5, high=2),
            "post.friction": vd.weighted({0.2: 3, 0.4: 1}),
            angles: vd.uniform_orientation(),
            "post.restitution": own_draw,
            **vd.correlated({"post.x": vd.uniform(2, 3), "post.y": vd.normal(0, 1)}, [[1, 0.8], [0.8, 1]]),
        }
        study = self.study(vary=vary)
        drawn = pd.DataFrame([study.draw(k) for k in range(1500)])
        for name, kind in (
            ("cart/car.mass", stats.loguniform(0.1, 10)),
            ("cart/slide.damping", stats.triang(0.25, 1, 4)),
            ("cart/slide.position", stats.truncnorm(-0.5, 2)),
            ("post.x", stats.uniform(2, 1)),
            ("post.y", stats.norm()),
            ("post.restitution", stats.uniform(0, 0.5)),
        ):
            with self.subTest(name):
                self.assertGreater(stats.kstest(drawn[name], kind.cdf).pvalue, 1e-3)
        self.assertAlmostEqual((drawn["post.friction"] == 0.2).mean(), 0.75, delta=0.05)
        self.assertAlmostEqual(stats.spearmanr(drawn["post.x"], drawn["post.y"]).statistic, 0.8, delta=0.04)
        from scipy.spatial.transform import Rotation

        ups = Rotation.from_euler("xyz", drawn[list(angles)]).apply([0, 0, 1])
        self.assertGreater(stats.kstest(ups[:, 2], stats.uniform(-1, 2).cdf).pvalue, 1e-3)  # Archimedes' hat-box
        less = self.study(vary={k: v for k, v in vary.items() if k != "cart/car.mass"})
        self.assertEqual(less.draw(5), {k: v for k, v in study.draw(5).items() if k != "cart/car.mass"})

    def test_surfaces_that_have_a_name_are_quantities(self) -> None:
        """One draw for all that is of brick, links and parts included; the model that others use stays as it is."""
        brick = vd.Surface(0.5, name="brick")
        m = cart().link("sled", vd.Part(vd.Box((0.1, 0.1, 0.1)), surface=brick), mass=1, surface=brick)
        m.joint("glued", "car", "sled", kind="fixed")
        w = (
            vd.World()
            .ground(brick, height=-1)
            .obstacle("wall", vd.Box((0.1, 1, 1)), pose=vd.Pose((3, 0, 0)), surface=brick)
        )
        scenario = vd.Scenario(w.place(m, fixed=True), "0.1 s", controllers={"cart": Hold()})
        study = vd.Study(scenario, {"h": Hold()}, vary={"brick.friction": vd.uniform(0.1, 0.2)}, trials=1)
        drawn, value = study.drawn(study.draw(0)).world, study.draw(0)["brick.friction"]
        link = drawn.placed["cart"].model.links["sled"]
        found = [drawn.floor.surface, drawn.obstacles["wall"].surface, link.surface, link.parts[0].surface]  # type: ignore[union-attr]
        self.assertEqual([s.friction for s in found if s], [value] * 4)
        self.assertEqual(m.links["sled"].surface.friction, 0.5)

    def test_mistakes(self) -> None:
        for words, act in (
            ("is drawn twice", lambda: self.study(vary={"cart/car.mass": vd.uniform(1, 2), ("cart/car.mass", "post.x"): vd.uniform(1, 2)})),
            ("one value for a mass and a length", lambda: self.study(vary={("cart/car.mass", "post.x"): vd.uniform(1, 2)})),
            ("20 trials of a design of 9", lambda: self.study(design=vd.Grid(3), trials=20)),
            ("no factor 'x'", lambda: self.study(design=vd.Grid({"x": 2})).rows),
            ("vary and a table", lambda: self.study(design=vd.Table([{"post.x": 1}]))),
            ("no quantity 'psot.x'", lambda: self.study(vary={}, design=vd.Table([{"psot.x": 1}]))),
            ("a table without rows", lambda: vd.Table([])),
            ("not positive definite", lambda: vd.correlated(dict.fromkeys("abc", vd.uniform(0, 1)), [[1, 0.9, -0.9], [0.9, 1, 0.9], [-0.9, 0.9, 1]])),
            ("is no draw", lambda: self.study(vary={"post.x": 3})),
            ("give values above 0", lambda: self.study(vary={"post.x": vd.log_uniform(0, 3)})),
            ("name roll, pitch and yaw", lambda: self.study(vary={"post.yaw": vd.uniform_orientation()})),
            ("no space-filling design", lambda: self.study(design=vd.SpaceFilling(8, kind="sobl")).rows),
        ):  # fmt: skip
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()

    def test_files_say_the_same(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "own.py").write_text("def draw(random, top=1.0):\n    return top * random.random()\n")
            (folder / "rows.csv").write_text("probe.z,probe/shell.mass\n1,2.9\n1.5,3.1\n")
            for file in ("probe.world.yaml", "probe.scenario.yaml"):
                (folder / file).write_text((Path(vd.demo.__file__).parent / file).read_text())
            head = "veldrain: study/1\nscenario: probe.scenario.yaml\ncontrollers: {drop: {}}\n"
            (folder / "a.yaml").write_text(
                head + "vary:\n  'probe.roll, probe.pitch, probe.yaw': {uniform_orientation: true}\n"
                "  probe.z: {use: own.py:draw, with: {top: 2}}\ncorrelated:\n"
                "  - {draws: {probe.x: {uniform: [0, 1]}, probe.y: {normal: [0, 1]}}, matrix: [[1, 0.5], [0.5, 1]]}\n"
                "keep: [first, 2]\nmetrics: [{name: top, stream: probe/truth, column: z, statistic: percentile, percent: 90}]\n"
            )
            study = vd.load_study(folder / "a.yaml")
            self.assertEqual(set(study.draw(0)), {f"probe.{w}" for w in ("roll", "pitch", "yaw", "x", "y", "z")})
            self.assertEqual((study.keep, study.metrics[0].percent), (["first", 2], 90))
            for text, count in (("{table: rows.csv}", 2), ("{table: [{probe.z: 1 m}]}", 1)):
                (folder / "b.yaml").write_text(head + f"design: {text}\n")
                self.assertEqual(vd.load_study(folder / "b.yaml").trials, count)
            (folder / "b.yaml").write_text(
                head + "vary: {probe.z: {uniform: [1, 2]}}\ndesign: {grid: {levels: 4, repeats: 2}}\n"
            )
            self.assertEqual(vd.load_study(folder / "b.yaml").trials, 8)
            (folder / "b.yaml").write_text(head + "vary: {probe.z: {uniform: [1, 2]}}\ndesign: {grid: {level: 4}}\n")
            with self.assertRaisesRegex(vd.VeldrainError, r"b\.yaml:5: .*no argument 'level'"):
                vd.load_study(folder / "b.yaml")
            for metric, wrong in (("finish: late, level: 3", "level"), ("use: own.py:draw, unit: m", "unit"),
                                  ("stream: s, column: c, statistic: max, with: {a: 1}", "with")):  # fmt: skip
                with self.subTest(metric), self.assertRaisesRegex(vd.VeldrainError, f"'{wrong}' has no meaning here"):
                    (folder / "b.yaml").write_text(head + f"trials: 2\nmetrics: [{{name: m, {metric}}}]\n")
                    vd.load_study(folder / "b.yaml")


def own_draw(random: np.random.Generator) -> float:
    return 0.5 * float(random.random())


if __name__ == "__main__":
    unittest.main()
