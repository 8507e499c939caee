"""Quantities, poses, models and worlds: what is taken, and what is refused with which words."""

from __future__ import annotations

import doctest
import importlib
import math
import os
import pickle
import pkgutil
import re
import subprocess
import sys
import tempfile
import unittest
import warnings
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

import veldrain as vd
import veldrain.demo
from tests.helpers import told_by
from veldrain.errors import unknown
from veldrain.model.inertia import combined, of_parts
from veldrain.pose import quaternion_of, quaternions_of, z_to
from veldrain.units import SI_UNITS, USUAL, in_unit, quantity


def arm() -> vd.Model:
    m = vd.Model("arm").link("base", vd.Box((0.2, 0.2, 0.2)), mass=4).link("boom", vd.Box((0.6, 0.1, 0.1)), mass=2)
    return m.joint("swing", "base", "boom", kind="revolute", limits=("-90 deg", "90 deg"))


class Quantities(unittest.TestCase):
    def test_read(self) -> None:
        for text, kind, value in (
            ("30 mm", "length", 0.03),
            (0.2, "length", 0.2),
            ("75 deg", "angle", math.radians(75)),
            ("120 rpm", "angular speed", 4 * math.pi),
            ("15 N*m", "torque", 15.0),
            ("20 %", "ratio", 0.2),
            ("10 deg/s", "angular speed", math.radians(10)),
            ("3 N*m/deg", "angular stiffness", 540 / math.pi),
            ("1 km/h", "speed", 1 / 3.6),
            ("2 ms", "time", 0.002),
            ("500 g", "mass", 0.5),
        ):
            with self.subTest(text=text):
                self.assertAlmostEqual(quantity(text, kind), value)

    def test_usual_units_are_those_of_pint(self) -> None:
        for kind, units in USUAL.items():
            for unit in units:
                for number in ("30", "0.1", "-8.5e-3", "1234.56789"):
                    with self.subTest(kind, unit=unit):
                        self.assertEqual(
                            quantity(f"{number} {unit}", kind), in_unit(f"{number} {unit}", SI_UNITS[kind])
                        )
        self.assertEqual(quantity("400 Hz", "period"), 0.0025)
        for rate in ("0 Hz", "-3 Hz"):
            with self.assertRaises(vd.VeldrainError):
                quantity(rate, "period")

    def test_refused(self) -> None:
        for value, kind in (
            ("30", "length"),
            ("3 kg", "length"),
            ("10 Hz", "angular speed"),
            ("1 rad", "length"),
            ("2 m", "angle"),
            ("0.3 rad", "ratio"),
            ("5 blorg", "mass"),
            ("", "mass"),
            (math.nan, "mass"),
            (None, "mass"),
            (True, "mass"),
            ("3 N*m", "angular stiffness"),
            ("7 1/s", "angular speed"),
            ("((", "length"),
        ):
            with self.subTest(value=value, kind=kind), self.assertRaisesRegex(vd.VeldrainError, "^here: .*; "):
                quantity(value, kind, "here")  # type: ignore[arg-type]


class Poses(unittest.TestCase):
    def test_composition_and_inverse(self) -> None:
        a = vd.Pose((1, 2, 3), rpy=(0.1, -0.2, 0.3))
        b = vd.Pose((-0.4, 0.5, "60 cm"), yaw="40 deg")
        point = np.array([0.3, -0.7, 0.2])
        np.testing.assert_allclose((a @ b).apply(point), a.apply(b.apply(point)))
        np.testing.assert_allclose((a @ a.inverse()).position, 0, atol=4e-15)  # a few roundings of 3 m
        np.testing.assert_allclose(a.rpy, (0.1, -0.2, 0.3))
        self.assertEqual(vd.Pose((1, 2, 3)), vd.Pose((1.0, "2 m", 3)))
        self.assertNotEqual(a, b)

    def test_turns_are_those_of_scipy(self) -> None:
        random = np.random.default_rng(7)
        straight_up = [(0.3, math.pi / 2, 0.4), (0.3, -math.pi / 2, 0.4), (0, 0, math.pi), (math.pi, 0, 0), (0, 0, 0)]
        for rpy in (*random.uniform(-3, 3, (50, 3)), *straight_up):
            pose, turn = vd.Pose((0, 0, 0), rpy), Rotation.from_euler("xyz", rpy)
            vector = turn.as_rotvec()
            other = vd.Pose(rpy=random.uniform(-3, 3, 3))
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")  # SciPy tells of a pitch of 90 degrees
                np.testing.assert_allclose(pose.rpy, turn.as_euler("xyz"), atol=1e-12)
            np.testing.assert_allclose(pose.matrix, turn.as_matrix(), atol=1e-14)
            np.testing.assert_allclose(vd.Pose.turned(vector).matrix, turn.as_matrix(), atol=1e-14)
            np.testing.assert_allclose((pose @ other).matrix, turn.as_matrix() @ other.matrix, atol=1e-14)
            np.testing.assert_allclose(pose.inverse().rotation.as_matrix(), turn.inv().as_matrix(), atol=1e-14)
            np.testing.assert_array_equal(vd.Pose(rotation=turn).quaternion, turn.as_quat())
            axis = turn.apply((0, 0, 1))
            np.testing.assert_allclose(z_to(axis).apply((0, 0, 1)), axis, atol=1e-14)

    def test_angles_of_many_turns(self) -> None:
        """With its unit one is taken; a plain number of more than two turns is degrees, or a heading that goes on."""
        self.assertAlmostEqual(vd.Pose(yaw="900 deg").yaw, math.pi)
        for angle, cure in ((15.0, "'15 deg' for degrees; .*math.remainder"), (math.inf, "give an angle")):
            with self.subTest(angle), self.assertRaisesRegex(vd.VeldrainError, cure):
                vd.Pose(yaw=angle)

    def test_two_rotations_are_refused(self) -> None:
        with self.assertRaisesRegex(vd.VeldrainError, "two rotations"):
            vd.Pose(rpy=(0, 0, 1), yaw=1)

    def test_quaternion_in_all_its_cases(self) -> None:
        turns = Rotation.random(200, random_state=np.random.default_rng(3)).as_matrix()
        half = Rotation.from_rotvec(np.pi * np.array([[1, 0, 0], [0, 1, 0], [0, 0, 1], [0.6, 0, 0.8]])).as_matrix()
        for R in (*turns, *half):
            back = Rotation.from_quat(quaternion_of(R)).as_matrix()
            np.testing.assert_allclose(back, R, atol=1e-12)
        np.testing.assert_array_equal(quaternions_of(turns), [quaternion_of(R) for R in turns])


class MassFromShapes(unittest.TestCase):
    def test_drawn_as_they_are(self) -> None:
        """The triangles of each shape close, turn outward, and hold nearly its volume."""
        for shape in (
            vd.Box((0.1, 0.2, 0.3)),
            vd.Sphere(0.1),
            vd.Cylinder(0.1, 0.4),
            vd.Capsule(0.1, 0.3),
            vd.Cone(0.1, 0.3),
            vd.Ellipsoid((0.1, 0.2, 0.3)),
        ):
            with self.subTest(shape):
                mesh = vd.Mesh.of(*shape.triangles_of(), collide="triangles")
                self.assertTrue(mesh.is_closed)
                self.assertTrue(0.98 < mesh.volume / shape.volume <= 1 + 1e-12)
                np.testing.assert_allclose(mesh.centre, shape.centre, atol=1e-3)

    def test_against_sums_over_points(self) -> None:
        """Volume and inertia of each shape against a million points drawn evenly in a box around it."""
        random = np.random.default_rng(5)
        inside = {
            vd.Sphere(0.5): lambda p: (p**2).sum(1) < 0.25,
            vd.Cylinder(0.3, 0.8): lambda p: ((p[:, :2] ** 2).sum(1) < 0.09) & (abs(p[:, 2]) < 0.4),
            vd.Capsule(0.3, 0.5): lambda p: (p[:, :2] ** 2).sum(1) + np.maximum(abs(p[:, 2]) - 0.25, 0) ** 2 < 0.09,
            vd.Box((0.4, 0.6, 1.0)): lambda p: (abs(p) < (0.2, 0.3, 0.5)).all(1),
        }
        points = random.uniform(-0.6, 0.6, (1_000_000, 3))
        for shape, test in inside.items():
            with self.subTest(shape=shape):
                own = points[test(points)]
                second = own.T @ own / len(own)
                self.assertAlmostEqual(shape.volume, 1.2**3 * len(own) / len(points), delta=0.01 * shape.volume)
                expected = np.trace(second) * np.eye(3) - second
                np.testing.assert_allclose(shape.unit_inertia(), expected, atol=1e-3)

    def test_halves_make_a_whole(self) -> None:
        half = vd.Box((0.5, 0.4, 0.3))
        two = [of_parts([vd.Part(half, pose=vd.Pose((x, 0, 0)))], 1.5) for x in (-0.25, 0.25)]
        np.testing.assert_allclose(combined(two).inertia, 3.0 * vd.Box((1.0, 0.4, 0.3)).unit_inertia())


class Refusals(unittest.TestCase):
    def test_mistakes_in_models_and_worlds(self) -> None:
        world = vd.World().ground()
        cases = {
            "mass above zero": lambda: vd.Model("m").link("a", mass=0),
            "principal moments": lambda: vd.Model("m").link("a", mass=1, inertia=np.diag([1, 1, 3])),
            "symmetric 3 × 3": lambda: vd.Model("m").link("a", mass=1, inertia=np.eye(2)),
            "second link": lambda: arm().link("boom"),
            "no word 'mas'; did you mean 'mass'": lambda: arm().change_link("boom", mas=3),
            "did you mean 'boom'": lambda: arm().joint("j", "base", "bom", kind="fixed"),
            "no direction": lambda: arm().link("tip").joint("j", "boom", "tip", kind="revolute", axis=(0, 0, 0)),
            "wrong way round": lambda: arm().link("t").joint("j", "boom", "t", kind="revolute", limits=(1, -1)),
            "no limits": lambda: arm().link("t").joint("j", "boom", "t", kind="continuous", limits=(0, 1)),
            "held by joint 'swing' already": lambda: arm().joint("j", "base", "boom", kind="fixed"),
            "form a ring": lambda: arm().joint("j", "boom", "base", kind="fixed"),
            "kind of joint 'hinge'": lambda: arm().link("t").joint("j", "boom", "t", kind="hinge"),  # type: ignore[arg-type]
            "damping 0 never moves": lambda: arm().motor("swing", "velocity"),
            "second motor": lambda: arm().motor("swing").motor("swing"),
            "is not a sensor": lambda: arm().mount("eye", object(), on="boom"),  # type: ignore[arg-type]
            "is a link already": lambda: arm().frame("boom", on="base"),
            "not a name": lambda: vd.Model("a b"),
            "2 links are held by no joint": lambda: vd.World().place(vd.Model("m").link("a", mass=1).link("b", mass=1)),
            "outside its limits": lambda: vd.World().place(arm(), joints={"swing": 2}),
            "second thing called 'ground'": lambda: world.obstacle("ground", vd.Sphere(1)),
            "friction is -1": lambda: vd.Surface(friction=-1),
            "restitution is 1.2": lambda: vd.Surface(restitution=1.2),
            "not an angle": lambda: vd.World().place(arm(), joints={"swing": "3 cm"}),
            "radius is 0 m": lambda: vd.Sphere(0),
            "no role": lambda: vd.Part(vd.Sphere(1), role="ghost"),  # type: ignore[arg-type]
            "is not a shape": lambda: vd.Part("box"),  # type: ignore[arg-type]
            "moves and has no mass": lambda: vd.Simulation(
                vd.World().place(vd.Model("m").link("a", mass=1).link("b").joint("j", "a", "b", kind="revolute"))
            ),
            "moves freely and has no mass": lambda: vd.Simulation(vd.World().place(vd.Model("m").link("a"))),
            "whole number of nanoseconds": lambda: vd.Simulation(vd.World(), step=0),
            "no integrator": lambda: vd.Simulation(vd.World(), integrator="magic"),
        }
        for words, act in cases.items():
            with self.subTest(words=words), self.assertRaisesRegex(vd.VeldrainError, words) as caught:
                act()
            self.assertNotIn("\n", str(caught.exception))

    def test_errors_travel_between_processes(self) -> None:
        error = unknown("joint", "swng", ["swing"], "arm").at("file.yaml:3")
        back = pickle.loads(pickle.dumps(error))
        self.assertEqual(str(back), str(error))
        self.assertTrue(str(back).startswith("file.yaml:3: arm: no joint 'swng'; did you mean 'swing'?"))


class KeptUnits(unittest.TestCase):
    def test_they_are_the_same_new_kept_broken_and_without_a_folder(self) -> None:
        """Their definitions are kept between processes; what is spoilt there, or cannot be written, costs time only."""
        code = "from veldrain.units import quantity; print(quantity('90 dps', 'angular speed'), quantity('1 mbar', 'pressure'))"
        with tempfile.TemporaryDirectory() as folder:
            for state in ("new", "kept", "broken", "nowhere"):
                with self.subTest(state):
                    files = sorted(Path(folder).rglob("*.pickle"))
                    self.assertEqual(bool(files), state != "new")
                    for file in files if state == "broken" else ():
                        file.write_bytes(file.read_bytes()[: file.stat().st_size // 2])
                    where = "/dev/null" if state == "nowhere" else folder
                    env = os.environ | {"XDG_CACHE_HOME": where}
                    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=env)
                    self.assertEqual((done.stdout, done.stderr), ("1.5707963267948966 100.0\n", ""))


class Readme(unittest.TestCase):
    def test_the_first_world_runs(self) -> None:
        text = (Path(__file__).parent.parent / "README.md").read_text(encoding="utf-8")
        code = text.split("```python\n")[1].split("```")[0]
        self.assertLessEqual(code.count("\n"), 22)
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertRegex(
            done.stdout, r"(?m)^1\.0 s  trolley 0\.4\d\d m  swing [+-]0\.\d{3} rad  gyro [+-]0\.\d\d rad/s$"
        )


class Pages(unittest.TestCase):
    def test_the_code_of_pages_and_the_examples_run(self) -> None:
        """What a page shows goes on from block to block; of the examples at most 40 lines each are needed."""
        root = Path(__file__).parent.parent
        codes = {p.name: p.read_text(encoding="utf-8") for p in sorted((root / "examples").glob("own_*.py"))}
        for name, code in codes.items():
            self.assertLessEqual(code.count("\n"), 40, name)
        for page in ("tour.md", "motion.md", "growing.md", "streams.md", "roads.md"):
            blocks = re.findall(r"```python\n(.*?)```", (root / "docs" / page).read_text(encoding="utf-8"), re.DOTALL)
            codes[page] = "\n".join(blocks)
        told = {
            "own_action.py": "turned",
            "own_controller.py": "'velocity': 0.6",
            "own_export.py": "LINESTRING (0.000 0.000, ",
            "own_metric.py": "settling time",
            "own_sensor.py": " deg",
            "motion.md": "out of reach by",
            "roads.md": "s at the least",
            "streams.md": "its clock is 2.500 s behind",
            "tour.md": "0.03125  better",
            "growing.md": "'tf': 21",
        }
        self.assertEqual(set(told), set(codes))
        with tempfile.TemporaryDirectory() as folder:
            for name, code in codes.items():
                with self.subTest(name):
                    self.assertIn(told[name], told_by(code, Path(folder)))


class Import(unittest.TestCase):
    def test_import_is_light(self) -> None:
        heavy = "{'numba', 'matplotlib', 'pandas', 'scipy', 'pint', 'pydantic'}"
        for code in ("import veldrain", "import veldrain.cli"):
            with self.subTest(code=code):
                done = subprocess.run(
                    [sys.executable, "-c", f"{code}, sys; print({heavy} & set(sys.modules))"],
                    capture_output=True,
                    text=True,
                    check=True,
                )
                self.assertEqual(done.stdout.strip(), "set()")

    def test_all_public_names_load(self) -> None:
        for name in vd.__all__:
            self.assertIsNotNone(getattr(vd, name))
        self.assertIn("Pose", dir(vd))
        with self.assertRaises(AttributeError):
            vd.Hinge  # noqa: B018


class Docstrings(unittest.TestCase):
    def test_examples(self) -> None:
        """The examples in the docstrings are tests."""
        demo = Path(veldrain.demo.__path__[0])
        names = {name: getattr(vd, name) for name in vd.__all__} | {"np": np}
        names |= {"world": vd.load_world(demo / "culvert.world.yaml")}
        names |= {"scenario": vd.load_scenario(demo / "culvert.scenario.yaml")}
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(demo)
        for module in pkgutil.walk_packages(vd.__path__, "veldrain."):
            if "__main__" not in module.name:
                for example in doctest.DocTestFinder().find(importlib.import_module(module.name), extraglobs=names):
                    if example.examples:
                        with self.subTest(example.name):
                            told: list[str] = []
                            doctest.DocTestRunner().run(example, out=told.append)
                            self.assertEqual("".join(told), "")


if __name__ == "__main__":
    unittest.main()
