"""The command line as a process, and the files it reads."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

import veldrain as vd
from tests.helpers import DEMO, called, cart_scenario, command
from veldrain.kernel import kernels_folder
from veldrain.study.store import STORE

MINIMAL = {
    "w.yaml": """
veldrain: world/1
ground: {surface: {friction: 0.7}}
obstacles:
  post:
    cylinder: {radius: 10 cm, length: 1 m}
    pose: {xyz: [2 m, 0, 50 cm]}
bodies:
  ball: {sphere: 10 cm, mass: 1 kg, pose: {xyz: [0, 0, 1 m]}, surface: {restitution: 0.5}}
models:
  cart:
    links:
      hull:
        mass: 3 kg
        parts:
          - box: [30 cm, 20 cm, 10 cm]
          - {capsule: {radius: 1 cm, length: 5 cm}, pose: {xyz: [0, 0, 8 cm]}, role: visual, colour: red}
        surface: {friction: 0.3}
      wheel: {mass: 500 g, parts: [{cylinder: {radius: 5 cm, length: 2 cm}}]}
    joints:
      axle: {parent: hull, child: wheel, kind: continuous, axis: [0, 1, 0], pose: {xyz: [0, 0, 30 cm]}, damping: 0.1}
    motors:
      axle: {mode: velocity, damping: 2, limit: 4 N*m}
    frames:
      nose: {on: hull, pose: {xyz: [15 cm, 0, 0]}}
    sensors:
      scan: {use: Lidar, on: hull, with: {beams: 20, field_of_view: 180 deg}}
      truth: {use: TruePose, on: hull}
place:
  cart: {model: cart, pose: {xyz: [0, 1 m, 5 cm], yaw: 90 deg}, joints: {axle: 10 deg}}
""",
    "s.yaml": """
veldrain: scenario/1
world: w.yaml
duration: 1 s
controllers:
  cart: {use: "drive.py:Drive", with: {speed: 2.0}}
timeline:
  - at: 300 ms
    push: {link: cart/hull, force: [0, 5 N, 0], lasting: 100 ms, name: nudge}
  - when: {all: [{distance: [ball, post], below: 3 m}, {not: {touching: [cart, post]}}, {touching: [ball, ground]}]}
    finish: the ball is down
expect:
  - {name: off the post, never: {any: [{touching: [cart, post]}, {touching: [ball, post]}]}}
  - {name: ball lands, eventually: {touching: [ball, ground]}, within: 1 s}
""",
    "t.yaml": """
veldrain: study/1
scenario: s.yaml
trials: 2
controllers:
  slow: {use: "drive.py:Drive", with: {speed: 1.0}}
  fast: {cart: {use: "drive.py:Drive", with: {speed: 3.0}}}
vary:
  ball.z: {uniform: [80 cm, 1 m]}
metrics:
  - {name: way, stream: cart/truth, column: z, statistic: last, unit: m}
  - {name: fall, finish: the ball is down}
""",
    "drive.py": """
class Drive:
    period = 0.02
    def __init__(self, speed=1.0):
        self.speed = speed
    def update(self, now, senses, motors):
        motors["axle"].velocity = self.speed
""",
}


class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        for name, text in MINIMAL.items():
            (self.folder / name).write_text(text.lstrip())

    def test_a_world_with_everything_in_it(self) -> None:
        w = vd.load_world(self.folder / "w.yaml")
        model = w.placed["cart"].model
        self.assertEqual(repr(model), "Model('cart': 2 links, 1 joint, 2 sensors)")
        self.assertEqual([p.role for p in model.links["hull"].parts], ["both", "visual"])
        self.assertEqual((model.motors["axle"].damping, model.motors["axle"].limit), (2.0, 4.0))
        self.assertAlmostEqual(w.placed["cart"].joints["axle"], 0.17453, places=5)
        self.assertEqual(model.sensors["scan"].sensor.angles.shape, (20,))
        recording = vd.run(vd.load_scenario(self.folder / "s.yaml"))
        self.assertEqual(recording.outcome["reason"], "the ball is down")
        self.assertAlmostEqual(recording.outcome["time"], (2 * 0.9 / 9.81) ** 0.5, delta=0.02)

    def test_what_is_wrong_is_told_with_its_line(self) -> None:
        """One word changed in a good file; the message names file, line, and what would be right."""
        cases = [
            ("w.yaml", "friction: 0.7", "fricton: 0.7", 2, "unknown word 'fricton'; did you mean 'friction'?"),
            ("w.yaml", "obstacles:", "obstacels:", 3, "unknown word 'obstacels'; did you mean 'obstacles'?"),
            ("w.yaml", "radius: 10 cm", "radius: 10 kg", 4, "'10 kg' is not a length"),
            ("w.yaml", "mass: 3 kg", "mass: -3 kg", 12, "mass is -3 kg"),
            ("w.yaml", "mass: 3 kg", "mass: ", 13, "'mass' is empty; give it a value, or leave it out"),
            ("w.yaml", "role: visual", "role: ghost", 16, "role"),
            ("w.yaml", "child: wheel", "child: weel", 20, "did you mean 'wheel'"),
            ("w.yaml", "kind: continuous", "kind: hinge", 20, "kind is 'hinge'; give 'fixed', 'revolute'"),
            ("w.yaml", "use: Lidar", "use: Lydar", 26, "did you mean 'Lidar'"),
            ("w.yaml", "beams: 20", "beems: 20", 26, "no argument 'beems'; did you mean 'beams'?"),
            ("w.yaml", "model: cart", "model: kart", 29, "did you mean 'cart'"),
            ("w.yaml", "mass: 1 kg, ", "", 8, "'mass' is missing"),
            ("w.yaml", "world/1", "wurld/1", 1, "starts with 'veldrain: world/1'"),
            ("w.yaml", "ground: {", "ground: {{", 3, "not YAML"),
            ("w.yaml", "obstacles:", "ground:", 3, 'found duplicate key "ground"; leave one out, or give it a name'),
            ("w.yaml", "  cart:\n    links", "\tcart:\n    links", 10, "write spaces for the tab"),
            ("w.yaml", "use: Lidar, on: hull", "use: Lidar, on: 3", 26, "on is 3; give a text"),
            ("s.yaml", "world: w.yaml", "world: v.yaml", 2, "no such file"),
            ("s.yaml", "duration: 1 s", "duration: 1 m", 3, "'1 m' is not a time"),
            ("s.yaml", "at: 300 ms", "att: 300 ms", 7, "unknown word 'att'; did you mean 'at'"),
            ("s.yaml", "below: 3 m}", "belo: 3 m}", 9, "unknown word 'belo'; did you mean 'below'"),
            ("s.yaml", "finish: the ball is down", "finish:", 10, "'finish' is empty"),
            ("t.yaml", "trials: 2", "trials: two", 3, "trials is 'two'; give a whole number"),
            ("t.yaml", "uniform: [80 cm, 1 m]", "uniform: 80 cm", 8, "uniform is '80 cm'; give a list: [a, b]"),
            ("t.yaml", "ball.z", "ball.zz", 8, "did you mean 'ball.z'"),
            ("t.yaml", "uniform: [80 cm, 1 m]", "uniform: [80 deg, 1 m]", 8, "'80 deg' is not a length"),
            ("t.yaml", "statistic: last", "statistic: lasst", 10, "did you mean 'last'"),
            ("t.yaml", 'slow: {use: "drive.py:Drive"', 'slow: {use: "drive.py:Dive"', 5, "'drive.py' has no 'Dive'"),
            ("t.yaml", 'slow: {use: "drive.py:Drive"', 'slow: {use: "drvie.py:Drive"', 5, "cannot load 'drvie.py'"),
            ("t.yaml", "{speed: 1.0}", "{sped: 1.0}", 5, "did you mean 'speed'?"),
        ]
        load = {"w.yaml": vd.load_world, "s.yaml": vd.load_scenario, "t.yaml": vd.load_study}
        for name, old, new, line, words in cases:
            with self.subTest(new=new):
                path = self.folder / name
                good = path.read_text()
                self.assertEqual(good.count(old), 1)
                path.write_text(good.replace(old, new))
                with self.assertRaises(vd.VeldrainError) as caught:
                    load[name](path)
                path.write_text(good)
                message = str(caught.exception)
                self.assertIn(f"{name}:{line}: ", message)
                self.assertIn(words, message)
                self.assertNotIn("\n", message)

    def test_a_study_from_files_with_a_controller_of_ones_own(self) -> None:
        done = command("study", self.folder / "t.yaml", "--out", self.folder / "out", "--workers", 2, "--quiet")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertRegex(done.stdout, r"slow +2 of 2 +34 to 100 %")
        self.assertRegex(done.stdout, r"fall \(s\) +0\.\d+ +0\.\d+")
        self.assertEqual(len(list(self.folder.glob("out/trials/*/*.mcap"))), 4)
        # The same again does nothing anew; another baseline is compared from what is there.
        self.assertEqual(called("study", self.folder / "t.yaml", "--out", self.folder / "out").stdout, done.stdout)
        again = called("compare", self.folder / "out", "--baseline", "fast")
        self.assertRegex(again.stdout, r"metric +fast +slow")
        page = (self.folder / "out" / "report.html").read_text()
        self.assertNotRegex(page, r"(src|href)=\"?http|<script src")
        for words in ("<svg", "Paired differences", "Paths", "ball.z"):
            self.assertIn(words, page)


class Commands(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_demo(self) -> None:
        """From nothing to a comparison, quiet but for its tables; never over what is there."""
        (self.folder / "veldrain-demo").mkdir()
        done = command("demo", "--trials", 1, "--workers", 2, "--quiet", cwd=self.folder)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        out = self.folder / "veldrain-demo-2"
        self.assertEqual(list((self.folder / "veldrain-demo").iterdir()), [])
        self.assertEqual(
            {p.name for p in out.iterdir()},
            {p.name for p in DEMO.glob("*.yaml")} | {"drops", "results", "robots", "worlds"},
        )
        for words in ("offset, RMS (m)", "too few pairs", "To try next:", "veldrain-demo-2/results/report.html"):
            self.assertIn(words, done.stdout)
        self.assertNotIn("\x1b", done.stdout)
        listed = called("streams", out / "results" / "trials" / "damped" / "000.mcap")
        self.assertRegex(listed.stdout, r"crawler/imu +sensor_msgs/msg/Imu +\d+ +100 +0\.010 +\d+\.\d{3} +0\n")
        self.assertIn("passed at", listed.stdout)

    def test_run(self) -> None:
        for name in ("culvert.world.yaml", "culvert.scenario.yaml"):
            text = (
                (DEMO / name)
                .read_text()
                .replace("duration: 40 s", "duration: 1 s")
                .replace("within: 30 s", "within: 0.9 s")
                .replace("at: 10 s", "at: 0.5 s")
            )
            (self.folder / name).write_text(text)
        (self.folder / "mine.py").write_text(
            "class Still:\n    period = 0.1\n    def update(self, *_):\n        pass\n"
        )
        done = command(
            "run", "culvert.scenario.yaml", "--seed", 5, "--controller", "mine.py:Still", "--quiet", cwd=self.folder
        )
        self.assertEqual((done.returncode, done.stderr), (1, ""))
        self.assertRegex(
            done.stdout,
            r"did not pass at 1 s: time is up\n +met +clear of the walls\n +broken outlet in time at 0.91 s \(margin −10.5 m, nearest at 0.01 s\)\n",
        )
        self.assertIn("Written: culvert-seed5.mcap", done.stdout)
        self.assertEqual(
            vd.Recording(self.folder / "culvert-seed5.mcap").metadata["controllers"], {"crawler": "mine.py:Still"}
        )
        exact = ("run", "culvert.scenario.yaml", "--exact", "--controller", "mine.py:Still", "--seed")
        scans = []
        for seed in (1, 2):
            called(*exact, str(seed), "--out", f"{seed}.mcap", cwd=self.folder)
            scans.append(np.stack(list(vd.Recording(self.folder / f"{seed}.mcap")["crawler/scan"]["ranges"])))
        np.testing.assert_array_equal(scans[0], scans[1])
        again = called("run", "culvert.scenario.yaml", "--out", "culvert-seed5.mcap", cwd=self.folder)
        self.assertEqual(again.returncode, 2)
        self.assertIn("is there already", again.stderr)

    def test_knobs(self) -> None:
        """Many quantities in a paragraph a thing, few a line each."""
        for words, pattern in (
            ((), r"\nstone/drum\n    x 8\.4 m, .*\n\d+ quantities of \d+ things"),
            (("--like", "drum.x"), r"^stone/drum\.x +8\.4  m\n\n1 quantity; angles in rad"),
        ):
            done = called("inspect", DEMO / "culvert.scenario.yaml", "--knobs", *words, cwd=self.folder)
            self.assertRegex(done.stdout, f"(?s){pattern}")

    def test_a_scenario_or_study_on_a_page(self) -> None:
        done = called("inspect", DEMO / "culvert.study.yaml", cwd=self.folder)
        for row in (
            "Robots and actors\n  crawler  17.4 kg, 4 joints",
            "crawler/scan +Lidar on mast, every 100 ms, 20 ms late",
            "damped +crawler by veldrain.control:CentreLine .gain: 2.0, damping: 1.3., every 50 ms",
            "at 10 s +push 'shove' on crawler/hull: .0, 90, 0. N for 0.3 s",
            "when distance.crawler/hull, outlet. below 0.6 m +finish: reached the outlet",
            "clear of the walls +never: touching.crawler, culvert.",
            "silt.friction +uniform: low 0.05, high 0.4",
            "nearest wall +min of crawler/clearance range in m, higher is better",
            "trials +8 of each of 2 controllers",
        ):
            self.assertRegex(done.stdout, row)
        done = called("inspect", DEMO / "cut_in.scenario.yaml", "--json", cwd=self.folder)
        rows = dict(json.loads(done.stdout)["What happens"])
        self.assertEqual(rows["when touching(car, other)"], "finish: hit the other")
        refused = called("inspect", DEMO / "cut_in.scenario.yaml", "--posture", "up", cwd=self.folder)
        self.assertEqual((refused.returncode, refused.stderr.count("\n")), (2, 1))
        near = vd.distance("a", "b") < 0.5
        both = (near & ~vd.touching("a", "b")).held("1 s")
        self.assertEqual(str(both), "(distance(a, b) below 0.5 m and not touching(a, b)) for 1 s")
        with self.assertRaisesRegex(vd.VeldrainError, "int has no overview"):
            vd.overview(3)  # type: ignore[arg-type]
        crowd = vd.World().ground()
        for k in range(20):
            crowd.obstacle(f"stone/{k}", vd.Sphere(0.1), pose=vd.Pose((k, 0, 0)))
        self.assertIn("obstacles  20: stone (20)", str(vd.overview(crowd)))

    def test_progress(self) -> None:
        """In a log a line now and then, on a terminal a bar, in Python a call; nothing where it is not wished."""
        scenario = "culvert.scenario.yaml"
        told: list[tuple[float, float, str]] = []
        vd.run(vd.load_scenario(DEMO / scenario), progress=lambda *words: told.append(words))
        self.assertEqual((sorted(told), {total for _, total, _ in told}), (told, {40.0}))
        rules: list[str] = []
        vd.check(DEMO / scenario, progress=lambda done, total, last: rules.append(last))
        self.assertEqual(rules[0], next(iter(vd.review.RULES)))
        shown = r"Simulating: \d+\.\d of 40 s, [\d.]+ × real time, \d+ s to go\n"
        for words, pattern in (((), rf"(?s)^.*{shown}"), (("--quiet",), "^$")):
            with self.subTest(words), mock.patch("veldrain.cli.progressing.FIRST", 0.05):
                done = called("run", DEMO / scenario, *words, cwd=self.folder)
                self.assertRegex(done.stderr, pattern)
        ours, theirs = os.openpty()
        words = [sys.executable, "-m", "veldrain", "run", str(DEMO / scenario)]
        with subprocess.Popen(words, stderr=theirs, stdout=subprocess.DEVNULL, cwd=self.folder) as process:
            os.close(theirs)
            drawn = b""
            with contextlib.suppress(OSError):  # so a terminal ends
                while data := os.read(ours, 4096):
                    drawn += data
            os.close(ours)
        self.assertEqual(process.returncode, 0)
        self.assertRegex(drawn.decode(), r"Simulating.*━.* of 40 s, [\d.]+ × real time")

    def test_mistakes_are_one_line_and_status_2(self) -> None:
        shutil.copytree(DEMO, self.folder / "files", ignore=shutil.ignore_patterns("*.py*", "__pycache__"))
        path = self.folder / "files" / "culvert.world.yaml"
        path.write_text(path.read_text().replace("friction: 0.2", "fricton: 0.2"))
        (self.folder / "notes.txt").write_text("mine")
        before = sorted(p.name for p in self.folder.rglob("*"))
        for words, pattern in (
            (
                ("study", "files/culvert.study.yaml"),
                r"culvert\.world\.yaml:\d+: unknown word 'fricton'; did you mean 'friction'\?",
            ),
            (("study", "nowhere.yaml"), r"nowhere\.yaml: no such file"),
            (("compare", "files"), r"files: holds no study"),
            (("streams", "notes.txt"), r"notes\.txt: not an MCAP file"),
            (("demo", "--out", "."), r"\.: holds other files"),
            (("demo", "--out", "notes.txt"), r"notes\.txt: holds other files"),
            (("demo", "--trials", "0", "--out", "new"), r"--trials: 0 is too few"),
            (("run", "files/culvert.study.yaml"), r"culvert\.study\.yaml:1: is a file of 'study/1'"),
        ):
            with self.subTest(words=words):
                done = called(*words, cwd=self.folder)
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertRegex(done.stderr, rf"^error: .*{pattern}.*\n$")
                self.assertEqual(done.stderr.count("\n"), 1)
        self.assertEqual([n for n in sorted(p.name for p in self.folder.rglob("*")) if n not in before], [])

    def test_ctrl_c_keeps_what_is_done_and_the_next_call_goes_on(self) -> None:
        """Interrupted once the first trial is there; what was done is not done again."""
        for name, text in MINIMAL.items():
            (self.folder / name).write_text(text.lstrip().replace("trials: 2", "trials: 40"))
        words = [sys.executable, "-m", "veldrain", "study", "t.yaml", "--out", "out", "--workers", "2"]

        def rows() -> list[tuple[str, int]]:
            with sqlite3.connect(self.folder / "out" / STORE) as base:
                names = {name for (name,) in base.execute("SELECT name FROM sqlite_master")}
                return list(base.execute("SELECT controller, trial FROM trials")) if "trials" in names else []

        with subprocess.Popen(
            words, cwd=self.folder, stderr=subprocess.PIPE, text=True, start_new_session=True
        ) as running:
            while not (self.folder / "out" / STORE).is_file() or not rows():
                self.assertIsNone(running.poll())
                time.sleep(0.05)
            os.killpg(running.pid, signal.SIGINT)
            told = running.communicate(timeout=60)[1]
        self.assertEqual(running.returncode, 130)
        self.assertRegex(told, r"(?m)^interrupted: trials that were finished are kept; .*\n$")
        names = [self.folder / "out" / "trials" / c / f"{t:03d}.mcap" for c, t in rows()]
        done = {p: p.stat().st_mtime_ns for p in names}
        self.assertTrue(0 < len(done) < 80)
        self.assertEqual(called("study", "t.yaml", "--out", "out", "--workers", 1, cwd=self.folder).returncode, 0)
        self.assertEqual(len(vd.Result(self.folder / "out").trials), 80)
        self.assertEqual({p: p.stat().st_mtime_ns for p in done}, done)

    @unittest.skipUnless(Path("/proc/self/task").exists(), "needs a list of a process's children")
    def test_workers_end_with_a_study_that_is_killed(self) -> None:
        for name, text in MINIMAL.items():
            (self.folder / name).write_text(text.lstrip().replace("trials: 2", "trials: 4000"))
        words = [sys.executable, "-m", "veldrain", "study", "t.yaml", "--out", "out", "--workers", "2"]
        with subprocess.Popen(words, cwd=self.folder, stderr=subprocess.DEVNULL) as running:
            while not (self.folder / "out" / STORE).is_file() or len(list((self.folder / "out").rglob("*.mcap"))) < 3:
                self.assertIsNone(running.poll())
                time.sleep(0.05)
            children = Path(f"/proc/{running.pid}/task/{running.pid}/children").read_text().split()
            running.kill()
        self.assertGreaterEqual(len(children), 2)
        end = time.monotonic() + 20
        while any(Path(f"/proc/{child}").exists() for child in children) and time.monotonic() < end:
            time.sleep(0.1)
        self.assertEqual([child for child in children if Path(f"/proc/{child}").exists()], [])

    def test_help(self) -> None:
        done = command("--help", COLUMNS="100")
        self.assertEqual(done.returncode, 0)
        for word in ("demo", "run", "study", "compare", "streams"):
            self.assertTrue(re.search(rf"\b{word}\b", done.stdout))
            self.assertEqual(called(word, "--help").returncode, 0)


class Modes(unittest.TestCase):
    """Options of another mode are refused: what is ignored misleads."""

    @classmethod
    def setUpClass(cls) -> None:
        held = tempfile.TemporaryDirectory()
        cls.addClassCleanup(held.cleanup)
        cls.folder = Path(held.name)
        for name, text in MINIMAL.items():
            (cls.folder / name).write_text(text.lstrip())
        vd.run(cart_scenario(duration=0.1), record=cls.folder / "r.mcap")

    def test_refused(self) -> None:
        world = str(DEMO / "culvert.world.yaml")
        for words, told in (
            ("export r.mcap --to d --column cart/imu.x --window 1s", "--column: has no meaning without --dataset"),
            ("export r.mcap --to d --dataset --frame world", "--frame: has no meaning with --dataset"),
            ("export r.mcap --to d --kind png --stream cart/imu", "no stream of it can be written as png"),
            (
                "export r.mcap --to d --kind ply --stream cart/scan --stream cart/imu",
                "stream 'cart/imu' (sensor_msgs/msg/Imu) cann",
            ),
            (f"inspect {world} --test", "--test: has no meaning without --knobs or --gains"),
            (f"inspect {world} --knobs --gains", "--gains: has no meaning with --knobs"),
            (f"inspect {world} --gains --like mass", "--like: has no meaning with --gains"),
            ("look r.mcap --birds-eye cart --layer beams", "--layer: has no meaning with --birds-eye"),
            (f"look {world} --coverage --from top", "--from: has no meaning with --coverage"),
            (f"look {world} --height 1m", "--height: has no meaning without --coverage"),
            (f"look {world} --rate 5", "--rate: has no meaning without --coverage or --movie"),
            ("compare r.mcap r.mcap --baseline a", "--baseline: is of no use with these"),
            ("compare r.mcap r.mcap --json", "--json: is of no use with these"),
            ("run s.yaml --study t.yaml", "--study: has no meaning without a study's results"),
            ("run . 3 --seed 4", "--seed: has no meaning with a study's results"),
            ("study t.yaml --plan --doubt", "--doubt: has no meaning with --plan"),
            ("study t.yaml --tune --needed m", "--needed: has no meaning with --tune"),
            ("live --rate 3Hz", "--rate: has no meaning without a scenario"),
            ("check", "no file is named"),
        ):
            with self.subTest(words):
                done = called(*words.split(), cwd=self.folder)
                self.assertEqual((done.returncode, done.stdout), (2, ""))
                self.assertIn(told, done.stderr)
        self.assertFalse((self.folder / "d").exists())

    def test_as_json(self) -> None:
        self.assertRegex(called("--version").stdout, r"^veldrain \d+\.\d+")
        (scenario,) = (name for name in MINIMAL if "scenario/1" in MINIMAL[name])
        ran = json.loads(called("run", scenario, "--json", "--out", "j.mcap", cwd=self.folder).stdout)
        self.assertEqual((ran["recording"], ran["failed"]), ("j.mcap", False))
        for words in (("study", "t.yaml", "--out", "out"), ("compare", "out")):
            found = json.loads(called(*words, "--json", cwd=self.folder).stdout)
            self.assertEqual((found["folder"], found["trials"]), ("out", 4))
            self.assertEqual(len(found["passes"]), 2)
            self.assertTrue((self.folder / found["page"]).is_file())


class Surroundings(unittest.TestCase):
    """What the machine may do to a command: each is told in a line."""

    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.world = self.folder / "w.world.yaml"
        self.world.write_text(
            "veldrain: world/1\nground: {}\nbodies: {ball: {sphere: 0.1, mass: 1, pose: {xyz: [0, 0, 1]}}}\n"
        )

    def test_kept_code_that_was_cut_is_compiled_anew(self) -> None:
        command("check", self.world)  # whatever is not compiled yet is now
        kept = self.folder / "veldrain" / "kernels"
        shutil.copytree(kernels_folder(), kept)
        for k, path in enumerate(sorted(kept.rglob("pairing.bound_still*"))):
            path.write_bytes(path.read_bytes()[: (30, 5000)[k % 2]])
        done = command("check", self.world, "--quiet", XDG_CACHE_HOME=str(self.folder))
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertRegex(done.stderr, r"^note: compiled code in \S+ is cut or spoilt: it is compiled anew\n$")
        self.assertEqual(command("check", self.world, "--quiet", XDG_CACHE_HOME=str(self.folder)).stderr, "")

    def test_how_the_installation_is(self) -> None:
        done = called("check", "--installation")
        self.assertRegex(done.stdout, r"compiled code +kept[\s\S]*terminal[\s\S]*GB free")
        (self.folder / "file").touch()
        done = command("check", "--installation", XDG_CACHE_HOME=str(self.folder / "file"))
        self.assertEqual(done.returncode, 1)
        self.assertRegex(
            done.stderr,
            r"^note: compiled code cannot be kept in \S+ \(Not a directory\): it is compiled anew each time\n$",
        )
        self.assertRegex(done.stdout, r"not kept: it is compiled anew each time +make \S+ a folder that can be written")
        self.assertEqual(called("check", self.world, "--installation").returncode, 2)

    def test_places(self) -> None:
        """A terminal that is no UTF-8, a folder that is gone, a link to a folder, a disk that is full."""
        done = command(
            "inspect", DEMO / "culvert.world.yaml", "--knobs", PYTHONIOENCODING="ascii", PYTHONUTF8="0", LC_ALL="C"
        )
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        (self.folder / "gone").mkdir()
        code = f"import os, sys; os.chdir({str(self.folder / 'gone')!r}); os.rmdir({str(self.folder / 'gone')!r}); " \
               "sys.argv[1:] = ['new', 'x']; from veldrain.cli import main; main()"  # fmt: skip
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, done.stderr.count("\n")), (2, 1), done.stderr)
        recording = vd.run(cart_scenario(duration=0.1), record=self.folder / "r.mcap")
        (self.folder / "real").mkdir()
        (self.folder / "link").symlink_to(self.folder / "real")
        recording.write(self.folder / "link", ["csv"])
        self.assertTrue((self.folder / "real" / "cart.truth.csv").is_file() and (self.folder / "link").is_symlink())
        if Path("/dev/full").exists():
            for words in (
                ("look",),
                ("plot", "--column", "cart/truth.x"),
                ("look", "--movie", "m.gif", "--rate", "2", "--size", "64x48"),
            ):
                out = ["--out", "p.png"] if "--movie" not in words else []
                (self.folder / (part := ".p.part.png" if out else ".m.part.gif")).symlink_to("/dev/full")
                done = called(words[0], "r.mcap", *words[1:], *out, cwd=self.folder)
                with self.subTest(words):
                    self.assertRegex(
                        done.stderr, r"error: (p\.png|m\.gif): cannot be written \(No space left on device\)"
                    )
                    self.assertEqual([p.name for p in self.folder.iterdir() if p.name in ("p.png", "m.gif", part)], [])


if __name__ == "__main__":
    unittest.main()
