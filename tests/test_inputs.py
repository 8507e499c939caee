"""What people write and mean otherwise: quantities, poses, names, files without end, and conditions that lose a half."""

from __future__ import annotations

import copy
import math
import os
import pickle
import tempfile
import time
import unittest
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest import mock

import numpy as np
import pandas as pd

import veldrain as vd
from tests.helpers import Hold, cart, cart_scenario, command
from tests.physics.cases.trust import leg
from veldrain.documents.source import kind_of_file
from veldrain.physics.threads import threads
from veldrain.simulation import engine_of
from veldrain.units import in_unit, quantity


class Quantities(unittest.TestCase):
    def test_refused(self) -> None:
        begun = time.monotonic()
        for value, kind, pattern in (
            ("8,5 kg", "mass", "has a comma; write a point"),
            ("0,5 m", "length", "comma"),
            ("1.000,5 m", "length", "comma"),
            ("m", "length", "has no number"),
            ("", "length", "has no number"),
            ("9**9**9 m", "length", "cannot read"),
            ("9**9**9**9 m", "length", "cannot read"),
            ("(1e5)**100000 m", "length", "cannot read"),
            ("1 m**99999", "length", "cannot read"),
            ("1e300 m", "length", "too large"),
            (1e300, "length", "too large"),
            ("0x10 m", "length", "cannot read"),
            ("1_000 m", "length", "cannot read"),
            ("3 m + 2 m", "length", "cannot read"),
            ("__import__('os') m", "length", "has no number"),
            ("1" * 5000 + " m", "length", "cannot read"),
            ("nan m", "length", "has no number"),
            ("3 m 2 cm", "length", "is not a length|cannot read"),
            (True, "mass", "not a quantity"),
        ):
            with self.subTest(value=str(value)[:30]), self.assertRaisesRegex(vd.VeldrainError, pattern):
                quantity(value, kind)
        self.assertLess(time.monotonic() - begun, 5.0)

    def test_taken(self) -> None:
        for value, kind, expected in (
            (" 3 m ", "length", 3),
            ("3m", "length", 3),
            ("-2.5e-1 mm", "length", -2.5e-4),
            ("9.81 m/s^2", "acceleration", 9.81),
            ("4 N·s/m", "linear damping", 4),
            ("5 kg/m³", "density", 5),
            ("90°", "angle", math.pi / 2),
            ("50 %", "ratio", 0.5),
            ("inf m", "length", math.inf),
            ("20 degC", "temperature", 293.15),
            ("0.5", "ratio", 0.5),
        ):
            with self.subTest(value=value):
                self.assertAlmostEqual(quantity(value, kind), expected, places=9)
        self.assertEqual(in_unit("25 mm", "cm"), 2.5)
        with self.assertRaisesRegex(vd.VeldrainError, "is not in s; give it in s"):
            in_unit("1 cm", "s")

    def test_degrees_that_lack_their_unit(self) -> None:
        for make in (lambda: vd.Pose(rpy=(0, 0, 90)), lambda: vd.Pose(yaw=180)):
            with self.assertRaisesRegex(vd.VeldrainError, "write '(90|180) deg' for degrees"):
                make()
        self.assertAlmostEqual(vd.Pose(yaw="270 deg").yaw, -math.pi / 2)

    def test_numbers_that_cannot_be(self) -> None:
        world = vd.World().ground()
        for act, pattern in (
            (lambda: vd.Pose((1e300, 0, 0)), "too large"),
            (lambda: vd.Pose(("inf m", 0, 0)), "not finite"),
            (lambda: vd.Pose((1e12, 0, 0)), "below 1e9 m"),
            (lambda: vd.Surface(friction="inf"), "friction is inf"),
            (lambda: vd.Box((1, 1, 1e-300)), "is 1e-300 m"),
            (lambda: vd.Sphere(math.inf), "radius is inf"),
            (lambda: world.body("a", vd.Sphere(1), mass=1e-300), "mass is 1e-300"),
            (lambda: world.body("b", vd.Sphere(1), mass=1, velocity=(math.inf, 0, 0)), "not finite"),
            (lambda: vd.Simulation(world, seed="seven"), "is not a seed"),
            (lambda: vd.Simulation(world, seed=-1), "seed"),
            (lambda: vd.Model("a/"), "is not a name"),
            (lambda: world.obstacle("a\x00b", vd.Sphere(1)), "is not a name"),
        ):
            with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                act()

    def test_threads(self) -> None:
        for said in ("abc", "0", "-1", "1e3"):
            with (
                mock.patch.dict(os.environ, VELDRAIN_THREADS=said),
                self.assertRaisesRegex(vd.VeldrainError, "no number"),
            ):
                threads()


class Files(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def refused(self, text: str, pattern: str) -> None:
        path = self.folder / "x.world.yaml"
        path.write_text(text)
        begun = time.monotonic()
        with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern) as caught:
            vd.load_world(path)
        self.assertNotIn("\n", str(caught.exception))
        self.assertLess(time.monotonic() - begun, 10.0)

    def test_yaml_that_blows_up(self) -> None:
        start = "veldrain: world/1\n"
        laughs = "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n"
        laughs += "".join(f"a{k}: &a{k} [{', '.join([f'*a{k - 1}'] * 10)}]\n" for k in range(1, 9))
        self.refused(start + laughs, "unfolds to more than")
        self.refused(start + "a: &a [*a]\n", "nested more than|unfolds|unknown word")
        self.refused(start + "a: " + "[" * 300 + "]" * 300, "nested")
        self.refused(start + "a: &x 1\nb: [" + "*x, " * 2000 + "1]", "aliases")
        self.refused(start + "a: " + "{b: " * 5000, "nested too deeply|not YAML")

    def test_a_comma_between_braces(self) -> None:
        for mass in ("25,5 kg", "25,5"):
            body = f"crate: {{box: [1, 1, 1], mass: {mass}, pose: {{}}}}"
            self.refused(f"veldrain: world/1\nbodies: {{{body}}}\n", "stands where a word should; a comma ends")

    def test_a_word_that_follows_stands_before(self) -> None:
        """A joint may follow one that comes later; a file may have all in one line, its first word anywhere."""
        path = self.folder / "one.world.yaml"
        links = "links: {a: {mass: 1}, b: {mass: 1}, c: {mass: 1}}"
        joints = "b: {parent: a, child: b, kind: revolute, mimic: [c, 2, 0]}, c: {parent: a, child: c, kind: revolute}"
        path.write_text(f"{{models: {{m: {{{links}, joints: {{{joints}}}}}}}, veldrain: world/1}}")
        self.assertEqual(kind_of_file(path), "world")
        world = vd.load_world(path)
        self.assertEqual(world.placed, {})
        path.write_text(path.read_text().replace("world/1", "scenario/1"))
        self.assertEqual(kind_of_file(path), "scenario")

    def test_devices_and_folders(self) -> None:
        for path in ("/dev/zero", str(self.folder)):
            for load in (vd.load_world, vd.load_scenario, vd.load_robot):
                with self.subTest(path), self.assertRaisesRegex(vd.VeldrainError, "is a folder or a device"):
                    load(path)

    def test_xacro_that_never_ends(self) -> None:
        for code, pattern in (
            ('<a x="${9**9**9}"/>', "a power"),
            ("<a x=\"${'a'*10**10}\"/>", "text or list that is multiplied|a power"),
            ('<a x="${[0]*1000000000}"/>', "multiplied"),
            ('<a x="${1&lt;&lt;9999999999}"/>', "is not for an expression"),
            ('<a x="${sum([i for i in range(10000000000)])}"/>', "a loop"),
            (
                "".join(
                    f'<xacro:property name="p{i}" value="{"a" * 16 if i == 0 else f"${{p{i - 1}}}${{p{i - 1}}}"}"/>'
                    for i in range(34)
                )
                + '<a x="${p33}"/>',
                ".",
            ),
        ):
            path = self.folder / "y.xacro"
            path.write_text(
                f'<robot name="r" xmlns:xacro="http://www.ros.org/wiki/xacro">{code}<link name="a"/></robot>'
            )
            begun = time.monotonic()
            with self.subTest(code=code[:30]), self.assertRaisesRegex(vd.VeldrainError, pattern):
                vd.load_robot(path)
            self.assertLess(time.monotonic() - begun, 10.0)


class Scenarios(unittest.TestCase):
    def test_conditions_that_lose_a_half(self) -> None:
        near = vd.distance("cart/car", "goal")
        for act in (lambda: 0.1 < near < 0.5, lambda: (near < 1) and (near > 0.5), lambda: not (near < 1)):
            with self.assertRaisesRegex(vd.VeldrainError, "join conditions with &, | and ~.*between"):
                act()
        for condition in (near.between("10 cm", 0.5), vd.distance("cart/car", "goal", between=(0.1, 0.5))):
            self.assertEqual(str(condition), str((near > 0.1) & (near < 0.5)))
        with self.assertRaisesRegex(vd.VeldrainError, "lower bound first"):
            near.between(2, 1)

    def test_told_before_the_first_step(self) -> None:
        for change, pattern in (
            (lambda s: s.at(3).finish("late"), "a moment at 3 s, of a scenario of 1.5 s"),
            (lambda s: s.at(0.1).push("cart/car", lasting=0), "lasting is 0"),
            (lambda s: s.at(0.1).push("cart/car", lasting=-1), "lasting is -1"),
            (lambda s: vd.run(s.at(0.1).push("cart/car", lasting="0.5 ms")), "whole number of steps"),
            (lambda s: vd.run(s.at(0.1).push("post")), "cannot be pushed: it is fixed"),
            (lambda s: vd.run(s.at(0.1).push("cart/rail")), "cannot be pushed: it is fixed"),
            (
                lambda s: s.expect("x", eventually=vd.touching("cart", "post"), within="9 s"),
                "within 9 s, of a scenario of 1.5 s",
            ),
            (lambda s: vd.run(s.expect("y", never=vd.touching("post", "ground"))), "can never be seen"),
            (lambda s: vd.run(s, limit="0 s"), "a limit of 0 s"),
            (lambda s: vd.run(s, seed="x"), "not a seed"),
        ):
            with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                change(cart_scenario())

    def test_led_things_touch(self) -> None:
        """Two that are led through each other, and through a wall: seen, though nothing gives way."""
        w = vd.World().ground().obstacle("wall", vd.Box((0.2, 5, 3)), pose=vd.Pose((15, 0, 1.5)))
        for name, ends in (("a", (0, 20)), ("b", (20, 0))):
            car = vd.Model(name).link("body", vd.Box((4, 2, 1)), mass=1000)
            w.place(car, path=[(2 * k, vd.Pose((x, 0, 1))) for k, x in enumerate(ends)])
        scenario = vd.Scenario(w, "2 s")
        scenario.expect("no crash", never=vd.touching("a", "b")).expect("no wall", never=vd.touching("a", "wall"))
        verdicts = vd.run(scenario).outcome["expectations"]
        self.assertEqual([v["passed"] for v in verdicts.values()], [False, False])
        self.assertTrue(0.7 < verdicts["no crash"]["time"] < 0.95)  # 16 m apart, met in the middle of 2 s

    def test_updates_that_do_nothing(self) -> None:
        class Generator(Hold):
            def update(self, now: float, senses: Any, motors: Any) -> Any:  # type: ignore[override]
                yield now

        class Coroutine(Hold):
            async def update(self, now: float, senses: Any, motors: Any) -> None:  # type: ignore[override]
                pass

        for controller in (Generator(), Coroutine()):
            with self.assertRaisesRegex(vd.VeldrainError, "generator or coroutine"):
                vd.run(cart_scenario(controller))

    def test_at_the_command_line(self) -> None:
        """A hanging controller is aborted, and what was not judged is not called met."""
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "hang.py").write_text("class H:\n  period=0.1\n  def update(self, *_):\n    while True: pass\n")
            (folder / "w.world.yaml").write_text(
                "veldrain: world/1\nground: {height: -1}\nmodels: {cart: tests.helpers:cart}\n"
                "place: {cart: {model: cart, fixed: true}}\nobstacles: {post: {box: [1, 1, 1], pose: {xyz: [9, 0, 0]}}}\n"
            )
            (folder / "s.yaml").write_text(
                "veldrain: scenario/1\nworld: w.world.yaml\nduration: 1 s\ncontrollers: {cart: {use: 'hang.py:H'}}\n"
                "record_contacts: 20 ms\nexpect:\n  - {name: off, never: {distance: [cart, post], between: [0, 1]}}\n"
            )
            done = command(
                "run",
                folder / "s.yaml",
                "--limit",
                "1s",
                "--out",
                folder / "r.mcap",
                "--trust",
                PYTHONPATH=str(Path.cwd()),
            )
            self.assertEqual(done.returncode, 1, done.stderr)
            self.assertRegex(done.stdout, "aborted at 0 s: the limit of 1 s is over at 0 s\n +not judged off")


class Simulations(unittest.TestCase):
    def test_positions_outside_of_limits(self) -> None:
        m = vd.Model("cart").link("rail", mass=1).link("trolley", vd.Box((0.1, 0.1, 0.1)), mass=4)
        m.joint("x", "rail", "trolley", "prismatic", axis=(1, 0, 0), limits=(-1.8, 1.8))
        robot = vd.Simulation(vd.World().place(m, fixed=True))["cart"]
        with self.assertRaisesRegex(vd.VeldrainError, "cart/x: position 5 is outside of its limits, -1.8 to 1.8"):
            robot.positions = [5.0]

    def test_motors_that_were_told_nothing_hold_where_they_are(self) -> None:
        m = vd.Model("arm").link("base").link("up", vd.Capsule(0.03, 0.4), mass=1)
        m.joint("lift", "base", "up", "revolute", axis=(0, 1, 0), limits=(-2, 2))
        m.motor("lift", "position", stiffness=5000, damping=50)
        sim = vd.Simulation(vd.World().place(m, fixed=True, joints={"lift": "60 deg"}))
        arm = sim["arm"]
        sim.advance("1 s")
        self.assertAlmostEqual(arm.positions[0], math.radians(60), delta=1e-3)
        arm.positions = [-0.5]
        sim.advance("1 s")
        self.assertAlmostEqual(arm.positions[0], -0.5, delta=1e-3)
        for _ in range(3):
            arm.command("lift", position=80)  # degrees were meant
        self.assertEqual(len(sim.notices), 1)
        self.assertIn(
            "arm/lift: commanded to 80 rad, beyond its limits of -2 to 2 rad; are these degrees?", sim.notices[0]
        )

    def test_any_number_of_pushes(self) -> None:
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).body("b", vd.Sphere(0.1), mass=2))
        for _ in range(50):
            sim.push("b", (1, 0, 0), lasting="100 ms")
        before = sim.snapshot()
        sim.advance("0.2 s")
        self.assertAlmostEqual(sim["b"].velocity()[0][0], 50 * 0.1 / 2)
        other = vd.Simulation(vd.World(gravity=(0, 0, 0)).body("b", vd.Sphere(0.1), mass=2))
        other.restore(before)
        other.advance("0.2 s")
        self.assertEqual(other["b"].velocity()[0].tolist(), sim["b"].velocity()[0].tolist())

    def test_what_cannot_be_done(self) -> None:
        sim = vd.Simulation(cart_scenario().world)
        other = vd.Simulation(vd.World().body("b", vd.Sphere(0.1), mass=2))
        sim.advance("0.1 s")
        for act, pattern in (
            (lambda: other.restore(sim.snapshot()), r"a snapshot of another world \(.*\); restore it"),
            (lambda: sim.restore({}), "dict is not a snapshot"),
            (lambda: copy.deepcopy(sim), "cannot be copied"),
            (lambda: pickle.dumps(sim), "cannot be copied"),
            (lambda: sim.advance_to(3), "step 3 is over"),
            (lambda: vd.Pose().apply(np.zeros((2, 4))), "points of shape"),
        ):
            with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                act()
        points = pd.DataFrame({"x": [1.0, 2.0], "y": [0.0, 0.0], "z": [0.0, 1.0]})
        np.testing.assert_allclose(vd.Pose((1, 0, 0)).apply(points), [[2, 0, 0], [3, 0, 1]])

    def test_a_run_that_fails_names_the_pair_that_overlaps(self) -> None:
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(leg().motor("pitch", "effort")))
        sim.advance("1 ms")
        sim["dog"].command("pitch", effort=1e308)
        with self.assertRaisesRegex(vd.VeldrainError, "no longer finite.*dog/t[a-z]+ and dog/t[a-z]+ are .* mm inside"):
            sim.advance("1 s")

    def test_energy_out_of_nothing_is_told_once(self) -> None:
        """A velocity that comes from nowhere, in the middle of a trial."""
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).body("a", vd.Sphere(0.1), mass=100))
        speeds = engine_of(sim).plant.speeds
        sim.advance("10 ms")
        self.assertEqual(sim.notices, [])
        sim.push("a", (1e6, 0, 0), lasting="10 ms")  # a push gives what it gives
        sim.advance("20 ms")
        self.assertEqual(sim.notices, [])
        self.assertGreater(np.abs(speeds[0]).max(), 50)

    def test_exact_says_what_it_cannot_reach(self) -> None:
        class Own(vd.Sensor):
            """A sensor that does not say what its errors are."""

            message = "std_msgs/msg/Float64"

            def start(self, mount: Any, random: Any) -> Any:
                return SimpleNamespace(measure=lambda mount: random.random())

        world = vd.World().place(cart().mount("own", Own(), on="car"), fixed=True)
        sim = vd.Simulation(world, exact=True)
        self.assertEqual(len(sim.notices), 1)
        self.assertIn("cart/own: Own does not say what its errors are", sim.notices[0])

    def test_a_sensor_that_keeps_its_mount_is_named(self) -> None:
        class Keeps(vd.Sensor):
            """A sensor that keeps what it is given."""

            message = "std_msgs/msg/Float64"

            def start(self, mount: Any, random: Any) -> Any:
                return SimpleNamespace(measure=lambda mount: 0.0, mount=mount)

        sim = vd.Simulation(vd.World().place(cart().mount("own", Keeps(), on="car"), fixed=True))
        with self.assertRaisesRegex(
            vd.VeldrainError, "cart/own: its sensor keeps what cannot be copied .*; let it keep"
        ):
            sim.snapshot()


if __name__ == "__main__":
    unittest.main()
