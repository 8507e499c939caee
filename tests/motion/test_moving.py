"""Motors that follow, planning, scripts, recordings that are played, walking and flying."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd
from tests.helpers import DEMO
from tests.motion.arms import sampling_arm, two_bars
from tests.motion.test_drives import template
from veldrain.demo.walkers import bank_walker, four_legged
from veldrain.motion.gaits import Gait
from veldrain.motion.rotors import RotorMixer

G = 9.81


def wheel(mode: str = "position", inertia: float = 0.5, **motor: Any) -> vd.Model:
    m = vd.Model("wheel").link("base", mass=1).link("disc", mass=1, inertia=inertia * np.eye(3))
    m.joint("turn", "base", "disc", "continuous")
    return m.motor("turn", mode, **motor)  # type: ignore[arg-type]


def alone(model: vd.Model, **world: Any) -> Any:
    return vd.Simulation(vd.World(gravity=(0, 0, 0), **world).place(model, "it", fixed=True))


class Motors(unittest.TestCase):
    def test_position_velocity_and_effort_together(self) -> None:
        """Without the velocity a position motor lags by D·v/K, with it by nothing; an effort carries a known load."""
        for fed, lag in ((False, 20 * 0.5 / 200), (True, 0.0)):
            sim = alone(wheel(stiffness=200, damping=20))
            for _ in range(3000):
                more = {"velocity": 0.5} if fed else {}
                sim["it"].command("turn", position=0.5 * (sim.time + 1e-3), **more)
                sim.advance(1e-3)
            with self.subTest(fed=fed):
                self.assertAlmostEqual(0.5 * sim.time - sim["it"].positions[0], lag, delta=1e-6)
        m = two_bars().motor("q1", "position", stiffness=50, damping=5).motor("q2", "position", stiffness=50, damping=5)
        chain = vd.Chain(m, "tip")
        for fed in (False, True):
            sim = vd.Simulation(vd.World().place(m, "it", fixed=True))
            q = np.array((0.3, 0.4))
            for joint, angle, load in zip(chain.joints, q, chain.gravity(q), strict=True):
                sim["it"].command(joint, position=angle, effort=load if fed else 0.0)
            sim.advance("6 s")
            sag = np.abs(sim["it"].positions - q).max()
            self.assertLess(sag, 1e-4) if fed else self.assertGreater(sag, 0.05)

    def test_speed_limit_is_held(self) -> None:
        for mode, command, gains in (
            ("position", {"position": 9.0}, {"stiffness": 300, "damping": 5}),
            ("velocity", {"velocity": 9.0}, {"damping": 30}),
            ("effort", {"effort": 40.0}, {}),
        ):
            sim = alone(wheel(mode, limit=40, speed=1.5, **gains))
            sim["it"].command("turn", **command)
            seen = []
            for _ in range(900):
                sim.advance(1e-3)
                seen.append(sim["it"].velocities[0])
            with self.subTest(mode):
                self.assertLess(max(seen), 1.5 * 1.002)
                self.assertGreater(max(seen), 1.5 * 0.998)
                self.assertEqual(bool(sim.notices), mode == "velocity")

    def test_a_dc_motor(self) -> None:
        """τ = τ₀·(1 − ω/ω₀): ω = ω₀·(1 − e^(−t·τ₀/(ω₀·J))); a load τ turns it at ω₀·(1 − τ/τ₀)."""
        sim = alone(wheel("effort", inertia=0.5, stall=10, free_speed=5))
        sim["it"].command("turn", effort=100)
        for t in (0.1, 0.25, 0.6):
            sim.advance(round(t - sim.time, 6))
            self.assertAlmostEqual(sim["it"].velocities[0], 5 * (1 - math.exp(-t * 10 / (5 * 0.5))), delta=0.01)
        for _ in range(4000):
            sim["it"].push((0, 0, 0), (0, 0, -4), "disc")
            sim.advance(1e-3)
        self.assertAlmostEqual(sim["it"].velocities[0], 5 * (1 - 0.4), delta=1e-3)

    def test_gear_play_and_lag(self) -> None:
        sim = alone(wheel(stiffness=400, damping=8, play=0.04))
        sim["it"].command("turn", position=0.5)
        sim.advance("3 s")
        self.assertGreater(sim["it"].positions[0], 0.45)
        self.assertLessEqual(abs(0.5 - sim["it"].positions[0]), 0.02 + 1e-3)
        sim["it"].positions = [0.485]
        sim["it"].velocities = [0.0]
        sim.advance("1 s")
        self.assertAlmostEqual(sim["it"].positions[0], 0.485, delta=1e-9)  # within its play nothing holds it
        sim = alone(wheel("velocity", inertia=1e-6, damping=50, lag=0.2))
        sim["it"].command("turn", velocity=3.0)
        for t in (0.1, 0.2, 0.5):
            sim.advance(round(t - sim.time, 6))
            self.assertAlmostEqual(sim["it"].velocities[0], 3 * (1 - math.exp(-t / 0.2)), delta=0.002)

    def test_a_load_on_a_velocity_motor(self) -> None:
        """Under 98.1 N it sinks by F/damping a second; an integral part gives way by F/integral once, and loses half of
        its play; a brake holds up to its force, while nothing is commanded and while the motor is dead.
        """
        force, mass = 98.1, 10.0

        def cage(**motor: float) -> vd.Simulation:
            m = vd.Model("it").link("base", mass=50).link("cage", vd.Box((0.1, 0.1, 0.1)), mass=mass)
            m.joint("mast", "base", "cage", "prismatic", axis=(0, 0, 1), limits=(-2, 2))
            m.motor("mast", "velocity", damping=2000, limit=500, **motor)
            return vd.Simulation(vd.World(gravity=(0, 0, -force / mass)).place(m, fixed=True))

        settled = mass / 2000
        for motor, fallen, risen in (
            ({}, force / 2000 * (5 - settled), 0.5 - force / 2000 * 5),
            ({"integral": 4000}, force / 4000, 0.5),
            ({"integral": 4000, "play": 0.002}, force / 4000 + 0.001, 0.5),
            ({"brake": 120}, 0.0, 0.5 - force / 2000 * (5 - settled) - 0.1 * settled),
            ({"brake": 50}, (force - 50) / 2000 * (5 - settled), 0.5 - force / 2000 * 5),
        ):
            with self.subTest(**motor):
                sim = cage(**motor)
                sim.advance(5)
                self.assertAlmostEqual(sim["it"].positions[0], -fallen, delta=2e-4)
                sim["it"].command("mast", velocity=0.1)
                sim.advance(5)
                self.assertAlmostEqual(sim["it"].positions[0] + fallen, risen, delta=1e-3)
                if "brake" not in motor:
                    with self.assertRaisesRegex(vd.VeldrainError, "it/mast: no brake there"):
                        sim["it"].brake("mast")
                    continue
                sim["it"].brake()
                sim.advance(0.5)
                before = sim["it"].positions[0]
                sim.advance(1)
                sinks = max(0.0, force - motor["brake"]) / 2000
                self.assertAlmostEqual(before - sim["it"].positions[0], sinks, delta=1e-6)

    def test_play_of_a_driven_wheel_and_lag_of_a_held_one(self) -> None:
        """It crosses its play at the speed that it is told before it pushes; a step of position comes as 1 − e^(−t/T)."""
        sim = alone(wheel("velocity", inertia=1.0, damping=1000, play=0.1))
        sim["it"].command("turn", velocity=1.0)
        sim.advance(0.045)
        self.assertEqual(sim["it"].velocities[0], 0.0)
        sim.advance(0.3)
        self.assertAlmostEqual(sim["it"].velocities[0], 1.0, delta=1e-3)
        sim = alone(wheel("position", inertia=1e-6, stiffness=4000, damping=4, lag=0.2))
        sim["it"].command("turn", position=0.5)
        for t in (0.1, 0.2, 0.5):
            sim.advance(round(t - sim.time, 6))
            self.assertAlmostEqual(sim["it"].positions[0], 0.5 * (1 - math.exp(-t / 0.2)), delta=0.005)

    def test_what_no_motor_can_be(self) -> None:
        for words, motor in (
            ("speed limit of 0", {"mode": "effort", "speed": 0}),
            ("stall effort and a free speed", {"mode": "effort", "stall": 3}),
            ("play of a motor in effort mode", {"mode": "effort", "play": 0.1}),
            ("lag of a motor in effort mode", {"mode": "effort", "lag": 0.1}),
            ("integral part of a motor in position mode", {"mode": "position", "stiffness": 1, "integral": 0.1}),
            ("play", {"mode": "position", "stiffness": 1, "play": -0.1}),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                wheel(**motor)
        with self.assertRaisesRegex(vd.VeldrainError, "was told no position yet"):
            alone(wheel(stiffness=9))["it"].command("turn", velocity=1)

    def test_several_commanded_at_once(self) -> None:
        """The same numbers as one after the other, and what is wrong is said of the joint that it is wrong with."""
        m = two_bars().motor("q1", "position", stiffness=50, damping=5).motor("q2", "position", stiffness=50, damping=5)
        sims = [vd.Simulation(vd.World().place(m, "it", fixed=True)) for _ in "ab"]
        q, v, e = np.array((0.3, -0.4)), np.array((0.1, 0.2)), np.array((2.0, -1.0))
        sims[0]["it"].command_all(["q2", "q1"], position=q, velocity=v, effort=e)
        for k, joint in enumerate(("q2", "q1")):
            sims[1]["it"].command(joint, position=q[k], velocity=v[k], effort=e[k])
        for sim in sims:
            sim.advance("0.5 s")
        self.assertEqual(sims[0]["it"].commands(), sims[1]["it"].commands())
        self.assertEqual(sims[0]["it"].positions.tolist(), sims[1]["it"].positions.tolist())
        sims[0]["it"].command_all([], position=[])
        mixed = two_bars().motor("q1", "position", stiffness=50).motor("q2", "velocity", damping=5, speed=2)
        sim = vd.Simulation(vd.World().place(mixed, "it", fixed=True))
        for joints, rows, wrong in (
            (("q1",), {"velocity": (1.0,)}, "it/q1: .*was told no position yet"),
            (("q1", "q3"), {"position": (0, 0)}, "no movable joint 'q3'"),
            (("q1", "q2"), {"position": (0, 0)}, "it/q2: a command of position to a motor in velocity mode"),
            (("q1",), {"position": (math.nan,)}, "it/q1: the commanded position is not a number"),
            (("q1", "q2"), {"position": (0.0,)}, r"position of shape \(1,\) for 2 joints"),
        ):
            with self.subTest(wrong), self.assertRaisesRegex(vd.VeldrainError, wrong):
                sim["it"].command_all(joints, **rows)
        self.assertEqual(sim.notices, [])
        sim["it"].command_all(["q2"], velocity=[3.0])
        self.assertRegex(sim.notices[0], "it/q2: commanded to 3 rad/s; its motor holds its speed limit of 2")

        class Both:
            period = 0.01

            def update(self, now: float, senses: Any, motors: Any) -> None:
                motors.command(("q1", "q2"), position=(0.1, 0.2))

        self.assertEqual(vd.try_controller(Both(), {}), [{"q1": {"position": 0.1}, "q2": {"position": 0.2}}])
        two = {"one": Both(), "other": Both()}
        outcome = vd.run(vd.Scenario(vd.World().place(m, "it", fixed=True), 0.1, controllers={"it": two}), warn=False)
        self.assertIn("it/q1: is commanded by two controllers", outcome.outcome["reason"])

    def test_saved_and_loaded(self) -> None:
        m = wheel(stiffness=200, damping=9, speed=3, stall=10, free_speed=9, play=0.01)
        flyer = template("flyer")
        with tempfile.TemporaryDirectory() as folder:
            vd.save_robot(m, Path(folder) / "w.urdf")
            self.assertEqual(vd.load_robot(Path(folder) / "w.urdf").motors, m.motors)
            vd.save_world(flyer, Path(folder) / "f.world.yaml")
            again = vd.load_world(Path(folder) / "f.world.yaml").placed["flyer"].model
            vd.save_robot(flyer.placed["flyer"].model, Path(folder) / "f.urdf")
            urdf = vd.load_robot(Path(folder) / "f.urdf")
        for other in (again, urdf):
            own = flyer.placed["flyer"].model
            self.assertEqual((other.rotors, other.drags, other.motors), (own.rotors, own.drags, own.motors))


class Air(unittest.TestCase):
    def test_terminal_velocity_and_wind(self) -> None:
        ball = vd.Model("ball").link("ball", vd.Sphere(0.1), mass=1).drag("ball", (0.1, 0.1, 0.1))
        world = vd.World().place(ball, pose=vd.Pose((0, 0, 900))).weather(vd.Air(wind=(3, -2, 0)))
        sim = vd.Simulation(world)
        sim.advance("20 s")
        rho = 101325 / (287.05 * 288.15)
        np.testing.assert_allclose(sim["ball"].velocity()[0], (3, -2, -math.sqrt(2 * G / (rho * 0.1))), rtol=2e-3)

    def test_gusts_have_the_strength_and_the_seed_they_are_given(self) -> None:
        feather = vd.Model("f").link("f", vd.Sphere(0.1), mass=1e-3).drag("f", (5, 5, 5))
        world = vd.World(gravity=(0, 0, 0)).place(feather).weather(vd.Air(wind=(8, 0, 0), gusts=1.5, gust_length=20))

        def blown(seed: int) -> np.ndarray:
            sim, found = vd.Simulation(world, 1e-2, seed=seed), []
            for _ in range(6000):
                sim.advance(1e-2)
                found.append(sim["f"].velocity()[0])
            return np.array(found)

        one, other = blown(1), blown(2)
        np.testing.assert_array_equal(one[:50], blown(1)[:50])
        self.assertGreater(np.abs(one - other).max(), 0.5)
        np.testing.assert_allclose(one.mean(axis=0), (8, 0, 0), atol=0.9)
        np.testing.assert_allclose(one[500:].std(axis=0), 1.5, rtol=0.3)

    def test_rotors(self) -> None:
        """k·ω² lifts; a torque from a difference of speeds turns the hull: J·α = Σ c·ω²."""
        model = template("flyer").placed["flyer"].model
        for joint in model.rotors:
            model.change_motor(joint, lag=0)
        mixer = RotorMixer(model)
        self.assertAlmostEqual(mixer.hover, math.sqrt(mixer.mass * G / (4 * 1.6e-5)))
        for load in ((16.0, 0.2, -0.1, 0.02), (20.0, 0, 0, 0)):
            np.testing.assert_allclose(mixer.does(mixer.speeds(load[0], np.array(load[1:]))), load, atol=1e-9)
        speeds = mixer.speeds(mixer.mass * G, np.array((0, 0, 0.03)))
        sim = vd.Simulation(vd.World().place(model, "it", pose=vd.Pose((0, 0, 5)), joints={}))
        robot = sim["it"]
        rates = dict(zip(mixer.joints, speeds, strict=True))
        robot.velocities = [rates[j] for j in robot.joints]
        for joint, speed in rates.items():
            robot.command(joint, velocity=speed, effort=2.4e-7 * speed * abs(speed))
        sim.advance("0.3 s")
        linear, spin = robot.velocity()
        self.assertLess(abs(linear[2]), 0.05)
        self.assertAlmostEqual(spin[2], 0.3 * 0.03 / mixer.inertia[2, 2], delta=0.05 * 0.3 * 0.03 / mixer.inertia[2, 2])

    def test_bad_rotors(self) -> None:
        m = wheel("velocity", damping=1)
        cases: list[tuple[Any, str]] = [
            (lambda: m.rotor("tun", 1, 1), "tun.*turn"),
            (lambda: m.copy().rotor("turn", 1e-5, -1), "torque"),
            (lambda: m.copy().rotor("turn", 1e-5, 1e-7).rotor("turn", 1e-5, 1e-7), "second rotor"),
            (lambda: RotorMixer(m.copy().rotor("turn", 1e-5, 1e-7)), "four or more"),
            (lambda: m.copy().drag("disc", (1, 1, -1)), "area"),
            (lambda: sampling_arm().rotor("elbow", 1e-5, 1e-7), "continuous"),
        ]
        for act, words in cases:
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


class Planning(unittest.TestCase):
    A, B = np.array([0.9, 0.9, 0.9, 0, 0.8, 0]), np.array([-0.9, 0.9, 0.9, 0, 0.8, 0])

    def world(self) -> vd.World:
        w = vd.World().ground().obstacle("wall", vd.Box((0.6, 0.05, 0.5)), pose=vd.Pose((0.5, 0, 0.25)))
        return w.place(sampling_arm(), "arm", fixed=True)

    def test_over_a_wall(self) -> None:
        world = self.world()
        for seed in range(3):
            points = vd.plan(world, "arm", start=self.A, goal=self.B, margin="1 cm", seed=seed)
            np.testing.assert_array_equal(points[[0, -1]], (self.A, self.B))
            np.testing.assert_array_equal(points, vd.plan(world, "arm", start=self.A, goal=self.B, seed=seed))
            # Looked at anew, through the public interface: nothing is nearer than the margin.
            sim = vd.Simulation(world)
            for a, b in zip(points[:-1], points[1:], strict=True):
                for share in np.linspace(0, 1, 40):
                    sim["arm"].positions = a + share * (b - a)
                    self.assertEqual(len(sim.contacts()), 0)

    def test_with_a_bar_in_the_hand(self) -> None:
        """A bar that hangs 0.45 m below the tool meets the wall where the bare arm passes over it: it is taken around."""
        world = self.world()
        sim = vd.Simulation(world)
        sim["arm"].positions = self.A
        tool = sim["arm"].pose("tool")
        world.body("bar", vd.Box((0.5, 0.02, 0.02)), mass=0.2, pose=tool @ vd.Pose((0.2, 0, 0.02)))
        sim = vd.Simulation(world)
        sim["arm"].positions = self.A
        links = ["flange", "wrist"]
        bare = vd.plan(self.world(), "arm", start=self.A, goal=self.B, seed=1, margin="2 mm")
        held = vd.plan(sim, "arm", goal=self.B, seed=1, margin="2 mm", carrying="bar", grasped_by=links)

        def least(points: np.ndarray) -> float:
            """Least gap between the bar, as it lay in the grip, and the wall along a path."""
            gap, found = vd.clearance("bar", "wall").bind(sim), []
            for a, b in zip(points[:-1], points[1:], strict=True):
                for share in np.linspace(0, 1, 60):
                    sim["arm"].positions = a + share * (b - a)
                    sim["bar"].move_to(sim["arm"].pose("tool") @ vd.Pose((0.2, 0, 0.02)))
                    found.append(gap())
            return min(found)

        self.assertLess(least(bare), 0.0)
        self.assertGreater(least(held), 0.002 - 1e-6)
        for words, said in (
            ({"carrying": "bra", "grasped_by": links}, "no body 'bra'.*'bar'"),
            ({"carrying": "bar"}, "which links hold it"),
            ({"carrying": "bar", "grasped_by": ["hnd"]}, "no link 'hnd'"),
        ):
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                vd.plan(sim, "arm", goal=self.B, **words)

    def test_says_what_is_in_the_way(self) -> None:
        world = self.world()
        into = np.array([0.0, 0.9, 0.9, 0, 0.8, 0])
        cases: list[tuple[Any, str]] = [
            (
                lambda: vd.plan(world, "arm", start=self.A, goal=into),
                "the goal is in the way of something: arm/.* and wall",
            ),
            (lambda: vd.plan(world, "arm", start=into, goal=self.A), "the start is in the way"),
            (lambda: vd.plan(world, "arm", start=self.A, goal=self.B, budget=2), "no path within 2 samples"),
            (lambda: vd.plan(world, "arm", goal=[9] * 6), "515.7° is outside"),
            (lambda: vd.plan(world, "arm", goal=[0]), "one for each of: turn"),
            (lambda: vd.plan(world, "amr", goal=[0]), "amr.*arm"),
            (lambda: vd.plan(world, "arm", goal=self.A, joints=["trun"]), "trun.*turn"),
        ]
        for act, words in cases:
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()
        self.assertTrue(issubclass(vd.NoPath, vd.VeldrainError))

    def test_pairs_that_touch(self) -> None:
        found = vd.collision_pairs(sampling_arm(), 200).set_index(["a", "b"])
        self.assertTrue(found.loc[("base", "shoulder"), "adjacent"])
        self.assertEqual(found.loc[("shoulder", "flange"), "touch"], "never")
        m = vd.Model("m").link("a", vd.Box((1, 1, 1)), mass=1).link("b", mass=1).link("c", vd.Sphere(0.3), mass=1)
        m.joint("j", "a", "b", "continuous").joint("k", "b", "c", "continuous", vd.Pose((0.1, 0, 0)))
        row = vd.collision_pairs(m, 50).iloc[0]
        self.assertEqual((row["touch"], row["share"], row["no_contact"]), ("always", 1.0, "[a, c]"))

    def test_a_route_over_the_ground(self) -> None:
        w = vd.World().ground().obstacle("crate", vd.Box((1, 1, 1)), pose=vd.Pose((2, 0, 0.5)))
        route = vd.plan_route(w, (0, 0), (4, 0), radius=0.4)
        length = np.linalg.norm(np.diff(route, axis=0), axis=1).sum()
        # tight around two corners at 0.4 m: two tangents and what lies between
        self.assertLess(length, 2 * math.hypot(1.5, 0.5) + 1 + 2 * 0.4)
        for p in np.concatenate([np.linspace(a, b, 50) for a, b in zip(route[:-1], route[1:], strict=True)]):
            away = np.maximum(np.abs(p - (2, 0)) - 0.5, 0)
            self.assertGreater(np.hypot(*away), 0.39)
        curved = vd.plan_route(w, (0, 0), (4, 0), radius=0.4, turning_radius=0.5)
        a, b, c = curved[:-2], curved[1:-1], curved[2:]
        cross = np.abs((b - a)[:, 0] * (c - b)[:, 1] - (b - a)[:, 1] * (c - b)[:, 0])
        curvature = (
            2 * cross / (np.linalg.norm(b - a, axis=1) * np.linalg.norm(c - b, axis=1) * np.linalg.norm(c - a, axis=1))
        )
        self.assertLess(curvature.max(), 1 / 0.5 * 1.01)
        closed = vd.World().ground()
        for k, (x, y) in enumerate(((1, 0), (-1, 0), (0, 1), (0, -1))):
            closed.obstacle(
                f"side{k}", vd.Box((0.2 if x else 2.4, 0.2 if y else 2.4, 1)), pose=vd.Pose((1.2 * x, 1.2 * y, 0.5))
            )
        for world, goal, words in ((w, (2, 0), "the goal .* is in crate"), (closed, (3, 0), "nothing leads.*side")):
            with self.subTest(words), self.assertRaisesRegex(vd.NoPath, words):
                vd.plan_route(world, (0, 0), goal, radius=0.2)


class Reach(vd.Script):
    def script(self) -> Any:
        path = vd.Trajectory.through([[0, 0], [0.6, -0.4]], speed=1, acceleration=3, joints=["q1", "q2"])
        yield self.wait("0.2 s")
        yield self.follow(path)
        self.log("reached", self.now)
        yield self.until(lambda: self.senses["angles"].position[0] > 0.55, within="1 s")
        self.motors["q2"].position = 0.0
        pose = self.senses.between("tip", "base")  # type: ignore[attr-defined]
        self.log("x", pose.position[0])


def servo_bars() -> vd.Model:
    m = two_bars()
    for joint in ("q1", "q2"):
        m.motor(joint, "position", stiffness=900, damping=40)
    return m.mount("angles", vd.Encoders(), on="base")


class Scripts(unittest.TestCase):
    def world(self) -> vd.World:
        return vd.World(gravity=(0, 0, 0)).place(servo_bars(), "arm", fixed=True)

    def test_a_script_and_frames_from_encoders(self) -> None:
        recording = vd.run(vd.Scenario(self.world(), "2 s", controllers={"arm": Reach()}))
        path = vd.Trajectory.through([[0, 0], [0.6, -0.4]], speed=1, acceleration=3)
        self.assertAlmostEqual(recording["arm/reached"]["data"].iloc[0], 0.2 + path.duration, delta=0.011)
        self.assertAlmostEqual(
            recording["arm/x"]["data"].iloc[0], 0.5 * math.cos(0.6) + 0.4 * math.cos(0.2), delta=0.01
        )
        with self.assertRaisesRegex(vd.VeldrainError, "a generator cannot be copied"):
            trial = vd.Trial(vd.Scenario(self.world(), "2 s", controllers={"arm": Reach()}))
            trial.advance("0.5 s")
            trial.snapshot()

    def test_frames_without_encoders_are_told(self) -> None:
        class Ask:
            period = 0.01

            def update(self, now: float, senses: Any, motors: Any) -> None:
                senses.between("tip", "base")

        model = two_bars()
        with self.assertWarnsRegex(RuntimeWarning, "no encoder measures joint 'q1' between 'tip' and 'base'"):
            vd.run(vd.Scenario(vd.World().place(model, "arm", fixed=True), 0.1, controllers={"arm": Ask()}))

    def test_a_trajectory_is_followed_and_played_again(self) -> None:
        path = vd.Trajectory.through([[0, 0], [0.8, -0.5]], speed=2, acceleration=6, jerk=60, joints=["q1", "q2"])
        scenario = vd.Scenario(self.world(), "2 s", controllers={"arm": vd.FollowTrajectory(path, begin="0.2 s")})
        recording = vd.run(scenario)
        angles = recording["arm/angles"]
        wanted = np.array([path.at(t - 0.2)[0] for t in angles["time"]])
        self.assertLess(np.abs(angles[["position.q1", "position.q2"]].to_numpy() - wanted).max(), 0.012)
        play = vd.Play(recording, "arm/commands", begin="0.1 s")
        again = vd.run(vd.Scenario(self.world(), "2 s", controllers={"arm": play}))["arm/angles"]
        late = np.interp(angles["time"] + 0.1, again["time"], again["position.q1"])[:-20]
        self.assertLess(np.abs(late - angles["position.q1"].to_numpy()[:-20]).max(), 0.005)
        with tempfile.TemporaryDirectory() as folder:
            path.to_frame("20 ms").to_csv(Path(folder) / "p.csv")
            self.assertAlmostEqual(
                vd.FollowTrajectory(str(Path(folder) / "p.csv")).path.duration, path.duration, places=6
            )
        for controller, words in (
            (vd.FollowTrajectory(vd.Trajectory.of([0, 1], [[0], [1]], joints=["q3"])), "q3"),
            (vd.Play(recording, "arm/angles", joints_of={"q9": "q1"}), "q9"),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                vd.Trial(vd.Scenario(self.world(), "1 s", controllers={"arm": controller}))


def walker_on(model: vd.Model, seconds: float, told: dict[str, float], **how: Any) -> vd.Scenario:
    """A walker that stands on flat ground and is told something after half a second."""
    feet = [frame for frame in model.frames if frame.endswith("_foot")]
    poses = model.poses(model.postures["stand"])
    low = min((poses[f.link] @ f.pose).position[2] for f in model.frames.values())
    world = vd.World().ground(surface=vd.Surface(friction=0.8))
    world.place(model, "walker", pose=vd.Pose((0, 0, 0.025 - low)), posture="stand")
    contact = {foot: foot.replace("_foot", "_force") for foot in feet}
    walk = vd.Walk(feet, stance="stand", imu="imu", contact=contact, **how)
    scenario = vd.Scenario(world, seconds, controllers={"walker": walk})
    scenario.at("0.5 s").tell("walker", **told)
    return scenario


class Walking(unittest.TestCase):
    def walk(self, *words: Any, **how: Any) -> Any:
        return vd.run(walker_on(*words, **how))["walker/truth"]

    def test_forward_and_round(self) -> None:
        for model, gait, speed in ((four_legged(), "trot", 0.3), (bank_walker(), "tripod", 0.25)):
            how = {"gait": gait, "stride_time": 0.5 if gait == "trot" else 0.6}
            with self.subTest(gait=gait):
                truth = self.walk(model, 6.5, {"forward": speed}, **how)
                end = truth.iloc[-1]
                late = truth[truth["time"] > 3.5]
                reached = (end["x"] - late["x"].iloc[0]) / (end["time"] - late["time"].iloc[0])
                self.assertAlmostEqual(reached / speed, 1.0, delta=0.15 if gait == "trot" else 0.03)
                self.assertLess(abs(end["y"]), 0.1)
                self.assertLess(np.abs(truth[["roll", "pitch"]].to_numpy()).max(), 0.2)
                truth = self.walk(model, 6.5, {"turning": 0.5}, **how)
                late = truth[truth["time"] > 3.5]["yaw"].to_numpy()
                self.assertAlmostEqual(np.unwrap(late)[-1] - late[0], 0.5 * 3.0, delta=0.08)
                self.assertLess(np.hypot(truth["x"], truth["y"]).max(), 0.15)

    def test_holds_its_speed_and_tells_a_fall(self) -> None:
        how: dict[str, Any] = {"gait": "trot", "stride_time": 0.5, "pose": "truth"}
        scenario = walker_on(four_legged(), 10.0, {"forward": 0.3}, **how)
        scenario.truth = {"walker"}
        recording = vd.run(scenario)
        late = recording["walker/truth"].query("time > 6")
        self.assertAlmostEqual((late["x"].iloc[-1] - late["x"].iloc[0]) / 4.0, 0.3, delta=0.01)
        for stream in ("walker/told", "walker/reached"):
            self.assertAlmostEqual(recording[stream]["linear.x"].iloc[-1], 0.3, delta=0.03)
        self.assertEqual(recording.outcome["notices"], [])
        scenario.at("2 s").push("walker", force=(0, 300, 0), lasting="0.5 s")
        with self.assertLogs("veldrain", "WARNING"):
            fallen = vd.run(scenario)
        (told,) = (text for text in fallen.outcome["notices"] if "fallen" in text)
        self.assertRegex(told, r"walker: fallen \(first at 2\.\d+ s\)")
        self.assertIn("walker: fallen", list(fallen["scenario/events"]["data"]))

    def test_feet_are_down_for_their_share_of_a_stride(self) -> None:
        rest = np.array([[x, y, -0.3] for x in (0.2, -0.2) for y in (0.15, -0.15)])
        for duty, share in ((None, 0.55), (0.62, 0.62), (0.8, 0.8)):
            gait, down = Gait(rest, "trot", 0.5, 0.05, duty), []
            for _ in range(2000):
                gait.step(1e-3, (0.2, 0.0, 0.0), True, 0.0, (0.0, 0.0), (0.0, 0.0), np.zeros((4, 3)))
                down.append(gait.feet["stands"].mean())
            with self.subTest(duty=duty):
                self.assertAlmostEqual(float(np.mean(down)), share, delta=0.01)
        with self.assertRaisesRegex(vd.VeldrainError, "duty_factor"):
            vd.Walk(["a", "b", "c", "d"], duty_factor=0.3)

    def test_leaning(self) -> None:
        truth = self.walk(four_legged(), 3.0, {"lean": 0.1, "tilt": 0.05, "height": 0.03}, gait="crawl").iloc[-1]
        self.assertAlmostEqual(truth["z"], 0.36 + 0.03, delta=0.012)

    def test_bad_sheets(self) -> None:
        feet = ["front_left_foot", "front_right_foot", "rear_left_foot", "rear_right_foot"]
        for words, walk in (
            ("gallop", lambda: vd.Walk(feet, gait="gallop")),
            ("tripod gait of 4", lambda: self.walk(four_legged(), 1.0, {"forward": 0.1}, gait="tripod")),
            ("2 legs|4 feet|four or more", lambda: self.of(vd.Walk(feet[:2]))),
            ("stnd.*stand", lambda: self.of(vd.Walk(feet, stance="stnd"))),
            ("foott", lambda: self.of(vd.Walk([*feet[:3], "rear_right_foott"]))),
            ("foot 'front_left_foot' is named twice", lambda: self.of(vd.Walk([*feet, feet[0]]))),
            (
                "Walk: imu: no sensor 'imv'; did you mean 'imu'",
                lambda: self.of(vd.Walk(feet, stance="stand", imu="imv")),
            ),
            ("'angles' is of kind Encoders; name one of kind Imu", lambda: self.of(vd.Walk(feet, imu="angles"))),
            (
                "contact: 'imu' is of kind Imu; name one of kind FootForce or Touch",
                lambda: self.of(vd.Walk(feet, stance="stand", contact={feet[0]: "imu"})),
            ),
            ("feet are .* m apart in height", lambda: self.of(vd.Walk(feet, stance="skew"))),
            ("centre of mass is at .* beside all feet", lambda: self.of(vd.Walk(feet, stance="ahead"))),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                walk()

    def of(self, walk: Any) -> None:
        model = four_legged()
        model.posture("skew", dict(model.postures["stand"]) | {"front_left_knee": -2.3, "front_left_hip": 1.6})
        model.posture("ahead", {joint: 1.6 if joint.endswith("hip") else 0.0 for joint in model.postures["stand"]})
        world = vd.World().ground().place(model, "w", pose=vd.Pose((0, 0, 1)))
        vd.Trial(vd.Scenario(world, 1, controllers={"w": walk}))


class Flying(unittest.TestCase):
    def fly(self, wind: tuple[float, float, float], seconds: float, **more: Any) -> Any:
        world = template("flyer").weather(vd.Air(wind=wind, gusts=0.1 * math.hypot(*wind)))
        fly = vd.Fly([(0, 0, 2), (2, 1, 2)], begin="0.5 s", speed=1.5, pose="truth")
        return vd.run(vd.Scenario(world, seconds, controllers={"flyer": fly}, truth=["flyer"], **more))

    def test_hover_and_waypoints_in_wind(self) -> None:
        for wind, most, rest in (((0.0, 0.0, 0.0), 0.06, 0.005), ((4.0, 3.0, 0.0), 0.1, 0.02)):
            recording = self.fly(wind, 11.0)
            truth, off = recording["flyer/truth"], recording["flyer/off_course"]
            late = truth[truth["time"] > 9.5]
            with self.subTest(wind=wind):
                self.assertEqual(recording.outcome["notices"], [])
                self.assertLess(off["data"].max(), most)
                self.assertLess(np.abs(late[["x", "y", "z"]].to_numpy() - (2, 1, 2)).max(), rest)

    def test_holds_in_any_gravity(self) -> None:
        for pull in (9.81, 3.71, 1.62):
            world = vd.World(gravity=(0, 0, -pull))
            world.ground().place(next(iter(template("flyer").placed.values())).model, "flyer", pose=vd.Pose((0, 0, 2)))
            trial = vd.Trial(
                vd.Scenario(world, "6 s", controllers={"flyer": vd.Fly([(0, 0, 2)], pose="truth")}, truth=["flyer"])
            )
            trial.run()
            with self.subTest(pull):
                self.assertAlmostEqual(float(trial.simulation["flyer"].pose().position[2]), 2.0, delta=0.05)

    def test_the_demo_flies_on_course_and_is_trimmed_after_its_sample_is_gone(self) -> None:
        """Within 10 cm in 5 m/s of wind; 200 g less lift it by some centimetres, until that is taken up."""
        scenario = vd.load_scenario(DEMO / "survey_flight.scenario.yaml")
        self.assertEqual([f.rule for f in vd.check(scenario)], [])
        del scenario.world.placed["multirotor"].model.sensors["eye"]  # its pictures take the most time
        recording = vd.run(scenario, seed=5)
        self.assertTrue(recording.outcome["passed"], recording.outcome)
        off = recording["multirotor/off_course"]
        after = off[(off["time"] > 22) & (off["time"] < 25)]["data"].max()
        late = recording["multirotor/truth"].query("time > 30")
        self.assertGreater(after, 0.05)
        self.assertLess(np.abs(late[["x", "y", "z"]].to_numpy() - (0, 0, 2)).max(), 0.02)
        self.assertIn("release sample", list(recording["scenario/events"]["data"]))


if __name__ == "__main__":
    unittest.main()
