"""Recordings that are spoilt, cut short, blown up or from elsewhere; and writing that is broken off."""

from __future__ import annotations

import io
import itertools
import json
import re
import signal
import struct
import subprocess
import sys
import tempfile
import time
import tracemalloc
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import zstandard
from matplotlib.backends.backend_agg import FigureCanvasAgg
from mcap.writer import CompressionType, Writer
from mcap_ros2.reader import read_ros2_messages

import veldrain as vd
from tests.helpers import ROOT, Hold, called, cart_scenario, command
from veldrain.model import Fields, Message
from veldrain.recording import Recorder
from veldrain.recording.indexing import MOST_UNPACKED
from veldrain.recording.messages import to_bytes


def foreign(*streams: tuple[str, str, list[bytes]], schema: bool = True) -> bytes:
    """A file as another program writes it: name, message type and messages."""
    out = io.BytesIO()
    writer = Writer(out, compression=CompressionType.ZSTD)
    writer.start("x")
    for topic, kind, messages in streams:
        number = writer.register_schema(kind, "ros2msg", b"") if schema else 0
        channel = writer.register_channel(topic, "cdr", number)
        for k, data in enumerate(messages):
            writer.add_message(channel, k * 10**7, data, k * 10**7)
    writer.finish()  # type: ignore[no-untyped-call]
    return out.getvalue()


def joints(names: list[str], **values: list[float]) -> bytes:
    stamp = vd.recording.messages.header(0, "")  # type: ignore[attr-defined]
    row = {field: np.array(values.get(field, []), float) for field in ("position", "velocity", "effort")}
    return to_bytes("sensor_msgs/msg/JointState", vd.recording.messages.Fields(header=stamp, name=names, **row))  # type: ignore[attr-defined]


class Spoilt(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.path = cls.folder / "whole.mcap"
        vd.run(cart_scenario(duration=2.5, record_contacts=True), record=cls.path)
        cls.whole = cls.path.read_bytes()

    def read(self, data: bytes) -> Any:
        recording = vd.Recording(data)
        return recording.metadata, [recording.raw(name) for name in recording], recording.streams

    def test_one_flipped_bit_is_never_read_as_data(self) -> None:
        random, expected = np.random.default_rng(1), self.read(self.whole)
        found = {"refused": 0, "same": 0}
        for at in random.integers(8, len(self.whole) - 8, 250):
            data = bytearray(self.whole)
            data[at] ^= 1 << int(random.integers(8))
            try:
                self.assertEqual(self.read(bytes(data)), expected)
                found["same"] += 1
            except vd.VeldrainError as error:
                self.assertNotIn("\n", str(error))
                found["refused"] += 1
        self.assertGreater(found["refused"], 240, found)

    def test_cut_anywhere(self) -> None:
        """What is there is read up to the last whole chunk, and said; nothing else is raised."""
        reached = []
        for share in np.linspace(0.02, 0.999, 40):
            try:
                recording = vd.Recording(self.whole[: int(share * len(self.whole))])
                reached.append(recording.cut_at)
                self.assertRegex(recording.cut, r"cut short: readable to [\d.]+ s of 2.5 s")
                self.assertFalse(recording.outcome["passed"] and recording.cut_at < 2)
            except vd.VeldrainError:
                self.assertFalse(any(reached), "a longer part was refused after a shorter one was read")
        self.assertGreaterEqual(reached[-1], 2.0)
        part = self.folder / "x.mcap.part"
        part.write_bytes(self.whole[: int(0.9 * len(self.whole))])
        done = command("streams", part)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("cut short: readable to", done.stdout)

    def test_what_unpacks_to_too_much(self) -> None:
        def packed(size: int, says: int) -> bytes:
            data = zstandard.ZstdCompressor().compress(b"\0" * size)
            body = struct.pack("<QQQI", 0, 0, says, 0) + struct.pack("<I", 4) + b"zstd" + struct.pack("<Q", len(data))
            records = [(1, struct.pack("<II", 0, 0)), (6, body + data)]
            return b"\x89MCAP0\r\n" + b"".join(bytes([op]) + struct.pack("<Q", len(b)) + b for op, b in records)

        for size, says, pattern in (
            (1 << 27, 1 << 40, "says that it unpacks to"),
            (1 << 27, 1 << 20, "unpacks to"),
            (MOST_UNPACKED * 2, MOST_UNPACKED * 2, "says that"),
        ):
            with self.subTest(size=size, says=says):
                bomb = packed(size, says)
                tracemalloc.start()
                with self.assertRaisesRegex(vd.VeldrainError, pattern):
                    self.read(bomb)
                self.assertLess(tracemalloc.get_traced_memory()[1], MOST_UNPACKED)
                tracemalloc.stop()

    def test_from_elsewhere(self) -> None:
        empty = vd.Recording(foreign(("a", "std_msgs/msg/String", [])))
        self.assertEqual(empty.streams["a"].count, 0)
        bare = vd.Recording(foreign(("a", "", [b"{}"]), schema=False))
        self.assertEqual(bare.streams["a"].message, "")
        for kind in (
            "sensor_msgs/msg/Imu",
            "sensor_msgs/msg/JointState",
            "std_msgs/msg/String",
            "tf2_msgs/msg/TFMessage",
        ):
            for data in (b"\0\1\0\0", b"\0\1\0\0" + b"\xff" * 40, b""):
                with self.subTest(kind=kind, data=data), self.assertRaises(vd.VeldrainError):
                    vd.Recording(foreign(("a", kind, [data])))["a"]

    def test_joint_states_go_by_name(self) -> None:
        table = vd.Recording(
            foreign(
                (
                    "j",
                    "sensor_msgs/msg/JointState",
                    [
                        joints(["a", "b"], position=[1, 2]),
                        joints(["b", "a"], position=[4, 3], effort=[0.5, 0.25]),
                        joints(["c"], velocity=[9]),
                    ],
                )
            )
        )["j"]
        np.testing.assert_array_equal(table["position.a"], [1, 3, np.nan])
        np.testing.assert_array_equal(table["position.b"], [2, 4, np.nan])
        np.testing.assert_array_equal(table["velocity.c"], [np.nan, np.nan, 9])
        np.testing.assert_array_equal(table["effort.b"], [np.nan, 0.5, np.nan])

    def test_contacts_open_elsewhere(self) -> None:
        scenario = cart_scenario(duration=0.3, record_contacts=True)
        scenario.world.body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((3, 0, -0.85)))
        path = self.folder / "contacts.mcap"
        table = vd.run(scenario, record=path)["scenario/contacts"]
        impulse = (
            float(table["fz"].sum()) * scenario.check_period
        )  # that of the fall is in it: at rest again it is m·g·t
        self.assertAlmostEqual(impulse, 9.81 * 0.3, places=6)
        self.assertEqual({*table["link_a"], *table["link_b"]}, {"ball", "ground"})
        read = [m.ros_msg for m in read_ros2_messages(path, topics=["scenario/contacts"])]
        self.assertEqual(len(table), sum(len(m.contacts) for m in read))


class Broken(unittest.TestCase):
    """Processes that are killed, and disks that are full."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def begin(self, duration: float, code: str = "") -> subprocess.Popen[str]:
        program = f"""
import veldrain as vd
from veldrain.model import Fields, Message
from tests.helpers import cart_scenario
{code}
vd.run(cart_scenario(duration={duration}), record="{self.folder}/r.mcap")
"""
        return subprocess.Popen([sys.executable, "-c", program], cwd=ROOT, stderr=subprocess.PIPE, text=True)

    def wait(self, running: subprocess.Popen[str], least: int) -> Path:
        part = self.folder / "r.mcap.part"
        while not part.exists() or part.stat().st_size < least:
            self.assertIsNone(running.poll())
            time.sleep(0.01)
        return part

    def test_killed(self) -> None:
        with self.begin(600) as running:
            part = self.wait(running, 200_000)
            running.kill()
        recording = vd.Recording(part)
        self.assertGreater(recording.cut_at or 0, 1.0)
        times = [recording.streams[name].last for name in ("cart/encoders", "cart/imu")]
        self.assertLess(max(times) - min(times), 0.11)

    def test_interrupted_in_the_middle_of_a_write(self) -> None:
        for delay in (0.0, 0.013, 0.037):
            with self.subTest(delay=delay):
                with self.begin(600) as running:
                    self.wait(running, 100_000)
                    time.sleep(delay)
                    running.send_signal(signal.SIGINT)
                    running.communicate(timeout=60)
                recording = vd.Recording(self.folder / "r.mcap")
                self.assertEqual((recording.cut, recording.outcome["reason"]), ("", "interrupted"))
                self.assertIsNone(recording.outcome["expectations"]["off the post"]["passed"])
                (self.folder / "r.mcap").unlink()

    def test_every_message_is_looked_at(self) -> None:
        recorder = Recorder(path := self.folder / "v.mcap")
        recorder.begin({}, {})
        for stamp, text in ((0, "a"), (10**9, "b")):
            recorder.write("a/text", stamp, Message("std_msgs/msg/String", Fields(data=text)))
        recorder.end({})
        done = called("streams", path, "--verify")
        self.assertEqual((done.returncode, done.stdout), (0, "2 messages of 1 streams can be read: all of them\n"))
        out = Writer(str(path))
        out.start()
        channel = out.register_channel(
            "bad", "cdr", out.register_schema("std_msgs/msg/String", "ros2msg", b"string data")
        )
        for stamp, data in ((0, b"\0\1\0\0\2\0\0\0a\0"), (2 * 10**9, b"\0\1\0\0\xff\0\0\0a\0")):
            out.add_message(channel, log_time=stamp, publish_time=stamp, data=data)
        out.finish()
        done = called("streams", path, "--verify")
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertRegex(done.stdout, "^bad: message 2, at 2 s, cannot be read: no std_msgs/msg/String: ")

    @unittest.skipUnless(Path("/dev/full").exists(), "needs a device that is always full")
    def test_a_full_disk(self) -> None:
        (self.folder / "r.mcap.part").symlink_to("/dev/full")
        with self.assertRaisesRegex(vd.VeldrainError, "cannot be written any further .*No space left"):
            vd.run(cart_scenario(duration=3), record=self.folder / "r.mcap")

    def test_memory_stays_as_it_is(self) -> None:
        """Readings that no controller asks for are not kept: a minute more takes no more."""
        sim = vd.Simulation(cart_scenario().world)
        sim.advance("5 s")
        tracemalloc.start()
        sim.advance("5 s")
        before = tracemalloc.get_traced_memory()[0]
        sim.advance("30 s")
        grown = tracemalloc.get_traced_memory()[0] - before
        tracemalloc.stop()
        self.assertLess(grown, 60_000)

    def test_a_limit_ends_what_hangs(self) -> None:
        class Sleeps(Hold):
            def update(self, now: float, senses: Any, motors: Any) -> None:
                while now > 0.2:
                    time.sleep(0.01)

        vd.run(cart_scenario(duration=0.1))  # loading the kernels takes time, too
        for controller, pattern in ((Sleeps(), "limit of 2 s is over at 0.21 s"), (Ends(), "SystemExit")):
            with self.subTest(pattern), self.assertWarnsRegex(RuntimeWarning, pattern):
                recording = vd.run(cart_scenario(controller), limit="2 s")
            self.assertIsNone(recording.outcome["expectations"]["off the post"]["passed"])
            self.assertTrue(len(recording["cart/encoders"]) > 10 or "SystemExit" in pattern)

    def test_twice(self) -> None:
        (self.folder / "lucky.py").write_text(
            "import random\nclass Lucky:\n    period = 0.01\n    def update(self, now, senses, motors):\n"
            "        motors['slide'].effort = random.random() if now >= 0.05 else 0.0\n"
        )
        (self.folder / "w.world.yaml").write_text(
            "veldrain: world/1\nground: {height: -1}\nmodels: {cart: tests.helpers:cart}\n"
            "place: {cart: {model: cart, fixed: true}}\n"
        )
        for use, status, told in (
            ("lucky.py:Lucky", 1, r"differs first in cart/commands, at 0.05 s; draw from"),
            ("tests.helpers:Hold", 1, "run twice, every stream is the same"),
        ):
            (self.folder / "s.scenario.yaml").write_text(
                f"veldrain: scenario/1\nworld: w.world.yaml\nduration: 0.2 s\ncontrollers: {{cart: {{use: '{use}'}}}}\n"
            )
            done = command("check", self.folder / "s.scenario.yaml", "--twice", "--trust", PYTHONPATH=str(ROOT))
            self.assertTrue(re.search(told, done.stdout), done.stdout + done.stderr)
            self.assertEqual(done.returncode, status)

    def test_the_plan_is_in_a_file_from_its_start(self) -> None:
        recorder = Recorder(self.folder / "p.mcap")
        recorder.begin({"duration": 7.0, "seed": 3})
        for stamp, text in ((0, "begun"), (1_500_000_000, "later")):
            recorder.write("scenario/events", stamp, Message("std_msgs/msg/String", Fields(data=text)))
        found = vd.Recording(self.folder / "p.mcap.part")
        self.assertEqual((found.metadata["seed"], found.cut), (3, "cut short: readable to 0 s of 7 s"))
        self.assertEqual(json.loads(json.dumps(found.outcome))["failed"], True)
        recorder.abandon()

    def test_a_plot_names_its_events(self) -> None:
        """Eight events close together: all have their words, none over another; of 60 it is said."""
        for count, unnamed in ((8, 0), (60, 52)):
            recorder = Recorder()
            recorder.begin({})
            for k in range(count):
                text = Message(
                    "std_msgs/msg/String", Fields(data=f"push 'shove {k}' on cart/slider: $\\frac$ " + k * "far ")
                )
                recorder.write("scenario/events", k * 50_000_000, text)
            for k in range(101):
                recorder.write("level", k * 100_000_000, Message("std_msgs/msg/Float64", Fields(data=k)))
            figure = vd.plot(vd.Recording(recorder.finish({})), columns="level.data")
            FigureCanvasAgg(figure).draw()
            words = [text for text in figure.axes[0].texts if text.get_text().startswith("push")]
            boxes = [text.get_window_extent() for text in words]
            overlaps = [(a, b) for a, b in itertools.combinations(boxes, 2) if a.overlaps(b)]
            with self.subTest(count=count):
                self.assertEqual(overlaps, [])
                self.assertEqual(len(words), count - unnamed)
                told = [t.get_text() for t in figure.axes[0].texts if "without words" in t.get_text()]
                all_of_it = f"lines without words: {unnamed}; scenario/events has all"
                self.assertEqual(told, [all_of_it] if unnamed else [])


class Ends(Hold):
    """Ends the program."""

    def update(self, now: float, senses: Any, motors: Any) -> None:
        raise SystemExit("enough")


if __name__ == "__main__":
    unittest.main()
