"""Links that are attached and released in mid-trial, against closed forms."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np

import veldrain as vd

EVENTS = "scenario/events"


def in_space() -> vd.World:
    """Two boxes without gravity: one comes to the other at 0.2 m/s, 0.1 m off its middle."""
    world = vd.World(gravity=(0, 0, 0))
    world.body("probe", vd.Box((0.2, 0.2, 0.2)), mass="2 kg", velocity=(0.2, 0, 0))
    return world.body("station", vd.Box((0.2, 0.4, 0.2)), mass="3 kg", pose=vd.Pose((0.5, 0.1, 0)))


def hung(mass: float, hook: str = "beam") -> vd.World:
    """A ball below a beam, and a crane whose load cell is above its hook."""
    crane = vd.Model("crane").link("post").link("hook", vd.Box((0.05, 0.05, 0.05)), mass=0.5)
    crane.joint("lift", "post", "hook", "prismatic", axis=(0, 0, 1), limits=(-1, 1))
    crane.motor("lift", "position", stiffness=1e6, damping=1e4, limit=1e5)
    crane.mount("cell", vd.ForceTorque(), on="hook").frame("tip", "hook", vd.Pose((0, 0, -0.1)))
    world = vd.World().obstacle("beam", vd.Box((1, 1, 0.1)), pose=vd.Pose((0, 0, 2)))
    world.place(crane, "crane", pose=vd.Pose((3, 0, 1)), fixed=True)
    x = 0.0 if hook == "beam" else 3.0
    return world.body("ball", vd.Sphere("10 cm"), mass=mass, pose=vd.Pose((x, 0, 0.9)))


def events(recording: Any) -> list[str]:
    return [text.rstrip("\0") for text in recording[EVENTS]["data"]]


class Gripper:
    """Takes hold of the ball at 0.3 s, lets go at 0.8 s."""

    period = 0.01

    def update(self, now: float, senses: Any, motors: Any) -> None:
        if abs(now - 0.3) < 1e-9:
            motors.attach("ball", to="hook")
        if now > 0.8 and motors.holds("ball"):
            motors.release("ball")


class Couplings(unittest.TestCase):
    def test_docking_is_a_collision_without_a_bounce(self) -> None:
        """Of two bodies that become one, with the reduced mass µ: ω = µ·v·b/(I₁ + I₂ + µ·d²)."""
        sim = vd.Simulation(in_space())
        sim.advance("1 s")
        before = sim.momentum()
        sim.attach("probe", to="station")
        sim.advance("1 ms")
        reduced, inertia = 2 * 3 / 5, 2 * 0.08 / 12 + 3 * 0.2 / 12
        spin = reduced * 0.2 * 0.1 / (inertia + reduced * (0.3**2 + 0.1**2))
        for name in ("probe", "station"):
            np.testing.assert_allclose(sim[name].velocity()[1], (0, 0, spin), atol=1e-9)
        between = sim["station"].pose().inverse() @ sim["probe"].pose()
        (held,) = sim.attached
        self.assertEqual((held.thing, held.to), ("probe", "station"))
        self.assertEqual(sim.notices, ["probe was attached to station at a distance of 0.1 m, and keeps it"])
        change = 2 * (sim["probe"].velocity()[0] - (0.2, 0, 0))
        np.testing.assert_allclose(held.force, change / 1e-3, atol=1e-6)
        sim.advance("5 s")
        now = sim["station"].pose().inverse() @ sim["probe"].pose()
        np.testing.assert_allclose(now.position, between.position, atol=1e-7)
        for mine, was in zip(sim.momentum(), before, strict=True):
            np.testing.assert_allclose(mine, was, atol=2e-6)

    def test_what_spins_parts_along_the_tangent(self) -> None:
        """Released, each keeps the velocity of its centre, ω × r, and the spin ω; nothing is lost."""
        world = vd.World(gravity=(0, 0, 0))
        for name, x in (("left", -0.5), ("right", 0.5)):
            world.body(
                name, vd.Box((0.2, 0.2, 0.2)), mass=1, pose=vd.Pose((x, 0, 0)), velocity=(0, 6 * x, 0), spin=(0, 0, 6)
            )
        sim = vd.Simulation(world)
        sim.attach("left", to="right")
        energy = sum(sim.energy())
        sim.advance("1 s")
        self.assertAlmostEqual(sum(sim.energy()), energy, delta=2e-4 * energy)  # first order in the step
        at, (velocity, spin) = sim["right"].pose().position, sim["right"].velocity()
        self.assertAlmostEqual(float(np.linalg.norm(at)), 0.5, delta=2e-4)
        np.testing.assert_allclose(velocity, np.cross(spin, at), atol=0.02)  # of a step of 1 ms at 6 rad/s
        sim.release("right")
        sim.advance("1 s")
        np.testing.assert_allclose(sim["right"].velocity(), (velocity, spin), atol=1e-12)
        self.assertEqual(sim.attached, [])

    def test_a_payload_drops_off_what_hovers(self) -> None:
        """Held up by (M + m)·g it hovers; without the payload it rises with g·m/M, and the payload falls with g."""
        world = vd.World().body("flyer", vd.Box((0.4, 0.4, 0.1)), mass=2, pose=vd.Pose((0, 0, 5)))
        world.body("parcel", vd.Box((0.2, 0.2, 0.2)), mass=0.5, pose=vd.Pose((0, 0, 4.9)))
        scenario = vd.Scenario(world, "3 s").at(0).attach("parcel", to="flyer").at("2 s").release("parcel")
        scenario.at(0).push("flyer", force=(0, 0, 2.5 * 9.81), lasting="3 s")
        trial = vd.Trial(scenario, 0)
        trial.advance("2 s")
        sim = trial.simulation
        np.testing.assert_allclose(sim["flyer"].velocity()[0], 0, atol=1e-9)
        trial.advance("0.5 s")
        self.assertAlmostEqual(sim["flyer"].velocity()[0][2], 0.5 * 9.81 / 4, delta=1e-9)
        self.assertAlmostEqual(sim["parcel"].velocity()[0][2], -0.5 * 9.81, delta=1e-9)

    def test_it_bears_what_hangs_on_it_and_breaks_beyond(self) -> None:
        for what, most, held in (("below", 49.5, True), ("above", 48.5, False)):
            with self.subTest(what):
                scenario = vd.Scenario(hung(5), "0.5 s")
                scenario.at(0, name="hung").attach("ball", to="beam", most_force=most)
                scenario.expect("holds", always=vd.attached("ball", "beam"), since="hung")
                scenario.expect("bears", always=vd.attached_force("ball", "beam") < 49.1)
                recording = vd.run(scenario)
                self.assertEqual(recording.outcome["expectations"]["holds"]["passed"], held)
                self.assertEqual("ball breaks off beam" in events(recording), not held)
        self.assertTrue(recording.outcome["expectations"]["bears"]["passed"])

    def test_after_a_break_the_shapes_meet_again(self) -> None:
        """In a simulation without a trial too: a slab that breaks off a crate comes to lie on it."""
        world = vd.World().ground().body("crate", vd.Box((0.4, 0.4, 0.4)), mass=20, pose=vd.Pose((0, 0, 0.2)))
        world.body("slab", vd.Box((0.2, 0.2, 0.1)), mass=1, pose=vd.Pose((0, 0, 0.5)))
        sim = vd.Simulation(world)
        sim.attach("slab", to="crate", most_force="5 N")
        sim.advance("2 s")
        self.assertEqual((sim.attached, sim.notices[-1]), ([], "slab broke off crate"))
        self.assertAlmostEqual(sim["slab"].pose().position[2], 0.45, delta=1e-3)

    def test_a_load_cell_feels_what_a_hook_takes_hold_of(self) -> None:
        """0.5 kg of the hook, and 6 kg on a tip 0.1 m below it; a controller does it, and its events are told."""
        recording = vd.run(vd.Scenario(hung(6, "crane"), "1.2 s", controllers={"crane": Gripper()}))
        told = recording["crane/cell"].set_index("time")["wrench.force.z"]
        for time, mass in ((0.28, 0.5), (0.78, 6.5), (1.18, 0.5)):
            self.assertAlmostEqual(abs(float(told[told.index <= time].iloc[-1])), mass * 9.81, delta=0.02)
        said = events(recording)
        self.assertEqual(said, ["crane/hook takes hold of ball", "crane/hook lets go of ball"])
        taken: Any = vd.try_controller(Gripper(), {})
        self.assertEqual(taken, [{}])

    def test_it_is_drawn_to_the_pose_that_is_given(self) -> None:
        """0.5 m at 1 m/s at most, then it stays; heavy things on light ones too, whatever overlaps."""
        for name, mass in (("light", 0.05), ("heavy", 500.0)):
            with self.subTest(name):
                sim = vd.Simulation(hung(mass, "crane"))
                sim.attach("ball", to="crane/tip", pose=vd.Pose((0, 0, -0.5)))
                sim.advance("0.45 s")
                self.assertGreater(abs(sim["ball"].pose().position[2] - 0.4), 0.03)
                sim.advance("1.5 s")
                gap = sim["crane"].pose("tip").inverse() @ sim["ball"].pose()
                np.testing.assert_allclose(gap.position, (0, 0, -0.5), atol=1e-6)
                np.testing.assert_allclose(sim["ball"].velocity()[0], 0, atol=1e-6)
        touching = vd.World().ground().body("low", vd.Box((0.4, 0.4, 0.4)), mass=1, pose=vd.Pose((0, 0, 0.2)))
        touching.body("high", vd.Box((0.4, 0.4, 0.4)), mass=100, pose=vd.Pose((0, 0, 0.55)))
        sim = vd.Simulation(touching)
        sim.attach("high", to="low")
        sim.advance("1 s")
        self.assertAlmostEqual(sim["high"].pose().position[2], 0.55, delta=1e-5)  # their shapes pass each other
        sim.release("high")
        sim.advance("1 s")
        self.assertGreater(sim["high"].pose().position[2], 0.58)  # they are moved apart, and not thrown
        self.assertLess(np.linalg.norm(sim["high"].velocity()[0]), 0.2)

    def test_states_and_repetition(self) -> None:
        """To a snapshot and back it is attached as it was there, in the same simulation and in another."""
        sim = vd.Simulation(in_space())
        sim.advance("0.5 s")
        free = sim.snapshot()
        sim.attach("probe", to="station")
        sim.attach("probe", to="station")  # twice is once
        sim.advance("0.1 s")
        held = sim.snapshot()
        sim.advance("0.5 s")
        end = sim.digest()
        sim.restore(free)
        self.assertEqual(sim.attached, [])
        other = vd.Simulation(in_space())
        other.attach("station", to="probe")  # rows in another order
        for one in (sim, other):
            one.restore(held)
            self.assertEqual([(c.thing, c.to) for c in one.attached], [("probe", "station")])
            one.advance("0.5 s")
            self.assertEqual(one.digest(), end)
        sim.reset()
        self.assertEqual(sim.attached, [])
        other["probe"].move_to(vd.Pose((9, 0, 0)))
        self.assertEqual(other.attached, [])
        self.assertIn("probe is no longer attached to station: probe was put elsewhere", other.notices)

    def test_a_file_says_it_and_a_state_of_its_recording_goes_on(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "dock.scenario.yaml"
            scenario = vd.Scenario(in_space(), "2 s")
            scenario.when(vd.distance("probe", "station") < 0.4).attach(
                "probe", "station", most_torque="50 N m", pose=vd.Pose((-0.3, -0.1, 0))
            )
            scenario.at("1.8 s").release("probe", of="station").when(vd.attached("probe", "station")).say("docked")
            vd.save_scenario(scenario, path)
            text = path.read_text()
            self.assertIn("attach:", text)
            self.assertIn("attached: [probe, station]", text)
            one, other = vd.run(scenario, keep_states="0.5 s"), vd.run(vd.load_scenario(path))
            self.assertEqual(events(one), events(other))
            self.assertEqual(
                events(one), ["attach probe to station, up to 50 N·m", "note: docked", "release probe from station"]
            )
            trial = vd.Trial(scenario, 0)
            trial.resume(one, at="1 s")
            self.assertEqual(len(trial.simulation.attached), 1)
            trial.run()
            whole = vd.Trial(scenario, 0)
            whole.run()
            self.assertEqual(trial.simulation.digest(), whole.simulation.digest())

    def test_what_nobody_attaches_is_found_before(self) -> None:
        world = vd.World().ground().body("crate", vd.Box((0.4, 0.4, 0.4)), mass="20 kg", pose=vd.Pose((0, 0, 0.2)))
        robot = vd.Model("robot").link("base", vd.Box((0.4, 0.4, 0.2)), mass=20)
        world.place(robot, pose=vd.Pose((2, 0, 0.1))).frame("dock", vd.Pose((0, 0, 0.5)))

        def scenario(attaches: bool = False, **words: Any) -> vd.Scenario:
            made = vd.Scenario(world, "1 s", **words).at("0.5 s").release("crate")
            made.when(vd.attached_force("crate", "dock") > "1 N").say("it bears")
            return made.at(0).attach("crate", to="dock") if attaches else made

        for made, count in (
            (scenario(), 2),
            (scenario(attaches=True), 0),
            (scenario(controllers={"robot": Gripper()}), 0),  # it may do so
        ):
            found = vd.check(made).of("never-attached")
            self.assertEqual([f.problem for f in found], ["nobody attaches crate"] * count)

    def test_mistakes_are_told(self) -> None:
        turned = vd.Pose((0, 0, 0), yaw="120 deg")
        for thing, to, words, said in (
            ("ball", "ball", {}, "attach ball: is fixed to ball already"),
            ("ball", "beem", {}, "no link.*'beem'.*'beam'"),
            ("beam", "ball", {}, "attach beam: is fixed in the world; name what moves first: attach ball to beam"),
            ("ball", "beam", {"pose": turned}, "turned by 120°.*bring it within 80°"),
            ("ball", "beam", {"most_force": 0}, "most_force is 0"),
            ("ball", "beam", {"most_force": math.nan}, "not a number .nan."),
            ("ball", "beam", {"most_force": "3 m"}, "force"),
        ):
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                vd.Simulation(hung(1)).attach(thing, to, **words)
        scenario = vd.Scenario(hung(1), "1 s").at(0).remove("ball").at("0.1 s").attach("ball", to="beam")
        recording = vd.run(scenario)
        self.assertIn("not attached: ball was removed", events(recording))
        self.assertRegex(recording.outcome["notices"][-1], "attach ball: ball was removed; put it somewhere before")
        turned_round = vd.Simulation(in_space())
        turned_round.attach("probe", to="station")
        turned_round.attach("station", to="probe")
        self.assertEqual([(c.thing, c.to) for c in turned_round.attached], [("station", "probe")])
        with self.assertRaisesRegex(vd.VeldrainError, "release ball: is not attached to beam; attach it first"):
            vd.Simulation(hung(1)).release("ball", of="beam")
        world = vd.World().ground().body("crate", vd.Box((0.4, 0.4, 0.4)), mass="20 kg", pose=vd.Pose((0, 0, 0.2)))
        scenario = vd.Scenario(world.frame("dock", vd.Pose((0, 0, 0.3))), "1 s").at("0.5 s").attach("crate", to="duck")
        self.assertIn("'dock'", "; ".join(map(str, vd.check(scenario).errors)))


if __name__ == "__main__":
    unittest.main()
