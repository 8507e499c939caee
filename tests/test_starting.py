"""A start of one's own: every template runs at once, and a robot file is built around."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import veldrain as vd
from tests.helpers import DEMO, called
from veldrain.demo import walkers
from veldrain.kernel import SHIPS
from veldrain.starting import KINDS, start


class Projects(unittest.TestCase):
    def test_each_kind_runs_and_nothing_grave_is_found(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for kind in KINDS:
                with self.subTest(kind):
                    made = start(Path(folder) / kind, kind)
                    found = vd.check(vd.load_scenario(made.folder / "trip.scenario.yaml"))
                    self.assertEqual([str(f) for f in found if f.severity != "note"], [])
                    text = (made.folder / "controller.py").read_text()
                    model = vd.load_world(made.folder / "yard.world.yaml").placed[made.robot].model
                    if kind == "car":  # a drive that ships has its motors
                        self.assertIn("AckermannDrive", (made.folder / "trip.scenario.yaml").read_text())
                        continue
                    for name in (*model.motors, *(m.name for m in model.sensors.values() if not m.sensor.truth)):
                        self.assertIn(f'"{name}"', text)

    def test_the_test_and_the_study_that_come_with_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            mine = Path(folder) / "mine"
            done = called("new", mine)
            self.assertIn("Nothing found: it can run.", done.stdout, done.stderr)
            own = subprocess.run(
                [sys.executable, "-m", "unittest"], cwd=mine, capture_output=True, text=True, check=False
            )
            self.assertEqual(own.returncode, 0, own.stderr)
            result = vd.load_study(mine / "speeds.study.yaml").run(mine / "results")
            means = result.trials.groupby("controller")["path, x"].mean()
            self.assertGreater(means["fast"], means["slow"] + 0.3)
            again = called("new", mine)
            self.assertEqual((again.returncode, again.stderr.count("\n")), (2, 1))
            self.assertIn("is not empty; name a new folder", again.stderr)

    def test_around_a_robot_file(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            made = start(Path(folder) / "mine", robot=DEMO / "robots" / "gripper.urdf")
            self.assertTrue(any("motors on" in guess for guess in made.guesses) or made.guesses)
            recording = vd.run(vd.load_scenario(made.folder / "trip.scenario.yaml"))
            self.assertFalse(recording.outcome["failed"], recording.outcome["reason"])
            for name, mine in (("four", walkers.four_legged()), ("six", walkers.bank_walker())):
                with self.subTest(name):
                    mine.motors.clear()  # as a robot file has it: no motors, no postures
                    mine.postures.clear()
                    vd.save_robot(mine, Path(folder) / f"{name}.urdf")
                    made = start(Path(folder) / name, "walker", robot=Path(folder) / f"{name}.urdf")
                    scenario = vd.load_scenario(made.folder / "trip.scenario.yaml")
                    recording = vd.run(scenario)
                    self.assertTrue(recording.outcome["passed"], recording.outcome)
                    self.assertAlmostEqual(recording[f"{made.robot}/truth"]["x"].iloc[-1], 0.1 * 3.4, delta=0.12)
                    yard = made.folder / "yard.world.yaml"
                    yard.write_text(re.sub(r"(stiffness|damping): [\d.]+", r"\1: 1", yard.read_text()))
                    fallen = vd.run(vd.load_scenario(made.folder / "trip.scenario.yaml"))
                    self.assertFalse(fallen.outcome["passed"], "it lies on the ground")
            with self.assertRaisesRegex(vd.VeldrainError, "no kind of project 'boat'"):
                start(Path(folder) / "other", "boat")


if __name__ == "__main__":
    unittest.main()


class Shipped(unittest.TestCase):
    """Kernels that a wheel brings along."""

    def test_are_used_in_the_place_of_compiling(self) -> None:
        use = (
            "import numpy as np, veldrain as vd; from veldrain.kernel import common_processor\n"
            "m = vd.Model('a').link('base').link('b', vd.Box((1, 1, 1)), mass=1).joint('j', 'base', 'b', kind='revolute')\n"
            "print(common_processor(), *vd.Chain(m, 'b').forward([0.3]).matrix.ravel())"
        )
        with tempfile.TemporaryDirectory() as folder:
            package = Path(folder) / "src" / "veldrain"
            shutil.copytree(Path(vd.__file__).parent, package, ignore=shutil.ignore_patterns("__pycache__", "kernels"))

            def run(cache: str, **env: str) -> str:
                env = (
                    os.environ | {"PYTHONPATH": str(package.parent), "XDG_CACHE_HOME": str(Path(folder) / cache)} | env
                )
                done = subprocess.run([sys.executable, "-c", use], env=env, capture_output=True, text=True, check=False)
                self.assertEqual(done.returncode, 0, done.stderr)
                return done.stdout

            compiled = {"NUMBA_CPU_FEATURES": "", SHIPS: "1"}
            processor = run("mine").split()[0]
            if processor.startswith("0."):
                self.skipTest("this processor can do less than the common ones")
            first = run("builders", NUMBA_CPU_NAME=processor, **compiled)
            self.assertTrue(any((package / "kernels").rglob("*.nbc")))
            self.assertEqual(run("users"), first)
            self.assertFalse(any((Path(folder) / "users").rglob("*.nbc")), "was compiled all the same")
            for source in package.glob("motion/*.py"):
                source.write_text(source.read_text() + "# changed\n")
            self.assertEqual(run("changed"), first)
            self.assertTrue(any((Path(folder) / "changed").rglob("*.nbc")), "old kernels for new sources")
