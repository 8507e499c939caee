"""Controllers in company, the check of drives, mazes, and what a walker and a flyer keep through a snapshot."""

from __future__ import annotations

import io
import json
import math
import tempfile
import unittest
import zipfile
import zlib
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd
from tests.motion.test_drives import cart_drive, template
from veldrain.demo import robot, world
from veldrain.demo.walkers import bank_walker, four_legged
from veldrain.model.knobs import world_knobs
from veldrain.recording.states import from_bytes


class Teller:
    """Tells the drive to go, and says when."""

    period = 0.1

    def start(self, body: Any, random: Any, log: Any) -> None:
        self.body = body

    def update(self, now: float, senses: Any, motors: Any) -> None:
        self.body.tell("drive", forward="0.2 m/s" if now < 1.0 else 0.0)


class Company(unittest.TestCase):
    def scenario(self, controllers: Any, seconds: float = 2.0) -> vd.Scenario:
        return vd.Scenario(template("cart"), seconds, controllers={"cart": controllers})

    def test_one_controller_tells_another(self) -> None:
        recording = vd.run(self.scenario({"drive": cart_drive(), "boss": Teller()}))
        self.assertAlmostEqual(recording["cart/truth"]["x"].iloc[-1] + 0.08, 0.2, delta=0.03)
        told = recording["cart/drive/inputs"]
        self.assertEqual(told["linear.x"].iloc[0], 0.2)
        self.assertEqual(told["linear.x"].iloc[-1], 0.0)

    def test_what_a_start_raises_ends_no_process(self) -> None:
        class Leaves(Teller):
            def start(self, body: Any, random: Any, log: Any) -> None:
                raise SystemExit("no more")

        with self.assertRaisesRegex(vd.VeldrainError, "raised at its start: SystemExit: no more"):
            vd.Trial(self.scenario({"drive": cart_drive(), "other": Leaves()}))

    def test_mistakes_in_telling(self) -> None:
        class Wrong(Teller):
            def update(self, now: float, senses: Any, motors: Any) -> None:
                self.body.tell(*self.what[0], **self.what[1])

        for what, words in (
            ((("drve",), {"forward": 1}), "drve.*drive"),
            ((("boss",), {"forward": 1}), "no other controller 'boss'"),
            ((("drive",), {"upward": 1}), "upward"),
            ((("drive",), {"forward": "1 kg"}), "not a speed"),
        ):
            wrong = Wrong()
            wrong.what = what  # type: ignore[attr-defined]
            with self.subTest(words), self.assertWarnsRegex(RuntimeWarning, words):
                vd.run(self.scenario({"drive": cart_drive(), "boss": wrong}))

    def test_a_twist_with_what_only_some_take(self) -> None:
        """A timeline names a controller by its robot where only one takes the input, else by its path."""
        scenario = self.scenario({"drive": cart_drive(), "pilot": vd.WallFollower("left")})
        scenario.at(0.5).tell("cart", forward=0.1)
        self.assertIn("cart/drive/inputs", vd.run(scenario).messages)
        two = self.scenario({"one": vd.Fly(), "two": vd.Fly()})
        two.at(0.5).tell("cart", up=0.1)
        with self.assertRaisesRegex(vd.VeldrainError, "four or more|2 controllers take up"):
            vd.Trial(two)


class CheckOfDrives(unittest.TestCase):
    def findings(self, drive: Any, tell: bool = True) -> list[str]:
        scenario = vd.Scenario(template("cart"), "3 s", controllers={"cart": drive})
        if tell:
            scenario.at("1 s").tell("cart", forward=0.1)
        found = vd.check(scenario)
        return [f"{f.rule}: {f.problem}" for f in found if f.rule in ("drive-does-not-fit", "inputs-untold")]

    def test_sides_radius_track_and_inputs(self) -> None:
        good = cart_drive()
        (left,), (right,) = good.left, good.right
        cases = [
            (good, True, []),
            (good, False, ["inputs-untold: nobody tells it anything"]),
            (
                vd.DifferentialDrive([right], [left], good.radius, good.track),
                True,
                ["drive-does-not-fit: its left wheels"],
            ),
            (good.changed(radius=0.1), True, ["drive-does-not-fit: its radius is 0.1 m, and the model's is 0.08 m"]),
            (good.changed(track=0.4), True, ["drive-does-not-fit: its track is 0.4 m, and the model's is 0.34 m"]),
        ]
        for drive, tell, wanted in cases:
            with self.subTest(wanted):
                found = self.findings(drive, tell)
                self.assertEqual(len(found), len(wanted))
                for line, start in zip(found, wanted, strict=True):
                    self.assertTrue(line.startswith(start), line)


class OmniOdometry(unittest.TestCase):
    def test_sideways_ways_are_counted(self) -> None:
        """Wheels turned in the air as an omni drive asks: the odometer counts the motion that they stand for."""
        m = vd.Model("omni").link("hull", vd.Box((0.6, 0.4, 0.1)), mass=9)
        names = ("fl", "fr", "rl", "rr")
        for k, name in enumerate(names):
            x, y = (0.3 if k < 2 else -0.3), (0.2 if k % 2 == 0 else -0.2)
            m.link(f"{name}_wheel", vd.Sphere(0.1), mass=0.5)
            m.joint(name, "hull", f"{name}_wheel", "continuous", vd.Pose((x, y, 0)), (0, 1, 0))
            m.motor(name, "velocity", damping=9)
        drive = vd.OmniDrive(names, radius=0.1, track=0.4, wheelbase=0.6)
        m.mount(
            "odometry", vd.Odometer(["fl", "rl"], ["fr", "rr"], wheel_radius=0.1, track=0.4, wheelbase=0.6), on="hull"
        )
        for told in ((0.3, 0.0, 0.0), (0.0, 0.2, 0.0), (0.0, 0.0, 0.5), (0.2, -0.1, 0.4)):
            sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m, fixed=True))
            speeds = drive.wheels(*told)
            sim["omni"].velocities = [speeds[j] for j in sim["omni"].joints]
            for joint, speed in speeds.items():
                sim["omni"].command(joint, velocity=speed)
            sim.advance("1 s")
            found = sim["omni"].read("odometry")
            with self.subTest(told):
                np.testing.assert_allclose((found.vx, found.vy, found.wz), told, atol=1e-6)
                self.assertAlmostEqual(found.yaw, told[2], delta=1e-6)
                if not told[2]:
                    np.testing.assert_allclose((found.x, found.y), told[:2], atol=1e-6)
                self.assertGreater(found.covariance[0, 0], 0.0)
        with self.assertRaisesRegex(vd.VeldrainError, "with a wheelbase name two"):
            vd.Odometer(["fl"], ["fr"], wheel_radius=0.1, track=0.4, wheelbase=0.6)


class Knobs(unittest.TestCase):
    def test_motors_rotors_and_wind_are_found_by_path(self) -> None:
        world = template("flyer")
        knobs = {knob.path: knob for knob in world_knobs(world)}
        for path, now, then in (
            ("flyer/spin_front_left.motor.speed", 900.0, 700.0),
            ("flyer/spin_front_left.motor.lag", 0.025, 0.05),
            ("flyer/spin_rear_left.rotor.thrust", -1.6e-5, -2e-5),
            ("air.wind_x", 0.0, 4.0),
            ("air.gusts", 0.0, 0.5),
        ):
            with self.subTest(path):
                self.assertAlmostEqual(knobs[path].get() or 0.0, now)
                knobs[path].set(then)
                self.assertAlmostEqual(knobs[path].get() or 0.0, then)
        self.assertEqual(world.placed["flyer"].model.rotors["spin_rear_left"].thrust, -2e-5)
        self.assertNotIn("flyer/spin_front_left.motor.stall", knobs)


class Mazes(unittest.TestCase):
    def test_walls_are_where_they_are_drawn(self) -> None:
        maze = vd.Maze(["###", "#.#", "#.."], cell="50 cm", height="30 cm")
        sim = vd.Simulation(vd.World().build("maze", maze))
        down = np.array([[0.0, 0.0, -1.0]])
        for row, text in enumerate(maze.rows):
            for column, letter in enumerate(text):
                x, y = maze.at(column, row)
                distances, names, _ = sim.cast(np.array([[x, y, 1.0]]), down, 5.0)
                with self.subTest(row=row, column=column):
                    self.assertEqual(letter == "#", names[0] is not None)
                    if letter == "#":
                        self.assertAlmostEqual(distances[0], 0.7)
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "m.world.yaml"
            file.write_text("veldrain: world/1\nbuild:\n  cellar: {maze: {rows: ['##', '#.'], cell: 1 m}}\n")
            self.assertEqual(len(vd.load_world(file).obstacles), 2)
        for rows, more, words in (([".."], {}, "without walls"), (["#"], {"cell": 0}, "above zero")):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                vd.Maze(rows, **more)  # type: ignore[arg-type]


class Snapshots(unittest.TestCase):
    def test_a_walker_and_a_flyer_go_on_to_the_same_bytes(self) -> None:
        feet = [name for name in four_legged().frames if name.endswith("_foot")]
        floor = vd.World().ground().place(four_legged(), "it", pose=vd.Pose((0, 0, 0.362)), posture="stand")
        walk = vd.Scenario(floor, "2 s", controllers={"it": vd.Walk(feet, gait="trot", stance="stand", imu="imu")})
        walk.at("0.2 s").tell("it", forward=0.2)
        air = template("flyer").weather(vd.Air(wind=(3, 0, 0), gusts=0.5))
        fly = vd.Scenario(air, "2 s", controllers={"flyer": vd.Fly([(0, 0, 1)], pose="truth")}, truth=["flyer"])
        for scenario, name in ((walk, "it"), (fly, "flyer")):
            trial = vd.Trial(scenario, 3)
            trial.advance("1 s")
            middle = trial.snapshot()
            ends = []
            for _ in range(2):
                trial.restore(middle)
                trial.run()
                pose = trial.simulation[name].pose()
                ends.append(pose.position.tobytes() + pose.matrix.tobytes())
            with self.subTest(name):
                self.assertEqual(*ends)


class KeptStates(unittest.TestCase):
    def scenario(self) -> vd.Scenario:
        feet = [name for name in four_legged().frames if name.endswith("_foot")]
        floor = vd.World().ground().place(four_legged(), "it", pose=vd.Pose((0, 0, 0.362)), posture="stand")
        walk = vd.Scenario(floor, "2 s", controllers={"it": vd.Walk(feet, gait="trot", stance="stand", imu="imu")})
        return walk.at("0.2 s").tell("it", forward=0.2)

    def test_another_trial_goes_on_to_the_same_bytes(self) -> None:
        cart = {"drive": cart_drive(), "pilot": vd.WallFollower("right")}
        air = template("flyer").weather(vd.Air(wind=(3, 0, 0), gusts=0.5))
        fly = {"flyer": vd.Fly([(0, 0, 1)], pose="truth")}
        scenarios = {
            "it": self.scenario(),
            "cart": vd.Scenario(template("cart"), "2 s", controllers={"cart": cart}),
            "flyer": vd.Scenario(air, "2 s", controllers=fly, truth=["flyer"]),
        }
        for name, scenario in scenarios.items():
            with tempfile.TemporaryDirectory() as folder:
                vd.run(scenario, seed=3, keep_states="0.5 s", record=Path(folder) / "run.mcap")
                whole, again = vd.Trial(scenario, 3), vd.Trial(scenario, 9)
                whole.run()
                at = again.resume(vd.Recording(Path(folder) / "run.mcap"), "1.2 s")
                again.run()
            with self.subTest(name):
                self.assertEqual(at, 1.0)
                ends = [trial.simulation[name].pose() for trial in (whole, again)]
                self.assertEqual(*(end.position.tobytes() + end.matrix.tobytes() for end in ends))

    def test_what_cannot_be_written_or_read(self) -> None:
        class Keeps(Teller):
            def __init__(self, thing: Any) -> None:
                self.thing = thing

        plain = vd.Scenario(template("cart"), "1 s", controllers={"cart": {"drive": cart_drive()}})
        kept = vd.run(plain, keep_states="0.5 s")
        cases: list[tuple[Any, str]] = [
            (lambda: self.keeping(Keeps(lambda: 3)), "keeps/thing.*function of .* cannot be written"),
            (lambda: self.keeping(Keeps(Teller())), "Teller of .* cannot be written"),
            (lambda: self.keeping(Keeps(np.array([None]))), "array of objects"),
            (lambda: vd.Trial(plain).resume(vd.run(plain)), "keeps no states; record it with"),
            (lambda: vd.Trial(plain).resume(kept, "-1 s"), "its first state is at 0 s"),
            (lambda: vd.Trial(self.scenario()).resume(kept), "no state|another (scenario|world)"),
            (lambda: from_bytes(b"no"), "no state"),
            (
                lambda: from_bytes(zlib.compress(b'{"object": "os:path", "of": {}}' + b"\0" + empty())),
                "a class of 'os'",
            ),
            (
                lambda: from_bytes(zlib.compress(b'{"object": "veldrain.cli:app", "of": {}}\0' + empty())),
                "no class of ours",
            ),
            (
                lambda: from_bytes(packed({"row": "veldrain.recording.video:Mp4Writer", "of": ["x.mp4"]})),
                "no class of ours",
            ),
            (lambda: from_bytes(packed({"object": "veldrain.__main__:x", "of": {}})), "no class of ours"),
            (lambda: from_bytes(packed({"object": "veldrain.control.program:Program", "of": {}})), "no class of ours"),
            (lambda: from_bytes(packed({"row": "veldrain.model.parts:Part", "of": []})), "no state"),
            (lambda: from_bytes(packed({"sheet": "veldrain.model.model:Model", "of": {"table": []}})), "is no sheet"),
            (lambda: from_bytes(zlib.compress(b"0\0" + bytes(1 << 28), 1)), "more than 128 MB"),
            (
                lambda: from_bytes(zlib.compress(b'{"list":[' * 20000 + b"]}" * 20000 + b"\0" + empty())),
                "nested too deeply",
            ),
            (lambda: from_bytes(zlib.compress(b"0\0" + huge())), "an array of"),
        ]
        for act, words in cases:
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()

    def keeping(self, controller: Any) -> None:
        both = {"drive": cart_drive(), "other": controller}
        vd.Trial(vd.Scenario(template("cart"), "1 s", controllers={"cart": both}), keep_states="0.5 s").run()


def packed(tree: object) -> bytes:
    return zlib.compress(json.dumps(tree).encode() + b"\0" + empty())


def huge() -> bytes:
    """An array that says that it is larger than its bytes."""
    held, one = io.BytesIO(), io.BytesIO()
    np.save(one, np.zeros(8))
    with zipfile.ZipFile(held, "w") as whole:
        whole.writestr("arr_0.npy", one.getvalue().replace(b"(8,), }    ", b"(80000,), }"))
    return held.getvalue()


def empty() -> bytes:
    """No arrays, as they are written."""
    held = io.BytesIO()
    np.savez(held)
    return held.getvalue()


class Demo(unittest.TestCase):
    def test_robots_worlds_and_walkers(self) -> None:
        self.assertIn("tool", robot("sampling_arm").frames)
        self.assertIn("crawler", world("culvert").placed)
        for make, name in ((robot, "sampling_am"), (world, "flor")):
            with self.subTest(name), self.assertRaisesRegex(vd.VeldrainError, "did you mean"):
                make(name)
        for model, legs, kilograms in ((four_legged(), 4, 20.0), (bank_walker(), 6, 16.0)):
            feet = [name for name in model.frames if name.endswith("_foot")]
            self.assertEqual(len(feet), legs)
            self.assertAlmostEqual(model.total().mass, kilograms, delta=0.01)
            for foot in feet:
                leg = vd.Leg(model, foot)
                at = leg.chain.forward([model.postures["stand"].get(j, 0.0) for j in leg.joints]).position
                np.testing.assert_allclose(leg.chain.forward(leg.angles(at)).position, at, atol=1e-12)

    def test_a_walker_goes_up_a_ramp_upright(self) -> None:
        model, slope = bank_walker(), math.radians(12)
        feet = [name for name in model.frames if name.endswith("_foot")]
        tilt = vd.Pose(rpy=(0, -slope, 0))
        ramp = vd.World().obstacle("ramp", vd.Box((20, 9, 1)), pose=tilt @ vd.Pose((0, 0, -0.5)))
        poses = model.poses(model.postures["stand"])
        low = min((poses[f.link] @ f.pose).position[2] for f in model.frames.values())
        ramp.place(model, "it", pose=tilt @ vd.Pose((0, 0, 0.025 - low)), posture="stand")
        walk = vd.Walk(feet, gait="tripod", stance="stand", stride_time=0.6, imu="imu")
        scenario = vd.Scenario(ramp, "7 s", controllers={"it": walk})
        scenario.at("0.5 s").tell("it", forward=0.25)
        truth = vd.run(scenario)["it/truth"]
        self.assertGreater(truth["x"].iloc[-1], 0.9)
        self.assertLess(np.abs(truth["pitch"].iloc[-1]), 0.75 * slope)  # on its way to level, which it takes slowly


if __name__ == "__main__":
    unittest.main()
