"""Controllers that are programs of their own: the same bytes as in process, and every way to fail."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd
from tests.helpers import cart_scenario

ROOT = Path(__file__).parent.parent
PROGRAMS = ROOT / "examples" / "programs"
HELLO = 'import sys, json, time, os\nfirst = input()\nprint(\'{"veldrain": "program/1"}\', flush=True)\n'


class Follower:
    """What wall_follower.cpp does, in process."""

    period = 0.05

    def start(self, body: Any, random: Any, log: Any) -> None:
        self.log, self.gap, self.change, self.seen = log, 0.5, 0.0, -1

    def update(self, now: float, senses: Any, motors: Any) -> None:
        scan = senses["scan"]
        if scan is not None and scan.stamp != self.seen:
            self.seen = scan.stamp
            met = [r for r in scan.ranges[: len(scan.ranges) // 4].tolist() if np.isfinite(r)]
            if met:
                self.change, self.gap = min(met) - self.gap, min(met)
        turn = 2.0 * (self.gap - 0.5) + 20.0 * self.change
        for side, speed in (("left", 6.0 + turn), ("right", 6.0 - turn)):
            for end in ("front", "rear"):
                motors[f"{end}_{side}"].velocity = speed
        self.log("gap", self.gap)


class Programs(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def written(self, text: str, name: str = "mine.py") -> vd.Program:
        path = self.folder / name
        path.write_text(text)
        return vd.Program(f"{sys.executable} {path}", limit="3 s")

    def test_same_bytes_as_in_process(self) -> None:
        binary = self.folder / "wall_follower"
        subprocess.run(["g++", "-O2", "-o", binary, PROGRAMS / "wall_follower.cpp"], check=True)
        text = (ROOT / "src/veldrain/demo/culvert.scenario.yaml").read_text()
        text = text.replace('"veldrain.demo.crawler', "").replace("world: ", f"world: {ROOT}/src/veldrain/demo/")
        text = text.replace(
            '{use: "veldrain.control:CentreLine", with: {gain: 2.0}}', '{use: "program:./wall_follower"}'
        )
        (self.folder / "trip.scenario.yaml").write_text(text)
        scenario = vd.load_scenario(self.folder / "trip.scenario.yaml")
        mine = vd.run(scenario, seed=3, controllers={"crawler": Follower()})
        self.assertEqual(mine.outcome["reason"], "reached the outlet")
        script = vd.Program(f"{sys.executable} {PROGRAMS / 'wall_follower.py'}")
        for recording in (vd.run(scenario, seed=3), vd.run(scenario, seed=3, controllers={"crawler": script})):
            for stream in mine:
                self.assertEqual(recording.raw(stream), mine.raw(stream), stream)

    def test_told_and_heard(self) -> None:
        program = self.written(
            HELLO + "told = json.loads(first)\n"
            "print(told['robot'], told['motors'], told['parameters'], file=sys.stderr, flush=True)\n"
            "for line in sys.stdin:\n"
            "    told = json.loads(line)\n"
            "    print(json.dumps({'motors': {'slide': {'effort': told['inputs']['push']}}, 'log': {'n': len(told['readings'])}}), flush=True)\n"
        ).changed(kinds={"push": "force"}, parameters={"gain": 2})
        scenario = cart_scenario(program, duration=1.0).at("0.5 s").tell("cart", push="0.25 N")
        recording = vd.run(scenario)
        self.assertIn("{'gain': 2}", recording["cart/stderr"]["data"].iloc[0])
        efforts = recording["cart/commands"]["effort.slide"].to_numpy()
        self.assertEqual((efforts[0], efforts[-1]), (0.0, 0.25))
        self.assertEqual(recording["cart/n"]["data"].iloc[-1], 3.0)

    def test_failures_end_the_trial_and_leave_nothing(self) -> None:
        loop = HELLO + "open('pid', 'w').write(str(os.getpid()))\nfor line in sys.stdin:\n    "
        for text, pattern in (
            (loop + "sys.exit(3)", "ended with status 3 at 0 s; see what it said"),
            (loop + "os.kill(os.getpid(), 11)", "ended by signal SIGSEGV"),
            (loop + "time.sleep(60)", "is silent for 3 s after 0 s"),
            (loop + "print('what', flush=True)", "which is no JSON"),
            (loop + "print('[1]', flush=True)", "which is no object"),
            (loop + "print('{}\\n{}', flush=True)", "answered twice|ended"),
            (loop + "print(json.dumps({'motors': {'whel': {'effort': 1}}}), flush=True)", "'whel'"),
            (loop + "print(json.dumps({'motors': {'slide': {'effort': 'much'}}}), flush=True)", "'much'"),
            (loop + 'print(\'{"motors": {"slide": {"effort": NaN}}}\', flush=True)', "is not a number"),
            (loop + "print('x' * 5_000_000, flush=True)", "over 4194304 bytes"),
            ("import time\ntime.sleep(60)", "is silent for 3 s after its start"),
            ('input()\nprint(\'{"veldrain": "program/9"}\', flush=True)\ninput()', "to the first line"),
        ):
            with self.subTest(pattern), warnings.catch_warnings():
                warnings.simplefilter("ignore")
                program = self.written(text).changed(folder=str(self.folder))
                recording = vd.run(cart_scenario(program), record=self.folder / "r.mcap")
                self.assertTrue(recording.outcome["failed"])
                self.assertRegex(recording.outcome["reason"], pattern)
                if (self.folder / "pid").exists():
                    time.sleep(0.05)
                    with self.assertRaises(ProcessLookupError):
                        os.kill(int((self.folder / "pid").read_text()), 0)
                    (self.folder / "pid").unlink()

    def test_beside_another_in_a_file(self) -> None:
        """A pilot that is a program, and what drives the crawler, in one scenario file; written and read back."""
        (self.folder / "pilot.py").write_text(
            f"#!{sys.executable}\n{HELLO}for line in sys.stdin:\n    print('{{}}', flush=True)\n"
        )
        (self.folder / "pilot.py").chmod(0o755)
        (self.folder / "trip.scenario.yaml").write_text(
            f"veldrain: scenario/1\nworld: {ROOT}/src/veldrain/demo/culvert.world.yaml\nduration: 0.5 s\n"
            "record: {without: [tf], every: {crawler/imu: 0.1 s}}\n"
            "controllers:\n  crawler:\n"
            "    drive: {use: SkidSteer, with: {left: [front_left, rear_left], right: [front_right, rear_right], radius: 9 cm, track: 38 cm}}\n"
            "    pilot: {use: 'program:./pilot.py'}\n"
            "timeline:\n  - {at: 0.1 s, tell: {controller: crawler/drive, inputs: {forward: 0.3}}}\n"
        )
        scenario = vd.load_scenario(self.folder / "trip.scenario.yaml")
        vd.save_scenario(scenario, self.folder / "out" / "again.scenario.yaml")
        for one in (scenario, vd.load_scenario(self.folder / "out" / "again.scenario.yaml")):
            recording = vd.run(one)
            self.assertEqual(recording.outcome["reason"], "time is up")
            self.assertNotIn("tf", recording.messages)
            self.assertEqual(recording.streams["crawler/imu"].count, 5)
            self.assertEqual(recording["crawler/drive/inputs"]["linear.x"].iloc[-1], 0.3)

    def test_told_before_the_start(self) -> None:
        for command in ("./nowhere", "", "python3 'x"):
            with self.subTest(command), self.assertRaisesRegex(vd.VeldrainError, "program:"):
                vd.run(cart_scenario(vd.Program(command)), record=self.folder / "r.mcap")
        self.assertEqual(list(self.folder.iterdir()), [])


if __name__ == "__main__":
    unittest.main()
