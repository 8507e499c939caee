"""Joints of all kinds, loops, springs, led roots, reactions, and what controllers ask of a robot."""

from __future__ import annotations

import contextlib
import math
import unittest

import numpy as np
from scipy.spatial.transform import Rotation

import veldrain as vd
from tests.physics.cases.loops import BASE, COUPLER, ROCKER, bar, four_bar
from tests.physics.test_motion import G, placed
from veldrain.simulation import engine_of

Y = (0, 1, 0)


def arm(root_mass: float | None = None) -> vd.Model:
    """Five links on joints of every moving kind."""
    m = vd.Model("arm").link("base", vd.Box((0.1, 0.1, 0.1)), mass=root_mass)
    at = vd.Pose((0.02, 0.03, 0.25), rpy=(0.2, -0.1, 0.3))
    kinds = ("revolute", "prismatic", "ball", "planar", "continuous")
    for k, kind in enumerate(kinds):
        shape = vd.Part(vd.Box((0.06, 0.08, 0.3)), pose=vd.Pose((0.01, 0, 0.12)), role="visual")
        m.link(f"l{k}", shape, mass=1 + 0.3 * k, surface=None)
        m.joint(
            f"j{k}",
            f"l{k - 1}" if k else "base",
            f"l{k}",
            kind=kind,
            pose=at,
            axis=(0.3, 1, -0.4)[k % 3 :] + (0.3, 1, -0.4)[: k % 3],
            damping=0.02 * k,
        )
    return m.motor("j0", "effort", inertia=0.02).frame("tip", on="l4", pose=vd.Pose((0, 0, 0.3)))


class Kinds(unittest.TestCase):
    def test_positions_are_what_is_set(self) -> None:
        """Planar: slides along x and y of the joint, then turns; ball: a rotation vector."""
        m = vd.Model("m").link("a").link("puck", mass=1).link("eye", mass=1)
        m.joint("slide", "a", "puck", kind="planar").joint("look", "a", "eye", kind="ball", pose=vd.Pose((0, 0, 1)))
        sim = placed(m, **{"slide/x": 0.2, "slide/y": -0.1, "slide/yaw": 0.5, "look/x": 0.3, "look/z": -0.2})
        names = ("slide/x", "slide/y", "slide/yaw", "look/x", "look/y", "look/z")
        self.assertEqual(sim["m"].joints, names)
        for values in ((0.2, -0.1, 0.5, 0.3, 0.0, -0.2), (1.0, 2.0, -1.0, 0.1, 0.2, 0.3)):
            sim["m"].positions = values
            np.testing.assert_allclose(sim["m"].positions, values, atol=1e-12)
            np.testing.assert_allclose(sim["m"].pose("puck").position, (*values[:2], 0), atol=1e-12)
            self.assertAlmostEqual(sim["m"].pose("puck").yaw, values[2])
            expected = Rotation.from_rotvec(values[3:]).as_matrix()
            np.testing.assert_allclose(sim["m"].pose("eye").matrix, expected, atol=1e-12)

    def test_planar_joint_rubs_as_a_puck(self) -> None:
        """Each slide has its own Coulomb friction: v²·m/(2·F); the turn is free."""
        m = vd.Model("m").link("a").link("puck", vd.Box((0.1, 0.1, 0.1)), mass=2)
        sim = placed(m.joint("slide", "a", "puck", kind="planar", friction=4))
        sim["m"].velocities = (1.0, 0.0, 3.0)
        sim.advance(1)
        np.testing.assert_allclose(sim["m"].positions, (1 / 4, 0, 3), atol=1e-3)

    def test_mimic_follows(self) -> None:
        """Two fingers: one effort moves both, with the inertia of both: a = T/(I + r²·I)."""
        m = vd.Model("grip").link("palm")
        for name in ("left", "right"):
            m.link(name, mass=1, com=(0, 0, 0), inertia=np.eye(3) * 0.1)
        m.joint("a", "palm", "left", kind="continuous").motor("a")
        m.joint("b", "palm", "right", kind="continuous", mimic=("a", -2.0, 0.3))
        sim = placed(m)
        self.assertAlmostEqual(sim["grip"].positions[1], 0.3)  # closed at the start
        sim["grip"].command("a", effort=1.0)
        for _ in range(10):
            sim.advance(0.1)
            a, b = sim["grip"].positions
            self.assertAlmostEqual(b, 0.3 - 2 * a, places=9)
        self.assertAlmostEqual(sim["grip"].velocities[0], 1 / (0.1 + 4 * 0.1), places=6)

    def test_springs_in_joints_and_between_links(self) -> None:
        """A weight on a spring sags m·g/k, and swings with √(k/m) and the damping asked for."""
        for between in (False, True):
            with self.subTest(between=between):
                m = vd.Model("m").link("top").link("weight", mass=2)
                spring = {} if between else {"stiffness": 800.0, "damping": 4.0, "rest_position": "-20 cm"}
                m.joint("drop", "top", "weight", kind="prismatic", **spring)
                if between:
                    m.spring(
                        "coil", "weight", "top", stiffness="800 N/m", damping=4.0, rest_length="20 cm", at_b=(0, 0, 0)
                    )
                sim = placed(m, drop=-0.2)
                rate, decay = math.sqrt(800 / 2 - 1), 4.0 / (2 * 2)
                for _ in range(10):
                    sim.advance(0.05)
                    t = sim.time
                    sag = (
                        2
                        * G
                        / 800
                        * (1 - math.exp(-decay * t) * (math.cos(rate * t) + decay / rate * math.sin(rate * t)))
                    )
                    self.assertAlmostEqual(sim["m"].positions[0], -0.2 - sag, delta=2e-3)
                sim.advance(20)
                self.assertAlmostEqual(sim["m"].positions[0], -0.2 - 2 * G / 800, places=6)
                self.assertAlmostEqual(sum(sim.energy()), -2 * G * (0.2 + 2 * G / 800) + (2 * G) ** 2 / 1600, places=4)

    def test_rope_is_slack_and_then_taut(self) -> None:
        m = vd.Model("m").link("hook").link("rake", mass=3).joint("fall", "hook", "rake", kind="prismatic")
        sim = placed(m.close("rope", "rake", "hook", kind="rope", length="50 cm"), fall=-0.1)
        sim.advance(0.2)
        self.assertAlmostEqual(sim["m"].positions[0], -0.1 - G * 0.2 * 0.201 / 2, places=9)
        sim.advance(2)
        self.assertAlmostEqual(sim["m"].positions[0], -0.5, places=6)
        self.assertAlmostEqual(sim["m"].velocities[0], 0.0, places=6)

    def test_led_root(self) -> None:
        """A platform goes from pose to pose in time, carries a box by friction, and swings what hangs on it."""
        m = vd.Model("lift").link("deck", vd.Box((1, 1, 0.1)), surface=vd.Surface(friction=0.9))
        m.link("bob", mass=1, com=(0, 0, -0.3)).joint("hang", "deck", "bob", kind="ball")
        path = [
            (0, vd.Pose((0, 0, 1))),
            ("2 s", vd.Pose((1, 0, 1.5), yaw="90 deg")),
            (3, vd.Pose((1, 0, 1.5), yaw="90 deg")),
        ]
        w = vd.World().place(m, path=path).body("box", vd.Box((0.2, 0.2, 0.2)), mass=2, pose=vd.Pose((0.2, 0, 1.15)))
        sim = vd.Simulation(w)
        for time in (1.0, 2.0, 3.0, 4.0):
            sim.advance(1)
            pose = sim["lift"].pose()
            if time >= 2:
                np.testing.assert_allclose(pose.position, (1, 0, 1.5), atol=1e-9)
                self.assertAlmostEqual(pose.yaw, math.pi / 2, places=6)
            np.testing.assert_allclose(sim["box"].pose().position, pose.apply((0.2, 0, 0.15)), atol=2e-3)
        self.assertGreater(np.linalg.norm(sim["lift"].positions), 0.01)
        with self.assertRaisesRegex(vd.VeldrainError, "does not move freely"):
            sim["lift"].move_to(vd.Pose())

    def test_linkage_thrown_on_the_ground(self) -> None:
        """A free four-bar that falls, lands and jams: its loop stays closed, and the ground carries its weight."""
        base = vd.Part(vd.Box((BASE, 0.1, 0.05)), pose=vd.Pose((BASE / 2, 0, -0.05)))
        sim = vd.Simulation(
            vd.World()
            .ground()
            .place(four_bar(base, limit=20), pose=vd.Pose((0, 0, 0.5), rpy=(0.3, 0.2, 0.1)), joints={"drive": 0.3})
        )
        r, worst = sim["linkage"], 0.0
        r.command("drive", velocity=6)
        for _ in range(300):
            sim.advance(0.01)
            gap = r.pose("coupler").apply((COUPLER, 0, 0)) - r.pose("rocker").apply((ROCKER, 0, 0))
            worst = max(worst, float(np.linalg.norm(gap)))
        self.assertLess(worst, 1e-9)
        found = r.contacts()
        self.assertAlmostEqual(found[found["link_b"] == "ground"]["fz"].sum(), 2.5 * G, places=4)
        self.assertAlmostEqual(abs(r.efforts[0]), 20.0, places=6)  # the crank meets the base, and the motor its limit

    def test_light_chain_with_a_heavy_bucket(self) -> None:
        """20 links of 2 g hold 40 kg: their swing is far above what 1 ms resolves, the bucket's is that of a pendulum."""
        m = vd.Model("hoist").link("drum")
        for k in range(20):
            last = k == 19
            m.link(f"l{k}", mass=40 if last else 0.002, com=(0, 0, -0.05), inertia=np.eye(3) * (1e-2 if last else 1e-7))
            m.joint(
                f"j{k}", f"l{k - 1}" if k else "drum", f"l{k}", "continuous", vd.Pose((0, 0, -0.05 if k else 0)), axis=Y
            )
        sim = placed(m, j0=0.05)
        tops, before = [], 0.0
        while sim.time < 10:
            sim.advance(0.005)
            x = float(sim["hoist"].pose("l19").position[0])
            tops += [sim.time] if before < 0 <= x else []
            before = x
        self.assertLess(np.abs(sim["hoist"].velocities).max(), 1.0)
        self.assertAlmostEqual(np.diff(tops).mean(), 2 * math.pi * math.sqrt(1.0 / G), delta=0.05)


class Reactions(unittest.TestCase):
    def test_of_a_tower(self) -> None:
        """Weight and its moment through fixed and moving joints, a push and an obstacle in the way included."""
        m = (
            vd.Model("crane")
            .link("base")
            .link("mast", vd.Part(vd.Box((0.1, 0.1, 1)), pose=vd.Pose((0, 0, 0.5))), mass=10)
        )
        m.link("jib", vd.Part(vd.Box((1, 0.1, 0.1)), pose=vd.Pose((0.5, 0, 0))), mass=4).link("hook", mass=2)
        m.joint("foot", "base", "mast", kind="fixed").joint(
            "slew", "mast", "jib", kind="continuous", pose=vd.Pose((0, 0, 1))
        )
        m.motor("slew", "velocity", damping=100).joint("eye", "jib", "hook", kind="fixed", pose=vd.Pose((1, 0, 0)))
        w = vd.World().place(m, fixed=True)
        sim = vd.Simulation(w)
        sim.advance(0.1)
        for joint, force, moment in (
            ("foot", 16 * G, -(4 * 0.5 + 2) * G),
            ("slew", 6 * G, -(4 * 0.5 + 2) * G),
            ("eye", 2 * G, 0.0),
        ):
            with self.subTest(joint=joint):
                f, t = sim["crane"].reaction(joint)
                np.testing.assert_allclose(f, (0, 0, force), atol=1e-6)
                np.testing.assert_allclose(t, (0, moment, 0), atol=1e-6)
        sim.push("crane/hook", (0, 7, -5), lasting=0.5)
        sim.advance(0.3)
        np.testing.assert_allclose(sim["crane"].reaction("eye")[0][2], 2 * G + 5, atol=1e-6)
        np.testing.assert_allclose(sim["crane"].reaction("foot")[0][2], 16 * G + 5, atol=1e-6)

    def test_of_a_foot_on_the_ground(self) -> None:
        """A free robot at rest: the leg's joint carries the hull, not the foot below it."""
        m = vd.Model("m").link("hull", mass=6).link("foot", vd.Box((0.3, 0.3, 0.1)), mass=2)
        m.joint("leg", "hull", "foot", kind="fixed", pose=vd.Pose((0, 0, -0.5)))
        sim = vd.Simulation(vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.55))))
        sim.advance(0.5)
        np.testing.assert_allclose(sim["m"].reaction("leg")[0], (0, 0, -6 * G), atol=1e-5)
        self.assertAlmostEqual(sim["m"].contacts()["fz"].sum(), 8 * G, places=5)

    def test_loop_carries_its_share(self) -> None:
        """A bar on two hinges, one of them a closed loop: each carries half."""
        m = vd.Model("m").link("base").link("bar", bar(1.0), mass=4).joint("a", "base", "bar", kind="revolute", axis=Y)
        m.close("b", "bar", "base", kind="ball", pose_a=vd.Pose((1, 0, 0)), pose_b=vd.Pose((1, 0, 0)))
        sim = placed(m)
        sim.advance(0.2)
        np.testing.assert_allclose(sim["m"].reaction("a")[0], (0, 0, 2 * G), atol=1e-6)


class Momentum(unittest.TestCase):
    def test_of_a_turning_bar_that_flies(self) -> None:
        """m·v, and r × m·v + I·ω about the world's origin."""
        w = vd.World(gravity=(0, 0, 0)).place(vd.Model("bar").link("bar", bar(0.6), mass=2))
        sim = vd.Simulation(w)
        at, v, spin = np.array((1.0, 2.0, 3.0)), np.array((0.3, 0.0, -0.5)), np.array((0.0, 0.0, 4.0))
        sim["bar"].move_to(vd.Pose(at - (0.3, 0, 0)), velocity=v - np.cross(spin, (0.3, 0, 0)), spin=spin)
        linear, angular = sim.momentum()
        np.testing.assert_allclose(linear, 2 * v, atol=1e-12)
        inertia = 2 * (0.6**2 + 0.02**2) / 12
        np.testing.assert_allclose(angular, np.cross(at, 2 * v) + inertia * spin, atol=1e-12)
        sim.advance(1)
        np.testing.assert_allclose(sim.momentum()[1], angular, atol=1e-9)
        np.testing.assert_allclose(sim["bar"].pose().apply((0.3, 0, 0)), at + v, atol=1e-9)

    def test_of_a_robot_whose_motors_work(self) -> None:
        """Nothing from outside: a free arm moves its joints, and keeps both momenta to the first order of the step."""
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(arm(3.0)), step=1e-4)
        sim["arm"].command("j0", effort=0.5)
        sim.advance(0.5)
        self.assertGreater(sim.energy()[0], 0.01)
        for part in sim.momentum():
            np.testing.assert_allclose(part, 0, atol=3e-3)


class ForControllers(unittest.TestCase):
    def sims(self) -> list[vd.Simulation]:
        random = np.random.default_rng(4)
        found = []
        for free in (False, True):
            w = vd.World()
            joints = {c: float(random.uniform(-0.5, 0.5)) for c in arm().coordinates()}
            w.place(
                arm(3.0 if free else None),
                pose=vd.Pose((0.3, 0.2, 1), rpy=(0.4, 0.2, -1)),
                fixed=not free,
                joints=joints,
            )
            sim = vd.Simulation(w, step=1e-6)
            if free:
                sim["arm"].move_to(sim["arm"].pose(), velocity=(0.3, -0.2, 0.4), spin=(1, -0.5, 0.7))
            sim["arm"].velocities = random.normal(size=len(joints))
            found.append(sim)
        return found

    def velocity(self, sim: vd.Simulation) -> np.ndarray:
        r = sim["arm"]
        free = len(r.inertia_matrix()) > len(r.joints)
        return np.concatenate([*r.velocity(), r.velocities]) if free else r.velocities

    def test_jacobian_times_velocities(self) -> None:
        for sim in self.sims():
            with self.subTest(free=len(self.velocity(sim)) > 9):
                for link, at in (("l2", (0.1, 0.2, 0.3)), ("tip", (0, 0, 0)), (None, (0, 0, 0))):
                    linear, angular = sim["arm"].velocity(link)
                    R = sim["arm"].pose(link).matrix
                    expected = (*(linear + np.cross(angular, R @ at)), *angular)
                    np.testing.assert_allclose(sim["arm"].jacobian(link, at) @ self.velocity(sim), expected, atol=1e-12)

    def test_inertia_matrix_gives_the_energy(self) -> None:
        for sim in self.sims():
            v, M = self.velocity(sim), sim["arm"].inertia_matrix()
            self.assertAlmostEqual(0.5 * v @ M @ v, sim.energy()[0], places=10)
            np.testing.assert_allclose(M, M.T, atol=1e-12)

    def test_inverse_dynamics_of_the_motion_that_happens(self) -> None:
        """Nothing drives the arm but what is pushed in: the efforts for the accelerations it has are its motor's."""
        for sim in self.sims():
            sim["arm"].command("j0", effort=2.5)
            before = self.velocity(sim)
            efforts = np.zeros(len(before))
            efforts[list(sim["arm"].joints).index("j0") + len(before) - len(sim["arm"].joints)] = 2.5
            inverse = sim["arm"].inverse_dynamics
            bias = inverse(np.zeros(len(before)))
            predicted = np.linalg.solve(sim["arm"].inertia_matrix(), efforts - bias)
            np.testing.assert_allclose(inverse(predicted), efforts, atol=1e-9)
            sim.advance(1e-6)
            np.testing.assert_allclose((self.velocity(sim) - before) / 1e-6, predicted, rtol=1e-3, atol=1e-3)

    def test_computed_torque_holds_a_path(self) -> None:
        """q̈ wanted + gains on the error, through inverse dynamics: an arm follows a sine to a hundredth of a degree."""
        m = vd.Model("arm").link("base")
        for k in range(3):
            m.link(f"l{k}", vd.Part(bar(0.3).shape, pose=bar(0.3).pose, role="visual"), mass=2)
            m.joint(
                f"j{k}",
                f"l{k - 1}" if k else "base",
                f"l{k}",
                "revolute",
                vd.Pose((0.3 if k else 0, 0, 0)),
                axis=((0, 0, 1), Y, Y)[k],
            )
            m.motor(f"j{k}")
        sim = placed(m)
        r, worst = sim["arm"], 0.0
        for k in range(1500):
            t = 1e-3 * k
            want, rate, pull = (
                0.5 * np.sin(2 * t) * np.ones(3),
                np.cos(2 * t) * np.ones(3),
                -2 * np.sin(2 * t) * np.ones(3),
            )
            efforts = r.inverse_dynamics(pull + 400 * (want - r.positions) + 40 * (rate - r.velocities))
            for joint, effort in zip(r.joints, efforts, strict=True):
                r.command(joint, effort=float(effort))
            sim.advance(1e-3)
            if t > 0.8:
                worst = max(worst, float(np.abs(want - r.positions).max()))
        self.assertLess(worst, 3e-3)


class Integrators(unittest.TestCase):
    def test_rk4_warns_once_where_it_cannot_be_used(self) -> None:
        ball = vd.World().ground().body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((0, 0, 0.5)))
        rail = vd.Model("m").link("a").link("b", mass=1).joint("j", "a", "b", kind="prismatic", friction=1)
        for world, reason in (
            (ball, "contact in reach"),
            (vd.World().place(rail, fixed=True), "joint friction"),
            (vd.World().place(four_bar(), fixed=True), "closed loops"),
        ):
            with self.subTest(reason=reason), self.assertLogs("veldrain", "WARNING") as logs:
                sim = vd.Simulation(world, integrator="rk4")
                for _ in range(10):
                    sim.advance(0.1)
                self.assertEqual(len(logs.output), 1)
                self.assertIn(f"rk4 was asked for and cannot be used with {reason}", logs.output[0])

    def test_snapshot_with_loops_and_balls(self) -> None:
        for integrator in ("semi-implicit", "rk4"):
            w = vd.World().place(four_bar(), fixed=True).place(arm(2.0), pose=vd.Pose((0, 2, 0)))
            with self.subTest(integrator=integrator):
                sim = vd.Simulation(w, integrator=integrator)
                with self.assertLogs("veldrain") if integrator == "rk4" else contextlib.nullcontext():
                    sim.advance(0.2)
                snapshot, states = sim.snapshot(), []
                for _ in range(2):
                    sim.advance(0.3)
                    states.append(engine_of(sim).plant.q.tobytes() + engine_of(sim).plant.speeds[0].tobytes())
                    sim.restore(snapshot)
                self.assertEqual(states[0], states[1])


class BadInput(unittest.TestCase):
    def test_models(self) -> None:
        def model() -> vd.Model:
            return vd.Model("m").link("a", mass=1).link("b", mass=1).joint("j", "a", "b", kind="revolute")

        def chain(**end: object) -> vd.Simulation:
            m = model().link("c", mass=1).joint("k", "b", "c", kind="revolute", pose=vd.Pose((1, 0, 0)))
            m.close("ring", "c", "a", pose_a=vd.Pose((1, 0, 0)), pose_b=vd.Pose((9, 0, 0)))
            return placed(m)

        open_mesh = vd.Mesh.of([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], [(0, 1, 2), (0, 1, 3)])
        flat = vd.HeightField(np.zeros((2, 2)), 1.0)
        for words, act in (
            (r"m/x: no kind of loop 'hinge'", lambda: model().close("x", "a", "b", kind="hinge")),  # type: ignore[arg-type]
            (r"m/x: no link 'd'", lambda: model().close("x", "a", "d")),
            (r"both ends on link 'a'", lambda: model().spring("x", "a", "a", stiffness=1)),
            (r"without stiffness and damping", lambda: model().spring("x", "a", "b")),
            (r"kind rope with length 0 m", lambda: model().close("x", "a", "b", kind="rope")),
            (r"m/ring: the loop is open by .* and no free joint closes it", chain),
            (
                r"no joint to follow 'z'",
                lambda: model().link("c", mass=1).joint("k", "b", "c", "revolute", mimic=("z", 1, 0)),
            ),
            (
                r"a ball joint has no position motor",
                lambda: model().link("c", mass=1).joint("k", "b", "c", "ball").motor("k/x", "position", 1),
            ),
            (r"the mesh is not closed, so that it has no volume", lambda: vd.World().body("x", open_mesh, mass=1)),
            (
                r"x: a mesh of exact triangles on something that moves",
                lambda: vd.Simulation(vd.World().body("x", vd.Mesh.of(*octahedron(), collide="triangles"), mass=1)),
            ),
            (r"heights of shape \(1, 3\)", lambda: vd.HeightField([[0, 0, 0]], 1.0)),
            (r"no such mesh file", lambda: vd.Mesh("missing.stl")),
            (
                r"a path that cannot be followed",
                lambda: vd.World().place(model(), path=[(1, vd.Pose()), (0, vd.Pose())]),
            ),
            (
                r"no thing 'gound'; did you mean 'ground'",
                lambda: vd.World().ground().obstacle("f", flat).no_contact("f", "gound"),
            ),
            (r"Surface: stiffness is 0 N/m; give a value above 0", lambda: vd.Surface(stiffness=0)),
            (r"no integrator 'rk5'", lambda: vd.Simulation(vd.World().ground(), integrator="rk5")),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(vd.VeldrainError, words):
                act()


def octahedron(size: float = 0.1) -> tuple[np.ndarray, list[tuple[int, int, int]]]:
    corners = np.array([(1, 0, 0), (-1, 0, 0), (0, 1, 0), (0, -1, 0), (0, 0, 1), (0, 0, -1)]) * size
    faces = [(0, 2, 4), (2, 1, 4), (1, 3, 4), (3, 0, 4), (2, 0, 5), (1, 2, 5), (3, 1, 5), (0, 3, 5)]
    return corners, faces


if __name__ == "__main__":
    unittest.main()
