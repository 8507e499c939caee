"""What findings say in numbers, against what can be worked out by hand; and where rules must keep silent."""

from __future__ import annotations

import math
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from ruamel.yaml import YAML

import veldrain as vd
from tests.check_cases import FLAT, WHEEL, boom, cart, on_ground, seeing, tube
from veldrain.model.fitting import least_ball, least_rectangle
from veldrain.review.balance import beyond
from veldrain.review.fixing import overlay
from veldrain.review.look import figure, mm
from veldrain.units import quantity

G = 9.81


def only(thing: Any, rule: str, **options: Any) -> Any:
    """The one finding of a rule."""
    (finding,) = vd.check(thing, **options).of(rule)
    return finding


class Numbers(unittest.TestCase):
    def test_weight_and_sag_of_a_boom(self) -> None:
        """A boom of 2 kg with its middle 25 cm out weighs m g l on its joint."""
        asked = 2 * G * 0.25
        weak = only(boom(2, mode="position", stiffness=2000, damping=40, limit=3), "holds-no-weight")
        self.assertAlmostEqual(weak.numbers["asked"], asked, 6)
        sag = only(boom(2, mode="position", stiffness=50, damping=10), "sags")
        self.assertAlmostEqual(sag.numbers["sag"], asked / 50, 6)
        self.assertIn(f"by {math.degrees(asked / 50):.3g}°", sag.problem)
        self.assertIn(f"{asked / math.radians(0.5):.3g} N·m/rad for 0.5°", sag.cure)
        raised = boom(2, mode="position", stiffness=50, damping=10).posture("up", {"lift": "-80 deg"})
        found = vd.check(raised, posture="up").of("sags")
        self.assertEqual(found, [])  # cos 80° of it: 0.98°

    def test_sag_of_a_slide(self) -> None:
        m = vd.Model("hoist").link("frame", mass=9).link("hook", vd.Sphere(0.1), mass=20)
        m.joint("lift", "frame", "hook", "prismatic", limits=(-1, 1)).motor(
            "lift", "position", stiffness="20 kN/m", damping=900
        )
        self.assertAlmostEqual(only(m, "sags").numbers["sag"], 20 * G / 20e3, 9)

    def test_damping_and_step_of_a_motor(self) -> None:
        """The boom's inertia about its joint is that of its capsule, by Steiner."""
        inertia = 2 * (vd.Capsule(0.03, 0.4).unit_inertia()[0, 0] + 0.25**2)
        slow = only(boom(2, mode="position", stiffness=500, damping=900), "mostly-damping")
        self.assertAlmostEqual(slow.numbers["time s"], 900 / 500)
        self.assertAlmostEqual(slow.numbers["ratio"], 900 / (2 * math.sqrt(500 * inertia)), 6)
        stiff = only(boom(2, mode="position", stiffness=90e3, damping=20), "stiff-for-the-step")
        self.assertAlmostEqual(stiff.numbers["time s"], math.sqrt(inertia / 90e3), 9)
        self.assertAlmostEqual(stiff.numbers["most"], inertia * 500**2, 3)
        self.assertEqual(
            vd.check(boom(2, mode="position", stiffness=90e3, damping=20), step="0.1 ms").of("stiff-for-the-step"), []
        )

    def test_hollow_share_of_a_tube(self) -> None:
        finding = only(vd.Model("culvert").link("pipe", tube("hull"), mass=20), "hollow-filled")
        self.assertAlmostEqual(finding.numbers["empty share"], (0.1 / 0.12) ** 2, 2)

    def test_shared_volume_of_shifted_boxes(self) -> None:
        for shift in (0.5, 0.4, 0.2):
            with self.subTest(shift=shift):
                m = vd.Model("rake").link(
                    "head",
                    vd.Part(vd.Box((0.5, 0.1, 0.1)), role="visual"),
                    vd.Part(vd.Box((0.5, 0.1, 0.1)), vd.Pose((shift, 0, 0)), role="collision"),
                    mass=3,
                )
                shared = (0.5 - shift) / (0.5 + shift)
                self.assertAlmostEqual(only(m, "unlike-its-looks").numbers["shared"], shared, 1)

    def test_scales_of_wrong_units(self) -> None:
        for drawn, scale, unit in (
            (1000, 0.001, "mm"),
            (100, 0.01, "cm"),
            (1 / 0.0254, 0.0254, "in"),
            (0.001, 1000, "km"),
        ):
            with self.subTest(unit=unit):
                wheel = trimesh.creation.cylinder(0.1, 0.04, sections=32)
                mesh = vd.Mesh.of(wheel.vertices * drawn, wheel.faces, name="wheel.stl")
                m = cart(fl_part=vd.Part(mesh, FLAT, role="visual")).change_link(
                    "fl_wheel", vd.Part(WHEEL.shape, FLAT, "collision")
                )
                finding = only(m, "size")
                self.assertEqual(finding.numbers["scale"], scale)
                self.assertIn(f"unit: {unit}", finding.cure)
                self.assertIn("would make it 28.6 cm", finding.problem)

    def test_a_joint_in_millimetres_and_a_robot_in_millimetres(self) -> None:
        far = (
            cart()
            .link("lamp", vd.Box((0.1, 0.1, 0.1)), mass=1)
            .joint("foot", "hull", "lamp", "fixed", vd.Pose((0, 0, 60)))
        )
        self.assertEqual((only(far, "size").path, only(far, "size").numbers["distance m"]), ("cart/foot", 60))
        self.assertEqual(only(cart().scaled(1000, keep_mass=True), "size").numbers["scale"], 1e-3)
        self.assertEqual(vd.check(cart().scaled(3)).of("size"), [])

    def test_inertia_and_density(self) -> None:
        ball = vd.Model("ball").link("ball", vd.Sphere(0.1), mass=1, inertia=np.eye(3) * 0.004 * 12)
        self.assertAlmostEqual(only(ball, "inertia-of-its-shapes").numbers["factor"], 12)
        hollow = vd.Model("ball").link("ball", vd.Sphere(0.1), mass=1, inertia=np.eye(3) * 2 / 3 * 0.01)
        self.assertEqual(list(vd.check(hollow)), [])
        heavy = vd.Model("ball").link("ball", vd.Sphere(0.1), mass=120)
        self.assertAlmostEqual(
            only(heavy, "mass-for-its-volume").numbers["density kg/m3"], 120 / vd.Sphere(0.1).volume, 3
        )

    def test_how_far_it_tips(self) -> None:
        """A plate of 2 kg under a lamp of 8 kg on an arm: the common centre of mass is 0.8 · 0.4 m out of the middle."""
        m = vd.Model("stand").link("plate", vd.Box((0.3, 0.3, 0.02)), mass=2).link("lamp", vd.Sphere(0.08), mass=8)
        m.joint("arm", "plate", "lamp", "fixed", vd.Pose((0.4, 0, 0.3)))
        finding = only(on_ground(m, 0.01), "tips")
        self.assertAlmostEqual(finding.numbers["outside m"], 0.32 - 0.15, 4)
        self.assertIn("by lamp most of all (8 kg)", finding.problem)
        lifted = only(on_ground(m, 0.5), "tips")  # where it will have fallen to
        self.assertAlmostEqual(lifted.numbers["outside m"], 0.17, 4)
        for high, tells in (
            ("5 mm", False),
            ("12 cm", True),
        ):  # under a step: the axle that hangs takes its share or not
            m = vd.Model("trolley").link("bed", vd.Box((1.2, 0.5, 0.1)), mass=20)
            for name, x in (("front", 0.5), ("rear", -0.5)):
                for side, y in (("left", 0.3), ("right", -0.3)):
                    wheel = vd.Part(vd.Cylinder(0.1, 0.05), pose=vd.Pose(rpy=("90 deg", 0, 0)))
                    m.link(f"{name}_{side}", wheel, mass=1)
                    m.joint(
                        f"{name}_{side}_axle", "bed", f"{name}_{side}", "continuous", vd.Pose((x, y, -0.1)), (0, 1, 0)
                    )
            world = vd.World().ground(surface=vd.Surface(friction=0.8))
            depth = vd.Box((1, 2, quantity(high, "length", "")))
            world.obstacle("step", depth, pose=vd.Pose((-0.6, 0, depth.size[2] / 2)))
            world.place(m, "trolley", pose=vd.Pose((0, 0, 0.2 + depth.size[2])))
            with self.subTest(high):
                self.assertEqual("tips" in [f.rule for f in vd.check(world)], tells)

    def test_depth_in_the_ground_and_lift_over_an_obstacle(self) -> None:
        deep = only(on_ground(cart(), 0.08), "overlapping-world")
        self.assertAlmostEqual(deep.numbers["depth m"], 0.02, 4)
        self.assertAlmostEqual(deep.fix["place"]["cart"]["pose"]["xyz"][2], 0.10001, 5)
        stone = on_ground(cart()).obstacle("stone", vd.Box((0.2, 0.2, 0.12)), pose=vd.Pose((0, 0, 0.06)))
        finding = only(stone, "overlapping-world")
        self.assertAlmostEqual(
            finding.numbers["lift m"], 0.07, 3
        )  # the hull's underside is at 5 cm, the stone's top at 12
        self.assertEqual(
            vd.check(on_ground(cart()).obstacle("stone", vd.Box((0.2, 0.2, 0.04)), pose=vd.Pose((0, 0, 0.02)))).errors,
            [],
        )

    def test_gap_under_a_wheel_and_drop(self) -> None:
        self.assertAlmostEqual(only(on_ground(cart(fl_z=0.03)), "in-the-air").numbers["gap m"], 0.03, 4)
        self.assertAlmostEqual(only(on_ground(cart(), 0.25), "drops").numbers["drop m"], 0.15, 3)

    def test_soft_contact(self) -> None:
        """Frequency √(k/m) of the lightest thing on the softest ground."""
        w = (
            vd.World()
            .ground(vd.Surface(stiffness="9 MN/m"))
            .body("a", vd.Box((0.2, 0.2, 0.2)), mass=1, pose=vd.Pose((0, 0, 0.1)))
        )
        w.body("b", vd.Box((0.2, 0.2, 0.2)), mass=4, pose=vd.Pose((1, 0, 0.1)))
        finding = only(w, "fast-for-the-step")
        self.assertEqual(finding.path, "a")
        self.assertAlmostEqual(finding.numbers["frequency rad/s"], 3000, 3)

    def test_stiff_springs(self) -> None:
        spring = (
            vd.Model("m")
            .link("a", mass=5)
            .link("b", vd.Sphere(0.1), mass=2)
            .joint("j", "a", "b", "prismatic", limits=(-1, 1))
        )
        spring.spring("coil", "a", "b", stiffness="2 MN/m", rest_length=0.1)
        self.assertAlmostEqual(
            only(vd.World().place(spring, fixed=True), "fast-for-the-step").numbers["frequency rad/s"], 1000, 6
        )
        joint = vd.Model("m").link("a", mass=5).link("b", vd.Sphere(0.1), mass=2)
        joint.joint("j", "a", "b", "prismatic", limits=(-1, 1), stiffness="32 MN/m")
        scenario = vd.Scenario(vd.World().place(joint, fixed=True), 1.0, integrator="rk4")
        self.assertEqual(only(scenario, "fast-for-the-step").severity, "error")
        self.assertEqual(only(vd.World().place(joint, fixed=True), "fast-for-the-step").severity, "warning")

    def test_sensors(self) -> None:
        hidden = only(seeing(height=0.02).suppress("sees-itself", "scan", because="shown elsewhere"), "inside-a-solid")
        self.assertAlmostEqual(hidden.numbers["depth m"], 0.03, 6)
        m = seeing().link("mast", vd.Cylinder("3 cm", "20 cm"), mass=0.3)
        blocked = only(m.joint("foot", "hull", "mast", "fixed", vd.Pose((0.25, 0, 0.15))), "sees-itself")
        share = 2 * math.asin(0.03 / 0.15) / math.radians(120)  # the mast's angle out of the field's
        self.assertAlmostEqual(blocked.numbers["share"], share, 1)
        far = on_ground(seeing()).obstacle("wall", vd.Box((0.1, 2, 0.5)), pose=vd.Pose((9, 0, 0.25)))
        self.assertAlmostEqual(only(far, "sees-nothing").numbers["nearest m"], 8.95 - 0.1, 2)
        heavy = (
            cart().link("head", vd.Sphere(0.08), mass=4).joint("neck", "hull", "head", "fixed", vd.Pose((0.2, 0, 0.3)))
        )
        finding = only(heavy.mount("imu", vd.Imu(), on="head"), "heavy-sensor")
        self.assertAlmostEqual(finding.numbers["share"], 4 / 20)
        self.assertAlmostEqual(finding.numbers["shift m"], 0.2 * math.hypot(0.2, 0.3), 6)

    def test_overlap_of_legs(self) -> None:
        """Capsules of 4 cm that are 6 cm apart overlap by 2 cm; they part only when they swing."""
        m = vd.Model("walker").link("hull", vd.Box((0.4, 0.2, 0.1)), mass=5)
        for side, y in (("left", 0.03), ("right", -0.03)):
            m.link(f"{side}_leg", vd.Part(vd.Capsule(0.04, 0.3), vd.Pose((0, 0, -0.25))), mass=1)
            m.joint(
                f"{side}_hip",
                "hull",
                f"{side}_leg",
                "revolute",
                vd.Pose((0, y, -0.1)),
                axis=(1, 0, 0),
                limits=(-1.2, 1.2),
            )
        finding = only(m, "overlapping-links")
        self.assertAlmostEqual(finding.numbers["depth m"], 0.02, 3)
        self.assertRegex(finding.cure, r"they overlap at \d+ of 24 postures")
        self.assertEqual(finding.fix, {})
        self.assertEqual(vd.check(m.no_contact("left_leg", "right_leg")).of("overlapping-links"), [])


class Silence(unittest.TestCase):
    """Things that look odd and are right."""

    def test_nothing_is_found(self) -> None:
        caster = (
            vd.Model("tug")
            .link("hull", vd.Box((0.6, 0.2, 0.1)), mass=9)
            .link("fork", mass=0.3)
            .link("wheel", WHEEL, mass=1)
        )
        caster.joint("swing", "hull", "fork", "revolute", vd.Pose((0.4, 0, 0)), axis=(0, 1, 0), limits=(-0.6, 0.6))
        caster.joint("roll", "fork", "wheel", "continuous", vd.Pose((0.15, 0, 0)), axis=(0, 1, 0))  # a trailing arm
        ball = vd.Model("ball").link("shell", vd.Sphere(0.2), mass=2)
        drone = vd.Model("drone").link("hull", vd.Box((0.3, 0.3, 0.05)), mass=1)
        rope = (
            vd.World()
            .ground()
            .place(vd.Model("anchor").link("ring", vd.Sphere(0.1), mass=2), pose=vd.Pose((0, 0, 0.1)))
        )
        jointless = vd.Model("post").link("post", vd.Cylinder(0.1, 1), mass=30)
        pieces = {
            "trailing arm": caster,
            "ball on the ground": on_ground(ball, 0.2),
            "no world asked of a model": drone,
            "fixed in the air": vd.World().place(drone, fixed=True, pose=vd.Pose((0, 0, 9))),
            "led along a path": vd.World().place(drone, path=[(0, vd.Pose((0, 0, 5))), (3, vd.Pose((1, 0, 5)))]),
            "in space": vd.World(gravity=(0, 0, 0)).place(drone),
            "a body on a body": vd.World()
            .ground()
            .body("a", vd.Box((1, 1, 1)), mass=9, pose=vd.Pose((0, 0, 0.5)))
            .body("b", vd.Box((0.5, 0.5, 0.5)), mass=9, pose=vd.Pose((0, 0, 1.25))),
            "on an obstacle without ground": vd.World()
            .obstacle("table", vd.Box((2, 2, 0.1)))
            .place(jointless, pose=vd.Pose((0, 0, 0.55))),
            "as it is": rope,
        }
        for name, thing in pieces.items():
            with self.subTest(name=name):
                self.assertEqual([str(f) for f in vd.check(thing)], [])

    def test_accepted_with_a_reason(self) -> None:
        bad = boom(2, mode="position", stiffness=50, damping=10)
        quiet = vd.check(bad.copy().suppress("sags", "lift", because="a brace holds it"))
        self.assertEqual((list(quiet), [s.because for s in quiet.silenced]), ([], ["a brace holds it"]))
        w = (
            vd.World()
            .ground()
            .place(bad, fixed=True, pose=vd.Pose((0, 0, 1)))
            .suppress("sags", "crane", because="all of it is braced")
        )
        self.assertEqual(len(vd.check(w).silenced), 1)  # a name path stands for all below it
        twice = (
            vd.World()
            .ground()
            .place(bad.copy().suppress("sags", "lift", because="braced"), "one", fixed=True, pose=vd.Pose((0, 0, 1)))
        )
        twice.place(bad, "other", fixed=True, pose=vd.Pose((2, 0, 1)))
        self.assertEqual(
            ([f.path for f in vd.check(twice)], [s.finding.path for s in vd.check(twice).silenced]),
            (["other/lift"], ["one/lift"]),
        )
        vain = vd.check(
            boom(2, mode="position", stiffness=5000, damping=10).suppress("sags", "lift", because="once it did")
        )
        self.assertEqual([f.rule for f in vain], ["suppressed-in-vain"])
        with self.assertRaisesRegex(vd.VeldrainError, "suppressed without a reason"):
            bad.suppress("sags", "lift", because=" ")

    def test_findings_are_a_sequence(self) -> None:
        found = vd.check(cart(fl_axis=(0, 0, 1), rr_z=0.2).mount("imu", vd.Imu(period="2.5 ms"), on="hull"))
        self.assertEqual(
            [f.severity for f in found], sorted((f.severity for f in found), key=("error", "warning", "note").index)
        )
        self.assertEqual((len(found), repr(found)), (2, "Findings(2 errors, 0 warnings, 0 notes)"))
        self.assertEqual(found.as_data()["errors"], len(found.errors))
        self.assertEqual(str(found[0]), f"cart/fl: {found[0].problem} [wheel-axis]; {found[0].cure}")

    def test_fixes_are_words_of_a_world_file(self) -> None:
        """Those of several findings go over one another; lists of pairs go on."""
        m = cart(fl_axis=(0, 0, 1)).link("left", vd.Sphere(0.08), mass=1).link("right", vd.Sphere(0.08), mass=1)
        for side, y in (("left", 0.05), ("right", -0.05)):
            m.joint(f"{side}_arm", "hull", side, "prismatic", vd.Pose((0, y, 0.3)), axis=(0, 0, 1), limits=(0, 0.01))
        m.link("third", vd.Sphere(0.08), mass=1).joint(
            "third_arm", "hull", "third", "prismatic", vd.Pose((0, 0, 0.33)), limits=(0, 0.01)
        )
        text = overlay(vd.check(m), {"models": {"cart": {"file": "cart.urdf"}}}, Path())
        words = YAML(typ="safe").load(text)["models"]["cart"]
        self.assertEqual(words["change"], {"joints": {"fl": {"axis": [0, 1, 0]}}})
        self.assertEqual(
            {frozenset(pair) for pair in words["no_contact"]},
            {frozenset(p) for p in (("left", "right"), ("left", "third"), ("right", "third"))},
        )
        self.assertRegex(text, "^# Corrections .*\n(# cart/.*: .*\n)+veldrain: world/1\n")

    def test_what_cannot_be_checked(self) -> None:
        with self.assertRaisesRegex(vd.VeldrainError, "int cannot be checked"):
            vd.check(7)
        with self.assertRaisesRegex(vd.VeldrainError, "gone.yaml: no such file"):
            vd.check("gone.yaml")
        moving = (
            vd.Model("m")
            .link("base", mass=1)
            .link("drum", tube("triangles"), mass=3)
            .joint("turn", "base", "drum", "continuous")
        )
        finding = only(moving, "cannot-be-built")
        self.assertIn("exact triangles on something that moves", finding.problem)


class Geometry(unittest.TestCase):
    def test_least_ball_and_rectangle(self) -> None:
        random = np.random.default_rng(5)
        for dimensions in (2, 3):
            for count in (2, 5, 200):
                points = random.normal(size=(count, dimensions))
                centre, radius = least_ball(points)
                away = np.linalg.norm(points - centre, axis=1)
                self.assertAlmostEqual(away.max(), radius, 12)
                # No nearby ball is smaller: the farthest points pull the centre in no common direction.
                skin = (points - centre)[away > radius * (1 - 1e-9)]
                self.assertGreater(min((skin @ d).max() for d in random.normal(size=(200, dimensions))), -1e-9)
        corners = np.array([(0, 0), (3, 0), (3, 1), (0, 1), (1, 0.5)], float)
        turn = np.array(((math.cos(0.3), -math.sin(0.3)), (math.sin(0.3), math.cos(0.3))))
        middle, size, _ = least_rectangle(corners @ turn.T)
        np.testing.assert_allclose(sorted(size), (1, 3), atol=1e-12)
        np.testing.assert_allclose(middle, turn @ (1.5, 0.5), atol=1e-12)

    def test_beyond_a_stand(self) -> None:
        square = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], float)
        for points, centre, distance in (
            (square, (0.5, 0.5), 0),
            (square, (1.2, 0.5), 0.2),
            (square[:2], (0.5, 0.3), 0.3),
            (square[:2], (2, 0), 1),
            (square[:1], (0.3, 0.4), 0.5),
        ):
            self.assertAlmostEqual(beyond(points, np.array(centre))[0], distance)

    def test_mass_of_a_mesh_against_closed_forms(self) -> None:
        """A ring of radius R with a round section r: volume 2π²Rr², moment about its axis m(R² + ¾r²)."""
        ring = trimesh.creation.torus(0.5, 0.1, major_sections=96, minor_sections=48)
        place = vd.Pose((0.3, -0.2, 0.7), rpy=(0.2, 0.4, -0.5))
        mesh = vd.Mesh.of(place.apply(ring.vertices), ring.faces)
        self.assertTrue(mesh.is_closed)
        self.assertAlmostEqual(mesh.volume / (2 * np.pi**2 * 0.5 * 0.1**2), 1, 2)
        np.testing.assert_allclose(mesh.centre, place.position, atol=1e-9)
        about = place.matrix.T @ mesh.unit_inertia() @ place.matrix
        np.testing.assert_allclose(np.diag(about)[2], 0.25 + 0.75 * 0.01, rtol=0.005)
        np.testing.assert_allclose(about - np.diag(np.diag(about)), 0, atol=1e-6)
        self.assertFalse(vd.Mesh.of(ring.vertices, ring.faces[1:]).is_closed)
        with self.assertRaisesRegex(vd.VeldrainError, "not closed"):
            vd.Model("m").link("ring", vd.Mesh.of(ring.vertices, ring.faces[1:]), mass=1)
        with self.assertRaisesRegex(vd.VeldrainError, "inside out"):
            vd.Model("m").link("ring", vd.Mesh.of(ring.vertices, ring.faces[:, ::-1]), mass=1)

    def test_a_mesh_that_moves_is_seen_where_it_is(self) -> None:
        """Rays meet the triangles of a turning cup, not the box that it collides as."""
        cup = trimesh.creation.annulus(0.15, 0.2, 0.4, sections=48)
        m = (
            vd.Model("m")
            .link("base", mass=1)
            .link("cup", vd.Mesh.of(cup.vertices, cup.faces, collide="cylinder"), mass=2)
        )
        m.joint("lift", "base", "cup", "prismatic", axis=(0, 0, 1))
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m, fixed=True, joints={"lift": 0.5}))
        distances, names, _ = sim.cast([(0.175, 0, 3), (0, 0, 3)], [(0, 0, -1)] * 2, 9)
        np.testing.assert_allclose(distances, (3 - 0.7, np.inf), atol=1e-9)
        self.assertEqual(names, ["m/cup", None])

    def test_figures_as_people_write_them(self) -> None:
        for value, text in (
            (1234567.0, "1 230 000"),
            (0.5, "0.5"),
            (99.96, "100"),
            (3e9, "3e+09"),
            (-4321.0, "-4 320"),
        ):
            self.assertEqual(figure(value), text)
        for length, text in ((0.0213, "21.3 mm"), (0.2, "20 cm"), (86.5, "86.5 m"), (-0.05, "-50 mm")):
            self.assertEqual(mm(length), text)


if __name__ == "__main__":
    unittest.main()
