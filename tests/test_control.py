"""Controllers: what they are given, how they are named and made, and what the one that ships does."""

from __future__ import annotations

import math
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any, ClassVar

import numpy as np

import veldrain as vd
from tests.helpers import DEMO, Hold, cart, cart_scenario
from veldrain.control import Motors, NamedController, Senses, fresh
from veldrain.sampling import Reading
from veldrain.sensing.imu import Inertial
from veldrain.sensing.lidar import Scan

BEARINGS = np.linspace(-math.radians(135), math.radians(135), 180)


class Handle:
    """Takes what a controller commands."""

    velocity = 0.0


def corridor(left: float, right: float) -> Reading:
    """A scan between two walls, looking straight along them."""
    with np.errstate(divide="ignore"):
        ranges = np.where(BEARINGS > 0, left, right) / np.abs(np.sin(BEARINGS))
    return Reading(0, Scan(ranges, BEARINGS))


def wheels(controller: vd.CentreLine, scan: Reading | None, rate: float = 0.0, times: int = 1) -> dict[str, float]:
    motors: dict[str, Any] = {j: Handle() for j in (*controller.left, *controller.right)}
    imu = Reading(0, Inertial(np.zeros(3), np.array([0.0, 0.0, rate])))
    for _ in range(times):
        controller.update(0.0, {"scan": scan, "imu": imu}, motors)
    return {j: m.velocity for j, m in motors.items()}


def turning(controller: vd.CentreLine, speeds: dict[str, float]) -> float:
    """The turning rate that wheel speeds ask for, rad/s."""
    return (speeds[controller.right[0]] - speeds[controller.left[0]]) * controller.wheel / controller.track


class CentreLine(unittest.TestCase):
    def test_steers_to_the_wider_side_in_proportion(self) -> None:
        controller = vd.CentreLine(gain=2.0, most=9)
        for left, right in ((0.7, 0.7), (0.9, 0.5), (0.5, 0.9), (1.0, 0.4)):
            with self.subTest(left=left, right=right):
                speeds = wheels(controller, corridor(left, right))
                self.assertAlmostEqual(turning(controller, speeds), 2.0 * (left - right) / 2, places=9)
                self.assertAlmostEqual(np.mean(list(speeds.values())) * controller.wheel, controller.speed)

    def test_gyro_takes_back_what_was_turned(self) -> None:
        """0.1 rad/s for ten updates of 50 ms: 0.05 rad turned, nearly all of it remembered."""
        controller = vd.CentreLine(gain=2.0, damping=1.5, memory="100 s")
        speeds = wheels(controller, corridor(0.7, 0.7), rate=0.1, times=10)
        self.assertAlmostEqual(turning(controller, speeds), -1.5 * 0.05, delta=0.0005)
        forgetful = vd.CentreLine(gain=2.0, damping=1.5, memory="1 s")
        wheels(forgetful, corridor(0.7, 0.7), rate=0.1, times=10)
        self.assertAlmostEqual(turning(forgetful, wheels(forgetful, corridor(0.7, 0.7), times=200)), 0.0, delta=1e-4)

    def test_is_bounded_and_goes_straight_without_a_scan(self) -> None:
        controller = vd.CentreLine(gain=50.0, most=0.4)
        self.assertAlmostEqual(turning(controller, wheels(controller, corridor(1.2, 0.2))), 0.4)
        self.assertEqual(turning(controller, wheels(controller, None)), 0.0)
        empty = Reading(0, Scan(np.full(180, math.inf), BEARINGS))
        self.assertEqual(turning(controller, wheels(controller, empty)), 0.0)

    def test_stands_before_what_is_ahead_and_without_new_scans(self) -> None:
        def speed(at: float, stamp: int = 0, **words: Any) -> float:
            ranges = np.where(np.abs(BEARINGS) < 0.1, at, corridor(0.7, 0.7).ranges)
            controller = vd.CentreLine(speed=0.6, **words)
            found = wheels(controller, Reading(stamp, Scan(ranges, BEARINGS)))
            return float(np.mean(list(found.values()))) * controller.wheel

        nearest = math.cos(BEARINGS[np.abs(BEARINGS).argmin()])  # of the beam that looks straightest ahead
        for at, words, expected in (
            (2.0, {"standstill": "50 cm"}, 0.6),
            (0.8, {"standstill": "50 cm"}, 0.8 * math.cos(BEARINGS[np.abs(BEARINGS) < 0.1].max()) - 0.5),
            (0.5 / nearest, {"standstill": "50 cm"}, 0.0),
            (0.3, {}, 0.6),
            (2.0, {"watchdog": "0.2 s", "stamp": 0}, 0.6),
            (2.0, {"watchdog": "0.2 s", "stamp": -300_000_000}, 0.0),
        ):
            with self.subTest(at=at, **words):
                self.assertAlmostEqual(speed(at, **words), expected, delta=0.01)

    def test_finds_the_middle_of_the_culvert(self) -> None:
        """Started 20 cm off, it ends as near as its gyro's bias lets it: damping·bias·memory/gain is 2.3 cm a sigma."""
        world = vd.load_world(DEMO / "culvert.world.yaml")
        world.placed["crawler"].pose = vd.Pose((0.4, 0.2, 0.13))
        scenario = vd.Scenario(world, "18 s", controllers={"crawler": vd.CentreLine(gain=2.0, damping=1.3)})
        scenario.when(vd.distance("crawler", "outlet") < 0.6).finish("there")
        recording = vd.run(scenario, seed=2)
        self.assertEqual(recording.outcome["reason"], "there")
        sigma = 1.3 * math.radians(0.5) * 4.0 / 2.0
        self.assertLess(abs(recording["crawler/truth"]["y"].iloc[-1]), 3 * sigma)
        self.assertLess(recording["crawler/encoders"].filter(like="effort").abs().max().max(), 5.0 + 1e-9)


class Given(unittest.TestCase):
    def setUp(self) -> None:
        self.sim = vd.Simulation(
            vd.World().obstacle("post", vd.Sphere(0.1), pose=vd.Pose((2, 0, 0))).place(cart(), fixed=True)
        )

    def test_senses(self) -> None:
        blind, granted = (Senses("cart", self.sim.streams, g) for g in (False, True))
        self.assertEqual(set(blind), {"encoders", "scan", "imu"})
        self.assertEqual((len(blind), len(granted)), (3, 4))
        self.assertIsNotNone(granted.at(0)["truth"])
        for words, sensor in (("no controller may read", "truth"), ("did you mean 'scan'", "scann")):
            with self.subTest(sensor=sensor), self.assertRaisesRegex(vd.VeldrainError, words):
                blind[sensor]

    def test_motors(self) -> None:
        motors = Motors(self.sim["cart"], ["slide"])
        self.assertEqual((list(motors), len(motors)), (["slide"], 1))
        motors["slide"].effort = "10 N"  # type: ignore[assignment]
        self.sim.advance(0.1)
        self.assertAlmostEqual(self.sim["cart"].velocities[0], (10 - 0.5) / 2 * 0.1, places=6)
        for words, act in (
            ("did you mean 'slide'", lambda: motors["slde"]),
            ("no command 'torque'", lambda: setattr(motors["slide"], "torque", 1)),
            ("velocity to a motor in effort mode", lambda: setattr(motors["slide"], "velocity", 1)),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


class Bounds(unittest.TestCase):
    """What a controller may not do to its trial."""

    def outcome(self, act: Callable[[Any, Any, Any], None]) -> str:
        class Acts:
            period = 0.01

            def start(self, body: Any, random: Any, log: Any) -> None:
                self.body, self.log = body, log

            def update(self, now: float, senses: Any, motors: Any) -> None:
                act(self.body, self.log, motors)

        self.scenario = cart_scenario(Acts(), duration=0.05)
        return str(vd.run(self.scenario, warn=False).outcome["reason"])

    def test_told_by_name(self) -> None:
        for act, told in (
            (lambda body, log, motors: log("imu", 1.0), "logs under 'imu': stream 'cart/imu' is there already"),
            (lambda body, log, motors: log("commands", 1.0), "stream 'cart/commands' is there already"),
            (lambda body, log, motors: log(5, 1.0), "logs under 5, which is no name"),
            (lambda body, log, motors: log("\x1b[31m", 1.0), "which is no name"),
            (lambda body, log, motors: setattr(motors["slide"], "effort", math.inf), "cart/slide: the commanded effort is inf"),
            (lambda body, log, motors: setattr(motors["slide"], "effort", math.nan), "cart/slide: .* is not a number"),
            (lambda body, log, motors: log("mine", 1.0), "time is up"),
        ):  # fmt: skip
            with self.subTest(told):
                self.assertRegex(self.outcome(act), told)

    def test_the_caller_s_world_is_the_caller_s(self) -> None:
        self.outcome(lambda body, log, motors: (body.model.links.clear(), body.model.joints.clear()))
        self.assertTrue(self.scenario.world.placed["cart"].model.links)


class Told(unittest.TestCase):
    def test_start_inputs_and_own_streams(self) -> None:
        scenario = cart_scenario(Driven(), 0.3)
        recording = vd.run(scenario, seed=4)
        self.assertEqual(recording["cart/asked"]["data"].tolist()[:2], [0.0, 0.0])
        self.assertEqual(recording["cart/mass"]["data"].tolist(), [2.0])
        drawn = [vd.run(scenario, seed=s)["cart/drawn"]["data"][0] for s in (4, 4, 5)]
        self.assertEqual(drawn[0], drawn[1])
        self.assertNotEqual(drawn[0], drawn[2])

    def test_several_controllers_of_one_robot(self) -> None:
        m = cart().link("arm", vd.Box((0.05, 0.05, 0.2)), mass=0.3)
        m.joint("swing", "car", "arm", "revolute", pose=vd.Pose((0, 0, 0.2)), axis=(0, 1, 0)).motor("swing", limit=1)
        w = vd.World().place(m, fixed=True)
        both = {"hold": Hold(), "wave": Wave("swing")}
        recording = vd.run(vd.Scenario(w, "0.2 s", controllers={"cart": both}))
        self.assertEqual(recording["cart/commands"]["effort.swing"].iloc[-1], 0.25)
        self.assertNotEqual(recording["cart/commands"]["effort.slide"].iloc[-1], 0.0)
        clash = vd.Scenario(w, "0.2 s", controllers={"cart": {"hold": Hold(), "wave": Wave("slide")}})
        with self.assertWarnsRegex(RuntimeWarning, "cart/slide: is commanded by two controllers, 'hold' and 'wave'"):
            vd.run(clash)

    def test_tried_without_a_simulation(self) -> None:
        reading = SimpleNamespace(position=[0.1], velocity=[0.0])
        told = vd.try_controller(Hold(place=0.5, gain=20), [{"encoders": reading}] * 2)
        self.assertEqual(told, [{"slide": {"effort": 8.0}}] * 2)
        self.assertEqual(
            vd.try_controller(Driven(), {"encoders": reading}, forward="30 cm/s")[0]["slide"]["effort"], 0.3
        )
        for words, act in (
            ("reads 'encoders', and no reading of it was given", lambda: vd.try_controller(Hold(), {})),
            ("no input 'forwrd'.*'forward'", lambda: vd.try_controller(Driven(), {}, forwrd=1)),
            ("'3 kg' is not a speed", lambda: vd.try_controller(Driven(), {}, forward="3 kg")),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


class Driven(Hold):
    """Is told a speed, and says what it knows."""

    inputs: ClassVar[dict[str, str]] = {"forward": "speed"}

    def start(self, body: Any, random: Any, log: Any) -> None:
        self.log, self.drawn = log, float(random.standard_normal())
        if body.model.links:
            log("mass", body.model.links["car"].mass_properties.mass)

    def update(self, now: float, senses: Any, motors: Any) -> None:
        self.log("asked", self.inputs.forward)
        self.log("drawn", self.drawn)
        motors["slide"].effort = self.inputs.forward


class Wave:
    """Gives a motor one effort."""

    period = 0.05

    def __init__(self, joint: str) -> None:
        self.joint = joint

    def update(self, now: float, senses: Any, motors: Any) -> None:
        motors[self.joint].effort = 0.25


class Named(unittest.TestCase):
    def test_made_from_module_or_file(self) -> None:
        made = fresh(NamedController("veldrain.control:CentreLine", {"gain": 3}), "here")
        self.assertEqual((type(made), made.gain), (vd.CentreLine, 3.0))  # type: ignore[attr-defined]
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "own.py").write_text("class Own:\n    period = 0.1\n    def update(self, *_): pass\n")
            self.assertEqual(type(fresh(NamedController("own.py:Own", folder=folder), "here")).__name__, "Own")
            (Path(folder) / "broken.py").write_text("1 / 0\n")
            for words, use, arguments in (
                ("write 'module:Name'", "own.py", {}),
                ("has no 'Onw'", "own.py:Onw", {}),
                ("no file", "not.py:X", {}),
                ("ZeroDivisionError", "broken.py:X", {}),
                ("ModuleNotFoundError", "no_such_module:X", {}),
                ("no argument 'gian'; did you mean 'gain'", "veldrain.control:CentreLine", {"gian": 1}),
                ("'3 kg' is not a speed", "veldrain.control:CentreLine", {"speed": "3 kg"}),
            ):
                with self.subTest(use=use), self.assertRaisesRegex(vd.VeldrainError, f"^s.yaml:7: .*{words}"):
                    NamedController(use, arguments, folder, "s.yaml:7").make()

    def test_an_instance_is_copied(self) -> None:
        one = Hold()
        self.assertIsNot(fresh(one, "here"), one)


if __name__ == "__main__":
    unittest.main()
