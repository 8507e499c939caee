"""Robot, mesh, road, world, scenario, study and recording files spoilt at random: readers take them or refuse them by name, and nothing else.

``scripts/fuzz`` does this for minutes; what it finds is kept in tests/found and tried again by every run of the tests.
"""

from __future__ import annotations

import copy
import io
import random
import tempfile
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from hypothesis import strategies as st
from lxml import etree
from mcap.writer import CompressionType, Writer
from ruamel.yaml import YAML

import veldrain as vd
from tests.helpers import DEMO, cart_scenario
from veldrain.demo.roads import dike_road
from veldrain.formats import load_robot
from veldrain.recording.messages import definition

TEXTS = [
    "nan",
    "inf",
    "-1",
    "0",
    "1e300",
    "",
    "0 0 0",
    "1 2",
    "abc",
    "9" * 40,
    "../../etc/passwd",
    "${x}",
    "\u0663",
    " ",
    "a/b",
]
LEAVES: list[Any] = [
    None, True, False, 0, -1, 1e300, 1e-300, float("nan"), float("inf"), 10**30, "", "x", "1 m", "-5 m", "3 deg", "nan", [], {}, [1],
    [1, 2, 3], [[1, 2], [3]], {"a": 1}, "../../etc/passwd", "a/b", "..", "os:getcwd", ["a"] * 3, [0] * 4, "1e9 s", 2**63, "\n", "*",
]  # fmt: skip
STRUCTURED = ("world", "scenario", "study", "urdf", "xodr", "xosc")
LOADERS = {"world": vd.load_world, "scenario": vd.load_scenario, "study": vd.load_study, "xosc": vd.load_open_scenario}
TOKENS = [
    b"9**9**9 m",
    b"1e300 m",
    b"*rough",
    b"&a [*a]",
    b"[[[[",
    b"{",
    b"!!python/object:x",
    b"2026-13-45",
    b"0x1_0",
    b"~",
    b"nan",
    b"1e999",
    b"-1",
    b"0",
    b"",
    b"<",
    b"/>",
    b"&x;",
    b"<!DOCTYPE r [<!ENTITY x 'y'>]>",
    b"../../x.stl",
    b'"',
    b"http://here/x.stl",
    b"\xff\xfe",
    b"\x00" * 8,
    b"4294967295",
    b"continuous",
    b"link",
    b"9" * 400,
]


def seeds() -> dict[str, list[bytes]]:
    """Whole files by their ending."""
    robots = DEMO / "robots"
    found = {"urdf": [(robots / n).read_bytes() for n in ("gripper.urdf", "broken_crawler.urdf")]}
    box = trimesh.creation.box((1, 2, 3))
    for kind in ("stl", "stl_ascii", "obj", "ply", "glb", "gltf", "dae"):
        made = box.export(file_type=kind) if kind != "gltf" else _with_its_buffers(box)
        found.setdefault(kind.partition("_")[0], []).append(made.encode() if isinstance(made, str) else made)
    worlds = [*DEMO.glob("worlds/*.yaml"), *DEMO.glob("robots/*.world.yaml")]
    found["world"] = [TRICKY, *(path.read_bytes() for path in sorted(worlds))]
    found |= {kind: [(DEMO / f"culvert.{kind}.yaml").read_bytes()] for kind in ("scenario", "study")}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.mcap"
        recording = vd.run(cart_scenario(duration=0.05), record=path)
        recording.write(Path(folder) / "bag", ["bag"])
        found["mcap"] = [path.read_bytes(), unchecked(recording), unchecked(recording, use_chunking=False)]
        found["db3"] = [(Path(folder) / "bag" / "bag" / "bag.db3").read_bytes()]
        vd.save_roads(dike_road(), path.with_suffix(".xodr"))
        world = vd.World().ground().actor("van", vd.Box((5, 2, 2)), route=vd.Route([(0, 0), (9, 0), (9, 9)], speed=2))
        acted = vd.Scenario(world, 3).at(1).stop("van").when(vd.speed("van") < 1).shift("van", 2).at(2).finish("over")
        vd.save_open_scenario(acted, path.with_suffix(".xosc"))
        found |= {kind: [path.with_suffix(f".{kind}").read_bytes()] for kind in ("xodr", "xosc")}
        found["csv"] = [recording["cart/imu"].to_csv(index=False).encode(), b"time,a\n0,1\n1,2\n"]
    return found


def unchecked(recording: vd.Recording, **options: bool) -> bytes:
    """The same recording without checksums and packing, so that what is spoilt in it is seen by what reads it."""
    out = io.BytesIO()
    writer = Writer(out, compression=CompressionType.NONE, enable_crcs=False, enable_data_crcs=False, **options)
    writer.start()
    for stream, kind in recording.messages.items():
        schema = writer.register_schema(kind, "ros2msg", definition(kind))
        channel = writer.register_channel(stream, "cdr", schema)
        for stamp, data in recording.raw(stream):
            writer.add_message(channel, log_time=stamp, publish_time=stamp, data=data)
    writer.finish()
    return out.getvalue()


TRICKY = b"""veldrain: world/1
ground: {height: 0 m, surface: &rough {friction: 0.7, restitution: 10 %}}
obstacles:
  post: {cylinder: {radius: 5 cm, length: 1 m}, pose: {xyz: [1, 0, 50 cm], rpy: [0, 0, 90 deg]}, surface: *rough}
bodies: {ball: {sphere: 0.1, mass: 2.5e-1 kg, pose: {xyz: [0, 0, 1]}, velocity: [1 m/s, 0, 0]}}
"""


@st.composite
def spoilt(draw: Callable[..., object], whole: list[bytes]) -> bytes:
    """A file with some of it replaced, doubled or taken out."""
    data = bytearray(draw(st.sampled_from(whole)))  # type: ignore[arg-type]
    for _ in range(int(draw(st.integers(1, 6)))):  # type: ignore[call-overload]
        at = int(draw(st.integers(0, len(data))))  # type: ignore[call-overload]
        long = int(draw(st.integers(0, 30)))  # type: ignore[call-overload]
        new = draw(st.one_of(st.sampled_from(TOKENS), st.binary(max_size=12), st.just(bytes(data[at : at + 2 * long]))))
        data[at : at + long] = new  # type: ignore[assignment]
    return bytes(data)


def mutant(kind: str, data: bytes, luck: random.Random) -> bytes:
    """A file with parts of its structure changed: taken out, doubled, swapped, put elsewhere, of another type.

    Files whose structure is not known here are as they were.
    """
    if kind in STRUCTURED[:3]:
        tree = YAML(typ="safe").load(data)
        for _ in range(luck.randint(1, 4)):
            _tree_changed(tree, luck)
        out = io.BytesIO()
        YAML(typ="safe").dump(tree, out)
        return out.getvalue()
    if kind in STRUCTURED[3:]:
        root = etree.fromstring(data)
        for _ in range(luck.randint(1, 4)):
            _xml_changed(root, luck)
        return bytes(etree.tostring(root))
    return data


def _tree_changed(tree: Any, luck: random.Random) -> None:
    """Change one place of a tree of maps and lists."""
    places: list[tuple[Any, Any]] = []
    waiting = [tree]
    while waiting:
        inner = waiting.pop()
        keys = list(inner) if isinstance(inner, dict) else list(range(len(inner))) if isinstance(inner, list) else []
        places += [(inner, key) for key in keys]
        waiting += [inner[key] for key in keys]
    if not places:
        return
    (inner, key), (other, its) = luck.choice(places), luck.choice(places)
    what = luck.randrange(6)
    if what <= 1:
        inner[key] = copy.deepcopy(luck.choice(LEAVES))
    elif what == 2:
        del inner[key]
    elif what == 3:
        inner[key] = copy.deepcopy(other[its])
    elif what == 4 and isinstance(inner, dict):
        inner[luck.choice([its, "a/b", "..", "", "x y", 5, "\x1b[31m"])] = copy.deepcopy(inner[key])
    elif isinstance(inner[key], int | float):
        inner[key] = inner[key] * luck.choice([-1, 0, 1e3, 1e-3, 1e9, 1e300])
    elif isinstance(inner, list):
        inner.insert(0, copy.deepcopy(other[its]))


def _xml_changed(root: Any, luck: random.Random) -> None:
    """Change one element or attribute."""
    elements = [e for e in root.iter() if isinstance(e.tag, str)]
    one, other = luck.choice(elements), luck.choice(elements)
    what = luck.randrange(7)
    if what <= 2 and one.attrib:
        given = [v for e in elements for v in e.attrib.values()]
        one.attrib[luck.choice(list(one.attrib))] = luck.choice([*TEXTS, luck.choice(given)])
    elif what == 3 and one.attrib:
        del one.attrib[luck.choice(list(one.attrib))]
    elif what == 4 and one is not root:
        one.getparent().remove(one)
    elif what == 5 and len(elements) < 3000:
        other.append(copy.deepcopy(one))
    else:
        one.tag = other.tag


def read(kind: str, data: bytes) -> str:
    """What becomes of a file: ``read``, or the error that refuses it.

    Raises:
        Exception: any but a VeldrainError.
    """
    with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings(), np.errstate(all="ignore"):
        warnings.simplefilter("ignore")
        (Path(folder) / "meshes").mkdir()
        path = Path(folder) / f"spoilt.{kind}"
        path.write_bytes(data)
        try:
            if kind == "urdf":
                for mesh in ("hull", "wheel", "mast"):
                    (path.parent / "meshes" / f"{mesh}.stl").write_bytes(TRIANGLE)
                load_robot(path, draft=True)
            elif kind in ("mcap", "db3", "csv"):
                log = vd.open_log(path)
                assert all(len(log[name]) >= 0 for name in log if log.streams[name].message)
                if kind != "csv":
                    log.raw("tf")
            elif kind == "xodr":
                roads = vd.load_roads(path)
                list(roads.problems())
                roads.at(0, 0)
            elif kind == "scenario":
                for file in (*DEMO.glob("*.yaml"), *DEMO.glob("robots/*.urdf")):
                    (path.parent / file.name).write_bytes(file.read_bytes())
                vd.Trial(vd.load_scenario(path))
            elif kind in LOADERS:
                for file in (*DEMO.glob("*.yaml"), *DEMO.glob("robots/*.urdf")):
                    (path.parent / file.name).write_bytes(file.read_bytes())
                LOADERS[kind](path)
            else:
                mesh = vd.Mesh(path)
                assert np.isfinite(mesh.corners).all() and len(mesh.triangles)
        except vd.VeldrainError as error:
            assert "\n" not in str(error)
            return str(error)
    return "read"


def _with_its_buffers(box: trimesh.Trimesh) -> bytes:
    return bytes(trimesh.exchange.gltf.export_gltf(trimesh.Scene([box]), embed_buffers=True)["model.gltf"])


_stl = io.BytesIO()
trimesh.creation.box((0.1, 0.1, 0.1)).export(_stl, file_type="stl")
TRIANGLE = _stl.getvalue()
