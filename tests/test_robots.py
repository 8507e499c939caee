"""Robots from files and back, joined and changed: against what is known of them, and through files as in Python."""

from __future__ import annotations

import copy
import math
import os
import pickle
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import veldrain as vd
from tests.fuzzing import read, seeds, spoilt
from tests.helpers import DEMO
from veldrain.model.grids import Grid
from veldrain.model.inertia import of_parts
from veldrain.model.volumes import bounds_of, filled
from veldrain.study.study import plain

ROBOTS = DEMO / "robots"
FOUND = Path(__file__).parent / "found"


def same(one: Any, other: Any) -> bool:
    """Equal but for the last digits."""
    if isinstance(one, dict) and isinstance(other, dict):
        return one.keys() == other.keys() and all(same(one[k], other[k]) for k in one)
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and all(map(same, one, other))
    try:
        return math.isclose(float(one), float(other), rel_tol=1e-9, abs_tol=1e-12)
    except (TypeError, ValueError):
        return bool(one == other)


class Folder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def write(self, name: str, text: str) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
        return path

    def refused(self, pattern: str, act: Any) -> None:
        with self.assertRaisesRegex(vd.VeldrainError, pattern) as caught:
            act()
        self.assertNotIn("\n", str(caught.exception))


FULL = """<?xml version="1.0"?>
<robot name="lift">
  <material name="rust"><color rgba="0.5 0.25 0 1"/></material>
  <link name="base">
    <visual><geometry><box size="1 2 3"/></geometry><material name="rust"/></visual>
    <visual><origin xyz="0 0 2"/><geometry><sphere radius="0.5"/></geometry><material name="red"><color rgba="1 0 0 1"/></material></visual>
    <collision><geometry><box size="1 2 3"/></geometry></collision>
    <collision><origin rpy="0 1.570796326794897 0"/><geometry><cylinder radius="0.1" length="4"/></geometry></collision>
  </link>
  <link name="blade">
    <inertial><origin xyz="0.1 0 0" rpy="0 0 1.570796326794897"/><mass value="7"/>
      <inertia ixx="1" ixy="0" ixz="0" iyy="2" iyz="0" izz="2.5"/></inertial>
  </link>
  <link name="wheel"><inertial><mass value="1"/><inertia ixx="1" iyy="1" izz="1"/></inertial></link>
  <joint name="follow" type="revolute">
    <parent link="blade"/><child link="wheel"/><limit lower="-1" upper="2" effort="3" velocity="4"/>
    <mimic joint="raise" multiplier="2" offset="0.5"/>
  </joint>
  <joint name="raise" type="prismatic">
    <parent link="base"/><child link="blade"/><origin xyz="0 0 1" rpy="0 0 0.5"/><axis xyz="0 0 1"/>
    <limit upper="0.8" effort="100" velocity="0.2"/><dynamics damping="5" friction="2"/><calibration rising="0"/>
  </joint>
  <transmission name="t"><type>simple</type><joint name="raise"><hardwareInterface>EffortJointInterface</hardwareInterface></joint>
    <actuator name="m"><mechanicalReduction>50</mechanicalReduction></actuator></transmission>
  <camera_stand/>
</robot>"""


class Urdf(Folder):
    def test_everything_in_it(self) -> None:
        m = vd.load_robot(self.write("lift.urdf", FULL))
        parts = m.links["base"].parts
        self.assertEqual(
            [(p.role, p.colour) for p in parts], [("both", "#804000"), ("visual", "red"), ("collision", None)]
        )
        self.assertEqual(parts[2].shape, vd.Cylinder(0.1, 4))
        body = m.links["blade"].mass_properties
        np.testing.assert_allclose(body.com, (0.1, 0, 0))
        np.testing.assert_allclose(body.inertia, np.diag((2, 1, 2.5)), atol=1e-12)  # turned by 90° about z
        slide, turn = m.joints["raise"], m.joints["follow"]
        self.assertEqual(
            (slide.limits, slide.damping, slide.friction, slide.effort, slide.speed), ((0, 0.8), 5, 2, 100, 0.2)
        )
        self.assertEqual((turn.axis, turn.mimic, turn.limits), ((1, 0, 0), ("raise", 2, 0.5), (-1, 2)))
        self.assertEqual((m.motors["raise"].gear_ratio, m.motors["raise"].limit), (50, 100))
        self.assertEqual(m.line_of("lift/raise"), f"{self.folder / 'lift.urdf'}:19")
        self.assertEqual(
            [n.rpartition(": ")[2] for n in m.notes],
            ["<camera_stand> in <robot> is not used", "<calibration> in <joint> is not used"],
        )

    def test_written_and_read_again_is_the_same(self) -> None:
        for name, model in (
            ("full", vd.load_robot(self.write("lift.urdf", FULL))),
            ("everything", everything()),
            *((p.name, vd.load_robot(p)) for p in ROBOTS.glob("*.urdf") if "broken" not in p.name),
        ):
            with self.subTest(name=name):
                left = vd.save_robot(model, self.folder / "out" / "again.urdf")
                again = vd.load_robot(self.folder / "out" / "again.urdf")
                self.assertEqual(
                    left, ["sensor 'imu' is left out: URDF has no words for it"] if name == "everything" else []
                )
                one, other = plain(model), plain(again)
                one["sensors"] = other["sensors"]
                self.assertTrue(same(one, other), [k for k in one if not same(one[k], other[k])])
                vd.save_robot(again, self.folder / "third.urdf")  # meshes are copied along

    def test_refused_with_file_and_line(self) -> None:
        link = '<link name="a"/>'
        body = '<link name="a"><inertial><mass value="1"/><inertia ixx="{}" iyy="1" izz="1"/></inertial></link>'
        mesh = '<link name="a"><visual><geometry><mesh filename="{}"/></geometry></visual></link>'
        (self.folder / "empty.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\n")
        (self.folder / "broken.stl").write_text("solid what")
        (self.folder / "pack.zip").write_bytes(b"PK")
        outside = self.folder.parent / "veldrain_outside.stl"
        outside.write_text("solid x\nendsolid")
        self.addCleanup(outside.unlink)
        with (self.folder / "huge.stl").open("wb") as huge:
            huge.truncate(300_000_000)
        ring = f"{link}<link name='b'/><joint name='j' type='fixed'><parent link='a'/><child link='b'/></joint>"
        for inside, pattern in (
            (f"{link}\n<link", r"r\.urdf:2: broken XML"),
            (
                f"{link}\n<joint name='j' type='fixed'><parent link='a'/><child link='a'/></joint>",
                r"r\.urdf:2: .*held by itself",
            ),
            (
                f"{ring}\n<joint name='k' type='fixed'><parent link='b'/><child link='a'/></joint>",
                r"r\.urdf:2: .*form a ring",
            ),
            ("\n" + body.format("one"), r"r\.urdf:2: ixx of <inertia> is 'one', no number"),
            ("\n" + body.format("nan"), r"r\.urdf:2: ixx of <inertia> is 'nan', no number"),
            (body.format("9"), r"r\.urdf:1: robot/a: no body has the principal moments 1, 1, 9"),
            ("\n" + mesh.format("gone.stl"), r"r\.urdf:2: no file 'gone.stl'; looked in"),
            ("\n" + mesh.format("package://gone/x.stl"), r"r\.urdf:2: no file 'package://gone/x.stl'"),
            (mesh.format("http://here/x.stl"), r"would have to be fetched"),
            (mesh.format("../veldrain_outside.stl"), r"r\.urdf:1: '../veldrain_outside.stl' leads out of"),
            (mesh.format(str(outside)), r"leads out of"),
            (mesh.format("empty.obj"), r"r\.urdf:1: .*empty\.obj: .*; export it"),
            (mesh.format("broken.stl"), r"r\.urdf:1: .*broken\.stl: (a mesh with no faces|not a mesh)"),
            (mesh.format("huge.stl"), r"r\.urdf:1: .*huge\.stl: a mesh of 300 MB"),
            (mesh.format("pack.zip"), r"a mesh file of kind '\.zip'"),
            (f"{link}{link}", r"a second link 'a'"),
            ("", r"r\.urdf:1: a robot without links"),
            (
                f"{link}<joint name='j' type='turning'><parent link='a'/><child link='a'/></joint>",
                r"no type of joint 'turning'",
            ),
        ):
            with self.subTest(inside=inside):
                path = self.write("r.urdf", f'<robot name="robot">{inside}</robot>')
                self.refused(pattern, lambda path=path: vd.load_robot(path))
        entity = '<!DOCTYPE r [<!ENTITY x SYSTEM "file:///etc/hostname">]><robot name="&x;"><link name="a"/></robot>'
        self.refused(r"e\.urdf:1: .*DOCTYPE", lambda: vd.load_robot(self.write("e.urdf", entity)))
        self.refused(r"e\.dae:1: .*DOCTYPE", lambda: vd.Mesh(self.write("e.dae", entity)))

    def test_meshes_are_found_in_packages_and_search_folders(self) -> None:
        trimesh.creation.box((1, 1, 1)).export(self.write("elsewhere/parts/cube.stl", ""))
        text = '<robot name="r"><link name="a"><visual><geometry><mesh filename="{}" scale="1 2 -3"/></geometry></visual></link></robot>'
        for name, search in (
            ("package://parts/cube.stl", "elsewhere"),
            ("package://parts/cube.stl", "elsewhere/parts"),
            ("parts/cube.stl", "elsewhere"),
            ("cube.stl", "elsewhere/parts"),
        ):
            with self.subTest(name=name, search=search):
                path = self.write("robot/r.urdf", text.format(name))
                mesh = vd.load_robot(path, search=[self.folder / search]).links["a"].parts[0].shape
                self.assertAlmostEqual(mesh.volume, 6)  # mirrored, and still the right way out
                self.refused("no file|leads out", lambda path=path: vd.load_robot(path))

    def test_expressions_of_xacro(self) -> None:
        """What robot files calculate with; no Python, no environment, no more memory than they need."""
        self.write("c.yaml", "legs: {front: [1, 2.5]}\nw: 0.3\n")

        def mass(expression: str, **arguments: str) -> float:
            self.write(
                "r.xacro",
                f"""<robot name="x" xmlns:xacro="http://www.ros.org/wiki/xacro"><xacro:arg name="k" default="2"/>
                <xacro:property name="c" value="${{xacro.load_yaml('c.yaml')}}"/><xacro:property name="r" value="0.25"/>
                <link name="a"><inertial><mass value="{expression}"/>
                <inertia ixx="1" iyy="1" izz="1" ixy="0" ixz="0" iyz="0"/></inertial></link></robot>""",
            )
            return vd.load_robot(self.folder / "r.xacro", arguments=arguments).links["a"].mass_properties.mass

        for expression, exact in (
            ("${2*pi*r}", 0.5 * np.pi), ("${c['legs']['front'][1]}", 2.5), ("${c.legs.front[0] + c.w}", 1.3),
            ("${math.sqrt(4) * radians(180)}", 2 * np.pi), ("${1 if 'ab'.upper() == 'AB' and not r > 1 else 3}", 1),
            ("$(eval k * 3)", 6), ("$(arg k)", 2), ("${max([1, 2, 3][0:2])}", 2), ("${float('1.5') ** 2}", 2.25),
            ("${'%s' % 3}", 3), ("$(optenv HOME 4)", 4), ("${dict(a=4)['a']}", 4), ("${len('a,b'.split(','))}", 2),
        ):  # fmt: skip
            with self.subTest(expression):
                self.assertAlmostEqual(mass(expression), exact, 12)
        self.assertEqual(mass("$(env HOME)", HOME="7"), 7)
        for expression, told in (
            ("$(env HOME)", "would read the environment; give it as an argument: HOME"), ("${vars}", "no name 'vars'"),
            ("${__import__('os')}", "no function '__import__'"), ("${().__class__}", "no '__class__'"),
            ("${9**9**9}", "too large"), ("${'a' * 10**9}", "1000000000 characters"), ("${[x for x in [1]]}", "a loop or function"),
            ("${python.type(1)}", "no function 'python.type'"), ("${'%999999999d' % 1}", "too wide"),
            ("${len('a'.ljust(10**10))}", "no function 'ljust'"), ("${range(10**9)}", "a range of"),
            ("${xacro.tokenize}", "no "), ("${'a'.join([str(10**9)] * 99999).replace('0', 'b' * 99999)}", "characters"),
        ):  # fmt: skip
            with self.subTest(expression), self.assertRaisesRegex(vd.VeldrainError, told):
                mass(expression)

    def test_xacro(self) -> None:
        self.write(
            "wheel.xacro",
            """<robot xmlns:xacro="http://www.ros.org/wiki/xacro"><xacro:macro name="wheel" params="side y">
            <link name="${side}"/><joint name="${side}_axle" type="continuous"><parent link="hull"/><child link="${side}"/>
            <origin xyz="0 ${y * 2} 0"/></joint></xacro:macro></robot>""",
        )
        path = self.write(
            "cart.urdf.xacro",
            """<robot name="cart" xmlns:xacro="http://www.ros.org/wiki/xacro">
            <xacro:arg name="track" default="0.2"/><xacro:include filename="wheel.xacro"/><link name="hull"/>
            <xacro:wheel side="left" y="$(arg track)"/><xacro:wheel side="right" y="-$(arg track)"/></robot>""",
        )
        m = vd.load_robot(path, arguments={"track": "0.3"})
        self.assertEqual(m.joints["left_axle"].pose.position.tolist(), [0, 0.6, 0])
        for text, pattern in (
            ('<xacro:include filename="../../../etc/passwd"/>', "leads out of|no file"),
            ("${1 / 0}", "xacro: "),
            ('<xacro:what a="1"/>', "xacro: "),
            ('<xacro:include filename="e.xacro"/>', "DOCTYPE"),
        ):
            with self.subTest(text=text):
                self.write("e.xacro", "<!DOCTYPE r [<!ENTITY x 'y'>]><robot/>")
                bad = self.write(
                    "bad.xacro",
                    f'<robot name="r" xmlns:xacro="http://www.ros.org/wiki/xacro"><link name="a"/>{text}</robot>',
                )
                self.refused(pattern, lambda bad=bad: vd.load_robot(bad))

    def test_a_draft_is_mended_or_raises_when_it_is_placed(self) -> None:
        broken = vd.load_robot(ROBOTS / "broken_crawler.urdf", draft=True)
        self.refused(r"broken_crawler\.urdf:\d+: .*no body has the principal", lambda: vd.World().place(broken))
        broken.change_joint("bumper_spring", limits=(0, 0.03)).change_link("rear_right_wheel", inertia=None)
        broken.joint("foot", "hull", "antenna", "fixed")
        self.assertIn("crawler", vd.World().place(broken).placed)


def everything() -> vd.Model:
    """A model with what URDF has no words for."""
    cube = trimesh.creation.box((0.1, 0.1, 0.1))
    m = vd.Model("press").link(
        "frame",
        vd.Ellipsoid((0.1, 0.2, 0.3)),
        vd.Part(vd.Cone(0.1, 0.2), vd.Pose((0, 0, 1), rpy=(0.1, 0.2, 0.3))),
        mass=5,
    )
    m.link(
        "ram",
        vd.Part(
            vd.Mesh.of(cube.vertices, cube.faces, collide="box"), colour="red", surface=vd.Surface(0.2, belt=(1, 0, 0))
        ),
        mass=2,
    )
    m.link("eye", vd.Capsule(0.1, 0.2), mass=1, surface=vd.Surface(stiffness=2e4, damping=3))
    m.joint(
        "slide",
        "frame",
        "ram",
        "prismatic",
        axis=(1, 1, 0),
        limits=(0, 1),
        stiffness=20,
        rest_position=0.1,
        collide=True,
    )
    m.joint("look", "frame", "eye", "ball", damping=0.1).motor(
        "slide", "position", stiffness=300, damping=4, limit=90, inertia=0.5
    )
    m.spring("coil", "ram", "frame", stiffness=50, rest_length=0.6, at_b=(0, 0, 0.1)).close(
        "leash", "ram", "frame", "rope", length=2
    )
    m.no_contact("ram", "eye").frame("tip", "ram", vd.Pose((0.1, 0, 0), yaw=0.3)).posture(
        "out", {"slide": 0.4, "look/x": 0.2}
    )
    return m.mount("imu", vd.Imu(), on="ram")


class Meshes(Folder):
    def test_formats_units_and_mass(self) -> None:
        box = trimesh.creation.box((100, 200, 300))
        ascii_stl = self.write("ascii.stl", "")
        ascii_stl.write_text(trimesh.exchange.stl.export_stl_ascii(box))
        for kind in ("stl", "obj", "ply", "glb", "dae"):
            box.export(self.folder / f"box.{kind}")
        for path in (ascii_stl, *self.folder.glob("box.*")):
            with self.subTest(path=path.name):
                for _ in range(2):  # the second time from the cache
                    mesh = vd.Mesh(path, unit="mm")
                    made = of_parts([vd.Part(mesh)], 3.0)
                    np.testing.assert_allclose(mesh.volume, 0.006, rtol=1e-6)
                    np.testing.assert_allclose(
                        np.diag(made.inertia), vd.Box((0.1, 0.2, 0.3)).unit_inertia().diagonal() * 3, rtol=1e-6
                    )
        dae = (self.folder / "box.dae").read_text()
        (self.folder / "cm.dae").write_text(
            dae.replace("<asset>", '<asset><unit name="cm" meter="0.01"/>', 1)
            if "<unit" not in dae
            else dae.replace('meter="1.0"', 'meter="0.01"')
        )
        self.assertAlmostEqual(vd.Mesh(self.folder / "cm.dae").volume, 6.0, 5)
        slab = vd.Model("m").link(
            "a", vd.Mesh(self.folder / "box.stl", scale=(0.001, 0.001, 0.002)), density="1000 kg/m^3"
        )
        self.assertAlmostEqual(slab.links["a"].mass_properties.mass, 12.0, 4)

    def test_what_is_kept_can_be_deleted_or_spoilt(self) -> None:
        box = trimesh.creation.box((1, 2, 3))
        box.export(self.folder / "box.stl")
        with patch.dict(os.environ, XDG_CACHE_HOME=str(self.folder / "cache")):
            for spoil in (lambda kept: None, lambda kept: kept.write_bytes(b"PK"), lambda kept: kept.unlink()):
                self.assertAlmostEqual(vd.Mesh(self.folder / "box.stl").volume, 6, 5)
                (kept,) = (self.folder / "cache").rglob("*.npz")
                spoil(kept)
            self.assertAlmostEqual(vd.Mesh(self.folder / "box.stl").volume, 6, 5)

    def test_buffers_of_gltf_stay_in_its_folder(self) -> None:
        files = trimesh.exchange.gltf.export_gltf(trimesh.Scene([trimesh.creation.box((1, 2, 3))]), merge_buffers=True)
        for name, content in files.items():
            (self.folder / name).write_bytes(content)
        self.assertAlmostEqual(vd.Mesh(self.folder / "model.gltf").volume, 6, 5)
        (buffer,) = (n for n in files if n.endswith(".bin"))
        (self.folder / "inner").mkdir()
        out = files["model.gltf"].replace(buffer.encode(), f"../{buffer}".encode())
        (self.folder / "inner" / "model.gltf").write_bytes(out)
        self.refused("leads out of the file's folder", lambda: vd.Mesh(self.folder / "inner" / "model.gltf"))

    def test_goes_to_other_processes(self) -> None:
        ball = trimesh.creation.icosphere(3, 0.1)
        mesh = vd.Mesh.of(ball.vertices, ball.faces)
        world = vd.World().ground().body("ball", mesh, mass=1, pose=vd.Pose((0, 0, 0.1)))
        vd.Simulation(world).advance(0.01)  # hull and trees are made by now
        self.assertEqual(pickle.loads(pickle.dumps(world)).bodies["ball"].part.shape, mesh)
        self.assertLess(len(pickle.dumps(mesh)), 3 * (mesh.corners.nbytes + mesh.triangles.nbytes))
        self.assertIs(copy.deepcopy(world).bodies["ball"].part.shape, mesh)

    def test_refused(self) -> None:
        box = trimesh.creation.box((1, 2, 3))
        box.export(self.folder / "box.stl")
        flat = [(0, 0, 0), (1, 0, 0), (0, 1, 0), (1, 1, 0)]
        for pattern, act in (
            ("no such mesh file", lambda: vd.Mesh(self.folder / "gone.stl")),
            ("'bx'; did you mean 'box'", lambda: vd.Mesh(self.folder / "box.stl", collide="bx")),
            ("no way to fit 'best'", lambda: vd.Mesh(self.folder / "box.stl", collide="box", fit="best")),
            ("unit", lambda: vd.Mesh(self.folder / "box.stl", unit="kg")),
            ("scale 0", lambda: vd.Mesh(self.folder / "box.stl", scale=0)),
            ("scale \\(1, 2\\)", lambda: vd.Mesh(self.folder / "box.stl", scale=(1, 2))),
            ("flat", lambda: vd.Mesh.of(flat, [(0, 1, 2), (1, 3, 2)], collide="box").touched),
            ("mass and density", lambda: vd.Model("m").link("a", vd.Sphere(1), mass=1, density=2)),
            ("no colour 'redd'; write 'red', another name or", lambda: vd.Part(vd.Sphere(1), colour="redd")),
            ("cannot be written", lambda: vd.save_robot(vd.Model("m").link("a"), self.folder / "box.stl" / "c.urdf")),
        ):
            with self.subTest(pattern=pattern):
                self.refused(pattern, act)

    def test_fitted_shapes(self) -> None:
        turned = vd.Pose((0.3, -0.2, 0.5), rpy=(0.4, -0.7, 1.1))
        for made, kind, sizes in (
            (trimesh.creation.box((0.3, 0.5, 0.8)), "box", (0.3, 0.5, 0.8)),
            (trimesh.creation.cylinder(0.2, 0.7, sections=64), "cylinder", (0.2, 0.7)),
            (trimesh.creation.capsule(0.7, 0.2, count=(48, 48)), "capsule", (0.2, 0.7)),
            (trimesh.creation.icosphere(4, 0.4), "sphere", (0.4,)),
        ):
            for fit in ("volume", "overlap"):
                with self.subTest(kind=kind, fit=fit):
                    mesh = vd.Mesh.of(turned.apply(made.vertices), made.faces, collide=kind, fit=fit)
                    ((shape, pose),) = mesh.touched
                    found = shape.size if kind == "box" else tuple(vars(shape).values())
                    np.testing.assert_allclose(sorted(found), sorted(sizes), rtol=0.03)
                    np.testing.assert_allclose(pose.position, turned.position, atol=0.02)
                    grid = Grid.over(*bounds_of([(mesh, vd.Pose())]))
                    a, b = filled([(mesh, vd.Pose())], grid), filled([(shape, pose)], grid)
                    self.assertGreater((a & b).sum() / (a | b).sum(), 0.93)
                    if fit == "volume":
                        inside = pose.inverse().apply(mesh.corners)
                        grown = vd.Mesh.of(inside, mesh.triangles)
                        self.assertGreater(shape.volume, grown.volume * 0.999)

    def test_convex_parts_leave_a_tube_open(self) -> None:
        tube = trimesh.creation.annulus(0.1, 0.14, 0.3, sections=24)
        w = vd.World().obstacle("tube", vd.Mesh.of(tube.vertices, tube.faces, collide="parts"), pose=vd.Pose((0, 0, 1)))
        w.obstacle("rod", vd.Mesh.of(tube.vertices, tube.faces, collide="hull"), pose=vd.Pose((1, 0, 1))).ground()
        for name, x in (("falls", 0), ("stays", 1)):
            w.body(name, vd.Sphere(0.06), mass=0.2, pose=vd.Pose((x, 0, 1.3)))
        sim = vd.Simulation(w)
        sim.advance("1.5 s")
        self.assertAlmostEqual(sim["falls"].pose().position[2], 0.06, 3)
        self.assertAlmostEqual(sim["stays"].pose().position[2], 1.21, 2)
        hits = sim.cast([(0.12, 0, 3), (1, 0, 3)], [(0, 0, -1)] * 2, 9)
        np.testing.assert_allclose(
            hits[0], (1.85, 1.73), atol=0.01
        )  # seen as it is: a rim, and the ball that lies in the mouth

    def test_volumes_on_a_grid(self) -> None:
        for shape in (
            vd.Box((1, 2, 3)),
            vd.Sphere(0.7),
            vd.Cylinder(0.5, 2),
            vd.Capsule(0.3, 1),
            vd.Cone(0.6, 1),
            vd.Ellipsoid((0.3, 0.5, 1)),
        ):
            with self.subTest(shape=shape):
                pose = vd.Pose((0.2, 0.1, -0.4), rpy=(0.3, 0.5, -0.2))
                grid = Grid.over(*bounds_of([(shape, pose)]), most=100_000)
                self.assertAlmostEqual(filled([(shape, pose)], grid).sum() * grid.volume / shape.volume, 1, 1)

    @settings(max_examples=150, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(st.one_of(*(st.tuples(st.just(kind), spoilt(files)) for kind, files in seeds().items())))
    def test_spoilt_files_are_read_or_refused(self, spoilt_file: tuple[str, bytes]) -> None:
        self.assertNotEqual(read(*spoilt_file), "")

    def test_what_fuzzing_has_found(self) -> None:
        for path in FOUND.iterdir():
            with self.subTest(path=path.name):
                self.assertNotEqual(read(path.suffix[1:], path.read_bytes()), "")


def arm() -> vd.Model:
    m = vd.Model("arm").link("base", vd.Box((0.2, 0.2, 0.2)), mass=5)
    m.link("boom", vd.Part(vd.Box((0.6, 0.1, 0.1)), vd.Pose((0.3, 0, 0))), mass=2)
    return m.joint("swing", "base", "boom", "revolute", vd.Pose((0, 0, 0.2)), axis=(0, 1, 0), limits=(-1, 1))


def hand() -> vd.Model:
    m = (
        vd.Model("hand")
        .link("palm", vd.Box((0.1, 0.1, 0.02)), mass=0.4)
        .link("finger", vd.Box((0.02, 0.02, 0.1)), mass=0.1)
    )
    m.joint("close", "palm", "finger", "prismatic", vd.Pose((0, 0, 0.06)), axis=(1, 0, 0), limits=(0, 0.04))
    return (
        m.motor("close", "position", stiffness=500, damping=9)
        .frame("grip", "finger")
        .posture("shut", {"close": 0.04})
        .no_contact("palm", "finger")
    )


class Composition(Folder):
    def test_joined(self) -> None:
        m = arm().attach(hand(), on="boom", pose=vd.Pose((0.6, 0, 0), rpy=(0, math.pi / 2, 0)))
        self.assertEqual(set(m.links), {"base", "boom", "hand/palm", "hand/finger"})
        self.assertEqual(
            (m.motors["hand/close"].stiffness, m.apart, m.postures["hand/shut"]),
            (500, [("hand/palm", "hand/finger")], {"hand/close": 0.04}),
        )
        where = m.poses({"swing": 0.5, "hand/close": 0.03})["hand/finger"].position
        # Along the boom 0.66, and the finger's x has become −z of the boom.
        x, z = 0.66, -0.03
        np.testing.assert_allclose(
            where, (math.cos(0.5) * x + math.sin(0.5) * z, 0, 0.2 - math.sin(0.5) * x + math.cos(0.5) * z)
        )
        sim = vd.Simulation(vd.World().place(m, fixed=True, joints={"swing": 0.5, "hand/close": 0.03}))
        np.testing.assert_allclose(sim["arm"].pose("hand/finger").position, where, atol=1e-12)
        drawn = arm().attach(hand(), on="boom", in_root=vd.Pose((1, 2, 3)), kind="ball").poses()["hand/palm"]
        np.testing.assert_allclose(drawn.position, (1, 2, 3))
        self.assertEqual(m.total().mass, 7.5)

    def test_changed(self) -> None:
        m = arm().motor("swing", "velocity", damping=5)
        m.change_joint("swing", axis=(0, 0, 2), limits=None, damping=0.3)
        self.assertEqual(
            (m.joints["swing"].axis, m.joints["swing"].limits, m.motors["swing"].damping), ((0, 0, 1), None, 5)
        )
        m.change_link("boom", vd.Part(vd.Cylinder(0.1, 0.5), role="visual"))
        self.assertEqual(
            [(type(p.shape).__name__, p.role) for p in m.links["boom"].parts],
            [("Box", "collision"), ("Cylinder", "visual")],
        )
        m.change_link("boom", mass=4)
        np.testing.assert_allclose(
            m.links["boom"].mass_properties.inertia, 2 * arm().links["boom"].mass_properties.inertia
        )
        self.assertEqual(m.change_motor("swing", limit=9).motors["swing"].damping, 5)
        self.assertEqual(m.remove_motor("swing").motors, {})
        copy = m.copy("other").change_joint("swing", damping=9)
        self.assertEqual((copy.name, m.joints["swing"].damping), ("other", 0.3))
        self.refused("no joint 'swnig'; did you mean 'swing'", lambda: m.change_joint("swnig", damping=1))
        self.refused("wrong way round", lambda: m.change_joint("swing", limits=(1, -1)))
        self.assertEqual(m.joints["swing"].damping, 0.3)  # as it was

    def test_scaled_swings_as_its_period_tells(self) -> None:
        """A pendulum of four times the length takes twice as long."""
        periods = []
        for factor in (1.0, 4.0):
            m = vd.Model("p").link("hook").link("bob", vd.Part(vd.Sphere(0.05), vd.Pose((0, 0, -0.5))), mass=1)
            m.joint("swing", "hook", "bob", "revolute", axis=(0, 1, 0))
            scaled = m.scaled(factor)
            self.assertAlmostEqual(scaled.links["bob"].mass_properties.mass, factor**3)
            sim = vd.Simulation(vd.World().place(scaled, fixed=True, joints={"swing": 0.05}))
            while sim["p"].positions[0] > 0:
                sim.advance(0.001)
            periods.append(sim.time)
        self.assertAlmostEqual(periods[1] / periods[0], 2, 2)

    def test_defaults(self) -> None:
        m = vd.Model("m").link("a", mass=1).link("b", mass=1).link("c", mass=1)
        m.joint("left_knee", "a", "b", "revolute", damping=0.5).joint("slide", "a", "c", "prismatic")
        m.defaults(kind="revolute", damping=0.1, friction=0.2, motor={"mode": "position", "stiffness": 50})
        m.defaults("*_knee", friction=0.3)
        m.link("d", mass=1).joint("right_knee", "a", "d", "revolute")
        found = {j.name: (j.damping, j.friction) for j in m.joints.values()}
        self.assertEqual(found, {"left_knee": (0.5, 0.3), "slide": (0, 0), "right_knee": (0.1, 0.3)})
        self.assertEqual({n: x.stiffness for n, x in m.motors.items()}, {"left_knee": 50, "right_knee": 50})
        self.assertEqual(m.motor("right_knee", stiffness=80).motors["right_knee"].mode, "position")

    def test_the_same_in_files(self) -> None:
        vd.save_robot(arm(), self.folder / "arm.urdf")
        vd.save_robot(hand(), self.folder / "parts" / "hand.urdf")
        self.write("parts/hand.world.yaml", "veldrain: world/1\nmodels: {hand: hand.urdf}\nno_contact: []\n")
        self.write(
            "w.world.yaml",
            """veldrain: world/1
base: parts/hand.world.yaml
models:
  arm:
    file: arm.urdf
    scale: 2
    defaults: [{joints: swing, damping: 0.3, motor: {mode: position, stiffness: 90, damping: 3}}]
    change:
      joints: {swing: {axis: [0, 0, 1], limits: null}}
      links: {boom: {parts: [{cylinder: {radius: 10 cm, length: 1 m}, role: collision, surface: {friction: 0.3}}], mass: 3 kg}}
    attach: {tool: {model: hand, on: boom, pose: {xyz: [1 m, 0, 0]}}}
    sensors: {imu: {use: Imu, on: tool/palm, with: {period: 5 ms}}}
    postures: {out: {swing: 30 deg, tool/close: 2 cm}}
    suppress: [{rule: sags, at: swing, because: it is held by a brace}]
place: {arm: {model: arm, fixed: true, posture: out}}
suppress: [{rule: no-limits, at: arm/swing, because: a slip ring}]
""",
        )
        m = (
            arm()
            .scaled(2, "arm")
            .defaults("swing", damping=0.3, motor={"mode": "position", "stiffness": 90, "damping": 3})
        )
        m.change_joint("swing", axis=(0, 0, 1), limits=None)
        m.change_link("boom", vd.Part(vd.Cylinder(0.1, 1), role="collision", surface=vd.Surface(0.3)), mass=3)
        m.attach(hand(), on="boom", name="tool", pose=vd.Pose((1, 0, 0))).mount(
            "imu", vd.Imu(period="5 ms"), on="tool/palm"
        )
        m.posture("out", {"swing": "30 deg", "tool/close": "2 cm"}).suppress(
            "sags", "swing", because="it is held by a brace"
        )
        by_hand = (
            vd.World().place(m, fixed=True, posture="out").suppress("no-limits", "arm/swing", because="a slip ring")
        )
        loaded = vd.load_world(self.folder / "w.world.yaml")
        self.assertTrue(same(plain(loaded), plain(by_hand)))
        self.assertEqual([a.rule for a in loaded.suppressed], ["no-limits"])

    def test_poses_are_those_of_the_engine(self) -> None:
        """Every kind of joint, at random positions."""
        kinds = vd.Model("chain").link("l0", vd.Sphere(0.05), mass=1)
        for k, kind in enumerate(("revolute", "planar", "prismatic", "ball", "continuous", "fixed", "revolute")):
            kinds.link(f"l{k + 1}", vd.Sphere(0.05), mass=1)
            kinds.joint(
                f"j{k}", f"l{k}", f"l{k + 1}", kind, vd.Pose((0.1, 0.2, 0.3), rpy=(0.3 * k, -0.2, 0.5)), axis=(1, k, 2)
            )
        kinds.link("led", vd.Sphere(0.05), mass=1).joint("led", "l2", "led", "revolute", mimic=("j0", -0.5, 0.2))
        random = np.random.default_rng(11)
        for model in (kinds, *(vd.load_robot(p) for p in ROBOTS.glob("*.urdf") if "broken" not in p.name)):
            at = {}
            for name, (joint, _) in model.coordinates().items():
                low, high = joint.limits or (-1.0, 1.0)
                at |= {} if joint.mimic else {name: random.uniform(low, high)}
            place = vd.Pose((1, -2, 3), rpy=(0.4, 0.2, -0.9))
            sim = vd.Simulation(vd.World().place(model, "robot", pose=place, fixed=True, joints=at))
            for link, pose in model.poses(at).items():
                with self.subTest(model=model.name, link=link):
                    found = sim["robot"].pose(link)
                    np.testing.assert_allclose(found.position, (place @ pose).position, atol=1e-9)
                    np.testing.assert_allclose(found.matrix, (place @ pose).matrix, atol=1e-9)

    def test_joined_with_loops_springs_and_faults(self) -> None:
        press = (
            vd.Model("press")
            .link("frame", mass=5)
            .link("ram", mass=1)
            .joint("slide", "frame", "ram", "prismatic", limits=(0, 1))
        )
        press.spring("coil", "frame", "ram", stiffness=50).close("leash", "frame", "ram", "rope", length=2).suppress(
            "sags", "slide", because="held"
        )
        m = (
            vd.Model("cell")
            .link("floor", mass=50)
            .attach(press, on="floor")
            .attach(press, on="floor", name="second", pose=vd.Pose((1, 0, 0)))
        )
        self.assertEqual(
            [(s.link_a, s.link_b) for s in m.springs.values()],
            [("press/frame", "press/ram"), ("second/frame", "second/ram")],
        )
        self.assertEqual([a.at for a in m.suppressed], ["press/slide", "second/slide"])
        self.assertEqual(list(m.scaled(3).loops["second/leash"].pose_a.position), [0, 0, 0])
        self.assertEqual(
            (m.scaled(3).loops["press/leash"].length, m.scaled(3).joints["press/slide"].limits), (6, (0, 3))
        )
        broken = vd.load_robot(ROBOTS / "broken_crawler.urdf", draft=True).joint("foot", "hull", "antenna", "fixed")
        tray = vd.Model("tray", draft=True).link("tray", mass=9).attach(broken, on="tray")
        self.refused(
            "broken_crawler.urdf:125: tray/crawler/rear_right_wheel: no body has", lambda: vd.World().place(tray)
        )
        tray.change_link("crawler/rear_right_wheel", inertia=None)
        self.refused("tray/crawler/bumper_spring: limits", lambda: vd.World().place(tray))
        for wrong in (
            lambda: m.attach(press, on="roof"),
            lambda: m.attach(press, on="floor"),
            lambda: m.scaled(0),
            lambda: m.posture("p", {"slide": 1}),
            lambda: m.defaults(colour="red"),
            lambda: m.attach(press, on="floor", name="x", pose=vd.Pose(), in_root=vd.Pose()),
        ):
            self.refused(".", wrong)

    def test_a_world_over_another_in_its_own_folder(self) -> None:
        """Files that the base names stay beside the base."""
        shutil.copytree(ROBOTS, self.folder / "drawings" / "robots")
        path = self.write(
            "runs/w.world.yaml",
            """veldrain: world/1
base: ../drawings/robots/sluice.world.yaml
models: {sluice: {links: {rack: {parts: [{mesh: {file: ../drawings/robots/meshes/mast.stl, collide: capsule}}], mass: 1}},
  joints: {foot: {parent: frame, child: rack, kind: fixed}}}}
place: {sluice: {posture: open}, second: {model: sluice, fixed: true, pose: {xyz: [3, 0, 0]}}}
""",
        )
        world = vd.load_world(path)
        self.assertEqual(world.placed["sluice"].joints, {"lift": 0.75})
        self.assertEqual(world.placed["second"].joints, {})
        self.assertEqual([len(link.parts) for link in world.placed["second"].model.links.values()], [2, 2, 1])
        sim = vd.Simulation(world)
        self.assertAlmostEqual(sim["sluice"].pose("blade").position[2] - sim["second"].pose("blade").position[2], 0.75)
        draft = vd.load_world(
            self.write("d.yaml", "veldrain: world/1\nobstacles: {a: {box: [1, 2]}}\nplace: {p: {model: q}}"), draft=True
        )
        self.assertEqual([f.error.where.partition("d.yaml:")[2][0] for f in draft.faults], ["2", "3"])

    def test_mistakes_of_files(self) -> None:
        shutil.copy(ROBOTS / "gripper.urdf", self.folder)
        start = "veldrain: world/1\nmodels:\n  g:\n    file: gripper.urdf\n"
        for text, pattern in (
            (
                start + "    change: {joints: {left_slid: {damping: 1}}}",
                r"w\.yaml:5: no joint 'left_slid'; did you mean 'left_slide'",
            ),
            (start + "    make: a:b", r"w\.yaml:3: file and make"),
            (start + "    attach: {x: {model: y, on: palm}}", r"w\.yaml:5: no model 'y'"),
            (start + "    postures: {p: {left_slide: 2 deg}}", r"w\.yaml:5: .*'2 deg' is not a length"),
            (start + "place: {g: {model: g, posture: shut}}", r"w\.yaml:5: g: no posture 'shut'"),
            ("veldrain: world/1\nbase: w.yaml", r"w\.yaml:2: .*based on this file itself"),
            ("veldrain: world/1\nmodels: {g: gone.urdf}", r"w\.yaml:2: .*gone\.urdf: no such file"),
        ):
            with self.subTest(text=text):
                path = self.write("w.yaml", text)
                self.refused(pattern, lambda path=path: vd.load_world(path))


if __name__ == "__main__":
    unittest.main()
