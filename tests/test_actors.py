"""What is led: routes against closed forms, gaps, the ground below, joints, what actors are told, files, snapshots."""

from __future__ import annotations

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np
from scipy.special import fresnel

import veldrain as vd
from veldrain.motion.curves import Curve

STRAIGHT = [(0, 0), (200, 0)]
CAR = vd.Box((4, 1.8, 1.4))


def sampled(sim: vd.Simulation, seconds: float, path: str, every: float = 0.01) -> tuple[np.ndarray, np.ndarray]:
    """Positions and velocities (n, 3) of a thing, sample by sample."""
    rows = []
    for _ in range(round(seconds / every)):
        sim.advance(every)
        rows.append((sim[path].pose().position, sim[path].velocity()[0]))
    return np.array([r[0] for r in rows]), np.array([r[1] for r in rows])


def one(route: vd.Route, shape: object = CAR, **more: object) -> vd.World:
    return vd.World().ground().actor("car", shape, route=route, **more)  # type: ignore[arg-type]


class Curves(unittest.TestCase):
    def test_clothoids_end_where_fresnels_integrals_say(self) -> None:
        for k, length in ((0.01, 100.0), (0.05, 60.0), (-0.2, 40.0)):
            end = Curve.of([(length, 0.0, k)]).at(np.array([length]))
            scale = math.sqrt(math.pi * length / abs(k))
            sine, cosine = fresnel(length / scale)
            np.testing.assert_allclose(end[0][0], scale * cosine, atol=1e-9)
            np.testing.assert_allclose(end[1][0], math.copysign(scale * sine, k), atol=1e-9)
            self.assertAlmostEqual(end[2][0], k * length / 2, 12)

    def test_to_the_line_and_back(self) -> None:
        curve = Curve.of([(30, 0, 0), (40, 0, 0.02), (50, 0.02, 0.02), (40, 0.02, -0.01)], (5, -3, 0.4))
        s, t = np.meshgrid(np.linspace(0.5, 159.5, 60), np.linspace(-12, 12, 9))
        found = curve.to_st(*curve.to_xy(s, t))
        np.testing.assert_allclose(found[0], s, atol=1e-6)
        np.testing.assert_allclose(found[1], t, atol=1e-6)

    def test_lines_go_through_points_and_are_smooth(self) -> None:
        points = np.array([(0, 0), (20, 5), (30, 30), (60, 20), (90, 25)], float)
        for closed in (False, True):
            curve = Curve.through(points, closed)
            self.assertLess(np.abs(curve.to_st(*points.T)[1]).max(), 1e-4)
            self.assertLess(curve.jumps(), 1e-5)
        rounded = Curve.rounded(points, 4.0)
        self.assertLess(rounded.jumps(), 1e-12)
        np.testing.assert_allclose(rounded.at(np.array([rounded.length]))[:2], [[90], [25]], atol=1e-9)
        self.assertAlmostEqual(np.abs(rounded.k).max(), 1 / 4.0)
        with self.assertRaisesRegex(vd.VeldrainError, "corners 1 and 2 need"):
            Curve.rounded(points, 40.0)


class Routes(unittest.TestCase):
    def test_constant_speed_is_constant_on_line_circle_and_clothoid(self) -> None:
        turn = np.linspace(0, 2 * np.pi, 36, endpoint=False)
        circle = vd.Route(np.column_stack([30 * np.cos(turn), 30 * np.sin(turn)]), speed=10, closed=True)
        corner = vd.Route([(0, 0), (40, 0), (40, 40)], speed=10, radius="12 m", at_the_end="go on")
        for route, offset in ((vd.Route(STRAIGHT, speed=10), 0.0), (circle, 0.0), (circle, 2.0), (corner, -1.5)):
            with self.subTest(route=route.length, offset=offset):
                sim = vd.Simulation(one(route, offset=offset))
                _, v = sampled(sim, 6.0, "car")
                np.testing.assert_allclose(np.linalg.norm(v, axis=1), 10.0, atol=6e-4)
        sim = vd.Simulation(one(circle))
        spins = []
        for _ in range(100):
            sim.advance(0.05)
            spins.append(sim["car"].velocity()[1][2])
        np.testing.assert_allclose(spins, 10 / 30, rtol=3e-3)  # a spline through 36 points is a circle within that

    def test_an_imu_on_an_actor_reads_the_closed_forms(self) -> None:
        m = vd.Model("van").link("body", CAR, mass=1000).mount("imu", vd.Imu(period="10 ms"), on="body")
        parts = [(20, 0, 0), (30, 0, 0.1), (40, 0.1, 0.1)]  # a line, a clothoid, an arc of 10 m
        curve = Curve.of(parts)
        from veldrain.motion.routes import Way

        way = Way(curve, np.array([0.0, 90.0]), np.zeros(2), np.zeros(2))
        w = vd.World().ground().actor("van", m, route=vd.Route(way, speed=5, at_the_end="go on"))
        table = vd.run(vd.Scenario(w, "17 s"))["van/imu"]
        s = 5 * (table["time"] - 0.005)
        bend = np.clip((s - 20) / 30, 0, 1) * 0.1
        inside = (np.abs(s - 20) > 0.2) & (np.abs(s - 50) > 0.2) & (s > 0.2)
        for column, expected in (("angular_velocity.z", 5 * bend), ("linear_acceleration.y", 25 * bend)):
            np.testing.assert_allclose(table[column][inside], expected[inside], atol=2e-3)
        np.testing.assert_allclose(table["linear_acceleration.x"][inside], 0.0, atol=2e-3)
        np.testing.assert_allclose(table["linear_acceleration.z"], 9.81, atol=1e-6)

    def test_it_stops_at_the_end_and_slows_down_for_curves(self) -> None:
        sim = vd.Simulation(one(vd.Route([(0, 0), (100, 0)], speed=10, deceleration=2)))
        x, v = sampled(sim, 14.0, "car")
        self.assertAlmostEqual(x[-1][0], 100.0, 6)
        braking = (x[:, 0] > 75.5) & (x[:, 0] < 99.9)
        np.testing.assert_allclose(v[braking, 0], np.sqrt(2 * 2 * (100 - x[braking, 0])), rtol=5e-3)
        sim = vd.Simulation(one(vd.Route([(0, 0), (60, 0), (60, 60)], speed=15, radius=10, sideways=2.0)))
        x, v = sampled(sim, 12.0, "car")
        self.assertAlmostEqual(np.linalg.norm(v, axis=1)[np.hypot(x[:, 0] - 60, x[:, 1]) < 9].min(), math.sqrt(20), 1)
        speeds = vd.Route([(0, 0), (50, 0), (100, 0)], speed=[4, 12, 4], acceleration=4, at_the_end="go on")
        x, v = sampled(vd.Simulation(one(speeds)), 5.0, "car")
        np.testing.assert_allclose(v[:, 0], np.interp(x[:, 0], [0, 50, 100], [4, 12, 4]), rtol=0.02)

    def test_height_pitch_and_roll_are_those_of_the_ground(self) -> None:
        ramp = vd.World().ground().obstacle("ramp", vd.Box((60, 20, 2)), pose=vd.Pose((40, 0, -1), rpy=(0.05, -0.1, 0)))
        ramp.actor("car", CAR, route=vd.Route([(0, 0), (69, 0)], speed=10))
        ramp.actor("walker", vd.Capsule(0.3, 1.1), route=vd.Route([(0, 4), (69, 4)], speed=10), upright=True)
        sim = vd.Simulation(ramp)
        sim.advance(5.5)
        yaw = sim["car"].pose().yaw
        up = vd.Pose(rpy=(0.05, -0.1, 0)).rotation.apply((0, 0, 1))
        np.testing.assert_allclose(sim["car"].pose().rotation.apply((0, 0, 1)), up, atol=1e-3)
        self.assertAlmostEqual(yaw, 0.0, 6)
        self.assertAlmostEqual(sim["car"].pose().position[2], 1.0 / math.cos(0.11) - 1.0 + 1.5 + 0.7, 1)
        np.testing.assert_allclose(sim["walker"].pose().rpy, 0.0, atol=1e-9)
        with self.assertRaisesRegex(vd.VeldrainError, r"no ground below its route at .* \(30"):
            hole = vd.World().obstacle("road", vd.Box((60, 9, 1)), pose=vd.Pose((0, 0, -0.5)))
            vd.Simulation(hole.actor("car", CAR, route=vd.Route([(0, 0), (60, 0)], speed=10)))
        bridge = vd.World().ground().obstacle("bridge", vd.Box((4, 20, 1)), pose=vd.Pose((30, 0, 6)))
        sim = vd.Simulation(bridge.actor("car", CAR, route=vd.Route([(0, 0), (60, 0)], speed=10)))
        x, _ = sampled(sim, 5.0, "car", 0.1)
        np.testing.assert_allclose(x[:, 2], 0.7, atol=1e-6)

    def test_joints_are_led_too(self) -> None:
        m = vd.Model("cart").link("body", vd.Box((1, 0.5, 0.2)), mass=1)
        for name, kind, pose in (("wheel", "continuous", (0, 0.3, 0)), ("steer", "revolute", (0.4, 0, 0))):
            m.link(name, vd.Sphere(0.1), mass=0.1)
            axis = (0, 1, 0) if name == "wheel" else (0, 0, 1)
            m.joint(
                f"{name}_joint",
                "body",
                name,
                kind,
                vd.Pose(pose),
                axis=axis,
                limits=None if name == "wheel" else (-1, 1),
            )
        m.link("arm", vd.Box((0.1, 0.1, 0.4)), mass=0.1).joint(
            "arm", "body", "arm", "revolute", limits=(-1, 1), axis=(0, 1, 0)
        )
        joints = {
            "wheel_joint": vd.Rolls("10 cm"),
            "steer_joint": vd.Steers("2 m"),
            "arm": vd.Swings(0.4, stride="1 m"),
        }
        turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
        ring = vd.Route(np.column_stack([10 * np.cos(turn), 10 * np.sin(turn)]), speed=2, closed=True)
        sim = vd.Simulation(vd.World().ground().actor("cart", m, route=ring, joints=joints))
        sim.advance(3.1)
        got = dict(zip(sim["cart"].joints, sim["cart"].positions, strict=True))
        self.assertAlmostEqual(got["wheel_joint"], 6.2 / 0.1, 3)
        self.assertAlmostEqual(got["steer_joint"], math.atan(2 / 10), 3)
        self.assertAlmostEqual(got["arm"], 0.4 * math.sin(2 * math.pi * 6.2), 3)
        self.assertAlmostEqual(sim["cart"].velocities[sim["cart"].joints.index("wheel_joint")], 20.0, 6)

    def test_it_pushes_is_touched_and_passes(self) -> None:
        for passes in (False, True):
            w = one(vd.Route(STRAIGHT, speed=5), passes=passes)
            w.body("crate", vd.Box((1, 1, 1)), mass=50, pose=vd.Pose((20, 0, 0.5)))
            sim = vd.Simulation(w)
            sim.advance(6)
            self.assertEqual(sim["crate"].pose().position[0] > 30, not passes)
            if passes:
                with self.assertRaisesRegex(vd.VeldrainError, "can never be seen: their contact is switched off"):
                    vd.run(vd.Scenario(w, 1).expect("clear", never=vd.touching("car", "crate")))
        w = one(vd.Route(STRAIGHT, speed=5)).obstacle("wall", vd.Box((1, 9, 3)), pose=vd.Pose((20, 0, 1.5)))
        touched = vd.run(vd.Scenario(w, "6 s").expect("clear", never=vd.touching("car", "wall")))
        self.assertFalse(touched.outcome["passed"])
        self.assertAlmostEqual(touched.outcome["expectations"]["clear"]["time"], (19.5 - 2) / 5, 1)

    def test_a_leader_of_ones_own(self) -> None:
        class Lift(vd.Leader):
            def at(self, times: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
                z = 2 + np.sin(times)
                return np.column_stack([0 * z, 0 * z, z]), np.tile((0.0, 0, 0, 1), (len(times), 1))

        sim = vd.Simulation(vd.World().actor("load", vd.Box((1, 1, 1)), route=Lift()))
        sim.advance(2.5)  # longer than a block of steps
        self.assertAlmostEqual(sim["load"].pose().position[2], 2 + math.sin(2.5), 6)
        self.assertAlmostEqual(sim["load"].velocity()[0][2], math.cos(2.5), 3)


class Told(unittest.TestCase):
    def test_going_stopping_and_shifting(self) -> None:
        s = vd.Scenario(one(vd.Route([(0, 0), (400, 0)], speed=10, acceleration=2, deceleration=4)), "40 s")
        s.at("2 s").stop("car", deceleration=5).at("5 s").go("car", speed=6).at("9 s").shift("car", 3.5, within="4 s")
        s.at("15 s").go("car").at("20 s").stop("car", at=(250, 0))
        table = vd.run(s)["tf"].query("child_frame_id == 'car/body'").reset_index()
        at = dict(zip(table["time"].round(3), table[["x", "y"]].to_numpy(), strict=True))
        np.testing.assert_allclose(at[4.5], (20 + 100 / (2 * 5), 0), atol=1e-2)
        np.testing.assert_allclose(at[8.0], (30 + 3 * 3, 0), atol=1e-2)
        np.testing.assert_allclose(at[13.0][1], 3.5, atol=1e-6)
        self.assertLess(np.abs(np.diff(table["y"])).max(), 0.2)
        np.testing.assert_allclose(at[40.0], (248, 3.5), atol=1e-3)  # its front at the line

    def test_what_it_cannot_do_is_told(self) -> None:
        """It never slides sideways, and is as fast as it is told."""
        aside = vd.Route([(0, 50), (400, 50)], speed=10)
        for said, act in (
            (r"moves 50 m aside over 188 m of way, not over 10 m", lambda s: s.take("car", aside, over="10 m")),
            (r"moves 3.5 m aside over 13.1 m of way, not over 2 m", lambda s: s.shift("car", 3.5, within="0.2 s")),
            (r"a point that lies 100 m from its route", lambda s: s.stop("car", deceleration=4, at=(90, 100))),
            (r"it stands 8.5 m too far on", lambda s: s.stop("car", deceleration=4, at=(26, 0))),
        ):
            s = vd.Scenario(one(vd.Route([(0, 0), (400, 0)], speed=10)), "5 s")
            act(s.at("2 s"))
            recording = vd.run(s)
            table = recording["tf"].query("child_frame_id == 'car/body'")
            speeds = np.hypot(np.diff(table["x"]), np.diff(table["y"])) / np.diff(table["time"])
            with self.subTest(said):
                self.assertRegex(" ".join(recording.outcome["notices"]), said)
                self.assertLess(speeds.max(), 10.01)

    def test_after_another_route_is_taken_all_is_of_that(self) -> None:
        turned = vd.Route([(0, 20), (0, 200)], speed=6)
        s = vd.Scenario(one(vd.Route([(0, -60), (0, 200)], speed=10)), "60 s")
        s.at("1 s").take("car", turned).at("4 s").go("car", speed=2).at("8 s").go("car").at("12 s").say("again")
        s.at("20 s").stop("car", at=(0, 150))
        trial, other = vd.Trial(s), vd.Trial(s)
        trial.advance("12 s")
        self.assertAlmostEqual(float(np.linalg.norm(trial.simulation["car"].velocity()[0])), 6.0, delta=1e-3)
        other.restore(trial.snapshot())
        for one_of in (trial, other):
            one_of.run()
            self.assertAlmostEqual(float(one_of.simulation["car"].pose().position[1]), 148.0, 3)

    def test_stopping_at_a_point_of_a_ring_and_off_the_route(self) -> None:
        turn = np.linspace(0, 2 * np.pi, 36, endpoint=False)
        ring = vd.Route(np.column_stack([30 * np.sin(turn), 30 - 30 * np.cos(turn)]), speed=10, closed=True)
        s = vd.Scenario(one(ring), "40 s").at("5 s").stop("car", at=(0, 0))  # it has just come from there
        trial = vd.Trial(s)
        trial.run()
        x, y, _ = trial.simulation["car"].pose().position
        self.assertAlmostEqual(2 * 30 * math.asin(math.hypot(x, y) / 60), 2.0, 1)  # once round, its front at the point
        s = vd.Scenario(one(ring), "9 s").at("2 s").leave("car").at("4 s").stop("car", at=(0, 0))
        self.assertRegex(" ".join(vd.run(s).outcome["notices"]), "car: has left its route, and stops where it can")

    def test_leaving_and_taking_another_route(self) -> None:
        turn = np.linspace(0, 2 * np.pi, 36, endpoint=False)
        ring = vd.Route(np.column_stack([30 * np.sin(turn), 30 - 30 * np.cos(turn)]), speed=10, closed=True)
        s = vd.Scenario(one(ring), "15 s")
        s.at("2 s").leave("car", over="2 m").at("4 s").take(
            "car", vd.Route([(0, 40), (200, 40)], speed=10), over="20 m"
        )
        events = vd.run(s)
        table = events["tf"].query("child_frame_id == 'car/body'")
        straight = table[(table["time"] > 2.3) & (table["time"] < 3.9)]
        ways = np.unwrap(np.arctan2(np.diff(straight["y"]), np.diff(straight["x"])))
        self.assertLess(np.ptp(ways), 1e-6)
        self.assertAlmostEqual(float(table["y"].iloc[-1]), 40.0, 3)
        self.assertIn("car leaves its route", " ".join(events["scenario/events"]["data"]))

    def test_a_gap_is_kept_as_the_model_says(self) -> None:
        w = vd.World().ground().actor("front", CAR, route=vd.Route(STRAIGHT + [(2000, 0)], speed=15), start="60 m")
        keeps = vd.Gap("1.5 s", to="front", standstill="2 m")
        w.actor("car", CAR, route=vd.Route(STRAIGHT + [(2000, 0)], speed=25), keeps=keeps)
        s = vd.Scenario(w, "60 s").at("40 s").stop("front", deceleration=4)
        s.expect("no touch", never=vd.touching("front", "car")).expect("stands", at_the_end=vd.speed("car") < 0.05)
        table = vd.run(s)
        self.assertTrue(table.outcome["passed"])
        rows = [table["tf"].query(f"child_frame_id == '{n}/body'").set_index("time")["x"] for n in ("front", "car")]
        gap = (rows[0] - rows[1] - 4).dropna()
        even = (2 + 1.5 * 15) / math.sqrt(1 - (15 / 25) ** 4)  # where the model's acceleration is zero
        self.assertAlmostEqual(float(gap[39.0]), even, 0)
        self.assertAlmostEqual(float(gap.iloc[-1]), 2.0, 0)

    def test_how_it_is_told_to_speed_up_leaves_its_gap_alone(self) -> None:
        """``go`` with an acceleration of its own is for reaching a speed; who is ahead is braked for as before."""
        ends = []
        for told in (None, 0.2):
            w = vd.World().ground().actor("front", CAR, route=vd.Route(STRAIGHT + [(2000, 0)], speed=15), start="60 m")
            keeps = vd.Gap("1.5 s", to="front", standstill="2 m")
            w.actor("car", CAR, route=vd.Route(STRAIGHT + [(2000, 0)], speed=25), keeps=keeps)
            s = vd.Scenario(w, "45 s").at("30 s").go("car", speed=25, acceleration=told).at("35 s").stop("front")
            tf = vd.run(s)["tf"]
            at = [tf.query(f"child_frame_id == '{n}/body'").set_index("time")["x"] for n in ("front", "car")]
            ends.append((at[0] - at[1] - 4)[36.0:].to_numpy())
        self.assertGreater(np.ptp(ends[0]), 10)
        np.testing.assert_allclose(ends[0], ends[1], atol=0.5)

    def test_files_say_the_same_and_snapshots_go_on(self) -> None:
        text = """veldrain: world/1
ground: {}
models:
  cart: {links: {body: {parts: [{box: [1, 0.5, 0.2]}], mass: 1}, wheel: {parts: [{sphere: 0.1}], mass: 1}},
         joints: {turn: {parent: body, child: wheel, kind: continuous, axis: [0, 1, 0]}}}
actors:
  lorry: {box: [8, 2.5, 3], colour: "#556677", route: {points: [[0, 0], [90 m, 0]], speed: 36 km/h}, start: 20 m}
  cart: {model: cart, route: {points: [[0, 5], [50, 9], [90, 5]], speed: 5}, joints: {turn: {rolls: 10 cm}},
         keeps: {time: 2 s, to: lorry}, begin: 1 s, offset: 50 cm, upright: true}
"""
        course = """veldrain: scenario/1
world: a.world.yaml
duration: 6 s
timeline:
  - {at: 1 s, stop: {actor: lorry, deceleration: 3 m/s^2}}
  - {at: 2 s, shift: {actor: cart, offset: -1 m, within: 2 s}}
  - {at: 4 s, go: lorry}
  - {at: 4 s, keep: {actor: cart, gap: {time: 1 s, to: lorry}}}
  - {at: 5 s, take: {actor: lorry, route: {points: [[0, 3], [90, 3]], speed: 4}, over: 9 m}}
  - {at: 5.5 s, leave: cart}
"""
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "a.world.yaml").write_text(text)
            (Path(folder) / "a.scenario.yaml").write_text(course)
            s = vd.load_scenario(Path(folder) / "a.scenario.yaml")
            whole = vd.run(s)
            vd.save_scenario(s, Path(folder) / "b.scenario.yaml")
            again = vd.run(vd.load_scenario(Path(folder) / "b.scenario.yaml"))
            held = vd.load_world(whole)
        for other in (again, vd.run(s)):
            self.assertTrue(whole["tf"].equals(other["tf"]))
        self.assertEqual(held.placed["cart"].course.keeps, s.world.placed["cart"].course.keeps)  # type: ignore[union-attr]
        for at in (1.5, 2.7, 5.2):
            trial, other = vd.Trial(s), vd.Trial(s)
            trial.advance(at)
            other.restore(trial.snapshot())
            trial.run()
            other.run()
            for name in ("lorry", "cart"):
                np.testing.assert_array_equal(
                    trial.simulation[name].pose().position, other.simulation[name].pose().position
                )

    def test_what_is_wrong_is_told(self) -> None:
        route = vd.Route(STRAIGHT, speed=5)
        cases = {
            "is no line": lambda: vd.Route([(0, 0)], speed=1),
            "no speed along": lambda: vd.Route(STRAIGHT, speed=-1),
            "leads nothing": lambda: one("x"),  # type: ignore[arg-type]
            "begins at 300 m": lambda: vd.Simulation(one(route, start=300)),
            "no actor, robot or body 'lory'": lambda: vd.Simulation(one(route, keeps=vd.Gap("2 s", to="lory"))),
            "no actor on a route 'cat'": lambda: vd.run(vd.Scenario(one(route), 1.0).at(0).go("cat")),
            "2 speeds": lambda: vd.Route([(0, 0), (1, 0), (2, 0)], speed=[1, 2]),
            "led along a path": lambda: vd.run(vd.Scenario(one(route), 1.0).at(0).push("car", (1, 0, 0))),
        }
        for said, act in cases.items():
            with self.subTest(said), self.assertRaisesRegex(vd.VeldrainError, said):
                act()


if __name__ == "__main__":
    unittest.main()
