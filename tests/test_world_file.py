"""World files say the same as Python, word for word."""

from __future__ import annotations

import tempfile
import unittest
from io import BytesIO
from pathlib import Path

import numpy as np
import trimesh

import veldrain as vd
import veldrain.demo
from tests.helpers import Hold, cart_scenario
from tests.test_every_sensor import fitted
from veldrain.simulation import engine_of
from veldrain.study.study import plain

TEXT = """\
veldrain: world/1
ground: {surface: {friction: 0.7, torsional: 2 mm, stiffness: 40 kN/m, damping: 200 N*s/m}}
obstacles:
  belt: {box: [2 m, 50 cm, 10 cm], pose: {xyz: [3, 0, 0.05]}, surface: {belt: [0.4 m/s, 0, 0]}}
  bump: {cone: {radius: 20 cm, length: 10 cm}, pose: {xyz: [-1, 0, 0.05]}}
  dike:
    height_field: {heights: [[0, 0, 0], [0, 0.2, 0], [0, 0, 0]], spacing: 50 cm}
    pose: {xyz: [0, 4, 0]}
  wedge: {mesh: {file: wedge.stl, scale: 0.001}, pose: {xyz: [0, -3, 0]}}
bodies:
  egg: {ellipsoid: [5 cm, 5 cm, 8 cm], mass: 400 g, pose: {xyz: [3, 0, 0.2]}}
models:
  press:
    links:
      frame: {mass: 5}
      crank: {parts: [{box: [20 cm, 2 cm, 2 cm], pose: {xyz: [0.1, 0, 0]}, role: visual}], mass: 1}
      rod: {mass: 0.5}
      ram: {parts: [{box: [10 cm, 10 cm, 10 cm]}], mass: 2}
      eye: {mass: 0.1}
    joints:
      drive: {parent: frame, child: crank, kind: continuous, axis: [0, 1, 0]}
      knee: {parent: crank, child: rod, kind: continuous, axis: [0, 1, 0], pose: {xyz: [0.2, 0, 0]}}
      pin: {parent: rod, child: ram, kind: continuous, axis: [0, 1, 0], pose: {xyz: [0.5, 0, 0]}, collide: true}
      look: {parent: frame, child: eye, kind: revolute, axis: [0, 0, 1], mimic: [drive, 0.5, 10 deg],
             stiffness: 0.1 N*m/rad, rest_position: 5 deg}
    motors:
      drive: {mode: velocity, damping: 20, limit: 50 N*m, inertia: 0.02}
    loops:
      guide: {link_a: ram, link_b: frame, kind: prismatic, axis: [1, 0, 0]}
      leash: {link_a: ram, link_b: frame, kind: rope, length: 2 m}
    springs:
      coil: {link_a: ram, link_b: frame, stiffness: 50 N/m, damping: 1, rest_length: 60 cm, at_b: [0, 0, 0.1]}
    no_contact: [[crank, ram]]
place:
  press: {model: press, fixed: true, pose: {xyz: [0, 0, 1]}, joints: {drive: 20 deg}}
  ferry:
    model: press
    joints: {drive: 20 deg}
    path: [{at: 0 s, xyz: [0, 2, 1]}, {at: 2 s, xyz: [1, 2, 1], yaw: 30 deg}]
no_contact: [[egg, press]]
"""

WEDGE = [
    ((0, 0, 0), (0, 1000, 0), (1000, 0, 0)),
    ((0, 0, 0), (1000, 0, 0), (0, 0, 500)),
    ((0, 0, 0), (0, 0, 500), (0, 1000, 0)),
    ((1000, 0, 0), (0, 1000, 0), (0, 0, 500)),
]


def write_stl(path: Path) -> None:
    lines = ["solid wedge"]
    for triangle in WEDGE:
        lines += [
            "facet normal 0 0 0",
            "outer loop",
            *(f"vertex {x} {y} {z}" for x, y, z in triangle),
            "endloop",
            "endfacet",
        ]
    path.write_text("\n".join([*lines, "endsolid wedge\n"]))


def by_hand(stl: Path) -> vd.World:
    m = vd.Model("press").link("frame", mass=5)
    m.link("crank", vd.Part(vd.Box((0.2, 0.02, 0.02)), pose=vd.Pose((0.1, 0, 0)), role="visual"), mass=1)
    m.link("rod", mass=0.5).link("ram", vd.Box((0.1, 0.1, 0.1)), mass=2).link("eye", mass=0.1)
    y = (0, 1, 0)
    m.joint("drive", "frame", "crank", "continuous", axis=y)
    m.joint("knee", "crank", "rod", "continuous", axis=y, pose=vd.Pose((0.2, 0, 0)))
    m.joint("pin", "rod", "ram", "continuous", axis=y, pose=vd.Pose((0.5, 0, 0)), collide=True)
    m.joint("look", "frame", "eye", "revolute", mimic=("drive", 0.5, "10 deg"), stiffness=0.1, rest_position="5 deg")
    m.motor("drive", "velocity", damping=20, limit=50, inertia=0.02)
    m.close("guide", "ram", "frame", "prismatic", axis=(1, 0, 0)).close("leash", "ram", "frame", "rope", length=2)
    m.spring("coil", "ram", "frame", stiffness=50, damping=1, rest_length=0.6, at_b=(0, 0, 0.1)).no_contact(
        "crank", "ram"
    )
    w = vd.World().ground(vd.Surface(0.7, torsional=0.002, stiffness=40e3, damping=200))
    w.obstacle("belt", vd.Box((2, 0.5, 0.1)), pose=vd.Pose((3, 0, 0.05)), surface=vd.Surface(belt=(0.4, 0, 0)))
    w.obstacle("bump", vd.Cone(0.2, 0.1), pose=vd.Pose((-1, 0, 0.05)))
    w.obstacle("dike", vd.HeightField([[0, 0, 0], [0, 0.2, 0], [0, 0, 0]], 0.5), pose=vd.Pose((0, 4, 0)))
    w.obstacle("wedge", vd.Mesh(stl, 0.001), pose=vd.Pose((0, -3, 0)))
    w.body("egg", vd.Ellipsoid((0.05, 0.05, 0.08)), mass=0.4, pose=vd.Pose((3, 0, 0.2)))
    w.place(m, pose=vd.Pose((0, 0, 1)), fixed=True, joints={"drive": "20 deg"})
    path = [(0, vd.Pose((0, 2, 1))), (2, vd.Pose((1, 2, 1), yaw="30 deg"))]
    return w.place(m, "ferry", joints={"drive": "20 deg"}, path=path).no_contact("egg", "press")


class Files(unittest.TestCase):
    def test_file_and_python_are_the_same_world(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            write_stl(Path(folder) / "wedge.stl")
            (Path(folder) / "all.world.yaml").write_text(TEXT, encoding="utf-8")
            loaded, made = vd.load_world(Path(folder) / "all.world.yaml"), by_hand(Path(folder) / "wedge.stl")
        self.assertEqual(plain(loaded), plain(made))
        self.assertAlmostEqual(made.obstacles["wedge"].part.shape.volume, 1 / 12)
        sims = [vd.Simulation(w) for w in (loaded, made)]
        for sim in sims:
            sim["press"].command("drive", velocity=3)
            sim.advance(1)
        np.testing.assert_array_equal(engine_of(sims[0]).plant.q, engine_of(sims[1]).plant.q)
        ram = sims[0]["press"].pose("ram").position
        np.testing.assert_allclose(ram[1:], (0, 1), atol=1e-9)
        self.assertGreater(sims[0]["egg"].velocity()[0][0], 0.05)  # the belt rolls it along

    def test_what_is_saved_reads_back_equal(self) -> None:
        """Worlds made in Python, from files and with sensors of all kinds; and the worlds that recordings hold."""
        demo = Path(veldrain.demo.__path__[0])
        with tempfile.TemporaryDirectory() as folder:
            write_stl(Path(folder) / "wedge.stl")
            picture = np.arange(48, dtype=np.uint8).reshape(4, 4, 3)
            look = vd.Look(image=picture, tile="30 cm")
            worlds = {
                "by hand": by_hand(Path(folder) / "wedge.stl").ground(look=look),
                "every sensor": fitted(),
                **{f.name: vd.load_world(f) for f in sorted(demo.glob("worlds/*.world.yaml"))},
            }
            for name, world in worlds.items():
                with self.subTest(name):
                    path = Path(folder) / "out" / "saved.world.yaml"
                    vd.save_world(world, path)
                    self.assertEqual(plain(vd.load_world(path)), plain(world))
                    self.assertNotIn("e-", str(vd.load_world(path).where))
            held = vd.run(vd.Scenario(worlds["by hand"], "20 ms"), record=Path(folder) / "run.mcap")
            self.assertEqual(plain(vd.load_world(held)), plain(worlds["by hand"]))
            names = set(held.attachments)
            self.assertLessEqual({"world.yaml", "press.urdf", "ferry.urdf", "scene.glb"}, names)
            seen = trimesh.load(BytesIO(held.attachments["scene.glb"]), file_type="glb")
            self.assertIn("press/ram", seen.graph.nodes)
            up = seen.graph.get("egg")[0][:3, 3]  # y is up in that format
            np.testing.assert_allclose(up, (3, 0.2, 0), atol=1e-9)

    def test_a_saved_scenario_runs_the_same(self) -> None:
        scenario = cart_scenario(Hold(gain=15.0), 0.4).expect("slow", always=~(vd.distance("cart/car", "goal") > 3))
        scenario.at("0.1 s").push("cart/car", (0, "2 N", 0), lasting="50 ms")
        scenario.when(vd.distance("cart/car", "goal", between=("1 mm", "2 mm"))).finish("there")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "trip.scenario.yaml"
            vd.save_scenario(scenario, path)
            again = vd.load_scenario(path)
            self.assertEqual(again.controllers["cart"].use, "tests.helpers:Hold")
            one, other = vd.run(scenario, 3), vd.run(again, 3)
            for stream in one:
                self.assertEqual(one.raw(stream), other.raw(stream))
            scenario.controllers["cart"] = type("Local", (Hold,), {"__module__": "nowhere"})()
            with self.assertRaisesRegex(vd.VeldrainError, "cannot be named in a file"):
                vd.save_scenario(scenario, path)


if __name__ == "__main__":
    unittest.main()
