"""What a study answers: pairs needed, effects, boundaries, doubts, early ends, branches, searches, fits, a cluster."""

from __future__ import annotations

import math
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

import veldrain as vd
from tests.helpers import Hold, called, cart_scenario, command
from veldrain.report.text import doubt_lines
from veldrain.study.boundaries import boundary_of
from veldrain.study.doubting import from_zero, left_at_default
from veldrain.study.edges import edges_of
from veldrain.study.effects import effects_of
from veldrain.study.needed import needed_for
from veldrain.study.ranks import signed_rank_p
from veldrain.study.sequential import level_of, looks

PLACE = vd.Metric("place", "cart/truth", "x", "last", better="higher")


class Push:
    """A force, from the first tick on."""

    period = 0.01

    def __init__(self, force: float = 4.0) -> None:
        self.force = force

    def update(self, now: float, senses: Any, motors: Any) -> None:
        motors["slide"].effort = self.force


class Numbers(unittest.TestCase):
    def test_pairs_needed_have_the_power_that_is_promised(self) -> None:
        random = np.random.default_rng(4)
        for kind, draw in (
            ("normal", lambda n: random.normal(0.5, 1, n)),
            ("skewed", lambda n: random.exponential(1, n) - 0.4),
        ):
            found = needed_for(draw(4000), "b", "m", "m", 0.0, 0.8, None)[0]
            power = np.mean([signed_rank_p(draw(int(found.pairs))) < 0.05 for _ in range(600)])
            with self.subTest(kind, pairs=found.pairs):
                self.assertTrue(0.7 < power < 0.92, power)
                self.assertTrue(found.low <= found.pairs <= found.high)
        told = {n.what: n.pairs for n in needed_for(random.normal(0, 1, 400), "b", "m", "m", 0.5, 0.8, None)}
        self.assertAlmostEqual(told["for an interval of ±0.5 m"], (1.96 / 0.5) ** 2, delta=5)
        self.assertTrue(25 < told["to tell a difference of 0.5 m from none (80 % power)"] < 45)
        self.assertEqual(needed_for(np.array([-1.0, 1] * 10), "b", "m", "", 0.0, 0.8, None)[0].pairs, math.inf)

    def test_looking_often_makes_no_more_false_alarms(self) -> None:
        """Of studies about nothing, looked at five times, one in twenty ends with a verdict; at 5 % a look it is one in seven."""
        random, at = np.random.default_rng(5), looks(60)
        level = level_of(tuple(at))
        self.assertEqual(at, [8, 12, 18, 27, 40, 60])
        runs = [random.normal(size=60) for _ in range(500)]
        alarms = {
            bound: np.mean([any(signed_rank_p(d[:n]) < bound for n in at) for d in runs]) for bound in (1 - level, 0.05)
        }
        self.assertLess(alarms[1 - level], 0.075)
        self.assertGreater(alarms[0.05], 0.1)

    def test_effects(self) -> None:
        """y = 3·a − b·c + noise: a alone, b and c together, and nothing of d."""
        random, n = np.random.default_rng(6), 300
        drawn = pd.DataFrame(random.uniform(-1, 1, (n, 4)), columns=list("abcd"))
        parts = [drawn.assign(controller=c, trial=range(n), passed=True, failed=False) for c in ("x", "y")]
        rows = pd.concat(parts, ignore_index=True)
        rows["m"] = 3 * rows["a"] - 2 * rows["b"] * rows["c"] + random.normal(0, 0.2, 2 * n)
        rows.loc[rows["controller"] == "y", "m"] += rows["d"]
        found = effects_of(rows, [("m", "m")], dict.fromkeys("abcd", ""), "x")
        clear = {(e.controller, e.quantity): e for e in found if e.is_clear}
        self.assertEqual(set(clear) & {("x", q) for q in "abcd"}, {("x", "a")})
        self.assertAlmostEqual(clear["x", "a"].swing, 3 * 1.6, delta=0.4)
        self.assertLess(clear["x", "b × c"].strength, -0.2)
        self.assertGreater(clear["y − x", "d"].strength, 0.5)
        self.assertNotIn(("y − x", "a"), clear)
        noise = [
            effects_of(rows.assign(m=random.normal(size=2 * n)), [("m", "")], dict.fromkeys("abcd", ""), "x")
            for _ in range(30)
        ]
        self.assertLess(np.mean([any(e.is_clear for e in one) for one in noise]), 0.25)  # two families at 5 %

    def test_boundaries(self) -> None:
        """Braking at 6 m/s² needs v²/12 of gap; a ring fails at both ends."""
        random, n = np.random.default_rng(7), 400
        gap, speed = random.uniform(2, 30, n), random.uniform(5, 20, n)
        values, passed = np.column_stack([gap, speed]), gap > speed**2 / 12
        found = boundary_of("car", values, passed, ["gap", "speed"], ["m", "m/s"])
        self.assertTrue(found.is_clear and found.right > 0.97)
        for v in (10.0, 13.0, 16.0):
            ((at, low, high),) = found.at("gap", {"speed": v})
            self.assertAlmostEqual(at, v**2 / 12, delta=1.0)
            self.assertTrue(low - 0.7 < v**2 / 12 < high + 0.7, (low, high))
        ring = np.hypot(values[:, 0] - 16, values[:, 1] * 2 - 25) < 9
        ends = [
            at for at, *_ in boundary_of("car", values, ring, ["gap", "speed"], ["m", "m/s"]).at("gap", {"speed": 12.5})
        ]
        np.testing.assert_allclose(ends, [7, 25], atol=1.2)
        table = pd.DataFrame(
            {"controller": "c", "trial": range(n), "gap": gap, "rain": random.random(n), "passed": abs(gap - 16) < 9}
        )
        edge = edges_of(table, {"gap": "m", "rain": ""})[0]
        self.assertEqual((edge.quantity, edge.fails), ("gap", "outside"))
        np.testing.assert_allclose([edge.edge, edge.beyond], [7, 25], atol=0.3)
        for words, mask in (("all trials passed", np.ones(n, bool)), ("no trials passed", np.zeros(n, bool))):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                boundary_of("car", values, mask, ["gap", "speed"], ["", ""])


class Studies(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def study(self, trials: int = 12, scenario: vd.Scenario | None = None, **controllers: Any) -> vd.Study:
        vary = {"cart/slide.position": vd.uniform("-5 cm", "5 cm"), "cart/car.mass": vd.uniform(1, 3)}
        given = controllers or {"a": Push(3.0), "b": Push(4.0)}
        return vd.Study(
            scenario or cart_scenario(duration=0.2), given, vary=vary, trials=trials, metrics=[PLACE], seed=1
        )

    def test_an_early_end(self) -> None:
        result = self.study(60).run(self.folder / "out", until="place", keep="none")
        self.assertEqual(result.about["trials"], 8)
        found = result.compare().differences[0]
        self.assertEqual((found.verdict, found.level), ("better", result.about["level"]))
        self.assertGreater(found.level, 0.97)
        wide = self.study(20).run(self.folder / "wide", until="place within 1 nm", keep="none")
        self.assertEqual(wide.about["trials"], 20)
        with self.assertRaisesRegex(vd.VeldrainError, "no metric 'plaice'"):
            self.study().run(self.folder / "none", until="plaice")

    def test_doubts_find_the_default_that_turns_the_verdict(self) -> None:
        """A crate of friction 0.75 slides farther than one that was left at 0.8: at 0.64 it is the other way round."""
        w = vd.World().ground().body("crate", vd.Box((0.2, 0.2, 0.2)), mass=1, pose=vd.Pose((0, 0, 0.1)))
        scenario = vd.Scenario(w.frame("start", vd.Pose((0, 0, 0.1))), "0.6 s")
        scenario.log("way", vd.distance("crate", "start")).expect(
            "slides", at_the_end=vd.distance("crate", "start") > 0.01
        )
        study = vd.Study(
            scenario, {"plain": {}, "waxed": {}}, changes={"waxed": {"crate.friction": 0.75}}, trials=8,
            vary={"crate.velocity_x": vd.uniform(1.0, 2.0)},
            metrics=[vd.Metric("way", "scenario/way", "data", "last", better="higher")],
        )  # fmt: skip
        doubts = study.run(self.folder / "out", keep="none").doubts(pairs=8)
        self.assertEqual((doubts[0].effect, doubts[0].metric), ("turns", "way"))
        self.assertRegex(doubts[0].what, r"friction of 2 things 0\.64 \(left at its default\)")
        effects = {d.what: d.effect for d in doubts if d.metric == "way"}
        self.assertEqual({effects["half the step (0.5 ms)"], effects["other noise"]}, {"stands"})
        cart = cart_scenario()  # of its joint, friction was given and damping was not; its motor has 50 N
        left = left_at_default(cart, set(), from_zero(cart))
        self.assertEqual(
            {p: v for paths in left.values() for p, v in paths.items() if "slide" in p}, {"cart/slide.damping": 0.0}
        )
        self.assertEqual(from_zero(cart)["cart/slide.damping"], 1.0)
        with self.assertRaisesRegex(vd.VeldrainError, "the study is not at hand"):
            vd.Result(self.folder / "out").doubts()
        self.assertEqual(vd.Result(self.folder / "out").about["doubts"][0]["effect"], "turns")

    def test_two_folders(self) -> None:
        """The same rows are paired; a gate fails where it is worse for sure, and says what it cannot rule out."""
        old, new = self.folder / "old", self.folder / "new"
        self.study().run(old, keep="none")
        self.study(a=Push(3.0), b=Push(3.5)).run(new, keep="none")
        found = vd.compare_results(old, new)
        self.assertEqual(
            {d.controller: d.verdict for d in found.differences}, {"a": "the same in every pair", "b": "worse"}
        )
        self.assertEqual((found.changed, found.fails("place worse by 1 m")), (["b"], ([], [])))
        self.assertEqual(len(found.fails("place worse")[0]), 1)
        done = called("compare", old, new, "--fail-if", "place worse by 1 um")
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("FAILS 'place worse by 1 um': worse: place of b", done.stdout)
        self.assertEqual(called("compare", old, new, "--fail-if", "passes worse").returncode, 0)
        other = self.study()
        other.seed = 2
        other.run(self.folder / "other", keep="none")
        with self.assertRaisesRegex(vd.VeldrainError, "drew another seed: they are no pairs"):
            vd.compare_results(old, self.folder / "other")
        for rule, words in (
            ("plaice worse", "did you mean 'place'"),
            ("place better", "is no rule"),
            ("place worse by 1 kg", "not in m"),
        ):
            with self.subTest(rule), self.assertRaisesRegex(vd.VeldrainError, words):
                found.fails(rule)

    def test_sharper_boundaries_leave_the_comparison_alone(self) -> None:
        scenario = cart_scenario(duration=0.2)
        scenario.expect("far", at_the_end=vd.distance("cart/car", "cart/rail") > "3 cm")
        study = self.study(30, scenario)
        before = study.run(self.folder / "out", keep="none")
        differences = before.compare().differences
        after = study.sharpen(self.folder / "out", 15)
        self.assertEqual((len(before.trials), len(after.trials)), (60, 90))
        self.assertEqual(after.compare().differences, differences)
        boundary = before.edges(["cart/slide.position", "cart/car.mass"])[0]
        self.assertTrue(boundary.is_clear)
        boundary = before.boundary("a")
        added = after.trials[(after.trials["trial"] >= 30) & (after.trials["controller"] == "a")]
        chance = boundary.chance(added[list(boundary.quantities)].to_numpy(float))
        self.assertLess(np.abs(chance - 0.5).mean(), 0.35)
        self.assertEqual(len(study.run(self.folder / "out", keep="none").trials), 90)

    def test_branches(self) -> None:
        """A branch goes on to the same bytes; another controller ticks at once, and has its own arguments."""
        scenario = cart_scenario(Push(4.0), duration=0.4)
        scenario.at("0.1 s", name="soon").say("soon")
        whole, trial = vd.run(scenario, seed=3), vd.run(scenario, seed=3, until="0.2 s")
        same = trial.branch()
        assert isinstance(same, vd.Recording)
        for stream in ("cart/imu", "cart/scan", "cart/truth", "cart/commands", "tf"):
            late = [row for row in whole.raw(stream) if row[0] > 2e8]
            self.assertEqual([row for row in same.raw(stream) if row[0] > 2e8], late, stream)
        self.assertEqual(same.outcome, whole.outcome)
        other = trial.branch({"cart": Push(24.0)})
        # 20 N more on 2 kg for 0.2 s: ½·10·0.04 = 0.2 m more.
        self.assertAlmostEqual(other["cart/truth"]["x"].iloc[-1] - whole["cart/truth"]["x"].iloc[-1], 0.2, delta=0.003)
        lucks = trial.branch(seeds=range(3))
        ends = {float(r["cart/imu"]["angular_velocity.z"].iloc[-1]) for r in lucks}
        self.assertEqual(len(ends), 3)
        damped = trial.branch(changes={"cart/slide.damping": "50 N*s/m"})
        self.assertLess(damped["cart/truth"]["x"].iloc[-1], whole["cart/truth"]["x"].iloc[-1] - 0.02)
        for words, act in (
            ("no robot 'crat'", lambda: trial.branch({"crat": Push()})),
            ("no quantity", lambda: trial.branch(changes={"cart/slide.dampin": 1})),
            ("cannot be changed in mid-trial", lambda: trial.branch(changes={"post.x": 2})),
            ("leave record out", lambda: vd.run(scenario, until="0.1 s", record="x.mcap")),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()

    def test_a_recorded_state_does_not_put_old_arguments_over_new_ones(self) -> None:
        scenario = cart_scenario(Push(4.0), duration=0.4)
        recording = vd.run(scenario, seed=3, keep_states="0.1 s")
        ends = {}
        for force in (4.0, 24.0):
            trial = vd.Trial(scenario.driven_by({"cart": Push(force)}), 3)
            self.assertAlmostEqual(trial.resume(recording, "0.2 s"), 0.2)
            notices = trial.run()["notices"]
            self.assertEqual(any("force 4.0 was recorded, 24.0 goes on" in n for n in notices), force == 24.0)
            ends[force] = trial.simulation["cart"].positions[0]
        self.assertEqual(ends[4.0], recording["cart/encoders"]["position.slide"].iloc[-1])
        self.assertAlmostEqual(ends[24.0] - ends[4.0], 0.2, delta=0.003)

    def test_rescues(self) -> None:
        """Before it hits the post, one that brakes saves the trial; one that pushes on does not."""
        scenario = cart_scenario(duration=0.9)
        study = self.study(3, scenario, pushes=Push(20.0), brakes=Hold(place=0.4, gain=200.0, damping=60.0))
        result = study.run(self.folder / "out", keep="none")
        table = result.rescues("place", n=2, before="0.25 s", seeds=4, controller="pushes")
        self.assertEqual(table.groupby("controller")["saved"].all().to_dict(), {"brakes": True, "pushes": False})
        self.assertEqual(table[table["controller"] == "brakes"]["passed"].tolist(), [4, 4])

    def test_a_search_finds_a_corner_and_goes_on_where_it_was(self) -> None:
        """A corner of a thousandth of the room: 300 trials find it where 3,000 draws do not; nothing is run twice."""
        scenario = cart_scenario(Push(4.0), duration=0.05)
        scenario.expect("calm", never=vd.distance("cart/car", "cart/rail") > 0.098)
        ranges = {
            "cart/slide.position": vd.uniform(-0.1, 0.1),
            "cart/car.mass": vd.uniform(1, 9),
            "cart/slide.damping": vd.uniform(0, 40),
        }
        corner = vd.Metric("way", "cart/truth", "x", "max")
        study = vd.Study(scenario, {"p": Push(6.0)}, vary=ranges, metrics=[corner], seed=2)
        found = vd.find_worst(study, "way", self.folder / "worst", budget=120)
        self.assertTrue(found.fails and found.value > 0.1, found)
        self.assertGreater(found.values["cart/slide.position"], 0.099)
        self.assertLess(found.values["cart/car.mass"], 1.3)
        self.assertLessEqual(found.nearest["cart/slide.position"], found.values["cart/slide.position"])
        begun = time.perf_counter()
        again = vd.find_worst(study, "way", self.folder / "worst", budget=120)
        self.assertEqual((again.values, again.nearest), (found.values, found.nearest))
        self.assertLess(time.perf_counter() - begun, 10.0)
        pd.testing.assert_frame_equal(again.trials, found.trials)

    def test_tuning_is_confirmed_on_fresh_draws(self) -> None:
        """A critically damped gain: the least mean error lies at the upper bound of stiffness, inside of damping's."""
        error = vd.Metric("error", "cart/encoders", "velocity.slide", "rms")
        study = vd.Study(
            cart_scenario(duration=0.3),
            {"h": Hold()},
            vary={"cart/car.mass": vd.uniform(1, 3)},
            metrics=[error],
            seed=2,
        )
        found = vd.tune(study, {"controller.damping": (1, 60)}, "error", trials=3, budget=45, confirm=8)
        self.assertTrue(found.is_better)
        self.assertGreater(found.values["controller.damping"], 50)
        self.assertEqual((found.before, found.pairs, len(found.trials) <= 45), ({"controller.damping": 8.0}, 8, True))
        with self.assertRaisesRegex(vd.VeldrainError, "give 30 or more"):
            vd.tune(study, {"controller.damping": (1, 60)}, "error", trials=10, budget=20)

    def test_fits(self) -> None:
        """Mass and damping out of a noisy log, with its lag; what cannot be told apart, and what does not matter, is said."""
        scenario = cart_scenario(Push(6.0), duration=0.8)
        true = {"cart/car.mass": 2.6, "cart/slide.damping": 3.5}
        from veldrain.study.fitting import with_quantities

        table = vd.run(with_quantities(scenario, true))["cart/truth"][["time", "x"]]
        random = np.random.default_rng(3)
        log = {"cart/truth": table.assign(x=table["x"] + random.normal(0, 1e-3, len(table)), time=table["time"] + 0.03)}
        bounds: dict[str, Any] = {"cart/car.mass": (1, 5), "cart/slide.damping": (0, 10)}
        found = vd.fit(scenario, log, bounds, ["cart/truth.x"], lag="0.1 s", starts=6)
        for path, value in true.items():
            self.assertAlmostEqual(found.values[path], value, delta=3 * (found.high[path] - found.low[path]) / 2)
        self.assertAlmostEqual(found.lag, 0.03, delta=0.01)
        self.assertLess(found.after["cart/truth.x"], 1.2e-3)
        self.assertLess(found.rough, 0.5)
        twins = vd.fit(scenario, log, {"cart/car.mass": (1, 5), "cart/scan.noise": (0, 1)}, ["cart/truth.x"], starts=2)
        self.assertEqual(twins.blind, ["cart/scan.noise"])
        self.assertRegex(" ".join(twins.remarks), "nothing that was matched depends on cart/scan.noise")
        wrong = vd.fit(
            scenario,
            {"cart/truth": table.assign(x=np.sin(9 * table["time"]))},
            {"cart/car.mass": (1, 5)},
            ["cart/truth.x"],
            starts=2,
        )
        self.assertRegex(" ".join(wrong.remarks), "the model does not follow the log")
        with self.assertRaisesRegex(vd.VeldrainError, "no column 'cart/truth.q'"):
            vd.fit(scenario, log, bounds, ["cart/truth.q"])


def plain_scenario(controller: Any) -> vd.Scenario:
    """The cart without what the check says of it."""
    scenario = cart_scenario(controller, duration=0.2)
    m = scenario.world.placed["cart"].model
    m.sensors.pop("scan")
    m.change_joint("slide", limits=(-2, 2))
    return scenario


class Checked(unittest.TestCase):
    def found(self, **words: Any) -> dict[str, str]:
        vary = {"cart/slide.position": vd.uniform("-5 cm", "5 cm")}
        options: dict[str, Any] = {"vary": vary, "metrics": [PLACE], "trials": 8} | words
        scenario = options.pop("scenario", plain_scenario(Push(3.0)))
        found = vd.check(vd.Study(scenario, {"a": Push(3.0), "b": Push(4.0)}, **options))
        return {f.rule: f"{f.path}: {f.problem}" for f in found if f.rule in RULES}

    def test_what_a_few_trials_tell(self) -> None:
        """Each rule with a thing that breaks it alone, and a healthy study of which nothing is said."""
        self.assertEqual(self.found(), {})
        idle = {"cart/slide.position": vd.uniform(-0.05, 0.05), "post.friction": vd.uniform(0.1, 0.9)}
        self.assertRegex(self.found(vary=idle)["idle-factor"], "vary post.friction: .*to the last bit")
        still = vd.Metric("up", "cart/truth", "z", "max")
        self.assertRegex(self.found(metrics=[PLACE, still])["same-metric"], "metric 'up': is 0 in each of 8 trials")
        fine = vd.Metric("speed", "cart/encoders", "velocity.slide", "last", matters="1 um/s")
        masses = {"cart/car.mass": vd.uniform(1, 3)}
        self.assertRegex(
            self.found(vary=masses, metrics=[fine])["too-few-trials"], r"8 trials will tell it to ± 0\.\d+ m/s"
        )
        coarse = vd.Metric("speed", "cart/encoders", "velocity.slide", "last", matters="1 m/s")
        self.assertEqual(self.found(vary=masses, metrics=[coarse]), {})

    def test_signals_that_nobody_gives(self) -> None:
        for name, said in (("cart/froce", "did you mean 'cart/force'"), ("cart/force", ""), ("carts/x", "no robot")):
            scenario = plain_scenario(Tells())
            scenario.when(vd.signal(name) > 3).say("strong")
            found = [f for f in vd.check(scenario) if f.rule in ("unknown-signal", "cannot-run")]
            with self.subTest(name):
                self.assertEqual(len(found), 0 if name == "cart/force" else 1)
                self.assertIn(said, " ".join(f"{f.problem} {f.cure}" for f in found))


RULES = ("idle-factor", "same-metric", "too-few-trials", "few-trials", "same-controllers", "cannot-run")


class Tells(Push):
    """Logs its force."""

    def start(self, body: Any, random: Any, log: Any) -> None:
        self.log = log

    def update(self, now: float, senses: Any, motors: Any) -> None:
        self.log("force", self.force)
        super().update(now, senses, motors)


class Commands(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        done = called("demo", "probe", "--out", "demo", "--trials", "10", cwd=cls.folder)
        assert done.returncode == 0, done.stderr
        cls.told = done.stdout
        cls.file = cls.folder / "demo" / "probe.study.yaml"
        cls.text = cls.file.read_text()

    def setUp(self) -> None:
        self.file.write_text(self.text)

    def test_the_probe(self) -> None:
        """The demo, its plan, a trial again, pairs needed, doubts, a search in the words of the file, a page at 80 columns."""
        self.assertRegex(self.told, r"ground\.friction +0\.050\d\d? +0\.0\d+ to 0\.0\d+")
        self.assertRegex(self.told, r"ground\.restitution +0\.4\d+")
        plan = called("study", self.file, "--plan", "--workers", "2")
        self.assertRegex(plan.stdout, r"1000 trials of each of 2 controllers, 2000 in all")
        results = self.folder / "demo" / "probe-results"
        again = called("run", results, "3", "--controller", "clay", "--out", "x.mcap", cwd=self.folder)
        self.assertIn("the same as in the results", again.stdout, again.stderr)
        self.file.write_text(self.file.read_text().replace("ground.friction: 0.9,", "ground.friction: 0.7,"))
        changed = called("run", results, "3", "--controller", "rubber mat", "--out", "y.mcap", cwd=self.folder)
        self.assertIn("changed since: controller 'rubber mat'", changed.stdout, changed.stderr)
        narrow = command("compare", results, "--needed", "rebound", COLUMNS="80")
        self.assertRegex(narrow.stdout, r"(?m)^tilt at the end ?(\(deg\))?")
        self.assertIn("to tell a difference of 1 cm from none", narrow.stdout)
        for words, error in (
            (("run", results), "which trial is run again is not said"),
            (("study", self.file, "--worst"), "has no 'worst:'"),
            (("study", self.file, "--tune", "--fit"), "at once"),
            (("study", self.file, "--keep", "worst x"), "is no count"),
            (("compare", results, "--fail-if", "rebound worse"), "--fail-if: is of no use"),
        ):
            with self.subTest(words=words):
                done = called(*words, cwd=self.folder)
                self.assertEqual(done.returncode, 2, done.stdout)
                self.assertRegex(done.stderr, rf"^error: .*({error}).*\n$")
        later = called("run", results, "3000", "--controller", "clay", "--out", "z.mcap", cwd=self.folder)
        self.assertIn("the results hold no such trial yet", later.stdout, later.stderr)

    def test_searches_in_the_words_of_the_file(self) -> None:
        text = self.file.read_text().replace("trials: 1000", "trials: 6").replace("duration: 1.6 s", "duration: 0.8 s")
        orders = "worst: {metric: roll-out, budget: 40}\ntune: {metric: rebound, of: {ground.restitution: [0, 0.9]}, trials: 2, budget: 12, confirm: 6}\n"
        self.file.write_text(text + orders)
        worst = called("study", self.file, "--worst", "--out", "w", cwd=self.folder)
        self.assertRegex(worst.stdout, r"roll-out: \d+\.?\d* at worst, .* at nominal; 40 trials", worst.stderr)
        tuned = called("study", self.file, "--tune", "--out", "t", cwd=self.folder)
        self.assertRegex(tuned.stdout, r"rebound: better, \+\d", tuned.stderr)
        doubted = called("study", self.file, "--out", "d", "--doubt", cwd=self.folder)
        self.assertIn("No doubt was found: the verdicts stand with half the step", doubted.stdout, doubted.stderr)
        nothing = [{"effect": "no verdict", "what": "half the step"}] * 2
        self.assertRegex(doubt_lines(nothing)[0], r"^Nothing to doubt: .* Tried: half the step\.$")
        self.assertRegex((self.folder / "d" / "report.html").read_text(), "half the step")


class Cluster(unittest.TestCase):
    def test_two_workers_in_different_folders_one_of_them_killed(self) -> None:
        """A real scheduler: rows and recordings are those of one process, to the byte."""
        from distributed import Client

        with tempfile.TemporaryDirectory() as name:
            folder, running = Path(name), []
            environment = {**os.environ, "DASK_DISTRIBUTED__WORKER__DAEMON": "False"}

            def start(*words: str, where: str) -> subprocess.Popen[bytes]:
                (folder / where).mkdir()
                command = [sys.executable, "-m", "distributed.cli.dask_" + words[0], *words[1:], "--no-dashboard"]
                process = subprocess.Popen(command, cwd=folder / where, env=environment, stderr=subprocess.DEVNULL)
                running.append(process)
                return process

            try:
                file = str(folder / "scheduler.json")
                start("scheduler", "--port", "0", "--host", "127.0.0.1", "--scheduler-file", file, where="s")
                options = ["--scheduler-file", file, "--nthreads", "1", "--no-nanny", "--local-directory", "."]
                first = start("worker", *options, where="w1")
                start("worker", *options, where="w2")
                study = vd.Study(cart_scenario(duration=0.3), {"a": Push(3.0), "b": Push(4.0)}, trials=12, metrics=[PLACE],
                                 vary={"cart/car.mass": vd.uniform(1, 3)})  # fmt: skip
                with Client(scheduler_file=file, timeout=60) as client:
                    client.wait_for_workers(2, timeout=60)
                    done: list[int] = []

                    def kill(count: int, total: int, last: str) -> None:
                        done.append(count)
                        if count == 4:
                            os.kill(first.pid, signal.SIGKILL)

                    far = study.run(folder / "far", executor=client.get_executor(), progress=kill)
                near = study.run(folder / "near")
                pd.testing.assert_frame_equal(far.trials, near.trials)
                for path in near.folder.glob("trials/*/*.mcap"):
                    self.assertEqual((far.folder / path.relative_to(near.folder)).read_bytes(), path.read_bytes())
            finally:
                for process in running:
                    process.kill()
                    process.wait()


if __name__ == "__main__":
    unittest.main()
