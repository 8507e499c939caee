"""A live link: two processes on the loopback interface."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd
from tests.helpers import ROOT, cart_scenario, command
from veldrain.demo import world as demo_world
from veldrain.live.dds import Bus, message_of, quality, type_name
from veldrain.live.trying import filled
from veldrain.recording.messages import to_bytes

DOMAIN = 20 + os.getpid() % 190  # another for each run, and each peer: they do not meet


class Same:
    """What the peer answers in lockstep, in process."""

    period = 0.01

    def update(self, now: float, senses: Any, motors: Any) -> None:
        reading = senses["encoders"]
        motors["slide"].effort = 40.0 * (0.5 - reading.position[0]) - 12.0 * reading.velocity[0]


class Lives(unittest.TestCase):
    def setUp(self) -> None:
        global DOMAIN
        DOMAIN = 20 + (DOMAIN - 19) % 190

    def beside(self, kind: str, link: vd.Link, peers: int = 1, most: float = 30.0) -> vd.Recording:
        """A trial of the cart beside a peer of a kind."""
        scenario = cart_scenario()
        scenario.controllers = {}
        listening = link.listening(scenario)
        peer = subprocess.Popen([sys.executable, "-m", "tests.live_peer", str(DOMAIN), kind], cwd=ROOT)
        try:
            end = time.monotonic() + most
            while link.commanders("cart/joint_commands") < peers and time.monotonic() < end:
                time.sleep(0.02)
            return vd.run(listening, seed=4, sinks=[link], warn=False)
        finally:
            peer.kill()
            peer.wait()

    def test_lockstep_is_the_same_as_in_process(self) -> None:
        mine = vd.run(cart_scenario(Same()), seed=4)
        theirs = self.beside("lockstep", vd.Link(DOMAIN, lockstep=True))
        self.assertFalse(theirs.outcome["failed"], theirs.outcome)
        for stream in mine:
            self.assertEqual(theirs.raw(stream), mine.raw(stream), stream)

    def test_what_goes_wrong_is_told_and_the_robot_stops(self) -> None:
        for kind, pattern in (
            ("nan", "a message was left: slide: says"),
            ("huge", r"a message was left: slide: says {'effort': 1e\+308}"),
            ("name", "no motor 'slyde'; did you mean 'slide'"),
            ("twice", "a message was left: slide: is named twice; name each joint once"),
            ("often", r"\d+ messages were passed over, since a newer one came"),
            ("old", "commands were left whose stamps were older than 0.2 s"),
            ("wall", r"its stamp is 17000000\d\d.\d s where the trial is at \S+ s: it is of another clock"),
            ("text", "String is published there, and JointState is wanted"),
            ("vanishes", "who commanded it has vanished"),
            ("silent", "told nothing for 0.1 s"),
        ):
            with self.subTest(kind):
                self.setUp()
                link = vd.Link(DOMAIN, speed=1.0, watchdog="0.1 s", oldest="0.2 s" if kind == "old" else None)
                recording = self.beside(kind, link, most=2.0 if kind == "text" else 30.0)
                self.assertRegex(" ".join(link.notices.values()), pattern)
                if kind not in ("often", "old"):  # which are counted to the end
                    self.assertRegex(" ".join(recording["cart/live"]["data"]), pattern)
                if kind in ("vanishes", "silent"):
                    self.assertEqual(recording["cart/commands"]["effort.slide"].iloc[-1], 0.0)

    def test_a_peer_that_nobody_configured_is_heard(self) -> None:
        """With the defaults of its DDS, and best effort."""
        recording = self.beside("defaults", vd.Link(DOMAIN))
        self.assertGreater(recording["cart/commands"]["effort.slide"].abs().max(), 1.0)

    def test_a_world_without_motors_is_paced_and_published(self) -> None:
        m = vd.Model("mast").link("mast", mass=1).mount("imu", vd.Imu(), on="mast")
        link, begun = vd.Link(DOMAIN, speed=2.0), time.monotonic()
        reader = Bus(DOMAIN).reader("clock", "rosgraph_msgs/msg/Clock", quality(depth=1000))
        vd.run(link.listening(vd.Scenario(vd.World().place(m, fixed=True), "1 s")), sinks=[link])
        self.assertGreater(time.monotonic() - begun, 0.5)
        self.assertGreater(len(list(reader.take())), 90)
        self.assertEqual(link.topics(), [])

    def test_an_answer_that_does_not_come(self) -> None:
        recording = self.beside("stale", vd.Link(DOMAIN, lockstep=True, wait="0.5 s"))
        self.assertRegex(recording.outcome["reason"], r"no answer to 0 s on cart/joint_commands within 0.5 s")
        self.setUp()
        with self.assertRaisesRegex(vd.VeldrainError, "nobody commands a robot after 0.3 s"):
            link = vd.Link(DOMAIN, lockstep=True, wait="0.3 s")
            vd.run(link.listening(cart_scenario(duration=0.1)), sinks=[link])

    def test_two_that_command(self) -> None:
        other = Bus(DOMAIN)
        writer = other.writer("cart/joint_commands", "sensor_msgs/msg/JointState", quality())
        link = vd.Link(DOMAIN, watchdog="0.1 s")
        recording = self.beside("lockstep", link, peers=2)
        self.assertIn("2 publish it; the robot stands", " ".join(link.notices.values()))
        self.assertEqual(recording["cart/commands"].filter(like="effort").fillna(0).abs().max().max(), 0.0)
        del writer

    def test_a_twist_drives(self) -> None:
        model = demo_world("culvert").placed["crawler"].model
        world = vd.World().ground().place(model, "crawler", pose=vd.Pose((0, 0, "9 cm")))
        del model.sensors["clearance"]
        sides = (("front_left", "rear_left"), ("front_right", "rear_right"))
        drive = vd.SkidSteer(*sides, radius="9 cm", track="38 cm", widening=1.7)
        link = vd.Link(DOMAIN, names={"crawler/cmd_vel": "cmd_vel"})
        scenario = link.listening(vd.Scenario(world, "1.5 s", controllers={"crawler": drive}))
        writer = Bus(DOMAIN).writer("cmd_vel", "geometry_msgs/msg/Twist", quality(latched=True))
        twist = filled("geometry_msgs/msg/Twist", {"linear": {"x": 0.4}}, "test")
        end = time.monotonic() + 10
        while not link.commanders("crawler/cmd_vel") and time.monotonic() < end:
            time.sleep(0.02)
        writer.write(to_bytes("geometry_msgs/msg/Twist", twist))
        recording = vd.run(scenario, sinks=[link])
        self.assertEqual(recording["crawler/inputs"]["linear.x"].iloc[0], 0.4)
        self.assertEqual(recording["crawler/inputs"]["linear.x"].iloc[-1], 0.0, "the watchdog did not stop it")
        self.assertGreater(recording["crawler/truth"]["x"].iloc[-1], 0.1)

    def test_a_trajectory_is_followed(self) -> None:
        m = vd.Model("arm").link("base").link("rod", vd.Box((0.1, 0.1, 0.5)), mass=1)
        m.joint("hinge", "base", "rod", kind="continuous", axis=(0, 1, 0))
        m.motor("hinge", mode="position", stiffness=500, damping=20).mount("encoders", vd.Encoders(), on="base")
        link = vd.Link(DOMAIN)
        scenario = link.listening(vd.Scenario(vd.World().place(m, fixed=True), "1.5 s"))
        kind = "trajectory_msgs/msg/JointTrajectory"
        writer = Bus(DOMAIN).writer("arm/joint_trajectory", kind, quality(latched=True))
        points = [
            {"positions": [q], "velocities": [0.0], "time_from_start": {"sec": t, "nanosec": 0}}
            for t, q in enumerate((0, 0.5))
        ]
        end = time.monotonic() + 10
        while not link.commanders("arm/joint_trajectory") and time.monotonic() < end:
            time.sleep(0.02)
        writer.write(to_bytes(kind, filled(kind, {"joint_names": ["hinge"], "points": points}, "test")))
        angles = vd.run(scenario, sinks=[link])["arm/encoders"].set_index("time")["position.hinge"]
        self.assertAlmostEqual(angles.iloc[-1], 0.5, delta=0.01)
        self.assertAlmostEqual(angles.loc[0.5], 0.25, delta=0.06)

    def test_names_and_refusals(self) -> None:
        self.assertEqual(message_of(type_name("sensor_msgs/msg/Imu")), "sensor_msgs/msg/Imu")
        self.assertEqual(message_of("some::other"), "")
        for act, pattern in (
            (lambda: vd.Link(999), "domain is 999; give a number from 0 to 232"),
            (lambda: vd.Link(3, speed=0), "speed is 0"),
            (lambda: vd.Link(3, interface="<x>"), "interface is"),
            (
                lambda: filled("geometry_msgs/msg/Twist", {"linaer": {}}, "say"),
                "no field 'linaer'; did you mean 'linear'",
            ),
            (lambda: vd.Link(DOMAIN, names={"crat/cmd_vel": "x"}).listening(cart_scenario()), "no robot 'crat'"),
        ):
            with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                act()

    def test_killed_recordings_can_be_read(self) -> None:
        """A live trial that is killed at any time leaves what it had recorded; here a few of the hundred of the notes."""
        rng = np.random.default_rng(0)
        program = (
            "import sys; sys.path.insert(0, '.')\nimport veldrain as vd\nfrom tests.helpers import cart_scenario\n"
            f"link = vd.Link({DOMAIN}, speed=None)\n"
            "vd.run(link.listening(cart_scenario(duration=600)), record=sys.argv[1], sinks=[link])"
        )
        with tempfile.TemporaryDirectory() as folder:
            for k in range(2):
                path = Path(folder) / f"{k}.mcap"
                part = path.with_name(f"{path.name}.part")
                running = subprocess.Popen([sys.executable, "-c", program, str(path)], cwd=ROOT)
                end = time.monotonic() + 60
                while (not part.exists() or part.stat().st_size < 100_000) and time.monotonic() < end:
                    time.sleep(0.01)
                time.sleep(float(rng.uniform(0, 0.3)))
                running.kill()
                running.wait()
                recording = vd.Recording(part)
                self.assertGreater(recording.cut_at or 0.0, 1.0)
                self.assertGreater(len(recording["cart/imu"]), 100)

    def test_at_the_command_line(self) -> None:
        done = command(
            "live", "--domain", str(DOMAIN), "--say", "a/b", "--message", "geometry_msgs/msg/Twist", "--for", "0.2s"
        )
        self.assertIn("Said on a/b for 0.2s: 0 read it", done.stdout, done.stderr)
        for words, pattern in (
            (["--say", "a", "--message", "geometry_msgs/msg/Twis"], "did you mean 'geometry_msgs/msg/Twist'"),
            (["--say", "a"], "its type is not said"),
            (["--say", "a", "--message", "geometry_msgs/msg/Twist", "--with", "{linear: 3}"], "3 is no message"),
            (["--listen", "nothing", "--message", "std_msgs/msg/Bool", "--for", "0.2s"], "nothing came"),
        ):
            with self.subTest(pattern):
                done = command("live", "--domain", str(DOMAIN), *words)
                self.assertEqual((done.returncode, done.stderr.count("\n")), (2, 1), done.stderr)
                self.assertIn(pattern, done.stderr)


if __name__ == "__main__":
    unittest.main()
