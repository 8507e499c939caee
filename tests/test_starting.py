"""A start of one's own: every template runs at once, and a robot file is built around."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import veldrain as vd
from tests.helpers import DEMO, command
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
                    for name in (*model.motors, *(m.name for m in model.sensors.values() if not m.sensor.truth)):
                        self.assertIn(f'"{name}"', text)

    def test_the_test_and_the_study_that_come_with_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            mine = Path(folder) / "mine"
            done = command("new", mine)
            self.assertIn("Nothing found: it can run.", done.stdout, done.stderr)
            own = subprocess.run(
                [sys.executable, "-m", "unittest"], cwd=mine, capture_output=True, text=True, check=False
            )
            self.assertEqual(own.returncode, 0, own.stderr)
            result = vd.load_study(mine / "speeds.study.yaml").run(mine / "results")
            means = result.trials.groupby("controller")["path, x"].mean()
            self.assertGreater(means["fast"], means["slow"] + 0.3)
            again = command("new", mine)
            self.assertEqual((again.returncode, again.stderr.count("\n")), (2, 1))
            self.assertIn("is not empty; name a new folder", again.stderr)

    def test_around_a_robot_file(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            made = start(Path(folder) / "mine", robot=DEMO / "robots" / "gripper.urdf")
            self.assertTrue(any("motors on" in guess for guess in made.guesses) or made.guesses)
            recording = vd.run(vd.load_scenario(made.folder / "trip.scenario.yaml"))
            self.assertFalse(recording.outcome["failed"], recording.outcome["reason"])
            with self.assertRaisesRegex(vd.VeldrainError, "no kind of project 'boat'"):
                start(Path(folder) / "other", "boat")


if __name__ == "__main__":
    unittest.main()
