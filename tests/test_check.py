"""The check: every rule finds what breaks it and nothing else, and is silent about what is mended."""

from __future__ import annotations

import json
import shutil
import tempfile
import unittest
from pathlib import Path

import veldrain as vd
from tests.alarms import things
from tests.check_cases import CASES, cart, on_ground, source
from tests.helpers import DEMO, ROOT, called
from veldrain.demo import roads
from veldrain.review import RULES
from veldrain.review.rules import FAULTS


def drive(speed: float) -> vd.SkidSteer:
    """The cart's drive with a top speed; it is told nothing."""
    return vd.SkidSteer(["fl", "rl"], ["fr", "rr"], radius=0.1, track=0.4, acceleration=speed)


class Rules(unittest.TestCase):
    def test_every_rule_has_a_case(self) -> None:
        planted = {fault.rule for thing in things() for fault in thing.planted}
        self.assertLessEqual(set(CASES), (set(RULES) | set(FAULTS)) - {"file"})
        self.assertLessEqual((set(RULES) | set(FAULTS)) - {"file"}, set(CASES) | planted)

    def test_broken_and_mended(self) -> None:
        for rule, (path, make) in CASES.items():
            with self.subTest(rule=rule):
                found = vd.check(make(False))
                hits = [f for f in found if f.rule == rule]
                self.assertIn(path, [f.path for f in hits], [str(f) for f in found])
                self.assertTrue(all(f.problem and f.cure for f in hits))
                self.assertEqual([str(f) for f in found if f.rule not in (rule, "not-looked-at")], [])
                self.assertEqual([str(f) for f in vd.check(make(True))], [])

    def test_statements_and_the_page(self) -> None:
        """Each rule has a statement in one line and a reason; docs/check.md shows each with its case as it is."""
        page = (ROOT / "docs" / "check.md").read_text(encoding="utf-8")
        for name, rule in RULES.items():
            with self.subTest(rule=name):
                self.assertTrue(rule.statement.endswith(".") and len(rule.statement) < 100)
                self.assertGreater(len(rule.reason), 40)
                self.assertIn(f"**`{name}`** ({rule.severity}). {rule.statement}", page)
        for name in CASES:
            with self.subTest(case=name):
                self.assertIn(source(name), page, "make docs")

    def test_scenarios_and_studies(self) -> None:
        """They are looked at with their own step."""
        world = on_ground(cart().mount("imu", vd.Imu(period="2.5 ms"), on="hull"))
        for step, count in (("1 ms", 1), ("0.5 ms", 0)):
            scenario = vd.Scenario(world, "1 s", step=step)
            study = vd.Study(
                scenario,
                controllers={"none": {}},
                vary={"cart.x": vd.uniform(0, 1)},
                trials=2,
                metrics=[vd.FinishTime("t", "x")],
            )
            for thing in (scenario, study):
                with self.subTest(step=step, thing=type(thing).__name__):
                    self.assertEqual(len(vd.check(thing).of("uneven-period")), count)

    def test_the_ends_of_what_a_study_draws(self) -> None:
        world = vd.World().ground().body("crate", vd.Box((0.4, 0.4, 0.4)), mass=6, pose=vd.Pose((0, 0, 0.2)))
        scenario = vd.Scenario(world, "0.1 s").expect("still", never=vd.speed("crate") > 1)
        for path, draw, said in (
            ("crate.mass", vd.uniform(-3, 3), "cannot-run vary crate.mass: can be drawn as -3: crate: mass is -3 kg"),
            ("crate.yaw", vd.uniform(-30, 30), "cannot-run vary crate.yaw: can be drawn as -30: .*an angle of -30 rad"),
            ("ground.friction", vd.uniform(0.2, 80), "unlikely-friction vary ground.friction: can be drawn as 80: gro"),
            ("crate.friction", vd.normal(0.1, 0.1), "cannot-run vary crate.friction: .*give 0 or more"),
            ("crate.mass", vd.uniform(3, 9), "^$"),
        ):
            with self.subTest(path):
                study = vd.Study(scenario, {"none": {}}, vary={path: draw}, trials=9, metrics=[])
                self.assertRegex("\n".join(f"{f.rule} {f}" for f in vd.check(study)), said)

    def test_a_study_that_compares_nothing(self) -> None:
        scenario = vd.Scenario(on_ground(cart()), "0.1 s", controllers={"cart": drive(2.0)})
        scenario.at(0).tell("cart", forward=0.1)
        for other, trials, rules in ((2.0, 6, ["same-controllers"]), (3.0, 6, []), (3.0, 5, ["few-trials"])):
            with self.subTest(rules):
                controllers = {name: {"cart": drive(speed)} for name, speed in (("a", 2.0), ("b", other))}
                study = vd.Study(scenario, controllers, vary={"cart.x": vd.uniform(0, 1)}, trials=trials, metrics=[])
                self.assertEqual([f.rule for f in vd.check(study)], rules)

    def test_drives_are_tried_by_a_test_step(self) -> None:
        """What is told, and what comes of it: found with its cure, and silent about what does as it is told."""

        def skid(model: vd.Model, **words: str) -> vd.Scenario:
            scenario = vd.Scenario(on_ground(model), "1 s", controllers={"cart": drive(1.0).changed(**words)})
            return scenario.at(0).tell("cart", forward=0.3)

        def car(**words: float) -> vd.Scenario:
            own = roads.drive()
            told = {"radius": own.radius, "track": own.track, "wheelbase": own.wheelbase} | words
            world = vd.World().ground().place(roads.service_car(), "car", pose=vd.Pose((0, 0, own.radius)))
            drives = {"car": vd.AckermannDrive(own.steered, own.driven, **told)}
            return vd.Scenario(world, "1 s", controllers=drives).at(0).tell("car", forward=1)

        mirrored = {f"{name}_axis": (0, -1, 0) for name in ("fr", "rr")}
        weak = cart()
        for joint in list(weak.motors):
            weak.change_joint(joint, damping=5)
        slow = cart()
        for joint in list(slow.motors):
            slow.change_motor(joint, speed=1.0)
        base = roads.drive().wheelbase
        for said, scenario in (
            ("", skid(cart())),
            ("", car()),
            ("", skid(cart(), watchdog="0.2 s")),
            ("", skid(slow)),
            ("fr, rr roll backward where the others roll forward; turn the axes", skid(cart(**mirrored))),
            (r"forward it goes at -0\.3 m/s, backward", skid(cart(**mirrored, fl_axis=(0, -1, 0), rl_axis=(0, -1, 0)))),
            (r"[fr][lr] turns at 1\.5\d* of 3 rad/s; give its motor more: damping is its gain, now 5", skid(weak)),
            (r"though its wheels turn as told; write radius: 0\.\d+ m, which", car(radius=2 * roads.drive().radius)),
            (rf"rad/s to the left it turns at .*; write wheelbase: {base:g} m, which", car(wheelbase=base / 2)),
        ):
            with self.subTest(said):
                found = "; ".join(f"{f.problem}; {f.cure}" for f in vd.check(scenario) if f.rule == "moves-otherwise")
                self.assertRegex(found, said or "^$")

    def test_what_always_passes_or_never_happens(self) -> None:
        """One slip each in a scenario or study that is fine without it."""
        world = on_ground(cart().mount("truth", vd.TruePose("20 ms"), on="hull")).obstacle(
            "goal", vd.Box((0.1, 1, 0.02)), pose=vd.Pose((2, 0, 0.01))
        )
        near, far = (vd.distance("cart/hull", "goal") < reach for reach in (3.0, 0.5))
        for rule, slip in (
            ("", lambda s: s.expect("there", eventually=far)),
            ("cannot-fail", lambda s: s.expect("there", eventually=near)),
            ("", lambda s: s.at("1 s").push("cart/hull", force=(0, 40, 0))),
            ("push-of-nothing", lambda s: s.at("1 s").push("cart/hull", force=(0, 0, 0))),
            ("push-of-nothing", lambda s: s.at("1 s").push("cart/hull", force=(0, 0.04, 0))),
            ("cut-short", lambda s: s.at("0.5 s").finish("done").at("1 s").push("cart/hull", force=(0, 40, 0))),
        ):
            scenario = vd.Scenario(world, "2 s")
            slip(scenario)
            with self.subTest(rule):
                self.assertEqual([f.rule for f in vd.check(scenario)], [rule] if rule else [])
        metrics = [vd.Metric(name, "cart/truth", "y", "max abs", "m") for name in ("sideways", "drift")]
        study = vd.Study(
            vd.Scenario(world, "0.2 s"),
            controllers={"none": {}},
            metrics=metrics,
            vary={"cart.yaw": vd.uniform(0, 1)},
            trials=8,
        )
        told = [f"{f.path} {f.problem}" for f in vd.check(study) if f.rule == "same-metric"]
        self.assertIn("metric 'drift' is the same as 'sideways' under another name: it counts twice", told)

    def test_what_a_trial_writes_is_told_before(self) -> None:
        """Pictures of 320 × 240 × 3 bytes, a thousand a second: 230 MB/s, of which 2 GB a trial and 50 a study are much."""
        world = on_ground(cart().mount("eye", vd.Camera("1 ms", size=(320, 240)), on="hull", pose=vd.Pose((0, 0, 0.4))))
        metric = vd.Metric("sideways", "cart/joint_states", "position", "max abs", "m")

        def study(trials: int, keep: str) -> vd.Study:
            scenario = vd.Scenario(world, "1 s")
            controllers = {"none": {}, "other": {}}
            made = vd.Study(scenario, controllers=controllers, metrics=[metric], trials=trials)
            made.keep = keep
            return made

        for thing, said in (
            (vd.Scenario(world, "8 s"), ""),
            (vd.Scenario(world, "9 s"), "cart/eye: a trial of up to 9 s has 2.08 GB .*, 231 MB a second"),
            (vd.Scenario(world, "9 s", record={"every": {"cart/eye": "1 s"}}), ""),
            (vd.Scenario(world, "9 s", record={"without": ["*/eye"]}), ""),
            (study(120, "all"), "240 trials 55.4 GB"),
            (study(120, "none"), ""),
        ):
            with self.subTest(said):
                found = "; ".join(f"{f.path}: {f.problem}" for f in vd.check(thing) if f.rule == "much-data")
                self.assertRegex(found, said or "^$")

    def test_a_model_in_a_posture_of_its_own(self) -> None:
        m = cart().link("flap", vd.Box((0.1, 0.2, 0.02)), mass=0.4)
        m.joint("hinge", "hull", "flap", "revolute", vd.Pose((0.4, 0, 0)), axis=(0, 1, 0), limits=("10 deg", "90 deg"))
        self.assertEqual([f.rule for f in vd.check(m)], ["start-outside-limits"])
        self.assertIn("10° to 90°", vd.check(m)[0].problem)
        self.assertEqual(list(vd.check(m.posture("up", {"hinge": "60 deg"}), posture="up")), [])
        with self.assertRaisesRegex(vd.VeldrainError, "no posture 'down'"):
            vd.check(m, posture="down")


class Reviews(unittest.TestCase):
    """From files and at the command line."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        shutil.copytree(DEMO / "robots", self.folder / "robots")

    def write(self, name: str, text: str) -> str:
        (self.folder / name).write_text(text, encoding="utf-8")
        return name

    def test_what_ships_is_sound(self) -> None:
        for name in (
            "culvert.study.yaml",
            "culvert.scenario.yaml",
            "robots/crawler.world.yaml",
            "robots/sampling.world.yaml",
            "robots/sluice.world.yaml",
        ):
            with self.subTest(name=name):
                told = [str(f) for f in vd.check(DEMO / name) if f.rule != "not-looked-at"]  # by the machine's speed
                self.assertEqual(told, [])

    def test_from_broken_to_driving(self) -> None:
        """The corrections that are sure, written and loaded again; what is left is mended by hand, and it drives."""
        antenna = "{antenna_foot: {parent: hull, child: antenna, kind: fixed, pose: {xyz: [-15 cm, 8 cm, 16 cm]}}}"
        self.write(
            "first.yaml",
            f"veldrain: world/1\nbase: robots/broken.world.yaml\nmodels: {{crawler: {{joints: {antenna}}}}}\n",
        )
        before = vd.check(self.folder / "first.yaml")
        done = called("check", "first.yaml", "--fix", "second.yaml", "--quiet", cwd=self.folder)
        self.assertEqual((done.returncode, done.stderr), (1, ""))
        self.assertRegex(done.stdout, r"Written: second.yaml, with \d corrections to read and edit")
        after = vd.check(self.folder / "second.yaml")
        fixed = {(f.rule, f.path) for f in before if f.fix}
        self.assertGreater(len(fixed), 7)
        self.assertEqual({(f.rule, f.path) for f in after} & fixed, set())
        self.write(
            "third.yaml",
            """veldrain: world/1
base: second.yaml
obstacles: {wall: {role: both}}
models:
  crawler:
    change:
      links:
        mast: {mass: 0.3, inertia: null}
        bumper: {parts: [{box: [3 cm, 26 cm, 5 cm]}]}
      joints:
        bumper_spring: {pose: {xyz: [29 cm, 0, 0]}, effort: null, speed: null, stiffness: 2 kN/m, damping: 40}
        rear_left: {effort: 5 N*m}
    sensors:
      scan: {on: mast, pose: {xyz: [0, 0, 8 cm]}}
      imu: {with: {period: 5 ms}}
    suppress: [{rule: nothing-to-touch, at: antenna, because: it bends}]
""",
        )
        left = vd.check(self.folder / "third.yaml")
        self.assertEqual([str(f) for f in left], [])
        self.assertEqual([s.because for s in left.silenced], ["it bends"])
        sim = vd.Simulation(vd.load_world(self.folder / "third.yaml"))
        for wheel in ("front_left", "front_right", "rear_left", "rear_right"):
            sim["crawler"].command(wheel, velocity=5)
        sim.advance("2 s")
        self.assertAlmostEqual(sim["crawler"].pose().position[0], 2 * 5 * 0.09, 1)  # v = ω r
        self.assertLess(abs(sim["crawler"].pose().position[2] - 0.13), 1e-3)

    def test_command(self) -> None:
        done = called("check", "robots/broken.world.yaml", "robots/sluice.world.yaml", "--quiet", cwd=self.folder)
        self.assertEqual((done.returncode, done.stderr), (1, ""))
        for line in (
            "3 errors: it will not do what is meant",
            "crawler/antenna  held-by-nothing  robots/broken_crawler.urdf:37",
            "Nothing found: it can run.",
        ):
            self.assertIn(line, done.stdout)
        self.assertEqual(
            max(len(line) for line in done.stdout.splitlines() if line.endswith(" ")) if " \n" in done.stdout else 0, 0
        )
        told = json.loads(called("check", "--json", "robots/broken.world.yaml", cwd=self.folder).stdout)
        (report,) = told.values()
        self.assertEqual(
            {f["rule"] for f in report["findings"] if f["severity"] == "error"},
            {"held-by-nothing", "impossible-inertia", "limits"},
        )
        self.assertEqual(called("check", "robots/sluice.world.yaml", "--step", "0.5 ms", cwd=self.folder).returncode, 0)

    def test_command_mistakes(self) -> None:
        self.write("bad.urdf", "<robot name='r'>\n<link name='a'>\n</robot>")
        self.write("bad.yaml", "veldrain: world/1\nobstacles: {wall: {box: [1, 2]}, post: {sphere: -1}}")
        for words, status, pattern in (
            (("check", "bad.urdf"), 1, r"bad\.urdf:3\n      broken XML"),
            (("check", "bad.yaml"), 1, r"2 errors(.|\n)*bad\.yaml:2(.|\n)*not a row of 3(.|\n)*radius is -1 m"),
            (("check", "gone.urdf"), 2, r"error: gone\.urdf: no such file"),
            (("check", "robots/sluice.world.yaml", "--fix", "bad.yaml"), 2, r"error: bad\.yaml: is there already"),
            (("inspect", "bad.urdf"), 2, r"error: bad\.urdf:3: broken XML"),
            (("inspect", "robots/gripper.urdf", "--posture", "shut"), 2, r"no posture 'shut'"),
        ):
            with self.subTest(words=words):
                done = called(*words, cwd=self.folder)
                self.assertEqual(done.returncode, status)
                self.assertRegex(done.stdout + done.stderr, pattern)
                self.assertNotIn("Traceback", done.stderr)

    def test_inspect(self) -> None:
        done = called("inspect", "robots/sampling.world.yaml", cwd=self.folder)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        for line in (
            "elbow: revolute, about y, -150° to 150°, now 50°  →  forearm  2.2 kg",
            "mass                16.61 kg",
            "gripper: fixed  →  gripper/palm",
            "degrees of freedom  7, and 6 more where it is not fixed",
        ):
            self.assertIn(line, done.stdout)
        (data,) = json.loads(
            called("inspect", "--json", "--posture", "stowed", "robots/sampling_arm.urdf", cwd=self.folder).stdout
        )
        self.assertAlmostEqual(data["positions"]["elbow"], 2.443461, 5)
        self.assertEqual(data["links"][0]["children"][0]["joint"]["name"], "turn")


if __name__ == "__main__":
    unittest.main()
