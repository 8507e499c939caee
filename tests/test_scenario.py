"""Trials: triggers, actions, expectations, controllers; what is recorded, and that others can read it."""

from __future__ import annotations

import dataclasses
import hashlib
import itertools
import math
import pickle
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from mcap_ros2.reader import read_ros2_messages
from scipy.spatial.transform import Rotation

import veldrain as vd
from tests.helpers import ROOT, Cheat, Faulty, Hold, cart, cart_scenario
from veldrain.recording import Recorder, Sink
from veldrain.scenario.trial import Trial


class Course(unittest.TestCase):
    def test_integrator_reaches_the_engine(self) -> None:
        """The cart's friction cannot be had at rk4, and the run says so."""
        with self.assertLogs("veldrain", "WARNING") as logs:
            vd.run(cart_scenario(duration=0.1, integrator="rk4"))
        self.assertIn("cannot be used with joint friction", logs.output[0])

    def test_push_gives_its_impulse(self) -> None:
        """F·t/m on a free body, at the time that was set; at a point off the centre it also turns it."""
        w = vd.World(gravity=(0, 0, 0)).body("puck", vd.Box((0.4, 0.4, 0.4)), mass=4)
        m = vd.Model("probe").link("eye", mass=1).mount("truth", vd.TruePose("10 ms"), on="eye")
        scenario = vd.Scenario(w.place(m, fixed=True, pose=vd.Pose((9, 9, 9))), "1 s")
        scenario.at("300 ms").push("puck", force=(0, "20 N", 0), at=(0.1, 0, 0), lasting="200 ms")
        trial = Trial(scenario)
        trial.simulation.advance(0)
        trial.run()
        linear, angular = trial.simulation["puck"].velocity()
        np.testing.assert_allclose(np.linalg.norm(linear), 20 * 0.2 / 4, rtol=1e-3)
        self.assertAlmostEqual(angular[2], 20 * 0.1 * 0.2 / (4 * 0.16 / 6), delta=0.08)  # the arm turns a little

    def test_finish_on_a_condition(self) -> None:
        for bound, holds in (("2 cm", True), (1e-9, False)):
            with self.subTest(bound=bound):
                scenario = cart_scenario()
                scenario.when(vd.distance("cart/car", "goal") < bound).finish("at the goal")
                outcome = vd.run(scenario).outcome
                self.assertEqual(outcome["reason"], "at the goal" if holds else "time is up")
                self.assertEqual(outcome["time"] < 1.5, holds)
                self.assertTrue(outcome["passed"])

    def test_expectations(self) -> None:
        near, touch = vd.distance("cart/car", "goal") < 0.1, vd.touching("cart", "post")
        far = vd.clearance("cart/car", "post") > 0.2
        cases = [
            ({"never": touch}, True),
            ({"never": near}, False),
            ({"always": ~touch}, True),
            ({"always": near}, False),
            ({"eventually": near}, True),
            ({"eventually": near, "within": "1 ms"}, False),
            ({"eventually": touch}, False),
            ({"eventually": near & ~touch}, True),
            ({"eventually": touch | near}, True),
            ({"always": far | ~near}, True),
        ]
        scenario = cart_scenario()
        for k, (rule, _) in enumerate(cases):
            scenario.expect(f"rule {k}", **rule)  # type: ignore[arg-type]
        verdicts = vd.run(scenario).outcome["expectations"]
        for k, (rule, passed) in enumerate(cases):
            with self.subTest(rule=rule):
                self.assertEqual(verdicts[f"rule {k}"]["passed"], passed)

    def test_the_shortest_touch_is_seen(self) -> None:
        """A ball that bounces between two looks at the conditions has touched."""
        w = (
            vd.World()
            .ground()
            .body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((0, 0, 0.15)), surface=vd.Surface(restitution=0.9))
        )
        scenario = vd.Scenario(w, "250 ms", check_period="50 ms").expect(
            "in the air", never=vd.touching("ball", "ground")
        )
        verdict = vd.run(scenario).outcome["expectations"]["in the air"]
        self.assertFalse(verdict["passed"])
        self.assertAlmostEqual(verdict["time"], 0.15)  # the look after √(2·0.05/g) = 0.101 s

    def test_mistakes_are_told_before_the_start(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "run.mcap"
            push = cart_scenario()
            push.at(0.1).push("cart/carr", force=(1, 0, 0))
            cases = {
                "did you mean 'cart/car'": push,
                "no thing with shapes 'pst'": cart_scenario().expect("x", never=vd.touching("cart", "pst")),
                "no link, frame, sensor or thing 'gaol'": cart_scenario().expect(
                    "x", never=vd.distance("cart", "gaol") < 1
                ),
                "no robot 'crat'": cart_scenario(truth=["crat"]),
                "period: 0.0105 s is not a whole number": cart_scenario(type("Odd", (Hold,), {"period": 0.0105})()),
                "is not a controller: it has no period and no update": cart_scenario(object()),
            }
            for words, scenario in cases.items():
                with self.subTest(words=words), self.assertRaisesRegex(vd.VeldrainError, words):
                    vd.run(scenario, record=path)
                self.assertEqual(list(Path(folder).iterdir()), [])
        for words, act in (
            ("duration is 0 s", lambda: vd.Scenario(vd.World(), 0)),
            ("one of never, always, eventually and at_the_end", lambda: cart_scenario().expect("x")),
            ("within= goes with", lambda: cart_scenario().expect("x", never=vd.touching("a", "b"), within=1)),
            ("is not a condition", lambda: cart_scenario().when(True)),  # type: ignore[arg-type]
            ("second expectation", lambda: cart_scenario().expect("off the post", never=vd.touching("cart", "post"))),
            ("a moment at -1 s", lambda: cart_scenario().at(-1)),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


class Controllers(unittest.TestCase):
    def test_one_that_raises_ends_the_trial_and_keeps_what_was_recorded(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "run.mcap"
            recording = vd.run(cart_scenario(Faulty()), record=path)
            outcome = recording.outcome
            self.assertTrue(outcome["failed"])
            self.assertEqual(outcome["reason"], "the controller of cart raised at 0.2 s: RuntimeError: lost the plot")
            self.assertAlmostEqual(recording["cart/encoders"]["time"].iloc[-1], 0.2)
            self.assertEqual([p.name for p in Path(folder).iterdir()], ["run.mcap"])

    def test_truth_is_for_those_it_is_granted_to(self) -> None:
        self.assertIn("no controller may read", vd.run(cart_scenario(Cheat())).outcome["reason"])
        self.assertFalse(vd.run(cart_scenario(Cheat(), duration=0.1, truth=["cart"])).outcome["failed"])

    def test_each_trial_gets_a_fresh_one(self) -> None:
        controller = vd.CentreLine(damping=1.0)
        scenario = vd.load_scenario(Path(vd.__path__[0]) / "demo" / "culvert.scenario.yaml")
        scenario.duration = 0.5
        paths = [vd.run(scenario, controllers={"crawler": controller})["crawler/commands"] for _ in range(2)]
        np.testing.assert_array_equal(*(p.to_numpy() for p in paths))
        self.assertEqual(controller._turned, 0.0)

    def test_a_state_that_is_not_finite(self) -> None:
        class Wild(Hold):
            def update(self, now, senses, motors):  # type: ignore[no-untyped-def]
                motors["slide"].effort = 1e300 if now > 0.1 else 0.0

        scenario = cart_scenario(Wild())
        model = scenario.world.placed["cart"].model
        model.motors["slide"] = dataclasses.replace(model.motors["slide"], limit=math.inf)
        light = dataclasses.replace(model.links["car"].mass_properties, mass=1e-20)
        model.links["car"] = dataclasses.replace(model.links["car"], mass_properties=light)
        recording = vd.run(scenario)
        self.assertRegex(recording.outcome["reason"], r"cart/slide: the velocity is no longer finite at 0.11\d* s")
        self.assertAlmostEqual(recording["cart/encoders"]["time"].iloc[-1], 0.11)


def swinging() -> vd.Model:
    """A bar on a hinge, which falls from level."""
    m = vd.Model("arm").link("base", vd.Box((0.1, 0.1, 0.1)), mass=1)
    m.link("bar", vd.Part(vd.Box((0.5, 0.02, 0.02)), pose=vd.Pose((0.25, 0, 0))), mass=1)
    return m.joint("hinge", "base", "bar", kind="revolute", axis=(0, 1, 0))


class Overlaps(unittest.TestCase):
    """One rule: what several hold, is held until the last of them lets it go."""

    def still(self, *locks: tuple[str, str | None]) -> list[bool]:
        """Whether the bar stands still in each tenth of a second."""
        world = vd.World().place(swinging(), pose=vd.Pose((0, 0, 2)), fixed=True)
        scenario = vd.Scenario(world, "2 s")
        same = {lasting: vd.scenario.Lock("arm/hinge", lasting=lasting) for _, lasting in locks}
        for at, lasting in locks:  # one object for all that are alike: two moments are two locks
            scenario.at(at).do(same[lasting])
        trial, found = vd.Trial(scenario), []
        for k in range(20):
            before = trial.simulation["arm"].positions[0]
            if k == 9:  # a copy of the state holds what is held
                trial.restore(trial.snapshot())
            trial.advance("0.1 s")
            found.append(abs(trial.simulation["arm"].positions[0] - before) < 1e-6)
        return found

    def test_locks(self) -> None:
        for locks, still in (
            ((("0.2 s", "0.5 s"), ("0.4 s", None)), range(2, 20)),
            ((("0.4 s", None), ("0.6 s", "0.2 s")), range(4, 20)),
            ((("0.2 s", "0.5 s"), ("0.4 s", "1 s")), range(2, 14)),
            ((("0.2 s", "0.5 s"), ("0.4 s", "0.5 s")), range(2, 9)),
            ((("0.2 s", "0.2 s"), ("0.8 s", "0.2 s")), (2, 3, 8, 9)),
            ((("0.2 s", "0.2 s"), ("0.4 s", "0.2 s")), range(2, 6)),
        ):
            with self.subTest(locks):
                self.assertEqual([k for k, is_still in enumerate(self.still(*locks)) if is_still], list(still))

    def test_a_dead_motor_takes_commands_and_gives_nothing(self) -> None:
        class Turn:
            period = 0.01

            def update(self, now: float, senses: Any, motors: Any) -> None:
                motors["slide"].effort = 5.0

        scenario = cart_scenario(Turn(), duration=0.6)
        scenario.at("0.2 s").free("cart/slide", lasting="0.2 s")
        recording = vd.run(scenario)
        self.assertFalse(recording.outcome["failed"], recording.outcome["reason"])
        table = recording["cart/joint_states"].set_index("time")
        efforts = [float(table["effort.slide"].loc[time]) for time in (0.1, 0.3, 0.5)]
        self.assertEqual(efforts, [5.0, 0.0, 5.0])
        self.assertEqual(float(recording["cart/commands"].set_index("time")["effort.slide"].asof(0.3)), 5.0)

    def test_what_was_made_stays_as_it_was_made(self) -> None:
        rings = [-0.1, 0.0, 0.1]
        sheet = vd.SpinningLidar(elevations=rings, azimuths=4)
        rings.append(0.2)
        self.assertEqual(
            [len(s.rings) for s in (sheet, sheet.changed(period=0.2), pickle.loads(pickle.dumps(sheet)))], [3] * 3
        )
        scenario = cart_scenario()
        other = scenario.driven_by({})
        before = len(scenario.timeline), len(scenario.expectations)
        other.at("0.5 s").finish("early").expect("low", never=vd.height("cart/car") < -9)
        self.assertEqual((len(scenario.timeline), len(scenario.expectations)), before)
        self.assertEqual(*(hash(vd.scenario.Push("ball", force=(zero, 0.0, 1.0))) for zero in (0.0, -0.0)))
        for thing, word, told in (
            (sheet, "azimutes", "did you mean 'azimuths'"), (scenario, "duraton", "did you mean 'duration'"),
            (scenario.world, "gravty", "did you mean 'gravity'"), (vd.scenario.Push("a"), "forse", "did you mean 'force'"),
        ):  # fmt: skip
            with self.subTest(word), self.assertRaisesRegex(vd.VeldrainError, told):
                setattr(thing, word, 1.0)

    def test_no_two_courses_in_one_record(self) -> None:
        sim = vd.Simulation(vd.World().ground().body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((0, 0, 1))))
        with sim.record() as recorded:
            sim.advance("0.1 s")
            early = sim.snapshot()
            sim.restore(early)  # no time is gone: nothing is doubled
            sim.advance("0.1 s")
            for back in (sim.reset, lambda: sim.restore(early)):
                with self.assertRaisesRegex(vd.VeldrainError, "would go back from 0.2 s while it is recorded"):
                    back()
        self.assertTrue((np.diff(recorded()["tf"]["time"]) > 0).all())
        sim.reset()


class States(unittest.TestCase):
    def test_a_restored_trial_ends_with_the_same_bytes(self) -> None:
        """In the same trial and in another one: sensors, controllers, pushes under way, what waits, and verdicts."""
        scenario = cart_scenario(Drifting(), 0.6).expect("arrives", eventually=vd.distance("cart/car", "goal") < 0.2)
        scenario.at("0.25 s").push("cart/car", (3, 0, 0), lasting="0.2 s")
        scenario.when(vd.distance("cart/car", "goal") < 0.1).push("cart/car", (0, 1, 0))
        trial = Trial(scenario, 5)
        for time in ("0.13 s", "0.17 s"):  # before the push, and within it
            trial.advance(time)
            state = trial.snapshot()
            ends = []
            for other in (trial, trial, Trial(scenario, 5)):
                memory = Recorder()
                other.restore(state)
                other.publisher.sinks[:] = [memory]
                outcome = other.run()
                ends.append((outcome, memory.finish({})))
            self.assertEqual(ends[0], ends[1])
            self.assertEqual(ends[0], ends[2])
            trial.restore(state)
            trial.publisher.sinks.clear()
        with self.assertRaisesRegex(vd.VeldrainError, "str is not a snapshot"):
            trial.restore("now")  # type: ignore[arg-type]

    def test_several_sinks_are_given_the_same(self) -> None:
        class Names(Sink):
            def begin(self, about: Any, attached: Any) -> None:
                self.told, self.files, self.stamps = {}, set(attached), []  # type: ignore[var-annotated]

            def write(self, stream: str, stamp: int, message: Any, latched: bool = False) -> None:
                self.told[stream] = self.told.get(stream, 0) + 1
                self.stamps.append(stamp)

            def end(self, about: Any) -> None:
                self.ended = about["outcome"]["passed"]

        one, two = Names(), Names()
        recording = vd.run(cart_scenario(duration=0.3), sinks=[one, two])
        self.assertEqual(one.told, {name: info.count for name, info in recording.streams.items()})
        self.assertEqual((one.told, one.files, one.ended), (two.told, set(recording.attachments), True))
        self.assertEqual(one.stamps, sorted(one.stamps))

    def test_a_simulation_records_by_itself(self) -> None:
        w = vd.World().ground().body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((0, 0, 1)))
        sim = vd.Simulation(w.place(cart(), pose=vd.Pose((3, 0, 0)), fixed=True))
        with sim.record(track={"tip": "cart/scan"}) as recorded:
            sim.advance("0.2 s")
        sim.advance("0.2 s")
        recording = recorded()
        self.assertEqual(recording.streams["tip"].last, 0.2)
        self.assertEqual(len(recording["cart/imu"]), 20)
        ball = recording.frames.path("ball")
        np.testing.assert_allclose(ball[:, 2], 1 - 9.81 / 2 * recording.frames.times**2, atol=2e-3)
        np.testing.assert_allclose(recording.frames.at(0.2)["cart/scan"].position, (3, 0, 0), atol=1e-3)
        with self.assertRaisesRegex(vd.VeldrainError, "no link, frame or thing 'bal'"), sim.record(track={"b": "bal"}):
            pass


class Drifting(Hold):
    """Holds, with a random stream and a memory of its own."""

    def start(self, body: Any, random: Any, log: Any) -> None:
        self.random, self.log, self.sum = random, log, 0.0

    def update(self, now: float, senses: Any, motors: Any) -> None:
        super().update(now, senses, motors)
        self.sum += self.random.standard_normal()
        self.log("sum", self.sum)


class Recordings(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = tempfile.TemporaryDirectory()
        cls.path = Path(cls.folder.name) / "deep" / "run.mcap"
        scenario = cart_scenario()
        scenario.at(0.5).push("cart/car", force=(5, 0, 0), lasting=0.1)
        cls.recording = vd.run(scenario, seed=7, record=cls.path, about={"note": "for the test"})

    @classmethod
    def tearDownClass(cls) -> None:
        cls.folder.cleanup()

    def test_an_independent_reader_opens_it(self) -> None:
        """Every message decodes by the definition in the file alone, and says what our own reader says."""
        found: dict[str, list] = {}
        for m in read_ros2_messages(str(self.path)):
            found.setdefault(m.channel.topic, []).append(m)
        kinds = {name: ms[0].schema.name for name, ms in found.items()}
        self.assertEqual(
            kinds,
            {
                "cart/encoders": "sensor_msgs/msg/JointState",
                "cart/commands": "sensor_msgs/msg/JointState",
                "cart/truth": "nav_msgs/msg/Odometry",
                "cart/scan": "sensor_msgs/msg/LaserScan",
                "cart/imu": "sensor_msgs/msg/Imu",
                "scenario/events": "std_msgs/msg/String",
                "cart/joint_states": "sensor_msgs/msg/JointState",
                "cart/robot_description": "std_msgs/msg/String",
                "tf": "tf2_msgs/msg/TFMessage",
                "tf_static": "tf2_msgs/msg/TFMessage",
            },
        )
        for name, messages in found.items():
            self.assertEqual(len(messages), self.recording.streams[name].count)
            stamps = [m.log_time_ns for m in messages]
            self.assertEqual(stamps, sorted(stamps))
            if hasattr(messages[-1].ros_msg, "header"):
                header = messages[-1].ros_msg.header.stamp
                age = 10**8 if name == "cart/scan" else 0  # a scan's header has the time of its first beam
                self.assertEqual(header.sec * 10**9 + header.nanosec, stamps[-1] - age)
        ours = self.recording["cart/truth"]
        theirs = [m.ros_msg.pose.pose for m in found["cart/truth"]]
        np.testing.assert_array_equal(ours["x"], [p.position.x for p in theirs])
        np.testing.assert_allclose(
            ours["yaw"],
            Rotation.from_quat(
                [(p.orientation.x, p.orientation.y, p.orientation.z, p.orientation.w) for p in theirs]
            ).as_euler("xyz")[:, 2],
        )
        scan = found["cart/scan"][3].ros_msg
        self.assertAlmostEqual(scan.angle_max - scan.angle_min, math.radians(270), places=5)
        self.assertEqual(len(scan.ranges), 8)
        self.assertEqual(found["cart/imu"][0].ros_msg.header.frame_id, "cart/imu")

    def test_tables(self) -> None:
        encoders = self.recording["cart/encoders"]
        self.assertEqual(list(encoders.columns), ["time", "position.slide", "velocity.slide", "effort.slide"])
        self.assertAlmostEqual(encoders["position.slide"].iloc[-1], 0.5, delta=0.05)
        commands = self.recording["cart/commands"]
        self.assertTrue(commands["position.slide"].isna().all() and commands["effort.slide"].notna().all())
        self.assertEqual(list(self.recording["scenario/events"]["time"]), [0.5])
        with self.assertRaisesRegex(vd.VeldrainError, "did you mean 'cart/truth'"):
            self.recording["cart/thruth"]

    def test_metadata(self) -> None:
        about = self.recording.metadata
        self.assertEqual((about["seed"], about["note"]), (7, "for the test"))
        self.assertEqual(about["controllers"], {"cart": "tests.helpers:Hold"})
        self.assertEqual(about["outcome"]["expectations"], {"off the post": {"passed": True, "time": None}})

    def test_streams(self) -> None:
        s = self.recording.streams["cart/imu"]
        self.assertEqual((s.count, round(s.rate), s.first, s.last, s.gaps), (150, 100, 0.01, 1.5, 0))

    def test_in_memory_is_the_same_as_in_a_file(self) -> None:
        scenario = cart_scenario()
        scenario.at(0.5).push("cart/car", force=(5, 0, 0), lasting=0.1)
        again = vd.run(scenario, seed=7)
        np.testing.assert_array_equal(again["cart/imu"].to_numpy(), self.recording["cart/imu"].to_numpy())

    def test_files_that_are_none(self) -> None:
        for name, data in (("empty", b""), ("text", b"hello " * 99)):
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "x.mcap"
                path.write_bytes(data)
                with self.assertRaisesRegex(vd.VeldrainError, "x.mcap: .*; ") as caught:
                    vd.Recording(path).streams  # noqa: B018
                self.assertNotIn("\n", str(caught.exception))
        with self.assertRaisesRegex(vd.VeldrainError, "no such file"):
            vd.Recording("nowhere.mcap")


SAME = """
import sys, veldrain as vd
from tests.helpers import DEMO
scenario = vd.load_scenario(DEMO / "culvert.scenario.yaml")
scenario.duration = 1.5
scenario.at(0.5).push("crawler/hull", force=(0, 90, 0), lasting=0.3)
vd.run(scenario, seed=11, record=sys.argv[1])
"""


class SameSeedSameBytes(unittest.TestCase):
    def test_in_one_process_and_in_two(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for name in ("a", "b"):
                subprocess.run([sys.executable, "-c", SAME, f"{folder}/{name}.mcap"], check=True, cwd=ROOT)
            for name in ("c", "d"):
                exec(compile(SAME.replace("sys.argv[1]", repr(f"{folder}/{name}.mcap")), "same", "exec"), {})
            sums = {n: hashlib.sha256((Path(folder) / f"{n}.mcap").read_bytes()).hexdigest() for n in "abcd"}
            self.assertEqual(len(set(sums.values())), 1, sums)

    def test_another_seed_gives_other_noise_alone(self) -> None:
        one, other = (vd.run(cart_scenario(duration=0.3), seed=s) for s in (1, 2))
        for stream, same in (("cart/truth", True), ("cart/imu", False), ("cart/scan", False)):
            columns = [c for c in one[stream] if c not in ("child_frame_id",)]
            equal = all(
                np.array_equal(np.stack(a[c].to_numpy()), np.stack(b[c].to_numpy()))
                for (a, b), c in itertools.product([(one[stream], other[stream])], columns)
            )
            self.assertEqual(equal, same, stream)


if __name__ == "__main__":
    unittest.main()
