"""What every world, model and data sheet has to do, tried on random ones: saved, copied, scaled, checked, stepped."""

from __future__ import annotations

import math
import os
import subprocess
import sys
import tempfile
import unittest
from io import BytesIO
from pathlib import Path

import numpy as np
import trimesh

import veldrain as vd
from tests import random_things as some
from tests.helpers import DEMO
from tests.test_every_sensor import SENSORS, fitted
from veldrain.formats import load_robot
from veldrain.model.knobs import world_knobs
from veldrain.study.study import plain

SEEDS = range(4)


def moved(sim: vd.Simulation) -> list[np.ndarray]:
    return [np.concatenate([sim[name].pose().position, sim[name].positions]) for name in sim]


class Worlds(unittest.TestCase):
    def test_saved_and_read_back(self) -> None:
        """The same, to the last digit; and what is seen of it as a scene."""
        for seed in SEEDS:
            world = some.world(np.random.default_rng(seed))
            with self.subTest(seed=seed), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "some.world.yaml"
                vd.save_world(world, path)
                read = vd.load_world(path)
                self.assertEqual(plain(read), plain(world))
                text = path.read_text()
                vd.save_world(read, path)
                self.assertEqual(path.read_text(), text)
                vd.save_world(world, Path(folder) / "some.glb")
                seen = trimesh.load(BytesIO((Path(folder) / "some.glb").read_bytes()), file_type="glb")
                self.assertIn("post/0", seen.graph.nodes)

    def test_bytes_are_the_same_in_every_process(self) -> None:
        """Of a scenario out of a file as well: Python orders words in sets by chance, a process at a time."""
        code = (
            "import hashlib, sys, veldrain as vd\n"
            "s = vd.load_scenario(sys.argv[1]); s.duration = 0.02\n"
            "for p in s.world.placed.values(): p.model.sensors.pop('eye', None)\n"
            "vd.run(s, record=sys.argv[2], warn=False)\n"
            "print(hashlib.sha256(open(sys.argv[2], 'rb').read()).hexdigest())"
        )
        for name in ("survey_flight", "culvert"):
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                words = [sys.executable, "-c", code, str(DEMO / f"{name}.scenario.yaml"), f"{folder}/run.mcap"]
                found = {
                    subprocess.run(
                        words, capture_output=True, text=True, check=True, env={**os.environ, "PYTHONHASHSEED": seed}
                    ).stdout
                    for seed in ("1", "2")
                }
                self.assertEqual(len(found), 1)

    def test_a_snapshot_goes_on_to_the_same_bytes(self) -> None:
        for seed in SEEDS:
            world = some.world(np.random.default_rng(seed))
            sim = vd.Simulation(world, seed=seed)
            sim.advance("0.1 s")
            kept = sim.snapshot()
            with self.subTest(seed=seed):
                found = []
                for _ in range(2):
                    sim.restore(kept)
                    sim.advance("0.2 s")
                    reading = sim["one"].read("scan")
                    assert reading is not None
                    found.append([*moved(sim), np.asarray(reading.ranges)])
                for one, again in zip(*found, strict=True):
                    np.testing.assert_array_equal(one, again)
                other = vd.Simulation(world, seed=seed)
                other.restore(kept)
                other.advance("0.2 s")
                for one, again in zip(found[0], moved(other), strict=False):
                    np.testing.assert_array_equal(one, again)

    def test_the_check_says_all_in_one_line_each(self) -> None:
        for seed in SEEDS:
            found = vd.check(some.world(np.random.default_rng(seed)))
            for finding in found:
                with self.subTest(seed=seed, rule=finding.rule):
                    self.assertTrue(finding.problem and finding.cure and finding.path)
                    self.assertNotIn("\n", str(finding))
                    self.assertNotRegex(str(finding), r"\bnan\b|np\.float|None")

    def test_every_knob_is_of_one_thing(self) -> None:
        """Paths are told apart; turning one changes what is saved, and turning it back changes nothing."""
        world = some.world(np.random.default_rng(1))
        knobs = {knob.path: knob for knob in world_knobs(world)}
        self.assertEqual(len(knobs), len(list(world_knobs(world))))
        random, before = np.random.default_rng(2), plain(world)
        for path in random.choice(sorted(knobs), 60, replace=False).tolist():
            value = knobs[path].get()
            if value is None or not math.isfinite(value) or path.endswith((".period", ".latency", ".first")):
                continue
            with self.subTest(path):
                other = value * 0.875 + (0.001 if value == 0 else 0.0)
                try:
                    knobs[path].set(other)
                except vd.VeldrainError as error:  # beyond what this one may be
                    self.assertRegex(str(error), "; ")
                    continue
                self.assertAlmostEqual(knobs[path].get() or 0.0, other, delta=1e-9 * max(1.0, abs(other)))
                self.assertNotEqual(plain(world), before)
                knobs[path].set(value)
                self.assertAlmostEqual(knobs[path].get() or 0.0, value, delta=1e-9 * max(1.0, abs(value)))
                before = plain(world)  # a turn there and back may change a last digit

    def test_the_surface_that_is_given_counts(self) -> None:
        """Of a part with a surface of its own as well: in the engine, by its knob, and in its file."""
        ice, rubber = vd.Surface(friction=0.0), vd.Surface(friction=1.0)
        tilted = vd.Pose(rpy=(0, "20 deg", 0))
        for given, slides in ((rubber, False), (ice, True)):
            slab = vd.Part(vd.Box((4, 2, 0.2)), vd.Pose((0, 0, -0.1)), surface=ice if given is rubber else rubber)
            world = vd.World().obstacle("slab", slab, pose=tilted, surface=given)
            world.body("brick", vd.Box((0.2, 0.2, 0.1)), mass=1, pose=tilted @ vd.Pose((0, 0, 0.05)), surface=rubber)
            with tempfile.TemporaryDirectory() as folder:
                vd.save_world(world, Path(folder) / "w.world.yaml")
                read = vd.load_world(Path(folder) / "w.world.yaml")
            for one in (world, read):
                sim = vd.Simulation(one)
                sim.advance("0.5 s")
                with self.subTest(slides=slides, read=one is read):
                    self.assertEqual(bool(sim["brick"].pose().position[0] > 0.05), slides)
                    self.assertEqual(sim.cast((0, 0, 3), (0, 0, -1), 9)[1][0] is not None, True)


class Scenarios(unittest.TestCase):
    def test_saved_and_read_back(self) -> None:
        """They end alike, and all that they record is the same, byte by byte."""
        for seed in SEEDS:
            scenario = some.scenario(np.random.default_rng(seed))
            with self.subTest(seed=seed), tempfile.TemporaryDirectory() as folder:
                vd.save_scenario(scenario, Path(folder) / "some.scenario.yaml")
                read = vd.load_scenario(Path(folder) / "some.scenario.yaml")
                self.assertEqual(plain(read), plain(scenario))
                one, again = (vd.run(s, seed=3, warn=False) for s in (scenario, read))
                self.assertEqual(one.outcome, again.outcome)
                for stream in one.messages:
                    self.assertEqual(one.raw(stream), again.raw(stream), stream)

    def test_a_snapshot_goes_on_to_the_same_end(self) -> None:
        """In another trial, in the middle of all that happens; and what happens later changes nothing before."""
        for seed in SEEDS:
            scenario = some.scenario(np.random.default_rng(seed))
            trial, other = vd.Trial(scenario, 3), vd.Trial(scenario, 3)
            trial.advance("0.33 s")
            kept = trial.snapshot()
            trial.advance("1 s")
            other.restore(kept)
            other.advance("1 s")
            with self.subTest(seed=seed):
                self.assertEqual(trial.outcome(""), other.outcome(""))
                for one, again in zip(moved(trial.simulation), moved(other.simulation), strict=True):
                    np.testing.assert_array_equal(one, again)
                shorter = vd.Trial(scenario, 3)
                scenario.at("0.5 s").push("stone1", force=(50, 0, 0), lasting="0.1 s")
                longer = vd.Trial(scenario, 3)
                for both in (shorter, longer):
                    both.advance("0.5 s")
                for one, again in zip(moved(shorter.simulation), moved(longer.simulation), strict=True):
                    np.testing.assert_array_equal(one, again)

    def test_its_knobs_and_its_check(self) -> None:
        for seed in SEEDS:
            scenario = some.scenario(np.random.default_rng(seed))
            paths = [knob.path for knob in scenario.knobs()]
            with self.subTest(seed=seed):
                self.assertEqual(len(set(paths)), len(paths))
                self.assertTrue(any(path.startswith("event 0") for path in paths))
                for finding in vd.check(scenario):
                    self.assertNotRegex(str(finding), r"\bnan\b|None|\n")


class RoadNets(unittest.TestCase):
    def test_written_and_read_back(self) -> None:
        """To the letter; every place on them is the same lane, as far along and to the side."""
        for seed in SEEDS:
            random = np.random.default_rng(seed)
            roads = some.roads(random)
            with self.subTest(seed=seed), tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "some.xodr"
                vd.save_roads(roads, path)
                text = path.read_text()
                read = vd.load_roads(path)
                vd.save_roads(read, path)
                self.assertEqual(path.read_text(), text)
                self.assertEqual(list(roads.problems()), [])
                seen = 0
                for x, y in random.uniform(-120, 120, (300, 2)).tolist():
                    one, again = roads.at(x, y), read.at(x, y)
                    self.assertEqual(one is None, again is None)
                    if one is None or again is None:
                        continue
                    seen += 1
                    self.assertEqual((one.road, one.lane), (again.road, again.lane))
                    for word in ("s", "t", "width", "heading", "offset"):
                        self.assertAlmostEqual(getattr(one, word), getattr(again, word), delta=1e-6)
                    ((px, py, _),) = roads.roads[one.road].points(np.array([one.s]), np.array([one.t]))
                    self.assertLess(math.hypot(float(px) - x, float(py) - y), 1e-6)
                self.assertGreater(seen, 5)

    def test_a_scenario_on_them_goes_out_and_comes_in(self) -> None:
        """As OpenSCENARIO, with all that it has words for: actors end where they ended."""
        for seed in SEEDS:
            roads = some.roads(np.random.default_rng(seed))
            first, second, *_ = roads.roads
            world = vd.World().ground(height=-5).roads(roads)
            for name, speed, one, other in (("van", 6.0, first, second), ("car", 7.0, second, first)):
                route = roads.lane(one, lane=1).route(speed=speed, via=[other])
                world.actor(name, vd.Box((4, 1.8, 1.5)), route=route)
            scenario = vd.Scenario(world, 6)
            scenario.at(1).stop("van", deceleration=2.0)
            scenario.at(3).go("van", speed=4.0)
            scenario.when(vd.distance("van", "car") < 30).shift("car", offset=0.5, within=2)
            with self.subTest(seed=seed), tempfile.TemporaryDirectory() as folder:
                self.assertEqual(vd.save_open_scenario(scenario, Path(folder) / "x.xosc"), [])
                read = vd.load_open_scenario(Path(folder) / "x.xosc")
                ends = []
                for both in (scenario, read):
                    trial = vd.Trial(both)
                    trial.advance("6 s")
                    ends.append([trial.simulation[name].pose().position for name in ("van", "car")])
                np.testing.assert_allclose(ends[0], ends[1], atol=0.02)

    def test_a_van_follows_its_lane_over_them(self) -> None:
        """Down every road and over the crossing: in the middle of a lane, at its speed, and the check finds nothing."""
        for seed in SEEDS:
            roads = some.roads(np.random.default_rng(seed))
            first, second, *_ = roads.roads
            route = roads.lane(first, lane=1).route(speed=8.0, via=[second])
            world = vd.World().ground(height=-5).roads(roads)
            world.actor("van", vd.Box((4, 1.9, 2)), route=route)
            with self.subTest(seed=seed):
                self.assertEqual([f.rule for f in vd.check(world)], [])
                sim, offsets, length = vd.Simulation(world, step=2e-3), [], 0.0
                while length < 250.0 and sim.time < 60:
                    sim.advance("0.5 s")
                    at = sim["van"].pose().position
                    spot = roads.at(*at[:2].tolist())
                    self.assertIsNotNone(spot, at)
                    assert spot is not None
                    offsets.append(abs(spot.offset))
                    length = 8.0 * sim.time
                self.assertLess(max(offsets), 0.06)


class Models(unittest.TestCase):
    def test_through_a_robot_file_and_back(self) -> None:
        """Its links stand where they stood, at any posture, and weigh what they weighed."""
        for seed in SEEDS:
            random = np.random.default_rng(seed)
            model = some.model(random)
            model.sensors.clear()  # for which robot files have no words
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "machine.urdf"
                vd.save_robot(model, path)
                read = load_robot(path)
            kinds = {"revolute", "continuous", "prismatic"}
            q = {j.name: float(random.uniform(-0.4, 0.4)) for j in model.joints.values() if j.kind in kinds}
            mine, theirs = model.poses(q), read.poses(q)
            with self.subTest(seed=seed):
                self.assertAlmostEqual(read.total().mass, model.total().mass, delta=1e-9)
                for link in model.links:
                    off = mine[link].inverse() @ theirs[link]
                    self.assertLess(np.abs(off.position).max(), 1e-9, link)
                    self.assertLess(off.rotation.magnitude(), 1e-9, link)

    def test_chains_are_as_the_model(self) -> None:
        """Forward kinematics against the model's own poses, and Jacobians against differences."""
        for seed in SEEDS:
            random = np.random.default_rng(seed)
            model = some.model(random, 8)
            simple = {j.child for j in model.joints.values() if j.kind in ("planar", "ball")}
            ends = [link for link in model.links if not simple & set(self.above(model, link))]
            for tip in ends[1:]:
                try:
                    chain = vd.Chain(model, tip)
                except vd.VeldrainError as error:
                    self.assertIn("no joint moves", str(error))
                    continue
                q = random.uniform(-0.5, 0.5, len(chain.joints))
                there = model.poses(dict(zip(chain.joints, q.tolist(), strict=True)))[tip]
                with self.subTest(seed=seed, tip=tip):
                    found = chain.forward(q)
                    np.testing.assert_allclose(found.position, there.position, atol=1e-12)
                    self.assertLess((found.inverse() @ there).rotation.magnitude(), 1e-7)
                    J, h = chain.jacobian(q), 1e-6
                    for k in range(len(q)):
                        step = np.zeros(len(q))
                        step[k] = h
                        ahead, behind = chain.forward(q + step), chain.forward(q - step)
                        np.testing.assert_allclose(J[:3, k], (ahead.position - behind.position) / (2 * h), atol=1e-6)
                        turn = (ahead.rotation * behind.rotation.inv()).as_rotvec() / (2 * h)
                        np.testing.assert_allclose(J[3:, k], turn, atol=1e-6)

    def above(self, model: vd.Model, link: str) -> list[str]:
        held = {j.child: j.parent for j in model.joints.values()}
        found = [link]
        while found[-1] in held:
            found.append(held[found[-1]])
        return found

    def test_scaled_and_copied(self) -> None:
        """Twice as large: lengths twice, poses too, masses as many times as volumes; a copy shares nothing."""
        for seed in SEEDS:
            model = some.model(np.random.default_rng(seed))
            large, before = model.scaled(2.0), plain(model)
            with self.subTest(seed=seed):
                for link, pose in model.poses().items():
                    np.testing.assert_allclose(large.poses()[link].position, 2 * pose.position, atol=1e-12)
                copied = model.copy()
                copied.change_link(f"{some.NAMES[1]}_link", mass=99.0)
                self.assertEqual(plain(model), before)


class Physics(unittest.TestCase):
    def drift(self, model: vd.Model, speeds: list[float], step: float, how: str, gravity: float) -> tuple[float, ...]:
        """How much energy (share), momentum and angular momentum (share) change in 1 s."""
        world = vd.World(gravity=(0, 0, gravity)).place(model, "m", velocity=(1, 0.5, 0))
        sim = vd.Simulation(world, step, integrator=how)
        sim["m"].velocities = speeds
        energy, (linear, angular) = sum(sim.energy()), sim.momentum()
        kinetic = sim.energy()[0]
        sim.advance("1 s")
        self.assertEqual(sim.notices, [])
        after = sim.momentum()
        pull = np.array((0, 0, gravity * model.total().mass))
        return (
            abs(sum(sim.energy()) - energy) / kinetic,
            float(np.abs(after[0] - linear - pull).max()),
            float(np.abs(after[1] - angular).max()) / max(float(np.abs(angular).max()), 1.0),
        )

    def test_nothing_is_lost_and_nothing_is_won(self) -> None:
        """Any tree of links in free flight keeps its energy and momenta: to rounding with rk4, and by default with an
        error of first order, which half the step halves."""
        for seed in SEEDS:
            random = np.random.default_rng(seed)
            model = some.free_model(random)
            count = len(vd.Simulation(vd.World().place(model, "m"))["m"].joints)
            speeds = random.uniform(-1, 1, count).tolist()
            with self.subTest(seed=seed):
                for gravity in (0.0, -9.81):
                    energy, linear, angular = self.drift(model, speeds, 1e-3, "rk4", gravity)
                    self.assertLess(energy, 1e-8)
                    self.assertLess(linear, 1e-9)
                    if gravity == 0:
                        self.assertLess(angular, 1e-9)
                coarse, fine = (self.drift(model, speeds, h, "semi-implicit", 0.0) for h in (1e-3, 5e-4))
                self.assertLess(coarse[0], 1e-3)
                for one, half in zip(coarse[1:], fine[1:], strict=True):
                    self.assertAlmostEqual(one / half, 2.0, delta=0.2)

    def test_a_pile_of_anything_wins_no_energy_and_falls_through_nothing(self) -> None:
        for seed in SEEDS:
            random = np.random.default_rng(seed)
            world = vd.World().ground(some.surface(random))
            names = [f"stone{k}" for k in range(8)]
            for k, name in enumerate(names):
                at = vd.Pose((*random.uniform(-0.25, 0.25, 2), 0.5 + 0.75 * k), rpy=random.uniform(-3, 3, 3))
                mass = float(random.uniform(0.2, 3))
                world.body(name, some.shape(random), mass=mass, pose=at, surface=some.surface(random))
            sim, energies = vd.Simulation(world), []
            for _ in range(100):
                energies.append(sum(sim.energy()))
                sim.advance("20 ms")
            with self.subTest(seed=seed):
                self.assertLess(float(np.diff(energies).max()), 1e-9)
                self.assertGreater(min(sim[name].pose().position[2] for name in names), 0.01)
                self.assertEqual([text for text in sim.notices if "too coarse" not in text], [])

    def test_what_efforts_are_asked_for_is_what_they_give(self) -> None:
        """Inverse dynamics, and the joints' velocities a step later."""
        for seed in SEEDS:
            random = np.random.default_rng(seed)
            model = some.free_model(random, kinds=some.SIMPLE)
            one = [j.name for j in model.joints.values() if j.kind != "fixed"]
            for joint in one:
                model.motor(joint, "effort", limit=1e6)
            sim = vd.Simulation(vd.World().place(model, "m", fixed=True), 1e-5)
            robot = sim["m"]
            robot.velocities = random.uniform(-1, 1, len(one)).tolist()
            asked, before = random.uniform(-5, 5, len(one)), robot.velocities.copy()
            for joint, effort in zip(robot.joints, robot.inverse_dynamics(asked).tolist(), strict=True):
                robot.command(joint, effort=effort)
            sim.advance("0.01 ms")
            with self.subTest(seed=seed):
                np.testing.assert_allclose((robot.velocities - before) / 1e-5, asked, atol=0.02)


class Sheets(unittest.TestCase):
    def test_any_data_sheet_measures_without_errors_where_it_is_exact(self) -> None:
        """Exactly, two sheets that differ in their errors alone measure the same."""
        for seed in SEEDS:
            random = np.random.default_rng(seed)
            found = []
            for imu in (some.sheet(random, vd.Imu), vd.Imu()):
                m = vd.Model("probe").link("shell", vd.Sphere(0.1), mass=1).mount("imu", imu, on="shell")
                world = vd.World().place(m, pose=vd.Pose((0, 0, 9)), velocity=(1, 0, 0))
                sim = vd.Simulation(world, exact=True)
                sim["probe"].push((0.5, 0, 1), torque=(0, 0, 0.001))
                sim.advance("0.1 s")
                reading = sim["probe"].read("imu")
                assert reading is not None
                found.append(np.concatenate([reading.linear_acceleration, reading.angular_velocity]))
            with self.subTest(seed=seed):
                np.testing.assert_allclose(found[0], found[1], atol=1e-9)

    def test_sensors_of_all_kinds_with_any_data_sheet(self) -> None:
        """They measure numbers, are saved, give the same bytes twice, and are read as tables."""
        for seed in range(3):
            random = np.random.default_rng(seed)
            made = {name: some.sheet(random, type(s), **dict(s.given)) for name, s in SENSORS.items()}
            world = fitted(**made)
            with self.subTest(seed=seed), tempfile.TemporaryDirectory() as folder:
                vd.save_world(world, Path(folder) / "w.world.yaml")
                self.assertEqual(plain(vd.load_world(Path(folder) / "w.world.yaml")), plain(world))
                scenario = vd.Scenario(world, 0.25)
                one, again = (vd.run(scenario, seed=2, warn=False) for _ in range(2))
                self.assertFalse(one.outcome["failed"], one.outcome["reason"])
                for stream in one.messages:
                    self.assertEqual(one.raw(stream), again.raw(stream), stream)
                    one.table(stream)  # can be read
                sim = vd.Simulation(world, seed=2)
                sim.advance("0.25 s")
                for name in made:
                    reading = sim["cart"].read(name)
                    if reading is None or name == "cloud":  # nan in a cloud is a beam without a return
                        continue
                    if name == "flow" and math.isinf(reading.data.distance):  # nor is there a rate of what is not seen
                        continue
                    for word, value in vars(reading.data).items():
                        if isinstance(value, float) or (isinstance(value, np.ndarray) and value.dtype.kind == "f"):
                            self.assertFalse(np.isnan(value).any(), f"{name}.{word} of {made[name]}")

    def test_a_sheet_says_what_it_is(self) -> None:
        """Its repr makes it again, and only what was changed differs."""
        names = {word: getattr(vd, word) for word in ("Imu", "Lidar", "Radar", "Camera", "Gnss", "Barometer", "Air")}
        for seed in SEEDS:
            random = np.random.default_rng(seed)
            for word, kind in names.items():
                made = some.sheet(random, kind)
                with self.subTest(seed=seed, kind=word):
                    self.assertEqual(eval(repr(made), dict(names), {"inf": math.inf}), made)  # its own words
                    self.assertEqual(made.changed(), made)


if __name__ == "__main__":
    unittest.main()
