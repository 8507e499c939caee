"""Drives, odometry and pilots: closed forms, and cars that drive."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

import veldrain as vd
from veldrain.motion.drives import CarSteering, Odometry, side_by_side

STARTS = Path(vd.__path__[0]) / "starting"


def template(kind: str, **more: Any) -> vd.World:
    """The world of a template of ``veldrain new``."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "w.world.yaml"
        # Thin wheels: a rigid wheel of some width turns about any point of it.
        text = (STARTS / f"{kind}.yaml").read_text().replace("length: 3 cm", "length: 1 mm")
        file.write_text("veldrain: world/1\nground: {surface: {friction: 0.9}}\n" + text)
        world = vd.load_world(file)
    if kind == "cart":
        world.placed["cart"].pose = vd.Pose((-0.08, 0, 0.1))
        world.placed["cart"].model.mount("axle", vd.TruePose(), on="deck", pose=vd.Pose((0.08, 0, 0)))
    return world


def cart_drive(**more: Any) -> vd.DifferentialDrive:
    model = template("cart").placed["cart"].model
    left, right = (next(j for j in model.motors if side in j) for side in ("left", "right"))
    wheels = [model.joints[j] for j in (left, right)]
    radius = model.links[wheels[0].child].parts[0].shape.radius  # type: ignore[attr-defined]
    track = abs(wheels[0].pose.position[1] - wheels[1].pose.position[1])
    return vd.DifferentialDrive([left], [right], radius, track, **more)


class WheelSpeeds(unittest.TestCase):
    def test_there_and_back(self) -> None:
        drives = [
            vd.DifferentialDrive(["l"], ["r"], 0.1, 0.5),
            vd.SkidSteer(["a", "b"], ["c", "d"], 0.1, 0.5, widening=1.6),
            vd.OmniDrive(["a", "b", "c", "d"], 0.1, 0.5, 0.7),
        ]
        for drive in drives:
            sideways = 0.2 if isinstance(drive, vd.OmniDrive) else 0.0
            with self.subTest(type(drive).__name__):
                np.testing.assert_allclose(
                    drive.twist(drive.wheels(0.4, sideways, -0.7)), (0.4, sideways, -0.7), atol=1e-12
                )

    def test_turning_radii(self) -> None:
        wheels = vd.DifferentialDrive(["l"], ["r"], 0.1, 0.5).wheels(0.4, 0, 0.8)  # a circle of 0.5 m
        self.assertAlmostEqual(wheels["r"] / wheels["l"], (0.5 + 0.25) / (0.5 - 0.25))
        car = vd.AckermannDrive(["sl", "sr"], ["rl", "rr"], radius=0.3, track=1.4, wheelbase=2.5)
        R = 8.0
        asked = car.wheels(2.0, 0, 2.0 / R)
        self.assertAlmostEqual(asked["sl"], math.atan(2.5 / (R - 0.7)))
        self.assertAlmostEqual(asked["sr"], math.atan(2.5 / (R + 0.7)))
        self.assertAlmostEqual(asked["rl"], 2.0 * (R - 0.7) / R / 0.3)
        self.assertAlmostEqual(car.radius_of(math.atan(2.5 / R)), R)
        # Ackermann's condition: cot δ_outer − cot δ_inner = track/wheelbase
        left, right = CarSteering(2.5, 1.4).angles(0.3)
        self.assertAlmostEqual(1 / math.tan(right) - 1 / math.tan(left), 1.4 / 2.5)

    def test_bad_sheets(self) -> None:
        cases: list[tuple[Any, str]] = [
            (lambda: vd.DifferentialDrive([], ["r"], 0.1, 0.5), "one side|name each joint"),
            (lambda: vd.DifferentialDrive(["r"], ["r"], 0.1, 0.5), "name each joint once"),
            (lambda: vd.DifferentialDrive(["l"], ["r"], 0, 0.5), "radius is 0"),
            (lambda: vd.OmniDrive(["a", "b"], 0.1, 0.5, 0.7), "2 wheels"),
            (lambda: vd.AckermannDrive(["a"], ["b"], 0.1, 0.5, 0.7), "1 steered"),
            (lambda: vd.SkidSteer(["l"], ["r"], 0.1, 0.5, widening=0.5), "widening"),
            (lambda: vd.FollowRoute([(0, 0)]), "two points"),
            (lambda: vd.FollowRoute([(0, 0), (0, 0)]), "are the same"),
            (lambda: vd.GoTo((1, 2, 3)), "give x and y"),
        ]
        for act, words in cases:
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


class DeadReckoning(unittest.TestCase):
    def test_a_square_comes_back(self) -> None:
        odometry = Odometry(side_by_side(["l"], ["r"], 1.0, 0.5).matrix, 0.02)
        sizes = []
        for _ in range(4):
            for _ in range(50):
                odometry.go(0.02, 0.0, 0.0, 0.02)
            sizes.append(np.trace(odometry.covariance))
            for _ in range(50):
                odometry.go(0.0, 0.0, math.pi / 100, 0.02)
        np.testing.assert_allclose((odometry.x, odometry.y), 0, atol=1e-12)
        self.assertAlmostEqual(odometry.yaw, 2 * math.pi)
        self.assertTrue((np.diff(sizes) > 0).all())

    def test_a_circle_is_exact_in_any_number_of_arcs(self) -> None:
        for parts in (3, 40):
            odometry = Odometry(np.eye(3), 0.0)
            for _ in range(parts):
                odometry.go(math.pi / parts, 0.0, math.pi / 2 / parts, 0.1)
            np.testing.assert_allclose((odometry.x, odometry.y), (2.0, 2.0), atol=1e-12)

    def test_covariance_is_that_of_many_drawn_ways(self) -> None:
        """Straight on, on the spot and around a bend, with a narrow track and a wide one: errors of single ways, and
        those that stay all along."""
        steps, random = 40, np.random.default_rng(3)
        for track, ahead, turn in ((0.4, 0.05, 0.0), (0.4, 0.0, 0.05), (2.0, 0.0, 0.05), (2.0, 0.05, 0.02)):
            for slip, lasting, wide in ((0.01, 0.0, 0.0), (0.0, 0.005, 0.0), (0.0, 0.0, 0.02), (0.01, 0.005, 0.02)):
                with self.subTest(track=track, ahead=ahead, turn=turn, slip=slip, lasting=lasting, wide=wide):
                    ways = side_by_side(["l"], ["r"], 1.0, track).matrix
                    odometry = Odometry(ways, slip, 0.0, lasting, wide)
                    for _ in range(steps):
                        odometry.go(ahead, 0.0, turn, 0.1)
                    x, y, yaw = np.zeros((3, 4000))
                    shares, wrong = (
                        1 + lasting * random.standard_normal((2, 4000)),
                        1 - wide * random.standard_normal(4000),
                    )
                    for _ in range(steps):
                        rolled = (ways @ (ahead, 0.0, turn))[:, None]
                        off = slip * np.sqrt(np.abs(rolled)) * random.standard_normal((2, 4000))
                        left, right = shares * rolled + off
                        along, turned = (left + right) / 2, wrong * (right - left) / track
                        x, y = x + along * np.cos(yaw + turned / 2), y + along * np.sin(yaw + turned / 2)
                        yaw = yaw + turned
                    found, drawn = odometry.covariance, np.cov(np.stack([x, y, yaw]))
                    scale = np.sqrt(np.maximum(np.outer(np.diag(found), np.diag(found)), 1e-12))
                    np.testing.assert_allclose(found / scale, drawn / scale, atol=0.12)


class Driving(unittest.TestCase):
    def told(self, drive: Any, **inputs: Any) -> Any:
        world = template("cart")
        scenario = vd.Scenario(world, "6 s", controllers={"cart": drive})
        scenario.at("0.5 s").tell("cart", **inputs)
        return vd.run(scenario)

    def test_a_circle_of_the_radius_asked_for(self) -> None:
        recording = self.told(cart_drive(acceleration=1.0), forward="0.3 m/s", turning="0.6 rad/s")
        truth = recording["cart/truth"]
        late = truth[truth["time"] > 2.0]
        speed = np.hypot(late["vx"], late["vy"])
        self.assertAlmostEqual(float(late["wz"].mean()), 0.6, delta=0.01)
        self.assertAlmostEqual(float(speed.mean()), 0.3, delta=0.01)
        inputs = recording["cart/inputs"]
        self.assertEqual(
            (inputs["time"].iloc[0], inputs["linear.x"].iloc[0], inputs["angular.z"].iloc[0]), (0.5, 0.3, 0.6)
        )

    def test_acceleration_limit_and_watchdog(self) -> None:
        recording = self.told(cart_drive(acceleration="0.5 m/s^2", watchdog="2 s"), forward=0.4)
        commands = recording["cart/commands"]
        wheel = next(c for c in commands if c.startswith("velocity."))
        speeds = commands[wheel].to_numpy() * cart_drive().radius
        self.assertLessEqual(np.abs(np.diff(speeds)).max(), 0.5 * 0.02 + 1e-9)
        at = np.interp([0.4, 1.4, 2.4, 4.0], commands["time"], speeds)
        np.testing.assert_allclose(at, (0, 0.4, 0.4, 0), atol=1e-9)

    def test_a_route_by_odometry(self) -> None:
        world, drive = template("cart"), cart_drive(acceleration=1.0)
        world.placed["cart"].model.mount(
            "odometry",
            vd.Odometer(drive.left, drive.right, wheel_radius=drive.radius, track=drive.track),
            on=world.placed["cart"].model.root(),
        )
        pilot = vd.FollowRoute([(0, 0), (1.5, 0), (1.5, 1.5)], speed=0.4, lookahead=0.35)
        recording = vd.run(vd.Scenario(world, "12 s", controllers={"cart": {"drive": drive, "pilot": pilot}}))
        self.assertLess(recording["cart/off_route"]["data"].max(), 0.15)
        end = recording["cart/axle"].iloc[-1]
        self.assertLess(math.hypot(end["x"] - 1.5, end["y"] - 1.5), 0.08)
        odometry = recording["cart/odometry"].iloc[-1]
        self.assertLess(math.hypot(end["x"] - odometry["x"], end["y"] - odometry["y"]), 0.05)

    def test_a_route_that_it_is_on_already(self) -> None:
        for start in ((-30, 0), (0, 0)):  # far behind it, and one that comes back to where it begins
            route = [start, (2, 0)] if start[0] else [(0, 0), (2, 0), (2, 2), (0, 0)]
            controllers = {"cart": {"drive": cart_drive(), "pilot": vd.FollowRoute(route, pose="axle")}}
            recording = vd.run(vd.Scenario(template("cart"), "2 s", controllers=controllers, truth=["cart"]))
            with self.subTest(start=start):
                self.assertLess(np.abs(recording["cart/drive/inputs"]["angular.z"]).max(), 0.05)
                self.assertGreater(recording["cart/axle"]["x"].iloc[-1], 0.4)

    def test_a_closed_route_is_followed_round_after_round(self) -> None:
        turn = np.linspace(-np.pi / 2, 1.5 * np.pi, 24, endpoint=False)
        ring = vd.Route(np.column_stack([np.cos(turn), 1 + np.sin(turn)]), speed=1, closed=True)
        controllers = {
            "cart": {"drive": cart_drive(), "pilot": vd.FollowRoute(ring, speed=0.5, lookahead=0.3, pose="axle")}
        }
        recording = vd.run(vd.Scenario(template("cart"), "30 s", controllers=controllers, truth=["cart"]))
        axle = recording["cart/axle"]
        rounds = np.unwrap(np.arctan2(axle["y"] - 1, axle["x"]))
        self.assertGreater(rounds[-1] - rounds[0], 2 * 2 * math.pi)
        self.assertLess(recording["cart/off_route"]["data"].iloc[100:].max(), 0.1)

    def test_to_a_pose(self) -> None:
        world = template("cart")
        pilot = vd.GoTo((1.2, 0.8), heading="90 deg", pose="axle")
        scenario = vd.Scenario(
            world, "15 s", controllers={"cart": {"drive": cart_drive(), "pilot": pilot}}, truth=["cart"]
        )
        end = vd.run(scenario)["cart/axle"].iloc[-1]
        np.testing.assert_allclose((end["x"], end["y"]), (1.2, 0.8), atol=0.02)
        self.assertAlmostEqual(end["yaw"], math.pi / 2, delta=0.1)

    def test_along_a_wall_and_round_a_corner(self) -> None:
        world = template("cart").obstacle("wall", vd.Box((5, 0.1, 0.8)), pose=vd.Pose((1.5, -0.8, 0.4)))
        world.obstacle("end", vd.Box((0.1, 6, 0.8)), pose=vd.Pose((4.0, 1.5, 0.4)))
        pilot = vd.WallFollower("right", distance="60 cm", speed="0.4 m/s")
        recording = vd.run(vd.Scenario(world, "20 s", controllers={"cart": {"drive": cart_drive(), "pilot": pilot}}))
        truth = recording["cart/truth"]
        along = truth[(truth["x"] > 1.0) & (truth["x"] < 2.5) & (truth["y"] < 0.5)]
        self.assertLess(np.abs(along["y"] - (-0.75 + 0.6)).max(), 0.1)
        after = truth[(truth["y"] > 1.5) & (truth["y"] < 3.0)]
        self.assertLess(np.abs(3.95 - after["x"].to_numpy() - 0.6).max(), 0.2)

    def test_a_car_steers_round_its_circle(self) -> None:
        world = template("car")
        car = vd.AckermannDrive(
            ["steer_left", "steer_right"],
            ["drive_left", "drive_right"],
            radius=0.12,
            track=0.6,
            wheelbase=0.64,
            acceleration=1,
        )
        scenario = vd.Scenario(world, "9 s", controllers={"car": car})
        scenario.at("0.5 s").tell("car", forward=0.8, steering="20 deg")
        truth = vd.run(scenario)["car/truth"]
        late = truth[truth["time"] > 5]
        radius = float((np.hypot(late["vx"], late["vy"]) / late["wz"]).mean())
        # of the middle of the body, half a wheelbase before the rear axle
        self.assertAlmostEqual(radius, math.hypot(car.radius_of(math.radians(20)), 0.32), delta=0.06)


class Told(unittest.TestCase):
    def run_with(self, controllers: Any, **more: Any) -> Any:
        return vd.run(vd.Scenario(template("cart"), "4 s", controllers={"cart": controllers}, **more))

    def test_tables_keys_and_sticks(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            keys = Path(folder) / "drive.keys"
            keys.write_text("# forward, and a turn\nw 0.5 2.5\na 1.0–2.0 s\n")
            table = pd.DataFrame(
                {"time": [0.5, 1.0, 2.0, 2.5], "forward": [0.3] * 3 + [0.0], "turning": [0.0, 0.5, 0.0, 0.0]}
            )
            sticks = pd.DataFrame({"time": [0.0, 1.0], "y": [0.02, -0.55]})
            ways = {
                "keys": vd.Inputs(keys, to="drive", keys={"w": {"forward": "0.3 m/s"}, "a": {"turning": "0.5 rad/s"}}),
                "table": vd.Inputs(table, to="drive"),
                "sticks": vd.Inputs(
                    sticks, to="drive", axes={"y": {"to": "forward", "scale": 0.6, "dead_zone": 0.1, "curve": 2}}
                ),
            }
            found = {}
            for way, told in ways.items():
                inputs = self.run_with({"drive": cart_drive(), "hand": told})["cart/drive/inputs"]
                found[way] = [
                    (
                        float(np.interp(t, inputs["time"], inputs["linear.x"])),
                        float(np.interp(t, inputs["time"], inputs["angular.z"])),
                    )
                    for t in (0.8, 1.5, 2.2, 3.0)
                ]
        wanted = [(0.3, 0), (0.3, 0.5), (0.3, 0), (0, 0)]
        np.testing.assert_allclose(found["keys"], wanted, atol=1e-12)
        np.testing.assert_allclose(found["table"], wanted, atol=1e-12)
        np.testing.assert_allclose(found["sticks"][2:], [(-0.25 * 0.6, 0)] * 2, atol=1e-12)

    def test_mistakes_are_told_at_the_start(self) -> None:
        drive = cart_drive()
        effort = vd.DifferentialDrive(["nose"], ["tail"], 0.1, 0.4)
        cases: list[tuple[Any, str]] = [
            (lambda: self.run_with({"one": drive, "two": drive}), "commanded by two controllers, 'one' and 'two'"),
            (lambda: self.run_with(effort), "nose"),
            (lambda: self.tell(drive, sideway=0.1), "sideway.*sideways"),
            (lambda: self.tell(drive, forward="3 kg"), "not a speed"),
            (lambda: self.tell(drive, forward=math.nan), "nan"),
            (lambda: vd.Scenario(template("cart"), 4).at(1).tell("cart"), "nothing to tell"),
        ]
        for act, words in cases:
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()

    def tell(self, drive: Any, **inputs: Any) -> None:
        scenario = vd.Scenario(template("cart"), 4, controllers={"cart": drive})
        scenario.at(1).tell("cart", **inputs)
        vd.Trial(scenario)

    def test_in_a_file(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            world = Path(folder) / "cart.world.yaml"
            vd.save_world(template("cart"), world)
            drive = cart_drive()
            file = Path(folder) / "go.scenario.yaml"
            file.write_text(
                "veldrain: scenario/1\nworld: cart.world.yaml\nduration: 3 s\ncontrollers:\n"
                f"  cart: {{use: DifferentialDrive, with: {{left: {list(drive.left)}, right: {list(drive.right)}, "
                f"radius: {drive.radius}, track: {drive.track}}}}}\n"
                "timeline:\n  - {at: 1 s, tell: {controller: cart, inputs: {forward: 0.3 m/s}}}\n"
            )
            scenario = vd.load_scenario(file)
            recording = vd.run(scenario)
            self.assertGreater(recording["cart/truth"].iloc[-1]["x"], 0.4)
            self.assertIn("tell cart: forward 0.3 m/s", recording["scenario/events"]["data"].to_list())
            again = Path(folder) / "again.scenario.yaml"
            vd.save_scenario(scenario, again)
            self.assertEqual(vd.load_scenario(again).timeline[0].action, scenario.timeline[0].action)
            file.write_text(file.read_text().replace("DifferentialDrive", "DiferentialDrive"))
            with self.assertRaisesRegex(vd.VeldrainError, "DifferentialDrive"):
                vd.run(vd.load_scenario(file))

    def test_a_snapshot_goes_on_to_the_same_bytes(self) -> None:
        pilot = vd.WallFollower("right")
        scenario = vd.Scenario(template("cart"), "3 s", controllers={"cart": {"drive": cart_drive(), "pilot": pilot}})
        trial = vd.Trial(scenario)
        trial.advance("1 s")
        middle = trial.snapshot()
        trial.run()
        once = trial.simulation["cart"].pose().position.tobytes()
        trial.restore(middle)
        trial.run()
        self.assertEqual(once, trial.simulation["cart"].pose().position.tobytes())


if __name__ == "__main__":
    unittest.main()
